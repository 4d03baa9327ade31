//! `cledger folio make`: units and bundles with all that they are made of, as a file.

use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_store::{Mode, Scope, write_atomically};
use cledger_work::folio::{Made, SecretsFor, Signer, ToMake, make};
use cledger_work::keys::reader;
use cledger_work::whole_units::WholeUnits;
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::{DryRunOptions, HandOutOptions};
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};
use crate::terminal::{new_passphrase, passphrase};

#[derive(Debug, Args)]
pub(super) struct MakeArgs {
    /// What it carries: units, patterns of units, or bundle:NAME
    #[arg(required = true, value_name = "UNIT", value_delimiter = ',', add = ArgValueCompleter::new(complete::address))]
    what: Vec<String>,
    /// The file to write
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
    /// Write over a file that is there
    #[arg(long)]
    overwrite: bool,
    /// Say which fields this stage sets, and what was delivered there; not what it sets them to
    #[arg(long, value_name = "STAGE", add = ArgValueCompleter::new(complete::stage))]
    from: Option<Name>,
    /// Carry the values that the stage sets, too
    #[arg(long, requires = "from")]
    with_values: bool,
    /// Encrypt the secrets among them under a passphrase
    #[arg(long, requires = "with_values", conflicts_with = "reader")]
    passphrase: bool,
    /// Encrypt the secrets among them for this reader, by their public key (may be given again)
    #[arg(long, value_name = "NAME=KEY", requires = "with_values")]
    reader: Vec<String>,
    /// Sign it with this private SSH key, so that whoever gets it knows from whom it is
    #[arg(long, value_name = "KEYFILE")]
    sign: Option<PathBuf>,
    #[command(flatten)]
    hand_out: HandOutOptions,
    #[command(flatten)]
    dry_run: DryRunOptions,
}

pub(super) fn run(args: &MakeArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.out.exists() && !args.overwrite {
        let message = format!("`{}` is there already, and is not written over", args.out.display());
        return Err(Trouble::usage(message).help("name another file, or add --overwrite"));
    }
    let secrets_for = match &args.reader[..] {
        [] if args.passphrase && !args.dry_run.is_given => SecretsFor::Passphrase(new_passphrase()?),
        [] => SecretsFor::Nobody,
        readers => {
            SecretsFor::Readers(readers.iter().map(|text| reader(text)).collect::<Result<_, Trouble>>()?)
        }
    };
    let signer = args
        .sign
        .as_deref()
        .map(|path| Signer::read(path, &|| passphrase(&format!("Passphrase of {}", path.display()))));
    let signer = signer.transpose()?;
    let asked = ToMake {
        what: &WholeUnits::parse(&args.what, None, "carried")?,
        from: args.from.as_ref(),
        with_values: args.with_values,
        secrets_for,
        countersign: &args.hand_out.countersign,
        signer: signer.as_ref(),
    };
    let made = make(&app.open(&Scope::Whole)?, &asked)?;
    let written = !args.dry_run.is_given;
    if written {
        write_atomically(&args.out, &made.bytes, Mode::AsBefore)?;
    }
    Ok(app.show(&View { made, path: &args.out, written }))
}

/// What was made, and where it was written.
struct View<'p> {
    made: Made,
    path: &'p Path,
    written: bool,
}

impl Shown for View<'_> {
    fn print(&self, console: &mut Console) {
        text::folio::made(console, &self.made, self.path, self.written);
    }

    fn document(&self) -> impl Serialize {
        json::folio::made(&self.made, self.path, self.written)
    }

    fn kind(&self) -> Option<Kind> {
        None
    }
}
