//! The files of a unit, or of a whole stage.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cledger_core::findings::Finding;
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, StageId, Subject, UNITS_AT_ONCE};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::render::{RenderedOutput, Rendering, rendering};
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_formats::{OutputText, annotate, particulars};
use cledger_store::{Folder, Mode, WriteError, Written, taken_in};
use rayon::prelude::*;
use zeroize::Zeroizing;

use crate::change::hands_out;
use crate::gate;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::rendered::{not_readable, refuse_clashes, text};
use crate::shown;
use crate::trouble::{Kind, Trouble};

/// What is to be rendered, and how.
#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub struct ToRender {
    /// The units and instances.
    pub subjects: Vec<Subject>,
    /// The stage.
    pub stage: StageId,
    /// The folder to write to; `None` for one file alone that is given back as text.
    pub out: Option<PathBuf>,
    /// Only the outputs with these paths, as they are rendered.
    pub paths: Vec<String>,
    /// Render even if values are missing or wrong, or a rule is broken.
    pub partial: bool,
    /// Leave secrets out.
    pub without_secrets: bool,
    /// Say above each value where it came from.
    pub annotate: bool,
    /// The production stages whose secrets may be handed out, by their names.
    pub countersign: Vec<Name>,
    /// Only say what would be written.
    pub dry_run: bool,
}

/// A file that was rendered.
#[derive(Debug)]
pub struct RenderedFile {
    /// Its path.
    pub path: PathBuf,
    /// Whether secrets are in it.
    pub secret: bool,
    /// What that did to a file that was there.
    pub written: Written,
}

/// What was rendered.
#[derive(Debug)]
pub struct Rendered {
    /// The ledger that it was made from.
    pub ledger: Arc<Ledger>,
    /// The stage.
    pub stage: String,
    /// The files.
    pub files: Vec<RenderedFile>,
    /// What keeps them from being whole.
    pub gaps: Vec<Finding>,
    /// Whether files were written all the same.
    pub partial: bool,
    /// Whether they are written, and not only shown.
    pub written: bool,
    /// The text of the one file, where no folder is written to.
    pub text: Option<Kept>,
}

impl Rendered {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        (!self.gaps.is_empty()).then_some(Kind::Found)
    }
}

/// A file that is ready to be written, by its path below the folder.
struct Ready {
    path: PathBuf,
    content: Zeroizing<String>,
    secret: bool,
}

/// What is rendered of one unit or instance.
struct OfSubject {
    files: Vec<Ready>,
    /// The paths of all its outputs, also of those that are not asked for.
    paths: Vec<String>,
    gaps: Vec<Finding>,
    /// Whether there are values in it that cannot be read.
    is_unreadable: bool,
}

/// Renders, and writes the files.
pub fn render(opened: &Opened, resolver: &Resolver<'_>, asked: &ToRender) -> Result<Rendered, Trouble> {
    let ledger = &opened.ledger;
    let stage = ledger.stage(asked.stage);
    let mut gaps: Vec<Finding> = Vec::new();
    let (mut ready, mut unreadable, mut met) = (Vec::new(), Vec::new(), BTreeSet::new());
    let made: Vec<Result<OfSubject, Trouble>> = asked
        .subjects
        .par_iter()
        .with_max_len(UNITS_AT_ONCE)
        .map(|&subject| of_subject(resolver, subject, asked))
        .collect();
    for (&subject, made) in asked.subjects.iter().zip(made) {
        let OfSubject { files, paths, gaps: of_subject, is_unreadable } = made?;
        if is_unreadable {
            unreadable.push(ledger.owner(subject).to_string());
        }
        met.extend(paths);
        ready.extend(files);
        gaps.extend(of_subject);
    }
    gate::tell_not_judged(opened);
    let mut held_up = gate::holding_up(opened, resolver, &asked.subjects, asked.stage)?;
    // What is left out holds nothing up.
    held_up.retain(|finding| !(asked.without_secrets && finding.hides_value));
    gaps.extend(held_up);
    let gaps = gate::each_once(gaps);
    if !unreadable.is_empty() {
        return Err(not_readable(&unreadable, &opened.surroundings, "; or add --without-secrets"));
    }
    if let Some(path) = asked.paths.iter().find(|path| !met.contains(*path)) {
        let message = format!("nothing is rendered to `{path}`");
        let paths: Vec<&str> = met.iter().map(String::as_str).collect();
        return Err(Trouble::usage(message).help(format!("the files are {}", paths.join(", "))));
    }
    let (mut files, mut text) = (Vec::new(), None);
    let is_whole = gaps.is_empty() || asked.partial;
    if asked.out.is_none() {
        refuse_gaps(&gaps, is_whole)?;
        refuse_other_than_one(&ready)?;
    }
    if is_whole && !ready.is_empty() {
        let holds_secrets = ready.iter().any(|file| file.secret);
        if let Some(out) = asked.out.as_ref().filter(|_| asked.dry_run) {
            files = would_write(out, ready);
        } else if let Some(out) = &asked.out {
            hands_out(&opened.at, stage, holds_secrets, &asked.countersign)?;
            files = write(out, ready)?;
            if holds_secrets {
                tell_taken_in(opened, out);
            }
        } else {
            hands_out(&opened.at, stage, holds_secrets, &asked.countersign)?;
            text = ready.into_iter().next().map(|file| Kept::new(file.content, file.secret));
        }
    }
    let stage = stage.name.to_string();
    let written = !asked.dry_run;
    Ok(Rendered { ledger: ledger.clone(), stage, files, gaps, partial: asked.partial, written, text })
}

/// Renders one unit or instance, as far as it is asked for.
fn of_subject(resolver: &Resolver<'_>, subject: Subject, asked: &ToRender) -> Result<OfSubject, Trouble> {
    let ledger = resolver.ledger();
    let mut rendering = rendering(&mut resolver.session(unit_of(subject)), subject, asked.stage);
    if asked.without_secrets {
        rendering.without_secrets();
    }
    refuse_clashes(ledger, &rendering)?;
    let paths = rendering.outputs.iter().map(|output| output.path.clone()).collect();
    if !asked.paths.is_empty() {
        rendering.outputs.retain(|output| asked.paths.contains(&output.path));
    }
    let files = files(ledger, &rendering, asked.annotate)?;
    Ok(OfSubject { files, paths, is_unreadable: !rendering.unreadable.is_empty(), gaps: rendering.gaps })
}

/// Refuses to give a text while something is in the way: whoever reads it would take that for the file.
fn refuse_gaps(gaps: &[Finding], is_whole: bool) -> Result<(), Trouble> {
    match gaps.first().filter(|_| !is_whole) {
        None => Ok(()),
        Some(first) => {
            let are = if gaps.len() == 1 { "is" } else { "are" };
            let are = format!("{} {are}", shown::counted(gaps.len(), "error"));
            let message = format!("nothing is rendered: {are} in the way: {}", first.message);
            Err(Trouble::new(Kind::Found, message)
                .help("`cledger check` shows them; --partial renders what there is"))
        }
    }
}

/// Refuses to give several files as one text.
fn refuse_other_than_one(ready: &[Ready]) -> Result<(), Trouble> {
    if ready.len() == 1 {
        return Ok(());
    }
    let paths: Vec<String> = ready.iter().map(|file| file.path.display().to_string()).collect();
    let message = if paths.is_empty() {
        "there is nothing to render".to_owned()
    } else {
        format!("these are several files: {}", paths.join(", "))
    };
    Err(Trouble::usage(message).help("name one unit, and one of its files: --file PATH"))
}

fn write(out: &Path, ready: Vec<Ready>) -> Result<Vec<RenderedFile>, Trouble> {
    let folder = Folder::make(out).map_err(|error| WriteError::new(out.to_owned(), error))?;
    let one = |Ready { path, content, secret }: Ready| {
        let mode = if secret { Mode::OwnerOnly } else { Mode::Usual };
        let full = out.join(&path);
        match folder.write(&path, content.as_bytes(), mode) {
            Ok(written) => Ok(RenderedFile { path: full, secret, written }),
            Err(error) => Err(WriteError::new(full, error)),
        }
    };
    // While one waits for the disk, the next is on its way.
    let tried: Vec<_> = ready.into_par_iter().with_max_len(UNITS_AT_ONCE).map(one).collect();
    let (count, there) = (tried.len(), tried.iter().filter(|one| one.is_ok()).count());
    tried.into_iter().collect::<Result<_, _>>().map_err(|error| {
        Trouble::from(error).help(format!(
            "files there as rendered: {there} of {count}; once nothing is in the way, render again"
        ))
    })
}

/// What writing would do to the files that are there.
fn would_write(out: &Path, ready: Vec<Ready>) -> Vec<RenderedFile> {
    let file = |Ready { path, content, secret }: Ready| {
        let full = out.join(&path);
        let there = std::fs::read(&full).map(Zeroizing::new);
        let written = match there {
            Ok(there) if there.as_slice() == content.as_bytes() => Written::Unchanged,
            Ok(_) => Written::Changed,
            Err(_) => Written::New,
        };
        RenderedFile { path: full, secret, written }
    };
    ready.into_iter().map(file).collect()
}

/// Tells that version control would take in a folder with secrets, and how to keep it from that.
fn tell_taken_in(opened: &Opened, folder: &Path) {
    if let Some((top, below)) = taken_in(folder) {
        let (top, line) = (top.join(".gitignore"), below.display());
        opened.at.telling.notice(&format!(
            "Version control would take in `{}`, which holds secrets. Add this line to {}:\n  /{line}/",
            folder.display(),
            top.display()
        ));
    }
}

fn files(ledger: &Ledger, rendering: &Rendering<'_>, annotated: bool) -> Result<Vec<Ready>, Trouble> {
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
            .map_err(|error| Trouble::usage(format!("`{}` cannot be annotated: {error}", rendered.path)))?;
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
        (name.clone(), shown::origin(ledger, effective.origin))
    };
    rendered.values.iter().map(line).collect()
}
