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

fn list(items: impl Iterator<Item = String>) -> String {
    format!("[{}]", items.collect::<Vec<_>>().join(", "))
}

fn text(text: &str) -> String {
    literal(&Value::text(text), None)
}

/// What is written for a key of which somebody says this; `this` is the type of the field that it is said of.
pub(super) fn literal_of(known: &Key, said: &Said, this: Option<Type>) -> Result<Literal, Trouble> {
    let saying = Saying { known, said, this };
    match known.form {
        Form::Names
        | Form::Patterns
        | Form::OneOrMore
        | Form::OneOrMoreTexts
        | Form::Texts
        | Form::Ends
        | Form::Words(_)
        | Form::Values
        | Form::ListOf(..) => saying.list().map(Literal::Whole),
        Form::Labels
        | Form::WordsByWord(..)
        | Form::OutputName
        | Form::Parts(_)
        | Form::Some(_)
        | Form::Table
        | Form::TableOf(..)
        | Form::Rows => saying.table(),
        _ => saying.value().map(Literal::Whole),
    }
}

/// What somebody says of a key.
#[derive(Clone, Copy)]
struct Saying<'s> {
    known: &'s Key,
    said: &'s Said,
    this: Option<Type>,
}

impl<'s> Saying<'s> {
    fn wrong(self, value: &str, wanted: &str) -> Trouble {
        Trouble::usage(format!("--{} cannot be `{value}`", self.said.option)).help(wanted.to_owned())
    }

    /// The one text that it is.
    fn one(self) -> Result<&'s str, Trouble> {
        match &self.said.values[..] {
            [one] => Ok(one.as_str()),
            _ => Err(Trouble::usage(format!("--{} is given twice, and takes one value", self.said.option))
                .help("give it once")),
        }
    }

    /// The texts that it is, also those with commas between them.
    fn parts(self) -> impl Iterator<Item = &'s str> {
        self.said.values.iter().flat_map(|value| value.split(',')).map(str::trim).filter(|it| !it.is_empty())
    }

    fn word(self, words: &[&str], value: &str) -> Result<String, Trouble> {
        if words.contains(&value) {
            return Ok(text(value));
        }
        let all = format!("it can be {}", words.join(", "));
        let near = cledger_core::name::nearest(value, words.iter().copied());
        Err(self.wrong(value, &near.map_or(all.clone(), |near| format!("did you mean `{near}`? {all}"))))
    }

    /// Names with what each says.
    fn pairs(
        self,
        items: impl Iterator<Item = &'s str>,
        of: impl Fn(&str, &str) -> Result<String, Trouble>,
    ) -> Result<Literal, Trouble> {
        let pair = |item: &str| {
            let (name, value) = item.split_once('=').ok_or_else(|| self.wrong(item, "write NAME=VALUE"))?;
            Ok((name.trim().to_owned(), of(name.trim(), value)?))
        };
        items.map(pair).collect::<Result<Vec<_>, Trouble>>().map(Literal::Each)
    }

    /// A single value.
    fn value(self) -> Result<String, Trouble> {
        let one = self.one()?;
        match self.known.form {
            Form::Word(words) => self.word(&words(), one),
            Form::Boolean if !["true", "false"].contains(&one) => {
                Err(self.wrong(one, "it can be true or false"))
            }
            Form::OnlyTrue if one != "true" => Err(self.wrong(one, "it can be true; --without takes it out")),
            Form::BooleanOr(word) if !["true", "false"].contains(&one) => {
                self.word(&["true", "false", word], one)
            }
            Form::Boolean | Form::OnlyTrue | Form::BooleanOr(_) => Ok(one.to_owned()),
            Form::Whole(_) => {
                let number = one.parse::<u64>().map_err(|_| self.wrong(one, "a whole number is needed"))?;
                Ok(number.to_string())
            }
            Form::Value | Form::Bound => value(one, self.this).ok_or_else(|| not_of_type(one, self.this)),
            Form::Given | Form::From if is_source(one) => Ok(from(one)),
            // What it is may be a secret: it is not repeated.
            Form::From => {
                let message =
                    format!("--{} says where it comes from, and never what it is", self.said.option);
                Err(Trouble::refused(message).help("write env:NAME or file:PATH"))
            }
            Form::When(words) => match one.split_once('=') {
                Some(("changed", fields)) => {
                    Ok(format!("{{ changed = {} }}", list(fields.split(',').map(str::trim).map(text))))
                }
                _ => self.word(&[words, &["changed=FIELD,FIELD"]].concat(), one),
            },
            Form::Things => {
                let message = format!("--{} is declared by itself", self.known.name);
                Err(Trouble::usage(message).help("cledger add --help"))
            }
            _ => Ok(text(one)),
        }
    }

    /// A list.
    fn list(self) -> Result<String, Trouble> {
        let all = || self.said.values.iter();
        Ok(match self.known.form {
            Form::Texts => list(all().map(|value| text(value))),
            Form::Ends => list(self.one()?.split_whitespace().map(text)),
            Form::Words(words) => {
                let words = words();
                list(self.parts().map(|it| self.word(&words, it)).collect::<Result<Vec<_>, _>>()?.into_iter())
            }
            Form::Values => {
                let read = |it: &str| value(it, self.this).ok_or_else(|| not_of_type(it, self.this));
                // A text in quotes may have commas in it.
                let is_whole = |value: &str| value.starts_with(['"', '\'']);
                let split = |value: &'s String| -> Vec<&'s str> {
                    if is_whole(value) { vec![value] } else { value.split(',').map(str::trim).collect() }
                };
                list(all().flat_map(split).map(read).collect::<Result<Vec<_>, _>>()?.into_iter())
            }
            Form::ListOf(..) => {
                let wanted = "write a TOML table: { name = \"…\" }";
                let of = |value: &String| in_toml(value).ok_or_else(|| self.wrong(value, wanted));
                list(all().map(of).collect::<Result<Vec<_>, _>>()?.into_iter())
            }
            _ => list(self.parts().map(text)),
        })
    }

    /// A table, or what may be one.
    fn table(self) -> Result<Literal, Trouble> {
        let all = || self.said.values.iter().map(String::as_str);
        match self.known.form {
            Form::Labels => self.pairs(all(), |_, value| Ok(text(value))),
            Form::WordsByWord(words, values) => self.pairs(self.parts(), |name, value| {
                self.word(&words(), name)?;
                self.word(&values(), value)
            }),
            Form::OutputName => {
                let formats = cledger_core::model::OutputFormat::ALL;
                let is_format = |format: &str| formats.iter().any(|(_, known)| *known == format);
                if all().all(|value| value.split_once('=').is_some_and(|(format, _)| is_format(format))) {
                    self.pairs(all(), |_, value| Ok(text(value)))
                } else {
                    Ok(Literal::Whole(text(self.one()?)))
                }
            }
            Form::Parts([field, is]) => {
                let one = self.one()?;
                let (name, said) = one.split_once('=').ok_or_else(|| self.wrong(one, "write FIELD=VALUE"))?;
                let said = value(said, None).unwrap_or_else(|| text(said));
                Ok(Literal::Whole(table(&[(field.name.to_owned(), text(name)), (is.name.to_owned(), said)])))
            }
            Form::Parts(keys) => self.of_keys(keys, self.parts()),
            Form::Some(keys) => self.of_keys(keys, all()),
            Form::Rows if !self.one()?.trim_start().starts_with('{') => Ok(Literal::Whole(text(self.one()?))),
            _ => {
                let table = in_toml(self.one()?).or_else(|| from_json(self.one().unwrap_or_default()));
                let wanted = "write a table as TOML, { a = 1 }, or as JSON";
                table.map(Literal::Whole).ok_or_else(|| self.wrong(self.one().unwrap_or_default(), wanted))
            }
        }
    }

    /// A table with these keys.
    fn of_keys(self, keys: &'static [Key], items: impl Iterator<Item = &'s str>) -> Result<Literal, Trouble> {
        let of = |name: &str, value: &str| {
            let known = keys.iter().find(|known| known.name == name).ok_or_else(|| {
                let names: Vec<&str> = keys.iter().map(|known| known.name).collect();
                self.wrong(name, &format!("write KEY=VALUE; the keys are {}", names.join(", ")))
            })?;
            let said = Said { option: self.said.option.clone(), values: vec![value.to_owned()] };
            Ok(literal_of(known, &said, None)?.in_one())
        };
        Ok(Literal::Whole(self.pairs(items, of)?.in_one()))
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
