//! What is read for the sake of some values alone comes to the same as where all is read.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Owner};
use cledger_core::findings;
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_store::{Memory, Scope, read_partly};

use crate::agreement::{Pretended, read_all, simplified};
use crate::naive::Out;
use crate::random::{Description, Tape, fixed_tape};
use crate::written::write;

/// What somebody's fields come to in a stage: all of them, or those that an address names.
fn outcomes(ledger: &Ledger, whose: &Address) -> Vec<(String, Out, Vec<String>)> {
    let resolver = Resolver::new(ledger, &Pretended, &[]);
    let stage = ledger.stage_id(whose.stage.as_ref().unwrap().as_str()).unwrap();
    let subjects = ledger.subjects_in(stage).chain([Subject::Shared]);
    let is_whose = |subject: &Subject| Some(ledger.owner(*subject)) == whose.owner;
    let mut found = Vec::new();
    for subject in subjects.filter(is_whose) {
        let mut session = resolver.session(match subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        });
        for slot in ledger.slots(subject).all() {
            let field = FieldId { subject, stage, slot };
            let address = ledger.address(field);
            let is_meant = whose.entry.as_ref().is_none_or(|_| address == *whose);
            if is_meant {
                let outcome = session.outcome(field);
                let mut said: Vec<String> = match &outcome {
                    Outcome::Broken(problems) => problems.iter().map(|it| it.detail.clone()).collect(),
                    _ => Vec::new(),
                };
                said.extend(findings::of_field(&mut session, field).into_iter().map(|it| it.message));
                found.push((address.to_string(), simplified(ledger, &outcome), said));
            }
        }
    }
    found
}

/// What is read for an address, which must come to the same as in the whole ledger; gives the paths.
fn read_for(files: &Memory, whole: &Ledger, address: &Address) -> BTreeSet<String> {
    let lazily = read_partly(files, &Scope::Values(vec![address.clone()])).unwrap();
    assert_eq!(outcomes(&lazily, address), outcomes(whole, address), "{address}\n{:#?}", files.0);
    lazily.files.0.iter().map(|file| file.path.clone()).collect()
}

#[test]
fn what_is_read_for_some_values_comes_to_the_same_as_where_all_is_read() {
    let (mut less, mut all) = (0, 0);
    for seed in 0..60 {
        let made = Description::from_tape(&mut Tape::new(&fixed_tape(seed, 900)));
        let files = write(&made).0;
        let whole = read_all(&files);
        for stage in whole.stage_ids() {
            for subject in whole.subjects_in(stage).chain([Subject::Shared]) {
                let name = &whole.stage(stage).name;
                let owner = whole.owner(subject);
                let address = Address {
                    owner: Some(owner),
                    entry: None,
                    field: None,
                    stage: Some(name.clone()),
                    delivery: None,
                };
                let paths = read_for(&files, &whole, &address);
                *(if paths.len() < whole.files.0.len() { &mut less } else { &mut all }) += 1;
                if let Owner::Unit(unit, _) = whole.owner(subject) {
                    let everywhere = read_partly(&files, &Scope::Everywhere(unit)).unwrap();
                    assert_eq!(outcomes(&everywhere, &address), outcomes(&whole, &address), "{address}");
                }
                if let Some(slot) = whole.slots(subject).all().nth(usize::from(stage.0) * 3) {
                    read_for(&files, &whole, &whole.address(FieldId { subject, stage, slot }));
                }
            }
        }
    }
    assert!(less > 500 && all > 0, "{less} {all}");
}

/// Many units, each of which refers to others in chains, with a file for each in each stage.
fn many() -> Memory {
    const UNITS: usize = 2000;
    let mut files = Memory::default();
    let mut manifest = "format = 1\nname = \"Many\"\n".to_owned();
    for stage in ["dev", "test", "prod"] {
        manifest += &format!("[[stage]]\nname = \"{stage}\"\nclass = \"test\"\n");
    }
    manifest += "follow = [{ stage = \"test\" }]\n";
    files.0.insert("ledger.toml".to_owned(), manifest);
    for unit in 0..UNITS {
        let (next, other, third) = (unit + 1, (unit * 7919 + 13) % UNITS, (unit * 104_729 + 7) % UNITS);
        // A chain of four steps, one text to another stage, and others that lead all over the ledger.
        let link = if unit % 5 == 4 { "end".to_owned() } else { format!("${{unit-{next}/link}}") };
        let text = format!(
            "[variables.link]\ndefault = \"{link}\"\n[variables.across]\ndefault = \"${{unit-{other}/hold@test}}\"\n\
             [variables.far]\ndefault = \"${{unit-{other}/far}}\"\n[variables.farther]\ndefault = \"${{unit-{third}/far}}\"\n\
             [variables.hold]\n"
        );
        files.0.insert(format!("units/unit-{unit}.toml"), text);
        for stage in ["dev", "test", "prod"] {
            files.0.insert(format!("stages/{stage}/unit-{unit}.toml"), format!("hold = \"{unit}\"\n"));
        }
    }
    files
}

#[test]
fn a_long_chain_of_units_is_read_at_once() {
    let mut files = many();
    for unit in 0..200 {
        let text = format!("[variables.link]\ndefault = \"${{unit-{}/link}}\"\n", unit + 1);
        files.0.insert(format!("units/unit-{unit}.toml"), text);
    }
    files.0.insert("units/unit-200.toml".to_owned(), "[variables.link]\ndefault = \"end\"\n".to_owned());
    let address = Address::parse("unit-0/link@dev").unwrap();
    let ledger = read_partly(&files, &Scope::Values(vec![address.clone()])).unwrap();
    assert!(ledger.has_read(None, StageId(0)) && ledger.units.len() == 201, "{}", ledger.units.len());
    assert_eq!(outcomes(&ledger, &address), outcomes(&read_all(&files), &address));
}

#[test]
fn one_value_of_many_units_takes_the_files_of_its_own_way_alone() {
    let files = many();
    let paths = |address: &str| -> Vec<String> {
        let scope = Scope::Values(vec![Address::parse(address).unwrap()]);
        let ledger = read_partly(&files, &scope).unwrap();
        assert!(ledger.unit_id("unit-10").is_some());
        let mut paths: Vec<String> = ledger.files.0.iter().map(|file| file.path.clone()).collect();
        paths.sort_unstable();
        paths
    };
    let own = ["ledger.toml", "stages/dev/unit-10.toml", "units/unit-10.toml"];
    assert_eq!(paths("unit-10/hold@dev"), own);
    assert_eq!(
        paths("unit-10/hold@prod"),
        ["ledger.toml", "stages/prod/unit-10.toml", "stages/test/unit-10.toml", "units/unit-10.toml"]
    );
    // Four more units, with the contract and the settings of each.
    assert_eq!(paths("unit-10/link@dev").len(), own.len() + 8);
    let across = paths("unit-10/across@dev");
    assert!(across.contains(&"stages/test/unit-1203.toml".to_owned()), "{across:?}");
    assert_eq!(across.len(), own.len() + 2);
    let stage = StageId(0);
    assert!(!read_partly(&files, &Scope::Values(Vec::new())).unwrap().has_read(None, stage));
}
