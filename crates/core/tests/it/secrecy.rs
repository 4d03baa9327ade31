//! Secrecy belongs to the value: whatever refers to a secret is one, in every way that it can be reached.

use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::resolve::{Effective, FieldId, Resolver, Unfetched};
use cledger_core::search::{self, Conditions};
use cledger_core::trace::ends;

use crate::ledgers::ledger;

const SHARED: (&str, &str) = (
    "shared.toml",
    "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"x\"\n[variables.line]\ndefault = \"l ${db.password}\"\n",
);
const DESK: &str = "uses = [\"db\", \"line\"]\n[instances.kiosk]\n[credentials.gate]\nform = \"token\"\n[variables.plain]\ndefault = \"p\"\n\
     [variables.v]\n";
const DEV: &str = "[shared.db]\nhost = \"h\"\nuser = \"u\"\npassword = \"plover\"\n[units.desk]\ngate.token = \"whimbrel\"\n\
     [units.\"desk+kiosk\"]\nplain = \"k ${gate.token}\"\n";

fn field(ledger: &Ledger, unit: &str, entry: &str) -> FieldId {
    let subject = Subject::Unit(ledger.unit_id(unit).unwrap(), None);
    FieldId { subject, stage: StageId(0), slot: ledger.find_slot(subject, entry, None).unwrap() }
}

#[test]
fn whatever_refers_to_a_secret_is_one() {
    for (declared, expected) in [
        ("default = \"x\"", false),
        ("default = \"${plain}\"", false),
        ("default = \"${db.host}\"", false),
        ("default = \"${db.password}\"", true),
        ("default = \"a ${gate.token} b\"", true),
        ("default = \"${line}\"", true),
        ("default = \"${shared/line}\"", true),
        ("default = \"${db.url}\"", true),
        ("default = \"${desk+kiosk/plain}\"", true),
        ("default = \"${gate/w}\"", true),
        ("default = \"${gate/w@dev}\"", true),
        ("type = \"list\"\ndefault = [\"a\", \"${gate.token}\"]", true),
        ("type = \"list\"\ndefault = [\"a\", \"${plain}\"]", false),
        ("type = \"map\"\ndefault = { a = \"${gate.token}\" }", true),
        ("type = \"url\"\ndefault = \"http://h.example/${gate.token}\"", true),
    ] {
        let desk = DESK.replace("[variables.v]\n", &format!("[variables.v]\n{declared}\n"));
        let ledger = ledger(&[
            SHARED,
            ("units/desk.toml", &desk),
            ("units/gate.toml", "[variables.w]\ndefault = \"w ${desk/line}\"\n"),
            ("stages/dev.toml", DEV),
        ]);
        let resolver = Resolver::new(&ledger, &Unfetched, &[]);
        let v = field(&ledger, "desk", "v");
        let outcome = resolver.session(ledger.unit_id("desk")).outcome(v);
        assert_eq!(outcome.value().map(Effective::is_secret), Some(expected), "{declared}: {outcome:?}");
        assert!(!format!("{outcome:?}").contains("plover") && !format!("{outcome:?}").contains("whimbrel"));
        let wanted = Conditions { secret: Some(true), ..Conditions::default() };
        let found = search::effective(&resolver, &wanted);
        assert_eq!(found.iter().any(|(field, _)| *field == v), expected, "{declared}");
    }
}

#[test]
fn a_table_with_a_secret_in_a_cell_is_one() {
    let contract = DESK.replace("[variables.v]\n", "")
        + "[tables.codes]\ncolumns = [\"code\", \"text\"]\nkey = \"code\"\nrows.a = { text = \"${gate.token}\" }\n";
    let ledger = ledger(&[SHARED, ("units/desk.toml", &contract), ("stages/dev.toml", DEV)]);
    let resolver = Resolver::new(&ledger, &Unfetched, &[]);
    let outcome = resolver.session(ledger.unit_id("desk")).outcome(field(&ledger, "desk", "codes"));
    assert_eq!(outcome.value().map(Effective::is_secret), Some(true));
}

#[test]
fn a_value_ends_up_in_the_files_that_take_its_secrecy() {
    let outputs = "[[output]]\npath = \"with.env\"\nformat = \"dotenv\"\n\
         [[output]]\npath = \"without.env\"\nformat = \"dotenv\"\nsecrets = \"without\"\n\
         [[output]]\npath = \"only.env\"\nformat = \"dotenv\"\nsecrets = \"alone\"\n";
    for (text, expected) in
        [("plain", &["with.env", "without.env"][..]), ("x ${gate.token}", &["with.env", "only.env"])]
    {
        let desk =
            DESK.replace("[variables.v]\n", &format!("[variables.v]\ndefault = \"{text}\"\n")) + outputs;
        let ledger = ledger(&[SHARED, ("units/desk.toml", &desk), ("stages/dev.toml", DEV)]);
        let resolver = Resolver::new(&ledger, &Unfetched, &[]);
        let v = field(&ledger, "desk", "v");
        let outcome = resolver.session(ledger.unit_id("desk")).outcome(v);
        let paths: Vec<String> = ends(&ledger, v, &outcome).into_iter().map(|end| end.path).collect();
        assert_eq!(paths, expected, "{text}");
    }
}
