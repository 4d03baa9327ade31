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
use super::signature::{SignedBy, Signer};
use crate::archive::{Unpacked, members};

/// What is inside.
const MANIFEST: &str = "folio.json";
/// The values that are carried.
pub(super) const VALUES: &str = "values.json";
/// The secrets among them.
pub(super) const SECRETS: &str = "secrets.age";

/// The signature of the manifest.
const SIGNATURE: &str = "folio.json.sig";

/// What stands in front of the hash in the comment.
const MARK: &str = "blake3 ";
/// How many letters the hash has.
const LETTERS: usize = 64;

/// The bytes of a folio. Its members are listed in its manifest here, and that is signed if somebody does.
pub(super) fn packed(
    mut manifest: Manifest,
    members: BTreeMap<String, String>,
    signer: Option<&Signer>,
) -> Result<Vec<u8>, String> {
    // Unsigned, the same folio has the same manifest each time; signed, it vouches for what is encrypted, too.
    let is_listed = |path: &str| path != SECRETS || signer.is_some();
    manifest.members = members.iter().map(|(path, text)| member(path, text, is_listed(path))).collect();
    let manifest = manifest.to_text();
    let mut all = members;
    if let Some(signer) = signer {
        all.insert(SIGNATURE.to_owned(), signer.sign(&manifest)?);
    }
    all.insert(MANIFEST.to_owned(), manifest);
    archived(&all).map_err(|error| error.to_string())
}

/// The archive of these members.
fn archived(members: &BTreeMap<String, String>) -> Result<Vec<u8>, ZipError> {
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    writer.set_comment(format!("{MARK}{}", "0".repeat(LETTERS)))?;
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Stored)
        .last_modified_time(DateTime::default())
        .unix_permissions(0o644);
    for (path, text) in members {
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

fn member(path: &str, text: &str, with_hash: bool) -> Member {
    let hash = with_hash.then(|| blake3::hash(text.as_bytes()).to_hex().to_string());
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
        let signature = texts.remove(SIGNATURE);
        let signed_by = signature.map(|signature| SignedBy::of(&manifest, &signature)).transpose()?;
        let manifest = Manifest::parse(&manifest)?;
        for listed in &manifest.members {
            let Some(text) = texts.get(&listed.path) else {
                return Err(format!("its member `{}` is not there", listed.path));
            };
            let with_hash = listed.path != SECRETS || signed_by.is_some();
            if member(&listed.path, text, with_hash) != *listed {
                return Err(format!("its member `{}` is not what `{MANIFEST}` says", listed.path));
            }
        }
        if let Some(path) = texts.keys().find(|path| !manifest.members.iter().any(|it| it.path == **path)) {
            return Err(format!("`{MANIFEST}` does not list its member `{path}`"));
        }
        let values = texts.remove(VALUES);
        let secrets = texts.remove(SECRETS);
        let pieces = Pieces::of_members(&manifest, texts)?;
        Ok(Self { manifest, signed_by, pieces, values, secrets })
    }
}
