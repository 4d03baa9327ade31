//! The file that a folio is: a zip archive (APPNOTE 6.3) whose members are stored as they are, in sorted order and without
//! times, and whose comment is the hash of all bytes before it.

use std::collections::BTreeMap;
use std::io::{Cursor, Write as _};

use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipWriter};

use super::Folio;
use super::form::{Manifest, Member};
use super::piece::Pieces;
use crate::archive::{Unpacked, members};

/// What is inside.
const MANIFEST: &str = "folio.json";
/// The values that are carried.
pub(super) const VALUES: &str = "values.json";
/// The secrets among them.
pub(super) const SECRETS: &str = "secrets.age";

/// What stands in front of the hash in the comment.
const MARK: &str = "blake3 ";
/// How many letters the hash has.
const LETTERS: usize = 64;

/// The bytes of a folio. Its members are listed in its manifest here.
pub(super) fn packed(mut manifest: Manifest, members: BTreeMap<String, String>) -> Result<Vec<u8>, ZipError> {
    manifest.members = members.iter().map(|(path, text)| member(path, text)).collect();
    let mut all = members;
    all.insert(MANIFEST.to_owned(), manifest.to_text());
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    writer.set_comment(format!("{MARK}{}", "0".repeat(LETTERS)))?;
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Stored)
        .last_modified_time(DateTime::default())
        .unix_permissions(0o644);
    for (path, text) in &all {
        writer.start_file(path.as_str(), options)?;
        writer.write_all(text.as_bytes())?;
    }
    let mut bytes = writer.finish()?.into_inner();
    let before = bytes.len().saturating_sub(LETTERS);
    let hash = blake3::hash(&bytes[..before]).to_hex();
    bytes.truncate(before);
    bytes.extend_from_slice(hash.as_bytes());
    Ok(bytes)
}

fn member(path: &str, text: &str) -> Member {
    let hash = (path != SECRETS).then(|| blake3::hash(text.as_bytes()).to_hex().to_string());
    Member { path: path.to_owned(), bytes: text.len() as u64, hash }
}

/// Refuses bytes that are not the ones that were made.
fn refuse_changed(bytes: &[u8]) -> Result<(), String> {
    if !crate::archive::is_archive(bytes) {
        return Err("it is no zip archive".to_owned());
    }
    let (before, hash) = bytes.split_at(bytes.len().saturating_sub(LETTERS));
    if !before.ends_with(MARK.as_bytes()) {
        return Err("it is cut off, or was packed by something else".to_owned());
    }
    if blake3::hash(before).to_hex().as_bytes() != hash {
        return Err("it was changed since it was made".to_owned());
    }
    Ok(())
}

impl Folio {
    /// Reads a folio from its bytes; says what is wrong with it.
    pub(super) fn of_bytes(bytes: &[u8]) -> Result<Self, String> {
        refuse_changed(bytes)?;
        let found = members(bytes, &mut Unpacked::default()).map_err(|trouble| trouble.to_string())?;
        let mut texts = BTreeMap::new();
        for member in found {
            let text = member.text.ok_or_else(|| format!("its member `{}` is no text", member.name))?;
            texts.insert(member.name, text);
        }
        let manifest = texts.remove(MANIFEST).ok_or_else(|| format!("it has no member `{MANIFEST}`"))?;
        let manifest = Manifest::parse(&manifest)?;
        for listed in &manifest.members {
            let Some(text) = texts.get(&listed.path) else {
                return Err(format!("its member `{}` is not there", listed.path));
            };
            if member(&listed.path, text) != *listed {
                return Err(format!("its member `{}` is not what `{MANIFEST}` says", listed.path));
            }
        }
        if let Some(path) = texts.keys().find(|path| !manifest.members.iter().any(|it| it.path == **path)) {
            return Err(format!("`{MANIFEST}` does not list its member `{path}`"));
        }
        let values = texts.remove(VALUES);
        let secrets = texts.remove(SECRETS);
        let pieces = Pieces::of_members(&manifest, texts)?;
        Ok(Self { manifest, pieces, values, secrets })
    }
}
