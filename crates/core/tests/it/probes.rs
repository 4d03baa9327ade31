//! What is tried of a unit in a stage, and what is expected of that.

use cledger_core::model::{Answer, Expected, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::probe::{NotTried, Probed, Target, Wanted, merged, of_contract, targets};
use cledger_core::resolve::{Resolver, Unfetched};

use crate::ledgers::ledger;

const CONTRACT: &str = "[connections.db]\nprotocol = \"postgresql\"\n[endpoints.site]\n[endpoints.mail]\n\
     [[probe]]\nname = \"db-shut\"\nentry = \"db\"\nstages = [\"test\"]\nexpect = [\"refused\", \"no-answer\"]\n\
     [[probe]]\nname = \"debug\"\nentry = \"site\"\npath = \"/debug/${stage.name}/${unit.name}\"\nlogin = false\nexpect = \"404\"\n\
     [[probe]]\nname = \"banner\"\nentry = \"mail\"\ntext = \"hello\"\n";

const SETTINGS: &str = "[units.desk]\ndb.host = \"db.example\"\ndb.user = \"u\"\ndb.password = \"p\"\ndb.database = \"d\"\n\
     site.base = \"https://desk.example:8443/app/\"\nsite.auth = \"basic\"\nsite.user = \"u\"\nsite.password = \"p\"\n\
     mail.base = \"smtp://mail.example:25\"\n";

fn tried(settings: &str, stage: u16) -> (Vec<Target>, Vec<NotTried>) {
    let files =
        [("units/desk.toml", CONTRACT), ("stages/dev.toml", settings), ("stages/test.toml", settings)];
    let ledger = ledger(&files);
    let resolver = Resolver::new(&ledger, &Unfetched, &[]);
    let unit = ledger.unit_id("desk").unwrap();
    let subject = Subject::Unit(unit, None);
    let mut session = resolver.session(Some(unit));
    let (of_contract, _) = of_contract(&mut session, subject, StageId(stage));
    assert!(of_contract.iter().all(|target| target.wanted.by.is_some()));
    let (found, without) = targets(&mut session, subject, StageId(stage));
    (merged(found), without)
}

/// The expectation by its name, or the entry, and where that leads.
fn told(targets: &[Target]) -> Vec<(String, String)> {
    let name = |target: &Target| match &target.wanted.by {
        Some(name) => name.to_string(),
        None => target.addresses.join(" "),
    };
    targets.iter().map(|target| (name(target), target.shown())).collect()
}

#[test]
fn each_expectation_is_tried_where_it_counts_and_takes_the_place_of_an_answer() {
    let pair = |name: &str, shown: &str| (name.to_owned(), shown.to_owned());
    let site = "https://desk.example:8443/app/";
    let (dev, without) = tried(SETTINGS, 0);
    assert_eq!(
        told(&dev),
        [
            pair("debug", &format!("{site}debug/dev/desk")),
            pair("desk/db@dev", "postgresql://db.example:5432/d"),
            pair("desk/site@dev", site),
        ]
    );
    // A text can only stand on a page; that it answers at all is not what was expected.
    assert_eq!(without.len(), 1);
    assert!(without[0].reason.starts_with("probe `banner`: only an address"), "{}", without[0].reason);
    let (test, _) = tried(SETTINGS, 1);
    let names: Vec<String> = told(&test).into_iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["db-shut", "debug", "desk/site@test"]);
    // Nothing stands below an address that asks for something.
    let (_, without) = tried(&SETTINGS.replace("/app/", "/app?of=desk"), 0);
    assert!(without.iter().any(|it| it.reason.contains("below an address that has a query")), "{without:?}");
}

#[test]
fn what_came_back_is_what_was_wanted_or_not() {
    let wanted = |expect: &[&str], text: Option<&str>| Wanted {
        by: Some(Name::parse("x").unwrap()),
        expect: expect.iter().map(|word| Expected::parse(word).unwrap()).collect(),
        text: text.map(str::to_owned),
    };
    let page = |answer: Answer, status: u16, has_text: Option<bool>| Probed {
        status: Some(status),
        has_text,
        ..Probed::new(answer, "")
    };
    let plain = |answer: Answer| Probed::new(answer, "");
    let by_proxy = |probed: Probed| Probed { by_proxy: true, ..probed };
    for (wanted, probed, is_met) in [
        (Wanted::default(), plain(Answer::Answers), true),
        (Wanted::default(), plain(Answer::AccessDenied), false),
        (wanted(&["refused"], None), plain(Answer::Refused), true),
        (wanted(&["refused"], None), plain(Answer::NoSuchHost), false),
        (wanted(&["refused"], None), plain(Answer::NoWay), false),
        (wanted(&["refused"], None), by_proxy(plain(Answer::Refused)), false),
        (wanted(&["refused", "no-answer"], None), plain(Answer::NoAnswer), true),
        (wanted(&["404", "410"], None), page(Answer::Answers, 410, None), true),
        (wanted(&["404", "410"], None), page(Answer::Answers, 200, None), false),
        (wanted(&["403"], None), page(Answer::AccessDenied, 403, None), true),
        (wanted(&["403"], None), by_proxy(page(Answer::AccessDenied, 403, None)), false),
        (wanted(&["503"], None), page(Answer::Unexpected, 503, None), true),
        (wanted(&["404"], None), plain(Answer::Refused), false),
        (wanted(&["answers"], Some("tides")), page(Answer::Answers, 200, Some(true)), true),
        (wanted(&["answers"], Some("tides")), page(Answer::Answers, 200, Some(false)), false),
        // Where the page could not be read, nobody knows.
        (wanted(&["answers"], Some("tides")), page(Answer::Answers, 200, None), false),
        (wanted(&["200"], Some("tides")), page(Answer::Answers, 404, Some(true)), false),
    ] {
        assert_eq!(wanted.is_met(&probed), is_met, "{wanted:?} {probed:?}");
    }
}
