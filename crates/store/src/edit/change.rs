//! One change in a file's text.

use std::ops::Range;

use super::brackets::{elements, with_element, without_element};
use super::lines::{before_newline, line_end, line_start, newline, start_of_body};
use super::many::pair;
use super::outline::{Body, Node, Pair, outline};
use super::spread::Spread;
use super::tables::{remove_empty, start_with_comments, without_body};
use super::{What, key, parse_value};

/// Where a value stands.
enum Found<'o> {
    /// In a line of a table's body.
    Statement(&'o Body, &'o Pair),
    /// In an inline table: its pairs, the position among them, and where that table itself stands.
    Inline(&'o [Pair], usize, Box<Found<'o>>),
}

/// The text after the change of a value of these tables.
pub(super) fn change_in(
    text: &str,
    bodies: &[Body],
    path: &[&str],
    header: usize,
    what: &What,
) -> Result<String, String> {
    let has_headers_below =
        |body: &Body| !body.listed && body.path.len() > path.len() && starts_with(&body.path, path);
    if matches!(what, What::Set(_)) && bodies.iter().any(has_headers_below) {
        let without = remove_all(text, path, 0)?;
        return change_in(&without, &outline(&without).ok_or("it is not TOML")?, path, header, what);
    }
    if matches!(what, What::Set(_) | What::Remove)
        && let Some(spread) = Spread::find(bodies, path)?
    {
        return match what {
            What::Set(literal) => spread.set(text, literal),
            _ => Ok(spread.without(text, bodies)),
        };
    }
    let found = bodies.iter().find_map(|body| find(body, path));
    let mut changed = text.to_owned();
    match (what, found) {
        (What::Set(literal), Some(found)) => changed.replace_range(found.value().span.clone(), literal),
        (What::Set(literal), None) => insert(&mut changed, bodies, path, header, literal),
        (What::Remove, Some(_)) => changed = without_found(text, bodies, path),
        (What::Add(literal), Some(found)) => return with_element(text, found.value(), literal),
        (What::Add(literal), None) => insert(&mut changed, bodies, path, header, &format!("[{literal}]")),
        (What::Take(literal), Some(found)) => {
            let list = found.value();
            let wanted = parse_value(literal);
            let is_it = |node: &Node| parse_value(&text[node.span.clone()]) == wanted;
            return Ok(match (elements(list), elements(list).iter().position(is_it)) {
                (_, None) => changed,
                ([_], Some(_)) => without_found(text, bodies, path),
                (_, Some(at)) => without_element(text, list, at),
            });
        }
        _ => {}
    }
    Ok(changed)
}

/// The text without a value, and without the table that is empty then.
pub(super) fn without_found(text: &str, bodies: &[Body], path: &[&str]) -> String {
    let mut changed = text.to_owned();
    let Some(found) = bodies.iter().find_map(|body| find(body, path)) else { return changed };
    let range = removal(text, &found);
    let emptied = is_last(&found);
    changed.replace_range(range.clone(), "");
    if emptied && let Some(body) = outermost(&found) {
        if body.path.is_empty() && bodies.len() > 1 && changed[range.start..].starts_with(newline(text)) {
            changed.replace_range(range.start..range.start + newline(text).len(), "");
        }
        remove_empty(&mut changed, body);
    }
    changed
}

/// The text without everything that stands at or below a path; the table at the first steps `stays`.
pub(super) fn remove_all(text: &str, path: &[&str], stays: usize) -> Result<String, String> {
    let mut text = text.to_owned();
    loop {
        let bodies = outline(&text).ok_or("it is not TOML")?;
        let whole = bodies.iter().position(|body| !body.listed && starts_with(&body.path, path));
        if let Some(at) = whole {
            text = without_body(&text, &bodies, at);
            continue;
        }
        let found = bodies.iter().find_map(|body| find_below(body, path));
        let Some(found) = found else { return Ok(text) };
        if let Some(inside) = found.emptied_at(stays) {
            text.replace_range(inside, "{}");
            continue;
        }
        let (range, emptied) = (removal(&text, &found), is_last(&found));
        let body = outermost(&found).filter(|body| stays == 0 || body.path.len() != stays);
        let mut shorter = text.clone();
        shorter.replace_range(range, "");
        if let Some(body) = body.filter(|_| emptied) {
            remove_empty(&mut shorter, body);
        }
        text = shorter;
    }
}

/// The text of a table with its comments, and of all tables below it; `None` if it has no header.
pub fn table_text(text: &str, path: &[String]) -> Option<String> {
    let bodies = outline(text)?;
    let steps: Vec<&str> = path.iter().map(String::as_str).collect();
    let mut found = String::new();
    for (at, body) in bodies.iter().enumerate() {
        if body.listed || !starts_with(&body.path, &steps) {
            continue;
        }
        let to = bodies.get(at + 1).map_or(text.len(), |next| start_with_comments(text, next));
        let table = &text[start_with_comments(text, body)..to];
        if !found.is_empty() {
            found.push('\n');
        }
        found.push_str(table.trim_end());
        found.push('\n');
    }
    (!found.is_empty()).then_some(found.replace("\r\n", "\n"))
}

fn starts_with(path: &[String], first: &[&str]) -> bool {
    path.len() >= first.len() && path.iter().zip(first).all(|(step, wanted)| step == wanted)
}

/// A value at or below a path.
fn find_below<'o>(body: &'o Body, path: &[&str]) -> Option<Found<'o>> {
    if body.listed {
        return None;
    }
    if let Some(found) = find(body, path) {
        return Some(found);
    }
    let below = |pair: &&Pair| {
        let all: Vec<String> = body.path.iter().chain(&pair.keys).cloned().collect();
        starts_with(&all, path)
    };
    body.pairs.iter().find(below).map(|pair| Found::Statement(body, pair))
}

/// The text to take out with a value of one table.
pub(super) fn removal_of(text: &str, body: &Body, path: &[&str]) -> Option<Range<usize>> {
    find(body, path).map(|found| removal(text, &found))
}

/// Whether a table's body is empty once this is gone.
fn is_last(found: &Found<'_>) -> bool {
    outermost(found).is_some_and(|body| body.pairs.len() == 1) && is_alone(found)
}

impl Found<'_> {
    /// How many steps lead to it.
    fn depth(&self) -> usize {
        match self {
            Found::Statement(body, pair) => body.path.len() + pair.keys.len(),
            Found::Inline(pairs, at, outer) => outer.depth() + pairs[*at].keys.len(),
        }
    }

    /// The inline table at so many steps, if it is empty once this is gone.
    fn emptied_at(&self, steps: usize) -> Option<Range<usize>> {
        let Found::Inline(pairs, _, outer) = self else { return None };
        if steps == 0 || pairs.len() > 1 {
            return None;
        }
        if outer.depth() == steps { Some(outer.value().span.clone()) } else { outer.emptied_at(steps) }
    }

    fn value(&self) -> &Node {
        match self {
            Found::Statement(_, pair) => &pair.value,
            Found::Inline(pairs, at, _) => &pairs[*at].value,
        }
    }
}

/// A value of a table.
pub(super) fn found_at<'o>(body: &'o Body, path: &[&str]) -> Option<&'o Node> {
    Some(match find(body, path)? {
        Found::Statement(_, pair) => &pair.value,
        Found::Inline(pairs, at, _) => &pairs[at].value,
    })
}

fn find<'o>(body: &'o Body, path: &[&str]) -> Option<Found<'o>> {
    if body.listed {
        return None;
    }
    let rest = strip(path, &body.path)?;
    body.pairs.iter().find_map(|pair| {
        let rest = strip(rest, &pair.keys)?;
        let found = Found::Statement(body, pair);
        if rest.is_empty() { Some(found) } else { find_inside(&pair.value, rest, found) }
    })
}

fn find_inside<'o>(node: &'o Node, path: &[&str], outer: Found<'o>) -> Option<Found<'o>> {
    let pairs = node.pairs()?;
    let at = pairs.iter().position(|pair| strip(path, &pair.keys).is_some())?;
    let rest = strip(path, &pairs[at].keys)?;
    let found = Found::Inline(pairs, at, Box::new(outer));
    if rest.is_empty() { Some(found) } else { find_inside(&pairs[at].value, rest, found) }
}

/// The path behind its first steps, if these are they.
fn strip<'p, 's>(path: &'p [&'s str], first: &[String]) -> Option<&'p [&'s str]> {
    let (start, rest) = path.split_at_checked(first.len())?;
    (start == first).then_some(rest)
}

fn outermost<'o>(found: &Found<'o>) -> Option<&'o Body> {
    match found {
        Found::Statement(body, _) => Some(body),
        Found::Inline(_, _, outer) => outermost(outer),
    }
}

/// Whether nothing else stands in the inline tables around it.
fn is_alone(found: &Found<'_>) -> bool {
    match found {
        Found::Statement(..) => true,
        Found::Inline(pairs, _, outer) => pairs.len() == 1 && is_alone(outer),
    }
}

/// The text to take out with a value: its whole line, or its part of an inline table.
fn removal(text: &str, found: &Found<'_>) -> Range<usize> {
    match found {
        Found::Statement(_, pair) => {
            let (start, end) = (line_start(text, pair.span.start), line_end(text, pair.span.end));
            // The last line may have no end; then it is the line before that loses its own.
            let from = if text[..end].ends_with('\n') { start } else { before_newline(text, start) };
            from..end
        }
        Found::Inline(pairs, _, outer) if pairs.len() == 1 => removal(text, outer),
        Found::Inline(pairs, 0, _) => pairs[0].span.start..pairs[1].span.start,
        Found::Inline(pairs, at, _) => pairs[at - 1].span.end..pairs[*at].span.end,
    }
}

fn insert(text: &mut String, bodies: &[Body], path: &[&str], header: usize, literal: &str) {
    let pair = |steps: &[&str]| pair(steps, literal);
    if let Some((node, rest)) = bodies.iter().find_map(|body| inline_on_the_way(body, path)) {
        let added = pair(rest);
        let inside = text[node.span.start + 1..node.span.end - 1].trim_end();
        let at = node.span.start + 1 + inside.len();
        match inside {
            "" => text.replace_range(at..node.span.end - 1, &format!(" {added} ")),
            _ if inside.ends_with(',') => text.insert_str(at, &format!(" {added}")),
            _ => text.insert_str(at, &format!(", {added}")),
        }
        return;
    }
    let fitting = bodies.iter().filter(|body| !body.listed && body.path.len() < path.len());
    let fitting = fitting.filter(|body| strip(path, &body.path).is_some());
    let best = fitting.max_by_key(|body| body.path.len());
    let ending = newline(text);
    match best {
        Some(body) if !body.path.is_empty() || header == 0 => {
            let rest = &path[body.path.len()..];
            let same_entry = body.pairs.iter().rfind(|known| known.keys[0] == rest[0] && rest.len() > 1);
            let after = same_entry.or(body.pairs.last());
            let (at, indent) = match after {
                Some(known) => {
                    let start = line_start(text, known.span.start);
                    (line_end(text, known.span.end), text[start..known.span.start].to_owned())
                }
                None if body.path.is_empty() => (start_of_body(text), String::new()),
                None => (line_end(text, body.header.end), String::new()),
            };
            let added = format!("{indent}{}", pair(rest));
            let starts_line = at == 0 || text[..at].ends_with(['\n', '\u{feff}']);
            // A blank line parts what stands before all tables from them.
            let is_first = after.is_none() && body.path.is_empty() && bodies.len() > 1;
            let ending = if is_first { ending.repeat(2) } else { ending.to_owned() };
            text.insert_str(at, &if starts_line { added + &ending } else { format!("{ending}{added}") });
        }
        _ => {
            let (table, rest) = path.split_at(header.min(path.len() - 1));
            let steps: Vec<String> = table.iter().map(|step| key(step)).collect();
            let lines = format!("[{}]{ending}{}", steps.join("."), pair(rest));
            if text.trim_start_matches('\u{feff}').is_empty() {
                text.push_str(&format!("{lines}{ending}"));
            } else if text.ends_with('\n') {
                text.push_str(&format!("{ending}{lines}{ending}"));
            } else {
                text.push_str(&format!("{ending}{ending}{lines}"));
            }
        }
    }
}

/// The innermost inline table on the way to a value that is not there, and the steps from there.
fn inline_on_the_way<'o, 'p, 's>(body: &'o Body, path: &'p [&'s str]) -> Option<(&'o Node, &'p [&'s str])> {
    let mut rest = strip(path, &body.path).filter(|_| !body.listed)?;
    let mut pairs = body.pairs.as_slice();
    let mut found = None;
    loop {
        let next = pairs.iter().find_map(|pair| Some((pair, strip(rest, &pair.keys)?)));
        let Some((pair, after)) = next.filter(|(pair, _)| pair.value.pairs().is_some()) else { return found };
        found = Some((&pair.value, after));
        (rest, pairs) = (after, pair.value.pairs()?);
    }
}

#[cfg(test)]
mod tests {
    use super::super::Edit;
    use super::super::one::change;
    use super::*;

    fn edited(text: &str, path: &str, header: usize, what: What) -> String {
        let path = path.split('/').map(str::to_owned).collect();
        change(text, &Edit { file: String::new(), path, header, what }).unwrap()
    }

    fn set(text: &str, path: &str, literal: &str) -> String {
        edited(text, path, 2, What::Set(literal.to_owned()))
    }

    #[test]
    fn a_value_takes_the_place_of_another_and_nothing_else_changes() {
        let text =
            "\u{feff}# top\r\n[units.desk]  # desk\r\nhold   = '5m'  # for now\r\ndb = {a=1,b = 2}\r\n";
        let expected = text.replace("'5m'", "'9m'");
        assert_eq!(set(text, "units/desk/hold", "'9m'"), expected);
        assert_eq!(set(text, "units/desk/db/b", "3"), text.replace("b = 2", "b = 3"));
    }

    #[test]
    fn a_new_value_finds_its_place() {
        let text = "[units.desk]\n  hold = 1 # x\n  db.host = 'a'\n  region = 'n'\n\n# gate\n[units.gate]\nx = { y = 1 }\n";
        for (path, added) in [
            ("units/desk/new", text.replace("'n'\n", "'n'\n  new = 7\n")),
            ("units/desk/db/port", text.replace("'a'\n", "'a'\n  db.port = 7\n")),
            ("units/gate/x/z", text.replace("y = 1 }", "y = 1, z = 7 }")),
            ("units/mail+a/hold", format!("{text}\n[units.\"mail+a\"]\nhold = 7\n")),
            ("shared/db/port", format!("{text}\n[shared.db]\nport = 7\n")),
        ] {
            let made = set(text, path, "7");
            assert_eq!(made, added, "{path}");
            assert_eq!(edited(&made, path, 2, What::Remove), text, "{path} goes again");
        }
    }

    #[test]
    fn a_value_takes_the_place_of_tables_with_headers_of_their_own() {
        for own in ["", "[units.desk.fares]\nowl.price = 2\n", "[units.desk.fares]\n"] {
            let text = format!(
                "[units.desk]\nhold = 1\n\n{own}[units.desk.fares.adult]\nprice = 3\n\n\
                 [units.desk.fares.child]\nprice = 1\n\n[units.gate]\nx = 1\n"
            );
            let made = set(&text, "units/desk/fares", "'fares.csv'");
            assert_eq!(
                made.replace("\n\n", "\n"),
                "[units.desk]\nhold = 1\nfares = 'fares.csv'\n[units.gate]\nx = 1\n"
            );
        }
    }

    #[test]
    fn what_was_set_goes_without_a_trace_whatever_the_file_ends_with() {
        for text in
            ["", "a = 1", "a = 1\n", "a = 1\r\n", "a = 1\n\n\n", "# only words", "# words\n", "[t]\na = 1"]
        {
            for (path, header) in [("b", 0), ("b/c", 0), ("units/desk/b", 2), ("shared/b", 1)] {
                let made = edited(text, path, header, What::Set("2".to_owned()));
                assert!(toml::from_str::<toml::Table>(&made).is_ok(), "{made}");
                assert_eq!(edited(&made, path, header, What::Remove), text, "{text:?} {path} {made:?}");
            }
        }
    }

    #[test]
    fn an_emptied_table_goes_unless_a_comment_stands_there() {
        let text = "a = 1\n\n[units.desk]\nhold = 1\n\n[units.gate]\nx = { y = 1 }\n";
        let remove = |text: &str, path: &str| edited(text, path, 2, What::Remove);
        assert_eq!(remove(text, "units/desk/hold"), "a = 1\n\n[units.gate]\nx = { y = 1 }\n");
        assert_eq!(remove(text, "units/gate/x/y"), "a = 1\n\n[units.desk]\nhold = 1\n");
        let noted = text.replace("hold = 1\n", "hold = 1\n# by hand\n");
        assert_eq!(remove(&noted, "units/desk/hold"), noted.replace("hold = 1\n", ""));
        assert_eq!(remove(text, "units/desk/none"), text);
    }
}
