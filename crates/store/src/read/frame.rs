//! Reading the tables of a TOML file key by key, so that no key goes unread.

use std::ops::Range;

use cledger_core::address::{AddressError, Pattern};
use cledger_core::name::{Name, nearest};
use cledger_core::source::{FileId, Place};
use cledger_core::types::parse_date;
use cledger_core::value::Value;
use jiff::civil::Date;

use super::documents::Documents;
use super::toml_table::{Spanned, TomlInteger, TomlKey, TomlTable, TomlValue};
use crate::mistake::Mistakes;
use cledger_core::model::Mistake;

/// A value in a file, with its place.
pub(super) type Item<'t, 'i> = &'t Spanned<TomlValue<'i>>;

/// Gives places in one file, and collects the mistakes found there.
#[derive(Clone, Copy)]
pub(super) struct In<'m> {
    pub(super) file: FileId,
    pub(super) mistakes: &'m Mistakes,
    /// For files that this one refers to.
    pub(super) documents: &'m Documents<'m>,
}

#[expect(clippy::cast_possible_truncation, reason = "larger files are not read")]
fn offsets(span: Range<usize>) -> (u32, u32) {
    (span.start as u32, span.end as u32)
}

/// Keys that were called otherwise in earlier ledgers.
const FORMER: [(&str, &str); 1] = [("recipe", "routine")];

impl In<'_> {
    pub(super) fn place(self, span: Range<usize>) -> Place {
        let (start, end) = offsets(span);
        Place { file: self.file, start, end }
    }

    pub(super) fn wrong(self, span: Range<usize>, message: impl Into<String>) {
        self.mistakes.push(Mistake::at(self.place(span), message));
    }

    pub(super) fn wrong_with(self, span: Range<usize>, message: impl Into<String>, help: impl Into<String>) {
        self.mistakes.push(Mistake::at(self.place(span), message).help(help));
    }

    /// A key that must be a name, and not one of those taken if `free` says so.
    pub(super) fn name(self, key: &TomlKey<'_>, what: &str, free: bool) -> Option<Name> {
        self.name_text(key.get_ref(), key.span(), what, free)
    }

    pub(super) fn name_text(self, text: &str, span: Range<usize>, what: &str, free: bool) -> Option<Name> {
        match Name::parse(text) {
            Ok(name) if free && name.is_taken() => {
                self.wrong(span, format!("`{text}` has a meaning of its own and cannot name {what}"));
                None
            }
            Ok(name) => Some(name),
            Err(error) => {
                self.wrong(span, format!("`{text}` cannot name {what}: {error}"));
                None
            }
        }
    }

    /// A pattern of addresses without a stage.
    pub(super) fn pattern(self, text: &str, span: Range<usize>) -> Option<Pattern> {
        match Pattern::parse(text) {
            Ok(pattern) if pattern.has_stage() => {
                self.wrong_with(span, "no stage can be named here", "leave out what begins with `@`");
                None
            }
            Ok(pattern) => Some(pattern),
            Err(error @ AddressError { .. }) => {
                self.wrong(span, error.to_string());
                None
            }
        }
    }

    /// A value that must be text.
    pub(super) fn text<'t>(self, item: Item<'t, '_>, what: &str) -> Option<&'t str> {
        let text = item.get_ref().as_str();
        if text.is_none() {
            self.expected(item, what, "text in quotes");
        }
        text
    }

    pub(super) fn boolean(self, item: Item<'_, '_>, what: &str) -> Option<bool> {
        let truth = item.get_ref().as_bool();
        if truth.is_none() {
            self.expected(item, what, "true or false");
        }
        truth
    }

    /// A value that must be a day.
    pub(super) fn day(self, item: Item<'_, '_>, what: &str) -> Option<Date> {
        let day = match self.value(item) {
            Value::Date(date) => Some(date),
            Value::Text(text) => parse_date(&text),
            _ => None,
        };
        if day.is_none() {
            self.wrong_with(item.span(), format!("{what} must be a day"), "write it as 2027-01-31");
        }
        day
    }

    /// A value that must be a list, with its items.
    pub(super) fn list<'t, 'i>(self, item: Item<'t, 'i>, what: &str) -> Vec<Item<'t, 'i>> {
        if let TomlValue::Array(items) = item.get_ref() {
            items.iter().collect()
        } else {
            self.expected(item, what, "a list in brackets");
            Vec::new()
        }
    }

    /// A value that must be a list of texts.
    pub(super) fn texts<'t>(self, item: Item<'t, '_>, what: &str) -> Vec<(&'t str, Range<usize>)> {
        let items = self.list(item, what).into_iter();
        items.filter_map(|item| Some((self.text(item, what)?, item.span()))).collect()
    }

    pub(super) fn table<'t, 'i>(self, item: Item<'t, 'i>, what: &str) -> Option<&'t TomlTable<'i>> {
        let table = item.get_ref().as_table();
        if table.is_none() {
            self.expected(item, what, "a table");
        }
        table
    }

    pub(super) fn expected(self, item: Item<'_, '_>, what: &str, wanted: &str) {
        let found = item.get_ref().type_str();
        self.wrong(item.span(), format!("{what} must be {wanted}, and this is of type {found}"));
    }

    /// One of several words.
    pub(super) fn choice<T: Copy>(self, item: Item<'_, '_>, what: &str, choices: &[(T, &str)]) -> Option<T> {
        let text = self.text(item, what)?;
        let found = choices.iter().find(|(_, word)| *word == text);
        if found.is_none() {
            let words: Vec<_> = choices.iter().map(|&(_, word)| word).collect();
            let help = match nearest(text, words.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"? It can be {}", words.join(", ")),
                None => format!("it can be {}", words.join(", ")),
            };
            self.wrong_with(item.span(), format!("{what} cannot be \"{text}\""), help);
        }
        found.map(|&(choice, _)| choice)
    }

    /// Hands each key of a table to `read`, which says whether it knows it; others are mistakes.
    pub(super) fn keys<'t, 'i>(
        self,
        table: &'t TomlTable<'i>,
        known: &[&str],
        mut read: impl FnMut(&str, Item<'t, 'i>),
    ) {
        for (key, value) in table {
            if known.contains(&key.get_ref().as_ref()) {
                read(key.get_ref(), value);
            } else {
                self.unknown_key(key, known);
            }
        }
    }

    pub(super) fn unknown_key(self, key: &TomlKey<'_>, known: &[&str]) {
        let former = FORMER.iter().find(|(former, now)| key.get_ref() == former && known.contains(now));
        let help = match (former, nearest(key.get_ref(), known.iter().copied())) {
            (Some((_, now)), _) => format!("it is called `{now}` now"),
            (None, Some(near)) => format!("did you mean `{near}`?"),
            (None, None) => format!("the keys that can stand here are {}", known.join(", ")),
        };
        self.wrong_with(key.span(), format!("unknown key `{}`", key.get_ref()), help);
    }

    /// Any TOML value.
    pub(super) fn value(self, item: Item<'_, '_>) -> Value {
        match item.get_ref() {
            TomlValue::String(text) => Value::text(text),
            TomlValue::Integer(number) => self.integer(number, item.span()),
            TomlValue::Float(number) => Value::Number(number.parse().unwrap_or(f64::NAN)),
            TomlValue::Boolean(truth) => Value::Boolean(*truth),
            TomlValue::Datetime(moment) => match (moment.date, moment.time) {
                (Some(date), None) => {
                    let part = |number: u8| i8::try_from(number).unwrap_or_default();
                    let year = i16::try_from(date.year).unwrap_or_default();
                    match Date::new(year, part(date.month), part(date.day)) {
                        Ok(date) => Value::Date(date),
                        Err(_) => Value::Time(moment.to_string().into()),
                    }
                }
                _ => Value::Time(moment.to_string().into()),
            },
            TomlValue::Array(items) => Value::List(items.iter().map(|item| self.value(item)).collect()),
            TomlValue::Table(table) => {
                let pair = |(key, item): (&TomlKey<'_>, _)| (key.get_ref().as_ref().into(), self.value(item));
                Value::Map(table.iter().map(pair).collect())
            }
        }
    }

    fn integer(self, number: &TomlInteger<'_>, span: Range<usize>) -> Value {
        if let Ok(number) = i64::from_str_radix(&number.digits, number.radix) {
            return Value::Integer(number);
        }
        self.wrong(span, "this number does not fit into 64 bits");
        Value::Integer(0)
    }
}
