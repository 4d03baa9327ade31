//! Where the chain of the daybook is held fast outside of it, so that a tail that was cut off or a chain that was
//! made anew is noticed: what this user has seen last, and, where the ledger asks for it, a file in the ledger with
//! one line for each record.

use std::collections::BTreeSet;
use std::path::Path;

use cledger_store::daybook::{Daybook, Record};
use cledger_store::{Folder, Links, Mode, SeenRecord};

use crate::opened::Opened;
use crate::trouble::Trouble;

/// The file in the ledger's folder, a line `PLACE HASH` for each record. Lines of two branches are merged by
/// keeping both.
pub(crate) const ANCHORS: &str = "anchors.txt";

/// The largest such file, in bytes.
const LARGEST: u64 = 64 << 20;

/// Refuses a daybook that does not hold the record that was last seen here.
pub(crate) fn refuse_torn(opened: &Opened, book: &mut dyn Daybook) -> Result<(), Trouble> {
    match torn(opened, book)? {
        None => Ok(()),
        Some(torn) => {
            Err(Trouble::refused(format!("the daybook is not the one that was used before: {torn}"))
                .help("take it back from a backup; or, if this one is meant: cledger trust --daybook"))
        }
    }
}

/// What the daybook lacks of what was seen of it, if anything.
pub(crate) fn torn(opened: &Opened, book: &mut dyn Daybook) -> Result<Option<String>, Trouble> {
    let remembered = opened.at.state.recall(&opened.folder, &opened.ledger.name)?;
    let seen = remembered.and_then(|remembered| remembered.daybook);
    if let Some(SeenRecord { place, hash }) = seen
        && let Some(torn) = lacking(book, place, &hash, "was seen here")?
    {
        return Ok(Some(torn));
    }
    for (place, hash) in in_file(opened)? {
        if let Some(torn) = lacking(book, place, &hash, &format!("stands in {ANCHORS}"))? {
            return Ok(Some(torn));
        }
    }
    Ok(None)
}

fn lacking(book: &mut dyn Daybook, place: u64, hash: &str, whence: &str) -> Result<Option<String>, Trouble> {
    Ok(match book.link(Some(place))? {
        Some((_, there)) if there == hash => None,
        Some(_) => Some(format!("record {place} is another one than {whence}")),
        None => Some(format!("record {place}, which {whence}, is not in it")),
    })
}

/// What stands in the ledger's file; nothing where there is none.
fn in_file(opened: &Opened) -> Result<BTreeSet<(u64, String)>, Trouble> {
    if !opened.ledger.anchors {
        return Ok(BTreeSet::new());
    }
    let wrong = |reason: String| Trouble::usage(format!("`{ANCHORS}` cannot be read: {reason}"));
    let folder = Folder::open(&opened.folder).map_err(|error| wrong(error.to_string()))?;
    let text = folder.text(Path::new(ANCHORS), LARGEST, Links::Refused);
    let text = text.map_err(|error| wrong(error.to_string()))?.unwrap_or_default();
    let mut lines = BTreeSet::new();
    for (at, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        let pair = line.split_once(' ').and_then(|(place, hash)| Some((place.parse().ok()?, hash.trim())));
        let (place, hash) = pair.ok_or_else(|| {
            wrong(format!("line {} is no place and hash", at + 1))
                .help("take the file back from version control")
        })?;
        lines.insert((place, hash.to_owned()));
    }
    Ok(lines)
}

/// Holds a record fast that was just made. That this cannot be done is told, and nothing more: the record is made.
pub(crate) fn hold_fast(opened: &Opened, record: &Record) {
    let seen = SeenRecord { place: record.meta.place, hash: record.hash.clone() };
    let remembered = opened.at.state.remember(&opened.folder, &opened.ledger.name, |known| {
        let is_later = known.daybook.as_ref().is_none_or(|known| known.place < seen.place);
        if is_later {
            known.daybook = Some(seen);
        }
    });
    let remembered = match remembered {
        // Without a place for it nothing is ever remembered, and that is nothing new.
        Err(cledger_store::StateError::NoPlace) => Ok(()),
        other => other.map_err(|error| error.to_string()),
    };
    let written = if opened.ledger.anchors { append(opened, record) } else { Ok(()) };
    for (done, what) in [(remembered, "is not remembered"), (written, "does not stand in anchors.txt")] {
        if let Err(error) = done {
            opened.at.telling.notice(&format!("That this is recorded {what}: {error}."));
        }
    }
}

fn append(opened: &Opened, record: &Record) -> Result<(), String> {
    let folder = Folder::open(&opened.folder).map_err(|error| error.to_string())?;
    let text = folder.text(Path::new(ANCHORS), LARGEST, Links::Refused).map_err(|error| error.to_string())?;
    let mut text = text.unwrap_or_default();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    text.push_str(&format!("{} {}\n", record.meta.place, record.hash));
    folder.write(Path::new(ANCHORS), text.as_bytes(), Mode::AsBefore).map_err(|error| error.to_string())?;
    Ok(())
}
