//! Random ledgers with marked secrets, and every command over them: none of the marks comes out anywhere but
//! where it was asked to go, and files with one are for their owner alone.
//!
//! The marks are reached in every way that a value can be: through references in texts, lists, maps, tables and
//! URLs, of instances, groups, followed and named stages, other units and shared entries, as often over each
//! other as the numbers say that make the ledger.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use cledger_standin::{Options, StandIn};
use cledger_store::daybook::{Daybook as _, SqliteDaybook, Wanted};
use portable_pty::CommandBuilder;
use proptest::prelude::*;
use snapbox::cmd::Command;
use tempfile::TempDir;

use crate::pty::Pty;
use crate::test_ledger::{TestLedger, all_commands, written};

/// What every planted secret begins with; a whole number begins like the other.
const MARKS: [&str; 2] = ["marked-tide", "7700770"];

/// Every command, as one would use it on the ledgers below; some do their work and some fail.
const COMMANDS: &[&str] = &[
    "deliver desk@dev --write --why x",
    "deliver gate@dev --write --why x",
    "deliver @dev",
    "show desk@dev:1",
    "browse desk",
    "drift @dev",
    "drift --take desk/v0@dev desk/v1@dev desk/v2@dev",
    "drift --take desk/v0@dev --write --why x",
    "drift --take desk/v4@dev --write --why x",
    "drift --take desk/gate.token@dev --write --why x",
    "drift --take desk/extra@dev",
    "capture @dev",
    "capture @dev --with-ledger --out ../captured.json",
    "capture @dev --out ../left-out.json --secrets left-out",
    "drift --captured ../captured.json",
    "drift --captured-ledger ../captured.json",
    "drift --captured-ledger ../captured.json --take desk/v0@dev desk/v3@dev",
    "drift --delivered desk@dev:1",
    "drift --delivered desk@dev:1 --take desk/v0@dev desk/v3@dev",
    "outlet put desk@dev --captured ../captured.json",
    "outlet put desk@dev --captured ../captured.json --only v0 --write --why x --overwrite-edits",
    "drift --captured ../captured.json --take desk/v0@dev desk/v3@dev",
    "compare desk@dev capture:../captured.json",
    "adopt desk dev=capture:../captured.json",
    "adopt found dev=../before",
    "promote @dev @test",
    "promote @dev @test --live",
    "promote @dev @test --answers ../form.toml",
    "promote @dev @test --carry desk/* --carry shared/*",
    "promote @dev @test --carry desk/v0 --carry desk/v1 --carry desk/v2 --write --why x --countersign prod",
    "promote desk@dev @test --write --deliver --why x --countersign prod",
    "set desk/v3@dev=other",
    "deliver desk@dev --only v3",
    "deliver desk@dev --only v3 --write --why x",
    "deliver desk@dev --again 1 --write --why x",
    "show desk@dev:2",
    "compare desk@dev:1 desk@dev:last",
    "compare desk@dev:1 desk@dev",
    "compare desk@dev file:../before/desk.env",
    "compare @dev @test",
    "compare desk@dev desk@prod",
    "deliver @test --write --why x",
    "deliver @prod --write --why x --countersign prod",
    "deliver @dev --write --overwrite-edits --at-once 1 --why x",
    "history desk@dev:3 --overwritten",
    "history desk@dev:2 --overwritten --out ../overwritten",
    "history desk@dev:3 --overwritten --out ../overwritten",
    "history desk@dev:3 --overwritten --bring-back",
    "deliver desk@dev --drop",
    "promote @dev @test --carry-changed --draft-why",
    "withdraw gate@dev --write --why x",
    "withdraw @dev",
    "status",
    "status --live",
    "history",
    "history --verify",
    "add bundle pair --units desk,gate",
    "deliver bundle:pair@dev",
    "folio make desk gate --from dev --out ../it.folio",
    "folio make desk gate --from dev --with-values --out ../open.folio",
    "folio show ../it.folio",
    "folio enter ../it.folio --to test",
    "compare folio:../it.folio @dev",
    "compare ledger:. @dev --their-stage test",
    "chores",
    "chores done desk@dev Tell",
    "check",
    "check --fetch",
    "check @dev --form sarif",
    "check @dev --form junit",
    "check @dev --form lines",
    "check --explain cipher-unreadable",
    "check --waived",
    "list units",
    "list stages",
    "list shared",
    "list groups",
    "show desk@dev",
    "show desk+kiosk@dev",
    "show gate@dev",
    "show gate@prod",
    "show shared/db@dev",
    "show desk@nowhere",
    "get desk/v0@dev",
    "get desk/v1@dev",
    "get desk/v2@dev --unmask",
    "get desk+kiosk/v3@dev",
    "get desk/mq.url@dev",
    "get desk/pin@dev",
    "get gate/v0@dev",
    "matrix",
    "matrix */* --csv",
    "matrix desk/v*",
    "report",
    "report matrix desk drift @dev delivery desk@dev:1 --form markdown",
    "report matrix compare @dev @prod --out ../page.html",
    "trace desk/v0@dev",
    "trace desk/mq.url@dev",
    "trace gate/v1@dev",
    "impact shared/db.password@dev",
    "search",
    "search --effective",
    "search --contains marked-tide",
    "search --effective --matches marked-tide",
    "replace */v* --swap marked-tide other",
    "waive shared/*@dev plain-secret --why trial --until 2099-12-31 --write",
    "fill @dev",
    "fill @dev --answers ../form.toml --write",
    "render @dev --out ../out",
    "render @dev --partial --out ../out",
    "render @test --without-secrets --out ../bare",
    "run desk@dev -- true",
    "rehome ../before/desk.env --from desk@dev --to desk@test",
    "probe @dev --timeout 1",
    "outlet list",
    "outlet prepare",
    "outlet lookup @dev",
    "outlet put desk@dev",
    "outlet put desk@dev --write --why x",
    "trust",
    "trust --list",
    "trust --daybook",
    "resume",
    "key list",
    "key list --compare",
    "key identity",
    "key make @prod --write",
    "key admit ben @dev --recipient age1marked-tide",
    "key exclude ben @dev",
    "key protect @prod",
    "key protect @dev --write",
    "key rotate @dev --write",
    "deliver desk@dev --again 1",
    "set desk/v4@test=${db.password} --countersign prod",
    "set shared/db.user@dev=other",
    "set shared/db.password@dev --generate",
    "set desk/pin@dev --file ../marked.txt",
    "unset shared/db.password@dev",
    "add stage late --like dev",
    "add group few",
    "add unit mast",
    "add instance desk+two",
    "add variable desk/colour --default blue",
    "add connection desk/post --protocol smtp",
    "add endpoint desk/board",
    "add credential desk/pass --form token",
    "add table desk/rows --columns a,b --key a",
    "add probe desk closed --entry mq --expect refused",
    "add field desk/pay.tries --type integer --default 3",
    "add use desk mail",
    "add output desk spare.json --format json --stages dev",
    "add outlet spare --kind directory --stages dev --path ../spare",
    "add rule brief --fields */colour --max-length 40",
    "add chore desk wave",
    "add follow @test dev --only shared/*",
    "add aligned dev test",
    "change @dev --label k=v --write",
    "change shared/db.password --secret=false",
    "change desk/pin --secret=false",
    "add stage twin --like dev --copy --with-secrets --generate --write",
    "remove @twin --with-mentions --write",
    "replace desk/* --beside db.user=u --to other",
    "share desk/gate",
    "rename desk/v0 first",
    "rename gate door",
    "remove desk/v5",
    "init ../again --name x --stages dev",
    "demo ../elsewhere --files-only",
    "completions bash",
    "man --markdown",
    "schema stage",
];

/// Numbers that decide everything; zeros when used up.
struct Tape<'t>(std::slice::Iter<'t, u16>);

impl Tape<'_> {
    fn pick(&mut self, below: usize) -> usize {
        usize::from(self.0.next().copied().unwrap_or(0)) % below
    }
}

/// A ledger with marked secrets, and what is beside it.
struct Marked {
    ledger: TestLedger,
    umask: &'static str,
    /// Files in which somebody has put marks.
    planted: BTreeSet<String>,
    _boards: (StandIn, TempDir),
}

/// Ways to a secret, as they may stand in texts of the unit `desk`. Secrets of whole numbers are not made parts of
/// texts here.
const SECRETS: [&str; 6] =
    ["${db.password}", "${gate.token}", "${word}", "${shared/api.token}", "${mq.password}", "${mq.url}"];

impl Marked {
    fn new(tape: &mut Tape<'_>) -> Self {
        let boards = TempDir::new().unwrap();
        let options = Options { folder: boards.path().to_owned(), ..Options::default() };
        let standin = StandIn::start(options).unwrap();
        let ledger = TestLedger::with([]);
        let outlet = |name: &str, stages: &str| {
            format!(
                "[[outlet]]\nname = \"{name}\"\nkind = \"directory\"\nstages = [\"{stages}\"]\npath = \"../live/${{stage.name}}\"\n"
            )
        };
        let manifest = format!(
            "format = 1\nname = \"Marked\"\ndefault_stage = \"dev\"\n\
             [[stage]]\nname = \"dev\"\nclass = \"development\"\ngroups = [\"low\"]\n\
             [[stage]]\nname = \"test\"\nclass = \"test\"\nafter = [\"dev\"]\ngroups = [\"low\"]\n\
             [[stage]]\nname = \"prod\"\nclass = \"production\"\nafter = [\"test\"]\n\
             follow = [{{ stage = \"test\" }}]\n[[group]]\nname = \"low\"\n{}\
             [[outlet]]\nname = \"boards\"\nkind = \"http\"\nstages = [\"dev\"]\nunits = [\"gate\"]\nurl = \"{}\"\nretries = 0\ntimeout = \"60s\"\n",
            outlet("files", "*"),
            standin.url()
        );
        ledger.write("ledger.toml", manifest);
        let umask = ["022", "000", "077"][tape.pick(3)];
        let planted = ["marked.txt", "strongroom/word", "before/desk.env"].map(str::to_owned).into();
        let made = Self { ledger, umask, planted, _boards: (standin, boards) };
        made.ledger.write("../marked.txt", "marked-tide-in-a-file\n");
        made.ledger.write("../strongroom/word", "marked-tide-outside\n");
        made.ledger.write(
            "../before/desk.env",
            "GATE_TOKEN=marked-tide-before\nLEVEL=1\nDB_PASSWORD=marked-tide-old\n",
        );
        for stage in ["dev", "test", "prod"] {
            fs::create_dir_all(made.ledger.path("../live").join(stage)).unwrap();
        }
        made.contracts(tape);
        made.settings(tape);
        made
    }

    /// What the units are, with references from variable to variable that end at a secret.
    fn contracts(&self, tape: &mut Tape<'_>) {
        let mut shared = "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"tides\"\n\
             [credentials.api]\nform = \"token\"\n[variables.line]\n"
            .to_owned();
        shared +=
            ["default = \"plain\"\n", "default = \"s:${api.token}\"\n", "default = \"${db.password}\"\n"]
                [tape.pick(3)];
        let mut desk = "uses = [\"db\", \"api\", \"line\"]\n[instances.kiosk]\n\
             [credentials.gate]\nform = \"token\"\n[connections.mq]\nprotocol = \"amqp\"\n\
             [variables.word]\nsecret = true\n[variables.pin]\nsecret = true\ntype = \"integer\"\nrequired = false\n\
             [variables.words]\nsecret = true\ntype = \"list\"\nrequired = false\n"
            .to_owned();
        for at in 0..6 {
            desk += &format!("[variables.v{at}]\n");
            // The first ones are set in stages; each names what comes after it.
            let reference = Self::reference(tape, at);
            let text = [
                "plain",
                &reference,
                &format!("a {reference} b"),
                &format!("pg://u:{reference}@${{db.host}}/x"),
            ][tape.pick(4)]
            .to_owned();
            // What stages and groups set is text.
            desk += &match (at, tape.pick(3)) {
                (3, 0) => format!("type = \"list\"\ndefault = [\"x\", \"{text}\"]\n"),
                (3, 1) => format!("type = \"map\"\ndefault = {{ k = \"{text}\" }}\n"),
                (5, 0) => format!("type = \"url\"\ndefault = \"http://host.example/{reference}\"\n"),
                _ => format!("default = \"{text}\"\n"),
            };
        }
        desk += &format!(
            "[tables.codes]\ncolumns = [\"code\", \"text\"]\nkey = \"code\"\nrows.a = {{ text = \"{}\" }}\n",
            ["plain", "${word}", "x ${db.password}"][tape.pick(3)]
        );
        for (path, format) in
            [("desk.env", "dotenv"), ("desk.json", "json"), ("desk.properties", "properties")]
        {
            desk += &format!("[[output]]\npath = \"{path}\"\nformat = \"{format}\"\n");
        }
        desk += "[[chore]]\ntext = \"Tell them\"\nwhen = \"each-delivery\"\n";
        let gate = format!(
            "uses = [\"line\"]\n[variables.v0]\ndefault = \"{}\"\n[variables.v1]\ndefault = \"{}\"\n\
             [[output]]\npath = \"gate.yaml\"\nformat = \"yaml\"\n",
            ["${desk/v0}", "${desk+kiosk/v3}", "x${desk/v4}", "${line}"][tape.pick(4)],
            ["${desk/word@dev}", "${shared/db.password}", "${shared/db.url@test}", "${v0}${line}"]
                [tape.pick(4)],
        );
        self.ledger.write("shared.toml", shared);
        self.ledger.write("units/desk.toml", desk);
        self.ledger.write("units/gate.toml", gate);
    }

    /// A reference that is in `v{at}`: to a later variable, or to a secret.
    fn reference(tape: &mut Tape<'_>, at: usize) -> String {
        match tape.pick(3) {
            0 if at < 5 => format!("${{v{}}}", at + 1 + tape.pick(5 - at)),
            1 => "${line}".to_owned(),
            _ => SECRETS[tape.pick(SECRETS.len())].to_owned(),
        }
    }

    /// Settings of stages and groups, and of an instance; the secrets in plain text, or from outside, in one of
    /// them.
    fn settings(&self, tape: &mut Tape<'_>) {
        for (stage, file) in
            [("dev", "stages/dev.toml"), ("test", "stages/test.toml"), ("prod", "stages/prod.toml")]
        {
            let mut text = format!("[shared.db]\nhost = \"db.{stage}.example\"\nuser = \"u\"\n");
            if stage == "prod" {
                text += "password = { from = \"file:../strongroom/word\" }\n";
            }
            text += &format!("[units.desk]\nmq = {{ host = \"mq.{stage}.example\", user = \"u\" }}\n");
            for at in 0..3 {
                let reference = Self::reference(tape, at);
                text += &match tape.pick(5) {
                    0 => format!("v{at} = \"{stage} {reference}\"\n"),
                    1 => format!("v{at} = \"{reference}\"\n"),
                    2 => format!("v{at} = \"http://${{db.host}}/{at}\"\n"),
                    _ => String::new(),
                };
            }
            if tape.pick(2) == 1 {
                text += &format!("[units.\"desk+kiosk\"]\nv3 = \"{}\"\n", SECRETS[tape.pick(SECRETS.len())]);
            }
            self.ledger.write(file, text);
        }
        let group = ["", "[units.desk]\nv4 = \"low ${word}\"\n", "[shared]\nline = \"low ${api.token}\"\n"];
        self.ledger.write("groups/low.toml", group[tape.pick(3)]);
    }

    /// The program, run with this umask.
    fn command(&self, arguments: &str) -> Command {
        let program = snapbox::cmd::cargo_bin!("cledger");
        let script = format!("umask {}; exec \"$0\" \"$@\"", self.umask);
        let command = Command::new("sh").args(["-c", &script]).arg(program).arg("--trust");
        let folder = self.ledger.path("..");
        command
            .args(arguments.split_whitespace())
            .current_dir(self.ledger.path("."))
            .env_clear()
            .envs([("NO_COLOR", "1"), ("CLEDGER_TODAY", "2026-11-25"), ("CLEDGER_WHO", "ada")])
            .env("CLEDGER_STATE", folder.join("state"))
            .env("CLEDGER_IDENTITY", folder.join("identity"))
    }

    /// Makes keys, and sets the secrets of the lower stages: encrypted, or in plain text.
    fn plant(&mut self, tape: &mut Tape<'_>) {
        self.command("key identity").assert().code(0);
        let is_plain = tape.pick(4) == 3;
        if !is_plain {
            self.command("key make @dev @test --write").assert().code(0);
        }
        let mut count = 0;
        for stage in ["dev", "test"] {
            for (field, value) in [
                ("shared/db.password", "marked-tide-N"),
                ("shared/api.token", "marked-tide-N"),
                ("desk/gate.token", "marked-tide-N"),
                ("desk/mq.password", "marked-tide-N"),
                ("desk/word", "marked-tide-N"),
                ("desk/words", "[\"marked-tide-N\", \"x\"]"),
                ("desk/pin", "7700770N"),
            ] {
                count += 1;
                let more = if is_plain { "--plain-secrets" } else { "" };
                // What `test` says counts in `prod` too, which follows it.
                let set = self.command(&format!("set {field}@{stage} --stdin --countersign prod {more}"));
                set.stdin(value.replace('N', &count.to_string())).assert().code(0);
            }
        }
        if is_plain {
            self.planted.extend(["stages/dev.toml", "stages/test.toml"].map(str::to_owned));
        }
    }

    /// Whether marks may be in a file: somebody put them there, or asked for them there.
    fn may_hold(&self, path: &str) -> bool {
        let asked =
            ["live/", "out/", "overwritten/", "captured.json"].iter().any(|known| path.starts_with(known));
        asked || self.planted.iter().any(|known| path.ends_with(known))
    }

    /// Nothing below its folder holds a mark that may not, and no file that holds one is for others.
    fn look_at_files(&self) -> Result<(), TestCaseError> {
        let folder = self.ledger.path("..");
        let mut files = Vec::new();
        everything(&folder, &mut files);
        let usual = 0o666 & !u32::from_str_radix(self.umask, 8).unwrap();
        for (path, bytes) in files {
            let name = path.strip_prefix(folder.to_str().unwrap()).unwrap().trim_start_matches('/');
            let holds = has_mark(&bytes);
            prop_assert!(!holds || self.may_hold(name), "{name} holds a mark");
            if self.planted.iter().any(|known| name.ends_with(known)) {
                continue;
            }
            let bits = fs::metadata(&path).unwrap().permissions().mode() & 0o777;
            prop_assert!(!holds || bits == 0o600, "{name} holds a mark, and has the rights {bits:o}");
            let is_output = ["live/", "out/", "bare/", "left-out.json", "form.toml"];
            if !holds && is_output.iter().any(|known| name.starts_with(known)) && !name.ends_with("by-hand") {
                // One that held a secret before stays its owner's.
                let may_have_held = ["live/", "out/"].iter().any(|known| name.starts_with(known));
                let follows = bits == usual || may_have_held && bits == 0o600;
                prop_assert!(follows, "{name} has the rights {bits:o} under the umask {}", self.umask);
            }
        }
        self.look_at_daybook()
    }

    /// What is open in the daybook holds no mark.
    fn look_at_daybook(&self) -> Result<(), TestCaseError> {
        let Some(mut book) = SqliteDaybook::read(&self.ledger.path(".cledger/daybook.db")).unwrap() else {
            return Ok(());
        };
        let records = book.records(&Wanted::default()).unwrap();
        let opened = book.opened(None).unwrap().into_iter().map(|open| (open.meta, open.packed));
        let all = records.into_iter().map(|record| (record.meta, record.packed)).chain(opened);
        for (meta, packed) in all {
            let content = packed.unpack(None, |_| None).unwrap();
            let parts = [&content.values, &content.files, &content.documents, &content.rows];
            for (name, kept) in parts.into_iter().flatten() {
                let open = kept.open().unwrap_or_default();
                prop_assert!(!has_mark(open.as_bytes()), "{}@{} has {name} open", meta.unit, meta.stage);
            }
            prop_assert!(!has_mark(serde_json::to_string(&meta).unwrap().as_bytes()));
        }
        Ok(())
    }

    /// Somebody changes what is live, by hand.
    fn edit_by_hand(&self, tape: &mut Tape<'_>) {
        let path = self.ledger.path("../live/dev/desk/desk.env");
        let Ok(text) = fs::read_to_string(&path) else { return };
        let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
        for line in &mut lines {
            if tape.pick(3) == 2
                && let Some((name, value)) = line.clone().split_once('=')
            {
                // What was open stays so.
                let changed = if has_mark(value.as_bytes()) { "marked-tide-by-hand" } else { "by-hand" };
                *line = format!("{name}={changed}");
            }
        }
        lines.push("EXTRA=by-hand".to_owned());
        fs::write(&path, lines.join("\n") + "\n").unwrap();
    }
}

fn has_mark(bytes: &[u8]) -> bool {
    MARKS.iter().any(|mark| bytes.windows(mark.len()).any(|part| part == mark.as_bytes()))
}

/// Every file below a folder, with what is in it.
fn everything(folder: &Path, found: &mut Vec<(String, Vec<u8>)>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            everything(&path, found);
        } else {
            found.push((path.to_str().unwrap().to_owned(), fs::read(&path).unwrap()));
        }
    }
}

/// Every command, in one form, over one ledger.
fn try_all(choices: &[u16], form: &str) -> Result<(), TestCaseError> {
    let tape = &mut Tape(choices.iter());
    let mut marked = Marked::new(tape);
    marked.plant(tape);
    for (at, command) in COMMANDS.iter().enumerate() {
        if at == 3 {
            marked.edit_by_hand(tape);
        }
        // In the second half a file is broken.
        if at == COMMANDS.len() / 2 && tape.pick(2) == 1 {
            let text = marked.ledger.read("stages/test.toml");
            marked
                .ledger
                .write("stages/test.toml", text.replacen("copper-1.", "copper-1.AAAA", 1) + "[units.desk\n");
        }
        let (command, program) = command.split_once(" -- ").unwrap_or((command, ""));
        let program = if program.is_empty() { String::new() } else { format!(" -- {program}") };
        let (out, err) = written(&marked.command(&format!("{command} {form}{program}")).assert());
        // What somebody typed in is theirs.
        let typed =
            ["age1marked-tide", "--contains marked-tide", "--matches marked-tide", "--swap marked-tide"];
        let text = typed.iter().fold(format!("{out}{err}"), |text, typed| text.replace(typed, ""));
        prop_assert!(!has_mark(text.as_bytes()), "`{command} {form}` shows a mark:\n{text}");
        prop_assert!(!err.contains("panicked"), "`{command} {form}`: {err}");
    }
    marked.look_at_files()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4, max_shrink_iters: 24, ..ProptestConfig::default() })]

    #[test]
    fn no_mark_of_a_secret_comes_out_of_any_command(choices in prop::collection::vec(any::<u16>(), 60..120)) {
        try_all(&choices, "")?;
    }

    #[test]
    fn no_mark_of_a_secret_is_in_any_document_for_programs(choices in prop::collection::vec(any::<u16>(), 60..120)) {
        try_all(&choices, "--json")?;
    }

    #[test]
    fn no_mark_of_a_secret_is_in_what_is_told_besides(choices in prop::collection::vec(any::<u16>(), 60..120)) {
        try_all(&choices, "-vv")?;
    }
}

#[test]
fn every_command_is_tried() {
    let words = |command: &str| -> Vec<String> { command.split(' ').map(str::to_owned).collect() };
    let tried: Vec<Vec<String>> = COMMANDS.iter().map(|command| words(command)).collect();
    let all = all_commands();
    assert!(all.len() > 50, "{all:?}");
    for command in all {
        let parts = words(&command);
        assert!(tried.iter().any(|tried| tried.starts_with(&parts)), "`{command}` is not tried");
    }
}

/// The marks are really there, for whoever asks on purpose, and deliveries really bring them.
#[test]
fn marks_come_out_where_they_are_asked_for() {
    let choices = [0_u16; 0];
    let tape = &mut Tape(choices.iter());
    let mut marked = Marked::new(tape);
    marked.plant(tape);
    marked
        .command("get shared/db.password@dev --unmask=always")
        .assert()
        .code(0)
        .stdout_eq("marked-tide-1\n");
    marked.command("deliver desk@dev --write --why x").assert().code(0);
    let live = fs::read_to_string(marked.ledger.path("../live/dev/desk/desk.env")).unwrap();
    assert!(live.contains("GATE_TOKEN=marked-tide-3"), "{live}");
    marked.look_at_files().unwrap();
}

/// Also where it is looked through in a terminal: each field in each stage, and what outlets have.
#[test]
fn no_mark_comes_onto_the_screen() {
    let choices: Vec<u16> = (0..120).map(|at| at * 17 % 61).collect();
    let tape = &mut Tape(choices.iter());
    let mut marked = Marked::new(tape);
    marked.plant(tape);
    let _ = marked.command("deliver desk@dev --write --why x --overwrite-edits").assert();
    marked.edit_by_hand(tape);
    let folder = marked.ledger.path("..");
    let mut command = CommandBuilder::new(snapbox::cmd::cargo_bin!("cledger"));
    command.args(["--trust", "browse", "desk"]);
    command.cwd(marked.ledger.path("."));
    command.env_clear();
    let variables = [("TERM", "xterm"), ("CLEDGER_TODAY", "2026-11-25"), ("CLEDGER_WHO", "ada")];
    for (name, value) in variables {
        command.env(name, value);
    }
    command.env("CLEDGER_STATE", folder.join("state"));
    command.env("CLEDGER_IDENTITY", folder.join("identity"));
    let mut pty = Pty::start(command, (150, 60));
    pty.until("value");
    pty.types("o");
    pty.until("desk@dev: ");
    // What is looked at, once all about it is known.
    let looked_at = |pty: &Pty| {
        let screen = pty.until_so("all about it", |screen| !screen.contains("being found out"));
        assert!(!has_mark(screen.as_bytes()), "{screen}");
        let line = screen.lines().find_map(|line| line.split_once("┌ ")).map(|(_, title)| title.to_owned());
        line.unwrap().split([' ', ',']).next().unwrap().to_owned()
    };
    pty.types("G");
    let first = "desk/api.token@dev";
    pty.until_so("another field", |screen| !screen.contains(&format!("┌ {first}")));
    let last = looked_at(&pty);
    pty.types("g");
    pty.until(&format!("┌ {first}"));
    let mut seen = BTreeSet::from([looked_at(&pty)]);
    while !seen.contains(&last) {
        let before = looked_at(&pty);
        pty.types("j");
        pty.until_so("another field", |screen| !screen.contains(&format!("┌ {before} ")));
        seen.insert(looked_at(&pty));
    }
    assert!(seen.len() > 40, "{seen:#?}");
    for stage in ["test", "prod"] {
        pty.types("l");
        pty.until(&format!("@{stage}"));
        looked_at(&pty);
    }
    pty.types("q");
    assert_eq!(pty.ended().0, 0);
}
