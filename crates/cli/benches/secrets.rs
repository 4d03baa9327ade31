//! What encryption costs: 10,000 secrets of one stage, as ratios taken in one run.
//!
//! `cargo bench --bench secrets` makes two ledgers of 250 units × 40 secrets, one with encrypted secrets
//! and one with the same in plain text, renders the stage in both, and prints a table.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark talks to its caller")]

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::{Disk, Identity, Keys, Scope, Surroundings, read};
use mimalloc::MiMalloc;
use tempfile::TempDir;

// The program's own allocator, so that both are measured under the same conditions.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

const UNITS: usize = 250;
const FIELDS: usize = 40;

/// Each measurement is taken so many times, and the best one counts: the others were disturbed.
const ROUNDS: usize = 7;

fn best<T>(mut run: impl FnMut() -> T) -> Duration {
    let rounds = (0..ROUNDS).map(|_| {
        let start = Instant::now();
        let made = run();
        let taken = start.elapsed();
        drop(made);
        taken
    });
    rounds.min().unwrap_or_default()
}

fn cledger(ledger: &Path, identity: &Path, arguments: &[&str]) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_cledger"));
    command.env("CLEDGER_IDENTITY", identity).env("CLEDGER_WHO", "ada").arg("-C").arg(ledger).args(arguments);
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    assert!(status.success(), "{arguments:?}");
}

/// A ledger whose secrets stand in plain text.
fn write(ledger: &Path) {
    fs::create_dir_all(ledger.join("units")).unwrap();
    fs::create_dir_all(ledger.join("stages")).unwrap();
    let manifest = "format = 1\nname = \"Secrets\"\n[[stage]]\nname = \"test\"\nclass = \"test\"\n";
    fs::write(ledger.join("ledger.toml"), manifest).unwrap();
    let mut stage = String::new();
    for unit in 0..UNITS {
        let mut contract = String::from("[[output]]\npath = \"all.env\"\nformat = \"dotenv\"\n");
        writeln!(stage, "[units.unit-{unit}]").unwrap();
        for field in 0..FIELDS {
            writeln!(contract, "[variables.secret-{field}]\nsecret = true").unwrap();
            writeln!(stage, "secret-{field} = \"tide-{unit}-{field}-0123456789\"").unwrap();
        }
        fs::write(ledger.join(format!("units/unit-{unit}.toml")), contract).unwrap();
    }
    fs::write(ledger.join("stages/test.toml"), stage).unwrap();
}

fn main() {
    let folder = TempDir::new().unwrap();
    let [plain, sealed, identity] = ["plain", "sealed", "identity"].map(|name| folder.path().join(name));
    write(&plain);
    write(&sealed);
    cledger(&sealed, &identity, &["key", "identity"]);
    cledger(&sealed, &identity, &["key", "make", "@test", "--write"]);
    cledger(&sealed, &identity, &["key", "protect", "@test", "--write"]);
    let person = || Arc::new(Identity::at(Some(identity.clone()), Arc::new(|_: &str| None)));
    let scope = KeyScope::Stage(Name::parse("test").unwrap());
    let unwrapping = best(|| Keys::new(Disk::new(sealed.clone()), person()).key(&scope).is_ok());
    let resolving = |folder: &Path| {
        let ledger = read(&Disk::new(folder.to_owned()), &Scope::Whole).ok().unwrap();
        best(|| {
            let outside = Surroundings::closed(Keys::new(Disk::new(folder.to_owned()), person()));
            let resolver = Resolver::new(&ledger, &outside, &[]);
            let stage = ledger.stage_id("test").unwrap();
            let subjects = ledger.subjects_in(stage);
            let all = subjects.map(|subject| rendering(&mut resolver.session(None), subject, stage));
            all.map(|rendering| rendering.outputs[0].values.len()).sum::<usize>()
        })
    };
    let (open, shut) = (resolving(&plain), resolving(&sealed));
    let mut round = 0;
    let mut rendering = |ledger: &Path| {
        best(|| {
            round += 1;
            let out = folder.path().join(format!("out-{round}"));
            cledger(ledger, &identity, &["render", "@test", "--out", &out.display().to_string()]);
        })
    };
    let (plainly, whole) = (rendering(&plain), rendering(&sealed));
    let decrypting = shut.saturating_sub(open);
    let row = |what: &str, taken: Duration| {
        let ratio = taken.as_secs_f64() / whole.as_secs_f64();
        println!("{what:<58} {:>9.1} ms {ratio:>6.2}", taken.as_secs_f64() * 1000.0);
    };
    println!("{:<58} {:>12} {:>6}", "10,000 secrets of one stage", "", "ratio");
    row("`cledger render @test`, encrypted: the measure", whole);
    row("`cledger render @test`, in plain text", plainly);
    row("unwrapping the key, once", unwrapping);
    row("decrypting all of them", decrypting);
}
