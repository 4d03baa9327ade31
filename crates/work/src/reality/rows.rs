//! The rows of a unit at an outlet: whose they are, and what stands beside their values.

use cledger_core::address::Owner;
use cledger_core::model::{Beside, Kind, LookupRows, Outlet, RowsOutlet, StageText, Subject};
use cledger_core::tree::Tree;
use cledger_outlets::held::{RowsOf, Said, TableOf, Values, Written};
use zeroize::Zeroizing;

use crate::reality::places::expand;
use crate::reality::way::Reading;
use crate::trouble::Trouble;

/// What columns hold in rows that are ours, and what they get in each that is written.
type BesideRows = (Vec<(String, String)>, Vec<(String, Written)>);

/// Names and values as rows have them.
pub(crate) fn values_of(tree: &Tree) -> Values {
    tree.0
        .iter()
        .map(|(name, value)| (name.to_string(), Zeroizing::new(value.to_text().to_string())))
        .collect()
}

impl Reading<'_> {
    /// The rows of a unit, which the ledger need not know.
    pub(super) fn rows_of(
        &self,
        (outlet, rows): (&Outlet, &RowsOutlet),
        owner: &Owner,
    ) -> Result<RowsOf, Trouble> {
        let scope = match &rows.scope {
            Some(scope) => expand(outlet, scope, self.ledger, owner, self.stage)?,
            None => format!("{owner}@{}", self.ledger.stage(self.stage).name),
        };
        let (only, written) = self.beside(outlet, &rows.beside, owner)?;
        let mut tables = Vec::new();
        for table in &rows.tables {
            let is_needed = self.has(outlet, table, owner)?;
            // In our own layout, what no field is would be left over from us.
            if is_needed || rows.columns.are_given {
                tables.push(self.table_of(outlet, table, owner, is_needed)?);
            }
        }
        Ok(RowsOf { scope, only, written, tables, said: Said::default() })
    }

    fn table_of(
        &self,
        outlet: &Outlet,
        rows: &LookupRows,
        owner: &Owner,
        is_needed: bool,
    ) -> Result<TableOf, Trouble> {
        let wrong = |why: String| Trouble::usage(format!("outlet `{}`: {why}", outlet.name));
        let (only, written) = self.beside(outlet, &rows.beside, owner)?;
        Ok(TableOf {
            name: rows.entry.to_string(),
            table: self.table(&rows.table, owner).map_err(wrong)?,
            key: rows.key.clone(),
            columns: rows.columns.clone(),
            only,
            written,
            is_needed,
        })
    }

    /// Whether a unit has the lookup table; refused where some of it would have no place.
    fn has(&self, outlet: &Outlet, rows: &LookupRows, owner: &Owner) -> Result<bool, Trouble> {
        let (unit, _) = owner.names();
        let Some(unit) = self.ledger.unit_id(unit) else { return Ok(false) };
        let subject = Subject::Unit(unit, None);
        let Ok(slot) = self.ledger.find_slot(subject, rows.entry.as_str(), None) else { return Ok(false) };
        let wrong = |what: String| {
            Trouble::usage(format!("outlet `{}`: {what}", outlet.name))
                .help("see `tables` of the outlet in ledger.toml")
        };
        let Kind::Table { columns, key } = &self.ledger.field(subject, slot).0.kind else {
            return Err(wrong(format!("`{owner}/{}` is no lookup table", rows.entry)));
        };
        let is_named = |column: &&String| rows.columns.iter().any(|(name, _)| name == *column);
        let without = columns.iter().filter(|column| *column != key).find(|column| !is_named(column));
        if let Some(column) = without {
            let message = format!("no column is said for `{column}` of `{owner}/{}`", rows.entry);
            return Err(wrong(message));
        }
        if let Some((column, _)) =
            rows.columns.iter().find(|(name, _)| !columns.contains(name) || name == key)
        {
            let message = format!("`{owner}/{}` has no column `{column}` beside its key", rows.entry);
            return Err(wrong(message));
        }
        Ok(true)
    }

    fn beside(
        &self,
        outlet: &Outlet,
        beside: &[(String, Beside)],
        owner: &Owner,
    ) -> Result<BesideRows, Trouble> {
        let text = |text: &StageText| expand(outlet, text, self.ledger, owner, self.stage);
        let (mut only, mut written) = (Vec::new(), Vec::new());
        for (column, beside) in beside {
            let gets = match beside {
                Beside::Where(of) => {
                    only.push((column.clone(), text(of)?));
                    continue;
                }
                Beside::Fixed(fixed) => Written::Text(text(fixed)?),
                Beside::Who => Written::Text(self.who.clone()),
                Beside::When => Written::Now,
            };
            written.push((column.clone(), gets));
        }
        Ok((only, written))
    }
}
