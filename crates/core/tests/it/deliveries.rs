//! The rules of deliveries: their order, what people do around them, what waits, and what counts as one contract.

use std::convert::Infallible;

use cledger_core::delivery::{
    Arrived, Event, InStage, Past, asked_for, contract_hash, first_not_done, has_news_below, in_stage,
    lacking_before, open, open_after,
};
use cledger_core::model::{Ledger, StageId, Subject};

use crate::ledgers::ledger;

const DEV: StageId = StageId(0);
const TEST: StageId = StageId(1);
const PROD: StageId = StageId(2);

fn subject(ledger: &Ledger, unit: &str) -> Subject {
    Subject::Unit(ledger.unit_id(unit).unwrap(), None)
}

/// Records by their words: `d` for a delivery, `w` for a withdrawal, anything else for a chore with this text; each
/// has the place in the chain that stands before it.
fn past<'p>(records: &[(u64, &'p str)]) -> Vec<Past<'p>> {
    let (mut number, mut all) = (0, Vec::new());
    for &(place, what) in records {
        let event = match what {
            "d" => Event::Delivered { contract: "" },
            "w" => Event::Withdrawn,
            text => Event::ChoreDone(text),
        };
        number += u64::from(!matches!(event, Event::ChoreDone(_)));
        all.push(Past { place, number, event, arrived: Arrived::Whole, chores: None });
    }
    all
}

#[test]
fn a_stage_waits_for_those_before_it_to_which_the_unit_belongs() {
    let ledger = ledger(&[
        ("units/desk.toml", "[variables.a]\ndefault = \"1\"\n"),
        ("units/late.toml", "stages = [\"dev\", \"prod\"]\n[variables.a]\ndefault = \"1\"\n"),
    ]);
    for (unit, stage, had, expected) in [
        ("desk", DEV, &[][..], None),
        ("desk", TEST, &[], Some(DEV)),
        ("desk", TEST, &[DEV], None),
        ("desk", PROD, &[DEV], Some(TEST)),
        ("desk", PROD, &[TEST], None),
        ("late", PROD, &[], None),
    ] {
        let had = |stage: StageId| Ok::<_, Infallible>(had.contains(&stage));
        assert_eq!(
            lacking_before(&ledger, subject(&ledger, unit), stage, had),
            Ok(expected),
            "{unit} {stage:?}"
        );
    }
}

#[test]
fn a_stage_stands_as_its_last_delivery_or_withdrawal_says() {
    for (records, expected) in [
        (&[][..], InStage::Nothing),
        (&[(1, "Call")], InStage::Nothing),
        (&[(1, "d")], InStage::Delivered(1)),
        (&[(1, "d"), (2, "d"), (3, "Call")], InStage::Delivered(2)),
        (&[(1, "d"), (2, "w")], InStage::Withdrawn),
        (&[(1, "d"), (2, "w"), (5, "d")], InStage::Delivered(3)),
    ] {
        assert_eq!(in_stage(&past(records)), expected, "{records:?}");
    }
}

#[test]
fn what_is_newer_below_waits_to_be_promoted() {
    let ledger = ledger(&[("units/desk.toml", "[variables.a]\ndefault = \"1\"\n")]);
    for (dev, test, expected) in [
        (&[][..], &[][..], false),
        (&[(1, "d")], &[], true),
        (&[(1, "d")], &[(2, "d")], false),
        (&[(1, "d"), (3, "d")], &[(2, "d")], true),
        (&[(1, "d"), (3, "w")], &[(2, "d")], false),
        (&[(1, "d"), (3, "d")], &[(2, "w")], false),
        (&[(1, "d"), (3, "Call")], &[(2, "d")], false),
    ] {
        let (dev, test) = (past(dev), past(test));
        let of = |stage: StageId| if stage == DEV { &dev[..] } else { &test[..] };
        assert_eq!(has_news_below(&ledger, TEST, of), expected, "{dev:?} {test:?}");
    }
}

#[test]
fn chores_are_open_until_they_are_done_after_what_they_follow() {
    let ledger = ledger(&[(
        "units/desk.toml",
        "[connections.db]\nprotocol = \"tcp\"\n[variables.a]\ndefault = \"1\"\n\
         [[chore]]\ntext = \"Call\"\nwhen = \"first-delivery\"\n[[chore]]\ntext = \"Tell\"\nwhen = \"each-delivery\"\n\
         [[chore]]\ntext = \"Move\"\nwhen = { changed = [\"db\"] }\n\
         [[chore]]\ntext = \"See\"\nwhen = \"after-first-delivery\"\n",
    )]);
    let desk = subject(&ledger, "desk");
    let is_held_back = |records: &[(u64, &str)]| first_not_done(&ledger, desk, DEV, &past(records)).is_some();
    assert!(is_held_back(&[]) && !is_held_back(&[(1, "Call")]) && !is_held_back(&[(1, "d")]));
    for (records, expected) in [
        (&[][..], &[("Call", None)][..]),
        (&[(1, "Call")], &[]),
        (&[(1, "Call"), (2, "d")], &[("Tell", Some(1)), ("Move", Some(1)), ("See", Some(1))]),
        (&[(1, "Call"), (2, "d"), (3, "Tell"), (4, "Move"), (5, "See")], &[]),
        (&[(1, "Call"), (2, "d"), (3, "See"), (4, "d")], &[("Tell", Some(2)), ("Move", Some(2))]),
        (&[(1, "d"), (2, "See")], &[("Call", Some(1)), ("Tell", Some(1)), ("Move", Some(1))]),
    ] {
        let open = open(&ledger, desk, DEV, &past(records));
        let open: Vec<(&str, Option<u64>)> =
            open.iter().map(|(text, after)| (text.as_str(), *after)).collect();
        assert_eq!(open, expected, "{records:?}");
    }
    // What a delivery asked for is recorded with it, and stays until it is done, also over later ones.
    let mut records = past(&[(1, "d"), (2, "See"), (3, "Call")]);
    let after = |records: &[Past<'_>], changed: &[&str]| {
        open_after(&ledger, desk, DEV, records, &changed.iter().copied().collect())
    };
    let first = after(&records, &["db.host"]);
    assert_eq!(first, ["Tell", "Move"]);
    records[0].chores = Some(&first);
    assert_eq!(after(&records, &[]), ["Tell", "Move"]);
    let with_done = |text| [&records[..], &past(&[(4, text)])].concat();
    assert_eq!(after(&with_done("Move"), &[]), ["Tell"]);
    assert_eq!(open(&ledger, desk, DEV, &with_done("Tell")), [("Move".to_owned(), Some(1))]);
    for (is_first, changed, expected) in [
        (true, &["a"][..], &["Call", "Tell", "See"][..]),
        (false, &["a"], &["Tell"]),
        (false, &["db.port"], &["Tell", "Move"]),
    ] {
        let asked = asked_for(&ledger, desk, DEV, is_first, &changed.iter().copied().collect());
        assert_eq!(asked.iter().map(|chore| chore.text.as_str()).collect::<Vec<_>>(), expected);
    }
}

#[test]
fn a_contract_is_what_its_fields_declare() {
    let hash = |text: &str| {
        let ledger = ledger(&[("units/desk.toml", text)]);
        contract_hash(&ledger, subject(&ledger, "desk"))
    };
    let plain = hash("[variables.a]\ndefault = \"1\"\n");
    for (text, is_same) in [
        ("about = \"x\"\nowner = \"y\"\n[variables.a]\nabout = \"z\"\ndefault = \"1\"\n", true),
        ("[variables.a]\ndefault = \"1\"\n[[chore]]\ntext = \"Call\"\nwhen = \"each-delivery\"\n", true),
        ("[variables.a]\ndefault = \"1\"\n[[output]]\npath = \"x.env\"\nformat = \"dotenv\"\n", false),
        ("[variables.a]\ndefault = \"1\"\none_of = [\"1\", \"2\"]\n", false),
        ("[variables.a]\ndefault = \"1\"\nmax_length = 9\n", false),
        ("[variables.a]\ndefault = \"1\"\nrequired = false\n", false),
        ("[variables.a]\ndefault = \"1\"\nas = \"X\"\n", false),
        ("[variables.a]\ndefault = \"2\"\n", false),
        ("[variables.b]\ndefault = \"1\"\n", false),
        ("[variables.a]\ntype = \"integer\"\ndefault = 1\n", false),
        ("[variables.a]\nvary = \"never\"\ndefault = \"1\"\n", false),
        ("[variables.a]\ndefault = \"1\"\n[variables.b]\n", false),
    ] {
        assert_eq!(hash(text) == plain, is_same, "{text}");
    }
}
