//! The rules of deliveries: their order, what people do around them, what waits, and what counts as one contract.

use std::convert::Infallible;

use cledger_core::delivery::{
    Arrived, Event, InStage, Past, Since, asked_for, contract_hash, first_not_done, has_news_below, in_stage,
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

/// Records by their words: `d` for a delivery, `w` for a withdrawal, `a` for chores asked for, anything else for a chore with this text; each
/// has the place in the chain that stands before it.
fn past<'p>(records: &[(u64, &'p str)]) -> Vec<Past<'p>> {
    let (mut number, mut all) = (0, Vec::new());
    for &(place, what) in records {
        let event = match what {
            "d" => Event::Delivered { contract: "" },
            "w" => Event::Withdrawn,
            "a" => Event::ChoresAsked,
            text => Event::ChoreDone(text),
        };
        number += u64::from(matches!(event, Event::Delivered { .. } | Event::Withdrawn));
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
        (&[][..], &[("Call", 0)][..]),
        (&[(1, "Call")], &[]),
        (&[(1, "Call"), (2, "d")], &[("Tell", 1), ("Move", 1), ("See", 1)]),
        (&[(1, "Call"), (2, "d"), (3, "Tell"), (4, "Move"), (5, "See")], &[]),
        (&[(1, "Call"), (2, "d"), (3, "See"), (4, "d")], &[("Tell", 2), ("Move", 2)]),
        (&[(1, "d"), (2, "See")], &[("Call", 1), ("Tell", 1), ("Move", 1)]),
    ] {
        let open = open(&ledger, desk, DEV, &past(records));
        let since = |number: u64| if number == 0 { Since::Ever } else { Since::Delivery(number) };
        let expected: Vec<(String, Since)> =
            expected.iter().map(|&(text, number)| (text.to_owned(), since(number))).collect();
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
    assert_eq!(open(&ledger, desk, DEV, &with_done("Tell")), [("Move".to_owned(), Since::Delivery(1))]);
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
fn chores_asked_for_beside_a_delivery_stay_open_over_later_ones_until_they_are_done() {
    let ledger = ledger(&[("units/desk.toml", "[variables.a]\ndefault = \"1\"\n")]);
    let desk = subject(&ledger, "desk");
    let asked = ["Lock".to_owned(), "Paint".to_owned()];
    for (records, lock, paint) in [
        (&[(1, "a")][..], Some(1), Some(1)),
        (&[(1, "Lock"), (2, "a")], Some(2), Some(2)),
        (&[(1, "a"), (2, "Lock")], None, Some(1)),
        (&[(1, "a"), (2, "Lock"), (3, "a")], Some(3), Some(1)),
        (&[(1, "a"), (2, "a"), (3, "Lock")], None, Some(1)),
        (&[(1, "a"), (2, "Paint"), (3, "d"), (4, "w")], Some(1), None),
        (&[(1, "a"), (2, "d"), (3, "Lock")], None, Some(1)),
        (&[(1, "a"), (2, "d"), (3, "Lock"), (4, "Paint")], None, None),
    ] {
        // As deliveries record what is open after them.
        let mut all = past(records);
        let mut kept: Vec<Vec<String>> = Vec::new();
        for at in 0..all.len() {
            let mut before = all[..at].to_vec();
            before.iter_mut().zip(&kept).for_each(|(past, texts)| past.chores = Some(texts));
            kept.push(match all[at].event {
                Event::ChoresAsked => asked.to_vec(),
                _ => open_after(&ledger, desk, DEV, &before, &["a"].into()),
            });
        }
        all.iter_mut().zip(&kept).for_each(|(past, texts)| past.chores = Some(texts));
        let expected = [("Lock", lock), ("Paint", paint)].into_iter();
        let expected = expected.filter_map(|(text, place)| Some((text.to_owned(), Since::Asked(place?))));
        let mut found = open(&ledger, desk, DEV, &all);
        found.sort_by(|a, b| a.0.cmp(&b.0));
        assert_eq!(found, expected.collect::<Vec<_>>(), "{records:?}");
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
