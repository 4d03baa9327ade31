//! What keeps deliveries honest: what was tested, what moved up, keys that were rotated meanwhile, a chain that is
//! held fast, many at once.

use std::fs;
use std::sync::atomic::{AtomicUsize, Ordering};

use cledger_core::delivery::InStage;
use cledger_core::name::Name;
use cledger_core::promotion::Fate;
use cledger_work::deliver::dropping::drop_open;
use cledger_work::deliver::overwritten::{bring_back, overwritten};
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::{Edits, ToDeliver, chores, deliver, history, status};
use cledger_work::keys::{KeyChange, ToMake, identity, make, rotate};
use cledger_work::promote::{Promoted, ToPromote, promote};
use cledger_work::{Kind, Trouble};

use crate::workplaces::{Place, address, asked, because, pattern, whole};

const DESK: &str = "[variables.hold]\ndefault = \"5m\"\n[variables.region]\ndefault = \"north\"\n\
     [variables.quay]\nvary = \"must\"\n[variables.sign]\ndefault = \"at ${quay}\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n";

fn place() -> Place {
    let files = [
        ("units/desk.toml", DESK),
        ("stages/dev.toml", "[units.desk]\nquay = \"d\"\n"),
        ("stages/test.toml", "[units.desk]\nquay = \"t\"\n"),
    ];
    let place = Place::new(&files);
    identity(&place.at, true).unwrap();
    let change =
        KeyChange { stages: vec!["@dev".to_owned(), "@test".to_owned()], consent: because(&[]), write: true };
    let name = Some(Name::parse("ada").unwrap());
    make(&place.change(), &ToMake { change, name, readers: Vec::new(), passphrase: None }).unwrap();
    place
}

fn to(place: &Place, stage: &str, asked_more: impl FnOnce(&mut ToDeliver)) -> Result<(), Trouble> {
    let mut to_deliver = asked(&["desk"], stage);
    asked_more(&mut to_deliver);
    deliver(&place.open(), &to_deliver).map(|delivered| assert_eq!(delivered.kind(), None))
}

#[test]
fn what_is_not_as_it_was_tested_is_told_and_may_be_refused() {
    let place = place();
    to(&place, "dev", |_| {}).unwrap();
    place.write("stages/test.toml", "[units.desk]\nquay = \"t\"\nhold = \"9m\"\n");
    let plan = ToDeliver { write: false, ..asked(&["desk"], "test") };
    let plan = deliver(&place.open(), &plan).unwrap();
    // What varies, and what is made of that, is meant to be another.
    assert_eq!(plan.deliveries[0].plan.untested.keys().collect::<Vec<_>>(), ["hold"]);
    let manifest = place.read("ledger.toml");
    place.write("ledger.toml", &manifest.replace("after = [\"dev\"]", "after = [\"dev\"]\nas_tested = true"));
    assert_eq!(to(&place, "test", |_| {}).unwrap_err().kind(), Kind::Refused);
    let untested = |texts: &[&str]| {
        let texts: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
        to(&place, "test", |asked| asked.untested = texts)
    };
    assert_eq!(untested(&["hold", "region"]).unwrap_err().kind(), Kind::Usage);
    untested(&["hold"]).unwrap();
    let last = history::recorded(&place.open(), &address("desk@test:last")).unwrap();
    assert_eq!(last.record.meta.untested, ["hold"]);
    // Parts do not count as tested.
    place.write("stages/dev.toml", "[units.desk]\nquay = \"d\"\nhold = \"9m\"\n");
    to(&place, "dev", |asked| asked.only = vec!["hold".to_owned()]).unwrap();
    place.write("stages/test.toml", "[units.desk]\nquay = \"t2\"\nhold = \"9m\"\n");
    assert_eq!(to(&place, "test", |_| {}).unwrap_err().kind(), Kind::Refused);
    place.write("stages/dev.toml", "[units.desk]\nquay = \"d2\"\nhold = \"9m\"\n");
    to(&place, "dev", |_| {}).unwrap();
    to(&place, "test", |_| {}).unwrap();
}

fn moved(place: &Place, carry: &[&str], carry_changed: bool) -> Promoted {
    let asked = ToPromote {
        from: whole("@dev"),
        to: address("@test"),
        carry: carry.iter().map(|text| (*text).to_owned()).collect(),
        carry_changed,
        all: false,
        draft_why: false,
        edits: Edits::default(),
        answers: None,
        live: false,
        deliver: false,
        skip_stages: false,
        plain_secrets: false,
        consent: because(&[]),
        wait: std::time::Duration::from_secs(1),
        write: true,
    };
    promote(&place.at, &asked).unwrap()
}

#[test]
fn a_promotion_sees_what_changed_since_the_last_one_and_says_why_nothing_is_carried() {
    let place = place();
    place.write("stages/dev.toml", "[units.desk]\nquay = \"d\"\nhold = \"1m\"\n");
    place.write("stages/test.toml", "[units.desk]\nquay = \"t\"\nregion = \"south\"\n");
    to(&place, "dev", |_| {}).unwrap();
    to(&place, "test", |_| {}).unwrap();
    place.write("stages/dev.toml", "[units.desk]\nquay = \"d\"\nhold = \"2m\"\n");
    to(&place, "dev", |_| {}).unwrap();
    let promoted = moved(&place, &["desk/quay", "desk/sign", "desk/nothing"], true);
    let told: Vec<(String, Fate, bool, bool)> = promoted.promotions[0]
        .fields
        .iter()
        .map(|field| (field.place.address.to_string(), field.fate, field.is_news, field.is_taken))
        .collect();
    assert_eq!(told[0], ("desk/hold@test".to_owned(), Fate::MayBeCarried, true, true));
    // One side at its default is a difference, too.
    assert!(told.contains(&("desk/region@test".to_owned(), Fate::MayBeCarried, false, false)), "{told:?}");
    assert!(
        place.read("stages/test.toml").contains("hold = { value = \"2m\""),
        "{}",
        place.read("stages/test.toml")
    );
    let why: Vec<&str> = promoted.not_carried.iter().map(|it| it.why.as_str()).collect();
    assert_eq!(
        why,
        [
            "desk/quay@test stays: each its own",
            "desk/sign@test follows from something else",
            "no field of these units is called so"
        ]
    );
}

#[test]
fn a_rotation_takes_all_records_along_or_stops() {
    let place = place();
    let secret = format!("{DESK}[credentials.gate]\nform = \"token\"\n");
    place.write("units/desk.toml", &secret);
    place.write("stages/dev.toml", "[units.desk]\nquay = \"d\"\ngate.token = \"plover-17\"\n");
    let change = KeyChange { stages: vec!["@dev".to_owned()], consent: because(&[]), write: true };
    cledger_work::keys::protect(&place.change(), &change).unwrap();
    to(&place, "dev", |_| {}).unwrap();
    let old =
        ["keys/stages/dev.age", "keys/readers.toml", "stages/dev.toml"].map(|path| (path, place.read(path)));
    rotate(&place.change(), &change).unwrap();
    let readable = |place: &Place| {
        let verified = history::verified(&place.open()).unwrap();
        (verified.broken, verified.not_readable)
    };
    assert_eq!(readable(&place), (Vec::new(), 0));
    // The branch with the rotation is thrown away: history stays readable, and nothing is written under the old key.
    let rotated = old.clone().map(|(path, _)| (path, place.read(path)));
    for (path, text) in &old {
        place.write(path, text);
    }
    assert_eq!(readable(&place), (Vec::new(), 0));
    let late = to(&place, "dev", |asked| asked.edits.overwrite = true);
    assert!(late.is_ok(), "nothing changed: {late:?}");
    place.write("stages/dev.toml", &old[2].1.replace("quay = \"d\"", "quay = \"e\""));
    let refused = to(&place, "dev", |_| {}).unwrap_err();
    assert!(refused.to_string().contains("the daybook knows generation 2 of the key of `dev`"), "{refused}");
    for (path, text) in &rotated {
        place.write(path, text);
    }
    // A record that opens under no key stops a rotation, and nothing is changed.
    let book = place.path(".cledger/daybook.db");
    let before = fs::read(&book).unwrap();
    let connection = rusqlite::Connection::open(&book).unwrap();
    connection
        .execute_batch(
            "UPDATE records SET cipher_text = substr(cipher_text, 1, length(cipher_text) - 4) || 'AAAA'",
        )
        .unwrap();
    drop(connection);
    let key = place.read("keys/stages/dev.age");
    assert_eq!(rotate(&place.change(), &change).unwrap_err().kind(), Kind::Refused);
    assert_eq!(place.read("keys/stages/dev.age"), key);
    let (broken, not_readable) = readable(&place);
    assert!(broken[0].contains("its secrets are damaged") && not_readable == 0, "{broken:?}");
    fs::write(&book, before).unwrap();
    rotate(&place.change(), &change).unwrap();
    assert_eq!(readable(&place), (Vec::new(), 0));
}

#[test]
fn a_tail_that_was_cut_off_is_noticed() {
    let place = place();
    let manifest = place.read("ledger.toml") + "[daybook]\nanchors = true\n";
    place.write("ledger.toml", &manifest);
    to(&place, "dev", |_| {}).unwrap();
    let first = fs::read(place.path(".cledger/daybook.db")).unwrap();
    place.write("stages/dev.toml", "[units.desk]\nquay = \"e\"\n");
    to(&place, "dev", |_| {}).unwrap();
    assert_eq!(place.read("anchors.txt").lines().count(), 2);
    fs::write(place.path(".cledger/daybook.db"), first).unwrap();
    let torn = |place: &Place| history::verified(&place.open()).unwrap().broken.join("; ");
    assert!(torn(&place).contains("record 2, which was seen here, is not in it"), "{}", torn(&place));
    place.write("stages/dev.toml", "[units.desk]\nquay = \"f\"\n");
    assert_eq!(to(&place, "dev", |_| {}).unwrap_err().kind(), Kind::Refused);
    // Somebody who says so may go on; the file in the ledger still tells.
    cledger_work::trust::daybook::trust_daybook(&place.open(), true).unwrap();
    assert!(torn(&place).contains("record 2, which stands in anchors.txt"), "{}", torn(&place));
    place.write("anchors.txt", "");
    to(&place, "dev", |asked| asked.edits.overwrite = true).unwrap();
    assert_eq!(torn(&place), "");
}

#[test]
fn what_was_overwritten_is_shown_and_brought_back() {
    let place = place();
    let there = "../live/dev/desk/desk.env";
    to(&place, "dev", |_| {}).unwrap();
    let edited = place.read(there).replace("5m", "77m");
    place.write(there, &edited);
    to(&place, "dev", |asked| asked.edits.overwrite = true).unwrap();
    assert!(overwritten(&place.open(), &address("desk@dev:1"), None).is_err());
    let out = place.path("../out");
    let shown = overwritten(&place.open(), &address("desk@dev:2"), Some(&out)).unwrap();
    assert_eq!(shown.places, [("files/desk.env".to_owned(), 4)]);
    assert_eq!(fs::read_to_string(out.join("files/desk.env")).unwrap(), edited);
    bring_back(&place.open(), &address("desk@dev:2"), &because(&[]), true).unwrap();
    assert_eq!(place.read(there), edited);
    // It counts as edited by hand again.
    assert_eq!(to(&place, "dev", |_| {}).unwrap_err().kind(), Kind::Refused);
    assert_eq!(
        drop_open(&place.open(), &address("desk@dev"), &because(&[]), true).unwrap_err().kind(),
        Kind::Usage
    );
}

#[test]
fn many_units_at_once_share_one_reload_and_one_failure_does_not_hold_up_the_rest() {
    let place = Place::new(&[]);
    for number in 0..9 {
        let unit = "[variables.a]\ndefault = \"1\"\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n";
        place.write(&format!("units/u{number}.toml"), unit);
    }
    // It says how many files it finds.
    let reload = "reload = [\"sh\", \"-c\", \"ls ../live/dev/*/a.env | wc -l >> ../reloads\"]\n";
    place.write("ledger.toml", &(place.read("ledger.toml") + reload));
    // Somebody else's file stands in the way of one of them.
    place.write("../live/dev/u3/a.env", "A=theirs\n");
    let all = ToDeliver { at_once: 3, ..asked(&[], "dev") };
    let delivered = deliver(&place.open(), &all).unwrap();
    assert_eq!(delivered.kind(), Some(Kind::Refused));
    let made: Vec<bool> = delivered.deliveries.iter().map(|it| it.recorded.is_some()).collect();
    assert_eq!(made.iter().filter(|made| **made).count(), 8);
    assert!(delivered.deliveries[3].trouble.is_some() && !made[3]);
    assert_eq!(place.read("../reloads"), "9\n");
    // Once for all of them, and not before the last is off.
    let off = ToWithdraw { at_once: 3, consent: because(&[]), write: true, ..ToWithdraw::default() };
    let off = withdraw(&place.open(), &whole("@dev"), &off).unwrap();
    assert!(off.units.len() == 8 && off.units.iter().all(|unit| unit.recorded.is_some()));
    assert_eq!(place.read("../reloads"), "9\n1\n");
}

/// A dozen units: new ones, some to be changed, some that somebody has edited by hand, some with nothing to do.
fn dozen() -> Place {
    let place = Place::new(&[]);
    for number in 0..12 {
        let unit = "[variables.a]\ndefault = \"1\"\n[[output]]\npath = \"a.env\"\nformat = \"dotenv\"\n";
        place.write(&format!("units/u{number:02}.toml"), unit);
    }
    let first: Vec<String> = (0..9).map(|number| format!("u{number:02}")).collect();
    let names: Vec<&str> = first.iter().map(String::as_str).collect();
    deliver(&place.open(), &asked(&names, "dev")).unwrap();
    let changed: Vec<String> = (0..6).map(|number| format!("[units.u{number:02}]\na = \"2\"\n")).collect();
    place.write("stages/dev.toml", &changed.concat());
    for number in [1, 4, 7] {
        place.write(&format!("../live/dev/u{number:02}/a.env"), "A=by-hand\n");
    }
    place
}

/// What is there, and what each record is of, in their order.
fn ends(place: &Place) -> (Vec<String>, Vec<String>) {
    let live = (0..12).map(|number| {
        let path = place.path(&format!("../live/dev/u{number:02}/a.env"));
        fs::read_to_string(path).unwrap_or_default()
    });
    let records = history::history(&place.open(), &[], 100).unwrap().records.into_iter();
    let told =
        records.map(|record| format!("{}:{} {:?}", record.meta.unit, record.meta.number, record.meta.kind));
    (live.collect(), told.collect())
}

#[test]
fn however_many_are_under_way_the_same_comes_of_each_and_records_keep_their_order() {
    let mut outcomes = Vec::new();
    for at_once in [1, 3, 50] {
        let place = dozen();
        let all = ToDeliver { at_once, ..asked(&[], "dev") };
        let delivered = deliver(&place.open(), &all).unwrap();
        let told: Vec<_> = delivered
            .deliveries
            .iter()
            .map(|it| {
                (it.plan.owner.clone(), it.trouble.as_ref().map(ToString::to_string), it.recorded.is_some())
            })
            .collect();
        let blocked: Vec<&str> = told.iter().filter(|it| it.1.is_some()).map(|it| it.0.as_str()).collect();
        assert_eq!(blocked, ["u01", "u04", "u07"], "{at_once}");
        assert_eq!(told.iter().filter(|it| it.2).count(), 7, "{at_once}");
        let after = ends(&place);
        let off = ToWithdraw { at_once, consent: because(&[]), write: true, ..ToWithdraw::default() };
        let off = withdraw(&place.open(), &whole("@dev"), &off).unwrap();
        let taken: Vec<_> = off
            .units
            .iter()
            .map(|it| (it.owner.clone(), it.trouble.as_ref().map(ToString::to_string), it.recorded))
            .collect();
        // What somebody edited stays, and holds up nothing else.
        assert_eq!(taken.iter().filter(|it| it.2.is_none()).count(), 3, "{at_once}");
        let (live, records) = ends(&place);
        assert_eq!(live.iter().filter(|text| *text == "A=by-hand\n").count(), 3, "{at_once}");
        assert_eq!(live.iter().filter(|text| text.is_empty()).count(), 9, "{at_once}");
        assert!(history::verified(&place.open()).unwrap().kind().is_none());
        outcomes.push((told, after, taken, live, records));
    }
    assert!(outcomes.windows(2).all(|pair| pair[0] == pair[1]), "{outcomes:?}");
}

#[test]
fn a_failure_ends_what_is_to_stop_there_and_the_rest_is_not_begun() {
    let place = dozen();
    let all = ToDeliver { at_once: 1, stop_at_failure: true, ..asked(&[], "dev") };
    let delivered = deliver(&place.open(), &all).unwrap();
    // What was refused has failed before anything is begun.
    assert!(delivered.deliveries.iter().all(|it| it.recorded.is_none()));
    let said = |owner: &str| {
        let found = delivered.deliveries.iter().find(|it| it.plan.owner == owner).unwrap();
        found.trouble.as_ref().map(ToString::to_string).unwrap_or_default()
    };
    assert!(said("u01").contains("would lose"), "{}", said("u01"));
    assert!(said("u11").contains("it was not begun"), "{}", said("u11"));
    assert_eq!(ends(&place).1.len(), 9);
}

#[test]
fn twenty_deliveries_of_one_unit_at_once_come_one_after_the_other() {
    let place = place();
    to(&place, "dev", |_| {}).unwrap();
    place.write("stages/dev.toml", "[units.desk]\nquay = \"e\"\n");
    to(&place, "dev", |_| {}).unwrap();
    let recorded = AtomicUsize::new(2);
    std::thread::scope(|scope| {
        for runner in 0..20_u64 {
            let (place, recorded) = (&place, &recorded);
            scope.spawn(move || {
                let again = ToDeliver { again: Some(1 + runner % 2), ..asked(&["desk"], "dev") };
                loop {
                    match deliver(&place.open(), &again) {
                        Ok(delivered) => {
                            let made = delivered.deliveries[0].recorded.is_some();
                            recorded.fetch_add(usize::from(made), Ordering::SeqCst);
                            return;
                        }
                        // Somebody else is at it, or was in between.
                        Err(trouble) => {
                            assert!(matches!(trouble.kind(), Kind::Outside | Kind::Refused), "{trouble}");
                        }
                    }
                    std::thread::yield_now();
                }
            });
        }
    });
    let all = history::history(&place.open(), &[], 100).unwrap();
    let numbers: Vec<u64> = all.records.iter().map(|record| record.meta.number).collect();
    assert_eq!(numbers, (1..=numbers.len() as u64).collect::<Vec<_>>());
    assert_eq!((numbers.len(), all.opened.len()), (recorded.load(Ordering::SeqCst), 0));
    assert!(history::verified(&place.open()).unwrap().kind().is_none());
    // What is there is what the last one brought.
    let last = history::recorded(&place.open(), &address("desk@dev:last")).unwrap();
    assert_eq!(*place.read("../live/dev/desk/desk.env"), **last.content.files["desk.env"].expose().unwrap());
}

#[test]
fn what_is_brought_by_hand_is_delivered_when_its_chore_is_done() {
    let place = place();
    let outlet =
        "[[outlet]]\nname = \"console\"\nkind = \"by-hand\"\nstages = [\"dev\"]\nchore = \"Type it in\"\n";
    place.write("ledger.toml", &(place.read("ledger.toml") + outlet));
    to(&place, "dev", |_| {}).unwrap();
    let standing = || {
        let status = status::status(&place.open(), &[], false).unwrap();
        status.standings[0].stages[0].as_ref().map(|there| there.what)
    };
    assert_eq!(standing(), Some(InStage::ByHand(1)));
    assert_eq!(to(&place, "test", |_| {}).unwrap_err().kind(), Kind::Refused);
    let open = || {
        chores::chores(&place.open(), &[]).unwrap().into_iter().map(|chore| chore.text).collect::<Vec<_>>()
    };
    assert_eq!(open(), ["Type it in"]);
    chores::done(&place.open(), &pattern("desk@dev"), "Type", true).unwrap();
    assert_eq!((standing(), open()), (Some(InStage::Delivered(1)), Vec::new()));
    to(&place, "test", |_| {}).unwrap();
    // What did not change is not typed in again; what is taken off has to be taken off there, too.
    to(&place, "dev", |_| {}).unwrap();
    assert!(open().is_empty());
    let asked = ToWithdraw { consent: because(&[]), write: true, ..ToWithdraw::default() };
    withdraw(&place.open(), &whole("desk@dev"), &asked).unwrap();
    assert_eq!(open(), ["take off what delivery 1 brought (Type it in)"]);
}
