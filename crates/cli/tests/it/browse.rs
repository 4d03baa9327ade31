//! `browse`, in a terminal of its own: keys, sizes, slow outlets, and how it ends.

use std::fs;
use std::thread::sleep;
use std::time::{Duration, Instant};

use cledger_standin::{Fault, Options, StandIn};
use portable_pty::CommandBuilder;
use snapbox::cmd::cargo_bin;

use crate::pty::Pty;
use crate::test_ledger::{SMALL, TestLedger};

/// The program in the ledger's folder, in a terminal of this size.
fn browse(ledger: &TestLedger, pattern: &str, size: (u16, u16)) -> Pty {
    let mut command = CommandBuilder::new(cargo_bin!("cledger"));
    command.args(["--trust", "browse", pattern]);
    started(ledger, command, size)
}

fn started(ledger: &TestLedger, mut command: CommandBuilder, size: (u16, u16)) -> Pty {
    command.cwd(ledger.path(""));
    for (name, _) in std::env::vars() {
        if name.starts_with("CLEDGER_") || ["COLUMNS", "LINES", "NO_COLOR"].contains(&&*name) {
            command.env_remove(name);
        }
    }
    command.env("CLEDGER_STATE", ledger.state());
    command.env("TERM", "xterm-256color");
    Pty::start(command, size)
}

#[test]
fn a_value_is_found_changed_and_told_at_the_end() {
    let ledger = TestLedger::small();
    let mut pty = browse(&ledger, "desk", (80, 24));
    pty.until("desk/db.host@dev");
    // Down by an arrow, then typed.
    pty.types("/region\r");
    pty.until("desk/region@dev");
    pty.until("stage dev, for desk");
    pty.types("s");
    pty.until("│value    north");
    pty.types("\u{7f}\u{7f}\u{7f}\u{7f}\u{7f}south\r");
    pty.until("This would change.");
    assert!(ledger.read("stages/dev.toml").contains("region = \"north\""));
    pty.types("\r");
    pty.until("Made.");
    // It is told at the end, however that comes.
    pty.signal("HUP");
    let (status, screen) = pty.ended();
    assert_eq!(status, 3);
    assert!(screen.contains("error: a signal ended the view"), "{screen}");
    assert!(screen.contains("desk/region@dev: north became south, in stages/dev.toml"), "{screen}");
    assert!(ledger.read("stages/dev.toml").contains("region = \"south\""));
}

#[test]
fn arrows_move_and_another_size_is_drawn_anew() {
    let ledger = TestLedger::small();
    let mut pty = browse(&ledger, "desk", (80, 24));
    pty.until("desk/db.host@dev");
    pty.types("\u{1b}[B\u{1b}[C");
    pty.until("desk/db.port@prod");
    pty.resize(132, 40);
    // The pane stands beside the fields now.
    pty.until_so("beside", |screen| screen.lines().any(|line| line.contains("│value")));
    pty.types("\u{3}");
    let (status, screen) = pty.ended();
    assert_eq!((status, screen.trim()), (0, ""));
}

#[test]
fn an_outlet_that_hangs_is_not_waited_for_and_a_signal_ends_the_view_in_order() {
    let folder = tempfile::tempdir().unwrap();
    let standin = StandIn::start(Options { folder: folder.path().to_owned(), ..Options::default() }).unwrap();
    standin.set_fault("/", Some(Fault::Hang));
    let ledger = TestLedger::with(SMALL);
    let manifest = ledger.read("ledger.toml");
    let outlet = format!(
        "[[outlet]]\nname = \"board\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"{}\"\npath = \"desk\"\n",
        standin.url()
    );
    ledger.write("ledger.toml", manifest + &outlet);
    let mut pty = browse(&ledger, "desk", (80, 24));
    pty.until("desk/db.host@dev");
    pty.types("o");
    pty.until("Looking at the outlets of desk@dev");
    pty.types("j");
    pty.until("desk/db.port@dev");
    pty.until("default, for shared: by its kind");
    pty.types("s");
    pty.until("│address  desk/db.port@dev");
    pty.signal("TERM");
    let (status, screen) = pty.ended();
    assert_eq!(status, 3);
    assert!(screen.contains("a signal ended the view"), "{screen}");
}

#[test]
fn where_nothing_can_be_shown_that_is_said_before_anything_is_drawn() {
    let ledger = TestLedger::small();
    for (arguments, expected) in [
        ("browse desk", "there is no terminal here to show a view in"),
        ("browse --json", "a view in the terminal is no document"),
    ] {
        let run = ledger.run(arguments).code(2);
        let output = run.get_output();
        let told = String::from_utf8_lossy(&output.stderr);
        assert!(told.contains(expected) && told.contains("cledger matrix"), "{told}");
    }
    let (status, screen) = browse(&ledger, "nosuch", (80, 24)).ended();
    assert_eq!(status, 2);
    assert!(screen.contains("`nosuch` covers nothing"), "{screen}");
}

/// A terminal within a terminal, of which the outer one ends without a word: the program ends as well, and does not go on
/// reading nothing.
#[test]
fn a_terminal_that_is_gone_ends_the_view() {
    let ledger = TestLedger::small();
    let mut command = CommandBuilder::new("script");
    let program = cargo_bin!("cledger").display().to_string();
    command.args(["--quiet", "--flush", "--command", &format!("{program} browse desk"), "/dev/null"]);
    let pty = started(&ledger, command, (80, 24));
    pty.until("desk/db.host@dev");
    let folder = ledger.path("").canonicalize().unwrap();
    let is_there = || {
        let processes = fs::read_dir("/proc").unwrap().flatten();
        processes.map(|process| process.path()).any(|process| {
            let is_ours = fs::read_link(process.join("exe")).is_ok_and(|exe| exe.ends_with("cledger"));
            is_ours && fs::read_link(process.join("cwd")).is_ok_and(|cwd| cwd == folder)
        })
    };
    assert!(is_there());
    pty.signal("KILL");
    let start = Instant::now();
    while is_there() {
        assert!(start.elapsed() < Duration::from_secs(60), "it is still there");
        sleep(Duration::from_millis(20));
    }
}
