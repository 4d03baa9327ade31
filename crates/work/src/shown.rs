//! How values are shown to people, secrets masked: on one line, with nothing in it that a terminal acts on.

mod cut;
mod fold;
mod seen;
mod tone;

use cledger_core::findings::Severity;
use cledger_core::model::{Ledger, SettingValue};
use cledger_core::resolve::{Effective, Layer, Origin, Unread};
use cledger_core::search::Found;
use cledger_core::value::{Held, Value};

pub use self::cut::{SideBySide, cut};
pub use self::fold::{folded, parted};
pub use self::seen::{seen, seen_words};
pub use self::tone::Tone;

/// What stands for a secret.
pub const MASK: &str = "(secret)";

/// What stands for a secret that is encrypted in the ledger.
pub const ENCRYPTED: &str = "(secret), encrypted";

/// What stands for a value that is outside the ledger and was not read.
pub const UNREAD: &str = "(not read)";

/// What stands for a secret whose key is not at hand.
pub const UNREADABLE: &str = "(not readable)";

/// The most characters of a value that people are shown; `get` and `--json` give all of it.
const LONGEST_SHOWN: usize = 4000;

/// How bad a finding is, in a word, and what that says.
pub fn severity(severity: Severity) -> (&'static str, Tone) {
    let tone = match severity {
        Severity::Error => Tone::Bad,
        Severity::Warning => Tone::Doubtful,
    };
    (severity.name(), tone)
}

/// Whether a character does something else than to show itself: control characters, and marks that change the
/// order of what follows or are never seen (Unicode, categories Cc, Cf and Zl).
#[inline]
pub fn is_hidden(c: char) -> bool {
    if c.is_ascii() {
        return c.is_ascii_control();
    }
    c.is_control()
        || matches!(
            c,
            '\u{61c}'
                | '\u{200b}'
                | '\u{200e}'
                | '\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2060}'..='\u{206f}'
                | '\u{fff9}'..='\u{fffb}'
                | '\u{e0000}'..='\u{e007f}'
        )
}

/// A text with such characters shown as what they are, on one line.
pub fn escape(text: &str) -> String {
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~')) || !text.contains(is_hidden) {
        return text.to_owned();
    }
    let mut escaped = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if is_hidden(c) {
            escaped.extend(c.escape_default());
        } else {
            escaped.push(c);
        }
    }
    escaped
}

/// A value on one line: control characters escaped, empty text in quotes, rows counted.
pub fn one_line(value: &Value) -> String {
    if is_rows(value) {
        return row_count(value);
    }
    let text = value.to_text();
    if text.is_empty() {
        return "\"\"".to_owned();
    }
    if let Some((end, _)) = text.char_indices().nth(LONGEST_SHOWN) {
        let count = text.chars().count();
        return format!("{}… ({count} characters)", escape(&text[..end]));
    }
    if text.starts_with(' ') || text.ends_with(' ') {
        return format!("\"{}\"", escape(&text));
    }
    escape(&text)
}

/// Whether a value is the rows of a lookup table: no map that a field can have holds maps.
pub fn is_rows(value: &Value) -> bool {
    let is_row = |row: &Value| matches!(row, Value::Map(_) | Value::Boolean(false));
    matches!(value, Value::Map(rows) if rows.values().any(is_row))
}

/// How many rows there are, and how many are taken out.
fn row_count(value: &Value) -> String {
    let Value::Map(rows) = value else { return String::new() };
    let gone = rows.values().filter(|row| matches!(row, Value::Boolean(false))).count();
    let rows = match rows.len() - gone {
        1 => "1 row".to_owned(),
        rows => format!("{rows} rows"),
    };
    if gone == 0 { rows } else { format!("{rows}, {gone} taken out") }
}

/// A value as the ledger holds it, on one line.
pub fn held(held: &Held) -> String {
    match held {
        Held::Open(value) => one_line(value),
        Held::Secret(_) => MASK.to_owned(),
    }
}

/// An effective value on one line; a secret only where it is unmasked.
pub fn effective(effective: &Effective<'_>, unmask: bool) -> String {
    if effective.unread() == Some(Unread::NoKey) {
        return UNREADABLE.to_owned();
    }
    if effective.is_secret() && !unmask {
        return MASK.to_owned();
    }
    effective.expose().map_or(UNREAD.to_owned(), one_line)
}

/// What a setting says, on one line.
pub fn setting(said: &SettingValue) -> String {
    match said {
        SettingValue::Value(value) => held(value),
        SettingValue::Absent => "absent".to_owned(),
        SettingValue::Cipher(_) => MASK.to_owned(),
        SettingValue::From(source) => format!("from {}", escape(&source.0)),
    }
}

/// What is written where something was found, on one line.
pub fn found(found: &Found<'_>) -> String {
    match (found.held, found.setting.map(|setting| &setting.value)) {
        (Some(value), _) => held(value),
        (None, Some(SettingValue::From(source))) => format!("from {}", escape(&source.0)),
        (None, Some(SettingValue::Cipher(_))) => ENCRYPTED.to_owned(),
        (None, _) => "absent".to_owned(),
    }
}

/// A row of a lookup table on one line.
pub fn row<'c>(key: &str, cells: impl Iterator<Item = (&'c str, &'c Value)>) -> String {
    format!("row {}: {}", escape(key), cells_of(cells))
}

/// The cells of a row on one line.
pub fn cells_of<'c>(cells: impl Iterator<Item = (&'c str, &'c Value)>) -> String {
    cells.map(|(column, cell)| format!("{column} {}", one_line(cell))).collect::<Vec<_>>().join(", ")
}

/// Where a value comes from, on one line: the place, and the layer where the place does not say it.
pub fn origin(ledger: &Ledger, origin: Origin) -> String {
    let place = origin.place.map(|place| ledger.files.locate(place));
    let at = place.map(|at| format!("{}:{}", at.file, at.line)).unwrap_or_default();
    match origin.layer {
        Layer::Stage(_) | Layer::Group(_) => at,
        Layer::Default => format!("default {at}"),
        Layer::Follow(stage) => format!("follows {} {at}", ledger.stage(stage).name),
        Layer::Derived => format!("derived {at}"),
        Layer::Run => "--assume".to_owned(),
    }
}

/// Where a value may be parted, as byte offsets: behind blanks and what parts lists, paths and queries, before what parts
/// the names of hosts and stages.
pub fn breaks(text: &str) -> impl Iterator<Item = usize> {
    let pairs = text.char_indices().zip(text.char_indices().skip(1));
    pairs.filter_map(move |((_, this), (at, next))| {
        let behind = matches!(this, ' ' | '/' | ',' | ';' | '?' | '&') && !matches!(next, ' ' | '/' | ',');
        let before = matches!(next, '.' | '@') && this != '.' && !text[at..].starts_with(".toml");
        (behind || before).then_some(at)
    })
}

/// A time as RFC 3339 writes it, to the minute.
pub fn minute(time: &str) -> String {
    time.get(..16).unwrap_or(time).replace('T', " ")
}

/// So many of something, in words.
pub fn counted(count: usize, noun: &str) -> String {
    if count == 1 { format!("1 {noun}") } else { format!("{count} {noun}s") }
}

/// The fields that a value is made from by references, one after the other; `None` where it is of its own.
pub fn made_from(ledger: &Ledger, effective: &Effective<'_>) -> Option<String> {
    let through = effective.through.as_deref().filter(|through| !through.is_empty())?;
    let names: Vec<String> = through.iter().map(|&field| ledger.address(field).to_string()).collect();
    Some(names.join(", "))
}
