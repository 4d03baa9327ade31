//! The options by which a command says what stands in a ledger's files: one for each key.

use std::collections::BTreeMap;
use std::marker::PhantomData;

use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use cledger_store::vocabulary::{Form, Key};
use cledger_work::declare::Said;

/// What has keys.
pub(crate) trait Declarable {
    /// Its keys.
    const KEYS: &'static [Key];
    /// Those by which it is known, and others that are no options of its own.
    const OWN: &'static [&'static str];
    /// Those that must be said.
    const NEEDED: &'static [&'static str];
}

/// What is said of something, key by key.
#[derive(Debug)]
pub(crate) struct Keys<D>(pub(crate) Vec<Said>, PhantomData<D>);

impl<D: Declarable> Keys<D> {
    fn options() -> impl Iterator<Item = &'static Key> {
        D::KEYS.iter().filter(|key| !matches!(key.form, Form::Things) && !D::OWN.contains(&key.name))
    }
}

impl<D: Declarable> Args for Keys<D> {
    fn augment_args(command: Command) -> Command {
        Self::options()
            .fold(command, |command, key| command.arg(arg(key, true).required(D::NEEDED.contains(&key.name))))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<D: Declarable> FromArgMatches for Keys<D> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        Ok(Self(said(matches, Self::options()), PhantomData))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}

/// The option of a key.
pub(crate) fn arg(key: &Key, with_words: bool) -> Arg {
    let option = key.option();
    let arg = Arg::new(id(key)).long(option).help(key.about).action(ArgAction::Append);
    let truth = |arg: Arg| {
        arg.num_args(0..=1).require_equals(true).default_missing_value("true").value_name("true|false")
    };
    let words = |arg: Arg, words: Vec<&'static str>| if with_words { arg.value_parser(words) } else { arg };
    match key.form {
        Form::Boolean | Form::OnlyTrue => truth(arg),
        Form::BooleanOr(word) => truth(arg).value_name(format!("true|false|{word}")),
        Form::Word(of) => words(arg.value_name("WORD"), of()),
        Form::Words(of) => words(arg.value_name("WORD").value_delimiter(','), of()),
        Form::Name | Form::Names => arg.value_name("NAME"),
        Form::Patterns | Form::OneOrMore => arg.value_name("PATTERN"),
        Form::Value | Form::Values | Form::Bound => arg.value_name("VALUE").allow_hyphen_values(true),
        Form::Whole(_) => arg.value_name("NUMBER"),
        Form::From => arg.value_name("env:NAME|file:PATH"),
        Form::Labels | Form::WordsByWord(..) => arg.value_name("NAME=VALUE"),
        Form::Parts([_, _]) => arg.value_name("FIELD=VALUE"),
        Form::Parts(_) => arg.value_name("KEY=VALUE"),
        Form::Some(_) => arg.value_name("KEY='START END'"),
        Form::When(_) => arg.value_name("WHEN"),
        Form::Table | Form::TableOf(..) | Form::ListOf(..) => arg.value_name("TABLE"),
        Form::Texts => arg.value_name("TEXT").allow_hyphen_values(true),
        Form::Text
        | Form::OneOrMoreTexts
        | Form::Ends
        | Form::Given
        | Form::OutputName
        | Form::Rows
        | Form::Things => arg.value_name("TEXT"),
    }
}

/// What is said with the options of these keys.
pub(crate) fn said<'k>(matches: &ArgMatches, keys: impl Iterator<Item = &'k Key>) -> Vec<Said> {
    let mut all: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for key in keys {
        let Ok(Some(values)) = matches.try_get_many::<String>(&id(key)) else { continue };
        all.insert(key.option(), values.cloned().collect());
    }
    all.into_iter().map(|(option, values)| Said { option, values }).collect()
}

fn id(key: &Key) -> String {
    format!("key-{}", key.option())
}
