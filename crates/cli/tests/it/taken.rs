//! The ways back from drift: `drift --take`, and captures in place of what is live.

use std::fs;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use crate::test_ledger::{SMALL, TestLedger, written};

/// A small ledger whose files lie in a folder that is its outlet, with a key for `dev`.
fn live() -> TestLedger {
    let ledger = TestLedger::with(SMALL);
    let outlet = "[[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"live\"\n";
    ledger.write("ledger.toml", ledger.read("ledger.toml") + outlet);
    run(&ledger, "key identity", 0);
    run(&ledger, "key make @dev --write", 0);
    run(&ledger, "key protect @dev --write", 0);
    run(&ledger, "render @dev --out live", 0);
    ledger
}

fn run(ledger: &TestLedger, arguments: &str, code: i32) -> (String, String) {
    let command = ledger.command(arguments).env("CLEDGER_IDENTITY", "../identity").env("CLEDGER_WHO", "ada");
    written(&command.assert().code(code))
}

fn by_hand(ledger: &TestLedger, from: &str, to: &str) {
    let path = "live/desk/desk.env";
    let text = ledger.read(path);
    assert!(text.contains(from), "{text}");
    ledger.write(path, text.replace(from, to));
}

#[test]
fn a_hotfix_becomes_official() {
    let ledger = live();
    by_hand(&ledger, "HOLD=5m", "HOLD=9m");
    by_hand(&ledger, "low-tide-dev", "high-tide-17");
    by_hand(&ledger, "REGION=north", "REGION=north\nDEBUG_PORT=8070\nAPI_TOKEN=plover");
    let before = ledger.read("stages/dev.toml");
    let (out, _) = run(&ledger, "drift --take desk/hold@dev desk/debug_port@dev desk/db.password@dev", 0);
    for line in [
        "desk/hold@dev           not set   9m ",
        "desk/debug_port         not set   declared: port, optional; into desk.env  units/desk.toml",
        "desk/debug_port@dev     not set   8070 ",
        "shared/db.password@dev  (secret)  (secret) ",
    ] {
        assert!(out.contains(line), "{out}");
    }
    assert!(out.ends_with("Nothing is written yet. To do it, add --write.\n"), "{out}");
    assert_eq!(ledger.read("stages/dev.toml"), before);
    run(
        &ledger,
        "drift --take shared/db.password@dev desk/hold@dev desk/debug_port@dev --why night --write",
        0,
    );
    let text = ledger.read("stages/dev.toml");
    assert!(text.contains("hold = { value = \"9m\", why = \"night\" }"), "{text}");
    assert!(!text.contains("high-tide"), "the password is encrypted: {text}");
    let contract = ledger.read("units/desk.toml");
    assert!(contract.contains("[variables.debug_port]\ntype = \"port\"\nrequired = false\n"), "{contract}");
    // What looks like a secret becomes one.
    let (out, _) = run(&ledger, "drift --take desk/api_token@dev --write", 0);
    assert!(out.contains("declared: text, optional, secret") && !out.contains("plover"), "{out}");
    assert!(!ledger.read("stages/dev.toml").contains("plover"));
    run(&ledger, "drift @dev", 0);
    for (arguments, message) in [
        ("desk/nothing@dev", "there is no `desk/nothing@dev`, neither in the ledger nor where one looked"),
        ("desk/n*@dev", "`desk/n*@dev` covers nothing that was looked at"),
        ("desk/hold", "`desk/hold` names no stage"),
        ("desk/db.url@dev", "`desk/db.url@dev` is derived from other fields"),
        ("desk/debug.port@dev", "`desk/debug.port@dev` names a field of an entry that is not declared"),
    ] {
        let (_, err) = run(&ledger, &format!("drift --take {arguments} --write"), 2);
        assert!(err.starts_with(&format!("error: {message}")), "{arguments}: {err}");
    }
}

#[test]
fn patterns_take_all_that_they_cover_and_say_what_stays() {
    let ledger = live();
    let contract =
        ledger.read("units/desk.toml") + "\n[variables.debug]\ntype = \"boolean\"\nrequired = false\n";
    ledger.write("units/desk.toml", &contract);
    ledger.write("units/gate.toml", &contract);
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml") + "[units.gate]\nregion = \"north\"\n");
    run(&ledger, "render @dev --out live", 0);
    let everywhere = |from: &str, to: &str| {
        for unit in ["desk", "gate"] {
            let path = format!("live/{unit}/desk.env");
            ledger.write(&path, ledger.read(&path).replace(from, to));
        }
    };
    // A field without a value is taken, too, and what agrees already fails nobody.
    by_hand(&ledger, "REGION=north", "REGION=north\nDEBUG=true");
    let (out, _) = run(&ledger, "drift --take desk/hold@dev desk/debug@dev", 0);
    assert!(out.starts_with("desk/hold@dev is there as the ledger says.\n"), "{out}");
    assert!(out.contains("desk/debug@dev  not set  true"), "{out}");
    // What is shared stays shared as long as all have the same, and what is derived follows.
    everywhere("DB_HOST=db.dev.example", "DB_HOST=db2.dev.example");
    everywhere("@db.dev.example", "@db2.dev.example");
    for asked in ["desk/db.host@dev", "desk/*@dev", "*/db.host@d*", "shared/*@dev"] {
        let (out, _) = run(&ledger, &format!("drift --take {asked}"), 0);
        assert!(out.contains("shared/db.host@dev") && !out.contains("not taken over"), "{asked}: {out}");
        assert!(!out.contains("gate/db.host@dev  db.dev.example  db.dev"), "{asked}: {out}");
    }
    by_hand(&ledger, "db2.dev.example", "db3.dev.example");
    let (out, err) = run(&ledger, "drift --take gate/*@dev", 0);
    assert!(err.contains("`desk` has another one there: it is taken over for this one alone"), "{err}");
    assert!(out.contains("gate/db.host@dev  not set  db2.dev.example"), "{out}");
    let (out, _) = run(&ledger, "drift --take shared/*@dev", 1);
    assert!(out.contains("not taken over:") && out.contains("desk at files and gate at files have"), "{out}");
    let (out, _) = run(&ledger, "drift --take *@dev --write", 0);
    assert!(out.contains("desk/db.host@dev") && out.contains("gate/db.host@dev"), "{out}");
    run(&ledger, "drift @dev", 0);
    let (out, _) = run(&ledger, "drift --take *@dev --write", 0);
    assert!(out.contains("*@dev is there as the ledger says."), "{out}");
}

#[test]
fn what_is_not_the_same_everywhere_is_not_taken() {
    let ledger = live();
    let unit = ledger.read("units/desk.toml");
    ledger.write("units/gate.toml", unit);
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml") + "[units.gate]\nregion = \"north\"\n");
    run(&ledger, "render @dev --out live", 0);
    by_hand(&ledger, "DB_HOST=db.dev.example", "DB_HOST=db2.dev.example");
    let (_, err) = run(&ledger, "drift --take shared/db.host@dev --write", 2);
    assert!(err.contains("not the same everywhere: `gate` has it as the ledger says"), "{err}");
    assert!(err.contains("take it for one unit alone: desk/db.host@dev"), "{err}");
    run(&ledger, "drift --take desk/db.host@dev --write", 0);
    fs::remove_dir_all(ledger.path("live")).unwrap();
    let (_, err) = run(&ledger, "drift --take desk/hold@dev", 3);
    assert!(err.contains("nobody can tell what `desk/hold@dev` is there: `live` is not there"), "{err}");
}

#[test]
fn a_capture_is_what_was_live() {
    let ledger = live();
    by_hand(&ledger, "HOLD=5m", "HOLD=9m");
    by_hand(&ledger, "DB_PASSWORD=low-tide-dev", "DB_PASSWORD=by-hand-17");
    by_hand(&ledger, "REGION=north", "REGION=north\nSTRAY=plover");
    fs::create_dir(ledger.path("live/old")).unwrap();
    let (now, _) = run(&ledger, "drift @dev", 1);
    for how in ["encrypted", "fingerprints"] {
        let (out, _) = run(&ledger, &format!("capture @dev --out {how}.json --secrets {how}"), 0);
        let (_, err) = run(&ledger, &format!("capture @dev --out {how}.json --secrets {how}"), 2);
        assert!(err.contains("is there already, and is not written over"), "{err}");
        assert!(out.ends_with(&format!("Captured to {how}.json.\n")), "{out}");
        let text = ledger.read(&format!("{how}.json"));
        assert!(!text.contains("by-hand-17") && !text.contains("plover"), "{text}");
        let (captured, _) = run(&ledger, &format!("drift --captured {how}.json"), 1);
        assert_eq!(captured.rsplit_once("\n\n").unwrap().0, now.rsplit_once("\n\n").unwrap().0, "{how}");
    }
    run(&ledger, "capture @dev --out left-out.json --secrets left-out", 0);
    let (out, _) = run(&ledger, "drift desk --captured left-out.json", 1);
    assert!(out.contains("DB_PASSWORD  (secret)  (secret)     not known: not readable here"), "{out}");
    // Without the key there is no telling, and nothing breaks.
    let (out, _) = written(&ledger.run("drift --captured encrypted.json").code(1));
    assert!(out.contains("not known: not readable here"), "{out}");
    by_hand(&ledger, "HOLD=9m", "HOLD=11m");
    run(&ledger, "capture @dev --out later.json", 0);
    run(&ledger, "render @dev --out live", 0);
    let (out, _) = run(&ledger, "compare capture:encrypted.json capture:later.json", 1);
    assert!(out.contains("desk desk.env HOLD  9m     11m     differs"), "{out}");
    let (out, _) = run(&ledger, "compare desk@dev capture:encrypted.json", 1);
    assert!(out.contains("desk desk.env HOLD") && out.contains("only in the second"), "{out}");
    run(&ledger, "drift --captured later.json --take desk/hold@dev desk/db.password@dev --write", 0);
    let (out, _) = run(&ledger, "drift --captured later.json --json", 1);
    assert!(out.contains("\"name\":\"STRAY\"") && !out.contains("\"name\":\"HOLD\""), "{out}");
    run(&ledger, "adopt desk2 dev=capture:later.json", 2);
    let (out, _) = run(&ledger, "adopt desk dev=capture:later.json", 1);
    assert!(out.contains("stray"), "{out}");
    for (file, message) in [("ledger.toml", "it is no capture"), ("nowhere.json", "it is not there")] {
        let (_, err) = run(&ledger, &format!("drift --captured {file}"), 2);
        assert!(err.contains(message), "{err}");
    }
    let (_, err) = run(&ledger, "drift @prod --captured later.json", 2);
    assert!(err.contains("the capture is of `dev`, and `@prod` is not"), "{err}");
    let (_, err) = run(&ledger, "capture @prod", 4);
    assert!(err.contains("`prod` has no key"), "{err}");
}

#[test]
fn after_a_walk_either_way_back_leaves_no_drift() {
    let names = ["HOLD", "REGION", "DB_HOST", "DB_USER", "DB_PORT", "DB_DATABASE"];
    let fields = ["hold", "region", "db.host", "db.user", "db.port", "db.database"];
    let values = ["7m", "south", "x.example", "other", "7000", "eels"];
    let step = (0..names.len(), prop::bool::ANY);
    let walk = (prop::collection::vec(step, 1..5), prop::bool::ANY);
    let ledger = live();
    let fresh = (ledger.read("stages/dev.toml"), ledger.read("live/desk/desk.env"));
    let mut runner =
        TestRunner::new(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(12) });
    let ran = runner.run(&walk, |(steps, take)| {
        ledger.write("stages/dev.toml", &fresh.0);
        ledger.write("live/desk/desk.env", &fresh.1);
        let mut changed = Vec::new();
        for (at, gone) in steps {
            let text = ledger.read("live/desk/desk.env");
            let line = text.lines().find(|line| line.starts_with(&format!("{}=", names[at])));
            let Some(line) = line else { continue };
            let new = if gone { String::new() } else { format!("{}={}", names[at], values[at]) };
            let lines: Vec<&str> =
                text.lines().map(|it| if it == line { new.as_str() } else { it }).collect();
            ledger.write("live/desk/desk.env", lines.join("\n"));
            if !changed.contains(&at) {
                changed.push(at);
            }
        }
        if take {
            let addresses: Vec<String> =
                changed.iter().map(|&at| format!("desk/{}@dev", fields[at])).collect();
            run(&ledger, &format!("drift --take {} --write", addresses.join(" ")), 0);
            // The password and the URL follow from what was taken: the file is rendered from the ledger.
            let (out, _) = run(&ledger, "drift @dev --json", i32::from(changed.iter().any(|&at| at > 1)));
            for at in changed {
                prop_assert!(!out.contains(&format!("\"name\":\"{}\"", names[at])), "{out}");
            }
        } else {
            run(&ledger, "outlet put desk@dev --write --overwrite-edits", 0);
            run(&ledger, "drift @dev", 0);
            prop_assert_eq!(ledger.read("live/desk/desk.env"), fresh.1.clone());
        }
        Ok(())
    });
    ran.unwrap();
}
