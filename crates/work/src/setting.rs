//! Settings as they are written: what a text becomes in its field, and where that goes.

use cledger_core::address::Address;
use cledger_core::cipher::{Cipher, secret_of};
use cledger_core::model::{Declaration, LayerId, Ledger, Note, Setting, SettingValue, Vary, Verdict};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::resolve::Opened;
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Keys, Target, What, literal, parse_value, setting};
use zeroize::Zeroizing;

use crate::meant::{DEFAULT, Place};
use crate::shown;
use crate::trouble::Trouble;

/// One setting that is written or taken out.
#[derive(Debug, Clone)]
pub struct Written {
    /// Its address, with the stage, the group or `default`.
    pub address: String,
    /// The file that it stands in.
    pub file: String,
    /// What it said, secrets masked; `None` for nothing.
    pub before: Option<String>,
    /// What it says, secrets masked; `None` for nothing.
    pub after: Option<String>,
}

/// What becomes a setting, and where it comes from.
#[derive(Clone, Copy)]
pub(crate) enum Given<'g> {
    /// A text of the command line, which others can see.
    Argument(&'g str),
    /// A text of somebody's hands or pipe.
    Hand(&'g str),
    /// A value of a running system or of another stage, in which nothing is a reference.
    System(&'g Held),
}

/// Makes settings of texts.
#[derive(Clone, Copy)]
pub(crate) struct Setter<'s> {
    pub(crate) ledger: &'s Ledger,
    pub(crate) keys: &'s Keys<'s>,
    /// Whether secrets may stand in plain text where there is no key.
    pub(crate) plain_secrets: bool,
}

impl Setter<'_> {
    /// What is given for a field: read as its type, checked against its declaration, and encrypted if it is a
    /// secret that did not come by the command line. A secret for a field that is not declared one is refused: it
    /// would stand there in plain text, and be shown to everybody.
    pub(crate) fn said(
        &self,
        place: &Place,
        given: Given<'_>,
        before: Option<&Setting>,
    ) -> Result<SettingValue, Trouble> {
        let (address, declaration) = (&place.address, self.ledger.field(place.subject, place.slot).1);
        let of_system;
        let text = match given {
            Given::Argument(text) | Given::Hand(text) => text,
            Given::System(held) if held.is_secret() && !declaration.secret => {
                let message = format!(
                    "`{address}` would get a secret, and is not declared as one: it would stand in plain text"
                );
                return Err(Trouble::refused(message)
                    .help("say `secret = true` where it is declared, or set what it is made of"));
            }
            Given::System(held) => {
                of_system = held.expose().to_secret_text();
                of_system.as_str()
            }
        };
        if declaration.secret
            && !matches!(given, Given::Argument(_))
            && let Target::Layer(layer) = place.target
            && let Some(cipher) = self.encrypted(place, layer, text, before)?
        {
            return Ok(SettingValue::Cipher(Box::new(cipher)));
        }
        if declaration.this_type == Type::Table {
            // Its rows are read once the change is planned.
            return Ok(SettingValue::Value(Held::new(Value::text(text), false)));
        }
        let value = match given {
            Given::System(_) => secret_of(text, declaration.this_type).map(|held| held.expose().escaped()),
            Given::Argument(_) | Given::Hand(_) => typed_value(text, declaration),
        };
        let value = value.ok_or_else(|| {
            let message = format!("the value for `{address}` is not {}", declaration.this_type.describe());
            Trouble::usage(message).help(format!("its type is {}", declaration.this_type.name()))
        })?;
        match declaration.judge(&value) {
            Verdict::NotAllowed => {
                let asks = declaration.rejection(&value).map(|rejection| rejection.asks).unwrap_or_default();
                let message = format!("the value for `{address}` is not allowed: it must be {asks}");
                Err(Trouble::usage(message).help("the declaration says what is allowed"))
            }
            Verdict::WrongType => {
                let message =
                    format!("the value for `{address}` is not {}", declaration.this_type.describe());
                Err(Trouble::usage(message))
            }
            Verdict::Fits | Verdict::Open => Ok(SettingValue::Value(Held::new(value, declaration.secret))),
        }
    }

    /// The cipher text of a secret; `None` where it is to stand in plain text. The one that is there stays,
    /// if it opens to the same.
    fn encrypted(
        &self,
        place: &Place,
        layer: LayerId,
        secret: &str,
        before: Option<&Setting>,
    ) -> Result<Option<Cipher>, Trouble> {
        let Self { ledger, keys, plain_secrets: plain } = *self;
        let (address, scope) = (&place.address, ledger.key_scope(layer));
        if !keys.has_key(&scope) {
            if plain {
                return Ok(None);
            }
            let message =
                format!("`{}` has no key: `{address}` would stand there in plain text", scope.name());
            let make =
                format!("make one: cledger key make @{} --write; or add --plain-secrets", scope.name());
            return Err(Trouble::refused(message).help(make));
        }
        let declaration = ledger.field(place.subject, place.slot).1;
        let Some(held) = secret_value(secret, declaration) else {
            let message = format!("the value for `{address}` is not {}", declaration.this_type.describe());
            return Err(Trouble::usage(message));
        };
        if let Some(rejection) = declaration.rejection(held.expose()) {
            let message = format!("the value for `{address}` is not allowed: it must be {}", rejection.asks);
            return Err(Trouble::usage(message).help("the declaration says what is allowed"));
        }
        let text = Zeroizing::new(held.expose().to_text());
        if let Some(SettingValue::Cipher(cipher)) = before.map(|setting| &setting.value)
            && let Opened::Text(known) = keys.open(&scope, cipher)
            && known.as_str() == text.as_str()
        {
            return Ok(Some((**cipher).clone()));
        }
        let address = Address { stage: None, ..address.clone() }.to_string();
        let text = keys.seal(&scope, &address, &text)?.into();
        Ok(Some(Cipher { text, layer, address }))
    }
}

/// Refuses fields that no setting can be for.
pub(crate) fn may_be_set(place: &Place, declaration: &Declaration) -> Result<(), Trouble> {
    let address = &place.address;
    if declaration.derived {
        let message = format!("`{address}` is derived from other fields, and cannot be set");
        return Err(Trouble::usage(message).help("set the fields that it is made of"));
    }
    if declaration.vary == Vary::Never && place.target != Target::Default {
        let message =
            format!("`{address}` is the same everywhere (vary = \"never\"), and cannot be set in one place");
        let everywhere = Address { stage: Name::parse(DEFAULT).ok(), ..address.clone() };
        return Err(Trouble::usage(message).help(format!("set it everywhere: cledger set {everywhere}=…")));
    }
    Ok(())
}

/// The change that writes a setting, if it changes anything, and what it was and will be. Reason, last day
/// and look-up stay where the note has none.
pub(crate) fn write(
    ledger: &Ledger,
    place: &Place,
    layer: LayerId,
    said: &SettingValue,
    note: &Note,
) -> (Option<Edit>, Written) {
    let before = ledger.setting_at(layer, place.subject, place.slot);
    let kept = before.and_then(|setting| setting.note.as_deref()).cloned().unwrap_or_default();
    let note = Note {
        why: note.why.clone().or(kept.why),
        until: note.until.or(kept.until),
        looked_up: note.looked_up.clone().or(kept.looked_up),
        rows: Vec::new(),
    };
    let old_text = before.map(|setting| source_text(ledger, setting));
    let text = setting_literal(said, &note, old_text.as_deref());
    let same = old_text.as_deref() == Some(text.as_str());
    let edit = setting(ledger, place.target, place.subject, place.slot, What::Set(text));
    let written = Written {
        address: place.address.to_string(),
        file: edit.file.clone(),
        before: before.map(|setting| shown::setting(&setting.value)),
        after: Some(shown::setting(said)),
    };
    ((!same).then_some(edit), written)
}

/// A secret as its field's type has it; `None` if it is not of that type.
fn secret_value(secret: &str, declaration: &Declaration) -> Option<Held> {
    let value = match declaration.this_type {
        Type::List | Type::Map => parse_value(secret),
        this => this.read(secret),
    };
    let held = value.map(|value| Held::new(value, true)).or_else(|| secret_of(secret, declaration.this_type));
    held.filter(|held| declaration.this_type.fits(held.expose()))
}

pub(crate) fn typed_value(text: &str, declaration: &Declaration) -> Option<Value> {
    match declaration.this_type {
        Type::List | Type::Map if reference::lone(text).is_none() => parse_value(text),
        _ if reference::is_in(text) => Some(Value::text(text)),
        this => this.read(text),
    }
}

/// The setting that stands there already.
pub(crate) fn there<'l>(ledger: &'l Ledger, place: &Place) -> Option<&'l Setting> {
    let Target::Layer(layer) = place.target else { return None };
    ledger.setting_at(layer, place.subject, place.slot)
}

/// The text of a setting's value in its file.
pub(crate) fn source_text(ledger: &Ledger, setting: &Setting) -> String {
    let text = ledger.files.get(setting.place.file).map_or("", |file| file.text.as_str());
    text.get(setting.place.start as usize..setting.place.end as usize).unwrap_or_default().to_owned()
}

/// A setting as it is written: a plain value, or a table of the setting words.
pub(crate) fn setting_literal(said: &SettingValue, note: &Note, before: Option<&str>) -> String {
    let has_note = note.why.is_some() || note.until.is_some() || note.looked_up.is_some();
    let mut words = Vec::new();
    match said {
        SettingValue::Value(held) => {
            let value = held.expose();
            if !has_note && !is_like_a_setting(value) {
                return literal(value, before);
            }
            words.push(format!("value = {}", literal(value, None)));
        }
        SettingValue::Cipher(cipher) => {
            let text = Value::text(&cipher.text);
            if !has_note {
                return literal(&text, before);
            }
            words.push(format!("value = {}", literal(&text, None)));
        }
        SettingValue::Absent => words.push("absent = true".to_owned()),
        SettingValue::From(source) => {
            words.push(format!("from = {}", literal(&Value::text(&source.0), None)));
        }
    }
    if let Some(why) = &note.why {
        words.push(format!("why = {}", literal(&Value::text(why), None)));
    }
    if let Some(until) = note.until {
        words.push(format!("until = {until}"));
    }
    if let Some(looked_up) = &note.looked_up {
        words.push(format!("looked_up = {}", literal(&Value::text(looked_up.as_written()), None)));
    }
    format!("{{ {} }}", words.join(", "))
}

/// Whether a map would be taken for a table of the setting words.
fn is_like_a_setting(value: &Value) -> bool {
    let words = ["value", "absent", "from", "looked_up", "why", "until"];
    matches!(value, Value::Map(map) if !map.is_empty() && map.keys().all(|key| words.contains(&key.as_str())))
}
