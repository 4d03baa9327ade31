//! `init` for people: the files, the classes of stages, and what to type next.

use std::path::Path;

use cledger_work::init::Made;

use super::change::ONLY_SHOWN;
use crate::output::console::Console;

pub(crate) fn print(console: &mut Console, name: &str, dir: &Path, made: &Made) {
    let dir = dir.display();
    let does = if made.written { "Made" } else { "Would make" };
    console.line(format!("{does} the ledger `{name}` in {dir}:"));
    for path in &made.files {
        console.line(format!("  {path}"));
    }
    console.line(
        "\nThe classes of the stages, as they were said or as their names tell; mend them in ledger.toml:",
    );
    for (stage, class, is_told) in &made.stages {
        let why = if *is_told { "" } else { "  (the name says nothing, so the careful choice)" };
        console.line(format!("  {stage:<12} {}{why}", class.name()));
    }
    if !made.written {
        console.line(format!("\n{ONLY_SHOWN}"));
        return;
    }
    console.wrapped(
        "\nDeliveries are recorded in .cledger/, on this machine alone. A team shares a daybook in PostgreSQL: \
         [daybook] store = \"postgres\" in ledger.toml.",
        "",
    );
    let next = if made.is_empty { "adopt UNIT STAGE=FILE, or add unit UNIT" } else { "show example" };
    console.line(format!("\nNext: cledger -C {dir} check, then cledger -C {dir} {next}"));
}
