//! Recipes: a search and the changes to what it finds, kept in `ledger.toml` to be used again.

use cledger_core::model::Ledger;
use cledger_core::name::{Name, nearest};
use cledger_store::{Changed, append};
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::change::Changing;
use crate::conditions::SearchTexts;
use crate::replace::changes::ChangeTexts;
use crate::trouble::Trouble;

/// The file that holds recipes.
const MANIFEST: &str = cledger_store::MANIFEST;

/// A search and changes.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Recipe {
    /// What is searched for.
    #[serde(default)]
    pub search: SearchTexts,
    /// What takes its place.
    #[serde(default)]
    pub replace: ChangeTexts,
}

/// The recipes of a `ledger.toml`; everything else in it is passed over.
#[derive(Debug, Deserialize)]
struct Recipes {
    #[serde(default)]
    recipe: Vec<Kept>,
}

#[derive(Debug, Deserialize)]
struct Kept {
    name: String,
    #[serde(flatten)]
    recipe: Recipe,
}

#[derive(Debug, Serialize)]
struct Saved<'r> {
    recipe: [SavedRecipe<'r>; 1],
}

#[derive(Debug, Serialize)]
struct SavedRecipe<'r> {
    name: &'r str,
    #[serde(flatten)]
    recipe: &'r Recipe,
}

fn kept(ledger: &Ledger) -> Result<Vec<Kept>, Trouble> {
    let file = ledger.files.0.iter().find(|file| file.path == MANIFEST);
    let text = file.map_or("", |file| file.text.trim_start_matches('\u{feff}'));
    let recipes: Recipes = toml::from_str(text).map_err(|error| {
        let message = format!("a recipe in {MANIFEST} cannot be read: {}", error.message());
        Trouble::usage(message).help("docs/formats.md says what can stand in it")
    })?;
    Ok(recipes.recipe)
}

/// The recipe of this name, with `{NAME}` in its texts filled in.
pub(crate) fn filled(ledger: &Ledger, name: &Name, with: &[String]) -> Result<Recipe, Trouble> {
    let mut recipes = kept(ledger)?;
    let Some(at) = recipes.iter().position(|kept| kept.name == name.as_str()) else {
        let near = nearest(name.as_str(), recipes.iter().map(|kept| kept.name.as_str()));
        let help = near.map_or("--save NAME keeps one".to_owned(), |near| format!("did you mean `{near}`?"));
        return Err(Trouble::usage(format!("there is no recipe `{name}`")).help(help));
    };
    let mut recipe = recipes.swap_remove(at).recipe;
    let mut given = Vec::new();
    for text in with {
        let Some((name, value)) = text.split_once('=') else {
            return Err(Trouble::usage(format!("--with {text} has no value")).help("write NAME=VALUE"));
        };
        given.push((name, value));
    }
    let hole =
        Regex::new(r"\{([A-Za-z][A-Za-z0-9_-]*)\}").map_err(|error| Trouble::usage(error.to_string()))?;
    let mut open: Vec<String> = Vec::new();
    let mut used: Vec<&str> = Vec::new();
    for text in recipe.search.texts().chain(recipe.replace.texts()) {
        let full = hole.replace_all(text, |found: &regex::Captures<'_>| {
            let Some(&(name, value)) = given.iter().find(|(name, _)| *name == &found[1]) else {
                open.push(found[1].to_owned());
                return found[0].to_owned();
            };
            used.push(name);
            value.to_owned()
        });
        *text = full.into_owned();
    }
    open.sort_unstable();
    open.dedup();
    if !open.is_empty() {
        let help: Vec<String> = open.iter().map(|name| format!("--with {name}=…")).collect();
        let message = format!("recipe `{name}` leaves {} open", open.join(", "));
        return Err(Trouble::usage(message).help(format!("add {}", help.join(" "))));
    }
    if let Some((unused, _)) = given.iter().find(|(name, _)| !used.contains(name)) {
        return Err(Trouble::usage(format!("recipe `{name}` leaves no `{unused}` open"))
            .help("leave that --with out"));
    }
    Ok(recipe)
}

/// Keeps a recipe in `ledger.toml`.
pub(crate) fn save(changing: &Changing, name: &Name, recipe: &Recipe) -> Result<(), Trouble> {
    if kept(changing.ledger())?.iter().any(|kept| kept.name == name.as_str()) {
        let message = format!("there is a recipe `{name}` already");
        return Err(Trouble::usage(message).help("choose another name, or take that one out of ledger.toml"));
    }
    let saved = Saved { recipe: [SavedRecipe { name: name.as_str(), recipe }] };
    let block = toml::to_string(&saved).map_err(|error| Trouble::usage(error.to_string()))?;
    let file = changing.ledger().files.0.iter().find(|file| file.path == MANIFEST);
    let text = append(file.map(|file| file.text.as_str()), &block);
    let planned = changing.plan_texts(Changed::from([(MANIFEST.to_owned(), Some(text))]))?;
    changing.write(&planned)
}
