//! Making declarations and values of what was gathered.

use std::collections::{BTreeMap, BTreeSet};

use super::infer::{all_as, infer};
use super::order::merged;
use super::recognise::{Recognised, recognise};
use super::secrecy::{is_json_with_one, is_named_so, is_seen_so};
use super::words::{name_of, unused, words};
use super::{NotPlaced, OldField, OldPlace, Proposed, ProposedField, ProposedKind};
use crate::model::{Declaration, Required, StageId, Vary};
use crate::name::Name;
use crate::source::{FileId, Place};
use crate::types::Type;
use crate::value::Value;

/// Proposes entries for these fields in these stages. Entries get names that are not `in_use`; without `defaults`, all
/// values are settings.
pub fn propose(
    fields: &[OldField],
    stages: &[StageId],
    in_use: impl Fn(&str) -> bool,
    defaults: bool,
) -> (Vec<Proposed>, Vec<NotPlaced>) {
    // Nothing of it is shown: what is proposed stands nowhere yet.
    let place = Place { file: FileId(0), start: 0, end: 0 };
    let mut maker = Maker { fields, stages, defaults, names: BTreeSet::new() };
    let (mut proposed, mut not_placed) = (Vec::new(), Vec::new());
    let mut done: BTreeSet<usize> = BTreeSet::new();
    for recognised in recognise(fields, place) {
        let Some(name) = maker.name(&recognised.words, '-', &in_use) else { continue };
        let of_old: Vec<usize> = recognised.fields.iter().filter_map(|(.., old)| *old).collect();
        proposed.push((places(fields, &of_old), maker.entry(name, recognised)));
        done.extend(of_old);
    }
    for (at, field) in fields.iter().enumerate().filter(|(at, _)| !done.contains(at)) {
        let Some(first) = field.values.values().next() else { continue };
        let Some(name) = maker.name(&words(field.name()), '_', &in_use) else { continue };
        match maker.variable(at) {
            Ok(field) => {
                let entry = Proposed { name, kind: ProposedKind::Variable, fields: vec![field] };
                proposed.push((places(fields, &[at]), entry));
            }
            Err(reason) => {
                maker.names.remove(&name);
                not_placed.push(NotPlaced::of_field(field, first.place, reason));
            }
        }
    }
    proposed.sort_by(|(_, entry), (_, next)| entry.name.cmp(&next.name));
    let (places, entries): (Vec<_>, Vec<_>) = proposed.into_iter().unzip();
    let mut entries: Vec<Option<Proposed>> = entries.into_iter().map(Some).collect();
    let entries = merged(&places).into_iter().filter_map(|at| entries[at].take());
    (entries.collect(), not_placed)
}

/// Where the first of some fields stands in each file.
fn places(fields: &[OldField], of: &[usize]) -> Vec<OldPlace> {
    let mut by_file: BTreeMap<usize, OldPlace> = BTreeMap::new();
    for place in of.iter().flat_map(|&at| fields[at].values.values().map(|old| old.place)) {
        let first = by_file.entry(place.file).or_insert(place);
        *first = (*first).min(place);
    }
    by_file.into_values().collect()
}

struct Maker<'f> {
    fields: &'f [OldField],
    stages: &'f [StageId],
    defaults: bool,
    names: BTreeSet<Name>,
}

impl Maker<'_> {
    fn name(&mut self, words: &[String], between: char, in_use: &impl Fn(&str) -> bool) -> Option<Name> {
        // A name without a letter or digit of ours gets one that says nothing; `as` keeps its own.
        let name = name_of(words, between).or_else(|| Name::parse("value").ok())?;
        let name = unused(name, |name| in_use(name) || self.names.contains(name));
        self.names.insert(name.clone());
        Some(name)
    }

    fn entry(&self, name: Name, recognised: Recognised) -> Proposed {
        let mut fields = Vec::new();
        for (declaration, values, old) in recognised.fields {
            let field = self.field(&declaration, values, old);
            let says_nothing = field.names.is_empty() && field.settings.is_empty() && !field.optional;
            if !says_nothing || field.default.is_some() {
                fields.push(field);
            }
        }
        if let Some(auth) = recognised.auth {
            fields.push(ProposedField {
                name: Name::parse("auth").ok(),
                this_type: Type::Text,
                secret: false,
                about: None,
                optional: false,
                default: Some(Value::text(auth)),
                names: BTreeMap::new(),
                settings: BTreeMap::new(),
                missing: Vec::new(),
            });
        }
        Proposed { name, kind: recognised.kind, fields }
    }

    /// A built-in field with the values that were found for it.
    fn field(
        &self,
        declaration: &Declaration,
        values: BTreeMap<StageId, Value>,
        old: Option<usize>,
    ) -> ProposedField {
        let may_default = !declaration.secret && declaration.vary != Vary::Must && !declaration.derived;
        let needed = declaration.required == Required::Yes && declaration.default.is_none();
        let known = declaration.default.as_ref().map(|default| default.value.expose());
        let (default, settings) = self.default_of(values, may_default, old);
        ProposedField {
            name: declaration.name.clone(),
            this_type: declaration.this_type,
            secret: declaration.secret,
            about: old.and_then(|at| self.fields[at].about.clone()).filter(|_| !declaration.secret),
            optional: needed && settings.is_empty() && default.is_none(),
            default: default.filter(|default| known != Some(default)),
            missing: if declaration.derived { Vec::new() } else { self.missing(old) },
            settings,
            names: old.map(|at| self.fields[at].names.clone()).unwrap_or_default(),
        }
    }

    fn variable(&self, at: usize) -> Result<ProposedField, String> {
        let field = &self.fields[at];
        let (this_type, values) = infer(field)?;
        let named = is_named_so(&words(field.name()));
        let is_plain = matches!(this_type, Type::Boolean | Type::Number | Type::Duration);
        let is_json = this_type == Type::Json;
        let has_one = |value: &Value| if is_json { is_json_with_one(value) } else { is_seen_so(value) };
        let secret = named && !is_plain || values.values().any(has_one);
        // What looks like a number may still be a password.
        let as_text = if secret { all_as(field, Type::Text) } else { None };
        let (this_type, values) = match as_text {
            Some(texts) if !matches!(this_type, Type::Pem | Type::Url) => (Type::Text, texts),
            _ => (this_type, values),
        };
        let (default, settings) = self.default_of(values, !secret, Some(at));
        Ok(ProposedField {
            name: None,
            this_type,
            secret,
            // A comment on a secret may tell too much.
            about: field.about.clone().filter(|_| !secret),
            optional: false,
            default,
            names: field.names.clone(),
            settings,
            missing: self.missing(Some(at)),
        })
    }

    /// One value for all stages, or one for each that has it.
    fn default_of(
        &self,
        mut values: BTreeMap<StageId, Value>,
        may_default: bool,
        old: Option<usize>,
    ) -> (Option<Value>, BTreeMap<StageId, Value>) {
        if !may_default || !self.defaults {
            return (None, values);
        }
        // What a base file says is the default, and what stages say otherwise are settings.
        let from_base = old.map(|at| &self.fields[at].from_base);
        let base = from_base.and_then(|stages| values.get(stages.first()?).cloned());
        if let Some(base) = base {
            values.retain(|_, value| *value != base);
            return (Some(base), values);
        }
        let everywhere = self.stages.iter().all(|stage| values.contains_key(stage));
        let mut others = values.values();
        let first = others.next().cloned();
        let same = others.all(|value| Some(value) == first.as_ref());
        if everywhere && same {
            values.clear();
            return (first, values);
        }
        (None, values)
    }

    fn missing(&self, old: Option<usize>) -> Vec<StageId> {
        let Some(field) = old.map(|at| &self.fields[at]) else { return Vec::new() };
        self.stages.iter().copied().filter(|stage| !field.values.contains_key(stage)).collect()
    }
}
