//! `add` for people: the files, and what needs a value now.

use cledger_core::effects::Effect;
use cledger_work::add::Added;

use crate::output::console::Console;
use crate::output::style;
use crate::output::text::change::ONLY_SHOWN;
use cledger_work::shown::counted;

/// The most fields that are listed.
const MOST_LISTED: usize = 15;

pub(crate) fn print(console: &mut Console, added: &Added) {
    let Added { what, files, missing, outputs, written } = added;
    let does = if *written { style::good("added") } else { style::heading("would add") };
    console.line(format!("{does}: {what}, in {}.", files.join(" and ")));
    match outputs.as_deref() {
        None => {}
        Some([]) => {
            let text = "it comes into no output of the unit; `only` and `except` in its contract say so";
            console.wrapped(&format!("{}: {text}.", style::doubtful("not rendered")), "  ");
        }
        Some(outputs) => console.wrapped(&format!("It comes into {}.", outputs.join(", ")), "  "),
    }
    if !missing.is_empty() {
        print_missing(console, missing);
    }
    if !written {
        console.line(ONLY_SHOWN);
    }
}

fn print_missing(console: &mut Console, missing: &[Effect]) {
    let need = if missing.len() == 1 { "needs" } else { "need" };
    console.line(format!("\n{} {need} a value now:", counted(missing.len(), "field")));
    for effect in missing.iter().take(MOST_LISTED) {
        console.line(format!("  {}", effect.address));
    }
    if missing.len() > MOST_LISTED {
        console.line(format!("  and {} more, which `cledger check` shows", missing.len() - MOST_LISTED));
    }
}
