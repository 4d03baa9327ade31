//! Keys for stages and groups that have none.

use cledger_core::name::Name;
use cledger_store::{Reader, Recipient, SecretString, make as make_keys};

use crate::change::{Changing, NO_CHANGE};
use crate::keys::done::{Done, KeyChange, KeysChanged, finish, readers, scopes};
use crate::meant::layers;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// What is to be made.
pub struct ToMake<'p> {
    /// Whose keys.
    pub change: KeyChange,
    /// What one is called as a reader; by the workplace if not given.
    pub name: Option<Name>,
    /// Other readers, as NAME=KEY.
    pub readers: Vec<String>,
    /// Gives the passphrase that protects it instead of one's identity, for oneself alone.
    pub passphrase: Option<&'p dyn Fn() -> Result<SecretString, Trouble>>,
}

/// Makes keys.
pub fn make(changing: &Changing, asked: &ToMake<'_>) -> Result<KeysChanged, Trouble> {
    let at = &changing.opened.at;
    let layers = layers(changing.ledger(), &asked.change.stages)?;
    let scopes = scopes(changing.ledger(), &layers);
    let name = asked.name.clone().map_or_else(|| own_name(at), Ok)?;
    let mut all = Vec::new();
    let passphrase = if let Some(passphrase) = asked.passphrase {
        all.push(Reader { name, recipient: Recipient::passphrase() });
        // Nothing is wrapped yet where it is only shown, so nobody need type one.
        Some(if asked.change.write { passphrase()? } else { SecretString::from("") })
    } else {
        let own = at.identity.recipients()?;
        all.extend(own.into_iter().next().map(|recipient| Reader { name, recipient }));
        None
    };
    for text in &asked.readers {
        all.push(reader(text)?);
    }
    all.sort_by(|one, other| one.name.cmp(&other.name));
    if let Some(twice) = all.windows(2).find(|pair| pair[0].name == pair[1].name) {
        return Err(Trouble::usage(format!("the reader `{}` is named twice", twice[0].name)));
    }
    let changed = make_keys(&changing.keys(&NO_CHANGE), &scopes, &all, passphrase.as_ref())?;
    let done = scopes.into_iter().map(|scope| Done {
        scope,
        readers: readers(&all),
        secrets: None,
        reader: None,
        word: "made",
        renews: false,
        changes: true,
    });
    finish(changing, changed, &layers, done.collect(), &asked.change)
}

/// A reader, as `NAME=KEY`.
pub fn reader(text: &str) -> Result<Reader, Trouble> {
    let (name, key) = text.split_once('=').ok_or_else(|| {
        Trouble::usage(format!("--reader {text} has no public key")).help("write --reader NAME=KEY")
    })?;
    let name = Name::parse(name).map_err(|error| Trouble::usage(format!("`{name}` is no name: {error}")))?;
    let recipient = Recipient::parse(key).map_err(|error| Trouble::usage(error.to_string()))?;
    Ok(Reader { name, recipient })
}

/// What somebody is called by their environment, as a name.
fn own_name(at: &Workplace) -> Result<Name, Trouble> {
    let short = at.who.as_deref().unwrap_or_default().split('@').next().unwrap_or_default().to_lowercase();
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' };
    let name: String = short.chars().map(plain).collect();
    Name::parse(name.trim_matches(['-', '_']))
        .map_err(|_| Trouble::usage("nothing says what you are called as a reader").help("write --as NAME"))
}
