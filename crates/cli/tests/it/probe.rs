//! `probe`: the services of a stage, as people and programs see what came of them.

use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::thread;

use snapbox::str;

use crate::test_ledger::{TestLedger, written};

/// A ledger with a unit that talks to a port here, to one where nothing listens, and to nowhere.
fn ledger(class: &str) -> (TestLedger, u16) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut request = [0; 1000];
            let length = stream.read(&mut request).unwrap_or(0);
            let good = String::from_utf8_lossy(&request[..length]).contains("marked-tide");
            let status = if good { "200 x" } else { "401 x" };
            let _ = write!(stream, "HTTP/1.1 {status}\r\nContent-Length: 0\r\n\r\n");
        }
    });
    let manifest = format!("format = 1\nname = \"T\"\n[[stage]]\nname = \"test\"\nclass = \"{class}\"\n");
    let shared = "[endpoints.board]\nfields.auth.default = \"bearer\"\n";
    let desk = "uses = [\"board\"]\n[connections.queue]\nprotocol = \"amqp\"\n[connections.cache]\nprotocol = \"redis\"\n";
    let settings = format!(
        "[shared.board]\nbase = \"http://127.0.0.1:{port}/levels\"\ntoken = {{ from = \"env:BOARD\" }}\n\
         [units.desk]\nqueue.host = \"nowhere.invalid\"\nqueue.user = \"u\"\nqueue.password = \"p\"\n"
    );
    let files = [
        ("ledger.toml", manifest.as_str()),
        ("shared.toml", shared),
        ("units/desk.toml", desk),
        ("units/gate.toml", "uses = [\"board\"]\n"),
        ("stages/test.toml", settings.as_str()),
    ];
    (TestLedger::with(files), port)
}

#[test]
fn services_are_tried_once_each_and_told_with_who_needs_them() {
    let (ledger, port) = ledger("test");
    let run = |arguments: &str| ledger.command(arguments).env("BOARD", "marked-tide").assert();
    let (out, err) = written(&run("probe @test --timeout 60").code(1));
    assert_eq!(err, "");
    // The width of a column is that of the port's digits.
    let squeezed = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n";
    let lines: String = out.replace(&port.to_string(), "PORT").lines().map(squeezed).collect();
    snapbox::assert_data_eq!(
        lines,
        str![[r#"
test (class test)

service needed by answer
http://127.0.0.1:PORT/levels desk/board, gate/board answers status 200
amqp://nowhere.invalid:5672 desk/queue no such host its name leads nowhere
not tried desk/cache not known `host` has no value

does not answer: 1 of 2 services, 1 not tried.

"#]]
    );
    let (out, _) = written(&run("probe gate@test --json").code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["services"][0]["answer"], "answers");
    assert_eq!(document["services"][0]["addresses"], serde_json::json!(["gate/board@test"]));
    let (out, _) = written(&run("probe @test gate").code(0));
    assert!(out.contains("answers: 1 service."), "{out}");
    let (out, _) = written(&ledger.command("probe gate@test").env("BOARD", "other").assert().code(1));
    assert!(out.contains("access denied") && out.contains("status 401"), "{out}");
}

#[test]
fn a_production_stage_is_probed_only_when_countersigned() {
    let (ledger, _) = ledger("production");
    ledger.run("probe @test --timeout 60").code(4).stdout_eq("").stderr_eq(str![[r#"
error: this logs in to services of test, a production stage
help: add --countersign test

"#]]);
    ledger.run("probe gate@test --countersign test --timeout 60").code(1);
    for (arguments, message) in [
        ("desk/queue@test", "error: `desk/queue@test` names an entry, and whole units are probed"),
        ("@test nothing", "error: there is no unit `nothing`"),
        ("@test --timeout soon", "error: invalid value 'soon' for '--timeout <DURATION>'"),
    ] {
        let (out, err) = written(&ledger.run(&format!("probe {arguments} --countersign test")).code(2));
        assert!(out.is_empty() && err.starts_with(message), "{arguments}: {err}");
    }
}
