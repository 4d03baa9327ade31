//! The cells of a matrix as comma-separated lines (RFC 4180): written for a spreadsheet, and read back from one.
//!
//! A row for each field, a column for each stage, values bare. `(absent)` stands for what is absent on purpose, an empty
//! cell says nothing; secrets, values that are worked out from others and rows of tables are marked, and passed over
//! when they are read back.

use std::path::PathBuf;

use cledger_core::address::Address;
use cledger_core::matrix::{Cell, Row};
use cledger_core::model::{LayerId, Note, SettingValue, StageId, UNITS_AT_ONCE};
use cledger_core::resolve::{Effective, FieldId, Layer, Outcome, Resolver};
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{LARGEST_FILE, text_named};
use csv::{ReaderBuilder, StringRecord, Writer};
use rayon::prelude::*;

use crate::change::{Changing, Consent, NO_CHANGE};
use crate::matrix::Matrix;
use crate::meant::known_stage;
use crate::set::SettingsChanged;
use crate::setting::{Given, Setter, may_be_set, write};
use crate::shown;
use crate::trouble::{Kind, Trouble};

const ABSENT: &str = "(absent)";
const SECRET: &str = "(secret)";
const DERIVED: &str = "(derived)";
const NOT_READ: &str = "(not read)";

/// The lines of a matrix, in parts that follow each other.
pub fn lines(matrix: &Matrix<'_>) -> Result<Vec<String>, Trouble> {
    let heads = matrix.stages.iter().map(|&stage| matrix.ledger.stage(stage).name.to_string());
    let heads: Vec<String> = std::iter::once("field".to_owned()).chain(heads).collect();
    let row = |row: &Row<'_>| -> Vec<String> {
        std::iter::once(row.address.to_string()).chain(row.cells.iter().map(cell)).collect()
    };
    let mut lines = vec![written(std::iter::once(heads))?];
    let lots = matrix.rows.by_owner().par_chunks(UNITS_AT_ONCE);
    let rest = lots.map(|lot| written(lot.iter().flatten().map(row)));
    lines.extend(rest.collect::<Result<Vec<String>, _>>()?);
    Ok(lines)
}

/// Records as lines.
fn written(records: impl Iterator<Item = Vec<String>>) -> Result<String, Trouble> {
    let failed =
        |error: &dyn std::fmt::Display| Trouble::outside(format!("the lines cannot be written: {error}"));
    let mut writer = Writer::from_writer(Vec::new());
    for record in records {
        writer.write_record(record).map_err(|error| failed(&error))?;
    }
    let bytes = writer.into_inner().map_err(|error| failed(&error))?;
    String::from_utf8(bytes).map_err(|error| failed(&error))
}

/// One cell.
fn cell(cell: &Cell<'_>) -> String {
    match cell {
        Some(Outcome::Value(effective)) if effective.is_secret() => SECRET.to_owned(),
        Some(Outcome::Value(effective)) => match effective.expose() {
            None => NOT_READ.to_owned(),
            Some(value) if shown::is_rows(value) => format!("({})", shown::one_line(value)),
            Some(value) if effective.origin.layer == Layer::Derived => {
                format!("{DERIVED} {}", value.to_text())
            }
            Some(value) => value.to_text().to_string(),
        },
        Some(Outcome::Absent(_)) => ABSENT.to_owned(),
        None | Some(Outcome::Unset | Outcome::Missing(..) | Outcome::Broken(_)) => String::new(),
    }
}

/// A table that is to be taken in.
#[derive(Debug, Clone)]
pub struct ToTakeIn {
    /// The file.
    pub file: PathBuf,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// What taking a table in came to.
#[derive(Debug)]
pub struct TakenIn {
    /// The settings that change.
    pub changed: SettingsChanged,
    /// Cells that say something else and are passed over, each with the reason.
    pub passed_over: Vec<(String, String)>,
}

impl TakenIn {
    /// What kind of trouble there is: something that was changed in the table does not come into the ledger.
    pub fn kind(&self) -> Option<Kind> {
        (!self.passed_over.is_empty()).then_some(Kind::Found)
    }
}

/// Takes the cells of a table that say something else than the ledger as settings of their stages.
pub fn take_in(changing: &Changing, asked: &ToTakeIn) -> Result<TakenIn, Trouble> {
    let shown = asked.file.display().to_string();
    let text = text_named(&asked.file, LARGEST_FILE)
        .map_err(|error| Trouble::usage(format!("`{shown}` cannot be read: {error}")))?;
    let ledger = changing.ledger();
    let mut records =
        ReaderBuilder::new().has_headers(false).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let mut rows = records.records();
    let stages = match rows.next() {
        Some(heads) => stages(changing, &shown, &heads.map_err(|error| no_table(&shown, &error))?)?,
        None => return Err(no_table(&shown, &"it is empty")),
    };
    let outside = changing.outside(&NO_CHANGE);
    let resolver = Resolver::new(ledger, &outside, &[]);
    let keys = changing.keys(&NO_CHANGE);
    let setter = Setter { ledger, keys: &keys, plain_secrets: false };
    let note = Note { why: asked.consent.why.clone(), ..Note::default() };
    let (mut edits, mut written, mut layers, mut passed_over) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for row in rows {
        let row = row.map_err(|error| no_table(&shown, &error))?;
        let line = row.position().map_or(0, csv::Position::line);
        let at = |trouble: Trouble| trouble.within(&format!("{shown}:{line}"));
        let field = row.get(0).unwrap_or_default();
        for (said, &stage) in row.iter().skip(1).zip(&stages) {
            let address = Address::parse(&format!("{field}@{}", ledger.stage(stage).name));
            let place =
                address.map_err(Trouble::from).and_then(|it| changing.opened.place(&it.to_string(), None));
            // An empty cell says nothing, also where the unit does not belong.
            let place = match place {
                Err(_) if said.is_empty() => continue,
                place => place.map_err(at)?,
            };
            let id = FieldId { subject: place.subject, stage, slot: place.slot };
            let outcome = resolver.session(None).outcome(id);
            let is_secret = outcome.value().is_some_and(Effective::is_secret);
            if said.is_empty() || cell(&Some(outcome)) == said {
                continue;
            }
            let declaration = ledger.field(place.subject, place.slot).1;
            let new = match said {
                ABSENT => Ok(SettingValue::Absent),
                _ if said.starts_with(DERIVED) || [SECRET, NOT_READ].contains(&said) => {
                    Err("what stands there is a mark, and no value".to_owned())
                }
                _ if declaration.secret || is_secret => {
                    Err(format!("it is a secret: cledger set {}", place.address))
                }
                _ if declaration.this_type == Type::Table => {
                    Err("it is a lookup table, whose rows are no cells here".to_owned())
                }
                _ => may_be_set(&place, declaration)
                    .and_then(|()| {
                        let held = Held::new(Value::text(said), false);
                        setter.said(&place, Given::System(&held), None)
                    })
                    .map_err(|trouble| trouble.to_string()),
            };
            match new {
                Ok(value) => {
                    let layer = LayerId::Stage(stage);
                    let (edit, this) = write(ledger, &place, layer, &value, &note);
                    edits.extend(edit);
                    written.push(this);
                    layers.push(layer);
                }
                Err(reason) => passed_over.push((place.address.to_string(), reason)),
            }
        }
    }
    layers.sort_unstable();
    layers.dedup();
    let planned = changing.plan(&edits)?;
    let writes = asked.write && !edits.is_empty();
    if writes {
        changing.guard(&layers, &planned, &asked.consent)?;
        changing.write(&planned)?;
    }
    Ok(TakenIn { changed: SettingsChanged::of(changing, written, planned, writes), passed_over })
}

fn no_table(shown: &str, reason: &dyn std::fmt::Display) -> Trouble {
    Trouble::usage(format!("`{shown}` is no table of values: {reason}"))
        .help("take one that `cledger matrix --csv` has written: `field` and stages in its first line")
}

/// The stages of the columns.
fn stages(changing: &Changing, shown: &str, heads: &StringRecord) -> Result<Vec<StageId>, Trouble> {
    if heads.get(0) != Some("field") {
        return Err(no_table(shown, &"its first line does not begin with `field`"));
    }
    let mut stages = Vec::new();
    for name in heads.iter().skip(1) {
        let stage =
            known_stage(changing.ledger(), name).map_err(|trouble| trouble.within(&format!("{shown}:1")))?;
        if stages.contains(&stage) {
            return Err(no_table(shown, &format!("`{name}` stands in its first line twice")));
        }
        stages.push(stage);
    }
    Ok(stages)
}
