//! Columns of tables: what they hold, and whether a text can be brought there.

use jiff::civil::{Date, DateTime, Time};
use jiff::{SignedDuration, Timestamp};
use zeroize::Zeroizing;

/// A column, as the database's catalogue has it.
#[derive(Debug, Clone)]
pub(crate) struct Column {
    pub(crate) name: String,
    /// What it holds.
    pub(crate) holds: Holds,
    /// Its type, as the database calls it.
    pub(crate) declared: String,
    /// The most characters that it holds.
    pub(crate) longest: Option<usize>,
    /// Whether a new row must say what it holds: it is never empty, and nothing fills it.
    pub(crate) is_needed: bool,
    /// Whether the database alone says what it holds.
    pub(crate) is_generated: bool,
}

/// What a column holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Holds {
    Text,
    Integer,
    Number,
    Boolean,
    /// A time, a day or both.
    Time,
    Json,
    /// One of these words.
    OneOf(Vec<String>),
    /// Something that is brought and told as text.
    Other,
}

impl Column {
    /// Whether a text can be brought there; the reason why not, without the text, otherwise.
    pub(crate) fn refuse(&self, text: &str) -> Result<(), String> {
        let is_good = match &self.holds {
            Holds::Text | Holds::Other => true,
            Holds::Integer => text.parse::<i128>().is_ok(),
            Holds::Number => text.parse::<f64>().is_ok_and(f64::is_finite),
            Holds::Boolean => ["true", "false"].contains(&text),
            Holds::Time => is_time(text),
            Holds::Json => serde_json::from_str::<serde_json::Value>(text).is_ok(),
            Holds::OneOf(words) => words.iter().any(|word| word == text),
        };
        if !is_good {
            let what = match &self.holds {
                Holds::OneOf(words) => format!("one of {}", words.join(", ")),
                _ => self.declared.clone(),
            };
            return Err(format!("the column `{}` holds {what}, and this is none", self.name));
        }
        match self.longest {
            Some(most) if text.chars().count() > most => {
                Err(format!("it is longer than the column `{}`, which holds {most} characters", self.name))
            }
            _ => Ok(()),
        }
    }

    /// What a database says of a value, as ledgers say it.
    pub(crate) fn told(&self, text: Zeroizing<String>) -> Zeroizing<String> {
        let other = match (&self.holds, text.as_str()) {
            (Holds::Boolean, "1" | "t") => "true".to_owned(),
            (Holds::Boolean, "0" | "f") => "false".to_owned(),
            // Numbers with a fixed count of digits end in noughts that nobody wrote.
            (Holds::Number, text) if text.contains('.') && !text.contains(['e', 'E']) => {
                text.trim_end_matches('0').trim_end_matches('.').to_owned()
            }
            _ => return text,
        };
        Zeroizing::new(other)
    }
}

impl Column {
    /// Whether two texts are the same in the column's type.
    pub(crate) fn is_same(&self, one: &str, other: &str) -> bool {
        one == other
            || match self.holds {
                Holds::Integer => both(one, other, |text| text.parse::<i128>().ok()),
                Holds::Number => both(one, other, decimal),
                Holds::Time => {
                    both(one, other, |text| text.parse::<Timestamp>().ok())
                        || both(one, other, |text| text.parse::<DateTime>().ok())
                }
                Holds::Json => both(one, other, |text| serde_json::from_str::<serde_json::Value>(text).ok()),
                Holds::Text | Holds::Boolean | Holds::OneOf(_) | Holds::Other => false,
            }
    }
}

fn both<T: PartialEq>(one: &str, other: &str, read: impl Fn(&str) -> Option<T>) -> bool {
    read(one).is_some_and(|one| read(other).is_some_and(|other| one == other))
}

/// A number in one form: its sign, and its digits without noughts that say nothing.
fn decimal(text: &str) -> Option<(bool, String, String)> {
    let (negative, digits) = match text.strip_prefix('-') {
        Some(digits) => (true, digits),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let is_plain = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    if !is_plain(whole) || !is_plain(fraction) || (whole.is_empty() && fraction.is_empty()) {
        return None;
    }
    let (whole, fraction) = (whole.trim_start_matches('0'), fraction.trim_end_matches('0'));
    let is_nought = whole.is_empty() && fraction.is_empty();
    Some((negative && !is_nought, whole.to_owned(), fraction.to_owned()))
}

fn is_time(text: &str) -> bool {
    text.parse::<Timestamp>().is_ok()
        || text.parse::<DateTime>().is_ok()
        || text.parse::<Date>().is_ok()
        || text.parse::<Time>().is_ok()
        || text.parse::<SignedDuration>().is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(holds: Holds) -> Column {
        let (name, declared) = ("c".to_owned(), "such a thing".to_owned());
        Column { name, holds, declared, longest: None, is_needed: false, is_generated: false }
    }

    #[test]
    fn what_does_not_fit_is_refused_without_being_said() {
        let words = Holds::OneOf(vec!["quay".to_owned(), "berth".to_owned()]);
        for (holds, good, bad) in [
            (Holds::Integer, "-7", "7.5"),
            (Holds::Number, "7.50", "7,50"),
            (Holds::Boolean, "true", "yes"),
            (Holds::Time, "2026-11-28T09:41:00Z", "tomorrow"),
            (Holds::Time, "2026-11-28", "28.11.2026"),
            (Holds::Json, "{\"a\": [1]}", "{a}"),
            (words, "quay", "Quay"),
        ] {
            let column = column(holds);
            assert_eq!(column.refuse(good), Ok(()), "{column:?}");
            let refused = column.refuse(bad).unwrap_err();
            assert!(refused.contains("`c`") && !refused.contains(bad), "{refused}");
        }
        let short = Column { longest: Some(3), ..column(Holds::Text) };
        assert!(short.refuse("äöü").is_ok() && short.refuse("abcd").unwrap_err().contains("3 characters"));
    }

    #[test]
    fn the_same_in_other_words_is_the_same_where_the_type_says_so() {
        for (holds, one, other, same) in [
            (Holds::Number, "12.50", "12.5", true),
            (Holds::Number, "6", "6.00", true),
            (Holds::Number, "-0.0", "0", true),
            (Holds::Number, "0.10", ".1", true),
            (Holds::Number, "12.5", "12.05", false),
            (Holds::Number, "10", "1", false),
            (Holds::Number, ".", "", false),
            (Holds::Integer, "007", "7", true),
            (Holds::Text, "12.50", "12.5", false),
            (Holds::Json, "{\"a\": 1, \"b\": 2}", "{\"b\":2,\"a\":1}", true),
            (Holds::Time, "2026-11-28 10:28:28+00", "2026-11-28T11:28:28+01:00", true),
            (Holds::Time, "2026-11-28 10:28:28", "2026-11-28T10:28:29", false),
        ] {
            assert_eq!(column(holds).is_same(one, other), same, "{one} {other}");
        }
    }

    #[test]
    fn what_a_database_says_is_told_as_ledgers_say_it() {
        for (holds, said, told) in [
            (Holds::Boolean, "1", "true"),
            (Holds::Boolean, "f", "false"),
            (Holds::Number, "7.50", "7.5"),
            (Holds::Number, "700", "700"),
            (Holds::Number, "7.00", "7"),
            (Holds::Text, "7.00", "7.00"),
            (Holds::Integer, "100", "100"),
        ] {
            assert_eq!(column(holds).told(Zeroizing::new(said.to_owned())).as_str(), told, "{said}");
        }
    }
}
