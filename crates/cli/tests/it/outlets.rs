//! Outlets: what really lies and runs there, read back and compared.

use std::collections::BTreeSet;
use std::fs;
use std::process::{Command, Stdio};

use cledger_standin::{Fault, Options, StandIn};
use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, written};

/// A small ledger with outlets, and its unit's files rendered where the first one looks.
fn ledger(outlets: &str) -> TestLedger {
    let ledger = TestLedger::with(SMALL);
    ledger.write("ledger.toml", ledger.read("ledger.toml") + outlets);
    ledger.run("render @dev --out live/dev").code(0);
    ledger
}

const FILES: &str = "[[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"live/${stage.name}\"\nkeep = [\"HOSTNAME\", \"lost*\"]\n";

#[test]
fn outlets_are_looked_at_where_no_folder_is_named() {
    let ledger = TestLedger::demo();
    ledger.run("outlet list").code(3).stdout_eq(str![[r#"
outlet    kind       stage       units there  last
workshop  directory  dev         0 of 5       never  answers
workshop  directory  test        0 of 7       never  answers
workshop  directory  staging     0 of 6       never  answers
servers   directory  prod-north  7 of 8       never  answers
boards    http       prod-north  0 of 2       never  not known  the file `../boards.address` does not exist
servers   directory  prod-south  0 of 8       never  not known  `../live/prod-south` is not there
boards    http       prod-south  0 of 2       never  not known  the file `../boards.address` does not exist

"#]]);
    ledger.run("drift crew-roster tide-watch@prod-north").code(1).stderr_eq("").stdout_eq(str![[r#"
dev (outlet workshop, directory)
crew-roster  not there

test (outlet workshop, directory)
crew-roster  not there

staging (outlet workshop, directory)
crew-roster  not there

prod-north (outlet servers, directory)
crew-roster
  roster.json
  name         ledger  there
  retry_limit  3       5      differs
  roster.env
  name         ledger  there
  RETRY_LIMIT  3       5      differs
tide-watch
  tide-watch.json  cannot be read: line 12: EOF while parsing a string

prod-south (outlet servers, directory)
crew-roster  not known: `../live/prod-south` is not there

not known: 1 unit could not be looked at.
drift: 5 of 6 units are not as the ledger says.

"#]]);
    let (out, _) = written(&ledger.run("drift @prod-south").code(3));
    assert!(out.ends_with("not known: 8 units could not be looked at.\n"), "unknown is not clean: {out}");
    for (arguments, message) in [
        ("@attic", "error: no outlet has anything of @attic"),
        (
            "ticket-desk/seat_hold",
            "error: `ticket-desk/seat_hold` names an entry, and whole units are looked at",
        ),
        ("--observed ../live/prod-north", "error: a folder is of one stage"),
        ("@prod-north --observed nowhere", "error: `nowhere` cannot be read"),
    ] {
        let (out, err) = written(&ledger.run(&format!("drift {arguments}")).code(2));
        assert!(out.is_empty() && err.starts_with(message), "{arguments}: {err}");
    }
    let (_, err) = written(&TestLedger::small().run("drift").code(2));
    assert!(err.starts_with("error: the ledger has no outlets to look at"), "{err}");
}

#[test]
fn what_is_never_ours_is_passed_over() {
    let ledger = ledger(FILES);
    ledger.run("drift").code(0).stdout_eq(str![[r#"
dev (outlet files, directory)
as the ledger says: desk

no drift: 1 unit as the ledger says.

"#]]);
    let env = ledger.read("live/dev/desk/desk.env");
    ledger.write("live/dev/desk/desk.env", format!("HOSTNAME=quay-7\n{env}"));
    ledger.write("live/dev/lost+found/x", "");
    ledger.run("drift").code(0);
    ledger.write("live/dev/old-desk/x", "");
    ledger.write("live/dev/desk/desk.env", format!("HOSTNAME=quay-7\nHOST=x\n{env}"));
    ledger.run("drift").code(1).stdout_eq(str![[r#"
dev (outlet files, directory)
desk
  desk.env
  name  ledger  there
  HOST  none    (not shown)  extra there
old-desk  there, but not in the ledger

drift: 2 of 2 units are not as the ledger says.

"#]]);
}

#[test]
fn an_outlet_that_hangs_does_not_hold_up_the_others() {
    let standin = StandIn::start(Options::default()).unwrap();
    standin.set_fault("/", Some(Fault::Hang));
    let url = standin.url();
    let ledger = ledger(&format!(
        "[[outlet]]\nname = \"stuck\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"{url}\"\ntimeout = \"300ms\"\n{FILES}"
    ));
    ledger.run("drift").code(3).stdout_eq(str![[r#"
dev (outlet stuck, http)
desk  not known: no answer within 0.3 s

dev (outlet files, directory)
as the ledger says: desk

not known: 1 unit could not be looked at.

"#]]);
}

#[test]
fn the_environment_of_a_process_is_what_it_runs_with() {
    let outlet = "[[outlet]]\nname = \"running\"\nkind = \"process\"\nstages = [\"dev\"]\npid_file = \"run/${unit.name}.pid\"\n";
    let ledger = ledger(outlet);
    ledger.run("drift").code(1).stdout_eq(str![[r#"
dev (outlet running, process)
desk  not there

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    // `run` puts the program in its own place, so that the number is the program's.
    let run = |hold: &str| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_cledger"));
        command.env("CLEDGER_STATE", ledger.state()).current_dir(ledger.path("")).args([
            "--trust",
            "run",
            "desk@dev",
            "--assume",
            &format!("desk/hold={hold}"),
        ]);
        command.args(["--", "sleep", "600"]).stdout(Stdio::null()).spawn().unwrap()
    };
    for (hold, code) in [("5m", 0), ("9m", 1)] {
        let mut child = run(hold);
        ledger.write("run/desk.pid", format!("{}\n", child.id()));
        // Until it is the program, its environment is the test's.
        let command = format!("/proc/{}/comm", child.id());
        while fs::read_to_string(&command).unwrap() != "sleep\n" {
            assert!(child.try_wait().unwrap().is_none(), "it has ended");
            std::thread::yield_now();
        }
        let (out, _) = written(&ledger.run("drift").code(code));
        assert!(code == 0 || out.contains("HOLD  5m      9m     differs"), "{out}");
        child.kill().unwrap();
        child.wait().unwrap();
        let (out, _) = written(&ledger.run("drift").code(3));
        assert!(out.contains(&format!("the process {} is not running any more", child.id())), "{out}");
    }
    ledger.write("run/desk.pid", "soon\n");
    let (out, _) = written(&ledger.run("drift").code(3));
    assert!(out.contains("desk.pid` holds no number of a process"), "{out}");
}

#[test]
fn two_hundred_outlets_are_asked_at_once() {
    let ledger = TestLedger::with(SMALL).with_keys(&["dev"]);
    let folder = ledger.path("../boards");
    let standin = StandIn::start(Options { folder: folder.clone(), ..Options::default() }).unwrap();
    let mut manifest = ledger.read("ledger.toml");
    for number in 0..200 {
        // Every tenth hangs; if they were asked one after the other, this would take 20 times as long.
        let hangs = number % 10 == 7;
        if hangs {
            standin.set_fault(&format!("/{number}/"), Some(Fault::Hang));
        }
        let limit = if hangs { "2s" } else { "60s" };
        manifest += &format!(
            "[[outlet]]\nname = \"o{number}\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"{}/{number}\"\ntimeout = \"{limit}\"\n",
            standin.url()
        );
    }
    let one = manifest.replace("o0\"", "first\"");
    ledger.write("ledger.toml", &one[..one.find("[[outlet]]\nname = \"o1\"").unwrap()]);
    ledger.run("outlet put desk@dev --write").code(0);
    let document = ledger.read("../boards/0/desk.json");
    for number in 0..200 {
        ledger.write(&format!("../boards/{number}/desk.json"), &document);
    }
    ledger.write("ledger.toml", manifest);
    let (out, _) = written(&ledger.run("drift --json").code(3));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    let states = document["units"].as_array().unwrap().iter().map(|unit| unit["state"].as_str().unwrap());
    let states: Vec<&str> = states.collect();
    assert_eq!(states.iter().filter(|state| **state == "as-ledger").count(), 180, "{states:?}");
    assert_eq!(states.iter().filter(|state| **state == "not-known").count(), 20, "{states:?}");
}

#[test]
fn what_an_outlet_cannot_be_is_refused_where_it_stands() {
    for (said, message) in [
        ("name = \"x\"", "this outlet has no `kind`"),
        ("name = \"x\"\nkind = \"folder\"\nstages = [\"dev\"]", "the kind cannot be \"folder\""),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]",
            "an outlet of kind \"directory\" needs a `path`",
        ),
        (
            "name = \"x\"\nkind = \"process\"\nstages = [\"dev\"]\npid_file = \"a\"\npath = \"b\"",
            "`path` means nothing in an outlet of kind \"process\"",
        ),
        ("name = \"x\"\nkind = \"directory\"\nstages = [\"tset\"]\npath = \"a\"", "there is no stage `tset`"),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"${desk/hold}\"",
            "`${desk/hold}` cannot stand here",
        ),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"a\"\ntimeout = \"1ms\"",
            "`timeout` must be a duration from 100ms to 10m",
        ),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"a\"\npth = \"a\"",
            "unknown key `pth`",
        ),
        ("name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]", "an outlet of kind \"http\" needs a `url`"),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\nuser = \"b\"",
            "`user` and `password` go together",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\ntoken = { from = \"env:A\" }\n\
             oauth = { url = \"http://b\", client = \"c\", secret = { from = \"env:B\" } }",
            "there is more than one way to log in",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\noauth = { url = \"http://b\" }",
            "`oauth` lacks one of `url`, `client` and `secret`",
        ),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"a\"\nsignal = { send = \"KILL\" }",
            "the signal cannot be \"KILL\"",
        ),
        (
            "name = \"x\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"a\"\ncall = \"ftp://a\"",
            "`call` is no address",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\ntoken = \"t\"",
            "`token` does not stand in the ledger",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = { from = \"a\" }",
            "`from` begins with neither `env:` nor `file:`",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\ntable = \"t\"",
            "`table` means nothing in an outlet of kind \"http\"",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\nready = \"soon\"",
            "`ready` is neither an address nor a file",
        ),
        (
            "name = \"x\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://a\"\nreload = []",
            "`reload` names no program",
        ),
        (
            "name = \"x\"\nkind = \"postgres\"\nstages = [\"dev\"]\nurl = \"a\"\ntable = \"a.b.c\"",
            "`a.b.c` names no table",
        ),
        (
            "name = \"x\"\nkind = \"postgres\"\nstages = [\"dev\"]\nurl = \"a\"\ntable = \"t\"\ncolumns = { scope = \"s\", name = \"n\" }",
            "`columns` does not say which one holds the value",
        ),
        (
            "name = \"x\"\nkind = \"process\"\nstages = [\"dev\"]\npid_file = \"a\"\nreload = [\"b\"]",
            "`reload` means nothing in an outlet of kind \"process\"",
        ),
    ] {
        let ledger = TestLedger::small();
        ledger.write("ledger.toml", format!("{}[[outlet]]\n{said}\n", ledger.read("ledger.toml")));
        let (_, err) = written(&ledger.run("list").code(2));
        assert!(err.contains(&format!("error: {message}")) && err.contains("ledger.toml:"), "{said}: {err}");
    }
}

/// A change that somebody makes by hand.
#[derive(Debug, Clone)]
enum ByHand {
    Change(usize),
    Remove(usize),
    Add(u8),
}

#[test]
fn changes_made_by_hand_are_found_and_no_others() {
    let by_hand = prop_oneof![
        (0_usize..9).prop_map(ByHand::Change),
        (0_usize..9).prop_map(ByHand::Remove),
        any::<u8>().prop_map(ByHand::Add),
    ];
    let walk = prop::collection::vec(by_hand, 0..6);
    let ledger = ledger(FILES);
    let before = ledger.read("live/dev/desk/desk.env");
    let mut runner =
        TestRunner::new(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(24) });
    let ran = runner.run(&walk, |walk| {
        let mut lines: Vec<String> = before.lines().map(str::to_owned).collect();
        let count = lines.len();
        let mut expected = BTreeSet::new();
        let name_of = |line: &str| line.split('=').next().unwrap_or_default().to_owned();
        for step in walk {
            match step {
                ByHand::Change(at) if at < count && !lines[at].is_empty() => {
                    let name = name_of(&lines[at]);
                    lines[at] = format!("{name}=by-hand");
                    expected.insert((name, "differs"));
                }
                ByHand::Remove(at) if at < count && !lines[at].is_empty() => {
                    let name = name_of(&lines[at]);
                    expected.remove(&(name.clone(), "differs"));
                    lines[at].clear();
                    expected.insert((name, "missing there"));
                }
                ByHand::Add(number) => {
                    let name = format!("NEW_{number}");
                    if expected.insert((name.clone(), "extra there")) {
                        lines.push(format!("{name}=x"));
                    }
                }
                ByHand::Change(_) | ByHand::Remove(_) => {}
            }
        }
        ledger.write("live/dev/desk/desk.env", lines.join("\n"));
        let (out, _) = written(&ledger.run("drift --json").code(i32::from(!expected.is_empty())));
        let document: serde_json::Value = serde_json::from_str(&out).unwrap();
        let names = document["units"][0]["files"][0]["names"].as_array().unwrap();
        let found: BTreeSet<(String, String)> = names
            .iter()
            .map(|name| {
                (name["name"].as_str().unwrap().to_owned(), name["drift"].as_str().unwrap().to_owned())
            })
            .collect();
        let expected = expected.into_iter().map(|(name, drift)| (name, drift.to_owned())).collect();
        prop_assert_eq!(found, expected);
        Ok(())
    });
    ran.unwrap();
}
