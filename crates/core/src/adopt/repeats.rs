//! Parts that repeat: values that could refer to another one, or to the stage, instead.

use std::collections::BTreeMap;

use super::{Proposed, ProposedField, ProposedKind, with_stage};
use crate::model::StageId;
use crate::name::Name;
use crate::types::Type;
use crate::uri::authority;
use crate::value::Value;

/// A host that stands in several values, the same ones in every stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repeat {
    /// The field whose value it is, as `ENTRY` or `ENTRY.FIELD`, if there is one.
    pub of: Option<String>,
    /// The fields that hold it among other text.
    pub within: Vec<String>,
}

/// Fields whose values differ between stages by the stage's name alone, as `ENTRY` or `ENTRY.FIELD`.
pub fn naming_the_stage(proposed: &[Proposed], stages: &[(StageId, &Name)]) -> Vec<String> {
    let all: Vec<StageId> = stages.iter().map(|(stage, _)| *stage).collect();
    let names_it = |(_, _, values): &Valued<'_>| {
        let mut texts = stages.iter().map(|(stage, name)| {
            let text = values.get(stage)?;
            let made = with_stage(text, name.as_str());
            (made != *text).then_some(made)
        });
        let first = texts.next().flatten();
        first.is_some() && texts.all(|text| text == first)
    };
    let fields = proposed.iter().flat_map(|entry| valued(entry, &all));
    fields
        .filter(|field| stages.len() > 1 && !field.1.secret && names_it(field))
        .map(|(called, ..)| called)
        .collect()
}

/// A field with what it is called, and its values by stage; the default counts for all.
type Valued<'p> = (String, &'p ProposedField, BTreeMap<StageId, &'p str>);

/// Finds hosts that stand in other values too.
pub fn repeats(proposed: &[Proposed], stages: &[StageId]) -> Vec<Repeat> {
    let fields: Vec<Valued<'_>> = proposed.iter().flat_map(|entry| valued(entry, stages)).collect();
    let mut by_hosts: BTreeMap<Vec<(StageId, &str)>, Vec<&Valued<'_>>> = BTreeMap::new();
    for field in &fields {
        let hosts: Option<Vec<(StageId, &str)>> =
            field.2.iter().map(|(stage, text)| Some((*stage, host_in(field.1.this_type, text)?))).collect();
        if let Some(hosts) = hosts.filter(|hosts| !hosts.is_empty()) {
            by_hosts.entry(hosts).or_default().push(field);
        }
    }
    let mut found = Vec::new();
    for same in by_hosts.values().filter(|same| same.len() > 1) {
        let of = same.iter().find(|field| field.1.this_type == Type::Host);
        let name = of.map(|field| field.0.clone());
        let within = same.iter().map(|field| field.0.clone()).filter(|other| Some(other) != name.as_ref());
        found.push(Repeat { of: name.clone(), within: within.collect() });
    }
    found
}

fn valued<'p>(entry: &'p Proposed, stages: &[StageId]) -> Vec<Valued<'p>> {
    let called = |field: &ProposedField| match &field.name {
        None => entry.name.to_string(),
        Some(name) => format!("{}.{name}", entry.name),
    };
    let values = |field: &'p ProposedField| -> BTreeMap<StageId, &'p str> {
        let default = field.default.as_ref().and_then(Value::as_text);
        let set = field.settings.iter().filter_map(|(stage, value)| Some((*stage, value.as_text()?)));
        stages.iter().filter_map(|stage| Some((*stage, default?))).chain(set).collect()
    };
    let is_secret = |field: &&ProposedField| field.secret && entry.kind == ProposedKind::Variable;
    let fields = entry.fields.iter().filter(|field| !is_secret(field));
    fields.map(|field| (called(field), field, values(field))).collect()
}

/// The host that a value is, or has as a URL.
fn host_in(this: Type, text: &str) -> Option<&str> {
    if this == Type::Host {
        return Some(text);
    }
    let (_, host) = authority(text)?;
    let host = host.split_once(':').map_or(host, |(host, _)| host);
    (!host.is_empty() && host != "localhost").then_some(host)
}
