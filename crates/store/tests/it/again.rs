//! A ledger that is read again after a change is the one that is read anew.

use std::collections::BTreeMap;
use std::sync::Arc;

use cledger_core::model::Ledger;
use cledger_core::source::{FileId, Files};
use cledger_store::{Changed, Memory, Overlay, Scope, read_again, read_partly, way_back};
use proptest::prelude::*;

const DEV: &str = "[[stage]]\nname = \"dev\"\nclass = \"development\"\n";
const TEST: &str = "[[stage]]\nname = \"test\"\nclass = \"test\"\ngroups = [\"all\"]\n";
const LATE: &str = "[[stage]]\nname = \"late\"\nclass = \"test\"\nfollow = [{ stage = \"dev\" }]\n";
const RULE: &str = "[[rule]]\nname = \"r\"\nfields = [\"*/hold\"]\nmin = \"1m\"\n";
const HOLD: &str = "[variables.hold]\ntype = \"duration\"\n";
const FARES: &str = "[tables.fares]\ncolumns = [\"zone\", \"price\"]\nkey = \"zone\"\n";
const DB: &str = "[connections.db]\nprotocol = \"postgresql\"\n";

/// Files with the texts that each may have, an empty one for no such file. Those behind the first three have mistakes,
/// or make some elsewhere.
fn files() -> Vec<(&'static str, Vec<String>)> {
    let head = "format = 1\nname = \"Quays\"\n";
    let texts = |texts: &[&str]| texts.iter().map(|&text| text.to_owned()).collect();
    vec![
        (
            "ledger.toml",
            vec![
                format!("{head}{DEV}{TEST}"),
                format!("# moved\n{head}{DEV}{TEST}{RULE}"),
                format!("{head}{DEV}{TEST}{LATE}"),
                format!("{head}{LATE}{DEV}{TEST}"),
                format!("{head}{DEV}"),
            ],
        ),
        (
            "shared.toml",
            vec![
                DB.to_owned(),
                format!("{DB}fields.host.default = \"h\"\n"),
                format!("{DB}[variables.zone]\n"),
                format!("{DB}[variables.stray]\n[variables.berth]\n"),
                format!("[variables.apart]\n{DB}about = \"moved\"\n"),
                format!("{DB}fields.port.max = 6\n"),
                format!("{DB}fields.depth.type = \"integer\"\n"),
                "[connections.db]\nprotocol = \"mysql\"\n".to_owned(),
                "[variables.zone]\n".to_owned(),
            ],
        ),
        (
            "units/desk.toml",
            vec![
                format!("uses = [\"db\"]\n[instances.left]\n[instances.right]\n{HOLD}default = \"5m\"\n"),
                format!("uses = [\"db\"]\n{HOLD}{FARES}"),
                format!("stages = [\"t*\"]\n{HOLD}{FARES}"),
                "[variables.hold]\ntype = 5\n".to_owned(),
                String::new(),
            ],
        ),
        (
            "units/boat.toml",
            texts(&[
                "[variables.berth]\ndefault = \"${desk/hold}\"\n",
                "formerly = [\"ferry\"]\n[variables.berth]\n[[output]]\npath = \"a\"\ntemplate = \"templates/a\"\n",
                "",
                "formerly = [\"desk\"]\n[variables.berth]\n",
            ]),
        ),
        ("units/quay.toml", texts(&["", "stages = [\"dev\", \"l*\"]\n[variables.light]\n"])),
        (
            "stages/dev.toml",
            texts(&[
                "",
                "[shared.db]\nhost = \"a\"\n[units.desk]\nhold = \"1m\"\n[units.boat]\nberth = \"7\"\n",
                "# moved\n[units.desk]\nhold = \"2m\"\n[units.gone]\nx = 1\n[units.\"desk+left\"]\nhold = \"3m\"\n",
                "[units.desk]\nfares = \"tables/fares.csv\"\nother = 1\n",
                "[units.desk\n",
            ]),
        ),
        ("stages/test/shared.toml", texts(&["", "[db]\nhost = \"t\"\n", "[db]\nport = 7\n"])),
        (
            "stages/test/desk.toml",
            texts(&[
                "",
                "hold = \"4m\"\n",
                "[fares]\na = { price = \"1\" }\nb = 3\n",
                "stray = 1\n",
                "hold = \n",
            ]),
        ),
        ("stages/test/desk+left.toml", texts(&["", "hold = \"6m\"\n", "hold = \"8m\"\n"])),
        ("stages/test/boat.toml", texts(&["", "berth = \"9\"\n", "berth = \"10\"\nstray = 2\n"])),
        ("stages/test/gone.toml", texts(&["", "x = 1\n"])),
        ("stages/late.toml", texts(&["", "", "", "[units.boat]\nberth = \"11\"\n"])),
        (
            "groups/all.toml",
            texts(&[
                "",
                "[units.boat]\nberth = \"12\"\n",
                "[shared.db]\nhost = \"g\"\n[units.desk]\nhold = \"7m\"\n",
            ]),
        ),
        ("tables/fares.csv", texts(&["zone,price\n1,2\n", "zone,cost\n1,2\n", ""])),
        ("templates/a", texts(&["x ${berth}\n", "${berth} y\n", "${berth} y ${nothing}\n", ""])),
        (
            "waivers.toml",
            texts(&[
                "",
                "[[waiver]]\ncode = \"missing-value\"\naddress = \"*/*@dev\"\nuntil = \"2027-01-01\"\nwhy = \"later\"\n",
            ]),
        ),
        ("notes.txt", texts(&["", "of no use\n"])),
    ]
}

/// All that a ledger says, with the names of files in place of their numbers.
fn all_of(mut ledger: Ledger) -> String {
    let files = std::mem::take(&mut ledger.files);
    named(&format!("{ledger:#?}"), &files)
}

fn named(printed: &str, files: &Files) -> String {
    let mut parts = printed.split("FileId(");
    let mut named = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let (number, rest) = part.split_once(')').unwrap();
        let number = number.trim().trim_end_matches(',').parse().unwrap();
        let file = files.get(FileId(number)).unwrap();
        named += &format!("{} of {} bytes{rest}", file.path, file.text.len());
    }
    named
}

/// The texts that these choices make.
fn texts(chosen: &[usize]) -> BTreeMap<String, String> {
    let files = files().into_iter().zip(chosen);
    let files = files.map(|((path, texts), at)| (path.to_owned(), texts[at % texts.len()].clone()));
    files.filter(|(_, text)| !text.is_empty()).collect()
}

/// Reads a ledger of the first texts, and then of the second ones: again, and anew.
fn compared(before: &[usize], after: &[usize]) {
    let (before, after) = (texts(before), texts(after));
    let mut changed = Changed::new();
    for (path, text) in &after {
        if before.get(path) != Some(text) {
            changed.insert(path.clone(), Some(text.clone()));
        }
    }
    changed.extend(before.keys().filter(|path| !after.contains_key(*path)).map(|path| (path.clone(), None)));
    let base = Memory(before);
    let Ok(first) = read_partly(&base, &Scope::Whole) else { return };
    let again = read_again(&Overlay::new(&base, &changed), &first, &changed);
    match (again, read_partly(&Memory(after), &Scope::Whole)) {
        (Ok(again), Ok(anew)) => assert_eq!(all_of(again), all_of(anew), "{changed:#?}"),
        (Err(again), Err(anew)) => assert_eq!(again.to_string(), anew.to_string(), "{changed:#?}"),
        (again, anew) => panic!("{:?} and {:?}: {changed:#?}", again.err(), anew.err()),
    }
}

#[test]
fn every_single_change_leads_to_the_same_ledger_as_reading_anew() {
    let files = files();
    for beside in 0..3 {
        for (at, (_, texts)) in files.iter().enumerate() {
            for (from, to) in (0..texts.len()).flat_map(|from| (0..texts.len()).map(move |to| (from, to))) {
                let (mut before, mut after) = (vec![beside; files.len()], vec![beside; files.len()]);
                (before[at], after[at]) = (from, to);
                compared(&before, &after);
            }
        }
    }
}

#[test]
fn what_a_change_does_not_touch_is_not_read_again() {
    let base = Memory(with_a_folder());
    for (path, at, kept) in [
        ("ledger.toml", 1, &["boat", "desk"][..]),
        ("waivers.toml", 1, &["boat", "desk"]),
        ("units/desk.toml", 1, &["boat"]),
        ("stages/test/desk.toml", 1, &["boat"]),
        ("stages/test/desk+left.toml", 1, &["boat"]),
        ("stages/dev.toml", 1, &[]),
        // A default of a shared entry, another one, one that moves those behind it, and what its fields may be.
        ("shared.toml", 1, &["boat", "desk"]),
        ("shared.toml", 2, &["boat", "desk"]),
        ("shared.toml", 4, &["boat"]),
        ("shared.toml", 5, &["boat"]),
    ] {
        let (_, others) = files().into_iter().find(|(known, _)| *known == path).unwrap();
        let changed = Changed::from([(path.to_owned(), Some(others[at].clone()))]);
        let first = read_partly(&base, &Scope::Whole).unwrap();
        let again = read_again(&Overlay::new(&base, &changed), &first, &changed).unwrap();
        let same = first.units.iter().filter(|unit| again.units.iter().any(|it| Arc::ptr_eq(it, unit)));
        assert_eq!(same.map(|unit| unit.name.as_str()).collect::<Vec<_>>(), kept, "{path}: {at}");
    }
}

/// Of a unit whose shared entries have other numbers, the settings are still not read again.
#[test]
fn shared_entries_that_move_leave_settings_as_they_were_read() {
    let base = Memory(with_a_folder());
    let first = read_partly(&base, &Scope::Whole).unwrap();
    let (_, others) = files().into_iter().find(|(path, _)| *path == "shared.toml").unwrap();
    let changed = Changed::from([("shared.toml".to_owned(), Some(others[4].clone()))]);
    let again = read_again(&Overlay::new(&base, &changed), &first, &changed).unwrap();
    let desk = |ledger: &Ledger| ledger.unit(ledger.unit_id("desk").unwrap()).settings.clone();
    assert!(desk(&first).iter().zip(&desk(&again)).all(|(one, other)| Arc::ptr_eq(one, other)));
}

/// The first texts of all files, and a stage that is a folder.
fn with_a_folder() -> BTreeMap<String, String> {
    let mut chosen = [0; 17];
    chosen[9] = 1;
    texts(&chosen)
}

/// All that is otherwise than it was leads back, keys, too; what nobody read does not, unless something was missing.
#[test]
fn the_way_back_names_what_is_otherwise() {
    let mut files = with_a_folder();
    files.insert("keys/stages/dev.age".to_owned(), "one".to_owned());
    let now = Memory(files);
    let ledger = read_partly(&now, &Scope::Whole).unwrap();
    let read = "units/desk.toml";
    for (path, then, leads_back) in [
        (read, Some("about = \"then\"\n"), true),
        (read, None, true),
        (read, now.0.get(read).map(String::as_str), false),
        ("units/new.toml", Some(""), true),
        ("keys/stages/dev.age", Some("other"), true),
        ("keys/stages/dev.age", None, true),
        ("keys/stages/test.age", Some("new"), true),
        ("keys/stages/dev.age", Some("one"), false),
        ("read/by/nobody.csv", Some("a,b\n"), false),
    ] {
        let mut earlier = now.clone();
        match then {
            Some(text) => earlier.0.insert(path.to_owned(), text.to_owned()),
            None => earlier.0.remove(path),
        };
        let back = way_back((&ledger, &now), &earlier);
        let expected = [(path.to_owned(), then.map(str::to_owned))];
        assert_eq!(back, expected.into_iter().filter(|_| leads_back).collect(), "{path}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, ..ProptestConfig::default() })]

    #[test]
    fn several_changes_lead_to_the_same_ledger_as_reading_anew(
        before in prop::collection::vec(0..3_usize, 17),
        changes in prop::collection::vec((0..17_usize, 0..5_usize), 1..5),
    ) {
        let mut after = before.clone();
        for (file, to) in changes {
            after[file] = to;
        }
        compared(&before, &after);
    }
}
