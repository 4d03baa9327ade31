//! Findings about values that are present and wrong, rules of the ledger's own, and waivers.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

const STAGES: &str = "format = 1\nname = \"x\"\n\
    [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
    [[stage]]\nname = \"test\"\nclass = \"test\"\ngroups = [\"common\"]\n\
    [[stage]]\nname = \"north\"\nclass = \"production\"\ngroups = [\"common\"]\n\
    [[stage]]\nname = \"south\"\nclass = \"production\"\ngroups = [\"common\"]\nfollow = [{ stage = \"north\" }]\n";

/// What a check finds: codes with addresses, errors with a mark; only of these codes.
fn found(ledger: &TestLedger, codes: &[&str], arguments: &str) -> Vec<String> {
    let (out, err) = written(&ledger.run(&format!("check --form lines {arguments}")));
    assert!(!err.contains("cannot be read"), "{err}");
    let told = out.lines().map(|line| {
        let mut parts = line.splitn(4, ": ");
        let (_, severity, address) = (parts.next(), parts.next().unwrap(), parts.next().unwrap());
        let kind = line.rsplit(" [").next().unwrap().trim_end_matches(']');
        // The rule that is broken is the concern of a test of its own.
        let code = kind.split(':').next().unwrap();
        (code.to_owned(), format!("{severity} {code} {address}"))
    });
    told.filter(|(code, _)| codes.contains(&code.as_str())).map(|(_, told)| told).collect()
}

fn ledger(files: &[(&str, &str)]) -> TestLedger {
    let ledger = TestLedger::with([("ledger.toml", STAGES)]);
    for (path, text) in files {
        ledger.write(path, text);
    }
    ledger
}

/// Each case: what is written, and what must be flagged; a near miss flags nothing.
#[test]
fn hosts_of_other_stages_are_flagged_and_near_misses_are_not() {
    let contract = "uses = [\"db\"]\n[variables.page]\ntype = \"url\"\nrequired = false\n[variables.note]\nrequired = false\n\
                    [variables.peers]\ntype = \"list\"\nrequired = false\n";
    let shared = "[connections.db]\nprotocol = \"tcp\"\nfields.port.default = 1\n";
    let test =
        "[shared.db]\nhost = \"db.test.example\"\n[units.desk]\npage = \"https://page.test.example/x\"\n";
    let cases: [(&str, &str, &[&str]); 12] = [
        (
            "stages/north.toml",
            "[shared.db]\nhost = \"db.test.example\"\n",
            &["error points-at-other-stage shared/db.host@north"],
        ),
        (
            "stages/north.toml",
            "[units.desk]\npage = \"http://db.test.example:8/y\"\n",
            &["error points-at-other-stage desk/page@north"],
        ),
        (
            "stages/north.toml",
            "[units.desk]\nnote = \"ask page.test.example.\"\n",
            &["error points-at-other-stage desk/note@north"],
        ),
        (
            "stages/north.toml",
            "[units.desk]\npeers = [\"a.example\", \"db.test.example:5\"]\n",
            &["error points-at-other-stage desk/peers@north"],
        ),
        (
            "stages/dev.toml",
            "[units.desk]\npage = \"https://page.test.example/z\"\n",
            &["error points-at-other-stage desk/page@dev"],
        ),
        ("stages/north.toml", "[units.desk]\nnote = \"xdb.test.example db.test.example.org\"\n", &[]),
        ("stages/north.toml", "[units.desk]\nnote = \"${db.host@test}\"\n", &[]),
        ("groups/common.toml", "[units.desk]\nnote = \"db.test.example\"\n", &[]),
        ("stages/north.toml", "[units.desk]\npage = \"http://localhost:1/\"\nnote = \"127.0.0.1\"\n", &[]),
        ("stages/north.toml", "[shared.db]\nhost = \"db.north.example\"\n", &[]),
        ("stages/test.toml", "[units.desk]\nnote = \"db.test.example\"\n", &[]),
        ("units/desk.toml", "", &[]),
    ];
    for (path, text, expected) in cases {
        let ledger =
            ledger(&[("units/desk.toml", contract), ("shared.toml", shared), ("stages/test.toml", test)]);
        if path == "stages/test.toml" {
            ledger.write(path, format!("{test}note = \"db.test.example\"\n"));
        } else if path == "units/desk.toml" {
            ledger.write(path, format!("{contract}[variables.d]\ndefault = \"db.test.example\"\n"));
        } else {
            ledger.write(path, text);
        }
        assert_eq!(found(&ledger, &["points-at-other-stage"], ""), expected, "{path}: {text}");
    }
    let database = "[connections.db]\nprotocol = \"mysql\"\n";
    for (name, expected) in [
        ("tides_test", &["error points-at-other-stage shared/db.database@north"][..]),
        ("tides", &[]),
        ("tides_north", &[]),
    ] {
        let north = format!("[shared.db]\ndatabase = \"{name}\"\n");
        let test = "[shared.db]\ndatabase = \"tides_test\"\n";
        let ledger = ledger(&[
            ("units/desk.toml", "uses = [\"db\"]\n"),
            ("shared.toml", database),
            ("stages/test.toml", test),
            ("stages/north.toml", &north),
        ]);
        assert_eq!(found(&ledger, &["points-at-other-stage"], ""), expected, "{name}");
    }
    // Stages on one host are parted by ports, paths and databases.
    let contract = format!("{contract}[variables.limits]\ntype = \"map\"\nrequired = false\n");
    let test =
        "[shared.db]\nhost = \"one.example\"\nport = 81\n[units.desk]\npage = \"http://one.example:82/t\"\n";
    let page = &["error points-at-other-stage desk/page@north"][..];
    let note = &["error points-at-other-stage desk/note@north"][..];
    let cases: [(&str, &[&str]); 14] = [
        ("[shared.db]\nhost = \"one.example\"\nport = 83\n", &[]),
        (
            "[shared.db]\nhost = \"one.example\"\nport = 81\n",
            &["error points-at-other-stage shared/db.host@north"],
        ),
        ("[shared.db]\nhost = \"one.example\"\n", &[]),
        ("[units.desk]\npage = \"http://one.example:82/n\"\n", &[]),
        ("[units.desk]\npage = \"http://one.example/t\"\n", &[]),
        ("[units.desk]\npage = \"http://one.example:82/t/deeper\"\n", page),
        ("[units.desk]\npage = \"http://one.example:82/t?x=1\"\n", page),
        ("[units.desk]\npage = \"http://one.example:81/any\"\n", page),
        ("[units.desk]\nnote = \"as on one.example\"\n", note),
        ("[units.desk]\nnote = \"jdbc:mysql://one.example:82/t\"\n", note),
        ("[units.desk]\nnote = \"jdbc:mysql://one.example:84/t\"\n", &[]),
        (
            "[units.desk]\npeers = [\"one.example:83\", \"one.example:81\"]\n",
            &["error points-at-other-stage desk/peers@north"],
        ),
        (
            "[units.desk]\nlimits = { a = \"one.example:81\" }\n",
            &["error points-at-other-stage desk/limits@north"],
        ),
        // North has a place of its own there, and a text that names the other's.
        ("[units.desk]\npage = \"http://one.example:82/n\"\nnote = \"http://one.example:82/t\"\n", note),
    ];
    for (north, expected) in cases {
        let ledger = ledger(&[
            ("units/desk.toml", &contract),
            ("shared.toml", shared),
            ("stages/test.toml", test),
            ("stages/north.toml", north),
        ]);
        assert_eq!(found(&ledger, &["points-at-other-stage"], ""), expected, "{north}");
    }
    // Within one class it is a warning; what three stages set is common; followed values belong to nobody.
    let ledger = ledger(&[
        ("units/desk.toml", &contract),
        ("shared.toml", shared),
        ("stages/north.toml", "[shared.db]\nhost = \"a.example\"\n"),
    ]);
    assert_eq!(found(&ledger, &["points-at-other-stage"], ""), [""; 0]);
    ledger.write("stages/south.toml", "[shared.db]\nhost = \"a.example\"\n");
    assert_eq!(
        found(&ledger, &["points-at-other-stage"], ""),
        ["warning points-at-other-stage shared/db.host@south"]
    );
    ledger.write("stages/test.toml", "[shared.db]\nhost = \"a.example\"\n");
    assert_eq!(found(&ledger, &["points-at-other-stage"], ""), [""; 0]);
    ledger.write("stages/test.toml", "");
    ledger.write("ledger.toml", format!("{STAGES}[[aligned]]\nstages = [\"north\", \"south\"]\n"));
    assert_eq!(found(&ledger, &["points-at-other-stage"], ""), [""; 0]);
}

#[test]
fn values_that_must_differ_or_agree_are_compared() {
    let contract = "[variables.pin]\nsecret = true\n[variables.port]\ntype = \"port\"\ndistinct = true\nrequired = false\n\
                    [variables.limit]\ndefault = \"1\"\n[variables.label]\ndefault = \"at ${stage.name}\"\n\
                    [variables.page]\ntype = \"url\"\ndefault = \"http://a.example\"\n[variables.copy]\ntype = \"url\"\ndefault = \"${page}\"\n\
                    [variables.fixed]\ntype = \"url\"\nvary = \"never\"\ndefault = \"http://b.example\"\n";
    let settings = |pin: &str, port: &str, limit: &str| {
        format!("[units.desk]\npin = \"{pin}\"\nport = {port}\nlimit = \"{limit}\"\n")
    };
    let of = |dev: &str, test: &str, north: &str, south: &str, more: &str| {
        let ledger = ledger(&[
            ("units/desk.toml", contract),
            ("stages/dev.toml", dev),
            ("stages/test.toml", test),
            ("stages/north.toml", north),
            ("stages/south.toml", south),
        ]);
        ledger.write("ledger.toml", format!("{STAGES}{more}"));
        found(&ledger, &["not-distinct", "not-aligned"], "")
    };
    let [dev, test, north, south] = [("a", "1", "1"), ("b", "2", "1"), ("c", "3", "1"), ("c", "4", "1")]
        .map(|(pin, port, limit)| settings(pin, port, limit));
    assert_eq!(of(&dev, &test, &north, &south, ""), [""; 0], "secrets may be the same within a class");
    assert_eq!(
        of(&dev, &settings("a", "2", "1"), &north, &south, "")[0],
        "warning not-distinct desk/pin@test"
    );
    assert_eq!(of(&dev, &test, &settings("b", "3", "1"), &south, "")[0], "error not-distinct desk/pin@north");
    assert_eq!(
        of(&dev, &test, &north, &settings("c", "3", "1"), "")[0],
        "error not-distinct desk/port@south"
    );
    let aligned = "[[aligned]]\nstages = [\"north\", \"south\"]\nexcept = [\"*/port\"]\n";
    assert_eq!(of(&dev, &test, &north, &south, aligned), [""; 0], "ports are excepted, labels have one text");
    let other = settings("d", "4", "2");
    assert_eq!(of(&dev, &test, &north, &other, aligned), ["error not-aligned desk/limit@south"]);
    assert_eq!(of(&dev, &test, &north, &other, &aligned.replace("*/port", "*/limit")), [""; 0]);
    let absent = format!("{south}label = {{ absent = true }}\n");
    assert_eq!(of(&dev, &test, &north, &absent, aligned), ["error not-aligned desk/label@south"]);
}

#[test]
fn a_default_in_production_is_told() {
    let contract = "[variables.page]\ntype = \"url\"\ndefault = \"http://a.example\"\n\
                    [variables.copy]\ntype = \"url\"\ndefault = \"${page}\"\n[variables.word]\ndefault = \"a.example\"\n\
                    [variables.fixed]\ntype = \"url\"\nvary = \"never\"\ndefault = \"http://b.example\"\n";
    let ledger = ledger(&[("units/desk.toml", contract)]);
    let both = ["warning default-in-use desk/page@north", "warning default-in-use desk/page@south"];
    assert_eq!(found(&ledger, &["default-in-use"], ""), both);
    ledger.write("stages/north.toml", "[units.desk]\npage = \"http://a.example\"\n");
    assert_eq!(found(&ledger, &["default-in-use"], ""), [""; 0], "the south follows");
}

#[test]
fn what_ends_soon_is_told_before() {
    let contract = "[variables.hold]\n[credentials.gate]\nform = \"token\"\n";
    let dev = "[units.desk]\nhold = { value = \"x\", until = 2026-12-25 }\ngate = { token = { from = \"env:GATE\" }, expires = 2026-12-25 }\n";
    let ledger = ledger(&[("units/desk.toml", contract), ("stages/dev.toml", dev)]);
    let both = ["warning expiring desk/gate.expires@dev", "warning expiring desk/hold@dev"];
    for (today, days, expected) in [
        ("2026-11-25", "", &both[..]),
        ("2026-11-24", "", &[]),
        ("2026-12-25", "[check]\nexpiring_days = 0\n", &both[..]),
        ("2026-12-24", "[check]\nexpiring_days = 0\n", &[]),
    ] {
        ledger.write("ledger.toml", format!("{STAGES}{days}"));
        assert_eq!(found(&ledger, &["expiring"], &format!("@dev --today {today}")), expected, "{today}");
    }
}

/// Each rule with values that keep it and values that break it.
#[test]
fn rules_hold_for_what_comes_out() {
    let contract = "[variables.size]\ntype = \"size\"\nrequired = false\n[variables.port]\ntype = \"port\"\nrequired = false\n\
                    [variables.word]\nrequired = false\n[variables.hosts]\ntype = \"list\"\nrequired = false\n[instances.a]\n";
    let broken = [
        "error rule desk/size@dev",
        "error rule desk/port@dev",
        "error rule desk/word@dev",
        "error rule desk/hosts@dev",
    ];
    let [size, port, word, hosts] = broken;
    let cases: [(&str, &str, &[&str]); 22] = [
        ("fields = \"*/word\"\none_of = [\"a\", \"b\"]", "word = \"c\"", &[word]),
        ("fields = \"*/word\"\none_of = [\"a\", \"b\"]", "word = \"a\"", &[]),
        ("fields = \"*/hosts\"\none_of = [\"a\", \"b\"]", "hosts = [\"a\", \"c\"]", &[hosts]),
        ("fields = \"*/word\"\nnot_one_of = [\"a\"]", "word = \"a\"", &[word]),
        ("fields = \"*/port\"\nnot_one_of = [80]", "port = 80", &[port]),
        ("fields = \"*/port\"\nnot_one_of = [80]", "port = 81", &[]),
        (
            "fields = [\"*/word\", \"*/hosts\"]\npattern = \"^a\"",
            "word = \"ba\"\nhosts = [\"ab\", \"b\"]",
            &[hosts, word],
        ),
        ("fields = \"*/word\"\nnot_pattern = \"debug\"", "word = \"a debug page\"", &[word]),
        ("fields = \"*/word\"\nnot_pattern = \"debug\"", "word = \"${port}\"\nport = 9", &[]),
        ("fields = \"*/size\"\nmin = \"1MiB\"", "size = \"1MB\"", &[size]),
        ("fields = \"*/size\"\nmax = \"1MiB\"", "size = \"1MB\"", &[]),
        ("fields = \"*/port\"\nmin = 1024\nmax = 2000", "port = 2001", &[port]),
        ("fields = \"*/word\"\nmax_length = 2", "word = \"äöü\"", &[word]),
        ("fields = \"*/word\"\npresent_with = \"port\"", "port = 1", &[word]),
        ("fields = \"*/word\"\npresent_with = \"port\"", "port = 1\nword = \"x\"", &[]),
        ("fields = \"*/word\"\nabsent_in = [\"dev\"]", "word = \"x\"", &[word]),
        ("fields = \"*/word\"\nabsent_in = [\"north\"]", "word = \"x\"", &[]),
        ("fields = \"*/word\"\none_of = [\"a\"]\nclasses = [\"production\"]", "word = \"c\"", &[]),
        (
            "fields = \"*/word\"\none_of = [\"a\"]\nstages = [\"d*\"]\nseverity = \"warning\"",
            "word = \"c\"",
            &["warning rule desk/word@dev"],
        ),
        ("fields = \"*/wrod\"\none_of = [\"a\"]", "", &["warning rule */wrod"]),
        ("types = \"text\"\nclasses = [\"development\"]\nstated = true", "", &[]),
        (
            "fields = \"*/word\"\nkinds = [\"endpoint\"]\none_of = [\"a\"]",
            "word = \"c\"",
            &["warning rule */word"],
        ),
    ];
    for (rule, settings, expected) in cases {
        let ledger = ledger(&[
            ("units/desk.toml", contract),
            ("stages/dev.toml", &format!("[units.desk]\n{settings}\n")),
        ]);
        ledger.write("ledger.toml", format!("{STAGES}[[rule]]\nname = \"r\"\n{rule}\n"));
        let found: Vec<String> =
            found(&ledger, &["rule"], "").into_iter().filter(|told| !told.contains('+')).collect();
        assert_eq!(found, expected, "{rule}: {settings}");
    }
    let of = |rule: &str, files: &[(&str, &str)]| {
        let ledger = ledger(files);
        ledger.write("units/desk.toml", contract);
        ledger.write("units/gate.toml", contract);
        ledger.write("ledger.toml", format!("{STAGES}[[rule]]\nname = \"r\"\nwhy = \"so\"\n{rule}\n"));
        found(&ledger, &["rule"], "").into_iter().filter(|told| !told.contains('+')).collect::<Vec<_>>()
    };
    let two = |test: &str, north: &str| {
        [format!("[units.desk]\nword = \"{test}\"\n"), format!("[units.desk]\nword = \"{north}\"\n")]
    };
    for (rule, (test, north), expected) in [
        ("equal_in = [\"test\", \"north\"]", ("a", "b"), &["error rule desk/word@north"][..]),
        ("equal_in = [\"test\", \"north\"]", ("a", "a"), &[]),
        ("distinct_in = [\"test\", \"north\"]", ("a", "a"), &["error rule desk/word@north"]),
        ("distinct_in = [\"test\", \"north\"]", ("a", "b"), &[]),
    ] {
        let [test, north] = two(test, north);
        let files = [("stages/test.toml", test.as_str()), ("stages/north.toml", north.as_str())];
        assert_eq!(of(&format!("fields = \"*/word\"\n{rule}"), &files), expected, "{rule}");
    }
    let unique = "fields = \"*/port\"\nunique_in_stage = true";
    let same = "[units.\"desk+a\"]\nport = 8\n[units.gate]\nport = 80\n[units.desk]\nport = 80\n";
    assert_eq!(of(unique, &[("stages/dev.toml", same)]), ["error rule gate/port@dev"]);
    assert_eq!(
        of(
            unique,
            &[
                ("stages/dev.toml", "[units.gate]\nport = 80\n"),
                ("stages/test.toml", "[units.desk]\nport = 80\n")
            ]
        ),
        [""; 0]
    );
}

#[test]
fn rules_and_waivers_that_make_no_sense_are_refused_where_they_stand() {
    let rule = |text: &str| format!("{STAGES}[[rule]]\nname = \"r\"\n{text}\n");
    let waiver = |text: &str| format!("[[waiver]]\n{text}\n");
    let whole = "code = \"expired\"\naddress = \"*\"\nwhy = \"x\"\nuntil = 2027-01-31";
    for (path, text, hint) in [
        ("ledger.toml", rule("fields = \"*/x\""), "this rule demands nothing"),
        ("ledger.toml", rule("min = 1"), "this rule has no `fields`"),
        ("ledger.toml", rule("fields = \"*/x[\"\nmin = 1"), "patterns are made of"),
        ("ledger.toml", rule("fields = \"*/x\"\npattern = \"(\""), "does not compile"),
        ("ledger.toml", rule("fields = \"*/x\"\nmin = \"2s\"\nmax = \"1s\""), "`max` is less than `min`"),
        ("ledger.toml", rule("fields = \"*/x\"\nabsent_in = [\"tset\"]"), "did you mean \"test\"?"),
        ("ledger.toml", rule("fields = \"*/x\"\nequal_in = [\"test\"]"), "at least two stages"),
        ("ledger.toml", rule("fields = \"*/x\"\nmni = 1"), "did you mean `min`?"),
        (
            "ledger.toml",
            format!("{STAGES}[check.severity]\nplain-secrt = \"error\"\n"),
            "did you mean `plain-secret`?",
        ),
        ("ledger.toml", format!("{STAGES}[check]\nexpiring_days = -1\n"), "a number of days"),
        ("waivers.toml", waiver(&whole.replace("expired", "expird")), "did you mean `expired`?"),
        ("waivers.toml", waiver(&whole.replace("why = \"x\"\n", "")), "does not say why"),
        ("waivers.toml", waiver(&whole.replace("2027-01-31", "\"soon\"")), "`until` must be a day"),
        ("waivers.toml", waiver(&whole.replace("\"*\"", "\"a b\"")), "waivers.toml:3:11"),
        ("waivers.toml", "[[waver]]\n".to_owned(), "did you mean `waiver`?"),
    ] {
        let ledger = ledger(&[]);
        ledger.write(path, &text);
        let (out, err) = written(&ledger.run("check").code(2));
        let said = out + &err;
        assert!(said.contains(hint) && said.contains(&format!("{path}:")), "{text}: {said}");
    }
}

#[test]
fn waivers_count_until_their_last_day_and_keep_the_file_honest() {
    let ledger = ledger(&[
        ("units/desk.toml", "[variables.pin]\nsecret = true\n"),
        ("stages/dev.toml", "[units.desk]\npin = \"x\"\n"),
    ]);
    let codes = ["plain-secret", "waiver-expired", "waiver-unneeded"];
    assert_eq!(found(&ledger, &codes, ""), ["warning plain-secret desk/pin@dev"]);
    ledger
        .run("waive desk/*@dev plain-secret --why trial --until 2026-12-31 --by quay --write")
        .code(0)
        .stdout_eq(str![[r#"
waived: `plain-secret` for desk/*@dev until 2026-12-31, 1 finding.

"#]]);
    assert_eq!(found(&ledger, &codes, ""), [""; 0]);
    ledger.run("check desk@dev --waived").code(0).stdout_eq(str![[r#"
unit  dev
desk  ok

waived
code          address       until       why    by
plain-secret  desk/pin@dev  2026-12-31  trial  quay

ok: no findings in 1 unit; 1 waived.

"#]]);
    assert_eq!(found(&ledger, &codes, "--today 2026-12-31"), [""; 0]);
    assert_eq!(
        found(&ledger, &codes, "--today 2027-01-01"),
        ["warning plain-secret desk/pin@dev", "warning waiver-expired desk/*@dev"]
    );
    ledger.write("stages/dev.toml", "[units.desk]\npin = { from = \"env:PIN\" }\n");
    assert_eq!(found(&ledger, &codes, ""), ["warning waiver-unneeded desk/*@dev"]);
    // Names that change, change there, too.
    ledger.run("rename desk kiosk --outputs --write").code(0);
    assert!(
        ledger.read("waivers.toml").contains("address = \"kiosk/*@dev\""),
        "{}",
        ledger.read("waivers.toml")
    );
    for (arguments, status) in [
        ("waive a/b nope --why x --until 2027-01-01", 2),
        ("waive a/b expired --why x --until 2026-11-24", 2),
        ("waive a/b expired --why x --until soon", 2),
        ("waive a[b expired --why x --until 2027-01-01", 2),
        ("waive a/b waiver-expired --why x --until 2027-01-01", 2),
    ] {
        ledger.run(arguments).code(status);
    }
    // A severity can be raised and lowered by the ledger.
    ledger.write("waivers.toml", "");
    ledger.write("stages/dev.toml", "[units.kiosk]\npin = \"x\"\n");
    ledger.write("ledger.toml", format!("{STAGES}[check.severity]\nplain-secret = \"error\"\n"));
    assert_eq!(found(&ledger, &codes, ""), ["error plain-secret kiosk/pin@dev"]);
    let (out, _) = written(&ledger.run("check @dev").code(1));
    assert!(out.contains("kiosk  1 error"), "{out}");
}

#[test]
fn a_secret_that_is_followed_is_told() {
    let ledger = ledger(&[
        ("units/desk.toml", "stages = [\"north\", \"south\"]\n[variables.pin]\nsecret = true\n"),
        ("stages/north.toml", "[units.desk]\npin = { from = \"env:PIN\" }\n"),
    ]);
    let (out, _) = written(&ledger.run("check --form lines").code(0));
    assert!(out.contains("desk/pin@south") && out.contains("[follows-secret]"), "{out}");
    assert!(!out.contains("desk/pin@north"), "{out}");
}

#[test]
fn every_broken_rule_is_told_and_waived_by_its_name() {
    let rules = "[[rule]]\nname = \"short\"\nfields = \"*/hold\"\nmax_length = 2\n[[rule]]\nname = \"few\"\nfields = \"*/hold\"\none_of = [\"a\", \"b\"]\n";
    let ledger = ledger(&[
        ("units/desk.toml", "stages = [\"dev\"]\n[variables.hold]\n"),
        ("stages/dev.toml", "[units.desk]\nhold = \"long\"\n"),
        (
            "ledger.toml",
            &format!(
                "{STAGES}{rules}[[outlet]]\nname = \"o\"\nkind = \"directory\"\npath = \"x\"\nstages = [\"dev\"]\nunits = [\"desks\"]\n"
            ),
        ),
    ]);
    let kinds = |arguments: &str| {
        let (out, _) = written(&ledger.run(&format!("check --form lines {arguments}")));
        let kind = |line: &str| line.rsplit(" [").next().map(|kind| kind.trim_end_matches(']').to_owned());
        out.lines().filter_map(kind).collect::<Vec<_>>()
    };
    assert_eq!(kinds(""), ["idle-pattern", "rule:few", "rule:short"]);
    let (out, _) = written(&ledger.run("check --json").code(1));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    let of_rules =
        document["findings"].as_array().unwrap().iter().filter(|finding| finding["code"] == "rule");
    assert_eq!(
        of_rules.map(|finding| finding["rule"].as_str().unwrap()).collect::<Vec<_>>(),
        ["few", "short"]
    );
    let waive = "waive desk/hold@dev rule:short --why trial --until 2026-12-31 --write";
    ledger.run(waive).code(0);
    assert_eq!(kinds(""), ["idle-pattern", "rule:few"]);
    // One of all rules accepts whatever is broken later, and is told to do so.
    let (_, err) = written(&ledger.run("waive desk/hold@dev rule --why trial --until 2026-12-31").code(2));
    assert!(err.contains("write which rule is meant: rule:NAME"), "{err}");
    let wide = ledger.read("waivers.toml").replace("rule:short", "rule");
    ledger.write("waivers.toml", wide);
    let (out, _) = written(&ledger.run("check --form lines").code(0));
    assert!(out.contains("[idle-pattern]") && out.contains("[waiver-too-wide]"), "{out}");
    let (out, _) = written(&ledger.run("waive desk/hold@dev rule --remove --write").code(0));
    assert_eq!(out, "taken out: the waiver of `rule` for desk/hold@dev, 2 findings are told again.\n");
    assert_eq!(kinds(""), ["idle-pattern", "rule:few", "rule:short"]);
    // What is accepted in production needs the name of the stage; a pattern that covers nothing is a mistake.
    let production = "waive desk/hold rule:short --why trial --until 2026-12-31 --write";
    let (_, err) = written(&ledger.run(&production.replace(" --write", "")).code(0));
    assert!(err.contains("needs --countersign north,south"), "{err}");
    ledger.run(production).code(4);
    ledger.run(&format!("{production} --countersign north,south")).code(0);
    ledger.run(&waive.replace("hold", "hodl")).code(2);
    // What two waivers cover is told again when the second one goes, and drift is not looked at here.
    ledger.run(waive).code(0);
    let taken = |it: &str| written(&ledger.run(&format!("waive {it} --remove --write")).code(0)).0;
    assert!(taken("desk/hold rule:short").contains("no finding of today is told again"));
    assert!(taken("desk/hold@dev rule:short").contains("1 finding is told again"));
    ledger.run("waive desk@dev drift --why trial --until 2026-12-31 --write").code(0);
    assert!(taken("desk@dev drift").contains("what drifts there is told again"));
}

/// A mistake in one file stops only what needs that file, and nothing false is said of the rest.
#[test]
fn a_broken_file_stops_only_what_needs_it() {
    let whole = |path: &str, text: &str| {
        let ledger = ledger(&[
            (
                "units/desk.toml",
                "[variables.hold]\n[variables.gate]\ndefault = \"${gate/line}\"\n[[output]]\npath = \"desk.env\"\nformat = \"dotenv\"\n",
            ),
            ("units/gate.toml", "[variables.line]\ndefault = \"free\"\n"),
            ("units/pier.toml", "uses = [\"sea\"]\n[variables.berth]\ndefault = \"4\"\n"),
            ("shared.toml", "[variables.sea]\ndefault = \"calm\"\n"),
            ("stages/dev.toml", "[units.desk]\nhold = \"1m\"\n"),
            ("stages/test.toml", "[units.desk]\nhold = \"2m\"\n"),
            ("stages/north.toml", "[units.desk]\nhold = \"3m\"\n"),
        ]);
        ledger.write(path, text);
        ledger
    };
    // Each case: a file and what is in it, the mistake, what goes on, and what is refused with that mistake.
    let merge = "[units.desk]\n<<<<<<< ours\nhold = \"2m\"\n=======\nhold = \"4m\"\n>>>>>>> theirs\n";
    let twice = "[units.desk]\nhold = \"2m\"\n[units.gate]\nline = \"a\"\n[units.desk]\nhold = \"4m\"\n";
    let stage_goes_on = [
        "show desk@dev",
        "get desk/hold@dev",
        "set desk/hold@dev=9m",
        "render desk@dev --out out",
        "compare @dev @north",
    ];
    let stage_stops = [
        "show desk@test",
        "get desk/hold@test",
        "set desk/hold@test=9m",
        "render @test --out out",
        "compare @dev @test",
    ];
    let unit_goes_on =
        ["show pier@dev", "trace pier/berth@north", "render pier@dev --out out", "set pier/berth@dev=5"];
    let unit_stops =
        ["show gate@dev", "render @dev --out out", "deliver @dev", "set gate/line@dev=x", "remove pier"];
    for (path, text, message, goes_on, stops) in [
        ("stages/test.toml", merge, "a merge is not finished", &stage_goes_on[..], &stage_stops[..]),
        (
            "stages/test.toml",
            twice,
            "this stands twice: it is in line 1 already",
            &stage_goes_on,
            &stage_stops,
        ),
        ("units/gate.toml", "[variables.line\n", "this is not TOML", &unit_goes_on, &unit_stops),
    ] {
        let ledger = whole(path, text);
        let (out, err) = written(&ledger.run("check").code(2));
        assert!(out.contains("error[unreadable-file]") && out.contains(message), "{out}{err}");
        // The rest is judged by what it says, and by nothing that is not known.
        assert!(!out.contains("[unused-") && !out.contains("[reference-unknown]"), "{out}");
        assert!(!out.contains("missing-value]: `hold` of `desk` has no value in `test`"), "{out}");
        for command in goes_on {
            let run = ledger.run(command);
            let (_, err) = written(&run);
            // What is not read at all is not told.
            let is_read = !["show", "get", "trace"].iter().any(|it| command.starts_with(it));
            let told = err.contains(&format!("Passed over, since it cannot be read: `{path}`"));
            assert!(told == is_read && !err.contains("error:"), "{command}: {err}");
        }
        for command in stops {
            let (_, err) = written(&ledger.run(command).code(2));
            assert!(err.contains(message) && err.ends_with("found\n"), "{command}: {err}");
        }
        assert_eq!(ledger.read(path), text);
    }
    // Whoever needs a value of the unit that cannot be read gets none, and is told why.
    let ledger = whole("units/gate.toml", "[variables.line\n");
    let (out, _) = written(&ledger.run("render desk@dev --out out").code(1));
    assert!(out.contains("`gate` is not known in `dev`: `units/gate.toml` cannot be read"), "{out}");
    let (_, err) = written(&ledger.run("render pier@north --out out").code(0));
    assert!(err.contains("Not judged beside what cannot be read"), "{err}");
}
