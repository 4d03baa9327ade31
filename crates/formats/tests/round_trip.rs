//! What is written is read back as it was, here and by the real readers.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::io::Write as _;
use std::process::{Command, Stdio};

use cledger_core::model::{OutputFormat, OutputTable};
use cledger_core::name::Name;
use cledger_core::value::Value;
use cledger_formats::{Tree, format};
use proptest::prelude::*;

/// Text with everything in it that formats trip over.
fn nasty() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just("'".to_owned()),
        Just("\"".to_owned()),
        Just("\n".to_owned()),
        Just("\r\n".to_owned()),
        Just("#".to_owned()),
        Just("=".to_owned()),
        Just("$".to_owned()),
        Just("${x}".to_owned()),
        Just("\\".to_owned()),
        Just("\\n".to_owned()),
        Just("`id`".to_owned()),
        Just(" ".to_owned()),
        Just("\t".to_owned()),
        Just(": ".to_owned()),
        Just(" #".to_owned()),
        Just("- ".to_owned()),
        Just("ü".to_owned()),
        Just("潮".to_owned()),
        Just("🚢".to_owned()),
        Just("\u{85}".to_owned()),
        Just("\u{2028}".to_owned()),
        Just("\u{feff}".to_owned()),
        Just("no".to_owned()),
        Just("0123".to_owned()),
        Just("12:30:45".to_owned()),
        Just("1e3".to_owned()),
        Just("~".to_owned()),
        "[ -~]{0,6}",
    ];
    prop::collection::vec(piece, 0..6).prop_map(|pieces| pieces.concat())
}

fn flat() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec(nasty(), 1..5)
}

fn tree(values: &[String]) -> Tree {
    let named = values.iter().enumerate();
    Tree(named.map(|(at, text)| (format!("NAME_{at}").into(), Value::text(text))).collect())
}

fn quays() -> OutputTable {
    let columns = ["quay", "notice", "name"].map(str::to_owned).into();
    OutputTable { entry: Name::parse("quays").unwrap(), columns, key: "quay".to_owned() }
}

proptest! {
    #[test]
    fn every_format_reads_what_it_wrote(values in flat()) {
        let tree = tree(&values);
        for (this, name) in OutputFormat::ALL.into_iter().filter(|(this, _)| *this != OutputFormat::Csv) {
            let text = format(this, None).write(&tree).unwrap();
            let read = format(this, None).read(&text);
            prop_assert!(read.as_ref() == Ok(&tree), "{}: {:?}\n{}", name, read, text);
        }
    }

    #[test]
    fn names_of_properties_survive(name in nasty(), value in nasty()) {
        let tree = Tree([(name.as_str().into(), Value::text(&value))].into());
        let properties = format(OutputFormat::Properties, None);
        prop_assert!(properties.read(&properties.write(&tree).unwrap()) == Ok(tree));
    }

    #[test]
    fn rows_survive_csv(cells in prop::collection::vec((nasty(), nasty()), 1..5)) {
        let row = |at: usize, (one, two): (String, String)| {
            let key = format!("row {at}");
            let cells = [("quay", key.as_str()), ("notice", one.as_str()), ("name", two.as_str())];
            let cells = cells.map(|(column, cell)| (column.into(), Value::text(cell)));
            (key.as_str().into(), Value::Map(cells.into()))
        };
        let rows = cells.into_iter().enumerate().map(|(at, cells)| row(at, cells)).collect();
        let tree = Tree([("quays".into(), Value::Map(rows))].into());
        let table = quays();
        let csv = format(OutputFormat::Csv, Some(&table));
        let text = csv.write(&tree).unwrap();
        prop_assert!(text.starts_with("quay,notice,name\n"));
        prop_assert!(csv.read(&text) == Ok(tree), "{}", text);
    }

    #[test]
    fn no_text_makes_a_reader_panic(text in nasty(), more in "\\PC{0,60}") {
        for (this, _) in OutputFormat::ALL {
            let table = quays();
            let _ = format(this, Some(&table)).read(&format!("{text}{more}"));
        }
    }
}

#[test]
fn types_survive_where_the_format_has_them() {
    let list = Value::List(vec![Value::text("a"), Value::text("no")]);
    let map = Value::Map([("k".into(), Value::text("v"))].into());
    let mut tree = Tree::default();
    let steps = |text: &str| text.split('.').map(str::to_owned).collect::<Vec<_>>();
    for (name, value) in [
        ("a", Value::Integer(-3)),
        ("b", Value::Number(2.0)),
        ("c", Value::Boolean(true)),
        ("d.list", list),
        ("d.map", map),
        ("e", Value::text("true")),
    ] {
        tree.insert(&steps(name), value);
    }
    for this in [OutputFormat::Json, OutputFormat::Yaml] {
        let text = format(this, None).write(&tree).unwrap();
        assert!(format(this, None).read(&text) == Ok(tree.clone()), "{text}");
    }
    assert!(tree.get(&steps("d.map.k")) == Some(&Value::text("v")));
}

#[test]
fn what_a_format_cannot_hold_or_read_is_refused_with_its_place() {
    let dotenv = format(OutputFormat::Dotenv, None);
    for (name, value) in [("spring.x", "1"), ("A", "a\0b"), ("1A", "1")] {
        let tree = Tree([(name.into(), Value::text(value))].into());
        assert_eq!(dotenv.write(&tree).unwrap_err().name, name);
    }
    for (this, text, line) in [
        (OutputFormat::Dotenv, "A=1\nB='x", 2),
        (OutputFormat::Dotenv, "A=1\n\nA=2\n", 3),
        (OutputFormat::Dotenv, "what is this", 1),
        (OutputFormat::Dotenv, "A=b c", 1),
        (OutputFormat::Properties, "a=\\u12", 1),
        (OutputFormat::Properties, "# x\na=1\na=2", 3),
        (OutputFormat::Json, "{\n\"a\": 1,\n}", 3),
        (OutputFormat::Json, "{\"a\": 1, \"a\": 2}", 1),
        (OutputFormat::Json, "[1]", 1),
        (OutputFormat::Yaml, "a: 1\nb: [", 2),
        (OutputFormat::Csv, "name\nx", 1),
        (OutputFormat::Csv, "name,quay\nx,a\ny\n", 3),
        (OutputFormat::Csv, "quay\na\nb\na", 4),
    ] {
        let table = quays();
        let error = format(this, Some(&table)).read(text).unwrap_err();
        assert_eq!(error.line, line, "{text}: {error}");
    }
}

#[test]
fn hand_written_files_are_read_as_their_readers_do() {
    let dotenv = "# quay\nexport A=1 # one\r\nB=\"x\\\"\\$y\"'z'\nC=a\\ b\nD=\n";
    let properties = "a = 1\n! no\nb:x\\\n   y\nc z\n\\u0064=\\t\n";
    for (this, text, expected) in [
        (OutputFormat::Dotenv, dotenv, vec![("A", "1"), ("B", "x\"$yz"), ("C", "a b"), ("D", "")]),
        (OutputFormat::Properties, properties, vec![("a", "1"), ("b", "xy"), ("c", "z"), ("d", "\t")]),
        (
            OutputFormat::Yaml,
            "a: no\nb: 0123\nc: 12:30:45\n",
            vec![("a", "no"), ("b", "0123"), ("c", "12:30:45")],
        ),
    ] {
        let expected = Tree(expected.iter().map(|(n, v)| ((*n).into(), Value::text(v))).collect());
        assert!(format(this, None).read(text) == Ok(expected), "{text}");
    }
}

/// Runs a program that prints, for `NAME_0` to `NAME_n`, each value and a NUL.
fn read_by(program: &str, arguments: &[&str], text: &str) -> Vec<String> {
    let mut child =
        Command::new(program).args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let out = child.wait_with_output().unwrap();
    assert!(out.status.success(), "{program}");
    let text = String::from_utf8(out.stdout).unwrap();
    text.split_terminator('\0').map(str::to_owned).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn a_shell_reads_what_dotenv_wrote(values in flat()) {
        let found = std::path::Path::new("/bin/bash").exists();
        prop_assert!(found || std::env::var_os("CI").is_none(), "bash is not installed");
        if !found {
            return Ok(());
        }
        let text = format(OutputFormat::Dotenv, None).write(&tree(&values)).unwrap();
        let script = format!(
            ". /dev/stdin; for n in $(seq 0 {}); do v=NAME_$n; printf '%s\\0' \"${{!v}}\"; done",
            values.len() - 1
        );
        prop_assert_eq!(read_by("bash", &["-c", &script], &text), values);
    }
}
