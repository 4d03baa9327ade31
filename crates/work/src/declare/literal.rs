//! What somebody says of a key on the command line, as TOML.

use cledger_core::reference;
use cledger_core::types::Type;
use cledger_core::value::Value;
use cledger_store::vocabulary::{Form, Key};
use cledger_store::{key, literal, parse_value};

use crate::trouble::Trouble;

/// What somebody says of a key: the texts behind its option, one for each time that it is given.
#[derive(Debug, Clone)]
pub struct Said {
    /// The option.
    pub option: String,
    /// What stands behind it.
    pub values: Vec<String>,
}

/// What is written for a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Literal {
    /// One value.
    Whole(String),
    /// Values of names in a table of the key's.
    Each(Vec<(String, String)>),
}

impl Literal {
    /// In one value.
    pub(super) fn in_one(&self) -> String {
        match self {
            Literal::Whole(text) => text.clone(),
            Literal::Each(pairs) => table(pairs),
        }
    }
}

fn table(pairs: &[(String, String)]) -> String {
    let pairs: Vec<String> = pairs.iter().map(|(name, text)| format!("{} = {text}", key(name))).collect();
    format!("{{ {} }}", pairs.join(", "))
}

fn text(text: &str) -> String {
    literal(&Value::text(text), None)
}

/// What is written for a key of which somebody says this; `this` is the type of the field that it is said of.
pub(super) fn literal_of(known: &Key, said: &Said, this: Option<Type>) -> Result<Literal, Trouble> {
    let wrong = |value: &str, wanted: &str| {
        let message = format!("--{} cannot be `{value}`", said.option);
        Trouble::usage(message).help(wanted.to_owned())
    };
    let one = || match &said.values[..] {
        [one] => Ok(one.as_str()),
        _ => Err(Trouble::usage(format!("--{} is given twice, and takes one value", said.option))
            .help("give it once")),
    };
    let whole = |text: String| Ok(Literal::Whole(text));
    let parts =
        || said.values.iter().flat_map(|value| value.split(',')).map(str::trim).filter(|it| !it.is_empty());
    let list =
        |items: &mut dyn Iterator<Item = String>| format!("[{}]", items.collect::<Vec<_>>().join(", "));
    let word = |words: &[&str], value: &str| {
        let nearest = cledger_core::name::nearest(value, words.iter().copied());
        let all = format!("it can be {}", words.join(", "));
        let help = nearest.map_or(all.clone(), |near| format!("did you mean `{near}`? {all}"));
        if words.contains(&value) { Ok(text(value)) } else { Err(wrong(value, &help)) }
    };
    let pairs = |of: &dyn Fn(&str, &str) -> Result<String, Trouble>,
                 items: &mut dyn Iterator<Item = &str>| {
        let pair = |item: &str| {
            let (name, value) = item.split_once('=').ok_or_else(|| wrong(item, "write NAME=VALUE"))?;
            Ok((name.trim().to_owned(), of(name.trim(), value)?))
        };
        items.map(pair).collect::<Result<Vec<_>, Trouble>>().map(Literal::Each)
    };
    match known.form {
        Form::Text | Form::Name => whole(text(one()?)),
        Form::Word(words) => whole(word(&words(), one()?)?),
        Form::Boolean => match one()? {
            truth @ ("true" | "false") => whole(truth.to_owned()),
            other => Err(wrong(other, "it can be true or false")),
        },
        Form::OnlyTrue => match one()? {
            "true" => whole("true".to_owned()),
            other => Err(wrong(other, "it can be true; --without takes it out")),
        },
        Form::BooleanOr(other_word) => match one()? {
            truth @ ("true" | "false") => whole(truth.to_owned()),
            value => whole(word(&["true", "false", other_word], value)?),
        },
        Form::Whole(_) => match one()?.parse::<u64>() {
            Ok(number) => whole(number.to_string()),
            Err(_) => Err(wrong(one()?, "a whole number is needed")),
        },
        Form::Names | Form::Patterns | Form::OneOrMore => whole(list(&mut parts().map(text))),
        Form::Texts => whole(list(&mut said.values.iter().map(|value| text(value)))),
        Form::Ends => whole(list(&mut one()?.split_whitespace().map(text))),
        Form::Words(words) => {
            let words = words();
            let items: Vec<String> = parts().map(|value| word(&words, value)).collect::<Result<_, _>>()?;
            whole(list(&mut items.into_iter()))
        }
        Form::Value | Form::Bound => {
            whole(value(one()?, this).ok_or_else(|| not_of_type(one().unwrap_or(""), this))?)
        }
        Form::Values => {
            let read = |value: &str| self::value(value, this).ok_or_else(|| not_of_type(value, this));
            // A text in quotes may have commas in it.
            let split = |value: &'_ String| -> Vec<String> {
                if value.starts_with(['"', '\'']) {
                    vec![value.clone()]
                } else {
                    value.split(',').map(|it| it.trim().to_owned()).collect()
                }
            };
            let items: Vec<String> =
                said.values.iter().flat_map(split).map(|value| read(&value)).collect::<Result<_, _>>()?;
            whole(list(&mut items.into_iter()))
        }
        Form::Given => whole(if is_source(one()?) { from(one()?) } else { text(one()?) }),
        Form::From => match one()? {
            source if is_source(source) => whole(from(source)),
            // What it is may be a secret: it is not repeated.
            _ => Err(Trouble::refused(format!(
                "--{} says where it comes from, and never what it is",
                said.option
            ))
            .help("write env:NAME or file:PATH")),
        },
        Form::Labels => pairs(&|_, value| Ok(text(value)), &mut said.values.iter().map(String::as_str)),
        Form::WordsByWord(words, values) => pairs(
            &|name, value| {
                word(&words(), name)?;
                word(&values(), value)
            },
            &mut parts(),
        ),
        Form::OutputName => {
            let formats = cledger_core::model::OutputFormat::ALL;
            let is_pair = |value: &String| {
                value
                    .split_once('=')
                    .is_some_and(|(format, _)| formats.iter().any(|(_, known)| *known == format))
            };
            if said.values.iter().all(is_pair) {
                pairs(&|_, value| Ok(text(value)), &mut said.values.iter().map(String::as_str))
            } else {
                whole(text(one()?))
            }
        }
        Form::When(words) => match one()?.split_once('=') {
            Some(("changed", fields)) => {
                let fields = fields.split(',').map(str::trim).map(text);
                whole(format!("{{ changed = {} }}", list(&mut { fields })))
            }
            _ => {
                let mut words = words.to_vec();
                words.push("changed=FIELD,FIELD");
                whole(word(&words, one()?)?)
            }
        },
        Form::Parts([field, is]) => {
            let (name, value) =
                one()?.split_once('=').ok_or_else(|| wrong(one().unwrap_or(""), "write FIELD=VALUE"))?;
            let value = self::value(value, None).unwrap_or_else(|| text(value));
            whole(table(&[(field.name.to_owned(), text(name)), (is.name.to_owned(), value)]))
        }
        Form::Parts(keys) | Form::Some(keys) => {
            let of = |name: &str, value: &str| {
                let known = keys.iter().find(|known| known.name == name).ok_or_else(|| {
                    let names: Vec<&str> = keys.iter().map(|known| known.name).collect();
                    wrong(name, &format!("write KEY=VALUE; the keys are {}", names.join(", ")))
                })?;
                let said = Said { option: said.option.clone(), values: vec![value.to_owned()] };
                Ok(literal_of(known, &said, None)?.in_one())
            };
            let items: Vec<&str> = match known.form {
                Form::Parts(_) => parts().collect(),
                _ => said.values.iter().map(String::as_str).collect(),
            };
            Ok(Literal::Whole(pairs(&of, &mut items.into_iter())?.in_one()))
        }
        Form::ListOf(_) => {
            let of = |value: &String| {
                in_toml(value).ok_or_else(|| wrong(value, "write a TOML table: { name = \"…\" }"))
            };
            let items: Vec<String> = said.values.iter().map(of).collect::<Result<_, _>>()?;
            whole(list(&mut items.into_iter()))
        }
        Form::Table => {
            let table = in_toml(one()?).or_else(|| from_json(one().unwrap_or("")));
            whole(table.ok_or_else(|| wrong("", "write a table as TOML, { a = 1 }, or as JSON"))?)
        }
        Form::Rows if one()?.trim_start().starts_with('{') => whole(
            in_toml(one()?).ok_or_else(|| wrong("", "write the rows as a TOML table, or name a CSV file"))?,
        ),
        Form::Rows => whole(text(one()?)),
        Form::Things => {
            Err(Trouble::usage(format!("--{} is declared by itself", known.name)).help("cledger add --help"))
        }
    }
}

fn is_source(text: &str) -> bool {
    text.starts_with("env:") || text.starts_with("file:")
}

fn from(source: &str) -> String {
    format!("{{ from = {} }}", text(source))
}

/// A value of a type; of a rule, whose fields may be of any, what TOML takes for a value, else text.
fn value(said: &str, this: Option<Type>) -> Option<String> {
    let Some(this) = this else {
        let is_value = toml::de::DeValue::parse(said).is_ok();
        return Some(if is_value { said.to_owned() } else { text(said) });
    };
    let quoted = || matches!(parse_value(said), Some(Value::Text(_))).then(|| said.to_owned());
    let value = match this {
        Type::List | Type::Map if reference::lone(said).is_none() => parse_value(said),
        _ if reference::is_in(said) => Some(Value::text(said)),
        _ => this.read(said),
    };
    value.map(|value| literal(&value, None)).or_else(quoted)
}

fn not_of_type(said: &str, this: Option<Type>) -> Trouble {
    let wanted = this.map_or("a value", Type::describe);
    Trouble::usage(format!("`{said}` is not {wanted}")).help("its --type says what it can be")
}

fn in_toml(said: &str) -> Option<String> {
    toml::de::DeValue::parse(said)
        .ok()
        .filter(|value| value.get_ref().is_table())
        .map(|_| said.trim().to_owned())
}

fn from_json(said: &str) -> Option<String> {
    let json: serde_json::Value = serde_json::from_str(said).ok()?;
    let value = toml::Value::try_from(json).ok().filter(toml::Value::is_table)?;
    Some(value.to_string())
}

#[cfg(test)]
mod tests {
    use cledger_store::vocabulary::{CHORE, FIELD, OUTLET, OUTPUT, RULE, RULE_DEMANDS, STAGE};

    use super::*;

    fn written(keys: &[Key], name: &str, values: &[&str], this: Option<Type>) -> Result<String, String> {
        let known = keys.iter().find(|key| key.name == name).unwrap();
        let values = values.iter().map(|&value| value.to_owned()).collect();
        let said = Said { option: known.option(), values };
        literal_of(known, &said, this).map(|it| it.in_one()).map_err(|trouble| trouble.to_string())
    }

    #[test]
    fn each_form_is_written_as_toml() {
        for (keys, name, values, this, expected) in [
            (&STAGE[..], "groups", &["a,b", "c"][..], None, r#"["a", "b", "c"]"#),
            (&STAGE, "labels", &["region=north", "a=x=y"], None, r#"{ region = "north", a = "x=y" }"#),
            (&STAGE, "locked", &["true"], None, "true"),
            (&OUTLET, "url", &["https://x.example/a,b"], None, r#""https://x.example/a,b""#),
            (&OUTLET, "url", &["env:URL"], None, r#"{ from = "env:URL" }"#),
            (&OUTLET, "reload", &["a", "-b,c"], None, r#"["a", "-b,c"]"#),
            (
                &OUTLET,
                "columns",
                &["scope=s,name=k", "value=v"],
                None,
                r#"{ scope = "s", name = "k", value = "v" }"#,
            ),
            (&OUTPUT, "delimiters", &["value=<< >>"], None, r#"{ value = ["<<", ">>"] }"#),
            (
                &OUTPUT,
                "manifest",
                &[r#"{"metadata": {"labels": {"a": "b"}}}"#],
                None,
                r#"{ metadata = { labels = { a = "b" } } }"#,
            ),
            (&RULE, "when", &["pay.auth=basic"], None, r#"{ field = "pay.auth", is = "basic" }"#),
            (&RULE_DEMANDS, "min", &["1m"], None, r#""1m""#),
            (&RULE_DEMANDS, "one_of", &["1,true", "\"a,b\""], None, r#"[1, true, "a,b"]"#),
            (&CHORE, "when", &["changed=a,b.c"], None, r#"{ changed = ["a", "b.c"] }"#),
            (&FIELD, "default", &["5"], Some(Type::Text), r#""5""#),
            (&FIELD, "default", &["5"], Some(Type::Integer), "5"),
            (&FIELD, "default", &["${a.b}"], Some(Type::Integer), r#""${a.b}""#),
            (&FIELD, "as", &["dotenv=X", "properties=a.b"], None, r#"{ dotenv = "X", properties = "a.b" }"#),
            (&FIELD, "as", &["X"], None, r#""X""#),
            (&FIELD, "distinct", &["class"], None, r#""class""#),
        ] {
            assert_eq!(written(keys, name, values, this), Ok(expected.to_owned()), "{name} {values:?}");
        }
    }

    #[test]
    fn what_does_not_fit_is_refused_and_a_secret_not_repeated() {
        for (keys, name, values, part) in [
            (&STAGE[..], "class", &["tset"][..], "--class cannot be `tset`"),
            (&STAGE, "locked", &["yes"], "--locked cannot be `yes`"),
            (&STAGE, "class", &["test", "test"], "given twice"),
            (&FIELD, "max_length", &["-1"], "--max-length cannot be"),
            (&OUTLET, "token", &["plover"], "never what it is"),
            (&CHORE, "when", &["always"], "--when cannot be"),
            (&OUTLET, "columns", &["row=x"], "--columns cannot be `row`"),
        ] {
            let error = written(keys, name, values, None).unwrap_err();
            assert!(error.contains(part) && !error.contains("plover"), "{error}");
        }
        assert!(written(&FIELD, "default", &["x"], Some(Type::Integer)).is_err());
    }
}
