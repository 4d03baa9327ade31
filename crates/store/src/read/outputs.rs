//! The outputs of a contract.

use std::ops::Range;

use cledger_core::model::{
    Delimiters, Entry, FieldPatterns, Kind, Levels, Naming, NotAdopted, Output, OutputFormat, OutputOrder,
    OutputTable, OutputTemplate, SecretsIn, Stage, StageText,
};
use cledger_core::name::nearest;
use cledger_core::output::path_fault;
use cledger_core::source::Place;
use cledger_core::tree::Branch;
use cledger_core::value::Value;
use cledger_formats::template;

use super::frame::{In, Item};
use super::stages::some_stages;
use super::toml_table::{TomlTable, TomlValue};
use crate::vocabulary::{DELIMITERS, LEFT_OUT, OUTPUT, names};
use cledger_core::model::Mistake;

/// What can be said of an output.
const KEYS: [&str; OUTPUT.len()] = names(&OUTPUT);

/// Reads all outputs of a unit; `entries` are its own and those that it uses.
pub(super) fn outputs(
    read: In<'_>,
    item: Item<'_, '_>,
    (entries, stages): (&[&Entry], &[Stage]),
) -> Vec<Output> {
    let tables = read.list(item, "`output`");
    // Most units have one, and each takes much room.
    let mut outputs = Vec::with_capacity(tables.len());
    for item in tables {
        let Some(table) = read.table(item, "an output") else { continue };
        outputs.extend(output(read, item, table, (entries, stages)));
    }
    outputs
}

fn output(
    read: In<'_>,
    item: Item<'_, '_>,
    table: &TomlTable<'_>,
    (entries, stages): (&[&Entry], &[Stage]),
) -> Option<Output> {
    let (mut path, mut format, mut of, mut template) = (None, None, None, None);
    let marks =
        table.get("delimiters").map(|item| self::delimiters(read, item, table.contains_key("template")));
    let delimiters = marks.unwrap_or_default();
    read.keys(table, &KEYS, |key, item| match key {
        "path" => path = output_path(read, item),
        "format" => format = read.choice(item, "the format", &OutputFormat::ALL),
        "table" => of = output_table(read, item, entries),
        "template" => template = output_template(read, item, &delimiters),
        _ => {}
    });
    let made = (table.contains_key("format"), table.contains_key("template"));
    match made {
        (true, true) => {
            let help = "leave `format` out: the template makes the whole file";
            read.wrong_with(item.span(), "this output has both a `format` and a `template`", help);
        }
        (false, false) => {
            let words: Vec<&str> = OutputFormat::ALL.iter().map(|(_, word)| *word).collect();
            let help = format!("the formats are {}", words.join(", "));
            read.wrong_with(item.span(), "this output has no `format`, and no `template`", help);
        }
        _ => {}
    }
    if !table.contains_key("path") {
        read.wrong(item.span(), "this output has no `path`");
    }
    let format = if made == (false, true) { OutputFormat::Template } else { format? };
    if (format == OutputFormat::Csv) != table.contains_key("table") {
        let message = "a CSV file holds one lookup table, and no other file is of one alone";
        read.wrong_with(item.span(), message, "write format = \"csv\" and table = \"NAME\" together");
    }
    let (path, place) = path?;
    let mut output = Output { table: of, template, ..Output::plain(path, format, place) };
    read.keys(table, &KEYS, |key, item| match key {
        "stages" => output.stages = Some(some_stages(read, item, stages)),
        "naming" => output.naming = naming(read, item, format).unwrap_or(output.naming),
        "prefix" => output.prefix = stage_text(read, item, "`prefix`").map(|(text, _)| text),
        "only" => {
            output.only = patterns(read, item, "`only`");
            output.lists[0] = Some(read.place(item.span()));
        }
        "except" => {
            output.except = patterns(read, item, "`except`");
            output.lists[1] = Some(read.place(item.span()));
        }
        "secrets" => {
            output.secrets = read.choice(item, "`secrets`", &SecretsIn::ALL).unwrap_or(output.secrets);
        }
        "header" => output.header = header(read, item, format),
        "name" => output.manifest_name = manifest_name(read, item, format),
        "manifest" => output.beside = manifest(read, item, format).unwrap_or_default(),
        "order" => output.order = read.choice(item, "`order`", &OutputOrder::ALL).unwrap_or(output.order),
        "element" => output.beside = element(read, item, format).unwrap_or_default(),
        "not_adopted" => {
            output.not_adopted = not_adopted(read, item);
            output.not_adopted_list = Some(read.place(item.span()));
        }
        _ => {}
    });
    refuse_what_has_no_use(read, table, format);
    Some(output)
}

/// What had no place when files were taken over.
fn not_adopted(read: In<'_>, item: Item<'_, '_>) -> Vec<NotAdopted> {
    let one = |item| {
        let table = read.table(item, "each of `not_adopted`")?;
        let (mut name, mut at, mut why) = (None, None, None);
        read.keys(table, &names(&LEFT_OUT), |key, item| {
            let said = read.text(item, &format!("`{key}`")).map(str::to_owned);
            match key {
                "name" => name = said,
                "at" => at = said,
                _ => why = said,
            }
        });
        if table.len() < 3 {
            let help = "write { name = \"…\", at = \"FILE:LINE\", why = \"…\" }";
            read.wrong_with(item.span(), "this says not what was left out, where it stood and why", help);
        }
        Some(NotAdopted { name: name?, at: at?, why: why?, place: read.place(item.span()) })
    };
    read.list(item, "`not_adopted`").into_iter().filter_map(one).collect()
}

/// Keys that the format makes no use of are mistakes: nothing that is written is ignored.
fn refuse_what_has_no_use(read: In<'_>, table: &TomlTable<'_>, format: OutputFormat) {
    let without_use: &[&str] = match format {
        OutputFormat::Template => &["naming", "prefix", "order"],
        OutputFormat::Csv => &["naming", "prefix", "only", "except", "secrets", "order"],
        _ => &[],
    };
    for (key, _) in table.iter().filter(|(key, _)| without_use.contains(&key.get_ref().as_ref())) {
        let message = format!("`{}` means nothing in a file made by {}", key.get_ref(), article(format));
        read.wrong_with(key.span(), message, "leave it out");
    }
}

fn article(format: OutputFormat) -> &'static str {
    if format == OutputFormat::Csv { "the rows of a table" } else { "a template" }
}

pub(super) fn naming(read: In<'_>, item: Item<'_, '_>, format: OutputFormat) -> Option<Naming> {
    let naming = read.choice(item, "`naming`", &Naming::ALL)?;
    if naming == Naming::Nested && format.levels() == Levels::One {
        let message = format!("names cannot be nested in {} files", format.name());
        read.wrong_with(item.span(), message, "\"dotted\" writes their levels in one name");
        return None;
    }
    Some(naming)
}

pub(super) fn patterns(read: In<'_>, item: Item<'_, '_>, what: &str) -> FieldPatterns {
    let mut patterns = FieldPatterns::default();
    for (text, span) in read.texts(item, what) {
        if patterns.add(text).is_err() {
            let message = format!("`{text}` is no pattern of fields");
            read.wrong_with(span, message, "write ENTRY or ENTRY.FIELD; `*` and `?` match in each");
        }
    }
    patterns
}

fn header(read: In<'_>, item: Item<'_, '_>, format: OutputFormat) -> Option<String> {
    let text = read.text(item, "`header`")?;
    if !format.has_comments() {
        let message = format!("{} files have no comments, and so no header", format.name());
        read.wrong_with(item.span(), message, "leave `header` out");
        return None;
    }
    if text.contains(|c: char| c.is_control() && c != '\n') {
        read.wrong(item.span(), "a header is lines of text, without other control characters");
        return None;
    }
    Some(text.to_owned())
}

fn manifest_name(read: In<'_>, item: Item<'_, '_>, format: OutputFormat) -> Option<StageText> {
    if !format.is_manifest() {
        let help = "leave it out, or write format = \"k8s-config\" or \"k8s-secret\"";
        read.wrong_with(item.span(), "only a manifest has a `name`", help);
        return None;
    }
    stage_text(read, item, "`name`").map(|(text, _)| text)
}

/// How the outermost element of an XML file is called.
fn element(read: In<'_>, item: Item<'_, '_>, format: OutputFormat) -> Option<Branch> {
    if format != OutputFormat::Xml {
        read.wrong_with(
            item.span(),
            "only an XML file has an `element`",
            "leave it out, or write format = \"xml\"",
        );
        return None;
    }
    let (text, _) = stage_text(read, item, "`element`")?;
    Some(Branch::from([("element".into(), Value::text(text.as_written()))]))
}

/// What a manifest says beside its name and data.
fn manifest(read: In<'_>, item: Item<'_, '_>, format: OutputFormat) -> Option<Branch> {
    if !format.is_manifest() {
        let help = "leave it out, or write format = \"k8s-config\" or \"k8s-secret\"";
        read.wrong_with(item.span(), "only a manifest has a `manifest`", help);
        return None;
    }
    let table = read.table(item, "`manifest`")?;
    let said = ["apiVersion", "kind", "data", "stringData", "binaryData"];
    for (key, _) in table.iter().filter(|(key, _)| said.contains(&key.get_ref().as_ref())) {
        let message = format!("`{}` is made from the values of the unit", key.get_ref());
        read.wrong_with(key.span(), message, "leave it out");
    }
    let metadata = table.get("metadata").and_then(|it| it.get_ref().as_table());
    if let Some((key, _)) = metadata.and_then(|it| it.iter().find(|(key, _)| key.get_ref() == "name")) {
        read.wrong_with(
            key.span(),
            "the name of a manifest is said with `name`",
            "write name = \"…\" in the output",
        );
    }
    let mut texts = vec![read.value(item)];
    let Value::Map(branch) = texts[0].clone() else { return None };
    while let Some(value) = texts.pop() {
        match value {
            Value::Map(level) => texts.extend(level.into_values()),
            Value::List(items) => texts.extend(items),
            Value::Text(text) => {
                if let Err(error) = StageText::parse(&text) {
                    let help = "refer to stage.name, stage.class, stage.label.X, unit.name or unit.instance";
                    read.wrong_with(item.span(), error.to_string(), help);
                }
            }
            _ => {}
        }
    }
    Some(branch)
}

/// The lookup table of an output.
fn output_table(read: In<'_>, item: Item<'_, '_>, entries: &[&Entry]) -> Option<OutputTable> {
    let name = read.text(item, "`table`")?;
    let mut tables = entries.iter().filter_map(|entry| match &entry.kind {
        Kind::Table { columns, key } => Some((&entry.name, columns, key)),
        _ => None,
    });
    let found = tables.clone().find(|(known, ..)| known.as_str() == name);
    if let Some((entry, columns, key)) = found {
        return Some(OutputTable { entry: entry.clone(), columns: columns.clone(), key: key.clone() });
    }
    let help = match (nearest(name, tables.clone().map(|(known, ..)| known.as_str())), tables.next()) {
        (Some(near), _) => format!("did you mean \"{near}\"?"),
        (None, Some((known, ..))) => format!("one that it has is \"{known}\""),
        (None, None) => "declare it: [tables.NAME] with `columns` and `key`".to_owned(),
    };
    read.wrong_with(item.span(), format!("the unit has no lookup table `{name}`"), help);
    None
}

/// What stands around the marks of a template.
fn delimiters(read: In<'_>, item: Item<'_, '_>, has_template: bool) -> Delimiters {
    let mut delimiters = Delimiters::default();
    if !has_template {
        read.wrong_with(
            item.span(),
            "only a template has `delimiters`",
            "leave it out, or name a `template`",
        );
    }
    let Some(table) = read.table(item, "`delimiters`") else { return delimiters };
    read.keys(table, &names(&DELIMITERS), |key, item| {
        let texts: Vec<String> =
            read.texts(item, &format!("`{key}`")).into_iter().map(|(text, _)| text.to_owned()).collect();
        let Ok(pair) = <[String; 2]>::try_from(texts) else {
            let help = "write a start and an end: [\"<<\", \">>\"]";
            read.wrong_with(item.span(), format!("`{key}` is not a pair of texts"), help);
            return;
        };
        if pair.iter().any(String::is_empty) {
            read.wrong(item.span(), format!("a text of `{key}` is empty"));
            return;
        }
        *match key {
            "value" => &mut delimiters.value,
            "block" => &mut delimiters.block,
            _ => &mut delimiters.comment,
        } = Some(pair);
    });
    delimiters
}

/// The template of an output, which must be one.
fn output_template(read: In<'_>, item: Item<'_, '_>, delimiters: &Delimiters) -> Option<OutputTemplate> {
    let path = read.text(item, "`template`")?;
    let inside = path_fault(path).is_none();
    let Some(document) = inside.then(|| read.documents.text(path)).flatten() else {
        let help = "name a file in the ledger's folder, such as templates/NAME.conf";
        read.wrong_with(item.span(), format!("the template `{path}` is not there"), help);
        return None;
    };
    if let Err(error) = template::check(document.text(), delimiters) {
        let place = line(read, &document, error.line);
        read.mistakes.push(Mistake::at(place, error.reason));
    }
    let text = document.text().into();
    read.documents.keep(document);
    Some(OutputTemplate { path: path.to_owned(), text, delimiters: delimiters.clone() })
}

/// A line of a document, from 1.
fn line(read: In<'_>, document: &super::documents::Document, line: usize) -> Place {
    let text = document.text();
    let start = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum::<usize>();
    let end = text[start..].find('\n').map_or(text.len(), |length| start + length);
    In { file: document.file, ..read }.place(start..end)
}

/// A path that stays below the folder it is rendered to.
fn output_path(read: In<'_>, item: Item<'_, '_>) -> Option<(StageText, Place)> {
    let (text, span) = stage_text(read, item, "`path`")?;
    // What references stand for is looked at when they are expanded.
    let without = cledger_core::reference::pieces(text.as_written()).map(|piece| match piece {
        cledger_core::reference::Piece::Literal(literal) => literal,
        _ => "x",
    });
    let Some(reason) = path_fault(&without.collect::<String>()) else {
        return Some((text, read.place(span)));
    };
    read.wrong_with(
        span,
        format!("this path cannot be rendered to: {reason}"),
        "write a path below the unit's folder, like \"conf/app.env\"",
    );
    None
}

/// Text that may refer to the stage and the unit.
pub(super) fn stage_text(read: In<'_>, item: Item<'_, '_>, what: &str) -> Option<(StageText, Range<usize>)> {
    let TomlValue::String(text) = item.get_ref() else {
        read.expected(item, what, "text in quotes");
        return None;
    };
    Some((stage_text_of(read, text, item.span())?, item.span()))
}

/// The same of a text that stands within this span.
pub(super) fn stage_text_of(read: In<'_>, text: &str, span: Range<usize>) -> Option<StageText> {
    let parsed = StageText::parse(text);
    if let Err(error) = &parsed {
        let help = "refer to stage.name, stage.class, stage.label.X, unit.name or unit.instance";
        read.wrong_with(span, error.to_string(), help);
    }
    parsed.ok()
}
