//! A table of cases for each family of findings: what is told of a ledger, and what is not.

use cledger_core::address::Pattern;
use cledger_core::findings::{Code, Severity, check};
use cledger_core::resolve::{Resolver, Unfetched};
use jiff::civil::date;

use crate::ledgers::{STAGES, ledger};

/// A ledger, and what is found in it: the code, the address, and `!` behind it for an error.
struct Case {
    files: &'static [(&'static str, &'static str)],
    found: &'static [&'static str],
}

/// What is found in a ledger on a day, as a line each.
fn found(files: &[(&str, &str)], pattern: Option<&str>) -> Vec<String> {
    let ledger = ledger(files);
    let patterns: Vec<Pattern> = pattern.iter().map(|text| Pattern::parse(text).unwrap()).collect();
    let report = check(&Resolver::new(&ledger, &Unfetched, &[]), &patterns, Some(date(2026, 11, 25)));
    let line = |finding: &cledger_core::findings::Finding| {
        let mark = if finding.severity == Severity::Error { "!" } else { "" };
        format!("{} {}{mark}", finding.code, finding.address)
    };
    let of_stages = |finding: &&cledger_core::findings::Finding| {
        // What stages keep for themselves covers nothing in most of these ledgers.
        finding.code != Code::IdlePattern || !finding.message.contains("`*/region`")
    };
    report.findings.iter().filter(of_stages).map(line).collect()
}

fn try_all(cases: &[Case]) {
    for (at, case) in cases.iter().enumerate() {
        assert_eq!(found(case.files, None), case.found, "case {at}: {:?}", case.files);
    }
}

const DESK: &str = "[variables.hold]\ndefault = \"5m\"\n";

#[test]
fn names_that_are_not_there() {
    try_all(&[
        Case {
            files: &[("units/desk.toml", DESK), ("stages/dev.toml", "[units.desk]\nhold = \"1m\"\n")],
            found: &[],
        },
        Case {
            files: &[("units/desk.toml", DESK), ("stages/dev.toml", "[units.desk]\nhodl = \"1m\"\n")],
            found: &["unknown-name desk/hodl@dev!"],
        },
        Case {
            files: &[("units/desk.toml", DESK), ("stages/dev.toml", "[units.dest]\nhold = \"1m\"\n")],
            found: &["unused-setting dest@dev"],
        },
        Case {
            files: &[
                ("units/desk.toml", "stages = [\"dev\"]\n[variables.hold]\ndefault = \"5m\"\n"),
                ("stages/test.toml", "[units.desk]\nhold = \"1m\"\n"),
            ],
            found: &["unused-setting desk@test"],
        },
        Case {
            files: &[
                ("units/desk.toml", DESK),
                ("stages/dev.toml", "[units.\"desk+kiosk\"]\nhold = \"1m\"\n"),
            ],
            found: &["unused-setting desk+kiosk@dev"],
        },
        Case {
            files: &[("units/desk.toml", DESK), ("shared.toml", "[variables.line]\ndefault = \"x\"\n")],
            found: &["unused-shared shared/line"],
        },
        Case {
            files: &[
                ("units/desk.toml", DESK),
                ("shared.toml", "[variables.line]\ndefault = \"x\"\n"),
                ("stages/dev.toml", "[units.desk]\nline = \"y\"\n"),
            ],
            found: &["unknown-name desk/line@dev!", "unused-shared shared/line"],
        },
    ]);
}

#[test]
fn rules_may_be_by_type_by_kind_and_under_a_condition_and_ask_for_a_statement() {
    let contract = "stages = [\"dev\", \"prod\"]\n[variables.flag]\ntype = \"boolean\"\ndefault = false\n[variables.word]\ndefault = \"long\"\n\
         [endpoints.api]\nfields.base.vary = \"may\"\nfields.base.default = \"http://a.example\"\nfields.user.required = false\nfields.password.required = false\n";
    let production = "classes = [\"production\"]\n";
    for (rule, prod, expected) in [
        ("types = \"boolean\"\nstated = true", "", &["rule desk/flag@prod!"][..]),
        ("types = \"boolean\"\nstated = true", "flag = false", &[]),
        ("fields = \"*/word\"\nstated = true", "word = { absent = true }", &[]),
        ("kinds = \"endpoint\"\npattern = \"^https:\"\ntypes = [\"url\"]", "", &["rule desk/api.base@prod!"]),
        ("kinds = [\"table\"]\nstated = true", "", &["rule *"]),
        ("fields = \"*/word\"\nwhen = { field = \"api.auth\", is = \"basic\" }\nmax_length = 2", "", &[]),
        (
            "fields = \"*/word\"\nwhen = { field = \"api.auth\", is = \"basic\" }\nmax_length = 2",
            "api.auth = \"basic\"",
            &["rule desk/word@prod!"],
        ),
        (
            "fields = \"*/word\"\nwhen = { field = \"flag\", is = true }\nmax_length = 2",
            "flag = true",
            &["rule desk/word@prod!"],
        ),
        (
            "fields = \"*/word\"\nwhen = { field = \"nothing\", is = true }\nmax_length = 2",
            "flag = true",
            &[],
        ),
    ] {
        let manifest = format!("{STAGES}[[rule]]\nname = \"r\"\n{production}{rule}\n");
        let prod = format!("[units.desk]\n{prod}\n");
        let files =
            [("ledger.toml", manifest.as_str()), ("units/desk.toml", contract), ("stages/prod.toml", &prod)];
        let told: Vec<String> =
            found(&files, None).into_iter().filter(|line| line.starts_with("rule")).collect();
        assert_eq!(told, expected, "{rule}: {prod}");
    }
}

#[test]
fn secrets_that_production_takes_over_are_told() {
    let with = |follow: &str, north: &str| {
        let manifest = format!(
            "format = 1\nname = \"Small\"\n[[group]]\nname = \"both\"\n[[stage]]\nname = \"test\"\nclass = \"test\"\nfollow = [{{ stage = \"north\" }}]\n\
             [[stage]]\nname = \"north\"\nclass = \"production\"\ngroups = [\"both\"]\n\
             [[stage]]\nname = \"south\"\nclass = \"production\"\n{follow}\n"
        );
        let contract = "stages = [\"north\", \"south\"]\n[credentials.gate]\nform = \"password\"\n";
        let files = [
            ("ledger.toml", manifest.as_str()),
            ("units/desk.toml", contract),
            (
                "groups/both.toml",
                if north.is_empty() {
                    "[units.desk]\ngate = { user = \"u\", password = { from = \"env:GATE\" } }\n"
                } else {
                    ""
                },
            ),
            ("stages/north.toml", north),
        ];
        found(&files, None).into_iter().filter(|line| line.starts_with("follows")).collect::<Vec<_>>()
    };
    let own = "[units.desk]\ngate = { user = \"u\", password = { from = \"env:GATE\" } }\n";
    let by_stage = own.replace("env:GATE", "env:GATE_${stage.name}");
    let told = &["follows-secret desk/gate.password@south"][..];
    for (follow, north, expected) in [
        ("follow = [{ stage = \"north\" }]", own, told),
        ("follow = [{ stage = \"north\", only = [\"desk/gate.*\"] }]", own, told),
        ("follow = [{ stage = \"north\", only = [\"desk/*\", \"*/gate.password\"] }]", own, &[]),
        ("follow = [{ stage = \"north\" }]", by_stage.as_str(), &[]),
        // The other stage's group is followed; the stage's own is nobody else's.
        ("follow = [{ stage = \"north\" }]", "", told),
        ("groups = [\"both\"]\nfollow = [{ stage = \"north\" }]", "", &[]),
    ] {
        assert_eq!(with(follow, north), expected, "{follow} {north}");
    }
}

#[test]
fn patterns_that_cover_nothing_are_told() {
    let with = |follow: &str, units: &str| {
        let manifest = format!(
            "format = 1\nname = \"Small\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n[[stage]]\nname = \"test\"\nclass = \"test\"\n\
             [[stage]]\nname = \"prod\"\nclass = \"production\"\nfollow = [{{ stage = \"test\", {follow} }}]\n\
             [[outlet]]\nname = \"o\"\nkind = \"directory\"\npath = \"x\"\nstages = [\"*\"]\nunits = [{units}]\n"
        );
        let report = found(
            &[
                ("ledger.toml", &manifest),
                ("units/desk.toml", DESK),
                ("shared.toml", "[variables.line]\ndefault = \"x\"\n"),
            ],
            None,
        );
        report.into_iter().filter(|line| line.starts_with("idle")).collect::<Vec<_>>()
    };
    for (follow, units, found) in [
        ("only = [\"desk\", \"*/hold\", \"shared/*\", \"shared/line\"]", "\"d*\"", &[][..]),
        ("only = [\"desc\"]", "\"desk\"", &["idle-pattern @prod"]),
        ("except = [\"*/hodl\"]", "\"desk\"", &["idle-pattern @prod"]),
        ("except = [\"shared/hold\"]", "\"desk\"", &["idle-pattern @prod"]),
        ("except = [\"desk+kiosk\"]", "\"desk\"", &["idle-pattern @prod"]),
        ("except = []", "\"desks\"", &["idle-pattern "]),
    ] {
        assert_eq!(with(follow, units), found, "{follow}, {units}");
    }
}

#[test]
fn a_probe_that_is_tried_in_no_stage_of_its_unit_is_told() {
    for (stages, found_of_it) in [
        ("", &[][..]),
        ("stages = [\"dev\"]", &[]),
        ("stages = [\"prd-*\", \"t*\"]", &[]),
        ("stages = [\"prd-*\"]", &["idle-pattern desk"]),
        ("stages = [\"prod\"]", &["idle-pattern desk"]),
        ("stages = []", &["idle-pattern desk"]),
    ] {
        let probe = "[endpoints.site]\nfields.base.default = \"http://localhost:80\"\n\
                     [[probe]]\nname = \"shut\"\nentry = \"site\"\nexpect = \"refused\"\n";
        let unit = format!("stages = [\"dev\", \"test\"]\n{probe}{stages}\n");
        for asked in [None, Some("desk")] {
            let lines = found(&[("units/desk.toml", &unit)], asked);
            let idle: Vec<_> = lines.into_iter().filter(|line| line.starts_with("idle")).collect();
            assert_eq!(idle, found_of_it, "{stages} {asked:?}");
        }
        assert!(found(&[("units/desk.toml", &unit), ("units/gate.toml", DESK)], Some("gate")).is_empty());
    }
}

#[test]
fn what_no_file_holds_and_nothing_refers_to_is_told() {
    const ENTRIES: &str = "stages = [\"dev\"]\nuses = [\"line\"]\n[variables.a]\ndefault = \"1\"\n[variables.b]\ndefault = \"2\"\n";
    const SHARED: (&str, &str) = ("shared.toml", "[variables.line]\ndefault = \"x\"\n");
    let with = |more: &str, output: &str| {
        format!("{ENTRIES}{more}[[output]]\npath = \"x.env\"\nformat = \"dotenv\"\n{output}\n")
    };
    let cases: [(&str, &str, &[&str]); 8] = [
        ("", "", &[]),
        ("", "only = [\"a\", \"line\"]", &["in-no-output desk/b"]),
        ("", "except = [\"b\", \"line\"]", &["in-no-output desk/b", "in-no-output desk/line"]),
        // Another output holds it; or a value that is rendered is made from it; or another unit's.
        (
            "",
            "only = [\"a\", \"line\"]\n[[output]]\npath = \"y.json\"\nformat = \"json\"\nonly = [\"b\"]",
            &[],
        ),
        ("[variables.c]\ndefault = \"${b}/${line}\"\n", "except = [\"b\", \"line\"]", &[]),
        ("[variables.c]\ndefault = \"${desk/b}/${shared/line}\"\n", "except = [\"b\", \"line\"]", &[]),
        // One field of an entry is enough; a secret in a file without secrets is not.
        (
            "[endpoints.e]\n[credentials.g]\nform = \"password\"\n",
            "except = [\"e.base\", \"g.user\"]",
            &[
                "missing-value desk/e.base@dev!",
                "missing-value desk/g.password@dev!",
                "missing-value desk/g.user@dev!",
            ],
        ),
        (
            "[variables.s]\nsecret = true\n",
            "secrets = \"without\"",
            &["in-no-output desk/s", "missing-value desk/s@dev!"],
        ),
    ];
    for (more, output, found) in cases {
        let text = with(more, output);
        assert_eq!(self::found(&[("units/desk.toml", &text), SHARED], None), found, "{text}");
    }
    // A unit without outputs is looked at by nobody through files.
    assert_eq!(self::found(&[("units/desk.toml", ENTRIES), SHARED], None), [""; 0]);
}

#[test]
fn values_as_they_are_written() {
    const COUNT: &str = "[variables.count]\ntype = \"integer\"\nmin = 1\ndefault = 3\n";
    try_all(&[
        Case {
            files: &[("units/desk.toml", COUNT), ("stages/dev.toml", "[units.desk]\ncount = 7\n")],
            found: &[],
        },
        Case {
            files: &[("units/desk.toml", COUNT), ("stages/dev.toml", "[units.desk]\ncount = \"7\"\n")],
            found: &["wrong-type desk/count@dev!"],
        },
        Case {
            files: &[("units/desk.toml", COUNT), ("stages/dev.toml", "[units.desk]\ncount = 0\n")],
            found: &["not-allowed desk/count@dev!"],
        },
        Case {
            files: &[("units/desk.toml", "[variables.count]\ntype = \"integer\"\nmin = 1\ndefault = 0\n")],
            found: &["not-allowed desk/count@default!"],
        },
        Case {
            files: &[
                ("units/desk.toml", "[variables.hold]\nvary = \"never\"\ndefault = \"5m\"\n"),
                ("stages/test.toml", "[units.desk]\nhold = \"1m\"\n"),
            ],
            found: &["fixed-value-set desk/hold@test!"],
        },
        Case {
            files: &[
                ("units/desk.toml", "[variables.pin]\nsecret = true\nrequired = false\ndistinct = false\n"),
                ("stages/dev.toml", "[units.desk]\npin = \"plover\"\n"),
                ("stages/prod.toml", "[units.desk]\npin = \"plover\"\n"),
            ],
            found: &["plain-secret desk/pin@dev", "plain-secret desk/pin@prod!"],
        },
        Case {
            files: &[
                ("units/desk.toml", "[variables.pin]\nsecret = true\nrequired = false\n"),
                ("stages/dev.toml", "[units.desk]\npin = { from = \"env:PIN\" }\n"),
            ],
            found: &[],
        },
    ]);
}

#[test]
fn values_as_they_come_out() {
    try_all(&[
        Case {
            files: &[("units/desk.toml", "[variables.region]\n")],
            found: &[
                "missing-value desk/region@dev!",
                "missing-value desk/region@prod!",
                "missing-value desk/region@test!",
            ],
        },
        Case {
            files: &[
                ("units/desk.toml", "[variables.region]\nvary = \"must\"\ndefault = \"x\"\n"),
                ("stages/test.toml", "[units.desk]\nregion = \"y\"\n"),
            ],
            found: &["missing-value desk/region@prod!"],
        },
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a]\ndefault = \"${b}\"\n[variables.b]\ndefault = \"${a}\"\n",
            )],
            found: &["reference-circle desk/a@dev!", "reference-circle desk/b@dev!"],
        },
        // A tested stage is not to be left with what is for development.
        Case {
            files: &[
                (
                    "units/desk.toml",
                    "stages = [\"dev\", \"test\"]\n[variables.a]\ntype = \"host\"\ndefault = \"localhost\"\n[variables.b]\ntype = \"url\"\ndefault = \"http://db.dev.example/x\"\n\
                     [variables.c]\ntype = \"url\"\ndefault = \"http://db.example/x\"\n[variables.d]\ntype = \"host\"\nrequired = false\n[variables.e]\ndefault = \"localhost\"\n",
                ),
                ("stages/dev.toml", "[units.desk]\nd = \"db.dev.example\"\n"),
            ],
            found: &["default-in-use desk/a@test", "default-in-use desk/b@test"],
        },
        // One reference and nothing else has the type of what it refers to, lists included.
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a]\ntype = \"list\"\ndefault = \"${b}\"\n[variables.b]\ntype = \"list\"\ndefault = [\"x\"]\n\
                 [variables.c]\ntype = \"list\"\ndefault = \"${text}\"\n[variables.text]\ndefault = \"x\"\n\
                 [variables.d]\ntype = \"map\"\ndefault = \"${nothing}\"\n[variables.e]\ntype = \"map\"\ndefault = \"${e}\"\n\
                 [variables.f]\ntype = \"list\"\ndefault = \"a ${b}\"\n",
            )],
            found: &[
                "wrong-type desk/c@dev!",
                "reference-unknown desk/d@dev!",
                "reference-circle desk/e@dev!",
                "wrong-type desk/f@default!",
            ],
        },
        // Shared text names any shared entry; what is reached only so is used.
        Case {
            files: &[
                ("units/desk.toml", "stages = [\"dev\"]\nuses = [\"line\"]\n"),
                (
                    "shared.toml",
                    "[variables.line]\ndefault = \"${host}:${shared/port}\"\n[variables.host]\ndefault = \"${stage.name}.example\"\n\
                     [variables.port]\ndefault = \"1\"\n[variables.lone]\ndefault = \"${other}\"\n[variables.other]\ndefault = \"1\"\n",
                ),
            ],
            found: &["unused-shared shared/lone", "unused-shared shared/other"],
        },
        Case {
            files: &[("units/desk.toml", "stages = [\"dev\"]\n[variables.a]\ndefault = \"${nothing}\"\n")],
            found: &["reference-unknown desk/a@dev!"],
        },
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a]\ndefault = \"${b}\"\n[variables.b]\nrequired = false\n",
            )],
            found: &["missing-value desk/a@dev!"],
        },
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a]\ntype = \"integer\"\ndefault = \"${b}\"\n[variables.b]\ndefault = \"x\"\n",
            )],
            found: &["wrong-type desk/a@dev!"],
        },
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a]\nmax_length = 2\ndefault = \"${b}\"\n[variables.b]\ndefault = \"xyz\"\n",
            )],
            found: &["not-allowed desk/a@dev!"],
        },
        // What is wrong with a shared entry is told of it, once.
        Case {
            files: &[
                ("units/desk.toml", "uses = [\"line\"]\nstages = [\"dev\"]\n"),
                ("units/gate.toml", "uses = [\"line\"]\nstages = [\"dev\"]\n"),
                ("shared.toml", "[variables.line]\n"),
            ],
            found: &["missing-value shared/line@dev!"],
        },
    ]);
}

#[test]
fn stages_that_must_differ_or_agree() {
    const PIN: &str = "[variables.pin]\nrequired = false\ndistinct = true\n";
    const BY_CLASS: &str = "[variables.pin]\nrequired = false\ndistinct = \"class\"\n";
    const AGREED: &str = "format = 1\nname = \"Small\"\n[[stage]]\nname = \"north\"\nclass = \"production\"\n\
         [[stage]]\nname = \"south\"\nclass = \"production\"\n\
         [[aligned]]\nstages = [\"north\", \"south\"]\nexcept = [\"desk/region\"]\n";
    try_all(&[
        // A reference is no copy, whichever of the two stages it is in.
        Case {
            files: &[
                ("units/desk.toml", "[variables.pin]\nrequired = false\nsecret = true\n"),
                ("stages/dev.toml", "[units.desk]\npin = \"a\"\n"),
                ("stages/test.toml", "[units.desk]\npin = \"${pin@dev}\"\n"),
            ],
            found: &["plain-secret desk/pin@dev", "points-at-other-stage desk/pin@test"],
        },
        Case {
            files: &[
                ("units/desk.toml", PIN),
                ("stages/dev.toml", "[units.desk]\npin = \"${pin@test}\"\n"),
                ("stages/test.toml", "[units.desk]\npin = \"a\"\n"),
            ],
            found: &["points-at-other-stage desk/pin@dev"],
        },
        // What each stage must state for itself need not agree.
        Case {
            files: &[
                ("ledger.toml", AGREED),
                ("units/desk.toml", "[variables.own]\nvary = \"must\"\n[variables.same]\n"),
                ("stages/north.toml", "[units.desk]\nown = \"a\"\nsame = \"a\"\n"),
                ("stages/south.toml", "[units.desk]\nown = \"b\"\nsame = \"b\"\n"),
            ],
            found: &["not-aligned desk/same@south!"],
        },
        Case {
            files: &[
                ("units/desk.toml", PIN),
                ("stages/dev.toml", "[units.desk]\npin = \"a\"\n"),
                ("stages/test.toml", "[units.desk]\npin = \"a\"\n"),
                ("stages/prod.toml", "[units.desk]\npin = \"b\"\n"),
            ],
            found: &["not-distinct desk/pin@test"],
        },
        Case {
            files: &[
                ("units/desk.toml", BY_CLASS),
                ("stages/dev.toml", "[units.desk]\npin = \"a\"\n"),
                ("stages/prod.toml", "[units.desk]\npin = \"a\"\n"),
            ],
            found: &["not-distinct desk/pin@prod!"],
        },
        Case {
            files: &[
                ("ledger.toml", AGREED),
                ("units/desk.toml", "[variables.hold]\n[variables.region]\n"),
                ("stages/north.toml", "[units.desk]\nhold = \"1m\"\nregion = \"n\"\n"),
                ("stages/south.toml", "[units.desk]\nhold = \"2m\"\nregion = \"s\"\n"),
            ],
            found: &["not-aligned desk/hold@south!"],
        },
        // One text makes both: what it refers to is told where that stands.
        Case {
            files: &[
                ("ledger.toml", AGREED),
                ("units/desk.toml", "[variables.hold]\ndefault = \"${region}\"\n[variables.region]\n"),
                ("stages/north.toml", "[units.desk]\nregion = \"n\"\n"),
                ("stages/south.toml", "[units.desk]\nregion = \"s\"\n"),
            ],
            found: &[],
        },
        Case {
            files: &[
                (
                    "units/desk.toml",
                    "[endpoints.board]\n[variables.home]\ntype = \"url\"\ndefault = \"http://home.example\"\n",
                ),
                ("stages/dev.toml", "[units.desk]\nboard.base = \"http://a.example\"\n"),
                ("stages/test.toml", "[units.desk]\nboard.base = \"http://b.example\"\n"),
                ("stages/prod.toml", "[units.desk]\nboard.base = \"http://b.example\"\n"),
            ],
            found: &["points-at-other-stage desk/board.base@prod!", "default-in-use desk/home@prod"],
        },
    ]);
}

#[test]
fn the_ledger_as_a_whole() {
    const FOLLOWS: &str = "format = 1\nname = \"Small\"\n[[stage]]\nname = \"test\"\nclass = \"test\"\n\
         [[stage]]\nname = \"prod\"\nclass = \"production\"\nfollow = [{ stage = \"test\" }]\n";
    const RULED: &str = "format = 1\nname = \"Small\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
         [[rule]]\nname = \"short\"\nfields = \"*/hold\"\nmax = \"2m\"\nseverity = \"warning\"\n\
         [[rule]]\nname = \"idle\"\nfields = \"*/nothing\"\nmax = \"2m\"\n";
    try_all(&[
        Case {
            files: &[("ledger.toml", FOLLOWS), ("units/desk.toml", DESK)],
            found: &["follows-lower-class @prod"],
        },
        Case {
            files: &[
                ("ledger.toml", RULED),
                ("units/desk.toml", "[variables.hold]\ntype = \"duration\"\ndefault = \"5m\"\n"),
            ],
            found: &["rule */nothing", "rule desk/hold@dev"],
        },
        Case {
            files: &[(
                "units/desk.toml",
                "stages = [\"dev\"]\n[variables.a-b]\ndefault = \"1\"\n[variables.a_b]\ndefault = \"2\"\n[[output]]\npath = \"x.env\"\nformat = \"dotenv\"\n",
            )],
            found: &["name-clash desk!"],
        },
        Case {
            files: &[
                ("units/desk.toml", DESK),
                (
                    "stages/dev.toml",
                    "[units.desk]\nhold = { value = \"1m\", why = \"trial\", until = 2026-11-20 }\n",
                ),
                (
                    "stages/test.toml",
                    "[units.desk]\nhold = { value = \"1m\", why = \"trial\", until = 2026-11-30 }\n",
                ),
                (
                    "stages/prod.toml",
                    "[units.desk]\nhold = { value = \"1m\", why = \"trial\", until = 2027-11-30 }\n",
                ),
            ],
            found: &["expired desk/hold@dev", "expiring desk/hold@test"],
        },
        Case {
            files: &[
                (
                    "units/desk.toml",
                    "stages = [\"dev\"]\n[tables.codes]\ncolumns = [\"code\", \"text\"]\nkey = \"code\"\nrows = \"tables/codes.csv\"\n",
                ),
                ("tables/codes.csv", "code,text\na,1\na,2\n"),
            ],
            found: &["table-row desk/codes@default!"],
        },
    ]);
}

#[test]
fn waivers_count_as_long_as_they_are_needed() {
    const LACKING: &str = "stages = [\"dev\"]\n[variables.region]\n";
    let waiver = |until: &str| {
        format!(
            "[[waiver]]\naddress = \"desk/region@dev\"\ncode = \"missing-value\"\nwhy = \"later\"\nuntil = {until}\nby = \"ada\"\n"
        )
    };
    for (unit, until, expected) in [
        (LACKING, "2027-01-01", &[][..]),
        (LACKING, "2026-11-20", &["missing-value desk/region@dev!", "waiver-expired desk/region@dev"]),
        (DESK, "2027-01-01", &["waiver-unneeded desk/region@dev"]),
    ] {
        assert_eq!(found(&[("units/desk.toml", unit), ("waivers.toml", &waiver(until))], None), expected);
    }
}

#[test]
fn a_pattern_bounds_what_is_told_and_the_ledger_how_bad_it_is() {
    let files = [
        ("units/desk.toml", "[variables.region]\n"),
        ("units/gate.toml", "[variables.region]\n"),
        ("stages/dev.toml", "[units.gate]\nregion = \"x\"\n"),
    ];
    for (pattern, expected) in [
        ("@dev", &["missing-value desk/region@dev!"][..]),
        ("gate@dev", &[]),
        ("gate@test", &["missing-value gate/region@test!"]),
        ("*/hold", &[]),
        ("desk/region@prod", &["missing-value desk/region@prod!"]),
    ] {
        assert_eq!(found(&files, Some(pattern)), expected, "{pattern}");
    }
    let manifest = format!("{STAGES}[check]\nseverity = {{ missing-value = \"warning\" }}\n");
    let found = found(&[("ledger.toml", &manifest), files[0]], Some("@dev"));
    assert_eq!(found, ["missing-value desk/region@dev"]);
}
