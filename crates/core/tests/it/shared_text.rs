//! Text of shared entries, as the units see it that use them.

use cledger_core::model::{StageId, Subject};
use cledger_core::resolve::{FieldId, Resolver, Unfetched};
use cledger_core::value::Value;

use crate::ledgers::ledger;

const LEDGER: &str = "format = 1\nname = \"Small\"\n[[group]]\nname = \"common\"\n\
     [[stage]]\nname = \"test\"\nclass = \"test\"\ngroups = [\"common\"]\n";

const SHARED: &str = "[variables.host]\ndefault = \"h\"\n[variables.base]\ndefault = \"on ${host}\"\n\
     [variables.all]\ndefault = \"${base}: ${quays}\"\n\
     [tables.quays]\ncolumns = [\"k\", \"v\"]\nkey = \"k\"\nrequired = false\n";

/// What a unit says of its own counts in shared text that names it, however far away, and also where it is but rows.
#[test]
fn shared_text_holds_what_a_unit_says_of_its_own() {
    let rows = |row: &str| Some(format!("on h: {{{row}}}"));
    let own_row = r#""a":{"k":"a","v":"x"}"#;
    for (stage, group, of_unit, of_another) in [
        ("", "", None, None),
        ("[shared]\nquays = {}\n", "", rows(""), rows("")),
        ("[shared]\nquays = {}\n[units.desk]\nhost = \"d\"\n", "", Some("on d: {}".to_owned()), rows("")),
        ("", "[units.desk]\nquays.a = { v = \"x\" }\n", rows(own_row), None),
        // The stage's own word for all comes behind that of the group for one, and leaves its rows.
        ("[shared]\nquays = {}\n", "[units.desk]\nquays.a = { v = \"x\" }\n", rows(own_row), rows("")),
    ] {
        let uses = "uses = [\"host\", \"base\", \"all\", \"quays\"]\n";
        let ledger = ledger(&[
            ("ledger.toml", LEDGER),
            ("shared.toml", SHARED),
            ("units/desk.toml", uses),
            ("units/gate.toml", uses),
            ("stages/test.toml", stage),
            ("groups/common.toml", group),
        ]);
        let resolver = Resolver::new(&ledger, &Unfetched, &[]);
        for (unit, expected) in [("gate", of_another), ("desk", of_unit)] {
            let subject = Subject::Unit(ledger.unit_id(unit).unwrap(), None);
            let slot = ledger.slots(subject).all().find(|slot| ledger.field_name(subject, *slot) == "all");
            let field = FieldId { subject, stage: StageId(0), slot: slot.unwrap() };
            let outcome = resolver.session(None).outcome(field);
            let value = outcome.value().and_then(|value| value.expose()).map(Value::to_text);
            assert_eq!(value.map(String::from), expected, "{unit}, {stage}, {group}");
        }
    }
}
