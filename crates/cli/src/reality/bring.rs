//! Bringing units to their outlets, making it count, and looking whether it does.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::{Duration, SystemTime};

use cledger_core::delivery::{merged, row_changes};
use cledger_core::model::{Ledger, OutletKind, OutputFormat, Ready, StageId, StageText, Subject};
use cledger_core::resolve::{FieldId, Outcome as CoreOutcome, Resolver};
use cledger_core::tree::Tree;
use cledger_core::trust;
use cledger_core::value::Value;
use cledger_formats::{Particulars, format};
use cledger_outlets::Trust;
use cledger_outlets::bring::{Content as Load, NewFile, NotBrought};
use cledger_outlets::effect::{self, Masking, Reload};
use cledger_outlets::reach::Values;
use cledger_outlets::read_back::{Held, read_back};
use cledger_store::daybook::{Answer, Content, Stored};
use zeroize::Zeroizing;

use super::{Looked, Place};
use crate::app::unit_of;
use crate::error::CliError;
use crate::existing;

/// What bringing one unit to one outlet came to.
pub(crate) struct Brought {
    pub(crate) owner: String,
    pub(crate) stage: String,
    pub(crate) outlet: String,
    pub(crate) kind: &'static str,
    pub(crate) outcome: Outcome,
    /// Whether nothing was to be there any more.
    pub(crate) is_withdrawal: bool,
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

    /// Whether the outlet had it already.
    pub(crate) fn was_there(&self) -> bool {
        self.outcome == Outcome::AsItShouldBe
    }

    /// Whether the outlet is as it was before.
    pub(crate) fn is_without_effect(&self) -> bool {
        matches!(self.outcome, Outcome::ChangedMeanwhile | Outcome::Failed(_))
    }

    /// The word for what came of it.
    pub(crate) fn word(&self) -> &'static str {
        match (&self.outcome, &self.effect) {
            (Outcome::Brought, _) if self.is_withdrawal => "taken off",
            (Outcome::AsItShouldBe, _) if self.is_withdrawal => "was not there",
            (Outcome::AsItShouldBe, _) => "as it should be",
            (Outcome::Brought, None) => "brought",
            (Outcome::Brought, Some(Ok(()))) => "brought, in effect",
            (Outcome::Brought, Some(Err(_))) => "brought, not in effect",
            (Outcome::NotHeld, _) => "not held",
            (Outcome::ChangedMeanwhile, _) => "changed meanwhile",
            (Outcome::Failed(_), _) => "not brought",
            (Outcome::NotKnown(_), _) => "not known",
        }
    }

    /// What went wrong, if something did.
    pub(crate) fn reason(&self) -> Option<&str> {
        match (&self.outcome, &self.effect) {
            (Outcome::Failed(reason) | Outcome::NotKnown(reason), _) | (_, Some(Err(reason))) => Some(reason),
            (Outcome::ChangedMeanwhile, _) => Some("look again, and bring it then"),
            (Outcome::NotHeld, _) => Some("it took what was brought, and holds something else"),
            _ => None,
        }
    }

    /// The same for the daybook.
    pub(crate) fn answer(&self) -> Answer {
        Answer {
            outlet: self.outlet.clone(),
            kind: self.kind.to_owned(),
            state: self.word().to_owned(),
            in_effect: self.effect.as_ref().map(Result::is_ok),
            reason: self.reason().map(str::to_owned),
        }
    }
}

/// What one unit is to have at the outlets of its stage.
pub(crate) struct Bringing<'c> {
    pub(crate) content: &'c Content,
    /// What was delivered before: what is in that alone goes.
    pub(crate) before: Option<&'c Content>,
    /// Whether outlets that are as the ledger says already hold it, however they write it.
    pub(crate) is_of_ledger: bool,
}

impl Bringing<'_> {
    fn is_withdrawal(&self) -> bool {
        *self.content == Content::default()
    }
}

/// What is needed to bring things.
pub(crate) struct Bringer<'a> {
    pub(crate) ledger: &'a Ledger,
    pub(crate) ledger_folder: &'a Path,
    pub(crate) trust: Trust,
    /// Hides the secrets of what is brought in what programs say.
    pub(crate) masking: Masking,
}

/// Variables that no program gets which a ledger names: those that secrets of its outlets come from, but for
/// those that an outlet passes on.
fn without(ledger: &Ledger, pass: &[String]) -> Vec<String> {
    trust::variables(ledger).filter(|name| !pass.contains(name)).collect()
}

/// What hides the secrets of a unit in a stage, as they are now and as they are in this content.
pub(crate) fn masking(
    resolver: &Resolver<'_>,
    subject: Subject,
    stage: StageId,
    contents: &[&Content],
) -> Masking {
    let ledger = resolver.ledger();
    let mut session = resolver.session(unit_of(subject));
    let mut secrets: Vec<Zeroizing<String>> = Vec::new();
    for slot in ledger.slots(subject).all() {
        if let CoreOutcome::Value(effective) = session.outcome(FieldId { subject, stage, slot })
            && effective.secret
            && let Some(value) = effective.expose()
        {
            leaves(value, &mut secrets);
        }
    }
    for content in contents {
        let texts = content.files.values().chain(content.documents.values()).chain(content.rows.values());
        for text in texts.filter(|stored| stored.secret).filter_map(|stored| stored.text.as_ref()) {
            secrets.extend(words_of(text));
        }
    }
    Masking::of(secrets.iter().map(|secret| secret.as_str()))
}

/// The texts that a value consists of.
fn leaves(value: &Value, into: &mut Vec<Zeroizing<String>>) {
    match value {
        Value::List(values) => values.iter().for_each(|value| leaves(value, into)),
        Value::Map(values) => values.values().for_each(|value| leaves(value, into)),
        other => into.push(Zeroizing::new(other.to_text().to_string())),
    }
}

/// Whatever may be a value in a text with secrets of which the ledger does not know any more where they stand:
/// the rest of each line behind its first `=` or `:`, and what stands in quotes there.
fn words_of(text: &str) -> Vec<Zeroizing<String>> {
    let mut words = Vec::new();
    for line in text.lines() {
        let rest = line.split_once(['=', ':']).map_or(line, |(_, rest)| rest).trim();
        let bare = rest.trim_end_matches([',', ';']).trim_matches(['"', '\'']);
        words.extend([rest, bare].iter().filter(|word| word.len() >= WORD).map(|word| (*word).to_owned()));
        words.extend(rest.split('"').filter(|word| word.len() >= WORD).map(str::to_owned));
    }
    words.into_iter().map(Zeroizing::new).collect()
}

/// The shortest such word, in bytes: shorter ones are no secrets worth the name.
const WORD: usize = 6;

/// One unit at one outlet, on its way.
struct Way<'l> {
    brought: Brought,
    subject: Subject,
    place: usize,
    stage: StageId,
    effect: Option<&'l cledger_core::model::Effecting>,
}

impl<'a> Bringer<'a> {
    /// Brings one unit to all places where it was looked at, as far as it is not there already.
    pub(crate) fn bring(
        &self,
        looked: Vec<Looked<'a>>,
        subject: Subject,
        bringing: &Bringing<'_>,
    ) -> Result<Vec<Brought>, CliError> {
        let owner = self.ledger.owner(subject).to_string();
        let (mut ways, mut loads, mut places) = (Vec::new(), Vec::new(), Vec::new());
        for Looked { place, looks, units } in looked {
            let found = looks.into_iter().zip(&units).find(|(look, _)| look.subject == subject);
            if let (Some((look, unit)), Some((outlet, kind))) = (found, place.outlet_name())
                && !place.is_process()
            {
                let outcome = match load(self.ledger, &place, subject, bringing, look.held) {
                    _ if bringing.is_of_ledger && unit.is_as_made() => Outcome::AsItShouldBe,
                    Err(reason) => Outcome::Failed(reason),
                    Ok((_, None)) => Outcome::AsItShouldBe,
                    Ok((seen, Some(content))) => {
                        let asked = place.source.asked.get(&owner).cloned();
                        let asked = asked.ok_or_else(|| CliError::outside("it was not looked at"))?;
                        let (reach, limit) = (place.source.reach.clone(), place.source.limit);
                        let load = cledger_outlets::bring::Load { reach, asked, seen, content, limit };
                        loads.push((ways.len(), load));
                        Outcome::Brought
                    }
                };
                let brought = Brought {
                    owner: owner.clone(),
                    stage: unit.stage.clone(),
                    outlet,
                    kind,
                    outcome,
                    is_withdrawal: bringing.is_withdrawal(),
                    effect: None,
                };
                let effect = place.outlet.map(|outlet| &outlet.effect);
                ways.push(Way { brought, subject, place: places.len(), stage: place.stage, effect });
            }
            places.push(place);
        }
        let stamps = self.stamps(&ways)?;
        let (at, loads): (Vec<usize>, Vec<_>) = loads.into_iter().unzip();
        for (&at, brought) in at.iter().zip(cledger_outlets::bring::bring(loads)) {
            ways[at].brought.outcome = match brought {
                Ok(()) => Outcome::Brought,
                Err(NotBrought::ChangedMeanwhile) => Outcome::ChangedMeanwhile,
                Err(NotBrought::Failed(reason)) => Outcome::Failed(reason),
                Err(NotBrought::NotKnown(reason)) => Outcome::NotKnown(reason),
            };
        }
        self.make_it_count(&mut ways, &stamps)?;
        self.look_again(&mut ways, &at, &places, &owner, bringing);
        Ok(ways.into_iter().map(|way| way.brought).collect())
    }

    /// Looks whether outlets hold what was brought: one may say so, and not.
    fn look_again(
        &self,
        ways: &mut [Way<'_>],
        brought: &[usize],
        places: &[Place<'_>],
        owner: &str,
        bringing: &Bringing<'_>,
    ) {
        let sources: Vec<_> = brought.iter().map(|&at| places[ways[at].place].source.clone()).collect();
        for (&at, mut back) in brought.iter().zip(read_back(&sources, |_| ())) {
            let way = &mut ways[at];
            let Some(held) = back.units.remove(owner) else { continue };
            let holds = match load(self.ledger, &places[way.place], way.subject, bringing, Some(held)) {
                Ok((_, content)) => content.is_none(),
                Err(_) => continue,
            };
            match &way.brought.outcome {
                Outcome::Brought if !holds => way.brought.outcome = Outcome::NotHeld,
                // Its answer was lost, but not what it was about.
                Outcome::NotKnown(_) if holds => way.brought.outcome = Outcome::Brought,
                _ => {}
            }
        }
    }

    /// When the files were last written that tell that a delivery counts.
    fn stamps(&self, ways: &[Way<'_>]) -> Result<BTreeMap<String, Option<SystemTime>>, CliError> {
        let mut stamps = BTreeMap::new();
        for way in ways {
            if let Some(Ready::File(path)) = way.effect.and_then(|effect| effect.ready.as_ref()) {
                let path = self.expanded(path, way)?;
                let stamp = effect::stamp(&self.ledger_folder.join(&path));
                stamps.insert(path, stamp);
            }
        }
        Ok(stamps)
    }

    /// Has what was brought taken up, each program once, and waits until it is.
    fn make_it_count(
        &self,
        ways: &mut [Way<'_>],
        stamps: &BTreeMap<String, Option<SystemTime>>,
    ) -> Result<(), CliError> {
        let mut reloaded: BTreeMap<Vec<String>, Result<(), String>> = BTreeMap::new();
        let mut ready: BTreeMap<String, Result<(), String>> = BTreeMap::new();
        for way in ways {
            let Some(effect) = way.effect else { continue };
            let says_something = !effect.reload.is_empty() || effect.ready.is_some();
            if way.brought.outcome != Outcome::Brought || !says_something {
                continue;
            }
            let words = effect.reload.iter().map(|word| self.expanded(word, way));
            let words: Vec<String> = words.collect::<Result<_, _>>()?;
            let mut counts = reloaded
                .entry(words)
                .or_insert_with_key(|words| {
                    effect::reload(&Reload {
                        words,
                        folder: self.ledger_folder,
                        within: effect.within,
                        without: &without(self.ledger, &effect.pass),
                        masking: &self.masking,
                    })
                })
                .clone();
            if let (Ok(()), Some(this)) = (&counts, &effect.ready) {
                let (Ready::Http(text) | Ready::File(text)) = this;
                let text = self.expanded(text, way)?;
                let is_file = matches!(this, Ready::File(_));
                let wait = |text: &String| self.wait(is_file, text, stamps, effect.within);
                counts.clone_from(ready.entry(text).or_insert_with_key(wait));
            }
            way.brought.effect = Some(counts);
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

    fn expanded(&self, text: &StageText, way: &Way<'_>) -> Result<String, CliError> {
        let expanded = text.expand(self.ledger, way.subject, way.stage);
        Ok(expanded.map_err(|missing| CliError::usage(missing.to_string()))?.into_owned())
    }
}

/// What has to be brought to a place where this was seen: nothing if it is there. An error says why it
/// cannot be told or brought.
fn load(
    ledger: &Ledger,
    place: &Place<'_>,
    subject: Subject,
    bringing: &Bringing<'_>,
    held: Option<Held>,
) -> Result<(Held, Option<Load>), String> {
    let seen = match held {
        Some(Held::NotKnown(reason)) => return Err(reason),
        None => return Err(format!("no answer within {} s", place.source.limit.as_secs_f32())),
        Some(held) => held,
    };
    let Some(outlet) = place.outlet else { return Err("a folder is only looked at".to_owned()) };
    let name = outlet.name.as_str();
    let content = match &outlet.kind {
        OutletKind::Directory { .. } => files(bringing, &seen)?,
        OutletKind::Http(_) => {
            let text = bringing.content.documents.get(name).map(text_of).transpose()?;
            document(place, text, &seen)?
        }
        OutletKind::Postgres(postgres) => {
            let ours = values(bringing.content.rows.get(name))?;
            let before = bringing.before.map(|before| values(before.rows.get(name))).transpose()?;
            // In a table of somebody else's only what the contract names is ours, or was brought before.
            let mut known: BTreeSet<String> = before.into_iter().flat_map(BTreeMap::into_keys).collect();
            let names = postgres.rows.names_in(ledger, subject, place.stage).unwrap_or_default();
            known.extend(names.iter().map(|(name, _)| name.join(".")));
            let is_ours =
                |name: &str| !place.keeps(name) && (!postgres.columns.are_given || known.contains(name));
            let nothing = Values::new();
            let there = if let Held::Rows(rows) = &seen { rows } else { &nothing };
            let changes = row_changes(there, &ours, is_ours);
            (!changes.is_empty()).then_some(Load::Rows(changes))
        }
        OutletKind::Process { .. } => return Err("a process is only looked at".to_owned()),
    };
    Ok((seen, content))
}

fn text_of(stored: &Stored) -> Result<&Zeroizing<String>, String> {
    stored.text.as_ref().ok_or_else(|| "its secrets are not readable here".to_owned())
}

/// The files that are to be written, and those that go.
fn files(bringing: &Bringing<'_>, seen: &Held) -> Result<Option<Load>, String> {
    let there = |path: &String| match seen {
        Held::Files(files) => files.get(path).and_then(|text| text.as_ref().ok()),
        _ => None,
    };
    let (mut files, mut differs) = (Vec::new(), false);
    for (path, stored) in &bringing.content.files {
        let text = text_of(stored)?;
        differs |= there(path) != Some(text);
        files.push(NewFile { path: path.clone(), text: text.clone(), secret: stored.secret });
    }
    let before = bringing.before.into_iter().flat_map(|before| before.files.keys());
    let gone: Vec<String> =
        before.filter(|path| !bringing.content.files.contains_key(*path)).cloned().collect();
    differs |= gone.iter().any(|path| there(path).is_some());
    Ok(differs.then_some(Load::Files(files, gone)))
}

/// The document that is to be there, if another one is; none at all where `text` is none.
fn document(
    place: &Place<'_>,
    text: Option<&Zeroizing<String>>,
    seen: &Held,
) -> Result<Option<Load>, String> {
    let read = |text: &str| existing::read(text, OutputFormat::Json, Particulars::default());
    let ours = text.map(|text| read(text).map(|found| found.tree)).transpose();
    let ours = ours.map_err(|error| error.to_string())?.unwrap_or_default();
    let (there, is_there) = match seen {
        Held::Document(text, _) => (read(text).map(|found| found.tree), true),
        _ => (Ok(Tree::default()), false),
    };
    let keeps_something = place.outlet.is_some_and(|outlet| !outlet.keep.is_empty());
    let tree = match &there {
        Ok(there) => merged(there, ours, |name| place.keeps(name)),
        Err(error) if keeps_something => {
            return Err(format!("what is there cannot be read, and names in it are to be kept: {error}"));
        }
        Err(_) => ours,
    };
    // Without anything of ours and of theirs there is to be none at all.
    if text.is_none() && tree.0.is_empty() {
        return Ok(is_there.then_some(Load::NoDocument));
    }
    if is_there && there.is_ok_and(|there| there == tree) {
        return Ok(None);
    }
    let json = format(OutputFormat::Json, Particulars::default());
    let made = json.map(|json| json.write(&tree)).transpose().map_err(|error| error.to_string())?;
    Ok(Some(Load::Document(Zeroizing::new(made.unwrap_or_default()))))
}

/// Rows as they are stored: a JSON object of texts.
fn values(stored: Option<&Stored>) -> Result<Values, String> {
    let Some(stored) = stored else { return Ok(Values::new()) };
    let rows: BTreeMap<String, String> =
        serde_json::from_str(text_of(stored)?).map_err(|error| error.to_string())?;
    Ok(rows.into_iter().map(|(name, text)| (name, Zeroizing::new(text))).collect())
}
