//! Comments: in files that are written a header and a note above each value, in files that are read what they say of
//! a value.

use std::collections::BTreeMap;

use cledger_core::model::OutputFormat;

use crate::{Particulars, ReadError, format};

/// A text as comment lines of a format that has comments.
fn comment(this: OutputFormat, indent: &str, text: &str) -> String {
    let line = |line: &str| match this {
        // A comment of XML holds no `--`.
        OutputFormat::Xml => format!("{indent}<!-- {} -->\n", line.replace("--", "- -").replace("--", "- -")),
        _ => format!("{indent}{}\n", format!("# {line}").trim_end()),
    };
    text.lines().map(line).collect()
}

/// A file's text with a header above it, as a comment.
pub fn with_header(this: OutputFormat, header: &str, text: &str) -> String {
    let header = comment(this, "", header);
    // The declaration of an XML file must come first.
    match text.strip_prefix("<?xml").and_then(|rest| rest.split_once('\n')) {
        Some((declaration, rest)) => format!("<?xml{declaration}\n{header}{rest}"),
        None => format!("{header}{text}"),
    }
}

/// A file's text with a note above the line of each value that has one, by the steps of its name;
/// `None` where the format has no comments.
pub fn annotate(
    this: OutputFormat,
    particulars: Particulars<'_>,
    text: &str,
    notes: &BTreeMap<Vec<String>, String>,
) -> Result<Option<String>, ReadError> {
    let Some(reader) = format(this, particulars).filter(|_| this.has_comments()) else { return Ok(None) };
    let found = reader.read(text)?;
    let mut by_line: BTreeMap<usize, Vec<&str>> = BTreeMap::new();
    for (name, note) in notes {
        if let Some(line) = found.line_of(name) {
            by_line.entry(line).or_default().push(note);
        }
    }
    let mut annotated = String::with_capacity(text.len() * 2);
    for (number, line) in (1..).zip(text.split_inclusive('\n')) {
        let indent = &line[..line.len() - line.trim_start_matches(' ').len()];
        for note in by_line.get(&number).into_iter().flatten() {
            annotated.push_str(&comment(this, indent, note));
        }
        annotated.push_str(line);
    }
    Ok(Some(annotated))
}

/// The longest comment that is taken for what a value is for, in characters.
const LONGEST: usize = 200;

/// What comments in a file say of its values, whose lines these are: those behind a value, and those right above one
/// that stands by itself. A comment above several values may be about all of them, and is passed over, as is what
/// looks like a value that somebody has taken out.
pub fn comments_of(
    this: OutputFormat,
    text: &str,
    lines: &BTreeMap<Vec<String>, usize>,
) -> BTreeMap<Vec<String>, String> {
    let marks: &[char] = match this {
        OutputFormat::Properties => &['#', '!'],
        OutputFormat::Ini => &['#', ';'],
        OutputFormat::Json | OutputFormat::Xml | OutputFormat::Csv | OutputFormat::Template => {
            return BTreeMap::new();
        }
        _ => &['#'],
    };
    let rows: Vec<&str> = text.lines().collect();
    let mut by_line: BTreeMap<usize, Vec<&Vec<String>>> = BTreeMap::new();
    for (name, line) in lines {
        by_line.entry(*line).or_default().push(name);
    }
    let mut found = BTreeMap::new();
    for (&line, names) in &by_line {
        let [name] = names[..] else { continue };
        let behind = match this {
            OutputFormat::Yaml | OutputFormat::Toml => rows.get(line - 1).and_then(|row| behind(row)),
            _ => None,
        };
        let is_alone = rows.get(line).is_none_or(|next| is_blank_or(next, marks));
        let above = || is_alone.then(|| above(&rows[..(line - 1).min(rows.len())], marks)).flatten();
        let comment = behind.map(str::to_owned).or_else(above);
        if let Some(comment) = comment.filter(|comment| says_something(comment)) {
            found.insert(name.clone(), comment);
        }
    }
    found
}

fn is_blank_or(row: &str, marks: &[char]) -> bool {
    let row = row.trim();
    row.is_empty() || row.starts_with(marks)
}

/// The comment behind a value, where it is plain that no quote is open.
fn behind(row: &str) -> Option<&str> {
    let (at, _) = row.match_indices(" #").find(|(at, _)| {
        let before = &row[..*at];
        ['\'', '"'].iter().all(|quote| before.matches(*quote).count() % 2 == 0)
    })?;
    Some(row[at + 2..].trim()).filter(|comment| !comment.is_empty())
}

/// The comment right above, in one line.
fn above(rows: &[&str], marks: &[char]) -> Option<String> {
    let block = rows.iter().rev().take_while(|row| row.trim().starts_with(marks));
    let mut block: Vec<&str> = block.map(|row| row.trim().trim_start_matches(marks).trim()).collect();
    block.reverse();
    let comment = block.join(" ").trim().to_owned();
    (!comment.is_empty()).then_some(comment)
}

/// Whether a comment is words, and no value, rule or list of settings.
fn says_something(comment: &str) -> bool {
    comment.chars().count() <= LONGEST
        && comment.chars().any(char::is_alphabetic)
        && !comment.contains(['=', '\u{0}'])
        && !comment
            .split_whitespace()
            .next()
            .is_some_and(|first| first.ends_with(':') || first.contains("://"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_belongs_to_the_value_that_it_plainly_stands_at() {
        let text = "# The quay app\n\n# How loud it is\n# in the fog\nLEVEL=info\n\n# Database\nHOST=h\nPORT=1\n\n# OLD=x\nNEW=y\n";
        let line = |name: &str, line| (vec![name.to_owned()], line);
        let lines = [line("LEVEL", 5), line("HOST", 8), line("PORT", 9), line("NEW", 12)].into();
        let found = comments_of(OutputFormat::Dotenv, text, &lines);
        assert_eq!(found, [(vec!["LEVEL".to_owned()], "How loud it is in the fog".to_owned())].into());
        let text = "a: 1  # how many\nb: 'x # y'\nc: \"z\" # what\n";
        let lines = [line("a", 1), line("b", 2), line("c", 3)].into();
        let found: Vec<String> = comments_of(OutputFormat::Yaml, text, &lines).into_values().collect();
        assert_eq!(found, ["how many", "what"]);
    }
}
