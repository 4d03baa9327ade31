//! Outlets of kind `http`.

use cledger_core::model::{HttpLogin, HttpOutlet, OAuth, OutputFormat, StageText};
use cledger_core::value::Value;

use super::super::frame::{In, Item};
use super::super::outputs::stage_text;
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
        proxy: None,
        retries: RETRIES,
        document: content(read, table, OutputFormat::Json),
    };
    let (mut user, mut password) = (None, None);
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "path" => http.path = stage_text(read, item, "`path`").map(|(text, _)| text).unwrap_or_default(),
            "token" => {
                http.login = from(read, item, "`token`").map(HttpLogin::Bearer).unwrap_or_default();
            }
            "user" => user = stage_text(read, item, "`user`").map(|(text, _)| text),
            "password" => password = from(read, item, "`password`"),
            "oauth" => http.login = oauth(read, item).map(HttpLogin::OAuth).unwrap_or_default(),
            "proxy" => http.proxy = address(read, item, "`proxy`"),
            "retries" => http.retries = retries(read, item).unwrap_or(RETRIES),
            _ => {}
        }
    }
    let says = |key: &str| table.contains_key(key);
    if says("user") != says("password") {
        let at = table.get("user").or_else(|| table.get("password")).map_or(0..0, Spanned::span);
        read.wrong_with(at, "`user` and `password` go together", "write both, or leave both out");
    }
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
