//! `cledger report`: what a stage, a comparison or a whole ledger looks like, as a page for people without a terminal.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use cledger_page::{Page, Part, Report, csv, html, markdown, report};
use cledger_store::{Mode, write_atomically};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::exit;
use crate::options::DryRunOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ReportArgs {
    /// What is in it, one after the other: `status [UNIT…]`, `matrix [PATTERN]`, `compare [A B]`, `check [PATTERN…]`,
    /// `drift [ADDRESS…]`, `history [PATTERN…]`, `delivery UNIT@STAGE:N`, `flow UNIT@STAGE`; an overview if not given
    #[arg(value_name = "PART")]
    parts: Vec<String>,
    /// The file to write; without it, the page is printed
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Its form; without it, what the name of the file says, else HTML
    #[arg(long, value_enum)]
    form: Option<Form>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    overwrite: bool,
    /// Only the findings and changes that are new since this git revision
    #[arg(long, value_name = "REV")]
    against: Option<String>,
    /// Look at the outlets, too, and say in `status` what has drifted
    #[arg(long)]
    live: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

/// In which form a page is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// One file that needs nothing from outside.
    Html,
    /// For reviews and wikis.
    Markdown,
    /// One table.
    Csv,
}

impl Form {
    /// What the name of a file says.
    fn of(path: &Path) -> Option<Self> {
        match path.extension()?.to_str()? {
            "html" | "htm" => Some(Form::Html),
            "md" | "markdown" => Some(Form::Markdown),
            "csv" => Some(Form::Csv),
            _ => None,
        }
    }

    fn write(self, page: &Page) -> Result<String, Trouble> {
        Ok(match self {
            Form::Html => html(page),
            Form::Markdown => markdown(page),
            Form::Csv => csv(page).map_err(|error| {
                let message = format!("a file of CSV is one table, and this report has {}", error.tables);
                Trouble::usage(message).help("name one part with one table, or take another --form")
            })?,
        })
    }
}

pub(crate) fn run(args: &ReportArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let parts = if args.parts.is_empty() { Part::overview() } else { Part::read(&args.parts)? };
    if let Some(path) = args.out.as_deref().filter(|path| path.exists() && !args.overwrite) {
        let message = format!("`{}` is there already, and is not written over", path.display());
        return Err(Trouble::usage(message).help("name another file, or add --overwrite"));
    }
    let report = report(&app.at, &parts, (args.against.as_deref(), args.live))?;
    let form = args.form.or_else(|| Form::of(args.out.as_deref()?)).unwrap_or(Form::Html);
    let page = form.write(&report.page)?;
    let Some(path) = &args.out else {
        app.console.verbatim(&page);
        return Ok(exit::of_result(report.kind));
    };
    let written = !args.dry_run.is_given;
    if written {
        write_atomically(path, page.as_bytes(), Mode::AsBefore)?;
    }
    Ok(app.show(&View { report: &report, path, written }))
}

/// A report, and where it was written.
struct View<'r> {
    report: &'r Report,
    path: &'r Path,
    written: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::report::print(console, self.report, self.path, self.written);
    }

    fn document(&self) -> impl Serialize {
        json::report::document(self.report, self.path, self.written)
    }

    fn kind(&self) -> Option<Kind> {
        self.report.kind
    }
}
