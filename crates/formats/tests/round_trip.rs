//! What is written is read back as it was.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod nasty;
mod readers;

use cledger_core::json::Json as AsIs;
use cledger_core::model::{OutputFormat, OutputTable};
use cledger_core::name::Name;
use cledger_core::value::Value;
use cledger_formats::{Branch, Format, Found, Particulars, Tree, format};
use nasty::{flat, named, nasty};
use proptest::prelude::*;

const PARTICULARS: Particulars<'_> = Particulars { table: None, manifest_name: "desk", order: None };

fn of(this: OutputFormat) -> Box<dyn Format> {
    format(this, PARTICULARS).unwrap()
}

fn all_but_csv() -> impl Iterator<Item = (OutputFormat, &'static str)> {
    OutputFormat::ALL.into_iter().filter(|(this, _)| *this != OutputFormat::Csv)
}

fn quays() -> OutputTable {
    let columns = ["quay", "notice", "name"].map(str::to_owned).into();
    OutputTable { entry: Name::parse("quays").unwrap(), columns, key: "quay".to_owned() }
}

/// Anything that JSON can say.
fn as_is() -> impl Strategy<Value = AsIs> {
    let number = prop_oneof!["-?[1-9][0-9]{0,25}", "-?[1-9][0-9]{0,5}\\.[0-9]{1,24}"];
    let leaf = prop_oneof![
        Just(AsIs::Null),
        any::<bool>().prop_map(AsIs::Boolean),
        number.prop_map(|number| AsIs::Number(number.into())),
        nasty().prop_map(|text| AsIs::Text(text.into())),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(AsIs::List),
            prop::collection::btree_map("[a-z ]{0,3}", inner, 0..4).prop_map(|pairs| {
                AsIs::Object(pairs.into_iter().map(|(name, json)| (name.into(), json)).collect())
            }),
        ]
    })
}

/// A level of elements: attributes, texts beside them, levels, and lists of all these.
fn elements() -> impl Strategy<Value = Branch> {
    let text = || "[ -~]{0,5}[a-z]".prop_map(|text| Value::text(&text));
    let leaf = prop_oneof![
        3 => text().prop_map(|text| text),
        1 => (text(), text()).prop_map(|(id, text)| Value::Map([("@id".into(), id), ("#text".into(), text)].into())),
        1 => text().prop_map(|id| Value::Map([("@id".into(), id)].into())),
        1 => prop::collection::vec(text(), 2..4).prop_map(|texts| {
            Value::Json(AsIs::List(texts.iter().map(AsIs::of_value).collect()))
        }),
    ];
    let level = move |inner: BoxedStrategy<Value>| {
        let named = prop::collection::btree_map("[a-z]{1,2}", inner, 1..4);
        (named, prop::option::of(text())).prop_map(|(named, id)| {
            let mut level: Branch = named.into_iter().map(|(name, value)| (name.into(), value)).collect();
            level.extend(id.map(|id| ("@id".into(), id)));
            level
        })
    };
    let inner = leaf.boxed().prop_recursive(3, 12, 3, move |inner| {
        let one = level(inner.boxed()).prop_map(Value::Map).boxed();
        let list = prop::collection::vec(one.clone(), 2..3)
            .prop_map(|all| Value::Json(AsIs::List(all.iter().map(AsIs::of_value).collect())));
        prop_oneof![one, list]
    });
    level(inner.boxed())
}

proptest! {
    #[test]
    fn every_format_reads_what_it_wrote_or_refuses_to_write_it(values in flat()) {
        for (this, name) in all_but_csv() {
            // What is refused is left out; that little is refused is another test's matter.
            let holds = |value: &String| of(this).write(&named([value])).is_ok();
            let tree = named(values.iter().filter(|value| holds(value)));
            let text = of(this).write(&tree).unwrap();
            let read = of(this).read(&text).map(|found| found.tree);
            prop_assert!(read.as_ref() == Ok(&tree), "{}: {:?}\n{}", name, read, text);
        }
    }

    #[test]
    fn names_survive_or_are_refused(name in nasty(), below in nasty(), value in "[a-z ]{0,5}[a-z]") {
        let flat = Tree([(name.as_str().into(), Value::text(&value))].into());
        let mut nested = Tree::default();
        nested.insert(&[name, below], Value::text(&value));
        for (this, word) in all_but_csv() {
            for tree in [&flat, &nested] {
                let Ok(text) = of(this).write(tree) else { continue };
                let read = of(this).read(&text).map(|found| found.tree);
                let flattened = this.knows_text_alone() && tree == &nested && this != OutputFormat::Ini && this != OutputFormat::Xml;
                prop_assert!(flattened || read.as_ref() == Ok(tree), "{}: {:?}\n{}", word, read, text);
            }
        }
    }

    #[test]
    fn what_has_no_type_survives_or_is_refused(json in prop::collection::vec(as_is(), 1..4)) {
        let named = json.iter().enumerate().map(|(at, json)| (format!("n{at}").into(), json.clone().into_value()));
        let tree = Tree(named.collect());
        for this in [OutputFormat::Json, OutputFormat::Yaml, OutputFormat::Toml] {
            let Ok(text) = of(this).write(&tree) else {
                prop_assert!(this != OutputFormat::Json);
                continue;
            };
            let read = of(this).read(&text).map(|found| found.tree);
            prop_assert!(read.as_ref() == Ok(&tree), "{:?}: {:?}\n{}\n{}", this, read, text, AsIs::of_value(&Value::Map(tree.0.clone())));
        }
    }

    #[test]
    fn elements_survive_xml(below in elements(), root in "[a-z]{1,4}") {
        let mut tree = Tree(below);
        tree.insert(&["/element".to_owned()], Value::text(&root));
        let written = of(OutputFormat::Xml).write(&tree);
        if root.starts_with("xml") {
            // Names that start so are kept for XML itself.
            prop_assert!(written.is_err());
            return Ok(());
        }
        let text = written.unwrap();
        let read = of(OutputFormat::Xml).read(&text).map(|found| found.tree);
        if root == "settings" {
            tree.0.remove("/element");
        }
        prop_assert!(read.as_ref() == Ok(&tree), "{:?}\n{}", read, text);
    }

    #[test]
    fn manifests_survive_with_all_that_stands_beside_their_data(
        names in prop::collection::btree_map("[a-z]{1,3}", ("[a-zA-Z_.-]{1,5}", nasty(), nasty()), 1..4),
        secret in any::<bool>(),
    ) {
        let mut tree = Tree::default();
        for (at, (name, (key, value, note))) in names.iter().enumerate() {
            let id = format!("{}/{name}", if secret && at == 0 { "Secret" } else { "ConfigMap" });
            let step = |steps: &[&str]| steps.iter().map(|step| (*step).to_owned()).collect::<Vec<_>>();
            tree.insert(&step(&[&id, key]), Value::text(value));
            tree.insert(&step(&[&id, "/metadata", "annotations", "note/x"]), Value::text(note));
            tree.insert(&step(&[&id, "/metadata", "namespace"]), Value::text("quays"));
            tree.insert(&step(&[&id, "/immutable"]), Value::Boolean(true));
        }
        prop_assume!(!names.values().any(|(key, ..)| key == "." || key == ".."));
        let one = tree.0.first_key_value().map(|(id, level)| (id.clone(), level.clone()));
        let (text, wanted) = match one {
            Some((id, Value::Map(level))) if tree.0.len() == 1 => {
                let name = id.split('/').nth(1).unwrap().to_owned();
                let this = if id.starts_with("Secret") { OutputFormat::K8sSecret } else { OutputFormat::K8sConfig };
                let manifest = format(this, Particulars { manifest_name: &name, ..PARTICULARS }).unwrap();
                let text = manifest.write(&Tree(level.clone())).unwrap();
                (manifest.read(&text), Tree(level))
            }
            _ => {
                let text = of(OutputFormat::K8sConfig).write(&tree).unwrap();
                (of(OutputFormat::K8sConfig).read(&text), tree)
            }
        };
        prop_assert!(text.as_ref().map(|found| &found.tree) == Ok(&wanted), "{:?}", text);
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
        let csv = format(OutputFormat::Csv, Particulars { table: Some(&table), ..PARTICULARS }).unwrap();
        let text = csv.write(&tree).unwrap();
        prop_assert!(text.starts_with("quay,notice,name\n"));
        prop_assert!(csv.read(&text).map(|found| found.tree) == Ok(tree), "{}", text);
    }

    #[test]
    fn no_text_makes_a_reader_panic(text in nasty(), more in "\\PC{0,60}") {
        for (this, _) in OutputFormat::ALL {
            let table = quays();
            let particulars = Particulars { table: Some(&table), ..PARTICULARS };
            let _ = format(this, particulars).unwrap().read(&format!("{text}{more}"));
        }
    }

    #[test]
    fn json_says_the_line_of_every_value(values in flat(), lists in prop::collection::vec(nasty(), 0..3)) {
        let mut tree = named(&values);
        tree.insert(&["level".to_owned(), "list".to_owned()], Value::List(lists.iter().map(|text| Value::text(text)).collect()));
        let text = of(OutputFormat::Json).write(&tree).unwrap();
        let found = of(OutputFormat::Json).read(&text).unwrap();
        for (name, line) in &found.lines {
            let line = text.lines().nth(line - 1).unwrap();
            let key = format!("{}:", serde_json::to_string(name.last().unwrap()).unwrap());
            prop_assert!(line.trim_start().starts_with(&key), "{} {}", key, line);
        }
        prop_assert_eq!(found.lines.len(), values.len() + 1);
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
    for this in [OutputFormat::Json, OutputFormat::Yaml, OutputFormat::Toml] {
        let text = of(this).write(&tree).unwrap();
        assert!(of(this).read(&text).unwrap().tree == tree, "{text}");
    }
    assert!(tree.get(&steps("d.map.k")) == Some(&Value::text("v")));
}

#[test]
fn numbers_survive_to_the_last_digit() {
    for text in ["8888888888888888.8802", "0.1", "1e-300", "123456789.123456789", "-0.30000000000000004"] {
        let number: f64 = text.parse().unwrap();
        for (this, file) in [
            (OutputFormat::Json, format!("{{\"a\": {text}}}")),
            (OutputFormat::Yaml, format!("a: {text}\n")),
            (OutputFormat::Toml, format!("a = {text}\n")),
        ] {
            let found = of(this).read(&file).unwrap().tree;
            let is_as_written = found.0["a"] == Value::Json(AsIs::Number(text.into()));
            let is_held = found.0["a"] == Value::Number(number);
            assert!(is_held || is_as_written && this == OutputFormat::Json, "{this:?} {text}");
            let again = of(this).read(&of(this).write(&found).unwrap()).unwrap().tree;
            assert!(again == found, "{this:?} {text}");
        }
    }
}

#[test]
fn what_a_format_cannot_hold_or_read_is_refused_with_its_place() {
    use OutputFormat::*;
    for (this, name, value) in [
        (Dotenv, "spring.x", "1"),
        (Dotenv, "A", "a\0b"),
        (Dotenv, "1A", "1"),
        (Dotenv, "A", "it's $5"),
        (Dotenv, "A", "${B}"),
        (Dotenv, "A", "a\\\\b"),
        (Dotenv, "A", "a\r\nb"),
        (EnvPlain, "A", "two\nlines"),
        (EnvPlain, "A", " x"),
        (EnvPlain, "A", "\"x\""),
        (EnvPlain, "A", "c:\\x"),
        (Shell, "A-B", "x"),
        (Ini, "a", "two\nlines"),
        (Ini, "a", "x "),
        (Ini, "a=b", "x"),
        (Xml, "a", "bell \u{7}"),
        (K8sConfig, "a b", "x"),
    ] {
        let tree = Tree([(name.into(), Value::text(value))].into());
        assert_eq!(of(this).write(&tree).unwrap_err().name, name, "{this:?} {value}");
    }
    let unnamed = format(K8sConfig, Particulars { manifest_name: "Desk_1", ..PARTICULARS }).unwrap();
    assert_eq!(unnamed.write(&Tree::default()).unwrap_err().name, "metadata.name");
    for (this, text, line) in [
        (Dotenv, "A=1\nB='x", 2),
        (Dotenv, "A=1\n\nA=2\n", 3),
        (Dotenv, "what is this", 1),
        (Dotenv, "A=b\\ c", 1),
        (EnvPlain, "A=1\nB", 2),
        (Shell, "A=b c", 1),
        (Shell, "export A=1\nexport B=$A\n", 2),
        (Shell, "A=`id`", 1),
        (Properties, "a=\\u12", 1),
        (Properties, "# x\na=1\na=2", 3),
        (Json, "{\n\"a\": 1,\n}", 3),
        (Json, "{\"a\": 1, \"a\": 2}", 1),
        (Json, "[1]", 1),
        (Yaml, "a: 1\nb: [", 2),
        (Yaml, "a: 1\na: 2", 2),
        (Toml, "a = 1\nb = ", 2),
        (Toml, "a = 99999999999999999999", 1),
        (Ini, "[a]\nx = 1\nx = 2", 3),
        (Ini, "[a\n", 1),
        (Ini, "a = 1\nwhat\n", 2),
        (Xml, "<a>\n<b>1</a>", 2),
        (Xml, "<a>\n<b c='1'>x<d/></b></a>", 2),
        (Xml, "<a>\n<?b c?></a>", 2),
        (Xml, "<!DOCTYPE a [<!ENTITY x \"y\">]><a>&x;</a>", 1),
        (Xml, "<a>&x;</a>", 1),
        (Xml, "<a>text<b/></a>", 1),
        (Xml, "", 1),
        (K8sConfig, "kind: Secret", 1),
        (K8sSecret, "kind: Secret\ndata:\n  A: '?'", 3),
        (K8sConfig, "kind: ConfigMap\ndata:\n  A: 1", 3),
        (Csv, "name\nx", 1),
        (Csv, "name,quay\nx,a\ny\n", 3),
        (Csv, "quay\na\nb\na", 4),
    ] {
        let table = quays();
        let error = format(this, Particulars { table: Some(&table), ..PARTICULARS }).unwrap().read(text);
        let error = error.unwrap_err();
        assert_eq!(error.line, line, "{this:?} {text}: {error}");
    }
}

#[test]
fn hand_written_files_are_read_as_their_readers_do() {
    use OutputFormat::*;
    let dotenv = "# quay\nexport A=1 # one\r\nB=\"x\\\"\\$y\\n\"\nC=a b  # c\nD=\nE='#'\n";
    let shell = "# quay\nexport A=1 # one\r\nB=\"x\\\"\\$y\"'z'\nC=a\\ b\nD=\n";
    let manifest =
        "apiVersion: v1\nkind: Secret\ndata:\n  A: MQ==\nstringData:\n  B: two\nmetadata: {name: x}\n";
    for (this, text, expected) in [
        (
            Dotenv,
            dotenv,
            vec![("A", "1", 2), ("B", "x\"$y\n", 3), ("C", "a b", 4), ("D", "", 5), ("E", "#", 6)],
        ),
        (Shell, shell, vec![("A", "1", 2), ("B", "x\"$yz", 3), ("C", "a b", 4), ("D", "", 5)]),
        (EnvPlain, "#x\nA= \"1\" \n\nB=a=b#c", vec![("A", " \"1\" ", 2), ("B", "a=b#c", 4)]),
        (
            Properties,
            "a = 1\n! no\nb:x\\\n   y\nc z\n\\u0064=\\t\n",
            vec![("a", "1", 1), ("b", "xy", 3), ("c", "z", 5), ("d", "\t", 6)],
        ),
        (
            Yaml,
            "a: no\nb: 0123\nc: 12:30:45\nd: 1e3x\n",
            vec![("a", "no", 1), ("b", "0123", 2), ("c", "12:30:45", 3), ("d", "1e3x", 4)],
        ),
        (Toml, "a = 'x'\nb = 2027-01-31\n", vec![("a", "x", 1), ("b", "2027-01-31", 2)]),
        (Ini, "; x\na : 1\nb = \"q\" ; r\n", vec![("a", "1", 2), ("b", "\"q\" ; r", 3)]),
        (
            Xml,
            "<?xml version='1.0'?>\n<!-- x -->\n<settings>\n<a> 1&lt;</a><b><![CDATA[<]]>&#65;</b>\n<entry name='c d'/></settings>",
            vec![("a", " 1<", 4), ("b", "<A", 4), ("c d", "", 5)],
        ),
        (K8sSecret, manifest, vec![("A", "1", 4), ("B", "two", 6)]),
    ] {
        let found = of(this).read(text).unwrap();
        let mut wanted = Found::default();
        for (name, value, line) in expected {
            wanted.tree.0.insert(name.into(), Value::text(value));
            wanted.lines.insert(vec![name.to_owned()], line);
        }
        wanted.manifest_name = (this == K8sSecret).then(|| "x".to_owned());
        assert!(found == wanted, "{this:?} {found:?}");
    }
    for (this, text) in [(Yaml, "a: ~\nb:\n  c:\n"), (Json, "{\"a\": null, \"b\":\n\n {\"c\": null}}")] {
        let found = of(this).read(text).unwrap();
        assert_eq!(
            found.lines,
            [(vec!["a".to_owned()], 1), (vec!["b".to_owned(), "c".to_owned()], 3)].into()
        );
        assert!(found.tree.leaves().values().all(|value| **value == Value::Json(AsIs::Null)));
    }
}

#[test]
fn too_large_a_file_is_not_read() {
    let text = " ".repeat(cledger_formats::LARGEST + 1);
    for (this, _) in all_but_csv() {
        assert!(of(this).read(&text).unwrap_err().reason.contains("larger than 16 MiB"), "{this:?}");
    }
}
