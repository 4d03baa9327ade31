//! Which names in which files are one field.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use super::words::loose;
use super::{NotPlaced, OldField, OldFile, OldPlace, OldValue};
use crate::model::{OutputFormat, StageId};
use crate::name::Name;
use crate::output::OutputName;
use crate::reference;
use crate::tree::Branch;
use crate::value::Value;

/// What the files have together.
#[derive(Debug, Clone, Default)]
pub struct Gathered {
    /// The fields to be, by name.
    pub fields: Vec<OldField>,
    /// What has no place.
    pub not_placed: Vec<NotPlaced>,
    /// For each file, the names in it as contracts have them.
    pub names: Vec<BTreeMap<OutputName, OutputName>>,
}

/// Puts together what is one field. In files of one output a name is one field; across outputs, names
/// that differ in their spelling alone are, unless an output has two of that kind, or a stage two values.
pub fn gather(files: &[OldFile]) -> Gathered {
    let mut not_placed = Vec::new();
    let names = names_as_written(files);
    let mut leaves: BTreeMap<(usize, OutputName), Vec<(usize, Value)>> = BTreeMap::new();
    let mut beside = Beside::default();
    for (at, file) in files.iter().enumerate() {
        for (raw, value) in flattened(&file.tree.0) {
            let name = names[at].get(&raw).unwrap_or(&raw).clone();
            beside.add((at, name.clone()), file, &raw);
            leaves.entry((file.output, name)).or_default().push((at, value));
        }
    }
    // A name that is a value in one file and a level in another.
    let all: Vec<(usize, OutputName)> = leaves.keys().cloned().collect();
    for pair in all.windows(2) {
        if pair[0].0 == pair[1].0 && pair[1].1.starts_with(&pair[0].1) {
            for (file, _) in leaves.remove(&pair[0]).unwrap_or_default() {
                let reason = "it is a value here, and a level with values below it elsewhere".to_owned();
                let place = beside.place(file, &pair[0].1);
                not_placed.push(NotPlaced { names: [pair[0].clone()].into(), place, reason });
            }
        }
    }
    let mut fields: BTreeMap<String, Vec<OldField>> = BTreeMap::new();
    for ((output, name), values) in leaves {
        // Names without a letter or digit are alike in nothing.
        let key = Some(loose(&name)).filter(|key| !key.is_empty()).unwrap_or_else(|| name.join("."));
        let of_key = fields.entry(key).or_default();
        let joins = of_key.iter().position(|field| may_join(field, output, &values, files));
        let at = joins.unwrap_or_else(|| {
            of_key.push(OldField::default());
            of_key.len() - 1
        });
        join(&mut of_key[at], output, name, values, files, &beside);
    }
    let mut fields: Vec<OldField> = fields.into_values().flatten().collect();
    fields.sort_by(|one, other| one.names.cmp(&other.names));
    Gathered { fields, not_placed, names }
}

/// The names in each file as contracts have them. One with the stage's name in it refers to the stage if
/// another stage's file of the same output has the like.
fn names_as_written(files: &[OldFile]) -> Vec<BTreeMap<OutputName, OutputName>> {
    let of_stage = |name: &OutputName, stage: &Name| -> OutputName {
        name.iter().map(|step| with_stage(&reference::escape(step), stage.as_str())).collect()
    };
    let mut carrying: BTreeMap<(usize, OutputName), BTreeSet<StageId>> = BTreeMap::new();
    for file in files {
        for (name, _) in flattened(&file.tree.0) {
            let carried = of_stage(&name, &file.stage_name);
            carrying.entry((file.output, carried)).or_default().insert(file.stage);
        }
    }
    let of_file = |file: &OldFile| {
        let names = flattened(&file.tree.0).into_iter().map(|(name, _)| {
            let carried = of_stage(&name, &file.stage_name);
            let escaped: OutputName = name.iter().map(|step| reference::escape(step)).collect();
            let stages = carrying.get(&(file.output, carried.clone())).map_or(0, BTreeSet::len);
            (name, if stages > 1 { carried } else { escaped })
        });
        names.collect()
    };
    files.iter().map(of_file).collect()
}

/// A text with `${stage.name}` in place of the stage's name, where that stands as a whole word.
pub fn with_stage(text: &str, stage: &str) -> String {
    let is_word = |c: char| c.is_alphanumeric();
    let mut made = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(stage) {
        let (before, after) = (&rest[..at], &rest[at + stage.len()..]);
        let whole = !before.ends_with(is_word) && !after.starts_with(is_word);
        made.push_str(before);
        made.push_str(if whole { "${stage.name}" } else { stage });
        rest = after;
    }
    made.push_str(rest);
    made
}

/// The values in a tree that are no levels, with their names; an empty level is one.
pub fn flattened(branch: &Branch) -> Vec<(OutputName, Value)> {
    let mut found = Vec::new();
    let mut open: Vec<(OutputName, &Branch)> = vec![(Vec::new(), branch)];
    while let Some((steps, level)) = open.pop() {
        for (name, value) in level {
            let mut steps = steps.clone();
            steps.push(name.to_string());
            match value {
                Value::Map(below) if !below.is_empty() => open.push((steps, below)),
                other => found.push((steps, other.clone())),
            }
        }
    }
    found
}

fn may_join(field: &OldField, output: usize, values: &[(usize, Value)], files: &[OldFile]) -> bool {
    let agrees = |(file, value): &(usize, Value)| {
        let known = field.values.get(&files[*file].stage);
        known.is_none_or(|known| known.value.to_text() == value.to_text())
    };
    // In one format, only the same name can be given in both.
    let format = values.first().map(|(file, _)| files[*file].format);
    let same_format = |(known, _): &(OutputFormat, OutputName)| Some(*known) == format;
    !field.names.contains_key(&output) && !field.names.values().any(same_format) && values.iter().all(agrees)
}

/// What stands beside the values: their lines, what comments say of them, and which are those of a base file; by file and
/// by the name that contracts have.
#[derive(Default)]
struct Beside {
    lines: BTreeMap<(usize, OutputName), usize>,
    comments: BTreeMap<(usize, OutputName), String>,
    base: BTreeSet<(usize, OutputName)>,
}

impl Beside {
    fn add(&mut self, key: (usize, OutputName), file: &OldFile, raw: &OutputName) {
        if let Some(comment) = file.comments.get(raw) {
            self.comments.insert(key.clone(), comment.clone());
        }
        if file.base.contains(raw) {
            self.base.insert(key.clone());
        }
        self.lines.insert(key, file.lines.get(raw).copied().unwrap_or(1));
    }

    fn place(&self, file: usize, name: &OutputName) -> OldPlace {
        OldPlace { file, line: self.lines.get(&(file, name.clone())).copied().unwrap_or(1) }
    }
}

fn join(
    field: &mut OldField,
    output: usize,
    name: OutputName,
    values: Vec<(usize, Value)>,
    files: &[OldFile],
    beside: &Beside,
) {
    for (file, value) in values {
        let of = &files[file];
        let key = (file, name.clone());
        let old = OldValue::new(value, of.format, beside.place(file, &name));
        match field.values.entry(of.stage) {
            Entry::Vacant(vacant) => {
                vacant.insert(old);
                if beside.base.contains(&key) {
                    field.from_base.insert(of.stage);
                }
            }
            // A file with types says more than one without.
            Entry::Occupied(mut known) if known.get().is_bare && !old.is_bare => drop(known.insert(old)),
            Entry::Occupied(_) => {}
        }
        if field.about.is_none() {
            field.about = beside.comments.get(&key).cloned();
        }
        field.names.entry(output).or_insert_with(|| (of.format, name.clone()));
    }
}
