//! `replace` for people: each value before and after, what that does, and what it would break or mend.

use cledger_core::findings::Finding;

use super::change;
use super::check::counted;
use crate::commands::Replacement;
use crate::output::console::Console;
use crate::output::style;
use crate::output::table::{Table, Tone};

pub(crate) fn print(console: &mut Console, replacement: &Replacement, written: bool) {
    if replacement.replaced.is_empty() {
        console.line("Nothing to replace: nothing was found, or it is so already.");
        return;
    }
    let mut table = Table::new(&["setting", "before", "after", "in"], console.width());
    for one in &replacement.replaced {
        let place = format!("{}:{}", one.file, one.line);
        let cells = [&one.address, &one.before, &one.after, &place];
        table.row(cells.into_iter().map(|text| (text.clone(), Tone::Plain)).collect());
    }
    table.keep_whole(0);
    for line in table.lines() {
        console.line(line);
    }
    console.line("");
    change::effects(console, &replacement.planned.effects);
    findings(console, "causes", &replacement.caused);
    findings(console, "cures", &replacement.cured);
    let count = counted(replacement.replaced.len(), "value");
    console.line("");
    if written {
        console.line(format!("{}: {count}.", style::good("replaced")));
    } else {
        console
            .line(format!("{}: {count} would change; --write does it.", style::doubtful("nothing written")));
    }
}

fn findings(console: &mut Console, does: &str, findings: &[Finding]) {
    if findings.is_empty() {
        return;
    }
    console.line("");
    console.line(style::heading(&format!("It {does} {}", counted(findings.len(), "finding"))));
    for finding in findings {
        console.line(format!("  {}[{}] {}", finding.severity.name(), finding.code, finding.address));
    }
}
