//! The files of ledgers and around them, as somebody who means harm might leave them: nothing panics, nothing
//! hangs, and nothing but what the file is about comes of it.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use cledger_core::cipher::KeyScope;
use cledger_core::findings;
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::trust;
use cledger_store::daybook::{Daybook as _, SqliteDaybook, Wanted, verify};
use cledger_store::{Capture, Folder, Glance, Identity, Keys, Locked, Memory, Scope, key_path, read};
use tempfile::TempDir;

/// Reads bytes as the files of a ledger: a line `=== PATH` stands before each. What can be read is checked.
pub fn ledger(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let files = text.split("=== ").filter_map(|part| part.split_once('\n'));
    let files: BTreeMap<String, String> =
        files.map(|(path, text)| (path.trim().to_owned(), text.to_owned())).collect();
    match read(&Memory(files), &Scope::Whole) {
        Ok(ledger) => {
            let resolver = Resolver::new(&ledger, &Unfetched, &[]);
            let report = findings::check(&resolver, None, None);
            for finding in &report.findings {
                assert!(finding.place.is_none_or(|place| ledger.files.get(place.file).is_some()));
            }
            trust::of_ledger(&ledger, &Unfetched);
        }
        Err(unreadable) => assert!(!unreadable.mistakes.is_empty()),
    }
}

/// Whoever opens key files here.
pub fn identity() -> Arc<Identity> {
    static IDENTITY: OnceLock<(TempDir, Arc<Identity>)> = OnceLock::new();
    let kept = IDENTITY.get_or_init(|| {
        let folder = TempDir::new().expect("a folder");
        let identity = Identity::at(Some(folder.path().join("identity")), Arc::new(|_: &str| None));
        identity.make().expect("an identity");
        (folder, Arc::new(identity))
    });
    kept.1.clone()
}

/// The stage whose key files are tried.
pub fn scope() -> KeyScope {
    KeyScope::Stage(Name::parse("test").expect("a name"))
}

/// Opens bytes as a key file.
pub fn key_file(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let files = Memory(BTreeMap::from([(key_path(&scope()), text.to_owned())]));
    let _ = Keys::new(files, identity()).key(&scope());
}

/// Reads bytes as a capture. What can be read is written, and read again as it was.
pub fn capture(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Ok(capture) = Capture::parse(text) {
        let again = Capture::parse(&capture.to_text()).map(|again| again.to_text());
        assert_eq!(again.ok(), Some(capture.to_text()));
    }
}

/// Takes bytes as the plan of a change: nothing outside of the ledger changes by it.
pub fn change(data: &[u8]) {
    let folder = TempDir::new().expect("a folder");
    let root = folder.path().join("ledger");
    let put = |path: &str, bytes: &[u8]| {
        let path = root.join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, bytes).expect("a file");
    };
    put("shared.toml", b"one");
    std::fs::write(folder.path().join("theirs"), b"theirs").expect("a file");
    put(".cledger/change/0.before", b"one");
    put(".cledger/change/0.after", b"two");
    put(".cledger/change/plan.json", data);
    let open = Folder::open(&root).expect("a folder");
    let before = Glance::at(&open);
    assert!(before.is_same(&Glance::at(&open)));
    let _ = Locked::take(&root, Duration::ZERO);
    assert_eq!(std::fs::read(folder.path().join("theirs")).expect("a file"), b"theirs");
    assert_eq!(std::fs::read_dir(folder.path()).expect("a folder").count(), 2);
}

/// Reads bytes as an embedded daybook; the file stays as it is.
pub fn daybook(data: &[u8]) {
    let folder = TempDir::new().expect("a folder");
    let path = folder.path().join("daybook.db");
    std::fs::write(&path, data).expect("a file");
    look_into(&path);
    assert_eq!(std::fs::read(&path).expect("a file"), data);
    assert_eq!(std::fs::read_dir(folder.path()).expect("a folder").count(), 1);
}

fn look_into(path: &Path) {
    let Ok(Some(mut book)) = SqliteDaybook::read(path) else { return };
    let _ = book.opened();
    if let Ok(records) = book.records(&Wanted::default()) {
        let _ = verify(&records);
        for record in &records {
            let _ = record.packed.unpack(None, |_| None);
        }
    }
}
