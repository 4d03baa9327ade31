//! Many values set in one file: as if one after the other, and with the text read once.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound;

use super::lines::{line_end, line_start, newline, start_of_body};
use super::outline::{Body, Node, Pair, outline};
use super::{Edit, What, key};

/// The text after all of these; `None` where they are not of the kind that can be made at once, so that they have to
/// be made one after the other.
pub(super) fn at_once(text: &str, edits: &[&Edit]) -> Option<String> {
    let edits: Vec<Set<'_>> = edits.iter().map(|edit| Set::of(edit)).collect::<Option<_>>()?;
    refuse_overlapping(&edits)?;
    let bodies = outline(text)?;
    let known = Known::of(&bodies);
    let mut changes: BTreeMap<(usize, usize), Vec<String>> = BTreeMap::new();
    let mut lines: BTreeMap<usize, Lines<'_>> = BTreeMap::new();
    let mut tables: Vec<(Vec<&str>, Lines<'_>)> = Vec::new();
    for edit in &edits {
        let path = &edit.path[..];
        if known.tables.contains_key(path) || known.is_inside(path) || known.is_spread(path) {
            return None;
        }
        if let Some(node) = known.values.get(path) {
            changes.insert((node.span.start, node.span.end), vec![edit.literal.to_owned()]);
            continue;
        }
        // A table that is made here fits as well as one that was there.
        let of_file =
            (0..path.len()).rev().find_map(|length| Some((*known.tables.get(&path[..length])?, length)));
        let new = tables.iter().enumerate().filter(|(_, (table, _))| path.starts_with(table));
        let new = new.max_by_key(|(_, (table, _))| table.len()).map(|(at, (table, _))| (at, table.len()));
        match (of_file, new) {
            (of_file, Some((at, length))) if of_file.is_none_or(|(_, known)| known < length) => {
                tables[at].1.add(&path[length..], edit.literal);
            }
            (Some((at, length)), _) if length > 0 || edit.header == 0 => {
                let rest = &path[length..];
                match known.last_of_entry.get(&(at, rest[0])).filter(|_| rest.len() > 1) {
                    Some(pair) => {
                        let (at, indent) = behind(text, pair);
                        changes.entry((at, at)).or_default().push(line(
                            text,
                            at,
                            &indent,
                            rest,
                            edit.literal,
                        ));
                    }
                    None => lines.entry(at).or_default().add(rest, edit.literal),
                }
            }
            _ => {
                let (table, rest) = path.split_at(edit.header.min(path.len() - 1));
                let mut lines = Lines::default();
                lines.add(rest, edit.literal);
                tables.push((table.to_vec(), lines));
            }
        }
    }
    // What comes before the first of all tables is parted from them by a blank line.
    let is_first = |at: &usize| bodies[*at].path.is_empty() && (bodies.len() > 1 || !tables.is_empty());
    if lines.keys().any(is_first) {
        return None;
    }
    for (at, lines) in lines {
        let (at, indent) = end_of(text, &bodies[at]);
        let new = lines.0.iter().map(|(rest, literal)| line(text, at, &indent, rest, literal));
        changes.entry((at, at)).or_default().extend(new);
    }
    let mut made = with_changes(text, changes);
    for (path, lines) in tables {
        add_table(&mut made, newline(text), &path, &lines);
    }
    Some(made)
}

/// An edit that sets a value.
struct Set<'e> {
    path: Vec<&'e str>,
    header: usize,
    literal: &'e str,
}

impl<'e> Set<'e> {
    fn of(edit: &'e Edit) -> Option<Self> {
        let What::Set(literal) = &edit.what else { return None };
        Some(Self { path: edit.path.iter().map(String::as_str).collect(), header: edit.header, literal })
    }
}

/// Values that are part of one another, or are set twice, hang on the order in which that is done.
fn refuse_overlapping(edits: &[Set<'_>]) -> Option<()> {
    let paths: BTreeSet<&[&str]> = edits.iter().map(|edit| &edit.path[..]).collect();
    let mut pairs = paths.iter().zip(paths.iter().skip(1));
    let is_apart = paths.len() == edits.len() && !pairs.any(|(one, next)| next.starts_with(one));
    is_apart.then_some(())
}

/// What a file has.
#[derive(Default)]
struct Known<'o> {
    /// Its tables, by path.
    tables: BTreeMap<Vec<&'o str>, usize>,
    /// Its values, by path.
    values: BTreeMap<Vec<&'o str>, &'o Node>,
    /// The last line of each table that begins with a key.
    last_of_entry: BTreeMap<(usize, &'o str), &'o Pair>,
}

impl<'o> Known<'o> {
    fn of(bodies: &'o [Body]) -> Self {
        let mut known = Self::default();
        for (at, body) in bodies.iter().enumerate().filter(|(_, body)| !body.listed) {
            let table: Vec<&str> = body.path.iter().map(String::as_str).collect();
            known.tables.insert(table.clone(), at);
            for pair in &body.pairs {
                known.last_of_entry.insert((at, &pair.keys[0]), pair);
                known.add(table.clone(), pair);
            }
        }
        known
    }

    fn add(&mut self, mut path: Vec<&'o str>, pair: &'o Pair) {
        path.extend(pair.keys.iter().map(String::as_str));
        for inner in pair.value.pairs().into_iter().flatten() {
            self.add(path.clone(), inner);
        }
        self.values.entry(path).or_insert(&pair.value);
    }

    /// Whether a value is spread over several keys.
    fn is_spread(&self, path: &[&str]) -> bool {
        let mut from = self.values.range::<[&str], _>((Bound::Excluded(path), Bound::Unbounded));
        !self.values.contains_key(path) && from.next().is_some_and(|(next, _)| next.starts_with(path))
    }

    /// Whether a value that is not there would stand inside of another one.
    fn is_inside(&self, path: &[&str]) -> bool {
        !self.values.contains_key(path)
            && (1..path.len()).any(|length| self.values.contains_key(&path[..length]))
    }
}

/// New lines of one table: the steps of each with its value. Those of one entry stand together.
#[derive(Default)]
struct Lines<'e>(Vec<(Vec<&'e str>, &'e str)>);

impl<'e> Lines<'e> {
    fn add(&mut self, rest: &[&'e str], literal: &'e str) {
        let same_entry = self.0.iter().rposition(|(known, _)| known[0] == rest[0] && rest.len() > 1);
        let at = same_entry.map_or(self.0.len(), |at| at + 1);
        self.0.insert(at, (rest.to_vec(), literal));
    }
}

/// Where a line behind a pair begins, and what it is indented with.
fn behind(text: &str, pair: &Pair) -> (usize, String) {
    let start = line_start(text, pair.span.start);
    (line_end(text, pair.span.end), text[start..pair.span.start].to_owned())
}

/// Where a line at the end of a table begins, and what it is indented with.
pub(super) fn end_of(text: &str, body: &Body) -> (usize, String) {
    match body.pairs.last() {
        Some(pair) => behind(text, pair),
        None if body.path.is_empty() => (start_of_body(text), String::new()),
        None => (line_end(text, body.header.end), String::new()),
    }
}

/// A line with its end, or behind the end of the line before it where the file lacks that.
pub(super) fn line(text: &str, at: usize, indent: &str, rest: &[&str], literal: &str) -> String {
    let added = format!("{indent}{}", pair(rest, literal));
    let starts_line = at == 0 || text[..at].ends_with(['\n', '\u{feff}']);
    let ending = newline(text);
    if starts_line { added + ending } else { format!("{ending}{added}") }
}

/// A key with its value.
pub(super) fn pair(steps: &[&str], literal: &str) -> String {
    let steps: Vec<String> = steps.iter().map(|step| key(step)).collect();
    format!("{} = {literal}", steps.join("."))
}

/// The text with others in the place of parts of it.
pub(super) fn with_changes(text: &str, changes: BTreeMap<(usize, usize), Vec<String>>) -> String {
    let more: usize = changes.values().flatten().map(String::len).sum();
    let mut made = String::with_capacity(text.len() + more);
    let mut done = 0;
    for ((start, end), texts) in changes {
        made.push_str(&text[done..start]);
        for text in texts {
            made.push_str(&text);
        }
        done = end;
    }
    made + &text[done..]
}

/// Adds a table at the end of a text.
fn add_table(text: &mut String, ending: &str, path: &[&str], lines: &Lines<'_>) {
    let steps: Vec<String> = path.iter().map(|step| key(step)).collect();
    let mut table = format!("[{}]", steps.join("."));
    for (rest, literal) in &lines.0 {
        table.push_str(ending);
        table.push_str(&pair(rest, literal));
    }
    if text.trim_start_matches('\u{feff}').is_empty() {
        text.push_str(&format!("{table}{ending}"));
    } else if text.ends_with('\n') {
        text.push_str(&format!("{ending}{table}{ending}"));
    } else {
        text.push_str(&format!("{ending}{ending}{table}"));
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::one::change;
    use super::*;

    const FILES: [&str; 9] = [
        "",
        "\u{feff}",
        "a = 1\n",
        "a = 1",
        "# head\r\n[units.desk]\r\n  hold = \"5m\" # why\r\n  db.host = \"x\"\r\n\r\n[units.gate]\r\n",
        "[units.desk]\nhold = 1\ndb = { host = \"x\", port = 1 }\n\n[shared.db]\nhost = \"y\"\n\n# end\n",
        "[units]\ndesk.hold = 1\ndesk.db.host = \"x\"\ngate = { }\n",
        "top = 1\n[units.desk.db]\nhost = \"x\"\n[[list]]\nhold = 1\n[units.gate]\ndb.port = 1",
        "[units.desk]\n[units.gate]\nhold = [\n 1,\n 2,\n]",
    ];

    fn edit() -> impl Strategy<Value = Edit> {
        let path = prop_oneof![
            Just(vec!["a"]),
            Just(vec!["units", "desk", "hold"]),
            Just(vec!["units", "desk", "db", "host"]),
            Just(vec!["units", "desk", "db", "port"]),
            Just(vec!["units", "desk", "more"]),
            Just(vec!["units", "gate", "hold"]),
            Just(vec!["units", "gate", "db", "port"]),
            Just(vec!["units", "gate", "db", "host"]),
            Just(vec!["units", "desk", "db"]),
            Just(vec!["shared", "db", "host"]),
            Just(vec!["shared", "x-y", "z z"]),
            Just(vec!["list", "hold"]),
        ];
        (path, 0..3usize, "[1-9]{1,4}").prop_map(|(path, header, literal)| {
            let path: Vec<String> = path.into_iter().map(str::to_owned).collect();
            Edit { file: String::new(), header: header.min(path.len() - 1), path, what: What::Set(literal) }
        })
    }

    proptest! {
        #[test]
        fn many_at_once_are_as_one_after_the_other(
            at in 0..FILES.len(), edits in prop::collection::vec(edit(), 1..8)
        ) {
            if let Some(made) = at_once(FILES[at], &edits.iter().collect::<Vec<_>>()) {
                let mut text = FILES[at].to_owned();
                for edit in &edits {
                    text = change(&text, edit).unwrap();
                }
                prop_assert_eq!(made, text);
            }
        }
    }

    #[test]
    fn what_hangs_on_the_order_is_made_in_it() {
        let set = |path: &str| Edit {
            file: String::new(),
            path: path.split('.').map(str::to_owned).collect(),
            header: 1,
            what: What::Set("1".to_owned()),
        };
        for [one, other] in [["a.b", "a.b"], ["a.b", "a.b.c"]] {
            assert_eq!(at_once("", &[&set(one), &set(other)]), None);
        }
        assert_eq!(at_once("", &[&set("a.b"), &set("a.c")]).as_deref(), Some("[a]\nb = 1\nc = 1\n"));
    }
}
