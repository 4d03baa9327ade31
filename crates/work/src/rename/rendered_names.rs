//! The names of rendered files that change when a unit, an instance or a stage gets another name.

use std::collections::BTreeMap;

use cledger_core::address::Address;
use cledger_core::model::{Ledger, Output, StageId, Subject};
use cledger_core::output::as_text;

/// A name of a rendered file, or in one, that becomes another.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct RenderedName {
    /// Of which unit or instance, in which stage, as it was called.
    pub of: String,
    /// What it was.
    pub before: String,
    /// What it will be.
    pub after: String,
}

/// Those that differ after a change by which addresses become others.
pub(super) fn differing(
    before: &Ledger,
    after: &Ledger,
    moved: &dyn Fn(&Address) -> Address,
) -> Vec<RenderedName> {
    let mut changes = Vec::new();
    for stage in before.stage_ids() {
        for subject in before.subjects_in(stage) {
            let at = before.address_in(subject, stage);
            let now = moved(&at);
            if now == at {
                continue;
            }
            let Some((now_subject, now_stage)) = after.subject_at(&now) else { continue };
            let (old, new) = (names(before, subject, stage), names(after, now_subject, now_stage));
            for (key, old) in &old {
                if let Some(new) = new.get(key).filter(|new| *new != old) {
                    changes.push(RenderedName {
                        of: at.to_string(),
                        before: old.clone(),
                        after: new.clone(),
                    });
                }
            }
        }
    }
    changes.sort();
    changes.dedup();
    changes
}

/// The path of each output, the name of each manifest, and the names in each file that say more than the contract does
/// of itself; by the output's place and what it is.
fn names(ledger: &Ledger, subject: Subject, stage: StageId) -> BTreeMap<(usize, String), String> {
    let Subject::Unit(unit, _) = subject else { return BTreeMap::new() };
    let mut names = BTreeMap::new();
    for (at, output) in ledger.unit(unit).outputs.iter().enumerate().filter(|(_, output)| output.is_in(stage))
    {
        if let Ok(path) = output.path.expand(ledger, subject, stage) {
            names.insert((at, "path".to_owned()), path.into_owned());
        }
        if let Some(name) = manifest_name(ledger, output, subject, stage) {
            names.insert((at, "manifest".to_owned()), format!("manifest {name}"));
        }
        let in_file = output.names_in(ledger, subject, stage).unwrap_or_default();
        for (number, (name, _)) in in_file.iter().enumerate() {
            names.insert((at, format!("name {number}")), as_text(output.format, name));
        }
    }
    names
}

fn manifest_name(ledger: &Ledger, output: &Output, subject: Subject, stage: StageId) -> Option<String> {
    if !output.format.is_manifest() {
        return None;
    }
    match &output.manifest_name {
        Some(name) => name.expand(ledger, subject, stage).ok().map(std::borrow::Cow::into_owned),
        None => Some(ledger.owner(subject).to_string().replace(['+', '_'], "-")),
    }
}
