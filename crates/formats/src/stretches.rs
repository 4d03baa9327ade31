//! The stretches of an artifact in which values may stand: the texts of JSON and XML, or lines.

use std::collections::BTreeMap;
use std::ops::Range;

use cledger_core::rehome::{Coding, Stretch};
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use crate::{Format as _, ReadError, json};

/// The forms of artifacts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Artifact {
    /// JSON (RFC 8259).
    Json,
    /// XML 1.0.
    Xml,
    /// Any text.
    Text,
}

impl Artifact {
    /// The form of a file, by its name; one without a telling name that is JSON or XML is that.
    pub fn of(name: &str, text: &str) -> Self {
        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending).to_ascii_lowercase();
        let first = text.trim_start_matches('\u{feff}').trim_start().chars().next();
        match (ending.as_str(), first) {
            ("json", _) => Artifact::Json,
            ("xml" | "svg" | "xhtml", _) => Artifact::Xml,
            ("txt" | "properties" | "yaml" | "yml" | "toml" | "ini" | "env" | "sql" | "csv", _) => {
                Artifact::Text
            }
            (_, Some('{' | '[')) if serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok() => {
                Artifact::Json
            }
            (_, Some('<')) if xml(text).is_ok() => Artifact::Xml,
            _ => Artifact::Text,
        }
    }
}

/// All stretches of an artifact, in order.
pub fn stretches(artifact: Artifact, text: &str) -> Result<Vec<Stretch>, ReadError> {
    match artifact {
        Artifact::Json => in_json(text),
        Artifact::Xml => xml(text),
        Artifact::Text => Ok(lines(text)),
    }
}

fn lines(text: &str) -> Vec<Stretch> {
    let mut start = 0;
    let line = |(number, line): (usize, &str)| {
        let range = start..start + line.len();
        start = range.end;
        Stretch { place: format!("line {number}"), range, coding: Coding::Plain }
    };
    (1..).zip(text.split_inclusive('\n')).map(line).collect()
}

fn in_json(text: &str) -> Result<Vec<Stretch>, ReadError> {
    let start = text.len() - text.trim_start_matches('\u{feff}').len();
    let text = &text[start..];
    // Lists are artifacts too, though no file of names and values is one.
    if let Err(error) = serde_json::from_str::<serde::de::IgnoredAny>(text) {
        return Err(json::Json
            .read(text)
            .err()
            .unwrap_or(ReadError { line: error.line(), reason: error.to_string() }));
    }
    let mut found = Vec::new();
    for token in json::tokens::tokens(text) {
        let whole = &text[token.range.clone()];
        let (range, coding) = if whole.starts_with('"') {
            (token.range.start + 1..token.range.end - 1, Coding::Json)
        } else if whole.starts_with(|c: char| c == '-' || c.is_ascii_digit()) {
            (token.range, Coding::Number)
        } else {
            continue;
        };
        let step = |step: &String| format!("/{}", step.replace('~', "~0").replace('/', "~1"));
        let place = token.steps.iter().map(step).collect::<Vec<_>>().concat();
        found.push(Stretch { place, range: start + range.start..start + range.end, coding });
    }
    Ok(found)
}

/// Where in the document an element is.
struct Path {
    steps: Vec<String>,
    /// For each level, how many elements of each name there were.
    counts: Vec<BTreeMap<String, usize>>,
}

impl Path {
    fn enter(&mut self, start: &BytesStart<'_>) {
        let name = String::from_utf8_lossy(start.name().as_ref()).into_owned();
        let count = match self.counts.last_mut() {
            Some(known) => known.entry(name.clone()).or_default(),
            None => &mut 0,
        };
        *count += 1;
        let step = if *count == 1 { name } else { format!("{name}[{count}]") };
        self.steps.push(step);
        self.counts.push(BTreeMap::new());
    }

    fn leave(&mut self) {
        self.steps.pop();
        self.counts.pop();
    }

    fn text(&self) -> String {
        format!("/{}", self.steps.join("/"))
    }
}

fn xml(text: &str) -> Result<Vec<Stretch>, ReadError> {
    let mut reader = Reader::from_str(text);
    let mut path = Path { steps: Vec::new(), counts: vec![BTreeMap::new()] };
    let mut found = Vec::new();
    let mut open: Option<usize> = None;
    let mut elements = 0;
    loop {
        let before = position(&reader, text);
        let line = || text.get(..before).unwrap_or_default().matches('\n').count() + 1;
        let event = reader.read_event();
        let after = position(&reader, text);
        let event = event.map_err(|error| ReadError { line: line(), reason: error.to_string() })?;
        if !matches!(event, Event::Text(_) | Event::GeneralRef(_))
            && let Some(start) = open.take()
        {
            found.push(Stretch { place: path.text(), range: start..before, coding: Coding::Xml });
        }
        match event {
            Event::Eof => break,
            Event::Text(_) | Event::GeneralRef(_) => open = open.or(Some(before)),
            Event::Start(start) => {
                elements += 1;
                path.enter(&start);
                attributes(text, &path, &start, &mut found);
            }
            Event::Empty(start) => {
                elements += 1;
                path.enter(&start);
                attributes(text, &path, &start, &mut found);
                path.leave();
            }
            Event::End(_) => path.leave(),
            Event::CData(_) | Event::Comment(_) | Event::PI(_) => {
                found.push(Stretch { place: path.text(), range: before..after, coding: Coding::Plain });
            }
            Event::Decl(_) | Event::DocType(_) => {}
        }
    }
    if elements == 0 || !path.steps.is_empty() {
        return Err(ReadError { line: 1, reason: "this is no whole XML document".to_owned() });
    }
    Ok(found)
}

fn position(reader: &Reader<&[u8]>, text: &str) -> usize {
    usize::try_from(reader.buffer_position()).unwrap_or(text.len()).min(text.len())
}

fn attributes(text: &str, path: &Path, start: &BytesStart<'_>, found: &mut Vec<Stretch>) {
    for attribute in start.attributes().with_checks(false).flatten() {
        let key = String::from_utf8_lossy(attribute.key.as_ref()).into_owned();
        if let Some(range) = within(text, &attribute.value) {
            let place = format!("{}/@{key}", path.text());
            found.push(Stretch { place, range, coding: Coding::Xml });
        }
    }
}

/// The bytes of a text that a slice of it is.
fn within(text: &str, part: &[u8]) -> Option<Range<usize>> {
    let start = (part.as_ptr() as usize).checked_sub(text.as_ptr() as usize)?;
    let range = start..start + part.len();
    (text.as_bytes().get(range.clone())? == part).then_some(range)
}
