//! `cledger folio show`: what is inside of a folio.

use std::path::PathBuf;

use clap::Args;
use cledger_work::Trouble;
use cledger_work::folio::Folio;
use serde::Serialize;

use crate::app::App;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(super) struct ShowArgs {
    /// The folio
    #[arg(value_name = "FILE")]
    file: PathBuf,
}

pub(super) fn run(args: &ShowArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let folio = Folio::read(&args.file)?;
    Ok(app.show(&View(folio)))
}

struct View(Folio);

impl Shown for View {
    fn print(&self, console: &mut Console) {
        text::folio::inside(console, &self.0.manifest, self.0.signed_by.as_ref());
    }

    fn document(&self) -> impl Serialize {
        json::folio::inside(&self.0.manifest, self.0.signed_by.as_ref())
    }
}
