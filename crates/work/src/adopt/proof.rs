//! The proof that adopting loses nothing: every file is rendered from the ledger to be, read again, and
//! compared with what it was.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::adopt::{NotPlaced, flattened};
use cledger_core::model::{Ledger, StageId, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::render::{Rendering, rendering};
use cledger_core::resolve::{Layer, Outside, Resolver};
use cledger_core::tree::{Branch, Tree};
use cledger_core::value::Value;
use cledger_formats::{particulars, text_of};
use similar::{ChangeTag, TextDiff};

use crate::adopt::files::Files;
use crate::adopt::tables::FoundTable;
use crate::existing;

/// What came of the proof.
#[derive(Debug, Default)]
pub(crate) struct Proof {
    /// How many values come back.
    pub(crate) values: usize,
    /// How many cells of lookup tables do.
    pub(crate) cells: usize,
    /// Names that do not, or come in addition, each with its file.
    pub(crate) failed: Vec<(OutputName, usize)>,
    /// Lookup tables that do not, each with its outlet.
    pub(crate) failed_tables: Vec<(Name, String)>,
    /// Names that come in addition because the stage follows another or has groups, each with its file.
    pub(crate) added: Vec<(OutputName, usize)>,
    /// How the rendered texts differ from those of the files.
    pub(crate) text: TextDifference,
    /// Files that cannot be rendered at all, and why.
    pub(crate) broken: Vec<(usize, String)>,
}

/// How texts differ, in lines.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct TextDifference {
    /// How many lines the files have.
    pub lines: usize,
    /// How many of them are not in what is rendered, at their place.
    pub gone: usize,
    /// How many lines are there in addition.
    pub come: usize,
}

impl TextDifference {
    fn add(&mut self, old: &str, new: &str) {
        let diff = TextDiff::from_lines(old, new);
        let count = |tag: ChangeTag| diff.iter_all_changes().filter(|change| change.tag() == tag).count();
        self.lines += old.lines().count();
        self.gone += count(ChangeTag::Delete);
        self.come += count(ChangeTag::Insert);
    }
}

/// What is to be proven.
pub(crate) struct Claim<'c> {
    pub(crate) files: &'c Files,
    /// The names in each file as contracts have them.
    pub(crate) names: &'c [BTreeMap<OutputName, OutputName>],
    /// Which output of the unit each output of the files is.
    pub(crate) outputs: &'c [usize],
    /// What is known not to come back.
    pub(crate) left_out: &'c [NotPlaced],
    /// Addresses that the ledger keeps and a file has no more.
    pub(crate) gone: &'c [(String, usize)],
    /// What the ledger says otherwise, and keeps: the stage, and the output with the name there.
    pub(crate) kept: &'c BTreeSet<(StageId, usize, OutputName)>,
    /// Lookup tables with a table of their own.
    pub(crate) tables: &'c [FoundTable],
}

/// Renders all files and compares them.
pub(crate) fn prove(ledger: &Ledger, outside: &dyn Outside, unit: UnitId, claim: &Claim<'_>) -> Proof {
    let Claim { files, names, outputs, left_out, gone, kept, tables } = claim;
    let resolver = Resolver::new(ledger, outside, &[]);
    let mut proof = Proof::default();
    let gone: BTreeSet<&(String, usize)> = gone.iter().collect();
    let subject = Subject::Unit(unit, None);
    let render = |stage: &StageId| rendering(&mut resolver.session(Some(unit)), subject, *stage);
    let renderings: BTreeMap<StageId, Rendering<'_>> =
        files.stages.iter().map(|stage| (*stage, render(stage))).collect();
    for table in *tables {
        match table.prove(&mut resolver.session(Some(unit)), unit) {
            Ok(cells) => proof.cells += cells,
            Err(outlet) => proof.failed_tables.push((table.entry.clone(), outlet.to_owned())),
        }
    }
    for (at, file) in files.old.iter().enumerate() {
        let rendering = &renderings[&file.stage];
        let output = &ledger.unit(unit).outputs[outputs[file.output]];
        let path = output.path.expand(ledger, subject, file.stage);
        let found = rendering.outputs.iter().find(|it| path.as_ref().is_ok_and(|path| it.path == **path));
        let Some(rendered) = found else {
            proof.broken.push((at, "its path or its names cannot be made".to_owned()));
            continue;
        };
        let path = &files.paths[at];
        let is_first = files.paths.iter().position(|other| other == path) == Some(at);
        let read = text_of(rendered).map_err(|error| error.to_string()).and_then(|made| {
            if let Some(old) = files.texts.get(path).filter(|_| is_first) {
                proof.text.add(old, &made.text);
            }
            let read = existing::read(&made.text, file.format, particulars(rendered));
            read.map_err(|error| error.to_string())
        });
        let beside = files.beside.get(&at);
        let document = beside.and_then(|beside| beside.document.as_deref());
        let now: BTreeMap<OutputName, Value> = match read {
            Ok(found) => flattened(document.map_or(&found.tree.0, |document| level(&found.tree, document)))
                .into_iter()
                .collect(),
            Err(reason) => {
                proof.broken.push((at, reason));
                continue;
            }
        };
        let is_left_out: BTreeSet<&OutputName> =
            left_out.iter().filter_map(|it| it.names.get(&file.output)).collect();
        let mut before: BTreeMap<OutputName, Value> = flattened(&file.tree.0).into_iter().collect();
        before.extend(beside.iter().flat_map(|beside| flattened(&beside.names.0)));
        for (name, value) in &before {
            let written = names[at].get(name).unwrap_or(name);
            match now.get(name) {
                Some(same) if same == value => proof.values += 1,
                _ if is_left_out.contains(written) => {}
                _ if kept.contains(&(file.stage, file.output, written.clone())) => {}
                _ => proof.failed.push((name.clone(), at)),
            }
        }
        for name in now.keys().filter(|name| !before.contains_key(*name) && !is_left_out.contains(name)) {
            let full =
                document.into_iter().map(str::to_owned).chain(name.iter().cloned()).collect::<Vec<_>>();
            let value = rendered.values.get(&full);
            let address = value.map(|(field, _)| ledger.address(*field).to_string());
            // The ledger keeps what a file has no more, and says so.
            if address.is_some_and(|address| gone.contains(&(address, at))) {
                continue;
            }
            let list = match value.map(|(_, effective)| effective.origin.layer) {
                Some(Layer::Follow(_) | Layer::Group(_)) => &mut proof.added,
                _ => &mut proof.failed,
            };
            list.push((name.clone(), at));
        }
    }
    proof
}

/// What is below a name; nothing where that is no level.
fn level<'t>(tree: &'t Tree, name: &str) -> &'t Branch {
    static NOTHING: Branch = Branch::new();
    match tree.0.get(name) {
        Some(Value::Map(level)) => level,
        _ => &NOTHING,
    }
}
