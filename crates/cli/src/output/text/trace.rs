//! `trace` for people: the value, every candidate for it, what it refers to, and where it ends up.

use cledger_core::model::Ledger;
use cledger_core::trace::origin;
use cledger_work::trace::{Traced, words};

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{origin, style};

pub(crate) fn print(console: &mut Console, ledger: &Ledger, traced: &[Traced<'_>], unmask: bool) {
    for (number, one) in traced.iter().enumerate() {
        if number > 0 {
            console.line("");
        }
        let (value, _) = words::outcome(&one.outcome, unmask);
        console.line(format!("{}  {value}", style::heading(&ledger.address(one.field).to_string())));
        candidates(console, ledger, one, unmask);
        steps(console, ledger, one, unmask);
        ends(console, one);
    }
}

fn candidates(console: &mut Console, ledger: &Ledger, traced: &Traced<'_>, unmask: bool) {
    let (_, declaration) = ledger.field(traced.field.subject, traced.field.slot);
    console.line("");
    if traced.candidates.is_empty() {
        console.line(words::no_candidate(declaration.derived));
        return;
    }
    let mut table = Table::new(&["candidate, weakest first", "says", ""], console.width());
    for candidate in &traced.candidates {
        let from = (words::place(ledger, candidate), Tone::Plain);
        let says = (words::says(candidate, unmask), Tone::Plain);
        table.row(vec![from, says, words::standing(candidate)]);
    }
    for line in table.lines() {
        console.line(line);
    }
}

/// What a value refers to, fields of the same unit and stage by their names alone.
fn steps(console: &mut Console, ledger: &Ledger, traced: &Traced<'_>, unmask: bool) {
    let Traced { field: of, steps, .. } = traced;
    if steps.is_empty() {
        return;
    }
    console.line("");
    let mut table = Table::new(&["refers to", "which is", "from"], console.width());
    for step in steps {
        let indent = "  ".repeat(step.depth.min(12) - 1);
        let address = format!("{indent}{}", words::field_name(ledger, *of, step.field));
        let from = if step.again {
            "(see above)".to_owned()
        } else {
            origin(&step.outcome).map(|origin| origin::line(ledger, origin)).unwrap_or_default()
        };
        table.row(vec![(address, Tone::Plain), words::outcome(&step.outcome, unmask), (from, Tone::Quiet)]);
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
}

fn ends(console: &mut Console, traced: &Traced<'_>) {
    if traced.ends.is_empty() {
        return;
    }
    console.line("");
    for end in &traced.ends {
        console.line(format!("It is {} in {}.", end.name.join("."), end.path));
    }
}
