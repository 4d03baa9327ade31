//! A name that is live and that no contract has: declared, with its value.

use std::collections::BTreeMap;

use cledger_core::address::{Address, Owner};
use cledger_core::adopt::{inferred, looks_secret};
use cledger_core::model::{LayerId, Ledger, Output, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::output::as_text;
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, OutputList, What, added_to_list, key, literal, put, setting_of};

use crate::change::{Changing, Planned};
use crate::drift::asked::is_declared;
use crate::drift::live::{Live, Lives, agreed};
use crate::drift::taking::{Changes, Found, With};
use crate::meant::{known_stage, outputs_of};
use crate::setting::Written;
use crate::shown;
use crate::trouble::Trouble;

/// A name that no contract has, in a unit or instance and a stage.
struct NewName<'a> {
    unit: &'a Name,
    entry: &'a Name,
    stage: &'a Name,
    layer: LayerId,
    subject: Subject,
}

impl<'a> NewName<'a> {
    /// The name that an address means, which must be one that can be declared.
    fn of(ledger: &Ledger, address: &'a Address) -> Result<Self, Trouble> {
        let (Some(Owner::Unit(unit, instance)), Some(entry), Some(stage)) =
            (&address.owner, &address.entry, &address.stage)
        else {
            let message = format!("`{address}` names nothing that could be taken over");
            return Err(Trouble::usage(message).help("write UNIT/NAME@STAGE"));
        };
        if address.field.is_some() {
            let message = format!("`{address}` names a field of an entry that is not declared");
            return Err(Trouble::usage(message).help(format!(
                "take it as a variable, {unit}/NAME@{stage}, or declare the entry: cledger add"
            )));
        }
        if is_declared(ledger, address) {
            let message =
                format!("`{address}` is declared, and stands there under another name than in its file");
            return Err(Trouble::usage(message).help("say its name in the file: `as` in the contract"));
        }
        let layer = LayerId::Stage(known_stage(ledger, stage.as_str())?);
        let subject = subject(ledger, unit, instance.as_ref()).ok_or_else(|| {
            Trouble::usage(format!("there is no unit `{unit}`")).help("`cledger list units` shows them")
        })?;
        Ok(Self { unit, entry, stage, layer, subject })
    }

    /// Where it is live, and the value that all of these places agree on.
    fn there<'l, 'd>(
        &self,
        ledger: &Ledger,
        address: &Address,
        lives: &'l Lives<'d>,
    ) -> Result<(Vec<&'l Live<'d>>, &'d Held), Trouble> {
        let found: Vec<&Live<'_>> = lives.called(self.subject, self.stage, self.entry).collect();
        if let Some(there) = agreed(ledger, &address.to_string(), &found)? {
            return Ok((found, there));
        }
        let reason = lives.not_known().find(|(of, ..)| *of == self.subject).map(|(.., reason)| reason);
        Err(match reason {
            Some(reason) => Trouble::outside(format!("nobody can tell what `{address}` is there: {reason}")),
            None => {
                Trouble::usage(format!("there is no `{address}`, neither in the ledger nor where one looked"))
                    .help("`cledger drift` shows what is there")
            }
        })
    }
}

/// Proposes a declaration for a name that no contract has, and takes its value over.
pub(crate) fn declare(
    with: With<'_>,
    address: &Address,
    lives: &Lives<'_>,
    changes: &mut Changes,
) -> Result<(), Trouble> {
    let ledger = with.ledger;
    let new = NewName::of(ledger, address)?;
    let (lives, there) = new.there(ledger, address, lives)?;
    let (format, steps) = (lives[0].format, lives[0].drifted.steps.clone());
    let has_it = |output: &&Output| lives.iter().any(|live| live.output == Some(output.place));
    let outputs = ledger.unit_id(new.unit.as_str()).into_iter().flat_map(|id| &ledger.unit(id).outputs);
    let paths = outputs.filter(has_it).map(|output| output.path.as_written().to_owned()).collect();
    let (this_type, value) = inferred(format, &steps, there.expose()).map_err(|reason| {
        Trouble::usage(format!("`{address}` cannot be declared: {reason}"))
            .help("declare it yourself: cledger add")
    })?;
    let secret = looks_secret(&steps, &value);
    declare_once(&new, address, Found { this_type, secret, format, steps, paths }, changes)?;
    let literal = if secret {
        sealed(with, address, new.layer, &there.expose().to_secret_text())?
    } else {
        literal(&value.escaped(), None)
    };
    let said = match &with.consent.why {
        None => literal,
        Some(why) => format!("{{ value = {literal}, why = {} }}", self::literal(&Value::text(why), None)),
    };
    let edit = setting_of(ledger, new.layer, new.subject, new.entry, None, What::Set(said));
    let after = if secret { shown::MASK.to_owned() } else { shown::one_line(&value) };
    changes.written.push(Written {
        address: address.to_string(),
        file: edit.file.clone(),
        before: None,
        after: Some(after),
    });
    changes.edits.push(edit);
    changes.layers.push(new.layer);
    Ok(())
}

/// Declares a name where that is not done for another stage, of which it must be of one kind.
fn declare_once(
    new: &NewName<'_>,
    address: &Address,
    found: Found,
    changes: &mut Changes,
) -> Result<(), Trouble> {
    let Found { this_type, secret, format, .. } = found;
    let key = (new.unit.clone(), new.entry.clone());
    if let Some(declared) = changes.declared.get_mut(&key) {
        if (declared.this_type, declared.secret, declared.format) != (this_type, secret, format) {
            let message = format!("`{address}` is of another kind there than in another stage");
            return Err(Trouble::usage(message).help("declare it yourself: cledger add"));
        }
        for path in found.paths {
            if !declared.paths.contains(&path) {
                declared.paths.push(path);
            }
        }
        return Ok(());
    }
    changes.declared.insert(key, found);
    changes.edits.extend(declaration(new.unit, new.entry, this_type, secret));
    let mut words = vec![this_type.name(), "optional"];
    words.extend(secret.then_some("secret"));
    changes.written.push(Written {
        address: format!("{}/{}", new.unit, new.entry),
        file: contract_of(new.unit),
        before: None,
        after: Some(format!("declared: {}", words.join(", "))),
    });
    Ok(())
}

fn contract_of(unit: &Name) -> String {
    format!("units/{unit}.toml")
}

/// What declares a variable of which only one stage is known to have it.
fn declaration(unit: &Name, entry: &Name, this: Type, secret: bool) -> impl Iterator<Item = Edit> {
    let said = [("type", format!("\"{}\"", this.name())), ("required", "false".to_owned())];
    let secret = secret.then(|| ("secret", "true".to_owned()));
    said.into_iter().chain(secret).map(move |(word, said)| Edit {
        file: contract_of(unit),
        path: ["variables", entry.as_str(), word].map(str::to_owned).into(),
        header: 2,
        what: What::Set(said),
    })
}

fn subject(ledger: &Ledger, unit: &Name, instance: Option<&Name>) -> Option<Subject> {
    let id = ledger.unit_id(unit.as_str())?;
    match instance {
        None => Some(Subject::Unit(id, None)),
        Some(name) => Some(Subject::Unit(id, Some(ledger.unit(id).instance(name.as_str())?))),
    }
}

/// The cipher text of a secret that is not declared yet, or the secret where it may stand in plain text.
fn sealed(
    With { ledger, keys, plain_secrets, .. }: With<'_>,
    address: &Address,
    layer: LayerId,
    text: &str,
) -> Result<String, Trouble> {
    let scope = ledger.key_scope(layer);
    if !keys.has_key(&scope) {
        if plain_secrets {
            return Ok(literal(&Value::text(&cledger_core::reference::escape(text)), None));
        }
        let message = format!("`{address}` looks like a secret, and `{}` has no key", scope.name());
        let make = format!("make one: cledger key make @{} --write; or add --plain-secrets", scope.name());
        return Err(Trouble::refused(message).help(make));
    }
    let bare = Address { stage: None, ..address.clone() }.to_string();
    Ok(literal(&Value::text(&keys.seal(&scope, &bare, text)?), None))
}

/// The plan, with names kept that new variables would not have by themselves.
pub(super) fn planned(changing: &Changing, changes: &mut Changes) -> Result<Planned, Trouble> {
    let planned = changing.plan(&changes.edits)?;
    let mut more = Vec::new();
    for ((unit, entry), Found { format, steps, .. }) in &changes.declared {
        let Some(id) = planned.after.unit_id(unit.as_str()) else { continue };
        let mut outputs = planned.after.unit(id).outputs.iter().filter(|output| output.format == *format);
        let has_it = outputs
            .any(|output| output.names_as_written(&planned.after, id).iter().any(|(name, _)| name == steps));
        if !has_it {
            let text = literal(&Value::text(&as_text(*format, steps)), None);
            more.push(Edit {
                file: contract_of(unit),
                path: ["variables", entry.as_str(), "as"].map(str::to_owned).into(),
                header: 2,
                what: What::Set(format!("{{ {} = {text} }}", key(format.name()))),
            });
        }
    }
    let planned = if more.is_empty() {
        planned
    } else {
        changes.edits.extend(more);
        changing.plan(&changes.edits)?
    };
    let planned = where_found(changing, planned, changes)?;
    for (unit, entry) in changes.declared.keys() {
        let address = format!("{unit}/{entry}");
        let declared = changes.written.iter_mut().filter(|written| written.address == address);
        if let Some(outputs) = outputs_of(&planned.after, unit, entry) {
            for said in declared.filter_map(|written| written.after.as_mut()) {
                let into = if outputs.is_empty() { "no output".to_owned() } else { outputs.join(", ") };
                *said = format!("{said}; into {into}");
            }
        }
    }
    Ok(planned)
}

/// The plan, with new variables in the outputs where they were found, and in no others.
fn where_found(changing: &Changing, planned: Planned, changes: &Changes) -> Result<Planned, Trouble> {
    let (after, mut values) = (&planned.after, Vec::new());
    let mut lists: BTreeMap<(UnitId, usize), [Vec<String>; 2]> = BTreeMap::new();
    for ((unit, entry), found) in changes.declared.iter().filter(|(_, found)| !found.paths.is_empty()) {
        let Some(id) = after.unit_id(unit.as_str()) else { continue };
        let Ok(slot) = after.find_slot(Subject::Unit(id, None), entry.as_str(), None) else { continue };
        let (declared, field) = after.field(Subject::Unit(id, None), slot);
        for (at, output) in after.unit(id).outputs.iter().enumerate() {
            let is_there = found.paths.iter().any(|path| path == output.path.as_written());
            let list = match (is_there, output.holds(after.unit(id), declared, field)) {
                (true, false) => OutputList::Only,
                (false, true) => OutputList::Except,
                _ => continue,
            };
            lists.entry((id, at)).or_default()[usize::from(list == OutputList::Except)]
                .push(entry.to_string());
        }
    }
    for ((unit, at), [only, except]) in lists {
        let output = &after.unit(unit).outputs[at];
        for (list, names) in [(OutputList::Only, only), (OutputList::Except, except)] {
            if !names.is_empty() {
                values.extend(added_to_list(&after.files, output, list, &names));
            }
        }
    }
    if values.is_empty() {
        return Ok(planned);
    }
    let mut texts = planned.changed;
    texts.extend(put(&planned.after.files, values));
    changing.plan_texts(texts)
}
