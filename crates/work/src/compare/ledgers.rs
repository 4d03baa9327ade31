//! What another ledger, or a folio of one, says of units, beside what this one says of them in a stage.
//!
//! Contracts are compared field by field, and so are effective values: of a folio as far as it carries some. Secrets are
//! compared where both can be read here, and are not known otherwise.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use cledger_core::address::Address;
use cledger_core::compare::{Difference, Named, NamedCompared, named};
use cledger_core::model::{Declaration, Ledger, Required, StageId, Subject, Vary};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_core::value::{Held, Value};
use cledger_store::Scope;
use zeroize::Zeroizing;

use crate::compare::side::Side;
use crate::folio::Folio;
use crate::meant::{known_stage, unit_of};
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// What is known of units and instances: the words of their declarations, and their values, by address without a stage.
#[derive(Default)]
struct Known {
    owners: BTreeSet<String>,
    declared: BTreeMap<String, String>,
    /// Fields that stages are meant to differ in.
    meant: BTreeSet<String>,
    /// None for what is not readable here.
    values: BTreeMap<String, Option<Held>>,
    /// Whether it says values at all.
    has_values: bool,
    /// Whether it says some values only, so that others are not lacking.
    is_part: bool,
}

/// Compares a folio or another ledger with this one, whichever side is which.
pub(crate) fn compared(
    at: &Arc<Workplace>,
    (left, right): (&Side, &Side),
    their_stage: Option<&Name>,
) -> Result<Vec<NamedCompared>, Trouble> {
    let (theirs, ours, is_first) = match (left, right) {
        (theirs @ (Side::Folio(_) | Side::Other(_)), Side::Ledger(ours)) => (theirs, ours, true),
        (Side::Ledger(ours), theirs @ (Side::Folio(_) | Side::Other(_))) => (theirs, ours, false),
        _ => {
            return Err(Trouble::usage("a folio or another ledger is compared with a stage of this one")
                .help("write folio:PATH or ledger:DIR, and @STAGE or UNIT@STAGE"));
        }
    };
    let opened = Opened::read(at, &Scope::Whole)?;
    let stage = opened.stage(ours.stage.as_ref())?.stage;
    let name = opened.ledger.stage(stage).name.clone();
    let theirs = match theirs {
        Side::Folio(path) => {
            if their_stage.is_some() {
                return Err(Trouble::usage("a folio is of no stage").help("leave --their-stage out"));
            }
            of_folio(&opened, path)?
        }
        Side::Other(folder) => of_other(at, folder, their_stage.unwrap_or(&name))?,
        _ => Known::default(),
    };
    let mut theirs = theirs;
    if let Some(owner) = &ours.owner {
        theirs.owners.retain(|known| *known == owner.to_string());
    }
    let ours = of_units(&opened, stage, &|owner| theirs.owners.contains(owner), ours)?;
    opened.tell_unread();
    let sides = [side(&theirs, &ours), side(&ours, &theirs)];
    let [first, second] = if is_first {
        sides
    } else {
        let [theirs, ours] = sides;
        [ours, theirs]
    };
    let mut compared = named(first, second, false);
    for one in compared.iter_mut().filter(|one| one.difference == Difference::Differs) {
        if ours.meant.contains(&one.name()) {
            one.difference = Difference::AsMeant;
        }
    }
    Ok(compared)
}

/// What one side says of what can be compared: declarations where they differ, values where both sides have them.
fn side(this: &Known, other: &Known) -> Vec<Named> {
    let row = |name: String, value: Option<Held>| Named { name: vec![name], value, is_bare: false };
    let text = |text: &str| Some(Held::new(Value::text(text), false));
    let mut rows = Vec::new();
    for owner in this.owners.difference(&other.owners) {
        rows.push(row(owner.clone(), text(if owner.contains('+') { "the instance" } else { "the unit" })));
    }
    let is_in_both = |address: &str| {
        let owner = address.split('/').next().unwrap_or_default();
        this.owners.contains(owner) && other.owners.contains(owner)
    };
    for (address, words) in this.declared.iter().filter(|(address, _)| is_in_both(address)) {
        if other.declared.get(address) != Some(words) {
            rows.push(row(format!("{address} declared"), text(words)));
        }
    }
    if this.has_values && other.has_values {
        let is_told = |address: &String| !other.is_part || other.values.contains_key(address);
        let values = this.values.iter().filter(|(address, _)| is_in_both(address) && is_told(address));
        rows.extend(values.map(|(address, held)| row(address.clone(), held.clone())));
    }
    rows
}

/// What a folio says: its contracts, and the values that it carries.
fn of_folio(opened: &Opened, path: &Path) -> Result<Known, Trouble> {
    let folio = Folio::read(path)?;
    let ledger = folio.as_ledger(&opened.ledger)?;
    let mut known = Known { has_values: folio.manifest.values, is_part: true, ..Known::default() };
    for subject in ledger.unit_ids().flat_map(|id| ledger.subjects_of(id)) {
        known.declare(&ledger, subject);
    }
    let (values, not_opened) = folio.carried_or_not(&opened.at.identity)?;
    if let Some(reason) = not_opened {
        opened.at.telling.notice(&format!("The secrets of the folio are not compared: {reason}."));
    }
    if !known.has_values {
        opened.at.telling.notice("The folio carries no values: contracts alone are compared.");
    }
    for (address, held) in values {
        // A value of a shared entry is that of each unit that uses it.
        match address.strip_prefix("shared/") {
            None => drop(known.values.insert(address, held)),
            Some(field) => {
                let entry = field.split('.').next().unwrap_or_default();
                let uses = |unit: &&Arc<cledger_core::model::Unit>| {
                    unit.uses.iter().any(|&id| ledger.shared_entry(id).name.as_str() == entry)
                };
                for unit in ledger.units.iter().filter(uses) {
                    known.values.entry(format!("{}/{field}", unit.name)).or_insert(held.clone());
                }
            }
        }
    }
    Ok(known)
}

fn of_other(at: &Arc<Workplace>, folder: &Path, stage: &Name) -> Result<Known, Trouble> {
    let opened = Opened::read_other(at, folder)?;
    let id = known_stage(&opened.ledger, stage.as_str()).map_err(|trouble| {
        Trouble::usage(format!("of the other ledger: {trouble}")).help("--their-stage STAGE names it")
    })?;
    let known = of_units(&opened, id, &|_| true, &Address::of_owner(None, Some(stage)))?;
    opened.tell_unread();
    Ok(known)
}

/// What a ledger says of the units that are meant in a stage.
fn of_units(
    opened: &Opened,
    stage: StageId,
    is_meant: &dyn Fn(&str) -> bool,
    address: &Address,
) -> Result<Known, Trouble> {
    let (ledger, resolver) = (&opened.ledger, opened.resolver());
    let mut known = Known { has_values: true, ..Known::default() };
    for subject in opened.subjects_in(address.owner.as_ref(), stage)? {
        if address.owner.is_some() || is_meant(&ledger.owner(subject).to_string()) {
            known.declare(ledger, subject);
            known.resolve(&resolver, subject, stage);
        }
    }
    Ok(known)
}

impl Known {
    fn declare(&mut self, ledger: &Ledger, subject: Subject) {
        self.owners.insert(ledger.owner(subject).to_string());
        for slot in ledger.slots(subject).all() {
            let declaration = ledger.field(subject, slot).1;
            if !declaration.derived {
                let address = format!("{}/{}", ledger.owner(subject), ledger.field_name(subject, slot));
                if declaration.is_meant_to_differ() {
                    self.meant.insert(address.clone());
                }
                // An instance has no declarations of its own.
                if matches!(subject, Subject::Unit(_, None)) {
                    self.declared.insert(address, words(declaration));
                }
            }
        }
    }

    fn resolve(&mut self, resolver: &Resolver<'_>, subject: Subject, stage: StageId) {
        let ledger = resolver.ledger();
        let mut session = resolver.session(unit_of(subject));
        for slot in ledger.slots(subject).all() {
            if let Outcome::Value(effective) = session.outcome(FieldId { subject, stage, slot }) {
                let address = format!("{}/{}", ledger.owner(subject), ledger.field_name(subject, slot));
                self.values.insert(address, effective.held().map(short));
            }
        }
    }
}

/// The longest value that is kept whole, in bytes: two ledgers are held at once.
const LONGEST: usize = 64 << 10;

/// A value, or where that is long its beginning and its hash, by which two are told apart all the same.
fn short(held: &Held) -> Held {
    if !is_long(held.expose()) {
        return held.clone();
    }
    let text = held.expose().to_secret_text();
    let (beginning, hash) = (text.char_indices().nth(60), blake3::hash(text.as_bytes()));
    let beginning = &text[..beginning.map_or(text.len(), |(at, _)| at)];
    let told = format!("{beginning}… ({} bytes, blake3 {})", text.len(), hash.to_hex());
    Held::new(Value::text(&Zeroizing::new(told)), held.is_secret())
}

fn is_long(value: &Value) -> bool {
    match value {
        Value::Text(text) => text.len() > LONGEST,
        Value::List(items) => items.iter().any(is_long),
        Value::Map(map) => map.values().any(is_long),
        _ => false,
    }
}

/// What a declaration says, in few words.
fn words(declaration: &Declaration) -> String {
    let mut words = vec![declaration.this_type.name().to_owned()];
    if declaration.secret {
        words.push("secret".to_owned());
    }
    match declaration.vary {
        Vary::Never => words.push("the same everywhere".to_owned()),
        Vary::May => {}
        Vary::Must => words.push("each stage states its own".to_owned()),
    }
    if declaration.required == Required::No {
        words.push("optional".to_owned());
    }
    if let Some(default) = &declaration.default {
        let held = &default.value;
        let text = if held.is_secret() { "a secret".into() } else { held.expose().to_text().to_string() };
        words.push(format!("default {text}"));
    }
    if let Some(constraints) = &declaration.constraints {
        let one_of: Vec<String> = constraints.one_of.iter().map(|it| it.to_text().to_string()).collect();
        words.extend((!one_of.is_empty()).then(|| format!("one of {}", one_of.join(" "))));
        words.extend(constraints.min.as_ref().map(|(_, min)| format!("min {min}")));
        words.extend(constraints.max.as_ref().map(|(_, max)| format!("max {max}")));
        words.extend(constraints.pattern.as_ref().map(|pattern| format!("pattern {pattern}")));
        words.extend(constraints.max_length.map(|most| format!("max_length {most}")));
    }
    words.join(", ")
}
