//! Nothing leaves the ledger that has not been judged by everything that concerns it, whichever command it is.

use std::ffi::OsString;

use cledger_core::findings::Severity;
use cledger_core::model::Subject;
use cledger_work::Opened;
use cledger_work::check::{ToCheck, check};
use cledger_work::deliver::{ToDeliver, deliver};
use cledger_work::render::{ToRender, render};
use cledger_work::run::{Starting, ToRun, run};

use crate::workplaces::{Place, asked};

const DESK: &str = "uses = [\"db\", \"link\"]\n[variables.hold]\ntype = \"integer\"\ndefault = 5\n[variables.label]\ndefault = \"${gate/line}\"\n\
     [[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n";
const GATE: &str = "[variables.line]\ndefault = \"a\"\n[variables.other]\ndefault = \"b\"\n\
     [[output]]\npath = \"gate.env\"\nformat = \"dotenv\"\n";
const SHARED: &str = "[variables.db]\ntype = \"host\"\nvary = \"must\"\n[variables.link]\ndefault = \"-\"\n[variables.unused]\ndefault = \"x\"\n";
const DEV: &str = "[shared]\ndb = \"db.dev.example\"\n";
const TEST: &str = "[shared]\ndb = \"db.test.example\"\n";
const KIOSK: &str = "[instances.kiosk]\nstages = [\"dev\"]\n";
const RULE: &str = "[[rule]]\nname = \"short\"\nfields = [\"*/hold\", \"*/line\", \"*/other\"]\nmax_length = 3\nwhy = \"it has to fit\"\n";

/// What stands in the way of `desk@dev`, as its codes and addresses.
fn errors(place: &Place) -> Vec<String> {
    let asked = ToCheck { patterns: vec!["desk@dev".to_owned()], ..ToCheck::default() };
    let checked = check(&place.at, &asked).unwrap();
    let errors = checked.report.findings.iter().filter(|finding| finding.severity == Severity::Error);
    errors.map(|finding| format!("{} {}", finding.code, finding.address)).collect()
}

/// Whether each command hands `desk@dev` out.
fn handed_out(place: &Place) -> [bool; 4] {
    let opened: Opened = place.open();
    let subject = Subject::Unit(opened.ledger.unit_id("desk").unwrap(), None);
    let stage = opened.ledger.stage_id("dev").unwrap();
    let to_render = ToRender {
        dry_run: false,
        subjects: vec![subject],
        stage,
        out: Some(place.path("../rendered")),
        paths: Vec::new(),
        partial: false,
        without_secrets: false,
        annotate: false,
        countersign: Vec::new(),
    };
    let rendered = render(&opened, &opened.resolver(), &to_render).unwrap();
    assert_eq!(rendered.files.is_empty(), !rendered.gaps.is_empty());
    let command = vec![OsString::from("true")];
    let to_run =
        ToRun { subject, stage, command, empty_env: true, pass: Vec::new(), countersign: Vec::new() };
    let started = matches!(run(&opened, &opened.resolver(), &to_run).unwrap(), Starting::Ready(_));
    let one = deliver(&opened, &asked(&["desk"], "dev")).unwrap();
    assert_eq!(place.path("../live/dev/desk/desk.env").exists(), one.gaps.is_empty());
    let all = deliver(&opened, &ToDeliver { write: false, ..asked(&[], "dev") }).unwrap();
    [rendered.gaps.is_empty(), started, one.gaps.is_empty(), all.gaps.is_empty()]
}

/// What is changed about a ledger in which all is well, and what stands in the way then.
struct Case {
    what: &'static str,
    files: Vec<(&'static str, String)>,
    has_rule: bool,
    found: &'static [&'static str],
}

fn case(
    what: &'static str,
    files: &[(&'static str, &str)],
    has_rule: bool,
    found: &'static [&'static str],
) -> Case {
    let files = files.iter().map(|(path, text)| (*path, (*text).to_owned())).collect();
    Case { what, files, has_rule, found }
}

fn cases() -> Vec<Case> {
    let dev = |more: &str| format!("{DEV}{more}");
    let with_kiosk = DESK.replacen('\n', &format!("\n{KIOSK}"), 1);
    let made_of = format!("{SHARED}[variables.base]\ntype = \"integer\"\ndefault = 1\n");
    let waiver =
        "[[waiver]]\naddress = \"desk/hold@dev\"\ncode = \"rule\"\nwhy = \"trial\"\nuntil = 2027-01-01\n";
    vec![
        case("all is well", &[], false, &[]),
        case(
            "what is shared points at another stage",
            &[("stages/dev.toml", &dev("link = \"http://db.test.example/x\"\n"))],
            false,
            &["points-at-other-stage shared/link@dev"],
        ),
        case(
            "a rule on its own field",
            &[("stages/dev.toml", &dev("[units.desk]\nhold = 12345\n"))],
            true,
            &["rule desk/hold@dev"],
        ),
        case(
            "a rule on a field that its value is made of",
            &[("stages/dev.toml", &dev("[units.gate]\nline = \"long\"\n"))],
            true,
            &["rule gate/line@dev"],
        ),
        case(
            "a rule on a field of another unit that it has nothing to do with",
            &[("stages/dev.toml", &dev("[units.gate]\nother = \"long\"\n"))],
            true,
            &[],
        ),
        case(
            "a rule in another stage",
            &[("stages/test.toml", &format!("{TEST}[units.desk]\nhold = 12345\n"))],
            true,
            &[],
        ),
        case(
            "its instance",
            &[
                ("units/desk.toml", &with_kiosk),
                ("stages/dev.toml", &dev("[units.\"desk+kiosk\"]\nhold = \"x\"\n")),
            ],
            false,
            &["wrong-type desk+kiosk/hold@dev"],
        ),
        case("a shared entry that it does not use", &[("stages/dev.toml", &dev("unused = 7\n"))], false, &[]),
        case(
            "a shared entry that what it uses is made of",
            &[
                ("shared.toml", &made_of),
                ("stages/dev.toml", "[shared]\ndb = \"h${base}.example\"\nbase = \"x\"\n"),
            ],
            false,
            &["wrong-type shared/base@dev", "missing-value shared/db@dev"],
        ),
        case(
            "a setting without effect is told, and holds nothing up",
            &[("stages/dev.toml", &dev("[units.desk]\nhodl = 3\n"))],
            false,
            &["unknown-name desk/hodl@dev"],
        ),
        case(
            "what is waived",
            &[("stages/dev.toml", &dev("[units.desk]\nhold = 12345\n")), ("waivers.toml", waiver)],
            true,
            &[],
        ),
    ]
}

#[test]
fn what_concerns_a_unit_holds_it_up_everywhere_and_nothing_else_does() {
    for Case { what, files, has_rule, found } in cases() {
        let place = Place::new(&[
            ("units/desk.toml", DESK),
            ("units/gate.toml", GATE),
            ("shared.toml", SHARED),
            ("stages/dev.toml", DEV),
            ("stages/test.toml", TEST),
        ]);
        for (path, text) in &files {
            place.write(path, text);
        }
        if has_rule {
            place.write("ledger.toml", &(place.read("ledger.toml") + RULE));
        }
        assert_eq!(errors(&place), found, "{what}");
        let is_out = found.iter().all(|error| error.starts_with("unknown-name"));
        let [rendered, started, delivered, all] = handed_out(&place);
        assert_eq!([rendered, started, delivered], [is_out; 3], "{what}");
        // All of a stage is held up by whatever concerns one of its units.
        assert!(is_out || !all, "{what}");
    }
}
