//! `withdraw` for people: what goes, what is brought back, or what became of it.

use cledger_work::deliver::withdraw::{AllWithdrawn, Withdrawn};

use super::{at, brought, bundle};
use crate::output::console::Console;
use crate::output::style;

/// Prints one withdrawal.
pub(crate) fn print(console: &mut Console, withdrawn: &Withdrawn) {
    let Withdrawn { owner, stage, number, again, outlets, brought, write, .. } = withdrawn;
    let title = style::heading(&format!("{owner}@{stage}"));
    let left = match &withdrawn.now {
        Some(now) => format!(", which is called {now} now,"),
        None if withdrawn.subject.is_none() => ", which does not belong there any more,".to_owned(),
        None => String::new(),
    };
    let verb = if *write { "loses" } else { "would lose" };
    let what = if *again {
        format!("what withdrawal {number} left")
    } else {
        format!("what delivery {number} brought")
    };
    console.wrapped(&format!("{title}{left}  {verb} {what}"), "  ");
    at::print(console, outlets);
    if let Some(trouble) = &withdrawn.trouble {
        console.wrapped(&format!("{}: {trouble}", style::bad("not withdrawn")), "  ");
        if let Some(help) = trouble.help_text() {
            console.wrapped(&format!("  {help}"), "  ");
        }
    } else if *write {
        brought::print(console, brought);
        match withdrawn.recorded {
            Some(number) => console.line(format!("Recorded as {owner}@{stage}:{number}.")),
            None => console.line(format!("{}: nothing is recorded.", style::bad("not withdrawn"))),
        }
    }
}

/// Prints all of them; `settings_out` says whether the settings are out of the ledger, too.
pub(crate) fn all(console: &mut Console, withdrawn: &AllWithdrawn, settings_out: bool) {
    let AllWithdrawn { together, units: all } = withdrawn;
    if let Some(together) = together {
        bundle::print(console, together);
    }
    for (at, withdrawn) in all.iter().enumerate() {
        if at > 0 {
            console.line("");
        }
        print(console, withdrawn);
    }
    let is_written = all.iter().any(|withdrawn| withdrawn.write);
    if let (Some(together), true) = (together, is_written) {
        bundle::recorded(console, together);
    }
    if is_written {
        let settings = if settings_out { "are taken out" } else { "stay as they are" };
        console.line(format!("The settings {settings}."));
    } else {
        console.line("Nothing is withdrawn yet. To do it, add --write.");
    }
}
