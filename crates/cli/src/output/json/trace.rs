//! `trace` for programs.

use cledger_core::model::Ledger;
use cledger_core::resolve::Outcome;
use cledger_core::trace::{Candidate, Saying, Standing};
use serde::Serialize;

use super::FORMAT;
use crate::output::values;
use cledger_work::trace::Traced;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'l> {
    format: u32,
    fields: Vec<FieldDocument<'l>>,
}

#[derive(Debug, Serialize)]
struct FieldDocument<'l> {
    address: String,
    value: serde_json::Value,
    secret: bool,
    candidates: Vec<CandidateDocument<'l>>,
    refers_to: Vec<StepDocument>,
    outputs: Vec<EndDocument>,
}

#[derive(Debug, Serialize)]
struct CandidateDocument<'l> {
    layer: &'static str,
    name: Option<&'l str>,
    whose: String,
    file: Option<&'l str>,
    line: Option<usize>,
    column: Option<usize>,
    value: serde_json::Value,
    from: Option<&'l str>,
    absent: bool,
    encrypted: bool,
    standing: &'static str,
    reason: Option<&'static str>,
    /// Why it is so.
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'l str>,
    /// The last day on which it is meant to count.
    #[serde(skip_serializing_if = "Option::is_none")]
    until: Option<String>,
}

#[derive(Debug, Serialize)]
struct StepDocument {
    address: String,
    depth: usize,
    value: serde_json::Value,
}

#[derive(Debug, Serialize)]
struct EndDocument {
    path: String,
    name: Vec<String>,
}

pub(crate) fn document<'l>(ledger: &'l Ledger, traced: &[Traced<'l>], unmask: bool) -> Document<'l> {
    let value = |outcome: &Outcome<'_>| match outcome {
        Outcome::Value(effective) => values::json(effective, unmask),
        _ => serde_json::Value::Null,
    };
    let fields = traced.iter().map(|one| FieldDocument {
        address: ledger.address(one.field).to_string(),
        value: value(&one.outcome),
        secret: one.outcome.value().is_some_and(cledger_core::resolve::Effective::is_secret),
        candidates: one.candidates.iter().map(|it| candidate(ledger, it, unmask)).collect(),
        refers_to: one
            .steps
            .iter()
            .map(|step| StepDocument {
                address: ledger.address(step.field).to_string(),
                depth: step.depth,
                value: value(&step.outcome),
            })
            .collect(),
        outputs: one
            .ends
            .iter()
            .map(|end| EndDocument { path: end.path.clone(), name: end.name.clone() })
            .collect(),
    });
    Document { format: FORMAT, fields: fields.collect() }
}

fn candidate<'l>(ledger: &'l Ledger, candidate: &Candidate<'l>, unmask: bool) -> CandidateDocument<'l> {
    let at = candidate.place.map(|place| ledger.files.locate(place));
    let (standing, reason) = match candidate.standing {
        Standing::Wins => ("wins", None),
        Standing::Merged => ("merged", None),
        Standing::Weaker => ("weaker", None),
        Standing::NotCounted(reason) => ("not-counted", Some(reason)),
    };
    let (value, from, absent) = match candidate.says {
        Saying::Value(held) => (values::held_json(held, unmask), None, false),
        Saying::Absent => (serde_json::Value::Null, None, true),
        Saying::From(source) => (serde_json::Value::Null, Some(source), false),
        Saying::Encrypted => (serde_json::Value::Null, None, false),
    };
    CandidateDocument {
        layer: candidate.layer.word(),
        name: candidate.layer.name(ledger),
        whose: candidate.whose.to_string(),
        file: at.as_ref().map(|at| at.file),
        line: at.as_ref().map(|at| at.line),
        column: at.as_ref().map(|at| at.column),
        value,
        from,
        absent,
        encrypted: matches!(candidate.says, Saying::Encrypted),
        standing,
        reason,
        why: candidate.note.and_then(|note| note.why.as_deref()),
        until: candidate.note.and_then(|note| note.until).map(|until| until.to_string()),
    }
}
