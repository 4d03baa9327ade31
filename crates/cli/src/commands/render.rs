//! `cledger render`: the files of a unit, or of a whole stage.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::findings::Finding;
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::render::{RenderedOutput, Rendering, rendering};
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_formats::{OutputText, annotate, particulars};
use cledger_store::{Folder, Mode, WriteError, taken_in};
use zeroize::Zeroizing;

use super::show::{with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::options::{AssumeOptions, HandOutOptions};
use crate::output::text::render::RenderedFile;
use crate::output::{json, origin, text as output_text};
use crate::rendered::{not_readable, refuse_clashes, text};

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
    /// Say above each value where it came from, or in FILE.origins where a format has no comments
    #[arg(long)]
    annotate: bool,
    #[command(flatten)]
    hand_out: HandOutOptions,
    #[command(flatten)]
    assume: AssumeOptions,
}

/// A file that is ready to be written, by its path below the folder.
struct Ready {
    path: PathBuf,
    content: Zeroizing<String>,
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
        ready.extend(files(&ledger, &rendering, args.annotate)?);
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
        return Err(not_readable(&unreadable, &outside, "; or add --without-secrets"));
    }
    let write = gaps.is_empty() || args.partial;
    let mut files = Vec::new();
    if write && !ready.is_empty() {
        let holds_secrets = ready.iter().any(|file| file.secret);
        args.hand_out.grant(ledger.stage(chosen.stage), holds_secrets)?;
        let folder = Folder::make(&out).map_err(|error| WriteError::new(out.clone(), error))?;
        for Ready { path, content, secret } in ready {
            let mode = if secret { Mode::OwnerOnly } else { Mode::Usual };
            let full = out.join(&path);
            let written = folder.write(&path, content.as_bytes(), mode);
            let written = written.map_err(|error| WriteError::new(full.clone(), error))?;
            files.push(RenderedFile { path: full, secret, written });
        }
        if holds_secrets {
            tell_taken_in(&out, app);
        }
    }
    let console = &mut *app.console;
    if console.is_json() {
        console.document(&json::render::document(&ledger, stage, &files, &gaps));
    } else {
        output_text::render::gaps(console, &ledger, &gaps);
        output_text::render::files(console, &files);
        output_text::render::summary(console, files.len(), gaps.len(), write);
    }
    Ok(if gaps.is_empty() { status::CLEAN } else { status::FOUND })
}

/// Tells that version control would take in a folder with secrets, and how to keep it from that.
fn tell_taken_in(folder: &Path, app: &App<'_>) {
    if let Some((top, below)) = taken_in(folder) {
        let (top, line) = (top.join(".gitignore"), below.display());
        app.console.notice(&format!(
            "Version control would take in `{}`, which holds secrets. Add this line to {}:\n  /{line}/",
            folder.display(),
            top.display()
        ));
    }
}

fn files(ledger: &Ledger, rendering: &Rendering<'_>, annotated: bool) -> Result<Vec<Ready>, CliError> {
    let owner = ledger.owner(rendering.subject).to_string();
    let mut ready = Vec::new();
    for rendered in &rendering.outputs {
        let path = Path::new(&owner).join(&rendered.path);
        let OutputText { text, secret } = text(ledger, rendering, rendered)?;
        if !annotated {
            ready.push(Ready { path, content: text, secret });
            continue;
        }
        let origins = origins(ledger, rendered);
        let annotated = annotate(rendered.output.format, particulars(rendered), &text, &origins)
            .map_err(|error| CliError::usage(format!("`{}` cannot be annotated: {error}", rendered.path)))?;
        if let Some(annotated) = annotated {
            ready.push(Ready { path, content: Zeroizing::new(annotated), secret });
            continue;
        }
        let line = |(name, origin): (&OutputName, &String)| format!("{}: {origin}\n", name.join("."));
        let side = Zeroizing::new(origins.iter().map(line).collect());
        let mut beside = path.clone().into_os_string();
        beside.push(".origins");
        ready.push(Ready { path, content: text, secret });
        ready.push(Ready { path: beside.into(), content: side, secret: false });
    }
    Ok(ready)
}

/// Where each value of an output came from, by its name there.
fn origins(ledger: &Ledger, rendered: &RenderedOutput<'_>) -> BTreeMap<OutputName, String> {
    let line = |(name, (_, effective)): (&OutputName, &(FieldId, Effective<'_>))| {
        (name.clone(), origin::line(ledger, effective.origin))
    };
    rendered.values.iter().map(line).collect()
}
