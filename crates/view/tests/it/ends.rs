//! The terminal is left as it was also where the program fails.

use std::env::current_exe;
use std::fs;
use std::thread;
use std::time::Duration;

use cledger_view::{Look, browse};
use cledger_work::browse::Browser;
use cledger_work::matrix::ToTabulate;
use portable_pty::CommandBuilder;
use tempfile::TempDir;

use crate::looker::workplace;
use crate::pty::Pty;

/// Fails while the view is there; it runs in a terminal of its own.
#[test]
#[ignore = "the test below starts it, in a terminal"]
fn a_view_with_a_thread_that_panics() {
    let folder = TempDir::new().unwrap();
    fs::create_dir_all(folder.path().join("ledger/units")).unwrap();
    let manifest =
        "format = 1\nname = \"Locks and Pumps\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n";
    fs::write(folder.path().join("ledger/ledger.toml"), manifest).unwrap();
    fs::write(folder.path().join("ledger/units/lock.toml"), "[variables.depth]\ndefault = \"2\"\n").unwrap();
    let browser = Browser::start(&workplace(&folder), ToTabulate::default(), None);
    thread::spawn(|| {
        // Whoever starts this has seen the view by then, or sees the terminal before it: both must end alike.
        thread::sleep(Duration::from_millis(500));
        unreachable!("the pump is broken");
    });
    let error = browse(&browser, Look { colours: true }).unwrap_err();
    println!("the view said: {error}");
}

#[test]
fn a_panic_leaves_the_terminal_as_it_was() {
    let mut command = CommandBuilder::new(current_exe().unwrap());
    command.args(["--ignored", "--exact", "--nocapture", "ends::a_view_with_a_thread_that_panics"]);
    command.env("TERM", "xterm-256color");
    let (status, screen) = Pty::start(command, (100, 30)).ended();
    assert_eq!(status, 0, "{screen}");
    assert!(screen.contains("the pump is broken"), "{screen}");
    assert!(screen.contains("the view said: a part of the program has failed, as told above"), "{screen}");
}
