//! Searching settings, defaults and effective values by what they are and say.

mod beside;
mod cells;
mod whole;

use std::collections::BTreeSet;

use jiff::civil::Date;
use rayon::prelude::*;
use regex::Regex;

use crate::address::{Address, Pattern};
use crate::cipher::secret_of;
use crate::impact::Written;
use crate::model::{
    Class, Declaration, Entry, Kind, LayerId, Ledger, Setting, SettingValue, Slot, Subject, UNITS_AT_ONCE,
    UnitId,
};
use crate::name::Name;
use crate::resolve::{Effective, FieldId, Opened, Outcome, Outside, Resolver};
use crate::source::Place;
use crate::types::{Measure, Type};
use crate::value::{Held, Value};

pub use beside::Beside;
pub use cells::Cell;

/// No stage has this name.
const NO_STAGE: &str = "";

/// What a value must be or say.
#[derive(Debug, Clone)]
pub enum Test {
    /// Its text is this.
    Equals(String),
    /// Its text, or one in it, contains this.
    Contains(String),
    /// Its text, or one in it, matches this somewhere.
    Matches(Regex),
    /// It is greater than this, which is read as its own type.
    Over(String),
    /// It is less than this, which is read as its own type.
    Under(String),
}

/// What is looked for; all that is given must hold.
#[derive(Debug, Clone, Default)]
pub struct Conditions {
    /// The address, without or with the stage or group where it is written.
    pub pattern: Option<Pattern>,
    /// The kind of entry: `variable`, `connection`, …
    pub kind: Option<String>,
    /// The type.
    pub this_type: Option<Type>,
    /// The class of the stage; groups and defaults have none.
    pub class: Option<Class>,
    /// The layer, by its word: `default`, `group`, `stage`; of effective values also `follow`, `derived`.
    pub layer: Option<String>,
    /// Who looks after the unit.
    pub owner: Option<String>,
    /// What the value is or says.
    pub tests: Vec<Test>,
    /// What must be so beside it.
    pub beside: Vec<Beside>,
    /// Whether it is a secret.
    pub secret: Option<bool>,
    /// Only with a reason.
    pub with_why: bool,
    /// Only settings that say where their value can be looked up.
    pub looked_up: bool,
    /// Only past its last day, counted from this one.
    pub past: Option<Date>,
    /// Only these fields.
    pub fields: Option<BTreeSet<DeclaredField>>,
}

/// A field by the names of its unit, or `shared`, of its entry, and its own.
pub type DeclaredField = (String, String, Option<String>);

/// The fields that some output of their unit calls so.
pub fn called(ledger: &Ledger, name: &str) -> BTreeSet<DeclaredField> {
    let units = ledger.unit_ids().flat_map(|unit| {
        ledger.fields_called(unit, name).into_iter().map(move |slot| (Subject::Unit(unit, None), slot))
    });
    let both = units.flat_map(|(subject, slot)| {
        let (entry, field) = ledger.field(subject, slot);
        let (own, field) = (ledger.owner(subject).to_string(), field.name.as_ref().map(ToString::to_string));
        let is_shared = ledger.slots(subject).entry_of(slot).0.entry.shared().is_some();
        let shared = is_shared.then(|| ("shared".to_owned(), entry.name.to_string(), field.clone()));
        [Some((own, entry.name.to_string(), field)), shared].into_iter().flatten()
    });
    both.collect()
}

/// Something written that was found.
#[derive(Debug, Clone)]
pub struct Found<'l> {
    /// Where it is written.
    pub written: Written,
    /// Whose field.
    pub subject: Subject,
    /// The field.
    pub slot: Slot,
    /// The setting; `None` for a default.
    pub setting: Option<&'l Setting>,
    /// What it says; `None` if nothing, or what is outside.
    pub held: Option<&'l Held>,
    /// Where it stands.
    pub place: Option<Place>,
}

impl Found<'_> {
    /// Its address, with the stage, the group or `default`.
    pub fn address(&self, ledger: &Ledger) -> Address {
        let (entry, declaration) = ledger.field(self.subject, self.slot);
        let at = match self.written {
            Written::In(layer) => Some(ledger.layer_name(layer).clone()),
            Written::Default => Name::parse("default").ok(),
        };
        Address::of_field(ledger.owner(self.subject), &entry.name, declaration.name.as_ref(), at.as_ref())
    }
}

impl Conditions {
    /// Whether a field is looked at, whatever its value.
    fn covers_field(&self, ledger: &Ledger, subject: Subject, entry: &Entry, field: &Declaration) -> bool {
        let owner = ledger.owner(subject);
        let (name, instance) = owner.names();
        let looked_after = match subject {
            Subject::Shared => None,
            Subject::Unit(unit, _) => ledger.unit(unit).owner.as_deref(),
        };
        let field_name = field.name.as_ref().map(Name::as_str);
        self.pattern.as_ref().is_none_or(|pattern| {
            let of_entry = |field: Option<&str>| pattern.covers_field(entry.name.as_str(), field);
            let columns: &[String] =
                if let Kind::Table { columns, .. } = &entry.kind { columns } else { &[] };
            pattern.covers_owner(name, instance)
                && (of_entry(field_name) || columns.iter().any(|column| of_entry(Some(column))))
        }) && self.kind.as_deref().is_none_or(|kind| entry.kind.name() == kind)
            && self.this_type.is_none_or(|this| field.this_type == this)
            && self.fields.as_ref().is_none_or(|fields| {
                let field = field_name.map(str::to_owned);
                fields.contains(&(name.to_owned(), entry.name.to_string(), field))
            })
            && self.owner.as_deref().is_none_or(|wanted| looked_after == Some(wanted))
    }

    /// The same of what is written or declared: whether that is a secret is what the contract says. Of an effective
    /// value the value says it.
    fn covers_declared(&self, ledger: &Ledger, subject: Subject, entry: &Entry, field: &Declaration) -> bool {
        self.covers_field(ledger, subject, entry, field)
            && self.secret.is_none_or(|secret| field.secret == secret)
    }

    /// Whether they cover a setting or default, but for what is to stand beside it.
    fn cover(&self, ledger: &Ledger, outside: &dyn Outside, found: &Found<'_>) -> bool {
        let (entry, field) = ledger.field(found.subject, found.slot);
        let layer = match found.written {
            Written::Default => "default",
            Written::In(LayerId::Group(_)) => "group",
            Written::In(LayerId::Stage(_)) => "stage",
        };
        // What is cheap to tell first: this is asked of every setting of the ledger.
        self.covers_note(found.setting)
            && self.covers_layer(layer)
            && self.covers_place(ledger, found.written)
            && self.covers_declared(ledger, found.subject, entry, field)
            && self.covers_said(ledger, outside, found.setting, found.held, (entry, field.this_type))
    }

    fn covers_place(&self, ledger: &Ledger, written: Written) -> bool {
        let (name, class) = match written {
            Written::Default => ("default", None),
            Written::In(layer @ LayerId::Group(_)) => (ledger.layer_name(layer).as_str(), None),
            Written::In(LayerId::Stage(id)) => (ledger.stage(id).name.as_str(), Some(ledger.stage(id).class)),
        };
        self.pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(name))
            && self.class.is_none_or(|wanted| class == Some(wanted))
    }

    fn covers_layer(&self, word: &str) -> bool {
        self.layer.as_deref().is_none_or(|wanted| wanted == word)
    }

    fn covers_note(&self, setting: Option<&Setting>) -> bool {
        let note = setting.and_then(|setting| setting.note.as_deref());
        (!self.with_why || note.is_some_and(|note| note.why.is_some()))
            && (!self.looked_up || note.is_some_and(|note| note.looked_up.is_some()))
            && self
                .past
                .is_none_or(|today| note.and_then(|note| note.until).is_some_and(|until| until < today))
    }

    /// Whether what is written is or says what is looked for; an encrypted secret is opened only for that.
    fn covers_said(
        &self,
        ledger: &Ledger,
        outside: &dyn Outside,
        setting: Option<&Setting>,
        held: Option<&Held>,
        (entry, this): (&Entry, Type),
    ) -> bool {
        let cipher = match setting.map(|setting| &setting.value) {
            Some(SettingValue::Cipher(cipher)) if !self.tests.is_empty() => cipher,
            _ => return self.covers_value(held.map(Held::expose), entry, this),
        };
        match outside.open(&ledger.key_scope(cipher.layer), cipher) {
            Opened::Text(text) => secret_of(&text, this)
                .is_some_and(|secret| self.covers_value(Some(secret.expose()), entry, this)),
            Opened::NoKey | Opened::Broken(_) => false,
        }
    }

    fn covers_value(&self, value: Option<&Value>, entry: &Entry, this: Type) -> bool {
        let Some(value) = value else { return self.tests.is_empty() };
        let name = entry.name.as_str();
        if matches!(entry.kind, Kind::Table { .. })
            && (!self.tests.is_empty() || !self.beside.is_empty() || self.names_columns(name))
        {
            return !self.covered_cells(&entry.kind, name, value).is_empty();
        }
        self.tests.iter().all(|test| holds(test, value, this))
    }
}

fn holds(test: &Test, value: &Value, this: Type) -> bool {
    let any = |test: &dyn Fn(&str) -> bool| any_text(value, test);
    let measured = |bound: &str| {
        let bound = this.read(bound).and_then(|bound| Measure::of(&bound, this))?;
        Measure::of(value, this)?.partial_cmp(&bound)
    };
    match test {
        Test::Equals(wanted) => value.to_text() == *wanted,
        Test::Contains(part) => any(&|text| text.contains(part.as_str())),
        Test::Matches(regex) => any(&|text| regex.is_match(text)),
        Test::Over(bound) => measured(bound).is_some_and(std::cmp::Ordering::is_gt),
        Test::Under(bound) => measured(bound).is_some_and(std::cmp::Ordering::is_lt),
    }
}

/// Whether some text in a value passes.
fn any_text(value: &Value, test: &dyn Fn(&str) -> bool) -> bool {
    match value {
        Value::List(items) => items.iter().any(|item| any_text(item, test)),
        Value::Map(map) => map.values().any(|item| any_text(item, test)),
        other => test(&other.to_text()),
    }
}

/// All settings and defaults that the conditions cover: shared ones first, then by unit; for each
/// defaults first, then by stage and group.
/// `outside` opens secrets that are looked into for what they say; those that it cannot open are not found.
pub fn settings<'l>(ledger: &'l Ledger, outside: &dyn Outside, conditions: &Conditions) -> Vec<Found<'l>> {
    let covers = |found: &Found<'l>| conditions.cover(ledger, outside, found);
    let mut found: Vec<Found<'l>> = whole::of_shared(ledger).filter(covers).collect();
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    let of_unit = |&id: &UnitId| whole::of_unit(ledger, id).filter(covers).collect::<Vec<_>>();
    let of_units: Vec<Vec<Found<'l>>> = units.par_iter().map(of_unit).collect();
    found.extend(of_units.into_iter().flatten());
    if !conditions.beside.is_empty() {
        let resolver = Resolver::new(ledger, outside, &[]);
        let stands: Vec<bool> =
            found.par_iter().map(|it| beside::stand(&resolver, &conditions.beside, it)).collect();
        let mut stands = stands.into_iter();
        found.retain(|_| stands.next().unwrap_or(false));
    }
    found
}

/// All declared fields that the conditions cover, shared ones first, then by unit. Where the conditions
/// are about settings, only those that have one which they cover.
pub fn fields(ledger: &Ledger, outside: &dyn Outside, conditions: &Conditions) -> Vec<(Subject, Slot)> {
    let about_settings = conditions.class.is_some()
        || !conditions.tests.is_empty()
        || conditions.with_why
        || conditions.layer.is_some()
        || conditions.past.is_some()
        || !conditions.beside.is_empty()
        || conditions.pattern.as_ref().is_some_and(|pattern| !pattern.covers_stage(NO_STAGE));
    if about_settings {
        let mut found: Vec<(Subject, Slot)> = Vec::new();
        for one in settings(ledger, outside, conditions) {
            let subject = match one.subject {
                Subject::Shared => Subject::Shared,
                Subject::Unit(unit, _) => Subject::Unit(unit, None),
            };
            found.push(declared(ledger, subject, one.slot));
        }
        found.sort_unstable();
        found.dedup();
        return found;
    }
    let units = ledger.unit_ids().map(|unit| Subject::Unit(unit, None));
    let all = std::iter::once(Subject::Shared).chain(units).flat_map(|subject| {
        let own = move |slot: &Slot| ledger.slots(subject).entry_of(*slot).0.entry.shared().is_none();
        ledger.slots(subject).all().filter(own).map(move |slot| (subject, slot))
    });
    all.filter(|&(subject, slot)| {
        let (entry, field) = ledger.field(subject, slot);
        conditions.covers_declared(ledger, subject, entry, field)
    })
    .collect()
}

/// The field as it is declared: a shared entry's as the shared one.
pub fn declared(ledger: &Ledger, subject: Subject, slot: Slot) -> (Subject, Slot) {
    let (known, position) = ledger.slots(subject).entry_of(slot);
    match known.entry.shared() {
        Some(id) => {
            let first = ledger.shared_slots.entries[usize::from(id.0)].first;
            (Subject::Shared, Slot(first + u32::try_from(position).unwrap_or(0)))
        }
        None => (subject, slot),
    }
}

/// All effective values that the conditions cover, by unit and stage. Reasons and last days are
/// those of the setting that wins.
pub fn effective<'l>(resolver: &Resolver<'l>, conditions: &Conditions) -> Vec<(FieldId, Effective<'l>)> {
    let ledger = resolver.ledger();
    let of_unit = |unit| {
        let mut session = resolver.session(Some(unit));
        let mut found = Vec::new();
        for stage in ledger.stage_ids() {
            let here = Written::In(LayerId::Stage(stage));
            if !conditions.covers_place(ledger, here) {
                continue;
            }
            for subject in ledger.unit_subjects_in(unit, stage) {
                for slot in ledger.slots(subject).all() {
                    let (entry, field) = ledger.field(subject, slot);
                    if !conditions.covers_field(ledger, subject, entry, field) {
                        continue;
                    }
                    let setting = match session.winners(subject, stage)[slot.0 as usize] {
                        crate::resolve::Winner::Set(setting, ..) => Some(setting),
                        _ => None,
                    };
                    let id = FieldId { subject, stage, slot };
                    if let Outcome::Value(effective) = session.outcome(id)
                        && conditions.covers_note(setting)
                        && conditions.secret.is_none_or(|wanted| effective.is_secret() == wanted)
                        && conditions.covers_layer(effective.origin.layer.word())
                        && conditions.covers_value(effective.expose(), entry, field.this_type)
                        && beside::stand_in(resolver, &conditions.beside, id)
                    {
                        found.push((id, effective));
                    }
                }
            }
        }
        found
    };
    let units: Vec<_> = ledger.unit_ids().collect();
    units.into_par_iter().with_max_len(UNITS_AT_ONCE).flat_map_iter(of_unit).collect()
}
