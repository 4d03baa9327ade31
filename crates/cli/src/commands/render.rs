//! `cledger render`: the files of a unit, or of a whole stage.

use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::findings::Finding;
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::output;
use cledger_core::render::{Rendering, rendering};
use cledger_core::resolve::Resolver;
use cledger_formats::format;
use cledger_store::{Keys, Mode, write_atomically};

use super::show::{with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::options::AssumeOptions;
use crate::output::text::render::RenderedFile;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct RenderArgs {
    /// What to render: UNIT[+INSTANCE]@STAGE, or @STAGE for all that belongs there
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// The folder to write to [default: rendered/STAGE below the current folder]
    #[arg(long, value_name = "DIR")]
    out: Option<PathBuf>,
    /// Render even if values are missing or wrong, and list the gaps
    #[arg(long)]
    partial: bool,
    /// Leave secrets out
    #[arg(long)]
    without_secrets: bool,
    #[command(flatten)]
    assume: AssumeOptions,
}

/// A file that is ready to be written.
struct Ready {
    path: PathBuf,
    content: zeroize::Zeroizing<String>,
    secret: bool,
}

pub(crate) fn run(args: &RenderArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    if let Some(entry) = &address.entry {
        let message = format!("`{address}` names the entry `{entry}`, and whole units are rendered");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    let assumed = args.assume.addresses()?;
    let (root, ledger) = app.open(&scope_of(std::iter::once(&address).chain(&assumed)))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let stage = ledger.stage(chosen.stage).name.as_str();
    if let Some(because) = &chosen.because {
        app.console.notice(&format!("stage {stage}, from {because}"));
    }
    let subjects: Vec<Subject> = match &address.owner {
        None => ledger.subjects_in(chosen.stage).collect(),
        Some(owner) => vec![app.subject_in(&ledger, owner, chosen.stage)?],
    };
    let assumptions = args.assume.read(&ledger, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &assumptions);
    let out = args.out.clone().unwrap_or_else(|| Path::new("rendered").join(stage));
    let mut gaps: Vec<Finding> = Vec::new();
    let (mut ready, mut unreadable) = (Vec::new(), Vec::new());
    for subject in subjects {
        let mut session = resolver.session(unit_of(subject));
        let mut rendering = rendering(&mut session, subject, chosen.stage);
        if args.without_secrets {
            rendering.without_secrets();
        }
        if !rendering.unreadable.is_empty() {
            unreadable.push(ledger.owner(subject).to_string());
        }
        refuse_clashes(&ledger, &rendering)?;
        ready.extend(files(&ledger, &rendering, &out)?);
        for gap in rendering.gaps {
            // A shared entry's gap is one gap, however many units show it.
            let same = |known: &Finding| {
                known.address == gap.address && known.code == gap.code && known.place == gap.place
            };
            if !gaps.iter().any(same) {
                gaps.push(gap);
            }
        }
    }
    if !unreadable.is_empty() {
        return Err(not_readable(&unreadable, &outside.keys, "; or add --without-secrets"));
    }
    let write = gaps.is_empty() || args.partial;
    let mut files = Vec::new();
    if write {
        for Ready { path, content, secret } in ready {
            let mode = if secret { Mode::OwnerOnly } else { Mode::Usual };
            let written = write_atomically(&path, content.as_bytes(), mode)?;
            files.push(RenderedFile { path, secret, written });
        }
    }
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::render::document(&ledger, stage, &files, &gaps));
    } else {
        text::render::gaps(console, &ledger, &gaps);
        text::render::files(console, &files);
        text::render::summary(console, files.len(), gaps.len(), write);
    }
    Ok(if gaps.is_empty() { status::CLEAN } else { status::FOUND })
}

/// The refusal to hand out units whose secrets are not readable here.
pub(super) fn not_readable(units: &[String], keys: &Keys<'_>, instead: &str) -> CliError {
    let message = format!("nothing is handed out: secrets of {} are not readable here", units.join(", "));
    let reasons = keys.not_at_hand();
    let reasons: Vec<String> =
        reasons.iter().map(|(scope, reason)| format!("the key of `{}`: {reason}", scope.name())).collect();
    CliError::Plain {
        status: status::REFUSED,
        message,
        pointed: Some(reasons.join("\n")),
        help: Some(format!("let a reader do it, or let you in with `cledger key admit`{instead}")),
    }
}

/// Refuses outputs in which one field would take another's place.
fn refuse_clashes(ledger: &Ledger, rendering: &Rendering<'_>) -> Result<(), CliError> {
    let Subject::Unit(unit, _) = rendering.subject else { return Ok(()) };
    let owner = ledger.owner(rendering.subject);
    let help = format!("`cledger check {owner}` says which");
    for (at, rendered) in rendering.outputs.iter().enumerate() {
        let path = &rendered.output.path;
        if rendering.outputs[..at].iter().any(|other| other.output.path == *path) {
            return Err(
                CliError::usage(format!("two outputs of `{owner}` have the path `{path}`")).help(help)
            );
        }
        let names = output::names(ledger, unit, rendered.output);
        if let Some((name, ..)) = output::clash(&names) {
            let name = name.join(".");
            let message = format!("two fields of `{owner}` are called `{name}` in `{path}`");
            return Err(CliError::usage(message).help(help));
        }
    }
    Ok(())
}

fn files(ledger: &Ledger, rendering: &Rendering<'_>, out: &Path) -> Result<Vec<Ready>, CliError> {
    let owner = ledger.owner(rendering.subject).to_string();
    let mut ready = Vec::new();
    for rendered in &rendering.outputs {
        let content = format(rendered.output.format, rendered.output.table.as_ref())
            .write(&rendered.tree())
            .map_err(|error| {
                let path = &rendered.output.path;
                CliError::usage(format!("`{owner}` cannot be rendered to `{path}`: {error}"))
                    .help("give the field another name there with `as`, or the output another format")
            })?;
        ready.push(Ready {
            path: out.join(&owner).join(&rendered.output.path),
            content: zeroize::Zeroizing::new(content),
            secret: rendered.is_secret(),
        });
    }
    Ok(ready)
}
