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
