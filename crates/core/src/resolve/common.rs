//! What is common to all units: fields of shared entries about which a unit says nothing of its own. They are resolved
//! once for a stage, and not once for each unit.

use std::sync::{Arc, OnceLock};

use super::session::Node;
use super::{Effective, FieldId, Outcome, Resolver, Session, Winner};
use crate::model::{EntryRef, Kind, Ledger, SettingValue, SharedId, Slot, StageId, Subject};

/// The most shared fields that a value may be made of; whatever is made of more is resolved for each unit.
const MOST: usize = 32;

/// The value of a shared field in a stage, and what it is made of.
pub(super) struct Common<'l> {
    value: Effective<'l>,
    /// The shared fields of the stage that it is made of, itself first.
    made_of: Vec<Slot>,
    /// Whether its declaration allows the value, and it could be read where it is encrypted.
    is_fine: bool,
}

/// The shared fields of one stage, each worked out when somebody asks; [`None`] for what is not common.
pub(super) type CommonOfStage<'l> = OnceLock<Vec<OnceLock<Option<Common<'l>>>>>;

impl<'l> Resolver<'l> {
    fn common(&self, stage: StageId, slot: Slot) -> Option<&Common<'l>> {
        let count = self.ledger.shared_slots.len();
        let of_stage =
            self.common[usize::from(stage.0)].get_or_init(|| (0..count).map(|_| OnceLock::new()).collect());
        of_stage[slot.0 as usize]
            .get_or_init(|| self.work_out(FieldId { subject: Subject::Shared, stage, slot }))
            .as_ref()
    }

    fn work_out(&self, field: FieldId) -> Option<Common<'l>> {
        // Rows of tables are merged, and a certificate may know its last day itself.
        let is_whole = |slot: Slot| {
            let kind = &self.ledger.field(field.subject, slot).0.kind;
            !matches!(kind, Kind::Table { .. } | Kind::Credential(_))
        };
        if !is_whole(field.slot) {
            return None;
        }
        let mut session = self.session(None);
        let Outcome::Value(value) = session.outcome(field) else { return None };
        let mut made_of = vec![field.slot];
        let mut next = 0;
        while let Some(&slot) = made_of.get(next) {
            next += 1;
            // A part of an address may have no value, and that may be otherwise where a unit has set it.
            let Outcome::Value(part) = session.outcome(FieldId { slot, ..field }) else { continue };
            for to in part.through.iter().flat_map(|fields| fields.iter()) {
                let is_here = (to.subject, to.stage) == (field.subject, field.stage);
                if !is_here || !is_whole(to.slot) || made_of.len() > MOST {
                    return None;
                }
                if !made_of.contains(&to.slot) {
                    made_of.push(to.slot);
                }
            }
        }
        let declaration = self.ledger.field(field.subject, field.slot).1;
        let is_cipher = matches!(
            self.winner(field),
            Winner::Set(setting, ..) if matches!(setting.value, SettingValue::Cipher(_))
        );
        let is_allowed = value.expose().is_none_or(|value| declaration.rejection(value).is_none());
        Some(Common { is_fine: is_allowed && !is_cipher, value, made_of })
    }
}

impl<'l> Session<'_, 'l> {
    /// Whether a field has a value that is common to all units, and nothing is to be said about it.
    pub(crate) fn is_fine_for_all(&mut self, field: FieldId) -> bool {
        let node = self.node(field);
        self.common(node).is_some_and(|common| common.is_fine)
    }

    /// The value of a field that is common to all units.
    pub(crate) fn value_for_all(&mut self, field: FieldId) -> Option<&Effective<'l>> {
        let node = self.node(field);
        if self.broken(node).is_some() {
            return None;
        }
        self.common(node).map(|common| &common.value)
    }

    /// The outcome of a field that is common to all units.
    pub(super) fn common_outcome(&self, node: Node) -> Option<Outcome<'l>> {
        let Common { value, .. } = self.common(node)?;
        let field = self.field(node);
        let mut value = value.clone();
        if let Some(through) = value.through.take() {
            let seen = through.iter().map(|to| self.as_seen(field.subject, *to)).collect::<Arc<[FieldId]>>();
            value.through = Some(seen);
        }
        Some(Outcome::Value(value))
    }

    fn common(&self, node: Node) -> Option<&Common<'l>> {
        let FieldId { subject, stage, slot } = self.field(node);
        let ledger = self.resolver.ledger();
        let Subject::Unit(..) = subject else { return None };
        // What was not read may be asked for.
        if ledger.part.is_some() {
            return None;
        }
        let common = self.resolver.common(stage, ledger.shared_slot(subject, slot)?)?;
        let is_common = |&slot: &Slot| {
            let of_unit = as_slot_of(ledger, subject, slot);
            of_unit.is_none_or(|slot| is_shared(&self.winner(Node { slot, ..node })))
        };
        common.made_of.iter().all(is_common).then_some(common)
    }

    /// A shared field as a unit sees it: its own where it uses the entry, the plain one else.
    fn as_seen(&self, subject: Subject, field: FieldId) -> FieldId {
        match as_slot_of(self.resolver.ledger(), subject, field.slot) {
            Some(slot) => FieldId { subject, slot, ..field },
            None => field,
        }
    }
}

/// The slot that a shared field has in a unit that uses its entry.
fn as_slot_of(ledger: &Ledger, subject: Subject, shared: Slot) -> Option<Slot> {
    let (of, position) = ledger.shared_slots.entry_of(shared);
    let EntryRef::Own(id) = of.entry else { return None };
    let first = ledger.slots(subject).first_of(SharedId(id))?;
    Some(Slot(first + u32::try_from(position).unwrap_or(0)))
}

fn is_shared(winner: &Winner<'_>) -> bool {
    matches!(winner, Winner::Nothing | Winner::Default(_, true) | Winner::Set(_, _, true))
}
