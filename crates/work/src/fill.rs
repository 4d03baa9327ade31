//! The values that a stage lacks: listed, asked for one after the other, or taken from a form.

use std::collections::BTreeMap;
use std::path::PathBuf;

use cledger_core::address::{Address, Pattern};
use cledger_core::model::{LayerId, Ledger, Note, StageId, Subject};
use cledger_core::resolve::{Because, FieldId, Outcome, Resolver};
use cledger_store::{Edit, Keys, Target};
use zeroize::Zeroizing;

use crate::answers::{Answers, Question};
use crate::change::{Changing, Consent, NO_CHANGE};
use crate::covering::refuse_idle;
use crate::meant::{known_stage, unit_of};
use crate::opened::Opened;
use crate::set::SettingsChanged;
use crate::setting::{Given, Setter, Written, write};
use crate::shown;
use crate::trouble::{Kind, Trouble};

/// What is to be filled.
#[derive(Debug, Clone)]
pub struct ToFill {
    /// The stage, as `@STAGE`.
    pub stage: Address,
    /// Only these units or instances, or patterns of them; all of the stage if none is given.
    pub units: Vec<String>,
    /// The form that the values stand in; it is written where it is not there. Without one, whoever is there is asked.
    pub answers: Option<PathBuf>,
    /// Whether secrets may stand in plain text where the stage has no key.
    pub plain_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// A value that a stage lacks.
#[derive(Debug, Clone)]
pub struct Lacking {
    /// The field, where it would be set.
    pub address: String,
    /// Its type, in words.
    pub asks: String,
    /// What it is for.
    pub about: Option<String>,
    /// The nearest stage that has a value, and which; none of a secret.
    pub elsewhere: Option<(String, String)>,
    /// Whether it is a secret.
    pub secret: bool,
}

/// What filling came to.
#[derive(Debug)]
pub struct Filled {
    /// The settings that were given.
    pub changed: SettingsChanged,
    /// What still lacks.
    pub lacking: Vec<Lacking>,
    /// The form that was written, and for how many values.
    pub form: Option<(PathBuf, usize)>,
}

impl Filled {
    /// What kind of trouble there is: something still lacks.
    pub fn kind(&self) -> Option<Kind> {
        (!self.lacking.is_empty()).then_some(Kind::Found)
    }
}

/// Asks for every value that a stage lacks, or lists them.
pub fn fill(changing: &Changing, asked: &ToFill) -> Result<Filled, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let Some(name) = asked.stage.stage.as_ref().filter(|_| asked.stage.owner.is_none()) else {
        let message = format!("`{}` names no stage", asked.stage);
        return Err(Trouble::usage(message).help("write @STAGE, and units behind it"));
    };
    let stage = known_stage(ledger, name.as_str())?;
    let mut patterns = Vec::new();
    for unit in &asked.units {
        let pattern = Pattern::parse(&format!("{unit}@{name}"))?;
        refuse_idle(ledger, &pattern)?;
        patterns.push(pattern);
    }
    let is_meant = |subject: &Subject| {
        let owner = ledger.owner(*subject);
        let (unit, instance) = owner.names();
        patterns.is_empty() || patterns.iter().any(|pattern| pattern.covers_owner(unit, instance))
    };
    let note = Note { why: asked.consent.why.clone(), ..Note::default() };
    let to_ask = ToAsk {
        answers: asked.answers.clone(),
        plain_secrets: asked.plain_secrets,
        write: asked.write,
        note,
    };
    let Filling { edits, written, lacking, form } =
        Filling::of(opened, &changing.keys(&NO_CHANGE), &[stage], &is_meant, &to_ask)?;
    let planned = changing.plan(&edits)?;
    changing.refuse_bad_rows(&planned)?;
    let writes = asked.write && !edits.is_empty();
    if writes {
        changing.guard(&[LayerId::Stage(stage)], &planned, &asked.consent)?;
        changing.write(&planned)?;
    }
    let changed = SettingsChanged::of(changing, written, planned, writes);
    Ok(Filled { changed, lacking, form })
}

/// How what a stage lacks is asked for.
#[derive(Debug, Clone)]
pub(crate) struct ToAsk {
    /// The form that the values stand in; it is written where it is not there.
    pub(crate) answers: Option<PathBuf>,
    /// Whether secrets may stand in plain text where the stage has no key.
    pub(crate) plain_secrets: bool,
    /// Whether something is to be written: only then somebody is asked.
    pub(crate) write: bool,
    /// What stands beside the values.
    pub(crate) note: Note,
}

/// What was given of what a stage lacks.
pub(crate) struct Filling {
    pub(crate) edits: Vec<Edit>,
    pub(crate) written: Vec<Written>,
    pub(crate) lacking: Vec<Lacking>,
    pub(crate) form: Option<(PathBuf, usize)>,
}

impl Filling {
    /// Asks for what these units lack in stages of a ledger.
    pub(crate) fn of(
        opened: &Opened,
        keys: &Keys<'_>,
        stages: &[StageId],
        is_meant: &dyn Fn(&Subject) -> bool,
        asked: &ToAsk,
    ) -> Result<Self, Trouble> {
        let ledger = &opened.ledger;
        let outside = opened.unfetched();
        let resolver = Resolver::new(ledger, &outside, &[]);
        let all = stages.iter().flat_map(|&stage| lacking_in(&resolver, stage, is_meant));
        let mut lacking: BTreeMap<String, Lacking> =
            all.map(|lacking| (lacking.address.clone(), lacking)).collect();
        let questions: Vec<Question> = lacking.values().map(Lacking::question).collect();
        let answers = Answers::read(opened, asked.answers.as_deref(), asked.write, &questions)?;
        let setter = Setter { ledger, keys, plain_secrets: asked.plain_secrets };
        let (mut edits, mut written) = (Vec::new(), Vec::new());
        for question in &questions {
            let place = opened.place(&question.address, None)?;
            let Target::Layer(layer) = place.target else { continue };
            let before = ledger.setting_at(layer, place.subject, place.slot);
            let judge = |answer: &Zeroizing<String>| setter.said(&place, Given::Hand(answer), before);
            let Some(said) = answers.of(&opened.at, question, judge)? else { continue };
            let (edit, this) = write(ledger, &place, layer, &said, &asked.note);
            edits.extend(edit);
            written.push(this);
            lacking.remove(&question.address);
        }
        let form = match answers {
            Answers::Form(path, count) => Some((path, count)),
            Answers::None | Answers::Given(_) | Answers::Asked => None,
        };
        Ok(Self { edits, written, lacking: lacking.into_values().collect(), form })
    }
}

/// What these units lack in a stage, by address.
pub(crate) fn lacking_in(
    resolver: &Resolver<'_>,
    stage: StageId,
    is_meant: &dyn Fn(&Subject) -> bool,
) -> Vec<Lacking> {
    let mut lacking: BTreeMap<String, Lacking> = BTreeMap::new();
    for subject in resolver.ledger().subjects_in(stage).filter(|subject| is_meant(subject)) {
        add(resolver, (subject, stage), &mut lacking);
    }
    lacking.into_values().collect()
}

/// Adds what a unit or instance lacks by itself, and not since something that it refers to does.
fn add(
    resolver: &Resolver<'_>,
    (subject, stage): (Subject, StageId),
    lacking: &mut BTreeMap<String, Lacking>,
) {
    let ledger = resolver.ledger();
    let mut session = resolver.session(unit_of(subject));
    for slot in ledger.slots(subject).all() {
        let outcome = session.outcome(FieldId { subject, stage, slot });
        let Outcome::Missing(Because::NothingSet | Because::MustBeStated, _) = outcome else { continue };
        let declaration = ledger.field(subject, slot).1;
        if declaration.derived {
            continue;
        }
        let address = set_at(ledger, (subject, stage), slot).to_string();
        if lacking.contains_key(&address) {
            continue;
        }
        let elsewhere = nearest(ledger, stage).find_map(|other| {
            let outcome = session.outcome(FieldId { subject, stage: other, slot });
            let value = outcome.value().filter(|value| !value.is_secret())?.expose()?;
            Some((ledger.stage(other).name.to_string(), shown::one_line(value)))
        });
        let this = Lacking {
            address: address.clone(),
            asks: declaration.this_type.typed().to_owned(),
            about: declaration.about.as_deref().map(str::to_owned),
            elsewhere,
            secret: declaration.secret,
        };
        lacking.insert(address, this);
    }
}

/// Where a field is set for all that lack it: that of a shared entry once for all who use it, that of a unit once for
/// all its instances.
fn set_at(ledger: &Ledger, (subject, stage): (Subject, StageId), slot: cledger_core::model::Slot) -> Address {
    let address = ledger.address(FieldId { subject, stage, slot });
    let is_shared = ledger.slots(subject).entry_of(slot).0.entry.shared().is_some();
    let owner = match (is_shared, subject) {
        (true, _) => Some(cledger_core::address::Owner::Shared),
        (false, Subject::Unit(unit, _)) => Some(ledger.owner(Subject::Unit(unit, None))),
        (false, Subject::Shared) => address.owner.clone(),
    };
    Address { owner, ..address }
}

/// The other stages, those right before a stage first, then those behind it.
fn nearest(ledger: &Ledger, stage: StageId) -> impl Iterator<Item = StageId> {
    let before: Vec<StageId> = ledger.stage_ids().take_while(|other| *other != stage).collect();
    let behind = ledger.stage_ids().skip_while(move |other| *other != stage).skip(1);
    before.into_iter().rev().chain(behind)
}

impl Lacking {
    fn question(&self) -> Question {
        Question {
            address: self.address.clone(),
            asks: self.asks.clone(),
            about: self.about.clone(),
            elsewhere: self.elsewhere.as_ref().map(|(stage, text)| (format!("in {stage}"), text.clone())),
            secret: self.secret,
        }
    }
}
