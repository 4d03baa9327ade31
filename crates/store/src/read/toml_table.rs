//! What a TOML file holds, with the place of each key and value: as small as can be, since there are many.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::{BuildHasher as _, RandomState};
use std::ops::Range;

use toml::de::{DeInteger, DeTable, DeValue};
use toml::value::Datetime;

/// Something in a file, and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Spanned<T> {
    start: u32,
    end: u32,
    what: T,
}

impl<T> Spanned<T> {
    #[expect(clippy::cast_possible_truncation, reason = "larger files are not read")]
    pub(super) fn new(span: Range<usize>, what: T) -> Self {
        Self { start: span.start as u32, end: span.end as u32, what }
    }

    pub(super) fn span(&self) -> Range<usize> {
        self.start as usize..self.end as usize
    }

    pub(super) fn get_ref(&self) -> &T {
        &self.what
    }

    pub(super) fn as_mut(&mut self) -> &mut T {
        &mut self.what
    }
}

/// A key.
pub(super) type TomlKey<'t> = Spanned<Cow<'t, str>>;

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum TomlValue<'t> {
    /// A string.
    String(Cow<'t, str>),
    /// An integer, as its digits.
    Integer(TomlInteger<'t>),
    /// A float, as it is written.
    Float(Cow<'t, str>),
    /// A boolean.
    Boolean(bool),
    /// A date, a time or both.
    Datetime(Datetime),
    /// An array.
    Array(Vec<Spanned<TomlValue<'t>>>),
    /// A table.
    Table(TomlTable<'t>),
}

/// An integer that may not fit.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct TomlInteger<'t> {
    pub(super) digits: Cow<'t, str>,
    pub(super) radix: u32,
}

impl<'t> TomlValue<'t> {
    pub(super) fn as_str(&self) -> Option<&str> {
        match self {
            TomlValue::String(text) => Some(text),
            _ => None,
        }
    }

    pub(super) fn as_bool(&self) -> Option<bool> {
        match self {
            TomlValue::Boolean(truth) => Some(*truth),
            _ => None,
        }
    }

    pub(super) fn as_table(&self) -> Option<&TomlTable<'t>> {
        match self {
            TomlValue::Table(table) => Some(table),
            _ => None,
        }
    }

    pub(super) fn is_array(&self) -> bool {
        matches!(self, TomlValue::Array(_))
    }

    /// What TOML calls a value of this form.
    pub(super) fn type_str(&self) -> &'static str {
        match self {
            TomlValue::String(_) => "string",
            TomlValue::Integer(_) => "integer",
            TomlValue::Float(_) => "float",
            TomlValue::Boolean(_) => "boolean",
            TomlValue::Datetime(_) => "datetime",
            TomlValue::Array(_) => "array",
            TomlValue::Table(_) => "table",
        }
    }
}

/// The most keys of a table that are compared one by one to find one; beyond that they are hashed.
const FEW: usize = 24;

/// A table, its keys in the order of the file.
#[derive(Debug, Clone, Default)]
pub(super) struct TomlTable<'t> {
    pairs: Vec<(TomlKey<'t>, Spanned<TomlValue<'t>>)>,
    /// The positions of keys by their hashes, where there are many. Whoever writes a file cannot foresee them.
    hashes: Option<Box<(RandomState, HashMap<u64, usize>)>>,
    /// Whether it stands in braces, so that no header can add to it.
    is_inline: bool,
}

impl PartialEq for TomlTable<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.pairs == other.pairs
    }
}

impl<'t> TomlTable<'t> {
    /// A table with room for so many keys.
    pub(super) fn with_capacity(keys: usize) -> Self {
        Self { pairs: Vec::with_capacity(keys), ..Self::default() }
    }

    pub(super) fn len(&self) -> usize {
        self.pairs.len()
    }

    pub(super) fn is_empty(&self) -> bool {
        self.pairs.is_empty()
    }

    /// The table as one that stands in braces.
    pub(super) fn inline(self) -> Self {
        Self { is_inline: true, ..self }
    }

    pub(super) fn is_inline(&self) -> bool {
        self.is_inline
    }

    fn position(&self, name: &str) -> Option<usize> {
        let is_it = |at: usize| self.pairs[at].0.what == name;
        if let Some((state, hashes)) = self.hashes.as_deref() {
            let first = *hashes.get(&state.hash_one(name))?;
            // Two keys may have one hash.
            return if is_it(first) { Some(first) } else { (first..self.len()).find(|&at| is_it(at)) };
        }
        // Keys of one table often begin alike.
        let end = name.as_bytes().last();
        self.pairs.iter().position(|(key, _)| key.what.as_bytes().last() == end && key.what == name)
    }

    pub(super) fn get(&self, name: &str) -> Option<&Spanned<TomlValue<'t>>> {
        self.position(name).map(|at| &self.pairs[at].1)
    }

    pub(super) fn get_mut(&mut self, name: &str) -> Option<&mut Spanned<TomlValue<'t>>> {
        self.position(name).map(|at| &mut self.pairs[at].1)
    }

    pub(super) fn contains_key(&self, name: &str) -> bool {
        self.position(name).is_some()
    }

    /// Adds a key that is not there yet; says whether it was not.
    pub(super) fn add(&mut self, key: TomlKey<'t>, value: Spanned<TomlValue<'t>>) -> bool {
        if self.contains_key(&key.what) {
            return false;
        }
        self.push(key, value);
        true
    }

    /// Adds a key that is known not to be there yet.
    fn push(&mut self, key: TomlKey<'t>, value: Spanned<TomlValue<'t>>) {
        let position = self.pairs.len();
        if let Some((state, hashes)) = self.hashes.as_deref_mut() {
            hashes.entry(state.hash_one(key.what.as_ref())).or_insert(position);
        } else if position == FEW {
            let state = RandomState::new();
            let mut hashes = HashMap::new();
            for (at, key) in self.pairs.iter().map(|(key, _)| key).chain([&key]).enumerate() {
                hashes.entry(state.hash_one(key.what.as_ref())).or_insert(at);
            }
            self.hashes = Some(Box::new((state, hashes)));
        }
        self.pairs.push((key, value));
    }

    pub(super) fn iter(&self) -> Iter<'_, 't> {
        self.pairs.iter().map(|(key, value)| (key, value))
    }

    pub(super) fn keys(&self) -> impl Iterator<Item = &TomlKey<'t>> {
        self.pairs.iter().map(|(key, _)| key)
    }

    pub(super) fn values(&self) -> impl Iterator<Item = &Spanned<TomlValue<'t>>> {
        self.pairs.iter().map(|(_, value)| value)
    }
}

type Pair<'t> = (TomlKey<'t>, Spanned<TomlValue<'t>>);

/// The keys of a table with their values.
pub(super) type Iter<'a, 't> = std::iter::Map<
    std::slice::Iter<'a, Pair<'t>>,
    fn(&'a Pair<'t>) -> (&'a TomlKey<'t>, &'a Spanned<TomlValue<'t>>),
>;

impl<'a, 't> IntoIterator for &'a TomlTable<'t> {
    type Item = (&'a TomlKey<'t>, &'a Spanned<TomlValue<'t>>);
    type IntoIter = Iter<'a, 't>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

impl<'t> From<DeTable<'t>> for TomlTable<'t> {
    fn from(parsed: DeTable<'t>) -> Self {
        let mut table = Self::default();
        for (key, value) in parsed {
            let key = Spanned::new(key.span(), key.into_inner());
            table.push(key, spanned(value));
        }
        table
    }
}

fn spanned(parsed: toml::Spanned<DeValue<'_>>) -> Spanned<TomlValue<'_>> {
    let span = parsed.span();
    let value = match parsed.into_inner() {
        DeValue::String(text) => TomlValue::String(text),
        DeValue::Integer(number) => TomlValue::Integer(integer(&number)),
        DeValue::Float(number) => TomlValue::Float(Cow::Owned(number.as_str().to_owned())),
        DeValue::Boolean(truth) => TomlValue::Boolean(truth),
        DeValue::Datetime(moment) => TomlValue::Datetime(moment),
        DeValue::Array(items) => TomlValue::Array(items.into_iter().map(spanned).collect()),
        DeValue::Table(table) => TomlValue::Table(table.into()),
    };
    Spanned::new(span, value)
}

fn integer<'t>(number: &DeInteger<'_>) -> TomlInteger<'t> {
    TomlInteger { digits: Cow::Owned(number.as_str().to_owned()), radix: number.radix() }
}
