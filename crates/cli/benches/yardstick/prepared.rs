//! What a ledger has beside its files before commands are measured: two commits, an outlet, and a daybook.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Arc;

use cledger_core::cipher::KeyScope;
use cledger_core::kept::Kept;
use cledger_core::name::Name;
use cledger_store::daybook::{Content, Daybook, EMBEDDED, Kind, Meta, SqliteDaybook};
use cledger_store::{Identity, Keys, Memory, SecretString};

use crate::ledger::{Measure, stage_name};
use crate::measure::prepare;

/// How many deliveries of each unit are recorded.
const DELIVERIES: usize = 5;

/// Puts the ledger under version control, with one setting changed since the first commit.
pub(crate) fn commit_twice(folder: &Path) {
    let git = |arguments: &[&str]| {
        let who = ["-c", "user.name=Ada", "-c", "user.email=ada@yardstick.example", "-c", "core.hooksPath="];
        prepare("git", folder, &[&who, arguments].concat());
    };
    fs::write(folder.join(".gitignore"), ".cledger/\n").unwrap();
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-q", "-m", "Begin"]);
    let path = folder.join(format!("stages/{}/unit-10.toml", stage_name(1)));
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("https://", "http://")).unwrap();
    git(&["commit", "-q", "-a", "-m", "Change an address"]);
}

/// Records deliveries of all units to one stage.
pub(crate) fn record(folder: &Path, measure: Measure, stage: &str) -> usize {
    let nobody = Identity::at(None, Arc::new(|_: &str| None::<SecretString>));
    let keys = Keys::new(Memory::default(), Arc::new(nobody));
    let scope = KeyScope::Stage(Name::parse(stage).unwrap());
    fs::create_dir_all(folder.join(".cledger")).unwrap();
    let mut book = SqliteDaybook::open(&folder.join(EMBEDDED)).unwrap();
    for delivery in 0..DELIVERIES {
        for unit in 0..measure.units {
            let unit = format!("unit-{unit}");
            let time = "2026-11-25T10:00:00Z".to_owned();
            let mut meta = Meta::new(&unit, stage, Kind::Delivered, "ada".to_owned(), "because", time);
            let value =
                |number| (format!("value-{number}"), Kept::new(format!("\"{delivery}s\"").into(), false));
            let values: BTreeMap<String, Kept> = (0..20).map(value).collect();
            let content = Content { fields: values.keys().cloned().collect(), values, ..Content::default() };
            let (packed, hashes) = content.pack(&keys, &scope, (&unit, stage)).unwrap();
            (meta.open, meta.secrets) = (hashes.open, hashes.secrets);
            book.record(meta, &packed, None).unwrap();
        }
    }
    DELIVERIES * measure.units
}
