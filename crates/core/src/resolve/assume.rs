//! Values given for one run, stronger than every setting.

use super::Layer;
use super::outcome::Origin;
use crate::address::{Address, Owner};
use crate::model::{Ledger, NoSlot, Slot, StageId, Subject, Vary, Verdict};
use crate::name::{Name, nearest};
use crate::value::{Held, Value};

/// A value given for this run.
#[derive(Debug, Clone)]
pub struct Assumption {
    subject: Subject,
    stage: StageId,
    entry: Name,
    field: Option<Name>,
    /// The value.
    pub value: Held,
    /// How it stands to the declaration.
    pub verdict: Verdict,
}

/// Why a value cannot be assumed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AssumptionError {
    /// The address names no field.
    #[error("`{0}` names no field: write UNIT/ENTRY.FIELD")]
    NoField(String),
    /// A name in the address is unknown.
    #[error("there is no {what} `{name}`{}", .nearest.as_ref().map(|n| format!("; the nearest is `{n}`")).unwrap_or_default())]
    Unknown {
        /// Stage, unit, instance, entry or field.
        what: &'static str,
        /// The name.
        name: String,
        /// The nearest known one.
        nearest: Option<String>,
    },
    /// The field cannot be set at all.
    #[error("`{0}` cannot be assumed: {1}")]
    Fixed(String, &'static str),
    /// The text is not of the field's type.
    #[error("the value for `{0}` is not {1}")]
    WrongType(String, &'static str),
}

impl Assumption {
    /// Takes a field and the text for it. Where the address names no stage, `stage` is meant.
    /// References in the text are expanded as in a setting.
    pub fn new(
        ledger: &Ledger,
        address: &Address,
        text: &str,
        stage: StageId,
    ) -> Result<Self, AssumptionError> {
        let unknown = |what, name: &Name, known: Vec<&str>| AssumptionError::Unknown {
            what,
            name: name.to_string(),
            nearest: nearest(name.as_str(), known).map(str::to_owned),
        };
        let (Some(owner), Some(entry), None) = (&address.owner, &address.entry, address.delivery) else {
            return Err(AssumptionError::NoField(address.to_string()));
        };
        let stage = match &address.stage {
            None => stage,
            Some(name) => ledger.stage_id(name.as_str()).ok_or_else(|| {
                unknown("stage", name, ledger.stages.iter().map(|s| s.name.as_str()).collect())
            })?,
        };
        let subject = match owner {
            Owner::Shared => Subject::Shared,
            Owner::Unit(name, instance) => {
                let unit = ledger.unit_id(name.as_str()).ok_or_else(|| {
                    unknown("unit", name, ledger.units.iter().map(|u| u.name.as_str()).collect())
                })?;
                let known = ledger.unit(unit);
                let instance = instance.as_ref().map(|name| {
                    known.instance(name.as_str()).ok_or_else(|| {
                        let names = known.instances.iter().map(|i| i.name.as_str()).collect();
                        unknown("instance", name, names)
                    })
                });
                Subject::Unit(unit, instance.transpose()?)
            }
        };
        let field = address.field.as_ref().map(Name::as_str);
        let slot =
            ledger.find_slot(subject, entry.as_str(), field).map_err(|why| match (&address.field, why) {
                (Some(field), NoSlot::NoField) => unknown("field", field, Vec::new()),
                (None, NoSlot::NoField) => AssumptionError::NoField(address.to_string()),
                (_, NoSlot::NoEntry) => unknown("entry", entry, ledger.entry_names(subject).collect()),
            })?;
        let (_, declaration) = ledger.field(subject, slot);
        if declaration.derived {
            return Err(AssumptionError::Fixed(address.to_string(), "it is derived from other fields"));
        }
        if declaration.vary == Vary::Never {
            return Err(AssumptionError::Fixed(address.to_string(), "it is the same everywhere"));
        }
        let this_type = declaration.this_type;
        let value = if crate::reference::is_in(text)
            && !matches!(this_type, crate::types::Type::List | crate::types::Type::Map)
        {
            Value::text(text)
        } else {
            this_type
                .read(text)
                .ok_or_else(|| AssumptionError::WrongType(address.to_string(), this_type.describe()))?
        };
        let value = declaration.as_held(value);
        Ok(Self {
            subject,
            stage,
            entry: entry.clone(),
            field: address.field.clone(),
            verdict: declaration.judge(&value),
            value: Held::new(value, declaration.secret),
        })
    }

    /// Takes this value for a field of a unit, whatever is declared of it. A secret stays one.
    pub fn exactly(ledger: &Ledger, subject: Subject, stage: StageId, slot: Slot, value: Held) -> Self {
        let (entry, declaration) = ledger.field(subject, slot);
        let value = if declaration.secret { value.into_secret() } else { value };
        Self {
            subject,
            stage,
            entry: entry.name.clone(),
            field: declaration.name.clone(),
            verdict: declaration.judge(value.expose()),
            value,
        }
    }

    /// Whether references in it name shared entries only.
    pub(super) fn is_shared_text(&self) -> bool {
        self.subject == Subject::Shared
    }

    /// Whether its field is a secret.
    pub fn is_secret(&self) -> bool {
        matches!(self.value, Held::Secret(_))
    }

    pub(super) fn origin() -> Origin {
        Origin { layer: Layer::Run, place: None }
    }

    /// How strong the assumption is among others: shared, unit, instance.
    pub fn strength(&self) -> u8 {
        match self.subject {
            Subject::Shared => 0,
            Subject::Unit(_, None) => 1,
            Subject::Unit(_, Some(_)) => 2,
        }
    }

    /// The slot that it is for, if it counts for this subject in this stage.
    pub(super) fn slot_in(&self, ledger: &Ledger, subject: Subject, stage: StageId) -> Option<Slot> {
        let covers = match (self.subject, subject) {
            (Subject::Shared, _) => true,
            (Subject::Unit(unit, None), Subject::Unit(other, _)) => unit == other,
            (this, other) => this == other,
        };
        if !covers || self.stage != stage {
            return None;
        }
        let slot =
            ledger.find_slot(subject, self.entry.as_str(), self.field.as_ref().map(Name::as_str)).ok()?;
        // A unit's own entry may have the name of a shared one that it does not use.
        let (entry, _) = ledger.slots(subject).entry_of(slot);
        let is_shared =
            subject == Subject::Shared || matches!(entry.entry, crate::model::EntryRef::Shared(_));
        (self.subject != Subject::Shared || is_shared).then_some(slot)
    }
}
