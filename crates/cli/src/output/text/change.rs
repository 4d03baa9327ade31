//! What was changed, for people: each setting before and after, then the effective values that change.

use cledger_core::effects::{Effect, Seen};
use cledger_core::findings::Finding;

use super::rows;
use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};
use cledger_work::cells::TakenIn;
use cledger_work::drift::Taken;
use cledger_work::set::SettingsChanged;
use cledger_work::setting::Written;
use cledger_work::shown::{counted, seen};

/// What stands below what is only shown.
pub(crate) const TO_DO_IT: &str = "Nothing is written yet. To do it, add --write.";

/// What stands below what is only shown by a command that acts at once.
pub(crate) const ONLY_SHOWN: &str = "Nothing is written. To do it, leave --dry-run out.";

/// The most effective values that are listed.
const MOST_EFFECTS: usize = 30;

/// What a command that acts at once has changed.
pub(crate) fn at_once(console: &mut Console, changed: &SettingsChanged) {
    print_with(console, changed, ONLY_SHOWN);
}

/// What a command that shows first changes.
pub(crate) fn print(console: &mut Console, changed: &SettingsChanged) {
    print_with(console, changed, TO_DO_IT);
}

/// The same, with how it is done where it is not done yet.
fn print_with(console: &mut Console, changed: &SettingsChanged, how: &str) {
    settings(console, &changed.settings);
    console.line("");
    effects(console, &changed.effects);
    findings(console, "causes", &changed.caused);
    findings(console, "cures", &changed.cured);
    if !changed.written {
        console.line(how);
    }
}

/// What was taken over from what is live, and what was not.
pub(crate) fn taken(console: &mut Console, taken: &Taken) {
    for agreeing in &taken.agreeing {
        console.line(format!("{agreeing} is there as the ledger says."));
    }
    passed_over(console, "not taken over", &taken.left);
    if !taken.agreeing.is_empty() || !taken.left.is_empty() {
        console.line("");
    }
    if taken.changed.settings.is_empty() {
        console.line("There is nothing to take over.");
    } else {
        print(console, &taken.changed);
    }
}

/// What a table changes, and which of its cells are passed over.
pub(crate) fn taken_in(console: &mut Console, taken: &TakenIn) {
    passed_over(console, "passed over", &taken.passed_over);
    if !taken.passed_over.is_empty() {
        console.line("");
    }
    if taken.changed.settings.is_empty() {
        console.line("Nothing is changed in the table.");
    } else {
        print(console, &taken.changed);
    }
}

/// What stays as it is, each with the reason.
fn passed_over(console: &mut Console, heading: &str, all: &[(String, String)]) {
    if all.is_empty() {
        return;
    }
    console.line(format!("{}:", style::doubtful(heading)));
    for (address, reason) in all {
        let reason = values::escape(reason);
        let is_named = reason.contains(&format!("`{address}`"));
        let text = if is_named { reason } else { format!("{address}: {reason}") };
        console.wrapped(&format!("  {text}"), "    ");
    }
}

/// The settings that a change writes, before and after.
pub(crate) fn settings(console: &mut Console, written: &[Written]) {
    let mut table = Table::new(&["setting", "before", "after", "in"], console.width());
    for one in written {
        let side = |text: &Option<String>| match text {
            Some(text) => (text.clone(), Tone::Plain),
            None => ("not set".to_owned(), Tone::Quiet),
        };
        let address = (one.address.clone(), Tone::Plain);
        table.row(vec![address, side(&one.before), side(&one.after), (one.file.clone(), Tone::Quiet)]);
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
}

/// The effective values that a change makes different.
pub(crate) fn effects(console: &mut Console, effects: &[Effect]) {
    if effects.is_empty() {
        console.line("No effective value changes.");
        return;
    }
    let changes = if effects.len() == 1 { "changes" } else { "change" };
    console.line(style::heading(&format!("{} {changes}", counted(effects.len(), "effective value"))));
    let mut table = Table::new(&["field", "before", "after"], console.width());
    for effect in effects.iter().take(MOST_EFFECTS) {
        let address = (effect.address.to_string(), Tone::Plain);
        table.row(vec![address, seen(&effect.before), seen(&effect.after)]);
        if let (Seen::Value(Some(before)), Seen::Value(Some(after))) = (&effect.before, &effect.after) {
            rows::add_differences(&mut table, (before, after), None);
        }
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
    if effects.len() > MOST_EFFECTS {
        console.line(format!("and {} more, which --json lists", effects.len() - MOST_EFFECTS));
    }
}

/// The findings that a change causes or cures.
pub(crate) fn findings(console: &mut Console, does: &str, findings: &[Finding]) {
    if findings.is_empty() {
        return;
    }
    console.line("");
    console.line(style::heading(&format!("It {does} {}", counted(findings.len(), "finding"))));
    for finding in findings {
        console.line(format!("  {}[{}] {}", finding.severity.name(), finding.kind(), finding.address));
    }
}
