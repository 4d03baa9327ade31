//! A second, deliberately naive implementation of the resolution rules: it asks every question
//! anew, recurses along references, and knows nothing of the program's own model.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use regex::Regex;
use serde_json::{Value as Json, json};

use crate::random::{Description, Entry, Field, Follow, Kind, Need, Says, Stage, Unit, Val, Who};
use crate::written::{Spot, Spots};

static REFERENCE: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(
        r"^(?:([a-z0-9_-]+)(?:\+([a-z0-9_-]+))?/)?([a-z0-9_-]+)(?:\.([a-z0-9_-]+))?(?:@([a-z0-9_-]+))?$",
    )
    .unwrap()
});
static DURATION: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"^([0-9]+(ms|s|m|h|d))+$").unwrap());
static URL: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"^[A-Za-z][A-Za-z0-9+.-]*://[^\s\p{Cc}]+$").unwrap());
static DIGITS: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"^[0-9.]+$").unwrap());
const LABEL: &str = "[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?";
static HOST: LazyLock<Regex> = LazyLock::new(|| Regex::new(&format!(r"^(?:{LABEL}\.)*{LABEL}\.?$")).unwrap());

/// Layer, name of its group or stage, and place.
pub(crate) type From = (&'static str, Option<String>, Option<Spot>);

/// What a field comes to.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Out {
    Value { value: Json, secret: bool, from: From },
    Absent(From),
    Unset,
    Missing,
    Problems(BTreeSet<&'static str>),
}

/// A field of somebody in a stage.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Key {
    pub(crate) who: Who,
    pub(crate) stage: String,
    pub(crate) entry: String,
    pub(crate) field: Option<String>,
}

/// One place that a field's value could come from.
struct Candidate {
    says: Says,
    from: From,
    shared_text: bool,
}

enum Target {
    Text(String),
    Field(Key),
    Nothing,
}

enum Piece {
    Literal(String),
    Target(Target),
}

pub(crate) struct Naive<'d> {
    pub(crate) made: &'d Description,
    pub(crate) spots: &'d Spots,
    pub(crate) fetch: fn(&str) -> Option<String>,
    known: RefCell<BTreeMap<Key, Out>>,
}

/// A match of `*` and `?` within one name.
fn glob(pattern: &str, name: &str) -> bool {
    match (pattern.chars().next(), name.chars().next()) {
        (None, None) => true,
        (Some('*'), None) => glob(&pattern[1..], name),
        (Some('*'), Some(c)) => glob(&pattern[1..], name) || glob(pattern, &name[c.len_utf8()..]),
        (Some('?'), Some(c)) => glob(&pattern[1..], &name[c.len_utf8()..]),
        (Some(p), Some(c)) => p == c && glob(&pattern[1..], &name[c.len_utf8()..]),
        _ => false,
    }
}

/// Whether an address pattern covers what is written under this owner for this field.
fn covers(pattern: &str, who: &Who, entry: &str, field: Option<&str>) -> bool {
    let (owner, path) = pattern.split_once('/').unwrap_or((pattern, "*"));
    let (unit, instance) = owner.split_once('+').map_or((owner, None), |(u, i)| (u, Some(i)));
    let owner_covered = match who {
        Who::Shared => glob(unit, "shared") && instance.is_none(),
        Who::Unit(name, own) => {
            glob(unit, name) && instance.is_none_or(|i| own.as_ref().is_some_and(|own| glob(i, own)))
        }
    };
    let path_covered = match path.split_once('.') {
        None => glob(path, entry),
        Some((e, f)) => glob(e, entry) && field.is_some_and(|field| glob(f, field)),
    };
    owner_covered && path_covered
}

impl<'d> Naive<'d> {
    pub(crate) fn new(made: &'d Description, spots: &'d Spots, fetch: fn(&str) -> Option<String>) -> Self {
        Self { made, spots, fetch, known: RefCell::default() }
    }

    fn stage(&self, name: &str) -> Option<&'d Stage> {
        self.made.stages.iter().find(|stage| stage.name == name)
    }

    fn unit(&self, name: &str) -> Option<&'d Unit> {
        self.made.units.iter().find(|unit| unit.name == name)
    }

    pub(crate) fn belongs(&self, who: &Who, stage: &str) -> bool {
        let Who::Unit(name, instance) = who else { return true };
        let has = |stages: &[String]| stages.iter().any(|known| known == stage);
        self.unit(name).is_some_and(|unit| {
            has(&unit.stages)
                && instance.as_ref().is_none_or(|wanted| {
                    unit.instances.iter().any(|(known, stages)| known == wanted && has(stages))
                })
        })
    }

    /// The entry that somebody has or sees, and whether it is a shared one.
    fn entry(&self, who: &Who, name: &str) -> Option<(&'d Entry, bool)> {
        let shared = self.made.shared.iter().find(|entry| entry.name == name).map(|entry| (entry, true));
        let Who::Unit(unit, _) = who else { return shared };
        let unit = self.unit(unit)?;
        let own = unit.entries.iter().find(|entry| entry.name == name).map(|entry| (entry, false));
        own.or(shared.filter(|_| unit.uses.iter().any(|used| used == name)))
    }

    fn field(&self, key: &Key) -> Option<(&'d Entry, &'d Field, bool)> {
        let (entry, shared) = self.entry(&key.who, &key.entry)?;
        let field = entry.fields.iter().find(|field| field.name == key.field)?;
        Some((entry, field, shared))
    }

    /// The layers of a stage, weakest first, each with the follows on the way to it.
    fn chain(&self, stage: &str) -> Vec<(String, Vec<&'d Follow>)> {
        let Some(stage) = self.stage(stage) else { return Vec::new() };
        let mut layers: Vec<_> = stage.groups.iter().map(|group| (group.clone(), Vec::new())).collect();
        for follow in &stage.follows {
            for (layer, way) in self.chain(&follow.stage) {
                layers.push((layer, std::iter::once(follow).chain(way).collect()));
            }
        }
        layers.push((stage.name.clone(), Vec::new()));
        layers
    }

    fn winner(&self, key: &Key) -> Option<Candidate> {
        self.candidates(key).pop()
    }

    /// The rows of a lookup table by key, each with whether it is shared text, and the strongest candidate.
    fn rows(&self, key: &Key) -> (BTreeMap<String, (String, bool)>, Option<Candidate>) {
        let mut rows = BTreeMap::new();
        let mut strongest = None;
        for candidate in self.candidates(key) {
            match &candidate.says {
                Says::Plain(Val::Rows(given)) | Says::Noted(Val::Rows(given)) => {
                    for (name, text) in given {
                        match text {
                            Some(text) => {
                                drop(rows.insert(name.clone(), (text.clone(), candidate.shared_text)));
                            }
                            None => drop(rows.remove(name)),
                        }
                    }
                }
                _ => rows.clear(),
            }
            strongest = Some(candidate);
        }
        (rows, strongest)
    }

    /// All that count, weakest first.
    fn candidates(&self, key: &Key) -> Vec<Candidate> {
        let (Some((_, field, shared)), Some(stage)) = (self.field(key), self.stage(&key.stage)) else {
            return Vec::new();
        };
        let owner = match &key.who {
            Who::Unit(unit, _) if !shared => unit.clone(),
            _ => "shared".to_owned(),
        };
        let mut found = Vec::new();
        if let Some(default) = &field.default
            && (field.vary != "must" || stage.class == "development")
        {
            let spot = if field.default_is_built_in {
                self.spots.entries.get(&(owner, key.entry.clone()))
            } else {
                self.spots.defaults.get(&(owner, key.entry.clone(), key.field.clone()))
            };
            let from = ("default", None, spot.cloned());
            found.push(Candidate { says: Says::Plain(default.clone()), from, shared_text: shared });
        }
        if field.vary == "never" {
            return found;
        }
        let mut owners = Vec::new();
        if shared {
            owners.push(Who::Shared);
        }
        if let Who::Unit(unit, instance) = &key.who {
            owners.push(Who::Unit(unit.clone(), None));
            owners.extend(instance.iter().map(|i| Who::Unit(unit.clone(), Some(i.clone()))));
        }
        for (layer, way) in self.chain(&key.stage) {
            for owner in &owners {
                let let_through = way.iter().all(|follow| {
                    let covered = |pattern: &String| covers(pattern, owner, &key.entry, key.field.as_deref());
                    (follow.only.is_empty() || follow.only.iter().any(covered))
                        && !follow.except.iter().any(covered)
                        && self.belongs(owner, &follow.stage)
                });
                if !let_through || (field.vary == "must" && !way.is_empty()) {
                    continue;
                }
                for (at, setting) in self.made.settings.iter().enumerate() {
                    if setting.layer != layer
                        || setting.who != *owner
                        || setting.entry != key.entry
                        || setting.field != key.field
                    {
                        continue;
                    }
                    let (word, name) = match way.first() {
                        Some(follow) => ("follow", follow.stage.clone()),
                        None if layer == key.stage => ("stage", layer.clone()),
                        None => ("group", layer.clone()),
                    };
                    let from = (word, Some(name), self.spots.settings.get(&at).cloned());
                    let shared_text = *owner == Who::Shared;
                    found.push(Candidate { says: setting.says.clone(), from, shared_text });
                }
            }
        }
        for owner in &owners {
            for assumed in &self.made.assumed {
                let same = (&assumed.who, &assumed.stage, &assumed.entry, &assumed.field);
                if same == (owner, &key.stage, &key.entry, &key.field) {
                    let says = Says::Plain(Val::Text(assumed.text.clone()));
                    let shared_text = *owner == Who::Shared;
                    found.push(Candidate { says, from: ("run", None, None), shared_text });
                }
            }
        }
        found
    }

    fn pieces(&self, key: &Key, shared_text: bool, text: &str) -> Vec<Piece> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            if let Some(after) = rest.strip_prefix("$${") {
                pieces.push(Piece::Literal("${".to_owned()));
                rest = after;
            } else if let Some(after) = rest.strip_prefix("${") {
                let Some(end) = after.find('}') else {
                    pieces.push(Piece::Target(Target::Nothing));
                    break;
                };
                pieces.push(Piece::Target(self.target(key, shared_text, &after[..end])));
                rest = &after[end + 1..];
            } else {
                pieces.push(Piece::Literal(c.to_string()));
                rest = &rest[c.len_utf8()..];
            }
        }
        pieces
    }

    fn target(&self, key: &Key, shared_text: bool, inside: &str) -> Target {
        let stage = self.stage(&key.stage);
        let text = |text: Option<String>| text.map_or(Target::Nothing, Target::Text);
        match (inside, &key.who) {
            ("stage.name", _) => return text(stage.map(|stage| stage.name.clone())),
            ("stage.class", _) => return text(stage.map(|stage| stage.class.to_owned())),
            ("stage.label.tier", _) => return text(stage.and_then(|stage| stage.label.clone())),
            ("unit.name", Who::Unit(unit, _)) if !shared_text => return text(Some(unit.clone())),
            ("unit.instance", Who::Unit(_, instance)) if !shared_text => {
                return text(Some(instance.clone().unwrap_or_default()));
            }
            _ if inside.starts_with("stage.") || inside.starts_with("unit.") => return Target::Nothing,
            _ => {}
        }
        let Some(parts) = REFERENCE.captures(inside) else { return Target::Nothing };
        let part = |at: usize| parts.get(at).map(|part| part.as_str().to_owned());
        let named_stage = part(5).unwrap_or_else(|| key.stage.clone());
        if self.stage(&named_stage).is_none() {
            return Target::Nothing;
        }
        let Some(entry) = part(3) else { return Target::Nothing };
        let is_used = match &key.who {
            Who::Shared => self.entry(&Who::Shared, &entry).is_some(),
            who @ Who::Unit(..) => self.entry(who, &entry).is_some_and(|(_, shared)| shared),
        };
        let who = match part(1) {
            Some(owner) if owner == "shared" => {
                if !is_used && !shared_text {
                    return Target::Nothing;
                }
                Who::Shared
            }
            Some(_) if shared_text => return Target::Nothing,
            Some(owner) => Who::Unit(owner, part(2)),
            // Shared text names any shared entry: as the unit sees it, if it uses it and belongs there.
            None if shared_text && !(is_used && self.belongs(&key.who, &named_stage)) => Who::Shared,
            None => key.who.clone(),
        };
        let wanted = Key { who, stage: named_stage, entry, field: part(4) };
        if self.belongs(&wanted.who, &wanted.stage) && self.field(&wanted).is_some() {
            Target::Field(wanted)
        } else {
            Target::Nothing
        }
    }

    /// Everything that a field's value is made from.
    fn made_from(&self, key: &Key) -> Vec<Piece> {
        let Some((entry, field, _)) = self.field(key) else { return Vec::new() };
        if field.derived {
            return parts_of_url(entry)
                .map(|part| Piece::Target(Target::Field(Key { field: part.name.clone(), ..key.clone() })))
                .collect();
        }
        if field.is == "rows" {
            let rows = self.rows(key).0.into_values();
            return rows.flat_map(|(text, shared)| self.pieces(key, shared, &text)).collect();
        }
        let Some(winner) = self.winner(key) else { return Vec::new() };
        let pieces = |text: &str| self.pieces(key, winner.shared_text, text);
        match &winner.says {
            Says::From(source) => pieces(source),
            Says::Plain(value) | Says::Noted(value) if shape_fits(field.is, value) => match value {
                Val::Text(text) => pieces(text),
                Val::Integer(_) | Val::Rows(_) => Vec::new(),
                Val::List(items) => items.iter().flat_map(|item| pieces(item)).collect(),
                Val::Map(pairs) => pairs.iter().flat_map(|(_, text)| pieces(text)).collect(),
            },
            Says::Plain(_) | Says::Noted(_) | Says::Absent => Vec::new(),
        }
    }

    /// Whether a field can be reached from itself.
    fn is_in_circle(&self, key: &Key) -> bool {
        let mut reached: BTreeSet<Key> = BTreeSet::new();
        let mut open = vec![key.clone()];
        while let Some(next) = open.pop() {
            for piece in self.made_from(&next) {
                if let Piece::Target(Target::Field(to)) = piece
                    && reached.insert(to.clone())
                {
                    open.push(to);
                }
            }
        }
        reached.contains(key)
    }

    /// What a field comes to, with what its entry's `auth` asks for.
    pub(crate) fn out(&self, key: &Key) -> Out {
        let out = self.eval(key);
        if out == Out::Unset
            && let Some((_, Field { need: Need::Auth(needed), .. }, _)) = self.field(key)
        {
            let auth = self.eval(&Key { field: Some("auth".to_owned()), ..key.clone() });
            if let Out::Value { value: Json::String(auth), .. } = auth
                && needed.contains(&auth.as_str())
            {
                return Out::Missing;
            }
        }
        out
    }

    fn eval(&self, key: &Key) -> Out {
        if let Some(known) = self.known.borrow().get(key) {
            return known.clone();
        }
        let out = self.eval_anew(key);
        self.known.borrow_mut().insert(key.clone(), out.clone());
        out
    }

    fn eval_anew(&self, key: &Key) -> Out {
        let Some((entry, field, _)) = self.field(key) else { return Out::Unset };
        let pieces = self.made_from(key);
        let leads_nowhere = pieces.iter().any(|piece| matches!(piece, Piece::Target(Target::Nothing)));
        let mut problems = BTreeSet::new();
        if leads_nowhere {
            problems.insert("reference-unknown");
        }
        if self.is_in_circle(key) {
            problems.insert("reference-circle");
            return Out::Problems(problems);
        }
        if field.derived {
            return self.url(key, entry);
        }
        let Some(winner) = self.winner(key) else {
            return if field.need == Need::Yes { Out::Missing } else { Out::Unset };
        };
        if field.is == "rows" {
            return self.table(key, winner, problems, &pieces);
        }
        let wrong_type = Out::Problems(BTreeSet::from(["wrong-type"]));
        let value = match &winner.says {
            Says::Absent => return Out::Absent(winner.from),
            Says::From(_) if matches!(field.is, "list" | "map") => return wrong_type,
            Says::From(source) => Val::Text(source.clone()),
            Says::Plain(value) | Says::Noted(value) if shape_fits(field.is, value) => value.clone(),
            Says::Plain(_) | Says::Noted(_) => return wrong_type,
        };
        if !problems.is_empty() {
            return Out::Problems(problems);
        }
        let mut secret = field.secret;
        for piece in &pieces {
            if let Piece::Target(Target::Field(to)) = piece {
                match self.eval(to) {
                    Out::Value { secret: theirs, .. } => secret |= theirs,
                    _ => return Out::Missing,
                }
            }
        }
        let expanded = |text: &str| self.expanded(key, winner.shared_text, text);
        let value = match (&winner.says, value) {
            (Says::From(_), Val::Text(source)) => {
                let Some(found) = (self.fetch)(&expanded(&source)) else { return Out::Missing };
                match found.parse::<i64>() {
                    Ok(number) if matches!(field.is, "integer" | "port") => json!(number),
                    _ => json!(found),
                }
            }
            (_, Val::Text(_)) if let [Piece::Target(Target::Field(to))] = &pieces[..] => {
                match self.eval(to) {
                    Out::Value { value, .. } => value,
                    _ => return Out::Missing,
                }
            }
            (_, Val::Text(text)) => json!(expanded(&text)),
            (_, Val::Integer(number)) => json!(number),
            (_, Val::List(items)) => items.iter().map(|item| json!(expanded(item))).collect(),
            (_, Val::Map(pairs)) => pairs.iter().map(|(k, v)| (k.clone(), json!(expanded(v)))).collect(),
            (_, Val::Rows(_)) => return wrong_type,
        };
        if !fits(field.is, &value) {
            return wrong_type;
        }
        Out::Value { value, secret, from: winner.from }
    }

    fn table(
        &self,
        key: &Key,
        strongest: Candidate,
        problems: BTreeSet<&'static str>,
        pieces: &[Piece],
    ) -> Out {
        if strongest.says == Says::Absent {
            return Out::Absent(strongest.from);
        }
        if !problems.is_empty() {
            return Out::Problems(problems);
        }
        let mut secret = false;
        for piece in pieces {
            if let Piece::Target(Target::Field(to)) = piece {
                match self.eval(to) {
                    Out::Value { secret: theirs, .. } => secret |= theirs,
                    _ => return Out::Missing,
                }
            }
        }
        let row = |(name, (text, shared)): (String, (String, bool))| {
            let cells = json!({ "k": &name, "v": self.expanded(key, shared, &text) });
            (name, cells)
        };
        let value = self.rows(key).0.into_iter().map(row).collect();
        Out::Value { value, secret, from: strongest.from }
    }

    fn expanded(&self, key: &Key, shared_text: bool, text: &str) -> String {
        let mut made = String::new();
        for piece in self.pieces(key, shared_text, text) {
            match piece {
                Piece::Literal(text) | Piece::Target(Target::Text(text)) => made += &text,
                Piece::Target(Target::Field(to)) => match self.eval(&to) {
                    Out::Value { value: Json::String(text), .. } => made += &text,
                    Out::Value { value, .. } => made += &value.to_string(),
                    _ => {}
                },
                Piece::Target(Target::Nothing) => {}
            }
        }
        made
    }

    fn url(&self, key: &Key, entry: &Entry) -> Out {
        let mut found: BTreeMap<String, Json> = BTreeMap::new();
        let mut secret = false;
        for part in parts_of_url(entry) {
            let name = part.name.clone().unwrap_or_default();
            match self.eval(&Key { field: part.name.clone(), ..key.clone() }) {
                Out::Value { value, secret: theirs, .. } => {
                    secret |= theirs;
                    found.insert(name, value);
                }
                _ if part.need == Need::Yes || name == "host" || name == "port" => return Out::Unset,
                _ => {}
            }
        }
        let Kind::Connection(protocol) = entry.kind else { return Out::Unset };
        let text = |name: &str| match found.get(name) {
            Some(Json::String(text)) => Some(encoded(text)),
            other => other.map(Json::to_string),
        };
        let mut url = format!("{protocol}://");
        match (text("user"), text("password")) {
            (user, Some(password)) => url += &format!("{}:{password}@", user.unwrap_or_default()),
            (Some(user), None) => url += &format!("{user}@"),
            (None, None) => {}
        }
        url += &format!("{}:{}", text("host").unwrap_or_default(), text("port").unwrap_or_default());
        if let Some(database) = text("database") {
            url += &format!("/{database}");
        }
        if let Some(Json::Object(options)) = found.get("options") {
            let options: Vec<String> = options
                .iter()
                .map(|(name, text)| format!("{name}={}", encoded(text.as_str().unwrap_or_default())))
                .collect();
            if !options.is_empty() {
                url += &format!("?{}", options.join("&"));
            }
        }
        let who = match (&key.who, self.entry(&key.who, &key.entry)) {
            (Who::Unit(unit, _), Some((_, false))) => unit.clone(),
            _ => "shared".to_owned(),
        };
        let spot = self.spots.entries.get(&(who, key.entry.clone())).cloned();
        Out::Value { value: json!(url), secret, from: ("derived", None, spot) }
    }
}

fn parts_of_url(entry: &Entry) -> impl Iterator<Item = &Field> {
    let parts = ["host", "port", "user", "password", "options", "database"];
    entry.fields.iter().filter(move |field| field.name.as_deref().is_some_and(|name| parts.contains(&name)))
}

/// RFC 3986: everything but unreserved characters, byte by byte.
fn encoded(text: &str) -> String {
    text.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                char::from(byte).to_string()
            }
            _ => format!("%{byte:02X}"),
        })
        .collect()
}

/// Whether a value as written could be of the type, whatever its references come to.
fn shape_fits(is: &str, value: &Val) -> bool {
    match value {
        // One reference and nothing else has the type of what it refers to.
        Val::Text(text) if text.contains("${") => {
            !matches!(is, "list" | "map") || text.starts_with("${") && text.find('}') == Some(text.len() - 1)
        }
        Val::Text(text) => fits(is, &json!(text)),
        Val::Integer(number) => fits(is, &json!(number)),
        Val::List(_) => is == "list",
        Val::Map(_) => is == "map",
        Val::Rows(_) => is == "rows",
    }
}

fn fits(is: &str, value: &Json) -> bool {
    let matches = |form: &Regex| value.as_str().is_some_and(|text| form.is_match(text));
    match is {
        "integer" => value.is_i64(),
        "port" => value.as_i64().is_some_and(|port| (1..=65535).contains(&port)),
        "list" => value.is_array(),
        "map" => value.as_object().is_some_and(|map| map.values().all(Json::is_string)),
        "duration" => matches(&DURATION),
        "url" => matches(&URL),
        "host" => matches(&HOST) && !matches(&DIGITS),
        _ => value.is_string(),
    }
}
