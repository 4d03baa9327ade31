//! `cledger trace`: where a value comes from, step by step.

use std::collections::BTreeSet;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner};
use cledger_core::name::Name;
use cledger_core::resolve::{Because, FieldId, Outcome, Resolver, Session};
use cledger_core::trace::{Candidate, End, candidates, ends};

use super::show::{fields, with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::options::{AssumeOptions, UnmaskOptions};
use crate::output::{json, text};

/// The most steps that are followed.
const MOST_STEPS: usize = 500;

#[derive(Debug, Args)]
pub(crate) struct TraceArgs {
    /// The field, such as ticket-desk/fare_service@test
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    unmask: UnmaskOptions,
    #[command(flatten)]
    assume: AssumeOptions,
}

/// One field on the way of a value.
pub(crate) struct Step<'l> {
    pub(crate) field: FieldId,
    /// How many references lead to it.
    pub(crate) depth: usize,
    pub(crate) outcome: Outcome<'l>,
    /// Whether it was shown before, with what it refers to.
    pub(crate) again: bool,
}

/// All that is known of where a value comes from and where it goes.
pub(crate) struct Traced<'l> {
    pub(crate) field: FieldId,
    pub(crate) outcome: Outcome<'l>,
    pub(crate) candidates: Vec<Candidate<'l>>,
    /// The fields that it refers to, as deep as it goes.
    pub(crate) steps: Vec<Step<'l>>,
    pub(crate) ends: Vec<End>,
}

pub(crate) fn run(args: &TraceArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    let owner = match (&address.owner, &address.entry) {
        (Some(owner), Some(_)) => owner.clone(),
        _ => {
            return Err(
                CliError::usage(format!("`{address}` names no field")).help("write UNIT/ENTRY.FIELD@STAGE")
            );
        }
    };
    let assumed = args.assume.addresses()?;
    let (root, ledger) = app.open(&scope_of(std::iter::once(&address).chain(&assumed)))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let subject = app.subject_in(&ledger, &owner, chosen.stage)?;
    let fields = fields(&ledger, subject, &address, chosen.stage)?;
    let unmask = args.unmask.granted(&ledger, chosen.stage)?;
    let assumptions = args.assume.read(&ledger, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &assumptions);
    let mut session = resolver.session(unit_of(subject));
    let traced: Vec<Traced<'_>> = fields
        .into_iter()
        .map(|field| Traced {
            field,
            outcome: session.outcome(field),
            candidates: candidates(&resolver, field),
            steps: steps(&mut session, field),
            ends: if owner == Owner::Shared { Vec::new() } else { ends(&ledger, field) },
        })
        .collect();
    if app.console.is_json() {
        app.console.document(&json::trace::document(&ledger, &traced, unmask));
    } else {
        text::trace::print(app.console, &ledger, &traced, unmask);
    }
    app.tell_unread(&outside);
    Ok(status::CLEAN)
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
