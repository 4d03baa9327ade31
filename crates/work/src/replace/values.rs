//! The values of fields, changed.

use cledger_core::impact::Written as Place;
use cledger_core::model::{Ledger, SettingValue};
use cledger_core::search::Found;
use cledger_core::value::Held;
use cledger_store::{Edit, Target, What, literal, setting};

use crate::replace::changes::Changes;
use crate::setting::{setting_literal, typed_value};
use crate::trouble::Trouble;

/// The change of one value and the value after it; `None` if it stays as it is.
pub(crate) fn edit(
    to: Option<&str>,
    changes: &Changes,
    ledger: &Ledger,
    found: &Found<'_>,
) -> Result<Option<(Edit, Held)>, Trouble> {
    let (_, declaration) = ledger.field(found.subject, found.slot);
    let address = found.address(ledger);
    let new = match (to, found.held) {
        (Some(text), _) => {
            if declaration.secret {
                let message =
                    format!("`{address}` is a secret: an argument can be seen by others on this machine");
                return Err(Trouble::refused(message).help("leave secrets out with --no-secret"));
            }
            typed_value(text, declaration).ok_or_else(|| {
                let wanted = declaration.this_type.describe();
                Trouble::usage(format!("the value for `{address}` is not {wanted}"))
                    .help("narrow the search to fields of one type: --type TYPE")
            })?
        }
        (None, Some(held)) => changes.value(held.expose()),
        (None, None) => return Ok(None),
    };
    if found.held.is_some_and(|held| *held.expose() == new) {
        return Ok(None);
    }
    let held = Held::new(new, declaration.secret);
    let target = match found.written {
        Place::In(layer) => Target::Layer(layer),
        Place::Default => Target::Default,
    };
    let before = found.place.and_then(|place| {
        let text = ledger.files.get(place.file)?.text.as_str();
        text.get(place.start as usize..place.end as usize)
    });
    let note = found.setting.and_then(|setting| setting.note.as_deref()).cloned().unwrap_or_default();
    let text = match target {
        Target::Default => literal(held.expose(), before),
        Target::Layer(_) => setting_literal(&SettingValue::Value(held.clone()), &note, before),
    };
    Ok(Some((setting(ledger, target, found.subject, found.slot, What::Set(text)), held)))
}
