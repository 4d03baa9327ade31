//! Values that the other side assigns, fetched and written into the ledger.

use cledger_core::address::Pattern;
use cledger_core::model::{LayerId, Note};

use crate::change::{Changing, Consent, NO_CHANGE};
use crate::reality::around::Around;
use crate::reality::lookups::{self, Lookup};
use crate::setting::{Given, Setter, write};
use crate::trouble::{Kind, Trouble};

/// What was looked up.
#[derive(Debug)]
pub struct LookedUp<'l> {
    /// One for each setting.
    pub lookups: Vec<Lookup<'l>>,
    /// Whether what is found is written.
    pub written: bool,
}

impl LookedUp<'_> {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let all_known = self.lookups.iter().all(|lookup| lookup.is_same().is_ok());
        (!all_known).then_some(Kind::Outside)
    }
}

/// Looks up the values of all settings that say where, as far as these patterns cover them, and writes them.
pub fn look_up<'l>(
    changing: &'l Changing,
    patterns: &[Pattern],
    plain_secrets: bool,
    consent: &Consent,
    write_it: bool,
) -> Result<LookedUp<'l>, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let around = Around::of(opened);
    let telling = &*opened.at.telling;
    let lookups = lookups::look_up(patterns, ledger, &opened.surroundings, &around, telling)?;
    if lookups.is_empty() {
        let texts: Vec<String> = patterns.iter().map(ToString::to_string).collect();
        let message = format!("no setting of {} says where it is looked up", texts.join(", "));
        return Err(Trouble::usage(message).help("say so: cledger set ADDRESS --absent --looked-up PLACE"));
    }
    let keys = changing.keys(&NO_CHANGE);
    let setter = Setter { ledger, keys: &keys, plain_secrets };
    let (mut edits, mut layers): (Vec<_>, Vec<LayerId>) = (Vec::new(), Vec::new());
    for lookup in lookups.iter().filter(|lookup| lookup.is_same() == Ok(false)) {
        let Ok(found) = &lookup.found else { continue };
        let before = ledger.setting_at(lookup.layer, lookup.field.subject, lookup.field.slot);
        let said = setter.said(&lookup.field, Given::System(found), before)?;
        let note = Note { why: consent.why.clone(), ..Note::default() };
        let (edit, _) = write(ledger, &lookup.field, lookup.layer, &said, &note);
        edits.extend(edit);
        layers.push(lookup.layer);
    }
    if write_it && !edits.is_empty() {
        let planned = changing.plan(&edits)?;
        changing.guard(&layers, &planned, consent)?;
        changing.write(&planned)?;
    }
    Ok(LookedUp { lookups, written: write_it })
}
