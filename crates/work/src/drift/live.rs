//! What is there of a field, at all the places that have it.

use cledger_core::address::{Address, Owner};
use cledger_core::drift::{Drifted, FileDrift};
use cledger_core::model::{Ledger, OutputFormat, Subject};
use cledger_core::name::Name;
use cledger_core::source::Place;
use cledger_core::value::Held;

use crate::reality::looked::Looked;
use crate::reality::standing::State;
use crate::trouble::Trouble;

/// A name that has drifted somewhere.
pub(crate) struct Live<'d> {
    /// Of which unit or instance.
    pub(crate) owner: &'d str,
    /// At which outlet.
    pub(crate) outlet: String,
    /// In which format.
    pub(crate) format: OutputFormat,
    /// Where the output of the file stands in the contract, if it is in one.
    pub(crate) output: Option<Place>,
    /// How it has drifted.
    pub(crate) drifted: &'d Drifted,
}

/// Whether a field that has drifted is meant: a shared one, by whatever unit uses it.
pub(crate) fn is_same_field(ledger: &Ledger, drifted: &Address, wanted: &Address) -> bool {
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
pub(crate) fn lives<'d>(looked: &'d [Looked<'_>], address: &Address) -> impl Iterator<Item = Live<'d>> {
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
            let output = look.and_then(|look| look.made.output(path)).map(|output| output.output.place);
            let outlet = outlet.clone();
            names.iter().map(move |drifted| Live {
                owner: &unit.owner,
                outlet: outlet.clone(),
                format,
                output,
                drifted,
            })
        })
    })
}

/// The one value that all places have for a field; `None` if none of them has one.
pub(crate) fn agreed<'d>(
    address: &Address,
    found: &[Live<'d>],
    looked: &[Looked<'_>],
) -> Result<Option<&'d Held>, Trouble> {
    let there = |live: &Live<'d>| live.drifted.there.as_ref();
    let is_same = |one: &Held, other: &Held| one.expose().to_text() == other.expose().to_text();
    let Some(first) = found.first() else {
        let stage = address.stage.as_ref().map(ToString::to_string);
        let mut units = looked.iter().flat_map(|looked| &looked.units);
        let unreached = units.find_map(|unit| unit.reason().filter(|_| Some(&unit.stage) == stage.as_ref()));
        return Err(match unreached {
            Some(reason) => Trouble::outside(format!("nobody can tell what `{address}` is there: {reason}")),
            None => Trouble::usage(format!("`{address}` is there as the ledger says, or not at all"))
                .help("`cledger drift` shows what differs"),
        });
    };
    let differs = |other: &&Live<'d>| match (there(first), there(other)) {
        (Some(one), Some(other)) => !is_same(one, other),
        (one, other) => one.is_some() != other.is_some(),
    };
    if let Some(other) = found.iter().find(differs) {
        let message = format!(
            "`{address}` is not the same everywhere: {} and {} have different values",
            first.outlet, other.outlet
        );
        return Err(
            Trouble::usage(message).help("bring one of them into line first, or set the value yourself")
        );
    }
    Ok(there(first))
}

/// Refuses to take a shared value over that only some of the units have there: the others stand as the
/// ledger says.
pub(crate) fn all_have_it(
    ledger: &Ledger,
    address: &Address,
    found: &[Live<'_>],
    looked: &[Looked<'_>],
) -> Result<(), Trouble> {
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
            return Err(Trouble::usage(message).help(format!("take it for one unit alone: {own}")));
        }
    }
    Ok(())
}
