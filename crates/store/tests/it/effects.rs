//! What a change is said to do to effective values is what becomes of them, resolved one by one; and nothing that
//! depends on a setting is left out.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::effects::effects;
use cledger_core::impact::{Affected, Cause, depending_on, impact};
use cledger_core::model::Ledger;
use cledger_core::resolve::Resolver;
use cledger_core::search::{Conditions, settings};
use proptest::prelude::*;

use crate::agreement::{Pretended, everything, read_all, without_places};
use crate::naive::{Key, Out};
use crate::random::{Description, Tape, Who};
use crate::written::write;

/// All that units have, with the layer that each value came from left out.
fn values(ledger: &Ledger) -> BTreeMap<String, Out> {
    let of_units = without_places(everything(ledger, &[])).into_iter();
    let of_units = of_units.filter(|(key, _)| key.who != Who::Shared);
    of_units.map(|(key, out)| (address(&key), without_layer(out))).collect()
}

fn without_layer(out: Out) -> Out {
    let nowhere = ("", None, None);
    match out {
        Out::Value { value, secret, .. } => Out::Value { value, secret, from: nowhere },
        Out::Absent(_) => Out::Absent(nowhere),
        other => other,
    }
}

fn address(key: &Key) -> String {
    let owner = match &key.who {
        Who::Shared => "shared".to_owned(),
        Who::Unit(unit, None) => unit.clone(),
        Who::Unit(unit, Some(instance)) => format!("{unit}+{instance}"),
    };
    let field = key.field.as_ref().map(|field| format!(".{field}")).unwrap_or_default();
    format!("{owner}/{}{field}@{}", key.entry, key.stage)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, ..ProptestConfig::default() })]

    #[test]
    fn effects_are_what_comes_to_something_else(
        choices in prop::collection::vec(any::<u16>(), 1..900),
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u16>()), 1..4),
    ) {
        let mut others = choices.clone();
        for (at, choice) in changes {
            let at = at.index(others.len());
            others[at] = choice;
        }
        let [before, after] =
            [&choices, &others].map(|it| read_all(&write(&Description::from_tape(&mut Tape::new(it))).0));
        let [one, other] = [&before, &after].map(|ledger| Resolver::new(ledger, &Pretended, &[]));
        let told: BTreeSet<String> =
            effects(&one, &other).iter().map(|effect| effect.address.to_string()).collect();
        let (old, new) = (values(&before), values(&after));
        let addresses: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
        let differing: BTreeSet<String> =
            addresses.into_iter().filter(|it| old.get(*it) != new.get(*it)).cloned().collect();
        prop_assert_eq!(told, differing);
    }

    /// Whatever depends on what stands in a setting is told of it, in whichever stage: those that cannot are passed over.
    #[test]
    fn all_that_depends_on_a_setting_is_affected_by_it(choices in prop::collection::vec(any::<u16>(), 200..900)) {
        let ledger = read_all(&write(&Description::from_tape(&mut Tape::new(&choices))).0);
        let resolver = Resolver::new(&ledger, &Pretended, &[]);
        for found in settings(&ledger, &Pretended, &Conditions::default()).iter().take(24) {
            let Some(place) = found.setting.map(|setting| setting.place) else { continue };
            let cause = Cause { subject: found.subject, slot: found.slot, written: found.written };
            let fields = |affected: Vec<Affected>| affected.iter().map(|it| it.field).collect::<BTreeSet<_>>();
            let (told, depending) = (fields(impact(&resolver, cause)), fields(depending_on(&resolver, place)));
            prop_assert!(depending.is_subset(&told), "{:?}: {:?}", cause, &depending - &told);
        }
    }
}
