//! XML 1.0: an element `settings`, or another one, and below it an element for each name, a level or a text.
//!
//! An attribute is a name that begins with `@`, and what stands in an element beside attributes is called `#text`.
//! Several elements of one name are a list. A name that no element can have is written as `<entry name="…">`. Texts
//! are read with every blank in them; levels hold no text. How the outermost element is called stands below
//! `/element`, where it is not the usual one. Document type declarations and processing instructions have no place in
//! this form, and are refused.

use std::fmt::Write as _;

use cledger_core::json::Json;
use cledger_core::tree::Branch;
use cledger_core::value::Value;
use quick_xml::Reader;
use quick_xml::escape::{escape, resolve_predefined_entity};
use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::found::Node;
use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

/// The outermost element that is written where nothing is said.
const ROOT: &str = "settings";

/// The element of a name that no element can have.
const ENTRY: &str = "entry";

/// The name under which stands how the outermost element of an XML file is called.
pub const ELEMENT: &str = "/element";

/// The text of an element that has attributes.
const TEXT: &str = "#text";

/// How many levels are read at most.
const DEEPEST: usize = 100;

pub(crate) struct Xml;

impl Format for Xml {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        let mut branch = tree.0.clone();
        let root = branch.remove(ELEMENT).map_or(ROOT.into(), |name| name.to_text());
        let mut writer = Writer {
            out: "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_owned(),
            prefixes: Vec::new(),
            order,
        };
        if !writer.is_element(&root, &branch) {
            let reason = "is no name of an element".to_owned();
            return Err(WriteError { name: root.to_string(), reason });
        }
        writer.level((&root, &root), &branch, &mut Vec::new())?;
        Ok(writer.out)
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let (root, node) = read(start(text)?)?;
        let mut found = Found::of_root(node)?;
        if root != ROOT {
            found.add(ELEMENT, Value::text(&root), 1)?;
        }
        Ok(found)
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

struct Writer<'o> {
    out: String,
    order: &'o Order,
    /// The prefixes that are declared around what is written.
    prefixes: Vec<String>,
}

impl Writer<'_> {
    /// Whether an element can have a name: one with a prefix where that is declared on it or around it.
    fn is_element(&self, name: &str, own: &Branch) -> bool {
        let Some((prefix, rest)) = name.split_once(':') else { return is_element(name) };
        let is_declared = self.prefixes.iter().any(|known| known == prefix)
            || own.contains_key(format!("@xmlns:{prefix}").as_str());
        is_element(prefix) && is_element(rest) && is_declared
    }

    /// An element with what is below it; `open` stands in its first tag, and `close` in its last.
    fn level<'b>(
        &mut self,
        (open, close): (&str, &str),
        branch: &'b Branch,
        steps: &mut Vec<&'b str>,
    ) -> Result<(), WriteError> {
        let indent = "  ".repeat(steps.len());
        let known = self.prefixes.len();
        let declared = branch.keys().filter_map(|name| name.strip_prefix("@xmlns:"));
        self.prefixes.extend(declared.map(str::to_owned));
        let _ = write!(self.out, "{indent}<{open}");
        let sorted = self.order.sorted(steps, branch);
        for &(name, value) in &sorted {
            let Some(attribute) = name.strip_prefix('@') else { continue };
            steps.push(name);
            let is_name =
                attribute.split(':').all(|part| is_element(part) || part == "xmlns" || part == "xml");
            if !is_name || matches!(value, Value::Map(_) | Value::Json(_)) {
                return Err(refused(steps, "is no attribute: a text under a plain name is one"));
            }
            let text = text_in(&value.to_text(), steps, true)?;
            let _ = write!(self.out, " {attribute}=\"{text}\"");
            steps.pop();
        }
        let mut below = sorted.iter().filter(|(name, _)| !name.starts_with('@')).peekable();
        let text = branch.get(TEXT).filter(|value| !matches!(value, Value::Map(_) | Value::Json(_)));
        if let Some(text) = text {
            if below.any(|(name, _)| *name != TEXT) {
                return Err(refused(steps, "has both a text and other elements"));
            }
            let text = text_in(&text.to_text(), steps, false)?;
            let _ = writeln!(self.out, ">{text}</{close}>");
        } else if below.peek().is_none() && branch.keys().any(|name| name.starts_with('@')) {
            let _ = writeln!(self.out, "></{close}>");
        } else {
            self.out.push_str(">\n");
            for (name, value) in below {
                steps.push(name);
                self.named(name, value, steps)?;
                steps.pop();
            }
            let _ = writeln!(self.out, "{indent}</{close}>");
        }
        self.prefixes.truncate(known);
        Ok(())
    }

    /// Everything under one name.
    fn named<'b>(
        &mut self,
        name: &str,
        value: &'b Value,
        steps: &mut Vec<&'b str>,
    ) -> Result<(), WriteError> {
        static NOTHING: Branch = Branch::new();
        let own = if let Value::Map(level) = value { level } else { &NOTHING };
        let (open, close) = if self.is_element(name, own) {
            (name.to_owned(), name)
        } else {
            (format!("{ENTRY} name=\"{}\"", text_in(name, steps, true)?), ENTRY)
        };
        match value {
            Value::Map(level) => self.level((&open, close), level, steps),
            Value::Json(Json::List(items)) if !items.is_empty() => {
                for item in items {
                    self.item((&open, close), item, steps)?;
                }
                Ok(())
            }
            Value::Json(Json::Object(_) | Json::List(_) | Json::Null) => {
                self.item((&open, close), &Json::of_value(value), steps)
            }
            other => self.leaf((&open, close), &other.to_text(), steps),
        }
    }

    /// One of several elements of a name.
    fn item(&mut self, (open, close): (&str, &str), item: &Json, steps: &[&str]) -> Result<(), WriteError> {
        match item {
            Json::Object(pairs) => {
                let level: Branch =
                    pairs.iter().map(|(name, json)| (name.clone(), json.clone().into_texts())).collect();
                // The steps are those of the list.
                let mut inner: Vec<&str> = steps.to_vec();
                self.level((open, close), &level, &mut inner)
            }
            Json::Text(text) | Json::Number(text) => self.leaf((open, close), text, steps),
            Json::Boolean(truth) => self.leaf((open, close), &truth.to_string(), steps),
            Json::Null | Json::List(_) => {
                Err(refused(steps, "has no form as elements: it is null, empty or a list of lists"))
            }
        }
    }

    fn leaf(&mut self, (open, close): (&str, &str), text: &str, steps: &[&str]) -> Result<(), WriteError> {
        let indent = "  ".repeat(steps.len());
        let text = text_in(text, steps, false)?;
        let _ = writeln!(self.out, "{indent}<{open}>{text}</{close}>");
        Ok(())
    }
}

/// A text as it stands in the file.
fn text_in(text: &str, steps: &[&str], in_attribute: bool) -> Result<String, WriteError> {
    if !text.chars().all(is_char) {
        return Err(refused(steps, "has a control character, which no XML file can hold"));
    }
    Ok(escaped(text, in_attribute))
}

fn refused(steps: &[&str], reason: &str) -> WriteError {
    WriteError { name: steps.join("."), reason: reason.to_owned() }
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
    /// Whether it has attributes.
    has_attributes: bool,
}

/// What the outermost element is called, and what is in it.
fn read(text: &str) -> Result<(String, Node), ReadError> {
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
            Event::Decl(_) | Event::Comment(_) => {}
            Event::PI(_) => return wrong("a processing instruction has no place here"),
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
                    Some(level) => level.below.push((made.name.clone(), line, closed(made, false)?)),
                    None if root.is_none() => root = Some((made.name.clone(), closed(made, true)?)),
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
                let (name, line, is_root) = (done.name.clone(), done.line, open.is_empty());
                let node = closed(done, is_root)?;
                match open.last_mut() {
                    Some(level) => level.below.push((name, line, node)),
                    None => root = Some((name, node)),
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

/// What an element comes to that is closed.
fn closed(mut done: Open, is_root: bool) -> Result<Node, ReadError> {
    let has_elements = done.below.iter().any(|(name, ..)| !name.starts_with('@'));
    let is_blank = done.text.trim().is_empty();
    if (has_elements || is_root) && !is_blank {
        let reason = "an element holds both text and other elements".to_owned();
        return Err(ReadError { line: done.line, reason });
    }
    // The outermost element is a level, whatever blanks are in it.
    let is_mute = done.text.is_empty() || is_root && is_blank;
    if done.has_attributes && !has_elements && !is_mute {
        done.below.push((TEXT.to_owned(), done.line, Node::Value(Value::text(&done.text))));
    }
    if done.below.is_empty() && !is_root {
        return Ok(Node::Value(Value::text(&done.text)));
    }
    Ok(Node::Level(together(done.below)))
}

/// One list for all elements of one name, in the place of the first.
fn together(below: Vec<(String, usize, Node)>) -> Vec<(String, usize, Node)> {
    let mut counts: std::collections::BTreeMap<&str, usize> = std::collections::BTreeMap::new();
    for (name, ..) in &below {
        *counts.entry(name).or_default() += 1;
    }
    let several: std::collections::BTreeSet<String> =
        counts.into_iter().filter(|(_, count)| *count > 1).map(|(name, _)| name.to_owned()).collect();
    let mut made: Vec<(String, usize, Node)> = Vec::new();
    for (name, line, node) in below {
        if !several.contains(&name) {
            made.push((name, line, node));
            continue;
        }
        let known = made.iter_mut().find_map(|(known, _, node)| match node {
            Node::Value(Value::Json(Json::List(items))) if *known == name => Some(items),
            _ => None,
        });
        match known {
            Some(items) => items.push(node.into_json()),
            None => made.push((name, line, Node::Value(Value::Json(Json::List(vec![node.into_json()]))))),
        }
    }
    made
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
    let mut below = Vec::new();
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|error| wrong(error.to_string()))?;
        let value = attribute.normalized_value(quick_xml::XmlVersion::Explicit1_0);
        let value = value.map_err(|error| wrong(error.to_string()))?.into_owned();
        let key = String::from_utf8_lossy(attribute.key.as_ref()).into_owned();
        if element == ENTRY.as_bytes() && key == "name" {
            if value.starts_with('@') || value == TEXT || value == ELEMENT {
                return Err(wrong("such a name is that of something else here".to_owned()));
            }
            name = value;
        } else {
            below.push((format!("@{key}"), line, Node::Value(Value::text(&value))));
        }
    }
    let has_attributes = !below.is_empty();
    Ok(Open { name, line, text: String::new(), below, element, has_attributes })
}

/// What a character reference or one of XML's own five entities stands for.
fn referred(reference: &BytesRef<'_>) -> Option<String> {
    if reference.is_char_ref() {
        return reference.resolve_char_ref().ok().flatten().map(String::from);
    }
    resolve_predefined_entity(std::str::from_utf8(reference).ok()?).map(str::to_owned)
}
