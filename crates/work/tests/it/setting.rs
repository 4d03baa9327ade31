//! Settings: typed, carried and taken over, and what each is refused for.

use std::collections::BTreeSet;
use std::time::Duration;

use cledger_core::promotion::{Fate, Stays};
use cledger_work::change::Consent;
use cledger_work::check::{ToCheck, check};
use cledger_work::deliver::deliver;
use cledger_work::drift::{LookedAt, ToTake, take};
use cledger_work::fill::{ToFill, fill};
use cledger_work::keys::{self, KeyChange, ToMake};
use cledger_work::promote::{Promoted, ToPromote, promote};
use cledger_work::set::{SettingsChanged, ToSay, ToSet, set, unset};
use cledger_work::{Kind, Trouble};

use crate::random_ledgers::said;
use crate::workplaces::{Answers, Meddler, Place, address, asked, because, whole};

const DESK: (&str, &str) = (
    "units/desk.toml",
    "[variables.hold]\ntype = \"duration\"\ndefault = \"5m\"\nmax = \"1h\"\n[variables.region]\nrequired = false\n\
     [variables.fixed]\nvary = \"never\"\ndefault = \"x\"\n[credentials.gate]\nform = \"token\"\n\
     [variables.dsn]\ndefault = \"pg://u:${gate.token}@${region}\"\n[variables.base]\ndefault = \"http://${region}/v1\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n",
);
const DEV: (&str, &str) = (
    "stages/dev.toml",
    "[units.desk]\nregion = \"dev.example\"\ngate.token = \"plover-dev\"\ndsn = \"pg://v:${gate.token}@${region}\"\nbase = \"http://${region}/v2\"\n",
);
const TEST: (&str, &str) =
    ("stages/test.toml", "[units.desk]\nregion = \"test.example\"\ngate.token = \"plover-test\"\n");

fn say(place: &Place, settings: &[&str], consent: &Consent) -> Result<SettingsChanged, Trouble> {
    let asked = ToSet {
        settings: settings.iter().map(|text| (*text).to_owned()).collect(),
        stage: None,
        say: ToSay::Asked,
        plain_secrets: false,
        until: None,
        looked_up: None,
        consent: consent.clone(),
    };
    set(&place.change(), &asked)
}

#[test]
fn what_somebody_saves_while_a_person_is_asked_is_never_overwritten() {
    let by_hand = "# by hand\n[units.desk]\nregion = \"hand.example\"\ngate.token = \"plover-prod\"\n";
    let meddler = Meddler::default();
    let before = by_hand.replace("# by hand\n", "");
    let place = Place::answering(&[DESK, ("stages/prod.toml", &before)], meddler.clone());
    let path = place.path("stages/prod.toml");
    meddler.once(move || std::fs::write(&path, by_hand).unwrap());
    let trouble = say(&place, &["desk/hold@prod=1m"], &because(&[])).unwrap_err();
    assert_eq!(trouble.to_string(), "somebody has changed `stages/prod.toml` meanwhile");
    assert_eq!(place.read("stages/prod.toml"), by_hand);
    say(&place, &["desk/hold@prod=1m"], &because(&[])).unwrap();
    assert!(place.read("stages/prod.toml").starts_with("# by hand\n"));
}

#[test]
fn what_a_setting_does_to_other_stages_is_told_however_it_comes_there() {
    // By a follow, by a reference that names the stage, and by that through another one.
    let boat = "[variables.near]\ndefault = \"${desk/region@dev}\"\n[variables.nearer]\ndefault = \"at ${near@test}\"\n";
    for (follow, expected) in [
        ("", &["boat/near", "boat/nearer"][..]),
        (
            "[[stage.follow]]\nstage = \"dev\"\n",
            &["boat/near", "boat/nearer", "desk/base", "desk/dsn", "desk/region"],
        ),
    ] {
        let place = Place::new(&[DESK, DEV, ("units/boat.toml", boat)]);
        let manifest = place.read("ledger.toml");
        place.write("ledger.toml", &(manifest + follow));
        let told = say(&place, &["desk/region@dev=there.example"], &because(&["prod"])).unwrap();
        let there = told
            .effects
            .iter()
            .filter(|it| it.address.stage.as_ref().is_some_and(|it| it.as_str() == "prod"));
        let there: Vec<String> = there.map(|it| it.address.to_string().replace("@prod", "")).collect();
        assert_eq!(there, expected, "{follow}");
    }
}

#[test]
fn what_a_stage_lacks_is_asked_for_with_what_helps_to_answer() {
    let contract =
        "[variables.berths]\nabout = \"how many\"\ntype = \"integer\"\n[variables.pin]\nsecret = true\n";
    let answers = [
        ("quay/berths@test (how many; a whole number; in dev: 3; empty for later)", "4"),
        ("quay/pin@test", "tide-1"),
    ];
    let answers = Answers { stages: Vec::new(), values: answers.into() };
    let dev = ("stages/dev.toml", "[units.quay]\nberths = 3\npin = \"tide-0\"\n");
    let place = Place::answering(&[("units/quay.toml", contract), dev], answers);
    let asked = ToFill {
        stage: address("@test"),
        units: vec!["q*".to_owned()],
        answers: None,
        plain_secrets: true,
        consent: because(&[]),
        write: false,
    };
    assert_eq!(fill(&place.change(), &asked).unwrap().lacking.len(), 2);
    let filled = fill(&place.change(), &ToFill { write: true, ..asked }).unwrap();
    assert!(filled.lacking.is_empty() && filled.changed.written);
    let test = place.read("stages/test.toml");
    assert!(test.contains("berths = { value = 4,") && test.contains("pin = { value = \"tide-1\","), "{test}");
}

#[test]
fn what_is_set_and_what_that_is_refused_for() {
    for (setting, kind, message) in [
        ("desk/hold@dev=1x", Kind::Usage, "is not"),
        ("desk/hold@dev=2h", Kind::Usage, "is not allowed"),
        ("desk/hodl@dev=1m", Kind::Usage, "hodl"),
        ("dest/hold@dev=1m", Kind::Usage, "dest"),
        ("desk/hold@tets=1m", Kind::Usage, "tets"),
        ("desk/fixed@dev=y", Kind::Usage, "the same everywhere"),
        ("desk/hold@prod=1m", Kind::Refused, "production"),
    ] {
        let place = Place::new(&[DESK, DEV]);
        let before = place.read("stages/dev.toml");
        let trouble = say(&place, &[setting], &because(&[])).unwrap_err();
        assert_eq!(trouble.kind(), kind, "{setting}: {trouble}");
        assert!(trouble.to_string().contains(message), "{setting}: {trouble}");
        assert_eq!(place.read("stages/dev.toml"), before);
    }
    let place = Place::new(&[DESK, DEV]);
    let done = say(&place, &["desk/region@dev=west.example"], &because(&[])).unwrap();
    // Everything that refers to it changes; what has a secret in it is told without its value.
    let told: Vec<String> = done.effects.iter().map(|effect| effect.address.to_string()).collect();
    assert_eq!(told, ["desk/base@dev", "desk/dsn@dev", "desk/region@dev"]);
    assert!(!format!("{:?}", done.effects).contains("plover"));
    assert!(place.read("stages/dev.toml").contains("region = { value = \"west.example\", why = \"trial\" }"));
    unset(&place.change(), &["desk/region@dev".to_owned()], None, &because(&[])).unwrap();
    assert!(!place.read("stages/dev.toml").contains("region ="));
    say(&place, &["desk/hold@prod=1m"], &because(&["prod"])).unwrap();
    assert!(place.read("stages/prod.toml").contains("hold"));
}

/// Makes a key for `dev`, of which one is the only reader.
fn make_key(place: &Place) {
    keys::identity(&place.at, true).unwrap();
    let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
    keys::make(&place.change(), &ToMake { change, name: None, readers: Vec::new(), passphrase: None })
        .unwrap();
}

#[test]
fn rows_of_a_table_follow_what_they_refer_to_in_another_stage() {
    let posts = "[tables.posts]\ncolumns = [\"post\", \"at\"]\nkey = \"post\"\n";
    let north = "[units.boat.posts]\nnorth = { at = \"${desk/region@dev}\" }\n";
    for (contract, here) in
        [(posts, north), (&format!("{posts}rows.north = {{ at = \"${{desk/region@dev}}\" }}\n"), "")]
    {
        let place = Place::new(&[DESK, DEV, ("units/boat.toml", contract), ("stages/test.toml", here)]);
        let told = say(&place, &["desk/region@dev=north.example"], &because(&["prod"])).unwrap();
        let told: Vec<String> = told.effects.iter().map(|effect| effect.address.to_string()).collect();
        assert!(told.contains(&"boat/posts@test".to_owned()), "{contract}: {told:?}");
    }
}

#[test]
fn a_secret_is_asked_for_and_stands_nowhere_in_plain_text() {
    let values = [("desk/gate.token@dev", "whimbrel")].into();
    let place = Place::answering(&[DESK, DEV], Answers { values, ..Answers::default() });
    let refused = say(&place, &["desk/gate.token@dev"], &because(&[])).unwrap_err();
    assert_eq!((refused.kind(), refused.to_string().contains("no key")), (Kind::Refused, true), "{refused}");
    make_key(&place);
    say(&place, &["desk/gate.token@dev"], &because(&[])).unwrap();
    let written = place.read("stages/dev.toml");
    assert!(written.contains("copper-1.") && !written.contains("whimbrel"), "{written}");
}

fn moved(place: &Place, carry: &[&str], write: bool) -> Result<Promoted, Trouble> {
    let asked = ToPromote {
        from: whole("@dev"),
        to: address("@test"),
        carry: carry.iter().map(|text| (*text).to_owned()).collect(),
        carry_changed: false,
        all: true,
        draft_why: false,
        edits: cledger_work::deliver::Edits::default(),
        answers: None,
        live: false,
        deliver: false,
        skip_stages: false,
        plain_secrets: true,
        consent: because(&[]),
        wait: Duration::from_secs(1),
        write,
    };
    promote(&place.at, &asked)
}

/// Delivers everything to `dev`, whose secrets get a key for that.
fn delivered(place: &Place) {
    make_key(place);
    let delivered = deliver(&place.open(), &asked(&[], "dev")).unwrap();
    assert_eq!((delivered.kind(), delivered.gaps), (None, Vec::new()));
}

#[test]
fn what_is_made_from_references_follows_and_is_never_carried() {
    let place = Place::new(&[DESK, DEV, TEST]);
    delivered(&place);
    for carry in [&[][..], &["desk/*"], &["desk/dsn", "desk/base"]] {
        let promoted = moved(&place, carry, true).unwrap();
        let fates: Vec<(String, Fate, bool)> = promoted.promotions[0]
            .fields
            .iter()
            .map(|field| (field.place.address.to_string(), field.fate, field.is_taken))
            .filter(|(address, ..)| address.contains("dsn") || address.contains("base"))
            .collect();
        let made = |name: &str| (format!("desk/{name}@test"), Fate::Stays(Stays::Made), false);
        assert_eq!(fates, [made("base"), made("dsn")], "{carry:?}");
        let above = place.read("stages/test.toml");
        assert!(!above.contains("plover-dev") && !above.contains("http://dev.example"), "{above}");
        // Nobody sees a secret that is part of another value.
        let dsn = promoted.promotions[0]
            .fields
            .iter()
            .find(|field| field.place.address.to_string().contains("dsn"));
        assert!(dsn.unwrap().secret && dsn.unwrap().below.as_ref().unwrap().open().is_none());
    }
}

/// What is live is taken over, as somebody asks for it.
fn taken(place: &Place, field: &str) -> Result<SettingsChanged, Trouble> {
    let asked = ToTake {
        fields: vec![field.to_owned()],
        stage: None,
        at: LookedAt::Outlets,
        today: None,
        plain_secrets: true,
        consent: because(&[]),
        write: true,
    };
    take(&place.change(), &asked).map(|taken| taken.changed)
}

#[test]
fn a_live_value_is_taken_over_and_never_in_place_of_references() {
    let place = Place::new(&[DESK, DEV, TEST]);
    delivered(&place);
    let live = place.read("../live/dev/desk/desk.env");
    assert!(live.contains("plover-dev"));
    place.write(
        "../live/dev/desk/desk.env",
        &live.replace("HOLD=5m", "HOLD=7m").replace("plover-dev", "whimbrel"),
    );
    taken(&place, "desk/hold@dev").unwrap();
    assert!(place.read("stages/dev.toml").contains("7m"));
    let refused = taken(&place, "desk/dsn@dev").unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused);
    assert!(refused.to_string().contains("desk/gate.token@dev") && !refused.to_string().contains("whimbrel"));
    assert!(place.read("stages/dev.toml").contains("${gate.token}"));
}

#[test]
fn a_name_that_is_taken_over_comes_back_to_the_file_where_it_was_found_alone() {
    let outputs = |lists: [&str; 2]| {
        format!(
            "[variables.hold]\ndefault = \"5m\"\n[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n{}\n\
             [[output]]\npath = \"desk.json\"\nformat = \"json\"\n{}\n",
            lists[0], lists[1]
        )
    };
    for lists in
        [["", ""], ["only = [\"hold\"]", "only = [\"hold\"]"], ["except = [\"x\"]", "except = [\"y\"]"]]
    {
        let place = Place::new(&[("units/desk.toml", &outputs(lists))]);
        delivered(&place);
        place.write("../live/dev/desk/desk.env", "HOLD=5m\nHOTFIX_FLAG=on\n");
        let taken = taken(&place, "desk/hotfix_flag@dev").unwrap();
        let said = taken.settings[0].after.as_deref().unwrap();
        assert_eq!(said, "declared: text, optional; into desk.env", "{lists:?}");
        let json = place.read("../live/dev/desk/desk.json");
        deliver(&place.open(), &asked(&[], "dev")).unwrap();
        assert_eq!(place.read("../live/dev/desk/desk.env"), "HOLD=5m\nHOTFIX_FLAG=on\n", "{lists:?}");
        assert_eq!(place.read("../live/dev/desk/desk.json"), json, "{lists:?}");
    }
}

#[test]
fn a_secret_that_lies_there_under_an_open_name_is_never_taken_in_the_open() {
    let place = Place::new(&[DESK, DEV, TEST]);
    delivered(&place);
    // By now the ledger has an open text where a secret was delivered, and still is.
    place.write("stages/dev.toml", &DEV.1.replace("pg://v:${gate.token}@${region}", "pg://nobody"));
    let refused = taken(&place, "desk/dsn@dev").unwrap_err();
    assert_eq!(refused.kind(), Kind::Refused, "{refused}");
    assert!(!place.read("stages/dev.toml").contains("plover-dev@"));
}

/// Two stages on one host, parted by ports, paths and databases: what belongs to which of them is learned from all settings,
/// so that one may change what is found of another.
#[test]
fn what_a_setting_does_to_what_is_found_of_hosts_elsewhere_is_told() {
    let shared = "[connections.db]\nprotocol = \"postgresql\"\nfields.database.vary = \"may\"\n[variables.door]\ndefault = \"-\"\n";
    let quay = "uses = [\"db\"]\n[endpoints.gate]\nfields.base.vary = \"may\"\n[variables.port]\ntype = \"port\"\ndefault = 81\n";
    let own = "[connections.store]\nprotocol = \"redis\"\nfields.host.vary = \"may\"\nfields.port.default = \"${port}\"\n[variables.note]\ndefault = \"\"\n";
    let stage = |name: &str, at: u16| {
        format!(
            "[shared]\ndb = {{ host = \"box.example\", port = {at}, database = \"tides_{name}\", user = \"u\" }}\n\
             [units.quay]\ngate.base = \"https://box.example:{at}1/{name}\"\nstore.host = \"box.example\"\nport = {at}2\n\
             [units.tide]\nnote = \"see box.example:{at}1/{name}\"\n"
        )
    };
    let place = Place::new(&[
        ("shared.toml", shared),
        ("units/quay.toml", &format!("{quay}{own}")),
        ("units/tide.toml", "uses = [\"db\"]\n[variables.note]\ndefault = \"\"\n"),
        ("stages/dev.toml", &stage("dev", 541)),
        ("stages/test.toml", &stage("test", 542)),
    ]);
    let found = |place: &Place| {
        let checked = check(&place.at, &ToCheck::default()).unwrap();
        checked.report.findings.into_iter().map(said).collect::<BTreeSet<_>>()
    };
    let mut elsewhere = 0;
    for setting in [
        // A host in a URL, and the words of a text.
        "quay/gate.base@test=https://box.example:5411/dev",
        "quay/gate.base@test=https://box.example:5421/test",
        "quay/gate.base@dev=https://other.example",
        "tide/note@test=see other.example",
        "tide/note@test=see box.example:5421/test",
        "quay/gate.base@dev=https://box.example:5411/dev",
        // A port beside a host, by way of another field.
        "quay/port@test=5411",
        "tide/note@test=see box.example:5412",
        "quay/port@test=5422",
        "quay/port@dev=9",
        // A database, and what no host can be read from.
        "tide/db.database@test=tides_dev",
        "shared/db.database@dev=other",
        "shared/db.port@dev=5420",
        "quay/gate.timeout@test=31s",
        "tide/note@test=plain",
        "shared/door@test=box.example:5411",
    ] {
        let before = found(&place);
        let told = say(&place, &[setting], &because(&["test"])).unwrap();
        let after = found(&place);
        let [caused, cured] =
            [told.caused, told.cured].map(|list| list.into_iter().map(said).collect::<BTreeSet<_>>());
        assert_eq!(caused, &after - &before, "{setting}");
        assert_eq!(cured, &before - &after, "{setting}");
        let address = setting.split('=').next().unwrap();
        elsewhere += caused.union(&cured).filter(|(_, of)| of != address).count();
    }
    assert!(elsewhere > 3, "{elsewhere}");
}
