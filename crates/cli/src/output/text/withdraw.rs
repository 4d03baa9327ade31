//! `withdraw` for people: what goes, or what became of it.

use cledger_work::deliver::withdraw::Withdrawn;

use super::outlet;
use crate::output::console::Console;

/// Prints it; `settings_out` says that the settings are out of the ledger, too.
pub(crate) fn print(console: &mut Console, withdrawn: &Withdrawn, settings_out: bool) {
    let Withdrawn { owner, stage, number, names, row_outlets, brought, write, .. } = withdrawn;
    if *write {
        outlet::brought(console, brought, &[]);
        let settings = if settings_out { "are taken out" } else { "stay as they are" };
        console.line(format!("The settings {settings}."));
        return;
    }
    console.line(format!("{owner}@{stage}  would lose what delivery {number} brought:"));
    for name in names {
        console.line(format!("  {name}"));
    }
    for outlet in row_outlets {
        console.line(format!("  its rows in {outlet}"));
    }
    console.line("Nothing is withdrawn yet. To do it, add --write.");
}
