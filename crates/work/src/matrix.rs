//! Fields down, stages across.

mod line;

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::matrix::{Row, Rows, matrix as rows_of};
use cledger_core::model::{Ledger, StageId};
use cledger_core::resolve::{Outside, Resolver};
use cledger_store::Scope;

use crate::opened::Opened;
use crate::trouble::Trouble;

pub use self::line::{DIFFERS, ELSEWHERE, Line, MARKS, Shown};

/// Which rows are wanted.
#[derive(Debug, Clone, Default)]
pub struct ToTabulate {
    /// The addresses, as a pattern; all if none is given.
    pub pattern: Option<String>,
    /// Only fields that lack a value somewhere.
    pub missing: bool,
    /// Only fields in which stages differ.
    pub differing: bool,
}

/// Fields with what each comes to in each stage.
#[derive(Debug)]
pub struct Matrix<'l> {
    /// The ledger.
    pub ledger: &'l Ledger,
    /// The stages, in the order of the ledger.
    pub stages: Vec<StageId>,
    /// The fields.
    pub rows: Rows<'l>,
}

/// What is read for these rows: where one unit is named, no more than its values need.
pub fn scope(asked: &ToTabulate) -> Scope {
    let address = asked.pattern.as_deref().and_then(|text| Address::parse(text).ok());
    match address.and_then(|address| address.owner) {
        Some(Owner::Unit(unit, _)) => Scope::Everywhere(unit),
        _ => Scope::Whole,
    }
}

/// Tabulates the fields that a pattern covers, with what is `outside` of the ledger.
pub fn matrix<'l>(
    opened: &'l Opened,
    outside: &'l dyn Outside,
    asked: &ToTabulate,
) -> Result<Matrix<'l>, Trouble> {
    let pattern = asked.pattern.as_deref().map(Pattern::parse).transpose()?;
    let ledger = &*opened.ledger;
    let covered = |stage: &StageId| {
        let name = ledger.stage(*stage).name.as_str();
        pattern.as_ref().is_none_or(|pattern| pattern.covers_stage(name))
    };
    let stages: Vec<StageId> = ledger.stage_ids().filter(covered).collect();
    let resolver = Resolver::new(ledger, outside, &[]);
    let mut rows = rows_of(&resolver, pattern.as_ref(), &stages);
    resolver.let_go();
    if stages.is_empty() || rows.is_empty() {
        let message = format!("`{}` covers nothing", asked.pattern.as_deref().unwrap_or("*"));
        return Err(Trouble::usage(message).help("`cledger list` shows the names"));
    }
    let wanted = |row: &Row<'_>| {
        row.says_something()
            && (!asked.missing || row.is_missing_somewhere())
            && (!asked.differing || row.differs())
    };
    rows.retain(wanted);
    Ok(Matrix { ledger, stages, rows })
}
