//! One finding, and what is said alike in all of them.

use std::borrow::Cow;

use super::code::{Code, Severity};
use crate::address::Address;
use crate::model::{Declaration, Entry, Ledger, Slot, Subject, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Outcome, Session};
use crate::source::Place;

/// One problem.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// The stable code.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// The address of the field or setting.
    pub address: String,
    /// The address without its stage.
    pub subject: String,
    /// The stage or group.
    pub stage: Option<String>,
    /// The unit that it is about; `None` for shared entries and the ledger as a whole.
    pub unit: Option<UnitId>,
    /// What is wrong, without any secret in it.
    pub message: String,
    /// Where.
    pub place: Option<Place>,
    /// Whether the line there must be shown without its value, since that may be a secret.
    pub hides_value: bool,
    /// What to type to mend it.
    pub help: String,
    /// The address of the field that it refers to and that has no value, where that is the reason.
    pub because_of: Option<String>,
    /// For what is wrong with shared entries: the units that suffer.
    pub needed_by: Vec<UnitId>,
    /// The name of the rule that is broken.
    pub rule: Option<Name>,
}

impl Finding {
    /// The code, with the name of the rule where one is broken: `rule:NAME`.
    pub fn kind(&self) -> Cow<'static, str> {
        match &self.rule {
            Some(rule) => Cow::Owned(format!("{}:{rule}", self.code)),
            None => Cow::Borrowed(self.code.name()),
        }
    }

    /// What tells it from other findings, whatever its words are.
    pub fn key(&self) -> (Code, Option<&Name>, &str) {
        (self.code, self.rule.as_ref(), &self.address)
    }

    /// A finding about a field, still without place and help.
    pub(super) fn of_field(
        ledger: &Ledger,
        field: FieldId,
        whose: FieldId,
        code: Code,
        message: String,
    ) -> Self {
        let address = ledger.address(whose);
        let stage = address.stage.as_ref().map(ToString::to_string);
        let subject = Address { stage: None, ..address.clone() };
        let (_, declaration) = ledger.field(field.subject, field.slot);
        Self {
            code,
            severity: Severity::Error,
            address: address.to_string(),
            subject: subject.to_string(),
            stage,
            unit: match whose.subject {
                Subject::Unit(unit, _) => Some(unit),
                Subject::Shared => None,
            },
            message,
            place: None,
            hides_value: declaration.secret,
            help: String::new(),
            because_of: None,
            needed_by: Vec::new(),
            rule: None,
        }
    }
}

/// Whose field a finding is about: the shared entry's if it is wrong there too, by itself.
pub(super) fn whose(
    ledger: &Ledger,
    session: &mut Session<'_, '_>,
    field: FieldId,
    is_same: impl Fn(&Outcome<'_>) -> bool,
) -> FieldId {
    let (entry, position) = ledger.slots(field.subject).entry_of(field.slot);
    let Some(shared) = entry.entry.shared() else { return field };
    let winner = session.winners(field.subject, field.stage)[field.slot.0 as usize];
    if !winner.is_shared(entry.entry) {
        return field;
    }
    let first = ledger.shared_slots.entries[usize::from(shared.0)].first;
    let slot = Slot(first + u32::try_from(position).unwrap_or(0));
    let alone = FieldId { subject: Subject::Shared, stage: field.stage, slot };
    if is_same(&session.outcome(alone)) { alone } else { field }
}

/// What a field is called in messages: `host of bookings-db`, or a variable's name.
pub(super) fn called(entry: &Entry, field: &Declaration) -> String {
    match &field.name {
        None => format!("`{}`", entry.name),
        Some(name) => format!("`{name}` of `{}`", entry.name),
    }
}
