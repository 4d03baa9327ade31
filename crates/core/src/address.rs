//! Addresses: `[UNIT[+INSTANCE] | shared] [/ENTRY[.FIELD]] [@STAGE[:DELIVERY]]`.

use std::fmt;

use crate::model::Bundle;
use crate::name::{Name, is_name_char};

mod pattern;

pub use pattern::Pattern;

/// Whose entries an address speaks of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Owner {
    /// The shared entries.
    Shared,
    /// A unit, or one of its instances.
    Unit(Name, Option<Name>),
}

/// Which delivery an address speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Delivery {
    /// The one with this number.
    Number(u32),
    /// The newest one.
    Last,
}

/// One thing in the ledger, as written on the command line and printed in every output.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Address {
    /// Unit, instance or `shared`.
    pub owner: Option<Owner>,
    /// The entry; only together with an owner.
    pub entry: Option<Name>,
    /// The field; only together with an entry.
    pub field: Option<Name>,
    /// The stage; where a setting is meant also a group, or `default`.
    pub stage: Option<Name>,
    /// The delivery; only together with a stage.
    pub delivery: Option<Delivery>,
}

/// A text that is not an address or not a pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("bad address `{text}`: {reason}, at character {}", .at + 1)]
pub struct AddressError {
    /// The whole text.
    pub text: String,
    /// How many characters stand before the mistake.
    pub at: usize,
    /// What is wrong there.
    pub reason: String,
}

impl AddressError {
    /// The text with a caret below the mistake: two lines.
    pub fn pointed(&self) -> String {
        format!("{}\n{}^", self.text, " ".repeat(self.at))
    }
}

impl Address {
    /// Reads an address. No blanks are allowed in it.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let parts = Parts::split(text)?;
        let name = |part: Option<(usize, &str)>| part.map(|p| exact_name(text, p)).transpose();
        let delivery = match parts.delivery {
            None => None,
            Some((_, "last")) => Some(Delivery::Last),
            Some((at, number)) => match number.parse() {
                Ok(number) if number > 0 => Some(Delivery::Number(number)),
                _ => return Err(mistake(text, at, "a delivery is a number from 1, or `last`")),
            },
        };
        let owner = match (name(parts.owner)?, name(parts.instance)?) {
            (None, _) => None,
            (Some(owner), None) if owner.as_str() == "shared" => Some(Owner::Shared),
            (Some(owner), instance) => Some(Owner::Unit(owner, instance)),
        };
        Ok(Self {
            owner,
            entry: name(parts.entry)?,
            field: name(parts.field)?,
            stage: name(parts.stage)?,
            delivery,
        })
    }

    /// The address of an owner, of a stage, or of both.
    pub fn of_owner(owner: Option<Owner>, stage: Option<&Name>) -> Self {
        Self { owner, entry: None, field: None, stage: stage.cloned(), delivery: None }
    }

    /// The address of a field, in a stage or of a setting.
    pub fn of_field(owner: Owner, entry: &Name, field: Option<&Name>, stage: Option<&Name>) -> Self {
        Self {
            owner: Some(owner),
            entry: Some(entry.clone()),
            field: field.cloned(),
            stage: stage.cloned(),
            delivery: None,
        }
    }
}

impl Owner {
    /// The name that patterns cover, `shared` or the unit's, and the instance's.
    pub fn names(&self) -> (&str, Option<&str>) {
        match self {
            Owner::Shared => ("shared", None),
            Owner::Unit(unit, instance) => (unit.as_str(), instance.as_ref().map(Name::as_str)),
        }
    }
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Owner::Shared => f.pad("shared"),
            Owner::Unit(unit, None) => f.pad(unit.as_str()),
            Owner::Unit(unit, Some(instance)) => f.pad(&format!("{unit}+{instance}")),
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(owner) = &self.owner {
            write!(f, "{owner}")?;
        }
        if let Some(entry) = &self.entry {
            write!(f, "/{entry}")?;
        }
        if let Some(field) = &self.field {
            write!(f, ".{field}")?;
        }
        if let Some(stage) = &self.stage {
            write!(f, "@{stage}")?;
        }
        match self.delivery {
            None => Ok(()),
            Some(Delivery::Last) => f.write_str(":last"),
            Some(Delivery::Number(number)) => write!(f, ":{number}"),
        }
    }
}

/// The parts of an address or pattern, each with its byte offset, before their names are judged.
#[derive(Default)]
struct Parts<'t> {
    owner: Option<(usize, &'t str)>,
    instance: Option<(usize, &'t str)>,
    entry: Option<(usize, &'t str)>,
    field: Option<(usize, &'t str)>,
    stage: Option<(usize, &'t str)>,
    delivery: Option<(usize, &'t str)>,
}

impl<'t> Parts<'t> {
    fn split(text: &'t str) -> Result<Self, AddressError> {
        if text.is_empty() {
            return Err(mistake(text, 0, "it is empty"));
        }
        let mut parts = Self::default();
        let mut cut = Cut { text, at: 0 };
        if !text.starts_with(['/', '@']) {
            parts.owner = Some(cut.part()?);
            if cut.eat('+') {
                if parts.owner.is_some_and(|(_, owner)| owner == "shared") {
                    return Err(mistake(text, cut.at - 1, "shared entries have no instances"));
                }
                parts.instance = Some(cut.part()?);
            }
        }
        if cut.eat('/') {
            if parts.owner.is_none() {
                return Err(mistake(text, 0, "an entry needs its unit before the `/`, or `shared`"));
            }
            parts.entry = Some(cut.part()?);
            if cut.eat('.') {
                parts.field = Some(cut.part()?);
            }
        }
        if cut.eat('@') {
            parts.stage = Some(cut.part()?);
            if cut.eat(':') {
                parts.delivery = Some(cut.part()?);
            }
        }
        if cut.at < text.len() {
            let expected = match text[cut.at..].chars().next() {
                Some('.') => "a field belongs after an entry: UNIT/ENTRY.FIELD",
                Some(':') if text.starts_with(Bundle::WORD) => {
                    "a bundle stands where whole units do, and has no values of its own: name one of its units"
                }
                Some(':') => "a delivery belongs after a stage: @STAGE:NUMBER",
                Some('+') => "an instance belongs after its unit: UNIT+INSTANCE",
                Some('/') => "an entry belongs after its unit, once: UNIT/ENTRY",
                Some('@') => "there is one stage already",
                _ => "this cannot stand here",
            };
            return Err(mistake(text, cut.at, expected));
        }
        Ok(parts)
    }
}

struct Cut<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Cut<'t> {
    /// The text up to the next separator.
    fn part(&mut self) -> Result<(usize, &'t str), AddressError> {
        let rest = &self.text[self.at..];
        let length = rest.find(['+', '/', '.', '@', ':']).unwrap_or(rest.len());
        if length == 0 {
            return Err(mistake(self.text, self.at, "a name is expected"));
        }
        let part = (self.at, &rest[..length]);
        self.at += length;
        Ok(part)
    }

    fn eat(&mut self, separator: char) -> bool {
        let found = self.text[self.at..].starts_with(separator);
        self.at += usize::from(found);
        found
    }
}

fn exact_name(text: &str, (at, part): (usize, &str)) -> Result<Name, AddressError> {
    Name::parse(part).map_err(|error| {
        if part.contains(['*', '?']) && part.chars().all(|c| is_name_char(c) || "*?".contains(c)) {
            return mistake(text, at, "one name is needed here, not a pattern");
        }
        mistake(text, at + error.at, error.reason)
    })
}

fn mistake(text: &str, at_byte: usize, reason: &str) -> AddressError {
    AddressError { text: text.to_owned(), at: text[..at_byte].chars().count(), reason: reason.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_form_of_the_grammar_is_read_and_printed_alike() {
        for text in [
            "ticket-desk",
            "ticket-desk+kiosk",
            "shared",
            "ticket-desk@test",
            "ticket-desk/seat_hold",
            "ticket-desk/seat_hold@test",
            "ticket-desk/bookings-db.host@prod-north",
            "shared/bookings-db.host@prod-north",
            "ticket-desk+kiosk/seat_hold@test",
            "@prod-north",
            "ticket-desk@test:7",
            "ticket-desk@test:last",
            "shared/mail.host@default",
        ] {
            assert_eq!(Address::parse(text).unwrap().to_string(), text);
        }
    }

    #[test]
    fn a_bad_address_is_refused_where_the_mistake_is() {
        for (text, at, reason) in [
            ("", 0, "empty"),
            ("/seat_hold@test", 0, "needs its unit"),
            ("Ticket", 0, "a-z"),
            ("ticket-desk//x", 12, "a name is expected"),
            ("ticket-desk/x.", 14, "a name is expected"),
            ("ticket-desk.host", 11, "field belongs after"),
            ("ticket-desk:3", 11, "delivery belongs"),
            ("bundle:quay@test", 6, "where whole units do"),
            ("ticket-desk@test:0", 17, "number from 1"),
            ("ticket-desk@test:x", 17, "number from 1"),
            ("ticket-desk@test@prod", 16, "one stage already"),
            ("shared+a/x", 6, "no instances"),
            ("a+b+c", 3, "after its unit"),
            ("ticket desk", 6, "a-z"),
            ("*/seat_hold", 0, "not a pattern"),
            ("ürst/x", 0, "a-z"),
        ] {
            let error = Address::parse(text).unwrap_err();
            assert_eq!(error.at, at, "{text}: {error}");
            assert!(error.reason.contains(reason), "{text}: {error}");
        }
    }

    proptest! {
        #[test]
        fn no_text_makes_reading_panic(text in "[a-z*?+/.@: é-]{0,24}") {
            if let Ok(address) = Address::parse(&text) {
                prop_assert_eq!(address.to_string(), text);
            }
        }
    }
}
