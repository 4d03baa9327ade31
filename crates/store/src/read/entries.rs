//! Entries and their fields, as contracts and shared files declare them.

use std::sync::Arc;

use cledger_core::address::Owner;
use cledger_core::cipher::holds_cipher;
use cledger_core::model::{
    Constraints, Declaration, Default, Distinct, Entry, Form, Kind, OutputFormat, OutputNames, Required,
    Vary, Verdict, credential_fields, endpoint_fields, protocol_fields,
};
use cledger_core::name::Name;
use cledger_core::source::Place;
use cledger_core::types::{Measure, Type};
use cledger_core::value::{Held, Value};

use super::frame::{In, Item};
use super::outputs::stage_text;
use super::patterns::Patterns;
use super::tables::{self, For};
use super::toml_table::{Spanned, TomlTable, TomlValue};
use crate::mistake::Mistakes;
use crate::vocabulary::{FIELD, TABLE, names};
use cledger_core::model::Mistake;

/// The tables that declare entries.
pub(super) const KINDS: [&str; 5] = ["variables", "connections", "endpoints", "credentials", "tables"];

/// All entries that a file declares, by name.
pub(super) fn entries(read: In<'_>, table: &TomlTable<'_>, patterns: &Patterns, owner: &Owner) -> Vec<Entry> {
    let declared = KINDS.iter().filter_map(|kind| table.get(kind)?.get_ref().as_table());
    let mut entries: Vec<Entry> = Vec::with_capacity(declared.map(TomlTable::len).sum());
    for kind in KINDS {
        let Some(item) = table.get(kind) else { continue };
        let Some(declared) = read.table(item, &format!("`{kind}`")) else { continue };
        for (key, item) in declared {
            let Some(name) = read.name(key, "an entry", true) else { continue };
            let Some(table) = read.table(item, "an entry's declaration") else { continue };
            let place = read.place(key.span());
            let declared = Declared { read, item, table, place, patterns };
            let made = match kind {
                "variables" => Some(variable(declared)),
                "connections" => connection(declared),
                "endpoints" => Some(endpoint(declared)),
                "credentials" => credential(declared),
                _ => lookup_table(declared, owner, &name),
            };
            if let Some((kind, about, fields)) = made {
                entries.push(Entry { name, kind, about, fields, place });
            }
        }
    }
    unique(read.mistakes, entries)
}

/// Sorts entries by name and refuses a name that is declared twice.
pub(super) fn unique(mistakes: &Mistakes, mut entries: Vec<Entry>) -> Vec<Entry> {
    entries.sort_by(|a, b| (&a.name, a.place).cmp(&(&b.name, b.place)));
    for pair in entries.windows(2) {
        if pair[0].name == pair[1].name {
            let (name, first, second) = (&pair[0].name, &pair[0].kind, &pair[1]);
            let message = format!("`{name}` is declared twice: as a {} too", first.name());
            mistakes.push(Mistake::at(second.place, message).help(
                "give one of them another name: an entry's name is unique in its unit, whatever its kind",
            ));
        }
    }
    entries.dedup_by(|b, a| a.name == b.name);
    entries
}

/// An entry's kind, what it is for, and its fields.
type Made = (Kind, Option<Arc<str>>, Vec<Declaration>);

/// What a file says of one entry, and what that is read with.
#[derive(Clone, Copy)]
struct Declared<'d, 't, 'i> {
    read: In<'d>,
    item: Item<'t, 'i>,
    table: &'t TomlTable<'i>,
    place: Place,
    patterns: &'d Patterns,
}

impl<'t, 'i> Declared<'_, 't, 'i> {
    /// Hands the one key that is of this kind of entries alone to `own`, and gives what the entry is for.
    fn head(self, key: Option<&str>, own: impl FnOnce(Item<'t, 'i>)) -> Option<Arc<str>> {
        let known: Vec<&str> = key.into_iter().chain(["about", "fields"]).collect();
        self.read.keys(self.table, &known, |_, _| {});
        if let Some(item) = key.and_then(|key| self.table.get(key)) {
            own(item);
        }
        let about = self.table.get("about")?;
        self.read.text(about, "`about`").map(Arc::from)
    }

    /// The fields that its kind gives it, tuned by `fields.<name>`, and others after them, by name.
    fn fields(self, mut fields: Vec<Declaration>) -> Vec<Declaration> {
        tune(self.read, self.table, &mut fields, self.patterns);
        fields
    }

    /// Says that it lacks the key without which it is nothing.
    fn lacks(self, key: &str, what: &str, help: &str) {
        if !self.table.contains_key(key) {
            self.read.wrong_with(self.item.span(), format!("this {what} has no `{key}`"), help);
        }
    }
}

const ATTRIBUTES: [&str; FIELD.len()] = names(&FIELD);

fn variable(Declared { read, table, place, patterns, .. }: Declared<'_, '_, '_>) -> Made {
    let mut field = Declaration::plain(None, Type::Text, place);
    attributes(read, table, &mut field, patterns);
    (Kind::Variable, field.about.clone(), vec![field])
}

fn connection(declared: Declared<'_, '_, '_>) -> Option<Made> {
    let (read, mut protocol) = (declared.read, None);
    let about = declared.head(Some("protocol"), |item| {
        let text = read.text(item, "`protocol`");
        protocol = text.and_then(|text| read.name_text(text, item.span(), "a protocol", false));
    });
    let help = "write protocol = \"postgresql\", \"amqp\", \"tcp\" or another one";
    declared.lacks("protocol", "connection", help);
    let protocol = protocol?;
    let (fields, url) = protocol_fields(protocol.as_str(), declared.place);
    Some((Kind::Connection { protocol, url }, about, declared.fields(fields)))
}

fn endpoint(declared: Declared<'_, '_, '_>) -> Made {
    let about = declared.head(None, |_| {});
    (Kind::Endpoint, about, declared.fields(endpoint_fields(declared.place)))
}

fn credential(declared: Declared<'_, '_, '_>) -> Option<Made> {
    let mut form = None;
    let about = declared.head(Some("form"), |item| {
        form = declared.read.choice(item, "the form of a credential", &Form::ALL);
    });
    let help = "write form = \"password\", \"token\", \"key-pair\" or \"certificate\"";
    declared.lacks("form", "credential", help);
    let form = form?;
    Some((Kind::Credential(form), about, declared.fields(credential_fields(form, declared.place))))
}

/// A lookup table: its columns, the one that is the key, and its rows, if it has any by default.
fn lookup_table(declared: Declared<'_, '_, '_>, owner: &Owner, name: &Name) -> Option<Made> {
    let Declared { read, item, table, place, .. } = declared;
    let (mut columns, mut key, mut about, mut given) = (Vec::new(), None, None, None);
    let mut field = Declaration::plain(None, Type::Table, place);
    read.keys(table, &names(&TABLE), |word, item| match word {
        "columns" => columns = read.texts(item, "`columns`"),
        "key" => key = read.text(item, "`key`").map(|text| (text.to_owned(), item.span())),
        "rows" => given = Some(item),
        "required" => {
            if read.boolean(item, "`required`") == Some(false) {
                field.required = Required::No;
            }
        }
        "about" => about = read.text(item, "`about`").map(Arc::from),
        _ => field.set_output_names(output_names(read, item)),
    });
    let columns: Vec<String> = columns.into_iter().map(|(text, _)| text.to_owned()).collect();
    let (Some((key, span)), false) = (key, columns.is_empty()) else {
        let help = "write columns = [\"…\", \"…\"] and key = \"…\"";
        read.wrong_with(item.span(), "this table needs `columns` and a `key` among them", help);
        return None;
    };
    let twice = columns.iter().enumerate().any(|(at, column)| columns[..at].contains(column));
    if twice || !columns.contains(&key) {
        let message = if twice { "a column is there twice" } else { "the key is none of the columns" };
        read.wrong_with(span, message, format!("the columns are {}", columns.join(", ")));
        return None;
    }
    if let Some(item) = given {
        let of = For { owner: owner.clone(), entry: name, layer: None, columns: &columns, key: &key };
        let rows = tables::rows(read, item, &of)?;
        let value = Held::new(Value::Map(rows.values), false);
        field.default = Some(Default { value, verdict: Verdict::Fits, place: Some(read.place(item.span())) });
        field.rows = rows.places.into();
    }
    field.about.clone_from(&about);
    Some((Kind::Table { columns, key }, about, vec![field]))
}

/// Applies `fields.<name>`: tunes built-in fields, and adds others after them, by name.
fn tune(read: In<'_>, table: &TomlTable<'_>, fields: &mut Vec<Declaration>, patterns: &Patterns) {
    let Some(tuned) = table.get("fields").and_then(|item| read.table(item, "`fields`")) else {
        return;
    };
    for (key, item) in tuned {
        let Some(name) = read.name(key, "a field", false) else { continue };
        let Some(table) = read.table(item, "a field's declaration") else { continue };
        let place = read.place(key.span());
        let known = fields.iter_mut().find(|field| field.name.as_ref() == Some(&name));
        if let Some(field) = known {
            tune_built_in(read, table, field, place, patterns);
        } else {
            let mut field = Declaration::plain(Some(name), Type::Text, place);
            attributes(read, table, &mut field, patterns);
            fields.push(field);
        }
    }
}

fn tune_built_in(
    read: In<'_>,
    table: &TomlTable<'_>,
    field: &mut Declaration,
    place: Place,
    patterns: &Patterns,
) {
    if field.derived {
        for (key, _) in table {
            if !["about", "as"].contains(&key.get_ref().as_ref()) {
                let message = "this field is derived from others: only `about` and `as` can be said of it";
                read.wrong(key.span(), message);
                return;
            }
        }
    }
    let before = field.this_type;
    field.place = place;
    attributes(read, table, field, patterns);
    if field.this_type != before {
        let span = table.get("type").map_or(0..0, Spanned::span);
        let message = format!("this field comes with its kind and is of type {}", before.name());
        read.wrong_with(span, message, "leave out `type`, or add a field with another name");
        field.this_type = before;
    }
}

/// Reads what is said of a field. Types come first, since the others are judged by them.
fn attributes(read: In<'_>, table: &TomlTable<'_>, field: &mut Declaration, patterns: &Patterns) {
    if let Some(item) = table.get("type") {
        let types: Vec<(Type, &str)> =
            Type::names().filter_map(|name| Some((Type::by_name(name)?, name))).collect();
        field.this_type = read.choice(item, "the type", &types).unwrap_or(field.this_type);
    }
    let this_type = field.this_type;
    let mut constraints = field.constraints.take().map(|known| *known).unwrap_or_default();
    let mut default = None;
    read.keys(table, &ATTRIBUTES, |key, item| match key {
        "default" => default = Some(item),
        "required" => {
            if let Some(required) = read.boolean(item, "`required`") {
                field.required = if required { Required::Yes } else { Required::No };
            }
        }
        "vary" => {
            let words = [(Vary::Never, "never"), (Vary::May, "may"), (Vary::Must, "must")];
            field.vary = read.choice(item, "`vary`", &words).unwrap_or(field.vary);
        }
        "distinct" => field.distinct = distinct(read, item).unwrap_or(field.distinct),
        "secret" => {
            field.secret = read.boolean(item, "`secret`").unwrap_or(field.secret);
            if field.secret && !table.contains_key("distinct") {
                field.distinct = Distinct::Classes;
            }
        }
        "one_of" => constraints.one_of = one_of(read, item, this_type),
        "min" => constraints.min = bound(read, item, this_type, "min"),
        "max" => constraints.max = bound(read, item, this_type, "max"),
        "pattern" => {
            let text = read.text(item, "`pattern`").unwrap_or_default();
            match patterns.compile(text) {
                Ok(pattern) => constraints.pattern = Some(pattern),
                Err(error) => read.wrong(item.span(), format!("`pattern` does not compile: {error}")),
            }
        }
        "max_length" => match read.value(item) {
            Value::Integer(length) if length >= 0 => {
                constraints.max_length = usize::try_from(length).ok();
            }
            _ => read.expected(item, "`max_length`", "a number of characters"),
        },
        "about" => field.about = read.text(item, "`about`").map(Arc::from),
        "as" => field.set_output_names(output_names(read, item)),
        _ => {}
    });
    check_constraints(read, table, &constraints, this_type);
    let any = !constraints.one_of.is_empty()
        || constraints.min.is_some()
        || constraints.max.is_some()
        || constraints.pattern.is_some()
        || constraints.max_length.is_some();
    field.constraints = any.then(|| Box::new(constraints));
    if let Some(item) = default {
        field.default = self::default(read, item, field);
    }
}

/// Refuses constraints that no value of the type could break, or none could satisfy.
fn check_constraints(read: In<'_>, table: &TomlTable<'_>, constraints: &Constraints, this_type: Type) {
    if let (Some((min, _)), Some((max, _))) = (&constraints.min, &constraints.max)
        && min > max
        && let Some(item) = table.get("max").or(table.get("min"))
    {
        read.wrong(item.span(), "`max` is less than `min`");
    }
    let no_text = matches!(this_type, Type::Integer | Type::Number | Type::Boolean | Type::Port | Type::Date);
    for key in ["pattern", "max_length"] {
        if let Some(item) = table.get(key)
            && no_text
        {
            let message = format!("`{key}` is for text, and this field is of type {}", this_type.name());
            read.wrong(item.span(), message);
        }
    }
}

fn distinct(read: In<'_>, item: Item<'_, '_>) -> Option<Distinct> {
    if let TomlValue::Boolean(truth) = item.get_ref() {
        return Some(if *truth { Distinct::Stages } else { Distinct::No });
    }
    read.choice(item, "`distinct`", &[(Distinct::Classes, "class")])
}

fn one_of(read: In<'_>, item: Item<'_, '_>, this_type: Type) -> Vec<Value> {
    let element = if matches!(this_type, Type::List | Type::Map) { Type::Text } else { this_type };
    let mut values = Vec::new();
    for item in read.list(item, "`one_of`") {
        let value = read.value(item);
        if element.fits(&value) {
            values.push(value);
        } else {
            read.expected(item, "each of `one_of`", element.describe());
        }
    }
    if values.is_empty() && item.get_ref().is_array() {
        read.wrong(item.span(), "`one_of` allows nothing at all");
    }
    values
}

fn bound(
    read: In<'_>,
    item: Item<'_, '_>,
    this_type: Type,
    key: &str,
) -> Option<(Measure, compact_str::CompactString)> {
    let value = read.value(item);
    let measure = Measure::of(&value, this_type);
    if measure.is_none() {
        let message = format!("`{key}` must be a value of type {} that can be compared", this_type.name());
        read.wrong(item.span(), message);
    }
    Some((measure?, value.to_text()))
}

fn output_names(read: In<'_>, item: Item<'_, '_>) -> OutputNames {
    let mut names = OutputNames::default();
    let name = |item: Item<'_, '_>| {
        let text = read.text(item, "`as`")?;
        if text.is_empty() || text.contains(['\n', '\r', '\0']) {
            read.wrong(item.span(), "a name in outputs is one line of text, and not empty");
            return None;
        }
        stage_text(read, item, "`as`").map(|(text, _)| text.as_written().to_owned())
    };
    if let TomlValue::Table(table) = item.get_ref() {
        let formats = OutputFormat::ALL.map(|(_, name)| name);
        read.keys(table, &formats, |format, item| {
            names.by_format.extend(name(item).map(|name| (format.to_owned(), name)));
        });
    } else {
        names.all = name(item);
    }
    names
}

fn default(read: In<'_>, item: Item<'_, '_>, field: &Declaration) -> Option<Default> {
    let value = read.value(item);
    if field.secret && !value.has_references() {
        let message = "a secret has no default: it would be the same in every stage";
        let help = "leave `default` out, or refer to another secret with \"${entry.field}\"";
        read.mistakes.push(Mistake::at(read.place(item.span()), message).help(help).secret());
        return None;
    }
    if holds_cipher(&value) {
        let help = "set it in the stages and groups; each has a key of its own";
        read.wrong_with(item.span(), "cipher text is no default, since no key opens it", help);
        return None;
    }
    let value = field.as_held(value);
    let verdict = field.judge(&value);
    let place = Some(read.place(item.span()));
    Some(Default { value: Held::new(value, field.secret), verdict, place })
}
