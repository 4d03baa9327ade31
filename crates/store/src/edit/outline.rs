//! The statements of a TOML file, with the place of every key and value.

use std::ops::Range;

use toml_parser::Source;
use toml_parser::decoder::Encoding;
use toml_parser::parser::{Event, EventKind, parse_document};

/// A key and its value.
#[derive(Debug, Clone)]
pub(crate) struct Pair {
    /// The steps of the key.
    pub(crate) keys: Vec<String>,
    /// Where each step stands.
    pub(crate) places: Vec<Range<usize>>,
    /// From the key's first to the value's last byte.
    pub(crate) span: Range<usize>,
    pub(crate) value: Node,
}

/// A value.
#[derive(Debug, Clone)]
pub(crate) struct Node {
    pub(crate) span: Range<usize>,
    pub(crate) holds: Holds,
}

/// What a value is made of.
#[derive(Debug, Clone)]
pub(crate) enum Holds {
    One,
    List(Vec<Node>),
    Table(Vec<Pair>),
}

impl Node {
    /// The pairs of an inline table.
    pub(crate) fn pairs(&self) -> Option<&[Pair]> {
        match &self.holds {
            Holds::Table(pairs) => Some(pairs),
            Holds::One | Holds::List(_) => None,
        }
    }
}

/// A table with a header, or what stands before the first one.
#[derive(Debug, Default)]
pub(crate) struct Body {
    /// The steps of the header; none for what stands before the first one.
    pub(crate) path: Vec<String>,
    /// Where each step stands.
    pub(crate) places: Vec<Range<usize>>,
    /// Whether it is one of a list of tables.
    pub(crate) listed: bool,
    /// The header.
    pub(crate) header: Range<usize>,
    pub(crate) pairs: Vec<Pair>,
}

struct Reader<'t> {
    source: Source<'t>,
    events: std::iter::Peekable<std::vec::IntoIter<Event>>,
}

/// The tables of a file, in their order; `None` if it is not TOML.
pub(crate) fn outline(text: &str) -> Option<Vec<Body>> {
    let source = Source::new(text);
    let tokens = source.lex().into_vec();
    let mut events: Vec<Event> = Vec::with_capacity(tokens.len());
    let mut wrong = None;
    parse_document(&tokens, &mut events, &mut wrong);
    if wrong.is_some() {
        return None;
    }
    events.retain(|event| {
        !matches!(event.kind(), EventKind::Whitespace | EventKind::Comment | EventKind::Newline)
    });
    Reader { source, events: events.into_iter().peekable() }.bodies()
}

fn range(event: &Event) -> Range<usize> {
    event.span().start()..event.span().end()
}

impl Reader<'_> {
    fn bodies(&mut self) -> Option<Vec<Body>> {
        let mut bodies = vec![Body::default()];
        while let Some(event) = self.events.peek() {
            let (kind, start) = (event.kind(), event.span().start());
            match kind {
                EventKind::StdTableOpen | EventKind::ArrayTableOpen => {
                    self.events.next();
                    let (path, places) = self.keys()?;
                    let end = self.events.next()?.span().end();
                    let listed = kind == EventKind::ArrayTableOpen;
                    bodies.push(Body { path, places, listed, header: start..end, pairs: Vec::new() });
                }
                _ => {
                    let pair = self.pair()?;
                    bodies.last_mut()?.pairs.push(pair);
                }
            }
        }
        Some(bodies)
    }

    /// The steps of a key, and where each stands.
    fn keys(&mut self) -> Option<(Vec<String>, Vec<Range<usize>>)> {
        let (mut keys, mut places) = (Vec::new(), Vec::new());
        while let Some(event) =
            self.events.next_if(|event| matches!(event.kind(), EventKind::SimpleKey | EventKind::KeySep))
        {
            if event.kind() == EventKind::SimpleKey {
                let mut key = std::borrow::Cow::Borrowed("");
                self.source.get(event)?.decode_key(&mut key, &mut ());
                keys.push(key.into_owned());
                places.push(range(&event));
            }
        }
        Some((keys, places))
    }

    fn pair(&mut self) -> Option<Pair> {
        let (keys, places) = self.keys()?;
        let start = places.first()?.start;
        self.events.next_if(|event| event.kind() == EventKind::KeyValSep)?;
        let value = self.value()?;
        Some(Pair { keys, places, span: start..value.span.end, value })
    }

    fn value(&mut self) -> Option<Node> {
        let event = self.events.next()?;
        let start = event.span().start();
        match event.kind() {
            EventKind::Scalar => Some(Node { span: range(&event), holds: Holds::One }),
            EventKind::ArrayOpen => {
                let mut items = Vec::new();
                loop {
                    if let Some(close) = self.events.next_if(|next| next.kind() == EventKind::ArrayClose) {
                        let span = start..close.span().end();
                        return Some(Node { span, holds: Holds::List(items) });
                    }
                    if self.events.next_if(|next| next.kind() == EventKind::ValueSep).is_none() {
                        items.push(self.value()?);
                    }
                }
            }
            EventKind::InlineTableOpen => {
                let mut pairs = Vec::new();
                loop {
                    let close = |next: &Event| next.kind() == EventKind::InlineTableClose;
                    if let Some(close) = self.events.next_if(close) {
                        let span = start..close.span().end();
                        return Some(Node { span, holds: Holds::Table(pairs) });
                    }
                    if self.events.next_if(|next| next.kind() == EventKind::ValueSep).is_none() {
                        pairs.push(self.pair()?);
                    }
                }
            }
            _ => None,
        }
    }
}

/// How a text is quoted, by its first characters.
pub(crate) fn quoting(value: &str) -> Option<Encoding> {
    [
        ("\"\"\"", Encoding::MlBasicString),
        ("'''", Encoding::MlLiteralString),
        ("\"", Encoding::BasicString),
        ("'", Encoding::LiteralString),
    ]
    .into_iter()
    .find(|(start, _)| value.starts_with(start))
    .map(|(_, encoding)| encoding)
}
