//! Zip archives: their members one by one, with nothing written outside of the new archive.

use std::collections::BTreeSet;
use std::io::{Cursor, Read as _, Write as _};

use zip::result::ZipError;
use zip::{ZipArchive, ZipWriter};

use crate::trouble::Trouble;

/// How large a member may be once it is unpacked, in bytes.
const LARGEST_MEMBER: usize = 64 << 20;

/// How large all of them may be together.
const LARGEST: usize = 256 << 20;

/// How many members there may be.
const MOST: usize = 10_000;

/// A member that was looked at.
pub(crate) struct Member {
    pub(crate) name: String,
    /// Its text; `None` where it is none, or cannot be unpacked here.
    pub(crate) text: Option<String>,
    /// How many bytes it has, as the archive says.
    pub(crate) size: u64,
    /// Its check sum (CRC-32), as the archive says.
    pub(crate) check_sum: u32,
}

/// Whether bytes are those of a zip archive.
pub(crate) fn is_archive(bytes: &[u8]) -> bool {
    bytes.starts_with(b"PK\x03\x04") || bytes.starts_with(b"PK\x05\x06")
}

fn broken(error: &ZipError) -> Trouble {
    Trouble::usage(format!("this is no whole zip archive: {error}")).help("export it again")
}

/// Unpacks all members that are text into memory.
pub(crate) fn members(bytes: &[u8]) -> Result<Vec<Member>, Trouble> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| broken(&error))?;
    if archive.len() > MOST {
        let message = format!("the archive has {} members, and {MOST} are looked at", archive.len());
        return Err(Trouble::usage(message));
    }
    let mut members: Vec<Member> = Vec::with_capacity(archive.len());
    let mut names = BTreeSet::new();
    let mut total = 0;
    for at in 0..archive.len() {
        let file = archive.by_index_raw(at).map_err(|error| broken(&error))?;
        let name = file.name().map_err(|error| broken(&error))?.into_owned();
        if file.enclosed_name().is_none() || name.contains('\\') {
            let message = format!("the member `{name}` would lead out of the archive's folder");
            return Err(
                Trouble::usage(message).help("whoever unpacks such an archive is at risk: export it again")
            );
        }
        if !names.insert(name.clone()) {
            return Err(
                Trouble::usage(format!("the archive has two members `{name}`")).help("export it again")
            );
        }
        let readable = file.is_file() && !file.encrypted();
        let (size, check_sum) = (file.size(), file.crc32());
        drop(file);
        let mut unpacked = Vec::new();
        if readable && let Ok(file) = archive.by_index(at) {
            // The sizes that the archive gives are not trusted.
            let most = LARGEST_MEMBER as u64 + 1;
            let read = file.take(most).read_to_end(&mut unpacked);
            read.map_err(|error| broken(&ZipError::Io(error)))?;
            total += unpacked.len();
            if unpacked.len() > LARGEST_MEMBER || total > LARGEST {
                let message = format!(
                    "`{name}` unpacks to more than can be meant: {} MiB at most",
                    LARGEST_MEMBER >> 20
                );
                return Err(
                    Trouble::usage(message).help("unpack it by hand, and rehome the files that matter")
                );
            }
        } else if readable {
            members.push(Member { name, text: None, size, check_sum });
            continue;
        }
        let text = String::from_utf8(unpacked).ok().filter(|text| readable && !is_archive(text.as_bytes()));
        members.push(Member { name, text, size, check_sum });
    }
    Ok(members)
}

/// The archive with other texts in some members; all others are copied as they are packed.
pub(crate) fn packed(bytes: &[u8], new: &[Option<&str>]) -> Result<Vec<u8>, Trouble> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| broken(&error))?;
    let mut writer = ZipWriter::new(Cursor::new(Vec::with_capacity(bytes.len())));
    writer.set_raw_comment(archive.comment().into()).map_err(|error| broken(&error))?;
    for at in 0..archive.len() {
        let file = archive.by_index_raw(at).map_err(|error| broken(&error))?;
        match new.get(at).copied().flatten() {
            None => writer.raw_copy_file(file).map_err(|error| broken(&error))?,
            Some(text) => {
                let (name, options) =
                    (file.name().map_err(|error| broken(&error))?.into_owned(), file.options());
                writer.start_file(name, options).map_err(|error| broken(&error))?;
                let written = writer.write_all(text.as_bytes());
                written.map_err(|error| broken(&ZipError::Io(error)))?;
            }
        }
    }
    Ok(writer.finish().map_err(|error| broken(&error))?.into_inner())
}
