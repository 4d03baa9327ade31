//! Deliveries: planned, made, refused, withdrawn, and what stays of one that fails half-way.

use std::fs;

use cledger_store::Scope;
use cledger_store::daybook::Kind as RecordKind;
use cledger_work::change::Consent;
use cledger_work::deliver::withdraw::ToWithdraw;
use cledger_work::deliver::{Delivered, ToDeliver, chores, deliver, history, withdraw};
use cledger_work::{Kind, Opened, Trouble};

use crate::workplaces::{Answers, Meddler, Place, asked, because, pattern, whole};

const DESK: (&str, &str) = (
    "units/desk.toml",
    "[variables.hold]\ndefault = \"5m\"\n[variables.region]\ndefault = \"north\"\n[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n",
);
const GATE: (&str, &str) = (
    "units/gate.toml",
    "[variables.line]\ndefault = \"a\"\n[[output]]\npath = \"gate.env\"\nformat = \"dotenv\"\n",
);

fn numbers(delivered: &Delivered) -> Vec<Option<u64>> {
    delivered.deliveries.iter().map(|it| it.recorded.as_ref().map(|record| record.meta.number)).collect()
}

fn to_withdraw(write: bool) -> ToWithdraw {
    ToWithdraw { consent: because(&[]), write, ..ToWithdraw::default() }
}

fn make(place: &Place, asked: &ToDeliver) -> Result<Delivered, Trouble> {
    deliver(&place.open(), asked)
}

#[test]
fn a_plan_writes_nothing_and_a_delivery_that_changes_nothing_is_left_out() {
    let place = Place::new(&[DESK]);
    let before = place.everything();
    let plan = make(&place, &ToDeliver { write: false, ..asked(&["desk"], "dev") }).unwrap();
    assert_eq!((plan.deliveries[0].plan.changes().len(), numbers(&plan)), (2, vec![None]));
    assert_eq!(place.everything(), before);
    assert_eq!(numbers(&make(&place, &asked(&["desk"], "dev")).unwrap()), [Some(1)]);
    assert_eq!(place.read("../live/dev/desk/desk.env"), "HOLD=5m\nREGION=north\n");
    let again = make(&place, &asked(&["desk"], "dev")).unwrap();
    assert!(again.deliveries[0].plan.is_idle() && numbers(&again) == [None]);
    place.write("stages/dev.toml", "[units.desk]\nhold = \"1m\"\nregion = \"south\"\n");
    let only = ToDeliver { only: vec!["hold".to_owned()], ..asked(&["desk"], "dev") };
    assert_eq!(numbers(&make(&place, &only).unwrap()), [Some(2)]);
    assert_eq!(place.read("../live/dev/desk/desk.env"), "HOLD=1m\nREGION=north\n");
    let back = ToDeliver { again: Some(1), ..asked(&["desk"], "dev") };
    assert_eq!(numbers(&make(&place, &back).unwrap()), [Some(3)]);
    assert_eq!(place.read("../live/dev/desk/desk.env"), "HOLD=5m\nREGION=north\n");
    assert!(history::verified(&place.open()).unwrap().kind().is_none());
}

#[test]
fn what_a_delivery_is_refused_for() {
    let chore = "[[chore]]\ntext = \"Call the quay\"\nwhen = \"first-delivery\"\n";
    let (with_chore, lacking) = (DESK.1.to_owned() + chore, DESK.1.to_owned() + "[variables.lacking]\n");
    let usual = asked(&["desk"], "dev");
    let no_reason = Consent { why: None, ..because(&[]) };
    for (contract, asked, kind, message) in [
        (DESK.1, asked(&["desk"], "test"), Kind::Refused, "dev"),
        (DESK.1, ToDeliver { consent: no_reason, ..usual.clone() }, Kind::Usage, "reason"),
        (DESK.1, ToDeliver { again: Some(7), ..usual.clone() }, Kind::Usage, "7"),
        (DESK.1, ToDeliver { only: vec!["hold".to_owned()], ..usual.clone() }, Kind::Usage, "no delivery"),
        (DESK.1, ToDeliver { skip_stages: true, ..asked(&["desk"], "prod") }, Kind::Refused, "production"),
        (&with_chore, usual.clone(), Kind::Refused, "Call the quay"),
    ] {
        let place = Place::new(&[("units/desk.toml", contract)]);
        let trouble = make(&place, &asked).unwrap_err();
        assert_eq!(trouble.kind(), kind, "{trouble}");
        assert!(trouble.to_string().contains(message), "{trouble}");
        assert!(fs::read_dir(place.path("../live/dev")).unwrap().next().is_none());
    }
    let place = Place::new(&[("units/desk.toml", &lacking)]);
    let gaps = make(&place, &usual).unwrap();
    assert_eq!((gaps.gaps.len(), gaps.deliveries.len(), gaps.kind()), (1, 0, Some(Kind::Found)));
    // Somebody who is there may say that a production stage is meant.
    let place = Place::answering(&[DESK], Answers { stages: vec!["prod"], ..Answers::default() });
    let skipping = ToDeliver { skip_stages: true, ..asked(&["desk"], "prod") };
    assert_eq!(numbers(&make(&place, &skipping).unwrap()), [Some(1)]);
}

#[test]
fn what_was_done_stays_when_a_later_unit_fails() {
    let place = Place::new(&[DESK, GATE]);
    // Something else stands where the second unit's folder would be.
    place.write("../live/dev/gate", "in the way");
    let delivered = make(&place, &asked(&[], "dev")).unwrap();
    assert_eq!(numbers(&delivered)[0], Some(1), "{:?}", delivered.trouble);
    assert!(place.path("../live/dev/desk/desk.env").is_file());
    assert_ne!(delivered.kind(), None);
    let all = history::history(&place.open(), &[], 10).unwrap();
    let units: Vec<&str> = all.records.iter().map(|record| record.meta.unit.as_str()).collect();
    assert_eq!(units, ["desk"]);
}

#[test]
fn chores_hold_back_and_are_told_until_they_are_done() {
    let chores = "[[chore]]\ntext = \"Call the quay\"\nwhen = \"first-delivery\"\n\
         [[chore]]\ntext = \"Tell them\"\nwhen = \"each-delivery\"\n";
    let place = Place::new(&[("units/desk.toml", &(DESK.1.to_owned() + chores))]);
    let open = || -> Vec<String> {
        let open = chores::chores(&place.open(), &["@dev".to_owned()]).unwrap();
        open.into_iter().map(|chore| chore.text).collect()
    };
    assert_eq!(open(), ["Call the quay"]);
    assert_eq!(
        chores::done(&place.open(), &pattern("desk@dev"), "Call", true).unwrap().done[0].text,
        "Call the quay"
    );
    make(&place, &asked(&["desk"], "dev")).unwrap();
    assert_eq!(open(), ["Tell them"]);
    chores::done(&place.open(), &pattern("desk@dev"), "Tell them", true).unwrap();
    assert!(open().is_empty());
}

#[test]
fn what_is_withdrawn_is_gone_and_recorded() {
    let place = Place::new(&[DESK]);
    let nothing = withdraw::withdraw(&place.open(), &whole("desk@dev"), &to_withdraw(true));
    assert!(nothing.is_err());
    make(&place, &asked(&["desk"], "dev")).unwrap();
    place.write("../live/dev/desk/theirs.txt", "never ours");
    let plan = withdraw::withdraw(&place.open(), &whole("desk@dev"), &to_withdraw(false)).unwrap();
    let parts = plan.units[0].outlets[0].parts();
    let paths: Vec<_> = parts.iter().filter_map(|part| part.path.as_deref()).collect();
    assert_eq!((paths, place.path("../live/dev/desk/desk.env").is_file()), (vec!["desk.env"], true));
    withdraw::withdraw(&place.open(), &whole("desk@dev"), &to_withdraw(true)).unwrap();
    assert!(!place.path("../live/dev/desk/desk.env").exists());
    assert_eq!(place.read("../live/dev/desk/theirs.txt"), "never ours");
    let last = history::history(&place.open(), &[], 10).unwrap().records.pop().unwrap();
    assert_eq!((last.meta.kind, last.meta.number), (RecordKind::Withdrawn, 2));
}

#[test]
fn what_somebody_else_delivers_between_plan_and_hold_is_seen() {
    let meddler = Meddler::default();
    let place = Place::answering(&[DESK], meddler.clone());
    let usual = ToDeliver { skip_stages: true, ..asked(&["desk"], "prod") };
    make(&place, &usual).unwrap();
    for is_withdrawal in [false, true] {
        let contract = format!("[units.desk]\nhold = \"{}m\"\n", 1 + u8::from(is_withdrawal));
        place.write("stages/prod.toml", &contract);
        let (at, other) = (place.at.clone(), usual.clone());
        meddler.once(move || {
            let opened = Opened::read(&at, &Scope::Whole).unwrap();
            assert_eq!(deliver(&opened, &other).unwrap().kind(), None);
        });
        let trouble = if is_withdrawal {
            withdraw::withdraw(&place.open(), &whole("desk@prod"), &to_withdraw(true)).unwrap_err()
        } else {
            make(&place, &usual).unwrap_err()
        };
        assert_eq!(trouble.to_string(), "somebody else has delivered `desk@prod` meanwhile");
        assert!(place.path("../live/prod/desk/desk.env").is_file());
    }
}

#[test]
fn an_outlet_that_is_not_there_is_called_so() {
    let place = Place::new(&[DESK]);
    fs::remove_dir(place.path("../live/dev")).unwrap();
    let trouble = make(&place, &asked(&["desk"], "dev")).unwrap_err();
    assert_eq!(trouble.kind(), Kind::Outside);
    assert!(trouble.to_string().contains("is not there"), "{trouble}");
    let plan = make(&place, &ToDeliver { write: false, ..asked(&["desk"], "dev") }).unwrap();
    assert_eq!(plan.kind(), Some(Kind::Outside));
}
