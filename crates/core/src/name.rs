//! Names of stages, groups, units, instances, entries and fields.

use std::borrow::Borrow;
use std::fmt;
use std::str::FromStr;

use compact_str::CompactString;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Names that have a meaning of their own in addresses and references, and so cannot be given to
/// units, entries, stages and groups.
pub const TAKEN: [&str; 5] = ["shared", "default", "stage", "unit", "last"];

/// The longest name, in bytes.
pub const MAX_LENGTH: usize = 64;

/// A name: `[a-z0-9][a-z0-9_-]*`, at most [`MAX_LENGTH`] bytes.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(CompactString);

/// Why a text is not a name, and at which byte of it the mistake is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{reason}")]
pub struct NameError {
    /// Byte offset of the first offending character.
    pub at: usize,
    /// What is wrong there.
    pub reason: &'static str,
}

/// Whether `c` may stand in a name after its first character.
pub(crate) fn is_name_char(c: char) -> bool {
    matches!(c, 'a'..='z' | '0'..='9' | '_' | '-')
}

impl Name {
    /// Reads a name; taken names are accepted here, see [`Name::is_taken`].
    pub fn parse(text: &str) -> Result<Self, NameError> {
        let bad = |at, reason| Err(NameError { at, reason });
        match text.chars().next() {
            None => return bad(0, "a name is expected"),
            Some('_' | '-') => return bad(0, "a name starts with a lower-case letter or a digit"),
            Some(_) => {}
        }
        // All of them are single bytes.
        if let Some(at) = text.bytes().position(|byte| !is_name_char(char::from(byte))) {
            return bad(at, "names are made of a-z, 0-9, `_` and `-`");
        }
        if text.len() > MAX_LENGTH {
            return bad(MAX_LENGTH, "a name has at most 64 characters");
        }
        Ok(Self(CompactString::new(text)))
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether the name is one of [`TAKEN`].
    pub fn is_taken(&self) -> bool {
        TAKEN.contains(&self.as_str())
    }
}

impl FromStr for Name {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        Self::parse(text)
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.as_str(), f)
    }
}

impl Serialize for Name {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::parse(&text).map_err(|error| D::Error::custom(format!("`{text}` is no name: {error}")))
    }
}

impl Borrow<str> for Name {
    fn borrow(&self) -> &str {
        self.as_str()
    }
}

/// The known name that is nearest to `wanted`, if one is near enough to be what was meant.
///
/// Nearness is the Damerau-Levenshtein distance (restricted): one, or at most a third of the longer
/// text.
pub fn nearest<'a>(wanted: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let length = wanted.chars().count();
    let is_near = |distance: usize, name: &str| {
        let longer = length.max(name.len());
        distance * 3 <= longer || distance == 1 && longer > 1
    };
    let nearer = |best: Option<(usize, &'a str)>, name: &'a str| {
        // Most are far off, or farther than another, as can be seen without looking closely.
        let least = least_distance(wanted, name);
        if !is_near(least, name) || best.is_some_and(|best| best <= (least, name)) {
            return best;
        }
        let distance = strsim::osa_distance(wanted, name);
        let near = is_near(distance, name).then_some((distance, name));
        best.into_iter().chain(near).min()
    };
    known.into_iter().fold(None, nearer).map(|(_, name)| name)
}

/// What two texts are apart at the least: as many changes as it takes for both to have the same characters, in whatever
/// order. Of texts beyond ASCII nothing is said.
fn least_distance(one: &str, other: &str) -> usize {
    if !one.is_ascii() || !other.is_ascii() {
        return 0;
    }
    let mut counts = [0_i32; 128];
    one.bytes().for_each(|byte| counts[usize::from(byte)] += 1);
    other.bytes().for_each(|byte| counts[usize::from(byte)] -= 1);
    let of = |sign: i32| counts.iter().map(|count| (count * sign).max(0).unsigned_abs()).sum::<u32>();
    u32::max(of(1), of(-1)).try_into().unwrap_or(usize::MAX)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_follow_the_grammar() {
        for good in ["a", "7", "ticket-desk", "prod_north", &"x".repeat(64), "shared"] {
            assert_eq!(Name::parse(good).unwrap().as_str(), good);
        }
        let bad = [("", 0), ("-a", 0), ("_a", 0), ("aB", 1), ("tide api", 4), ("é", 0), ("a.b", 1)];
        for (text, at) in bad {
            assert_eq!(Name::parse(text).unwrap_err().at, at, "{text}");
        }
        assert_eq!(Name::parse(&"x".repeat(65)).unwrap_err().at, 64);
    }

    #[test]
    fn the_nearest_name_is_offered_only_when_near() {
        let known = ["seat_hold", "region", "port"];
        assert_eq!(nearest("seat_hodl", known), Some("seat_hold"));
        assert_eq!(nearest("seathold", known), Some("seat_hold"));
        assert_eq!(nearest("database", known), None);
        assert_eq!(nearest("bd", ["db", "x"]), Some("db"));
        assert_eq!(nearest("y", ["db", "x"]), None);
    }

    proptest! {
        /// What is passed over without looking closely would not have been near.
        #[test]
        fn nothing_near_is_passed_over(one in "[a-c]{0,9}|[a-zé_]{0,6}", other in "[a-c]{0,9}|[a-zé_]{0,6}") {
            prop_assert!(least_distance(&one, &other) <= strsim::osa_distance(&one, &other));
        }
    }
}
