//! The yardstick: how long and how much memory a large ledger takes, as ratios taken in one run.
//!
//! `cargo bench --bench yardstick` makes a ledger of 2,000 units × 8 stages × 40 fields and one of
//! 20 units, and prints a table. Numbers after `--` replace the 2,000, the 8 and the 40, and
//! `--write DIR` only writes the ledger there.

#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::panic,
    reason = "a benchmark talks to its caller"
)]

mod ledger;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use cledger_core::findings;
use cledger_core::resolve::{FieldId, Resolver, Unfetched};
use cledger_store::{Disk, Scope, read};
use ledger::{Measure, stage_name, write};
use mimalloc::MiMalloc;
use rayon::prelude::*;
use toml::de::DeTable;
use wait4::Wait4;

// The program's own allocator, so that mere parsing is measured under the same conditions.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

const SEED: u64 = 20_261_125;

/// Each measurement is taken so many times, and the best one counts: the others were disturbed.
const ROUNDS: usize = 7;

fn best<T>(mut run: impl FnMut() -> T) -> Duration {
    (0..ROUNDS)
        .map(|_| {
            let start = Instant::now();
            let kept = run();
            let taken = start.elapsed();
            drop(kept);
            taken
        })
        .min()
        .unwrap()
}

/// All files of a ledger that hold TOML.
fn toml_files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                found.push(path);
            }
        }
    }
    found
}

/// Runs the program in a ledger: the best time, and the peak memory in MiB.
fn program(folder: &Path, arguments: &[&str]) -> (Duration, u64) {
    let mut memory = 0;
    let taken = best(|| {
        let mut child = Command::new(env!("CARGO_BIN_EXE_cledger"))
            .args(arguments)
            .current_dir(folder)
            .stdout(Stdio::null())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let used = child.wait4().unwrap();
        assert!(used.status.success(), "cledger {arguments:?}: {}", used.status);
        memory = used.rusage.maxrss >> 20;
    });
    (taken, memory)
}

fn row(what: &str, taken: Duration, parsing: Duration, memory: Option<u64>) {
    let ratio = taken.as_secs_f64() / parsing.as_secs_f64();
    let memory = memory.map(|mib| format!("{mib} MiB")).unwrap_or_default();
    println!("| {what:<44} | {:>9.1} ms | {ratio:>8.2} | {memory:>9} |", taken.as_secs_f64() * 1000.0);
}

fn main() {
    let numbers: Vec<usize> = std::env::args().skip(1).filter_map(|text| text.parse().ok()).collect();
    let number = |at: usize, usual: usize| numbers.get(at).copied().unwrap_or(usual);
    let measure = Measure { units: number(0, 2000), stages: number(1, 8), fields: number(2, 40) };
    if let Some(at) = std::env::args().position(|argument| argument == "--write") {
        let folder = PathBuf::from(std::env::args().nth(at + 1).unwrap());
        return write(&folder, measure, SEED).unwrap();
    }
    let large = tempfile::tempdir().unwrap();
    let small = tempfile::tempdir().unwrap();
    write(large.path(), measure, SEED).unwrap();
    write(small.path(), Measure { units: 20, ..measure }, SEED).unwrap();

    // First of all: a program starts with the memory of the one that starts it as its peak.
    let shown = format!("unit-10@{}", stage_name(1));
    let (in_large, large_memory) = program(large.path(), &["show", &shown]);
    let (in_small, small_memory) = program(small.path(), &["show", &shown]);
    let (taken, memory) = program(large.path(), &["check"]);

    let files = toml_files(large.path());
    let texts: Vec<String> = files.par_iter().map(|path| fs::read_to_string(path).unwrap()).collect();
    let bytes: usize = texts.iter().map(String::len).sum();
    println!(
        "{} units × {} stages × {} fields = {} values; {} files, {:.1} MB; {} threads\n",
        measure.units,
        measure.stages,
        measure.fields,
        measure.values(),
        files.len(),
        bytes as f64 / 1e6,
        rayon::current_num_threads(),
    );

    let reading = best(|| files.par_iter().map(|path| fs::read_to_string(path).unwrap()).collect::<Vec<_>>());
    let parse = |text: &str| DeTable::parse(text).unwrap().into_inner().len();
    let parsing = best(|| texts.par_iter().map(|text| parse(text)).sum::<usize>());
    let both = best(|| files.par_iter().map(|path| parse(&fs::read_to_string(path).unwrap())).sum::<usize>());
    let tree = Disk(large.path().to_owned());
    let load = || read(&tree, &Scope::Whole).unwrap_or_else(|unreadable| panic!("{unreadable}"));
    let loading = best(load);
    let ledger = load();
    let resolver = || Resolver::new(&ledger, &Unfetched, &[]);
    let resolving = best(|| resolve_all(&resolver()));
    let judging = best(|| findings::check(&resolver(), None));

    println!("| what                                         |        time   | to parse | peak      |");
    println!("|----------------------------------------------|---------------|----------|-----------|");
    row("reading the files alone", reading, both, None);
    row("parsing alone, the texts in memory", parsing, both, None);
    row("reading and merely parsing: the measure", both, both, None);
    row("loading the ledger", loading, both, None);
    row("resolving all values of the loaded ledger", resolving, both, None);
    row("judging the loaded ledger", judging, both, None);
    row("`cledger check`, the whole program", taken, both, Some(memory));
    row("`cledger show` of one unit", in_large, both, Some(large_memory));
    row("the same in a ledger of 20 units", in_small, both, Some(small_memory));
    println!(
        "\ncheck takes {:.2} of merely parsing (1.5 is asked for); show takes {:.2} of what it takes in a small \
         ledger (1.5 is asked for), and {:.1} ms (20 are asked for)",
        taken.as_secs_f64() / both.as_secs_f64(),
        in_large.as_secs_f64() / in_small.as_secs_f64(),
        in_large.as_secs_f64() * 1000.0,
    );
}

/// Resolves every field of every unit in every stage, and counts the values.
fn resolve_all(resolver: &Resolver<'_>) -> usize {
    let ledger = resolver.ledger();
    let units: Vec<_> = ledger.unit_ids().collect();
    units
        .par_iter()
        .map_init(
            || resolver.session(None),
            |session, &unit| {
                session.move_to(unit);
                let mut values = 0;
                for stage in ledger.stage_ids().filter(|&stage| ledger.unit(unit).belongs_to(stage, None)) {
                    let subject = cledger_core::model::Subject::Unit(unit, None);
                    for slot in ledger.slots(subject).all() {
                        let outcome = session.outcome(FieldId { subject, stage, slot });
                        values += usize::from(outcome.value().is_some());
                    }
                }
                values
            },
        )
        .sum()
}
