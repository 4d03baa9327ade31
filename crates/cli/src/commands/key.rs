//! `cledger key`: who may read the secrets of which stages and groups.

mod daybook;
mod identity;
mod list;
mod make;
mod protect;
mod readers;
mod rotate;

use clap::{Args, Subcommand};
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Pattern};
use cledger_core::cipher::KeyScope;
use cledger_core::model::{LayerId, Ledger};
use cledger_core::name::{Name, nearest};
use cledger_store::{Changed, Keys, Reader, SeenKey, Sight};

use crate::app::App;
use crate::change::{ChangeOptions, Changing, Planned};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};

pub(crate) use list::Listed;

#[derive(Debug, Args)]
pub(crate) struct KeyArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Make an identity, the private key of yours that opens stages' keys, and print its public key
    Identity(identity::IdentityArgs),
    /// Make the key of stages and groups
    Make(make::MakeArgs),
    /// Let a reader in
    Admit(readers::AdmitArgs),
    /// Let a reader out, and encrypt everything anew that they could read
    Exclude(readers::ExcludeArgs),
    /// List who may read what
    List(list::ListArgs),
    /// Put a new key in place of one, and encrypt all its secrets anew
    Rotate(Renewal),
    /// Encrypt the secrets that lie in plain text in stages and groups
    Protect(Renewal),
}

/// Whose keys are renewed, or whose secrets encrypted, and whether that is done.
#[derive(Debug, Args)]
struct Renewal {
    /// Whose key: @STAGE, @GROUP or a pattern
    #[arg(required = true, value_name = "@STAGE", add = ArgValueCompleter::new(complete::address))]
    stages: Vec<String>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// What was done, or would be, with the key of a stage or group.
pub(crate) struct Done {
    pub(crate) scope: KeyScope,
    pub(crate) readers: Vec<KeyReader>,
    /// How many secrets are encrypted by it, where that is what was done.
    pub(crate) secrets: Option<usize>,
    /// The reader who comes or goes.
    pub(crate) reader: Option<Name>,
    /// The word for it.
    pub(crate) word: &'static str,
    /// Whether the data key is another one afterwards.
    pub(crate) renews: bool,
    /// Whether that changes anything.
    pub(crate) changes: bool,
}

pub(crate) fn run(args: &KeyArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    match &args.what {
        What::Identity(args) => identity::run(args, app),
        What::Make(args) => make::run(args, app),
        What::Admit(args) => readers::admit(args, app),
        What::Exclude(args) => readers::exclude(args, app),
        What::List(args) => list::run(args, app),
        What::Rotate(args) => rotate::run(args, app),
        What::Protect(args) => protect::run(args, app),
    }
}

/// The stages and groups that `@STAGE`, `@GROUP` or a pattern of such names, each once.
pub(crate) fn layers(ledger: &Ledger, texts: &[String]) -> Result<Vec<LayerId>, CliError> {
    let mut found: Vec<LayerId> = Vec::new();
    for text in texts {
        let parts = Address::parse(text).ok();
        let is_stage = |address: &Address| {
            address.owner.is_none() && address.entry.is_none() && address.delivery.is_none()
        };
        let is_plain = parts.as_ref().is_some_and(is_stage);
        let pattern = Pattern::parse(text)?;
        if !text.starts_with('@') || !pattern.has_stage() || parts.is_some() && !is_plain {
            let message = format!("`{text}` names no stage and no group");
            return Err(CliError::usage(message).help("write @STAGE, @GROUP or a pattern like @prod-*"));
        }
        let before = found.len();
        let matching =
            ledger.layer_ids().filter(|&layer| pattern.covers_stage(ledger.layer_name(layer).as_str()));
        let matching: Vec<LayerId> = matching.collect();
        found.extend(
            matching.iter().filter(|layer| !found[..before].contains(layer)).copied().collect::<Vec<_>>(),
        );
        if matching.is_empty() {
            let names: Vec<&str> =
                ledger.layer_ids().map(|layer| ledger.layer_name(layer).as_str()).collect();
            let help = match nearest(text.trim_start_matches('@'), names.iter().copied()) {
                Some(near) => format!("did you mean @{near}?"),
                None => format!("the stages and groups are {}", names.join(", ")),
            };
            return Err(CliError::usage(format!("`{text}` covers no stage and no group")).help(help));
        }
    }
    Ok(found)
}

fn scopes(ledger: &Ledger, layers: &[LayerId]) -> Vec<KeyScope> {
    layers.iter().map(|&layer| ledger.key_scope(layer)).collect()
}

/// A reader, and what tells their public key from others at a glance.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct KeyReader {
    pub(crate) name: Name,
    pub(crate) fingerprint: String,
}

fn readers(readers: &[Reader]) -> Vec<KeyReader> {
    readers.iter().map(reader).collect()
}

fn reader(reader: &Reader) -> KeyReader {
    KeyReader { name: reader.name.clone(), fingerprint: reader.recipient.fingerprint() }
}

/// A key as it was last seen, and as it is.
pub(crate) struct Compared {
    pub(crate) scope: KeyScope,
    /// `None` where it cannot be opened here.
    pub(crate) sight: Option<Sight>,
    pub(crate) before: Option<SeenKey>,
    pub(crate) now: Option<SeenKey>,
}

/// How a key stands to what was seen of it; `None` where there is nothing of either.
pub(crate) fn compared(keys: &Keys<'_>, scope: &KeyScope) -> Option<Compared> {
    let (watch, before) = (keys.watch(), keys.watch().before(scope).cloned());
    let now = keys.key(scope).ok();
    if before.is_none() && now.is_none() {
        return None;
    }
    let sight = now.as_ref().map(|_| watch.sight_of(scope).unwrap_or(Sight::Same));
    Some(Compared { scope: scope.clone(), sight, before, now: now.map(|file| file.seen()) })
}

/// Writes a change of keys, if that is asked for, and tells what it does. Effective values stay.
fn finish(
    changing: &Changing,
    changed: Changed,
    layers: &[LayerId],
    done: &[Done],
    (write, options): (bool, &ChangeOptions),
    app: &mut App<'_>,
) -> Result<u8, CliError> {
    let planned = Planned { after: changing.read_after(&changed)?, changed, effects: Vec::new() };
    if write {
        changing.guard(layers, &planned, options)?;
        let is_renewal = done.iter().any(|one| one.renews && one.changes);
        let resealing =
            if is_renewal { daybook::Resealing::start(app, changing, &planned, layers)? } else { None };
        changing.write(&planned)?;
        if let Some(resealing) = resealing {
            resealing.finish()?;
        }
    }
    if app.console.is_json() {
        app.console.document(&json::key::document(done, write));
    } else {
        text::key::done(app.console, done, write);
    }
    Ok(status::CLEAN)
}
