//! What is rendered for a subject in a stage, before any file is written.

use std::collections::{BTreeMap, BTreeSet};

use crate::findings::{self, Finding};
use crate::model::{Ledger, Output, StageId, Subject, UnitId};
use crate::output::{self, OutputName};
use crate::resolve::{Effective, FieldId, Outcome, Session};
use crate::tree::Tree;
use crate::value::Value;

/// One file that is rendered.
#[derive(Debug, Clone)]
pub struct RenderedOutput<'l> {
    /// What the contract says of it.
    pub output: &'l Output,
    /// The values in it, by their names there.
    pub values: BTreeMap<OutputName, (FieldId, Effective<'l>)>,
    /// The fields that should be in it and have no value.
    pub lacking: BTreeMap<OutputName, FieldId>,
}

impl RenderedOutput<'_> {
    /// Whether it holds a secret.
    pub fn is_secret(&self) -> bool {
        self.values.values().any(|(_, effective)| effective.secret)
    }

    /// The tree to be written. It holds secrets in the open.
    pub fn tree(&self) -> Tree {
        let mut tree = Tree::default();
        for (name, (_, effective)) in &self.values {
            if let Some(value) = effective.expose() {
                tree.insert(name, as_written(value));
            }
        }
        tree
    }
}

/// A value as files hold it: days as text.
pub(crate) fn as_written(value: &Value) -> Value {
    match value {
        Value::Date(_) | Value::Time(_) => Value::Text(value.to_text()),
        other => other.clone(),
    }
}

/// All files of a subject in a stage.
#[derive(Debug, Clone)]
pub struct Rendering<'l> {
    /// Whose.
    pub subject: Subject,
    /// Where.
    pub stage: StageId,
    /// The files, in the contract's order.
    pub outputs: Vec<RenderedOutput<'l>>,
    /// What keeps it from being whole: fields without the value they need, or with a wrong one.
    pub gaps: Vec<Finding>,
    /// Secrets in the files whose keys are not at hand.
    pub unreadable: Vec<FieldId>,
}

impl Rendering<'_> {
    /// Leaves all secrets out, and what keeps them from having a value.
    pub fn without_secrets(&mut self) {
        for output in &mut self.outputs {
            output.values.retain(|_, (_, effective)| !effective.secret);
        }
        self.gaps.retain(|gap| !gap.hides_value);
        self.unreadable.clear();
    }
}

/// Works out what is rendered for a subject that belongs to the stage.
pub fn rendering<'l>(session: &mut Session<'_, 'l>, subject: Subject, stage: StageId) -> Rendering<'l> {
    let ledger = session.ledger();
    let mut gaps = Vec::new();
    let mut outcomes: Vec<Outcome<'l>> = Vec::new();
    for slot in ledger.slots(subject).all() {
        let field = FieldId { subject, stage, slot };
        gaps.extend(findings::of_field(session, field));
        gaps.extend(findings::of_rows(session, field));
        outcomes.push(session.outcome(field));
    }
    let outputs = outputs_of(ledger, subject).map(|(unit, output)| {
        let names = output::names(ledger, unit, output);
        let (mut values, mut lacking) = (BTreeMap::new(), BTreeMap::new());
        for (name, slot) in names {
            let field = FieldId { subject, stage, slot };
            match &outcomes[slot.0 as usize] {
                Outcome::Value(effective) => drop(values.insert(name, (field, effective.clone()))),
                Outcome::Missing(..) | Outcome::Broken(_) => drop(lacking.insert(name, field)),
                Outcome::Absent(_) | Outcome::Unset => {}
            }
        }
        RenderedOutput { output, values, lacking }
    });
    let outputs: Vec<RenderedOutput<'l>> = outputs.collect();
    let values = outputs.iter().flat_map(|output| output.values.values());
    let unreadable = values.filter(|(_, value)| value.unread().is_some()).map(|(field, _)| *field);
    let unreadable: BTreeSet<FieldId> = unreadable.collect();
    Rendering { subject, stage, gaps, unreadable: unreadable.into_iter().collect(), outputs }
}

/// The outputs that are rendered for a subject.
fn outputs_of(ledger: &Ledger, subject: Subject) -> impl Iterator<Item = (UnitId, &Output)> {
    let unit = match subject {
        Subject::Shared => None,
        Subject::Unit(unit, _) => Some(unit),
    };
    unit.into_iter().flat_map(|unit| ledger.unit(unit).outputs.iter().map(move |output| (unit, output)))
}

impl Ledger {
    /// The units and instances that belong to a stage, by name.
    pub fn subjects_in(&self, stage: StageId) -> impl Iterator<Item = Subject> {
        self.unit_ids().filter(move |&unit| self.unit(unit).belongs_to(stage, None)).flat_map(move |unit| {
            let instances = self.unit(unit).instances_in(stage).map(Some);
            std::iter::once(None).chain(instances).map(move |it| Subject::Unit(unit, it))
        })
    }
}
