//! `status` for people: one line a unit, and below it what is waiting.

use cledger_core::delivery::InStage;

use crate::output::console::Console;
use crate::output::style;
use cledger_work::deliver::status::{Status, There};

pub(crate) fn print(console: &mut Console, status: &Status) {
    let Status { ledger, bundles, standings } = status;
    let names = bundles.iter().map(|bundle| &bundle.name).chain(standings.iter().map(|it| &it.owner));
    let widest = names.map(String::len).max().unwrap_or_default();
    let stages = bundles.iter().map(|bundle| &bundle.stages).chain(standings.iter().map(|it| &it.stages));
    let cells: Vec<Vec<String>> =
        stages.map(|stages| stages.iter().map(|stage| cell(stage.as_ref())).collect()).collect();
    let names: Vec<&str> = ledger.stages.iter().map(|stage| stage.name.as_str()).collect();
    let width = |(at, name): (usize, &&str)| {
        let widths = cells.iter().map(|row| row[at].len());
        widths.chain([name.len()]).max().unwrap_or_default()
    };
    let widths: Vec<usize> = names.iter().enumerate().map(width).collect();
    let line = |first: &str, rest: &[&str]| {
        let rest: Vec<String> =
            rest.iter().zip(&widths).map(|(cell, width)| format!("{cell:<width$}")).collect();
        format!("{first:<widest$}  {}", rest.join("  ")).trim_end().to_owned()
    };
    console.line(style::heading(&line("unit", &names)));
    for (bundle, row) in bundles.iter().zip(&cells) {
        let row: Vec<&str> = row.iter().map(|cell| if cell.is_empty() { "none" } else { cell }).collect();
        console.line(line(&bundle.name, &row));
    }
    for (standing, row) in standings.iter().zip(&cells[bundles.len()..]) {
        let row: Vec<&str> = row.iter().map(String::as_str).collect();
        console.line(line(&standing.owner, &row));
        for (what, stages) in &standing.waiting {
            let text = format!("{} {}", what.words(), stages.join(", "));
            let text = if what.is_trouble() { style::doubtful(&text) } else { text };
            console.wrapped(&format!("  {text}"), "    ");
        }
    }
}

fn cell(stage: Option<&There>) -> String {
    let Some(There { what, age: seconds }) = stage else { return String::new() };
    match what {
        InStage::Nothing => "none".to_owned(),
        InStage::Delivered(number) => format!("{number}, {}", age(*seconds)),
        InStage::InPart(number) => format!("{number} in part, {}", age(*seconds)),
        InStage::ByHand(number) => format!("{number} by hand, {}", age(*seconds)),
        InStage::NotKnown(number) => format!("{number} not known, {}", age(*seconds)),
        InStage::Withdrawn => format!("withdrawn, {}", age(*seconds)),
    }
}

/// An age in its greatest whole unit: minutes, hours, days.
fn age(seconds: i64) -> String {
    let minutes = seconds / 60;
    match (minutes / (24 * 60), minutes / 60) {
        (0, 0) => format!("{minutes}m"),
        (0, hours) => format!("{hours}h"),
        (days, _) => format!("{days}d"),
    }
}
