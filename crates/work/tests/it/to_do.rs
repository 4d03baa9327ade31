//! What is to be done first, as commands.

use std::collections::BTreeMap;

use cledger_standin::Fault;
use cledger_work::asking::Nobody;
use cledger_work::deliver::status::{Status, status};
use cledger_work::deliver::to_do::to_do;
use cledger_work::deliver::withdraw::{ToWithdraw, withdraw};
use cledger_work::deliver::words;
use cledger_work::deliver::{Settle, ToDeliver, deliver};

use crate::quay::{Quay, delivers, does_the_chore, promotes, withdraws};
use crate::workplaces::{Place, asked, because, whole};

/// The commands about the unit, each without `cledger`, with how many of what.
fn commands(place: &Place) -> Vec<String> {
    commands_of(&status(&place.open(), &["desk".to_owned()], false).unwrap())
}

fn commands_of(status: &Status) -> Vec<String> {
    let all = to_do(status).into_iter();
    all.map(|one| format!("{}: {}", one.command.strip_prefix("cledger ").unwrap(), one.because)).collect()
}

#[test]
fn what_presses_most_comes_first_and_goes_once_it_is_done() {
    let quay = Quay::new(None, Nobody);
    let place = &quay.place;
    assert!(commands(place).iter().all(|one| one.starts_with("check ")), "{:?}", commands(place));
    delivers(place).unwrap();
    let then =
        ["promote desk@dev @test: newer in the stage before", "chores desk@dev: to be done by hand: 1 chore"];
    assert!(then.iter().all(|one| commands(place).contains(&(*one).to_owned())), "{:?}", commands(place));
    does_the_chore(place).unwrap();
    quay.says("6m");
    let waits = "deliver desk@dev: not delivered yet: 1 field".to_owned();
    assert!(commands(place).contains(&waits), "{:?}", commands(place));
    delivers(place).unwrap();
    promotes(place).unwrap();
    let now = commands(place);
    assert!(!now.contains(&waits) && !now.iter().any(|one| one.starts_with("promote desk@dev")), "{now:?}");
    // A unit that cannot be rendered is pressing, and told before what only waits.
    place.write("units/desk.toml", &(place.read("units/desk.toml") + "[variables.pier]\n"));
    let wrong = commands(place);
    assert!(wrong[0].starts_with("check desk@dev: values are missing or wrong"), "{wrong:?}");
    let after = wrong.iter().position(|one| one.starts_with("chores ")).unwrap_or(wrong.len());
    assert!(wrong.iter().rposition(|one| one.starts_with("check ")).unwrap() < after, "{wrong:?}");
}

#[test]
fn what_nobody_knows_is_finished_first() {
    let mut quay = Quay::new(None, Nobody);
    let place = &quay.place;
    let finish = "deliver desk@dev --finish: nobody knows how far delivery 1 came";
    quay.fails(Some(Fault::DownWrites));
    let delivered = deliver(&place.open(), &asked(&["desk"], "dev")).unwrap();
    assert!(delivered.kind().is_some());
    assert_eq!(commands(place)[0], finish);
    quay.fails(None);
    let finishing = ToDeliver { settle: Some(Settle::Finish), ..asked(&["desk"], "dev") };
    assert_eq!(deliver(&place.open(), &finishing).unwrap().kind(), None);
    assert!(!commands(place).iter().any(|one| one.contains("--finish")), "{:?}", commands(place));
    // A withdrawal is finished by another.
    quay.fails(Some(Fault::DownWrites));
    withdraws(place).unwrap();
    assert_eq!(commands(place)[0], "withdraw desk@dev: nobody knows how far withdrawal 3 came");
    let standings = status(&place.open(), &["desk".to_owned()], false).unwrap().standings;
    let there = standings[0].stages[0].as_ref().unwrap();
    assert!(words::state(there).starts_with("withdrawal 3 not known, "), "{}", words::state(there));
    quay.fails(None);
    let asked = ToWithdraw { consent: because(&[]), ..ToWithdraw::default() };
    let again = withdraw(&place.open(), &whole("desk@dev"), &asked).unwrap();
    assert!(again.units[0].again && again.units[0].number == 3, "{:?}", again.units[0]);
    withdraws(place).unwrap();
    assert!(!commands(place).iter().any(|one| one.starts_with("withdraw")), "{:?}", commands(place));
    assert_eq!(quay.there(), BTreeMap::new());
}

#[test]
fn what_outlets_have_is_told_as_drift_tells_it() {
    let quay = Quay::new(None, Nobody);
    let place = &quay.place;
    let in_dev = |units: &[&str]| {
        let units: Vec<String> = units.iter().map(|&unit| unit.to_owned()).collect();
        let live = status(&place.open(), &units, true).unwrap();
        let there = live.standings[0].stages[0].as_ref().unwrap();
        let commands = commands_of(&live).into_iter().filter(|one| one.starts_with("drift "));
        let commands: Vec<String> = commands.filter(|one| one.contains("@dev")).collect();
        (words::whole(there), commands)
    };
    delivers(place).unwrap();
    does_the_chore(place).unwrap();
    let (whole, commands) = in_dev(&["desk"]);
    assert_eq!((whole.as_str(), commands), ("1, 0m", Vec::new()));
    // Nobody answers: nothing is known to have drifted.
    quay.fails(Some(Fault::Down));
    let (whole, commands) = in_dev(&["desk"]);
    assert_eq!(whole, "1, 0m: drift not known");
    assert_eq!(commands, ["drift desk@dev --differing: drift not known"]);
    // A hand edit beside what is not known, and a unit that nobody knows.
    let file = "../live/dev/desk/desk.env";
    let ours = place.read(file);
    place.write(file, &ours.replace("5m", "9m"));
    place.write("../live/dev/gull/gull.env", "A=1\n");
    let (whole, commands) = in_dev(&[]);
    assert_eq!(whole, "1, 0m: 1 drifted, drift not known");
    let because = ["drifted: 1 name", "at an outlet, and not in the ledger: gull", "drift not known"];
    let commands: Vec<&str> = commands.iter().map(|one| one.split_once("--differing: ").unwrap().1).collect();
    assert_eq!(commands, because);
    // What was taken off is not missed.
    place.write(file, &ours);
    quay.fails(None);
    withdraws(place).unwrap();
    assert_eq!(in_dev(&["desk"]), ("withdrawn, 0m".to_owned(), Vec::new()));
}
