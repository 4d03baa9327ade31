//! `replace` for people: each value before and after, what that does, and what it would break or mend.

use super::change::{effects, findings};
use super::rename::rendered;
use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;
use cledger_work::replace::Replacement;
use cledger_work::replace::changes::Names;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, replacement: &Replacement) {
    in_references(console, replacement);
    if replacement.replaced.is_empty() && replacement.renamed.is_empty() {
        console.line("Nothing to replace: nothing was found, or it is so already.");
        return;
    }
    replaced(console, replacement);
    renamed(console, replacement);
    rendered(console, &replacement.rendered, replacement.written);
    effects(console, &replacement.effects);
    findings(console, "causes", &replacement.caused);
    findings(console, "cures", &replacement.cured);
    let mut counts = Vec::new();
    if !replacement.replaced.is_empty() {
        counts.push(counted(replacement.replaced.len(), "value"));
    }
    if !replacement.renamed.is_empty() {
        counts.push(counted(replacement.renamed.len(), "name"));
    }
    let count = counts.join(" and ");
    console.line("");
    if replacement.written {
        console.line(format!("{}: {count}.", style::good("replaced")));
    } else {
        console
            .line(format!("{}: {count} would change; --write does it.", style::doubtful("nothing written")));
    }
}

/// What stays since it stands inside of references.
fn in_references(console: &mut Console, replacement: &Replacement) {
    let all = &replacement.in_references;
    if all.is_empty() {
        return;
    }
    console.line(format!("{}:", style::doubtful("stays, since it stands inside of references")));
    for address in all {
        console.line(format!("  {address}"));
    }
    console.line("--in-references changes it there, too.");
    console.line("");
}

fn replaced(console: &mut Console, replacement: &Replacement) {
    if replacement.replaced.is_empty() {
        return;
    }
    let mut table = Table::new(&["setting", "before", "after", "in"], console.width());
    for one in &replacement.replaced {
        let place = format!("{}:{}", one.file, one.line);
        let cells = [&one.address, &one.before, &one.after, &place];
        table.row(cells.into_iter().map(|text| (text.clone(), Tone::Plain)).collect());
    }
    print_table(console, &mut table);
}

fn renamed(console: &mut Console, replacement: &Replacement) {
    if replacement.renamed.is_empty() {
        return;
    }
    let mut table = Table::new(&["name of", "before", "after"], console.width());
    for one in &replacement.renamed {
        let of = match (one.which, one.format) {
            (Names::Units, _) => format!("unit {}", one.address),
            (Names::Entries, _) => format!("entry {}", one.address),
            (Names::Outputs, Some(format)) => format!("{} in {format} files", one.address),
            (Names::Outputs, None) => format!("{} in all files", one.address),
        };
        let cells = [&of, &one.before, &one.after];
        table.row(cells.into_iter().map(|text| (text.clone(), Tone::Plain)).collect());
    }
    print_table(console, &mut table);
}

fn print_table(console: &mut Console, table: &mut Table) {
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
    console.line("");
}
