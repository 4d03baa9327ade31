//! How close many deliveries to a slow service come to what its delay alone asks for, as ratios taken in one run.
//!
//! `cargo bench --bench deliveries` brings 1,000 units to a service that answers after 50 ms, eight at once, and prints
//! each command's time beside that of its requests alone.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark talks to its caller")]

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use cledger_standin::{Fault, Options, StandIn};
use tempfile::TempDir;

const UNITS: usize = 1000;
const AT_ONCE: u32 = 8;
const DELAY: Duration = Duration::from_millis(50);

/// What the time may be, as a multiple of what the requests alone take.
const AIM: f64 = 1.3;

/// A ledger of units with one variable each, and the service as its outlet.
fn write(ledger: &Path, service: &str) {
    fs::create_dir_all(ledger.join("units")).unwrap();
    fs::create_dir_all(ledger.join("stages/dev")).unwrap();
    let manifest = format!(
        "format = 1\nname = \"Many\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
         [[outlet]]\nname = \"boards\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"{service}\"\n"
    );
    fs::write(ledger.join("ledger.toml"), manifest).unwrap();
    for unit in 0..UNITS {
        fs::write(ledger.join(format!("units/unit-{unit}.toml")), "[variables.quay]\n").unwrap();
    }
    says(ledger, "north");
}

fn says(ledger: &Path, quay: &str) {
    for unit in 0..UNITS {
        fs::write(ledger.join(format!("stages/dev/unit-{unit}.toml")), format!("quay = \"{quay}\"\n"))
            .unwrap();
    }
}

fn main() {
    let folder = TempDir::new().unwrap();
    let [ledger, documents, state] = ["ledger", "documents", "state"].map(|name| folder.path().join(name));
    fs::create_dir(&documents).unwrap();
    let service = StandIn::start(Options { folder: documents, ..Options::default() }).unwrap();
    service.set_fault("/", Some(Fault::Slow(DELAY)));
    write(&ledger, &service.url());
    let mut is_met = true;
    let mut run = |what: &str, arguments: &str| {
        let before = service.requests();
        let start = Instant::now();
        let mut command = Command::new(env!("CARGO_BIN_EXE_cledger"));
        command.env("CLEDGER_STATE", &state).env("CLEDGER_WHO", "ada").arg("-C").arg(&ledger);
        command.args(arguments.split(' ')).args(["--trust", "--at-once", &AT_ONCE.to_string()]);
        let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
        assert!(status.success(), "{arguments}");
        let taken = start.elapsed();
        let requests = service.requests() - before;
        let ideal = DELAY * u32::try_from(requests).unwrap() / AT_ONCE;
        let ratio = taken.as_secs_f64() / ideal.as_secs_f64();
        is_met &= ratio <= AIM;
        println!("{what:<40} {requests:>9} {:>9.2} s {ratio:>6.2}", taken.as_secs_f64());
    };
    println!("{:<40} {:>9} {:>11} {:>6}", "1,000 units, 50 ms, 8 at once", "requests", "", "ratio");
    run("the plan of a first delivery", "deliver @dev");
    run("the first delivery", "deliver @dev --write --why first");
    run("the plan where nothing is to do", "deliver @dev");
    says(&ledger, "south");
    run("a delivery that changes all", "deliver @dev --write --why south");
    run("a withdrawal", "withdraw @dev --write --why off");
    println!("each at most {AIM} of its requests alone: {}", if is_met { "met" } else { "not met" });
}
