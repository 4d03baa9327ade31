//! What a text's references lead to: other fields, or text that is known at once.

use std::sync::{Arc, PoisonError};

use compact_str::CompactString;

use super::FieldId;
use super::outcome::{Origin, Problem, ProblemCode};
use super::session::{Edge, ReadReference, Session};
use crate::model::{EntryRef, Ledger, NoSlot, SharedId, StageId, Subject};
use crate::name::{Name, nearest};
use crate::reference::{FieldName, Piece, Target, pieces};
use crate::value::Value;

/// Where a text with references stands, and for whom it is resolved.
#[derive(Clone, Copy)]
pub(super) struct Reader {
    pub(super) subject: Subject,
    pub(super) stage: StageId,
    /// Whether the text stands in a shared entry's declaration or under `[shared]`.
    pub(super) shared_text: bool,
}

impl Reader {
    /// Who reads what is said for a field, in shared text or not.
    pub(super) fn of(field: FieldId, shared_text: bool) -> Self {
        Self { subject: field.subject, stage: field.stage, shared_text }
    }
}

/// How many unknown references of one text are told apart in its message.
const MOST_REASONS: usize = 5;

impl<'l> Session<'_, 'l> {
    /// The edges of all references in a value, in the order in which expansion meets them.
    pub(super) fn value_edges(&mut self, reader: Reader, value: &'l Value, edges: &mut Vec<Edge<'l>>) {
        match value {
            Value::Text(text) => self.text_edges(reader, text, edges),
            Value::List(items) => {
                for item in items {
                    self.value_edges(reader, item, edges);
                }
            }
            Value::Map(map) => {
                for item in map.values() {
                    self.value_edges(reader, item, edges);
                }
            }
            _ => {}
        }
    }

    pub(super) fn text_edges(&mut self, reader: Reader, text: &'l str, edges: &mut Vec<Edge<'l>>) {
        for piece in pieces(text) {
            match piece {
                Piece::Literal(_) => {}
                Piece::Reference(inside) => edges.push(self.edge(reader, inside)),
                Piece::Unclosed(_) => edges.push(Edge::Bad(
                    "a `${` is not closed: write `}` after the name, or `$${` for a literal `${`".into(),
                )),
            }
        }
    }

    /// One problem for all references of a text that name nothing.
    pub(super) fn unknown_references(edges: &[Edge<'l>], origin: Origin) -> Vec<Problem> {
        let mut reasons: Vec<&str> = Vec::new();
        for edge in edges {
            if let Edge::Bad(reason) = edge
                && reasons.len() < MOST_REASONS
                && !reasons.contains(&reason.as_str())
            {
                reasons.push(reason);
            }
        }
        if reasons.is_empty() {
            return Vec::new();
        }
        let (code, path) = (ProblemCode::ReferenceUnknown, [].into());
        vec![Problem { code, detail: reasons.join("; "), path, origin }]
    }

    fn edge(&mut self, reader: Reader, inside: &'l str) -> Edge<'l> {
        match self.led(reader, inside) {
            Ok(Reached::Text(text)) => Edge::Text(text),
            Ok(Reached::Field(field)) => self.reach(field),
            Ok(Reached::Broken(path)) => Edge::Broken(path),
            Err(reason) => Edge::Bad(format!("`${{{inside}}}` names nothing: {reason}")),
        }
    }

    /// The edge to a field: its outcome if it is known already, else the field as a node.
    pub(super) fn reach(&mut self, field: FieldId) -> Edge<'l> {
        if !self.is_home(field.subject)
            && let Some(outcome) = self.resolver.seen.get(&field)
        {
            return Edge::Known(field, outcome);
        }
        Edge::Node(self.node(field))
    }

    /// What a reference leads to, if it leads anywhere.
    pub(super) fn reached(&mut self, reader: Reader, inside: &'l str) -> Option<Reached<'l>> {
        self.led(reader, inside).ok()
    }

    /// What a reference leads to. A unit meets the same texts in stage after stage, so what holds for all of them is
    /// found once.
    fn led(&mut self, reader: Reader, inside: &'l str) -> Result<Reached<'l>, String> {
        let known = self.references.get(inside);
        let (found, is_known) = (known.and_then(|known| known.found), known.is_some());
        let target = match known {
            Some(known) => known.target.clone(),
            None => Arc::new(Target::parse(inside)?),
        };
        if let (Target::OfUnit(_, _, name), Some((subject, slot))) = (&*target, found)
            && !reader.shared_text
        {
            let stage = self.named_stage(reader, name)?;
            self.must_belong(subject, stage)?;
            return Ok(Reached::Field(FieldId { subject, stage, slot }));
        }
        let reached = self.resolve_target(reader, &target);
        // Of a ledger that is read step by step it is noted for each stage what is lacking.
        let found = match (&*target, &reached) {
            (Target::OfUnit(..), Ok(Reached::Field(field))) if self.ledger().part.is_none() => {
                Some((field.subject, field.slot))
            }
            _ => None,
        };
        if found.is_some() || !is_known {
            self.references.insert(inside, ReadReference { target, found });
        }
        reached
    }

    fn resolve_target(&self, reader: Reader, target: &Target) -> Result<Reached<'l>, String> {
        let ledger = self.resolver.ledger();
        let stage = ledger.stage(reader.stage);
        let text = |text: &str| Ok(Reached::Text(CompactString::new(text)));
        if reader.shared_text {
            match target {
                Target::OfUnit(..) | Target::UnitName | Target::UnitInstance => {
                    return Err("shared text can name shared entries only, no units".to_owned());
                }
                _ => {}
            }
        }
        match target {
            Target::StageName => text(stage.name.as_str()),
            Target::StageClass => text(stage.class.name()),
            Target::StageLabel(label) => match stage.labels.get(label.as_str()) {
                Some(found) => text(found),
                None => Err(format!(
                    "stage `{}` has no label `{label}`{}",
                    stage.name,
                    near(label, stage.labels.keys().map(Name::as_str))
                )),
            },
            Target::UnitName | Target::UnitInstance => match reader.subject {
                Subject::Shared => Err("there is no unit here".to_owned()),
                Subject::Unit(id, instance) => {
                    let unit = ledger.unit(id);
                    if *target == Target::UnitName {
                        return text(unit.name.as_str());
                    }
                    text(instance.map_or("", |id| unit.instances[usize::from(id.0)].name.as_str()))
                }
            },
            Target::Own(name) if reader.shared_text => self.shared_as_seen(reader, name),
            Target::Own(name) => self.own(reader, name),
            Target::OfShared(name) => {
                if reader.shared_text {
                    self.shared_entry(name)?;
                } else {
                    self.needs_uses(reader.subject, name)?;
                }
                let stage = self.named_stage(reader, name)?;
                self.field_of(Subject::Shared, stage, name)
            }
            Target::OfUnit(unit, instance, name) => {
                self.must_be_read(Some(unit), self.named_stage(reader, name).unwrap_or(reader.stage))?;
                if let Some(file) = ledger.broken.of_unit(unit.as_str()).next() {
                    return Ok(Reached::Broken(&file.path));
                }
                let id = self.resolver.unit_id(unit.as_str()).ok_or_else(|| {
                    format!("there is no unit `{unit}`{}", near(unit.as_str(), ledger.unit_names()))
                })?;
                let known = ledger.unit(id);
                let instance = match instance {
                    None => None,
                    Some(instance) => Some(known.instance(instance.as_str()).ok_or_else(|| {
                        let names = known.instances.iter().map(|known| known.name.as_str());
                        let near = near(instance.as_str(), names);
                        format!("unit `{unit}` has no instance `{instance}`{near}")
                    })?),
                };
                let stage = self.named_stage(reader, name)?;
                self.must_belong(Subject::Unit(id, instance), stage)?;
                self.field_of(Subject::Unit(id, instance), stage, name)
            }
        }
    }

    fn own(&self, reader: Reader, name: &FieldName) -> Result<Reached<'l>, String> {
        let stage = self.named_stage(reader, name)?;
        self.must_belong(reader.subject, stage)?;
        self.field_of(reader.subject, stage, name)
    }

    /// A shared entry named in shared text: as the unit that is being resolved sees it, if it uses it there; plainly
    /// else.
    fn shared_as_seen(&self, reader: Reader, name: &FieldName) -> Result<Reached<'l>, String> {
        let (ledger, shared) = (self.resolver.ledger(), self.shared_entry(name)?);
        let stage = self.named_stage(reader, name)?;
        let subject = match reader.subject {
            Subject::Unit(id, instance)
                if ledger.unit(id).uses.contains(&shared) && ledger.unit(id).belongs_to(stage, instance) =>
            {
                reader.subject
            }
            _ => Subject::Shared,
        };
        self.field_of(subject, stage, name)
    }

    fn shared_entry(&self, name: &FieldName) -> Result<SharedId, String> {
        let (ledger, entry) = (self.resolver.ledger(), &name.entry);
        ledger.shared_id(entry.as_str()).ok_or_else(|| {
            let names = ledger.shared.iter().map(|known| known.name.as_str());
            format!("there is no shared entry `{entry}`{}", near(entry.as_str(), names))
        })
    }

    /// Refuses a shared entry that does not exist or that the subject does not use.
    fn needs_uses(&self, subject: Subject, name: &FieldName) -> Result<(), String> {
        let (ledger, entry, id) = (self.resolver.ledger(), &name.entry, self.shared_entry(name)?);
        match subject {
            Subject::Unit(unit, _) if !ledger.unit(unit).uses.contains(&id) => {
                let unit = &ledger.unit(unit).name;
                Err(format!("unit `{unit}` does not use shared entry `{entry}`: add it to its `uses`"))
            }
            _ => Ok(()),
        }
    }

    /// Notes what a text leads to that was not read. What it comes to is not known then.
    fn must_be_read(&self, owner: Option<&Name>, stage: StageId) -> Result<(), String> {
        if self.resolver.ledger().has_read(owner, stage) {
            return Ok(());
        }
        let mut lacking = self.resolver.lacking.lock().unwrap_or_else(PoisonError::into_inner);
        lacking.add(owner.cloned(), stage);
        Err("it was not read".to_owned())
    }

    fn named_stage(&self, reader: Reader, name: &FieldName) -> Result<StageId, String> {
        let ledger = self.resolver.ledger();
        match &name.stage {
            None => Ok(reader.stage),
            Some(stage) => ledger.stage_id(stage.as_str()).ok_or_else(|| {
                let names = ledger.stages.iter().map(|known| known.name.as_str());
                format!("there is no stage `{stage}`{}", near(stage.as_str(), names))
            }),
        }
    }

    fn must_belong(&self, subject: Subject, stage: StageId) -> Result<(), String> {
        let ledger = self.resolver.ledger();
        let Subject::Unit(id, instance) = subject else { return Ok(()) };
        if ledger.unit(id).belongs_to(stage, instance) {
            return Ok(());
        }
        Err(format!("`{}` does not belong to stage `{}`", ledger.owner(subject), ledger.stage(stage).name))
    }

    fn field_of(&self, subject: Subject, stage: StageId, name: &FieldName) -> Result<Reached<'l>, String> {
        let ledger = self.resolver.ledger();
        let entry = name.entry.as_str();
        let field = name.field.as_ref().map(Name::as_str);
        let owner = || ledger.owner(subject);
        self.must_be_read(unit_name(ledger, subject), stage)?;
        match ledger.find_slot(subject, entry, field) {
            Ok(slot) => Ok(Reached::Field(FieldId { subject, stage, slot })),
            Err(NoSlot::NoEntry) if ledger.shared_id(entry).is_some() => {
                Err(format!("`{}` does not use shared entry `{entry}`: add it to its `uses`", owner()))
            }
            Err(NoSlot::NoEntry) => {
                let near = near(entry, ledger.entry_names(subject));
                Err(format!("`{}` has no entry `{entry}`{near}", owner()))
            }
            Err(NoSlot::NoField) => {
                let slots = ledger.slots(subject);
                let known = slots
                    .entries
                    .iter()
                    .map(|known| ledger.entry(subject, known.entry))
                    .find(|known| known.name.as_str() == entry);
                let Some(known) = known else { return Err(String::new()) };
                Err(match field {
                    Some(field) if known.field_names().next().is_some() => {
                        format!("`{entry}` has no field `{field}`{}", near(field, known.field_names()))
                    }
                    Some(_) => format!("`{entry}` is a variable: write its name alone"),
                    None => format!("`{entry}` is a {}: name one of its fields", known.kind.name()),
                })
            }
        }
    }
}

/// The name of a subject's unit.
fn unit_name(ledger: &Ledger, subject: Subject) -> Option<&Name> {
    match subject {
        Subject::Unit(unit, _) => Some(&ledger.unit(unit).name),
        Subject::Shared => None,
    }
}

/// What a reference leads to.
pub(super) enum Reached<'l> {
    Text(CompactString),
    Field(FieldId),
    /// A field of a unit whose file, this one, cannot be read.
    Broken(&'l str),
}

/// `; the nearest is …`, if a name is near.
fn near<'a>(wanted: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(wanted, known).map(|name| format!("; the nearest is `{name}`")).unwrap_or_default()
}

impl EntryRef {
    /// The shared entry, if it is one.
    pub fn shared(self) -> Option<crate::model::SharedId> {
        match self {
            EntryRef::Shared(id) => Some(id),
            EntryRef::Own(_) => None,
        }
    }
}
