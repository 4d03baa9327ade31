//! What is rendered for a subject in a stage, before any file is written.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use compact_str::CompactString;

use crate::findings::{self, Finding};
use crate::json::Json;
use crate::model::{
    Apart, Ledger, NoLabel, Output, OutputFormat, OutputOrder, Slot, StageId, StageText, Subject, UnitId,
    expand_stage_text,
};
use crate::output::{OutputName, clash};
use crate::resolve::{Effective, FieldId, Outcome, Session};
use crate::tree::{Branch, Order, Tree};
use crate::types::Type;
use crate::value::Value;

/// One file that is rendered.
#[derive(Debug, Clone)]
pub struct RenderedOutput<'l> {
    /// What the contract says of it.
    pub output: &'l Output,
    /// Its path below the folder of the unit.
    pub path: String,
    /// The name of the manifest that it is, if it is one.
    pub manifest_name: String,
    /// What stands at its start, as a comment.
    pub header: Option<String>,
    /// In which order the names stand.
    pub order: Order,
    /// The values in it, by their names there.
    pub values: BTreeMap<OutputName, (FieldId, Effective<'l>)>,
    /// The fields that should be in it and have no value.
    pub lacking: BTreeMap<OutputName, Lacking>,
    /// The names of those that are JSON.
    json: BTreeSet<OutputName>,
    /// What stands there beside the values: what a template knows of the stage and the unit, what a manifest says
    /// beside its data.
    around: Tree,
}

impl RenderedOutput<'_> {
    /// Whether it holds a secret.
    pub fn is_secret(&self) -> bool {
        self.values.values().any(|(_, effective)| effective.is_secret())
    }

    /// What the file says beside its values, by name.
    pub fn beside(&self) -> BTreeMap<OutputName, &Value> {
        let is_template = self.output.template.is_some();
        let mut beside = if is_template { BTreeMap::new() } else { self.around.leaves() };
        // A document with nothing beside its data.
        beside.retain(|_, value| !matches!(value, Value::Map(level) if level.is_empty()));
        beside
    }

    /// The tree to be written. It holds secrets in the open.
    pub fn tree(&self) -> Tree {
        let mut tree = self.around.clone();
        for (name, (_, effective)) in &self.values {
            if let Some(value) = effective.expose()
                && !(self.is_apart(name) && value.is_empty_map())
            {
                tree.insert(name, self.as_written(name, value));
            }
        }
        tree
    }
}

impl RenderedOutput<'_> {
    /// A value as this file holds it: as text where that is all it knows, what is JSON as what that says.
    pub fn as_written(&self, name: &OutputName, value: &Value) -> Value {
        if let Some(apart) = self.apart(name) {
            return rows_of_texts(value, &apart.columns);
        }
        let json = value.as_text().filter(|_| self.json.contains(name)).map(Json::parse);
        match (json, self.output.format) {
            (Some(Ok(json)), OutputFormat::Xml) => json.into_texts(),
            (Some(Ok(json)), format) if !format.knows_text_alone() => json.into_value(),
            (_, format) if format.knows_text_alone() => Value::Text(value.to_text()),
            _ => as_written(value),
        }
    }

    /// Whether a name is that of a lookup table whose rows are kept apart; without rows there is nothing of it.
    pub fn is_apart(&self, name: &[String]) -> bool {
        self.apart(name).is_some()
    }

    fn apart(&self, name: &[String]) -> Option<&Apart> {
        self.output.apart.iter().find(|apart| matches!(name, [name] if name == apart.entry.as_str()))
    }
}

/// The rows of a lookup table with nothing but texts in the columns that it has where it is kept apart: so they are compared
/// with what a table of a database has, whatever types its columns have.
fn rows_of_texts(rows: &Value, columns: &[String]) -> Value {
    let Value::Map(rows) = rows else { return rows.clone() };
    let row = |row: &Value| {
        let Value::Map(cells) = row else { return row.clone() };
        let known = cells.iter().filter(|(name, _)| columns.iter().any(|column| **column == ***name));
        Value::Map(known.map(|(name, cell)| (name.clone(), Value::Text(cell.to_text()))).collect())
    };
    Value::Map(rows.iter().map(|(key, cells)| (key.clone(), row(cells))).collect())
}

/// What stands under a name of rows: text, but of a lookup table that is kept apart its rows.
pub fn value_of_row(apart: &[Apart], name: &str, text: &str) -> Value {
    let rows = || match Value::from_json(serde_json::from_str(text).ok()?)? {
        rows @ Value::Map(_) => Some(rows),
        _ => None,
    };
    let is_apart = apart.iter().any(|apart| apart.entry.as_str() == name);
    is_apart.then(rows).flatten().unwrap_or_else(|| Value::text(text))
}

/// A value as files hold it: days as text.
pub fn as_written(value: &Value) -> Value {
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
            output.values.retain(|_, (_, effective)| !effective.is_secret());
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
    let mut outputs: Vec<RenderedOutput<'l>> = Vec::new();
    for (unit, output) in outputs_of(ledger, subject).filter(|(_, output)| output.is_in(stage)) {
        match rendered(ledger, output, (subject, stage), |slot| outcomes[slot.0 as usize].clone()) {
            Ok(output) => outputs.push(output),
            Err(no_label) => gaps.push(findings::no_label(ledger, unit, output, stage, &no_label)),
        }
    }
    let values = outputs.iter().flat_map(|output| output.values.values());
    let unreadable = values.filter(|(_, value)| value.unread().is_some()).map(|(field, _)| *field);
    let unreadable: BTreeSet<FieldId> = unreadable.collect();
    Rendering {
        subject,
        stage,
        gaps,
        unreadable: unreadable.into_iter().collect(),
        outputs: by_path(outputs),
    }
}

/// Whether something keeps what is rendered for a subject from being whole: whether [`rendering`] has gaps.
pub fn has_gaps(session: &mut Session<'_, '_>, subject: Subject, stage: StageId) -> bool {
    let ledger = session.ledger();
    let mut fields = ledger.slots(subject).all().map(|slot| FieldId { subject, stage, slot });
    // Only what refers to the stage can lack a label.
    let varies = |output: &Output| {
        let is_named = |slot| ledger.field(subject, slot).1.output_names().vary();
        output.varies() || !output.beside.is_empty() || ledger.slots(subject).all().any(is_named)
    };
    let lacks_label = |(_, output): (UnitId, &Output)| {
        let nothing = |_| Outcome::Unset;
        output.is_in(stage) && varies(output) && rendered(ledger, output, (subject, stage), nothing).is_err()
    };
    findings::has_gaps(session, subject, stage)
        || fields.any(|field| !findings::of_rows(session, field).is_empty())
        || outputs_of(ledger, subject).any(lacks_label)
}

/// One for all manifests that have one path, whose values stand below their kinds and names.
fn by_path(outputs: Vec<RenderedOutput<'_>>) -> Vec<RenderedOutput<'_>> {
    let is_several = |one: &RenderedOutput<'_>| {
        let same = |other: &&RenderedOutput<'_>| other.output.format.is_manifest() && other.path == one.path;
        one.output.format.is_manifest() && outputs.iter().filter(same).count() > 1
    };
    let several: Vec<bool> = outputs.iter().map(is_several).collect();
    let mut made: Vec<RenderedOutput<'_>> = Vec::new();
    for (mut one, is_several) in outputs.into_iter().zip(several) {
        if !is_several {
            made.push(one);
            continue;
        }
        one.move_below(&one.document());
        let known = made.iter_mut().find(|known| known.output.format.is_manifest() && known.path == one.path);
        match known {
            Some(known) => known.join(one),
            None => made.push(one),
        }
    }
    made
}

impl RenderedOutput<'_> {
    /// What a document is called among several in one file: its kind and name.
    fn document(&self) -> String {
        format!("{}/{}", self.output.format.manifest_kind().unwrap_or_default(), self.manifest_name)
    }

    /// Puts everything in it a level down.
    fn move_below(&mut self, step: &str) {
        fn below<T>(step: &str, named: BTreeMap<OutputName, T>) -> BTreeMap<OutputName, T> {
            named.into_iter().map(|(name, it)| ([vec![step.to_owned()], name].concat(), it)).collect()
        }
        self.values = below(step, std::mem::take(&mut self.values));
        self.lacking = below(step, std::mem::take(&mut self.lacking));
        self.order = std::mem::take(&mut self.order).below(step);
        let around = Value::Map(std::mem::take(&mut self.around).0);
        // It is there, even with nothing in it.
        self.around = Tree([(step.into(), around)].into());
    }
}

impl<'l> RenderedOutput<'l> {
    fn join(&mut self, other: RenderedOutput<'l>) {
        self.values.extend(other.values);
        self.lacking.extend(other.lacking);
        self.order.extend(other.order);
        self.around.0.extend(other.around.0);
        let headers = [self.header.take(), other.header].into_iter().flatten();
        self.header = headers.reduce(|one, other| if one == other { one } else { format!("{one}\n{other}") });
    }
}

/// Why nothing can be made for an outlet.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ContentError {
    /// A name refers to a label that the stage lacks.
    #[error(transparent)]
    NoLabel(#[from] NoLabel),
    /// Two fields have one name there.
    #[error("`{0}` and `{1}` have one name there, `{2}`")]
    Clash(String, String, String),
}

/// Works out what of a subject stands in an outlet that holds names and values, in place of files.
pub fn content<'l>(
    session: &mut Session<'_, 'l>,
    output: &'l Output,
    subject: Subject,
    stage: StageId,
) -> Result<RenderedOutput<'l>, ContentError> {
    let ledger = session.ledger();
    if let Some((name, one, other)) = clash(&output.names_in(ledger, subject, stage)?) {
        let address = |slot| ledger.address(FieldId { subject, stage, slot }).to_string();
        return Err(ContentError::Clash(address(one), address(other), name.join(".")));
    }
    let outcome = |slot| session.outcome(FieldId { subject, stage, slot });
    Ok(rendered(ledger, output, (subject, stage), outcome)?)
}

/// A field that has no value, although it needs one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lacking {
    /// The field.
    pub field: FieldId,
    /// Whether its value would be a secret, or may be: by its declaration, or as its text refers to others.
    pub may_be_secret: bool,
}

/// One file, made of the outcomes by slot.
fn rendered<'l>(
    ledger: &'l Ledger,
    output: &'l Output,
    (subject, stage): (Subject, StageId),
    mut outcome: impl FnMut(Slot) -> Outcome<'l>,
) -> Result<RenderedOutput<'l>, NoLabel> {
    let (mut values, mut lacking) = (BTreeMap::new(), BTreeMap::new());
    let mut json = BTreeSet::new();
    for (name, slot) in output.names_in(ledger, subject, stage)? {
        let field = FieldId { subject, stage, slot };
        if ledger.field(subject, slot).1.this_type == Type::Json {
            json.insert(name.clone());
        }
        match outcome(slot) {
            Outcome::Value(effective) if output.secrets.takes(effective.is_secret()) => {
                values.insert(name, (field, effective));
            }
            outcome @ (Outcome::Missing(..) | Outcome::Broken(_)) => {
                let declared = ledger.field(subject, slot).1.secret;
                if output.secrets.takes(declared) {
                    let may_be_secret = declared || !outcome.is_of_nothing();
                    lacking.insert(name, Lacking { field, may_be_secret });
                }
            }
            _ => {}
        }
    }
    let text = |text: &StageText| text.expand(ledger, subject, stage).map(Cow::into_owned);
    let path = text(&output.path)?;
    let manifest_name = match &output.manifest_name {
        Some(name) => text(name)?,
        None => ledger.owner(subject).to_string().replace(['+', '_'], "-"),
    };
    let around = if output.template.is_some() {
        around(ledger, subject, stage)
    } else {
        beside(&output.beside, (ledger, subject, stage))?
    };
    let header = output.header.clone();
    let order = order(ledger, subject, output, &values);
    Ok(RenderedOutput { output, path, manifest_name, header, order, values, lacking, json, around })
}

/// The order of an output's names.
fn order(
    ledger: &Ledger,
    subject: Subject,
    output: &Output,
    values: &BTreeMap<OutputName, (FieldId, Effective<'_>)>,
) -> Order {
    if output.order == OutputOrder::ByName {
        return Order::default();
    }
    let rank = |slot: Slot| {
        let (entry, position) = ledger.slots(subject).entry_of(slot);
        let shared = entry.entry.shared();
        (shared, ledger.entry(subject, entry.entry).place.start, position)
    };
    let mut names: Vec<(_, &OutputName)> =
        values.iter().map(|(name, (field, _))| (rank(field.slot), name)).collect();
    names.sort_unstable();
    Order::of(names.into_iter().map(|(_, name)| name))
}

/// What a file says beside its values, below steps that begin with `/`.
fn beside(said: &Branch, around: (&Ledger, Subject, StageId)) -> Result<Tree, NoLabel> {
    fn expanded(value: &Value, around: (&Ledger, Subject, StageId)) -> Result<Value, NoLabel> {
        Ok(match value {
            Value::Text(text) => Value::text(&expand_stage_text(text, around.0, around.1, around.2)?),
            Value::List(items) => {
                Value::List(items.iter().map(|item| expanded(item, around)).collect::<Result<_, _>>()?)
            }
            Value::Map(level) => {
                let pair =
                    |(name, value): (&CompactString, &Value)| Ok((name.clone(), expanded(value, around)?));
                Value::Map(level.iter().map(pair).collect::<Result<_, _>>()?)
            }
            other => other.clone(),
        })
    }
    let pair = |(name, value): (&CompactString, &Value)| {
        Ok((compact_str::format_compact!("/{name}"), expanded(value, around)?))
    };
    said.iter().map(pair).collect::<Result<_, _>>().map(Tree)
}

/// `stage` with its name, class and labels, and `unit` with its name, instance and version.
fn around(ledger: &Ledger, subject: Subject, stage: StageId) -> Tree {
    let stage = ledger.stage(stage);
    let owner = ledger.owner(subject);
    let (unit, instance) = owner.names();
    let version = ledger.unit_id(unit).and_then(|id| ledger.unit(id).version.as_deref());
    let labels = stage.labels.iter().map(|(name, label)| (name.as_str().replace('-', "_"), label.as_str()));
    let texts = [
        (["stage", "name"], stage.name.as_str()),
        (["stage", "class"], stage.class.name()),
        (["unit", "name"], unit),
        (["unit", "instance"], instance.unwrap_or_default()),
        (["unit", "version"], version.unwrap_or_default()),
    ];
    let mut tree = Tree::default();
    for (steps, text) in texts {
        tree.insert(&steps.map(str::to_owned), Value::text(text));
    }
    for (name, label) in labels {
        tree.insert(&["stage".to_owned(), "label".to_owned(), name], Value::text(label));
    }
    tree
}

/// The outputs that are rendered for a subject.
fn outputs_of(ledger: &Ledger, subject: Subject) -> impl Iterator<Item = (UnitId, &Output)> {
    let unit = match subject {
        Subject::Shared => None,
        Subject::Unit(unit, _) => Some(unit),
    };
    unit.into_iter().flat_map(|unit| ledger.unit(unit).outputs.iter().map(move |output| (unit, output)))
}
