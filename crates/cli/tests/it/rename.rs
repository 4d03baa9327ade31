//! `rename`: another name everywhere, and the same values.

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, written};

/// What is rendered for a stage, by path.
fn rendered(ledger: &TestLedger, stage: &str) -> Vec<(String, String)> {
    ledger.run(&format!("render @{stage} --out out-{stage} --partial --countersign {stage}"));
    let folder = format!("out-{stage}");
    ledger.files(&folder).into_iter().map(|path| (path.replace(&folder, ""), ledger.read(&path))).collect()
}

#[test]
fn a_new_name_reaches_every_file_and_no_rendered_one() {
    let ledger = TestLedger::demo();
    let before = rendered(&ledger, "prod-north");
    ledger
        .run("rename ticket-desk/seat_hold hold")
        .code(0)
        .stdout_eq(str![[r#"
changes  stages/prod-north.toml
changes  stages/prod-south/ticket-desk+kiosk.toml
changes  stages/test.toml
changes  units/ticket-desk.toml

No effective value changes.
nothing written: ticket-desk/seat_hold would become hold in 4 files; --write does it.

"#]])
        .stderr_eq("");
    assert!(ledger.read("units/ticket-desk.toml").contains("seat_hold"), "it was only shown");
    for arguments in [
        "ticket-desk/seat_hold hold",
        "harbour-gate/open_for open_time",
        "@guarded locked-up",
        "@staging rehearsal",
        "tide-watch/poll_every every",
    ] {
        ledger.run(&format!("rename {arguments} --write")).code(0);
    }
    assert_eq!(rendered(&ledger, "prod-north"), before);
    for path in
        ledger.files("").iter().filter(|path| !path.starts_with("out-") && !path.starts_with(".cledger"))
    {
        let text = ledger.read(path);
        for old in [
            "[units.ticket-desk]\nseat_hold",
            "open_for =",
            "guarded",
            "after = [\"staging\"]",
            "poll_every}",
        ] {
            assert!(!text.contains(old), "{old} in {path}:\n{text}");
        }
    }
    assert!(ledger.path("stages/rehearsal.toml").exists() && !ledger.path("stages/staging.toml").exists());
    ledger.run("get ticket-desk/hold@test").code(0).stdout_eq("30s\n");
}

#[test]
fn units_and_instances_move_with_their_files() {
    let ledger = TestLedger::demo();
    ledger.run("rename fare-engine fares --write").code(0).stdout_eq(str![[r#"
changes  ledger.toml
changes  stages/dev.toml
changes  stages/prod-north.toml
goes     stages/prod-south/fare-engine.toml
new      stages/prod-south/fares.toml
changes  stages/staging.toml
changes  stages/test.toml
goes     units/fare-engine.toml
new      units/fares.toml
changes  units/ticket-desk.toml

No effective value changes.
renamed: fare-engine is fares now, in 10 files.

"#]]);
    ledger
        .run("get ticket-desk/fare_service@prod-south")
        .code(0)
        .stdout_eq("http://fares.south.brackwater.example:8070/fares\n");
    ledger.run("rename ticket-desk+kiosk booth --write").code(0);
    ledger.run("get ticket-desk+booth/seat_hold@prod-south").code(0).stdout_eq("90s\n");
    let (out, _) = written(&ledger.run("check"));
    let (expected, _) = written(&TestLedger::demo().run("check"));
    let renamed = out.replace("kiosk", "booth").replace("fares", "fare-engine");
    assert_eq!(renamed.lines().count(), expected.lines().count(), "the same findings:\n{out}");
}

#[test]
fn names_in_rendered_files_change_only_when_told() {
    let ledger = TestLedger::with(SMALL);
    ledger.run("rename shared/db store").code(0).stdout_eq(str![[r#"
changes  shared.toml
changes  stages/dev.toml
changes  stages/prod.toml
changes  units/desk.toml

No effective value changes.
nothing written: shared/db would become store in 4 files; --write does it.

"#]]);
    ledger.run("rename shared/db store --write").code(0);
    snapbox::assert_data_eq!(
        ledger.read("shared.toml"),
        str![[r#"
[connections.store]
protocol = "postgresql"
fields.database.default = "tides"
fields.host.as = { dotenv = "DB_HOST" }
fields.port.as = { dotenv = "DB_PORT" }
fields.database.as = { dotenv = "DB_DATABASE" }
fields.user.as = { dotenv = "DB_USER" }
fields.password.as = { dotenv = "DB_PASSWORD" }
fields.options.as = { dotenv = "DB_OPTIONS" }
fields.url.as = { dotenv = "DB_URL" }

"#]]
    );
    let (dev, prod) = (ledger.read("stages/dev.toml"), ledger.read("units/desk.toml"));
    assert!(dev.starts_with("[shared.store]\n") && prod.starts_with("uses = [\"store\"]\n"));
    let demo = TestLedger::demo();
    demo.run("rename fare-engine/listen serve --write").code(0);
    let contract = demo.read("units/fare-engine.toml");
    assert!(contract.contains("fields.host.as = { yaml = \"/listen/host\" }"), "{contract}");
    demo.run("rename fare-engine/serve listen --write").code(0);
    demo.write("templates/t", "{{ listen.host }}");
    let contract = demo.read("units/fare-engine.toml");
    demo.write("units/fare-engine.toml", contract + "[[output]]\npath = \"t\"\ntemplate = \"templates/t\"\n");
    demo.run("rename fare-engine/listen serve").code(4).stdout_eq("").stderr_eq(str![[r#"
error: `listen.host` would get another name in `t`
help: let it with --outputs, and change the name in templates/t

"#]]);
    demo.run("rename fare-engine/listen serve --outputs --write").code(0);
    demo.run("get fare-engine/serve.url@test")
        .code(0)
        .stdout_eq("tcp://fares.test.brackwater.example:8070\n");
}

#[test]
fn what_cannot_have_another_name_is_refused() {
    let ledger = TestLedger::demo();
    let before: Vec<String> = ledger.files("").iter().map(|path| ledger.read(path)).collect();
    for (arguments, status, hint) in [
        ("ticket-desk fare-engine", 2, "the name of something else"),
        ("@dev test", 2, "the name of something else"),
        ("ticket-desk/region seat_hold", 2, "the name of something else"),
        ("ticket-desk shared", 2, "a meaning of its own"),
        ("ticket-desk Desk", 2, "names are made of"),
        ("shared/mail.host server", 2, "every connection has"),
        ("ticket-desk/seat_hodl hold", 2, "did you mean"),
        ("@nowhere here", 2, "there is no stage"),
        ("ticket-desk@test desk", 2, "leave out @test"),
        // The units' `prod-*` would not cover it.
        ("@prod-north north", 4, "would change effective values"),
    ] {
        let (out, err) = written(&ledger.run(&format!("rename {arguments} --write")).code(status));
        assert!(out.is_empty() && err.contains(hint), "{arguments}: {err}");
    }
    let files = ledger.files("");
    let after: Vec<String> =
        files.iter().filter(|path| !path.starts_with(".cledger")).map(|path| ledger.read(path)).collect();
    assert_eq!(before, after);
}

#[test]
fn an_interrupted_change_is_finished_or_undone_by_the_next_command() {
    let ledger = TestLedger::demo();
    let names = |old: &str, new: &str| {
        let text: String = ledger
            .files("")
            .iter()
            .filter(|path| ["units/", "stages/", "groups/"].iter().any(|folder| path.starts_with(folder)))
            .map(|path| path.clone() + &ledger.read(path))
            .collect();
        (text.contains(old), text.contains(new))
    };
    let mut name = "fare-engine".to_owned();
    for round in 0..24_u64 {
        let new = format!("fares-{round}");
        let mut child = std::process::Command::new(snapbox::cmd::cargo_bin!("cledger"))
            .args(["rename", &name, &new, "--write"])
            .env("CLEDGER_STATE", ledger.state())
            .current_dir(ledger.path(""))
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(round * 4));
        child.kill().unwrap();
        child.wait().unwrap();
        // Whatever happened to it, whoever reads finds one name or the other everywhere, and the next command
        // that writes leaves it so.
        ledger.run("check ticket-desk/fare_service@test -q").code(0);
        ledger.run("resume --finish --write").code(0);
        match names(&format!("[units.{name}]"), &format!("[units.{new}]")) {
            (true, false) => assert!(!ledger.path(&format!("units/{new}.toml")).exists()),
            (false, true) => {
                assert!(!ledger.path(&format!("units/{name}.toml")).exists());
                name = new;
            }
            both => panic!("round {round}: {both:?}"),
        }
    }
    ledger
        .run("get ticket-desk/fare_service@test")
        .code(0)
        .stdout_eq("http://fares.test.brackwater.example:8070/fares\n");
}
