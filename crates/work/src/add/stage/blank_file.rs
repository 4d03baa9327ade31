//! The file of a new stage: what it has to set, and what it could, as comments.
//!
//! Each line can be uncommented by itself: every table stands there once, and each value is one that can be read.
//! `set` puts the value in the place of the comment.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use cledger_core::address::Address;
use cledger_core::blanks::{Blank, blanks};
use cledger_core::model::{Declaration, Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Outcome, Resolver, Session, Unfetched};
use cledger_core::types::Type;
use cledger_store::{key, literal};
use rayon::prelude::*;

use crate::shown;

/// A line: whether it has a default, its key, and what it is for.
type Line<'b> = (bool, String, &'b Blank);

/// The stage's file: everything that it has to set, and behind that what it could, table by table.
pub(super) fn to_fill(ledger: &Ledger, stage: StageId, like: Option<StageId>) -> String {
    let known = ledger.stage(stage);
    let mut text = format!(
        "# Settings of {} (class {}). What stands behind # is not set: fill it in, and take the # away.\n",
        known.name,
        known.class.name()
    );
    let resolver = Resolver::new(ledger, &Unfetched, &[]);
    let all = blanks(&resolver, stage);
    // `[shared]` before the tables below it, and needed lines before others.
    let mut tables: BTreeMap<(bool, String), Vec<Line<'_>>> = BTreeMap::new();
    let places: Vec<(String, String)> = all.par_iter().map(|blank| place(ledger, blank.field)).collect();
    for (blank, (table, key)) in all.iter().zip(places) {
        tables.entry((table != "shared", table)).or_default().push((!blank.needed, key, blank));
    }
    let tables: Vec<(String, Vec<Line<'_>>)> =
        tables.into_iter().map(|((_, table), lines)| (table, lines)).collect();
    let session = || resolver.session(None);
    let texts = tables.into_par_iter().map_init(session, |session, table| of_table(session, table, like));
    text.extend(texts.collect::<Vec<String>>());
    text
}

/// One table with its lines.
fn of_table(
    session: &mut Session<'_, '_>,
    (table, mut lines): (String, Vec<Line<'_>>),
    like: Option<StageId>,
) -> String {
    lines.sort_by_key(|(is_default, ..)| *is_default);
    let mut text = format!("\n[{table}]\n");
    let mut before = false;
    for (is_default, key, blank) in lines {
        if is_default && !before {
            text.push_str("# With a default that can be changed:\n");
            before = true;
        }
        text.push_str(&line(session, blank, &key, like));
    }
    text
}

/// The table that a field's setting stands in, and its key there.
fn place(ledger: &Ledger, field: FieldId) -> (String, String) {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let own = declaration.name.as_ref();
    match (field.subject, own) {
        (Subject::Shared, Some(name)) => (format!("shared.{}", entry.name), name.to_string()),
        (Subject::Shared, None) => ("shared".to_owned(), entry.name.to_string()),
        (unit, Some(name)) => {
            (format!("units.{}", key(&ledger.owner(unit).to_string())), format!("{}.{name}", entry.name))
        }
        (unit, None) => (format!("units.{}", key(&ledger.owner(unit).to_string())), entry.name.to_string()),
    }
}

/// One field as a comment: its key, a value to start from, its type and what it is for, and what the
/// other stage has.
fn line(session: &mut Session<'_, '_>, blank: &Blank, key: &str, like: Option<StageId>) -> String {
    let ledger = session.ledger();
    let (entry, declaration) = ledger.field(blank.field.subject, blank.field.slot);
    let value = match &declaration.default {
        Some(default) if !blank.needed && !declaration.secret && declaration.this_type != Type::Table => {
            literal(default.value.expose(), None)
        }
        _ => start_of(declaration),
    };
    let about = declaration.about.as_deref().or(entry.about.as_deref());
    let mut said = declaration.this_type.name().to_owned();
    if let Some(about) = about {
        let _ = write!(said, "; {about}");
    }
    if let Some(other) = like.and_then(|like| other_value(session, blank.field, like)) {
        let _ = write!(said, "; {other}");
    }
    format!("# {key} = {value}  # {}\n", said.replace(['\n', '\r'], " "))
}

/// A value of the right form to be filled in.
fn start_of(declaration: &Declaration) -> String {
    if declaration.secret {
        return "{ from = \"env:NAME\" }".to_owned();
    }
    match declaration.this_type {
        Type::Integer | Type::Port => "0",
        Type::Number => "0.0",
        Type::Boolean => "false",
        Type::List => "[]",
        Type::Map | Type::Table => "{}",
        _ => "\"\"",
    }
    .to_owned()
}

/// What another stage has for the field, secrets masked.
fn other_value(session: &mut Session<'_, '_>, field: FieldId, like: StageId) -> Option<String> {
    let ledger = session.ledger();
    let there = FieldId { stage: like, ..field };
    if let Subject::Unit(unit, instance) = field.subject
        && !ledger.unit(unit).belongs_to(like, instance)
    {
        return None;
    }
    let Outcome::Value(effective) = session.outcome(there) else { return None };
    let value = match effective.expose() {
        Some(value) if !effective.is_secret() && shown::is_rows(value) => shown::one_line(value),
        Some(value) if !effective.is_secret() => literal(value, None),
        _ => shown::MASK.to_owned(),
    };
    let address: Address = ledger.address(there);
    Some(format!("in {}: {value}", address.stage.as_ref().map(Name::as_str).unwrap_or_default()))
}
