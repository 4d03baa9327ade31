//! What the tables of contracts and outlets say comes into the model as it is meant.

use cledger_core::address::Owner;
use cledger_core::model::{Expectation, HttpOutlet, Ledger, OutletKind, Ready, StageId};
use cledger_core::name::Name;
use cledger_store::{Memory, Scope, read};

const STAGES: &str = "format = 1\nname = \"Quays\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
     [[stage]]\nname = \"prod-north\"\nclass = \"production\"\n[[stage]]\nname = \"prod-south\"\nclass = \"production\"\n";

fn ledger(outlet: &str, contract: &str) -> Ledger {
    let manifest = format!("{STAGES}{outlet}");
    let files = [("ledger.toml", manifest.as_str()), ("units/desk.toml", contract)];
    read(&files.into_iter().collect::<Memory>(), &Scope::Whole).unwrap()
}

/// What one `[[probe]]` says.
fn probe(said: &str) -> Expectation {
    let contract = format!(
        "uses = []\n[endpoints.site]\n[connections.db]\nprotocol = \"tcp\"\n[[probe]]\nname = \"x\"\n{said}\n"
    );
    ledger("", &contract).units[0].expectations[0].clone()
}

#[test]
fn what_is_expected_is_read_with_all_that_is_left_out() {
    let stages = |it: &Expectation| (0..3).filter(|&at| it.is_in(StageId(at))).collect::<Vec<_>>();
    let words = |it: &Expectation| it.expect.iter().map(|it| it.written()).collect::<Vec<_>>();
    for (said, expected, in_stages, is_of_entry, is_of_page) in [
        ("entry = \"db\"", &["answers"][..], &[0, 1, 2][..], true, false),
        ("entry = \"db\"\nexpect = \"refused\"\nstages = [\"prod-*\"]", &["refused"], &[1, 2], true, false),
        (
            "entry = \"db\"\nexpect = [\"no-answer\", \"refused\"]",
            &["no-answer", "refused"],
            &[0, 1, 2],
            true,
            false,
        ),
        (
            "entry = \"site\"\nexpect = \"404\"\nstages = [\"dev\", \"*-south\"]",
            &["404"],
            &[0, 2],
            true,
            true,
        ),
        ("entry = \"site\"\npath = \"debug\"", &["answers"], &[0, 1, 2], false, true),
        (
            "entry = \"site\"\nlogin = false\nexpect = \"access-denied\"",
            &["access-denied"],
            &[0, 1, 2],
            false,
            true,
        ),
        ("entry = \"site\"\ntext = \"Tides\"\nlogin = true", &["answers"], &[0, 1, 2], true, true),
    ] {
        let it = probe(said);
        assert_eq!(words(&it), expected, "{said}");
        assert_eq!(stages(&it), in_stages, "{said}");
        assert_eq!((it.is_of_entry(), it.is_of_page()), (is_of_entry, is_of_page), "{said}");
    }
}

/// What an outlet over HTTP says.
fn http(said: &str) -> HttpOutlet {
    let outlet = format!(
        "[[outlet]]\nname = \"o\"\nkind = \"http\"\nstages = [\"*\"]\nurl = \"https://o.example\"\n{said}\n"
    );
    match &ledger(&outlet, "").outlets[0].kind {
        OutletKind::Http(http) => (**http).clone(),
        other => panic!("{other:?}"),
    }
}

#[test]
fn the_place_of_a_document_is_read_part_by_part() {
    let desk = Owner::Unit(Name::parse("desk").unwrap(), None);
    let ledger = ledger("", "");
    let told = |http: &HttpOutlet| {
        let text = |text: &cledger_core::model::StageText| {
            text.expand_for(&ledger, &desk, StageId(1)).unwrap().into_owned()
        };
        let at: Vec<String> = http.place.at.iter().map(text).collect();
        (
            http.place.find.as_ref().map(text),
            at.join("/"),
            http.place.next.clone().map(|steps| steps.join("/")),
        )
    };
    let some = |text: &str| Some(text.to_owned());
    for (said, expected, names_unit) in [
        ("", (None, String::new(), None), false),
        ("path = \"v/${unit.name}\"", (None, String::new(), None), true),
        ("at = \"/values\"", (None, "values".to_owned(), None), false),
        ("at = \"/${stage.name}/${unit.name}/v~1w\"", (None, "prod-north/desk/v/w".to_owned(), None), true),
        (
            "find = \"$.a[?@.n=='${unit.name}'].id\"",
            (some("$.a[?@.n=='desk'].id"), String::new(), None),
            true,
        ),
        (
            "find = \"$.a[0]\"\nnext = \"/paging/next\"",
            (some("$.a[0]"), String::new(), some("paging/next")),
            false,
        ),
    ] {
        let http = http(said);
        assert_eq!(told(&http), expected, "{said}");
        assert_eq!(http.names_unit(), names_unit, "{said}");
    }
    let new = http("at = \"/v\"\nnew = { name = \"${unit.name}\", by = \"us\" }").place.new;
    let new: Vec<(&str, &str)> = new.iter().map(|(name, text)| (name.as_str(), text.as_written())).collect();
    assert_eq!(new, [("name", "${unit.name}"), ("by", "us")]);
    let certificate =
        http("certificate = { from = \"file:a.pem\" }\ncertificate_key = { from = \"env:KEY\" }")
            .certificate
            .unwrap();
    assert_eq!((certificate.chain.as_written(), certificate.key.as_written()), ("file:a.pem", "env:KEY"));
}

#[test]
fn what_tells_that_a_delivery_counts_is_read_by_its_form() {
    let ready = |said: &str| {
        let outlet = format!(
            "[[outlet]]\nname = \"o\"\nkind = \"directory\"\nstages = [\"*\"]\npath = \"x\"\nready = \"{said}\"\n"
        );
        match ledger(&outlet, "").outlets[0].effect.ready.clone() {
            Some(Ready::Http(text)) => format!("address {}", text.as_written()),
            Some(Ready::File(text)) => format!("file {}", text.as_written()),
            Some(Ready::Probe) => "probe".to_owned(),
            None => "nothing".to_owned(),
        }
    };
    assert_eq!(ready("https://x.example/ready"), "address https://x.example/ready");
    assert_eq!(ready("file:../${stage.name}/up"), "file ../${stage.name}/up");
    assert_eq!(ready("probe"), "probe");
}
