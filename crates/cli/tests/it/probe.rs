//! `probe`: the services of a stage, as people and programs see what came of them.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
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
    let (out, _) = written(&run("probe gate@test --timeout 60 --json").code(0));
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["services"][0]["answer"], "answers");
    assert_eq!(document["services"][0]["addresses"], serde_json::json!(["gate/board@test"]));
    let (out, _) = written(&run("probe @test gate --timeout 60").code(0));
    assert!(out.contains("answers: 1 service."), "{out}");
    let (out, _) =
        written(&ledger.command("probe gate@test --timeout 60").env("BOARD", "other").assert().code(1));
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

/// A site with a debug page that is open or not, an admin page, and a board; it lasts as long as the tests.
fn site(is_open: &Arc<AtomicBool>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (port, is_open) = (listener.local_addr().unwrap().port(), Arc::clone(is_open));
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut request = [0; 1000];
            let length = stream.read(&mut request).unwrap_or(0);
            let request = String::from_utf8_lossy(&request[..length]).to_lowercase();
            let (status, body) = match request.split(' ').nth(1).unwrap_or_default() {
                "/app/debug/prod" if is_open.load(Ordering::SeqCst) => (200, "vars"),
                "/app/debug/prod" => (404, ""),
                "/app/admin" if request.contains("authorization") => (200, "in"),
                "/app/admin" => (401, ""),
                "/app/board" => (200, "<p>Tides today</p>"),
                _ => (200, ""),
            };
            let length = body.len();
            let _ = write!(stream, "HTTP/1.1 {status} x\r\nContent-Length: {length}\r\n\r\n{body}");
        }
    });
    port
}

/// A ledger whose contract expects things of that site.
fn expecting(port: u16) -> TestLedger {
    let manifest = "format = 1\nname = \"T\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
         [[stage]]\nname = \"prod\"\nclass = \"test\"\n\
         [[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"prod\"]\npath = \"live\"\n\
         ready = \"probe\"\nwithin = \"300ms\"\n";
    let contract = "[connections.old]\nprotocol = \"tcp\"\n\
         [endpoints.site]\nfields.auth.default = \"basic\"\n\
         [endpoints.plain]\n\
         [[output]]\npath = \"w.env\"\nformat = \"dotenv\"\nsecrets = \"without\"\n\
         [[probe]]\nname = \"debug\"\nentry = \"site\"\npath = \"debug/${stage.name}\"\nstages = [\"prod\"]\n\
         expect = [\"404\", \"refused\"]\n\
         [[probe]]\nname = \"admin\"\nentry = \"site\"\npath = \"/admin\"\nlogin = false\nexpect = \"access-denied\"\n\
         [[probe]]\nname = \"board\"\nentry = \"site\"\npath = \"board\"\ntext = \"Tides today\"\n\
         [[probe]]\nname = \"old\"\nentry = \"old\"\nexpect = \"refused\"\n";
    let settings = |old: u16| {
        format!(
            "[units.gate]\nsite.base = \"http://127.0.0.1:{port}/app/\"\nsite.user = \"u\"\nsite.password = {{ from = \"env:BOARD\" }}\n\
             plain.base = \"http://127.0.0.1:{port}/\"\nold.host = \"127.0.0.1\"\nold.port = {old}\n"
        )
    };
    // Nobody who asks for any port is given the first.
    let (dev, prod) = (settings(port), settings(1));
    TestLedger::with([
        ("ledger.toml", manifest),
        ("units/gate.toml", contract),
        ("stages/dev.toml", dev.as_str()),
        ("stages/prod.toml", prod.as_str()),
        ("live/theirs", ""),
    ])
}

#[test]
fn what_a_contract_expects_is_tried_and_told_apart_from_what_only_has_to_answer() {
    let is_open = Arc::new(AtomicBool::new(false));
    let port = site(&is_open);
    let ledger = expecting(port);
    let tried = |arguments: &str, code: i32| -> BTreeMap<String, (String, bool)> {
        let command =
            ledger.command(&format!("probe {arguments} --timeout 60 --json")).env("BOARD", "marked-tide");
        let (out, err) = written(&command.assert().code(code));
        assert!(!out.contains("marked-tide") && err.is_empty(), "{out}{err}");
        let document: serde_json::Value = serde_json::from_str(&out).unwrap();
        let services = document["services"].as_array().unwrap().iter();
        let one = |service: &serde_json::Value| {
            let name = service["expected"]["probe"].as_str().or(service["addresses"][0].as_str()).unwrap();
            let answer = service["answer"].as_str().unwrap().to_owned();
            (name.to_owned(), (answer, service["as_expected"].as_bool().unwrap()))
        };
        services.map(one).collect()
    };
    let is = |answer: &str, met: bool| (answer.to_owned(), met);
    // Each expectation has its stages; what the contract says nothing of has to answer.
    let dev = tried("@dev", 1);
    assert_eq!(dev["old"], is("answers", false));
    assert_eq!(dev["board"], is("answers", true));
    assert_eq!(dev["gate/plain@dev"], is("answers", true));
    assert!(!dev.contains_key("debug") && !dev.contains_key("gate/old@dev"), "{dev:?}");
    let prod = tried("@prod", 0);
    assert_eq!(prod["old"], is("refused", true));
    assert_eq!(prod["debug"], is("answers", true));
    assert_eq!(prod["admin"], is("access denied", true));
    assert_eq!(prod["gate/site@prod"], is("answers", true));
    is_open.store(true, Ordering::SeqCst);
    let open = tried("@prod", 1);
    assert_eq!(open.values().filter(|(_, is_met)| !is_met).count(), 1);
    assert_eq!(open["debug"], is("answers", false));
    // With another value for this run.
    let here = format!("@prod --assume gate/old.port={port}");
    assert_eq!(tried(&here, 1)["old"], is("answers", false));
    let command =
        ledger.command("probe @prod --timeout 60").env("BOARD", "marked-tide").env("COLUMNS", "200");
    let (out, _) = written(&command.assert().code(1));
    assert!(
        out.contains("not as expected") && out.contains("probe debug expects status 404 or refused"),
        "{out}"
    );
    assert!(out.ends_with("answers: 2 services; not as expected: 1 of 4 probes.\n"), "{out}");
    // What is called otherwise is expected all the same, and what goes takes its probe along.
    ledger.run("rename gate/old elder --write").code(0);
    assert_eq!(tried("@prod", 1)["old"], is("refused", true));
    ledger.run("remove gate/elder --write").code(4);
    ledger.run("remove gate/elder --with-mentions --write").code(0);
    assert!(!tried("@prod", 1).contains_key("old"));
    let contract = ledger.read("units/gate.toml");
    assert_eq!(contract.matches("[[probe]]").count(), 3, "{contract}");
    ledger.run("remove probe:gate/debug --write").code(0);
    assert!(!tried("@prod", 0).contains_key("debug"));
}

#[test]
fn a_delivery_counts_when_all_comes_out_as_expected_and_is_taken_up_again_until_then() {
    let is_open = Arc::new(AtomicBool::new(true));
    let ledger = expecting(site(&is_open));
    let run = |arguments: &str, code: i32| {
        written(
            &ledger
                .command(arguments)
                .env("BOARD", "marked-tide")
                .env("CLEDGER_IDENTITY", "../identity")
                .assert()
                .code(code),
        )
    };
    run("key identity", 0);
    run("key make @prod --as ada --write", 0);
    let untried = run("probe @prod --undelivered --timeout 60 --json", 1).0;
    assert_eq!(untried.matches("\"answer\"").count(), 6, "{untried}");
    let deliver = |code: i32| run("deliver gate@prod --write --why now", code).0;
    let out = deliver(3);
    assert!(
        out.contains("brought, not in effect") && out.contains("probe `debug` expects status 404 or refused"),
        "{out}"
    );
    let out = run("status", 0).0;
    assert!(out.contains("not in effect") && out.contains("cledger deliver gate@prod"), "{out}");
    let out = deliver(3);
    assert!(out.contains("what was brought there is not in effect: it is taken up again"), "{out}");
    assert!(out.contains("as it should be, not in effect"), "{out}");
    // What comes out as expected has all the time it wants.
    ledger.write("ledger.toml", ledger.read("ledger.toml").replace("\"300ms\"", "\"60s\""));
    is_open.store(false, Ordering::SeqCst);
    let out = deliver(0);
    assert!(out.contains("as it should be, in effect") && out.contains("gate@prod:3"), "{out}");
    assert_eq!(deliver(0), "1 unit left out: delivered as the ledger says, and there.\n");
    let out = run("probe @prod --undelivered", 0).0;
    assert!(
        out.ends_with("nothing tried: a delivery would change no connection and no endpoint.\n"),
        "{out}"
    );
    let command = ledger.command("set gate/plain.base@prod=http://127.0.0.1:9/x");
    command.assert().code(0);
    let changed = run("probe @prod --undelivered --json --timeout 60", 1).0;
    assert_eq!(changed.matches("\"answer\"").count(), 1, "{changed}");
    // What nobody has said that it may be reached is refused before anything is brought.
    let strictly = |arguments: &str, code: i32| {
        let command = ledger.untrusted(arguments).env("BOARD", "marked-tide");
        written(&command.env("CLEDGER_IDENTITY", "../identity").assert().code(code))
    };
    strictly("trust --write", 0);
    let (settings, brought) = (ledger.read("stages/prod.toml"), ledger.read("live/gate/w.env"));
    ledger
        .write("stages/prod.toml", settings.replace("old.host = \"127.0.0.1\"", "old.host = \"127.0.0.2\""));
    let (out, err) = strictly("deliver gate@prod --write --why now", 4);
    assert!(err.contains("service 127.0.0.2") && ledger.read("live/gate/w.env") == brought, "{out}{err}");
    assert!(!strictly("history", 0).0.contains("left open"));
    ledger.write("stages/prod.toml", settings);
    // An earlier content has values that the probes do not know.
    run("deliver gate@prod --write --why now", 0);
    let out = run("deliver gate@prod --again 1 --write --why back", 3).0;
    assert!(out.contains("nothing was probed: the probes know the ledger's values alone"), "{out}");
}

/// A service that answers once so many wait for it.
fn answers_together(count: usize) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        let mut waiting: Vec<TcpStream> = Vec::new();
        for mut stream in listener.incoming().flatten() {
            if stream.read(&mut [0; 2048]).unwrap_or(0) > 0 {
                stream.set_nonblocking(true).unwrap();
                waiting.push(stream);
            }
            // Who has hung up does not wait.
            waiting.retain(|stream| stream.peek(&mut [0]).is_err());
            if waiting.len() == count {
                for mut stream in waiting.drain(..) {
                    let _ = stream.write_all(b"HTTP/1.1 200 x\r\nContent-Length: 0\r\n\r\n");
                }
            }
        }
    });
    port
}

#[test]
fn many_units_are_waited_for_at_once() {
    let port = answers_together(3);
    let manifest = "format = 1\nname = \"T\"\n[[stage]]\nname = \"dev\"\nclass = \"development\"\n\
         [[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"live\"\n\
         ready = \"probe\"\nwithin = \"60s\"\n";
    let contract = format!(
        "[endpoints.board]\nfields.base.default = \"http://127.0.0.1:{port}/\"\n\
         [[probe]]\nname = \"up\"\nentry = \"board\"\nexpect = \"200\"\n\
         [[output]]\npath = \"w.env\"\nformat = \"dotenv\"\n"
    );
    let units = ["units/a.toml", "units/b.toml", "units/c.toml"].map(|path| (path, contract.as_str()));
    let files = [("ledger.toml", manifest), ("live/theirs", "")].into_iter().chain(units);
    let ledger = TestLedger::with(files).with_keys(&["dev"]);
    let (out, err) = written(&ledger.run("deliver @dev --write --why first --at-once 3"));
    assert_eq!(out.matches("brought, in effect").count(), 3, "{out}{err}");
}
