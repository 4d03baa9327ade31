//! Whether a pattern covers anything of a ledger: one that does not is a typing mistake, and no consent to anything.

use super::{LayerId, Ledger, Stray, StrayKind, Subject};
use crate::address::{Owner, Pattern};
use crate::name::Name;

/// The part of a pattern that covers nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Idle {
    /// No stage, and no group.
    Stages,
    /// No unit or instance, and nothing shared.
    Owners,
    /// No entry or field of what is covered.
    Fields,
    /// No unit that is covered belongs to a stage that is covered.
    Belonging,
}

impl Ledger {
    /// What part of a pattern covers nothing that the ledger declares or sets, if one does.
    pub fn idle(&self, pattern: &Pattern) -> Option<Idle> {
        let mut layers = self.layer_ids().map(|layer| self.layer_name(layer).as_str()).chain(["default"]);
        if !layers.any(|name| pattern.covers_stage(name)) {
            return Some(Idle::Stages);
        }
        let is_shared = pattern.covers_owner("shared", None);
        let strangers = self.strangers.iter();
        let mut strangers = strangers.map(|stranger| (stranger.unit.as_str(), stranger.instance.as_deref()));
        let subjects = self.unit_ids().flat_map(|unit| self.subjects_of(unit));
        let is_covered = |subject: &Subject| {
            let owner = self.owner(*subject);
            let (unit, instance) = owner.names();
            pattern.covers_owner(unit, instance)
        };
        let subjects: Vec<Subject> = subjects.filter(is_covered).collect();
        if strangers.any(|(unit, instance)| pattern.covers_owner(unit, instance)) {
            return None;
        }
        if subjects.is_empty() && !is_shared {
            return Some(Idle::Owners);
        }
        let shared = is_shared.then_some(Subject::Shared);
        if pattern.has_entry()
            && !subjects.iter().copied().chain(shared).any(|it| self.has_field(pattern, it))
        {
            return Some(Idle::Fields);
        }
        let stages = || self.stage_ids().filter(|&id| pattern.covers_stage(self.stage(id).name.as_str()));
        let belongs = |subject: &Subject| match *subject {
            Subject::Unit(unit, instance) => stages().any(|id| self.unit(unit).belongs_to(id, instance)),
            Subject::Shared => true,
        };
        let is_of_stages = stages().next().is_some() && pattern.has_owner() && !is_shared;
        (is_of_stages && !subjects.iter().any(belongs)).then_some(Idle::Belonging)
    }

    /// Whether a subject has a field that a pattern covers, or a setting for one that it does not have.
    fn has_field(&self, pattern: &Pattern, subject: Subject) -> bool {
        let has = self.slots(subject).all().any(|slot| {
            let (entry, field) = self.field(subject, slot);
            let columns: &[String] =
                if let crate::model::Kind::Table { columns, .. } = &entry.kind { columns } else { &[] };
            pattern.covers_field(entry.name.as_str(), field.name.as_ref().map(Name::as_str))
                || columns.iter().any(|column| pattern.covers_field(entry.name.as_str(), Some(column)))
        });
        let strays: &[Stray] = match subject {
            Subject::Unit(unit, _) => &self.unit(unit).strays,
            Subject::Shared => &[],
        };
        let shared = self.layers.iter().flat_map(|layer| &layer.strays);
        let shared = shared.filter(|_| subject == Subject::Shared);
        has || strays.iter().chain(shared).any(|stray| pattern.covers_field(stray.entry(), Some(&stray.name)))
    }

    /// The names near which a pattern's idle part may be meant: of stages and groups, of units, or of entries.
    pub fn names_for(&self, idle: Idle, owner: Option<&Owner>) -> Vec<String> {
        match idle {
            Idle::Stages => {
                self.layer_ids().map(|layer: LayerId| self.layer_name(layer).to_string()).collect()
            }
            Idle::Owners | Idle::Belonging => self.units.iter().map(|unit| unit.name.to_string()).collect(),
            Idle::Fields => {
                let subject = match owner {
                    Some(Owner::Unit(unit, _)) => {
                        self.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None))
                    }
                    _ => Some(Subject::Shared),
                };
                let names = subject.into_iter().flat_map(|subject| self.entry_names(subject));
                names.map(str::to_owned).collect()
            }
        }
    }
}

impl Stray {
    /// The entry that it was written for, as written.
    pub fn entry(&self) -> &str {
        match &self.kind {
            StrayKind::UnknownField { entry } | StrayKind::NotFields { entry } => entry.as_str(),
            StrayKind::UnknownEntry | StrayKind::NotUsed => &self.name,
        }
    }
}
