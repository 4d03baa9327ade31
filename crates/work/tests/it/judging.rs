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
    let asked = ToCheck { pattern: Some("desk@dev".to_owned()), ..ToCheck::default() };
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
        subjects: vec![subject],
        stage,
        out: place.path("../rendered"),
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

#[test]
fn what_concerns_a_unit_holds_it_up_everywhere_and_nothing_else_does() {
    let with_rule = |place: &Place| place.write("ledger.toml", &(place.read("ledger.toml") + RULE));
    let nothing = |_: &Place| {};
    type Change<'c> = &'c dyn Fn(&Place);
    let dev = |more: &str| format!("{DEV}{more}");
    let cases: [(&str, &[(&str, &str)], Change<'_>, &[&str]); 11] = [
        ("all is well", &[], &nothing, &[]),
        (
            "what is shared points at another stage",
            &[(
                "stages/dev.toml",
                "[shared]\ndb = \"db.dev.example\"\nlink = \"http://db.test.example/x\"\n",
            )],
            &nothing,
            &["points-at-other-stage shared/link@dev"],
        ),
        (
            "a rule on its own field",
            &[("stages/dev.toml", &dev("[units.desk]\nhold = 12345\n"))],
            &with_rule,
            &["rule desk/hold@dev"],
        ),
        (
            "a rule on a field that its value is made of",
            &[("stages/dev.toml", &dev("[units.gate]\nline = \"long\"\n"))],
            &with_rule,
            &["rule gate/line@dev"],
        ),
        (
            "a rule on a field of another unit that it has nothing to do with",
            &[("stages/dev.toml", &dev("[units.gate]\nother = \"long\"\n"))],
            &with_rule,
            &[],
        ),
        (
            "a rule in another stage",
            &[("stages/test.toml", &format!("{TEST}[units.desk]\nhold = 12345\n"))],
            &with_rule,
            &[],
        ),
        (
            "its instance",
            &[
                (
                    "units/desk.toml",
                    &format!("{KIOSK}{DESK}").replacen("uses = [\"db\", \"link\"]\n", "", 1).replacen(
                        KIOSK,
                        &format!("uses = [\"db\", \"link\"]\n{KIOSK}"),
                        1,
                    ),
                ),
                ("stages/dev.toml", &dev("[units.\"desk+kiosk\"]\nhold = \"x\"\n")),
            ],
            &nothing,
            &["wrong-type desk+kiosk/hold@dev"],
        ),
        (
            "a shared entry that it does not use",
            &[("stages/dev.toml", "[shared]\ndb = \"db.dev.example\"\nunused = 7\n")],
            &nothing,
            &[],
        ),
        (
            "a shared entry that what it uses is made of",
            &[
                ("shared.toml", &format!("{SHARED}[variables.base]\ntype = \"integer\"\ndefault = 1\n")),
                ("stages/dev.toml", "[shared]\ndb = \"h${base}.example\"\nbase = \"x\"\n"),
            ],
            &nothing,
            &["wrong-type shared/base@dev", "missing-value shared/db@dev"],
        ),
        (
            "a setting without effect is told, and holds nothing up",
            &[("stages/dev.toml", &dev("[units.desk]\nhodl = 3\n"))],
            &nothing,
            &["unknown-name desk/hodl@dev"],
        ),
        (
            "what is waived",
            &[
                ("stages/dev.toml", &dev("[units.desk]\nhold = 12345\n")),
                (
                    "waivers.toml",
                    "[[waiver]]\naddress = \"desk/hold@dev\"\ncode = \"rule\"\nwhy = \"trial\"\nuntil = 2027-01-01\n",
                ),
            ],
            &with_rule,
            &[],
        ),
    ];
    for (case, files, change, expected) in cases {
        let first = [
            ("units/desk.toml", DESK),
            ("units/gate.toml", GATE),
            ("shared.toml", SHARED),
            ("stages/dev.toml", DEV),
            ("stages/test.toml", TEST),
        ];
        let place = Place::new(&first);
        for (path, text) in files {
            place.write(path, text);
        }
        change(&place);
        assert_eq!(errors(&place), expected, "{case}");
        let is_out = expected.iter().all(|error| error.starts_with("unknown-name"));
        let [rendered, started, delivered, all] = handed_out(&place);
        assert_eq!([rendered, started, delivered], [is_out; 3], "{case}");
        // All of a stage is held up by whatever concerns one of its units.
        assert!(is_out || !all, "{case}");
    }
}
