//! What tables will say to a change: seen before it is made, and just what they then say.

use std::collections::BTreeMap;
use std::time::Duration;

use cledger_core::delivery::{RowChange, row_changes};
use cledger_core::model::{Database, RowColumns};
use cledger_outlets::Foreseen;
use cledger_outlets::bring::{NotBrought, bring};
use cledger_outlets::held::{Held, RowsOf, TableOf, Values};
use cledger_outlets::reach::{RowsReach, Sent};
use proptest::prelude::*;

use crate::rows::{Base, text};

const LIMIT: Duration = Duration::from_secs(60);

/// Two tables of ours that refer to each other and to themselves, in which others have rows, and one of others that
/// refers to ours.
fn harbour(base: &mut Base) -> RowsOf {
    let engine = if base.reach.database == Database::MariaDb { " ENGINE=InnoDB" } else { "" };
    for table in [
        "quays (code integer PRIMARY KEY, company varchar(10) NOT NULL, depth integer)",
        "berths (code integer PRIMARY KEY, company varchar(10) NOT NULL, quay integer, \
         name varchar(10) NOT NULL UNIQUE, beside integer, FOREIGN KEY (quay) REFERENCES quays (code), \
         FOREIGN KEY (beside) REFERENCES berths (code))",
        "sailings (id integer PRIMARY KEY, berth integer, FOREIGN KEY (berth) REFERENCES berths (code) \
         ON DELETE CASCADE)",
    ] {
        base.run(&format!("CREATE TABLE {table}{engine}"));
    }
    base.run(
        "INSERT INTO quays (code, company, depth) VALUES (9, 'others', 4)
         INSERT INTO berths (code, company, quay, name) VALUES (9, 'others', 9, 'north')",
    );
    base.reach.table = Vec::new();
    let pair = |column: &str, text: &str| (column.to_owned(), text.to_owned());
    let table = |name: &str, columns: &[&str]| TableOf {
        name: name.to_owned(),
        table: vec![name.to_owned()],
        key: "code".to_owned(),
        columns: columns.iter().map(|column| pair(column, column)).collect(),
        only: vec![pair("company", "brackwater")],
        written: Vec::new(),
        is_needed: true,
    };
    RowsOf {
        scope: "desk".to_owned(),
        tables: vec![table("berths", &["quay", "name", "beside"]), table("quays", &["depth"])],
        ..RowsOf::default()
    }
}

/// The rows of both tables: `1 quay name beside` and `1` for each, with `-` for nothing.
fn values(berths: &[&str], quays: &[&str]) -> Values {
    let rows = |rows: &[&str], names: &[&str]| {
        let cell = |text: &str| if text == "-" { String::new() } else { text.to_owned() };
        let row = |row: &&str| {
            let mut cells = row.split(' ');
            let key = cells.next().unwrap().to_owned();
            let cells = names.iter().zip(cells.map(cell).chain(["4".to_owned()]));
            (key, cells.map(|(name, text)| ((*name).to_owned(), text)).collect::<BTreeMap<_, _>>())
        };
        serde_json::to_string(&rows.iter().map(row).collect::<BTreeMap<_, _>>()).unwrap()
    };
    let tables = [("berths", rows(berths, &["quay", "name", "beside"])), ("quays", rows(quays, &["depth"]))];
    let tables = tables.into_iter().filter(|(_, rows)| rows != "{}");
    tables.map(|(name, rows)| (name.to_owned(), text(&rows))).collect()
}

fn held(values: &Values) -> Held {
    if values.is_empty() { Held::NotThere } else { Held::Rows(values.clone()) }
}

/// Foresees what becomes of a change, makes it, and gives both.
fn tried(base: &Base, of: &RowsOf, from: &Values, to: &Values) -> (Foreseen, Result<(), NotBrought>) {
    let changes: Vec<RowChange> = row_changes(from, to);
    let foreseen = base.reach.foresee(of, from, &changes, LIMIT).unwrap();
    let brought = bring(vec![base.load(of.clone(), held(from), changes)]).remove(0);
    (foreseen, brought)
}

#[test]
fn what_other_rows_and_tables_say_to_a_change_is_seen_before_it_is_made() {
    for mut base in Base::all() {
        let database = base.reach.database;
        let of = harbour(&mut base);
        // Berths come by name before the quays that they need, and 1 needs 2.
        let first = values(&["1 1 east 2", "2 1 west -", "3 - south -"], &["1", "2"]);
        assert_eq!(tried(&base, &of, &Values::new(), &first), (Foreseen::default(), Ok(())), "{database:?}");
        base.run("INSERT INTO sailings (id, berth) VALUES (1, 1)");
        let all = ["1 1 east 2", "2 1 west -", "3 - south -"];
        for (berths, quays, refused) in [
            (
                &["1 1 east 2", "2 1 north -", "3 - south -"][..],
                &["1", "2"][..],
                "`berths`, row `2`: another row of",
            ),
            (
                &["1 1 dove 2", "2 1 dove -", "3 - south -"],
                &["1", "2"],
                "it is to have the same in `name` as",
            ),
            (&["1 1 west 2", "2 1 east -", "3 - south -"], &["1", "2"], "`berths`, row `1`: another row of"),
            (
                &["1 7 east 2", "2 1 west -", "3 - south -"],
                &["1", "2"],
                "quays` has no row for what is to be in `quay`",
            ),
            (
                &["1 1 east 8", "2 1 west -", "3 - south -"],
                &["1", "2"],
                "berths` has no row for what is to be in `beside`",
            ),
            (&all, &["2"], "`quays`, row `1`: rows of"),
            (
                &["1 1 east 2", "2 1 west -", "3 2 south -"],
                &["1"],
                "`quays`, row `2`: `berths`, row `3` is to refer to it in `quay`",
            ),
            (&[all[0], all[1], all[2], "9 1 mole -"], &["1", "2"], "`berths`, row `9`: another row of"),
        ] {
            let (foreseen, brought) = tried(&base, &of, &first, &values(berths, quays));
            let told = foreseen.refused.unwrap_or_default();
            assert!(told.contains(refused), "{database:?} {berths:?} {quays:?}: {told}");
            assert!(foreseen.not_asked.is_empty(), "{database:?} {:?}", foreseen.not_asked);
            assert!(matches!(brought, Err(NotBrought::Failed(_))), "{database:?} {told} {brought:?}");
        }
        if database == Database::Postgres {
            base.run(
                "CREATE ROLE teller LOGIN PASSWORD 'tide-1'
                 GRANT CONNECT ON DATABASE berths TO teller
                 GRANT SELECT ON berths, quays TO teller",
            );
            let at = Sent::new(text(&base.at.replace("keeper@", "teller@")));
            let reach = RowsReach { at, ..base.reach.clone() };
            let changes = row_changes(&first, &values(&all[..2], &["1", "2"]));
            let Foreseen { refused, not_asked } = reach.foresee(&of, &first, &changes, LIMIT).unwrap();
            assert!(
                refused.is_none() && not_asked.len() == 1 && not_asked[0].contains("sailings"),
                "{not_asked:?}"
            );
        }
        // The database would take other rows along with it, which are nobody's here.
        let changes = row_changes(&first, &values(&all[1..], &["1", "2"]));
        let told = base.reach.foresee(&of, &first, &changes, LIMIT).unwrap().refused.unwrap_or_default();
        assert!(
            told.contains("`berths`, row `1`: rows of") && told.contains("sailings"),
            "{database:?} {told}"
        );
    }
}

#[test]
fn keys_of_several_columns_count_and_what_is_for_some_rows_alone_is_left_to_the_database() {
    for mut base in Base::all() {
        let database = base.reach.database;
        base.run(
            "CREATE TABLE allowed (part varchar(20), name varchar(20), PRIMARY KEY (part, name))
             CREATE TABLE options (part varchar(20) NOT NULL, name varchar(20) NOT NULL, value varchar(20) NOT NULL, \
             PRIMARY KEY (part, name), FOREIGN KEY (part, name) REFERENCES allowed (part, name))
             INSERT INTO allowed VALUES ('desk', 'hold'), ('desk', 'light'), ('gate', 'speed')",
        );
        base.run(match database {
            Database::MariaDb => "CREATE UNIQUE INDEX starts ON options (value(2))",
            _ => "CREATE UNIQUE INDEX of_gates ON options (value) WHERE part = 'gate'",
        });
        base.reach.table = vec!["options".to_owned()];
        base.reach.columns =
            RowColumns { scope: "part".to_owned(), are_given: true, ..RowColumns::default() };
        let of = RowsOf { scope: "desk".to_owned(), ..RowsOf::default() };
        let values = |pairs: &[(&str, &str)]| -> Values {
            pairs.iter().map(|(name, value)| ((*name).to_owned(), text(value))).collect()
        };
        let (foreseen, brought) = tried(&base, &of, &Values::new(), &values(&[("speed", "5")]));
        let told = foreseen.refused.unwrap_or_default();
        assert!(told.contains("row `speed`: `") && told.contains("in `part`, `name`"), "{database:?} {told}");
        assert!(matches!(brought, Err(NotBrought::Failed(_))), "{database:?} {brought:?}");
        // An index of beginnings, or of rows that these are not, is no reason to refuse a change.
        let alike =
            values(&[("hold", "55"), ("light", if database == Database::MariaDb { "551" } else { "55" })]);
        let (foreseen, brought) = tried(&base, &of, &Values::new(), &alike);
        assert_eq!(foreseen, Foreseen::default(), "{database:?}");
        assert_eq!(brought.is_ok(), database != Database::MariaDb, "{database:?} {brought:?}");
    }
}

/// A berth of ours: its quay, its name and the one beside it.
fn berth() -> impl Strategy<Value = Option<(u8, u8, u8)>> {
    prop_oneof![1 => Just(None), 3 => (0..4_u8, 0..4_u8, 0..4_u8).prop_map(Some)]
}

fn state() -> impl Strategy<Value = Values> {
    (proptest::array::uniform3(berth()), proptest::array::uniform3(any::<bool>())).prop_map(
        |(berths, quays)| {
            let number = |number: u8| if number == 0 { "-".to_owned() } else { number.to_string() };
            let berths = berths.iter().zip(1..).filter_map(|(berth, code)| {
                let (quay, name, beside) = (*berth)?;
                let name = ["north", "east", "south", "west"][usize::from(name)];
                Some(format!("{code} {} {name} {}", number(quay), number(beside)))
            });
            let berths: Vec<String> = berths.collect();
            let quays =
                quays.iter().zip(1..).filter(|(is_there, _)| **is_there).map(|(_, code)| code.to_string());
            let quays: Vec<String> = quays.collect();
            let strs =
                |of: &[String]| -> Vec<&'static str> { of.iter().map(|it| &*it.clone().leak()).collect() };
            values(&strs(&berths), &strs(&quays))
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn what_is_foreseen_is_what_becomes_of_it(first in state(), second in state()) {
        let mut base = Base::sqlite();
        let of = harbour(&mut base);
        let mut seen = Values::new();
        for next in [first, second] {
            let (foreseen, brought) = tried(&base, &of, &seen, &next);
            prop_assert_eq!(foreseen.refused.is_none(), brought.is_ok(), "{:?} {:?}", foreseen, brought);
            if brought.is_ok() {
                seen = next;
            }
        }
    }
}
