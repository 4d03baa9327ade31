//! Ledgers that cannot be read: one clear message for each mistake, exit 2, and nothing else.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, program, written};

/// What a ledger with one file replaced or added is answered with, without the closing line.
fn answer(path: &str, text: impl AsRef<[u8]>) -> String {
    let ledger = TestLedger::small();
    ledger.write(path, text);
    refusal(&ledger)
}

/// What an unreadable ledger is answered with by whoever needs all of it. `check` says the same, be it as findings.
fn refusal(ledger: &TestLedger) -> String {
    let (out, err) = written(&ledger.run("rename desk counter").code(2));
    assert!(out.is_empty() && err.ends_with("found\n"), "{err}");
    let (checked, told) = written(&ledger.run("check").code(2));
    assert!(
        if checked.is_empty() { told == err } else { checked.contains("error[unreadable-file]") },
        "{told}"
    );
    err
}

#[test]
fn mistakes_in_toml_are_shown_with_their_line() {
    snapbox::assert_data_eq!(
        answer("stages/dev.toml", "[shared.db\nhost = \"a\"\n"),
        str![[r#"
error: this is not TOML: unclosed table, expected `]`
 --> stages/dev.toml:1:11
  |
1 | [shared.db
  |           ^

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
    snapbox::assert_data_eq!(
        answer("stages/dev.toml", "[shared.db]\nhost = \"a\nport = 1\n"),
        str![[r#"
error: this is not TOML: invalid basic string, expected `"`
 --> stages/dev.toml:2:8
  |
2 | host = …
  |        ^

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
    snapbox::assert_data_eq!(
        answer("units/desk.toml", "[variables.a]\n[variables.a]\n"),
        str![[r#"
error: this stands twice: it is in line 1 already
 --> units/desk.toml:2:12
  |
2 | [variables.a]
  |            ^
  |
  = help: write each key and each table once

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
    snapbox::assert_data_eq!(
        answer("stages/dev.toml", "[units.desk]\nhold = \"1m\"\n[units.desk]\nhold = \"2m\"\n"),
        str![[r#"
error: this stands twice: it is in line 1 already
 --> stages/dev.toml:3:8
  |
3 | [units.desk]
  |        ^^^^
  |
  = help: write each key and each table once

error: this stands twice: it is in line 2 already
 --> stages/dev.toml:4:1
  |
4 | hold = …
  | ^^^^
  |
  = help: write each key and each table once

error: the ledger cannot be read: 2 mistakes were found

"#]]
    );
}

#[test]
fn a_line_with_a_secret_is_not_shown() {
    let told = answer("stages/dev.toml", "[shared.db]\npassword = \"spring-tide\nuser = \"x\"\n");
    assert!(!told.contains("spring-tide") && told.contains("stages/dev.toml:2"), "{told}");
    let told = answer("stages/dev.toml", "[shared.db]\npassword = { value = \"spring-tide\", absent = 1 }\n");
    assert!(!told.contains("spring-tide") && told.contains("stages/dev.toml:2"), "{told}");
    let told = answer("units/desk.toml", "[variables.pin]\nsecret = true\ndefault = \"spring-tide\"\n");
    assert!(!told.contains("spring-tide") && told.contains("units/desk.toml:3:11"), "{told}");
}

/// A mistake in one file: the place that is named, and what is said.
#[test]
fn every_mistake_has_its_place_and_remedy() {
    let manifest = SMALL[0].1;
    let stage = |rest: &str| format!("{manifest}{rest}\n");
    let probe = |rest: &str| {
        let entries = "[variables.hold]\n[endpoints.site]\n[connections.q]\nprotocol = \"tcp\"\n";
        format!("{entries}[[probe]]\nname = \"n\"\n{rest}\n")
    };
    let cases: Vec<(&str, String, &str, &str)> = vec![
        ("ledger.toml", String::new(), "ledger.toml:1:1", "format"),
        ("ledger.toml", "format = 2\nname = \"x\"\n".into(), "ledger.toml:1:10", "format = 1"),
        ("ledger.toml", "format = 1\nname = 5\n".into(), "ledger.toml:2:8", "text"),
        ("ledger.toml", stage("[[stage]]\nname = \"dev\"\nclass = \"test\""), "ledger.toml:11:8", "dev"),
        ("ledger.toml", stage("[[stage]]\nname = \"x\"\nclass = \"tset\""), "ledger.toml:12:9", "test"),
        ("ledger.toml", stage("[[stage]]\nname = \"X\"\nclass = \"test\""), "ledger.toml:11:8", "a-z"),
        ("ledger.toml", stage("[[stage]]\nname = \"last\"\nclass = \"test\""), "ledger.toml:11:8", "last"),
        ("ledger.toml", stage("[[stage]]\nclass = \"test\""), "ledger.toml:10", "name"),
        ("ledger.toml", stage("after = [\"dve\"]"), "ledger.toml:10:10", "dev"),
        ("ledger.toml", stage("groups = [\"dev\"]"), "ledger.toml", "dev"),
        ("ledger.toml", stage("follow = [{ stage = \"dev\", olny = [\"*\"] }]"), "ledger.toml:10:28", "only"),
        (
            "ledger.toml",
            stage("follow = [{ stage = \"dev\", only = [\"a b\"] }]"),
            "ledger.toml:10",
            "character 2",
        ),
        ("ledger.toml", manifest.replace("\"dev\"\n[[", "\"prod\"\n[["), "ledger.toml:3:17", "production"),
        (
            "ledger.toml",
            manifest.replace("default_stage", "defualt_stage"),
            "ledger.toml:3:1",
            "default_stage",
        ),
        ("units/desk.toml", "usse = [\"db\"]".into(), "units/desk.toml:1:1", "uses"),
        ("units/desk.toml", "uses = [\"bd\"]".into(), "units/desk.toml:1:9", "db"),
        ("units/desk.toml", "uses = \"db\"".into(), "units/desk.toml:1:8", "list"),
        ("units/desk.toml", "[variables.unit]".into(), "units/desk.toml:1:12", "unit"),
        (
            "units/desk.toml",
            "[variables.a]\n[credentials.a]\nform = \"token\"".into(),
            "units/desk.toml:2:14",
            "twice",
        ),
        ("units/desk.toml", "uses = [\"db\"]\n[variables.db]".into(), "units/desk.toml", "db"),
        ("units/desk.toml", "[variables.a]\ntype = \"string\"".into(), "units/desk.toml:2:8", "text"),
        ("units/desk.toml", "[variables.a]\nvary = \"always\"".into(), "units/desk.toml:2:8", "never"),
        ("units/desk.toml", "[variables.a]\npattern = \"(\"".into(), "units/desk.toml:2:11", "pattern"),
        ("units/desk.toml", "[variables.a]\nmin = \"1h\"".into(), "units/desk.toml:2:7", "min"),
        ("units/desk.toml", "[variables.a]\ndefualt = 1".into(), "units/desk.toml:2:1", "default"),
        ("units/desk.toml", "[connections.a]\n".into(), "units/desk.toml:1", "protocol"),
        (
            "units/desk.toml",
            "[connections.a]\nprotocol = \"tcp\"\nfields.url.default = \"x\"".into(),
            "units/desk.toml:3",
            "url",
        ),
        ("units/desk.toml", "[credentials.a]\nform = \"tokn\"".into(), "units/desk.toml:2:8", "token"),
        (
            "units/desk.toml",
            "[[output]]\npath = \"a\"\nformat = \"jsn\"".into(),
            "units/desk.toml:3:10",
            "json",
        ),
        ("units/desk.toml", "[[output]]\nformat = \"json\"".into(), "units/desk.toml:1", "path"),
        ("units/desk.toml", "stages = [\"prd-*\", \"a b\"]".into(), "units/desk.toml:1", "a b"),
        ("units/desk.toml", "[instances.A]".into(), "units/desk.toml:1:12", "a-z"),
        (
            "units/desk.toml",
            "[[chore]]\ntext = \"x\"\nwhen = \"never\"".into(),
            "units/desk.toml:3:8",
            "each-delivery",
        ),
        ("units/desk.toml", probe("entry = \"hold\""), "units/desk.toml:7:9", "neither a connection nor"),
        ("units/desk.toml", probe("entry = \"siet\""), "units/desk.toml:7:9", "did you mean \"site\""),
        (
            "units/desk.toml",
            probe("entry = \"site\"\nexpect = \"closed\""),
            "units/desk.toml:8:10",
            "access-denied",
        ),
        (
            "units/desk.toml",
            probe("entry = \"site\"\nexpect = []"),
            "units/desk.toml:8:10",
            "nothing would be right",
        ),
        (
            "units/desk.toml",
            probe("entry = \"site\"\npath = \"../x\""),
            "units/desk.toml:8:8",
            "no page below",
        ),
        (
            "units/desk.toml",
            probe("entry = \"site\"\npath = \"${hold}\""),
            "units/desk.toml:8:8",
            "only the stage and the unit",
        ),
        (
            "units/desk.toml",
            probe("entry = \"q\"\nexpect = \"404\""),
            "units/desk.toml:5:1",
            "no endpoint, and has no pages",
        ),
        (
            "units/desk.toml",
            probe("entry = \"q\"\n[[probe]]\nname = \"n\"\nentry = \"q\""),
            "units/desk.toml:8:1",
            "already",
        ),
        (
            "units/desk.toml",
            probe("entry = \"q\"\n[[probe]]\nname = \"m\"\nentry = \"q\""),
            "units/desk.toml:8:1",
            "stages of its own",
        ),
        ("units/desk.toml", probe(""), "units/desk.toml:5:1", "no `entry`"),
        ("shared.toml", "[variables.a]\n[variables.stage]".into(), "shared.toml:2:12", "stage"),
        ("shared/more.toml", "[variables.a]".into(), "shared.toml", "both"),
        ("stages/dev.toml", "[unit.desk]".into(), "stages/dev.toml:1:2", "units"),
        ("stages/dev.toml", "[units]\ndesk = 5".into(), "stages/dev.toml:2:8", "table"),
        (
            "stages/dev.toml",
            "[units.desk]\nhold = { value = \"1m\", absent = true }".into(),
            "stages/dev.toml:2:8",
            "exactly one",
        ),
        (
            "stages/dev.toml",
            "[units.desk]\nhold = { why = \"so\" }".into(),
            "stages/dev.toml:2:8",
            "exactly one",
        ),
        (
            "stages/dev.toml",
            "[units.desk]\nhold = { value = \"1m\", until = \"soon\" }".into(),
            "stages/dev.toml:2",
            "2027",
        ),
        (
            "stages/dev.toml",
            "[units.desk]\nhold = { from = \"strongroom:x\" }".into(),
            "stages/dev.toml:2:17",
            "env:NAME",
        ),
        ("stages/dve.toml", String::new(), "stages/dve.toml", "dev"),
        ("stages/dev/desk.toml", String::new(), "stages/dev.toml", "stages/dev/"),
        ("units/Desk.toml", String::new(), "units/Desk.toml", "a-z"),
        ("groups/prodd.toml", String::new(), "groups/prodd.toml", "`groups`"),
        (
            "stages/dev.toml",
            "[shared.db]\noptions = { a = \"copper-1.AAAA\" }\n".into(),
            "stages/dev.toml:2:11",
            "cipher text inside a list or map is never opened",
        ),
        (
            "units/desk.toml",
            "[variables.a]\ndefault = \"copper-1.AAAA\"\n".into(),
            "units/desk.toml:2:11",
            "cipher text is no default",
        ),
    ];
    let mut wrong = String::new();
    for (path, text, place, hint) in cases {
        let ledger = TestLedger::small();
        ledger.write(path, &text);
        let (_, told) = written(&ledger.run("rename desk counter"));
        if !told.contains(place) || !told.contains(hint) || !told.starts_with("error: ") {
            wrong += &format!("`{text}` in {path} is to name {place} and {hint}:\n{told}\n");
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
}

#[test]
fn all_mistakes_are_told_in_one_go() {
    let ledger = TestLedger::small();
    ledger.write("units/desk.toml", "usse = []\n[variables.a]\ntype = \"string\"\n");
    ledger.write("units/gate.toml", "[variables.A]\n");
    ledger.write("stages/dev.toml", "[unit.desk]\n");
    ledger.write("stages/prod.toml", "[shared.db\n");
    snapbox::assert_data_eq!(
        refusal(&ledger),
        str![[r#"
error: unknown key `unit`
 --> stages/dev.toml:1:2
  |
1 | [unit.desk]
  |  ^^^^
  |
  = help: did you mean `units`?

error: this is not TOML: unclosed table, expected `]`
 --> stages/prod.toml:1:11
  |
1 | [shared.db
  |           ^

error: unknown key `usse`
 --> units/desk.toml:1:1
  |
1 | usse = []
  | ^^^^
  |
  = help: did you mean `uses`?

error: the type cannot be "string"
 --> units/desk.toml:3:8
  |
3 | type = "string"
  |        ^^^^^^^^
  |
  = help: it can be text, integer, number, boolean, url, host, port, path, duration, size, date, list, map, pem, json

error: `A` cannot name an entry: names are made of a-z, 0-9, `_` and `-`
 --> units/gate.toml:1:12
  |
1 | [variables.A]
  |            ^

error: the ledger cannot be read: 5 mistakes were found

"#]]
    );
}

#[test]
fn circles_of_follows_are_refused() {
    let stage = |name: &str, follow: &str| {
        format!("[[stage]]\nname = \"{name}\"\nclass = \"test\"\nfollow = [{{ stage = \"{follow}\" }}]\n")
    };
    let text = format!("format = 1\nname = \"x\"\n{}{}{}", stage("a", "b"), stage("b", "c"), stage("c", "a"));
    let ledger = TestLedger::with([("ledger.toml", text.as_str())]);
    ledger.run("check").code(2).stdout_eq("").stderr_eq(str![[r#"
error: stage `a` follows itself: a → b → c → a
 --> ledger.toml:4:8
  |
4 | name = "a"
  |        ^^^
  |
  = help: take one of these steps out

error: the ledger cannot be read: 1 mistake was found

"#]]);
    let text = format!("format = 1\nname = \"x\"\n{}", stage("a", "a"));
    let ledger = TestLedger::with([("ledger.toml", text.as_str())]);
    ledger.run("check").code(2).stdout_eq("").stderr_eq(str![[r#"
error: stage `a` follows itself: a → a
 --> ledger.toml:4:8
  |
4 | name = "a"
  |        ^^^
  |
  = help: take one of these steps out

error: the ledger cannot be read: 1 mistake was found

"#]]);
}

#[test]
fn follows_that_multiply_beyond_use_are_refused() {
    let mut text = "format = 1\nname = \"x\"\n[[stage]]\nname = \"s0\"\nclass = \"test\"\n".to_owned();
    for number in 1..40 {
        let before = number - 1;
        text += &format!(
            "[[stage]]\nname = \"s{number}\"\nclass = \"test\"\n\
             follow = [{{ stage = \"s{before}\" }}, {{ stage = \"s{before}\" }}]\n"
        );
    }
    let ledger = TestLedger::with([("ledger.toml", text.as_str())]);
    let (out, err) = written(&ledger.run("check").code(2));
    assert!(out.is_empty() && err.contains("10000 layers"), "{err}");
}

#[test]
fn depth_and_size_do_no_harm() {
    let deep = format!("[units.desk]\nhold = {}1{}\n", "[".repeat(50_000), "]".repeat(50_000));
    assert!(answer("stages/dev.toml", deep).contains("stages/dev.toml:2"));
    let ledger = TestLedger::small();
    let long = "x".repeat(3 << 20);
    ledger.write("units/desk.toml", "[variables.long]\n[variables.twice]\ndefault = \"${long}${long}\"\n");
    ledger.write("stages/dev.toml", format!("[units.desk]\nlong = \"{long}\"\n"));
    let (out, _) = written(&ledger.run("get desk/twice@dev").code(0));
    assert_eq!(out.len(), 2 * long.len() + 1);
    ledger.write("stages/dev.toml", format!("[units.desk]\nlong = \"{long}\"\nhodl = \"{long}\"\n"));
    let (out, _) = written(&ledger.run("check @dev").code(1));
    assert!(out.len() < 10_000, "a long line is cut where it is shown: {}", out.len());
}

#[test]
fn values_that_multiply_beyond_use_are_a_problem() {
    let ledger = TestLedger::small();
    let mut contract = "[variables.v0]\ndefault = \"0123456789\"\n".to_owned();
    for number in 1..40 {
        let before = number - 1;
        contract += &format!("[variables.v{number}]\ndefault = \"${{v{before}}}${{v{before}}}\"\n");
    }
    ledger.write("units/desk.toml", contract);
    ledger.write("stages/dev.toml", "");
    let (out, _) = written(&ledger.run("check @dev").code(1));
    assert!(out.contains("error[value-too-long]"), "{out}");
}

#[test]
fn files_that_are_no_text_are_refused() {
    snapbox::assert_data_eq!(
        answer("stages/dev.toml", b"[units.desk]\nhold = \"\xff\"\n"),
        str![[r#"
error: stages/dev.toml: it is not UTF-8 text: the first wrong byte is in line 2
 |
 = help: save it as UTF-8

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
    let ledger = TestLedger::small();
    fs::remove_file(ledger.path("units/desk.toml")).unwrap();
    fs::create_dir(ledger.path("units/desk.toml")).unwrap();
    snapbox::assert_data_eq!(
        refusal(&ledger),
        str![[r#"
error: units/desk.toml: it is a folder, and a file is needed
 |
 = help: rename the folder, or move it out of the ledger

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
    let ledger = TestLedger::small();
    fs::remove_file(ledger.path("stages/dev.toml")).unwrap();
    symlink("dev.toml", ledger.path("stages/dev.toml")).unwrap();
    snapbox::assert_data_eq!(
        refusal(&ledger),
        str![[r#"
error: stages/dev.toml: it cannot be read: Too many levels of symbolic links (os error 40)
 |
 = help: make it readable, or take it out of the ledger

error: the ledger cannot be read: 1 mistake was found

"#]]
    );
}

#[test]
fn a_file_that_may_not_be_read_is_refused() {
    let ledger = TestLedger::small();
    let closed = ledger.path("stages/dev.toml");
    fs::set_permissions(&closed, fs::Permissions::from_mode(0o000)).unwrap();
    // Root reads everything, so it becomes somebody else for this.
    let (out, err) = if fs::read(&closed).is_ok() {
        let program = ledger.path("cledger");
        fs::copy(snapbox::cmd::cargo_bin!("cledger"), &program).unwrap();
        fs::set_permissions(ledger.path(".."), fs::Permissions::from_mode(0o755)).unwrap();
        let output = std::process::Command::new("setpriv")
            .args(["--reuid", "65534", "--clear-groups", program.to_str().unwrap(), "check"])
            .current_dir(ledger.path(""))
            .env("CLEDGER_STATE", ledger.state())
            .output()
            .unwrap();
        assert_eq!(output.status.code(), Some(2));
        (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    } else {
        written(&ledger.run("check").code(2))
    };
    assert!(out.contains("`stages/dev.toml`: it cannot be read"), "{out}{err}");
}

#[test]
fn a_byte_order_mark_and_carriage_returns_are_no_mistake() {
    let ledger = TestLedger::small();
    for (path, text) in SMALL {
        ledger.write(path, format!("\u{feff}{}", text.replace('\n', "\r\n")));
    }
    ledger.run("get desk/hold@prod").code(0).stdout_eq("2m\n");
    ledger.run("show desk/hold@prod").code(0).stdout_eq(str![[r#"
desk in prod (class production)

entry  value  from
hold   2m     stages/prod.toml:8

"#]]);
}

#[test]
fn bad_addresses_are_refused_with_the_position() {
    let ledger = TestLedger::small();
    for (address, position) in [
        ("desk/ho ld@dev", 8),
        ("Desk@dev", 1),
        ("desk//hold@dev", 6),
        ("desk/hold.@dev", 11),
        ("desk@dev:0", 10),
        ("desk@dev:last:1", 14),
        ("+kiosk@dev", 1),
        ("desk/a.b.c@dev", 9),
    ] {
        let run = ledger.command("get").arg(address).assert();
        let (out, err) = written(&run.code(2));
        assert!(out.is_empty() && err.contains(&format!("at character {position}")), "{address}: {err}");
    }
    ledger.run("get desk/hold.@dev").code(2).stderr_eq(str![[r#"
error: bad address `desk/hold.@dev`: a name is expected, at character 11
  desk/hold.@dev
            ^
help: an address is [UNIT[+INSTANCE] | shared][/ENTRY[.FIELD]][@STAGE]

"#]]);
}

#[test]
fn no_ledger_is_answered_with_how_to_make_one() {
    let nowhere = tempfile::tempdir().unwrap();
    program().arg("check").current_dir(nowhere.path()).assert().code(2).stdout_eq("").stderr_eq(str![[r#"
error: there is no ledger here: neither `[..]` nor a folder above it has a ledger.toml
help: name its folder with -C DIR, or make one: cledger init DIR --name NAME --stages dev,test,prod

"#]]);
    let ledger = TestLedger::small();
    fs::create_dir(ledger.path("sub")).unwrap();
    let run = program().args(["get", "desk/hold@prod"]).current_dir(ledger.path("sub")).assert();
    run.code(0).stdout_eq("2m\n");
    ledger.run("-C units check").code(2).stdout_eq("");
    ledger.run("-C nowhere check").code(2).stdout_eq("");
}
