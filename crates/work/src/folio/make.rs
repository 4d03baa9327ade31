//! A folio of some units: what they are made of, and on demand what a stage says of them.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Owner;
use cledger_core::model::{Bundle, Ledger, StageId, UnitId};
use cledger_core::name::Name;
use cledger_core::reference::Target;
use cledger_store::daybook::Wanted;
use cledger_store::{Reader, SecretString, encrypted};

use super::container::{SECRETS, VALUES, packed};
use super::form::{Manifest, StageInside, Tested};
use super::piece::Pieces;
use super::signature::{SignedBy, Signer};
use super::values::{Carried, set_fields};
use crate::change::hands_out;
use crate::covering::known_bundle;
use crate::daybook;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::whole_units::{Units, WholeUnits};

/// Who can open the secrets of a folio.
pub enum SecretsFor {
    /// Nobody: there are none inside.
    Nobody,
    /// Whoever knows this passphrase.
    Passphrase(SecretString),
    /// These readers, by their public keys.
    Readers(Vec<Reader>),
}

/// What a folio is made of.
pub struct ToMake<'m> {
    /// The units and bundles.
    pub what: &'m WholeUnits,
    /// The stage for the sake of which it is made.
    pub from: Option<&'m Name>,
    /// Carry what that stage sets.
    pub with_values: bool,
    /// Who can open the secrets among that.
    pub secrets_for: SecretsFor,
    /// The production stages that are meant.
    pub countersign: &'m [Name],
    /// Who signs it.
    pub signer: Option<&'m Signer>,
}

/// A folio that was made.
pub struct Made {
    /// What is inside.
    pub manifest: Manifest,
    /// Who has signed it.
    pub signed_by: Option<SignedBy>,
    /// The file.
    pub bytes: Vec<u8>,
    /// What units inside refer to, and is not inside.
    pub beside: Vec<String>,
    /// What the stage sets and is not carried, with the reason.
    pub left: Vec<String>,
}

/// Makes a folio.
pub fn make(opened: &Opened, asked: &ToMake<'_>) -> Result<Made, Trouble> {
    let ledger = &*opened.ledger;
    if asked.what.stage.is_some() || asked.what.delivery.is_some() {
        return Err(Trouble::usage("a folio holds no stage, and no delivery")
            .help("leave out what begins with `@`; --from STAGE says for which stage's sake it is made"));
    }
    let (units, bundles) = units(opened, asked.what)?;
    let pieces = Pieces::of_ledger(ledger, &units, &bundles)?;
    let mut manifest = pieces.manifest(ledger);
    let mut members: BTreeMap<String, String> =
        pieces.0.iter().map(|(piece, text)| (piece.member(), text.clone())).collect();
    let mut left = Vec::new();
    if let Some(stage) = asked.from {
        let id = known_stage(ledger, stage.as_str())?;
        manifest.from = Some(inside(opened, &units, id)?);
        if asked.with_values {
            let carried = Carried::of(&opened.resolver(), &units, id);
            let (values, secrets) = carried.texts();
            manifest.values = true;
            members.extend(values.map(|text| (VALUES.to_owned(), text)));
            left.extend(carried.left);
            if let Some(secrets) = secrets {
                hands_out(&opened.at, ledger.stage(id), true, asked.countersign)?;
                let (cipher_text, whom) = for_readers(&secrets, &asked.secrets_for)?;
                manifest.secrets_for = whom;
                members.insert(SECRETS.to_owned(), cipher_text);
            }
        }
    }
    let beside = beside(ledger, &units);
    let bytes = packed(manifest.clone(), members, asked.signer)
        .map_err(|error| Trouble::outside(format!("the folio cannot be packed: {error}")))?;
    let signed_by = asked.signer.map(Signer::who);
    Ok(Made { manifest, signed_by, bytes, beside, left })
}

/// The secrets encrypted, and for whom.
fn for_readers(secrets: &str, whom: &SecretsFor) -> Result<(String, Vec<String>), Trouble> {
    let (text, names) = match whom {
        SecretsFor::Nobody => {
            return Err(Trouble::refused(
                "secrets of the stage would be in the folio, and nobody could open them",
            )
            .help("add --passphrase or --reader NAME=KEY; or leave --with-values out"));
        }
        SecretsFor::Passphrase(passphrase) => {
            (encrypted(secrets, &[], Some(passphrase.clone())), vec!["passphrase".to_owned()])
        }
        SecretsFor::Readers(readers) => {
            let keys: Vec<_> = readers.iter().map(|reader| &reader.recipient).collect();
            (encrypted(secrets, &keys, None), readers.iter().map(|reader| reader.name.to_string()).collect())
        }
    };
    let text = text.map_err(|reason| Trouble::usage(format!("the secrets cannot be encrypted: {reason}")))?;
    Ok((text, names))
}

/// The units that are meant, and the bundles among that.
fn units<'l>(opened: &'l Opened, what: &WholeUnits) -> Result<(Vec<UnitId>, Vec<&'l Bundle>), Trouble> {
    let ledger = &*opened.ledger;
    opened.refuse_broken(Some("a folio".to_owned()), ledger.broken.0.iter())?;
    let (mut found, mut bundles) = (BTreeSet::new(), Vec::new());
    for units in &what.units {
        let before = found.len();
        match units {
            Units::Named(Owner::Unit(unit, None)) => drop(found.insert(opened.unit_id(unit)?)),
            Units::Named(owner) => {
                return Err(Trouble::usage(format!("`{owner}` is no unit, and whole units are carried"))
                    .help("name the unit: its instances come with it"));
            }
            Units::Covered(pattern) => {
                let is_covered = |id: &UnitId| pattern.covers_owner(ledger.unit(*id).name.as_str(), None);
                found.extend(ledger.unit_ids().filter(is_covered));
                if found.len() == before {
                    return Err(Trouble::usage(format!("`{pattern}` covers no unit of the ledger"))
                        .help("`cledger list units` shows the names"));
                }
            }
            Units::Bundle(name) => {
                let bundle = known_bundle(ledger, name.as_str())?;
                found.extend(ledger.unit_ids().filter(|&id| bundle.has_of(ledger.unit(id))));
                bundles.push(bundle);
            }
        }
    }
    if what.is_all() {
        found.extend(ledger.unit_ids());
    }
    Ok((found.into_iter().collect(), bundles))
}

/// What a stage sets, and what was delivered there.
fn inside(opened: &Opened, units: &[UnitId], stage: StageId) -> Result<StageInside, Trouble> {
    let ledger = &*opened.ledger;
    let this = ledger.stage(stage);
    let sets = set_fields(&opened.resolver(), units, stage).into_keys().collect();
    let mut tested = Vec::new();
    if let Some(mut book) = daybook::reading(opened)? {
        let subjects = ledger.subjects_in(stage);
        let is_meant = |subject: &cledger_core::model::Subject| {
            crate::meant::unit_of(*subject).is_some_and(|unit| units.contains(&unit))
        };
        for subject in subjects.filter(is_meant) {
            let owner = ledger.owner(subject).to_string();
            let last = book.entries(&Wanted::last_of(&owner, this.name.as_str()), false)?.pop();
            if let Some(entry) = last.filter(|entry| entry.meta.kind.is_brought()) {
                tested.push(Tested {
                    unit: owner,
                    number: entry.meta.number,
                    version: entry.meta.version,
                    contract: entry.meta.contract,
                    fingerprint: entry.hash,
                });
            }
        }
    }
    Ok(StageInside { stage: this.name.to_string(), class: this.class.name().to_owned(), sets, tested })
}

/// The other units that declarations of these refer to.
fn beside(ledger: &Ledger, units: &[UnitId]) -> Vec<String> {
    let mut found = BTreeSet::new();
    for &unit in units {
        ledger.unit(unit).each_declared_target(&mut |target| {
            if let Target::OfUnit(name, ..) = target
                && !units.iter().any(|&inside| ledger.unit(inside).name == name)
            {
                found.insert(format!("{} refers to {name}", ledger.unit(unit).name));
            }
        });
    }
    found.into_iter().collect()
}
