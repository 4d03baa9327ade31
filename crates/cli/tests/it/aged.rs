//! Findings about last days, and about what the ledger as a whole declares.

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, written};

/// The codes and addresses of what a check of the small ledger finds with some of its files replaced.
fn found(files: &[(&str, &str)], arguments: &str) -> Vec<String> {
    let ledger = TestLedger::with(SMALL);
    for (path, text) in files {
        ledger.write(path, text);
    }
    let (out, _) = written(&ledger.run(&format!("check --form lines {arguments}")));
    out.lines()
        .filter(|line| !line.ends_with("[plain-secret]") && !line.ends_with("[expiring]"))
        .map(|line| {
            let address = line.split(": ").nth(2).unwrap();
            format!("{} {address}", line.rsplit(" [").next().unwrap().trim_end_matches(']'))
        })
        .collect()
}

#[test]
fn a_setting_past_its_last_day_is_a_warning() {
    let until = |day: &str| {
        format!(
            "[units.desk]\nregion = \"north\"\nhold = {{ value = \"9m\", why = \"a race\", until = {day} }}\n"
        )
    };
    // The last day itself counts, and so does what is asked for.
    let cases = [
        ("2026-11-25", "desk/hold@dev", 0),
        ("2026-11-24", "desk/region@dev", 0),
        ("2026-11-24", "desk/hold@prod", 0),
        ("2026-11-24", "desk/hold@dev", 1),
        ("2026-11-25", "desk/hold@dev --today 2026-11-26", 1),
    ];
    for (day, arguments, expected) in cases {
        assert_eq!(
            found(&[("stages/dev.toml", &until(day))], arguments).len(),
            expected,
            "{day} {arguments}"
        );
    }
}

#[test]
fn a_credential_that_ran_out_is_an_error() {
    let contract = "[credentials.gate]\nform = \"token\"\n[variables.expires]\ntype = \"date\"\n";
    let dev = |day: &str| {
        format!(
            "[units.desk]\nexpires = 2001-01-01\ngate = {{ token = {{ from = \"env:GATE\" }}, expires = {day} }}\n"
        )
    };
    let ledger = TestLedger::with(SMALL);
    ledger.write("units/desk.toml", contract);
    ledger.write("stages/dev.toml", dev("2026-11-24"));
    ledger.run("check desk@dev").code(1).stdout_eq(str![[r#"
unit  dev
desk  1 error

desk
error[expired]: `gate` ran out on 2026-11-24
 --> stages/dev.toml:3:51
  |
3 | gate = { token = { from = "env:GATE" }, expires = 2026-11-24 }
  |                                                   ^^^^^^^^^^ desk/gate.expires@dev
  |
  = help: put a new one in its place, and its last day with it

1 error in 1 unit.

"#]]);
    for (day, today, expected) in
        [("2026-11-24", "2026-11-24", 0), ("2026-11-24", "2026-11-25", 1), ("2099-01-01", "2026-11-25", 0)]
    {
        let files = [("units/desk.toml", contract), ("stages/dev.toml", &dev(day))];
        assert_eq!(found(&files, &format!("desk@dev --today {today}")).len(), expected, "{day} {today}");
    }
}

#[test]
fn stages_follow_their_own_class_and_shared_entries_are_used() {
    let manifest = |class: &str| {
        format!(
            "format = 1\nname = \"Small\"\n[[stage]]\nname = \"dev\"\nclass = \"{class}\"\n[[stage]]\nname = \"prod\"\nclass = \"production\"\nfollow = [{{ stage = \"dev\", only = [\"x/y\"] }}]\n"
        )
    };
    for (class, expected) in [("development", 1), ("test", 1), ("production", 0)] {
        let manifest = manifest(class);
        let found: Vec<_> = found(&[("ledger.toml", &manifest)], "")
            .into_iter()
            .filter(|line| line.starts_with("follows"))
            .collect();
        assert_eq!(found, ["follows-lower-class @prod"; 1][..expected], "{class}");
    }
    let shared = "[connections.db]\nprotocol = \"postgresql\"\nfields.database.default = \"tides\"\n[variables.left_over]\n";
    assert_eq!(found(&[("shared.toml", shared)], ""), ["unused-shared shared/left_over"]);
    assert_eq!(found(&[("shared.toml", shared)], "desk"), [""; 0]);
}
