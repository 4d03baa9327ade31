//! `outlet put`, `outlet prepare` and what `drift` says then, over real and simulated services.

use std::fs;

use cledger_standin::{Fault, Options, StandIn};
use postgres::{Client, NoTls};
use snapbox::str;

use crate::database::{self, Server};
use crate::test_ledger::{SMALL, TestLedger, written};

/// A small ledger with an outlet of kind `http`, the stand-in behind it, and its address in a file.
fn boards(more: &str) -> (TestLedger, StandIn) {
    let ledger = TestLedger::with(SMALL);
    let standin = StandIn::start(Options { folder: ledger.path("../boards"), ..Options::default() }).unwrap();
    ledger.write("address", format!("{}\n", standin.url()));
    let outlet = format!(
        "[[outlet]]\nname = \"boards\"\nkind = \"http\"\nstages = [\"*\"]\nkeep = [\"node\"]\ntimeout = \"60s\"\n\
         url = {{ from = \"file:address\" }}\npath = \"${{stage.name}}\"\n{more}"
    );
    ledger.write("ledger.toml", ledger.read("ledger.toml") + &outlet);
    (ledger.with_keys(&["dev", "prod"]), standin)
}

#[test]
fn a_document_is_brought_and_kept_in_line() {
    let (ledger, _standin) = boards("");
    ledger.run("outlet list").code(0).stdout_eq(str![[r#"
outlet  kind  stage  units there  last
boards  http  dev    0 of 1       never  answers
boards  http  prod   0 of 1       never  answers

"#]]);
    let (out, _) = written(&ledger.run("outlet put desk@dev").code(0));
    assert!(
        out.contains("outlet boards (http): nothing is there\n    what it has comes with 8 names"),
        "{out}"
    );
    assert!(out.ends_with("Nothing is put yet. To do it, add --write.\n"), "{out}");
    let (out, _) = written(&ledger.run("outlet put desk@dev --write").code(0));
    assert!(out.ends_with("desk@dev  boards  http  brought\nRecorded as desk@dev:1.\n"), "{out}");
    let document = "../boards/dev/desk.json";
    let text = ledger.read(document);
    assert!(text.contains("\"host\": \"db.dev.example\"") && text.contains("\"hold\": \"5m\""), "{text}");
    let (out, _) = written(&ledger.run("outlet put desk@dev --write").code(0));
    assert_eq!(out, "1 unit left out: delivered as the ledger says, and there.\n");
    // Somebody changes it, and the server writes its own name in.
    ledger.write(
        document,
        text.replace("\"5m\"", "\"9m\"").replacen('{', "{\"node\": \"n3\", \"stale\": 1,", 1),
    );
    ledger.run("drift desk@dev").code(1).stdout_eq(str![[r#"
dev (outlet boards, http)
desk  (last delivered: 1 of [..])
  document
  name   ledger  there
  hold   5m      9m           differs: edited by hand
  stale  none    (not shown)  extra there: edited by hand

drift: 1 of 1 unit is not as the ledger says.

"#]]);
    let (_, err) = written(&ledger.run("outlet put desk@dev --write").code(4));
    assert!(err.contains("would lose what is edited by hand since delivery 1: `hold` and 1 more"), "{err}");
    ledger.run("outlet put desk@dev --write --leave stale").code(4);
    ledger.run("outlet put desk@dev --write --overwrite-edits").code(0);
    let text = ledger.read(document);
    assert!(text.contains("n3") && !text.contains("stale") && text.contains("\"5m\""), "{text}");
    ledger.run("drift desk@dev").code(0);
}

#[test]
fn what_a_bad_service_does_is_told_by_its_kind() {
    let (ledger, standin) = boards("retries = 1\ntoken = { from = \"env:BOARDS_TOKEN\" }\n");
    let run = |arguments: &str| ledger.command(arguments).env("BOARDS_TOKEN", "t").assert();
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("not known: the environment variable `BOARDS_TOKEN` is not set"), "{out}");
    run("outlet put desk@dev --write").code(0);
    let before = ledger.read("../boards/dev/desk.json");
    let manifest = ledger.read("ledger.toml");
    for (fault, code, said) in [
        (Fault::Hang, 3, "not known: no answer within 0.5 s"),
        (Fault::Down, 3, "not known: status 503"),
        (Fault::Refuse, 3, "not known: access denied: status 401"),
        (Fault::Garbage, 1, "document  cannot be read: line 1: expected value"),
        (Fault::Huge, 3, "not known: its answer is too large"),
        (Fault::Loop, 3, "not known: it sends from one address to the next"),
    ] {
        standin.set_fault("/dev", Some(fault));
        // Who never answers is not waited for long; all others have all the time they want.
        let limit = if fault == Fault::Hang { "500ms" } else { "60s" };
        ledger.write("ledger.toml", manifest.replace("\"60s\"", &format!("\"{limit}\"")));
        let (out, _) = written(&run("drift @dev").code(code));
        assert!(out.contains(said), "{fault:?}: {out}");
        if fault != Fault::Garbage {
            let (_, err) = written(&run("outlet put desk@dev --write").code(3));
            assert!(err.contains("cannot be looked at, and nothing is brought"), "{fault:?}: {err}");
            assert_eq!(ledger.read("../boards/dev/desk.json"), before, "{fault:?}");
        }
    }
    // A short pause between tries is all that a service needs which is slow to start.
    standin.set_fault("/dev", Some(Fault::Slow(std::time::Duration::from_millis(50))));
    run("drift @dev").code(0);
    standin.set_fault("/dev", Some(Fault::LoseWrites));
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml").replace("db.dev", "db2.dev"));
    let (out, _) = written(&run("outlet put desk@dev --write").code(3));
    assert!(out.contains("not held  it took what was brought, and holds something else"), "{out}");
    drop(standin);
    let (out, _) = written(&run("drift @dev").code(3));
    assert!(out.contains("not known: refused: nothing listens there"), "{out}");
}

#[test]
fn production_is_brought_nothing_without_its_guards() {
    let (ledger, _standin) = boards("");
    let text = ledger
        .read("ledger.toml")
        .replace("class = \"production\"\n", "class = \"production\"\nlocked = true\n");
    ledger.write("ledger.toml", text);
    let run = |arguments: &str| ledger.command(arguments).env("DB_PASSWORD", "x").assert();
    let (_, err) = written(&run("outlet put desk@prod --write").code(4));
    assert!(err.contains("`prod` is locked") && err.contains("--why TEXT"), "{err}");
    let (_, err) = written(&run("outlet put desk@prod --write --why asked").code(4));
    assert!(err.contains("--countersign prod"), "{err}");
    assert!(!ledger.path("../boards/prod").exists());
    run("outlet put desk@prod --write --why asked --countersign prod").code(0);
    let (out, _) = written(&ledger.run("outlet put desk@prod --write --why a --countersign prod").code(1));
    assert!(out.contains("missing-value") && out.contains("Nothing is put."), "{out}");
}

#[test]
fn a_delivery_counts_when_the_program_has_taken_it_up() {
    let ledger = TestLedger::with(SMALL).with_keys(&["dev"]);
    let outlet = |within: &str, more: &str| {
        format!(
            "[[outlet]]\nname = \"files\"\nkind = \"directory\"\nstages = [\"dev\"]\npath = \"live\"\nwithin = \"{within}\"\n{more}"
        )
    };
    let manifest = ledger.read("ledger.toml");
    for (within, more, code, said) in [
        (
            "60s",
            "reload = [\"touch\", \"ready-${unit.name}\"]\nready = \"file:ready-desk\"\n",
            0,
            "brought, in effect",
        ),
        (
            "500ms",
            "reload = [\"true\"]\nready = \"file:ready-desk\"\n",
            3,
            "`ready-desk` is not written anew within 0.5 s",
        ),
        (
            "60s",
            "reload = [\"sh\", \"-c\", \"echo no room >&2; exit 7\"]\n",
            3,
            "`sh` ended with exit status: 7: no room",
        ),
        ("500ms", "reload = [\"sleep\", \"60\"]\n", 3, "`sleep` did not end within 0.5 s, and was stopped"),
        ("60s", "reload = [\"no-such-program\"]\n", 3, "`no-such-program` cannot be started"),
        (
            "500ms",
            "ready = \"http://127.0.0.1:1/\"\n",
            3,
            "`http://127.0.0.1:1/` is not ready within 0.5 s: refused",
        ),
    ] {
        ledger.write("ledger.toml", format!("{manifest}{}", outlet(within, more)));
        let _ = fs::remove_dir_all(ledger.path("live"));
        fs::create_dir(ledger.path("live")).unwrap();
        let run = ledger
            .command("outlet put desk@dev --write --overwrite-edits")
            .env("PATH", std::env::var_os("PATH").unwrap());
        let (out, _) = written(&run.assert().code(code));
        assert!(out.contains(said), "{more}: {out}");
        ledger.run("drift @dev").code(0);
    }
}

/// A ledger with an outlet in a real database, and somebody who is connected to it.
fn database(more: &str) -> Option<(TestLedger, Server, Client)> {
    let server = database::postgres(None)?;
    let ledger = TestLedger::with(SMALL).with_keys(&["dev"]);
    let url = format!("postgresql://keeper@127.0.0.1:{}/berths", server.port);
    let outlet = format!(
        "[[outlet]]\nname = \"table\"\nkind = \"postgres\"\nstages = [\"dev\"]\nkeep = [\"server.*\"]\ntimeout = \"60s\"\n\
         url = {{ from = \"file:url\" }}\npassword = {{ from = \"file:password\" }}\n{more}"
    );
    ledger.write("ledger.toml", ledger.read("ledger.toml") + &outlet);
    ledger.write("password", "tide-1\n");
    ledger.write("url", &url);
    let client = Client::connect(&url.replace("keeper@", "keeper:tide-1@"), NoTls).unwrap();
    Some((ledger, server, client))
}

#[test]
fn rows_are_merged_in_a_table_of_our_own() {
    let Some((ledger, mut server, mut client)) = database("") else { return };
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("not known: there is no table `cledger_values`"), "{out}");
    ledger.run("outlet prepare").code(0).stdout_eq(str![[r#"
outlet  table
table   cledger_values  is made if it is not there
Nothing is made yet. To do it, add --write.

"#]]);
    ledger.run("outlet prepare --write").code(0).stdout_eq(str![[r#"
outlet  table
table   cledger_values  made

"#]]);
    let (out, _) = written(&ledger.run("outlet prepare table --write").code(0));
    assert!(out.contains("there already, as it should be"), "{out}");
    ledger.run("outlet put desk@dev --write").code(0);
    ledger.run("drift @dev").code(0);
    client
        .batch_execute(
            "UPDATE cledger_values SET value = '9m' WHERE name = 'hold';
             DELETE FROM cledger_values WHERE name = 'region';
             INSERT INTO cledger_values VALUES ('desk@dev', 'server.name', 'n3'), ('desk@dev', 'old', 'x'),
                                               ('gone@dev', 'old', 'x'), ('desk@prod', 'hold', 'x')",
        )
        .unwrap();
    ledger.run("drift @dev").code(1).stdout_eq(str![[r#"
dev (outlet table, postgres)
desk  (last delivered: 1 of [..])
  rows
  name    ledger  there
  hold    5m      9m           differs: edited by hand
  region  north   none         missing there: edited by hand
  old     none    (not shown)  extra there: edited by hand
gone  there, but not in the ledger

drift: 2 of 2 units are not as the ledger says.

"#]]);
    ledger.run("outlet put desk@dev --write").code(4);
    ledger.run("outlet put desk@dev --write --overwrite-edits").code(0);
    let count = |client: &mut Client, condition: &str| -> i64 {
        client
            .query_one(&format!("SELECT count(*) FROM cledger_values WHERE {condition}"), &[])
            .unwrap()
            .get(0)
    };
    assert_eq!(count(&mut client, "name IN ('server.name', 'old')"), 2, "ours alone goes");
    assert_eq!(count(&mut client, "scope = 'desk@dev' AND name = 'old'"), 0);
    ledger.write("password", "wrong");
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("not known: access denied: SQLSTATE 28P01"), "{out}");
    ledger.write("password", "tide-1");
    server.child.kill().unwrap();
    server.child.wait().unwrap();
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("not known: refused: nothing listens there"), "{out}");
}

#[test]
fn rows_are_merged_in_the_table_of_an_application() {
    let columns = "table = \"app.options\"\ncolumns = { scope = \"Server\", name = \"key\", value = \"val\" }\nscope = \"${stage.name}-1\"\nnaming = \"UPPER_SNAKE\"\n";
    let Some((ledger, _server, mut client)) = database(columns) else { return };
    client
        .batch_execute(
            "CREATE SCHEMA app; CREATE TABLE app.options (id serial PRIMARY KEY, \"Server\" varchar(20) NOT NULL,
             key varchar(60) NOT NULL, val varchar(40), UNIQUE (\"Server\", key));
             INSERT INTO app.options (\"Server\", key, val) VALUES ('dev-1', 'THEME', 'blue'), ('dev-1', 'HOLD', '1m')",
        )
        .unwrap();
    // The URL of the connection is longer than the column: that is said in the plan, and nothing is begun.
    let long = "the value of `DB_URL`: it is longer than the column `val`, which holds 40 characters";
    let (out, _) = written(&ledger.run("outlet put desk@dev").code(3));
    assert!(out.contains(&format!("not taken: {long}")), "{out}");
    let (_, err) = written(&ledger.run("outlet put desk@dev --write --overwrite-edits").code(3));
    assert!(err.contains(long) && err.contains("nothing is brought"), "{err}");
    let rows = |client: &mut Client| -> i64 {
        client.query_one("SELECT count(*) FROM app.options", &[]).unwrap().get(0)
    };
    assert_eq!(rows(&mut client), 2);
    client.batch_execute("ALTER TABLE app.options ALTER val TYPE text").unwrap();
    let (_, err) = written(&ledger.run("outlet put desk@dev --write").code(4));
    assert!(err.contains("would lose what is there before the first delivery: `HOLD` at"), "{err}");
    for word in ["table   postgres  brought", "1 unit left out"] {
        let (out, _) = written(&ledger.run("outlet put desk@dev --write --overwrite-edits").code(0));
        assert!(out.contains(word), "{out}");
    }
    // What stood there before comes back with a withdrawal, and what is the application's has stayed.
    let values = |client: &mut Client| -> Vec<String> {
        let query = "SELECT key || '=' || val FROM app.options ORDER BY 1";
        client.query(query, &[]).unwrap().into_iter().map(|row| row.get(0)).collect()
    };
    ledger.run("withdraw desk@dev --write --why back").code(0);
    assert_eq!(values(&mut client), ["HOLD=1m", "THEME=blue"]);
    ledger.run("outlet put desk@dev --write --overwrite-edits").code(0);
    // What the application itself has there is not ours to take away.
    ledger.run("drift @dev").code(0);
    client.batch_execute("ALTER TABLE app.options RENAME COLUMN key TO option_key").unwrap();
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("`app.options` has no column `key`: it has id, Server, option_key, val"), "{out}");
    client.batch_execute("ALTER TABLE app.options RENAME COLUMN option_key TO key; REVOKE ALL ON app.options FROM PUBLIC; GRANT CONNECT ON DATABASE berths TO guest").unwrap();
    ledger.write("url", ledger.read("url").replace("keeper@", "guest@"));
    ledger.write("password", "guest-1");
    let (out, _) = written(&ledger.run("drift @dev").code(3));
    assert!(out.contains("access denied: SQLSTATE 42501"), "{out}");
}

#[test]
fn a_service_can_be_another_one_for_each_unit_and_stage_with_tokens_of_their_own() {
    let ledger = TestLedger::with(SMALL);
    let standin = StandIn::start(Options { folder: ledger.path("../boards"), ..Options::default() }).unwrap();
    let outlet = format!(
        "[[outlet]]\nname = \"boards\"\nkind = \"http\"\nstages = [\"*\"]\nurl = \"{}/${{unit.name}}/of-${{stage.name}}\"\n\
         timeout = \"60s\"\n\
         token = {{ from = \"env:TOKEN_${{unit.name}}\" }}\n",
        standin.url()
    );
    ledger.write("ledger.toml", ledger.read("ledger.toml") + &outlet);
    ledger.write("units/gate.toml", "[variables.opening]\ndefault = \"06:00\"\n");
    let ledger = ledger.with_keys(&["dev", "prod"]);
    // Each token is trusted by its own name.
    let (out, _) = written(&ledger.untrusted("trust").assert());
    assert!(out.contains("variable  TOKEN_desk") && out.contains("variable  TOKEN_gate"), "{out}");
    let run = |arguments: &str| ledger.command(arguments).env("TOKEN_gate", "low-tide").assert();
    let (out, _) = written(&run("deliver gate@dev --write --why first").code(0));
    assert!(out.contains("gate@dev  boards  http  brought"), "{out}");
    assert_eq!(ledger.read("../boards/gate/of-dev.json").trim(), "{\n  \"opening\": \"06:00\"\n}");
    run("drift gate@dev").code(0);
    // What is in the way of one unit is in the way of no other.
    let (out, _) = written(&run("drift @dev").code(3));
    assert!(out.contains("as the ledger says: gate"), "{out}");
    assert!(out.contains("desk  not known: the environment variable `TOKEN_desk` is not set"), "{out}");
}

#[test]
fn what_the_other_side_assigns_is_looked_up() {
    let (ledger, standin) = boards("");
    ledger.write("../boards/registry/dev.json", r#"{"desks": [{"id": 17, "name": "a ${b}"}]}"#);
    let unit = "[variables.desk_id]\ntype = \"integer\"\n[variables.title]\n";
    ledger.write(
        "units/desk.toml",
        ledger.read("units/desk.toml").replace("[[output]]", &format!("{unit}[[output]]")),
    );
    let place = format!("{}/registry/${{stage.name}}#/desks/0/", standin.url());
    ledger.command("set desk/desk_id@dev --looked-up").arg(format!("{place}id")).assert().code(0);
    ledger.command("set desk/title@dev=x --looked-up").arg(format!("{place}name")).assert().code(0);
    // By its name among several, whatever its place is.
    let desks = format!("{}/registry/all#$[?@.of=='${{unit.name}}@${{stage.name}}'].id", standin.url());
    ledger.write(
        "../boards/registry/all.json",
        r#"[{"of": "gate@dev", "id": 3}, {"of": "desk@dev", "id": 17}]"#,
    );
    ledger.command("set desk/desk_id@dev --looked-up").arg(&desks).assert().code(0);
    let (out, _) = written(&ledger.run("outlet lookup desk/desk_id@dev").code(0));
    assert!(out.contains("desk/desk_id@dev  none yet  17     differs"), "{out}");
    ledger.write("../boards/registry/all.json", r#"[{"of": "gate@dev", "id": 3}]"#);
    let (out, _) = written(&ledger.run("outlet lookup desk/desk_id@dev").code(3));
    assert!(out.contains("`$[?@.of=='desk@dev'].id` leads to nothing"), "{out}");
    let (_, err) =
        written(&ledger.command("set desk/desk_id@dev --looked-up").arg("boards#$[?").assert().code(2));
    assert!(err.contains("no JSONPath query"), "{err}");
    ledger.command("set desk/desk_id@dev --looked-up").arg(format!("{place}id")).assert().code(0);
    let place = "desk_id = { absent = true, looked_up = \"http://127";
    assert!(ledger.read("stages/dev.toml").contains(place), "{}", ledger.read("stages/dev.toml"));
    let before = ledger.read("stages/dev.toml");
    ledger.run("outlet lookup @dev").code(0).stdout_eq(str![[r#"
field             ledger    there
desk/desk_id@dev  none yet  17      differs
desk/title@dev    x         a ${b}  differs
Nothing is written yet. To do it, add --write.

"#]]);
    assert_eq!(ledger.read("stages/dev.toml"), before);
    let (out, _) = written(&ledger.run("drift @dev").code(1));
    assert!(
        out.contains("dev (looked up)") && out.contains("desk/title@dev  x       a ${b}  differs"),
        "{out}"
    );
    ledger.run("outlet lookup @dev --write").code(0);
    ledger.run("get desk/desk_id@dev").code(0).stdout_eq("17\n");
    ledger.run("get desk/title@dev").code(0).stdout_eq("a ${b}\n");
    let (out, _) = written(&ledger.run("outlet lookup @dev --json").code(0));
    assert!(out.contains(r#""ledger":"17","there":"17","same":true"#), "{out}");
    ledger.run("set desk/title@dev=plain").code(0);
    // The same, from what the unit's own document holds: the server has given it another number.
    ledger.run("outlet put desk@dev --write").code(0);
    let text = ledger.read("../boards/dev/desk.json").replace("17", "18");
    ledger.write("../boards/dev/desk.json", text);
    ledger.run("set desk/desk_id@dev=17 --looked-up boards").code(0);
    let (out, _) = written(&ledger.run("outlet lookup desk/desk_id@dev").code(0));
    assert!(out.contains("desk/desk_id@dev  17      18     differs"), "{out}");
    // What the same unit has in another stage, under whatever name that has.
    ledger.write("../boards/prod/desk.json", r#"{"desk_id": 21}"#);
    ledger.run("set desk/desk_id@dev=17 --looked-up boards@prod").code(0);
    let (out, _) = written(&ledger.run("outlet lookup desk/desk_id@dev").code(0));
    assert!(out.contains("desk/desk_id@dev  17      21     differs"), "{out}");
    ledger.run("rename @prod north --countersign prod --why named --write").code(0);
    assert!(ledger.read("stages/dev.toml").contains("looked_up = \"boards@north\""));
    ledger.run("rename @north prod --countersign north,prod --why back --write").code(0);
    for (place, said) in [
        ("boards@nowhere", "not known  there is no stage `nowhere`"),
        ("boards#/nothing/here", "not known  it has no `nothing/here`"),
        ("nowhere", "not known  there is no outlet `nowhere`"),
        ("http://127.0.0.1:1/x#/id", "not known  refused: nothing listens there"),
    ] {
        ledger.run(&format!("set desk/desk_id@dev=17 --looked-up {place}")).code(0);
        let (out, _) = written(&ledger.run("outlet lookup desk/desk_id@dev --write").code(3));
        assert!(out.contains(said), "{place}: {out}");
        ledger.run("get desk/desk_id@dev").code(0).stdout_eq("17\n");
    }
    let (_, err) = written(&ledger.run("set desk/desk_id@dev=17 --looked-up ftp://x#/y").code(2));
    assert!(err.contains("`looked_up` names neither an address nor an outlet"), "{err}");
}
