//! Random ledgers, described without any of the program's own types.
//!
//! A description is built from a tape of numbers: the shorter the tape and the smaller its numbers,
//! the simpler the ledger, so that a failure shrinks to a small one.

/// Numbers that decide everything; zeros when used up.
pub(crate) struct Tape<'t> {
    choices: &'t [u16],
    at: usize,
}

impl<'t> Tape<'t> {
    pub(crate) fn new(choices: &'t [u16]) -> Self {
        Self { choices, at: 0 }
    }

    fn pick(&mut self, below: usize) -> usize {
        let choice = self.choices.get(self.at).copied().unwrap_or(0);
        self.at += 1;
        usize::from(choice) % below.max(1)
    }

    /// True once in so many times.
    fn once_in(&mut self, times: usize) -> bool {
        self.pick(times) == times - 1
    }

    fn one<T: Clone>(&mut self, of: &[T]) -> T {
        of[self.pick(of.len())].clone()
    }

    fn some<T: Clone>(&mut self, of: &[T], once_in: usize) -> Vec<T> {
        of.iter().filter(|_| self.once_in(once_in)).cloned().collect()
    }

    fn is_used_up(&self) -> bool {
        self.at >= self.choices.len()
    }
}

/// A tape that is the same in every run (a linear congruential generator).
pub(crate) fn fixed_tape(seed: u32, length: usize) -> Vec<u16> {
    let mut state = seed;
    let next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        u16::try_from(state >> 16).unwrap()
    };
    std::iter::repeat_with(next).take(length).collect()
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Val {
    Text(String),
    Integer(i64),
    List(Vec<String>),
    Map(Vec<(String, String)>),
    /// Rows of a lookup table by key, each with the text of its one other column; none to take it out.
    Rows(Vec<(String, Option<String>)>),
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Need {
    Yes,
    No,
    Auth(&'static [&'static str]),
}

#[derive(Debug, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "each is a question of its own")]
pub(crate) struct Field {
    pub(crate) name: Option<String>,
    pub(crate) is: &'static str,
    pub(crate) default: Option<Val>,
    /// Whether the kind of the entry gives the default.
    pub(crate) default_is_built_in: bool,
    pub(crate) need: Need,
    pub(crate) vary: &'static str,
    pub(crate) secret: bool,
    pub(crate) derived: bool,
    /// Whether the kind of the entry brings it along.
    pub(crate) built_in: bool,
    /// The attributes that the contract states, beside the default.
    pub(crate) stated: Vec<(&'static str, String)>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Kind {
    Variable,
    Connection(&'static str),
    Endpoint,
    Table,
}

#[derive(Debug, Clone)]
pub(crate) struct Entry {
    pub(crate) name: String,
    pub(crate) kind: Kind,
    pub(crate) fields: Vec<Field>,
}

#[derive(Debug, Clone)]
pub(crate) struct Unit {
    pub(crate) name: String,
    pub(crate) stages: Vec<String>,
    pub(crate) instances: Vec<(String, Vec<String>)>,
    pub(crate) uses: Vec<String>,
    pub(crate) entries: Vec<Entry>,
}

#[derive(Debug, Clone)]
pub(crate) struct Follow {
    pub(crate) stage: String,
    pub(crate) only: Vec<String>,
    pub(crate) except: Vec<String>,
}

#[derive(Debug, Clone)]
pub(crate) struct Stage {
    pub(crate) name: String,
    pub(crate) class: &'static str,
    pub(crate) groups: Vec<String>,
    pub(crate) follows: Vec<Follow>,
    pub(crate) label: Option<String>,
}

/// Whose setting or field: `shared`, a unit, or an instance of one.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Who {
    Shared,
    Unit(String, Option<String>),
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Says {
    Plain(Val),
    /// The same as a table with a reason.
    Noted(Val),
    Absent,
    From(String),
}

#[derive(Debug, Clone)]
pub(crate) struct Setting {
    pub(crate) layer: String,
    pub(crate) who: Who,
    pub(crate) entry: String,
    pub(crate) field: Option<String>,
    pub(crate) says: Says,
}

#[derive(Debug, Clone)]
pub(crate) struct Assumed {
    pub(crate) who: Who,
    pub(crate) entry: String,
    pub(crate) field: Option<String>,
    pub(crate) stage: String,
    pub(crate) text: String,
}

#[derive(Debug, Clone, Default)]
pub(crate) struct Description {
    pub(crate) stages: Vec<Stage>,
    pub(crate) shared: Vec<Entry>,
    pub(crate) units: Vec<Unit>,
    pub(crate) settings: Vec<Setting>,
    /// The layers that stand in a folder.
    pub(crate) folders: Vec<String>,
    pub(crate) assumed: Vec<Assumed>,
}

const STAGES: [&str; 4] = ["dev", "test", "north", "south"];
pub(crate) const GROUPS: [&str; 2] = ["common", "guarded"];
const UNITS: [&str; 3] = ["desk", "gate", "mail"];
const INSTANCES: [&str; 2] = ["kiosk", "left"];
const SHARED: [&str; 4] = ["bus", "db", "rate", "quays"];
const OWN: [&str; 5] = ["link", "hold", "tide", "rate", "fares"];
const PATTERNS: [&str; 10] = [
    "*",
    "shared/*",
    "desk/*",
    "*/db.*",
    "*/rate",
    "shared/*.host",
    "desk+kiosk/*",
    "ga?e/hold",
    "*/*.h?st",
    "mail+*",
];

impl Description {
    pub(crate) fn from_tape(tape: &mut Tape<'_>) -> Self {
        let mut made = Self::default();
        for (at, name) in STAGES.iter().take(2 + tape.pick(3)).enumerate() {
            made.stages.push(stage(tape, at, name));
        }
        let stages: Vec<String> = made.stages.iter().map(|stage| stage.name.clone()).collect();
        for name in SHARED.iter().take(1 + tape.pick(4)) {
            made.shared.push(entry(tape, name));
        }
        for name in UNITS.iter().take(1 + tape.pick(3)) {
            made.units.push(unit(tape, name, &stages, &made.shared));
        }
        let layers: Vec<String> =
            stages.iter().map(String::as_str).chain(GROUPS).map(str::to_owned).collect();
        made.folders = tape.some(&layers, 2);
        let all = made.all_fields();
        let owned = made.owned();
        for _ in 0..80 {
            if tape.is_used_up() {
                break;
            }
            let (who, entry) = tape.one(&owned);
            let field = tape.one(&entry.fields);
            if field.derived {
                continue;
            }
            let (layer, says) = (tape.one(&layers), says(tape, &field, &all));
            let (entry, field) = (entry.name, field.name);
            let same = |known: &Setting| {
                (&known.layer, &known.who, &known.entry, &known.field) == (&layer, &who, &entry, &field)
            };
            if !made.settings.iter().any(same) {
                made.settings.push(Setting { layer, who, entry, field, says });
            }
        }
        for who_is_shared in [true, false] {
            let fitting: Vec<_> =
                owned.iter().filter(|(who, _)| (*who == Who::Shared) == who_is_shared).cloned().collect();
            if !tape.once_in(3) || fitting.is_empty() {
                continue;
            }
            let (who, entry) = tape.one(&fitting);
            let field = tape.one(&entry.fields);
            if field.derived || field.vary == "never" || field.is != "text" {
                continue;
            }
            let (stage, text) = (tape.one(&stages), text(tape, &all));
            made.assumed.push(Assumed { who, entry: entry.name, field: field.name, stage, text });
        }
        made
    }

    /// Every entry for everybody who has or sees it.
    fn owned(&self) -> Vec<(Who, Entry)> {
        let mut owned: Vec<(Who, Entry)> = self.shared.iter().map(|e| (Who::Shared, e.clone())).collect();
        for unit in &self.units {
            let seen = unit.entries.iter().chain(self.shared.iter().filter(|e| unit.uses.contains(&e.name)));
            for entry in seen {
                owned.push((Who::Unit(unit.name.clone(), None), entry.clone()));
                for (instance, _) in &unit.instances {
                    owned.push((Who::Unit(unit.name.clone(), Some(instance.clone())), entry.clone()));
                }
            }
        }
        owned
    }

    /// A setting that could be written beside the others.
    pub(crate) fn another_setting(&self, tape: &mut Tape<'_>) -> Option<Setting> {
        let (who, entry) = tape.one(&self.owned());
        let field = tape.one(&entry.fields);
        let layers: Vec<String> =
            self.stages.iter().map(|stage| stage.name.clone()).chain(GROUPS.map(str::to_owned)).collect();
        let (layer, says) = (tape.one(&layers), says(tape, &field, &self.all_fields()));
        let setting = Setting { layer, who, entry: entry.name, field: field.name, says };
        let same = |known: &Setting| {
            (&known.layer, &known.who, &known.entry, &known.field)
                == (&setting.layer, &setting.who, &setting.entry, &setting.field)
        };
        (!field.derived && !self.settings.iter().any(same)).then_some(setting)
    }

    /// The entries and fields of everything, as references name them.
    fn all_fields(&self) -> Vec<String> {
        let entries = self.shared.iter().chain(self.units.iter().flat_map(|unit| &unit.entries));
        entries
            .flat_map(|entry| entry.fields.iter().map(|field| path(&entry.name, field.name.as_deref())))
            .collect()
    }
}

/// `entry` or `entry.field`.
pub(crate) fn path(entry: &str, field: Option<&str>) -> String {
    field.map_or_else(|| entry.to_owned(), |field| format!("{entry}.{field}"))
}

fn stage(tape: &mut Tape<'_>, at: usize, name: &str) -> Stage {
    let patterns = PATTERNS.map(str::to_owned);
    let mut follows = Vec::new();
    for followed in &STAGES[..at] {
        if tape.once_in(3) {
            let (only, except) = (tape.some(&patterns, 8), tape.some(&patterns, 8));
            follows.push(Follow { stage: (*followed).to_owned(), only, except });
        }
    }
    if tape.once_in(2) {
        follows.reverse();
    }
    Stage {
        name: name.to_owned(),
        class: tape.one(&["development", "test", "production"]),
        groups: tape.some(&GROUPS.map(str::to_owned), 2),
        follows,
        label: tape.once_in(2).then(|| format!("label of {name}")),
    }
}

fn unit(tape: &mut Tape<'_>, name: &str, stages: &[String], shared: &[Entry]) -> Unit {
    let some_stages = |tape: &mut Tape<'_>| {
        let left_out = tape.some(stages, 4);
        stages.iter().filter(|stage| !left_out.contains(stage)).cloned().collect::<Vec<_>>()
    };
    let belongs = some_stages(tape);
    let names: Vec<String> = shared.iter().map(|entry| entry.name.clone()).collect();
    let not_used = tape.some(&names, 4);
    let uses: Vec<String> = names.into_iter().filter(|name| !not_used.contains(name)).collect();
    let instances = tape.some(&INSTANCES.map(str::to_owned), 2);
    let instances = instances.into_iter().map(|instance| (instance, some_stages(tape))).collect();
    let mut entries: Vec<Entry> = Vec::new();
    for own in tape.some(&OWN, 2) {
        if !uses.iter().any(|used| used == own) {
            entries.push(entry(tape, own));
        }
    }
    Unit { name: name.to_owned(), stages: belongs, instances, uses, entries }
}

fn entry(tape: &mut Tape<'_>, name: &str) -> Entry {
    let (kind, mut fields) = match name {
        "bus" => (Kind::Connection("tcp"), tcp()),
        "db" | "link" => (Kind::Connection("postgresql"), postgresql()),
        "tide" => (Kind::Endpoint, endpoint()),
        "fares" | "quays" => {
            let mut field = Field { built_in: false, name: None, ..built_in("", "rows", Need::Yes) };
            if tape.once_in(3) {
                field.need = Need::No;
                field.stated.push(("required", "false".to_owned()));
            }
            if tape.once_in(2) {
                field.default = Some(value_of(tape, "rows", &[]));
                field.default_is_built_in = false;
            }
            return Entry { name: name.to_owned(), kind: Kind::Table, fields: vec![field] };
        }
        _ => {
            let is = tape.one(&["text", "integer", "list", "map"]);
            let mut field = Field { built_in: false, ..built_in("", is, Need::Yes) };
            field.name = None;
            field.stated.push(("type", format!("{is:?}")));
            (Kind::Variable, vec![field])
        }
    };
    if kind != Kind::Variable && tape.once_in(3) {
        fields.push(Field { built_in: false, ..built_in("extra", "text", Need::Yes) });
    }
    for field in &mut fields {
        tune(tape, field);
    }
    Entry { name: name.to_owned(), kind, fields }
}

fn tune(tape: &mut Tape<'_>, field: &mut Field) {
    if field.derived {
        return;
    }
    let own = !field.built_in;
    if tape.once_in(if own { 3 } else { 12 }) {
        field.vary = tape.one(&["may", "must", "never"]);
        field.stated.push(("vary", format!("{:?}", field.vary)));
    }
    if tape.once_in(if own { 3 } else { 12 }) && !matches!(field.need, Need::Auth(_)) {
        let required = field.need != Need::Yes;
        field.need = if required { Need::Yes } else { Need::No };
        field.stated.push(("required", required.to_string()));
    }
    if own && field.is == "text" && tape.once_in(4) {
        field.secret = true;
        field.stated.push(("secret", "true".to_owned()));
    }
    if !field.secret && tape.once_in(if own { 2 } else { 10 }) {
        field.default = Some(value(tape, field.is, &[]));
        field.default_is_built_in = false;
    }
}

fn built_in(name: &str, is: &'static str, need: Need) -> Field {
    Field {
        name: Some(name.to_owned()),
        is,
        default: None,
        default_is_built_in: true,
        need,
        vary: "may",
        secret: false,
        derived: false,
        built_in: true,
        stated: Vec::new(),
    }
}

fn tcp() -> Vec<Field> {
    vec![
        Field { vary: "must", ..built_in("host", "host", Need::Yes) },
        built_in("port", "port", Need::Yes),
        built_in("user", "text", Need::No),
        Field { secret: true, ..built_in("password", "text", Need::No) },
        built_in("options", "map", Need::No),
        Field { derived: true, ..built_in("url", "url", Need::No) },
    ]
}

fn postgresql() -> Vec<Field> {
    vec![
        Field { vary: "must", ..built_in("host", "host", Need::Yes) },
        Field { default: Some(Val::Integer(5432)), ..built_in("port", "port", Need::Yes) },
        built_in("database", "text", Need::Yes),
        built_in("user", "text", Need::Yes),
        Field { secret: true, ..built_in("password", "text", Need::Yes) },
        built_in("options", "map", Need::No),
        Field { derived: true, ..built_in("url", "url", Need::No) },
    ]
}

fn endpoint() -> Vec<Field> {
    let text = |text: &str| Some(Val::Text(text.to_owned()));
    vec![
        Field { vary: "must", ..built_in("base", "url", Need::Yes) },
        built_in("proxy", "url", Need::No),
        Field { default: text("30s"), ..built_in("timeout", "duration", Need::Yes) },
        Field { default: text("none"), ..built_in("auth", "text", Need::Yes) },
        built_in("user", "text", Need::Auth(&["basic"])),
        Field { secret: true, ..built_in("password", "text", Need::Auth(&["basic"])) },
        Field { secret: true, ..built_in("token", "text", Need::Auth(&["bearer", "api-key"])) },
    ]
}

fn says(tape: &mut Tape<'_>, field: &Field, all: &[String]) -> Says {
    match tape.pick(12) {
        9 => Says::Noted(value(tape, field.is, all)),
        10 => Says::Absent,
        11 if field.is != "rows" => {
            let sources = ["env:TEXT", "env:NUMBER", "env:NOTHING", "file:${stage.name}", "env:${hold}"];
            Says::From(tape.one(&sources).to_owned())
        }
        _ if field.name.as_deref() == Some("auth") => {
            Says::Plain(Val::Text(tape.one(&["none", "basic", "bearer", "${hold}"]).to_owned()))
        }
        _ => Says::Plain(value(tape, field.is, all)),
    }
}

/// A value that mostly has the type, now and then another one.
fn value(tape: &mut Tape<'_>, is: &str, all: &[String]) -> Val {
    let is = if is != "rows" && tape.once_in(16) { tape.one(&["text", "integer", "list"]) } else { is };
    if tape.once_in(3) {
        return match is {
            "list" | "map" if tape.once_in(2) => Val::Text(reference(tape, all)),
            "list" | "map" | "rows" => value_of(tape, is, all),
            _ => Val::Text(text(tape, all)),
        };
    }
    value_of(tape, is, all)
}

fn value_of(tape: &mut Tape<'_>, is: &str, all: &[String]) -> Val {
    match is {
        "integer" | "port" => Val::Integer(i64::try_from(1 + tape.pick(9)).unwrap_or(1)),
        "host" => Val::Text(tape.one(&["one.example", "two.example", "no host"]).to_owned()),
        "url" => Val::Text(tape.one(&["https://one.example/x", "https://two.example", "no url"]).to_owned()),
        "duration" => Val::Text(tape.one(&["5s", "1h30m", "soon"]).to_owned()),
        "list" => Val::List((0..tape.pick(3)).map(|_| text(tape, all)).collect()),
        "map" => Val::Map(
            ["a", "b"].iter().take(tape.pick(3)).map(|k| ((*k).to_owned(), text(tape, all))).collect(),
        ),
        "rows" => {
            let row = |tape: &mut Tape<'_>| (!tape.once_in(4)).then(|| text(tape, all));
            let keys = ["a", "b c", "9"].iter().take(tape.pick(4));
            Val::Rows(keys.map(|key| ((*key).to_owned(), row(tape))).collect())
        }
        _ => Val::Text(tape.one(&["x", "y z", "", "ü%/"]).to_owned()),
    }
}

/// Text with references.
fn text(tape: &mut Tape<'_>, all: &[String]) -> String {
    if tape.once_in(2) {
        return reference(tape, all);
    }
    let mut text = String::new();
    for _ in 0..=tape.pick(3) {
        match tape.pick(10) {
            0..=3 => text += tape.one(&["x", "-", "$", "a.b", "}"]),
            4 => text += "$${x}",
            5 => text += "$$",
            6 if tape.once_in(4) => text += "${open",
            _ => text += &reference(tape, all),
        }
    }
    text
}

fn reference(tape: &mut Tape<'_>, all: &[String]) -> String {
    let field = if all.is_empty() { "hold".to_owned() } else { tape.one(all) };
    let unit = tape.one(&UNITS);
    let inside = match tape.pick(16) {
        0..=6 => field,
        7 | 8 => format!("{unit}/{field}"),
        9 => format!("{unit}+{}/{field}", tape.one(&INSTANCES)),
        10 | 11 => format!("shared/{field}"),
        12 => return format!("${{stage.{}}}", tape.one(&["name", "class", "label.tier", "nmae"])),
        13 => return format!("${{unit.{}}}", tape.one(&["name", "instance", "owner"])),
        14 => tape.one(&["nothing", "a b", "hold.x", "db", "x/y/z", "gate/"]).to_owned(),
        _ => format!("{field}@elsewhere"),
    };
    if !inside.contains('@') && tape.once_in(4) {
        return format!("${{{inside}@{}}}", tape.one(&STAGES));
    }
    format!("${{{inside}}}")
}
