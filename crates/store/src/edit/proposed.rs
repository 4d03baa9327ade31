//! Declarations and outputs that are proposed, as the blocks of a contract.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use cledger_core::adopt::{Proposed, ProposedField, ProposedKind};
use cledger_core::model::{Declaration, Entry, Form, Kind, Output, OutputFormat, OutputOrder, SecretsIn};
use cledger_core::name::Name;
use cledger_core::output::{NameMaker, OutputName, as_text};
use cledger_core::source::{FileId, Files, Place};
use cledger_core::tree::Branch;
use cledger_core::types::Type;
use cledger_core::value::Value;

use super::literal;

/// The declaration of an entry. `makers` are those of its outputs: a name that they would make need not
/// be said.
pub fn entry_block(
    proposed: &Proposed,
    makers: &BTreeMap<usize, NameMaker<'_>>,
    about: Option<&str>,
) -> String {
    let (table, first) = match &proposed.kind {
        ProposedKind::Connection(protocol) => ("connections", format!("protocol = \"{protocol}\"\n")),
        ProposedKind::Endpoint => ("endpoints", String::new()),
        ProposedKind::Variable => ("variables", String::new()),
    };
    let mut block = format!("[{table}.{}]\n{first}", proposed.name);
    // A variable is its only field.
    let own =
        proposed.fields.iter().find(|field| field.name.is_none()).and_then(|field| field.about.as_deref());
    let about = match (own, about) {
        (Some(own), Some(about)) => Some(format!("{own} ({about})")),
        (own, about) => own.or(about).map(str::to_owned),
    };
    if let Some(about) = about {
        let _ = writeln!(block, "about = {}", literal(&Value::text(&about), None));
    }
    for field in &proposed.fields {
        let said = said(proposed, field, makers);
        for (key, text) in said {
            let _ = match &field.name {
                None => writeln!(block, "{key} = {text}"),
                Some(name) => writeln!(block, "fields.{name}.{key} = {text}"),
            };
        }
    }
    block
}

/// What is said of a field, in the order of writing.
fn said(
    proposed: &Proposed,
    field: &ProposedField,
    makers: &BTreeMap<usize, NameMaker<'_>>,
) -> Vec<(&'static str, String)> {
    let mut said = Vec::new();
    if field.name.is_none() {
        if field.this_type != Type::Text {
            said.push(("type", format!("\"{}\"", field.this_type.name())));
        }
        if field.secret {
            said.push(("secret", "true".to_owned()));
        }
    }
    if let Some(about) = field.about.as_ref().filter(|_| field.name.is_some()) {
        said.push(("about", literal(&Value::text(about), None)));
    }
    if let Some(default) = &field.default {
        said.push(("default", literal(&default.escaped(), None)));
    }
    if field.optional {
        said.push(("required", "false".to_owned()));
    }
    let (entry, declaration) = modelled(proposed, field);
    let mut names: BTreeMap<&str, String> = BTreeMap::new();
    for (output, (format, name)) in &field.names {
        let usual = makers.get(output).copied().unwrap_or_else(|| NameMaker::usual(*format));
        let made: Option<OutputName> = usual.name_of(&entry, &declaration).ok();
        if made.as_ref() != Some(name) {
            names.insert(format.name(), as_text(*format, name));
        }
    }
    if !names.is_empty() {
        let names = names.iter().map(|(format, name)| ((*format).into(), Value::text(name))).collect();
        said.push(("as", literal(&Value::Map(names), None)));
    }
    said
}

/// The entry and field as far as names are made of them.
fn modelled(proposed: &Proposed, field: &ProposedField) -> (Entry, Declaration) {
    let place = Place { file: FileId(0), start: 0, end: 0 };
    let kind = match proposed.kind {
        ProposedKind::Variable => Kind::Variable,
        // What names are made of is the same for all others.
        ProposedKind::Connection(_) | ProposedKind::Endpoint => Kind::Credential(Form::Token),
    };
    let entry = Entry { name: proposed.name.clone(), kind, about: None, fields: Vec::new(), place };
    (entry, Declaration::plain(field.name.clone(), field.this_type, place))
}

/// An output.
#[derive(Debug, Clone)]
pub struct ProposedOutput {
    /// Its path, as it is written.
    pub path: String,
    /// Its format.
    pub format: OutputFormat,
    /// The name of the manifest that it is, as it is written, where it is not the unit's.
    pub manifest_name: Option<String>,
    /// In which order its names stand.
    pub order: OutputOrder,
    /// What the file says beside its values, as it is written.
    pub beside: Branch,
    /// Which values it holds, where that is to be said.
    pub secrets: Option<SecretsIn>,
    /// The fields that it does not hold.
    pub except: Vec<String>,
    /// What its files hold and no field does: name, place and reason.
    pub not_adopted: Vec<LeftOut>,
}

/// What has no place: its name, the file and line, and why.
pub type LeftOut = (String, String, String);

/// The block of an output.
pub fn output_block(output: &ProposedOutput) -> String {
    let path = literal(&Value::text(&output.path), None);
    let mut block = format!("[[output]]\npath = {path}\nformat = \"{}\"\n", output.format.name());
    if let Some(name) = &output.manifest_name {
        let _ = writeln!(block, "name = {}", literal(&Value::text(name), None));
    }
    if output.order == OutputOrder::Declared {
        block.push_str("order = \"declared\"\n");
    }
    if output.format.is_manifest() && !output.beside.is_empty() {
        let _ = writeln!(block, "manifest = {}", literal(&Value::Map(output.beside.clone()), None));
    } else if let Some(element) = output.beside.get("element") {
        let _ = writeln!(block, "element = {}", literal(element, None));
    }
    let word = SecretsIn::ALL.iter().find(|(secrets, _)| Some(*secrets) == output.secrets);
    if let Some((_, word)) = word {
        let _ = writeln!(block, "secrets = \"{word}\"");
    }
    if !output.except.is_empty() {
        let _ = writeln!(block, "except = {}", patterns(&output.except));
    }
    if !output.not_adopted.is_empty() {
        let _ = writeln!(block, "not_adopted = {}", left_out(&output.not_adopted));
    }
    block
}

/// A list of what has no place, a line each.
fn left_out(all: &[LeftOut]) -> String {
    let mut list = "[\n".to_owned();
    for (name, at, why) in all {
        let [name, at, why] = [name, at, why].map(|text| literal(&Value::text(text), None));
        let _ = writeln!(list, "    {{ name = {name}, at = {at}, why = {why} }},");
    }
    list + "]"
}

/// The text of the list of what has no place of an output, and the place that it takes; [`None`] if it says that
/// already.
pub fn not_adopted_list(files: &Files, output: &Output, all: &[LeftOut]) -> Option<(Place, String)> {
    let here = output.not_adopted.iter().map(|it| (it.name.clone(), it.at.clone(), it.why.clone()));
    if here.eq(all.iter().cloned()) {
        return None;
    }
    if let Some(place) = output.not_adopted_list {
        return Some((place, if all.is_empty() { "[]".to_owned() } else { left_out(all) }));
    }
    Some((output.place, behind_path(files, output, "not_adopted", &left_out(all))?))
}

/// The text of an output's path with a key behind it.
fn behind_path(files: &Files, output: &Output, key: &str, said: &str) -> Option<String> {
    let text = &files.get(output.place.file)?.text;
    let path = text.get(output.place.start as usize..output.place.end as usize)?;
    Some(format!("{path}\n{key} = {said}"))
}

/// A list of what an output holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OutputList {
    /// These alone.
    Only,
    /// All but these.
    Except,
}

/// The text of a list of an output with these patterns in it, too, and the place that it takes. [`None`] where there
/// is no list of what it holds alone: that would leave everything else out.
pub fn added_to_list(
    files: &Files,
    output: &Output,
    list: OutputList,
    added: &[String],
) -> Option<(Place, String)> {
    let (here, place) = match list {
        OutputList::Only => (&output.only, output.lists[0]),
        OutputList::Except => (&output.except, output.lists[1]),
    };
    let all: Vec<String> = here.texts().iter().chain(added).cloned().collect();
    match (place, list) {
        (Some(place), _) => Some((place, patterns(&all))),
        // Behind the path, where the output has no such list yet.
        (None, OutputList::Except) => {
            Some((output.place, behind_path(files, output, "except", &patterns(&all))?))
        }
        (None, OutputList::Only) => None,
    }
}

/// A list of patterns of fields.
pub fn patterns(texts: &[String]) -> String {
    literal(&Value::List(texts.iter().map(|text| Value::text(text)).collect()), None)
}

/// The pattern of an entry's field.
pub fn field_pattern(entry: &Name, field: Option<&Name>) -> String {
    field.map_or_else(|| entry.to_string(), |field| format!("{entry}.{field}"))
}
