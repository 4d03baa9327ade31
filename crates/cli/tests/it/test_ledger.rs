//! A ledger in a temporary folder, and the program run in it with nothing left to chance.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use snapbox::cmd::{Command, OutputAssert};
use tempfile::TempDir;

use crate::copied::copy;

/// Two stages, a shared connection, one unit: enough for most questions.
pub(crate) const SMALL: [(&str, &str); 5] = [
    (
        "ledger.toml",
        "format = 1\nname = \"Small\"\ndefault_stage = \"dev\"\n\
         [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
         [[stage]]\nname = \"prod\"\nclass = \"production\"\n",
    ),
    ("shared.toml", "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"tides\"\n"),
    (
        "units/desk.toml",
        "uses = [\"db\"]\n[variables.hold]\ntype = \"duration\"\ndefault = \"5m\"\n\
         [variables.region]\nvary = \"must\"\none_of = [\"north\", \"south\"]\n\
         [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n",
    ),
    (
        "stages/dev.toml",
        "[shared.db]\nhost = \"db.dev.example\"\nuser = \"dev\"\npassword = \"low-tide-dev\"\n\n\
         [units.desk]\nregion = \"north\"\n",
    ),
    (
        "stages/prod.toml",
        "[shared.db]\nhost = \"db.prod.example\"\nuser = \"ferry\"\n\
         password = { from = \"env:DB_PASSWORD\" }\n\n[units.desk]\nregion = \"south\"\nhold = \"2m\"\n",
    ),
];

pub(crate) struct TestLedger {
    folder: TempDir,
    /// The ledger, below the folder.
    ledger: PathBuf,
    /// Who reads its keys, once it has some.
    identity: Option<PathBuf>,
}

impl TestLedger {
    /// A ledger of these files, by paths below it.
    pub(crate) fn with<'f>(files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Self {
        let folder = TempDir::new().unwrap();
        let ledger = folder.path().join("ledger");
        fs::create_dir(&ledger).unwrap();
        let made = Self { folder, ledger, identity: None };
        for (path, text) in files {
            made.write(path, text);
        }
        made
    }

    pub(crate) fn small() -> Self {
        Self::with(SMALL)
    }

    /// The demo: its ledger, its strongroom and its pretend live system.
    pub(crate) fn demo() -> Self {
        let made = Self::with([]);
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), made.folder.path());
        made
    }

    /// The same with keys for these stages, and their secrets under them.
    pub(crate) fn with_keys(mut self, stages: &[&str]) -> Self {
        self.identity = Some(self.folder.path().join("identity"));
        let names: Vec<String> = stages.iter().map(|stage| format!("@{stage}")).collect();
        let (names, signed) = (names.join(" "), stages.join(","));
        self.run("key identity").code(0);
        self.run(&format!("key make {names} --as ada --write --countersign {signed} --why keys")).code(0);
        self.run(&format!("key protect {names} --write --countersign {signed} --why keys")).code(0);
        self
    }

    /// A path below the ledger.
    pub(crate) fn path(&self, path: &str) -> PathBuf {
        self.ledger.join(path)
    }

    pub(crate) fn write(&self, path: &str, text: impl AsRef<[u8]>) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub(crate) fn read(&self, path: &str) -> String {
        fs::read_to_string(self.path(path)).unwrap()
    }

    /// Everything below a folder of the ledger, sorted.
    pub(crate) fn files(&self, folder: &str) -> Vec<String> {
        let mut found = Vec::new();
        let mut open = vec![self.path(folder)];
        while let Some(next) = open.pop() {
            for entry in fs::read_dir(next).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    open.push(path);
                } else {
                    found.push(path.strip_prefix(&self.ledger).unwrap().to_str().unwrap().to_owned());
                }
            }
        }
        found.sort();
        found
    }

    /// The program in the ledger's folder, with its arguments parted by blanks. The ledger is trusted.
    pub(crate) fn command(&self, arguments: &str) -> Command {
        self.untrusted("--trust").args(arguments.split_whitespace())
    }

    /// The same where nobody has said that the ledger is trusted.
    pub(crate) fn untrusted(&self, arguments: &str) -> Command {
        let program = program().args(arguments.split_whitespace()).current_dir(&self.ledger);
        let program = program.env("CLEDGER_STATE", self.state());
        match &self.identity {
            Some(identity) => program.env("CLEDGER_IDENTITY", identity),
            None => program,
        }
    }

    /// Where the program remembers what it has seen.
    pub(crate) fn state(&self) -> PathBuf {
        self.folder.path().join("state")
    }

    /// Runs the program as one would in a pipe.
    pub(crate) fn run(&self, arguments: &str) -> OutputAssert {
        self.command(arguments).assert()
    }

    /// Runs the program for a terminal of 80 columns.
    pub(crate) fn run_in_80(&self, arguments: &str) -> OutputAssert {
        self.command(arguments).env("COLUMNS", "80").assert()
    }
}

/// The program with an environment of its own.
pub(crate) fn program() -> Command {
    Command::new(snapbox::cmd::cargo_bin!("cledger"))
        .env_clear()
        .env("NO_COLOR", "1")
        .env("CLEDGER_TODAY", "2026-11-25")
        .env("CLEDGER_STATE", concat!(env!("CARGO_TARGET_TMPDIR"), "/state"))
}

/// Whether an outside reader of our files is installed. In CI each of them must be.
pub(crate) fn is_there(reader: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let found = std::env::split_paths(&path).any(|folder| folder.join(reader).is_file());
    assert!(found || std::env::var_os("CI").is_none(), "{reader} is not installed");
    found
}

/// What a run wrote, as text.
pub(crate) fn written(run: &OutputAssert) -> (String, String) {
    let output = run.get_output();
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    (text(&output.stdout), text(&output.stderr))
}

/// The commands that `--help` lists.
pub(crate) fn commands() -> BTreeSet<String> {
    let (help, _) = written(&program().arg("--help").assert().code(0));
    let listed = help.lines().filter_map(|line| line.strip_prefix("  ")?.split(' ').next());
    listed.filter(|word| word.starts_with(char::is_lowercase)).map(str::to_owned).collect()
}

/// All commands, with those below others, as the reference lists them; those that only have others below them are
/// left out.
pub(crate) fn all_commands() -> Vec<String> {
    let (pages, _) = written(&program().args(["man", "--markdown"]).assert().code(0));
    let all: Vec<String> = pages
        .lines()
        .filter_map(|line| line.strip_prefix("## `cledger ")?.strip_suffix('`'))
        .map(str::to_owned)
        .collect();
    let has_others = |command: &String| all.iter().any(|other| other.starts_with(&format!("{command} ")));
    let takes_none = ["add", "key", "outlet"];
    all.iter().filter(|it| !(has_others(it) && takes_none.contains(&it.as_str()))).cloned().collect()
}
