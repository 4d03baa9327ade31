//! `render` for people: what was written, and what is in the way.

use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use cledger_store::Written;
use cledger_work::render::{Rendered, RenderedFile};

use crate::output::console::Console;
use crate::output::{diagnostics, style};
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, rendered: &Rendered) {
    let Rendered { ledger, files, gaps, partial, written, .. } = rendered;
    self::gaps(console, ledger, gaps);
    self::files(console, files);
    if *written {
        summary(console, files.len(), gaps.len(), gaps.is_empty() || *partial);
    } else {
        let errors = counted(gaps.len(), "error");
        let text =
            format!("{}, with {errors} in the way; leave --dry-run out.", counted(files.len(), "file"));
        console.line(format!("{}: {text}", style::heading("would render")));
    }
}

pub(crate) fn word(written: Written) -> &'static str {
    match written {
        Written::New => "new",
        Written::Changed => "changed",
        Written::Unchanged => "unchanged",
    }
}

/// What keeps the files from being whole.
pub(crate) fn gaps(console: &mut Console, ledger: &Ledger, gaps: &[Finding]) {
    for gap in gaps {
        console.raw(&diagnostics::of_finding(&ledger.files, gap, &gap.address, &[], console.width()));
        console.line("");
    }
}

fn files(console: &mut Console, files: &[RenderedFile]) {
    for file in files {
        let secret = if file.secret { "  (holds secrets: 0600)" } else { "" };
        console.line(format!("{:<9}  {}{secret}", word(file.written), file.path.display()));
    }
}

/// The last line: what it came to.
fn summary(console: &mut Console, files: usize, gaps: usize, written: bool) {
    if gaps == 0 {
        console.line(format!("{}: {}.", style::good("rendered"), counted(files, "file")));
    } else if written {
        let text = format!("{}, with {} in the way.", counted(files, "file"), counted(gaps, "error"));
        console.line(format!("{}: {text}", style::doubtful("partial")));
    } else {
        let verb = if gaps == 1 { "is" } else { "are" };
        let text = format!("{} {verb} in the way; --partial renders what there is.", counted(gaps, "error"));
        console.line(format!("{}: {text}", style::bad("nothing written")));
    }
}
