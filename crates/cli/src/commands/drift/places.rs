//! Where `drift` looks: the outlets of stages, or one folder.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use cledger_core::address::{Address, Pattern};
use cledger_core::model::{Ledger, NoLabel, Outlet, OutletKind, StageId, Subject};
use cledger_core::reference::{Piece, pieces};
use cledger_outlets::read_back::{Asked, ReadBack, Source};
use cledger_store::Scope;

use super::DriftArgs;
use crate::app::{App, scope_of};
use crate::commands::{with_stage, without_delivery};
use crate::error::CliError;
use crate::output::text::drift::{State, UnitDrift};

/// How long a folder that is named may take.
const FOLDER: Duration = Duration::from_secs(60);

/// What somebody wants to look at.
pub(super) enum Wanted {
    /// A unit, or all, of one stage, in a folder.
    Folder(Box<Address>, PathBuf),
    /// Whatever these patterns cover, in outlets.
    Outlets(Vec<Pattern>),
}

/// An outlet in a stage, or a folder.
pub(in crate::commands) struct Place<'l> {
    outlet: Option<&'l Outlet>,
    pub(in crate::commands) stage: StageId,
    pub(in crate::commands) subjects: Vec<Subject>,
    /// Whether all units are looked at, so that what is left over is nobody's.
    pub(super) is_whole: bool,
    pub(in crate::commands) source: Source,
}

/// Reads what is wanted, and how much of the ledger it takes.
pub(super) fn wanted(args: &DriftArgs) -> Result<(Wanted, Scope), CliError> {
    if let Some(folder) = &args.observed {
        let [text] = &args.addresses[..] else {
            return Err(CliError::usage("a folder is of one stage").help("name it: @STAGE, or UNIT@STAGE"));
        };
        let address = without_delivery(with_stage(Address::parse(text)?, args.stage.as_ref())?)?;
        refuse_entry(text, address.entry.is_some())?;
        let scope = scope_of([&address]);
        return Ok((Wanted::Folder(Box::new(address), folder.clone()), scope));
    }
    let mut patterns = Vec::new();
    for text in &args.addresses {
        let text = match &args.stage {
            Some(stage) if !text.contains('@') => format!("{text}@{stage}"),
            _ => text.clone(),
        };
        let pattern = Pattern::parse(&text)?;
        refuse_entry(&text, pattern.has_entry())?;
        patterns.push(pattern);
    }
    if let (Some(stage), true) = (&args.stage, patterns.is_empty()) {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    Ok((Wanted::Outlets(patterns), Scope::Whole))
}

fn refuse_entry(text: &str, has_entry: bool) -> Result<(), CliError> {
    if has_entry {
        let message = format!("`{text}` names an entry, and whole units are looked at");
        return Err(CliError::usage(message).help("leave out what begins with `/`"));
    }
    Ok(())
}

/// The places that are meant.
pub(super) fn places<'l>(
    wanted: &Wanted,
    ledger: &'l Ledger,
    root: &Path,
    app: &App<'_>,
) -> Result<Vec<Place<'l>>, CliError> {
    match wanted {
        Wanted::Folder(address, folder) => {
            let chosen = App::stage(ledger, address.stage.as_ref())?;
            if let Some(because) = &chosen.because {
                app.console.notice(&format!("stage {}, from {because}", ledger.stage(chosen.stage).name));
            }
            let subjects: Vec<Subject> = match &address.owner {
                None => ledger.subjects_in(chosen.stage).collect(),
                Some(owner) => vec![app.subject_in(ledger, owner, chosen.stage)?],
            };
            if let Err(error) = std::fs::read_dir(folder) {
                let message = format!("`{}` cannot be read: {error}", folder.display());
                return Err(
                    CliError::usage(message).help("name the folder that holds a folder for each unit")
                );
            }
            let source = Source {
                root: PathBuf::new(),
                asked: BTreeMap::new(),
                folder: Some(folder.clone()),
                limit: FOLDER,
            };
            let is_whole = address.owner.is_none();
            Ok(vec![Place { outlet: None, stage: chosen.stage, subjects, is_whole, source }])
        }
        Wanted::Outlets(patterns) => outlets(patterns, ledger, root),
    }
}

/// All outlets of the stages that these patterns cover, with the units that they cover.
pub(in crate::commands) fn outlets<'l>(
    patterns: &[Pattern],
    ledger: &'l Ledger,
    root: &Path,
) -> Result<Vec<Place<'l>>, CliError> {
    if ledger.outlets.is_empty() {
        return Err(CliError::usage("the ledger has no outlets to look at")
            .help("declare one in ledger.toml as [[outlet]], or name a folder: --observed DIR"));
    }
    let mut places = Vec::new();
    for stage in ledger.stage_ids() {
        let name = ledger.stage(stage).name.as_str();
        let of_stage: Vec<&Pattern> = patterns.iter().filter(|it| it.covers_stage(name)).collect();
        if of_stage.is_empty() && !patterns.is_empty() {
            continue;
        }
        for outlet in &ledger.outlets {
            if !outlet.stages[usize::from(stage.0)] {
                continue;
            }
            let is_wanted = |subject: &Subject| {
                let owner = ledger.owner(*subject);
                let (unit, instance) = owner.names();
                let mut covering = of_stage.iter();
                outlet.takes(stage, (unit, instance))
                    && (patterns.is_empty() || covering.any(|it| it.covers_owner(unit, instance)))
            };
            let subjects: Vec<Subject> = ledger.subjects_in(stage).filter(is_wanted).collect();
            let is_whole = outlet.units.is_empty() && of_stage.iter().all(|it| !it.has_owner());
            let folder = match &outlet.kind {
                OutletKind::Directory { path } if !refers_to_unit(path.as_written()) => {
                    let path = path.expand(ledger, Subject::Shared, stage);
                    Some(PathBuf::from(path.map_err(|missing| no_label(outlet, &missing))?.as_ref()))
                }
                _ => None,
            };
            if !subjects.is_empty() || is_whole {
                let source =
                    Source { root: root.to_owned(), asked: BTreeMap::new(), folder, limit: outlet.timeout };
                places.push(Place { outlet: Some(outlet), stage, subjects, is_whole, source });
            }
        }
    }
    if places.is_empty() {
        let texts: Vec<String> = patterns.iter().map(ToString::to_string).collect();
        let names: Vec<&str> = ledger.outlets.iter().map(|outlet| outlet.name.as_str()).collect();
        return Err(CliError::usage(format!("no outlet has anything of {}", texts.join(", ")))
            .help(format!("the outlets are {}, in ledger.toml", names.join(", "))));
    }
    Ok(places)
}

fn refers_to_unit(text: &str) -> bool {
    pieces(text).any(|piece| matches!(piece, Piece::Reference(inside) if inside.starts_with("unit.")))
}

fn no_label(outlet: &Outlet, missing: &NoLabel) -> CliError {
    CliError::usage(format!("outlet `{}`: {missing}", outlet.name))
        .help("give the stage the label in ledger.toml, or name fewer stages")
}

impl Place<'_> {
    /// Asks for these files of a unit or instance, or whatever else it has there.
    pub(in crate::commands) fn ask(
        &mut self,
        ledger: &Ledger,
        subject: Subject,
        files: Vec<String>,
    ) -> Result<(), CliError> {
        let owner = ledger.owner(subject).to_string();
        let expand = |outlet: &Outlet, text: &cledger_core::model::StageText| {
            let path =
                text.expand(ledger, subject, self.stage).map_err(|missing| no_label(outlet, &missing))?;
            Ok::<PathBuf, CliError>(PathBuf::from(path.as_ref()))
        };
        let folder = match self.outlet.map(|outlet| (outlet, &outlet.kind)) {
            Some((outlet, OutletKind::Process { pid_file })) => {
                let pid_file = expand(outlet, pid_file)?;
                self.source.asked.insert(owner, Asked::Environment(pid_file));
                return Ok(());
            }
            Some((outlet, OutletKind::Directory { path })) if self.source.folder.is_none() => {
                expand(outlet, path)?
            }
            _ => self.source.folder.clone().unwrap_or_default().join(&owner),
        };
        self.source.asked.insert(owner, Asked::Files(folder, files));
        Ok(())
    }

    /// Whether files are not what it has.
    pub(super) fn is_process(&self) -> bool {
        self.outlet.is_some_and(|outlet| matches!(outlet.kind, OutletKind::Process { .. }))
    }

    /// Whether a name there is never ours.
    pub(super) fn keeps(&self, name: &str) -> bool {
        self.outlet.is_some_and(|outlet| outlet.keeps(name))
    }

    /// Why nothing came back.
    pub(in crate::commands) fn trouble(&self, back: &ReadBack) -> String {
        let late = || format!("no answer within {} s", self.source.limit.as_secs_f32());
        back.trouble.clone().unwrap_or_else(late)
    }

    /// The outlet's name and kind, if it is one.
    pub(in crate::commands) fn outlet_name(&self) -> Option<(String, &'static str)> {
        self.outlet.map(|outlet| (outlet.name.to_string(), outlet.kind.name()))
    }

    /// How a unit or instance stands here.
    pub(super) fn unit(&self, ledger: &Ledger, owner: String, state: State) -> UnitDrift {
        UnitDrift {
            owner,
            stage: ledger.stage(self.stage).name.to_string(),
            outlet: self.outlet_name(),
            state,
        }
    }
}
