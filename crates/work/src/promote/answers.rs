//! Values that a stage still needs: from a form that was filled in, or from whoever is there.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use cledger_core::kept::Kept;
use cledger_core::promotion::Fate;
use cledger_store::{LARGEST_FILE, Mode, key, text_named, write_atomically};
use zeroize::Zeroizing;

use crate::promote::fields::{Field, Promotion};
use crate::trouble::Trouble;
use crate::workplace::Workplace;

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
        at: &Workplace,
        path: Option<&Path>,
        write: bool,
        promotions: &[Promotion],
    ) -> Result<Self, Trouble> {
        let Some(path) = path else {
            let somebody = write && at.asking.is_there();
            return Ok(if somebody { Answers::Asked } else { Answers::None });
        };
        if !path.exists() {
            let (form, count) = form(promotions);
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
        let needed: Vec<String> = needed(promotions).map(|field| field.place.address.to_string()).collect();
        let mut given = BTreeMap::new();
        for (address, value) in table {
            if !needed.contains(&address) {
                return Err(wrong(format!("`{address}` is nothing that is needed")));
            }
            let answer = match value {
                toml::Value::String(text) => text,
                toml::Value::Array(_) | toml::Value::Table(_) => value.to_string(),
                other => other.to_string(),
            };
            given.insert(address, answer);
        }
        Ok(Answers::Given(given))
    }

    /// The answer for a field that is needed; `None` where nobody has given one.
    pub(crate) fn of(&self, at: &Workplace, field: &Field) -> Result<Option<Zeroizing<String>>, Trouble> {
        if field.fate != Fate::Needed {
            return Ok(None);
        }
        let address = field.place.address.to_string();
        match self {
            Answers::None | Answers::Form(..) => Ok(None),
            Answers::Given(given) => {
                let answer = given.get(&address).filter(|answer| !answer.is_empty());
                Ok(answer.map(|answer| Zeroizing::new(answer.clone())))
            }
            Answers::Asked if field.secret => at.asking.secret(&address),
            Answers::Asked => at.asking.value(&format!("{address} ({}; empty for later)", field.asks)),
        }
    }
}

fn needed(promotions: &[Promotion]) -> impl Iterator<Item = &Field> {
    let fields = promotions.iter().flat_map(|promotion| &promotion.fields);
    fields.filter(|field| field.fate == Fate::Needed)
}

/// A TOML form with a line for each value; secrets are set by themselves.
fn form(promotions: &[Promotion]) -> (String, usize) {
    let mut form = "# What the stage still needs. Fill in the values, and run the same command again;\n\
                    # what stays empty is left for later.\n"
        .to_owned();
    let mut lines = BTreeMap::new();
    for field in needed(promotions) {
        lines.insert(field.place.address.to_string(), field);
    }
    for (address, field) in &lines {
        if field.secret {
            let _ = writeln!(form, "# {address} is a secret: cledger set {address}");
            continue;
        }
        let below = field.below.as_ref().and_then(Kept::open);
        let below = below.map(|text| format!("; in the stage below: {text}")).unwrap_or_default();
        let _ = writeln!(form, "\n# {}{below}\n{} = \"\"", field.asks, key(address));
    }
    (form, lines.values().filter(|field| !field.secret).count())
}
