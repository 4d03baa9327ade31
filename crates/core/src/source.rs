//! Where things stand in the ledger's files.

use std::fmt;
use std::sync::{Arc, OnceLock};

/// One of the files of a ledger, by its position in [`Files`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileId(pub u32);

/// A piece of text in one of the ledger's files, as byte offsets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// The file.
    pub file: FileId,
    /// Offset of the first byte.
    pub start: u32,
    /// Offset after the last byte.
    pub end: u32,
}

/// A place as people count: file, line and column, the latter two from 1 and in characters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Location<'a> {
    /// Path from the ledger's folder, with `/` between its parts.
    pub file: &'a str,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1; a byte-order mark does not count.
    pub column: usize,
}

impl fmt::Display for Location<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}:{}", self.file, self.line, self.column)
    }
}

/// A file that was read.
#[derive(Clone)]
pub struct SourceFile {
    /// Path from the ledger's folder, with `/` between its parts.
    pub path: String,
    /// The whole text, including a byte-order mark.
    pub text: String,
    /// Where its lines begin, once somebody has asked for a line.
    lines: OnceLock<Vec<u32>>,
}

impl SourceFile {
    /// A file of this text.
    pub fn new(path: impl Into<String>, text: String) -> Self {
        Self { path: path.into(), text, lines: OnceLock::new() }
    }

    /// The number of the line that this byte is in, from 1, and where that line begins.
    fn line_at(&self, offset: usize) -> (usize, usize) {
        let starts = self.lines.get_or_init(|| {
            let ends = memchr::memchr_iter(b'\n', self.text.as_bytes());
            let starts = ends.filter_map(|at| u32::try_from(at + 1).ok());
            std::iter::once(0).chain(starts).collect()
        });
        let line = starts.partition_point(|&start| start as usize <= offset).max(1);
        (line, starts[line - 1] as usize)
    }
}

// The text may hold secrets, so it is not printed.
impl fmt::Debug for SourceFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SourceFile").field("path", &self.path).finish_non_exhaustive()
    }
}

/// The files of a ledger, in the order of their [`FileId`]s.
#[derive(Debug, Clone, Default)]
pub struct Files(pub Vec<Arc<SourceFile>>);

impl Files {
    /// The file with this id, if it is one of these.
    pub fn get(&self, file: FileId) -> Option<&SourceFile> {
        self.0.get(file.0 as usize).map(Arc::as_ref)
    }

    /// Turns a place into file, line and column.
    pub fn locate(&self, place: Place) -> Location<'_> {
        let Some(source) = self.get(place.file) else {
            return Location { file: "", line: 1, column: 1 };
        };
        let mut start = (place.start as usize).min(source.text.len());
        while !source.text.is_char_boundary(start) {
            start -= 1;
        }
        let (line, line_start) = source.line_at(start);
        let in_line = source.text[line_start..start].trim_start_matches('\u{feff}');
        Location { file: &source.path, line, column: in_line.chars().count() + 1 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_columns_count_characters_from_one() {
        let text = "\u{feff}a = 1\r\nö = 2\n".to_owned();
        let files = Files(vec![Arc::new(SourceFile::new("x.toml", text))]);
        let at = |start| {
            let found = files.locate(Place { file: FileId(0), start, end: start });
            (found.line, found.column)
        };
        assert_eq!(at(3), (1, 1));
        assert_eq!(at(7), (1, 5));
        assert_eq!(at(10), (2, 1));
        assert_eq!(at(12), (2, 2));
        assert_eq!(at(999), (3, 1));
    }
}
