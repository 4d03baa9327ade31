//! The usual readers of each format read what is written here, and what they write is read here.

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use cledger_core::model::OutputFormat;
use cledger_core::value::Value;
use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use super::nasty::{flat, named, table};
use super::of;

/// A program that reads a file of a format.
struct Reader {
    of: OutputFormat,
    program: &'static str,
    /// What must be there for it, beside the program itself.
    needs: &'static [&'static str],
    /// Its arguments; `FILE` and `COUNT` stand for the file and the number of values. It prints the
    /// values of `NAME_0`, `NAME_1`, … as a JSON list.
    arguments: &'static [&'static str],
    /// The section that the names are in, if they must be in one.
    section: Option<&'static str>,
}

macro_rules! python {
    ($read:literal) => {
        &[
            "-c",
            concat!(
                "import json, sys\n",
                $read,
                "\nprint(json.dumps([d[f'NAME_{n}'] for n in range(int(sys.argv[2]))]))"
            ),
            "FILE",
            "COUNT",
        ]
    };
}

const FROM_ENVIRONMENT: &str =
    "import json, os, sys; print(json.dumps([os.environ[f'NAME_{n}'] for n in range(int(sys.argv[1]))]))";

const fn reader(
    of: OutputFormat,
    program: &'static str,
    needs: &'static [&'static str],
    arguments: &'static [&'static str],
) -> Reader {
    Reader { of, program, needs, arguments, section: None }
}

const fn in_section(section: &'static str, reader: Reader) -> Reader {
    Reader { section: Some(section), ..reader }
}

const READERS: [Reader; 16] = [
    reader(
        OutputFormat::Dotenv,
        "bash",
        &["python3"],
        &["-c", "set -a; . \"$1\"; exec python3 -c \"$3\" \"$2\"", "bash", "FILE", "COUNT", FROM_ENVIRONMENT],
    ),
    reader(
        OutputFormat::Dotenv,
        "node",
        &[],
        &[
            "-e",
            "const e = process.env; console.log(JSON.stringify([...Array(+process.argv[1]).keys()].map(n => e['NAME_' + n])))",
            "--",
            "COUNT",
        ],
    ),
    reader(
        OutputFormat::Dotenv,
        "python3",
        &["dotenv"],
        python!("from dotenv import dotenv_values; d = dotenv_values(sys.argv[1])"),
    ),
    reader(
        OutputFormat::Shell,
        "bash",
        &["python3"],
        &["-c", ". \"$1\"; exec python3 -c \"$3\" \"$2\"", "bash", "FILE", "COUNT", FROM_ENVIRONMENT],
    ),
    reader(
        OutputFormat::Shell,
        "sh",
        &["python3"],
        &["-c", ". \"$1\"; exec python3 -c \"$3\" \"$2\"", "sh", "FILE", "COUNT", FROM_ENVIRONMENT],
    ),
    reader(
        OutputFormat::EnvPlain,
        "python3",
        &[],
        python!("d = dict(l.removesuffix('\\n').split('=', 1) for l in open(sys.argv[1], newline='\\n'))"),
    ),
    reader(
        OutputFormat::EnvPlain,
        "python3",
        &[],
        python!(
            r#"
# systemd's rules, as systemd.exec(5) tells them for EnvironmentFile=
d = {}
for line in open(sys.argv[1], newline='\n').read().split('\n'):
    if not line.strip(' \t') or line.lstrip(' \t')[0] in '#;': continue
    name, value = line.split('=', 1)
    value = value.strip(' \t')
    if value[:1] in ('"', "'") or '\\' in value: sys.exit('quoted or escaped')
    d[name] = value"#
        ),
    ),
    reader(OutputFormat::Json, "python3", &[], python!("d = json.load(open(sys.argv[1]))")),
    reader(
        OutputFormat::Json,
        "jq",
        &[],
        &["-c", "[to_entries | sort_by(.key | ltrimstr(\"NAME_\") | tonumber)[] | .value]", "FILE"],
    ),
    reader(
        OutputFormat::Yaml,
        "python3",
        &["yaml"],
        python!("import yaml; d = yaml.safe_load(open(sys.argv[1], newline=''))"),
    ),
    reader(
        OutputFormat::Toml,
        "python3",
        &[],
        python!("import tomllib; d = tomllib.load(open(sys.argv[1], 'rb'))"),
    ),
    in_section(
        "s",
        reader(
            OutputFormat::Ini,
            "python3",
            &[],
            python!(
                "import configparser\np = configparser.ConfigParser(interpolation=None); p.optionxform = str; p.read(sys.argv[1]); d = p['s']"
            ),
        ),
    ),
    reader(
        OutputFormat::Xml,
        "python3",
        &[],
        python!(
            "import xml.etree.ElementTree as x\nd = {e.tag: e.text or '' for e in x.parse(sys.argv[1]).getroot()}"
        ),
    ),
    reader(
        OutputFormat::Xml,
        "bash",
        &["xmllint", "python3"],
        &[
            "-c",
            "xmllint --noout \"$1\" && python3 -c \"$3\" <(xmllint \"$1\") \"$2\"",
            "bash",
            "FILE",
            "COUNT",
            "import json, sys\nimport xml.etree.ElementTree as x\nd = {e.tag: e.text or '' for e in x.parse(sys.argv[1]).getroot()}\nprint(json.dumps([d[f'NAME_{n}'] for n in range(int(sys.argv[2]))]))",
        ],
    ),
    reader(
        OutputFormat::K8sConfig,
        "python3",
        &["yaml"],
        python!("import yaml; d = yaml.safe_load(open(sys.argv[1]))['data']"),
    ),
    reader(
        OutputFormat::K8sSecret,
        "python3",
        &["yaml"],
        python!(
            "import yaml, base64; d = {n: base64.b64decode(v).decode() for n, v in yaml.safe_load(open(sys.argv[1]))['data'].items()}"
        ),
    ),
];

/// Whether a program, or a module of Python, is there. In CI it must be.
fn is_there(name: &str) -> bool {
    let module = ["dotenv", "yaml"].contains(&name);
    let mut command = if module { Command::new("python3") } else { Command::new("sh") };
    let command = if module {
        command.args(["-c", &format!("import {name}")])
    } else {
        command.args(["-c", &format!("command -v {name}")])
    };
    let found =
        command.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|status| status.success());
    assert!(found || std::env::var_os("CI").is_none(), "{name} is not installed");
    found
}

fn read_by(reader: &Reader, values: &[String], folder: &Path) -> Vec<String> {
    let mut tree = named(values);
    if let Some(section) = reader.section {
        tree.0 = [(section.into(), Value::Map(tree.0))].into();
    }
    let file = folder.join("file");
    fs::write(&file, of(reader.of).write(&tree).unwrap()).unwrap();
    let file = file.to_str().unwrap();
    let count = values.len().to_string();
    let mut command = Command::new(reader.program);
    if reader.program == "node" {
        command.arg(format!("--env-file={file}"));
    }
    command.args(reader.arguments.iter().map(|argument| match *argument {
        "FILE" => file,
        "COUNT" => &count,
        other => other,
    }));
    let output = command.output().unwrap();
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{} of {:?}: {err}", reader.program, reader.of);
    let read = serde_json::from_str(&out);
    assert!(read.is_ok(), "{} of {:?}: {out}", reader.program, reader.of);
    read.unwrap()
}

fn held(this: OutputFormat, values: Vec<String>) -> Vec<String> {
    let holds = |value: &String| of(this).write(&named([value])).is_ok();
    values.into_iter().filter(holds).collect()
}

fn reads_what_was_written(reader: &Reader) {
    let folder = tempfile::tempdir().unwrap();
    if !is_there(reader.program) || !reader.needs.iter().all(|name| is_there(name)) {
        return;
    }
    let values = held(reader.of, table());
    assert!(values.len() > 30, "{:?} refuses too much: it holds {values:?}", reader.of);
    assert_eq!(read_by(reader, &values, folder.path()), values, "{} of {:?}", reader.program, reader.of);
    let mut runner = TestRunner::new(ProptestConfig::with_cases(12));
    let several = prop::collection::vec(flat(), 10);
    let ran = runner.run(&several, |several| {
        let values = held(reader.of, several.concat());
        let read = read_by(reader, &values, folder.path());
        prop_assert_eq!(read, values, "{} of {:?}", reader.program, reader.of);
        Ok(())
    });
    ran.unwrap();
}

#[test]
fn the_usual_readers_read_what_was_written() {
    // They are waited for most of the time.
    std::thread::scope(|scope| {
        for reader in &READERS {
            scope.spawn(|| reads_what_was_written(reader));
        }
    });
}

#[test]
fn java_reads_the_properties() {
    if !is_there("java") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let values = table();
    let text = of(OutputFormat::Properties).write(&named(&values)).unwrap();
    fs::write(folder.path().join("file"), text).unwrap();
    let source = "import java.util.*; import java.io.*; public class Read { public static void main(String[] a) \
        throws Exception { Properties p = new Properties(); p.load(new FileInputStream(a[0])); \
        StringBuilder s = new StringBuilder(); for (int n = 0; n < p.size(); n++) { \
        for (char c : p.getProperty(\"NAME_\" + n).toCharArray()) s.append(String.format(\"%04x\", (int) c)); \
        s.append('\\n'); } System.out.print(s); \
        Properties q = new Properties(); q.putAll(p); q.store(new FileOutputStream(a[1]), \"by java\"); } }";
    fs::write(folder.path().join("Read.java"), source).unwrap();
    let output =
        Command::new("java").args(["Read.java", "file", "back"]).current_dir(&folder).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let lines = String::from_utf8(output.stdout).unwrap();
    let read = lines.lines().map(|line| {
        let units =
            line.as_bytes().chunks(4).map(|unit| u16::from_str_radix(std::str::from_utf8(unit).unwrap(), 16));
        String::from_utf16(&units.map(Result::unwrap).collect::<Vec<_>>()).unwrap()
    });
    assert_eq!(read.collect::<Vec<_>>(), values);
    // And what Java wrote is read here.
    let back = fs::read_to_string(folder.path().join("back")).unwrap();
    assert!(of(OutputFormat::Properties).read(&back).unwrap().tree == named(&values));
}

/// Programs that write a file of a format from a JSON object on their input.
const WRITERS: [(OutputFormat, &str, &[&str], &[&str]); 6] = [
    (
        OutputFormat::Json,
        "python3",
        &[],
        &["-c", "import json, sys; json.dump(json.load(sys.stdin), sys.stdout)"],
    ),
    (OutputFormat::Json, "jq", &[], &["."]),
    (
        OutputFormat::Yaml,
        "python3",
        &["yaml"],
        &[
            "-c",
            "import json, sys, yaml; yaml.safe_dump(json.load(sys.stdin), sys.stdout, default_style='\"')",
        ],
    ),
    (
        OutputFormat::Shell,
        "bash",
        &["jq"],
        &["-c", "jq -r 'to_entries[] | \"export \\(.key)=\\(.value | @sh)\"'"],
    ),
    (
        OutputFormat::Xml,
        "python3",
        &[],
        &[
            "-c",
            "import json, sys, xml.etree.ElementTree as x\nr = x.Element('app')\nfor n, v in json.load(sys.stdin).items(): x.SubElement(r, n).text = v\nsys.stdout.write(x.tostring(r, 'unicode').replace('\\r', '&#13;'))",
        ],
    ),
    (
        OutputFormat::K8sSecret,
        "python3",
        &["yaml"],
        &[
            "-c",
            "import base64, json, sys, yaml; d = json.load(sys.stdin); yaml.safe_dump({'kind': 'Secret', 'data': {n: base64.b64encode(v.encode()).decode() for n, v in d.items()}}, sys.stdout)",
        ],
    ),
];

#[test]
fn what_the_usual_writers_write_is_read_here() {
    for (this, program, needs, arguments) in WRITERS {
        if !is_there(program) || !needs.iter().all(|name| is_there(name)) {
            continue;
        }
        let values = held(this, table());
        let tree = named(&values);
        let mut child = Command::new(program)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let json = Value::Map(tree.0.clone()).to_json().to_string();
        child.stdin.take().unwrap().write_all(json.as_bytes()).unwrap();
        let out = child.wait_with_output().unwrap();
        let text = String::from_utf8(out.stdout).unwrap();
        let read =
            of(this).read(&text).unwrap_or_else(|error| panic!("{program} of {this:?}: {error}\n{text}"));
        for (name, value) in &tree.0 {
            let (value, read) = (value.to_text(), read.tree.0[name].to_text());
            assert_eq!(read, value, "{program} of {this:?}");
        }
    }
}
