//! `cledger trust`: says what a ledger may reach, and which keys are the right ones.

mod keys;

use std::collections::BTreeSet;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::trust::{Named, of_ledger};
use cledger_store::{Remembered, Scope};

use crate::app::App;
use crate::complete;
use crate::error::{CliError, status};
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
    #[arg(long, value_name = "@STAGE", num_args = 1.., add = ArgValueCompleter::new(complete::address))]
    keys: Vec<String>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
}

/// One thing that a ledger names, or that it may reach.
pub(crate) struct Reached {
    pub(crate) named: Named,
    /// Where it is named first; nowhere any more if not given.
    pub(crate) by: Option<String>,
    /// Whether it may be reached.
    pub(crate) is_trusted: bool,
}

/// What a ledger names, and how that stands.
pub(crate) struct Trusted {
    pub(crate) folder: String,
    pub(crate) name: String,
    /// Whether somebody has said before what it may reach.
    pub(crate) was_before: bool,
    pub(crate) reached: Vec<Reached>,
    /// What was done, or would be.
    pub(crate) doing: Doing,
    pub(crate) written: bool,
}

/// What `trust` does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Doing {
    Trust,
    Forget,
}

pub(crate) fn run(args: &TrustArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    if args.list {
        return list(app);
    }
    let (root, ledger) = app.open(&Scope::Whole)?;
    if !args.keys.is_empty() {
        return keys::run(&args.keys, args.write, (&root, &ledger), app);
    }
    let trusted = app.state.recall(&root, &ledger.name)?.and_then(|known| known.trusted);
    let names = of_ledger(&ledger, &app.outside(&root));
    let known = trusted.clone().unwrap_or_default();
    let gone = known.iter().filter(|named| !names.contains_key(*named));
    let mut reached: Vec<Reached> =
        gone.map(|named| Reached { named: named.clone(), by: None, is_trusted: true }).collect();
    reached.extend(names.iter().map(|(named, by)| Reached {
        named: named.clone(),
        by: Some(by.clone()),
        is_trusted: known.contains(named),
    }));
    reached.sort_by(|a, b| a.named.cmp(&b.named));
    let doing = if args.forget { Doing::Forget } else { Doing::Trust };
    if args.write {
        let all: BTreeSet<Named> = names.into_keys().collect();
        let now = (doing == Doing::Trust).then_some(all);
        app.state.remember(&root, &ledger.name, |known| known.trusted = now)?;
    }
    let folder = root.canonicalize().unwrap_or(root).display().to_string();
    let shown = Trusted {
        folder,
        name: ledger.name.clone(),
        was_before: trusted.is_some(),
        reached,
        doing,
        written: args.write,
    };
    if app.console.is_json() {
        app.console.document(&json::trust::document(&shown));
    } else {
        text::trust::print(app.console, &shown);
    }
    Ok(status::CLEAN)
}

/// All ledgers of which something is remembered.
fn list(app: &mut App<'_>) -> Result<u8, CliError> {
    let (mut known, mut status) = (Vec::new(), status::CLEAN);
    for found in app.state.all()? {
        match found {
            Ok(remembered) => known.push(remembered),
            Err(error) => {
                app.console.notice(&format!("{error}."));
                status = status::OUTSIDE;
            }
        }
    }
    let known: Vec<Remembered> = known.into_iter().filter(|known| known.trusted.is_some()).collect();
    if app.console.is_json() {
        app.console.document(&json::trust::listed(&known));
    } else {
        text::trust::listed(app.console, &known);
    }
    Ok(status)
}
