//! `demo`: the files and the walk.

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

#[test]
fn demo_walks_through_the_work_in_order() {
    let ledger = TestLedger::with([]);
    let (out, err) = written(&ledger.run_in_80("demo tour").code(0));
    assert_eq!(err, "");
    let commands: Vec<&str> =
        out.lines().filter(|line| line.starts_with("$ ") || line.starts_with("(exit")).collect();
    snapbox::assert_data_eq!(
        commands.join("\n"),
        str![[r#"
$ cledger list
$ cledger show ticket-desk@staging
$ cledger get fare-engine/bookings-db.host@prod-north
$ cledger check crew-roster
(exit status 1)
$ cledger compare fare-engine@staging fare-engine@prod-north
(exit status 1)
$ cledger get ticket-desk/fare_service@test --assume fare-engine/listen.port=9999
$ cledger render @prod-north --out ../rendered/prod-north --countersign prod-north
$ cledger render ticket-desk@prod-south
(exit status 1)
$ cledger drift @prod-north
(exit status 1)
"#]]
    );
    assert!(!out.contains("made-up-"), "no secret of the strongroom is shown");
    assert!(ledger.path("tour/rendered/prod-north/ticket-desk/ticket-desk.env").exists());
}

#[test]
fn demo_only_writes_files_where_nothing_is() {
    let ledger = TestLedger::with([]);
    ledger.run("demo tour --files-only").code(0).stderr_eq("");
    let files = ledger.files("tour");
    for folder in ["tour/ledger/ledger.toml", "tour/strongroom/", "tour/live/prod-north/"] {
        assert!(files.iter().any(|file| file.starts_with(folder)), "{folder} in {files:?}");
    }
    ledger.run("demo tour --files-only").code(2).stdout_eq("").stderr_eq(str![[r#"
error: `tour` is there already, and the demo writes over nothing
help: name another folder: cledger demo DIR

"#]]);
    assert_eq!(ledger.files("tour"), files);
    ledger.run("demo other --json").code(2).stderr_eq(str![[r#"
error: the demo is a walk for people, and has no JSON document
help: add --json to the commands that it shows

"#]]);
}
