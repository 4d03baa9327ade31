//! What was last brought to each outlet, as the daybook has it.

use std::collections::BTreeSet;

use cledger_core::delivery::with_names_of;
use cledger_core::model::OutletKind;
use cledger_core::output::OutputName;
use cledger_store::daybook::{AnswerState, Content, Daybook, Entry, Kind, Left, Meta, Open, Wanted};

use crate::bringing::before::Before;
use crate::bringing::part::{Form, Part};
use crate::bringing::whom::Whom;
use crate::daybook;
use crate::deliver::recorded::Planner;
use crate::reality::places::is_its_place;
use crate::trouble::Trouble;

/// The records of a unit in a stage, back to where it is known for all its outlets what they have.
#[derive(Default)]
pub(crate) struct Baseline {
    /// The latest first.
    past: Vec<(Meta, Content)>,
}

/// How far one record tells what an outlet has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tells {
    /// Nothing: nothing came there.
    Nothing,
    /// It may have its content.
    Perhaps,
    /// It has its content.
    Surely,
    /// What was ours was taken off.
    TakenOff,
}

/// What a record tells of an outlet.
fn tells(meta: &Meta, outlet: &str) -> Tells {
    let answer = meta.outlets.iter().find(|answer| answer.outlet == outlet);
    match (meta.kind, answer.map(|answer| answer.state)) {
        (Kind::ChoreDone | Kind::ChoresAsked, _) | (_, None) => Tells::Nothing,
        (Kind::Found, Some(_)) => Tells::Surely,
        (_, Some(state)) if state.is_without_effect() => Tells::Nothing,
        (Kind::Withdrawn, Some(AnswerState::TakenOff | AnswerState::WasNotThere | AnswerState::HandedOn)) => {
            Tells::TakenOff
        }
        (_, Some(state)) if state.is_whole() => Tells::Surely,
        _ => Tells::Perhaps,
    }
}

impl Baseline {
    /// Reads as many records as it takes for these outlets, and for whatever else the records tell of.
    pub(crate) fn read(
        planner: &Planner<'_, '_>,
        book: &mut dyn Daybook,
        whom: &Whom,
    ) -> Result<Self, Trouble> {
        Self::read_before(planner, book, whom, u64::MAX)
    }

    /// The same as it was before the record at a place in the chain.
    pub(crate) fn read_before(
        planner: &Planner<'_, '_>,
        book: &mut dyn Daybook,
        whom: &Whom,
        place: u64,
    ) -> Result<Self, Trouble> {
        let ledger = planner.resolver.ledger();
        let (owner, stage) = (whom.owner.to_string(), ledger.stage(whom.stage).name.as_str());
        let wanted = Wanted { beside: Some(false), ..Wanted::of(&owner, stage) };
        let mut entries = book.entries(&wanted, false)?;
        entries.retain(|entry| entry.meta.place < place);
        entries.reverse();
        // What came to another place, under a former name, says nothing of this one.
        for Entry { meta, .. } in &mut entries {
            let recorded = (meta.unit.as_str(), meta.stage.as_str());
            meta.outlets.retain(|it| is_its_place(ledger, (&whom.owner, whom.stage), &it.outlet, recorded));
        }
        let metas: Vec<&Meta> = entries.iter().map(|entry| &entry.meta).collect();
        let answers = metas.iter().flat_map(|meta| &meta.outlets);
        let outlets: BTreeSet<&str> = answers.map(|answer| answer.outlet.as_str()).collect();
        let needed: BTreeSet<usize> = outlets.iter().flat_map(|outlet| counting(&metas, outlet)).collect();
        let mut past = Vec::new();
        for at in needed {
            let entry = &entries[at];
            let wanted = Wanted::numbered(&entry.meta.unit, stage, entry.meta.number);
            let records = book.records(&wanted)?;
            if let Some(record) = records.into_iter().next() {
                past.push((entry.meta.clone(), planner.content(&record)?));
            }
        }
        Ok(Self { past })
    }

    /// The same where something was left open, which may have been brought.
    pub(crate) fn with_open(mut self, open: &Open, content: &Content) -> Self {
        self.past.insert(0, (open.meta.clone(), content.clone()));
        self
    }

    /// The number of the delivery that was last brought to an outlet for sure.
    pub(crate) fn since(&self, outlet: &str) -> Option<u64> {
        self.surely(outlet).filter(|meta| meta.kind != Kind::Found).map(|meta| meta.number)
    }

    /// Whether what was last brought to an outlet for sure was not taken up there.
    pub(crate) fn is_not_in_effect(&self, outlet: &str) -> bool {
        let answers = self.surely(outlet).map(|meta| meta.outlets.iter()).into_iter().flatten();
        answers.filter(|answer| answer.outlet == outlet).any(|answer| answer.in_effect == Some(false))
    }

    /// Whether what an outlet has for sure was found there, and nothing of ours came there yet.
    pub(crate) fn is_found(&self, outlet: &str) -> bool {
        self.surely(outlet).is_some_and(|meta| meta.kind == Kind::Found)
    }

    /// The last record whose content an outlet has for sure.
    fn surely(&self, outlet: &str) -> Option<&Meta> {
        let past = self.counting(outlet).map(|(meta, _)| meta);
        past.into_iter().find(|meta| tells(meta, outlet) == Tells::Surely)
    }

    /// The outlets that have or may have something of it, as the daybook says.
    pub(crate) fn outlets(&self) -> BTreeSet<String> {
        let brought = self.past.iter().filter(|(meta, _)| meta.kind != Kind::Found);
        let answers = brought.flat_map(|(meta, _)| &meta.outlets);
        let reached = answers.filter(|answer| answer.state != AnswerState::ByHand);
        let names: BTreeSet<&String> = reached.map(|answer| &answer.outlet).collect();
        let has_something = |outlet: &str| {
            let first =
                self.past.iter().map(|(meta, _)| tells(meta, outlet)).find(|it| *it != Tells::Nothing);
            matches!(first, Some(Tells::Surely | Tells::Perhaps))
        };
        names.into_iter().filter(|outlet| has_something(outlet)).cloned().collect()
    }

    /// The paths of the files that may have been brought to an outlet last.
    pub(crate) fn paths(&self, outlet: &str) -> BTreeSet<&String> {
        self.counting(outlet).flat_map(|(_, content)| content.files.keys()).collect()
    }

    /// The records that tell what an outlet has, the latest first.
    fn counting<'b>(&'b self, outlet: &str) -> impl Iterator<Item = &'b (Meta, Content)> {
        let metas: Vec<&Meta> = self.past.iter().map(|(meta, _)| meta).collect();
        counting(&metas, outlet).into_iter().map(|at| &self.past[at])
    }

    /// What may have been brought of one file or thing, the latest first; nothing was where this is empty.
    pub(crate) fn brought(
        &self,
        (outlet, kind): (&str, &OutletKind),
        path: Option<&str>,
        form: Form<'_>,
    ) -> Vec<Option<Part>> {
        let mut counting: Vec<&(Meta, Content)> = self.counting(outlet).collect();
        counting.reverse();
        let mut parts: Vec<(Tells, Option<Part>, Option<Part>)> = Vec::new();
        for (meta, content) in counting {
            let kept = match (path, kind) {
                (Some(path), _) => content.files.get(path),
                (None, OutletKind::Rows(_)) => content.rows.get(outlet),
                (None, _) => content.documents.get(outlet),
            };
            let mut part = kept.and_then(|kept| form.read_kept(kept));
            let before = parts.last().and_then(|(_, part, _)| part.as_ref());
            for left in left_at(meta, outlet).filter(|left| left.path.as_deref() == path) {
                part = without_left(part, &left.names, before, form);
            }
            let overwritten = Before::recall(&content.before, outlet, path);
            parts.push((tells(meta, outlet), part, overwritten.map(|before| form.read(&before.text))));
        }
        // What is older than what is there for sure only tells of names that were left.
        let surely = parts.iter().rposition(|(tells, ..)| *tells == Tells::Surely);
        let mut brought = Vec::new();
        for (tells, part, overwritten) in parts.drain(surely.unwrap_or_default()..).rev() {
            brought.push(part);
            // Where nobody knows whether it came, what it was to overwrite may still be there.
            if tells == Tells::Perhaps && overwritten.is_some() {
                brought.push(overwritten);
            }
        }
        if surely.is_none() && !brought.is_empty() {
            brought.push(None);
        }
        brought
    }
}

/// What was left at an outlet.
fn left_at<'m>(meta: &'m Meta, outlet: &'m str) -> impl Iterator<Item = &'m Left> {
    meta.left.iter().filter(move |left| left.outlet == outlet)
}

/// A part in which these names are as they were brought before; all of it where none is named.
fn without_left(
    part: Option<Part>,
    names: &[OutputName],
    before: Option<&Part>,
    form: Form<'_>,
) -> Option<Part> {
    if names.is_empty() {
        return before.cloned();
    }
    let part = part?;
    let other = before.and_then(|before| before.tree.as_ref());
    let tree = part.tree.as_ref().map(|tree| with_names_of(Some(tree), names, other));
    let text = tree.as_ref().and_then(|tree| form.write(tree).ok()).unwrap_or(part.text);
    let is_secret = part.is_secret || before.is_some_and(|before| before.is_secret);
    Some(Part { text, tree, is_secret })
}

/// Which of these, the latest first, tell what an outlet has. What was taken off is nobody's here any more, but for
/// what was found there.
pub(crate) fn counting(metas: &[&Meta], outlet: &str) -> Vec<usize> {
    let (mut counting, mut is_taken_off) = (Vec::new(), false);
    for (at, meta) in metas.iter().enumerate() {
        match tells(meta, outlet) {
            _ if is_taken_off && meta.kind != Kind::Found => {}
            Tells::Nothing => {}
            Tells::TakenOff => is_taken_off = true,
            Tells::Perhaps => counting.push(at),
            Tells::Surely => {
                counting.push(at);
                if left_at(meta, outlet).next().is_none() {
                    break;
                }
            }
        }
    }
    counting
}

/// What was left open of a unit in a stage, if something is.
pub(crate) fn left_open(book: &mut dyn Daybook, owner: &str, stage: &str) -> Result<Option<Open>, Trouble> {
    Ok(book.opened(Some((owner, stage)))?.pop())
}

/// What an open delivery brings.
pub(crate) fn content_of(planner: &Planner<'_, '_>, open: &Open) -> Result<Content, Trouble> {
    daybook::unpacked(&open.meta, &open.packed, planner.resolver.ledger(), planner.keys)
}
