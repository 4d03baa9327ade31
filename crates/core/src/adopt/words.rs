//! The words that names are made of, however they are spelled.

use crate::name::{MAX_LENGTH, Name};

/// The words of a name: cut at everything but letters and digits, and before capitals within a word.
pub(super) fn words(name: &[String]) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for step in name {
        let mut word = String::new();
        let mut before = None::<char>;
        for c in step.chars() {
            let humps = c.is_uppercase()
                && before.is_some_and(|before| before.is_lowercase() || before.is_ascii_digit());
            if (!c.is_alphanumeric() || humps) && !word.is_empty() {
                words.push(std::mem::take(&mut word));
            }
            if c.is_alphanumeric() {
                word.extend(c.to_lowercase());
            }
            before = Some(c);
        }
        if !word.is_empty() {
            words.push(word);
        }
    }
    words
}

/// A name without all that spellings differ in: `BOOKINGS_DB_HOST`, `bookings-db.host` and
/// `bookingsDbHost` are one.
pub fn loose(name: &[String]) -> String {
    words(name).concat()
}

/// The name that a variable gets which stands in a file under this one; `None` where too little of it is left.
pub fn entry_name(steps: &[String]) -> Option<Name> {
    name_of(&words(steps), '_')
}

/// These words as a name of the ledger; `None` where too little of them is left.
pub(super) fn name_of(words: &[String], between: char) -> Option<Name> {
    let mut name = String::new();
    for word in words {
        let word: String = word.chars().filter(|c| c.is_ascii_lowercase() || c.is_ascii_digit()).collect();
        if word.is_empty() {
            continue;
        }
        if !name.is_empty() {
            name.push(between);
        }
        name.push_str(&word);
    }
    name.truncate(MAX_LENGTH - 4);
    Name::parse(name.trim_end_matches(between)).ok()
}

/// A name like this one that is neither in use nor taken.
pub(super) fn unused(name: Name, in_use: impl Fn(&str) -> bool) -> Name {
    let mut candidate = name.clone();
    let mut number = 2;
    while candidate.is_taken() || in_use(candidate.as_str()) {
        // What `name_of` makes leaves room for a number.
        if let Ok(numbered) = Name::parse(&format!("{name}_{number}")) {
            candidate = numbered;
        }
        number += 1;
    }
    candidate
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_one_name_have_the_same_words() {
        let one = |text: &str| vec![text.to_owned()];
        for name in ["BOOKINGS_DB_HOST", "bookings-db.host", "bookingsDbHost", "bookings_db-host"] {
            assert_eq!(words(&one(name)), ["bookings", "db", "host"], "{name}");
        }
        assert_eq!(loose(&["app".to_owned(), "seatHold".to_owned()]), "appseathold");
        assert_eq!(name_of(&words(&one("Été 2")), '_').unwrap().as_str(), "t_2");
        assert_eq!(name_of(&words(&one("潮")), '_'), None);
        assert_eq!(unused(Name::parse("stage").unwrap(), |_| false).as_str(), "stage_2");
        assert_eq!(unused(Name::parse("a").unwrap(), |name| name == "a").as_str(), "a_2");
    }
}
