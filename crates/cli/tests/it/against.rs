//! `--against`: the ledger compared with what it was at a git revision.

use std::path::Path;
use std::process::Command;

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, is_there, program, written};

pub(crate) fn git(folder: &Path, arguments: &[&str]) {
    git_at(folder, arguments, None);
}

/// The same at a time.
pub(crate) fn git_at(folder: &Path, arguments: &[&str], time: Option<&str>) {
    let output = Command::new("git")
        .args([
            "-c",
            "user.name=quay",
            "-c",
            "user.email=quay@brackwater.example",
            "-c",
            "init.defaultBranch=main",
        ])
        .arg("-C")
        .arg(folder)
        .args(arguments)
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .envs(time.map(|time| ("GIT_COMMITTER_DATE", time)))
        .output()
        .unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A ledger in a folder of a repository, committed and tagged, and then changed.
fn ledger() -> TestLedger {
    let ledger = TestLedger::with(SMALL);
    let top = ledger.path("..");
    git(&top, &["init", "-q"]);
    git(&top, &["add", "-A"]);
    git(&top, &["commit", "-qm", "first"]);
    git(&top, &["tag", "first"]);
    ledger.write(
        "stages/dev.toml",
        ledger.read("stages/dev.toml").replace("\"north\"", "\"nrth\"\nhold = \"9m\""),
    );
    ledger.write("stages/prod.toml", ledger.read("stages/prod.toml").replace("hold = \"2m\"\n", ""));
    ledger
}

fn run(ledger: &TestLedger, arguments: &str) -> snapbox::cmd::OutputAssert {
    ledger.command(arguments).env("PATH", std::env::var_os("PATH").unwrap()).assert()
}

#[test]
fn only_what_is_new_is_a_finding() {
    if !is_there("git") {
        return;
    }
    let ledger = ledger();
    run(&ledger, "check --against first --form lines")
        .code(1)
        .stderr_eq("Since first: 1 new finding, 0 gone, 1 as before.\n")
        .stdout_eq(str![[r#"
stages/dev.toml:7:10: error: desk/region@dev: the value of `region` breaks `one_of`: it must be one of north, south [not-allowed]

"#]]);
    // Everything else was there before, and is no reason to fail now.
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml").replace("nrth", "south"));
    run(&ledger, "check --against first")
        .code(0)
        .stdout_eq("ok: nothing new in 1 unit; 1 finding as before.\n");
    ledger.write(
        "stages/dev.toml",
        ledger.read("stages/dev.toml").replace("\"low-tide-dev\"", "{ from = \"env:X\" }"),
    );
    run(&ledger, "check --against first")
        .code(0)
        .stderr_eq("Since first: 0 new findings, 1 gone, 0 as before.\n");
}

#[test]
fn a_review_sees_which_effective_values_change() {
    if !is_there("git") {
        return;
    }
    let ledger = ledger();
    let all = run(&ledger, "compare --against first").code(0).stdout_eq(str![[r#"
3 effective values change
field            before  after
desk/hold@dev    5m      9m
desk/region@dev  north   nrth
desk/hold@prod   2m      5m

"#]]);
    let (all, _) = written(&all);
    run(&ledger, "compare --against first *@prod").code(0).stdout_eq(str![[r#"
1 effective value changes
field           before  after
desk/hold@prod  2m      5m

"#]]);
    run(&ledger, "compare --against first *@prod --json").code(0).stdout_eq(str![[r#"
{"format":1,"against":"first","effects":[{"address":"desk/hold@prod","before":{"value":"2m","instead":null,"secret":false},"after":{"value":"5m","instead":null,"secret":false}}]}

"#]]);
    // From a working tree of its own, and from a repository that has none.
    let top = ledger.path("..");
    git(&top, &["add", "-A"]);
    git(&top, &["commit", "-qm", "second"]);
    git(&top, &["worktree", "add", "-q", "--detach", "other", "main"]);
    git(&top, &["clone", "-q", "--bare", ".", "bare.git"]);
    let path = std::env::var_os("PATH").unwrap();
    for (folder, revision) in
        [("ledger", "first"), ("bare.git", "first"), ("other/ledger", "first"), ("bare.git", "main^")]
    {
        let command = program().env("PATH", &path).current_dir(&top).args([
            "-C",
            folder,
            "compare",
            "--against",
            revision,
        ]);
        assert_eq!(written(&command.assert().code(0)).0, all, "{folder} {revision}");
    }
}

/// The demo as the first commit of a repository.
pub(crate) fn demo_in_git() -> TestLedger {
    let ledger = TestLedger::demo();
    let top = ledger.path("");
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "first"]] {
        git(&top, arguments);
    }
    ledger
}

#[test]
fn the_demo_has_no_news_as_it_is() {
    if !is_there("git") {
        return;
    }
    let ledger = demo_in_git();
    let (out, err) = written(&run(&ledger, "check --against HEAD").code(0));
    assert!(
        out.starts_with("ok: nothing new in 7 units") && err.contains("Since HEAD: 0 new findings, 0 gone, "),
        "{out}{err}"
    );
    let (out, _) = written(&run(&ledger, "compare --against HEAD").code(0));
    assert_eq!(out, "No effective value changes.\n");
}

#[test]
fn what_cannot_be_compared_is_told() {
    if !is_there("git") {
        return;
    }
    let ledger = ledger();
    run(&ledger, "check --against nope").code(2).stderr_eq(str![[r#"
error: there is no revision `nope`
help: name a branch, a tag or a commit

"#]]);
    run(&ledger, "check --against --help-me").code(2);
    ledger.command("check --against first").env("PATH", "/nowhere").assert().code(3).stderr_eq(str![[r#"
error: git is needed to read a revision, and cannot be started: No such file or directory (os error 2)
help: install git, or leave out --against

"#]]);
    let top = ledger.path("..");
    ledger.write("stages/dev.toml", "[units.desk\n");
    git(&top, &["add", "-A"]);
    git(&top, &["commit", "-qm", "broken"]);
    ledger.write("stages/dev.toml", "");
    run(&ledger, "check --against HEAD").code(2).stderr_eq(str![[r#"
error: this is not TOML: unclosed table, expected `]`
 --> stages/dev.toml:1:12
  |
1 | [units.desk
  |            ^

error: the ledger as it was at `HEAD` cannot be read, for 1 mistake

"#]]);
    std::fs::remove_dir_all(ledger.path("../.git")).unwrap();
    let outside = ledger.command("check --against first").env("PATH", std::env::var_os("PATH").unwrap());
    let (_, err) = written(&outside.env("GIT_CEILING_DIRECTORIES", "/").assert().code(2));
    assert!(err.contains("is in no git repository"), "{err}");
}
