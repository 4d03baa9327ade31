//! Whether what is delivered is as it was tested in the stages before.

use cledger_core::address::Address;
use cledger_core::delivery::{Arrived, may_differ};
use cledger_core::model::{FieldPatterns, LayerId, Ledger, StageId, Subject};
use cledger_store::daybook::{Content, Daybook, Entry, Kind, Wanted, bound_to_digests};

use crate::deliver::asked::ToDeliver;
use crate::deliver::by_hand;
use crate::deliver::plan::{Plan, Untested};
use crate::deliver::recorded::{Planner, arrived};
use crate::meant::unit_of;
use crate::trouble::Trouble;

/// Compares a content with what was delivered last, as a whole, to each stage before this one to which the unit
/// belongs. Where nothing was, there is nothing to compare with.
pub(crate) fn untested(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    (subject, stage): (Subject, StageId),
    content: &Content,
) -> Result<Untested, Trouble> {
    let (ledger, mut untested) = (planner.resolver.ledger(), Untested::new());
    let Subject::Unit(unit, instance) = subject else { return Ok(untested) };
    let mut session = planner.resolver.session(unit_of(subject));
    let owner = ledger.owner(subject).to_string();
    for &before in &ledger.stage(stage).after {
        if !ledger.unit(unit).belongs_to(before, instance) {
            continue;
        }
        let name = ledger.stage(before).name.as_str();
        let Some(tested) = last_tested(book, &owner, name)? else { continue };
        let Some(digests) = tested.digests()? else { continue };
        let bound = bound_to_digests(&tested.meta.unit, &tested.meta.stage);
        let open = |text: &str| planner.keys.text(ledger, LayerId::Stage(before), text, &bound);
        let differing = digests.differing(&content.values, open);
        for field in differing.fields.into_iter().chain(differing.not_known) {
            let slot = ledger.slots(subject).all().find(|&slot| ledger.field_name(subject, slot) == field);
            let is_meant = slot.is_none_or(|slot| may_differ(&mut session, (subject, slot), (before, stage)));
            if !is_meant {
                untested.entry(field).or_default().insert(name.to_owned());
            }
        }
    }
    Ok(untested)
}

/// The last delivery of a unit to a stage that counts as a test: a whole one, that came whole.
fn last_tested(book: &mut dyn Daybook, owner: &str, stage: &str) -> Result<Option<Entry>, Trouble> {
    let entries = book.entries(&Wanted::of(owner, stage), true)?;
    let last = entries.iter().rev().find(|entry| {
        let meta = &entry.meta;
        meta.kind == Kind::Withdrawn
            || meta.kind == Kind::Delivered
                && !meta.only
                && arrived(meta) == Arrived::Whole
                && !by_hand::is_awaited(meta, entries.iter().map(|entry| &entry.meta))
    });
    Ok(last.cloned().filter(|entry| entry.meta.kind == Kind::Delivered))
}

/// The patterns of what somebody agrees to.
fn patterns(texts: &[String]) -> Result<FieldPatterns, Trouble> {
    let mut patterns = FieldPatterns::default();
    for text in texts {
        patterns.add(text).map_err(|_| {
            Trouble::usage(format!("`{text}` is no pattern of fields")).help("write ENTRY or ENTRY.FIELD")
        })?;
    }
    Ok(patterns)
}

/// Refuses patterns that cover nothing that is not as tested in any of these plans.
pub(crate) fn refuse_idle<'p>(
    asked: &ToDeliver,
    plans: impl Iterator<Item = &'p Plan> + Clone,
) -> Result<(), Trouble> {
    for text in &asked.untested {
        let alone = patterns(std::slice::from_ref(text))?;
        if !plans.clone().flat_map(|plan| plan.untested.keys()).any(|field| covers(&alone, field)) {
            let message = format!("--untested `{text}` covers nothing that is not as tested");
            return Err(Trouble::usage(message).help("leave it out"));
        }
    }
    Ok(())
}

/// Refuses to deliver to a stage that asks for it what is not as it was tested, unless somebody agrees to just that.
pub(crate) fn granted(asked: &ToDeliver, ledger: &Ledger, plan: &Plan) -> Result<(), Trouble> {
    let patterns = patterns(&asked.untested)?;
    let stage = ledger.stage(plan.stage);
    if !stage.as_tested {
        return Ok(());
    }
    let open: Vec<&String> = plan.untested.keys().filter(|field| !covers(&patterns, field)).collect();
    let Some(first) = open.first() else { return Ok(()) };
    let more = if open.len() > 1 { format!(" and {} more", open.len() - 1) } else { String::new() };
    let tested: Vec<&str> = plan.untested[*first].iter().map(String::as_str).collect();
    let message = format!(
        "`{first}`{more} of `{}` is not in `{}` as it was delivered to {}",
        plan.owner,
        stage.name,
        tested.join(", ")
    );
    let fields: Vec<&str> = open.iter().map(|field| field.as_str()).collect();
    Err(Trouble::refused(message).help(format!(
        "deliver it there first; or agree to it: cledger deliver {}@{} --untested {} --why TEXT --write",
        plan.owner,
        stage.name,
        fields.join(",")
    )))
}

fn covers(patterns: &FieldPatterns, field: &str) -> bool {
    let address = Address::parse(&format!("x/{field}")).ok();
    let names = address.and_then(|address| Some((address.entry?, address.field)));
    names.is_some_and(|(entry, field)| {
        patterns.covers(entry.as_str(), field.as_ref().map(cledger_core::name::Name::as_str))
    })
}
