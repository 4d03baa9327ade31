//! From a winner and the outcomes of its references to the field's own outcome.

use std::sync::Arc;

use compact_str::CompactString;

use super::outcome::{Because, Content, Effective, Origin, Outcome, Problem, ProblemCode, Unread};
use super::session::{Edge, Node, Session, fields_reached};
use super::{Fetched, FieldId, Opened, Winner};
use crate::cipher::{Cipher, secret_of};
use crate::json::Json;
use crate::model::{Declaration, Kind, Required, SettingValue, Vary, Verdict};
use crate::reference::{self, Piece, pieces};
use crate::types::Type;
use crate::value::{Held, Value};

/// The longest text that references may build, in bytes.
const LONGEST: usize = 64 << 20;

/// A text or value in the making: the edges of its references that are not used up yet.
struct Expansion<'e, 'l> {
    session: &'e Session<'e, 'l>,
    edges: std::slice::Iter<'e, Edge<'l>>,
    secret: bool,
    unread: Option<Unread>,
    length: usize,
    /// Whether it is JSON, in whose strings what is inserted is escaped.
    is_json: bool,
}

/// The text has grown beyond [`LONGEST`].
struct TooLong;

impl<'l> Session<'_, 'l> {
    /// The outcome of a field whose references, if any, are all done.
    pub(super) fn evaluate(&self, node: Node, edges: &[Edge<'l>]) -> Outcome<'l> {
        let field = self.field(node);
        let (entry, declaration) = self.resolver.ledger().field(field.subject, field.slot);
        if let Some(outcome) = edges.iter().find_map(|edge| self.not_known(edge, node)) {
            return outcome;
        }
        if let Kind::Connection { protocol, url: Some(shape) } = &entry.kind
            && declaration.derived
        {
            return self.url(entry, protocol.as_str(), *shape, edges);
        }
        if let Kind::Table { .. } = entry.kind {
            return self.table(field, declaration, edges);
        }
        let mut edges = edges;
        if super::derived::is_last_day(entry, declaration)
            && let Some((certificate, own)) = edges.split_first()
        {
            if let Some(outcome) = self.last_day(entry, certificate) {
                return outcome;
            }
            edges = own;
        }
        let origin = self.origin(node);
        let (held, verdict) = match self.winner(node) {
            Winner::Nothing => return self.nothing(field, declaration),
            Winner::Default(default, _) => (&default.value, default.verdict),
            Winner::Assumed(assumption) => (&assumption.value, assumption.verdict),
            Winner::Set(setting, ..) => match &setting.value {
                SettingValue::Absent => return Outcome::Absent(origin),
                SettingValue::From(source) => {
                    return self.fetched(&source.0, declaration, origin, edges);
                }
                SettingValue::Cipher(cipher) => return self.opened(cipher, declaration, origin),
                SettingValue::Value(held) => (held, setting.verdict),
            },
        };
        if verdict == Verdict::WrongType {
            return wrong_type(held.expose(), declaration, origin);
        }
        if verdict != Verdict::Open {
            return Outcome::as_written(held, declaration, origin);
        }
        let secret = declaration.secret || held.is_secret();
        self.expanded(held.expose(), declaration, secret, origin, edges)
    }

    /// The rows of a lookup table, as all layers together make them.
    fn table(&self, field: FieldId, declaration: &Declaration, edges: &[Edge<'l>]) -> Outcome<'l> {
        let merged = self.resolver.rows(field);
        match merged.origin {
            Some(origin) if merged.absent => Outcome::Absent(origin),
            Some(origin) => self.expanded(&merged.written(), declaration, declaration.secret, origin, edges),
            None => self.nothing(field, declaration),
        }
    }

    pub(super) fn nothing(&self, field: FieldId, declaration: &Declaration) -> Outcome<'l> {
        if declaration.required != Required::Yes {
            return Outcome::Unset;
        }
        let stage = self.resolver.ledger().stage(field.stage);
        let must = declaration.vary == Vary::Must;
        if must && (declaration.default.is_some() || !stage.follows.is_empty()) {
            return Outcome::Missing(Because::MustBeStated, None);
        }
        Outcome::Missing(Because::NothingSet, None)
    }

    /// What a node comes to if it is not known what an edge of it leads to.
    fn not_known(&self, edge: &Edge<'l>, node: Node) -> Option<Outcome<'l>> {
        if let Edge::Broken(path) = edge {
            return Some(unreadable(path, self.origin(node)));
        }
        let Some((_, Outcome::Broken(problems))) = edge.outcome(self) else { return None };
        let is_it = |problem: &&Problem| problem.code == ProblemCode::UnreadableFile;
        let problem = problems.iter().find(is_it)?;
        Some(broken(problem.code, problem.detail.clone(), self.origin(node)))
    }

    /// Reports what keeps a text from being expanded: unknown references, or fields without value.
    fn hindrance(&self, edges: &[Edge<'l>], origin: Origin) -> Option<Outcome<'l>> {
        let problems = Self::unknown_references(edges, origin);
        if !problems.is_empty() {
            return Some(Outcome::Broken(problems.into()));
        }
        edges.iter().find_map(|edge| {
            let (field, outcome) = edge.outcome(self)?;
            let missing = || Outcome::Missing(Because::NeedsMissing(field), Some(origin));
            outcome.value().is_none().then(missing)
        })
    }

    fn expanded(
        &self,
        value: &Value,
        declaration: &Declaration,
        is_secret: bool,
        origin: Origin,
        edges: &[Edge<'l>],
    ) -> Outcome<'l> {
        if let Some(outcome) = self.hindrance(edges, origin) {
            return outcome;
        }
        let through = fields_reached(self, edges);
        let lone = value.as_text().and_then(reference::lone).is_some();
        if lone && let Some((_, Outcome::Value(target))) = edges.first().and_then(|e| e.outcome(self)) {
            let secret = is_secret || target.is_secret();
            if let Some(value) = target.expose()
                && !declaration.this_type.fits(value)
            {
                return wrong_type(value, declaration, origin);
            }
            let content = target.content().clone();
            return Outcome::Value(Effective::new(content, secret, origin, through));
        }
        let is_json = declaration.this_type == Type::Json;
        let mut expansion = Expansion {
            session: self,
            edges: edges.iter(),
            secret: is_secret,
            unread: None,
            length: 0,
            is_json,
        };
        let Ok(value) = expansion.value(value) else { return too_long(origin) };
        let secret = expansion.secret;
        if let Some(why) = expansion.unread {
            return Outcome::Value(Effective::new(Content::Unread(why), secret, origin, through));
        }
        let held = Held::new(declaration.as_held(value), secret);
        if !declaration.this_type.fits(held.expose()) {
            return wrong_type(held.expose(), declaration, origin);
        }
        Outcome::Value(Effective::new(Content::Made(Arc::new(held)), secret, origin, through))
    }

    /// The secret that a cipher text opens to. It is never expanded.
    fn opened(&self, cipher: &Cipher, declaration: &Declaration, origin: Origin) -> Outcome<'l> {
        let scope = self.resolver.ledger().key_scope(cipher.layer);
        let content = match self.resolver.outside.open(&scope, cipher) {
            Opened::NoKey => Content::Unread(Unread::NoKey),
            Opened::Broken(detail) => return broken(ProblemCode::CipherUnreadable, detail, origin),
            Opened::Text(text) => {
                let Some(value) = secret_of(&text, declaration.this_type) else {
                    let detail = format!("what it opens to is not {}", declaration.this_type.describe());
                    return broken(ProblemCode::WrongType, detail, origin);
                };
                Content::Made(Arc::new(value))
            }
        };
        Outcome::Value(Effective::new(content, true, origin, None))
    }

    fn fetched(
        &self,
        source: &str,
        declaration: &Declaration,
        origin: Origin,
        edges: &[Edge<'l>],
    ) -> Outcome<'l> {
        if matches!(declaration.this_type, Type::List | Type::Map) {
            let detail = format!("a {} cannot be fetched", declaration.this_type.name());
            return broken(ProblemCode::WrongType, detail, origin);
        }
        if let Some(outcome) = self.hindrance(edges, origin) {
            return outcome;
        }
        let mut expansion = Expansion {
            session: self,
            edges: edges.iter(),
            secret: declaration.secret,
            unread: None,
            length: 0,
            is_json: false,
        };
        let Ok(source) = expansion.text(source) else { return too_long(origin) };
        let (secret, through) = (expansion.secret, fields_reached(self, edges));
        if let Some(why) = expansion.unread {
            return Outcome::Value(Effective::new(Content::Unread(why), secret, origin, through));
        }
        let found = self.resolver.outside.fetch(&source);
        let content = match found {
            Fetched::Unread => Content::Unread(Unread::Outside),
            Fetched::NotTrusted => Content::Unread(Unread::NotTrusted),
            Fetched::Nothing(reason) => {
                return Outcome::Missing(Because::NotFound(reason), Some(origin));
            }
            Fetched::Text(text) => {
                if let Some(value) = declaration.this_type.read(&text) {
                    Content::Made(Arc::new(Held::new(value, secret)))
                } else {
                    let wanted = declaration.this_type.describe();
                    let detail = format!("what was fetched is not {wanted}");
                    return broken(ProblemCode::WrongType, detail, origin);
                }
            }
        };
        Outcome::Value(Effective::new(content, secret, origin, through))
    }
}

impl Expansion<'_, '_> {
    fn value(&mut self, value: &Value) -> Result<Value, TooLong> {
        Ok(match value {
            Value::Text(text) => Value::Text(self.text(text)?),
            Value::List(items) => {
                Value::List(items.iter().map(|item| self.value(item)).collect::<Result<_, _>>()?)
            }
            Value::Map(map) => {
                let pair = |(key, item): (&CompactString, &Value)| Ok((key.clone(), self.value(item)?));
                Value::Map(map.iter().map(pair).collect::<Result<_, _>>()?)
            }
            other => other.clone(),
        })
    }

    fn text(&mut self, text: &str) -> Result<CompactString, TooLong> {
        let mut made = CompactString::default();
        for piece in pieces(text) {
            match piece {
                Piece::Literal(literal) => self.push(&mut made, literal)?,
                Piece::Unclosed(_) | Piece::Reference(_) => match self.edges.next() {
                    Some(Edge::Text(text)) => self.insert(&mut made, text)?,
                    Some(edge) => {
                        if let Some((_, Outcome::Value(target))) = edge.outcome(self.session) {
                            self.secret |= target.is_secret();
                            match target.expose() {
                                Some(Value::Text(text)) => self.insert(&mut made, text)?,
                                Some(value) => self.push(&mut made, &value.to_text())?,
                                None => self.unread = self.unread.max(target.unread()),
                            }
                        }
                    }
                    None => {}
                },
            }
        }
        Ok(made)
    }

    /// Adds a text that a reference stands for.
    fn insert(&mut self, made: &mut CompactString, text: &str) -> Result<(), TooLong> {
        if self.is_json { self.push(made, &Json::escape(text)) } else { self.push(made, text) }
    }

    fn push(&mut self, made: &mut CompactString, text: &str) -> Result<(), TooLong> {
        self.length += text.len();
        if self.length > LONGEST {
            return Err(TooLong);
        }
        made.push_str(text);
        Ok(())
    }
}

fn broken<'l>(code: ProblemCode, detail: String, origin: Origin) -> Outcome<'l> {
    Outcome::Broken([Problem { code, detail, path: [].into(), origin }].into())
}

fn wrong_type<'l>(value: &Value, declaration: &Declaration, origin: Origin) -> Outcome<'l> {
    let detail = declaration.mismatch(value);
    broken(ProblemCode::WrongType, detail, origin)
}

/// What a field comes to that stands in a file which cannot be read, or refers to one that does.
pub(super) fn unreadable<'l>(path: &str, origin: Origin) -> Outcome<'l> {
    broken(ProblemCode::UnreadableFile, format!("`{path}` cannot be read"), origin)
}

fn too_long<'l>(origin: Origin) -> Outcome<'l> {
    let detail = "its references make it longer than 64 MiB".to_owned();
    broken(ProblemCode::ValueTooLong, detail, origin)
}

impl Declaration {
    /// What is wrong with a value of another type, without the value itself.
    pub fn mismatch(&self, value: &Value) -> String {
        let wanted = self.this_type.name();
        if self.this_type.is_written_as_text() && value.as_text().is_some() {
            return format!("this text is no {wanted}");
        }
        let found = value.type_name();
        if found == wanted || (self.this_type, found) == (Type::Port, "integer") {
            return format!("this {found} will not do");
        }
        format!("it is {}, and {} is needed", article(found), article(wanted))
    }
}

fn article(noun: &str) -> String {
    match noun {
        "text" => noun.to_owned(),
        _ if noun.starts_with(['a', 'e', 'i', 'o']) => format!("an {noun}"),
        _ => format!("a {noun}"),
    }
}
