//! What a unit is rendered to, before any format writes it.

use cledger_core::model::{StageId, Subject};
use cledger_core::render::rendering;
use cledger_core::resolve::{Resolver, Unfetched};

use crate::ledgers::ledger;

#[test]
fn outputs_have_the_fields_that_they_are_for_and_know_their_secrets() {
    let ledger = ledger(&[
        (
            "units/desk.toml",
            "[variables.a]\ndefault = \"1\"\n[variables.pin]\nsecret = true\nrequired = false\n\
             [variables.dsn]\ndefault = \"x:${pin}\"\n[variables.none]\nrequired = false\n\
             [[output]]\npath = \"all.env\"\nformat = \"dotenv\"\n\
             [[output]]\npath = \"open.json\"\nformat = \"json\"\nexcept = [\"pin\", \"dsn\"]\n\
             [[output]]\npath = \"some.json\"\nformat = \"json\"\nonly = [\"dsn\"]\n",
        ),
        ("stages/dev.toml", "[units.desk]\npin = \"plover\"\n"),
    ]);
    let resolver = Resolver::new(&ledger, &Unfetched, &[]);
    let unit = ledger.unit_id("desk").unwrap();
    let subject = Subject::Unit(unit, None);
    let made = rendering(&mut resolver.session(Some(unit)), subject, StageId(0));
    assert!(made.gaps.is_empty() && made.unreadable.is_empty());
    let outputs: Vec<(&str, Vec<String>, bool)> = made
        .outputs
        .iter()
        .map(|it| (it.path.as_str(), it.values.keys().map(|name| name.join(".")).collect(), it.is_secret()))
        .collect();
    let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    assert_eq!(
        outputs,
        [
            ("all.env", names(&["A", "DSN", "PIN"]), true),
            ("open.json", names(&["a"]), false),
            // A reference to a secret makes a secret.
            ("some.json", names(&["dsn"]), true),
        ]
    );
    // In a stage without the secret the text that refers to it has no value.
    let made = rendering(&mut resolver.session(Some(unit)), subject, StageId(1));
    let gaps: Vec<String> = made.gaps.iter().map(|gap| format!("{} {}", gap.code, gap.address)).collect();
    assert_eq!(gaps, ["missing-value desk/dsn@test"]);
    assert!(made.outputs.iter().any(|output| output.lacking.values().any(|lacking| lacking.may_be_secret)));
}
