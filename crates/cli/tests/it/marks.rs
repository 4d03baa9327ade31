//! Marked secrets in the demo, and every command over it: none of the marks comes out anywhere.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use crate::test_ledger::{TestLedger, commands, written};

/// What every planted secret begins with.
const MARK: &str = "marked-tide";

/// Every command (beside the marks, the demo has secrets in its vault and its pretend live system), as one would use it on the demo; some do their work and some fail.
const COMMANDS: [&str; 104] = [
    "outlet list",
    "outlet prepare",
    "outlet lookup @prod-north",
    "outlet put ticket-desk@prod-north",
    "outlet put fare-engine@prod-north --write --why x",
    "capture @test",
    "capture @prod-north --out ../left-out.json --secrets left-out",
    "drift --captured ../left-out.json",
    "drift --take ticket-desk/seat_hold@prod-north ticket-desk/debug_page@prod-north",
    "drift --take fare-engine/bookings-db.password@prod-north",
    "compare ticket-desk@prod-north capture:../left-out.json",
    "adopt desk-two prod-north=capture:../left-out.json",
    "drift @prod-*",
    "probe @dev --timeout 1",
    "probe ticket-desk@test --timeout 1",
    "compare file:../legacy/marked/planner.properties file:../legacy/berth-planner/test/planner.properties",
    "compare ticket-desk@test file:../legacy/marked/planner.properties",
    "rehome ../exports/tide-board.json --from tide-watch@test --to tide-watch@dev",
    "rehome ../legacy/marked/planner.properties --from ticket-desk@test --to ticket-desk@dev",
    "adopt found dev=../legacy/berth-planner/dev test=../legacy/marked",
    "init again --name x --stages dev",
    "demo elsewhere",
    "check",
    "check --fetch",
    "check @test --form sarif",
    "check @test --form junit",
    "check @test --form lines",
    "check --explain cipher-unreadable",
    "list units",
    "list stages",
    "list shared",
    "show ticket-desk@test",
    "show ticket-desk+kiosk@prod-south",
    "show crew-roster/payroll@test",
    "show shared/bookings-db@dev",
    "show ticket-desk@nowhere",
    "get ticket-desk/bookings-db.password@test",
    "get ticket-desk/bookings-db.url@test",
    "get ticket-desk/bookings-db.password@test --unmask",
    "get quay-screens/pin@test",
    "get quay-screens/salted@test",
    "matrix",
    "matrix */bookings-db.* --csv",
    "trace ticket-desk/bookings-db.url@test",
    "trace quay-screens/salted@test",
    "impact shared/bookings-db.password@test",
    "search",
    "search --effective",
    "search --contains marked-tide",
    "search --effective --matches ^marked-tide",
    "replace */bookings-db.* --swap marked-tide other",
    "waive shared/*@dev plain-secret --why trial --until 2099-12-31",
    "check --waived",
    "compare @dev @test",
    "compare ticket-desk@test ticket-desk@prod-north",
    "drift @prod-north --observed ../live/prod-north",
    "drift @test --observed ../live/prod-north",
    "render @test --out out",
    "render @test --partial --out out",
    "render @test --without-secrets --out bare",
    "run ticket-desk@test -- true",
    "status",
    "history",
    "deliver ticket-desk@dev",
    "deliver ticket-desk@dev --write --why x",
    "deliver fare-engine@test --write --why x --skip-stages",
    "set fare-engine/cache@test=65MiB",
    "drift fare-engine@test",
    "deliver fare-engine@test --write --draft-why --skip-stages",
    "deliver fare-engine@test --again 1 --write --why x",
    "history @test",
    "history --verify",
    "show fare-engine@test:1",
    "compare fare-engine@test:1 fare-engine@test:last",
    "compare fare-engine@test:1 fare-engine@test",
    "promote @test @staging",
    "promote @test @staging --carry shared/bookings-db.password",
    "promote @test @staging --answers ../form.toml",
    "chores",
    "status --live",
    "withdraw fare-engine@test --write --why x",
    "key list",
    "key list --compare",
    "trust",
    "trust --list",
    "resume",
    "key identity",
    "key make @staging --write",
    "key admit ben @test --recipient age1marked-tide",
    "key exclude ben @test",
    "key protect @test",
    "key protect @prod-south",
    "key rotate @dev",
    "set shared/bookings-db.user@test=other",
    "set shared/bookings-db.password@test --generate",
    "set quay-screens/pin@test --file ../marked.txt",
    "unset shared/events.password@test",
    "add variable ticket-desk/colour --default blue",
    "share ticket-desk/card-terminal",
    "rename ticket-desk desk",
    "remove shared/mail",
    "completions bash",
    "man --markdown",
    "schema stage",
];

/// Everything written below a folder, by path.
fn everything(folder: &Path, found: &mut Vec<(String, Vec<u8>)>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            everything(&path, found);
        } else {
            found.push((path.display().to_string(), fs::read(&path).unwrap()));
        }
    }
}

#[test]
fn no_mark_of_a_secret_comes_out_of_any_command() {
    let ledger = TestLedger::demo();
    let folder = ledger.path("..");
    let contract = ledger.read("units/quay-screens.toml")
        + "\n[variables.pin]\nsecret = true\ntype = \"integer\"\nrequired = false\n\
           [variables.salt]\nsecret = true\nrequired = false\n[variables.salted]\nrequired = false\n";
    ledger.write("units/quay-screens.toml", contract);
    ledger.write("../marked.txt", "marked-tide-in-a-file\n");
    ledger.write("../legacy/marked/planner.properties", "berths.db.password=marked-tide-old\nlevel=1\n");
    let run = |arguments: &str| {
        ledger.command(arguments).env("CLEDGER_IDENTITY", folder.join("identity")).env("CLEDGER_WHO", "ada")
    };
    run("key identity").assert().code(0);
    run("key make @dev @test --write").assert().code(0);
    run("set quay-screens/salted@test=x${salt}y").assert().code(0);
    let mut count = 0;
    let mut plant = |address: &str, more: &str| {
        count += 1;
        let set = run(&format!("set {address} --stdin {more}")).stdin(format!("{MARK}-{count}"));
        let (out, err) = written(&set.assert().code(0));
        assert!(!out.contains(MARK) && !err.contains(MARK), "{address}: {out}{err}");
    };
    for stage in ["dev", "test"] {
        for field in [
            "shared/bookings-db.password",
            "shared/events.password",
            "shared/tide-api.token",
            "ticket-desk/card-terminal.token",
            "crew-roster/payroll.password",
            "quay-screens/salt",
        ] {
            plant(&format!("{field}@{stage}"), "");
        }
    }
    // In plain text, too, also where it is no value of its field.
    plant("shared/tide-api.token@prod-south", "--plain-secrets --countersign prod-south --why x");
    let text = ledger.read("stages/staging.toml")
        + "\n[units.quay-screens]\nsalt = \"marked-tide-plain\"\npin = \"marked-tide-wrong\"\nslat = \"marked-tide-stray\"\n";
    ledger.write("stages/staging.toml", text);
    let planted: BTreeSet<String> = [
        "stages/staging.toml",
        "stages/prod-south/shared.toml",
        "marked.txt",
        "legacy/marked/planner.properties",
    ]
    .map(str::to_owned)
    .into();

    let mut used = BTreeSet::new();
    let damaged = ledger.read("stages/test.toml").replacen("copper-1.", "copper-1.AAAA", 1);
    for broken in [false, true] {
        if broken {
            ledger.write("stages/test.toml", &damaged);
        }
        for command in COMMANDS {
            used.insert(command.split(' ').next().unwrap());
            for form in ["", "--json", "-vv"] {
                let (command, more) = command.split_once(" -- ").unwrap_or((command, ""));
                let more = if more.is_empty() { String::new() } else { format!(" -- {more}") };
                let (out, err) = written(&run(&format!("{command} {form}{more}")).assert());
                // What somebody typed in is theirs.
                let text = format!("{out}{err}").replace("age1marked-tide", "");
                for secret in [MARK, "made-up-", "changed-by-hand"] {
                    assert!(!text.contains(secret), "{command} {form} shows {secret}:\n{text}");
                }
            }
        }
        let mut files = Vec::new();
        everything(&folder, &mut files);
        for (path, bytes) in files {
            let meant = planted.iter().any(|known| path.ends_with(known))
                || path.contains("/out/")
                || path.contains("/live/");
            let has_mark = bytes.windows(MARK.len()).any(|part| part == MARK.as_bytes());
            assert!(meant || !has_mark, "{path} holds a mark");
        }
    }
    let listed = commands();
    let listed: BTreeSet<&str> = listed.iter().map(String::as_str).collect();
    assert!(listed.len() > 20 && listed.is_subset(&used), "not tried: {:?}", listed.difference(&used));
    // The marks are really there, for whoever asks on purpose.
    run("get ticket-desk/card-terminal.token@dev --unmask=always")
        .assert()
        .code(0)
        .stdout_eq("marked-tide-4\n");
}
