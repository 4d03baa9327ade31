//! Rows of tables, in each of the databases as it really is.

use std::collections::BTreeMap;
use std::time::Duration;

use cledger_core::delivery::RowChange;
use cledger_core::model::{Database, RowColumns};
use cledger_outlets::Trust;
use cledger_outlets::bring::{Content, Load, NotBrought, bring};
use cledger_outlets::held::{Asked, Held, RowsOf, Said, TableOf, Values, Written};
use cledger_outlets::reach::{Reach, RowsReach, Sent};
use cledger_outlets::read_back::{Listing, ReadBack, Source, read_back};
use mysql::prelude::Queryable as _;
use tempfile::TempDir;
use zeroize::Zeroizing;

use crate::database::{Server, postgres};
use crate::mariadb::mariadb;
use crate::relay::{Heard, relay};

const LIMIT: Duration = Duration::from_secs(60);

/// A database with somebody else in it.
pub(crate) struct Base {
    pub(crate) reach: RowsReach,
    /// The address, or the path of the file.
    pub(crate) at: String,
    other: Other,
    _server: Option<Server>,
    _folder: TempDir,
}

enum Other {
    Postgres(Box<postgres::Client>),
    MariaDb(Box<mysql::Conn>),
    Sqlite(rusqlite::Connection),
}

impl Base {
    /// All databases that are here.
    pub(crate) fn all() -> Vec<Self> {
        [Self::postgres(), Self::mariadb(), Some(Self::sqlite())].into_iter().flatten().collect()
    }

    fn of(database: Database, at: String, other: Other, server: Option<Server>, folder: TempDir) -> Self {
        let reach = RowsReach {
            database,
            at: Sent::new(Zeroizing::new(at.clone())),
            password: Some(Sent::new(Zeroizing::new("tide-1".to_owned()))),
            table: vec!["values".to_owned()],
            columns: RowColumns::default(),
            trust: Trust::default(),
        };
        Self { reach, at, other, _server: server, _folder: folder }
    }

    fn postgres() -> Option<Self> {
        let server = postgres(None)?;
        let url = format!("postgresql://keeper@127.0.0.1:{}/berths", server.port);
        let other = postgres::Client::connect(&url.replace("keeper@", "keeper:tide-1@"), postgres::NoTls);
        let other = Other::Postgres(Box::new(other.unwrap()));
        Some(Self::of(Database::Postgres, url, other, Some(server), TempDir::new().unwrap()))
    }

    fn mariadb() -> Option<Self> {
        let server = mariadb(None)?;
        let url = format!("mariadb://keeper@127.0.0.1:{}/berths", server.port);
        let with_password = url.replace("mariadb://keeper@", "mysql://keeper:tide-1@");
        let opts = mysql::Opts::from_url(&with_password).unwrap();
        let other = mysql::Conn::new(mysql::OptsBuilder::from_opts(opts).prefer_socket(false)).unwrap();
        let other = Other::MariaDb(Box::new(other));
        Some(Self::of(Database::MariaDb, url, other, Some(server), TempDir::new().unwrap()))
    }

    pub(crate) fn sqlite() -> Self {
        let folder = TempDir::new().unwrap();
        let path = folder.path().join("berths.db");
        let other = Other::Sqlite(rusqlite::Connection::open(&path).unwrap());
        Self::of(Database::Sqlite, path.display().to_string(), other, None, folder)
    }

    /// Statements of somebody else, one a line.
    pub(crate) fn run(&mut self, statements: &str) {
        for statement in statements.lines().map(str::trim).filter(|line| !line.is_empty()) {
            match &mut self.other {
                Other::Postgres(client) => client.batch_execute(statement).unwrap(),
                Other::MariaDb(client) => client.query_drop(statement).unwrap(),
                Other::Sqlite(client) => client.execute_batch(statement).unwrap(),
            }
        }
    }

    /// The first cell that a query of somebody else gives.
    fn told(&mut self, query: &str) -> String {
        match &mut self.other {
            Other::Postgres(client) => client.query_one(query, &[]).unwrap().get(0),
            Other::MariaDb(client) => client.query_first(query).unwrap().unwrap(),
            Other::Sqlite(client) => client.query_row(query, [], |row| row.get(0)).unwrap(),
        }
    }

    fn quoted(&self, name: &str) -> String {
        let mark = if self.reach.database == Database::MariaDb { '`' } else { '"' };
        format!("{mark}{name}{mark}")
    }

    pub(crate) fn load(&self, of: RowsOf, seen: Held, changes: Vec<RowChange>) -> Load {
        let reach = Reach::Rows(self.reach.clone());
        Load { reach, asked: Asked::Rows(of), seen, content: Content::Rows(changes), limit: LIMIT }
    }

    fn read(&self, of: RowsOf, listing: Option<Listing>) -> ReadBack {
        let asked = [("desk".to_owned(), Asked::Rows(of))].into();
        let (reach, own) = (Reach::Rows(self.reach.clone()), BTreeMap::new());
        read_back(&[Source { reach, own, asked, listing, limit: LIMIT }], |_| ()).remove(0)
    }

    /// The rows of a scope, as `name=value` with blanks between.
    fn rows(&self, of: RowsOf) -> String {
        let back = self.read(of, None);
        if let Some(Held::Rows(rows)) = back.units.get("desk") {
            let rows: Vec<String> =
                rows.iter().map(|(name, value)| format!("{name}={}", value.as_str())).collect();
            return rows.join(" ");
        }
        assert!(matches!(back.units.get("desk"), Some(Held::NotThere)), "{:?}", back.trouble);
        String::new()
    }
}

fn of(scope: &str) -> RowsOf {
    RowsOf { scope: scope.to_owned(), ..RowsOf::default() }
}

fn held(pairs: &[(&str, &str)]) -> Held {
    let pairs = pairs.iter().map(|(name, value)| ((*name).to_owned(), text(value)));
    Held::Rows(pairs.collect::<Values>())
}

pub(crate) fn text(text: &str) -> Zeroizing<String> {
    Zeroizing::new(text.to_owned())
}

fn insert(name: &str, value: &str) -> RowChange {
    RowChange::Insert(name.to_owned(), text(value))
}

fn update(name: &str, value: &str) -> RowChange {
    RowChange::Update(name.to_owned(), text(value))
}

#[test]
fn rows_change_in_one_transaction_and_for_one_at_a_time() {
    for mut base in Base::all() {
        let database = base.reach.database;
        assert!(base.reach.prepare(LIMIT).unwrap() && !base.reach.prepare(LIMIT).unwrap(), "{database:?}");
        let first = vec![insert("a", "1"), insert("b", "2"), insert("B", "ü \\ '")];
        assert_eq!(bring(vec![base.load(of("desk@dev"), Held::NotThere, first)]), [Ok(())], "{database:?}");
        assert_eq!(base.rows(of("desk@dev")), "B=ü \\ ' a=1 b=2", "{database:?}");
        // Eight at once, all of which have seen the same: one comes first, and the others are told.
        let seen = [("a", "1"), ("b", "2"), ("B", "ü \\ '")];
        let load =
            |number: usize| base.load(of("desk@dev"), held(&seen), vec![insert(&format!("n{number}"), "x")]);
        let told = bring((0..8).map(load).collect());
        assert_eq!(told.iter().filter(|told| told.is_ok()).count(), 1, "{database:?} {told:?}");
        assert!(
            told.iter().all(|told| matches!(told, Ok(()) | Err(NotBrought::ChangedMeanwhile))),
            "{database:?} {told:?}"
        );
        let table = base.quoted("values");
        let third = base.told(&format!("SELECT name FROM {table} WHERE name LIKE 'n%'"));
        // A change that does not go takes the others of its delivery with it.
        let seen = [("a", "1"), ("b", "2"), ("B", "ü \\ '"), (third.as_str(), "x")];
        let before = base.rows(of("desk@dev"));
        let bad = vec![insert("c", "3"), RowChange::Remove("nobody".to_owned())];
        let told = bring(vec![base.load(of("desk@dev"), held(&seen), bad)]);
        assert_eq!(told, [Err(NotBrought::Failed("row `nobody`: 0 rows instead of one".to_owned()))]);
        assert_eq!(base.rows(of("desk@dev")), before, "{database:?}");
        // Names that differ in nothing but their case are two.
        let change = vec![update("b", "7"), RowChange::Remove("B".to_owned())];
        assert_eq!(bring(vec![base.load(of("desk@dev"), held(&seen), change)]), [Ok(())], "{database:?}");
        assert_eq!(base.rows(of("desk@dev")), format!("a=1 b=7 {third}=x"), "{database:?}");
        base.run(&format!("INSERT INTO {table} VALUES ('gate@dev', 'x', 'y'), ('desk@test', 'x', 'y')"));
        let back = base.read(of("desk@dev"), Some(Listing::Scopes("@dev".to_owned())));
        assert_eq!(back.names, ["desk", "gate"], "{database:?}");
    }
}

#[test]
fn a_delivery_does_not_wait_longer_than_it_may_for_somebody_who_holds_the_rows() {
    for mut base in Base::all() {
        let database = base.reach.database;
        base.reach.prepare(LIMIT).unwrap();
        bring(vec![base.load(of("desk@dev"), Held::NotThere, vec![insert("a", "1")])]);
        let table = base.quoted("values");
        base.run(&format!("BEGIN\nUPDATE {table} SET value = 'theirs'"));
        let change = vec![RowChange::Remove("a".to_owned())];
        let mut slow = base.load(of("desk@dev"), held(&[("a", "1")]), change);
        slow.limit = Duration::from_millis(1200);
        let told = bring(vec![slow]);
        assert!(
            matches!(&told[..], [Err(NotBrought::Failed(_) | NotBrought::NotKnown(_))]),
            "{database:?} {told:?}"
        );
        base.run("ROLLBACK");
        assert_eq!(base.rows(of("desk@dev")), "a=1", "{database:?}");
    }
}

/// A table of somebody else's, with columns of all sorts.
fn of_somebody_else(base: &mut Base) {
    base.run(match base.reach.database {
        Database::Postgres => {
            "CREATE TYPE state AS ENUM ('live', 'drawn up')
             CREATE TABLE berths (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, quay integer NOT NULL, \
             tenant varchar(12) NOT NULL, name varchar(10) NOT NULL, value text NOT NULL, state state NOT NULL, \
             active boolean NOT NULL, changed_by text NOT NULL, changed_at timestamptz NOT NULL, \
             UNIQUE (quay, tenant, name), CHECK (value NOT LIKE 'sunk%'))"
        }
        Database::MariaDb => {
            "CREATE TABLE berths (id bigint PRIMARY KEY AUTO_INCREMENT, quay int NOT NULL, \
             tenant varchar(12) NOT NULL, name varchar(10) NOT NULL, value longtext NOT NULL, \
             state enum('live', 'drawn up') NOT NULL, active boolean NOT NULL, changed_by text NOT NULL, \
             changed_at datetime NOT NULL, UNIQUE (quay, tenant, name), CHECK (value NOT LIKE 'sunk%'))"
        }
        Database::Sqlite => {
            "CREATE TABLE berths (id INTEGER PRIMARY KEY, quay INTEGER NOT NULL, tenant TEXT NOT NULL, \
             name TEXT NOT NULL, value TEXT NOT NULL, \
             state TEXT NOT NULL CHECK (state IN ('live', 'drawn up')), active BOOLEAN NOT NULL, \
             changed_by TEXT NOT NULL, changed_at TIMESTAMP NOT NULL, UNIQUE (quay, tenant, name), \
             CHECK (value NOT LIKE 'sunk%'))"
        }
    });
    base.run(
        "INSERT INTO berths (quay, tenant, name, value, state, active, changed_by, changed_at) \
         VALUES (4, 'others', 'depth', '9', 'live', '1', 'ada', '2026-01-01 00:00:00')",
    );
    base.reach.table = vec!["berths".to_owned()];
    base.reach.columns = RowColumns { scope: "quay".to_owned(), are_given: true, ..RowColumns::default() };
}

/// The rows of a quay, with what the table needs beside.
fn of_quay(quay: &str) -> RowsOf {
    let pair = |(column, text): (&str, &str)| (column.to_owned(), text.to_owned());
    let written = |(column, text): (&str, &str)| (column.to_owned(), Written::Text(text.to_owned()));
    let mut of = RowsOf {
        scope: quay.to_owned(),
        only: [("tenant", "brackwater"), ("active", "true")].map(pair).to_vec(),
        written: [("state", "drawn up"), ("changed_by", "mole")].map(written).to_vec(),
        ..RowsOf::default()
    };
    of.written.push(("changed_at".to_owned(), Written::Now));
    of
}

#[test]
fn a_table_with_columns_of_all_sorts_gets_what_it_needs_and_keeps_what_is_not_ours() {
    for mut base in Base::all() {
        let database = base.reach.database;
        of_somebody_else(&mut base);
        assert_eq!(base.rows(of_quay("4")), "", "{database:?}: others' rows are not ours");
        let first = vec![insert("depth", "7"), insert("light", "red")];
        assert_eq!(bring(vec![base.load(of_quay("4"), Held::NotThere, first)]), [Ok(())], "{database:?}");
        assert_eq!(base.rows(of_quay("4")), "depth=7 light=red", "{database:?}");
        let ours = "FROM berths WHERE tenant = 'brackwater' AND name = 'depth'";
        assert_eq!(base.told(&format!("SELECT changed_by {ours}")), "mole", "{database:?}");
        let as_text = if database == Database::MariaDb { "CHAR" } else { "TEXT" };
        let state = base.told(&format!("SELECT CAST(state AS {as_text}) {ours}"));
        assert_eq!(state, "drawn up", "{database:?}");
        let year = base.told(&format!("SELECT CAST(changed_at AS {as_text}) {ours}"));
        assert!(year.starts_with("20") && !year.starts_with("2026-01-01"), "{database:?} {year}");
        let seen = held(&[("depth", "7"), ("light", "red")]);
        let change = vec![update("depth", "8"), RowChange::Remove("light".to_owned())];
        assert_eq!(bring(vec![base.load(of_quay("4"), seen, change)]), [Ok(())], "{database:?}");
        assert_eq!(base.rows(of_quay("4")), "depth=8", "{database:?}");
        let others = base.told("SELECT value FROM berths WHERE tenant = 'others'");
        assert_eq!(others, "9", "{database:?}: what others have stays");
    }
}

#[test]
fn what_a_table_does_not_take_is_refused_by_column_and_row_and_nothing_is_written() {
    for mut base in Base::all() {
        let database = base.reach.database;
        of_somebody_else(&mut base);
        let told = |base: &Base, of: RowsOf, change: RowChange| {
            let changes = vec![insert("light", "red"), change];
            match bring(vec![base.load(of, Held::NotThere, changes)]).remove(0) {
                Err(NotBrought::Failed(reason)) => reason,
                other => panic!("{database:?} {other:?}"),
            }
        };
        let without = RowsOf { written: Vec::new(), ..of_quay("4") };
        let lacking = told(&base, without, insert("a", "b"));
        assert!(
            lacking.contains("`state`") && lacking.contains("`changed_at`") && !lacking.contains("`id`"),
            "{database:?} {lacking}"
        );
        let wrong = told(&base, of_quay("four"), insert("a", "b"));
        assert!(wrong.contains("the scope `four`") && wrong.contains("`quay`"), "{database:?} {wrong}");
        let mut truth = of_quay("4");
        truth.only[1].1 = "perhaps".to_owned();
        assert!(told(&base, truth, insert("a", "b")).contains("`active`"), "{database:?}");
        let generated =
            RowsOf { written: vec![("id".to_owned(), Written::Text("7".to_owned()))], ..of_quay("4") };
        if database == Database::Postgres {
            assert!(told(&base, generated, insert("a", "b")).contains("by the database alone"));
        }
        let sunk = told(&base, of_quay("4"), insert("depth", "sunk-at-noon"));
        assert!(sunk.starts_with("row `depth`: ") && !sunk.contains("at-noon"), "{database:?} {sunk}");
        let twice = told(&base, of_quay("4"), insert("light", "green"));
        assert!(twice.starts_with("row `light`: ") && !twice.contains("green"), "{database:?} {twice}");
        if database != Database::Sqlite {
            let long = told(&base, of_quay("4"), insert("fairway light", "1"));
            assert!(
                long.contains("`fairway light`") && long.contains("10 characters"),
                "{database:?} {long}"
            );
        }
        assert_eq!(base.rows(of_quay("4")), "", "{database:?}: nothing is written");
    }
}

/// A table of codes of somebody else's, and the rows of ours in it.
fn of_codes(base: &mut Base) -> RowsOf {
    let (number, id) = match base.reach.database {
        Database::Postgres => ("numeric(8, 2)", "id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY"),
        Database::MariaDb => ("decimal(8, 2)", "id bigint PRIMARY KEY AUTO_INCREMENT"),
        Database::Sqlite => ("DECIMAL", "id INTEGER PRIMARY KEY"),
    };
    base.run(&format!(
        "CREATE TABLE codes ({id}, company varchar(20) NOT NULL, code varchar(10) NOT NULL, \
         price {number} NOT NULL, label varchar(12), active boolean NOT NULL, UNIQUE (company, code))"
    ));
    base.run("INSERT INTO codes (company, code, price, active) VALUES ('others', 'adult', 99, '1')");
    let pair = |column: &str, text: &str| (column.to_owned(), text.to_owned());
    let table = TableOf {
        name: "fares".to_owned(),
        table: vec!["codes".to_owned()],
        key: "code".to_owned(),
        columns: vec![pair("price", "price"), pair("name", "label"), pair("on", "active")],
        only: vec![pair("company", "brackwater")],
        written: Vec::new(),
        is_needed: true,
    };
    base.reach.table = Vec::new();
    RowsOf { tables: vec![table], ..of("desk@dev") }
}

#[test]
fn a_lookup_table_is_rows_by_key_in_the_types_of_its_columns() {
    for mut base in Base::all() {
        let database = base.reach.database;
        let codes = of_codes(&mut base);
        let first = "{\"adult\":{\"name\":\"Adult\",\"on\":\"true\",\"price\":\"12.50\"},\
                     \"dog\":{\"name\":\"\",\"on\":\"false\",\"price\":\"2\"}}";
        let load = base.load(codes.clone(), Held::NotThere, vec![insert("fares", first)]);
        assert_eq!(bring(vec![load]), [Ok(())], "{database:?}");
        // As the database says it, and in the words in which it was said.
        let told = base.rows(codes.clone());
        let plain = first.replace("12.50", "12.5");
        assert_eq!(told, format!("fares={plain}"), "{database:?}");
        let said = Said(vec![[("fares".to_owned(), text(first))].into()]);
        let codes = RowsOf { said, ..codes };
        assert_eq!(base.rows(codes.clone()), format!("fares={first}"), "{database:?}");
        // What has changed of a row is changed, what went goes, and all others stay as they are, others' too.
        let id = |base: &mut Base, code: &str| {
            base.told(&format!(
                "SELECT CAST(id AS {}) FROM codes WHERE company = 'brackwater' AND code = '{code}'",
                if database == Database::MariaDb { "CHAR" } else { "TEXT" }
            ))
        };
        let adult = id(&mut base, "adult");
        let second = "{\"adult\":{\"name\":\"Adult\",\"on\":\"true\",\"price\":\"12.50\"},\"child\":{\"name\":\"\",\"on\":\"true\",\"price\":\"6\"}}";
        let load = base.load(codes.clone(), held(&[("fares", first)]), vec![update("fares", second)]);
        assert_eq!(bring(vec![load]), [Ok(())], "{database:?}");
        let said = Said(vec![[("fares".to_owned(), text(second))].into()]);
        let codes = RowsOf { said, ..codes };
        assert_eq!(base.rows(codes.clone()), format!("fares={second}"), "{database:?}");
        assert_eq!(id(&mut base, "adult"), adult, "{database:?}: the row is the same one");
        // A row that the table refuses takes all others with it, and is named.
        let bad = second.replace("\"6\"", "\"six\"").replace("child", "crew");
        let load = base.load(codes.clone(), held(&[("fares", second)]), vec![update("fares", &bad)]);
        let told = bring(vec![load]).remove(0);
        let Err(NotBrought::Failed(reason)) = told else { panic!("{database:?} {told:?}") };
        assert!(reason.contains("price of the row `crew`") && !reason.contains("six"), "{reason}");
        assert_eq!(base.rows(codes.clone()), format!("fares={second}"), "{database:?}");
        let load =
            base.load(codes.clone(), held(&[("fares", second)]), vec![RowChange::Remove("fares".to_owned())]);
        assert_eq!(bring(vec![load]), [Ok(())], "{database:?}");
        assert_eq!(base.rows(codes), "", "{database:?}");
        let others = base.told("SELECT code FROM codes WHERE company = 'others'");
        assert_eq!(others, "adult", "{database:?}: what others have stays");
    }
}

#[test]
fn where_the_answer_to_the_last_step_is_lost_nobody_says_what_came_of_it() {
    for base in [Base::postgres(), Base::mariadb()].into_iter().flatten() {
        let database = base.reach.database;
        base.reach.prepare(LIMIT).unwrap();
        let port = base.at.rsplit(':').next().unwrap().split('/').next().unwrap().to_owned();
        for (scope, when_answered, came) in [("lost@dev", false, ""), ("done@dev", true, "a=1")] {
            // The connection breaks before the server hears of the end, or before we hear that it did.
            let heard = move |said: &[u8]| {
                let ends = said.windows(6).any(|word| word == b"COMMIT");
                if ends { Heard::Stopped { passed: when_answered, closes: true } } else { Heard::Passed }
            };
            let between = relay(port.parse().unwrap(), heard).to_string();
            let at = Sent::new(Zeroizing::new(base.at.replace(&port, &between)));
            let reach = Reach::Rows(RowsReach { at, ..base.reach.clone() });
            let load = base.load(of(scope), Held::NotThere, vec![insert("a", "1")]);
            let told = bring(vec![Load { reach, ..load }]);
            assert!(matches!(&told[..], [Err(NotBrought::NotKnown(_))]), "{database:?} {scope} {told:?}");
            assert_eq!(base.rows(of(scope)), came, "{database:?} {scope}");
        }
    }
}
