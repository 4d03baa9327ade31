//! Patterns on the command line: one that covers nothing is a mistake.

use cledger_core::address::{Address, Owner, Pattern};
use cledger_core::model::{Bundle, Idle, Ledger};
use cledger_core::name::nearest;

use crate::trouble::Trouble;

/// The patterns that somebody means, each of which covers something of the ledger: of a bundle, those of its units.
pub(crate) fn meant(ledger: &Ledger, texts: &[String]) -> Result<Vec<Pattern>, Trouble> {
    let mut all = Vec::new();
    for text in texts {
        if let Some(named) = text.strip_prefix(Bundle::WORD) {
            all.extend(of_bundle(ledger, named)?);
        } else {
            let pattern = Pattern::parse(text)?;
            refuse_idle(ledger, &pattern)?;
            all.push(pattern);
        }
    }
    Ok(all)
}

/// The patterns of the units of a bundle, as `NAME[@STAGE]`, that cover something.
fn of_bundle(ledger: &Ledger, named: &str) -> Result<Vec<Pattern>, Trouble> {
    let (name, stage) = named.split_once('@').map_or((named, None), |(name, stage)| (name, Some(stage)));
    let bundle = known_bundle(ledger, name)?;
    if let Some(stage) = stage {
        let alone = Pattern::parse(&format!("@{stage}"))?;
        refuse_idle(ledger, &alone)?;
    }
    let stage = stage.map(|stage| format!("@{stage}")).unwrap_or_default();
    let patterns = bundle.units.iter().map(|units| Pattern::parse(&format!("{units}{stage}")));
    let mut patterns = patterns.collect::<Result<Vec<_>, _>>()?;
    patterns.retain(|pattern| ledger.idle(pattern).is_none());
    if patterns.is_empty() {
        return Err(Trouble::usage(format!("`{}{named}` has no unit that belongs there", Bundle::WORD))
            .help(
                "`cledger list bundles` shows the units of each, `cledger list units` where these belong",
            ));
    }
    Ok(patterns)
}

/// The bundle of this name.
pub(crate) fn known_bundle<'l>(ledger: &'l Ledger, name: &str) -> Result<&'l Bundle, Trouble> {
    ledger.bundle(name).ok_or_else(|| {
        let names = ledger.bundles.iter().map(|bundle| bundle.name.as_str());
        let help = match nearest(name, names) {
            Some(near) => format!("did you mean `{}{near}`?", Bundle::WORD),
            None => "`cledger list bundles` shows those that there are".to_owned(),
        };
        Trouble::usage(format!("there is no bundle `{name}`")).help(help)
    })
}

/// Refuses a pattern that covers nothing of the ledger.
pub(crate) fn refuse_idle(ledger: &Ledger, pattern: &Pattern) -> Result<(), Trouble> {
    let Some(idle) = ledger.idle(pattern) else { return Ok(()) };
    let address = Address::parse(&pattern.to_string()).ok();
    let owner = address.as_ref().and_then(|address| address.owner.as_ref());
    let names = ledger.names_for(idle, owner);
    let (what, written, list) = match idle {
        Idle::Stages => {
            ("no stage and no group", address.as_ref().and_then(|it| it.stage.as_ref()), "stages")
        }
        Idle::Owners => {
            let unit = owner.map(|owner| owner.names().0);
            let near = unit.and_then(|unit| nearest(unit, names.iter().map(String::as_str)));
            return Err(refusal(pattern, "no unit", near, "units"));
        }
        Idle::Fields => ("no field", address.as_ref().and_then(|it| it.entry.as_ref()), "units"),
        Idle::Belonging => {
            let message = format!("`{pattern}` covers no unit in a stage where it belongs");
            return Err(Trouble::usage(message).help("`cledger list units` shows where each belongs"));
        }
    };
    if let (Idle::Fields, Some(Owner::Unit(unit, _))) = (idle, owner) {
        let near = written.and_then(|name| nearest(name.as_str(), names.iter().map(String::as_str)));
        let help = near.map_or_else(
            || format!("`cledger show {unit}` lists its entries"),
            |near| format!("the nearest name is `{near}`"),
        );
        return Err(Trouble::usage(format!("`{pattern}` covers no field of the ledger")).help(help));
    }
    let near = written.and_then(|name| nearest(name.as_str(), names.iter().map(String::as_str)));
    Err(refusal(pattern, what, near, list))
}

fn refusal(pattern: &Pattern, what: &str, near: Option<&str>, list: &str) -> Trouble {
    let help = near.map_or_else(
        || format!("`cledger list {list}` shows the names"),
        |near| format!("the nearest name is `{near}`"),
    );
    Trouble::usage(format!("`{pattern}` covers {what} of the ledger")).help(help)
}
