//! Saying where a value came from.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::model::Ledger;
use cledger_core::resolve::{Layer, Origin};
use serde::Serialize;

pub(crate) use cledger_work::shown::origin as line;

/// Origins in short, by files that are named once.
#[derive(Default)]
pub(crate) struct Short {
    /// The files, by what stands for them, in the order of their layers.
    files: BTreeMap<(u8, String), BTreeSet<String>>,
}

impl Short {
    /// Where a value comes from in short: the layer, and the line in its file where it is none of the contract.
    pub(crate) fn line(&mut self, ledger: &Ledger, origin: Origin) -> String {
        let Some(place) = origin.place else { return line(ledger, origin) };
        let at = ledger.files.locate(place);
        let path = at.file.strip_suffix(".toml").unwrap_or(at.file);
        let stem = path.split_once('/').map_or(path, |(_, stem)| stem).to_owned();
        let mut short = |rank: u8, said: String, name: String| {
            self.files.entry((rank, name)).or_default().insert(at.file.to_owned());
            said
        };
        match origin.layer {
            Layer::Stage(_) => short(0, format!("{stem}:{}", at.line), stem),
            Layer::Follow(_) => short(1, format!("follows {stem}:{}", at.line), stem),
            Layer::Group(_) => short(2, format!("{stem}:{}", at.line), stem),
            Layer::Default => short(3, "default".to_owned(), "default".to_owned()),
            Layer::Derived => "derived".to_owned(),
            Layer::Run => line(ledger, origin),
        }
    }

    /// What stands for which files.
    pub(crate) fn files(&self) -> impl Iterator<Item = (&str, String)> {
        let joined = |files: &BTreeSet<String>| files.iter().cloned().collect::<Vec<_>>().join(", ");
        self.files.iter().map(move |((_, name), files)| (name.as_str(), joined(files)))
    }
}

/// An origin in a document.
#[derive(Debug, Serialize)]
pub(crate) struct OriginDocument<'l> {
    layer: &'static str,
    name: Option<&'l str>,
    file: Option<&'l str>,
    line: Option<usize>,
    column: Option<usize>,
}

/// An origin for a document.
pub(crate) fn document(ledger: &Ledger, origin: Origin) -> OriginDocument<'_> {
    let at = origin.place.map(|place| ledger.files.locate(place));
    OriginDocument {
        layer: origin.layer.word(),
        name: origin.layer.name(ledger),
        file: at.as_ref().map(|at| at.file),
        line: at.as_ref().map(|at| at.line),
        column: at.as_ref().map(|at| at.column),
    }
}
