//! The tables that outlets of kind `postgres`, `mariadb` and `sqlite` need.

use cledger_core::address::Owner;
use cledger_core::model::{Ledger, Outlet, OutletKind, RowsOutlet, StageId, StageText};
use cledger_core::name::{Name, nearest};
use cledger_core::trust::of_outlet;

use crate::known::require;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::way::Reading;
use crate::trouble::Trouble;

/// What became of one table.
#[derive(Debug, Clone)]
pub struct Prepared {
    /// The outlet.
    pub outlet: String,
    /// For what it is, `@STAGE` or `UNIT@STAGE`, where the outlet has several; empty otherwise.
    pub of: String,
    /// The table.
    pub table: String,
    /// What became of it.
    pub what: Preparing,
}

/// What becomes of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Preparing {
    /// It would be made, if it is not there.
    Wanted,
    /// It is an application's own, which is left as it is.
    TheirOwn,
    /// It was made.
    Made,
    /// It was there already, as it should be.
    WasThere,
    /// It cannot be made, for this reason.
    Failed(String),
}

/// Makes the tables of these outlets, of all without one, or says which would be made.
pub fn prepare(opened: &Opened, outlets: &[Name], write: bool) -> Result<Vec<Prepared>, Trouble> {
    let around = Around::of(opened);
    let mut prepared = Vec::new();
    for (outlet, rows) in chosen(outlets, &opened.ledger)? {
        for way in ways(&opened.ledger, outlet, rows) {
            prepared.push(one((outlet, rows), &way, &around, &opened.ledger, write)?);
        }
    }
    Ok(prepared)
}

/// A way to a table of an outlet: in a stage, and for a unit where each has its own.
struct Way {
    stage: StageId,
    owner: Owner,
    /// Whether there are others.
    is_one_of_many: bool,
}

/// The ways that an outlet's texts say, each once.
fn ways(ledger: &Ledger, outlet: &Outlet, rows: &RowsOutlet) -> Vec<Way> {
    let mut found: Vec<(Way, [String; 2])> = Vec::new();
    for stage in ledger.stage_ids().filter(|&stage| outlet.is_of(stage)) {
        let owners: Vec<Owner> = if outlet.kind.way_varies_by_unit() {
            let owners = ledger.subjects_in(stage).map(|subject| ledger.owner(subject));
            owners.filter(|owner| outlet.takes(stage, owner.names())).collect()
        } else {
            vec![Owner::Shared]
        };
        for owner in owners {
            let text = |text: &StageText| {
                let expanded = text.expand_for(ledger, &owner, stage);
                expanded.map_or_else(|_| format!("{text}@{}", stage.0), Into::into)
            };
            let key = [text(rows.at.as_text()), rows.table.as_ref().map(text).unwrap_or_default()];
            if found.iter().all(|(_, known)| *known != key) {
                found.push((Way { stage, owner, is_one_of_many: false }, key));
            }
        }
    }
    let is_one_of_many = found.len() > 1;
    found.into_iter().map(|(way, _)| Way { is_one_of_many, ..way }).collect()
}

fn one(
    (outlet, rows): (&Outlet, &RowsOutlet),
    way: &Way,
    around: &Around<'_>,
    ledger: &Ledger,
    write: bool,
) -> Result<Prepared, Trouble> {
    let reading = Reading::of(ledger, way.stage, around);
    let stage = &ledger.stage(way.stage).name;
    let of = match &way.owner {
        _ if !way.is_one_of_many => String::new(),
        Owner::Shared => format!("@{stage}"),
        owner @ Owner::Unit(..) => format!("{owner}@{stage}"),
    };
    let table = rows.table.as_ref().map_or_else(String::new, |table| {
        reading.table(table, &way.owner).map_or_else(|_| table.to_string(), |parts| parts.join("."))
    });
    let what = if rows.columns.are_given || rows.table.is_none() {
        Preparing::TheirOwn
    } else if !write {
        Preparing::Wanted
    } else {
        require(&around.granted, &of_outlet(outlet, ledger, way.stage))?;
        let reach = reading.rows(rows, &way.owner);
        match reach.and_then(|reach| reach.prepare(outlet.timeout).map_err(|failure| failure.to_string())) {
            Ok(true) => Preparing::Made,
            Ok(false) => Preparing::WasThere,
            Err(reason) => Preparing::Failed(reason),
        }
    };
    Ok(Prepared { outlet: outlet.name.to_string(), of, table, what })
}

/// The outlets of this kind that are named, or all.
fn chosen<'l>(names: &[Name], ledger: &'l Ledger) -> Result<Vec<(&'l Outlet, &'l RowsOutlet)>, Trouble> {
    let all: Vec<(&Outlet, &RowsOutlet)> = ledger
        .outlets
        .iter()
        .filter_map(|outlet| match &outlet.kind {
            // Lookup tables are always somebody else's.
            OutletKind::Rows(rows) if rows.table.is_some() => Some((outlet, rows.as_ref())),
            _ => None,
        })
        .collect();
    if all.is_empty() {
        return Err(Trouble::usage("the ledger has no outlet of kind postgres, mariadb or sqlite")
            .help("declare one in ledger.toml as [[outlet]]"));
    }
    if names.is_empty() {
        return Ok(all);
    }
    let one = |name: &Name| {
        let found = all.iter().find(|(outlet, _)| outlet.name == *name);
        found.copied().ok_or_else(|| {
            let known: Vec<&str> = all.iter().map(|(outlet, _)| outlet.name.as_str()).collect();
            let near = nearest(name.as_str(), known.iter().copied());
            let help = near.map_or_else(
                || format!("those are {}", known.join(", ")),
                |near| format!("did you mean `{near}`?"),
            );
            Trouble::usage(format!("there is no outlet `{name}` with a table")).help(help)
        })
    };
    names.iter().map(one).collect()
}
