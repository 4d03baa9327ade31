//! Texts side by side that are too long for their columns, cut where they are the same.

use std::collections::{BTreeMap, BTreeSet};

use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// What stands for the rest of a value.
const CUT: &str = "…";

/// So much may be cut off within a word, where it is the same for long; so much of it stays.
const LONG: usize = 12;
const CONTEXT: usize = 4;

/// Texts that stand side by side, with how far each is like one of the others.
pub struct SideBySide<'t> {
    /// How many bytes begin, and how many end, like those of another one.
    alike: BTreeMap<&'t str, (usize, usize)>,
}

impl<'t> SideBySide<'t> {
    /// Of these texts.
    pub fn of(texts: impl IntoIterator<Item = &'t str>) -> Self {
        let distinct: BTreeSet<&str> = texts.into_iter().collect();
        let mut alike: BTreeMap<&str, (usize, usize)> = distinct.iter().map(|&text| (text, (0, 0))).collect();
        // What is most like a text stands next to it, once all are sorted.
        let sorted: Vec<&str> = distinct.into_iter().collect();
        for pair in sorted.windows(2) {
            let same = common(pair[0].chars(), pair[1].chars());
            for text in pair {
                alike.entry(text).and_modify(|(begins, _)| *begins = same.max(*begins));
            }
        }
        let mut by_end = sorted;
        by_end.sort_by(|one, other| one.chars().rev().cmp(other.chars().rev()));
        for pair in by_end.windows(2) {
            let same = common(pair[0].chars().rev(), pair[1].chars().rev());
            for text in pair {
                alike.entry(text).and_modify(|(_, ends)| *ends = same.max(*ends));
            }
        }
        Self { alike }
    }

    /// Cuts one of these texts where it is wider than there is room: first what ends like another one, then what begins
    /// like another one, and only then what differs.
    pub fn cut(&self, text: &str, room: usize) -> String {
        if text.width() <= room {
            return text.to_owned();
        }
        let (begins, ends) = self.alike.get(text).copied().unwrap_or_default();
        let begins = begins_alike(text, begins);
        let end = (text.len() - ends_alike(text, ends)).max(begins);
        // Where nothing is left of it, it differs by what it lacks.
        if end == begins {
            return cut(text, room);
        }
        let head = format!("{}{CUT}", &text[..end]);
        if end < text.len() && head.width() <= room {
            return head;
        }
        if begins == 0 {
            return cut(text, room);
        }
        let rest = &text[begins..];
        let tail = format!("{CUT}{rest}");
        if tail.width() <= room {
            return tail;
        }
        let core = if end < text.len() { format!("{CUT}{}{CUT}", &text[begins..end]) } else { tail };
        if core.width() <= room { core } else { cut(&core, room) }
    }
}

/// How many bytes two texts have in common from where they begin.
fn common(one: impl Iterator<Item = char>, other: impl Iterator<Item = char>) -> usize {
    one.zip(other).take_while(|(one, other)| one == other).map(|(c, _)| c.len_utf8()).sum()
}

/// The beginning of a text, as far as there is room.
pub fn cut(text: &str, room: usize) -> String {
    if text.width() <= room {
        return text.to_owned();
    }
    let mut kept = String::new();
    let mut used = 0;
    for c in text.chars() {
        used += c.width().unwrap_or(0);
        if used >= room {
            break;
        }
        kept.push(c);
    }
    kept.push_str(CUT);
    kept
}

/// How much is cut off at the beginning, of which so many bytes are like another one's: up to a break.
fn begins_alike(text: &str, same: usize) -> usize {
    let at_break = text[..same].char_indices().rev().find(|(_, c)| is_break(*c));
    let at_break = at_break.map_or(0, |(at, c)| at + c.len_utf8());
    if same - at_break <= LONG {
        return at_break;
    }
    text[..same].char_indices().rev().nth(CONTEXT - 1).map_or(at_break, |(at, _)| at)
}

/// How much is cut off at the end, of which so many bytes are like another one's: from a break on.
fn ends_alike(text: &str, same: usize) -> usize {
    let end = &text[text.len() - same..];
    let at_break = end.char_indices().find(|(_, c)| is_break(*c)).map_or(0, |(at, _)| end.len() - at);
    if same - at_break <= LONG {
        return at_break;
    }
    end.char_indices().nth(CONTEXT).map_or(at_break, |(at, _)| end.len() - at)
}

/// Whether a name or a word ends at a character.
fn is_break(c: char) -> bool {
    !c.is_alphanumeric()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_differs_is_kept() {
        let hosts = ["localhost", "db.test.brackwater.example", "db.north.brackwater.example"];
        let cut_side_by_side = |texts: &[&str], room: &[usize]| -> Vec<String> {
            let all = SideBySide::of(texts.iter().copied());
            texts.iter().zip(room).map(|(text, room)| all.cut(text, *room)).collect()
        };
        assert_eq!(cut_side_by_side(&hosts, &[9; 3]), ["localhost", "db.test…", "db.north…"]);
        assert_eq!(cut_side_by_side(&hosts, &[8; 3]), ["localho…", "db.test…", "…north…"]);
        let urls = ["https://tides.test.example/v2", "https://tides.north.example/v2"];
        assert_eq!(cut_side_by_side(&urls, &[20; 2]), ["https://tides.test…", "https://tides.north…"]);
        assert_eq!(cut_side_by_side(&urls, &[10; 2]), ["…test…", "…north…"]);
        let longer = ["{\"a\":\"10\"}", "{\"a\":\"10\",\"mode\":\"full\"}"];
        assert_eq!(cut_side_by_side(&longer, &[9, 17]), ["{\"a\":\"10…", "…,\"mode\":\"full\"}"]);
        let mails = ["mail.brackwater.example", "mail.test.brackwater.example"];
        assert_eq!(cut_side_by_side(&mails, &[12; 2]), ["mail.brackw…", "mail.test…"]);
        let long = [1, 2].map(|it| format!("{}{it}{}", "x".repeat(90), "y".repeat(90)));
        assert_eq!(cut_side_by_side(&[&long[0], &long[1]], &[12; 2]), ["…xxxx1yyyy…", "…xxxx2yyyy…"]);
        assert_eq!(cut_side_by_side(&["one long value"], &[8]), ["one lon…"]);
        assert_eq!(cut_side_by_side(&["日本語テキスト", "日本語"], &[8, 8]), ["日本語…", "日本語"]);
    }

    proptest! {
        /// Everything fits, and what fits anyway is not cut.
        #[test]
        fn everything_fits(texts in prop::collection::vec("[ab./:語é]{0,30}", 1..6), room in 2_usize..20) {
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let all = SideBySide::of(texts.iter().copied());
            for text in &texts {
                let cut = all.cut(text, room);
                prop_assert!(cut.width() <= room, "{cut}");
                prop_assert!(text.width() > room || cut == *text);
            }
        }
    }
}
