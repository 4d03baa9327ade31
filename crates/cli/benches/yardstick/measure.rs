//! How long a program takes from start to end, and how much memory at most.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rayon::prelude::*;
use toml::de::DeTable;
use wait4::Wait4;

/// Each measurement is taken so many times, and the best one counts: the others were disturbed.
const ROUNDS: usize = 7;

/// The shortest time of several.
pub(crate) fn best<T>(mut run: impl FnMut() -> T) -> Duration {
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

/// A program that was run: the best time, and the peak memory in MiB.
#[derive(Clone, Copy)]
pub(crate) struct Ran {
    pub(crate) taken: Duration,
    pub(crate) memory: u64,
}

impl Ran {
    /// How many times as long as another it took.
    pub(crate) fn to(self, other: Ran) -> f64 {
        self.taken.as_secs_f64() / other.taken.as_secs_f64()
    }

    pub(crate) fn milliseconds(self) -> f64 {
        self.taken.as_secs_f64() * 1000.0
    }
}

/// Runs a program in a folder. It may find something (status 1), and must do what it is asked for.
pub(crate) fn run(program: impl AsRef<OsStr>, folder: &Path, arguments: &[&str]) -> Ran {
    run_with(program, folder, arguments, &[])
}

/// The same with variables of the environment.
pub(crate) fn run_with(
    program: impl AsRef<OsStr>,
    folder: &Path,
    arguments: &[&str],
    variables: &[(&str, &str)],
) -> Ran {
    let mut memory = 0;
    let taken = best(|| {
        let mut child = Command::new(&program)
            .args(arguments)
            .env("STORE_PASSWORD", "yard")
            .envs(variables.iter().copied())
            .current_dir(folder)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let used = child.wait4().unwrap();
        assert!(used.status.code().is_some_and(|code| code <= 1), "{arguments:?}: {}", used.status);
        memory = used.rusage.maxrss >> 20;
    });
    Ran { taken, memory }
}

/// Runs a program once that prepares something.
pub(crate) fn prepare(program: &str, folder: &Path, arguments: &[&str]) {
    let mut command = Command::new(program);
    let status = command.args(arguments).current_dir(folder).stdout(Stdio::null()).status().unwrap();
    assert!(status.success(), "{program} {arguments:?}");
}

/// All files of a ledger that hold TOML.
pub(crate) fn toml_files(folder: &Path) -> Vec<PathBuf> {
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
pub(crate) fn merely_parse(files: &[PathBuf]) -> usize {
    files.par_iter().map(|path| keys(&fs::read_to_string(path).unwrap())).sum()
}

fn keys(text: &str) -> usize {
    DeTable::parse(text).unwrap().into_inner().len()
}

/// The size of these files in bytes.
pub(crate) fn size(files: &[PathBuf]) -> u64 {
    files.iter().map(|path| fs::metadata(path).unwrap().len()).sum()
}
