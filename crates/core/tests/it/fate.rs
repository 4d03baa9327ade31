//! What becomes of a field that moves from one stage up to the next.

use cledger_core::address::Address;
use cledger_core::kept::Kept;
use cledger_core::model::{StageId, Subject};
use cledger_core::promotion::{Candidate, Fate, Origin, Stays, fate};

use crate::ledgers::ledger;

const CONTRACT: &str = "[variables.hold]\nrequired = false\n[variables.region]\nrequired = false\n\
     [variables.must]\nvary = \"must\"\nrequired = false\n[variables.never]\nvary = \"never\"\nrequired = false\n\
     [variables.own]\ndistinct = true\nrequired = false\n[variables.pin]\nsecret = true\nrequired = false\n";

#[test]
fn what_may_be_carried_and_why_the_rest_stays() {
    let ledger = ledger(&[("units/desk.toml", CONTRACT)]);
    let open = |text: &str| Some(Kept::new(text.to_owned().into(), false));
    let secret = |text: &str| Some(Kept::new(text.to_owned().into(), true));
    let subject = Subject::Unit(ledger.unit_id("desk").unwrap(), None);
    let prod = StageId(2);
    for (field, below, above, origin, named, expected) in [
        ("hold", open("1"), open("1"), Origin::Set, false, Fate::Same),
        ("hold", None, None, Origin::Default, false, Fate::Same),
        ("hold", open("1"), open("2"), Origin::Set, false, Fate::MayBeCarried),
        ("hold", open("1"), None, Origin::Set, false, Fate::MayBeCarried),
        ("hold", None, open("2"), Origin::Set, false, Fate::Stays(Stays::OnlyAbove)),
        // One side at its default is a difference like any other.
        ("hold", open("1"), open("2"), Origin::Default, false, Fate::MayBeCarried),
        ("hold", open("1"), open("2"), Origin::Made, true, Fate::Stays(Stays::Made)),
        ("never", open("1"), open("2"), Origin::Set, true, Fate::Follows),
        ("must", open("1"), open("2"), Origin::Set, true, Fate::Stays(Stays::MustVary)),
        ("own", open("1"), open("2"), Origin::Set, true, Fate::Stays(Stays::Distinct)),
        ("region", open("1"), open("2"), Origin::Set, true, Fate::Stays(Stays::Own)),
        ("pin", secret("1"), secret("2"), Origin::Set, false, Fate::Stays(Stays::Secret)),
        ("pin", secret("1"), secret("2"), Origin::Set, true, Fate::MayBeCarried),
        // A value may be a secret though its field is not declared as one: by either side.
        ("hold", secret("1"), open("2"), Origin::Set, false, Fate::Stays(Stays::Secret)),
        ("hold", open("1"), secret("2"), Origin::Set, false, Fate::Stays(Stays::Secret)),
        // Nobody can tell that two secrets are the same which are not readable.
        (
            "pin",
            Some(Kept::unreadable()),
            Some(Kept::unreadable()),
            Origin::Set,
            false,
            Fate::Stays(Stays::Secret),
        ),
    ] {
        let slot = ledger.find_slot(subject, field, None).unwrap();
        let address = Address::parse(&format!("desk/{field}@prod")).unwrap();
        let candidate = Candidate {
            address: &address,
            declaration: ledger.field(subject, slot).1,
            below: below.as_ref(),
            above: above.as_ref(),
            is_missing: false,
            origin,
            origin_above: Origin::Set,
        };
        assert_eq!(fate(&ledger, prod, &candidate, named), expected, "{field} {origin:?}");
        if origin == Origin::Default && expected != Fate::Same {
            let by_default = Candidate { origin_above: Origin::Default, ..candidate };
            assert_eq!(fate(&ledger, prod, &by_default, named), Fate::Follows, "{field}");
        }
        let missing = Candidate { is_missing: true, ..candidate };
        assert_eq!(fate(&ledger, prod, &missing, named), Fate::Needed);
    }
}
