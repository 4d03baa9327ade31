//! `folio` for programs.

use std::path::Path;

use cledger_work::folio::{Entered, Entering, Fate, Made, Manifest, SignedBy};
use serde::Serialize;

use super::FORMAT;
use super::check::{self, FindingDocument};
use super::deliver;
use super::fill::{LackingDocument, lacking};

#[derive(Debug, Serialize)]
pub(crate) struct InsideDocument<'f> {
    format: u32,
    folio: &'f Manifest,
    /// The public key of whoever has signed it.
    signed_by: Option<String>,
}

/// What is inside of a folio.
pub(crate) fn inside<'f>(manifest: &'f Manifest, signed_by: Option<&SignedBy>) -> InsideDocument<'f> {
    InsideDocument { format: FORMAT, folio: manifest, signed_by: signed_by.map(SignedBy::key) }
}

#[derive(Debug, Serialize)]
pub(crate) struct MadeDocument<'f> {
    #[serde(flatten)]
    inside: InsideDocument<'f>,
    written: bool,
    path: String,
    /// What units inside refer to, and is not inside.
    beside: &'f [String],
    /// What the stage sets and is not carried.
    left: &'f [String],
}

/// What was made.
pub(crate) fn made<'f>(made: &'f Made, path: &Path, written: bool) -> MadeDocument<'f> {
    let (inside, path) = (inside(&made.manifest, made.signed_by.as_ref()), path.display().to_string());
    MadeDocument { inside, written, path, beside: &made.beside, left: &made.left }
}

#[derive(Debug, Serialize)]
pub(crate) struct EnteredDocument<'f> {
    format: u32,
    written: bool,
    from: &'f str,
    /// The public key of whoever has signed it.
    signed_by: Option<String>,
    stages: &'f [String],
    pieces: Vec<PieceDocument<'f>>,
    files: Vec<FileDocument<'f>>,
    settings: Vec<&'f str>,
    lacking: Vec<LackingDocument<'f>>,
    form: Option<String>,
    /// Settings whose fields went.
    gone: &'f [String],
    errors: Vec<FindingDocument<'f>>,
    deliveries: Vec<deliver::Document<'f>>,
}

#[derive(Debug, Serialize)]
struct PieceDocument<'f> {
    what: String,
    fate: &'static str,
    reason: Option<&'f str>,
    version_before: Option<&'f str>,
    version: Option<&'f str>,
}

#[derive(Debug, Serialize)]
struct FileDocument<'f> {
    path: &'f str,
    becomes: &'static str,
}

/// What becomes of a folio in a ledger.
pub(crate) fn entered(entered: &Entered) -> EnteredDocument<'_> {
    let file = |file: &'_ cledger_work::touched::TouchedFile| file.becomes.word();
    EnteredDocument {
        format: FORMAT,
        written: entered.written,
        from: &entered.from,
        signed_by: entered.signed_by.as_ref().map(|(it, _)| it.key()),
        stages: &entered.stages,
        pieces: entered.pieces.iter().map(piece).collect(),
        files: entered.files.iter().map(|it| FileDocument { path: &it.path, becomes: file(it) }).collect(),
        settings: entered.settings.iter().map(|it| it.address.as_str()).collect(),
        lacking: entered.lacking.iter().map(lacking).collect(),
        form: entered.form.as_ref().map(|(path, _)| path.display().to_string()),
        gone: &entered.gone,
        errors: entered.errors.1.iter().map(|it| check::finding(&entered.errors.0, it)).collect(),
        deliveries: entered.delivered.iter().map(deliver::document).collect(),
    }
}

fn piece(entering: &Entering) -> PieceDocument<'_> {
    let (fate, reason) = match &entering.fate {
        Fate::New => ("new", None),
        Fate::Same => ("same", None),
        Fate::Changed => ("changed", None),
        Fate::Taken => ("taken", None),
        Fate::Kept => ("kept", None),
        Fate::LeftOut(reason) => ("left-out", Some(reason.as_str())),
        Fate::Clash(reason) => ("clash", Some(reason.as_str())),
    };
    PieceDocument {
        what: entering.piece.to_string(),
        fate,
        reason,
        version_before: entering.before.as_deref(),
        version: entering.version.as_deref(),
    }
}
