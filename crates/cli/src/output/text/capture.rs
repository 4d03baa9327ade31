//! `capture` for people.

use std::path::Path;

use cledger_work::capture::{Captured, Counted};
use cledger_work::shown::counted;

use super::change::ONLY_SHOWN;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};

pub(crate) fn print(console: &mut Console, captured: &Captured, path: &Path, written: bool) {
    let outlets = &captured.counted;
    let mut table =
        Table::new(&["outlet", "kind", "there", "not in the ledger", "not there"], console.width());
    for outlet in outlets {
        table.row(vec![
            (outlet.outlet.clone(), Tone::Plain),
            (outlet.kind.clone(), Tone::Plain),
            (outlet.there.to_string(), Tone::Plain),
            (outlet.unknown.to_string(), Tone::Plain),
            (outlet.not_there.to_string(), Tone::Plain),
        ]);
    }
    if !outlets.is_empty() {
        table.lines().iter().for_each(|line| console.line(line));
    }
    if let Some(said) = &captured.capture.said {
        let gap = if outlets.is_empty() { "" } else { "\n" };
        console.line(format!("{gap}With what the ledger says of {}.", counted(said.len(), "unit")));
    }
    if !captured.unsaid.is_empty() {
        console.line(format!("\n{}:", style::heading("in the ledger, and not in the capture")));
        captured
            .unsaid
            .iter()
            .for_each(|text| console.wrapped(&format!("  {}", values::escape(text)), "    "));
    }
    list(console, "not known", outlets, |outlet| &outlet.not_known);
    list(console, "there, and not in the capture", outlets, |outlet| &outlet.left_out);
    console.line("");
    let nameless: Vec<&str> =
        outlets.iter().filter(|it| it.tells_no_names).map(|it| it.outlet.as_str()).collect();
    if !nameless.is_empty() {
        let tells = if nameless.len() == 1 { "tells" } else { "tell" };
        let text = format!(
            "{} {tells} no names: of units that the ledger does not know, only those that you name are asked for.",
            nameless.join(", ")
        );
        console.wrapped(&text, "");
    }
    let in_part = !captured.unsaid.is_empty()
        || outlets.iter().any(|outlet| !outlet.not_known.is_empty() || !outlet.left_out.is_empty());
    if !written {
        console.line(format!("Would be written to {}.", values::escape(&path.display().to_string())));
        console.line(ONLY_SHOWN);
        return;
    }
    let word = if in_part { style::doubtful("Captured in part") } else { "Captured".into() };
    console.line(format!("{word} to {}.", values::escape(&path.display().to_string())));
}

fn list(console: &mut Console, heading: &str, outlets: &[Counted], of: fn(&Counted) -> &Vec<String>) {
    if outlets.iter().all(|outlet| of(outlet).is_empty()) {
        return;
    }
    console.line("");
    console.line(format!("{}:", style::heading(heading)));
    for outlet in outlets.iter().filter(|outlet| !of(outlet).is_empty()) {
        // A service that is down says the same of each unit.
        let mut said: Vec<(&String, usize)> = Vec::new();
        for text in of(outlet) {
            match said.iter_mut().find(|(known, _)| *known == text) {
                Some((_, times)) => *times += 1,
                None => said.push((text, 1)),
            }
        }
        for (text, times) in said {
            let times = if times > 1 { format!("{}: ", counted(times, "unit")) } else { String::new() };
            console.wrapped(&format!("  {}: {times}{}", outlet.outlet, values::escape(text)), "    ");
        }
    }
}
