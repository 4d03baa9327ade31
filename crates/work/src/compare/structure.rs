//! Files compared by their structure: rows by their key, lists of maps by a key that all have, archives member by
//! member.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::path::Path;

use cledger_core::adopt::looks_secret;
use cledger_core::compare::Named;
use cledger_core::json::Json;
use cledger_core::model::OutputFormat;
use cledger_core::output::OutputName;
use cledger_core::tree::Branch;
use cledger_core::value::{Held, Value};
use cledger_formats::{Particulars, detect};
use csv::{ReaderBuilder, StringRecord};

use crate::archive::{Unpacked, is_archive, members};
use crate::compare::files::cannot_be_read;
use crate::existing;
use crate::trouble::Trouble;

/// The largest file that is compared, in bytes.
const LARGEST: usize = 256 << 20;

/// The names by which rows and maps in lists are told apart where nobody says one.
const KEYS: [&str; 3] = ["name", "id", "key"];

/// How files are compared.
#[derive(Debug, Clone, Default)]
pub struct Structure {
    /// The format of files whose names do not tell it.
    pub format: Option<OutputFormat>,
    /// The column or name by which rows and maps in lists are told apart.
    pub key: Option<String>,
    /// Whether names alone are compared.
    pub names_only: bool,
}

/// What tells rows and maps in lists apart.
pub(crate) struct Keys<'h> {
    said: Option<&'h str>,
    /// Whether what is said has told something apart.
    is_used: Cell<bool>,
}

impl<'h> Keys<'h> {
    pub(crate) fn of(how: &'h Structure) -> Self {
        Self { said: how.key.as_deref(), is_used: Cell::new(false) }
    }

    /// Refuses a key that tells nothing apart: whoever names it means something.
    pub(crate) fn refuse_unused(&self) -> Result<(), Trouble> {
        match self.said.filter(|_| !self.is_used.get()) {
            Some(key) => Err(Trouble::usage(format!("`{key}` tells nothing apart in either file"))
                .help("name a key that all maps of a list have, and no two with the same value")),
            None => Ok(()),
        }
    }

    /// What `by` makes of the key that is said, else of the first of the usual ones.
    fn find(&self, by: impl Fn(&str) -> Option<Vec<String>>) -> Option<Vec<String>> {
        let said = self.said.and_then(&by);
        self.is_used.set(self.is_used.get() || said.is_some());
        said.or_else(|| KEYS.into_iter().find_map(by))
    }
}

/// What stands in a file, and its format; none for an archive.
pub(crate) fn in_file(
    path: &str,
    how: &Structure,
    keys: &Keys<'_>,
) -> Result<(Vec<Named>, Option<OutputFormat>), Trouble> {
    let bytes = existing::bytes(Path::new(path), LARGEST).map_err(|error| {
        Trouble::usage(format!("`{path}` cannot be read: {error}")).help("name another file")
    })?;
    let mut named = Vec::new();
    if is_archive(&bytes) {
        for member in members(&bytes, &mut Unpacked::default())? {
            let of_member = (vec![member.name.clone()], format!("{path} {}", member.name));
            let text = member.text.as_deref();
            if let Some((text, Some(format))) = text.map(|text| (text, detect(&member.name, text))) {
                of_text((of_member.0, &of_member.1), text, format, keys, &mut named)?;
            } else {
                // What has no names is one value: its size, and the check sum that the archive has of it.
                let sum = format!("{} bytes, CRC-32 {:08x}", member.size, member.check_sum);
                named.push(one(of_member.0, Value::text(&sum), true));
            }
        }
        return Ok((done(named, how), None));
    }
    let text = String::from_utf8(bytes)
        .map_err(|_| Trouble::usage(format!("`{path}` is no text in UTF-8")).help("name another file"))?;
    let is_csv = Path::new(path).extension().is_some_and(|ending| ending.eq_ignore_ascii_case("csv"));
    let told = if is_csv { Some(OutputFormat::Csv) } else { detect(path, &text) };
    let format = told.or(how.format).ok_or_else(|| {
        Trouble::usage(format!("the name of `{path}` does not tell its format")).help("add --format FORMAT")
    })?;
    of_text((Vec::new(), path), &text, format, keys, &mut named)?;
    Ok((done(named, how), Some(format)))
}

/// Leaves the values out where names alone count.
fn done(mut named: Vec<Named>, how: &Structure) -> Vec<Named> {
    for one in named.iter_mut().filter(|_| how.names_only) {
        one.value = Some(Held::new(Value::text(""), false));
    }
    named
}

fn one(name: OutputName, value: Value, is_bare: bool) -> Named {
    let secret = looks_secret(&name, &value);
    Named { name, value: Some(Held::new(value, secret)), is_bare }
}

/// What stands in a text of a format, below some steps; `path` is for messages.
fn of_text(
    (steps, path): (OutputName, &str),
    text: &str,
    format: OutputFormat,
    keys: &Keys<'_>,
    named: &mut Vec<Named>,
) -> Result<(), Trouble> {
    if format == OutputFormat::Csv {
        return rows((steps, path), text, keys, named);
    }
    let found = existing::read(text, format, Particulars::default());
    let found = found.map_err(|error| cannot_be_read(path, &error))?;
    let of = Of { is_bare: format.knows_text_alone(), is_secret: format == OutputFormat::K8sSecret, keys };
    of.level(&steps, &found.tree.0, named);
    Ok(())
}

/// How the values of one file are taken.
#[derive(Clone, Copy)]
struct Of<'h> {
    is_bare: bool,
    is_secret: bool,
    keys: &'h Keys<'h>,
}

impl Of<'_> {
    fn level(self, steps: &[String], level: &Branch, named: &mut Vec<Named>) {
        for (name, value) in level {
            self.value([steps, &[name.to_string()]].concat(), value, named);
        }
    }

    fn value(self, steps: OutputName, value: &Value, named: &mut Vec<Named>) {
        match value {
            Value::Map(level) if !level.is_empty() => self.level(&steps, level, named),
            Value::Json(Json::List(items)) => match key_of(items, self.keys) {
                Some(keys) => {
                    for (key, item) in keys.into_iter().zip(items) {
                        self.value([steps.clone(), vec![key]].concat(), &item.clone().into_value(), named);
                    }
                }
                None => self.leaf(steps, value, named),
            },
            value => self.leaf(steps, value, named),
        }
    }

    fn leaf(self, steps: OutputName, value: &Value, named: &mut Vec<Named>) {
        let mut one = one(steps, value.clone(), self.is_bare);
        one.value = one.value.map(|held| if self.is_secret { held.into_secret() } else { held });
        named.push(one);
    }
}

/// What tells the maps of a list apart, if something does: a text or number that all have, and no two the same.
fn key_of(items: &[Json], keys: &Keys<'_>) -> Option<Vec<String>> {
    let of_item = |item: &Json, key: &str| match item {
        Json::Object(pairs) => pairs.iter().find(|(name, _)| name == key).and_then(|(_, json)| match json {
            Json::Text(text) | Json::Number(text) => Some(text.to_string()),
            _ => None,
        }),
        _ => None,
    };
    let by = |key: &str| {
        let keys: Vec<String> = items.iter().map(|item| of_item(item, key)).collect::<Option<_>>()?;
        (keys.iter().collect::<BTreeSet<_>>().len() == keys.len() && !keys.is_empty()).then_some(keys)
    };
    keys.find(by)
}

/// The cells of a CSV file (RFC 4180), each below the key of its row, or below its number where no column tells rows
/// apart.
fn rows(
    (steps, path): (OutputName, &str),
    text: &str,
    keys: &Keys<'_>,
    named: &mut Vec<Named>,
) -> Result<(), Trouble> {
    let wrong = |reason: String| {
        Trouble::usage(format!("`{path}` cannot be read: {reason}")).help("mend it, or name another file")
    };
    let mut reader =
        ReaderBuilder::new().from_reader(text.strip_prefix('\u{feff}').unwrap_or(text).as_bytes());
    let heads = reader.headers().map_err(|error| wrong(error.to_string()))?.clone();
    let records: Vec<StringRecord> =
        reader.records().collect::<Result<_, _>>().map_err(|error| wrong(error.to_string()))?;
    if heads.iter().collect::<BTreeSet<_>>().len() < heads.len() {
        return Err(wrong("two columns have one name".to_owned()));
    }
    let by = |key: &str| {
        let at = heads.iter().position(|head| head == key)?;
        let keys: Vec<String> =
            records.iter().map(|row| row.get(at).unwrap_or_default().to_owned()).collect();
        (keys.iter().collect::<BTreeSet<_>>().len() == keys.len()).then_some(keys)
    };
    if let Some(key) = keys.said.filter(|key| by(key).is_none()) {
        return Err(wrong(format!("its column `{key}` is missing, or does not tell its rows apart")));
    }
    let of_rows = keys.find(by);
    let of_rows =
        of_rows.unwrap_or_else(|| (1..=records.len()).map(|number| format!("row {number}")).collect());
    for (key, row) in of_rows.into_iter().zip(&records) {
        for (head, cell) in heads.iter().zip(row) {
            let name = [steps.clone(), vec![key.clone(), head.to_owned()]].concat();
            named.push(one(name, Value::text(cell), true));
        }
    }
    Ok(())
}
