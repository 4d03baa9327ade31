//! `cledger adopt`: a unit and its settings from files that exist.
//!
//! The files are read and put together (`files`), names that the unit has already are told from new ones
//! (`known`), the core proposes declarations for the new ones, which make a contract (`contract`) and
//! settings, and before anything is written, rendering proves that each file comes back (`proof`).

mod contract;
mod files;
mod known;
mod proof;
mod settings;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::adopt::{NotPlaced, Proposed, Repeat, gather, naming_the_stage, propose, repeats};
use cledger_core::model::{LayerId, Ledger, OutputFormat, Slot, StageId, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Resolver};
use cledger_core::value::Value;
use cledger_store::field_pattern;

use self::files::Files;
use self::known::Known;
use self::proof::{Claim, Proof, prove};
use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::place::DEFAULT;

#[derive(Debug, Args)]
pub(crate) struct AdoptArgs {
    /// The unit to make, or to bring up to date
    #[arg(add = ArgValueCompleter::new(complete::address))]
    unit: Name,
    /// A file, or a folder of files, and the stage that it is of; or `STAGE=capture:FILE`, what a capture
    /// has of the unit
    #[arg(required = true, value_name = "STAGE=FILE")]
    sources: Vec<String>,
    /// The format of files whose names do not tell it
    #[arg(long, value_name = "FORMAT", value_parser = OutputFormat::ALL.map(|(_, name)| name))]
    format: Option<String>,
    /// Let secrets stand in plain text where a stage has no key
    #[arg(long)]
    plain_secrets: bool,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// A value that becomes a setting, or a default.
pub(crate) struct Setting {
    /// The stage; `None` for the default.
    stage: Option<StageId>,
    slot: Slot,
    value: Value,
    secret: bool,
}

/// What adopting comes to.
pub(crate) struct Adoption {
    pub(crate) unit: Name,
    pub(crate) is_new: bool,
    /// Each file with its stage and format.
    pub(crate) files: Vec<(String, Name, OutputFormat)>,
    /// Each output with its format and the stages that have a file of it.
    pub(crate) outputs: Vec<(String, OutputFormat, Vec<Name>)>,
    pub(crate) stages: Vec<Name>,
    pub(crate) proposed: Vec<Proposed>,
    pub(crate) defaults: usize,
    pub(crate) settings: usize,
    pub(crate) secrets: usize,
    /// Addresses of fields that the unit had, and whose values change.
    pub(crate) changed: Vec<String>,
    /// Fields that only some stages have: `ENTRY[.FIELD]`, and the stages that lack it.
    pub(crate) missing: Vec<(String, Vec<Name>)>,
    /// Name, file, line and reason.
    pub(crate) not_placed: Vec<(String, String, usize, String)>,
    pub(crate) not_read: Vec<String>,
    /// Texts of YAML that readers of its version 1.1 take for something else: name, file and line.
    pub(crate) other_in_old_yaml: Vec<(String, String, usize)>,
    /// Addresses of fields whose file has them no more, and that file.
    pub(crate) gone: Vec<(String, String)>,
    /// Names that come in addition, since the stage follows another or has groups, and the file.
    pub(crate) added: Vec<(String, String)>,
    pub(crate) repeats: Vec<Repeat>,
    /// Fields whose values differ by the stage's name alone.
    pub(crate) by_stage: Vec<String>,
    /// How many values the proof has seen come back.
    pub(crate) proven: usize,
    pub(crate) written: bool,
}

pub(crate) fn run(args: &AdoptArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    if args.unit.is_taken() {
        let message = format!("`{}` has a meaning of its own in addresses", args.unit);
        return Err(CliError::usage(message).help("choose another name"));
    }
    let format =
        args.format.as_deref().and_then(|word| OutputFormat::ALL.iter().find(|(_, name)| *name == word));
    let unit = ledger.unit_id(args.unit.as_str());
    let has = unit.map(|id| (Subject::Unit(id, None), ledger.unit(id)));
    let keys = changing.keys(&NO_CHANGE);
    let captures = files::FromCaptures { keys: &keys, unit: args.unit.as_str() };
    let files = files::read(ledger, has, &args.sources, format.map(|(format, _)| *format), &captures)?;
    refuse_stages(ledger, unit, &files)?;
    let gathered = gather(&files.old);
    let mut not_placed = files.not_placed.clone();
    not_placed.extend(gathered.not_placed);
    let known = match unit {
        None => Known { new: gathered.fields, ..Known::default() },
        Some(id) => {
            let outside = changing.outside(&NO_CHANGE);
            let resolver = Resolver::new(ledger, &outside, &[]);
            known::compare(&resolver, id, gathered.fields, &files, &gathered.names)
        }
    };
    let in_use = |name: &str| {
        let entries = |id| ledger.entry_names(Subject::Unit(id, None)).any(|known| known == name);
        unit.is_some_and(entries)
    };
    let (proposed, refused) = propose(&known.new, &files.stages, in_use);
    not_placed.extend(refused);
    not_placed.extend(known.not_placed.iter().cloned());
    let work = Work { args, changing: &changing, unit, files: &files, known: &known, proposed: &proposed };
    let (contract, outputs) = work.contract()?;
    let planned = work.settings(&contract)?;
    let proof = {
        let outside = changing.outside(&planned.changed);
        let id = planned.after.unit_id(args.unit.as_str()).unwrap_or(UnitId(0));
        let claim = Claim {
            files: &files,
            names: &gathered.names,
            outputs: &outputs,
            left_out: &not_placed,
            gone: &known.gone,
        };
        prove(&planned.after, &outside, id, &claim)
    };
    refuse_unproven(&proof, &files)?;
    let any = !planned.changed.is_empty();
    if args.write && any {
        let touched: Vec<LayerId> = work.stages().into_iter().map(LayerId::Stage).collect();
        changing.guard(&touched, &planned, &args.change)?;
        changing.write(&planned)?;
    }
    let adoption = work.adoption(not_placed, &proof, args.write && any);
    if app.console.is_json() {
        app.console.document(&json::adopt::document(&adoption));
    } else {
        text::adopt::print(app.console, &adoption, any);
    }
    Ok(status::CLEAN)
}

/// Refuses stages in which the unit does not belong.
fn refuse_stages(ledger: &Ledger, unit: Option<UnitId>, files: &Files) -> Result<(), CliError> {
    let Some(unit) = unit.map(|id| ledger.unit(id)) else { return Ok(()) };
    match files.stages.iter().find(|stage| !unit.belongs_to(**stage, None)) {
        None => Ok(()),
        Some(stage) => {
            let stage = &ledger.stage(*stage).name;
            let message = format!("`{}` does not belong to stage `{stage}`", unit.name);
            Err(CliError::usage(message).help(format!("add it to `stages` in units/{}.toml", unit.name)))
        }
    }
}

/// Refuses to go on if something would be lost that was not said to be.
fn refuse_unproven(proof: &Proof, files: &Files) -> Result<(), CliError> {
    if let Some((file, reason)) = proof.broken.first() {
        let message = format!("`{}` would not come back: {reason}", files.paths[*file]);
        return Err(
            CliError::usage(message).help("adopt the other files first, and declare the rest by hand")
        );
    }
    let Some((name, file)) = proof.failed.first() else { return Ok(()) };
    let message = format!("`{}` would not come back as it is in `{}`", name.join("."), files.paths[*file]);
    Err(CliError::usage(message).help("adopt the other files first, and declare the rest by hand"))
}

/// What is being worked out.
struct Work<'w> {
    args: &'w AdoptArgs,
    changing: &'w Changing,
    unit: Option<UnitId>,
    files: &'w Files,
    known: &'w Known,
    proposed: &'w [Proposed],
}

impl Work<'_> {
    fn adoption(&self, not_placed: Vec<NotPlaced>, proof: &Proof, written: bool) -> Adoption {
        let ledger = &self.changing.ledger;
        let fields = || self.proposed.iter().flat_map(|entry| &entry.fields);
        let name = |stage: &StageId| ledger.stage(*stage).name.clone();
        let stages: Vec<(StageId, &Name)> =
            self.files.stages.iter().map(|stage| (*stage, &ledger.stage(*stage).name)).collect();
        let paths = &self.files.paths;
        let mut missing = Vec::new();
        for entry in self.proposed {
            for field in entry.fields.iter().filter(|field| !field.missing.is_empty()) {
                let pattern = field_pattern(&entry.name, field.name.as_ref());
                missing.push((pattern, field.missing.iter().map(name).collect()));
            }
        }
        let old = self.unit.map(|id| Subject::Unit(id, None));
        let address = |setting: &Setting| {
            let subject = old?;
            let stage = setting.stage.or(self.files.stages.first().copied())?;
            let mut address = ledger.address(FieldId { subject, stage, slot: setting.slot });
            if setting.stage.is_none() {
                address.stage = Name::parse(DEFAULT).ok();
            }
            Some(address.to_string())
        };
        let mut not_placed: Vec<(String, String, usize, String)> = not_placed
            .into_iter()
            .map(|it| (shown(it.name()), paths[it.place.file].clone(), it.place.line, it.reason))
            .collect();
        not_placed.sort_by(|one, other| (&one.1, one.2, &one.0).cmp(&(&other.1, other.2, &other.0)));
        Adoption {
            unit: self.args.unit.clone(),
            is_new: self.unit.is_none(),
            files: paths
                .iter()
                .zip(&self.files.old)
                .map(|(path, old)| (path.clone(), old.stage_name.clone(), old.format))
                .collect(),
            outputs: self
                .files
                .outputs
                .iter()
                .map(|seen| (seen.path.clone(), seen.format, seen.stages.iter().map(name).collect()))
                .collect(),
            stages: self.files.stages.iter().map(name).collect(),
            proposed: self.proposed.to_vec(),
            defaults: fields().filter(|field| field.default.is_some()).count(),
            settings: fields().map(|field| field.settings.len()).sum(),
            secrets: fields().filter(|field| field.secret).map(|field| field.settings.len()).sum(),
            changed: self.known.changed.iter().filter_map(address).collect(),
            missing,
            not_placed,
            not_read: self.files.not_read.clone(),
            other_in_old_yaml: self
                .files
                .other_in_old_yaml
                .iter()
                .map(|(name, place)| (shown(name), paths[place.file].clone(), place.line))
                .collect(),
            gone: self.known.gone.iter().map(|(it, file)| (it.clone(), paths[*file].clone())).collect(),
            added: proof.added.iter().map(|(name, file)| (shown(name), paths[*file].clone())).collect(),
            by_stage: naming_the_stage(self.proposed, &stages),
            repeats: repeats(self.proposed, &self.files.stages),
            proven: proof.values,
            written,
        }
    }
}

fn shown(name: &[String]) -> String {
    name.join(".")
}
