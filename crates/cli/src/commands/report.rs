//! `cledger report`: what a stage, a comparison or a whole ledger looks like, as a page for people without a terminal.

use std::fs;
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
    /// The file to write, or a folder that gets a page for each unit of a matrix or comparison, and one that leads to them;
    /// without it, the page is printed
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

    /// How the name of a file ends.
    fn ending(self) -> &'static str {
        match self {
            Form::Html => "html",
            Form::Markdown => "md",
            Form::Csv => "csv",
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

/// The largest page that opens without a wait, in bytes.
const LARGEST: usize = 15_000_000;

pub(crate) fn run(args: &ReportArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let parts = if args.parts.is_empty() { Part::overview() } else { Part::read(&args.parts)? };
    let is_folder = |path: &Path| path.is_dir() || path.to_string_lossy().ends_with('/');
    let refuse_overwriting = |path: &Path| {
        if path.exists() && !args.overwrite {
            let message = format!("`{}` is there already, and is not written over", path.display());
            return Err(Trouble::usage(message).help("name another file, or add --overwrite"));
        }
        Ok(())
    };
    args.out.as_deref().filter(|path| !is_folder(path)).map(refuse_overwriting).transpose()?;
    let report = report(&app.at, &parts, (args.against.as_deref(), args.live))?;
    let form = args.form.or_else(|| Form::of(args.out.as_deref()?)).unwrap_or(Form::Html);
    let Some(path) = &args.out else {
        let page = form.write(&report.page)?;
        app.console.verbatim(&page);
        return Ok(exit::of_result(report.kind));
    };
    let pages: Vec<(PathBuf, String)> = if is_folder(path) {
        let split = report.page.clone().split().into_iter();
        let file = |(name, page): (String, Page)| {
            Ok((path.join(format!("{name}.{}", form.ending())), form.write(&page)?))
        };
        split.map(file).collect::<Result<_, Trouble>>()?
    } else {
        vec![(path.clone(), form.write(&report.page)?)]
    };
    if let Some((_, page)) = pages.iter().find(|(_, page)| form == Form::Html && page.len() > LARGEST) {
        let message =
            format!("the page would have {} MB, and no browser opens that at once", page.len() / 1_000_000);
        return Err(Trouble::usage(message)
            .help("name fewer units, or a folder that gets a page for each: --out DIR/"));
    }
    pages.iter().try_for_each(|(path, _)| refuse_overwriting(path))?;
    let written = !args.dry_run.is_given;
    if written {
        if is_folder(path) {
            let cannot = |error| Trouble::outside(format!("`{}` cannot be made: {error}", path.display()));
            fs::create_dir_all(path).map_err(cannot)?;
        }
        for (path, page) in &pages {
            write_atomically(path, page.as_bytes(), Mode::AsBefore)?;
        }
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
