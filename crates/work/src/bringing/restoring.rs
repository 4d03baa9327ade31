//! What was at the outlets before anything of ours came there: what is brought back where it is taken off.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::model::OutletKind;
use cledger_core::output::OutputName;
use cledger_core::tree::Tree;
use cledger_core::value::Value;
use cledger_store::daybook::{Content, Daybook, Kind, Wanted};

use crate::bringing::before::{Before, key};
use crate::bringing::forms::{Forms, has_one_thing};
use crate::bringing::part::Form;
use crate::bringing::plan::of_content;
use crate::bringing::whom::Whom;
use crate::deliver::recorded::Planner;
use crate::reality::places::is_its_place;
use crate::trouble::Trouble;

/// The records of what is at the outlets now: from the first delivery on, after the last withdrawal.
pub(crate) struct Restoring {
    /// The oldest first, each with the outlets where it says nothing, since it came to another place there.
    past: Vec<(Content, BTreeSet<String>)>,
}

impl Restoring {
    /// Reads them.
    pub(crate) fn read(
        planner: &Planner<'_, '_>,
        book: &mut dyn Daybook,
        whom: &Whom,
    ) -> Result<Self, Trouble> {
        let ledger = planner.resolver.ledger();
        let stage = ledger.stage(whom.stage).name.as_str();
        let wanted = Wanted { beside: Some(false), ..Wanted::of(&whom.owner.to_string(), stage) };
        let mut past = Vec::new();
        for record in book.records(&wanted)? {
            let is_over = record.meta.kind == Kind::Withdrawn
                && record.meta.outlets.iter().all(|answer| answer.state.is_whole());
            if is_over {
                past.clear();
            } else if record.meta.kind.is_brought() {
                let recorded = (record.meta.unit.as_str(), record.meta.stage.as_str());
                let is_elsewhere =
                    |outlet: &&str| !is_its_place(ledger, (&whom.owner, whom.stage), outlet, recorded);
                let outlets = ledger.outlets.iter().map(|outlet| outlet.name.as_str());
                let elsewhere = outlets.filter(is_elsewhere).map(str::to_owned).collect();
                past.push((planner.content(&record)?, elsewhere));
            }
        }
        Ok(Self { past })
    }

    /// What each outlet is to have in place of what was brought there: contents that hold nothing but that.
    pub(crate) fn content(&self, outlets: &[(&str, &OutletKind)], forms: &Forms<'_>) -> Content {
        let mut content = Content::default();
        for &(outlet, kind) in outlets {
            let paths: Vec<Option<String>> = if has_one_thing(kind) {
                vec![None]
            } else {
                let paths = self.here(outlet).flat_map(|content| content.files.keys());
                let paths: BTreeSet<&String> = paths.collect();
                paths.into_iter().map(|path| Some(path.clone())).collect()
            };
            for path in paths {
                let path = path.as_deref();
                let form = Form::of(kind, forms.output(outlet, path));
                if let Some(before) = self.part((outlet, kind), path, form) {
                    content.before.insert(key(outlet, path), before.kept(true));
                }
            }
        }
        content
    }

    /// Those that say something of an outlet.
    fn here<'r>(&'r self, outlet: &'r str) -> impl Iterator<Item = &'r Content> {
        let past = self.past.iter().filter(move |(_, elsewhere)| !elsewhere.contains(outlet));
        past.map(|(content, _)| content)
    }

    /// What was there of one file, document or scope of rows, name by name as each became ours.
    fn part(
        &self,
        (outlet, kind): (&str, &OutletKind),
        path: Option<&str>,
        form: Form<'_>,
    ) -> Option<Before> {
        let mut first: Option<Before> = None;
        let mut names: BTreeMap<OutputName, Option<Value>> = BTreeMap::new();
        let (mut has_names, mut was_ours) = (true, false);
        let stays = |name: &OutputName| match kind {
            OutletKind::Rows(rows) => rows.columns.are_given || rows.is_of_lookup(name),
            _ => false,
        };
        for content in self.here(outlet) {
            let ours = of_content(content, (outlet, kind), path).and_then(|kept| form.read_kept(kept));
            let before = Before::recall(&content.before, outlet, path);
            let there = before.as_ref().map(|before| form.read(&before.text));
            let (ours_tree, there_tree) = (
                ours.as_ref().and_then(|part| part.tree.as_ref()),
                there.as_ref().and_then(|part| part.tree.as_ref()),
            );
            has_names &= ours.is_none() == ours_tree.is_none() && there.is_none() == there_tree.is_none();
            let known = there_tree.map(Tree::leaves).unwrap_or_default();
            for name in ours_tree.map(Tree::leaves).unwrap_or_default().into_keys() {
                let before = known.get(&name).map(|value| (*value).clone());
                names.entry(name).or_insert(before);
            }
            // The first time all that went is theirs; in a table of somebody else's the rest has stayed.
            for (name, value) in known.into_iter().filter(|(name, _)| !was_ours && !stays(name)) {
                names.entry(name).or_insert_with(|| Some(value.clone()));
            }
            if !was_ours && ours.is_some() {
                first = before;
                was_ours = true;
            }
        }
        if !has_names {
            return first;
        }
        let mut tree = Tree::default();
        for (name, value) in &names {
            if let Some(value) = value {
                tree.insert(name, value.clone());
            }
        }
        let first_tree = first.as_ref().and_then(|first| form.read(&first.text).tree);
        if first_tree.as_ref() == Some(&tree) {
            return first;
        }
        if tree == Tree::default() {
            return None;
        }
        let mode = first.and_then(|first| first.mode);
        form.write(&tree).ok().map(|text| Before { text, mode })
    }
}
