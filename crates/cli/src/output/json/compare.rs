//! `compare` for programs.

use cledger_core::compare::{Compared, Difference, Named, NamedCompared, SubjectCompared};
use cledger_core::effects::Effect;
use cledger_core::model::Ledger;
use cledger_core::resolve::Effective;
use serde::Serialize;

use super::FORMAT;
use super::change::EffectDocument;
use crate::output::values;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'s> {
    format: u32,
    left: &'s str,
    right: &'s str,
    only_left: Vec<String>,
    only_right: Vec<String>,
    fields: Vec<FieldDocument>,
}

#[derive(Debug, Serialize)]
pub(crate) struct RevisionDocument<'s> {
    format: u32,
    against: &'s str,
    effects: Vec<EffectDocument>,
}

/// The effective values that differ from those at a revision.
pub(crate) fn with_revision<'s>(revision: &'s str, effects: &[Effect]) -> RevisionDocument<'s> {
    RevisionDocument { format: FORMAT, against: revision, effects: super::change::effects(effects) }
}

#[derive(Debug, Serialize)]
struct FieldDocument {
    left: String,
    right: String,
    difference: &'static str,
    meant: bool,
    secret: bool,
    left_value: serde_json::Value,
    right_value: serde_json::Value,
}

pub(crate) fn document<'s>(
    ledger: &Ledger,
    compared: &[SubjectCompared<'_>],
    (left, right): (&'s str, &'s str),
) -> Document<'s> {
    let mut document = Document {
        format: FORMAT,
        left,
        right,
        only_left: Vec::new(),
        only_right: Vec::new(),
        fields: Vec::new(),
    };
    for subject in compared {
        match subject {
            SubjectCompared::OnlyLeft(subject) => document.only_left.push(ledger.owner(*subject).to_string()),
            SubjectCompared::OnlyRight(subject) => {
                document.only_right.push(ledger.owner(*subject).to_string());
            }
            SubjectCompared::Both(_, fields) => {
                document.fields.extend(fields.iter().map(|compared| field(ledger, compared)));
            }
        }
    }
    document
}

fn field(ledger: &Ledger, compared: &Compared<'_>) -> FieldDocument {
    let value = |value: &Option<Effective<'_>>| {
        value.as_ref().map(|effective| values::json(effective, false)).unwrap_or_default()
    };
    let secret = |value: &Option<Effective<'_>>| {
        value.as_ref().is_some_and(cledger_core::resolve::Effective::is_secret)
    };
    FieldDocument {
        left: ledger.address(compared.left).to_string(),
        right: ledger.address(compared.right).to_string(),
        difference: word(compared.difference),
        meant: !compared.is_unmeant(),
        secret: secret(&compared.left_value) || secret(&compared.right_value),
        left_value: value(&compared.left_value),
        right_value: value(&compared.right_value),
    }
}

fn word(difference: Difference) -> &'static str {
    match difference {
        Difference::Same => "same",
        Difference::AsMeant => "as-meant",
        Difference::Differs => "differs",
        Difference::Unknown => "not-known",
        Difference::OnlyLeft => "only-left",
        Difference::OnlyRight => "only-right",
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct FilesDocument<'s> {
    format: u32,
    left: &'s str,
    right: &'s str,
    names: Vec<NameDocument>,
}

#[derive(Debug, Serialize)]
struct NameDocument {
    left: Option<String>,
    right: Option<String>,
    difference: &'static str,
    secret: bool,
    left_value: serde_json::Value,
    right_value: serde_json::Value,
}

/// What two files, or a file and a unit, have under their names.
pub(crate) fn files<'s>(compared: &[NamedCompared], (left, right): (&'s str, &'s str)) -> FilesDocument<'s> {
    let name = |side: &Option<Named>| side.as_ref().map(|side| side.name.join("."));
    let of_name = |one: &NamedCompared| {
        let secret = one.is_secret();
        let value = |side: &Option<Named>| match side {
            Some(Named { value: Some(value), .. }) if !secret => values::held_json(value, false),
            _ => serde_json::Value::Null,
        };
        NameDocument {
            left: name(&one.left),
            right: name(&one.right),
            difference: word(one.difference),
            secret,
            left_value: value(&one.left),
            right_value: value(&one.right),
        }
    };
    FilesDocument { format: FORMAT, left, right, names: compared.iter().map(of_name).collect() }
}
