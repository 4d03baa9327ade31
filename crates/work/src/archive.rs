//! Zip archives: their members one by one, with nothing written outside of the new archive.

use std::collections::BTreeSet;
use std::io::{Cursor, Read as _, Write as _};

use zeroize::Zeroizing;
use zip::result::ZipError;
use zip::{ZipArchive, ZipWriter};

use crate::trouble::Trouble;

/// How large a member may be once it is unpacked, in bytes.
const LARGEST_MEMBER: usize = 64 << 20;

/// How large all of them may be together, and with those of the archives among them.
const LARGEST: usize = 256 << 20;

/// How much of an artifact was unpacked so far, in bytes.
#[derive(Default)]
pub(crate) struct Unpacked(usize);

/// How many members there may be.
const MOST: usize = 10_000;

/// A member that was looked at.
pub(crate) struct Member {
    pub(crate) name: String,
    /// Its text; `None` where it is none, or cannot be unpacked here.
    pub(crate) text: Option<String>,
    /// Its bytes, where it is an archive itself.
    pub(crate) archive: Option<Vec<u8>>,
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

/// Unpacks all members that are text or archives into memory.
pub(crate) fn members(bytes: &[u8], so_far: &mut Unpacked) -> Result<Vec<Member>, Trouble> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| broken(&error))?;
    if archive.len() > MOST {
        let message = format!("the archive has {} members, and {MOST} are looked at", archive.len());
        return Err(Trouble::usage(message));
    }
    let mut members: Vec<Member> = Vec::with_capacity(archive.len());
    let mut names = BTreeSet::new();
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
            so_far.0 += unpacked.len();
            if unpacked.len() > LARGEST_MEMBER || so_far.0 > LARGEST {
                let message = format!(
                    "`{name}` unpacks to more than can be meant: {} MiB at most, and {} MiB with all others",
                    LARGEST_MEMBER >> 20,
                    LARGEST >> 20
                );
                return Err(
                    Trouble::usage(message).help("unpack it by hand, and rehome the files that matter")
                );
            }
        } else if readable {
            members.push(Member { name, text: None, archive: None, size, check_sum });
            continue;
        }
        let (text, archive) = if is_archive(&unpacked) {
            (None, Some(unpacked))
        } else {
            (String::from_utf8(unpacked).ok().filter(|_| readable), None)
        };
        members.push(Member { name, text, archive, size, check_sum });
    }
    Ok(members)
}

/// The archive with other content in some members; all others are copied as they are packed.
pub(crate) fn packed(bytes: &[u8], new: &[Option<Zeroizing<Vec<u8>>>]) -> Result<Vec<u8>, Trouble> {
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| broken(&error))?;
    let mut writer = ZipWriter::new(Cursor::new(Vec::with_capacity(bytes.len())));
    writer.set_raw_comment(archive.comment().into()).map_err(|error| broken(&error))?;
    for at in 0..archive.len() {
        let file = archive.by_index_raw(at).map_err(|error| broken(&error))?;
        match new.get(at).and_then(Option::as_ref) {
            None => writer.raw_copy_file(file).map_err(|error| broken(&error))?,
            Some(content) => {
                let (name, options) =
                    (file.name().map_err(|error| broken(&error))?.into_owned(), file.options());
                writer.start_file(name, options).map_err(|error| broken(&error))?;
                let written = writer.write_all(content);
                written.map_err(|error| broken(&ZipError::Io(error)))?;
            }
        }
    }
    Ok(writer.finish().map_err(|error| broken(&error))?.into_inner())
}
