//! `cledger capture`: what the outlets of a stage hold now, saved as a file.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_store::{Mode, Scope, write_atomically};
use cledger_work::capture::{Captured, SecretsAs, capture};
use cledger_work::meant::address;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct CaptureArgs {
    /// The stage, as @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@STAGE")]
    address: String,
    /// Only these units
    #[arg(value_name = "UNIT")]
    units: Vec<String>,
    /// The file to write; without it the capture is printed
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    overwrite: bool,
    /// What becomes of secrets, and of names that the ledger does not know
    #[arg(long, value_enum, default_value_t = Secrets::Encrypted)]
    secrets: Secrets,
}

/// What becomes of secrets in a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Secrets {
    /// Encrypted under the stage's key.
    Encrypted,
    /// As fingerprints that only readers of the stage's key can compare.
    Fingerprints,
    /// Not at all.
    LeftOut,
}

impl From<Secrets> for SecretsAs {
    fn from(secrets: Secrets) -> Self {
        match secrets {
            Secrets::Encrypted => SecretsAs::Encrypted,
            Secrets::Fingerprints => SecretsAs::Fingerprints,
            Secrets::LeftOut => SecretsAs::LeftOut,
        }
    }
}

pub(crate) fn run(args: &CaptureArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, None)?;
    let opened = app.open(&Scope::Whole)?;
    let captured = capture(&opened, &address, &args.units, args.secrets.into())?;
    let Some(path) = &args.out else {
        app.console.raw(&captured.capture.to_text());
        return Ok(exit::of_result(captured.kind()));
    };
    if path.exists() && !args.overwrite {
        return Err(Trouble::usage(format!(
            "`{}` is there already, and is not written over",
            path.display()
        ))
        .help("name another file, or add --overwrite"));
    }
    write_atomically(path, captured.capture.to_text().as_bytes(), Mode::AsBefore)?;
    Ok(app.show(&View { captured, path }))
}

/// What was captured, and where it was written.
struct View<'p> {
    captured: Captured,
    path: &'p Path,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::capture::print(console, &self.captured.counted, self.path);
    }

    fn document(&self) -> impl Serialize {
        json::capture::document(&self.captured.capture, self.path)
    }

    fn kind(&self) -> Option<Kind> {
        self.captured.kind()
    }
}
