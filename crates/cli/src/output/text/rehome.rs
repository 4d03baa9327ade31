//! `rehome` for people: what is replaced, what is still in there, and what was not found.

use cledger_core::address::Address;
use cledger_core::rehome::{Left, Spot, Suggestion, Swap};
use cledger_core::types::Type;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};
use cledger_work::rehome::suggest::Suggested;
use cledger_work::rehome::{RehomeReport, place_of as place};
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, report: &RehomeReport) {
    let parts =
        || report.parts.iter().filter_map(|part| Some((part.member.as_deref(), part.rehomed.as_ref()?)));
    let replaced: Vec<(String, &Spot)> = parts()
        .flat_map(|(member, it)| it.replaced.iter().map(move |spot| (place(member, &spot.place), spot)))
        .collect();
    let left: Vec<(String, &Spot, Left)> = parts()
        .flat_map(|(member, it)| {
            it.left.iter().map(move |(spot, why)| (place(member, &spot.place), spot, *why))
        })
        .collect();
    if !replaced.is_empty() {
        let mut table = Table::new(&["replaced at", "field", "from", "to"], console.width());
        for (place, spot) in &replaced {
            let swap = &report.swaps[spot.swap];
            let (from, to) = shown(swap);
            let cells = [place.clone(), swap.fields.join(", "), from, to];
            table.row(cells.map(|cell| (cell, Tone::Plain)).into());
        }
        table.lines().iter().for_each(|line| console.line(line));
        console.line("");
    }
    if !left.is_empty() {
        let mut table = Table::new(&["still there at", "field", "value", ""], console.width());
        for (place, spot, why) in &left {
            let swap = &report.swaps[spot.swap];
            let cells = [place.clone(), swap.fields.join(", "), shown(swap).0];
            let mut row: Vec<(String, Tone)> = cells.map(|cell| (cell, Tone::Plain)).into();
            row.push((word(*why).to_owned(), Tone::Bad));
            table.row(row);
        }
        table.lines().iter().for_each(|line| console.line(line));
        console.line("");
    }
    if let Some((path, count)) = &report.form {
        let needed = counted(*count, "value");
        let path = values::escape(&path.display().to_string());
        console.line(format!("Wrote the form for {needed} to {path}. Fill it in, and try again."));
    }
    listed(console, "Expected and not found", report, &report.not_found);
    listed(
        console,
        "Not looked for, since they say too little by themselves (--only FIELD names them)",
        report,
        &report.common,
    );
    let skipped: Vec<&str> = report
        .parts
        .iter()
        .filter(|part| part.rehomed.is_none())
        .filter_map(|part| part.member.as_deref())
        .collect();
    if !skipped.is_empty() {
        console.wrapped(
            &format!("Kept without looking into them, since they are no text: {}.", skipped.join(", ")),
            "  ",
        );
    }
    summary(console, report, replaced.len(), left.len());
}

/// What could become entries, with the commands that make them.
pub(crate) fn suggested(console: &mut Console, suggested: &Suggested) {
    let Suggested { of, suggestions, known, skipped } = suggested;
    if !suggestions.is_empty() {
        let mut table = Table::new(&["looks like", "value", "at", "entry"], console.width());
        for it in suggestions {
            let more = if it.places.len() > 1 {
                format!(" and {} more", it.places.len() - 1)
            } else {
                String::new()
            };
            table.row(vec![
                (it.looks.word().to_owned(), Tone::Plain),
                (values::held(&it.text), Tone::Plain),
                (format!("{}{more}", values::escape(&it.places[0])), Tone::Plain),
                (it.name.to_string(), Tone::Plain),
            ]);
        }
        table.lines().iter().for_each(|line| console.line(line));
        console.line("");
        for it in suggestions {
            for command in commands(it, of) {
                console.line(command);
            }
        }
        console.line("");
    }
    if !skipped.is_empty() {
        let skipped: Vec<String> = skipped.iter().map(|name| values::escape(name)).collect();
        console.wrapped(&format!("Not looked into: {}.", skipped.join(", ")), "  ");
    }
    let count = counted(suggestions.len(), "thing");
    let are = if *known == 1 { "is one" } else { "are some" };
    let belongs = if suggestions.len() == 1 { "looks as if it belonged" } else { "look as if they belonged" };
    console.line(format!("{count} {belongs} to the stage; {known} more {are} of the unit's values."));
}

/// The commands that declare an entry and set its value in the stage. A secret is asked for.
pub(crate) fn commands(it: &Suggestion, of: &Address) -> [String; 2] {
    let unit = of.owner.as_ref().map(|owner| owner.names().0.to_owned()).unwrap_or_default();
    let field = Address { entry: Some(it.name.clone()), ..of.clone() };
    let this = match it.looks.this_type() {
        Type::Text => String::new(),
        this => format!(" --type {}", this.name()),
    };
    let (secret, value) = match it.text.open() {
        Some(value) => ("", format!("={}", value.to_text())),
        None => (" --secret", String::new()),
    };
    [
        format!("cledger add variable {unit}/{}{this}{secret}", it.name),
        format!("cledger set {}", values::shell_word(&format!("{field}{value}"))),
    ]
}

fn listed(console: &mut Console, heading: &str, report: &RehomeReport, swaps: &[usize]) {
    if swaps.is_empty() {
        return;
    }
    let names: Vec<String> = swaps.iter().flat_map(|at| report.swaps[*at].fields.clone()).collect();
    console.wrapped(&format!("{heading}: {}.", names.join(", ")), "  ");
}

/// Why a value is still there.
pub(crate) fn word(why: Left) -> &'static str {
    match why {
        Left::NoValue => "no value to take its place",
        Left::NotChosen => "not chosen",
        Left::WithinOther => "within other text",
    }
}

fn shown(swap: &Swap) -> (String, String) {
    match swap.shown() {
        None => (values::MASK.to_owned(), values::MASK.to_owned()),
        Some((from, to)) => (values::escape(from), to.map_or("none".to_owned(), values::escape)),
    }
}

fn summary(console: &mut Console, report: &RehomeReport, replaced: usize, left: usize) {
    let count = counted(replaced, "value");
    let out = report.out.display();
    if report.written {
        console.line(format!("{}: {count}, in {out}.", style::good("replaced")));
    } else if replaced > 0 {
        let text = format!("{count} would be replaced; --write does it.");
        console.line(format!("{}: {text}", style::doubtful("nothing written")));
    } else {
        console.line(format!("{}: no value to replace is in there.", style::doubtful("nothing written")));
    }
    if left > 0 {
        let are = if left == 1 { "is" } else { "are" };
        let text = format!("{} of the first stage {are} still in there.", counted(left, "value"));
        console.line(format!("{}: {text}", style::bad("left")));
    }
}
