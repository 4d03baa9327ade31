//! The kinds of files that a ledger consists of, by their paths.

use std::path::Path;

/// The folders of a ledger that hold nothing else.
pub(crate) const FOLDERS: [&str; 7] = ["shared", "units", "groups", "stages", "keys", "templates", "tables"];

/// The files at the top of a ledger.
pub(crate) const FILES: [&str; 3] = [crate::MANIFEST, "shared.toml", crate::WAIVERS];

/// Whether a path is of a file of a ledger, from its folder: plain, relative, nothing hidden, and one of its
/// own kinds. A CSV file may be anywhere: contracts name it.
pub(crate) fn is_of_ledger(path: &str) -> bool {
    let is_plain = |part: &str| !part.is_empty() && !part.starts_with('.') && !part.contains('\\');
    if path.contains(char::is_control) || !path.split('/').all(is_plain) {
        return false;
    }
    let (top, below) = path.split_once('/').map_or((path, false), |(top, _)| (top, true));
    let is_csv = Path::new(path).extension().is_some_and(|ending| ending.eq_ignore_ascii_case("csv"));
    is_csv || if below { FOLDERS.contains(&top) } else { FILES.contains(&top) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_paths_of_its_own_kinds_are_a_ledgers() {
        for path in ["ledger.toml", "stages/dev.toml", "keys/stages/dev.age", "zones.csv", "a/b/zones.csv"] {
            assert!(is_of_ledger(path), "{path}");
        }
        for path in [
            "",
            "/etc/passwd",
            "../ledger.toml",
            "stages/../../x",
            "stages//x",
            "stages/.x",
            ".git/config",
            ".bashrc",
            "README.md",
            "stages",
            "units/a\n.toml",
            "units\\a.toml",
            "C:/a.txt",
            "live/dev/x.env",
        ] {
            assert!(!is_of_ledger(path), "{path}");
        }
    }
}
