//! `fill`: what a stage lacks, listed and taken from a form.

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, written};

#[test]
fn what_a_stage_lacks_is_listed_and_filled_by_a_form() {
    let ledger = TestLedger::with(SMALL).with_keys(&["dev", "prod"]);
    ledger.write(
        "units/crane.toml",
        "[variables.reach]\nabout = \"in metres\"\ntype = \"integer\"\n[variables.pin]\nsecret = true\n\
         [variables.text]\ndefault = \"${reach} m\"\n[variables.spare]\nrequired = false\n\
         [instances.east]\n",
    );
    ledger.write(
        "stages/dev.toml",
        ledger.read("stages/dev.toml") + "[units.crane]\nreach = 12\npin = \"tide-1\"\n",
    );
    let before = ledger.read("stages/prod.toml");
    // Once for a unit and its instances, and not what only follows from it.
    ledger.run("fill @prod crane").code(1).stderr_eq("").stdout_eq(str![[r#"
lacks a value     it is                      elsewhere
crane/pin@prod    a secret
crane/reach@prod  a whole number; in metres  12 in dev

missing: 2 values. --write asks for each, --answers FILE writes a form.

"#]]);
    let (out, _) =
        written(&ledger.run("fill @prod crane --answers form.toml --write --countersign prod").code(1));
    assert!(out.contains("Wrote the form for 1 value to form.toml."), "{out}");
    assert_eq!(ledger.read("stages/prod.toml"), before);
    let form = ledger.read("form.toml");
    assert!(form.contains("# crane/pin@prod is a secret") && form.contains("in dev: 12\n"), "{form}");
    ledger.write("form.toml", form.replace("\"crane/reach@prod\" = \"\"", "\"crane/reach@prod\" = \"far\""));
    let (_, err) =
        written(&ledger.run("fill @prod crane --answers form.toml --write --countersign prod").code(2));
    assert!(err.starts_with("error: the value for `crane/reach@prod` is not a whole number"), "{err}");
    ledger.write("form.toml", form.replace("\"crane/reach@prod\" = \"\"", "\"crane/reach@prod\" = 14"));
    ledger.run("fill @prod crane --answers form.toml --write").code(4);
    let (out, _) = written(&ledger.run("fill @prod crane --answers form.toml").code(1));
    assert!(out.contains("Nothing is written yet") && ledger.read("stages/prod.toml") == before, "{out}");
    ledger.run("fill @prod crane --answers form.toml --write --countersign prod").code(1);
    ledger.run("get crane+east/text@prod").code(0).stdout_eq("14 m\n");
    ledger.command("set crane/pin@prod --stdin --countersign prod").stdin("tide-2").assert().code(0);
    ledger.run("fill @prod crane").code(0).stdout_eq("filled: no value lacks there.\n");
    for (arguments, message) in [
        ("@prod gate", "`gate@prod` covers no unit of the ledger"),
        ("crane@prod", "`crane@prod` names no stage"),
        ("@prd", "there is no stage `prd`"),
    ] {
        let (_, err) = written(&ledger.run(&format!("fill {arguments}")).code(2));
        assert!(err.contains(message), "{err}");
    }
}
