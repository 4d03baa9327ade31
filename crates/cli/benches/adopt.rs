//! What adopting again costs: 8,000 names in three stages, and 4,000 of their values changed, as a ratio taken in one run.
//!
//! `cargo bench --bench adopt` prints a table.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark talks to its caller")]

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use tempfile::TempDir;

const NAMES: usize = 8_000;
const STAGES: [&str; 3] = ["dev", "test", "prod"];

/// Each measurement is taken so many times, and the best one counts: the others were disturbed.
const ROUNDS: usize = 5;

/// A stage's old file; every other value may be another one.
fn old(stage: &str, changed: bool) -> String {
    let mut text = String::new();
    for at in 0..NAMES {
        let more = if changed && at % 2 == 0 { "-changed" } else { "" };
        writeln!(text, "area{}.group{}.name{at}={stage}-{}{more}", at % 90, at % 700, at * 7).unwrap();
    }
    text
}

fn write(folder: &Path, changed: bool) {
    for stage in STAGES {
        fs::write(folder.join(format!("{stage}.properties")), old(stage, changed && stage == "test"))
            .unwrap();
    }
}

fn adopt(ledger: &Path, old: &Path, take: &[&str]) -> Duration {
    let sources = STAGES.map(|stage| format!("{stage}={}/{stage}.properties", old.display()));
    let mut command = Command::new(env!("CARGO_BIN_EXE_cledger"));
    command.arg("-C").arg(ledger).args(["adopt", "big"]).args(sources).args(take);
    command.args(["--write", "--plain-secrets", "--countersign", "prod"]);
    let start = Instant::now();
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    let taken = start.elapsed();
    assert!(status.success());
    taken
}

fn main() {
    let (mut first, mut again) = (Duration::MAX, Duration::MAX);
    for _ in 0..ROUNDS {
        let folder = TempDir::new().unwrap();
        let [ledger, old] = ["ledger", "old"].map(|name| folder.path().join(name));
        fs::create_dir_all(&ledger).unwrap();
        fs::create_dir_all(&old).unwrap();
        let mut manifest = String::from("format = 1\nname = \"Old\"\n");
        for (stage, class) in STAGES.into_iter().zip(["development", "test", "production"]) {
            writeln!(manifest, "[[stage]]\nname = \"{stage}\"\nclass = \"{class}\"").unwrap();
        }
        fs::write(ledger.join("ledger.toml"), manifest).unwrap();
        write(&old, false);
        first = first.min(adopt(&ledger, &old, &[]));
        write(&old, true);
        again = again.min(adopt(&ledger, &old, &["--take", "*"]));
    }
    println!("| adopting {NAMES} names in {} stages | time to the first |\n| --- | --- |", STAGES.len());
    println!("| the first time | 1.00 |");
    println!("| again, {} values changed | {:.2} |", NAMES / 2, again.as_secs_f64() / first.as_secs_f64());
}
