//! How the findings of two ledgers differ: as one is, and as it was or will be.

use std::collections::BTreeSet;

use cledger_core::findings::{self, Finding};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use jiff::civil::Date;

use crate::change::concerned::Concerns;

/// The findings that only the second ledger has, and those that only the first has, among what a change concerns.
/// `today` is the day from which last days are counted; without it, none is over. Where `stages` says in which values can
/// change, those of others are not looked at.
pub(crate) fn differing(
    (before, after): (&Resolver<'_>, &Resolver<'_>),
    concerns: &Concerns,
    stages: Option<&BTreeSet<Name>>,
    today: Option<Date>,
) -> (Vec<Finding>, Vec<Finding>) {
    let check = |resolver: &Resolver<'_>| match concerns {
        Concerns::Rules(rules) => findings::check_rules(resolver, rules).findings,
        Concerns::Patterns => findings::check_patterns(resolver).findings,
        Concerns::All | Concerns::Units(_) => findings::check(resolver, &[], today).findings,
    };
    let [old, new] = match concerns {
        Concerns::Units(units) => findings::check_both((before, after), units, stages, today),
        _ => [check(before), check(after)],
    };
    apart(&old, &new)
}

/// What only the new ones have, and what only the old ones have.
fn apart(old: &[Finding], new: &[Finding]) -> (Vec<Finding>, Vec<Finding>) {
    let not_in = |list: &[Finding], others: &[Finding]| -> Vec<Finding> {
        let known: BTreeSet<_> = others.iter().map(Finding::key).collect();
        list.iter().filter(|one| !known.contains(&one.key())).cloned().collect()
    };
    (not_in(new, old), not_in(old, new))
}
