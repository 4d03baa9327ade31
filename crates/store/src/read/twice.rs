//! Keys and tables that stand twice in a file: where the first one is.

use std::collections::HashMap;
use std::ops::Range;

use crate::edit::outline::{Holds, Node, Pair, outline};

/// Where a key or table first stands that stands once more at `second`. `None` if that cannot be told.
pub(super) fn first_of(text: &str, second: &Range<usize>) -> Option<Range<usize>> {
    let mut walk = Walk { second: second.start, known: HashMap::new(), lists: HashMap::new() };
    for body in outline(text)? {
        let base = walk.base(&body.path, body.listed);
        let found = if body.listed { None } else { walk.steps(&[], &base, &body.places) };
        let found = found.or_else(|| walk.pairs(&base, &body.pairs));
        if found.is_some() {
            return found;
        }
    }
    None
}

/// The steps from a file's root to something in it; those in a list with its number among them.
type Path = Vec<String>;

struct Walk {
    /// Where the second one begins.
    second: usize,
    /// Where each thing first stands.
    known: HashMap<Path, Range<usize>>,
    /// How many tables each list of tables has so far.
    lists: HashMap<Path, usize>,
}

impl Walk {
    /// The path of a table with this header.
    fn base(&mut self, header: &[String], listed: bool) -> Path {
        let mut path = Path::new();
        for (at, step) in header.iter().enumerate() {
            path.push(step.clone());
            if listed && at + 1 == header.len() {
                *self.lists.entry(path.clone()).or_default() += 1;
            }
            if let Some(count) = self.lists.get(&path) {
                let number = format!("#{count}");
                path.push(number);
            }
        }
        path
    }

    /// Notes the steps of a key or header below `base`; gives where the one first stands that is looked for.
    fn steps(&mut self, base: &[String], keys: &[String], places: &[Range<usize>]) -> Option<Range<usize>> {
        let mut path = base.to_vec();
        let mut places = places.iter();
        for key in keys {
            path.push(key.clone());
            // The number of a table in a list is written nowhere.
            if key.starts_with('#') && self.lists.contains_key(&path[..path.len() - 1]) {
                continue;
            }
            let place = places.next()?;
            if place.contains(&self.second) {
                return self.known.get(&path).cloned();
            }
            self.known.entry(path.clone()).or_insert_with(|| place.clone());
        }
        None
    }

    fn pairs(&mut self, base: &[String], pairs: &[Pair]) -> Option<Range<usize>> {
        pairs.iter().find_map(|pair| {
            let path = [base, &pair.keys].concat();
            self.steps(base, &pair.keys, &pair.places).or_else(|| self.inside(&path, &pair.value))
        })
    }

    fn inside(&mut self, path: &[String], node: &Node) -> Option<Range<usize>> {
        match &node.holds {
            Holds::One => None,
            Holds::Table(pairs) => self.pairs(path, pairs),
            Holds::List(items) => items.iter().enumerate().find_map(|(at, item)| {
                let path = [path, &[format!("[{at}]")]].concat();
                self.inside(&path, item)
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use toml::de::DeTable;

    use super::*;

    #[test]
    fn the_first_of_two_is_found() {
        for (text, expected) in [
            ("a = 1\nb = 2\na = 3\n", Some(1)),
            ("[x]\na = 1\n[y]\na = 2\n[z]\nb = { a = 1 }\na = 1\na = 2\n", Some(7)),
            ("[x]\na = 1\n[y]\n[x]\n", Some(1)),
            ("[[x]]\na = 1\n[[x]]\nb = 1\na = 2\n\"a\" = 3\n", Some(5)),
            ("[[x]]\n[x.y]\na = 1\n[[x]]\n[x.y]\na = 1\n[x.y]\n", Some(5)),
            ("t = { a = 1,\n b = 2, a = 3 }\n", Some(1)),
            ("l = [\n { a = 1 },\n { b = 1, c = 1,\n b = 2 } ]\n", Some(3)),
            ("a.b = 1\na.b = 2\n", Some(1)),
            ("a = 1\na = 2\n[", None),
        ] {
            let (_, errors) = DeTable::parse_recoverable(text);
            let error = errors.iter().find(|error| error.message() == "duplicate key");
            let span = error.and_then(toml::de::Error::span);
            let first = span.and_then(|span| first_of(text, &span));
            let line = first.map(|at| text[..at.start].matches('\n').count() + 1);
            assert_eq!(line, expected, "{text}");
        }
    }
}
