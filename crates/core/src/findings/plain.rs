//! Secrets that stand in plain text.

use compact_str::CompactString;
use zeroize::Zeroizing;

use crate::model::{Declaration, Ledger, Setting, SettingValue, Verdict};
use crate::reference::{Piece, pieces};
use crate::resolve::Unfetched;
use crate::search::{self, Conditions, Found};
use crate::value::Value;

/// Whether a setting holds a secret in plain text.
pub(super) fn is_plain_secret(setting: &Setting, field: &Declaration) -> bool {
    let SettingValue::Value(held) = &setting.value else { return false };
    field.secret && (setting.verdict != Verdict::Open || plain_text(held.expose()).is_some())
}

/// All secrets that stand in plain text in settings, with what they come to.
pub fn plain_secrets(ledger: &Ledger) -> Vec<(Found<'_>, Zeroizing<CompactString>)> {
    let all = search::settings(ledger, &Unfetched, &Conditions::default()).into_iter();
    all.filter_map(|found| {
        let (setting, (_, field)) = (found.setting?, ledger.field(found.subject, found.slot));
        let text = is_plain_secret(setting, field).then(|| plain_text(found.held?.expose())).flatten()?;
        Some((found, text))
    })
    .collect()
}

/// The text form of a value, if nothing in it refers to anything; `$${` is `${`.
fn plain_text(value: &Value) -> Option<Zeroizing<CompactString>> {
    let text = Zeroizing::new(value.to_text());
    if !value.has_references() {
        return Some(text);
    }
    let mut plain = Zeroizing::new(CompactString::with_capacity(text.len()));
    for piece in pieces(value.as_text()?) {
        match piece {
            Piece::Literal(literal) => plain.push_str(literal),
            Piece::Reference(_) | Piece::Unclosed(_) => return None,
        }
    }
    Some(plain)
}
