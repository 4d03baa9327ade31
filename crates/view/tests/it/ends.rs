//! The terminal is left as it was also where the program fails.

use std::env::{self, current_exe};
use std::path::Path;
use std::time::Duration;
use std::{fs, thread};

use cledger_view::{Look, browse};
use cledger_work::browse::Browser;
use cledger_work::matrix::ToTabulate;
use portable_pty::CommandBuilder;
use tempfile::TempDir;

use crate::looker::workplace;
use crate::pty::Pty;

/// The variable with the path of a file that is there once the view was seen.
const SIGN: &str = "VIEW_WAS_SEEN";

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
    let sign = env::var_os(SIGN).unwrap();
    thread::spawn(move || {
        while !Path::new(&sign).exists() {
            thread::sleep(Duration::from_millis(10));
        }
        unreachable!("the pump is broken");
    });
    let ended = browse(&browser, Look { colors: true });
    println!("the view said: {}", ended.trouble.unwrap());
}

#[test]
fn a_panic_leaves_the_terminal_as_it_was() {
    let mut command = CommandBuilder::new(current_exe().unwrap());
    command.args(["--ignored", "--exact", "--nocapture", "ends::a_view_with_a_thread_that_panics"]);
    command.env("TERM", "xterm-256color");
    let folder = TempDir::new().unwrap();
    let sign = folder.path().join("seen");
    command.env(SIGN, &sign);
    let pty = Pty::start(command, (100, 30));
    pty.until("lock/depth@dev");
    fs::write(sign, "").unwrap();
    let (status, screen) = pty.ended();
    assert_eq!(status, 0, "{screen}");
    assert!(screen.contains("the pump is broken"), "{screen}");
    assert!(screen.contains("the view said: a part of the program has failed, as told above"), "{screen}");
}
