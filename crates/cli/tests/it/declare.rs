//! `add`, `change` and `remove`: whatever stands in `ledger.toml` and in contracts, by command.

use crate::test_ledger::{TestLedger, written};
use proptest::prelude::*;
use serde_json::Value;

use crate::test_ledger::is_there;

/// What is added by one command and taken out again by another. An underscore is a space within a word.
const PAIRS: [(&str, &str); 19] = [
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
    #![proptest_config(ProptestConfig::with_cases(12))]
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
