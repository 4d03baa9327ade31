//! Reading back the environment of a running process.

use std::path::Path;

use crate::file::{self, FileError};
use crate::held::Held;

/// The environment that a process was started with (proc(5), `/proc/PID/environ`).
pub(super) fn environment(root: &Path, pid_file: &Path) -> Held {
    let number = match file::text(&root.join(pid_file)) {
        Ok(text) => text.trim().to_owned(),
        Err(FileError::NotThere) => return Held::NotThere,
        Err(error) => return Held::NotKnown(format!("`{}` cannot be read: {error}", pid_file.display())),
    };
    if number.parse::<u32>().is_err() {
        return Held::NotKnown(format!("`{}` holds no number of a process", pid_file.display()));
    }
    let bytes = match file::bytes(&Path::new("/proc").join(&number).join("environ"), file::LARGEST) {
        Ok(bytes) => bytes,
        Err(FileError::NotThere) => {
            return Held::NotKnown(format!("the process {number} is not running any more"));
        }
        Err(error) => return Held::NotKnown(format!("the process {number} cannot be looked into: {error}")),
    };
    let pairs = bytes.split(|byte| *byte == 0).filter_map(|pair| {
        let text = String::from_utf8_lossy(pair);
        let (name, value) = text.split_once('=')?;
        Some((name.to_owned(), value.to_owned()))
    });
    Held::Environment(pairs.collect())
}
