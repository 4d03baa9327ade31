//! What a field comes to before or after a change, in words.

use cledger_core::effects::Seen;

use super::{MASK, Tone, UNREAD, UNREADABLE, escape, one_line};

/// What is seen: the value, secrets masked, or a word where there is none.
pub fn seen(seen: &Seen) -> (String, Tone) {
    match seen {
        Seen::Value(Some(value)) => (one_line(value), Tone::Plain),
        Seen::Value(None) => (MASK.to_owned(), Tone::Plain),
        other => {
            let bad = matches!(other, Seen::Missing | Seen::Problem(_));
            (seen_words(other), if bad { Tone::Bad } else { Tone::Quiet })
        }
    }
}

/// What is seen where there is no value.
pub fn seen_words(seen: &Seen) -> String {
    match seen {
        Seen::Value(_) => String::new(),
        Seen::Outside(Some(source)) => format!("from {}", escape(source)),
        Seen::Outside(None) => UNREAD.to_owned(),
        Seen::Unreadable => UNREADABLE.to_owned(),
        Seen::Absent => "absent".to_owned(),
        Seen::Unset => "not set".to_owned(),
        Seen::Missing => "missing".to_owned(),
        Seen::Problem(codes) => codes.join(", "),
        Seen::NotThere => "not there".to_owned(),
    }
}
