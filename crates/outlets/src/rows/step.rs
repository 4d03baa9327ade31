//! What a change does with single rows, and the order in which tables take it.

use std::collections::{BTreeSet, HashMap};

use cledger_core::delivery::RowChange;
use jiff::Timestamp;
use zeroize::Zeroizing;

use super::column::Column;
use super::connection::Connection;
use super::constraint::Reference;
use super::lookup::{self, Lookup};
use super::statement::Cell;
use super::table::{Main, Tables};
use super::there::{TableThere, conditions};
use crate::failure::Failure;
use crate::held::{RowsOf, Values, Written};

/// What is done with a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Doing {
    Insert,
    Update,
    Remove,
}

/// One row, and what is done with it.
pub(super) struct Step<'t> {
    /// What is told of it where it does not go; no value.
    pub(super) what: String,
    pub(super) table: &'t TableThere,
    pub(super) doing: Doing,
    /// What tells the row from all others of its table.
    pub(super) row: Vec<(&'t Column, Zeroizing<String>)>,
    /// What other columns hold before, as far as that was seen.
    old: Vec<Cell<'t>>,
    /// What other columns get.
    pub(super) cells: Vec<Cell<'t>>,
}

/// What columns hold.
pub(super) type Tuple<'s> = Vec<&'s str>;

impl Step<'_> {
    /// What these columns hold before, if that is known and none of them is empty.
    pub(super) fn before(&self, columns: &[String]) -> Option<Tuple<'_>> {
        if self.doing == Doing::Insert {
            return None;
        }
        columns
            .iter()
            .map(|name| self.in_row(name).or_else(|| said(&self.old, name).and_then(text)))
            .collect()
    }

    /// What these columns hold afterwards, if that is known and none of them is empty.
    pub(super) fn after(&self, columns: &[String]) -> Option<Tuple<'_>> {
        let one = |name: &String| match said(&self.cells, name) {
            Some(cell) => text(cell),
            None => self.in_row(name).or_else(|| said(&self.old, name).and_then(text)),
        };
        if self.doing == Doing::Remove { None } else { columns.iter().map(one).collect() }
    }

    /// What these columns hold before and not afterwards.
    pub(super) fn lost(&self, columns: &[String]) -> Option<Tuple<'_>> {
        self.before(columns).filter(|before| self.after(columns).as_ref() != Some(before))
    }

    /// What these columns hold afterwards and not before.
    pub(super) fn gained(&self, columns: &[String]) -> Option<Tuple<'_>> {
        self.after(columns).filter(|after| self.before(columns).as_ref() != Some(after))
    }

    /// Whether these columns hold something else afterwards, as far as that is known.
    pub(super) fn loses(&self, columns: &[String]) -> bool {
        self.doing == Doing::Remove || self.lost(columns).is_some()
    }

    fn in_row(&self, name: &str) -> Option<&str> {
        self.row.iter().find(|(column, _)| column.name == name).map(|(_, text)| text.as_str())
    }
}

/// What is said of a column, if anything is: what it holds, or that it is empty.
fn said<'s, 't>(cells: &'s [Cell<'t>], name: &str) -> Option<&'s Cell<'t>> {
    cells.iter().find(|(column, _)| column.name == name)
}

fn text<'s>((_, text): &'s Cell<'_>) -> Option<&'s str> {
    text.as_ref().map(|text| text.as_str())
}

/// All that changes do with rows, of what is there.
pub(super) fn steps<'t>(
    tables: &'t Tables,
    of: &'t RowsOf,
    there: &Values,
    changes: &[RowChange],
    (database, now): (&dyn Connection, Timestamp),
) -> Result<Vec<Step<'t>>, Failure> {
    let mut steps = Vec::new();
    for change in changes {
        let old = there.get(change.name());
        match (tables.lookup(change.name()), &tables.main) {
            (Some(of), _) => of_lookup(of, old, change, (database, now), &mut steps)?,
            (None, Some(main)) => steps.push(of_main(main, of, old, change, (database, now))?),
            (None, None) => {}
        }
    }
    Ok(steps)
}

/// The row of a name.
fn of_main<'t>(
    main: &'t Main,
    of: &'t RowsOf,
    old: Option<&Zeroizing<String>>,
    change: &RowChange,
    by: (&dyn Connection, Timestamp),
) -> Result<Step<'t>, Failure> {
    let name = change.name();
    let only = conditions(&main.table, &of.only)?;
    let ours = [(&main.scope, of.scope.as_str()), (&main.name, name)];
    let row = ours.into_iter().chain(only).map(|(column, text)| (column, text.to_owned().into())).collect();
    let written = |value: &Zeroizing<String>| -> Result<Vec<Cell<'t>>, Failure> {
        let mut cells = vec![(&main.value, Some(value.clone()))];
        cells.extend(beside(&main.table, &of.written, by)?);
        Ok(cells)
    };
    let (doing, cells) = match change {
        RowChange::Insert(_, value) => (Doing::Insert, written(value)?),
        RowChange::Update(_, value) => (Doing::Update, written(value)?),
        RowChange::Remove(_) => (Doing::Remove, Vec::new()),
    };
    let old = vec![(&main.value, old.cloned())];
    Ok(Step { what: format!("row `{name}`"), table: &main.table, doing, row, old, cells })
}

/// The rows of a lookup table: those that go first.
fn of_lookup<'t>(
    lookup: &'t Lookup,
    there: Option<&Zeroizing<String>>,
    change: &RowChange,
    by: (&dyn Connection, Timestamp),
    steps: &mut Vec<Step<'t>>,
) -> Result<(), Failure> {
    let name = change.name();
    let old = there.map(|text| lookup::rows(name, text)).transpose()?.unwrap_or_default();
    let new = match change {
        RowChange::Insert(_, text) | RowChange::Update(_, text) => lookup::rows(name, text)?,
        RowChange::Remove(_) => lookup::Rows::new(),
    };
    let only = conditions(&lookup.table, &lookup.of.only)?;
    let cells = |row: Option<&lookup::Cells>| -> Vec<Cell<'t>> {
        let cell = |(name, column): (&String, &'t Column)| {
            (column, lookup::cell(column, row.and_then(|row| row.get(name))))
        };
        lookup.cells.iter().map(cell).collect()
    };
    let mut step = |key: &String, doing, cells: Vec<Cell<'t>>, was: Vec<Cell<'t>>| {
        let only = only.iter().map(|&(column, text)| (column, text.to_owned().into()));
        let row = [(&lookup.key, key.clone().into())].into_iter().chain(only).collect();
        let what = format!("`{name}`, row `{key}`");
        steps.push(Step { what, table: &lookup.table, doing, row, old: was, cells });
    };
    for (key, row) in old.iter().filter(|(key, _)| !new.contains_key(*key)) {
        step(key, Doing::Remove, Vec::new(), cells(Some(row)));
    }
    for (key, row) in &new {
        let before = old.get(key);
        if before.is_some_and(|before| is_same_row(lookup, before, row)) {
            continue;
        }
        let doing = if before.is_some() { Doing::Update } else { Doing::Insert };
        let mut written = cells(Some(row));
        written.extend(beside(&lookup.table, &lookup.of.written, by)?);
        step(key, doing, written, cells(before));
    }
    Ok(())
}

/// Whether two rows of a lookup table are the same in the types of its columns.
fn is_same_row(lookup: &Lookup, one: &lookup::Cells, other: &lookup::Cells) -> bool {
    lookup.cells.iter().all(|(name, column)| match (one.get(name), other.get(name)) {
        (Some(one), Some(other)) => column.is_same(one, other),
        (one, other) => one == other,
    })
}

/// What is written beside.
fn beside<'t>(
    table: &'t TableThere,
    written: &[(String, Written)],
    (database, now): (&dyn Connection, Timestamp),
) -> Result<Vec<Cell<'t>>, Failure> {
    let one = |(name, written): &(String, Written)| {
        let column = table.column(name)?;
        let text = match written {
            Written::Text(text) => text.clone(),
            Written::Now => database.time(column, now),
        };
        Ok((column, Some(Zeroizing::new(text))))
    };
    written.iter().map(one).collect()
}

/// Puts steps into an order in which each table takes them: a row comes before those that refer to it, and goes after
/// them; and where two may not be alike, the one that makes room comes first. Where there is no such order, they stay
/// in the one that they are in.
pub(super) fn in_order(steps: Vec<Step<'_>>) -> Vec<Step<'_>> {
    let order = sorted(&after(&steps));
    let mut steps: Vec<Option<Step<'_>>> = steps.into_iter().map(Some).collect();
    order.into_iter().filter_map(|at| steps[at].take()).collect()
}

/// The steps that each comes after.
fn after(steps: &[Step<'_>]) -> Vec<BTreeSet<usize>> {
    let references = referred(steps);
    let to = |step: &Step<'_>, it: &&&Reference| it.to == step.table.constraints.table;
    let (mut lost, mut come, mut referred) = (Holders::new(), Holders::new(), Holders::new());
    for (at, step) in steps.iter().enumerate() {
        let table = &step.table.constraints;
        for unique in &table.unique {
            add(&mut lost, (&table.table, &unique.columns), step.lost(&unique.columns), at);
        }
        for reference in references.iter().filter(|it| to(step, it)) {
            add(&mut come, (&table.table, &reference.others), step.gained(&reference.others), at);
        }
        for reference in &table.references {
            add(&mut referred, (&reference.from, &reference.columns), step.lost(&reference.columns), at);
        }
    }
    let mut after: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); steps.len()];
    for (at, step) in steps.iter().enumerate() {
        let table = &step.table.constraints;
        let mut first = |holders: &Holders<'_>, of: Held<'_>| {
            let holders = holders.get(&of).into_iter().flatten().filter(|&&other| other != at);
            after[at].extend(holders);
        };
        for unique in &table.unique {
            if let Some(gained) = step.gained(&unique.columns) {
                first(&lost, (&table.table, &unique.columns, gained));
            }
        }
        for reference in &table.references {
            if let Some(needed) = step.gained(&reference.columns) {
                first(&come, (&reference.to, &reference.others, needed));
            }
        }
        for reference in references.iter().filter(|it| to(step, it)) {
            if let Some(gone) = step.lost(&reference.others) {
                first(&referred, (&reference.from, &reference.columns, gone));
            }
        }
    }
    after
}

/// The ways in which rows of the steps' tables refer to others.
pub(super) fn referred<'s>(steps: &'s [Step<'_>]) -> Vec<&'s Reference> {
    let mut references: Vec<&Reference> = Vec::new();
    for reference in steps.iter().flat_map(|step| &step.table.constraints.references) {
        if !references.contains(&reference) {
            references.push(reference);
        }
    }
    references
}

/// What some columns of a table hold at some moment.
type Held<'s> = (&'s [String], &'s [String], Tuple<'s>);

/// Steps by what they hold.
type Holders<'s> = HashMap<Held<'s>, Vec<usize>>;

fn add<'s>(
    holders: &mut Holders<'s>,
    (table, columns): (&'s [String], &'s [String]),
    tuple: Option<Tuple<'s>>,
    at: usize,
) {
    if let Some(tuple) = tuple {
        holders.entry((table, columns, tuple)).or_default().push(at);
    }
}

/// The numbers in an order in which each stands behind those that it comes after, as near to their own as can be.
fn sorted(after: &[BTreeSet<usize>]) -> Vec<usize> {
    let mut missing: Vec<usize> = after.iter().map(BTreeSet::len).collect();
    let mut before: Vec<Vec<usize>> = vec![Vec::new(); after.len()];
    for (at, others) in after.iter().enumerate() {
        for &other in others {
            before[other].push(at);
        }
    }
    let mut free: BTreeSet<usize> = (0..after.len()).filter(|&at| missing[at] == 0).collect();
    let mut waiting: BTreeSet<usize> = (0..after.len()).filter(|&at| missing[at] > 0).collect();
    let mut sorted = Vec::with_capacity(after.len());
    // Where they go round in a circle, the first of them goes on.
    while let Some(at) = free.pop_first().or_else(|| waiting.first().copied()) {
        waiting.remove(&at);
        sorted.push(at);
        for &next in &before[at] {
            missing[next] = missing[next].saturating_sub(1);
            if missing[next] == 0 && waiting.remove(&next) {
                free.insert(next);
            }
        }
    }
    sorted
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_stands_behind_what_it_comes_after_and_circles_do_not_hold_it_up() {
        let after = |of: &[&[usize]]| -> Vec<BTreeSet<usize>> {
            of.iter().map(|others| others.iter().copied().collect()).collect()
        };
        for (of, expected) in [
            (after(&[&[], &[], &[]]), vec![0, 1, 2]),
            (after(&[&[2], &[], &[1]]), vec![1, 2, 0]),
            (after(&[&[1], &[0], &[]]), vec![2, 0, 1]),
        ] {
            assert_eq!(sorted(&of), expected);
        }
    }
}
