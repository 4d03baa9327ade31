//! Files of any form, made by a template (the language of `minijinja`: `{{ name }}`, `{% if … %}`,
//! `{% for … %}`), with a filter for each kind of quoting.
//!
//! A template sees the values of its output below `entry.field`, with `_` for each `-`, and `stage`
//! and `unit`. A name that stands for nothing is an error, not an empty text.

mod quoting;

use std::collections::BTreeSet;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use cledger_core::json::Json;
use cledger_core::model::Delimiters;
use cledger_core::tree::{Branch, Tree};
use cledger_core::value::Value;
use minijinja::syntax::SyntaxConfig;
use minijinja::value::{Enumerator, Object, ObjectRepr, Value as Made};
use minijinja::{AutoEscape, Environment, ErrorKind, UndefinedBehavior};

use crate::ReadError;

/// How many steps a template may take, so that each comes to an end.
const FUEL: u64 = 2_000_000;

/// What a template made.
pub struct Written {
    /// The file's text.
    pub text: String,
    /// The names of the values that it looked at.
    pub used: BTreeSet<Vec<String>>,
}

// It may hold secrets.
impl fmt::Debug for Written {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Written").field("used", &self.used).finish_non_exhaustive()
    }
}

/// Says what is wrong with a template as such.
pub fn check(text: &str, delimiters: &Delimiters) -> Result<(), ReadError> {
    environment(delimiters)?.template_from_str(text).map(drop).map_err(|error| wrong(&error))
}

/// Makes the file of a template.
pub fn write(text: &str, delimiters: &Delimiters, tree: &Tree) -> Result<Written, ReadError> {
    let environment = environment(delimiters)?;
    let template = environment.template_from_str(text).map_err(|error| wrong(&error))?;
    let used = Arc::new(Mutex::default());
    let root =
        Made::from_object(Level { steps: Vec::new(), branch: tree.0.clone(), used: Arc::clone(&used) });
    let text = template.render(root).map_err(|error| wrong(&error))?;
    let used = std::mem::take(&mut *used.lock().unwrap_or_else(PoisonError::into_inner));
    Ok(Written { text, used })
}

fn environment(delimiters: &Delimiters) -> Result<Environment<'static>, ReadError> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    // A line with nothing but a block leaves no line behind.
    let mut syntax = SyntaxConfig::builder();
    syntax.keep_trailing_newline(true).trim_blocks(true).lstrip_blocks(true);
    let Delimiters { value, block, comment } = delimiters.clone();
    if let Some([start, end]) = value {
        syntax.variable_delimiters(start, end);
    }
    if let Some([start, end]) = block {
        syntax.block_delimiters(start, end);
    }
    if let Some([start, end]) = comment {
        syntax.comment_delimiters(start, end);
    }
    let syntax = syntax.build().map_err(|_| {
        let reason =
            "its delimiters cannot be told apart: each needs a start of its own, and an end".to_owned();
        ReadError { line: 1, reason }
    })?;
    environment.set_syntax(syntax);
    environment.set_fuel(Some(FUEL));
    quoting::add_to(&mut environment);
    Ok(environment)
}

/// Never with a value in it: the engine's own messages can quote what they could not use.
fn wrong(error: &minijinja::Error) -> ReadError {
    let reason = match error.kind() {
        ErrorKind::SyntaxError => {
            error.detail().unwrap_or("this is not the language of templates").to_owned()
        }
        ErrorKind::UndefinedError => {
            "a name here stands for no value; `{% if NAME is defined %}` asks for one that may be missing"
                .to_owned()
        }
        ErrorKind::OutOfFuel => "the template does not come to an end".to_owned(),
        ErrorKind::UnknownFilter => {
            format!("there is no such filter; those for quoting are {}", quoting::names())
        }
        ErrorKind::UnknownFunction | ErrorKind::UnknownMethod | ErrorKind::UnknownTest => {
            "there is no such function or test".to_owned()
        }
        ErrorKind::InvalidOperation => "this cannot be done with a value of this type".to_owned(),
        other => other.to_string(),
    };
    ReadError { line: error.line().unwrap_or(1), reason }
}

/// A level of names, which notes the values that are looked at.
struct Level {
    steps: Vec<String>,
    branch: Branch,
    used: Arc<Mutex<BTreeSet<Vec<String>>>>,
}

impl fmt::Debug for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.branch.keys()).finish()
    }
}

impl Object for Level {
    fn repr(self: &Arc<Self>) -> ObjectRepr {
        ObjectRepr::Map
    }

    fn get_value(self: &Arc<Self>, key: &Made) -> Option<Made> {
        let name = key.as_str()?;
        let value = self.branch.get(name)?;
        let steps = self.steps.iter().map(String::as_str).chain([name]).map(str::to_owned).collect();
        if let Value::Map(below) = value {
            let used = Arc::clone(&self.used);
            return Some(Made::from_object(Level { steps, branch: below.clone(), used }));
        }
        self.used.lock().unwrap_or_else(PoisonError::into_inner).insert(steps);
        Some(made(value))
    }

    fn enumerate(self: &Arc<Self>) -> Enumerator {
        Enumerator::Values(self.branch.keys().map(|name| Made::from(name.as_str())).collect())
    }
}

fn made(value: &Value) -> Made {
    match value {
        Value::Integer(number) => Made::from(*number),
        Value::Number(number) => Made::from(*number),
        Value::Boolean(truth) => Made::from(*truth),
        Value::List(items) => items.iter().map(made).collect(),
        Value::Map(level) => level.iter().map(|(name, value)| (name.as_str(), made(value))).collect(),
        Value::Json(json) => of_json(json),
        Value::Text(_) | Value::Date(_) | Value::Time(_) => Made::from(value.to_text().as_str()),
    }
}

fn of_json(json: &Json) -> Made {
    match json {
        Json::Null => Made::from(()),
        Json::Boolean(truth) => Made::from(*truth),
        Json::Text(text) => Made::from(text.as_str()),
        Json::Number(text) => match (text.parse::<i64>(), text.parse::<f64>()) {
            (Ok(whole), _) => Made::from(whole),
            (_, Ok(number)) if json.inexact().is_none() => Made::from(number),
            // As it is written.
            _ => Made::from(text.as_str()),
        },
        Json::List(items) => items.iter().map(of_json).collect(),
        Json::Object(pairs) => pairs.iter().map(|(name, json)| (name.as_str(), of_json(json))).collect(),
    }
}
