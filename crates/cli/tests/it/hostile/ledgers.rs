//! The ledgers, each made by somebody who means harm, and what lies around them.

use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::{FileExt as _, symlink};
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::process::Command;

use rusqlite::Connection;
use tempfile::TempDir;

use super::CANARY;
use crate::test_ledger::SMALL;

/// A ledger, and what lies around it.
pub(super) struct World {
    pub(super) folder: TempDir,
}

impl World {
    pub(super) fn new() -> Self {
        let world = Self { folder: TempDir::new().unwrap() };
        for (path, text) in SMALL {
            world.write(path, text);
        }
        world.put("home/.bashrc", "theirs\n");
        world.put("home/secret", format!("{CANARY}\n"));
        world.put("home/evil", "#!/bin/sh\ntouch \"$PWNED\"\n");
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        fs::set_permissions(world.home("evil"), mode).unwrap();
        fs::create_dir_all(world.path("keys/stages")).unwrap();
        fs::create_dir_all(world.path("tables")).unwrap();
        world
    }

    pub(super) fn home(&self, name: &str) -> PathBuf {
        self.folder.path().join("home").join(name)
    }

    pub(super) fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join("ledger").join(path)
    }

    fn put(&self, path: &str, text: impl AsRef<[u8]>) {
        let path = self.folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// Writes a file of the ledger, in place of whatever is there.
    fn write(&self, path: &str, text: impl AsRef<[u8]>) {
        self.put(&format!("ledger/{path}"), text);
    }

    fn add(&self, path: &str, text: &str) {
        self.write(path, fs::read_to_string(self.path(path)).unwrap_or_default() + text);
    }

    fn gone(&self, path: &str) -> PathBuf {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let _ = fs::remove_file(&path);
        path
    }

    fn link(&self, path: &str, to: impl AsRef<Path>) {
        symlink(to, self.gone(path)).unwrap();
    }

    fn pipe(&self, path: &str) {
        assert!(Command::new("mkfifo").arg(self.gone(path)).status().unwrap().success());
    }

    /// A change that was interrupted, of these files as `(path, before, after)` in JSON, with the text `evil`.
    fn plan(&self, files: &str) {
        self.write(".cledger/change/texts", "evil\n");
        let evil = format!("{{\"hash\":\"{}\",\"bytes\":5}}", blake3::hash(b"evil\n").to_hex());
        let files = files.replace("EVIL", &evil).replace("HOME", self.home("").to_str().unwrap());
        self.write(".cledger/change/plan.json", format!("{{\"format\":3,\"files\":[{files}]}}"));
    }

    /// Git in the ledger's folder.
    fn git(&self, arguments: &[&str]) {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=x", "-c", "user.email=x@x.example", "-c", "commit.gpgsign=false"]);
        command.args(arguments).current_dir(self.path("")).env("GIT_CONFIG_GLOBAL", "/dev/null");
        assert!(command.output().unwrap().status.success(), "{arguments:?}");
    }

    /// A repository of the ledger, with these settings.
    fn repository(&self, settings: &[(&str, &str)]) {
        self.git(&["init", "--quiet"]);
        self.git(&["add", "--all"]);
        self.git(&["commit", "--quiet", "--message", "x"]);
        let evil = self.home("evil");
        for (name, value) in settings {
            self.git(&["config", name, &value.replace("EVIL", evil.to_str().unwrap())]);
        }
    }

    /// A daybook in which these statements were carried out.
    fn daybook(&self, statements: &str) {
        fs::create_dir_all(self.path(".cledger")).unwrap();
        let connection = Connection::open(self.path(".cledger/daybook.db")).unwrap();
        connection.execute_batch(statements).unwrap();
    }

    fn setting(&self, text: &str) {
        self.write(
            "stages/dev.toml",
            SMALL[3].1.replace("[units.desk]\n", &format!("[units.desk]\n{text}\n")),
        );
    }

    fn declare(&self, text: &str) {
        self.write("units/desk.toml", format!("{}\n{text}\n", SMALL[2].1));
    }

    fn manifest(&self, text: &str) {
        self.write("ledger.toml", format!("{}\n{text}\n", SMALL[0].1));
    }
}

const TABLES: &str = "CREATE TABLE records (place INTEGER PRIMARY KEY, unit TEXT NOT NULL, stage TEXT NOT NULL, \
     number INTEGER NOT NULL, chore INTEGER NOT NULL, text TEXT NOT NULL, hash TEXT NOT NULL, open BLOB NOT NULL, \
     sealed TEXT, UNIQUE (unit, stage, chore, number)); \
     CREATE TABLE opened (unit TEXT NOT NULL, stage TEXT NOT NULL, text TEXT NOT NULL, open BLOB NOT NULL, \
     sealed TEXT, PRIMARY KEY (unit, stage));";

/// Each ledger by its name, and how it is made. `PORT` is that of a listener to which nobody may connect.
pub(super) type Made = (&'static str, fn(&World, u16));

pub(super) const PLANS: &[Made] = &[
    ("a plan that writes a file of the user", |w, _| {
        w.plan(r#"{"path":"HOME/.bashrc","before":null,"after":EVIL}"#);
    }),
    ("a plan that deletes a file of the user", |w, _| {
        w.plan(r#"{"path":"HOME/.bashrc","before":null,"after":null}"#);
    }),
    ("a plan that goes upwards", |w, _| w.plan(r#"{"path":"../home/.bashrc","before":null,"after":EVIL}"#)),
    ("a plan that goes upwards from within", |w, _| {
        w.plan(r#"{"path":"stages/../../home/.bashrc","before":null,"after":EVIL}"#);
    }),
    ("a plan that writes a hook", |w, _| {
        w.plan(r#"{"path":".git/hooks/post-checkout","before":null,"after":EVIL}"#);
    }),
    ("a plan through a link", |w, _| {
        w.link("groups", w.home(""));
        w.plan(r#"{"path":"groups/.bashrc","before":null,"after":EVIL}"#);
    }),
    ("a plan that copies a secret in", |w, _| {
        w.plan(r#"{"path":"units/spy.toml","before":null,"after":EVIL}"#);
        w.link(".cledger/change/texts", w.home("secret"));
    }),
    ("a plan over a file that was edited since", |w, _| {
        w.plan(r#"{"path":"shared.toml","before":{"hash":"00","bytes":0},"after":EVIL}"#);
    }),
    ("a plan that is a link to no end", |w, _| w.link(".cledger/change/plan.json", "/dev/zero")),
    ("a plan that is a pipe", |w, _| w.pipe(".cledger/change/plan.json")),
    ("a plan of ten thousand files, one of them twice", |w, _| {
        let one = |number: usize| format!(r#"{{"path":"units/x{number}.toml","before":null,"after":null}}"#);
        w.plan(&(0..10_000).chain([7]).map(one).collect::<Vec<_>>().join(","));
    }),
    ("a plan of the version before", |w, _| {
        w.write(".cledger/change/plan.json", format!(r#"[["{}",0]]"#, w.home(".bashrc").display()));
    }),
    ("a change that is a link", |w, _| {
        fs::create_dir_all(w.path(".cledger")).unwrap();
        w.link(".cledger/change", w.home(""));
    }),
    ("local state that is a link", |w, _| w.link(".cledger", w.home(""))),
    ("local state that is a file", |w, _| w.write(".cledger", "x")),
    ("local state in version control", |w, _| {
        w.plan(r#"{"path":"shared.toml","before":null,"after":EVIL}"#);
        w.daybook(TABLES);
        w.repository(&[]);
    }),
    ("a lock that is a pipe", |w, _| w.pipe(".cledger/lock")),
    ("a lock that is a link", |w, _| w.link(".cledger/lock", w.home(".bashrc"))),
];

pub(super) const DAYBOOKS: &[Made] = &[
    ("a daybook that is a link", |w, _| w.link(".cledger/daybook.db", w.home("secret"))),
    ("a daybook that is a pipe", |w, _| w.pipe(".cledger/daybook.db")),
    ("a daybook of noise", |w, _| w.write(".cledger/daybook.db", [7; 5000])),
    ("a daybook with a trigger", |w, _| {
        w.daybook(&format!(
            "{TABLES} CREATE TRIGGER t AFTER INSERT ON records BEGIN DELETE FROM records; END;"
        ));
    }),
    ("a daybook that never ends", |w, _| {
        w.daybook(
            "CREATE VIEW records AS WITH RECURSIVE n(place) AS (SELECT 1 UNION ALL SELECT place + 1 FROM n) \
             SELECT place, 'desk' AS unit, 'dev' AS stage, place AS number, 0 AS chore, '' AS text, '' AS hash, \
             x'' AS open, NULL AS sealed FROM n; CREATE TABLE opened (x);",
        );
    }),
    ("a daybook with another column", |w, _| w.daybook(&TABLES.replace("hash TEXT", "more TEXT, hash TEXT"))),
    ("a daybook in another log mode", |w, _| w.daybook(&format!("PRAGMA journal_mode = WAL; {TABLES}"))),
    ("a daybook that was being written", |w, _| {
        w.daybook(TABLES);
        w.write(
            ".cledger/daybook.db-journal",
            [&b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7"[..], &[0xff; 2000]].concat(),
        );
    }),
    ("a daybook with records of noise", |w, _| {
        w.daybook(&format!(
            "{TABLES} INSERT INTO records VALUES (1, 'desk', 'dev', 1, 0, '{{', 'x', x'28b52ffd', 'copper-1.x');"
        ));
    }),
    ("a daybook of a gigabyte", |w, _| {
        w.daybook(TABLES);
        let file = fs::File::options().write(true).open(w.path(".cledger/daybook.db")).unwrap();
        file.set_len(1 << 30).unwrap();
    }),
];

pub(super) const FILES: &[Made] = &[
    ("a manifest that is a pipe", |w, _| w.pipe("ledger.toml")),
    ("a manifest without end", |w, _| w.link("ledger.toml", "/dev/zero")),
    ("shared entries that are a pipe", |w, _| w.pipe("shared.toml")),
    ("shared entries from a terminal", |w, _| w.link("shared.toml", "/dev/tty")),
    ("a unit that is a socket", |w, _| {
        drop(UnixListener::bind(w.gone("units/gate.toml")).unwrap());
    }),
    ("a unit from outside", |w, _| w.link("units/spy.toml", w.home("secret"))),
    ("settings that are a link to themselves", |w, _| w.link("stages/dev.toml", "dev.toml")),
    ("settings of the whole disk", |w, _| {
        w.gone("stages/dev.toml");
        w.link("stages/dev", "/");
    }),
    ("waivers that are a pipe", |w, _| w.pipe("waivers.toml")),
    ("a key that is a pipe", |w, _| w.pipe("keys/stages/dev.age")),
    ("a key without end", |w, _| w.link("keys/stages/prod.age", "/dev/zero")),
    ("readers without end", |w, _| w.link("keys/readers.toml", "/dev/urandom")),
    ("a file that is too large", |w, _| w.write("units/gate.toml", "#".repeat(9 << 20))),
    ("a ledger that is too large", |w, _| {
        for number in 0..36 {
            let file = fs::File::create(w.path(&format!("units/u{number}.toml"))).unwrap();
            // A file with a hole: blanks at its ends, and nothing on the disk between.
            file.set_len(7_900_000).unwrap();
            file.write_at(b"# large\n", 0).unwrap();
        }
    }),
    ("bytes that are no text", |w, _| w.write("stages/dev.toml", b"[units.desk]\nhold = \"\xff\xfe\"\n")),
    ("NUL bytes", |w, _| w.write("stages/dev.toml", [0; 4096])),
    ("a template from outside", |w, _| {
        let path = w.home("secret");
        w.declare(&format!("[[output]]\npath = \"x\"\ntemplate = \"{}\"", path.display()));
    }),
    ("a template upwards", |w, _| w.declare("[[output]]\npath = \"x\"\ntemplate = \"../home/secret\"")),
    ("a template that is a pipe", |w, _| {
        w.declare("[[output]]\npath = \"x\"\ntemplate = \"templates/x\"");
        w.pipe("templates/x");
    }),
    ("a template that never ends", |w, _| {
        w.declare("[[output]]\npath = \"x\"\ntemplate = \"templates/x\"");
        w.write(
            "templates/x",
            "{% for a in range(100000) %}{% for b in range(100000) %}x{% endfor %}{% endfor %}",
        );
    }),
    ("an output upwards", |w, _| w.declare("[[output]]\npath = \"../../home/.bashrc\"\nformat = \"dotenv\"")),
    ("an output from the top", |w, _| w.declare("[[output]]\npath = \"/etc/cron.d/x\"\nformat = \"dotenv\"")),
    ("an output with an escape", |w, _| {
        w.declare("[[output]]\npath = \"a\\u001b[2Jb\"\nformat = \"dotenv\"");
    }),
    ("rows from outside", |w, _| {
        w.declare("[tables.fares]\ncolumns = [\"a\", \"b\"]\nkey = \"a\"\nrows = \"../home/secret\"");
    }),
    ("rows from a link to outside", |w, _| {
        w.declare("[tables.fares]\ncolumns = [\"a\", \"b\"]\nkey = \"a\"\nrows = \"tables/x.csv\"");
        w.link("tables/x.csv", w.home("secret"));
    }),
];

pub(super) const REACHING: &[Made] = &[
    ("a setting from the environment", |w, _| w.setting("region = { from = \"env:CANARY\" }")),
    ("a setting from a file outside", |w, _| w.setting("region = { from = \"file:../home/secret\" }")),
    ("a setting from a device", |w, _| w.setting("region = { from = \"file:/dev/zero\" }")),
    ("a setting from a pipe", |w, _| {
        w.pipe("pipe");
        w.setting("region = { from = \"file:pipe\" }");
    }),
    ("a setting from a name made of others", |w, _| {
        w.declare("[variables.which]\ndefault = \"CANARY\"");
        w.setting("region = { from = \"env:${which}\" }");
    }),
    ("a name that the loader acts on", |w, _| {
        w.declare("[variables.lib]\ndefault = \"/tmp/evil.so\"\nas = \"LD_PRELOAD\"");
    }),
    ("a service that gets a variable", |w, port| {
        w.manifest(&format!(
            "[[outlet]]\nname = \"o\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = \"http://127.0.0.1:{port}\"\n\
             token = {{ from = \"env:CANARY\" }}\nready = \"http://127.0.0.1:{port}/ready\""
        ));
    }),
    ("a service whose address is a variable", |w, _| {
        w.manifest(
            "[[outlet]]\nname = \"o\"\nkind = \"http\"\nstages = [\"dev\"]\nurl = { from = \"env:CANARY_URL\" }\n\
             token = { from = \"file:../home/secret\" }",
        );
    }),
    ("a database that gets a file", |w, port| {
        w.manifest(&format!(
            "[[outlet]]\nname = \"o\"\nkind = \"postgres\"\nstages = [\"dev\"]\n\
             url = \"postgresql://x@127.0.0.1:{port}/x\"\npassword = {{ from = \"file:../home/secret\" }}"
        ));
    }),
    ("a folder of the user with a program", |w, _| {
        let (home, evil) = (w.home(""), w.home("evil"));
        w.manifest(&format!(
            "[[outlet]]\nname = \"o\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"{}\"\nreload = [\"{}\"]",
            home.display(),
            evil.display()
        ));
    }),
    ("the environment of a process", |w, _| {
        w.put("home/pid", "1\n");
        w.manifest(
            "[[outlet]]\nname = \"o\"\nkind = \"process\"\nstages = [\"dev\"]\npid_file = \"../home/pid\"",
        );
    }),
    ("a value that is looked up", |w, port| {
        w.setting(&format!("region = {{ absent = true, looked_up = \"http://127.0.0.1:{port}/x#/a\" }}"));
    }),
    ("a connection to try", |w, port| {
        let dev = SMALL[3].1.replace("db.dev.example", "127.0.0.1");
        w.write("stages/dev.toml", dev.replace("user =", &format!("port = {port}\nuser =")));
    }),
    ("a daybook in a database", |w, _| w.manifest("[daybook]\nstore = \"postgres\"")),
    ("a host that is looked up", |w, _| {
        w.manifest(
            "[[outlet]]\nname = \"o\"\nkind = \"http\"\nstages = [\"*\"]\nurl = \"http://canary.brackwater.example\"",
        );
    }),
];

pub(super) const REPOSITORIES: &[Made] = &[
    ("a monitor of version control", |w, _| w.repository(&[("core.fsmonitor", "EVIL")])),
    ("hooks, pagers and helpers", |w, _| {
        w.repository(&[
            ("core.hooksPath", "EVIL"),
            ("core.pager", "EVIL"),
            ("pager.log", "EVIL"),
            ("diff.external", "EVIL"),
            ("core.sshCommand", "EVIL"),
            ("credential.helper", "EVIL"),
            ("core.askPass", "EVIL"),
            ("core.alternateRefsCommand", "EVIL"),
            ("alias.rev-parse", "!EVIL"),
            ("alias.ls-tree", "!EVIL"),
            ("uploadpack.packObjectsHook", "EVIL"),
            ("gpg.program", "EVIL"),
        ]);
    }),
    ("filters of files", |w, _| {
        w.write(".gitattributes", "* filter=x diff=x merge=x text=auto\n");
        w.repository(&[("diff.x.textconv", "EVIL"), ("diff.x.command", "EVIL")]);
        for name in ["filter.x.clean", "filter.x.smudge", "filter.x.process"] {
            w.git(&["config", name, w.home("evil").to_str().unwrap()]);
        }
        w.add("shared.toml", "# changed\n");
    }),
    ("a clone that lacks objects, and a program that fetches them", |w, _| {
        w.repository(&[
            ("extensions.partialClone", "origin"),
            ("remote.origin.promisor", "true"),
            ("remote.origin.url", "ext::EVIL"),
            ("remote.origin.uploadpack", "EVIL"),
            ("protocol.ext.allow", "always"),
            ("core.repositoryFormatVersion", "1"),
        ]);
        // The files are not there; trees and the commit are.
        let listed =
            Command::new("git").args(["ls-tree", "-r", "HEAD"]).current_dir(w.path("")).output().unwrap();
        for line in String::from_utf8(listed.stdout).unwrap().lines() {
            let name = line.split([' ', '\t']).nth(2).unwrap();
            let object = w.path(".git/objects").join(&name[..2]).join(&name[2..]);
            if object.exists() {
                fs::remove_file(object).unwrap();
            }
        }
    }),
    ("the ledger's folder as a repository of its own", |w, _| {
        w.repository(&[]);
        for name in ["HEAD", "objects", "refs", "config"] {
            fs::rename(w.path(".git").join(name), w.path(name)).unwrap();
        }
        fs::remove_dir_all(w.path(".git")).unwrap();
        let evil = w.home("evil");
        w.write(
            "config",
            format!(
                "[core]\n\trepositoryformatversion = 1\n\tbare = true\n\tfsmonitor = {0}\n\tsshCommand = {0}\n\
                 [extensions]\n\tpartialClone = origin\n[remote \"origin\"]\n\tpromisor = true\n\turl = ext::{0}\n\
                 \tuploadpack = {0}\n[protocol \"ext\"]\n\tallow = always\n",
                evil.display()
            ),
        );
        fs::remove_dir_all(w.path("objects")).unwrap();
        fs::create_dir_all(w.path("objects/pack")).unwrap();
    }),
    ("settings of the user taken in", |w, _| {
        w.repository(&[]);
        let path = w.home("secret");
        w.git(&["config", "include.path", path.to_str().unwrap()]);
    }),
    ("files of another folder", |w, _| w.repository(&[("core.worktree", "/")])),
    ("a repository that is elsewhere", |w, _| w.write(".git", format!("gitdir: {}\n", w.home("").display()))),
    ("a repository that is a pipe", |w, _| w.pipe(".git")),
    ("a head that is a pipe", |w, _| {
        w.repository(&[]);
        w.pipe(".git/HEAD");
    }),
    ("a link to outside in a commit", |w, _| {
        w.link("units/spy.toml", w.home("secret"));
        w.repository(&[]);
    }),
];

pub(super) const TEXTS: &[Made] = &[
    ("escapes in every text", |w, _| {
        let evil = "\\u001b[31mevil\\u001b]0;title\\u0007\\r\\u202enimda\\u200b";
        w.write("ledger.toml", SMALL[0].1.replace("\"Small\"", &format!("\"{evil}\"")));
        w.declare(
            &format!(
                "about = \"{evil}\"\n[variables.shout]\ndefault = \"{evil}\"\nabout = \"{evil}\"\n\
             [[chore]]\ntext = \"{evil}\"\nwhen = \"each-delivery\""
            )
            .replace("about = \"", "about = \"")
            .replacen("about", "[variables.quiet]\nabout", 1),
        );
        w.setting(&format!("shout = {{ value = \"x{evil}\", why = \"{evil}\" }}\n\"{evil}\" = 1"));
    }),
    ("escapes in what is no TOML", |w, _| {
        w.write("stages/dev.toml", "[units.desk]\nhold = \u{1b}[31mevil\u{7}\u{9b}31m\u{202e}\n");
    }),
    ("escapes in a unit that is not there", |w, _| {
        w.add("stages/dev.toml", "\n[units.\"\\u001b[31mevil\"]\nx = 1\n");
    }),
    ("escapes in the name of a file", |w, _| w.write("units/\u{1b}[31mevil.toml", "")),
    ("a secret that was not quoted", |w, _| {
        w.write("stages/dev.toml", format!("[shared.db]\npassword = {CANARY}\nhost = \"{CANARY}\n"));
    }),
    ("a secret that refers to what is not there", |w, _| {
        w.write("stages/dev.toml", format!("[shared.db]\npassword = \"${{{CANARY}}}\"\n"));
    }),
    ("a secret as another type", |w, _| {
        w.declare("[variables.pin]\nsecret = true\ntype = \"integer\"");
        w.setting(&format!("pin = \"{CANARY}\""));
    }),
    ("a secret where nothing is declared", |w, _| w.setting(&format!("pasword = \"{CANARY}\""))),
    ("a line without end", |w, _| w.setting(&format!("region = \"{}\"", "x".repeat(7 << 20)))),
    ("depth", |w, _| w.setting(&format!("region = {}1{}", "[".repeat(100_000), "]".repeat(100_000)))),
    ("text that doubles with every step", |w, _| {
        let mut text = "[variables.v0]\ndefault = \"xxxxxxxxxx\"\n".to_owned();
        for number in 1..60 {
            let before = number - 1;
            let _ = writeln!(text, "[variables.v{number}]\ndefault = \"${{v{before}}}${{v{before}}}\"");
        }
        w.declare(&text);
    }),
    ("a circle of a thousand references", |w, _| {
        let one =
            |number: usize| format!("[variables.c{number}]\ndefault = \"${{c{}}}\"\n", (number + 1) % 1000);
        w.declare(&(0..1000).map(one).collect::<String>());
    }),
    ("a chain of references", |w, _| {
        let one = |number: usize| format!("[variables.c{number}]\ndefault = \"${{c{}}}\"\n", number + 1);
        w.declare(&((0..20_000).map(one).collect::<String>() + "[variables.c20000]\ndefault = \"x\"\n"));
    }),
    ("a pattern that explodes", |w, _| {
        w.declare(&format!(
            "[variables.p]\npattern = \"(a*)*{}b\"\ndefault = \"{}\"",
            "(x+x+)+".repeat(20),
            "a".repeat(5000)
        ));
    }),
    ("a pattern that is huge", |w, _| {
        w.declare("[variables.p]\npattern = \"((((a{1000}){1000}){1000}){1000})\"\ndefault = \"a\"");
    }),
    ("patterns of stages that explode", |w, _| {
        w.declare(
            &format!("stages = [\"{}\"]", "*a".repeat(2000)).replace("stages", "[instances.i]\nstages"),
        );
    }),
    ("ten thousand stages in a row", |w, _| {
        let mut text = SMALL[0].1.to_owned();
        for number in 0..10_000 {
            let _ = write!(text, "[[stage]]\nname = \"s{number}\"\nclass = \"test\"\n");
        }
        w.write("ledger.toml", text);
    }),
    ("a rule for everything", |w, _| {
        w.manifest("[[rule]]\nname = \"r\"\nfor = \"*/*\"\nmatches = \"(.*)(.*)(.*)(.*)(.*)[0-9]{50}$\"\nwhy = \"x\"");
    }),
];

pub(super) const KEYS: &[Made] = &[
    ("a key of noise", |w, _| w.write("keys/stages/dev.age", [3; 4000])),
    ("a key that takes a year to try", |w, _| {
        let head = "age-encryption.org/v1\n-> scrypt AAAAAAAAAAAAAAAAAAAAAA 63\nAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\n--- \
                    AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\n";
        w.write("keys/stages/dev.age", head);
        w.setting("");
        w.add("stages/prod.toml", "");
        let cipher = format!("copper-1.{}", "A".repeat(120));
        w.write("stages/dev.toml", SMALL[3].1.replace("low-tide-dev", &cipher));
    }),
    ("a cipher text that is none", |w, _| {
        w.write("stages/dev.toml", SMALL[3].1.replace("low-tide-dev", "copper-1.\u{1b}[31m"));
    }),
    ("a list of readers of another form", |w, _| {
        w.write("keys/readers.toml", "format = 99\n[readers]\nx = [1]\n");
    }),
    ("a million readers", |w, _| {
        let one = |number: usize| format!("r{number} = \"age1x\"\n");
        w.write(
            "keys/readers.toml",
            "format = 1\n[readers]\n".to_owned() + &(0..300_000).map(one).collect::<String>(),
        );
    }),
];
