//! Folders copied whole, for tests that change the demo.

use std::fs;
use std::path::Path;

pub(crate) fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let (from, to) = (entry.path(), to.join(entry.file_name()));
        if from.is_dir() {
            copy(&from, &to);
        } else {
            fs::copy(from, to).unwrap();
        }
    }
}
