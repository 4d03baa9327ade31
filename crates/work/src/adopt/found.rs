//! What was at the outlets before anything of ours came there: recorded, it is what the first delivery
//! is judged by, so that it may go over it without being told to.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::adopt::NotPlaced;
use cledger_core::kept::Kept;
use cledger_core::model::{Database, LayerId, Ledger, OutletKind, OutputFormat, StageId};
use cledger_core::name::Name;
use cledger_core::output::OutputName;
use cledger_core::tree::Tree;
use cledger_formats::Particulars;
use cledger_store::Keys;
use cledger_store::daybook::{Answer, AnswerState, Content, Daybook as _, Kind, Wanted};
use zeroize::Zeroizing;

use crate::adopt::files::Files;
use crate::adopt::tables::FoundTable;
use crate::adopt::there::FoundPlace;
use crate::anchor;
use crate::bringing::part::{Form, rows};
use crate::daybook;
use crate::deliver::recorded::meta;
use crate::opened::Opened;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::Trouble;

impl FoundPlace {
    /// The kind of outlet that has it.
    fn kind(&self, ledger: &Ledger, outlet: &str) -> &'static str {
        let known = ledger.outlets.iter().find(|known| known.name.as_str() == outlet);
        match self {
            Self::Rows => match known.map(|known| &known.kind) {
                Some(OutletKind::Rows(rows)) => rows.database.kind(),
                _ => Database::Postgres.kind(),
            },
            Self::File(_) => "directory",
            Self::Document => "http",
            Self::Environment => "process",
        }
    }
}

/// What is recorded of what was found in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FoundThere {
    /// `--write` records it.
    ToRecord,
    /// It is recorded.
    Recorded,
    /// Nothing: the daybook has records of the unit there already.
    HasRecords,
    /// Nothing: the stage has no key to keep it under.
    NoKey,
}

/// What was found in a stage, as a record has it.
pub(super) struct Found {
    stage: StageId,
    content: Content,
    outlets: BTreeMap<String, &'static str>,
}

impl Found {
    fn nothing(stage: StageId) -> Self {
        Self { stage, content: Content::default(), outlets: BTreeMap::new() }
    }
}

/// A name among rows, with its text.
type NamedText = (String, Zeroizing<String>);

/// What those of these files are that were found at outlets, by stage, but for what has no place in the ledger: nobody shall take
/// that for ours.
pub(super) fn there(
    ledger: &Ledger,
    (files, tables): (&Files, &[FoundTable]),
    not_placed: &[NotPlaced],
    kept: &BTreeSet<(StageId, usize, OutputName)>,
) -> Result<Vec<Found>, Trouble> {
    let mut all: BTreeMap<StageId, Found> = BTreeMap::new();
    let mut of_rows: BTreeMap<(StageId, &str), Vec<NamedText>> = BTreeMap::new();
    for (file, at) in &files.found {
        let old = &files.old[*file];
        let kept = kept.iter().filter(|(stage, output, _)| (*stage, *output) == (old.stage, old.output));
        let without: BTreeSet<&OutputName> = not_placed
            .iter()
            .filter_map(|it| it.names.get(&old.output))
            .chain(kept.map(|(.., name)| name))
            .collect();
        let mut tree = Tree::default();
        for (name, value) in old.tree.leaves().into_iter().filter(|(name, _)| !without.contains(name)) {
            tree.insert(&name, value.clone());
        }
        tree.0.extend(files.beside.get(file).map(|beside| beside.names.0.clone()).unwrap_or_default());
        let particulars = Particulars { manifest_name: "x", ..Particulars::default() };
        let found = all.entry(old.stage).or_insert_with(|| Found::nothing(old.stage));
        let written = |format| {
            let text = Form::Tree(format, particulars).write(&tree);
            text.map(|text| Kept::new(text, true)).map_err(|reason| {
                Trouble::usage(format!("what `{}` has cannot be recorded: {reason}", files.paths[*file]))
            })
        };
        let content = &mut found.content;
        match &at.place {
            FoundPlace::File(path) => drop(content.files.insert(path.clone(), written(old.format)?)),
            FoundPlace::Document => {
                drop(content.documents.insert(at.outlet.clone(), written(OutputFormat::Json)?));
            }
            FoundPlace::Rows => {
                let named = tree
                    .leaves()
                    .into_iter()
                    .map(|(name, value)| (name.join("."), value.to_text().to_string().into()));
                of_rows.entry((old.stage, &at.outlet)).or_default().extend(named);
            }
            FoundPlace::Environment => continue,
        }
        found.outlets.insert(at.outlet.clone(), at.place.kind(ledger, &at.outlet));
    }
    for table in tables {
        for (stage, outlet, text) in table.there() {
            of_rows.entry((stage, outlet)).or_default().push((table.entry.to_string(), text.clone()));
        }
    }
    for ((stage, outlet), named) in of_rows {
        let found = all.entry(stage).or_insert_with(|| Found::nothing(stage));
        let text = rows(named.iter().map(|(name, text)| (name.as_str(), text)));
        found.content.rows.insert(outlet.to_owned(), Kept::new(text, true));
        found.outlets.insert(outlet.to_owned(), FoundPlace::Rows.kind(ledger, outlet));
    }
    Ok(all.into_values().filter(|found| !found.outlets.is_empty()).collect())
}

/// Records what was found of a unit.
pub(super) struct Recording<'r> {
    opened: &'r Opened,
    owner: &'r str,
    book: SharedBook,
}

impl<'r> Recording<'r> {
    /// Opens the daybook, so that one that is out of reach stops it before anything is written.
    pub(super) fn start(opened: &'r Opened, owner: &'r str, write: bool) -> Result<Self, Trouble> {
        let book = SharedBook::new(daybook::for_writing(opened, write)?);
        Ok(Self { opened, owner, book })
    }

    /// What there is to be recorded of each stage.
    pub(super) fn plan(
        &mut self,
        found: &[Found],
        ledger: &Ledger,
        keys: &Keys<'_>,
    ) -> Result<Vec<(Name, FoundThere)>, Trouble> {
        let mut plan = Vec::new();
        for found in found {
            plan.push((ledger.stage(found.stage).name.clone(), self.can(found, ledger, keys)?));
        }
        Ok(plan)
    }

    fn can(&mut self, found: &Found, ledger: &Ledger, keys: &Keys<'_>) -> Result<FoundThere, Trouble> {
        let stage = ledger.stage(found.stage).name.as_str();
        let wanted = Wanted { beside: Some(false), ..Wanted::of(self.owner, stage) };
        Ok(
            if !self.book.entries(&wanted, false)?.is_empty()
                || !self.book.opened(Some((self.owner, stage)))?.is_empty()
            {
                FoundThere::HasRecords
            } else if keys.has_key(&ledger.key_scope(LayerId::Stage(found.stage))) {
                FoundThere::ToRecord
            } else {
                FoundThere::NoKey
            },
        )
    }

    /// Records what there is to be recorded.
    pub(super) fn record(
        &mut self,
        found: &[Found],
        ledger: &Ledger,
        why: &str,
    ) -> Result<Vec<(Name, FoundThere)>, Trouble> {
        let mut done = Vec::new();
        let keys = self.opened.keys_anew();
        for found in found {
            let stage = ledger.stage(found.stage).name.clone();
            let mut held = Held::take(&self.book, self.owner, stage.as_str())?;
            let can = self.can(found, ledger, &keys)?;
            if can == FoundThere::ToRecord {
                let scope = ledger.key_scope(LayerId::Stage(found.stage));
                let mut meta = meta(self.opened, self.owner, stage.as_str(), Kind::Found, why);
                let packed = daybook::pack(&mut held.book, (&keys, &scope), &found.content, &mut meta)?;
                let answer = |(outlet, kind): (&String, &&str)| Answer {
                    outlet: outlet.clone(),
                    kind: (*kind).to_owned(),
                    state: AnswerState::AsItShouldBe,
                    in_effect: None,
                    reason: None,
                };
                meta.outlets = found.outlets.iter().map(answer).collect();
                self.opened.at.stepping.before("record")?;
                let recorded = held.book.record(meta, &packed, None)?;
                anchor::hold_fast(self.opened, &recorded);
                done.push((stage, FoundThere::Recorded));
            } else {
                done.push((stage, can));
            }
        }
        Ok(done)
    }
}
