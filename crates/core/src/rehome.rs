//! Rehoming: an artifact that carries one stage's values gets another stage's.
//!
//! The artifact is a text with stretches in it, each with its place and the way characters are coded
//! there. A value is replaced where it stands as a whole token, also percent-encoded or with
//! backslashes; no other byte changes. Of values that overlap, the one that begins first counts, of those the longest.

mod suggest;
mod view;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use aho_corasick::{AhoCorasick, MatchKind};
use zeroize::Zeroizing;

pub use self::suggest::{Looks, Suggestion, Suggestions};
use self::view::{View, views};
use crate::compare::Compared;
use crate::model::Ledger;
use crate::resolve::{Effective, FieldId};
use crate::types::Type;
use crate::value::{Held, Value};

/// How the characters of a stretch stand in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Coding {
    /// As they are.
    Plain,
    /// As in a string of JSON (RFC 8259 section 7), without its quotes.
    Json,
    /// As in XML text or an attribute's value, with references (XML 1.0 section 4.1).
    Xml,
    /// A number of JSON, which only a number can replace.
    Number,
}

/// A part of a file that is looked into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stretch {
    /// Where it is: a JSON Pointer (RFC 6901), the path of an XML element, or a line.
    pub place: String,
    /// Its bytes.
    pub range: Range<usize>,
    /// How its characters stand there.
    pub coding: Coding,
}

/// A value of the first stage and the one that takes its place.
pub struct Swap {
    /// The fields themselves, in the second stage.
    pub ids: Vec<FieldId>,
    /// The fields that it is of, as `ENTRY` or `ENTRY.FIELD`, with a key or position for maps and lists.
    pub fields: Vec<String>,
    from: Held,
    /// None where the second stage has no value.
    to: Option<Held>,
    /// Whether either is a secret.
    pub secret: bool,
    /// Whether it says too little by itself to be looked for unless it is named.
    pub is_common: bool,
    /// Whether it is the same in capitals and in small letters, as hosts and identifiers are.
    pub any_case: bool,
}

impl Swap {
    fn from(&self) -> &str {
        self.from.expose().as_text().unwrap_or_default()
    }

    /// Whether this text is its own.
    fn is_in(&self, text: &str) -> bool {
        text == self.from() || self.any_case && text.eq_ignore_ascii_case(self.from())
    }

    /// Whether another one takes the place of the same text.
    pub fn is_same_text(&self, other: &Self) -> bool {
        self.from() == other.from()
    }

    /// The two values, unless they are secrets.
    pub fn shown(&self) -> Option<(&str, Option<&str>)> {
        let to = self.to.as_ref().and_then(|to| to.expose().as_text());
        (!self.secret).then(|| (self.from(), to))
    }
}

/// The fewest characters of a text that says something by itself.
const TELLING: usize = 4;

/// The fewest letters of a plain word that does.
const TELLING_WORD: usize = 8;

/// The fewest characters of a secret that does, which is no word that stands elsewhere.
const TELLING_SECRET: usize = 6;

/// The values that differ between two stages, each pair once.
pub fn swaps(ledger: &Ledger, compared: &[Compared<'_>]) -> Vec<Swap> {
    let mut found: BTreeMap<(String, Option<String>), Swap> = BTreeMap::new();
    for one in compared {
        let Some(left) = one.left_value.as_ref() else { continue };
        let (entry, field) = ledger.field(one.left.subject, one.left.slot);
        let name =
            field.name.as_ref().map_or_else(|| entry.name.to_string(), |it| format!("{}.{it}", entry.name));
        let right = one.right_value.as_ref();
        let secret = left.is_secret() || right.is_some_and(Effective::is_secret);
        let Some(value) = left.expose() else { continue };
        for (name, from, to) in pairs(&name, value, right.and_then(|right| right.expose())) {
            if Some(&from) == to.as_ref() || from.is_empty() {
                continue;
            }
            let is_common = is_common(field.this_type, &from, secret);
            let held = |text: &str| Held::new(Value::text(text), true);
            let swap = found.entry((from.clone(), to.clone())).or_insert_with(|| Swap {
                ids: Vec::new(),
                fields: Vec::new(),
                from: held(&from),
                to: to.as_deref().map(held),
                secret: false,
                is_common: true,
                any_case: false,
            });
            swap.fields.push(name);
            swap.ids.push(one.right);
            swap.any_case |= !is_common && (field.this_type == Type::Host || is_identifier(&from));
            swap.secret |= secret;
            swap.is_common &= is_common;
        }
    }
    found.into_values().collect()
}

/// Whether a value would be found in many places where it means something else.
fn is_common(this: Type, text: &str, secret: bool) -> bool {
    let small = matches!(
        this,
        Type::Integer | Type::Number | Type::Boolean | Type::Port | Type::Duration | Type::Size | Type::Date
    );
    let length = text.chars().count();
    if secret {
        return small || length < TELLING_SECRET;
    }
    small || length < TELLING || length < TELLING_WORD && text.chars().all(char::is_alphabetic)
}

/// Whether a text is an identifier of hexadecimal digits: a UUID (RFC 9562), or at least twelve digits with letters
/// among them.
pub(crate) fn is_identifier(text: &str) -> bool {
    let parts: Vec<&str> = text.split('-').collect();
    let is_hex = |part: &&str| part.bytes().all(|byte| byte.is_ascii_hexdigit());
    let is_uuid = parts.iter().map(|part| part.len()).eq([8, 4, 4, 4, 12]);
    let is_long = parts.len() == 1 && text.len() >= 12;
    let (digits, letters) = (text.contains(|c: char| c.is_ascii_digit()), text.contains(char::is_alphabetic));
    parts.iter().all(is_hex) && (is_uuid || is_long && digits && letters)
}

/// A text in capitals where what it takes the place of is in capitals, and small where that is small throughout.
fn cased(found: &str, from: &str, to: &str) -> String {
    if found == from {
        return to.to_owned();
    }
    let has = |of: fn(char) -> bool| found.contains(of);
    match (has(char::is_uppercase), has(char::is_lowercase)) {
        (true, false) => to.to_uppercase(),
        (false, true) => to.to_lowercase(),
        _ => to.to_owned(),
    }
}

/// The texts in a value with what takes their places: of lists by position, of maps by key.
fn pairs(name: &str, from: &Value, to: Option<&Value>) -> Vec<(String, String, Option<String>)> {
    let text = |value: &Value| value.to_text().to_string();
    match (from, to) {
        (Value::List(items), to) => {
            let others = match to {
                Some(Value::List(others)) => others.as_slice(),
                _ => &[],
            };
            let pair =
                |(at, item): (usize, &Value)| (format!("{name}[{at}]"), text(item), others.get(at).map(text));
            items.iter().enumerate().map(pair).collect()
        }
        (Value::Map(map), to) => {
            let other = |key: &str| match to {
                Some(Value::Map(others)) => others.get(key),
                _ => None,
            };
            let of_key = |(key, item): (&compact_str::CompactString, &Value)| {
                pairs(&format!("{name}[{key}]"), item, other(key))
            };
            map.iter().flat_map(of_key).collect()
        }
        (value, to) => vec![(name.to_owned(), text(value), to.map(text))],
    }
}

/// Something that stands in a stretch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spot {
    /// Where.
    pub place: String,
    /// Which of the values, by its position.
    pub swap: usize,
}

/// Why a value is still there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Left {
    /// The second stage has no value to take its place.
    NoValue,
    /// It was not chosen.
    NotChosen,
    /// It is a part of a longer text.
    WithinOther,
}

/// What rehoming a text comes to.
pub struct Rehomed {
    /// The new text. It may hold secrets.
    pub text: Zeroizing<String>,
    /// What was replaced, in order.
    pub replaced: Vec<Spot>,
    /// Values of the first stage that are still in there, and why.
    pub left: Vec<(Spot, Left)>,
    /// Whole tokens that stand for several fields whose new values differ.
    pub ambiguous: Vec<Spot>,
    /// Numbers whose new value is none.
    pub no_number: Vec<Spot>,
}

/// A value in the text: where, and what takes its place.
struct Hit {
    range: Range<usize>,
    /// How well the way of reading fits in which it was seen: the lowest first.
    fit: usize,
    stretch: usize,
    swap: usize,
    coded: Zeroizing<String>,
}

/// Replaces values in the stretches of a text. `chosen` says whether a value is to be replaced at a place.
pub fn rehome(
    text: &str,
    stretches: &[Stretch],
    swaps: &[Swap],
    chosen: impl Fn(&str, usize) -> bool,
) -> Rehomed {
    let mut rehomed = Rehomed {
        text: Zeroizing::new(String::with_capacity(text.len())),
        replaced: Vec::new(),
        left: Vec::new(),
        ambiguous: Vec::new(),
        no_number: Vec::new(),
    };
    let finder = Finder::new(swaps);
    let mut hits: Vec<Hit> = Vec::new();
    // Whole tokens that nothing takes the place of.
    let mut lacking: BTreeSet<(usize, usize, usize)> = BTreeSet::new();
    // Bytes, stretch and value of whatever stands there in any form.
    let mut seen: Vec<(Range<usize>, usize, usize)> = Vec::new();
    for (at, stretch) in stretches.iter().enumerate() {
        for view in views(text, stretch) {
            for (swap, within) in finder.anywhere(&view) {
                seen.push((view.raw(within), at, swap));
            }
            for (swap, within) in finder.tokens(&view) {
                let spot = Spot { place: stretch.place.clone(), swap };
                let found = &view.text[within.clone()];
                let same = swaps.iter().enumerate().filter(|(_, other)| other.is_in(found));
                let same: Vec<usize> =
                    same.map(|(other, _)| other).filter(|other| chosen(&stretch.place, *other)).collect();
                if !same.contains(&swap) {
                    continue;
                }
                let to = swaps[swap].to.as_ref().and_then(|to| to.expose().as_text());
                match to {
                    _ if same.len() > 1 => rehomed.ambiguous.push(spot),
                    None => {
                        let range = view.raw(within);
                        lacking.insert((range.start, range.end, swap));
                    }
                    Some(to) if stretch.coding == Coding::Number && !is_number(to) => {
                        rehomed.no_number.push(spot);
                    }
                    Some(to) => {
                        let to = Zeroizing::new(cased(found, swaps[swap].from(), to));
                        let (coded, fit) = (Zeroizing::new(view.coded(&to)), view.fit(&within));
                        hits.push(Hit { range: view.raw(within), fit, stretch: at, swap, coded });
                    }
                }
            }
        }
    }
    let replaced = put_in(text, stretches, hits, &mut rehomed);
    let mut known = BTreeSet::new();
    for (range, stretch, swap) in seen {
        let at = replaced.partition_point(|other| other.end <= range.start);
        let gone = replaced.get(at).is_some_and(|other| other.start < range.end);
        if !gone && known.insert((range.start, range.end, swap)) {
            let place = stretches[stretch].place.clone();
            let why = if !chosen(&place, swap) {
                Left::NotChosen
            } else if lacking.contains(&(range.start, range.end, swap)) {
                Left::NoValue
            } else {
                Left::WithinOther
            };
            rehomed.left.push((Spot { place, swap }, why));
        }
    }
    rehomed
}

/// Writes the text with what takes the place of values: of those that overlap, the first and longest that fits best. Gives
/// the bytes that were replaced.
fn put_in(text: &str, stretches: &[Stretch], mut hits: Vec<Hit>, rehomed: &mut Rehomed) -> Vec<Range<usize>> {
    hits.sort_by_key(|hit| (hit.range.start, std::cmp::Reverse(hit.range.end), hit.fit));
    let mut done = 0;
    let mut replaced: Vec<Range<usize>> = Vec::new();
    for hit in hits {
        if hit.range.start < done {
            continue;
        }
        rehomed.text.push_str(text.get(done..hit.range.start).unwrap_or_default());
        rehomed.text.push_str(&hit.coded);
        done = hit.range.end;
        replaced.push(hit.range);
        rehomed.replaced.push(Spot { place: stretches[hit.stretch].place.clone(), swap: hit.swap });
    }
    rehomed.text.push_str(text.get(done..).unwrap_or_default());
    replaced
}

/// Whether a text is a number of JSON (RFC 8259 section 6).
fn is_number(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let leading_zero = digits.len() > 1 && digits.starts_with('0') && !digits.starts_with("0.");
    !leading_zero
        && digits.starts_with(|c: char| c.is_ascii_digit())
        && text.parse::<f64>().is_ok_and(f64::is_finite)
}

/// Finds all values at once.
struct Finder {
    /// The values, and which swap each is of.
    exact: Option<AhoCorasick>,
    /// Those that are the same in any case, likewise.
    any_case: Option<AhoCorasick>,
    of_any_case: Vec<usize>,
    /// Those that say something, whatever their case.
    loose: Option<AhoCorasick>,
    telling: Vec<usize>,
}

impl Finder {
    fn new(swaps: &[Swap]) -> Self {
        let all = swaps.iter().map(Swap::from);
        let build = |patterns: Vec<&str>, any_case: bool| {
            let mut builder = AhoCorasick::builder();
            builder.match_kind(MatchKind::Standard).ascii_case_insensitive(any_case);
            builder.build(patterns).ok()
        };
        let telling: Vec<usize> =
            swaps.iter().enumerate().filter(|(_, swap)| !swap.is_common).map(|(at, _)| at).collect();
        let of_any_case: Vec<usize> =
            swaps.iter().enumerate().filter(|(_, swap)| swap.any_case).map(|(at, _)| at).collect();
        Self {
            exact: build(all.collect(), false),
            any_case: build(of_any_case.iter().map(|&at| swaps[at].from()).collect(), true),
            of_any_case,
            loose: build(telling.iter().map(|&at| swaps[at].from()).collect(), true),
            telling,
        }
    }

    /// Where values stand as whole tokens.
    fn tokens<'v>(&'v self, view: &'v View<'_>) -> impl Iterator<Item = (usize, Range<usize>)> + 'v {
        let text = view.text.as_str();
        let exact = self.exact.iter().flat_map(move |finder| finder.find_overlapping_iter(text));
        let exact = exact.map(|it| (it.pattern().as_usize(), it.range()));
        // Those of any case are found by their own finder, as they are written and otherwise.
        let exact = exact.filter(|(swap, _)| self.of_any_case.binary_search(swap).is_err());
        let others = self.any_case.iter().flat_map(move |finder| finder.find_overlapping_iter(text));
        let others = others.map(|it| (self.of_any_case[it.pattern().as_usize()], it.range()));
        exact.chain(others).filter(move |(_, range)| is_token(text, range))
    }

    /// Where values that say something stand at all.
    fn anywhere<'v>(&'v self, view: &'v View<'_>) -> impl Iterator<Item = (usize, Range<usize>)> + 'v {
        let text = view.text.as_str();
        let found = self.loose.iter().flat_map(move |finder| finder.find_overlapping_iter(text));
        found.map(|it| (self.telling[it.pattern().as_usize()], it.range()))
    }
}

/// Whether nothing goes on before and after a range: no letter, digit, `_` or `-`, and no dot with one
/// of these behind it.
fn is_token(text: &str, range: &Range<usize>) -> bool {
    let word = |c: char| c.is_alphanumeric() || c == '_' || c == '-';
    let (before, within, after) = (&text[..range.start], &text[range.start..range.end], &text[range.end..]);
    let goes_on = |mut outside: Box<dyn Iterator<Item = char> + '_>, edge: Option<char>| {
        if !edge.is_some_and(word) {
            return false;
        }
        match outside.next() {
            Some('.') => outside.next().is_some_and(word),
            Some(c) => word(c),
            None => false,
        }
    };
    !goes_on(Box::new(before.chars().rev()), within.chars().next())
        && !goes_on(Box::new(after.chars()), within.chars().next_back())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn swap(field: &str, from: &str, to: Option<&str>) -> Swap {
        let held = |text: &str| Held::new(Value::text(text), false);
        let (from, to) = (held(from), to.map(held));
        let any_case = is_identifier(from.expose().as_text().unwrap()) || field.ends_with("host");
        Swap {
            ids: Vec::new(),
            fields: vec![field.to_owned()],
            from,
            to,
            secret: false,
            is_common: false,
            any_case,
        }
    }

    /// Rehomes a text that is one stretch.
    fn of(text: &str, coding: Coding, swaps: &[Swap]) -> Rehomed {
        let stretch = Stretch { place: "/".to_owned(), range: 0..text.len(), coding };
        rehome(text, &[stretch], swaps, |_, _| true)
    }

    #[test]
    fn whole_tokens_are_replaced_as_they_are_written() {
        let swaps = [
            swap("db.host", "db.test.example", Some("db.north.example")),
            swap("api.base", "https://db.test.example/a", Some("https://x.example/b?c=\"d\"&e")),
            swap("user", "finder&co", Some("müller \"x\"")),
            swap("id", "0a1b2c3d-0000-4000-8000-00000000abcd", Some("ffffffff-0000-4000-8000-00000000ffff")),
        ];
        for (coding, before, after) in [
            (Coding::Plain, "db.test.example", "db.north.example"),
            (Coding::Plain, "(db.test.example:5432).", "(db.north.example:5432)."),
            (Coding::Plain, "at db.test.example.", "at db.north.example."),
            (
                Coding::Plain,
                "mydb.test.example db.test.example2 db.test.example.org x.db.test.example -db.test.example",
                "mydb.test.example db.test.example2 db.test.example.org x.db.test.example -db.test.example",
            ),
            (Coding::Plain, "https://db.test.example/a/b", "https://x.example/b?c=\"d\"&e/b"),
            (Coding::Plain, "http://db.test.example/a", "http://db.north.example/a"),
            (
                Coding::Plain,
                "u=https%3A%2F%2Fdb.test.example%2Fa&v=%zz",
                "u=https%3A%2F%2Fx.example%2Fb%3Fc%3D%22d%22%26e&v=%zz",
            ),
            (Coding::Plain, "\"https:\\/\\/db.test.example\\/a\"", "\"https://x.example/b?c=\\\"d\\\"&e\""),
            (
                Coding::Json,
                "https:\\/\\/db.test.example\\u002fa \\\\ \\u00fc",
                "https://x.example/b?c=\\\"d\\\"&e \\\\ \\u00fc",
            ),
            (Coding::Json, "{\\\"h\\\": \\\"finder&co\\\"}", "{\\\"h\\\": \\\"müller \\\"x\\\"\\\"}"),
            (
                Coding::Xml,
                "finder&amp;co &lt;db.test.example&gt; &x; &#38;",
                "müller &quot;x&quot; &lt;db.north.example&gt; &x; &#38;",
            ),
            (Coding::Plain, "finder%26co", "m%C3%BCller%20%22x%22"),
            // Next to an escape, of either case, and within two of them.
            (Coding::Plain, "%2F%2Fdb.test.example%2F", "%2F%2Fdb.north.example%2F"),
            (
                Coding::Plain,
                "u=%22db.test.example%22&v=%2f%2fdb.test.example",
                "u=%22db.north.example%22&v=%2f%2fdb.north.example",
            ),
            (Coding::Plain, "%252F%252Fdb.test.example%252F", "%252F%252Fdb.north.example%252F"),
            (
                Coding::Plain,
                "u=https%253a%252f%252fdb.test.example%252Fa",
                "u=https%253A%252F%252Fx.example%252Fb%253Fc%253D%2522d%2522%2526e",
            ),
            (Coding::Plain, "a\\ndb.test.example\\n", "a\\ndb.north.example\\n"),
            (
                Coding::Json,
                "{\\\"h\\\":\\\"%2Fdb.test.example%2F\\\"}",
                "{\\\"h\\\":\\\"%2Fdb.north.example%2F\\\"}",
            ),
            // Hosts and identifiers in any case.
            (Coding::Plain, "DB.TEST.EXAMPLE Db.test.example", "DB.NORTH.EXAMPLE db.north.example"),
            (
                Coding::Plain,
                "id=0A1B2C3D-0000-4000-8000-00000000ABCD",
                "id=FFFFFFFF-0000-4000-8000-00000000FFFF",
            ),
        ] {
            assert_eq!(of(before, coding, &swaps).text.as_str(), after, "{before}");
        }
    }

    #[test]
    fn what_is_left_or_undecided_is_told() {
        let swaps = [
            swap("a", "test.example", Some("one")),
            swap("b", "test.example", Some("two")),
            swap("c", "gone.example", None),
        ];
        let rehomed = of("test.example gone.example", Coding::Plain, &swaps);
        assert_eq!((rehomed.ambiguous.len(), rehomed.replaced.len()), (2, 0));
        let left: Vec<(usize, Left)> = rehomed.left.iter().map(|(spot, why)| (spot.swap, *why)).collect();
        assert!(left.contains(&(2, Left::NoValue)));
        let one = [swap("a", "test.example", Some("one"))];
        let rehomed = of("TEST.example mytest.example Test.example2", Coding::Plain, &one);
        assert_eq!(rehomed.left.len(), 3, "whatever the case, and each by itself");
        let port = [swap("port", "5432", Some("5433")), swap("word", "77", Some("n"))];
        assert_eq!(of("5432", Coding::Number, &port).text.as_str(), "5433");
        assert_eq!(of("15432", Coding::Number, &port).text.as_str(), "15432");
        assert_eq!(of("77", Coding::Number, &port).no_number.len(), 1);
    }
}
