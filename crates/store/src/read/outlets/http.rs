//! Outlets of kind `http`.

use cledger_core::json::steps;
use cledger_core::model::{
    ClientCertificate, DocumentPlace, HttpLogin, HttpOutlet, OAuth, OutputFormat, StageText, query_of,
};
use cledger_core::value::Value;

use super::super::frame::{In, Item};
use super::super::outputs::{stage_text, stage_text_of};
use super::super::toml_table::{Spanned, TomlTable};
use super::{address, content, from, given};
use crate::vocabulary::{OAUTH, names};

/// How often it is tried again where nothing is said.
const RETRIES: u32 = 2;

/// The most that can be asked for.
const MOST_RETRIES: i64 = 10;

/// Reads what an outlet of this kind says beside what all do.
pub(super) fn http(read: In<'_>, table: &TomlTable<'_>) -> Option<HttpOutlet> {
    let mut http = HttpOutlet {
        url: given(read, table.get("url")?, "`url`")?,
        path: StageText::default(),
        login: HttpLogin::None,
        certificate: None,
        proxy: None,
        retries: RETRIES,
        document: content(read, table, OutputFormat::Json),
        place: place(read, table),
    };
    let (mut user, mut password) = (None, None);
    let (mut chain, mut key_of_it) = (None, None);
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "path" => http.path = stage_text(read, item, "`path`").map(|(text, _)| text).unwrap_or_default(),
            "token" => {
                http.login = from(read, item, "`token`").map(HttpLogin::Bearer).unwrap_or_default();
            }
            "user" => user = stage_text(read, item, "`user`").map(|(text, _)| text),
            "password" => password = from(read, item, "`password`"),
            "oauth" => http.login = oauth(read, item).map(HttpLogin::OAuth).unwrap_or_default(),
            "certificate" => chain = from(read, item, "`certificate`"),
            "certificate_key" => key_of_it = from(read, item, "`certificate_key`"),
            "proxy" => http.proxy = address(read, item, "`proxy`"),
            "retries" => http.retries = retries(read, item).unwrap_or(RETRIES),
            _ => {}
        }
    }
    let says = |key: &str| table.contains_key(key);
    for (one, other) in [("user", "password"), ("certificate", "certificate_key")] {
        if says(one) != says(other) {
            let at = table.get(one).or_else(|| table.get(other)).map_or(0..0, Spanned::span);
            let message = format!("`{one}` and `{other}` go together");
            read.wrong_with(at, message, "write both, or leave both out");
        }
    }
    http.certificate = chain.zip(key_of_it).map(|(chain, key)| ClientCertificate { chain, key });
    let ways = [says("token"), says("user"), says("oauth")];
    if ways.iter().filter(|is_said| **is_said).count() > 1 {
        let at = ["oauth", "user", "token"].iter().find_map(|key| table.get(key));
        let message = "there is more than one way to log in";
        read.wrong_with(at.map_or(0..0, Spanned::span), message, "say `token`, `user` or `oauth`");
    }
    if let (Some(user), Some(password)) = (user, password) {
        http.login = HttpLogin::Basic(user, password);
    }
    Some(http)
}

/// Which document is a unit's, and what of it.
fn place(read: In<'_>, table: &TomlTable<'_>) -> DocumentPlace {
    let mut place = DocumentPlace::default();
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "at" => place.at = at(read, item),
            "find" => place.find = find(read, item),
            "next" => place.next = pointer(read, item, "`next`"),
            "new" => place.new = new(read, item),
            _ => {}
        }
    }
    let without = |key: &str, needed: &str, why: &str| {
        if let Some(item) = table.get(key).filter(|_| !table.contains_key(needed)) {
            read.wrong_with(item.span(), format!("`{key}` means nothing without `{needed}`"), why);
        }
    };
    without("next", "find", "say with find = \"$…\" how a page leads to the unit's document");
    without("new", "at", "say with at = \"/…\" where in the document the unit's values are");
    if let Some((first, _)) = place.at.split_first()
        && place.new.iter().any(|(name, _)| name == first.as_written())
    {
        let item = table.get("new").map_or(0..0, Spanned::span);
        read.wrong(item, format!("`new` has `{}`, which leads to the unit's own values", first.as_written()));
    }
    place
}

/// The steps of a JSON Pointer whose texts may refer to the stage and the unit.
fn at(read: In<'_>, item: Item<'_, '_>) -> Vec<StageText> {
    let Some(steps) = pointer(read, item, "`at`") else { return Vec::new() };
    steps.iter().filter_map(|step| stage_text_of(read, step, item.span())).collect()
}

/// The steps of a JSON Pointer (RFC 6901).
fn pointer(read: In<'_>, item: Item<'_, '_>, what: &str) -> Option<Vec<String>> {
    let text = read.text(item, what)?;
    let found = steps(text).filter(|steps| steps.iter().all(|step| !step.is_empty()));
    if found.is_none() {
        let message = format!("{what} is no JSON Pointer: `{text}`");
        read.wrong_with(item.span(), message, "write the names to go by, such as \"/values/quay\"");
    }
    found
}

fn find(read: In<'_>, item: Item<'_, '_>) -> Option<StageText> {
    let text = read.text(item, "`find`")?;
    match query_of(text) {
        Ok(query) => Some(query),
        Err(error) => {
            let help = "write a query such as $.berths[?@.name=='${unit.name}'].id";
            read.wrong_with(item.span(), format!("`find`: {error}"), help);
            None
        }
    }
}

/// What a new document holds, by name.
fn new(read: In<'_>, item: Item<'_, '_>) -> Vec<(String, StageText)> {
    let pairs = read.table(item, "`new`").into_iter().flatten();
    let text = |item| stage_text(read, item, "what `new` says").map(|(text, _)| text);
    pairs.filter_map(|(key, item)| Some((key.get_ref().to_string(), text(item)?))).collect()
}

/// The client credentials that a token is given for.
fn oauth(read: In<'_>, item: Item<'_, '_>) -> Option<Box<OAuth>> {
    let table = read.table(item, "`oauth`")?;
    let (mut url, mut client, mut secret, mut scope) = (None, None, None, None);
    read.keys(table, &names(&OAUTH), |key, item| match key {
        "url" => url = address(read, item, "`url`"),
        "client" => client = stage_text(read, item, "`client`").map(|(text, _)| text),
        "secret" => secret = from(read, item, "`secret`"),
        _ => scope = stage_text(read, item, "`scope`").map(|(text, _)| text),
    });
    if ["url", "client", "secret"].iter().any(|key| !table.contains_key(key)) {
        let help = "write oauth = { url = \"https://…\", client = \"…\", secret = { from = \"env:NAME\" } }";
        read.wrong_with(item.span(), "`oauth` lacks one of `url`, `client` and `secret`", help);
    }
    Some(Box::new(OAuth { url: url?, client: client?, secret: secret?, scope }))
}

fn retries(read: In<'_>, item: Item<'_, '_>) -> Option<u32> {
    let found = match read.value(item) {
        Value::Integer(number) if (0..=MOST_RETRIES).contains(&number) => u32::try_from(number).ok(),
        _ => None,
    };
    if found.is_none() {
        read.wrong(item.span(), format!("`retries` must be a whole number from 0 to {MOST_RETRIES}"));
    }
    found
}
