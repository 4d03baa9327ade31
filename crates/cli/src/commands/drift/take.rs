//! `cledger drift --take`: live values taken over into the ledger.

use std::collections::BTreeMap;

use cledger_core::address::{Address, Owner};
use cledger_core::adopt::{inferred, looks_secret, loose};
use cledger_core::drift::{Drifted, FileDrift, NameDrift};
use cledger_core::model::{LayerId, Ledger, Note, OutputFormat, SettingValue, Subject};
use cledger_core::name::Name;
use cledger_core::output::as_text;
use cledger_core::value::Value;
use cledger_store::{Edit, Keys, Target, What, key, literal, setting_of};
use zeroize::Zeroizing;

use crate::app::App;
use crate::change::{Changing, NO_CHANGE, Planned};
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::place::{Place, place};
use crate::reality::{Looked, State};
use crate::setting::{Setter, TextFrom, Written, may_be_set, write};

use super::DriftArgs;

/// A name that has drifted somewhere.
struct Live<'d> {
    /// Of which unit or instance.
    owner: &'d str,
    outlet: String,
    format: OutputFormat,
    drifted: &'d Drifted,
}

/// What is to be changed.
#[derive(Default)]
struct Changes {
    edits: Vec<Edit>,
    layers: Vec<LayerId>,
    written: Vec<Written>,
    /// New variables, with the names that they have there: by unit, variable and format.
    declared: BTreeMap<(Name, Name), (OutputFormat, Vec<String>)>,
}

/// Takes the live values of these fields over, or shows what that would change.
pub(super) fn take(
    args: &DriftArgs,
    changing: &Changing,
    looked: &[Looked<'_>],
    app: &mut App<'_>,
) -> Result<u8, CliError> {
    let ledger = &changing.ledger;
    let keys = changing.keys(&NO_CHANGE);
    let mut changes = Changes::default();
    for text in &args.take {
        let address = Address::parse(text)?;
        if is_known(ledger, &address) {
            let field = place(app, ledger, text, args.stage.as_ref())?;
            known(args, (ledger, &keys), &field, looked, &mut changes)?;
        } else {
            unknown(args, (ledger, &keys), &address, looked, &mut changes)?;
        }
    }
    let planned = planned(changing, &mut changes)?;
    changing.refuse_bad_rows(&planned)?;
    if args.write {
        changing.guard(&changes.layers, &planned, &args.change)?;
        changing.write(&planned)?;
    }
    if app.console.is_json() {
        let document = json::change::document(&changes.written, &planned.effects);
        app.console.document(&json::change::Taken { change: document, written: args.write });
    } else {
        text::change::print(app.console, &changes.written, &planned.effects);
        if !args.write {
            app.console.line("Nothing is written yet. To do it, add --write.");
        }
    }
    Ok(status::CLEAN)
}

/// Whether an entry of this name is declared.
fn is_known(ledger: &Ledger, address: &Address) -> bool {
    let (Some(owner), Some(entry)) = (&address.owner, &address.entry) else { return true };
    let subject = match owner {
        Owner::Shared => Some(Subject::Shared),
        Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)),
    };
    subject.is_none_or(|subject| ledger.entry_names(subject).any(|known| known == entry.as_str()))
}

/// Takes over what a field that is declared has there.
fn known(
    args: &DriftArgs,
    (ledger, keys): (&Ledger, &Keys<'_>),
    field: &Place,
    looked: &[Looked<'_>],
    changes: &mut Changes,
) -> Result<(), CliError> {
    let address = &field.address;
    let layer = stage_layer(field)?;
    may_be_set(field, ledger.field(field.subject, field.slot).1)?;
    let is_it = |live: &Live<'_>| {
        let drifted = live.drifted.address.as_deref().and_then(|text| Address::parse(text).ok());
        drifted.is_some_and(|drifted| is_same_field(ledger, &drifted, address))
    };
    let found: Vec<Live<'_>> = lives(looked, address).filter(is_it).collect();
    let live = agreed(address, &found, looked)?;
    if field.subject == Subject::Shared {
        all_have_it(ledger, address, &found, looked)?;
    }
    let before = ledger.setting_at(layer, field.subject, field.slot);
    let said = match live {
        Some(live) => {
            let setter = Setter { ledger, keys, plain_secrets: args.plain_secrets };
            setter.said(field, &live, TextFrom::System, before)?
        }
        None => SettingValue::Absent,
    };
    let note = Note { why: args.change.why.clone(), ..Note::default() };
    let (edit, written) = write(ledger, field, layer, &said, &note);
    changes.edits.extend(edit);
    changes.layers.push(layer);
    changes.written.push(written);
    Ok(())
}

fn stage_layer(field: &Place) -> Result<LayerId, CliError> {
    if let Target::Layer(layer @ LayerId::Stage(_)) = field.target {
        return Ok(layer);
    }
    let message = format!("`{}` names no stage, and only stages are live", field.address);
    Err(CliError::usage(message).help("write @STAGE behind the field"))
}

/// Whether a field that has drifted is meant: a shared one, by whatever unit uses it.
fn is_same_field(ledger: &Ledger, drifted: &Address, wanted: &Address) -> bool {
    let same =
        (&drifted.entry, &drifted.field, &drifted.stage) == (&wanted.entry, &wanted.field, &wanted.stage);
    let owner = match (&drifted.owner, &wanted.owner) {
        (Some(Owner::Unit(unit, _)), Some(Owner::Shared)) => {
            let entry = drifted.entry.as_ref().map(Name::as_str);
            ledger.unit_id(unit.as_str()).is_some_and(|id| {
                let subject = Subject::Unit(id, None);
                let mut entries = ledger.slots(subject).entries.iter();
                entries.any(|known| {
                    known.entry.shared().is_some()
                        && Some(ledger.entry(subject, known.entry).name.as_str()) == entry
                })
            })
        }
        (drifted, wanted) => drifted == wanted,
    };
    same && owner
}

/// All names that have drifted in the stage of an address.
fn lives<'d>(looked: &'d [Looked<'_>], address: &Address) -> impl Iterator<Item = Live<'d>> {
    let stage = address.stage.as_ref().map(ToString::to_string);
    let units = looked.iter().flat_map(|looked| {
        looked.units.iter().enumerate().map(move |(at, unit)| (looked, looked.looks.get(at), unit))
    });
    units.filter(move |(.., unit)| Some(&unit.stage) == stage.as_ref()).flat_map(|(_, look, unit)| {
        let files = match &unit.state {
            State::There(files) => &files[..],
            _ => &[],
        };
        let outlet = unit.outlet.as_ref().map_or_else(|| "the folder".to_owned(), |(name, _)| name.clone());
        files.iter().flat_map(move |(path, drift)| {
            let names = match drift {
                FileDrift::Drifted(names) => &names[..],
                _ => &[],
            };
            let format = look.map_or(OutputFormat::Dotenv, |look| look.made.format_of(path));
            let outlet = outlet.clone();
            names.iter().map(move |drifted| Live {
                owner: &unit.owner,
                outlet: outlet.clone(),
                format,
                drifted,
            })
        })
    })
}

/// The one text that all places have for a field; `None` if none of them has one.
fn agreed(
    address: &Address,
    found: &[Live<'_>],
    looked: &[Looked<'_>],
) -> Result<Option<Zeroizing<String>>, CliError> {
    let text = |live: &Live<'_>| {
        live.drifted.there.as_ref().map(|held| Zeroizing::new(held.expose().to_text().to_string()))
    };
    let Some(first) = found.first() else {
        let stage = address.stage.as_ref().map(ToString::to_string);
        let mut units = looked.iter().flat_map(|looked| &looked.units);
        let unreached = units.find_map(|unit| unit.reason().filter(|_| Some(&unit.stage) == stage.as_ref()));
        return Err(match unreached {
            Some(reason) => CliError::outside(format!("nobody can tell what `{address}` is there: {reason}")),
            None => CliError::usage(format!("`{address}` is there as the ledger says, or not at all"))
                .help("`cledger drift` shows what differs"),
        });
    };
    let same = |other: &&Live<'_>| text(other) != text(first);
    if let Some(other) = found.iter().find(same) {
        let message = format!(
            "`{address}` is not the same everywhere: {} and {} have different values",
            first.outlet, other.outlet
        );
        return Err(
            CliError::usage(message).help("bring one of them into line first, or set the value yourself")
        );
    }
    Ok(text(first))
}

/// Refuses to take a shared value over that only some of the units have there: the others stand as the
/// ledger says.
fn all_have_it(
    ledger: &Ledger,
    address: &Address,
    found: &[Live<'_>],
    looked: &[Looked<'_>],
) -> Result<(), CliError> {
    let entry = address.entry.as_ref().map(Name::as_str);
    let stage = address.stage.as_ref().map(ToString::to_string);
    for (look, unit) in looked.iter().flat_map(|looked| looked.looks.iter().zip(&looked.units)) {
        let is_there = matches!(unit.state, State::There(_)) && Some(&unit.stage) == stage.as_ref();
        let slots = ledger.slots(look.subject);
        let uses = slots.entries.iter().any(|known| {
            known.entry.shared().is_some()
                && Some(ledger.entry(look.subject, known.entry).name.as_str()) == entry
        });
        if is_there && uses && !found.iter().any(|live| live.owner == unit.owner) {
            let message =
                format!("`{address}` is not the same everywhere: `{}` has it as the ledger says", unit.owner);
            let own = Address {
                owner: Address::parse(found[0].owner).ok().and_then(|it| it.owner),
                ..address.clone()
            };
            return Err(CliError::usage(message).help(format!("take it for one unit alone: {own}")));
        }
    }
    Ok(())
}

/// Proposes a declaration for a name that no contract has, and takes its value over.
fn unknown(
    args: &DriftArgs,
    (ledger, keys): (&Ledger, &Keys<'_>),
    address: &Address,
    looked: &[Looked<'_>],
    changes: &mut Changes,
) -> Result<(), CliError> {
    let mut address = address.clone();
    address.stage = address.stage.or_else(|| args.stage.clone());
    let (Some(Owner::Unit(unit, instance)), Some(entry), Some(stage)) =
        (&address.owner, &address.entry, &address.stage)
    else {
        let message = format!("`{address}` names nothing that could be taken over");
        return Err(CliError::usage(message).help("write UNIT/NAME@STAGE"));
    };
    if address.field.is_some() {
        let message = format!("`{address}` names a field of an entry that is not declared");
        return Err(CliError::usage(message)
            .help(format!("take it as a variable, {unit}/NAME@{stage}, or declare the entry: cledger add")));
    }
    let owner = address.owner.as_ref().map(ToString::to_string).unwrap_or_default();
    let wanted = loose(&[entry.to_string()]);
    let is_it = |live: &Live<'_>| {
        live.owner == owner
            && live.drifted.what == NameDrift::ExtraThere
            && loose(&live.drifted.steps) == wanted
    };
    let found: Vec<Live<'_>> = lives(looked, &address).filter(is_it).collect();
    let Some(text) = agreed(&address, &found, looked)? else { return Ok(()) };
    let (format, steps) = (found[0].format, found[0].drifted.steps.clone());
    let value =
        found[0].drifted.there.as_ref().map_or_else(|| Value::text(&text), |held| held.expose().clone());
    let (this, value) = inferred(format, &steps, &value).map_err(|reason| {
        CliError::usage(format!("`{address}` cannot be declared: {reason}"))
            .help("declare it yourself: cledger add")
    })?;
    let secret = looks_secret(&steps, &value);
    let (subject, layer) = (subject(ledger, unit, instance.as_ref()), stage_of(ledger, stage)?);
    let Some(subject) = subject else {
        return Err(
            CliError::usage(format!("there is no unit `{unit}`")).help("`cledger list units` shows them")
        );
    };
    let file = format!("units/{unit}.toml");
    let declare = |word: &str, said: String| Edit {
        file: file.clone(),
        path: ["variables", entry.as_str(), word].map(str::to_owned).into(),
        header: 2,
        what: What::Set(said),
    };
    let mut words = vec![this.name()];
    changes.edits.push(declare("type", format!("\"{}\"", this.name())));
    // Only this stage is known to have it.
    changes.edits.push(declare("required", "false".to_owned()));
    words.push("optional");
    let literal = if secret {
        words.push("secret");
        changes.edits.push(declare("secret", "true".to_owned()));
        sealed(args, (ledger, keys), &address, layer, &text)?
    } else {
        literal(&value.escaped(), None)
    };
    let said = match &args.change.why {
        None => literal,
        Some(why) => format!("{{ value = {literal}, why = {} }}", self::literal(&Value::text(why), None)),
    };
    let edit = setting_of(ledger, layer, subject, entry, None, What::Set(said));
    let shown =
        if secret { crate::output::values::MASK.to_owned() } else { crate::output::values::one_line(&value) };
    changes.written.push(Written {
        address: format!("{unit}/{entry}"),
        file,
        before: None,
        after: Some(format!("declared: {}", words.join(", "))),
    });
    changes.written.push(Written {
        address: address.to_string(),
        file: edit.file.clone(),
        before: None,
        after: Some(shown),
    });
    changes.edits.push(edit);
    changes.layers.push(layer);
    changes.declared.insert((unit.clone(), entry.clone()), (format, steps));
    Ok(())
}

fn subject(ledger: &Ledger, unit: &Name, instance: Option<&Name>) -> Option<Subject> {
    let id = ledger.unit_id(unit.as_str())?;
    match instance {
        None => Some(Subject::Unit(id, None)),
        Some(name) => Some(Subject::Unit(id, Some(ledger.unit(id).instance(name.as_str())?))),
    }
}

fn stage_of(ledger: &Ledger, stage: &Name) -> Result<LayerId, CliError> {
    Ok(LayerId::Stage(App::stage(ledger, Some(stage))?.stage))
}

/// The cipher text of a secret that is not declared yet, or the secret where it may stand in plain text.
fn sealed(
    args: &DriftArgs,
    (ledger, keys): (&Ledger, &Keys<'_>),
    address: &Address,
    layer: LayerId,
    text: &str,
) -> Result<String, CliError> {
    let scope = ledger.key_scope(layer);
    if !keys.has_key(&scope) {
        if args.plain_secrets {
            return Ok(literal(&Value::text(&cledger_core::reference::escape(text)), None));
        }
        let message = format!("`{address}` looks like a secret, and `{}` has no key", scope.name());
        let make = format!("make one: cledger key make @{} --write; or add --plain-secrets", scope.name());
        return Err(CliError::refused(message).help(make));
    }
    let bare = Address { stage: None, ..address.clone() }.to_string();
    Ok(literal(&Value::text(&keys.seal(&scope, &bare, text)?), None))
}

/// The plan, with names kept that new variables would not have by themselves.
fn planned(changing: &Changing, changes: &mut Changes) -> Result<Planned, CliError> {
    let planned = changing.plan(&changes.edits)?;
    let mut more = Vec::new();
    for ((unit, entry), (format, steps)) in &changes.declared {
        let Some(id) = planned.after.unit_id(unit.as_str()) else { continue };
        let mut outputs = planned.after.unit(id).outputs.iter().filter(|output| output.format == *format);
        let has_it = outputs
            .any(|output| output.names_as_written(&planned.after, id).iter().any(|(name, _)| name == steps));
        if !has_it {
            let text = literal(&Value::text(&as_text(*format, steps)), None);
            more.push(Edit {
                file: format!("units/{unit}.toml"),
                path: ["variables", entry.as_str(), "as"].map(str::to_owned).into(),
                header: 2,
                what: What::Set(format!("{{ {} = {text} }}", key(format.name()))),
            });
        }
    }
    if more.is_empty() {
        return Ok(planned);
    }
    changes.edits.extend(more);
    changing.plan(&changes.edits)
}
