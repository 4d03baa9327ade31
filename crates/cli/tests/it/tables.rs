//! Lookup tables: rows from CSV files and settings, merged by their key.

use snapbox::str;

use crate::test_ledger::{SMALL, TestLedger, is_there, written};

const QUAYS: &str = "quay,name,phone\nheron,Heron Point,\nlock,\"Old \"\"Lock\"\"\",\"1, 2\"\nmill,Mill,7\n";

/// The small ledger with a shared table that `desk` renders as CSV and, in a second table, as a map.
fn ledger() -> TestLedger {
    let ledger = TestLedger::with(SMALL);
    ledger.write("tables/quays.csv", QUAYS);
    let shared = ledger.read("shared.toml");
    let table = "columns = [\"quay\", \"name\", \"phone\"]\nkey = \"quay\"\nrows = \"tables/quays.csv\"\n";
    ledger.write("shared.toml", format!("{shared}[tables.quays]\n{table}"));
    let desk = ledger.read("units/desk.toml").replace("[\"db\"]", "[\"db\", \"quays\"]");
    let outputs = "[[output]]\npath = \"quays.csv\"\nformat = \"csv\"\ntable = \"quays\"\n\
                   [[output]]\npath = \"desk.json\"\nformat = \"json\"\n\
                   [tables.fares]\ncolumns = [\"class\", \"price\"]\nkey = \"class\"\nrequired = false\n\
                   [instances.kiosk]\n";
    ledger.write("units/desk.toml", format!("{desk}{outputs}"));
    let prod = ledger.read("stages/prod.toml").replace("env:DB_PASSWORD", "file:db");
    let rows = "[shared.quays]\nmill = { absent = true }\nlock = { name = \"Lock in ${stage.name}\", phone = \"9\" }\n\
                [units.desk.quays]\nweir = { name = \"Weir\", phone = \"\" }\n\
                [units.desk.fares]\nadult = { price = \"12\" }\n\
                [units.\"desk+kiosk\".quays]\nlock = { name = \"Kiosk\", phone = \"$${8}\" }\n";
    ledger.write("stages/prod.toml", format!("{prod}{rows}"));
    ledger.write("db", "undertow\n");
    ledger
}

#[test]
fn rows_are_merged_and_each_has_its_origin() {
    let ledger = ledger();
    ledger.run("show desk+kiosk/quays@prod").code(0).stdout_eq(str![[r#"
desk+kiosk in prod (class production)

quay   name         phone  from
heron  Heron Point         default tables/quays.csv:2
lock   Kiosk        ${8}   stages/prod.toml:17
weir   Weir                stages/prod.toml:13

3 rows.

"#]]);
    ledger.run("show desk/quays@prod --json").code(0).stdout_eq(str![[r#"
{"format":1,"unit":"desk","instance":null,"stage":"prod","class":"production","values":[{"address":"desk/quays@prod","type":"table","value":{"heron":{"name":"Heron Point","phone":"","quay":"heron"},"lock":{"name":"Lock in prod","phone":"9","quay":"lock"},"weir":{"name":"Weir","phone":"","quay":"weir"}},"secret":false,"origin":{"layer":"stage","name":"prod","file":"stages/prod.toml","line":12,"column":1},"rows":{"heron":{"layer":"default","name":null,"file":"tables/quays.csv","line":2,"column":1},"lock":{"layer":"stage","name":"prod","file":"stages/prod.toml","line":11,"column":8},"weir":{"layer":"stage","name":"prod","file":"stages/prod.toml","line":13,"column":8}}}],"missing":[],"problems":[]}

"#]]);
    ledger.run("show desk/quays@dev").code(0).stdout_eq(str![[r#"
desk in dev (class development)

quay   name         phone  from
heron  Heron Point         default tables/quays.csv:2
lock   Old "Lock"   1, 2   default tables/quays.csv:3
mill   Mill         7      default tables/quays.csv:4

3 rows.

"#]]);
    ledger.run("trace desk/quays@prod").code(0).stdout_eq(str![[r#"
desk/quays@prod  3 rows

candidate, weakest first                      says
default, for shared: shared.toml:7:8          3 rows              merged, row by row
stage prod, for shared: stages/prod.toml:9:1  1 row, 1 taken out  merged, row by row
stage prod, for desk: stages/prod.toml:12:1   1 row               merged, row by row

It is quays in quays.csv.

"#]]);
    ledger.run("matrix desk/* --csv").code(0).stdout_eq(str![[r#"
field,dev,prod
desk/db.host,db.dev.example,db.prod.example
desk/db.port,5432,5432
desk/db.database,tides,tides
desk/db.user,dev,ferry
desk/db.password,(secret),(secret)
desk/db.url,(secret),(secret)
desk/fares,,(1 row)
desk/hold,5m,2m
desk/quays,(3 rows),(3 rows)
desk/region,north,south
desk+kiosk/db.host,db.dev.example,db.prod.example
desk+kiosk/db.port,5432,5432
desk+kiosk/db.database,tides,tides
desk+kiosk/db.user,dev,ferry
desk+kiosk/db.password,(secret),(secret)
desk+kiosk/db.url,(secret),(secret)
desk+kiosk/fares,,(1 row)
desk+kiosk/hold,5m,2m
desk+kiosk/quays,(3 rows),(3 rows)
desk+kiosk/region,north,south

"#]]);
    ledger.run("compare desk@dev desk@prod").code(1).stdout_eq(str![[r#"
desk
entry         dev                            prod
db.user       dev                            ferry                           differs
db.url        (secret)                       (secret)                        differs
fares         none                           1 row                           only in prod
hold          5m                             2m                              differs
quays         3 rows                         3 rows                          differs
    row lock  name Old "Lock", phone 1, 2    name Lock in prod, phone 9      differs
    row mill  name Mill, phone 7, quay mill  none                            only in dev
    row weir  none                           name Weir, phone "", quay weir  only in prod
db.host       db.dev.example                 db.prod.example                 as meant
db.password   (secret)                       (secret)                        as meant
region        north                          south                           as meant

differs: 3 the same, 3 different as meant, 5 different otherwise.

"#]]);
    ledger.run("impact shared/quays@default").code(0).stdout_eq(str![[r#"
field                  because
desk/quays@dev         it gets its value from there
desk+kiosk/quays@dev   it gets its value from there
desk/quays@prod        it gets its value from there
desk+kiosk/quays@prod  it gets its value from there
shared/quays@dev       it gets its value from there
shared/quays@prod      it gets its value from there

6 effective values depend on shared/quays@default.

"#]]);
}

#[test]
fn a_table_is_rendered_and_read_back() {
    let ledger = ledger();
    ledger.run("render desk+kiosk@prod --out out --countersign prod").code(0).stdout_eq(str![[r#"
new        out/desk+kiosk/desk.env  (holds secrets: 0600)
new        out/desk+kiosk/quays.csv
new        out/desk+kiosk/desk.json  (holds secrets: 0600)
rendered: 3 files.

"#]]);
    let csv = ledger.read("out/desk+kiosk/quays.csv");
    assert_eq!(csv, "quay,name,phone\nheron,Heron Point,\nlock,Kiosk,${8}\nweir,Weir,\n");
    let json: serde_json::Value = serde_json::from_str(&ledger.read("out/desk+kiosk/desk.json")).unwrap();
    assert_eq!(json["fares"], serde_json::json!({ "adult": { "class": "adult", "price": "12" } }));
    assert_eq!(json.get("quays"), None, "a table with a file of its own stands in that alone");
    ledger.run("drift desk+kiosk@prod --observed out").code(0).stdout_eq(str![[r#"
as the ledger says: desk+kiosk

no drift: 1 unit as the ledger says.

"#]]);
    ledger.write("out/desk+kiosk/quays.csv", "name,quay,phone\r\nHeron,heron,\r\nKiosk,lock,${8}\r\n");
    ledger.run("drift desk+kiosk@prod --observed out").code(1).stdout_eq(str![[r#"
desk+kiosk
  desk.env  as the ledger says
  quays.csv
  name         ledger                          there
  quays        3 rows                          2 rows      differs
    row heron  name Heron Point                name Heron  differs
    row weir   name Weir, phone "", quay weir  none        missing there
  desk.json  as the ledger says

drift: 1 of 1 unit is not as the ledger says.

"#]]);

    if is_there("python3") {
        ledger.run("render desk@dev --partial --out out").code(0);
        let script =
            "import csv, json; print(json.dumps(list(csv.reader(open('out/desk/quays.csv', newline='')))))";
        let mut python = std::process::Command::new("python3");
        let read = python.args(["-c", script]).current_dir(ledger.path("")).output().unwrap();
        let rows: Vec<[String; 3]> = serde_json::from_slice(&read.stdout).unwrap();
        assert_eq!(rows[2], ["lock", "Old \"Lock\"", "1, 2"]);
    }
}

#[test]
fn rows_that_do_not_fit_are_findings_and_hold_a_rendering_up() {
    let ledger = ledger();
    ledger.write(
        "tables/quays.csv",
        "\u{feff}quay,name,phone\r\nheron,Heron\r\nlock,\"a\r\nb\",1\r\nlock,Again,2\r\n,None,3\r\n\"x${y}\",y,4\r\n",
    );
    let rows = "[units.desk]\nfares = { adult = 1, child = { price = 2 }, pram = {}, dog = { price = \"1\", size = \"2\" }, cat = { price = \"1\" } }\n";
    ledger.write("stages/dev.toml", ledger.read("stages/dev.toml").replace("[units.desk]\n", rows));
    ledger.run("check desk@dev").code(1).stdout_eq(str![[r#"
unit  dev
desk  8 errors

shared entries and the ledger
error[table-row]: this row has 2 of 3 cells
 --> tables/quays.csv:2:1
  |
2 | heron,Heron
  | ^^^^^^^^^^^ shared/quays@default
  |
  = help: give each column one cell

error[table-row]: `lock` is the key of another row, too
 --> tables/quays.csv:5:1
  |
5 | lock,Again,2
  | ^^^^^^^^^^^^ shared/quays@default
  |
  = help: keep one of the two

error[table-row]: this row has no `quay`
 --> tables/quays.csv:6:1
  |
6 | ,None,3
  | ^^^^^^^ shared/quays@default
  |
  = help: give it a key

error[table-row]: `x${y}` is a key with a reference
 --> tables/quays.csv:7:1
  |
7 | "x${y}",y,4
  | ^^^^^^^^^^^ shared/quays@default
  |
  = help: write the key itself: references may stand in the other columns

warning[plain-secret]: `password` of `db` is a secret, and stands here in plain text
 --> stages/dev.toml:4:12
  |
4 | password = …
  |            ^ shared/db.password@dev
  |
  = help: cledger key protect @dev --write, or set it --from env:NAME

desk
error[table-row]: row `adult` is no table
 --> stages/dev.toml:7:19
  |
7 | fares = { adult = 1, child = { price = 2 }, pram = {}, dog = { price = "1", size = "2" }, cat = { price = "1" } }
  |                   ^ desk/fares@dev
  |
  = help: write { COLUMN = "…" }, or { absent = true }

error[table-row]: `price` of row `child` is no text
 --> stages/dev.toml:7:30
  |
7 | fares = { adult = 1, child = { price = 2 }, pram = {}, dog = { price = "1", size = "2" }, cat = { price = "1" } }
  |                              ^^^^^^^^^^^^^ desk/fares@dev
  |
  = help: write it in quotes

error[table-row]: row `pram` lacks price
 --> stages/dev.toml:7:52
  |
7 | fares = { adult = 1, child = { price = 2 }, pram = {}, dog = { price = "1", size = "2" }, cat = { price = "1" } }
  |                                                    ^^ desk/fares@dev
  |
  = help: give each column one cell

error[table-row]: row `dog` has a column `size`, which cannot be set here
 --> stages/dev.toml:7:62
  |
7 | fares = { adult = 1, child = { price = 2 }, pram = {}, dog = { price = "1", size = "2" }, cat = { price = "1" } }
  |                                                              ^^^^^^^^^^^^^^^^^^^^^^^^^^^ desk/fares@dev
  |
  = help: its columns are those of the declaration without the key

8 errors, 1 warning in 1 unit.

"#]]);
    ledger.run("render desk@dev --out out").code(1);
    assert_eq!(ledger.files("").iter().filter(|path| path.starts_with("out")).count(), 0);
    ledger.run("show desk/quays@dev").code(0).stdout_eq(str![[r#"
desk in dev (class development)

quay  name    phone  from
lock  a/r/nb  1      default tables/quays.csv:3

1 row.

"#]]);

    for (rows, message) in [
        ("\"tables/none.csv\"", "which is not there"),
        ("\"../quays.csv\"", "which is no path in a ledger"),
        ("\"ledger.toml\"", "are not those of `fares`"),
    ] {
        let dev = SMALL[3].1.replace("[units.desk]\n", &format!("[units.desk]\nfares = {rows}\n"));
        ledger.write("stages/dev.toml", dev);
        let output = ledger.command("check desk/fares@dev").output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        assert!(text.contains("error[table-row]") && text.contains(message), "{rows}: {text}");
    }
    for (contract, message) in [
        ("columns = [\"a\"]", "needs `columns` and a `key`"),
        ("columns = [\"a\", \"a\"]\nkey = \"a\"", "a column is there twice"),
        ("columns = [\"a\"]\nkey = \"b\"", "the key is none of the columns"),
        (
            "columns = [\"a\"]\nkey = \"a\"\n[[output]]\npath = \"t\"\nformat = \"csv\"",
            "holds one lookup table",
        ),
        (
            "columns = [\"a\"]\nkey = \"a\"\n[[output]]\npath = \"t\"\nformat = \"csv\"\ntable = \"tt\"",
            "no lookup table `tt`",
        ),
    ] {
        let ledger = TestLedger::small();
        ledger.write("units/desk.toml", format!("{}[tables.t]\n{contract}\n", SMALL[2].1));
        let (_, text) = written(&ledger.run("show desk@dev").code(2));
        assert!(text.contains(message), "{contract}: {text}");
    }
}

#[test]
fn a_table_is_set_by_the_path_of_its_rows() {
    let ledger = ledger();
    ledger.write("tables/few.csv", "phone,name,quay\n5,Few,few\n");
    ledger.write("tables/bad.csv", "quay,name,phone\nx\n");
    ledger.run("set desk/quays@dev=tables/few.csv").code(0).stdout_eq(str![[r#"
setting         before   after           in
desk/quays@dev  not set  tables/few.csv  stages/dev.toml

2 effective values change
field                 before  after
desk/quays@dev        3 rows  4 rows
    row few           none    name Few, phone 5, quay few
desk+kiosk/quays@dev  3 rows  4 rows
    row few           none    name Few, phone 5, quay few

"#]]);
    for (command, error) in [
        (
            "set desk/quays@dev=tables/none.csv",
            "error: the rows of `quays` are in `tables/none.csv`, which is not there",
        ),
        ("set desk/quays@dev=tables/bad.csv", "error: this row has 1 of 3 cells, in tables/bad.csv:2\n"),
        (
            "set desk/quays@dev --from file:tables/few.csv",
            "error: `desk/quays@dev` is a table, which cannot be fetched",
        ),
        (
            "add table desk/crew --columns name --rows crew.csv",
            "error: the rows of `crew` are in `crew.csv`, which is not there",
        ),
    ] {
        let output = ledger.command(command).output().unwrap();
        let text = String::from_utf8(output.stderr).unwrap();
        assert!(output.status.code() == Some(2) && text.starts_with(error), "{command}: {text}");
    }
    // Rows that stand in the stage give way to a file of rows.
    let (out, _) = written(&ledger.run("set desk/quays@prod=tables/few.csv --countersign prod").code(0));
    assert!(out.contains("row weir") && out.contains("row few"), "{out}");
    assert!(
        ledger
            .read("stages/prod.toml")
            .contains("[units.desk.quays]\nvalue = \"tables/few.csv\"\n[units.desk.fares]\n")
    );
    ledger.run("unset desk/quays@dev").code(0);
    ledger.run("set shared/quays@default=tables/few.csv --countersign prod").code(0);
    assert!(ledger.read("shared.toml").ends_with("key = \"quay\"\nrows = \"tables/few.csv\"\n"));

    // Fields of shared entries without a name have a header in common in a new stage's file.
    let shared = ledger.read("shared.toml");
    ledger.write(
        "shared.toml",
        format!("[variables.a]\n[variables.z]\n{shared}[tables.piers]\ncolumns = [\"p\"]\nkey = \"p\"\n"),
    );
    let desk = ledger
        .read("units/desk.toml")
        .replace("[\"db\", \"quays\"]", "[\"db\", \"quays\", \"a\", \"z\", \"piers\"]");
    ledger.write("units/desk.toml", desk);
    ledger.run("add stage west --like prod").code(0);
    snapbox::assert_data_eq!(
        ledger.read("stages/west.toml"),
        str![[r##"
# Settings of west (class production). What stands behind # is not set: fill it in, and take the # away.

[shared]
# a = ""  # text
# piers = {}  # table
# z = ""  # text
# With a default that can be changed:
# quays = {}  # table; in prod: 2 rows

[shared.db]
# host = ""  # host; in prod: "db.prod.example"
# user = ""  # text; in prod: "ferry"
# password = { from = "env:NAME" }  # text; in prod: (secret)
# With a default that can be changed:
# port = 5432  # port; in prod: 5432
# database = "tides"  # text; in prod: "tides"

[units.desk]
# region = ""  # text; in prod: "south"
# With a default that can be changed:
# hold = "5m"  # duration; in prod: "2m"

"##]]
    );
}

#[test]
fn cells_are_replaced_in_settings_and_csv_files() {
    let ledger = ledger();
    ledger.write("tables/quays.csv", format!("\u{feff}{}", QUAYS.replace('\n', "\r\n")));
    ledger
        .run("replace */quays --swap Lock Weir --countersign prod --write")
        .code(0)
        .stdout_eq(str![[r#"
setting               before                                after                                 in
shared/quays@default  row lock: name Old "Lock"             row lock: name Old "Weir"             tables/quays.csv:3
shared/quays@prod     row lock: name Lock in ${stage.name}  row lock: name Weir in ${stage.name}  stages/prod.toml:11

3 effective values change
field                 before             after
desk/quays@dev        3 rows             3 rows
    row lock          name Old "Lock"    name Old "Weir"
desk+kiosk/quays@dev  3 rows             3 rows
    row lock          name Old "Lock"    name Old "Weir"
desk/quays@prod       3 rows             3 rows
    row lock          name Lock in prod  name Weir in prod

replaced: 2 values.

"#]]);
    let csv = "\u{feff}quay,name,phone\r\nheron,Heron Point,\r\nlock,\"Old \"\"Weir\"\"\",\"1, 2\"\r\nmill,Mill,7\r\n";
    assert_eq!(ledger.read("tables/quays.csv"), csv);
    assert!(
        ledger
            .read("stages/prod.toml")
            .contains("lock = { name = \"Weir in ${stage.name}\", phone = \"9\" }")
    );
    ledger.run("search --contains Heron").code(0).stdout_eq(str![[r#"
address               says    in             why
shared/quays@default  3 rows  shared.toml:7

1 setting.

"#]]);
}

#[test]
fn tables_are_declared_renamed_shared_and_removed() {
    let ledger = ledger();
    ledger.run("add table desk/crew --columns name,rank").code(0).stdout_eq(str![[r#"
added: desk/crew, in units/desk.toml.
It comes into desk.env, desk.json.

4 fields need a value now:
  desk/crew@dev
  desk+kiosk/crew@dev
  desk/crew@prod
  desk+kiosk/crew@prod

"#]]);
    assert!(
        ledger
            .read("units/desk.toml")
            .contains("[tables.crew]\ncolumns = [\"name\", \"rank\"]\nkey = \"name\"\n")
    );
    ledger.run("remove desk/crew --write --countersign prod").code(0);
    ledger.run("rename shared/quays stops --write").code(0).stdout_eq(str![[r#"
changes  shared.toml
changes  stages/prod.toml
changes  units/desk.toml

No effective value changes.
renamed: shared/quays is stops now, in 3 files.

"#]]);
    assert!(ledger.read("units/desk.toml").contains("table = \"stops\""));
    ledger.run("share desk/fares --write").code(0).stdout_eq(str![[r#"
changes  shared.toml
changes  stages/prod.toml
changes  units/desk.toml

No effective value changes.
shared: desk/fares is shared/fares now, in 3 files.

"#]]);
    assert!(ledger.read("stages/prod.toml").contains("fares = { adult = { price = \"12\" } }"));
    ledger.run("unset desk+kiosk/stops@prod --countersign prod").code(0).stdout_eq(str![[r#"
setting                before  after    in
desk+kiosk/stops@prod  1 row   not set  stages/prod.toml

1 effective value changes
field                  before                  after
desk+kiosk/stops@prod  3 rows                  3 rows
    row lock           name Kiosk, phone ${8}  name Lock in prod, phone 9

"#]]);
    assert!(!ledger.read("stages/prod.toml").contains("kiosk"));
}
