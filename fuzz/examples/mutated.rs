//! Ten thousand mutations of a good file of each kind, where no fuzzer is at hand:
//! `cargo run --release --example mutated`.

use std::collections::BTreeMap;
use std::path::Path;

use cledger_fuzz::ledgers;
use cledger_store::daybook::{Daybook as _, Kind, Meta, Packed, SqliteDaybook};
use cledger_store::{Keys, Memory, Reader, key_path, make};

const COUNT: usize = 10_000;

/// What takes the bytes of a file.
type Take = fn(&[u8]);

fn main() {
    let kinds: [(&str, Vec<u8>, Take); 5] = [
        ("ledgers", demo(), ledgers::ledger),
        ("key files", key_file(), ledgers::key_file),
        ("captures", CAPTURE.as_bytes().to_vec(), ledgers::capture),
        ("changes", change(), ledgers::change),
        ("daybooks", daybook(), ledgers::daybook),
    ];
    for (name, good, take) in kinds {
        take(&good);
        let mut random = fastrand::Rng::with_seed(14);
        for _ in 0..COUNT {
            take(&mutated(&good, &mut random));
        }
        println!("{name}: {COUNT} mutations, nothing fell over");
    }
}

/// A few bytes changed, taken out, put in twice or cut off.
fn mutated(good: &[u8], random: &mut fastrand::Rng) -> Vec<u8> {
    let mut bytes = good.to_vec();
    for _ in 0..random.usize(1..6) {
        if bytes.is_empty() {
            break;
        }
        let at = random.usize(..bytes.len());
        let end = (at + random.usize(1..40)).min(bytes.len());
        let piece = bytes[at..end].to_vec();
        match random.u8(..14) {
            0..3 => bytes[at] = random.u8(..),
            3..5 => bytes[at] ^= 1 << random.u8(..8),
            5..7 => drop(bytes.drain(at..end)),
            7..9 => {
                let to = random.usize(..=bytes.len());
                bytes.splice(to..to, piece);
            }
            9 => bytes.truncate(at),
            10..12 => {
                let piece = PIECES[random.usize(..PIECES.len())];
                bytes.splice(at..at, piece.bytes());
            }
            _ => {
                let to = random.usize(..bytes.len());
                let until = (to + piece.len()).min(bytes.len());
                bytes.splice(to..until, piece);
            }
        }
    }
    bytes
}

/// What means something somewhere.
const PIECES: [&str; 15] = [
    "${", "}", "$${", "\"", "[[", "]]", "=", "../", "/etc/passwd", "\0", "\u{1b}[31m", "99999999999999999999", "-1",
    "null", "copper-1.",
];

/// The demo's ledger, a line `=== PATH` before each file.
fn demo() -> Vec<u8> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/ledger");
    let (mut text, mut open) = (String::new(), vec![root.clone()]);
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).expect("the demo") {
            let path = entry.expect("a file").path();
            if path.is_dir() {
                open.push(path);
            } else if let Ok(said) = std::fs::read_to_string(&path) {
                let name = path.strip_prefix(&root).expect("below the demo").display();
                text.push_str(&format!("=== {name}\n{said}\n"));
            }
        }
    }
    text.into_bytes()
}

fn key_file() -> Vec<u8> {
    let identity = ledgers::identity();
    let recipient = identity.recipients().expect("a public key").remove(0);
    let reader = Reader { name: "ada".parse().expect("a name"), recipient };
    let keys = Keys::new(Memory(BTreeMap::new()), identity);
    let mut made = make(&keys, &[ledgers::scope()], &[reader], None).expect("a key");
    made.remove(&key_path(&ledgers::scope())).flatten().expect("a key file").into_bytes()
}

fn change() -> Vec<u8> {
    let hash = |text: &str| blake3::hash(text.as_bytes()).to_hex();
    let (before, after) = (hash("one"), hash("two"));
    format!(r#"{{"format":2,"files":[{{"path":"shared.toml","before":"{before}","after":"{after}"}}]}}"#).into_bytes()
}

fn daybook() -> Vec<u8> {
    let folder = tempfile::TempDir::new().expect("a folder");
    let path = folder.path().join("daybook.db");
    let mut book = SqliteDaybook::open(&path).expect("a daybook");
    for number in 0..3 {
        let time = "2026-11-25T12:00:00Z".to_owned();
        let meta = Meta::new("desk", "dev", Kind::Delivered, "ada".to_owned(), &format!("x{number}"), time);
        book.record(meta, &Packed::default()).expect("a record");
    }
    drop(book);
    std::fs::read(path).expect("the daybook")
}

const CAPTURE: &str = r#"{"format":1,"ledger":"Quays","stage":"dev","taken":"2026-11-25T12:00:00Z","by":"ada","outlets":[
{"name":"files","kind":"directory","unknown":["old"],"units":{"desk":{"state":"there","version":"3.1","files":[
{"path":"desk.env","format":"dotenv","values":[{"name":["HOLD"],"open":"5m"},{"name":["PIN"],"sealed":"copper-1.AAAA"},
{"name":["DB","URL"],"fingerprint":"ab12-cd34"},{"name":["X"],"left-out":true}]},
{"path":"x","format":"template","trouble":"it is not there"}]},"gate":{"state":"not-there"},
"kiosk":{"state":"not-known","reason":"no answer"}}}]}"#;
