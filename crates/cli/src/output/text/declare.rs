//! What was declared or changed, for people: what is said of it, and what that does.

use cledger_core::effects::Seen;
use cledger_work::declare::{Declared, ToDo};
use cledger_work::shown::counted;

use super::change::{ONLY_SHOWN, TO_DO_IT, effects, findings};
use super::rename::touched;
use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;

pub(crate) fn print(console: &mut Console, declared: &Declared) {
    let does = match (declared.is_new, declared.written) {
        (true, true) => style::good("added"),
        (true, false) => style::heading("would add"),
        (false, true) => style::good("changed"),
        (false, false) => style::heading("would change"),
    };
    console.line(format!("{does}: {}", declared.what));
    touched(console, &declared.files);
    if !declared.is_new && !declared.keys.is_empty() {
        console.line("");
        keys(console, declared);
    }
    console.line("");
    if let Some(count) = declared.settings {
        let settings = if count == 0 {
            "No setting is".to_owned()
        } else {
            format!("{} {}", counted(count, "setting"), if count == 1 { "is" } else { "are" })
        };
        console.line(format!("{settings} written for it."));
    }
    if declared.files.is_empty() {
        console.line("It says that already.");
        return;
    }
    effects(console, &declared.effects);
    findings(console, "causes", &declared.caused);
    findings(console, "cures", &declared.cured);
    if !declared.written {
        let is_new = |seen: &Seen| *seen == Seen::NotThere;
        console.line(match declared.to_do {
            ToDo::Write
                if declared.is_new && declared.effects.iter().any(|effect| !is_new(&effect.before)) =>
            {
                "Nothing is written yet, since values change that are there. To do it, add --write."
            }
            ToDo::Write => TO_DO_IT,
            ToDo::NoDryRun => ONLY_SHOWN,
        });
    }
}

fn keys(console: &mut Console, declared: &Declared) {
    let mut table = Table::new(&["said", "before", "after"], console.width());
    for key in &declared.keys {
        let side = |text: &Option<String>| match text {
            Some(text) => (text.clone(), Tone::Plain),
            None => ("not said".to_owned(), Tone::Quiet),
        };
        table.row(vec![(key.name.clone(), Tone::Plain), side(&key.before), side(&key.after)]);
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
}
