//! Values that a stage still needs: from a form that is filled in, or from whoever is there.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use cledger_core::model::LayerId;
use cledger_core::resolve::FieldId;
use cledger_store::{LARGEST_FILE, Mode, Target, key, text_named, write_atomically};
use zeroize::Zeroizing;

use crate::meant::unit_of;
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// A value that is needed, and what whoever is asked should know of it.
#[derive(Debug, Clone)]
pub(crate) struct Question {
    pub(crate) address: String,
    /// The type.
    pub(crate) asks: String,
    /// What it is for, in its developers' words.
    pub(crate) about: Option<String>,
    /// What is in its place elsewhere: where, and which.
    pub(crate) elsewhere: Option<(String, String)>,
    /// Whether nobody may see it.
    pub(crate) secret: bool,
}

impl Question {
    /// The words that ask for the value.
    fn words(&self) -> String {
        let about = self.about.as_ref().map(|about| format!("{about}; ")).unwrap_or_default();
        let elsewhere = self.elsewhere.as_ref().map(|(at, text)| format!("{at}: {text}; "));
        format!("{} ({about}{}; {}empty for later)", self.address, self.asks, elsewhere.unwrap_or_default())
    }
}

/// Where answers come from.
pub(crate) enum Answers {
    /// Nowhere: nobody is asked.
    None,
    /// From a form.
    Given(BTreeMap<String, String>),
    /// From the terminal.
    Asked,
    /// The form was written, for so many values; nobody has answered yet.
    Form(PathBuf, usize),
}

impl Answers {
    /// Reads the form, or writes it where there is none; without one, asks at the terminal where something
    /// is to be written.
    pub(crate) fn read(
        opened: &Opened,
        path: Option<&Path>,
        write: bool,
        questions: &[Question],
    ) -> Result<Self, Trouble> {
        let Some(path) = path else {
            let somebody = write && opened.at.asking.is_there();
            return Ok(if somebody { Answers::Asked } else { Answers::None });
        };
        if !path.exists() {
            let (form, count) = form(questions);
            if count == 0 {
                return Ok(Answers::None);
            }
            write_atomically(path, form.as_bytes(), Mode::Usual)?;
            return Ok(Answers::Form(path.to_owned(), count));
        }
        let wrong = |reason: String| {
            Trouble::usage(format!("`{}` cannot be read: {reason}", path.display()))
                .help("mend it, or take it away: the same command writes the form anew")
        };
        let text = text_named(path, LARGEST_FILE).map(Zeroizing::new);
        let text = text.map_err(|error| wrong(error.to_string()))?;
        let table: toml::Table = text.parse().map_err(|error: toml::de::Error| {
            let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
            wrong(format!("line {line}: {}", error.message()))
        })?;
        let needed: BTreeSet<&String> = questions.iter().map(|question| &question.address).collect();
        let mut given = BTreeMap::new();
        for (address, value) in table {
            let answer = match value {
                toml::Value::String(text) => text,
                toml::Value::Array(_) | toml::Value::Table(_) => value.to_string(),
                other => other.to_string(),
            };
            if needed.contains(&address) {
                given.insert(address, answer);
            } else if !answer.is_empty() && !has_it(opened, &address, &answer) {
                // What was answered before may stand there still.
                return Err(wrong(format!("`{address}` is nothing that is needed")));
            }
        }
        Ok(Answers::Given(given))
    }

    /// What is said to a question; `None` where nobody has given an answer. Whoever is there is asked again where the
    /// answer will not do.
    pub(crate) fn of<S>(
        &self,
        at: &Workplace,
        question: &Question,
        judge: impl Fn(&Zeroizing<String>) -> Result<S, Trouble>,
    ) -> Result<Option<S>, Trouble> {
        let address = &question.address;
        match self {
            Answers::None | Answers::Form(..) => Ok(None),
            Answers::Given(given) => {
                let answer = given.get(address).filter(|answer| !answer.is_empty());
                answer.map(|answer| judge(&Zeroizing::new(answer.clone()))).transpose()
            }
            Answers::Asked => {
                let words = question.words();
                for _ in 0..MOST_TRIES {
                    let answer =
                        if question.secret { at.asking.secret(address)? } else { at.asking.value(&words)? };
                    let Some(answer) = answer else { return Ok(None) };
                    match judge(&answer) {
                        Ok(said) => return Ok(Some(said)),
                        Err(trouble) => at.telling.notice(&format!("{trouble}.")),
                    }
                }
                Ok(None)
            }
        }
    }
}

/// How often somebody is asked for one value.
const MOST_TRIES: u32 = 5;

/// Whether a field has a value already that reads like this.
fn has_it(opened: &Opened, address: &str, answer: &str) -> bool {
    let Ok(place) = opened.place(address, None) else { return false };
    let Target::Layer(LayerId::Stage(stage)) = place.target else { return false };
    let resolver = opened.resolver();
    let field = FieldId { subject: place.subject, stage, slot: place.slot };
    let outcome = resolver.session(unit_of(place.subject)).outcome(field);
    outcome.value().and_then(|value| value.expose()).is_some_and(|value| value.to_text() == answer)
}

/// A TOML form with a line for each value; secrets are set by themselves.
fn form(questions: &[Question]) -> (String, usize) {
    let mut form = "# What the stage still needs. Fill in the values, and run the same command again;\n\
                    # what stays empty is left for later.\n"
        .to_owned();
    let questions: BTreeMap<&String, &Question> = questions.iter().map(|it| (&it.address, it)).collect();
    for (address, question) in &questions {
        if question.secret {
            let _ = writeln!(form, "# {address} is a secret: cledger set {address}");
            continue;
        }
        let elsewhere = question.elsewhere.as_ref().map(|(at, text)| format!("; {at}: {text}"));
        let elsewhere = elsewhere.unwrap_or_default();
        let _ = writeln!(form, "\n# {}{elsewhere}\n{} = \"\"", question.asks, key(address));
    }
    (form, questions.values().filter(|question| !question.secret).count())
}
