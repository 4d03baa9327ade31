//! Accepting a finding or drift for a while, with a reason.

use cledger_core::address::Pattern;
use cledger_core::findings;
use cledger_core::resolve::Resolver;
use cledger_core::value::Value;
use cledger_store::{Changed, Tree as _, WAIVERS, append, literal};

use crate::change::{Changing, NO_CHANGE};
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
    /// How many findings it covers now.
    pub count: usize,
}

/// Writes a waiver.
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
    let report = findings::check(&Resolver::new(&planned.after, &outside, &[]), None, Some(today));
    let last = planned.after.waivers.len().saturating_sub(1);
    let count = report.waived.iter().filter(|(_, by)| *by == last).count();
    changing.write(&planned)?;
    let (address, code) = (asked.address.clone(), asked.code.clone());
    Ok(Waived { address, code, until: until.to_string(), count })
}
