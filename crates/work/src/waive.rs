//! Accepting a finding or drift for a while, with a reason.

use cledger_core::address::Pattern;
use cledger_core::findings;
use cledger_core::model::{LayerId, StageId, Waiver};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::value::Value;
use cledger_store::{Changed, Edit, Item, ListedWhat, Tree as _, WAIVERS, What, append, literal};

use crate::change::{Changing, Consent, NO_CHANGE};
use crate::covering::refuse_idle;
use crate::trouble::Trouble;

/// What is to be accepted.
#[derive(Debug, Clone)]
pub struct ToWaive {
    /// What it is about, as a pattern of addresses.
    pub address: String,
    /// The code of the finding, or `drift`.
    pub code: String,
    /// Why it is accepted.
    pub why: String,
    /// The last day on which it is.
    pub until: String,
    /// Who agreed; whoever works here if not given.
    pub by: Option<String>,
    /// The production stages that are meant, by their names.
    pub countersign: Vec<Name>,
    /// Whether it is done, and not only shown.
    pub write: bool,
}

/// A waiver that is taken out.
#[derive(Debug)]
pub struct Unwaived {
    /// What it was about.
    pub address: String,
    /// The code.
    pub code: String,
    /// How many findings of today are told again without it: what another waiver covers too is not.
    pub count: usize,
    /// Whether it is done.
    pub written: bool,
}

/// What was accepted.
#[derive(Debug)]
pub struct Waived {
    /// What it is about.
    pub address: String,
    /// The code.
    pub code: String,
    /// The last day.
    pub until: String,
    /// How many findings of today it covers.
    pub count: usize,
    /// Whether it is done.
    pub written: bool,
}

/// Accepts findings for a while: shows which ones of today, and writes the waiver if that is asked for.
pub fn waive(changing: &Changing, asked: &ToWaive) -> Result<Waived, Trouble> {
    let at = &changing.opened.at;
    let pattern = Pattern::parse(&asked.address)?;
    let (until, today) = (at.day(Some(&asked.until))?, at.today()?);
    if until < today {
        let message = format!("{until} is over, so that the waiver would never count");
        return Err(Trouble::usage(message).help("give it a last day from today on"));
    }
    if asked.why.trim().is_empty() {
        return Err(Trouble::usage("a waiver says why").help("write --why TEXT"));
    }
    let quoted = |text: &str| literal(&Value::text(text), None);
    let mut block = format!(
        "[[waiver]]\ncode = {}\naddress = {}\nwhy = {}\nuntil = {until}\n",
        quoted(&asked.code),
        quoted(&pattern.to_string()),
        quoted(&asked.why)
    );
    if let Some(by) = asked.by.as_ref().or(at.who.as_ref()) {
        block.push_str(&format!("by = {}\n", quoted(by)));
    }
    let before = changing.disk().text(WAIVERS);
    let before = before.map_err(|error| Trouble::usage(format!("`{WAIVERS}`: {error}")))?;
    let changed = Changed::from([(WAIVERS.to_owned(), Some(append(before.as_deref(), &block)))]);
    let planned = changing.plan_texts(changed)?;
    let outside = changing.outside(&NO_CHANGE);
    let report = findings::check(&Resolver::new(&planned.after, &outside, &[]), &[], Some(today));
    let last = planned.after.waivers.len().saturating_sub(1);
    let count = report.waived.iter().filter(|(_, by)| *by == last).count();
    // A finding can stand where a unit does not belong, and be accepted there.
    if count == 0 {
        refuse_idle(changing.ledger(), &pattern)?;
    }
    // What is accepted in a stage is changed there, whether it is found by now or not.
    let covered = |stage: &StageId| pattern.covers_stage(changing.ledger().stage(*stage).name.as_str());
    let layers: Vec<LayerId> = changing.ledger().stage_ids().filter(covered).map(LayerId::Stage).collect();
    let consent = Consent { countersign: asked.countersign.clone(), why: Some(asked.why.clone()) };
    if asked.write {
        changing.guard(&layers, &planned, &consent)?;
        changing.write(&planned)?;
    } else {
        changing.tell_needs(&layers, &[], &planned.effects, &consent)?;
    }
    let (address, code) = (asked.address.clone(), asked.code.clone());
    Ok(Waived { address, code, until: until.to_string(), count, written: asked.write })
}

/// Takes a waiver out, by the address and the code that it is written with.
pub fn unwaive(changing: &Changing, address: &str, code: &str, write: bool) -> Result<Unwaived, Trouble> {
    let (ledger, today) = (changing.ledger(), changing.opened.at.today()?);
    let is_it = |waiver: &Waiver| waiver.pattern.to_string() == address && waiver.what.name() == code;
    if !ledger.waivers.iter().any(is_it) {
        let message = format!("no waiver of `{code}` is written for `{address}`");
        return Err(Trouble::usage(message).help(format!("{WAIVERS} has the addresses as they are written")));
    }
    let has = vec![("address", Value::text(address)), ("code", Value::text(code))];
    let item = Item { list: vec!["waiver".to_owned()], has };
    let planned = changing.plan(&[Edit {
        file: WAIVERS.to_owned(),
        path: Vec::new(),
        header: 0,
        what: What::Listed(vec![item], ListedWhat::Remove),
    }])?;
    if planned.after.waivers.len() + 1 != ledger.waivers.len() {
        let message = format!("the waiver cannot be found in the text of `{WAIVERS}`");
        return Err(
            Trouble::usage(message).help("nothing is changed; `cledger check` says how the file reads")
        );
    }
    let outside = changing.outside(&NO_CHANGE);
    let covered =
        |ledger| findings::check(&Resolver::new(ledger, &outside, &[]), &[], Some(today)).waived.len();
    let count = covered(ledger).saturating_sub(covered(&planned.after));
    if write {
        changing.write(&planned)?;
    }
    Ok(Unwaived { address: address.to_owned(), code: code.to_owned(), count, written: write })
}
