//! Where a value comes from, step by step, and where it ends up.

pub mod words;

use std::collections::BTreeSet;

use cledger_core::resolve::{Because, FieldId, Outcome, Resolver, Session};
use cledger_core::trace::{Candidate, End, candidates, ends};

use crate::meant::unit_of;

/// The most steps that are followed.
const MOST_STEPS: usize = 500;

/// One field on the way of a value.
#[derive(Debug)]
pub struct Step<'l> {
    /// The field.
    pub field: FieldId,
    /// How many references lead to it.
    pub depth: usize,
    /// What it comes to.
    pub outcome: Outcome<'l>,
    /// Whether it was shown before, with what it refers to.
    pub again: bool,
}

/// All that is known of where a value comes from and where it goes.
#[derive(Debug)]
pub struct Traced<'l> {
    /// The field.
    pub field: FieldId,
    /// What it comes to.
    pub outcome: Outcome<'l>,
    /// What is written for it, the strongest first.
    pub candidates: Vec<Candidate<'l>>,
    /// The fields that it refers to, as deep as it goes.
    pub steps: Vec<Step<'l>>,
    /// Where it ends up.
    pub ends: Vec<End>,
}

/// Follows a field.
pub fn trace<'l>(resolver: &Resolver<'l>, field: FieldId) -> Traced<'l> {
    let mut session = resolver.session(unit_of(field.subject));
    let outcome = session.outcome(field);
    Traced {
        field,
        candidates: candidates(resolver, field),
        steps: steps(&mut session, field),
        ends: ends(resolver.ledger(), field, &outcome),
        outcome,
    }
}

/// What a field refers to, and what that refers to, depth first.
fn steps<'l>(session: &mut Session<'_, 'l>, start: FieldId) -> Vec<Step<'l>> {
    let mut steps: Vec<Step<'l>> = Vec::new();
    let mut seen = BTreeSet::from([start]);
    let mut open: Vec<(FieldId, usize)> =
        next(session, start).into_iter().rev().map(|field| (field, 1)).collect();
    while let Some((field, depth)) = open.pop() {
        let again = !seen.insert(field);
        steps.push(Step { field, depth, outcome: session.outcome(field), again });
        if !again && steps.len() < MOST_STEPS {
            open.extend(next(session, field).into_iter().rev().map(|field| (field, depth + 1)));
        }
    }
    steps
}

fn next(session: &mut Session<'_, '_>, field: FieldId) -> Vec<FieldId> {
    match session.outcome(field) {
        Outcome::Value(effective) => effective.through.iter().flat_map(|fields| fields.to_vec()).collect(),
        Outcome::Missing(Because::NeedsMissing(other), _) => vec![other],
        Outcome::Broken(problems) => {
            problems.iter().filter_map(|problem| problem.path.get(1).copied()).collect()
        }
        _ => Vec::new(),
    }
}
