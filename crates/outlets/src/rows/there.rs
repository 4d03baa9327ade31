//! A table as it is there.

use super::column::Column;
use super::constraint::Constraints;
use crate::failure::Failure;
use crate::held::Written;

/// A table, and its columns.
#[derive(Debug, Clone)]
pub(super) struct TableThere {
    pub(super) parts: Vec<String>,
    pub(super) columns: Vec<Column>,
    /// What it says of several rows, where it was asked for that.
    pub(super) constraints: Constraints,
}

impl TableThere {
    fn name(&self) -> String {
        self.parts.join(".")
    }

    /// The column with this name.
    pub(super) fn column(&self, name: &str) -> Result<&Column, Failure> {
        self.columns.iter().find(|column| column.name == name).ok_or_else(|| {
            let names: Vec<&str> = self.columns.iter().map(|column| column.name.as_str()).collect();
            let (table, has) = (self.name(), names.join(", "));
            Failure::unexpected(format!("`{table}` has no column `{name}`: it has {has}"))
        })
    }

    /// Refuses conditions and fixed texts that its columns cannot have.
    pub(super) fn has(
        &self,
        only: &[(String, String)],
        written: &[(String, Written)],
    ) -> Result<(), Failure> {
        for (name, text) in only {
            self.column(name)?.refuse(text).map_err(|why| refused(&format!("`where`, {name}"), &why))?;
        }
        for (name, written) in written {
            let column = self.column(name)?;
            if column.is_generated {
                let table = self.name();
                let message = format!("the column `{name}` of `{table}` is filled by the database alone");
                return Err(Failure::unexpected(message));
            }
            if let Written::Text(text) = written {
                column.refuse(text).map_err(|why| refused(&format!("`fixed`, {name}"), &why))?;
            }
        }
        Ok(())
    }

    /// Refuses new rows that would lack something which the table needs; `said` is what they have.
    pub(super) fn gets_all(
        &self,
        said: &[&str],
        only: &[(String, String)],
        written: &[(String, Written)],
    ) -> Result<(), Failure> {
        let is_said = |column: &Column| {
            said.contains(&column.name.as_str())
                || only.iter().any(|(name, _)| *name == column.name)
                || written.iter().any(|(name, _)| *name == column.name)
        };
        let lacking: Vec<String> = self
            .columns
            .iter()
            .filter(|column| column.is_needed && !is_said(column))
            .map(|column| format!("`{}` ({})", column.name, column.declared))
            .collect();
        if lacking.is_empty() {
            return Ok(());
        }
        let (table, lacking) = (self.name(), lacking.join(", "));
        Err(Failure::unexpected(format!(
            "`{table}` needs more of each new row than is said: {lacking}; say it with `fixed`, `where`, `who` or \
             `when` of the outlet"
        )))
    }
}

/// A failure that says first what it is about.
pub(super) fn refused(what: &str, why: &dyn std::fmt::Display) -> Failure {
    Failure::unexpected(format!("{what}: {why}"))
}

/// The columns with what they hold in rows that are ours.
pub(super) fn conditions<'t>(
    table: &'t TableThere,
    only: &'t [(String, String)],
) -> Result<Vec<(&'t Column, &'t str)>, Failure> {
    only.iter().map(|(name, text)| Ok((table.column(name)?, text.as_str()))).collect()
}
