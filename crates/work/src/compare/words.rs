//! How two sides stand to each other, in words: a line for each field or name, and below a lookup table one for each row
//! that differs.

use cledger_core::compare::{
    Compared, Difference, Named, NamedCompared, RowDifference, rows as rows_compared,
};
use cledger_core::model::Ledger;
use cledger_core::resolve::Effective;
use cledger_core::value::Value;

use super::ComparedStages;
use crate::shown::{MASK, Tone, cells_of, effective, escape, held, is_rows};

/// A field, a name or a row on both sides.
#[derive(Debug, Clone)]
pub struct Line {
    /// What it is called.
    pub name: String,
    /// Whether it is a row of the lookup table above it.
    pub is_row: bool,
    /// What each side has.
    pub sides: [(String, Tone); 2],
    /// How they stand to each other.
    pub word: String,
    /// What that says.
    pub tone: Tone,
}

/// A field in two stages, and the rows in which it differs, if it is a lookup table.
pub fn field(ledger: &Ledger, field: &Compared<'_>, of: &ComparedStages<'_>) -> Vec<Line> {
    let value = |value: &Option<Effective<'_>>| match value {
        Some(value) => (effective(value, false), Tone::Plain),
        None => ("none".to_owned(), Tone::Quiet),
    };
    let tone = match field.difference {
        _ if field.is_unmeant() => Tone::Bad,
        Difference::Unknown => Tone::Doubtful,
        _ => Tone::Quiet,
    };
    let mut lines = vec![Line {
        name: ledger.field_name(field.left.subject, field.left.slot),
        is_row: false,
        sides: [value(&field.left_value), value(&field.right_value)],
        word: word(field, of),
        tone,
    }];
    let open = |value: &Option<Effective<'_>>| value.as_ref().and_then(|it| it.held()?.open().cloned());
    if let (Some(one), Some(other)) = (open(&field.left_value), open(&field.right_value)) {
        lines.extend(rows(&one, &other).into_iter().map(|row| {
            let word = match row.difference {
                RowDifference::Differs => "differs".to_owned(),
                RowDifference::OnlyLeft => format!("only in {}", of.left),
                RowDifference::OnlyRight => format!("only in {}", of.right),
            };
            let sides = row.sides.map(|side| (side, Tone::Plain));
            Line { name: format!("row {}", row.key), is_row: true, sides, word, tone }
        }));
    }
    lines
}

fn word(field: &Compared<'_>, of: &ComparedStages<'_>) -> String {
    let purpose = if field.absent_on_purpose { ", as meant" } else { "" };
    match field.difference {
        Difference::Same => "same".to_owned(),
        Difference::AsMeant => "as meant".to_owned(),
        Difference::Differs => "differs".to_owned(),
        Difference::Unknown => "not known".to_owned(),
        Difference::OnlyLeft => format!("only in {}{purpose}", of.left),
        Difference::OnlyRight => format!("only in {}{purpose}", of.right),
    }
}

/// A name that two sides have, or one of them.
pub fn name(one: &NamedCompared) -> Line {
    let secret = one.is_secret();
    let value = |side: &Option<Named>| match side {
        None => ("none".to_owned(), Tone::Quiet),
        Some(Named { value: Some(value), .. }) if !secret => (held(value), Tone::Plain),
        Some(_) => (MASK.to_owned(), Tone::Plain),
    };
    let (word, tone) = match one.difference {
        Difference::Same => ("same", Tone::Quiet),
        Difference::AsMeant => ("as meant", Tone::Quiet),
        Difference::Differs => ("differs", Tone::Bad),
        Difference::Unknown => ("not known", Tone::Doubtful),
        Difference::OnlyLeft => ("only in the first", Tone::Bad),
        Difference::OnlyRight => ("only in the second", Tone::Bad),
    };
    let sides = [value(&one.left), value(&one.right)];
    Line { name: escape(&one.name()), is_row: false, sides, word: word.to_owned(), tone }
}

/// A row that two lookup tables have otherwise.
#[derive(Debug, Clone)]
pub struct Row {
    /// Its key.
    pub key: String,
    /// The cells that each side has otherwise; `none` where it lacks the row.
    pub sides: [String; 2],
    /// How they stand to each other.
    pub difference: RowDifference,
}

/// The rows in which two values of a lookup table differ; none where they are no such values.
pub fn rows(left: &Value, right: &Value) -> Vec<Row> {
    if !is_rows(left) || !is_rows(right) {
        return Vec::new();
    }
    let row = |(key, one, other, difference): (&str, Option<&Value>, Option<&Value>, RowDifference)| Row {
        key: escape(key),
        sides: [otherwise(one, other), otherwise(other, one)],
        difference,
    };
    rows_compared(left, right).into_iter().map(row).collect()
}

/// The cells of a row that another one has otherwise.
fn otherwise(row: Option<&Value>, other: Option<&Value>) -> String {
    let Some(Value::Map(cells)) = row else { return "none".to_owned() };
    let differs = |column: &str| match other {
        Some(Value::Map(others)) => others.get(column) != cells.get(column),
        _ => true,
    };
    cells_of(cells.iter().map(|(column, cell)| (column.as_str(), cell)).filter(|(column, _)| differs(column)))
}
