//! The built program killed at random moments, and with every write failing once: afterwards the next command ends
//! as if nothing had happened. It takes minutes, so it is run when somebody asks for it:
//! `cargo test -p copper-ledger --test it -- --ignored killed`. `KILLS` says how many there are to be.

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::copied::copy;
use crate::test_ledger::{TestLedger, is_there, written};

/// A unit with two files, a secret in both, rows in a database of somebody else's, and something delivered.
struct Estate {
    ledger: TestLedger,
    /// What the ledger says.
    count: u64,
    /// The files of the ledger, without its local state.
    files: Vec<String>,
}

const SECRET: &str = "marked-tide";

impl Estate {
    fn new() -> Self {
        let manifest = "format = 1\nname = \"Killed\"\ndefault_stage = \"dev\"\n\
                        [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
                        [[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"../live\"\n\
                        [[outlet]]\nname = \"rows\"\nkind = \"sqlite\"\nstages = [\"dev\"]\npath = \"../rows.db\"\n\
                        table = \"options\"\ncolumns = { scope = \"part\", name = \"key\", value = \"val\" }\n\
                        only = [\"count\", \"word\", \"codes\"]\n[[outlet.tables]]\nentry = \"codes\"\ntable = \"codes\"\n\
                        key = \"code\"\ncolumns = { level = \"level\" }\n";
        let desk = "[variables.count]\ntype = \"integer\"\n[variables.word]\nsecret = true\n\
                    [variables.flag]\ndefault = \"up\"\n\
                    [tables.codes]\nkey = \"code\"\ncolumns = [\"code\", \"level\"]\n\
                    rows = { a = { level = \"${count}\" }, b = { level = \"7\" } }\n\
                    [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\nonly = [\"count\", \"word\"]\n\
                    [[output]]\npath = \"desk.json\"\nformat = \"json\"\nonly = [\"count\", \"word\"]\n";
        let ledger = TestLedger::with([("ledger.toml", manifest), ("units/desk.toml", desk)]);
        ledger.write("stages/dev.toml", "[units.desk]\ncount = 0\n");
        fs::create_dir(ledger.path("../live")).unwrap();
        let database = rusqlite::Connection::open(ledger.path("../rows.db")).unwrap();
        database
            .execute_batch(
                "CREATE TABLE options (part TEXT, key TEXT, val TEXT, UNIQUE (part, key));
                 CREATE TABLE codes (code TEXT PRIMARY KEY, level INTEGER);
                 INSERT INTO options VALUES ('desk@dev', 'theirs', 'stays'); INSERT INTO codes VALUES ('theirs', 1)",
            )
            .unwrap();
        drop(database);
        let ledger = ledger.with_keys(&["dev"]);
        ledger.command("set desk/word@dev --stdin").stdin(SECRET).assert().code(0);
        ledger.run("deliver desk@dev --write --why first").code(0);
        let mut made = Self { ledger, count: 0, files: Vec::new() };
        made.files = made.files();
        made
    }

    fn files(&self) -> Vec<String> {
        let files = self.ledger.files(".").into_iter();
        files.filter(|path| !path.contains(".cledger/")).collect()
    }

    /// Something to be cut short: deliveries, rotations, renames, by turns.
    fn next(&mut self, at: u64) -> String {
        match at % 4 {
            1 => "key rotate @dev --write".to_owned(),
            3 => {
                let (old, new) = if self.has("variables.flag") { ("flag", "mark") } else { ("mark", "flag") };
                format!("rename desk/{old} {new} --write")
            }
            _ => {
                self.count += 1;
                self.ledger.run(&format!("set desk/count@dev={}", self.count)).code(0);
                format!("deliver desk@dev --write --why {at}")
            }
        }
    }

    fn has(&self, text: &str) -> bool {
        self.ledger.read("units/desk.toml").contains(text)
    }

    fn started(&self, program: &mut Command, arguments: &str) -> Child {
        program.arg("--trust").args(arguments.split_whitespace()).current_dir(self.ledger.path(""));
        program.env("CLEDGER_STATE", self.ledger.state()).env("CLEDGER_IDENTITY", "../identity");
        program.env("CLEDGER_WHO", "ben").stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// All rows of the database, as `key=value`.
    fn rows(&self) -> String {
        let database = rusqlite::Connection::open(self.ledger.path("../rows.db")).unwrap();
        let query = "SELECT group_concat(pair, ' ') FROM (SELECT key || '=' || val AS pair FROM options
                     UNION ALL SELECT code || '=' || level FROM codes ORDER BY 1)";
        database.query_row(query, [], |row| row.get(0)).unwrap()
    }

    /// The next command puts all right, and nothing is lost.
    fn is_whole(&self, is_thorough: bool, after: &str) {
        let told = self.ledger.run("deliver desk@dev --write --why after");
        let (out, err) = written(&told);
        if told.get_output().status.code() != Some(0) {
            // It says what to do about what came in part.
            assert!(err.contains("--finish"), "{after}: {out}{err}");
            self.ledger.run("deliver desk@dev --write --finish --why after").code(0);
            self.ledger.run("deliver desk@dev --write --why after").code(0);
        }
        let env = format!("COUNT={}\nWORD={SECRET}\n", self.count);
        assert_eq!(self.ledger.read("../live/desk/desk.env"), env, "{after}");
        let json: serde_json::Value =
            serde_json::from_str(&self.ledger.read("../live/desk/desk.json")).unwrap();
        assert_eq!(json, serde_json::json!({ "count": self.count, "word": SECRET }), "{after}");
        assert_eq!(self.ledger.files("../live").len(), 2, "{after}");
        let count = self.count;
        let expected = format!("a={count} b=7 count={count} theirs=1 theirs=stays word={SECRET}");
        assert_eq!(self.rows(), expected, "{after}");
        assert_eq!(self.files(), self.files, "{after}");
        assert!(self.has("variables.flag") != self.has("variables.mark"), "{after}");
        if is_thorough {
            self.ledger.run("drift @dev").code(0);
            let (out, _) = written(&self.ledger.run("history --verify").code(0));
            assert!(out.contains("none changed") && !out.contains("not readable"), "{after}: {out}");
            let (out, _) = written(&self.ledger.run("get desk/word@dev --unmask=always").code(0));
            assert_eq!(out.trim(), SECRET, "{after}");
        }
    }
}

#[test]
#[ignore = "takes minutes"]
fn killed_at_any_moment_nothing_is_lost() {
    let kills = std::env::var("KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(200);
    let mut estate = Estate::new();
    // Numbers that are spread and always the same; where they fall in the program's life is chance enough.
    let mut seed: u64 = 0x9E37_79B9_7F4A_7C15;
    let mut usual = [Duration::from_millis(300); 4];
    for at in 0..kills {
        let arguments = estate.next(at);
        let program = || Command::new(env!("CARGO_BIN_EXE_cledger"));
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let length = usual[usize::try_from(at % 4).unwrap()];
        let started = Instant::now();
        let mut child = estate.started(&mut program(), &arguments);
        if at >= 8 {
            std::thread::sleep(
                length.mul_f64(f64::from(u32::try_from(seed >> 40).unwrap()) / f64::from(1 << 24)),
            );
            child.kill().unwrap();
        }
        let ended = child.wait().unwrap();
        if ended.success() {
            usual[usize::try_from(at % 4).unwrap()] = started.elapsed();
        }
        // Every other time the next command is the next one to be killed.
        if seed >> 63 == 0 {
            estate.is_whole(at % 16 == 0, &format!("{at}: {arguments}"));
        }
    }
    estate.is_whole(true, "the last");
}

#[test]
#[ignore = "takes minutes"]
fn killed_by_no_write_that_fails() {
    if !is_there("strace") {
        return;
    }
    let mut estate = Estate::new();
    let kept = tempfile::tempdir().unwrap();
    let root = estate.ledger.path("..").canonicalize().unwrap();
    copy(&root, kept.path());
    let calls = ["write", "pwrite64", "fsync", "fdatasync", "rename", "renameat", "renameat2", "ftruncate"];
    for operation in [0, 1, 3] {
        for call in calls {
            for error in ["ENOSPC", "EIO"] {
                for when in 1.. {
                    // Each begins from the same: the more records there are, the more a rotation writes.
                    for entry in fs::read_dir(&root).unwrap() {
                        let path = entry.unwrap().path();
                        let gone =
                            if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
                        gone.unwrap();
                    }
                    copy(kept.path(), &root);
                    estate.count = 0;
                    let arguments = estate.next(operation);
                    let inject = format!("inject={call}:error={error}:when={when}");
                    let traced = estate.ledger.path("../traced");
                    let mut strace = Command::new("strace");
                    strace.args(["-f", "-qq", "-e", "signal=none", "-e", &inject, "-o"]).arg(&traced);
                    strace.arg(env!("CARGO_BIN_EXE_cledger"));
                    let ended = estate.started(&mut strace, &arguments).wait().unwrap();
                    let has_failed = fs::read_to_string(&traced).unwrap().contains("(INJECTED)");
                    let after = format!("{arguments}, {call} {when} {error}, {ended}");
                    if operation == 0 && ended.success() {
                        let live = estate.ledger.read("../live/desk/desk.env");
                        assert!(live.contains(&format!("COUNT={}\n", estate.count)), "{after}: told as done");
                    }
                    estate.is_whole(when % 8 == 1, &after);
                    if !has_failed {
                        break;
                    }
                }
            }
        }
    }
}
