//! What the fuzz targets check: nothing panics, and what was read is written and read again as it was.

pub mod ledgers;

use cledger_core::model::{OutputFormat, OutputTable};
use cledger_core::name::Name;
use cledger_core::rehome::rehome;
use cledger_formats::{Artifact, Particulars, format, stretches, template};

/// Reads bytes as a file of a format. What can be read and written again must be the same.
#[expect(clippy::eq_op, reason = "a tree with a NaN in it is not equal to itself")]
pub fn reads(this: OutputFormat, data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let table = Name::parse("rows").ok().map(|entry| OutputTable {
        entry,
        columns: vec!["a".to_owned(), "b".to_owned()],
        key: "a".to_owned(),
    });
    let particulars = Particulars { table: table.as_ref(), manifest_name: "x" };
    let Some(format) = format(this, particulars) else { return };
    let Ok(found) = format.read(text) else { return };
    // Lines are in the text.
    let lines = text.matches(['\n', '\r']).count() + 1;
    assert!(found.lines.values().chain(found.nulls.iter().map(|(_, line)| line)).all(|line| (1..=lines).contains(line)));
    // A CSV file may have more columns than are written again; what is no number equals nothing.
    if this == OutputFormat::Csv || found.tree != found.tree {
        return;
    }
    if let Ok(written) = format.write(&found.tree) {
        let again = format.read(&written);
        assert!(again.is_ok_and(|again| again.tree == found.tree), "{written}");
    }
}

/// Reads bytes as a template, and makes its file.
pub fn makes(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if template::check(text).is_ok() {
        let _ = template::write(text, &cledger_formats::Tree::default());
    }
}

/// Finds the stretches of an artifact. With nothing to replace, it stays as it is.
pub fn finds(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    for artifact in [Artifact::Json, Artifact::Xml, Artifact::Text] {
        let Ok(found) = stretches(artifact, text) else { continue };
        assert!(found.iter().all(|stretch| text.get(stretch.range.clone()).is_some()));
        assert_eq!(rehome(text, &found, &[], |_, _| true).text.as_str(), text);
    }
}
