//! The yardstick: how long and how much memory a large ledger takes, as ratios taken in one run.
//!
//! `cargo bench --bench yardstick` makes ledgers of 2,000 units × 8 stages × 40 fields, one plain and one as real ones
//! are, prints tables, and ends with a line for each aim. Numbers after `--` replace the 2,000, the 8 and the 40;
//! `--write DIR` only writes the ledger there, the real one with `--real`.

#![expect(
    clippy::unwrap_used,
    clippy::cast_precision_loss,
    clippy::print_stdout,
    clippy::panic,
    reason = "a benchmark talks to its caller"
)]

mod aims;
mod ledger;
mod measure;
mod parts;
mod plain;
mod prepared;
mod real;

use std::io;
use std::path::{Path, PathBuf};

use clap::Command;
use fastrand::Rng;
use mimalloc::MiMalloc;
use tempfile::TempDir;
use zeroizing_alloc::ZeroAlloc;

use aims::Aims;
use ledger::{Measure, Shape, stage_name};
use measure::{Ran, merely_parse, run, run_with, size, toml_files};

// The program's own allocator, so that mere parsing is measured under the same conditions.
#[global_allocator]
static ALLOCATOR: ZeroAlloc<MiMalloc> = ZeroAlloc(MiMalloc);

const SEED: u64 = 20_261_125;

/// The program that is measured.
const PROGRAM: &str = env!("CARGO_BIN_EXE_cledger");

/// What is asked about one unit.
const OF_ONE_UNIT: [&str; 5] = [
    "show unit-10@stage-1",
    "get unit-10/value-1@stage-1",
    "trace unit-10/ask@stage-1",
    "matrix unit-10",
    "--trust run unit-10@stage-0 -- true",
];

/// What looks at all of a ledger.
const OF_ALL: [&str; 11] = [
    "check",
    "check --json",
    "check --against HEAD~1",
    "compare @stage-1 @stage-2",
    "matrix --csv",
    "search --equals 45s",
    "replace */value-1@stage-1 --equals 45s --to 44s --dry-run",
    "--trust render @stage-1 --out OUT",
    "impact shared/domain@stage-1",
    "list units",
    "status",
];

/// Edits, as they are shown.
const EDITS: [&str; 14] = [
    "add variable unit-10/horn --dry-run",
    "add output unit-10 horn.env --format dotenv --dry-run",
    "change unit-10/value-1 --default 31s --dry-run",
    "remove output:unit-10/unit.env --dry-run",
    "rename unit-10 horn --dry-run",
    "rename unit-10/value-1 value-99 --dry-run",
    "rename shared/domain realm --dry-run",
    "set unit-10/value-1@stage-1=31s --dry-run",
    "set shared/domain@stage-1=quay.example --dry-run",
    "replace unit-10/value-1@stage-1 --to 31s --dry-run",
    "replace */value-1@stage-1 --to 31s --dry-run",
    "add outlet horn --kind directory --stages stage-0 --path ../horn --dry-run",
    "add rule horn --fields */value-1 --max 99m --dry-run",
    "add stage horn --like stage-1 --dry-run",
];

/// The numbers of units between which the time for one is compared.
const GROWTH: [usize; 4] = [500, 1000, 2000, 4000];

/// Writes a ledger into a folder that is there, the same each time.
fn write(folder: &Path, measure: Measure) -> io::Result<()> {
    let mut random = Rng::with_seed(SEED);
    match measure.shape {
        Shape::Plain => plain::write(folder, measure, &mut random),
        Shape::Real | Shape::RealWithoutMistakes => real::write(folder, measure, &mut random),
    }
}

fn cledger(folder: &Path, words: &str) -> Ran {
    run(PROGRAM, folder, &words.split(' ').collect::<Vec<_>>())
}

/// A ledger that was written, and what merely parsing it takes.
struct Yardstick {
    folder: TempDir,
    parsing: Ran,
    bytes: u64,
}

impl Yardstick {
    fn new(measure: Measure) -> Self {
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), measure).unwrap();
        let parsing = run(std::env::current_exe().unwrap(), folder.path(), &["--merely-parse", "."]);
        let bytes = size(&toml_files(folder.path()));
        Self { folder, parsing, bytes }
    }

    fn run(&self, words: &str) -> Ran {
        cledger(self.folder.path(), words)
    }
}

fn heading(what: &str, measure: &str) {
    println!("\n| {what:<60} |        time   | {measure:>8} | peak      |");
    println!("|{:-<62}|---------------|----------|-----------|", "");
}

fn row(what: &str, ran: Ran, ratio: f64) {
    println!("| {what:<60} | {:>9.1} ms | {ratio:>8.2} | {:>5} MiB |", ran.milliseconds(), ran.memory);
}

fn main() {
    let numbers: Vec<usize> = std::env::args().skip(1).filter_map(|text| text.parse().ok()).collect();
    let number = |at: usize, usual: usize| numbers.get(at).copied().unwrap_or(usual);
    let is_real = std::env::args().any(|argument| argument == "--real");
    let shape = if is_real { Shape::Real } else { Shape::Plain };
    let measure = Measure { shape, units: number(0, 2000), stages: number(1, 8), fields: number(2, 40) };
    let after = |option: &str| {
        let at = std::env::args().position(|argument| argument == option)?;
        std::env::args().nth(at + 1)
    };
    if let Some(folder) = after("--write") {
        return write(Path::new(&folder), measure).unwrap();
    }
    if let Some(folder) = after("--merely-parse") {
        return assert_ne!(merely_parse(&toml_files(&PathBuf::from(folder))), 0);
    }
    if let Some(count) = after("--bare") {
        return bare(count.parse().unwrap());
    }
    let mut aims = Aims::default();
    let plain = Yardstick::new(Measure { shape: Shape::Plain, ..measure });
    let real = Yardstick::new(Measure { shape: Shape::Real, ..measure });
    // What hands values out refuses where some are missing.
    let clean = Yardstick::new(Measure { shape: Shape::RealWithoutMistakes, ..measure });
    println!(
        "{} units × {} stages × {} fields = {} values, and instances in the real one; {} threads",
        measure.units,
        measure.stages,
        measure.fields,
        measure.values(),
        rayon::current_num_threads(),
    );
    checks(&plain, &real, &clean, &mut aims);
    of_all(&clean, measure, &mut aims);
    of_one_unit(&clean, measure, &mut aims);
    edits(&clean, &mut aims);
    growth(measure, &mut aims);
    starting(&clean, &mut aims);
    parts::print(plain.folder.path());
    aims.print();
}

/// `check` of both yardsticks.
fn checks(plain: &Yardstick, real: &Yardstick, clean: &Yardstick, aims: &mut Aims) {
    heading("`check` from start to end", "to parse");
    for (what, yardstick) in
        [("plain", plain), ("as real ones are", real), ("the same without its mistakes", clean)]
    {
        row(&format!("merely parsing: {what}"), yardstick.parsing, 1.0);
        let check = yardstick.run("check");
        row(&format!("`cledger check`: {what}"), check, check.to(yardstick.parsing));
        aims.at_most(&format!("`check` to parsing, {what}"), check.to(yardstick.parsing), 1.3);
        let memory = 4.0 * yardstick.bytes as f64 / f64::from(1 << 20) + 25e6 / f64::from(1 << 20);
        aims.at_most(&format!("memory of `check` in MiB, {what}"), check.memory as f64, memory);
    }
    let without = clean.run("check");
    for words in ["check", "check --json"] {
        aims.at_most(&format!("`{words}` with mistakes to without"), real.run(words).to(without), 1.1);
    }
}

/// Commands that look at all of a ledger.
fn of_all(ledger: &Yardstick, measure: Measure, aims: &mut Aims) {
    let folder = ledger.folder.path();
    prepared::commit_twice(folder);
    let records = prepared::record(folder, measure, &stage_name(1));
    let out = tempfile::tempdir().unwrap();
    heading(&format!("what looks at all of the real one, with {records} records"), "to parse");
    for words in OF_ALL {
        let ran = ledger.run(&words.replace("OUT", &out.path().to_string_lossy()));
        row(&format!("`{words}`"), ran, ran.to(ledger.parsing));
        aims.at_most(&format!("`{words}` to parsing"), ran.to(ledger.parsing), 3.0);
    }
}

/// What is asked about one unit, beside the same in a ledger of twenty.
fn of_one_unit(ledger: &Yardstick, measure: Measure, aims: &mut Aims) {
    let small = Yardstick::new(Measure { shape: Shape::RealWithoutMistakes, units: 20, ..measure });
    heading("what is asked about one unit, to the same in a ledger of 20", "to small");
    for words in OF_ONE_UNIT {
        let (ran, in_small) = (ledger.run(words), small.run(words));
        row(&format!("`{words}`"), ran, ran.to(in_small));
        aims.at_most(&format!("`{words}` to the same in a ledger of 20 units"), ran.to(in_small), 1.5);
        aims.at_most(&format!("`{words}` in ms"), ran.milliseconds(), 20.0);
    }
}

fn edits(ledger: &Yardstick, aims: &mut Aims) {
    heading("an edit by command, as it is shown", "to parse");
    for words in EDITS {
        let (ran, what) = (ledger.run(words), words.trim_end_matches(" --dry-run"));
        row(&format!("`{what}`"), ran, ran.to(ledger.parsing));
        let most = if what.starts_with("set") { 1.5 } else { 3.0 };
        aims.at_most(&format!("`{what}` to parsing"), ran.to(ledger.parsing), most);
    }
}

/// What one unit more takes.
fn growth(measure: Measure, aims: &mut Aims) {
    heading("`check` of the real one as it grows", "a unit");
    let ran = GROWTH.map(|units| {
        let yardstick = Yardstick::new(Measure { shape: Shape::Real, units, ..measure });
        (units, yardstick.run("check"))
    });
    let of_one = |(units, ran): (usize, Ran)| ran.milliseconds() / units as f64;
    for (units, check) in ran {
        row(&format!("{units} units"), check, of_one((units, check)) / of_one(ran[0]));
    }
    let worst = ran.iter().map(|&it| of_one(it) / of_one(ran[0])).fold(0.0, f64::max);
    aims.at_most("time for a unit among 4,000 to among 500", worst, 1.1);
}

fn starting(ledger: &Yardstick, aims: &mut Aims) {
    let folder = ledger.folder.path();
    let help = std::process::Command::new(PROGRAM).arg("--help").output().unwrap();
    let is_command =
        |line: &&str| line.starts_with("  ") && line.as_bytes().get(2).is_some_and(u8::is_ascii_lowercase);
    let commands = String::from_utf8_lossy(&help.stdout).lines().filter(is_command).count();
    let bare = run(std::env::current_exe().unwrap(), folder, &["--bare", &commands.to_string()]);
    let version = run(PROGRAM, folder, &["--version"]);
    let variables = [("CLEDGER_COMPLETE", "bash"), ("_CLAP_IFS", "\n"), ("_CLAP_COMPLETE_INDEX", "2")];
    let completion = run_with(PROGRAM, folder, &["--", "cledger", "get", "unit-10/val"], &variables);
    heading("starting", "to bare");
    row(&format!("a bare program of {commands} commands"), bare, 1.0);
    row("`cledger --version`", version, version.to(bare));
    row("completing `unit-10/val`", completion, completion.to(bare));
    aims.at_most("`--version` to a bare program", version.to(bare), 1.5);
    aims.at_most("completion of an address in ms", completion.milliseconds(), 30.0);
}

/// A program that has so many commands, and says its version.
fn bare(commands: usize) {
    let all = (0..commands).map(|number| Command::new(format!("command-{number}")));
    let program = Command::new("bare").version("0.1.0").subcommands(all);
    assert!(program.try_get_matches_from(["bare", "--version"]).is_err());
}
