//! `add`, `change` and `remove`: whatever stands in `ledger.toml` and in contracts, by command.

use snapbox::str;

use crate::test_ledger::{TestLedger, program, written};
use proptest::prelude::*;
use serde_json::Value;

use crate::test_ledger::is_there;

/// What is added by one command and taken out again by another. An underscore is a space within a word.
const PAIRS: [(&str, &str); 21] = [
    (
        "add outlet spare --kind directory --stages dev --path ../spare --keep a,b --timeout 5s",
        "outlet:spare",
    ),
    (
        "add outlet board --kind http --stages dev --url env:BOARD --token file:../token --retries 3",
        "outlet:board",
    ),
    (
        "add output desk conf/${stage.name}.json --format json --stages prod,dev --only hold,db.* --naming dotted",
        "output:desk/conf/${stage.name}.json",
    ),
    (
        "add output desk spare.xml --format xml --element desk --prefix a.b --order declared",
        "output:desk/spare.xml",
    ),
    (
        "add rule brief --fields */hold --max 10m --severity warning --help-text shorter --classes test",
        "rule:brief",
    ),
    ("add rule few --types text,host --one-of a,b,3 --when db.user=dev --countersign prod", "rule:few"),
    ("add bundle pair --units desk,gate --version 2 --about both", "bundle:pair"),
    ("add probe desk closed --entry db --stages prod --expect refused,no-answer", "probe:desk/closed"),
    ("add chore desk wave --when changed=hold,region", "chore:desk/wave"),
    ("add chore @dev call", "chore:@dev/call"),
    ("add follow @dev late --only shared/* --except shared/*.host --write", "follow:dev/late"),
    ("add aligned dev late --except */region", "aligned:dev,late"),
    ("add use gate db,mail", "use:gate/db use:gate/mail"),
    (
        "add variable desk/colour --type list --default [\"a\",\"b\"] --distinct=class --optional --as X",
        "desk/colour",
    ),
    ("add connection gate/post --protocol smtp --about mail", "gate/post"),
    ("add endpoint shared/board", "shared/board"),
    ("add credential gate/pass --form key-pair", "gate/pass"),
    ("add table gate/piers --columns pier,berths --as PIERS", "gate/piers"),
    ("add field gate/tide.tries --type integer --default 3 --min 1", "gate/tide.tries"),
    ("add instance desk+pier --stages dev", "desk+pier"),
    ("add unit horn --about loud --stages dev", "horn"),
];

const LEDGERS: [&str; 3] = [
    "# top\nformat = 1\nname = \"Small\"\n\n[[stage]]\nname = \"late\" # first\nclass = \"test\"\n\n# the one below\n[[stage]]\nname = \"dev\"\nclass = \"test\"\n\n[[stage.chore]]\ntext = \"sing\"\n\n# --- the last ---\n\n[[stage]]\nname = \"prod\"\nclass = \"production\"",
    "format = 1\r\nname = 'Small'\r\nstage = [\r\n  { name = \"late\", class = \"test\" }, # first\r\n  { name = \"dev\", class = \"test\", chore = [{ text = \"sing\" }] },\r\n  { name = \"prod\", class = \"production\" },\r\n]\r\n",
    "format = 1\nname = \"Small\"\nstage = [{ name = \"late\", class = \"test\" }, { name = \"dev\", class = \"test\" }, { name = \"prod\", class = \"production\" }]\nrule = [\n  { name = \"a\", fields = \"*/*\", max_length = 90 }\n]\n[check]\nexpiring_days = 3\n",
];

const DESKS: [&str; 3] = [
    "uses = [\"db\"]\n\n# held\n[variables.hold]\ntype = \"duration\"\ndefault = \"5m\"\n\n[variables.region]\ndefault = \"x\"\n\n[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n# end",
    "# A desk\n\nuses = [\n  \"db\", # all of it\n]\noutput = [{ path = \"desk.env\", format = \"dotenv\" }]\nchore = [\n  { text = \"sing\" },\n]\nvariables.hold = { type = \"duration\", default = \"5m\" }\nvariables.region.default = \"x\"\n",
    "uses = ['db' ]\r\nvariables = { hold = { type = \"duration\", default = \"5m\" }, region = { default = \"x\" } }\r\n",
];

const GATES: [&str; 3] = [
    "[endpoints.tide]\nabout = \"tides\"\n",
    "# The gate\n\n[endpoints.tide]\nfields.timeout.default = \"9s\" # long\n\n[variables.word]\ndefault = \"x\"\n",
    "endpoints.tide = {}\n",
];

fn of(ledger: usize, desk: usize, gate: usize) -> TestLedger {
    TestLedger::with([
        ("ledger.toml", LEDGERS[ledger]),
        (
            "shared.toml",
            "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"tides\"\n\n[connections.mail]\nprotocol = \"smtp\"\n",
        ),
        ("units/desk.toml", DESKS[desk]),
        ("units/gate.toml", GATES[gate]),
        (
            "stages/dev.toml",
            "[shared]\nmail.host = \"mail.dev.example\"\n\n[shared.db]\nhost = \"db.dev.example\"\nuser = \"dev\"\n",
        ),
    ])
}

/// All that the ledger says, with the bytes.
fn texts(ledger: &TestLedger) -> Vec<(String, String)> {
    let files = ledger.files("").into_iter().filter(|path| !path.starts_with(".cledger"));
    files.map(|path| (path.clone(), ledger.read(&path))).collect()
}

/// What another program reads in a file.
fn read_elsewhere(ledger: &TestLedger, path: &str) -> Value {
    let script = "import json,sys,tomllib\njson.dump(tomllib.load(open(sys.argv[1],'rb')), sys.stdout)";
    let out =
        std::process::Command::new("python3").arg("-c").arg(script).arg(ledger.path(path)).output().unwrap();
    assert!(out.status.success(), "{}: {}", ledger.read(path), String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).unwrap()
}

/// The table of a list that has these values.
fn holds(file: &Value, wanted: &Value) -> bool {
    let has =
        |table: &Value| wanted.as_object().unwrap().iter().all(|(key, value)| table.get(key) == Some(value));
    match file {
        Value::Array(items) => items.iter().any(|item| holds(item, wanted)),
        Value::Object(pairs) => has(file) || pairs.values().any(|value| holds(value, wanted)),
        _ => false,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]
    #[test]
    fn what_is_added_is_read_elsewhere_and_goes_without_a_trace(
        (ledger, desk, gate) in (0..3usize, 0..3usize, 0..3usize),
        order in Just((0..PAIRS.len()).collect::<Vec<_>>()).prop_shuffle(), count in 3..PAIRS.len(),
        back in Just((0..PAIRS.len()).collect::<Vec<_>>()).prop_shuffle(),
    ) {
        prop_assume!(is_there("python3"));
        let ledger = of(ledger, desk, gate);
        let before = texts(&ledger);
        let chosen = &order[..count];
        for &at in chosen {
            let (out, error) = written(&ledger.run(&format!("{} --json", PAIRS[at].0)));
            let told: Value = serde_json::from_str(&out).unwrap_or_default();
            prop_assert_eq!(&told["written"], &Value::Bool(true), "{}: {}{}", PAIRS[at].0, out, error);
            let keys = told["keys"].as_array().into_iter().flatten();
            let said: Vec<String> = keys.map(|key| format!("{} = {}", key["name"].as_str().unwrap(), key["after"].as_str().unwrap())).collect();
            let wanted: Value = serde_json::to_value(toml::from_str::<toml::Table>(&said.join("\n")).unwrap()).unwrap();
            for path in told["files"].as_array().unwrap() {
                let read = read_elsewhere(&ledger, path.as_str().unwrap());
                prop_assert!(holds(&read, &wanted), "{}: {wanted} in {read}", PAIRS[at].0);
            }
        }
        for at in back.into_iter().filter(|at| chosen.contains(at)) {
            let run = ledger.run(&format!("remove {} --write --countersign prod", PAIRS[at].1));
            prop_assert_eq!(run.get_output().status.code(), Some(0), "{}: {:?}", PAIRS[at].1, written(&run));
        }
        prop_assert_eq!(texts(&ledger), before);
    }
}

#[test]
fn each_addition_is_undone_by_its_removal() {
    for base in 0..3 {
        for (add, remove) in PAIRS {
            let ledger = of(base, base, base);
            let before = texts(&ledger);
            ledger.run(add).code(0);
            assert_ne!(texts(&ledger), before, "{add}");
            let shown = texts(&ledger);
            ledger.run(&format!("remove {remove}")).code(0);
            assert_eq!(texts(&ledger), shown, "{remove} was only shown");
            ledger.run(&format!("remove {remove} --write --countersign prod")).code(0);
            assert_eq!(texts(&ledger), before, "{add} on {base}");
        }
    }
}

#[test]
fn a_change_says_what_it_does_to_all_that_is_set() {
    let ledger = TestLedger::small();
    let before = texts(&ledger);
    ledger.run("change desk/hold --max 3m --about held --without type").code(2).stdout_eq("");
    ledger
        .run("change desk/hold --max 3m --about held")
        .code(0)
        .stdout_eq(str![[r#"
would change: desk/hold
changes  units/desk.toml

said   before    after
about  not said  "held"
max    not said  "3m"

1 setting is written for it.
No effective value changes.

It causes 1 finding
  error[not-allowed] desk/hold@default
Nothing is written yet. To do it, add --write.

"#]])
        .stderr_eq("");
    assert_eq!(texts(&ledger), before, "it was only shown");
    ledger.run("change desk/region --default north --vary may --write").code(0);
    assert_eq!(
        ledger.read("units/desk.toml"),
        before[4]
            .1
            .replace("vary = \"must\"\n", "vary = \"may\"\n")
            .replace("\"south\"]\n", "\"south\"]\ndefault = \"north\"\n")
    );
    ledger.run("change output:desk/desk.env --path booth.env --stages prod --write").code(0);
    assert!(
        ledger
            .read("units/desk.toml")
            .contains("path = \"booth.env\"\nformat = \"dotenv\"\nstages = [\"prod\"]\n")
    );
    ledger.run("render desk@dev --file booth.env").code(2);
    ledger.run("render desk@prod --file booth.env --without-secrets").code(0);
    // What is said of a stage asks for the countersign of the class that it had.
    ledger.run("change @prod --class test --write").code(4).stdout_eq("").stderr_eq(str![[r#"
error: this changes prod, a production stage
help: add --countersign prod

"#]]);
    ledger.run("change @dev --class production --write").code(2);
    ledger
        .run("change @prod --class test")
        .code(0)
        .stderr_eq("The change itself needs --countersign prod.\n");
    ledger.run("change @prod --class test --label region=south,x --own */region --before dev --write --countersign prod").code(0).stdout_eq(str![[r#"
changed: stage prod
changes  ledger.toml

said           before        after
class          "production"  "test"
labels.region  not said      "south,x"
own            not said      ["*/region"]
place          not said      before dev

No effective value changes.

"#]]);
    snapbox::assert_data_eq!(
        ledger.read("ledger.toml"),
        str![[r#"
format = 1
name = "Small"
default_stage = "dev"
[[stage]]
name = "prod"
class = "test"
labels.region = "south,x"
own = ["*/region"]

[[stage]]
name = "dev"
class = "development"

"#]]
    );
    ledger.run("change @prod --class production --without label.region,own --write").code(0);
    ledger.run("change ledger.toml --name Smaller --expiring-days 9 --severity expired=error,unused-shared=error --anchors --write --countersign prod").code(0);
    snapbox::assert_data_eq!(
        ledger.read("ledger.toml"),
        str![[r#"
format = 1
name = "Smaller"
default_stage = "dev"
[[stage]]
name = "prod"
class = "production"

[[stage]]
name = "dev"
class = "development"

[daybook]
anchors = true

[check]
expiring_days = 9
severity.expired = "error"
severity.unused-shared = "error"

"#]]
    );
}

#[test]
fn what_cannot_be_said_is_refused_with_what_can() {
    let ledger = TestLedger::small();
    let before = texts(&ledger);
    for (command, code, error) in [
        ("change desk/hodl --max 1m", 2, "did you mean `hold`"),
        ("change desk/db.port --default 1", 2, "write shared/db"),
        ("change desk/hold", 2, "what can be said of it: --type"),
        ("change desk/hold@dev --max 1m", 2, "leave out @dev"),
        ("change desk/hold --class test", 2, "--class means nothing for desk/hold"),
        ("change shared/db --default 1", 2, "UNIT/ENTRY.FIELD"),
        ("change desk/region --type integer", 2, "nothing is written"),
        ("change desk/hold --max tomorrow", 2, "`tomorrow` is not a duration"),
        ("change desk/hold --without pattern", 2, "desk/hold says no `pattern`"),
        ("change outlet:live --path x", 2, "there is no outlet live"),
        ("change output:desk/desk.evn --format json", 2, "did you mean `desk.env`"),
        ("change @prod --behind prod", 2, "cannot stand beside itself"),
        ("change desk --behind prod", 2, "only a stage has a place"),
        ("change @prod --after dve --countersign prod --write", 2, "there is no stage `dve`"),
        ("add rule r --fields */*", 2, "this rule demands nothing"),
        ("add outlet o --kind http --stages dev --path x", 2, "needs a `url`"),
        ("add outlet o --kind http --stages dev --url x --token plover", 4, "says where it comes from"),
        ("add output desk desk.env --format json", 2, "already"),
        ("add output desk ../x.env --format json", 2, "cannot be rendered to"),
        ("add follow @dev dev", 2, "follows itself"),
        ("add use desk bd", 2, "did you mean `db`"),
        ("add use desk db", 2, "already"),
        ("add field desk/hold.tries", 2, "without fields"),
        ("add aligned dev", 2, "at least two stages"),
        ("add chore nobody wave", 2, "there is no unit"),
    ] {
        let run = ledger.run(command);
        let said = written(&run).1;
        assert!(said.contains(error), "{command}: {said}");
        assert!(!said.contains("plover"), "{said}");
        assert_eq!(run.get_output().status.code(), Some(code), "{command}: {said}");
    }
    assert_eq!(texts(&ledger), before);
}

/// Whatever the schemas know can be said with an option, or is an operand of what declares it.
#[test]
fn what_can_be_written_by_hand_can_be_said_by_a_command() {
    let help = |command: &str| {
        let words = command.split(' ').chain(["--help"]);
        written(&program().args(words).assert().code(0)).0
    };
    let change = help("change");
    // Where a table stands in the files, the command that declares one, and its operands.
    let declaring: [(&str, &str, &str, &[&str]); 19] = [
        ("ledger", "", "change", &["format"]),
        ("ledger", "check", "change", &[]),
        ("ledger", "daybook", "change", &[]),
        ("ledger", "stage", "add stage", &["name"]),
        ("ledger", "stage/follow", "add follow", &["stage"]),
        ("ledger", "stage/chore", "add chore", &["text"]),
        ("ledger", "group", "add group", &["name"]),
        ("ledger", "aligned", "add aligned", &["stages"]),
        ("ledger", "bundle", "add bundle", &["name"]),
        ("ledger", "rule", "add rule", &["name"]),
        ("ledger", "outlet", "add outlet", &["name"]),
        ("unit", "", "add unit", &["formerly"]),
        ("unit", "instances", "add instance", &[]),
        ("unit", "output", "add output", &["path"]),
        ("unit", "chore", "add chore", &["text"]),
        ("unit", "probe", "add probe", &["name"]),
        ("unit", "variables", "add variable", &[]),
        ("unit", "tables", "add table", &[]),
        ("waivers", "waiver", "waive", &["address", "code"]),
    ];
    let entries =
        [("connections", "add connection"), ("endpoints", "add endpoint"), ("credentials", "add credential")];
    let entries =
        ["unit", "shared"].into_iter().flat_map(|kind| entries.map(|(table, add)| (kind, table, add)));
    let mut known: Vec<(String, String, String, Vec<&str>)> = declaring
        .iter()
        .map(|(kind, table, command, operands)| {
            ((*kind).into(), (*table).into(), (*command).into(), operands.to_vec())
        })
        .collect();
    for (kind, table, add) in entries {
        known.push((kind.into(), table.into(), add.into(), Vec::new()));
        known.push((kind.into(), format!("{table}/fields"), "add field".into(), Vec::new()));
    }
    for (table, add) in [("variables", "add variable"), ("tables", "add table")] {
        known.push(("shared".into(), table.into(), add.into(), Vec::new()));
    }
    // A routine is a search or a replacement that is kept.
    known.push(("ledger".into(), "routine".into(), "replace".into(), vec!["name"]));
    let mut seen = 0;
    for kind in ["ledger", "unit", "shared", "waivers"] {
        let schema: Value = serde_json::from_str(&help_of_schema(kind)).unwrap();
        let mut open = vec![(String::new(), &schema)];
        while let Some((at, table)) = open.pop() {
            let Some(properties) = table["properties"].as_object() else { continue };
            let found = known.iter().find(|(of, path, ..)| of == kind && *path == at);
            for (key, schema) in properties {
                let below = if at.is_empty() { key.clone() } else { format!("{at}/{key}") };
                let items = [&schema["items"], &schema["additionalProperties"], schema];
                let is_table = |it: &&&Value| it["properties"].is_object() && it["description"].is_null();
                if let Some(table) = items.iter().find(is_table).filter(|_| schema["description"].is_null()) {
                    open.push((below, table));
                    continue;
                }
                // A search that is kept is what `replace` is told.
                if at == "routine" || at.starts_with("routine/") {
                    continue;
                }
                let Some((_, _, command, operands)) = found else {
                    assert!(at.is_empty() && kind == "shared", "nothing declares {kind} {at}: {key}");
                    continue;
                };
                let option = match key.as_str() {
                    "labels" => "label".to_owned(),
                    "why" | "help" if command == "add rule" => format!("{key}-text"),
                    key => key.replace('_', "-"),
                };
                let is_said = |help: &str| {
                    [" ", "[", "\n"].iter().any(|end| help.contains(&format!("--{option}{end}")))
                };
                seen += 1;
                assert!(
                    operands.contains(&key.as_str()) || is_said(&help(command)),
                    "{command} has no --{option}"
                );
                let is_fixed = operands.contains(&key.as_str()) || kind == "waivers";
                assert!(is_fixed || is_said(&change), "change has no --{option} for {kind} {at}");
            }
        }
    }
    assert!(seen > 150, "{seen}");
}

fn help_of_schema(kind: &str) -> String {
    written(&program().args(["schema", kind]).assert().code(0)).0
}

#[test]
fn an_outlet_for_no_unit_is_told_as_it_comes_and_as_it_goes() {
    let ledger = TestLedger::demo();
    let add = "add outlet horn --kind directory --stages dev --path ../horn --units nosuch*";
    let (out, _) = written(&ledger.run(add).code(0));
    assert!(out.contains("It causes 1 finding\n  warning[idle-pattern]"), "{out}");
    let (out, _) = written(&ledger.run("change outlet:horn --units ticket-desk --write").code(0));
    assert!(out.contains("It cures 1 finding\n  warning[idle-pattern]"), "{out}");
}

#[test]
fn a_change_that_clashes_with_a_unit_that_it_does_not_touch_is_told() {
    let ledger = TestLedger::with([
        (
            "ledger.toml",
            "format = 1\nname = \"Quays\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
          [[rule]]\nname = \"own\"\nfields = [\"*/berth\"]\nunique_in_stage = true\n",
        ),
        ("units/desk.toml", "[variables.berth]\n"),
        ("units/boat.toml", "[variables.berth]\n"),
        ("stages/dev/desk.toml", "berth = \"4\"\n"),
        ("stages/dev/boat.toml", "berth = \"5\"\n"),
    ]);
    for command in ["replace desk/berth@dev --to 5", "set desk/berth@dev=5 --dry-run"] {
        let (out, err) = written(&ledger.run(command).code(0));
        assert!(out.contains("error[rule:own]"), "{command}: {out}{err}");
    }
}

#[test]
fn what_a_rule_finds_is_told_as_it_comes_changes_and_goes_and_nothing_of_others() {
    let ledger = TestLedger::with([
        (
            "ledger.toml",
            "format = 1\nname = \"Quays\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
             [[rule]]\nname = \"own\"\nfields = [\"*/berth\"]\nunique_in_stage = true\n\
             [[rule]]\nname = \"idle\"\nfields = [\"*/nothing\"]\nmax_length = 1\n",
        ),
        ("units/desk.toml", "[variables.berth]\n"),
        ("units/boat.toml", "[variables.berth]\n"),
        ("stages/dev/desk.toml", "berth = \"44\"\n"),
        ("stages/dev/boat.toml", "berth = \"44\"\n"),
    ]);
    for (command, told) in [
        (
            "add rule short --fields */berth --max-length 1",
            "It causes 2 findings\n  error[rule:short] boat/berth@dev\n  error[rule:short] desk/berth@dev\n",
        ),
        (
            "change rule:short --fields boat/* --write",
            "It cures 1 finding\n  error[rule:short] desk/berth@dev\n",
        ),
        (
            "change rule:short --fields horn/* --write",
            "It causes 1 finding\n  warning[rule:short] horn/*\nIt cures 1 finding\n  error[rule:short] boat/berth@dev\n",
        ),
        ("remove rule:own --write", ""),
        ("remove rule:idle --write", ""),
    ] {
        let before = rules_found(&ledger);
        let (out, err) = written(&ledger.run(command).code(0));
        let after = rules_found(&ledger);
        assert!(out.replace("\n\n", "\n").contains(told), "{command}: {out}{err}");
        let (gone, new) =
            (before.iter().filter(|it| !after.contains(it)), after.iter().filter(|it| !before.contains(it)));
        for finding in gone.chain(new).filter(|_| !told.is_empty()) {
            assert!(told.contains(finding.as_str()), "{command}: {finding}");
        }
    }
    assert_eq!(rules_found(&ledger), ["rule:short] horn/*"]);
}

/// What rules find, as an edit tells it.
fn rules_found(ledger: &TestLedger) -> Vec<String> {
    let (out, _) = written(&ledger.run("check --json"));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    let findings = document["findings"].as_array().unwrap().iter();
    let text = |finding: &serde_json::Value| {
        format!("rule:{}] {}", finding["rule"].as_str().unwrap(), finding["address"].as_str().unwrap())
    };
    findings.filter(|finding| finding["code"] == "rule").map(text).collect()
}
