//! `add` for people: the files, and what needs a value now.

use cledger_core::effects::Effect;
use cledger_work::add::Added;

use crate::output::console::Console;
use crate::output::style;
use crate::output::text::change::{ONLY_SHOWN, TO_DO_IT};
use cledger_work::declare::ToDo;
use cledger_work::shown::counted;

/// The most fields that are listed.
const MOST_LISTED: usize = 15;

pub(crate) fn print(console: &mut Console, added: &Added) {
    let Added { what, files, missing, outputs, copied, made, form, written, to_do } = added;
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
    if let Some(count) = copied {
        console.line(format!("It takes over {}.", counted(*count, "setting")));
    }
    if !made.is_empty() {
        console.wrapped(&format!("Made for it: {}.", made.join(", ")), "  ");
    }
    if !missing.is_empty() {
        print_missing(console, missing);
    }
    if let Some((path, count)) = form {
        let values = counted(*count, "value");
        console
            .line(format!("\n{} has a place for {values}: fill it in, and run this again.", path.display()));
    }
    if !written {
        console.line(match to_do {
            ToDo::Write => TO_DO_IT,
            ToDo::NoDryRun => ONLY_SHOWN,
        });
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
