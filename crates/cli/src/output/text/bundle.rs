//! A bundle on its way, for people: what is known of it beside what comes of its units.

use cledger_work::deliver::Together;

use crate::output::console::Console;
use crate::output::style;
use crate::output::time::day;

/// Prints what it is, and which units joined or left it, or went their own way since its last record.
pub(crate) fn print(console: &mut Console, together: &Together) {
    let title = style::heading(&together.address());
    let version = together.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
    let after = match &together.last {
        Some((number, time)) => format!("after {number} of {}", day(time)),
        None => "the first".to_owned(),
    };
    console.wrapped(&format!("{title}{version}  {after}"), "  ");
    let alone: Vec<String> =
        together.alone.iter().map(|(unit, number)| format!("{unit} (number {number})")).collect();
    for (what, units) in [
        ("joined since", together.joined.join(", ")),
        ("not part of it any more, and stays as it is", together.left.join(", ")),
        ("delivered or withdrawn by itself since", alone.join(", ")),
    ] {
        if !units.is_empty() {
            console.wrapped(&style::doubtful(&format!("  {what}: {units}")), "    ");
        }
    }
    console.line("");
}

/// Prints as what it was recorded.
pub(crate) fn recorded(console: &mut Console, together: &Together) {
    let address = together.address();
    console.line("");
    match together.recorded {
        Some(number) => console.line(format!("The bundle is recorded as {address}:{number}.")),
        None => console.line(format!("Nothing new of {address} is recorded.")),
    }
}
