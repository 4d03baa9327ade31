//! Units that are live before the ledger knows them: captured, and adopted from where they are.

use std::fs;

use crate::test_ledger::{TestLedger, written};

const LEDGER: &str = "format = 1\nname = \"Small\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
     [[stage]]\nname = \"test\"\nclass = \"test\"\n\
     [[outlet]]\nname = \"berths\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"live/dev\"\n\
     [[outlet]]\nname = \"slips\"\nkind = \"directory\"\nstages = [\"test\"]\npath = \"live/test\"\n\
     [[outlet]]\nname = \"sheds\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"sheds/${unit.name}/etc\"\n";

/// Two stages, each with an outlet of its own name, in which two units lie that no contract knows.
fn live() -> TestLedger {
    let ledger = TestLedger::with([("ledger.toml", LEDGER)]);
    run(&ledger, "key identity", 0);
    run(&ledger, "key make @dev @test --write", 0);
    for (path, text) in [
        ("live/dev/desk/desk.env", "HOLD=5m\nPIN=low-tide-dev\nHOST=db.dev.example\n"),
        ("live/test/desk/desk.env", "HOLD=9m\nPIN=low-tide-test\nHOST=db.test.example\n"),
        ("live/dev/crane/etc/crane.json", "{\"arms\": [{\"reach\": 12}]}\n"),
        ("live/dev/Old Crane/crane.env", "ARMS=1\n"),
        ("sheds/winch/etc/winch.env", "ROPES=2\n"),
    ] {
        ledger.write(path, text);
    }
    fs::write(ledger.path("live/dev/crane/crane.jks"), b"\xff\xfe").unwrap();
    ledger
}

fn run(ledger: &TestLedger, arguments: &str, code: i32) -> (String, String) {
    let command = ledger.command(arguments).env("CLEDGER_IDENTITY", "../identity").env("CLEDGER_WHO", "ada");
    written(&command.assert().code(code))
}

#[test]
fn what_the_ledger_does_not_know_is_captured_and_what_is_not_is_said() {
    let ledger = live();
    let (out, _) = run(&ledger, "capture @dev --out all.json --why move", 1);
    for line in [
        "berths  directory  2      2                  0",
        "  berths: crane crane.jks: it is not UTF-8 text",
        "  berths: Old Crane: no unit can be called so",
        "sheds tells no names: of units that the ledger does not know, only those that you name are asked",
        "Captured in part to all.json.",
    ] {
        assert!(out.contains(line), "{out}");
    }
    let text = ledger.read("all.json");
    assert!(text.contains("\"why\": \"move\"") && !text.contains("low-tide"), "{text}");
    // Named one by one, lists and patterns; nothing of it is left out then.
    let (out, _) = run(&ledger, "capture @dev winch,desk --out some.json", 0);
    assert!(out.contains("sheds   directory  1      1                  1"), "{out}");
    let (out, _) = run(&ledger, "compare capture:some.json capture:all.json", 1);
    assert!(out.contains("winch winch.env ROPES") && out.contains("3 the same"), "{out}");
    for (units, what) in [("hoist", "hoist"), ("desk hoist", "hoist"), ("desk zz*", "zz*")] {
        let (_, err) = run(&ledger, &format!("capture @dev {units} --out none.json"), 2);
        assert!(err.contains(&format!("there is nothing of `{what}` in `dev` at berths, sheds")), "{err}");
    }
    fs::remove_dir_all(ledger.path("live/dev")).unwrap();
    let (_, err) = run(&ledger, "capture @dev hoist --out none.json", 3);
    assert!(err.contains("nobody can tell whether there is anything of `hoist`"), "{err}");
    assert!(!ledger.path("none.json").exists());
}

#[test]
fn a_capture_goes_to_its_folder_and_opens_elsewhere_by_its_passphrase() {
    let ledger = live();
    let (out, _) = run(&ledger, "capture @test", 0);
    let captured: Vec<_> =
        fs::read_dir(ledger.path("captures")).unwrap().map(|file| file.unwrap().path()).collect();
    assert!(captured.len() == 1 && out.contains("captures/test-2"), "{out}");
    let phrase = |ledger: &TestLedger, phrase: &str, arguments: &str, code| {
        let command = ledger.command(arguments).env("CLEDGER_PASSPHRASE", phrase);
        written(&command.assert().code(code))
    };
    phrase(&ledger, "neap", "capture @dev desk --passphrase --out by-phrase.json", 0);
    let elsewhere = TestLedger::with([("ledger.toml", LEDGER.replace("\"dev\"", "\"trial\"").as_str())]);
    elsewhere.write("by-phrase.json", ledger.read("by-phrase.json"));
    let adopt = "adopt desk trial=capture:by-phrase.json --plain-secrets --write";
    let (_, err) = phrase(&elsewhere, "spring", adopt, 4);
    assert!(err.contains("type its passphrase, or give it in CLEDGER_PASSPHRASE"), "{err}");
    phrase(&elsewhere, "neap", adopt, 0);
    assert!(elsewhere.read("stages/trial.toml").contains("low-tide-dev"));
}

#[test]
fn a_unit_is_adopted_from_outlets_with_other_names_in_each_stage() {
    let ledger = live();
    let adopt = "adopt desk dev=outlet:berths test=outlet:slips";
    let (out, _) = run(&ledger, &format!("{adopt} --write"), 0);
    assert!(out.contains("desk.env  dotenv  dev, test"), "{out}");
    assert!(out.contains("dev: what was found at its outlets is recorded"), "{out}");
    assert!(!ledger.read("units/desk.toml").contains("_2"));
    for (stage, there) in [("dev", "live/dev"), ("test", "live/test")] {
        run(&ledger, &format!("render desk@{stage} --out out/{stage}"), 0);
        let sorted = |path: String| {
            let text = ledger.read(&path);
            let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
            lines.sort();
            lines
        };
        assert_eq!(sorted(format!("out/{stage}/desk/desk.env")), sorted(format!("{there}/desk/desk.env")));
        run(&ledger, &format!("deliver desk@{stage} --write --why first"), 0);
    }
    let (out, _) = run(&ledger, adopt, 0);
    assert!(out.contains("nothing to do: desk is as its files are"), "{out}");
    let (out, _) = run(&ledger, "adopt crane dev=outlet:berths", 0);
    assert!(out.contains("outlet:berths crane.jks: it is not UTF-8 text") && out.contains("arms"), "{out}");
    for (source, message) in [
        ("dev=outlet:berth", "there is no outlet `berth`"),
        ("test=outlet:berths", "outlet `berths` takes nothing of `hoist` in `test`"),
        ("dev=outlet:berths", "outlet `berths` has nothing of `hoist` in `dev`"),
    ] {
        let (_, err) = run(&ledger, &format!("adopt hoist {source}"), 2);
        assert!(err.contains(message), "{err}");
    }
}
