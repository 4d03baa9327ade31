//! Values that are spread over several lines of a file: in a table of their own, or under keys with dots.
//!
//! ```toml
//! [units.ticket-desk.seat_hold]      # or, in [units.ticket-desk]:
//! value = "45s"                      # seat_hold.value = "45s"
//! why = "on trial"                   # seat_hold.why = "on trial"
//! ```
//!
//! Each of its lines stays where it is as long as the new value has it, too.

use std::collections::BTreeMap;

use super::lines::{line_end, line_start};
use super::many::{end_of, line, with_changes};
use super::outline::{Body, Holds, Pair, outline};
use super::tables::{remove_empty, without_body};

/// Where a value is spread.
pub(super) struct Spread<'o> {
    at: usize,
    body: &'o Body,
    /// The steps of its keys that lead to the value, from the table on.
    keys: Vec<String>,
    pairs: Vec<&'o Pair>,
}

impl<'o> Spread<'o> {
    /// The value at a path, if it is spread there.
    pub(super) fn find(bodies: &'o [Body], path: &[&str]) -> Result<Option<Self>, String> {
        for (at, body) in bodies.iter().enumerate().filter(|(_, body)| !body.listed) {
            let Some(rest) =
                path.get(body.path.len()..).filter(|_| body.path.iter().zip(path).all(|(a, b)| a == b))
            else {
                continue;
            };
            let is_part = |pair: &&Pair| {
                pair.keys.len() > rest.len() && pair.keys.iter().zip(rest).all(|(a, b)| a == b)
            };
            let pairs: Vec<&Pair> = body.pairs.iter().filter(is_part).collect();
            if rest.is_empty() && body.path.len() == path.len() || !rest.is_empty() && !pairs.is_empty() {
                let below = |other: &Body| {
                    other.path.len() > path.len() && other.path.iter().zip(path).all(|(a, b)| a == b)
                };
                if bodies.iter().any(below) {
                    return Err(format!("`{}` has tables of its own below it there", path.join(".")));
                }
                let keys = rest.iter().map(|step| (*step).to_owned()).collect();
                return Ok(Some(Self { at, body, keys, pairs }));
            }
        }
        Ok(None)
    }

    /// The text with another value in its place.
    pub(super) fn set(&self, text: &str, literal: &str) -> Result<String, String> {
        let wanted = parts(literal)?;
        let mut changes: BTreeMap<(usize, usize), Vec<String>> = BTreeMap::new();
        let mut left = wanted.clone();
        for pair in &self.pairs {
            let steps = &pair.keys[self.keys.len()..];
            if let Some(at) = left.iter().position(|(known, _)| known == steps) {
                let (_, value) = left.remove(at);
                changes.insert((pair.value.span.start, pair.value.span.end), vec![value]);
            } else {
                changes.insert(lines_of(text, pair), vec![String::new()]);
            }
        }
        // A table of its own that has nothing in it is an empty map; keys with dots would say nothing at all.
        if wanted.is_empty() && !self.keys.is_empty() {
            left.push((Vec::new(), literal.to_owned()));
        }
        let (at, indent) = match self.pairs.last() {
            Some(pair) => {
                let start = line_start(text, pair.span.start);
                (line_end(text, pair.span.end), text[start..pair.span.start].to_owned())
            }
            None => end_of(text, self.body),
        };
        for (steps, value) in left {
            let keys: Vec<&str> = self.keys.iter().chain(&steps).map(String::as_str).collect();
            changes.entry((at, at)).or_default().push(line(text, at, &indent, &keys, &value));
        }
        Ok(with_changes(text, changes))
    }

    /// The text without it.
    pub(super) fn without(&self, text: &str, bodies: &[Body]) -> String {
        if self.keys.is_empty() {
            return without_body(text, bodies, self.at);
        }
        let lines = self.pairs.iter().map(|pair| (lines_of(text, pair), vec![String::new()]));
        let mut without = with_changes(text, lines.collect());
        if self.pairs.len() == self.body.pairs.len() {
            remove_empty(&mut without, self.body);
        }
        without
    }
}

/// The lines of a pair.
fn lines_of(text: &str, pair: &Pair) -> (usize, usize) {
    (line_start(text, pair.span.start), line_end(text, pair.span.end))
}

/// What a value says key by key: its own keys, or itself as `value`.
fn parts(literal: &str) -> Result<Vec<(Vec<String>, String)>, String> {
    let text = format!("x = {literal}");
    let bodies = outline(&text).ok_or("the new value is not TOML")?;
    let node = bodies.first().and_then(|body| body.pairs.first()).map(|pair| &pair.value.holds);
    let Some(Holds::Table(pairs)) = node else {
        return Ok(vec![(vec!["value".to_owned()], literal.to_owned())]);
    };
    Ok(pairs.iter().map(|pair| (pair.keys.clone(), text[pair.value.span.clone()].to_owned())).collect())
}

#[cfg(test)]
mod tests {
    use super::super::one::change;
    use super::super::{Edit, What};

    fn changed(text: &str, what: What) -> String {
        let path = ["units", "desk", "hold"].map(str::to_owned).into();
        change(text, &Edit { file: String::new(), path, header: 2, what }).unwrap()
    }

    #[test]
    fn each_line_stays_where_it_is_as_long_as_it_says_something() {
        let set = |literal: &str| What::Set(literal.to_owned());
        let own = "[units.desk]\nregion = \"x\"\n\n# held\n[units.desk.hold]\nvalue = \"5m\" # short\nwhy = \"trial\"\n\n[shared.db]\nhost = \"y\"\n";
        let dotted = "[units.desk]\nhold.value = \"5m\" # short\n  hold.why = \"trial\"\nregion = \"x\"";
        let map = "[units.desk.hold]\na = \"1\"\nb.c = \"2\"\n";
        for (text, what, expected) in [
            (own, set("\"9m\""), own.replace("\"5m\"", "\"9m\"").replace("why = \"trial\"\n", "")),
            (
                own,
                set("{ value = \"9m\", why = \"longer\" }"),
                own.replace("5m", "9m").replace("trial", "longer"),
            ),
            (
                own,
                set("{ absent = true, until = 2027-01-01 }"),
                own.replace(
                    "value = \"5m\" # short\nwhy = \"trial\"\n",
                    "absent = true\nuntil = 2027-01-01\n",
                ),
            ),
            (own, What::Remove, "[units.desk]\nregion = \"x\"\n\n[shared.db]\nhost = \"y\"\n".to_owned()),
            (dotted, set("\"9m\""), dotted.replace("5m", "9m").replace("  hold.why = \"trial\"\n", "")),
            (
                dotted,
                set("{ from = \"env:X\" }"),
                "[units.desk]\n  hold.from = \"env:X\"\nregion = \"x\"".to_owned(),
            ),
            (dotted, What::Remove, "[units.desk]\nregion = \"x\"".to_owned()),
            (map, set("{ a = \"3\", d = \"4\" }"), "[units.desk.hold]\na = \"3\"\nd = \"4\"\n".to_owned()),
            (map, set("{}"), "[units.desk.hold]\n".to_owned()),
            ("[units.desk]\nhold.a = \"1\"\n", set("{}"), "[units.desk]\nhold = {}\n".to_owned()),
            (
                "[units.desk]\r\nhold.value = [\r\n 1,\r\n]\r\n",
                set("[2]"),
                "[units.desk]\r\nhold.value = [2]\r\n".to_owned(),
            ),
            ("[units.desk]\nhold.value = '''\na\nb'''\n", What::Remove, String::new()),
        ] {
            assert_eq!(changed(text, what), expected, "{text}");
        }
        let path = ["units", "desk", "hold"].map(str::to_owned).into();
        let edit = Edit { file: String::new(), path, header: 2, what: set("1") };
        // What has tables of its own below it is replaced as a whole, and only ever so.
        let below = "[units.desk.hold]\na = 1\n[units.desk.hold.b]\nc = 1\n";
        let replaced = change(below, &edit).unwrap();
        assert!(!replaced.contains("a = 1") && !replaced.contains("c = 1"), "{replaced}");
        assert!(change(below, &Edit { what: What::Remove, ..edit }).is_err());
    }
}
