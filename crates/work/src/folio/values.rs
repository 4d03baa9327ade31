//! Values that a folio carries for a stage, where somebody asks for that: what the stage sets, as it is in effect.

use std::collections::BTreeMap;

use cledger_core::address::Owner;
use cledger_core::model::{Ledger, Slot, StageId, Subject, UnitId};
use cledger_core::resolve::{FieldId, Outcome, Resolver, Winner};
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{Identity, NotDecrypted, decrypted};
use zeroize::Zeroizing;

use super::Folio;
use crate::meant::unit_of;
use crate::trouble::Trouble;

/// Values by the address of their field, without a stage; none for what is absent on purpose.
pub(crate) type Values = BTreeMap<String, Option<Held>>;

/// What units get in a stage that a setting says.
#[derive(Default)]
pub(super) struct Carried {
    pub(super) values: Values,
    /// What cannot be carried, with the reason.
    pub(super) left: Vec<String>,
}

/// The fields of units in a stage for which a setting wins, by the address under which it stands: of a shared entry
/// once.
pub(super) fn set_fields(
    resolver: &Resolver<'_>,
    units: &[UnitId],
    stage: StageId,
) -> BTreeMap<String, FieldId> {
    let ledger = resolver.ledger();
    let mut found = BTreeMap::new();
    for subject in subjects(ledger, units, stage) {
        let mut session = resolver.session(unit_of(subject));
        let winners = session.winners(subject, stage).to_vec();
        for (slot, winner) in (0_u32..).map(Slot).zip(winners) {
            let Winner::Set(_, _, is_shared) = winner else { continue };
            if ledger.field(subject, slot).1.derived {
                continue;
            }
            let owner = if is_shared { Owner::Shared } else { ledger.owner(subject) };
            let address = format!("{owner}/{}", ledger.field_name(subject, slot));
            found.entry(address).or_insert(FieldId { subject, stage, slot });
        }
    }
    found
}

fn subjects(ledger: &Ledger, units: &[UnitId], stage: StageId) -> Vec<Subject> {
    let is_meant = |subject: &Subject| unit_of(*subject).is_some_and(|unit| units.contains(&unit));
    ledger.subjects_in(stage).filter(is_meant).collect()
}

impl Carried {
    /// What units get in a stage that a setting says.
    pub(super) fn of(resolver: &Resolver<'_>, units: &[UnitId], stage: StageId) -> Self {
        let ledger = resolver.ledger();
        let mut carried = Self::default();
        for (address, field) in set_fields(resolver, units, stage) {
            if ledger.field(field.subject, field.slot).1.this_type == Type::Table {
                carried.left.push(format!("{address} (rows of a lookup table)"));
                continue;
            }
            match resolver.session(unit_of(field.subject)).outcome(field) {
                Outcome::Value(effective) => match effective.held() {
                    Some(held) => drop(carried.values.insert(address, Some(held.clone()))),
                    None => carried.left.push(format!("{address} (not readable here)")),
                },
                Outcome::Absent(_) => drop(carried.values.insert(address, None)),
                Outcome::Unset | Outcome::Missing(..) | Outcome::Broken(_) => {
                    carried.left.push(format!("{address} (without a value)"));
                }
            }
        }
        carried
    }

    /// The values as JSON, the secrets by themselves; none where there are none.
    pub(super) fn texts(&self) -> (Option<String>, Option<Zeroizing<String>>) {
        let is_secret = |held: &Option<Held>| held.as_ref().is_some_and(Held::is_secret);
        let json = |secret: bool| {
            let wanted = self.values.iter().filter(|(_, held)| is_secret(held) == secret);
            let values: BTreeMap<&String, serde_json::Value> = wanted
                .map(|(address, held)| {
                    let json = held.as_ref().map_or(serde_json::Value::Null, |held| held.expose().to_json());
                    (address, json)
                })
                .collect();
            // It is made of JSON by texts, which always serialises.
            (!values.is_empty()).then(|| serde_json::to_string_pretty(&values).unwrap_or_default() + "\n")
        };
        (json(false), json(true).map(Zeroizing::new))
    }
}

impl Folio {
    /// The values that it carries. Secrets among them are opened with somebody's identity, or by a passphrase.
    pub(super) fn carried(&self, identity: &Identity) -> Result<Values, Trouble> {
        let mut values = Values::new();
        if let Some(text) = &self.values {
            read(text, false, &mut values)?;
        }
        if let Some(cipher_text) = &self.secrets {
            let text = decrypted(cipher_text, "the folio", identity).map_err(|error| {
                let message = format!("the secrets of the folio cannot be opened: {error}");
                match error {
                    NotDecrypted::NotAtHand(_) => Trouble::refused(message).help(format!(
                        "it is for {}: have it made for you, or leave --with-values out",
                        self.manifest.secrets_for.join(", ")
                    )),
                    NotDecrypted::Broken(_) => Trouble::usage(message).help("have it made again"),
                }
            })?;
            read(&text, true, &mut values)?;
        }
        Ok(values)
    }
}

impl Folio {
    /// The same but for what is absent on purpose, and for secrets where they cannot be opened: then it says why.
    pub(crate) fn carried_or_not(&self, identity: &Identity) -> Result<(Values, Option<String>), Trouble> {
        let mut values = Values::new();
        if let Some(text) = &self.values {
            read(text, false, &mut values)?;
        }
        let mut why = None;
        match self.secrets.as_ref().map(|text| decrypted(text, "the folio", identity)) {
            None => {}
            Some(Ok(text)) => read(&text, true, &mut values)?,
            Some(Err(error)) => why = Some(error.to_string()),
        }
        values.retain(|_, held| held.is_some());
        Ok((values, why))
    }
}

fn read(text: &str, secret: bool, values: &mut Values) -> Result<(), Trouble> {
    let wrong = || Trouble::usage("the values of the folio are not of their form").help("have it made again");
    // Whatever is wrong with secrets, their text is not repeated.
    let json: BTreeMap<String, serde_json::Value> = serde_json::from_str(text).map_err(|_| wrong())?;
    for (address, json) in json {
        let held = match json {
            serde_json::Value::Null => None,
            json => Some(Held::new(Value::from_json(json).ok_or_else(wrong)?, secret)),
        };
        values.insert(address, held);
    }
    Ok(())
}
