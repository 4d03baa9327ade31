//! Bringing units to their outlets, making it count, and looking whether it does.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::{Duration, SystemTime};

use cledger_core::delivery::{merged, row_changes};
use cledger_core::model::{
    Ledger, OutletKind, OutputFormat, PostgresOutlet, Ready, StageId, StageText, Subject,
};
use cledger_core::render::{RenderedOutput, Rendering};
use cledger_core::resolve::Resolver;
use cledger_core::tree::Tree;
use cledger_formats::{Particulars, format};
use cledger_outlets::Trust;
use cledger_outlets::bring::{Content, Load, NewFile, NotBrought};
use cledger_outlets::effect;
use cledger_outlets::reach::Values;
use cledger_outlets::read_back::Held;
use jiff::civil::Date;
use zeroize::Zeroizing;

use super::look::Made;
use super::{Looked, Place, Seeing, UnitDrift, look};
use crate::error::CliError;
use crate::existing;
use crate::output::console::Console;
use crate::rendered;

/// What bringing one unit to one outlet came to.
pub(crate) struct Brought {
    pub(crate) owner: String,
    pub(crate) stage: String,
    pub(crate) outlet: String,
    pub(crate) kind: &'static str,
    pub(crate) outcome: Outcome,
    /// Whether it counts; `None` where nothing is said of that, or nothing was brought.
    pub(crate) effect: Option<Result<(), String>>,
}

/// How one unit stands at one outlet in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// It was as it should be, and nothing was brought.
    AsItShouldBe,
    /// It was brought, and is there.
    Brought,
    /// The outlet took it, and does not hold it now.
    NotHeld,
    /// Somebody has changed it since it was looked at. Nothing is written.
    ChangedMeanwhile,
    /// It was not brought.
    Failed(String),
    /// Nobody can tell.
    NotKnown(String),
}

impl Brought {
    /// Whether all is well.
    pub(crate) fn is_well(&self) -> bool {
        matches!(self.outcome, Outcome::AsItShouldBe | Outcome::Brought)
            && !matches!(self.effect, Some(Err(_)))
    }
}

/// What is needed to bring things.
pub(crate) struct Bringer<'a, 'l> {
    pub(crate) resolver: &'a Resolver<'l>,
    pub(crate) ledger_folder: &'a Path,
    pub(crate) trust: Trust,
    pub(crate) today: Date,
    pub(crate) console: &'a Console,
}

impl<'l> Bringer<'_, 'l> {
    fn ledger(&self) -> &'l Ledger {
        self.resolver.ledger()
    }

    /// Brings all units that were looked at to where they are not as they should be. Gives what came of
    /// it, and how all stands afterwards.
    pub(crate) fn bring(&self, looked: Vec<Looked<'l>>) -> Result<(Vec<Brought>, Vec<UnitDrift>), CliError> {
        let ledger = self.ledger();
        let (mut all, mut loads, mut places) = (Vec::new(), Vec::new(), Vec::new());
        for Looked { place, looks, units } in looked {
            for (look, unit) in looks.into_iter().zip(&units) {
                let Some((outlet, kind)) = place.outlet_name().filter(|_| !place.is_process()) else {
                    continue;
                };
                let mut brought = Brought {
                    owner: unit.owner.clone(),
                    stage: unit.stage.clone(),
                    outlet,
                    kind,
                    outcome: Outcome::AsItShouldBe,
                    effect: None,
                };
                if !unit.is_as_made() {
                    match load(ledger, &place, (look.subject, look.made), look.held, unit)? {
                        // In a table of somebody else's, all that differs may be theirs.
                        Ok(Load { content: Content::Rows(changes), .. }) if changes.is_empty() => {}
                        Ok(load) => loads.push((all.len(), load)),
                        Err(reason) => brought.outcome = Outcome::Failed(reason),
                    }
                }
                all.push((brought, look.subject, places.len()));
            }
            places.push(place);
        }
        let stamps = self.stamps(&all, &places)?;
        let (at, loads): (Vec<usize>, Vec<Load>) = loads.into_iter().unzip();
        for (at, brought) in at.into_iter().zip(cledger_outlets::bring::bring(loads)) {
            all[at].0.outcome = match brought {
                Ok(()) => Outcome::Brought,
                Err(NotBrought::ChangedMeanwhile) => Outcome::ChangedMeanwhile,
                Err(NotBrought::Failed(reason)) => Outcome::Failed(reason),
                Err(NotBrought::NotKnown(reason)) => Outcome::NotKnown(reason),
            };
        }
        self.make_it_count(&mut all, &places, &stamps)?;
        let counts: Vec<usize> = all.iter().map(|(.., place)| *place).collect();
        let again = look(places, self.resolver, self.today, Seeing::Live(self.console))?;
        let mut next = BTreeMap::new();
        for ((brought, ..), place) in all.iter_mut().zip(counts) {
            let at: &mut usize = next.entry(place).or_default();
            let now = &again[place].units[*at];
            *at += 1;
            match &brought.outcome {
                Outcome::Brought if !now.holds_all() => brought.outcome = Outcome::NotHeld,
                // Its answer was lost, but not what it was about.
                Outcome::NotKnown(_) if now.holds_all() => brought.outcome = Outcome::Brought,
                _ => {}
            }
        }
        let units = again.into_iter().flat_map(|looked| looked.units).collect();
        Ok((all.into_iter().map(|(brought, ..)| brought).collect(), units))
    }

    /// When the files were last written that tell that a delivery counts.
    fn stamps(
        &self,
        all: &[(Brought, Subject, usize)],
        places: &[Place<'l>],
    ) -> Result<BTreeMap<String, Option<SystemTime>>, CliError> {
        let mut stamps = BTreeMap::new();
        for (_, subject, place) in all {
            let place = &places[*place];
            if let Some(Ready::File(path)) = place.outlet.and_then(|outlet| outlet.effect.ready.as_ref()) {
                let path = self.expanded(path, *subject, place.stage)?;
                let stamp = effect::stamp(&self.ledger_folder.join(&path));
                stamps.insert(path, stamp);
            }
        }
        Ok(stamps)
    }

    /// Has what was brought taken up, each program once, and waits until it is.
    fn make_it_count(
        &self,
        all: &mut [(Brought, Subject, usize)],
        places: &[Place<'l>],
        stamps: &BTreeMap<String, Option<SystemTime>>,
    ) -> Result<(), CliError> {
        let mut reloaded: BTreeMap<Vec<String>, Result<(), String>> = BTreeMap::new();
        let mut ready: BTreeMap<String, Result<(), String>> = BTreeMap::new();
        for (brought, subject, place) in all {
            let place = &places[*place];
            let Some(effect) = place.outlet.map(|outlet| &outlet.effect) else { continue };
            if brought.outcome != Outcome::Brought || (effect.reload.is_empty() && effect.ready.is_none()) {
                continue;
            }
            let words = effect.reload.iter().map(|word| self.expanded(word, *subject, place.stage));
            let words: Vec<String> = words.collect::<Result<_, _>>()?;
            let mut counts = reloaded
                .entry(words)
                .or_insert_with_key(|words| effect::reload(words, self.ledger_folder, effect.within))
                .clone();
            if let (Ok(()), Some(this)) = (&counts, &effect.ready) {
                let (Ready::Http(text) | Ready::File(text)) = this;
                let text = self.expanded(text, *subject, place.stage)?;
                let is_file = matches!(this, Ready::File(_));
                let wait = |text: &String| self.wait(is_file, text, stamps, effect.within);
                counts.clone_from(ready.entry(text).or_insert_with_key(wait));
            }
            brought.effect = Some(counts);
        }
        Ok(())
    }

    fn wait(
        &self,
        is_file: bool,
        text: &str,
        stamps: &BTreeMap<String, Option<SystemTime>>,
        within: Duration,
    ) -> Result<(), String> {
        if is_file {
            let before = stamps.get(text).copied().flatten();
            return effect::written_since(self.ledger_folder, text, before, within);
        }
        effect::answers(text, &self.trust, within)
    }

    fn expanded(&self, text: &StageText, subject: Subject, stage: StageId) -> Result<String, CliError> {
        let expanded = text.expand(self.ledger(), subject, stage);
        Ok(expanded.map_err(|missing| CliError::usage(missing.to_string()))?.into_owned())
    }
}

/// What has to be brought to a place; or why it cannot be.
fn load(
    ledger: &Ledger,
    place: &Place<'_>,
    (subject, made): (Subject, Made<'_>),
    held: Option<Held>,
    unit: &UnitDrift,
) -> Result<Result<Load, String>, CliError> {
    let seen = match held {
        Some(Held::NotKnown(reason)) => return Ok(Err(reason)),
        // What came of it is in its standing.
        None => return Ok(Err(unit.reason().unwrap_or_default().to_owned())),
        Some(held) => held,
    };
    let content = match &made {
        Made::Files(rendering) => files(ledger, rendering)?,
        Made::Content(Err(error)) => return Ok(Err(error.to_string())),
        Made::Content(Ok(output)) => match content(ledger, place, subject, output, &seen) {
            Ok(content) => content,
            Err(reason) => return Ok(Err(reason)),
        },
        Made::Environment(_) => return Ok(Err("a process is only looked at".to_owned())),
    };
    let owner = ledger.owner(subject).to_string();
    let Some(asked) = place.source.asked.get(&owner).cloned() else {
        return Ok(Err("it was not looked at".to_owned()));
    };
    let reach = place.source.reach.clone();
    Ok(Ok(Load { reach, asked, seen, content, limit: place.source.limit }))
}

fn files(ledger: &Ledger, rendering: &Rendering<'_>) -> Result<Content, CliError> {
    rendered::refuse_clashes(ledger, rendering)?;
    let file = |output: &RenderedOutput<'_>| {
        let made = rendered::text(ledger, rendering, output)?;
        Ok(NewFile { path: output.path.clone(), text: made.text, secret: made.secret })
    };
    let files = rendering.outputs.iter().map(file).collect::<Result<_, CliError>>()?;
    Ok(Content::Files(files, Vec::new()))
}

/// The document or the rows that are to be there.
fn content(
    ledger: &Ledger,
    place: &Place<'_>,
    subject: Subject,
    output: &RenderedOutput<'_>,
    seen: &Held,
) -> Result<Content, String> {
    if let Some(OutletKind::Postgres(postgres)) = place.outlet.map(|outlet| &outlet.kind) {
        return rows(ledger, place, (subject, postgres), output, seen);
    }
    let keeps = |name: &str| place.keeps(name);
    let keep = place.outlet.map(|outlet| &outlet.keep);
    let has_keep = keep.is_some_and(|keep| !keep.is_empty());
    let there = match seen {
        Held::Document(text, _) => {
            existing::read(text, OutputFormat::Json, Particulars::default()).map(|found| found.tree)
        }
        _ => Ok(Tree::default()),
    };
    let tree = match there {
        Ok(there) => merged(&there, output.tree(), keeps),
        Err(error) if has_keep => {
            return Err(format!("what is there cannot be read, and names in it are to be kept: {error}"));
        }
        Err(_) => output.tree(),
    };
    let json = format(OutputFormat::Json, Particulars::default());
    let text = json.map(|json| json.write(&tree)).transpose().map_err(|error| error.to_string())?;
    Ok(Content::Document(Zeroizing::new(text.unwrap_or_default())))
}

/// The changes of rows that are to be made.
fn rows(
    ledger: &Ledger,
    place: &Place<'_>,
    (subject, postgres): (Subject, &PostgresOutlet),
    output: &RenderedOutput<'_>,
    seen: &Held,
) -> Result<Content, String> {
    let values = output.values.iter().filter_map(|(name, (_, effective))| {
        let text = effective.expose()?.to_text();
        Some((name.join("."), Zeroizing::new(text.to_string())))
    });
    let ours: Values = values.collect();
    let names = output.output.names_in(ledger, subject, place.stage);
    let names = names.map_err(|missing| missing.to_string())?;
    let declared: BTreeSet<String> = names.iter().map(|(name, _)| name.join(".")).collect();
    // In a table of somebody else's only what the contract names is ours.
    let is_ours = |name: &str| !place.keeps(name) && (!postgres.columns.are_given || declared.contains(name));
    let nothing = Values::new();
    let there = if let Held::Rows(rows) = seen { rows } else { &nothing };
    Ok(Content::Rows(row_changes(there, &ours, is_ours)))
}
