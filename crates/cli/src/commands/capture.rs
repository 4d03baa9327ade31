//! `cledger capture`: what the outlets of a stage hold now, saved as a file.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use clap_complete::ArgValueCompleter;
use cledger_store::{Mode, Scope, SecretString, write_atomically};
use cledger_work::capture::{Captured, SecretsAs, ToCapture, capture};
use cledger_work::meant::address;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::DryRunOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};
use crate::terminal::new_passphrase;

#[derive(Debug, Args)]
pub(crate) struct CaptureArgs {
    /// The stage, as @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@STAGE")]
    address: String,
    /// Only these units or instances, whether the ledger knows them or not (patterns); all that is there if not given
    #[arg(value_name = "UNIT", value_delimiter = ',')]
    units: Vec<String>,
    /// The file to write; without it, one in `captures/` that is named by the stage and the time
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "out")]
    overwrite: bool,
    /// What becomes of secrets, and of names that the ledger does not know
    #[arg(long, value_enum, default_value_t = Secrets::Encrypted)]
    secrets: Secrets,
    /// Encrypt its secrets under a passphrase instead, so that it can be read elsewhere
    #[arg(long, conflicts_with = "secrets")]
    passphrase: bool,
    /// Why it is taken
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Keep what the ledger says of these units as well: `drift --captured-ledger` compares it, and takes it back
    #[arg(long)]
    with_ledger: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
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
    let refuse_overwriting = |path: &Path| {
        if path.exists() && !args.overwrite {
            let message = format!("`{}` is there already, and is not written over", path.display());
            return Err(Trouble::usage(message).help("name another file, or add --overwrite"));
        }
        Ok(())
    };
    args.out.as_deref().map(refuse_overwriting).transpose()?;
    let opened = app.open(&Scope::Whole)?;
    let passphrase: &dyn Fn() -> Result<SecretString, Trouble> = &new_passphrase;
    let asked = ToCapture {
        address: &address,
        units: &args.units,
        secrets: args.secrets.into(),
        passphrase: args.passphrase.then_some(passphrase),
        why: args.why.as_deref(),
        with_ledger: args.with_ledger,
    };
    let captured = capture(&opened, &asked)?;
    let path = args.out.clone().unwrap_or_else(|| opened.folder.join(captured.usual_path(&opened.folder)));
    refuse_overwriting(&path)?;
    let written = !args.dry_run.is_given;
    if written {
        write_atomically(&path, captured.text.as_bytes(), Mode::AsBefore)?;
    }
    Ok(app.show(&View { captured, path: &path, written }))
}

/// What was captured, and where it was written.
struct View<'p> {
    captured: Captured,
    path: &'p Path,
    written: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::capture::print(console, &self.captured, self.path, self.written);
    }

    fn document(&self) -> impl Serialize {
        json::capture::document(&self.captured, self.path, self.written)
    }

    fn kind(&self) -> Option<Kind> {
        self.captured.kind()
    }
}
