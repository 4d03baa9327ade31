//! XML 1.0: an element `settings`, and below it an element for each name, a level or a text.
//!
//! A name that no element can have is written as `<entry name="…">`. Texts are read with every blank
//! in them; levels hold no text. Attributes, document type declarations and two elements with one name
//! have no place in this form, and are refused.

use cledger_core::tree::Branch;
use cledger_core::value::Value;
use quick_xml::Reader;
use quick_xml::escape::{escape, resolve_predefined_entity};
use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::found::Node;
use crate::{Format, Found, ReadError, Tree, WriteError, start};

/// The outermost element that is written; any is read.
const ROOT: &str = "settings";

/// The element of a name that no element can have.
const ENTRY: &str = "entry";

/// How many levels are read at most.
const DEEPEST: usize = 100;

pub(crate) struct Xml;

impl Format for Xml {
    fn write(&self, tree: &Tree) -> Result<String, WriteError> {
        let mut text = format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<{ROOT}>\n");
        level(&mut text, &tree.0, &mut Vec::new())?;
        text.push_str(&format!("</{ROOT}>\n"));
        Ok(text)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        Found::of_root(read(start(text)?)?)
    }
}

/// Whether it can be the name of an element: of the names of XML 1.0, those in ASCII without `:`.
fn is_element(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'.'))
        && !name.get(..3).is_some_and(|start| start.eq_ignore_ascii_case("xml"))
        && name != ENTRY
}

/// Whether XML 1.0 can hold a character.
fn is_char(c: char) -> bool {
    matches!(c, '\t' | '\n' | '\r' | ' '..='\u{fffd}' | '\u{10000}'..)
}

fn level<'b>(out: &mut String, branch: &'b Branch, steps: &mut Vec<&'b str>) -> Result<(), WriteError> {
    for (name, value) in branch {
        steps.push(name);
        let refused = |reason: &str| WriteError { name: steps.join("."), reason: reason.to_owned() };
        let text = match value {
            Value::Map(_) => None,
            other => Some(other.to_text()),
        };
        if !name.chars().chain(text.iter().flat_map(|text| text.chars())).all(is_char) {
            return Err(refused("has a control character, which no XML file can hold"));
        }
        let indent = "  ".repeat(steps.len());
        let (open, close) = if is_element(name) {
            (name.to_string(), name.to_string())
        } else {
            (format!("{ENTRY} name=\"{}\"", escaped(name, true)), ENTRY.to_owned())
        };
        match value {
            Value::Map(below) => {
                out.push_str(&format!("{indent}<{open}>\n"));
                level(out, below, steps)?;
                out.push_str(&format!("{indent}</{close}>\n"));
            }
            other => {
                let text = escaped(&other.to_text(), false);
                out.push_str(&format!("{indent}<{open}>{text}</{close}>\n"));
            }
        }
        steps.pop();
    }
    Ok(())
}

/// Text within an element or, with its blanks escaped, within an attribute.
pub(crate) fn escaped(text: &str, in_attribute: bool) -> String {
    let text = escape(text).replace('\r', "&#13;");
    if in_attribute { text.replace('\n', "&#10;").replace('\t', "&#9;") } else { text }
}

/// An element that is open.
struct Open {
    name: String,
    line: usize,
    text: String,
    below: Vec<(String, usize, Node)>,
    /// What the element is called.
    element: Vec<u8>,
}

fn read(text: &str) -> Result<Node, ReadError> {
    let mut reader = Reader::from_str(text);
    let mut open: Vec<Open> = Vec::new();
    let mut root = None;
    let mut counted = (0, 1);
    loop {
        let before = usize::try_from(reader.buffer_position()).unwrap_or(text.len()).min(text.len());
        let lines = text.get(counted.0..before).unwrap_or_default().matches('\n').count();
        counted = (before, counted.1 + lines);
        let line = counted.1;
        let wrong = |reason: &str| Err(ReadError { line, reason: reason.to_owned() });
        let event = reader.read_event().map_err(|error| ReadError { line, reason: error.to_string() })?;
        match event {
            Event::Eof => break,
            Event::Decl(_) | Event::Comment(_) | Event::PI(_) => {}
            Event::DocType(_) => return wrong("a document type declaration has no place here"),
            Event::Start(start) | Event::Empty(start) if open.len() >= DEEPEST => {
                let _ = start;
                return wrong("it has more than 100 levels");
            }
            Event::Start(start) => {
                if root.is_some() {
                    return wrong("a second outermost element has no place here");
                }
                open.push(opened(&start, line)?);
            }
            Event::Empty(start) => {
                let made = opened(&start, line)?;
                match open.last_mut() {
                    Some(level) => level.below.push((made.name, line, Node::Value(Value::text("")))),
                    None if root.is_none() => root = Some(Node::Level(Vec::new())),
                    None => return wrong("a second outermost element has no place here"),
                }
            }
            Event::Text(content) => {
                let content =
                    content.xml10_content().map_err(|error| ReadError { line, reason: error.to_string() })?;
                let is_blank = open.is_empty() && content.trim().is_empty();
                if !is_blank {
                    add_text(&mut open, line, &content)?;
                }
            }
            Event::CData(content) => {
                let content =
                    content.xml10_content().map_err(|error| ReadError { line, reason: error.to_string() })?;
                add_text(&mut open, line, &content)?;
            }
            Event::GeneralRef(reference) => {
                let content = referred(&reference).ok_or_else(|| ReadError {
                    line,
                    reason: "an entity that XML does not define by itself has no place here".to_owned(),
                })?;
                add_text(&mut open, line, &content)?;
            }
            Event::End(_) => {
                let Some(done) = open.pop() else { return wrong("an element is closed that is not open") };
                let is_level = !done.below.is_empty() || open.is_empty();
                if is_level && !done.text.trim().is_empty() {
                    return wrong("an element holds both text and other elements");
                }
                let node =
                    if is_level { Node::Level(done.below) } else { Node::Value(Value::text(&done.text)) };
                match open.last_mut() {
                    Some(level) => level.below.push((done.name, done.line, node)),
                    None => root = Some(node),
                }
            }
        }
    }
    if let Some(last) = open.last() {
        let element = String::from_utf8_lossy(&last.element).into_owned();
        return Err(ReadError {
            line: last.line,
            reason: format!("the element `{element}` is never closed"),
        });
    }
    root.ok_or_else(|| ReadError { line: 1, reason: "there is no element in it".to_owned() })
}

/// Adds text to the innermost element.
fn add_text(open: &mut [Open], line: usize, text: &str) -> Result<(), ReadError> {
    let Some(element) = open.last_mut() else {
        let reason = "there is text outside of the outermost element".to_owned();
        return Err(ReadError { line, reason });
    };
    element.text.push_str(text);
    Ok(())
}

fn opened(start: &BytesStart<'_>, line: usize) -> Result<Open, ReadError> {
    let wrong = |reason: String| ReadError { line, reason };
    let element = start.name().as_ref().to_vec();
    let mut name = String::from_utf8_lossy(&element).into_owned();
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|error| wrong(error.to_string()))?;
        if element != ENTRY.as_bytes() || attribute.key.as_ref() != b"name" {
            let key = String::from_utf8_lossy(attribute.key.as_ref()).into_owned();
            return Err(wrong(format!("the attribute `{key}` has no place in this form")));
        }
        let value = attribute.normalized_value(quick_xml::XmlVersion::Explicit1_0);
        name = value.map_err(|error| wrong(error.to_string()))?.into_owned();
    }
    Ok(Open { name, line, text: String::new(), below: Vec::new(), element })
}

/// What a character reference or one of XML's own five entities stands for.
fn referred(reference: &BytesRef<'_>) -> Option<String> {
    if reference.is_char_ref() {
        return reference.resolve_char_ref().ok().flatten().map(String::from);
    }
    resolve_predefined_entity(std::str::from_utf8(reference).ok()?).map(str::to_owned)
}
