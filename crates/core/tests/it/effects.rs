//! What a change of a ledger does to effective values.

use cledger_core::effects::effects;
use cledger_core::resolve::{Resolver, Unfetched};

use crate::ledgers::ledger;

/// The addresses whose values change from one set of files to another.
fn changed(before: &[(&str, &str)], after: &[(&str, &str)]) -> Vec<String> {
    let (before, after) = (ledger(before), ledger(after));
    let [one, other] = [&before, &after].map(|ledger| Resolver::new(ledger, &Unfetched, &[]));
    effects(&one, &other).iter().map(|effect| effect.address.to_string()).collect()
}

#[test]
fn effects_follow_references_layers_and_units() {
    const DESK: (&str, &str) = (
        "units/desk.toml",
        "uses = [\"line\"]\n[variables.a]\ndefault = \"${b}!\"\n[variables.b]\ndefault = \"1\"\n[variables.c]\ndefault = \"x ${line}\"\n",
    );
    const GATE: (&str, &str) = ("units/gate.toml", "[variables.a]\ndefault = \"${desk/a@dev}\"\n");
    const LINE: (&str, &str) = ("shared.toml", "[variables.line]\ndefault = \"one\"\n");
    let base = [DESK, GATE, LINE];
    for (file, text, expected) in [
        ("stages/test.toml", "", &[][..]),
        ("stages/test.toml", "[units.desk]\nb = \"1\"\n", &[]),
        ("stages/test.toml", "[units.desk]\nb = \"2\"\n", &["desk/a@test", "desk/b@test"]),
        (
            "stages/dev.toml",
            "[units.desk]\nb = \"2\"\n",
            &["desk/a@dev", "desk/b@dev", "gate/a@dev", "gate/a@test", "gate/a@prod"],
        ),
        ("stages/prod.toml", "[shared]\nline = \"two\"\n", &["desk/line@prod", "desk/c@prod"]),
        ("stages/prod.toml", "[units.desk]\nline = \"two\"\n", &["desk/line@prod", "desk/c@prod"]),
        ("units/mast.toml", "stages = [\"dev\"]\n[variables.m]\ndefault = \"1\"\n", &["mast/m@dev"]),
    ] {
        let after: Vec<_> = base.into_iter().chain([(file, text)]).collect();
        let mut told = changed(&base, &after);
        let mut expected: Vec<String> = expected.iter().map(|address| (*address).to_owned()).collect();
        told.sort();
        expected.sort();
        assert_eq!(told, expected, "{file}: {text}");
    }
}

/// One text can come to something else: by another declaration, or by what it leads to.
#[test]
fn what_is_written_alike_is_not_taken_to_be_the_same_for_that() {
    const LINE: &str = "[variables.line]\ndefault = \"one\"\n";
    let asks = |more: &str| format!("[variables.ask]\n{more}default = \"${{line}}\"\n");
    let (owned, used) = (|text: &str| LINE.replace("one", text), "uses = [\"line\"]\n");
    let chain = |from: &str| {
        let steps = (1..=40).map(|at| format!("[variables.v{at}]\ndefault = \"${{v{}}}\"\n", at - 1));
        format!("[variables.v0]\ndefault = \"{from}\"\n{}", steps.collect::<String>())
    };
    let circle = "[variables.v0]\ndefault = \"${v1}\"\n[variables.v1]\ndefault = \"${v0}\"\n";
    let json = |this: &str| format!("[variables.j]\n{this}default = '{{ \"${{line}}\": 1 }}'\n");
    for (before, after, expected) in [
        (asks("") + &owned("one"), asks("") + &owned("one"), 0),
        (asks("") + &owned("one"), asks("") + &owned("two"), 2),
        (asks("") + &owned("one"), asks("secret = true\n") + &owned("one"), 1),
        (format!("{used}{}", asks("")), asks("") + &owned("one"), 0),
        (format!("{used}{}", asks("")), asks("") + &owned("two"), 2),
        (json("") + &owned("one"), json("type = \"json\"\n") + &owned("one"), 1),
        (chain("1"), chain("1"), 0),
        (chain("1"), chain("2"), 41),
        (circle.to_owned(), circle.to_owned(), 0),
        (circle.to_owned(), circle.replace("${v0}", "1"), 2),
    ] {
        let [one, other] = [&before, &after].map(|it| [("shared.toml", LINE), ("units/desk.toml", it)]);
        let told = changed(&one, &other);
        // The ledger has three stages.
        assert_eq!(told.len(), expected * 3, "{before}\n{after}\n{told:?}");
    }
}

#[test]
fn a_secret_that_changes_is_told_without_its_value() {
    const DESK: (&str, &str) = (
        "units/desk.toml",
        "[variables.pin]\nsecret = true\nrequired = false\n[variables.dsn]\ndefault = \"x:${pin}\"\n",
    );
    let before = ledger(&[DESK, ("stages/dev.toml", "[units.desk]\npin = \"plover\"\n")]);
    let after = ledger(&[DESK, ("stages/dev.toml", "[units.desk]\npin = \"whimbrel\"\n")]);
    let [one, other] = [&before, &after].map(|ledger| Resolver::new(ledger, &Unfetched, &[]));
    let told = effects(&one, &other);
    assert_eq!(told.len(), 2);
    let text = format!("{told:?}");
    assert!(!text.contains("plover") && !text.contains("whimbrel"), "{text}");
}
