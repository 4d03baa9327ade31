//! A new unit like another: its contract, its settings and those of its instances.

use cledger_core::model::{InstanceId, LayerId, Ledger, Setting, Subject, Unit, UnitId};
use cledger_core::name::Name;
use cledger_store::{Changed, Edit, Overlay, Target, What, apply, said, setting, swapped};

use crate::add::added::{Added, written_as_planned};
use crate::add::new_unit::NewUnit;
use crate::change::{Changing, NO_CHANGE};
use crate::setting::{setting_literal, source_text};
use crate::trouble::Trouble;

/// Adds a unit that is like another.
pub(crate) fn unit_like(changing: &Changing, new: &NewUnit, old: UnitId) -> Result<Added, Trouble> {
    let (ledger, like) = (changing.ledger(), &new.like);
    let pairs = pairs(&like.swap)?;
    let known = ledger.unit(old);
    let path = format!("units/{}.toml", new.name);
    let contract = contract(ledger, known, &pairs)?;
    let mut changed = Changed::from([(path.clone(), Some(contract))]);
    // The names that the other had before lead to its own history.
    let formerly = Edit { file: path, path: vec!["formerly".to_owned()], header: 0, what: What::Remove };
    if !known.formerly.is_empty() {
        changed.extend(apply(&Overlay::new(changing.disk(), &changed), &[formerly])?);
    }
    let after = changing.read_after(&changed)?;
    let id = after.unit_id(new.name.as_str()).ok_or_else(|| Trouble::usage("the contract cannot be read"))?;
    let (mut edits, mut layers, mut secrets) = (Vec::new(), Vec::new(), Vec::new());
    for layer in ledger.layer_ids() {
        let settings = ledger.unit_layer(known, layer);
        let own = std::iter::once((None, settings.unit.as_slice()));
        let of_instances =
            settings.instances.iter().map(|(id, _, settings)| (Some(*id), settings.as_slice()));
        for (instance, setting) in
            own.chain(of_instances).flat_map(|(at, all)| all.iter().map(move |it| (at, it)))
        {
            let from = (Subject::Unit(old, instance), setting);
            if ledger.field(from.0, setting.slot).1.secret && !like.with_secrets {
                secrets.push(ledger.field_name(from.0, setting.slot));
                continue;
            }
            edits.push(edit(ledger, &after, from, (id, instance, layer), &pairs)?);
            layers.push(layer);
        }
    }
    let base = Overlay::new(changing.disk(), &changed);
    let made = apply(&base, &edits)?;
    changed.extend(made);
    if like.with_secrets {
        changing.resealed(ledger, &NO_CHANGE, &mut changed)?;
    }
    let planned = changing.plan_texts(changed)?;
    layers.sort_unstable();
    layers.dedup();
    changing.guard(&layers, &planned, &like.consent)?;
    if !secrets.is_empty() {
        secrets.sort_unstable();
        secrets.dedup();
        changing.opened.at.telling.notice(&format!(
            "Not taken over, since they are secrets: {} (--with-secrets takes them over).",
            secrets.join(", ")
        ));
    }
    let what = format!("unit {} like {}", new.name, known.name);
    Ok(written_as_planned(changing, planned, what)?.0)
}

pub(crate) fn pairs(texts: &[String]) -> Result<Vec<(String, String)>, Trouble> {
    if texts.len() % 2 == 1 || texts.iter().step_by(2).any(String::is_empty) {
        return Err(Trouble::usage("--swap takes pairs of texts").help("write --swap OLD NEW"));
    }
    Ok(texts.chunks(2).map(|pair| (pair[0].clone(), pair[1].clone())).collect())
}

/// The other's contract with texts replaced.
fn contract(ledger: &Ledger, known: &Unit, pairs: &[(String, String)]) -> Result<String, Trouble> {
    let text = ledger.files.get(known.place.file).map_or("", |file| file.text.as_str());
    let wrong = || Trouble::usage(format!("the contract of `{}` cannot be copied", known.name));
    swapped(text, pairs).ok_or_else(wrong)
}

/// A setting's text with others in its value; its reason stays as somebody has given it.
pub(crate) fn with_swaps(text: &str, pairs: &[(String, String)]) -> Option<String> {
    let why = |text: &str| said(text, &[], &["x".to_owned(), "why".to_owned()]);
    let before = format!("x = {text}");
    let mut after = swapped(&before, pairs)?;
    if let (Some(old), Some(new)) = (why(&before), why(&after)) {
        after = after.replacen(&new, &old, 1);
    }
    Some(after["x = ".len()..].to_owned())
}

/// The setting as the new unit has it.
fn edit(
    ledger: &Ledger,
    after: &Ledger,
    (from, known): (Subject, &Setting),
    (unit, instance, layer): (UnitId, Option<InstanceId>, LayerId),
    pairs: &[(String, String)],
) -> Result<Edit, Trouble> {
    let (entry, declaration) = ledger.field(from, known.slot);
    let literal = with_swaps(&source_text(ledger, known), pairs).unwrap_or_else(|| {
        setting_literal(&known.value, &known.note.as_deref().cloned().unwrap_or_default(), None)
    });
    let subject = Subject::Unit(unit, instance);
    let slot = after.find_slot(subject, entry.name.as_str(), declaration.name.as_ref().map(Name::as_str));
    let slot = slot.map_err(|_| {
        let name = ledger.field_name(from, known.slot);
        Trouble::usage(format!("`{name}` has no place in the new unit")).help("add the unit without --like")
    })?;
    Ok(setting(after, Target::Layer(layer), subject, slot, What::Set(literal)))
}
