//! What a delivery is refused for: no reason, stages out of order, chores not done, edits by hand, outlets that
//! cannot be looked at, somebody else meanwhile.

use cledger_core::delivery::{Arrived, Event, drafted, first_not_done, lacking_before};
use cledger_core::model::{Class, Ledger};
use cledger_store::daybook::{Daybook, Kind, Meta, Wanted};
use cledger_store::{commit_of, is_behind_us};

use crate::bringing::at::{AtName, AtOutlet, AtPart};
use crate::bringing::whom::Whom;
use crate::daybook;
use crate::deliver::asked::ToDeliver;
use crate::deliver::by_hand;
use crate::deliver::plan::Plan;
use crate::deliver::recorded::{arrived, past};
use crate::opened::Opened;
use crate::trouble::Trouble;

/// The stages before it have had a delivery of the same contract, where the unit belongs to them.
pub(crate) fn order(book: &mut dyn Daybook, ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    if plan.again.is_some() {
        return Ok(());
    }
    let owner = &plan.owner;
    let lacking = lacking_before(ledger, plan.subject, plan.stage, |before| {
        let entries = book.entries(&Wanted::of(owner, ledger.stage(before).name.as_str()), false)?;
        let metas = || entries.iter().map(|entry| &entry.meta);
        let last = metas().rfind(|meta| meta.kind.is_standing());
        let delivered = Event::Delivered { contract: &plan.contract };
        // What was withdrawn since, or is there in part, does not count.
        let has_it = |meta: &Meta| {
            let past = past(meta);
            past.event == delivered
                && meta.kind == Kind::Delivered
                && past.arrived == Arrived::Whole
                && !by_hand::is_awaited(meta, metas())
        };
        Ok::<bool, Trouble>(last.is_some_and(has_it))
    })?;
    let Some(before) = lacking else { return Ok(()) };
    let (name, stage) = (&ledger.stage(before).name, &ledger.stage(plan.stage).name);
    let message =
        format!("`{owner}` comes to `{stage}` after `{name}`, which has had no delivery of this contract");
    Err(Trouble::refused(message)
        .help(format!("deliver {owner}@{name} first, or add --skip-stages --why TEXT")))
}

/// Something of it has a place to go to: what nobody ever brings is not delivered.
pub(crate) fn somewhere(ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    if !plan.is_nowhere() {
        return Ok(());
    }
    let (owner, stage) = (&plan.owner, &ledger.stage(plan.stage).name);
    Err(Trouble::refused(format!(
        "no outlet of `{stage}` takes anything of `{owner}`: it cannot be delivered"
    ))
    .help("declare an [[outlet]] in ledger.toml, or an [[output]] in the unit's contract"))
}

/// What was delivered last comes from a revision that this clone has: it would bring older values otherwise.
pub(crate) fn merged(opened: &Opened, asked: &ToDeliver, plan: &Plan) -> Result<(), Trouble> {
    let last = plan.last.as_ref().map(|(record, _)| &record.meta);
    let Some(meta) = last.filter(|_| !(asked.not_merged && asked.consent.why.is_some())) else {
        return Ok(());
    };
    let Some(revision) = &meta.revision else { return Ok(()) };
    if is_behind_us(&opened.folder, revision) != Some(false) {
        return Ok(());
    }
    let Meta { unit, stage, number, .. } = meta;
    let revision = revision.get(..12).unwrap_or(revision);
    let message =
        format!("delivery {number} of `{unit}@{stage}` was made at {revision}, which is not merged here");
    Err(Trouble::refused(message).help(format!(
        "pull first; or, if that is meant: cledger deliver {unit}@{stage} --not-merged --why TEXT --write"
    )))
}

/// What goes into production is in a commit, or somebody says why not.
pub(crate) fn committed(opened: &Opened, asked: &ToDeliver, plan: &Plan) -> Result<(), Trouble> {
    let stage = opened.ledger.stage(plan.stage);
    let is_asked = stage.class == Class::Production && asked.consent.why.is_none() && !asked.brings_earlier();
    if !is_asked || commit_of(&opened.folder).is_none_or(|(_, uncommitted)| !uncommitted) {
        return Ok(());
    }
    let message = format!("the ledger has changes that are in no commit, and `{}` is production", stage.name);
    Err(Trouble::refused(message).help("commit them, or say why not: --why TEXT"))
}

/// What came to a part only is finished or put back before anything else is brought.
pub(crate) fn in_part(ledger: &Ledger, plan: &Plan, is_settled: bool) -> Result<(), Trouble> {
    let Some((record, _)) = &plan.last else { return Ok(()) };
    let Meta { number, kind, .. } = record.meta;
    if is_settled || arrived(&record.meta) == Arrived::Whole || kind == Kind::Withdrawn {
        return Ok(());
    }
    let (owner, stage) = (&plan.owner, &ledger.stage(plan.stage).name);
    let message = format!("delivery {number} of `{owner}@{stage}` came to a part of its outlets only");
    let deliver = format!("cledger deliver {owner}@{stage} --write");
    Err(Trouble::refused(message).help(format!(
        "bring the rest of it: {deliver} --finish; or what was there before: {deliver} --put-back"
    )))
}

/// What must be done before the first delivery is done.
pub(crate) fn chores(book: &mut dyn Daybook, ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    let (owner, stage) = (&plan.owner, ledger.stage(plan.stage).name.as_str());
    let entries = book.entries(&Wanted::of(owner, stage), false)?;
    let past: Vec<_> = entries.iter().map(|entry| past(&entry.meta)).collect();
    let Some(chore) = first_not_done(ledger, plan.subject, plan.stage, &past) else { return Ok(()) };
    let message =
        format!("before the first delivery of `{owner}` to `{stage}` there is a chore: {}", chore.text);
    Err(Trouble::refused(message)
        .help(format!("do it, and then: cledger chores done {owner}@{stage} \"{}\"", chore.text)))
}

/// The reason that is given, or made of what changes.
pub(crate) fn reason(given: Option<&str>, draft: bool, plan: &Plan) -> Result<String, Trouble> {
    let drafted = || match drafted(&plan.changes()) {
        text if !text.is_empty() => text,
        _ if plan.outlets.iter().all(AtOutlet::is_as_it_should_be) => {
            "What was brought was not in effect.".to_owned()
        }
        _ => "The outlets had other values.".to_owned(),
    };
    match given {
        Some(why) => Ok(daybook::reason(why)?.to_owned()),
        None if draft => Ok(drafted()),
        None => {
            let message = format!("the delivery of `{}` has no reason", plan.owner);
            Err(Trouble::usage(message)
                .help(format!("add --why TEXT, or --draft-why, which would say: {}", drafted())))
        }
    }
}

/// Refuses to go on where somebody else has delivered or withdrawn since the record with this number was `seen`. It
/// is asked while the unit is held.
pub(crate) fn unchanged(
    book: &mut dyn Daybook,
    (owner, stage): (&str, &str),
    seen: Option<u64>,
) -> Result<(), Trouble> {
    let last = book.entries(&Wanted::last_of(owner, stage), false)?.pop();
    if last.map(|entry| entry.meta.number) == seen {
        return Ok(());
    }
    let message = format!("somebody else has delivered `{owner}@{stage}` meanwhile");
    Err(Trouble::outside(message).help("look at what changes now, and try again"))
}

/// Refuses to bring anything where an outlet cannot be looked at: nobody could tell what would be lost there.
pub(crate) fn reached<'p>(
    whom: &Whom,
    ledger: &Ledger,
    mut outlets: impl Iterator<Item = &'p AtOutlet>,
) -> Result<(), Trouble> {
    let Some((outlet, reason)) = outlets.find_map(|outlet| Some((outlet, outlet.reason()?))) else {
        return Ok(());
    };
    let (owner, stage) = (&whom.owner, &ledger.stage(whom.stage).name);
    let name = &outlet.outlet;
    if outlet.refused.is_some() {
        let message =
            format!("outlet `{name}` does not take `{owner}@{stage}`, and nothing is brought: {reason}");
        return Err(Trouble::outside(message).help(format!(
            "set values that the table takes (cledger set), or mend the outlet: cledger change outlet:{name}"
        )));
    }
    let message = format!(
        "what outlet `{name}` has of `{owner}@{stage}` cannot be looked at, and nothing is brought: {reason}"
    );
    Err(Trouble::outside(message).help(format!("`cledger outlet list @{stage}` says which outlets answer")))
}

/// Refuses to overwrite or delete what was edited by hand, or was there before, unless that is granted.
pub(crate) fn edits<'p>(
    whom: &Whom,
    ledger: &Ledger,
    outlets: impl Iterator<Item = &'p AtOutlet>,
    is_granted: bool,
) -> Result<(), Trouble> {
    if is_granted {
        return Ok(());
    }
    let blocking: Vec<(&AtOutlet, &AtPart, &AtName)> =
        outlets.flat_map(|outlet| outlet.blocking().map(move |(part, name)| (outlet, part, name))).collect();
    let Some(&(outlet, part, name)) = blocking.first() else { return Ok(()) };
    let (owner, stage) = (&whom.owner, &ledger.stage(whom.stage).name);
    let shown = |part: &AtPart, name: &AtName| name.shown().or_else(|| part.path.clone()).unwrap_or_default();
    let first = shown(part, name);
    let more = match blocking.len() - 1 {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let what = match outlet.since {
        Some(number) => format!("edited by hand since delivery {number}"),
        None => "there before the first delivery".to_owned(),
    };
    let message =
        format!("`{owner}@{stage}` would lose what is {what}: `{first}`{more} at outlet {}", outlet.outlet);
    let takes = name.address.as_deref().map_or_else(
        || format!("`cledger drift {owner}@{stage}` shows it"),
        |address| format!("take it into the ledger, and deliver that: cledger drift --take {address}"),
    );
    let help = format!("{takes}; leave it this once: --leave {first}; or overwrite it: --overwrite-edits");
    Err(Trouble::refused(message).help(help))
}
