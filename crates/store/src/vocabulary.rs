//! Which keys the tables of a ledger's files have, and what each takes.
//!
//! The reader knows no others, the schemas are made from them, and so are the options of the commands that declare:
//! what can be written by hand can be written by a command.

mod contract;
mod ledger;

pub use contract::{
    CONNECTION, CREDENTIAL, DELIMITERS, ENDPOINT, FIELD, INSTANCE, LEFT_OUT, OUTPUT, PROBE, TABLE, UNIT,
};
pub use ledger::{
    ALIGNED, BUNDLE, CHECK, CHORE, COLUMNS, CONDITION, DAYBOOK, FOLLOW, GROUP, KindOfOutlet, LEDGER,
    LOOKUP_ROWS, OAUTH, OUTLET, OUTLET_KINDS, RULE, RULE_DEMANDS, SIGNAL, STAGE,
};

/// A key of a table.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// How it is written.
    pub name: &'static str,
    /// What it takes.
    pub form: Form,
    /// What it is for.
    pub about: &'static str,
}

/// What a key takes.
#[derive(Debug, Clone, Copy)]
pub enum Form {
    /// Text.
    Text,
    /// A name.
    Name,
    /// One of these words.
    Word(fn() -> Vec<&'static str>),
    /// `true` or `false`.
    Boolean,
    /// `true`, or it is left out.
    OnlyTrue,
    /// `true`, `false`, or this word.
    BooleanOr(&'static str),
    /// A whole number from nought to this.
    Whole(u32),
    /// A list of names.
    Names,
    /// A list of patterns.
    Patterns,
    /// A pattern or name, or a list of them.
    OneOrMore,
    /// A text, or a list of texts.
    OneOrMoreTexts,
    /// A list of any texts.
    Texts,
    /// A start and an end.
    Ends,
    /// A list of these words.
    Words(fn() -> Vec<&'static str>),
    /// Any value.
    Value,
    /// A list of any values.
    Values,
    /// A bound: a number, or text that says a duration, a size or a day.
    Bound,
    /// Text, or `{ from = "env:NAME" }`.
    Given,
    /// `{ from = "env:NAME" }` or `{ from = "file:PATH" }`.
    From,
    /// A table of texts under names.
    Labels,
    /// A table of these words under those words.
    WordsByWord(fn() -> Vec<&'static str>, fn() -> Vec<&'static str>),
    /// A name in outputs, or a table of one for each format.
    OutputName,
    /// When something is to be done: one of these words, or `{ changed = […] }`.
    When(&'static [&'static str]),
    /// A table with these keys, all of them needed.
    Parts(&'static [Key]),
    /// A table with these keys.
    Some(&'static [Key]),
    /// A list of tables with these keys, of which those are needed.
    ListOf(&'static [Key], &'static [&'static str]),
    /// A table with these keys, of which those are needed.
    TableOf(&'static [Key], &'static [&'static str]),
    /// Any table.
    Table,
    /// The rows of a lookup table: a CSV file, or a table by keys.
    Rows,
    /// Things that are declared by themselves, each with a command.
    Things,
}

impl Key {
    const fn new(name: &'static str, form: Form, about: &'static str) -> Self {
        Self { name, form, about }
    }

    /// The option of a command by which it is said.
    pub fn option(&self) -> String {
        match self.form {
            // Given once for each.
            Form::Labels => self.name.trim_end_matches('s').to_owned(),
            // Every command has a --help, and a --why of its own.
            _ if ["help", "why"].contains(&self.name) => format!("{}-text", self.name),
            _ => self.name.replace('_', "-"),
        }
    }
}

/// The names of keys.
pub(crate) const fn names<const N: usize>(keys: &[Key; N]) -> [&'static str; N] {
    let mut names = [""; N];
    let mut at = 0;
    while at < N {
        names[at] = keys[at].name;
        at += 1;
    }
    names
}

fn words<T: Copy, const N: usize>(choices: &[(T, &'static str); N]) -> Vec<&'static str> {
    choices.iter().map(|(_, word)| *word).collect()
}
