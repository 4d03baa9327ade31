//! From the parser's events to tables, for files in their usual form.
//!
//! Most files hold tables under headers that stand once each, with plain keys below them. Whatever else there is (keys
//! with dots or escapes, a table that is opened again, a mistake) is left to [`toml::de::DeTable`], which knows all of
//! TOML's rules (TOML 1.1) and says what is wrong.

use std::borrow::Cow;
use std::cell::Cell;

use toml_parser::decoder::{Encoding, ScalarKind};
use toml_parser::lexer::Token;
use toml_parser::parser::{EventReceiver, parse_document};
use toml_parser::{ErrorSink, ParseError, Source, Span};

use super::toml_table::{Spanned, TomlInteger, TomlKey, TomlTable, TomlValue};

/// How deep arrays and inline tables may lie in each other.
const DEEPEST: usize = 64;

thread_local! {
    /// Room for the tokens of a file, which many files after each other use.
    static TOKENS: Cell<Vec<Token>> = const { Cell::new(Vec::new()) };
}

/// The tables of a file in the usual form; `None` where it is in another, or has a mistake.
pub(super) fn usual(text: &str) -> Option<TomlTable<'_>> {
    let source = Source::new(text);
    let mut tokens = TOKENS.take();
    tokens.extend(source.lex());
    let mut builder = Builder::new(source);
    let mut mistakes = Counted(0);
    parse_document(&tokens, &mut builder, &mut mistakes);
    tokens.clear();
    TOKENS.set(tokens);
    let root = builder.finish()?;
    (mistakes.0 == 0).then_some(root)
}

/// Counts mistakes; what they are is told by whoever reads the file then.
struct Counted(usize);

impl ErrorSink for Counted {
    fn report_error(&mut self, _error: ParseError) {
        self.0 += 1;
    }
}

/// The header of the table whose keys are read.
struct Header<'t> {
    path: Vec<TomlKey<'t>>,
    start: usize,
    end: usize,
    is_listed: bool,
}

/// An array or inline table that is not closed yet.
enum Open<'t> {
    Array(usize, Vec<Spanned<TomlValue<'t>>>),
    Inline(usize, TomlTable<'t>, Option<TomlKey<'t>>),
}

/// The most keys that room is made for before they are read.
const ROOM: usize = 16;

/// About how many keys stand in a file's root: no more than lines in front of the first header.
fn keys_at_first(text: &str) -> usize {
    if text.starts_with('[') {
        return 0;
    }
    memchr::memchr_iter(b'\n', text.as_bytes()).take(ROOM).count()
}

struct Builder<'t> {
    source: Source<'t>,
    root: TomlTable<'t>,
    /// The table whose keys are read, and its header; the root's keys come first.
    table: TomlTable<'t>,
    header: Option<Header<'t>>,
    is_in_header: bool,
    key: Option<TomlKey<'t>>,
    open: Vec<Open<'t>>,
    is_usual: bool,
}

impl<'t> Builder<'t> {
    fn new(source: Source<'t>) -> Self {
        Self {
            source,
            root: TomlTable::default(),
            table: TomlTable::with_capacity(keys_at_first(source.input())),
            header: None,
            is_in_header: false,
            key: None,
            open: Vec::new(),
            is_usual: true,
        }
    }

    /// The root, with the last table in it.
    fn finish(mut self) -> Option<TomlTable<'t>> {
        self.close_table();
        (self.is_usual && self.open.is_empty()).then_some(self.root)
    }

    /// Puts the table that was read where its header says.
    fn close_table(&mut self) {
        let table = std::mem::take(&mut self.table);
        let Some(Header { mut path, start, end, is_listed }) = self.header.take() else {
            self.root = table;
            return;
        };
        let Some(key) = path.pop() else {
            self.is_usual = false;
            return;
        };
        let table = Spanned::new(start..end, TomlValue::Table(table));
        let is_put = self.descend(path).is_some_and(|parent| match parent.get_mut(key.get_ref()) {
            None if is_listed => parent.add(key, Spanned::new(start..end, TomlValue::Array(vec![table]))),
            None => parent.add(key, table),
            Some(known) if is_listed => match known.as_mut() {
                TomlValue::Array(items) => {
                    let is_open = items.last_mut().and_then(extended).is_some();
                    items.push(table);
                    is_open
                }
                _ => false,
            },
            Some(_) => false,
        });
        self.is_usual &= is_put;
    }

    /// The table at a path from the root, made where it is not there.
    fn descend(&mut self, path: Vec<TomlKey<'t>>) -> Option<&mut TomlTable<'t>> {
        let mut table = &mut self.root;
        for key in path {
            let name = key.get_ref().clone();
            if !table.contains_key(&name) {
                let made = TomlValue::Table(TomlTable::default());
                table.add(key.clone(), Spanned::new(key.span(), made));
            }
            table = match table.get_mut(&name)? {
                known if known.get_ref().is_array() => match known.as_mut() {
                    TomlValue::Array(items) => extended(items.last_mut()?)?,
                    _ => return None,
                },
                known => extended(known)?,
            };
        }
        Some(table)
    }

    fn open_header(&mut self, span: Span, is_listed: bool) {
        self.close_table();
        self.header = Some(Header { path: Vec::new(), start: span.start(), end: span.end(), is_listed });
        self.is_in_header = true;
    }

    fn close_header(&mut self, span: Span) {
        if let Some(header) = &mut self.header {
            header.end = span.end();
        }
        self.is_in_header = false;
    }

    fn put(&mut self, value: Spanned<TomlValue<'t>>) {
        let is_put = match self.open.last_mut() {
            Some(Open::Array(_, items)) => {
                items.push(value);
                true
            }
            Some(Open::Inline(_, table, key)) => key.take().is_some_and(|key| table.add(key, value)),
            None => self.key.take().is_some_and(|key| self.table.add(key, value)),
        };
        self.is_usual &= is_put;
    }

    fn scalar_at(
        &self,
        span: Span,
        encoding: Option<Encoding>,
        errors: &mut dyn ErrorSink,
    ) -> Option<TomlValue<'t>> {
        let whole = self.source.get(span)?.as_str();
        let raw = toml_parser::Raw::new_unchecked(whole, encoding, span);
        let mut text: Cow<'t, str> = Cow::Borrowed("");
        Some(match raw.decode_scalar(&mut text, errors) {
            ScalarKind::String => TomlValue::String(text),
            ScalarKind::Boolean(truth) => TomlValue::Boolean(truth),
            ScalarKind::DateTime => TomlValue::Datetime(text.parse().ok()?),
            ScalarKind::Float => TomlValue::Float(text),
            ScalarKind::Integer(radix) => {
                TomlValue::Integer(TomlInteger { digits: text, radix: radix.value() })
            }
        })
    }
}

/// The table that a header adds to.
fn extended<'a, 't>(known: &'a mut Spanned<TomlValue<'t>>) -> Option<&'a mut TomlTable<'t>> {
    match known.as_mut() {
        TomlValue::Table(table) if !table.is_inline() => Some(table),
        _ => None,
    }
}

impl EventReceiver for Builder<'_> {
    fn std_table_open(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        self.open_header(span, false);
    }

    fn std_table_close(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        self.close_header(span);
    }

    fn array_table_open(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        self.open_header(span, true);
    }

    fn array_table_close(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        self.close_header(span);
    }

    fn inline_table_open(&mut self, span: Span, _error: &mut dyn ErrorSink) -> bool {
        self.open.push(Open::Inline(span.start(), TomlTable::default(), None));
        self.is_usual &= self.open.len() <= DEEPEST;
        self.is_usual
    }

    fn inline_table_close(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        match self.open.pop() {
            Some(Open::Inline(start, table, None)) => {
                self.put(Spanned::new(start..span.end(), TomlValue::Table(table.inline())));
            }
            _ => self.is_usual = false,
        }
    }

    fn array_open(&mut self, span: Span, _error: &mut dyn ErrorSink) -> bool {
        self.open.push(Open::Array(span.start(), Vec::new()));
        self.is_usual &= self.open.len() <= DEEPEST;
        self.is_usual
    }

    fn array_close(&mut self, span: Span, _error: &mut dyn ErrorSink) {
        match self.open.pop() {
            Some(Open::Array(start, items)) => {
                self.put(Spanned::new(start..span.end(), TomlValue::Array(items)));
            }
            _ => self.is_usual = false,
        }
    }

    fn simple_key(&mut self, span: Span, encoding: Option<Encoding>, error: &mut dyn ErrorSink) {
        let Some(raw) = self.source.get(span) else { return };
        let mut name = Cow::Borrowed("");
        toml_parser::Raw::new_unchecked(raw.as_str(), encoding, span).decode_key(&mut name, error);
        let key = Spanned::new(span.start()..span.end(), name);
        if self.is_in_header {
            if let Some(header) = &mut self.header {
                header.path.push(key);
            }
            return;
        }
        let place = match self.open.last_mut() {
            Some(Open::Inline(_, _, place)) => place,
            Some(Open::Array(..)) => {
                self.is_usual = false;
                return;
            }
            None => &mut self.key,
        };
        // A key with dots has several parts.
        self.is_usual &= place.replace(key).is_none();
    }

    fn scalar(&mut self, span: Span, encoding: Option<Encoding>, error: &mut dyn ErrorSink) {
        match self.scalar_at(span, encoding, error) {
            Some(value) => self.put(Spanned::new(span.start()..span.end(), value)),
            None => self.is_usual = false,
        }
    }

    fn comment(&mut self, span: Span, error: &mut dyn ErrorSink) {
        if let Some(raw) = self.source.get(span) {
            raw.decode_comment(error);
        }
    }

    fn newline(&mut self, span: Span, error: &mut dyn ErrorSink) {
        if let Some(raw) = self.source.get(span) {
            raw.decode_newline(error);
        }
    }

    fn error(&mut self, _span: Span, _error: &mut dyn ErrorSink) {
        self.is_usual = false;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use toml::de::DeTable;

    use super::*;

    /// What TOML's own reader makes of a text, if it is one.
    fn parsed(text: &str) -> Option<TomlTable<'_>> {
        let (table, errors) = DeTable::parse_recoverable(text);
        errors.is_empty().then(|| table.into_inner().into())
    }

    #[test]
    fn the_usual_form_is_read_at_once() {
        for text in [
            "",
            "\u{feff}a = 1 # one\r\n\"b c\" = 'x'\r\n",
            "[a]\nb = [1, [2, 3], { c = true }]\n[a.d]\ne = 2027-01-31\n[f.g]\nh = 1.5\n",
            "[[a]]\nb = 0xff\n[[a]]\n[a.c]\nd = \"\\t\"\n[[a.e]]\nf = inf\n",
            "t = { a = \"x\", b = { c = 1 } }\ns = \"\"\"\nx\n\"\"\"\n",
        ] {
            assert!(usual(text).is_some(), "{text}");
            assert_eq!(usual(text), parsed(text), "{text}");
        }
    }

    /// A line of a file: most are right where they stand, and all can be wrong beside others.
    fn line() -> impl Strategy<Value = String> {
        let key =
            prop::sample::select(vec!["a", "b", "c", "\"a\"", "'b'", "a.b", "\"\\u0061\"", "a . c", ""]);
        let value = prop::sample::select(vec![
            "1",
            "0x1f",
            "-1_0",
            "1.5",
            "inf",
            "true",
            "\"x\"",
            "'y'",
            "\"\\n\"",
            "2027-01-31",
            "2027-13-31",
            "[]",
            "[1, \"a\"]",
            "[{ a = 1 }, { b = 2 }]",
            "{}",
            "{ a = 1, b = { c = 2 } }",
            "{ a.b = 1 }",
            "{ a = 1, a = 2 }",
            "[[1], [2]]",
            "\"\"\"\nx\"\"\"",
            "x",
            "{ a = [ { b = 1 } ] }",
            "[1,\n 2]",
            "",
        ]);
        let header =
            prop::sample::select(vec!["a", "b", "a.b", "a.c", "b.a.c", "\"a\".b", "a.\"\\u0062\"", "", "a."]);
        let ending = prop::sample::select(vec!["\n", "\r\n", " # x\n", "\r", " # \u{1}\n", "\n\n", ""]);
        let pair = (key, value).prop_map(|(key, value)| format!("{key} = {value}"));
        let header = (header, any::<bool>())
            .prop_map(|(path, listed)| if listed { format!("[[{path}]]") } else { format!("[{path}]") });
        let line = prop_oneof![3 => pair, 2 => header, 1 => Just("# x".to_owned())];
        (line, prop_oneof![8 => Just("\n"), 1 => ending]).prop_map(|(line, ending)| line + ending)
    }

    /// A file with many tables of many keys, in whatever order, is read no slower for each of them.
    #[test]
    fn many_tables_are_found_wherever_they_stand() {
        let names: Vec<String> = (0..20_000).map(|number| format!("unit-{number}")).collect();
        let first = names.iter().map(|name| format!("[units.{name}]\nhold = 1\n"));
        let below = names.iter().rev().map(|name| format!("[units.{name}.db]\nhost = \"h\"\n"));
        let text: String = first.chain(below).collect();
        let root = usual(&text).unwrap();
        let units = root.get("units").and_then(|units| units.get_ref().as_table()).unwrap();
        assert_eq!(units.len(), names.len());
        let has_both =
            |name: &String| units.get(name).and_then(|it| it.get_ref().as_table()).map(TomlTable::len);
        assert!(names.iter().all(|name| has_both(name) == Some(2)));
        assert!(usual(&format!("{text}[units.unit-7]\n")).is_none());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// Whatever is read at once is read as TOML's own reader does, places included, and nothing that it refuses is.
        #[test]
        fn nothing_is_read_otherwise(lines in prop::collection::vec(line(), 0..9)) {
            let text = lines.concat();
            if let Some(table) = usual(&text) {
                prop_assert_eq!(Some(table), parsed(&text), "{}", text);
            }
        }
    }
}
