//! Where a ledger's files come from: a folder on disk, or texts in memory.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The largest file that is read, in bytes: offsets are kept in 32 bits.
const LARGEST: u64 = u32::MAX as u64;

/// Why a file could not be read.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// The system refused.
    #[error("it cannot be read: {0}")]
    Io(#[from] io::Error),
    /// A folder stands where a file should be.
    #[error("it is a folder, and a file is needed")]
    Folder,
    /// Its bytes are not UTF-8 from this line on.
    #[error("it is not UTF-8 text: the first wrong byte is in line {0}")]
    NotUtf8(usize),
    /// It is larger than 4 GiB.
    #[error("it is larger than 4 GiB")]
    TooLarge,
}

impl FileError {
    /// What to do about it.
    pub fn help(&self) -> &'static str {
        match self {
            FileError::Io(_) => "make it readable, or take it out of the ledger",
            FileError::Folder => "rename the folder, or move it out of the ledger",
            FileError::NotUtf8(_) => "save it as UTF-8",
            FileError::TooLarge => "split it: a stage or group can be a folder with a file for each unit",
        }
    }
}

/// A folder of files, by paths with `/` between their parts.
pub trait Tree: Sync {
    /// The text of a file; `None` if there is no such file.
    fn text(&self, path: &str) -> Result<Option<String>, FileError>;
    /// The names in a folder, sorted; `None` if there is no such folder or it is not one.
    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError>;
    /// Whether there is such a folder.
    fn is_folder(&self, path: &str) -> bool;
}

/// A folder on disk.
pub struct Disk(pub PathBuf);

impl Tree for Disk {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        let bytes = match read_file(&self.0.join(path)) {
            Ok(bytes) => bytes,
            Err(FileError::Io(error)) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        String::from_utf8(bytes).map(Some).map_err(|error| {
            let good = &error.as_bytes()[..error.utf8_error().valid_up_to()];
            FileError::NotUtf8(memchr::memchr_iter(b'\n', good).count() + 1)
        })
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        let entries = match fs::read_dir(self.0.join(folder)) {
            Ok(entries) => entries,
            Err(error) => {
                return match error.kind() {
                    io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Ok(None),
                    _ => Err(error.into()),
                };
            }
        };
        let mut names = Vec::new();
        for entry in entries {
            names.push(entry?.file_name().to_string_lossy().into_owned());
        }
        names.sort_unstable();
        Ok(Some(names))
    }

    fn is_folder(&self, path: &str) -> bool {
        self.0.join(path).is_dir()
    }
}

fn read_file(path: &Path) -> Result<Vec<u8>, FileError> {
    use std::io::Read as _;
    let mut file = fs::File::open(path)?;
    let about = file.metadata()?;
    if about.is_dir() {
        return Err(FileError::Folder);
    }
    if about.len() > LARGEST {
        return Err(FileError::TooLarge);
    }
    let mut bytes = Vec::with_capacity(usize::try_from(about.len()).unwrap_or(0) + 1);
    file.read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Files in memory, by path.
#[derive(Debug, Clone, Default)]
pub struct Memory(pub BTreeMap<String, String>);

impl<P: Into<String>, T: Into<String>> FromIterator<(P, T)> for Memory {
    fn from_iter<I: IntoIterator<Item = (P, T)>>(files: I) -> Self {
        Self(files.into_iter().map(|(path, text)| (path.into(), text.into())).collect())
    }
}

impl Tree for Memory {
    fn text(&self, path: &str) -> Result<Option<String>, FileError> {
        Ok(self.0.get(path).cloned())
    }

    fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FileError> {
        let inside = format!("{folder}/");
        let mut names: Vec<String> = self
            .0
            .keys()
            .filter_map(|path| path.strip_prefix(&inside))
            .map(|rest| rest.split('/').next().unwrap_or(rest).to_owned())
            .collect();
        names.dedup();
        Ok((!names.is_empty()).then_some(names))
    }

    fn is_folder(&self, path: &str) -> bool {
        let inside = format!("{path}/");
        self.0.keys().any(|known| known.starts_with(&inside))
    }
}
