//! What differs as meant between two sides that only have names and values, as deliveries have.

use cledger_core::compare::{Difference, Named, mark_meant, named};
use cledger_core::model::Subject;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::value::{Held, Value};

use crate::ledgers::ledger;

const CONTRACT: &str = "[variables.host]\nvary = \"must\"\n[variables.room]\n\
     [variables.page]\ndefault = \"http://${host}/${room}\"\n[variables.title]\ndefault = \"at ${page}\"\n";

/// How each name stands, in the order of names, where these values were delivered to dev and test.
fn differences(dev: &[(&str, &str)], test: &[(&str, &str)]) -> Vec<(String, Difference)> {
    let ledger = ledger(&[
        ("units/desk.toml", CONTRACT),
        ("stages/dev.toml", "[units.desk]\nhost = \"d.example\"\nroom = \"a\"\n"),
        ("stages/test.toml", "[units.desk]\nhost = \"t.example\"\nroom = \"a\"\n"),
    ]);
    let side = |values: &[(&str, &str)]| -> Vec<Named> {
        let of = |(name, value): &(&str, &str)| Named {
            name: vec![(*name).to_owned()],
            value: Some(Held::new(Value::text(value), false)),
            is_bare: false,
        };
        values.iter().map(of).collect()
    };
    let mut compared = named(side(dev), side(test), false);
    let resolver = Resolver::new(&ledger, &Unfetched, &[]);
    let unit = ledger.unit_id("desk").unwrap();
    let in_stage = |name: &str| (Subject::Unit(unit, None), ledger.stage_id(name).unwrap());
    let (dev, test) = (in_stage("dev"), in_stage("test"));
    mark_meant(&mut resolver.session(Some(unit)), &mut compared, dev, test);
    compared.iter().map(|one| (one.name(), one.difference)).collect()
}

#[test]
fn what_one_text_makes_of_what_is_meant_to_differ_is_meant_and_nothing_else() {
    use Difference::{AsMeant, Differs, Same};
    let dev = [
        ("host", "d.example"),
        ("page", "http://d.example/a"),
        ("room", "a"),
        ("title", "at http://d.example/a"),
    ];
    let test = [
        ("host", "t.example"),
        ("page", "http://t.example/a"),
        ("room", "a"),
        ("title", "at http://t.example/a"),
    ];
    let with = |at: usize, value| {
        let mut test = test;
        test[at].1 = value;
        test
    };
    for (test, expected) in [
        (test, [AsMeant, AsMeant, Same, AsMeant]),
        // Set by hand then, and made by the text today.
        (with(1, "http://u.example/a"), [AsMeant, Differs, Same, Differs]),
        // A part differs that is not meant to.
        (with(2, "b"), [AsMeant, Differs, Differs, Differs]),
        // Nothing that it is made of differs.
        (with(0, "d.example"), [Same, Differs, Same, Differs]),
    ] {
        let told: Vec<Difference> = differences(&dev, &test).into_iter().map(|(_, how)| how).collect();
        assert_eq!(told, expected, "{test:?}");
    }
}
