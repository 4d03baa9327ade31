//! `cledger trust`: says what a ledger may reach, and which keys are the right ones.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_store::{Remembered, Scope};
use cledger_work::keys::trust_keys;
use cledger_work::trust::daybook::trust_daybook;
use cledger_work::trust::{Doing, trust, trusted_ledgers};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::complete;
use crate::options::ActOptions;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct TrustArgs {
    /// List the ledgers that were trusted, and what they may reach
    #[arg(long, conflicts_with_all = ["forget", "keys", "write"])]
    list: bool,
    /// Take back what this ledger may reach
    #[arg(long, conflicts_with = "keys")]
    forget: bool,
    /// The keys of these stages or groups are the right ones: @STAGE, @GROUP or a pattern
    #[arg(long, value_name = "@STAGE", num_args = 1.., add = ArgValueCompleter::new(complete::address), value_delimiter = ',')]
    keys: Vec<String>,
    /// The daybook as it is now is the right one, whatever was seen of it before
    #[arg(long, conflicts_with_all = ["list", "forget", "keys"])]
    daybook: bool,
    #[command(flatten)]
    act: ActOptions,
}

pub(crate) fn run(args: &TrustArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if args.list {
        let (known, all_read) = trusted_ledgers(&app.at)?;
        return Ok(app.show(&Ledgers { known, all_read }));
    }
    let opened = app.open(&Scope::Whole)?;
    if !args.keys.is_empty() {
        return Ok(app.show(&trust_keys(&opened, &args.keys, args.act.writes())?));
    }
    if args.daybook {
        return Ok(app.show(&trust_daybook(&opened, args.act.writes())?));
    }
    let doing = if args.forget { Doing::Forget } else { Doing::Trust };
    Ok(app.show(&trust(&opened, doing, args.act.writes())?))
}

/// All ledgers of which something is remembered.
struct Ledgers {
    known: Vec<Remembered>,
    /// Whether all of it could be read.
    all_read: bool,
}

impl Shown for Ledgers {
    fn print(&self, console: &mut Console) {
        text::trust::listed(console, &self.known);
    }

    fn document(&self) -> impl Serialize {
        json::trust::listed(&self.known)
    }

    fn kind(&self) -> Option<Kind> {
        (!self.all_read).then_some(Kind::Outside)
    }
}
