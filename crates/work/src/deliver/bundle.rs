//! A bundle on its way: its members are delivered one by one, with records of their own, and one record lists them.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Delivery};
use cledger_core::model::{Bundle, Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_store::commit_of;
use cledger_store::daybook::{AnswerState, Daybook, Kind, Member, Meta, Packed, Wanted};

use crate::anchor;
use crate::covering::known_bundle;
use crate::deliver::recorded::meta;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// The numbers of deliveries, by unit.
pub(crate) type Numbers = BTreeMap<String, u64>;

/// A bundle in a stage, and what its last record says of its members.
#[derive(Debug)]
pub struct Together {
    /// Its name.
    pub bundle: Name,
    /// Its version.
    pub version: Option<String>,
    /// The stage.
    pub stage: String,
    /// The number of its last record, and when that was made.
    pub last: Option<(u64, String)>,
    /// Members that the last record does not list.
    pub joined: Vec<String>,
    /// Units that the last record lists, and that are no members any more.
    pub left: Vec<String>,
    /// Members that were delivered or withdrawn by themselves since the last record, each with its last number.
    pub alone: Vec<(String, u64)>,
    /// The number of the record that was made.
    pub recorded: Option<u64>,
    members: Vec<Member>,
}

impl Together {
    /// Reads what is known of a bundle, whose members these are.
    pub(crate) fn read(
        opened: &Opened,
        book: &mut dyn Daybook,
        name: &Name,
        (members, stage): (&[Subject], StageId),
    ) -> Result<Self, Trouble> {
        let ledger = &opened.ledger;
        let bundle = known_bundle(ledger, name.as_str())?;
        let stage = ledger.stage(stage).name.to_string();
        let wanted = Wanted { beside: Some(true), ..Wanted::of(&unit_of(name), &stage) };
        let mut last = book.entries(&wanted, false)?.pop().map(|entry| entry.meta);
        if let Some(last) = &mut last {
            called_now(ledger, last);
        }
        let owners: BTreeSet<String> = members.iter().map(|&it| ledger.owner(it).to_string()).collect();
        let mut together = Self {
            bundle: name.clone(),
            version: bundle.version.clone(),
            last: last.as_ref().map(|last| (last.number, last.time.clone())),
            joined: Vec::new(),
            left: Vec::new(),
            alone: Vec::new(),
            recorded: None,
            members: last.map(|last| last.members).unwrap_or_default(),
            stage,
        };
        if together.last.is_some() {
            let listed = |owner: &&String| together.members.iter().any(|member| member.unit == **owner);
            together.joined = owners.iter().filter(|owner| !listed(owner)).cloned().collect();
            let gone = together.members.iter().filter(|member| !owners.contains(&member.unit));
            together.left = gone.map(|member| member.unit.clone()).collect();
        }
        for member in together.members.iter().filter(|member| owners.contains(&member.unit)) {
            let last = book.entries(&Wanted::last_of(&member.unit, &together.stage), false)?.pop();
            let number = last.map(|last| last.meta.number);
            if let Some(number) = number.filter(|_| number != member.number) {
                together.alone.push((member.unit.clone(), number));
            }
        }
        Ok(together)
    }

    /// What stands in the daybook where a unit's name may stand.
    pub(crate) fn unit(&self) -> String {
        unit_of(&self.bundle)
    }

    /// Its address.
    pub fn address(&self) -> String {
        format!("{}@{}", self.unit(), self.stage)
    }

    /// The numbers of the records of its members that one of its own lists.
    pub(super) fn numbers(
        &self,
        opened: &Opened,
        book: &mut dyn Daybook,
        number: u64,
        owners: &[String],
    ) -> Result<Numbers, Trouble> {
        let mut meta = record_of(book, &self.bundle, &self.stage, number)?;
        called_now(&opened.ledger, &mut meta);
        let mut numbers = Numbers::new();
        for member in &meta.members {
            let Some(then) = member.number else { continue };
            if owners.contains(&member.unit) {
                numbers.insert(member.unit.clone(), then);
            } else {
                opened.at.telling.notice(&format!(
                    "{0} was part of it then, and is no more: it stays as it is. To bring it again: cledger deliver \
                     {0}@{1} --again {then}",
                    member.unit, self.stage
                ));
            }
        }
        let joined: Vec<&str> =
            owners.iter().filter(|owner| !numbers.contains_key(*owner)).map(String::as_str).collect();
        if !joined.is_empty() {
            opened.at.telling.notice(&format!(
                "{} had nothing delivered with it then, and stays as it is.",
                joined.join(", ")
            ));
        }
        if numbers.is_empty() {
            let message = format!("no unit of delivery {number} of `{}` is part of it now", self.address());
            return Err(
                Trouble::usage(message).help(format!("`cledger history {}` lists them", self.address()))
            );
        }
        Ok(numbers)
    }

    /// Records what came of its members, unless the last record says that already.
    pub(crate) fn record(
        &mut self,
        opened: &Opened,
        book: &mut dyn Daybook,
        (kind, again): (Kind, Option<u64>),
        why: &str,
        members: Vec<Member>,
    ) -> Result<(), Trouble> {
        let numbers = |members: &[Member]| -> Vec<(String, Option<u64>)> {
            members.iter().map(|member| (member.unit.clone(), member.number)).collect()
        };
        let is_new =
            |member: &Member| !matches!(member.state, AnswerState::AsItShouldBe | AnswerState::NotBrought);
        let has_failed = members.iter().any(|member| member.state == AnswerState::NotBrought);
        // An interrupted program may have brought all of them, and recorded none of it as the bundle's.
        let is_said = has_failed || self.last.is_some() && numbers(&self.members) == numbers(&members);
        if is_said && !members.iter().any(is_new) {
            return Ok(());
        }
        let mut meta = meta(opened, &self.unit(), &self.stage, kind, why);
        meta.version.clone_from(&self.version);
        meta.again = again;
        meta.members = members;
        if let Some((commit, uncommitted)) = commit_of(&opened.folder) {
            (meta.revision, meta.uncommitted) = (Some(commit), Some(uncommitted));
        }
        opened.at.stepping.before("record")?;
        let recorded = book.record(meta, &Packed::default(), None).map_err(|error| {
            let message = format!("{error}; what came of each unit is recorded, that of the bundle is not");
            Trouble::outside(message).help(format!("`cledger deliver {} --write` records it", self.address()))
        })?;
        self.recorded = Some(recorded.meta.number);
        anchor::hold_fast(opened, &recorded);
        Ok(())
    }
}

/// Calls the units of a record by the names that they have now.
fn called_now(ledger: &Ledger, meta: &mut Meta) {
    for member in &mut meta.members {
        let owner = Address::parse(&member.unit).ok().and_then(|address| address.owner);
        if let Some(now) = owner.and_then(|owner| ledger.now_called(&owner)) {
            member.unit = now.to_string();
        }
    }
}

/// The numbers of the records that a delivery of a bundle lists, by what its members are called now.
pub(crate) fn members_of(
    opened: &Opened,
    book: &mut dyn Daybook,
    (bundle, stage): (&Name, &Name),
    delivery: Delivery,
) -> Result<Numbers, Trouble> {
    let number = match delivery {
        Delivery::Number(number) => number.into(),
        Delivery::Last => {
            let wanted = Wanted { beside: Some(true), ..Wanted::of(&unit_of(bundle), stage.as_str()) };
            let all = book.entries(&wanted, false)?;
            let last = all.iter().map(|entry| &entry.meta).rfind(|meta| meta.kind == Kind::BundleDelivered);
            let of = format!("{}@{stage}", unit_of(bundle));
            last.map(|last| last.number).ok_or_else(|| {
                Trouble::usage(format!("`{of}` was never delivered"))
                    .help("`cledger history` tells what was, and where")
            })?
        }
    };
    let mut meta = record_of(book, bundle, stage.as_str(), number)?;
    called_now(&opened.ledger, &mut meta);
    Ok(meta.members.into_iter().filter_map(|member| Some((member.unit, member.number?))).collect())
}

/// What stands in the daybook for a bundle where a unit's name may stand.
pub(crate) fn unit_of(bundle: &Name) -> String {
    format!("{}{bundle}", Bundle::WORD)
}

/// The record of a bundle in a stage with this number.
pub(crate) fn record_of(
    book: &mut dyn Daybook,
    bundle: &Name,
    stage: &str,
    number: u64,
) -> Result<Meta, Trouble> {
    let of = unit_of(bundle);
    let wanted = Wanted { beside: Some(true), number: Some(number), ..Wanted::of(&of, stage) };
    let found = book.entries(&wanted, false)?.pop().filter(|entry| entry.meta.kind == Kind::BundleDelivered);
    found.map(|entry| entry.meta).ok_or_else(|| {
        Trouble::usage(format!("there is no delivery `{of}@{stage}:{number}`"))
            .help(format!("`cledger history {of}@{stage}` lists them"))
    })
}
