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
mod real;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use cledger_core::findings;
use cledger_core::resolve::{FieldId, Resolver, Unfetched};
use cledger_store::{Disk, Scope, read};
use jiff::civil::date;
use ledger::{Measure, Shape, stage_name, write};
use mimalloc::MiMalloc;
use rayon::prelude::*;
use toml::de::DeTable;
use wait4::Wait4;
use zeroizing_alloc::ZeroAlloc;

// The program's own allocator, so that mere parsing is measured under the same conditions.
#[global_allocator]
static ALLOCATOR: ZeroAlloc<MiMalloc> = ZeroAlloc(MiMalloc);

const SEED: u64 = 20_261_125;

/// Edits that are measured.
const EDITS: [&str; 12] = [
    "add variable unit-10/horn --dry-run",
    "add output unit-10 horn.env --format dotenv --dry-run",
    "change unit-10/value-1 --default 31s --dry-run",
    "remove output:unit-10/unit.env --dry-run",
    "rename unit-10 horn --dry-run",
    "rename unit-10/value-1 horn --dry-run",
    "set unit-10/value-1@stage-1=31s --dry-run",
    "replace unit-10/value-1@stage-1 --to 31s --dry-run",
    "replace */value-1@stage-1 --to 31s --dry-run",
    "add outlet horn --kind directory --stages stage-0 --path ../horn --dry-run",
    "add rule horn --fields */value-1 --max 99m --dry-run",
    "add stage horn --like stage-1 --dry-run",
];

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
            let (path, is_folder) = {
                let entry = entry.unwrap();
                (entry.path(), entry.file_type().unwrap().is_dir())
            };
            // What the program keeps for itself beside them is none.
            if is_folder {
                open.push(path);
            } else if path.extension().is_some_and(|ending| ending == "toml") {
                found.push(path);
            }
        }
    }
    found
}

/// Reads all files of a ledger and merely parses them: gives the number of their tables' keys.
fn merely_parse(files: &[PathBuf]) -> usize {
    files.par_iter().map(|path| keys(&fs::read_to_string(path).unwrap())).sum()
}

fn keys(text: &str) -> usize {
    DeTable::parse(text).unwrap().into_inner().len()
}

/// A program that was run: the best time, and the peak memory in MiB.
#[derive(Clone, Copy)]
struct Ran {
    taken: Duration,
    memory: u64,
}

fn run(program: impl AsRef<std::ffi::OsStr>, folder: &Path, arguments: &[&str]) -> Ran {
    let mut memory = 0;
    let taken = best(|| {
        let mut child = Command::new(&program)
            .args(arguments)
            .current_dir(folder)
            .stdout(Stdio::null())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let used = child.wait4().unwrap();
        assert!(used.status.success(), "{arguments:?}: {}", used.status);
        memory = used.rusage.maxrss >> 20;
    });
    Ran { taken, memory }
}

fn row(what: &str, taken: Duration, parsing: Duration, memory: Option<u64>) {
    let ratio = taken.as_secs_f64() / parsing.as_secs_f64();
    let memory = memory.map(|mib| format!("{mib} MiB")).unwrap_or_default();
    println!("| {what:<44} | {:>9.1} ms | {ratio:>8.2} | {memory:>9} |", taken.as_secs_f64() * 1000.0);
}

fn main() {
    let numbers: Vec<usize> = std::env::args().skip(1).filter_map(|text| text.parse().ok()).collect();
    let number = |at: usize, usual: usize| numbers.get(at).copied().unwrap_or(usual);
    let shape = if std::env::args().any(|it| it == "--real") { Shape::Real } else { Shape::Plain };
    let measure = Measure { shape, units: number(0, 2000), stages: number(1, 8), fields: number(2, 40) };
    let folder_after = |option: &str| {
        let at = std::env::args().position(|argument| argument == option)?;
        std::env::args().nth(at + 1).map(PathBuf::from)
    };
    if let Some(folder) = folder_after("--write") {
        return write(&folder, measure, SEED).unwrap();
    }
    if let Some(folder) = folder_after("--merely-parse") {
        return assert_ne!(merely_parse(&toml_files(&folder)), 0);
    }
    let large = tempfile::tempdir().unwrap();
    let small = tempfile::tempdir().unwrap();
    write(large.path(), measure, SEED).unwrap();
    write(small.path(), Measure { units: 20, ..measure }, SEED).unwrap();

    // Programs first: each starts with the memory of this one as its peak.
    let parser = run(std::env::current_exe().unwrap(), large.path(), &["--merely-parse", "."]);
    let cledger = |folder: &Path, arguments: &[&str]| run(env!("CARGO_BIN_EXE_cledger"), folder, arguments);
    let check = cledger(large.path(), &["check"]);
    let shown = format!("unit-10@{}", stage_name(1));
    let show = cledger(large.path(), &["show", &shown]);
    let show_in_small = cledger(small.path(), &["show", &shown]);

    // Each as it would be done, and nothing is written.
    let edits = EDITS.map(|words| (words, cledger(large.path(), &words.split(' ').collect::<Vec<_>>())));

    let files = toml_files(large.path());
    let kilobytes: u64 = files.iter().map(|path| fs::metadata(path).unwrap().len()).sum::<u64>() / 1000;
    println!(
        "{} units × {} stages × {} fields = {} values; {} files, {} kB; {} threads\n",
        measure.units,
        measure.stages,
        measure.fields,
        measure.values(),
        files.len(),
        kilobytes,
        rayon::current_num_threads(),
    );
    println!("| a program from start to end                  |        time   | to parse | peak      |");
    println!("|----------------------------------------------|---------------|----------|-----------|");
    for (what, ran) in [
        ("reading and merely parsing: the measure", parser),
        ("`cledger check`", check),
        ("`cledger show` of one unit", show),
        ("the same in a ledger of 20 units", show_in_small),
    ] {
        row(what, ran.taken, parser.taken, Some(ran.memory));
    }
    println!("\n| an edit by command, as it is shown           |        time   | to check | peak      |");
    println!("|----------------------------------------------|---------------|----------|-----------|");
    for (words, ran) in edits {
        let what = words.trim_end_matches(" --dry-run");
        row(&format!("`{what}`"), ran.taken, check.taken, Some(ran.memory));
    }

    let reading = best(|| files.par_iter().map(|path| fs::read_to_string(path).unwrap()).collect::<Vec<_>>());
    let parsing = best(|| merely_parse(&files));
    let tree = Disk::new(large.path().to_owned());
    let load = || read(&tree, &Scope::Whole).unwrap_or_else(|unreadable| panic!("{unreadable}"));
    let loading = best(load);
    let ledger = load();
    let resolver = || Resolver::new(&ledger, &Unfetched, &[]);
    println!("\n| a part of it, repeated in one program        |        time   | to parse |           |");
    println!("|----------------------------------------------|---------------|----------|-----------|");
    row("reading the files alone", reading, parsing, None);
    row("reading and merely parsing: the measure", parsing, parsing, None);
    row("loading the ledger", loading, parsing, None);
    row("resolving all values", best(|| resolve_all(&resolver())), parsing, None);
    row(
        "judging all values",
        best(|| findings::check(&resolver(), None, Some(date(2026, 1, 1)))),
        parsing,
        None,
    );
    let ratio = |a: Ran, b: Ran| a.taken.as_secs_f64() / b.taken.as_secs_f64();
    println!(
        "\ncheck takes {:.2} of merely parsing (1.3 is asked for); show takes {:.2} of what it takes in a small \
         ledger (1.5 is asked for), and {:.1} ms (20 are asked for)",
        ratio(check, parser),
        ratio(show, show_in_small),
        show.taken.as_secs_f64() * 1000.0,
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
