//! Bringing units to their outlets, making it count, and looking whether it does: the one way there.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use cledger_core::model::{Effecting, Ledger, Ready, StageId, StageText, Subject};
use cledger_core::resolve::Resolver;
use cledger_core::trust;
use cledger_outlets::bring::NotBrought;
use cledger_outlets::effect::{self, Masking, Reload};
use cledger_outlets::held::Held;
use cledger_outlets::read_back::read_back;
use cledger_store::daybook::Content;

use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::brought::{Brought, Outcome};
use crate::reality::load::{Bringing, load};
use crate::reality::look::{Seeing, look};
use crate::reality::looked::Looked;
use crate::reality::masking::masking;
use crate::reality::places::{self, Place};
use crate::trouble::Trouble;

/// What is needed to bring things.
pub(crate) struct Bringer<'a, 'o> {
    pub(crate) opened: &'o Opened,
    pub(crate) resolver: &'o Resolver<'a>,
    pub(crate) around: &'o Around<'o>,
}

/// Variables that no program gets which a ledger names: those that secrets of its outlets come from, but for
/// those that an outlet passes on.
fn without(ledger: &Ledger, pass: &[String]) -> Vec<String> {
    trust::variables(ledger).filter(|name| !pass.contains(name)).collect()
}

/// One unit at one outlet, on its way.
struct Way<'l> {
    brought: Brought,
    subject: Subject,
    place: usize,
    stage: StageId,
    effect: Option<&'l Effecting>,
}

impl<'a> Bringer<'a, '_> {
    /// Looks at the outlets of a unit in a stage, brings it to those that do not hold it already, makes it count,
    /// and looks again.
    pub(crate) fn bring(
        &self,
        subject: Subject,
        stage: StageId,
        bringing: &Bringing<'_>,
    ) -> Result<Vec<Brought>, Trouble> {
        let looked = self.look(subject, stage)?;
        // What the ledger makes is known value by value; anything else is taken from the texts themselves.
        let texts: Vec<&Content> = match (bringing.is_of_ledger, bringing.before) {
            (true, _) => Vec::new(),
            (false, before) => before.into_iter().chain([bringing.content]).collect(),
        };
        let masking = masking(self.resolver, subject, stage, &texts);
        self.bring_to(looked, subject, bringing, &masking)
    }

    /// Looks at the outlets of a unit in a stage.
    pub(crate) fn look(&self, subject: Subject, stage: StageId) -> Result<Vec<Looked<'a>>, Trouble> {
        let places = places::of_unit(self.resolver.ledger(), self.around, subject, stage)?;
        let at = &self.opened.at;
        look(places, self.resolver, at.today()?, Seeing::Live(&*at.telling))
    }

    fn bring_to(
        &self,
        looked: Vec<Looked<'a>>,
        subject: Subject,
        bringing: &Bringing<'_>,
        masking: &Masking,
    ) -> Result<Vec<Brought>, Trouble> {
        let owner = self.ledger().owner(subject).to_string();
        let (mut ways, mut loads, mut places) = (Vec::new(), Vec::new(), Vec::new());
        for Looked { place, looks, units } in looked {
            let found = looks.into_iter().zip(&units).find(|(look, _)| look.subject == subject);
            if let (Some((look, unit)), Some((outlet, kind))) = (found, place.outlet_name())
                && !place.is_process()
            {
                // Why nothing came back is told by how it stands.
                let not_known = || Held::NotKnown(unit.reason().unwrap_or_default().to_owned());
                let held = look.held.unwrap_or_else(not_known);
                let outcome = match load(self.ledger(), &place, subject, bringing, held) {
                    _ if bringing.is_of_ledger && unit.is_as_made() => Outcome::AsItShouldBe,
                    Err(reason) => Outcome::Failed(reason),
                    Ok((_, None)) => Outcome::AsItShouldBe,
                    Ok((seen, Some(content))) => {
                        let asked = place.source.asked.get(&owner).cloned();
                        let asked = asked.ok_or_else(|| Trouble::outside("it was not looked at"))?;
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
        self.make_it_count(&mut ways, &stamps, masking)?;
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
            let holds = match load(self.ledger(), &places[way.place], way.subject, bringing, held) {
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
    fn stamps(&self, ways: &[Way<'_>]) -> Result<BTreeMap<String, Option<SystemTime>>, Trouble> {
        let mut stamps = BTreeMap::new();
        for way in ways {
            if let Some(Ready::File(path)) = way.effect.and_then(|effect| effect.ready.as_ref()) {
                let path = self.expanded(path, way)?;
                let stamp = effect::stamp(&self.around.ledger_folder.join(&path));
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
        masking: &Masking,
    ) -> Result<(), Trouble> {
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
                        folder: self.around.ledger_folder,
                        within: effect.within,
                        without: &without(self.ledger(), &effect.pass),
                        masking,
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
            return effect::written_since(self.around.ledger_folder, text, before, within);
        }
        effect::answers(text, &self.around.trust, within)
    }

    fn ledger(&self) -> &'a Ledger {
        self.resolver.ledger()
    }

    fn expanded(&self, text: &StageText, way: &Way<'_>) -> Result<String, Trouble> {
        let expanded = text.expand(self.ledger(), way.subject, way.stage);
        Ok(expanded.map_err(|missing| Trouble::usage(missing.to_string()))?.into_owned())
    }
}
