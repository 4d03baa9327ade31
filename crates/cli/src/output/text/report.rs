//! `report` for people: what is in it, and where it is.

use std::path::Path;

use cledger_page::Report;
use cledger_work::Kind;

use super::change::ONLY_SHOWN;
use crate::output::console::Console;
use crate::output::{style, values};

pub(crate) fn print(console: &mut Console, report: &Report, path: &Path, written: bool) {
    let titles: Vec<&str> = report.page.sections.iter().map(|section| section.title.as_str()).collect();
    console.wrapped(&format!("In it: {}.", titles.join("; ")), "  ");
    let path = values::escape(&path.display().to_string());
    match report.kind {
        Some(Kind::Outside) => {
            console.line(format!("{}: not everything could be looked at.", style::doubtful("in part")));
        }
        Some(_) => console.line(format!("{}: it says what has to be mended.", style::bad("found"))),
        None => {}
    }
    if written {
        console.line(format!("Written to {path}."));
    } else {
        console.line(format!("Would be written to {path}."));
        console.line(ONLY_SHOWN);
    }
}
