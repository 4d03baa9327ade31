//! Units that are meant as wholes, in one stage: named, covered by patterns, of a bundle, or all that belong there.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Delivery, Owner, Pattern};
use cledger_core::model::{Bundle, StageId, Subject};
use cledger_core::name::Name;

use crate::covering::known_bundle;
use crate::meant::refuse_entry;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// Which units are meant.
#[derive(Debug, Clone, PartialEq)]
pub enum Units {
    /// A unit or an instance.
    Named(Owner),
    /// Those that a pattern covers.
    Covered(Pattern),
    /// Those of a bundle.
    Bundle(Name),
}

/// Units that are meant as wholes, in one stage.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct WholeUnits {
    /// Which; all that belong to the stage if there is none.
    pub units: Vec<Units>,
    /// The stage, where one is named.
    pub stage: Option<Name>,
    /// The delivery, where one is named: of one unit or bundle.
    pub delivery: Option<Delivery>,
}

impl WholeUnits {
    /// What these texts name: `UNIT[+INSTANCE]@STAGE`, patterns of units, `bundle:NAME@STAGE`, or `@STAGE` alone. The stage
    /// need be named once; `done` is what is done with units: delivered, withdrawn.
    pub fn parse(texts: &[String], stage: Option<&Name>, done: &str) -> Result<Self, Trouble> {
        let mut all = Self { stage: stage.cloned(), ..Self::default() };
        for text in texts {
            let (units, address) = one(text, done)?;
            if let (Some(named), Some(other)) = (&address.stage, &all.stage)
                && named != other
            {
                return Err(two_stages(named, other, done));
            }
            all.stage = address.stage.or(all.stage);
            all.delivery = address.delivery.or(all.delivery);
            match units {
                Some(units) => all.units.push(units),
                None if texts.len() > 1 => {
                    return Err(Trouble::usage(format!("`{text}` means all units of the stage already"))
                        .help("name it alone, or units of it"));
                }
                None => {}
            }
        }
        if all.delivery.is_some() && texts.len() > 1 {
            return Err(Trouble::usage("a number is that of one unit or bundle").help("name it alone"));
        }
        Ok(all)
    }

    /// One unit in a stage.
    pub fn of(owner: Owner, stage: Option<&Name>) -> Self {
        Self { units: vec![Units::Named(owner)], stage: stage.cloned(), delivery: None }
    }

    /// The same, with no delivery named.
    pub fn without_delivery(self) -> Result<Self, Trouble> {
        match self.delivery {
            None => Ok(self),
            Some(_) => Err(Trouble::usage("the number of a delivery means nothing here")
                .help("leave out what begins with `:`")),
        }
    }

    /// The bundle that is meant, and nothing else.
    pub fn bundle(&self) -> Option<&Name> {
        match &self.units[..] {
            [Units::Bundle(name)] => Some(name),
            _ => None,
        }
    }

    /// The unit or instance that is meant, and nothing else.
    pub fn only_one(&self) -> Option<&Owner> {
        match &self.units[..] {
            [Units::Named(owner)] => Some(owner),
            _ => None,
        }
    }

    /// Whether all units of the stage are meant.
    pub fn is_all(&self) -> bool {
        self.units.is_empty()
    }

    /// Whether a unit or instance of the ledger is meant.
    pub(crate) fn has(&self, opened: &Opened, owner: &Owner) -> bool {
        let (unit, instance) = owner.names();
        self.is_all()
            || self.units.iter().any(|units| match units {
                Units::Named(named) => named == owner,
                Units::Covered(pattern) => pattern.covers_owner(unit, instance),
                Units::Bundle(name) => {
                    opened.ledger.bundle(name.as_str()).is_some_and(|bundle| bundle.has(owner))
                }
            })
    }

    /// Refuses a bundle beside other units, or several: what is done with one has a number of its own.
    pub(crate) fn refuse_mixed_bundle(&self, done: &str) -> Result<(), Trouble> {
        let bundle = self.units.iter().find_map(|units| match units {
            Units::Bundle(name) => Some(name),
            _ => None,
        });
        match bundle {
            Some(name) if self.units.len() > 1 => Err(Trouble::usage(format!(
                "a bundle is {done} by itself, and `{}{name}` stands beside others",
                Bundle::WORD
            ))
            .help("name it alone")),
            _ => Ok(()),
        }
    }
}

fn two_stages(one: &Name, other: &Name, done: &str) -> Trouble {
    Trouble::usage(format!(
        "both `{other}` and `{one}` are named, and units are {done} in one stage at a time"
    ))
    .help("name one stage")
}

/// Which units a text means, none for all, and the rest of its address.
fn one(text: &str, done: &str) -> Result<(Option<Units>, Address), Trouble> {
    if let Some(named) = text.strip_prefix(Bundle::WORD) {
        let at = named.find('@').unwrap_or(named.len());
        let name = Name::parse(&named[..at]).map_err(|error| {
            Trouble::usage(format!("`{text}` names no bundle: {error}")).help("write bundle:NAME@STAGE")
        })?;
        let rest =
            if at < named.len() { Address::parse(&named[at..])? } else { Address::of_owner(None, None) };
        return Ok((Some(Units::Bundle(name)), rest));
    }
    let (units, stage) = text.split_at(text.find('@').unwrap_or(text.len()));
    if units.contains(['*', '?']) {
        let pattern = Pattern::parse(units)?;
        if pattern.has_entry() {
            let message = format!("`{text}` covers entries, and whole units are {done}");
            return Err(Trouble::usage(message).help("leave out what begins with `/`"));
        }
        let rest = if stage.is_empty() { Address::of_owner(None, None) } else { Address::parse(stage)? };
        return Ok((Some(Units::Covered(pattern)), rest));
    }
    let mut address = Address::parse(text)?;
    refuse_entry(&address, done)?;
    Ok((address.owner.take().map(Units::Named), address))
}

impl Opened {
    /// The units and instances that are meant, each once, in the order in which they are named. Each must belong to the
    /// stage if it is named; of what covers several, those that do.
    pub fn whole_units(&self, named: &WholeUnits, stage: StageId) -> Result<Vec<Subject>, Trouble> {
        if named.is_all() {
            return self.subjects_in([], stage);
        }
        let (mut found, mut seen) = (Vec::new(), BTreeSet::new());
        for units in &named.units {
            let subjects = match units {
                Units::Named(owner) => vec![self.subject_in(owner, stage)?],
                Units::Covered(pattern) => self.covered(pattern, stage)?,
                Units::Bundle(name) => self.members(name, stage)?,
            };
            found.extend(subjects.into_iter().filter(|&subject| seen.insert(subject)));
        }
        Ok(found)
    }

    /// The units and instances of a stage that a pattern covers.
    fn covered(&self, pattern: &Pattern, stage: StageId) -> Result<Vec<Subject>, Trouble> {
        let name = &self.ledger.stage(stage).name;
        self.refuse_broken(Some(format!("`{pattern}@{name}`")), self.ledger.broken_in(stage))?;
        let is_covered = |&subject: &Subject| {
            let owner = self.ledger.owner(subject);
            let (unit, instance) = owner.names();
            pattern.covers_owner(unit, instance)
        };
        let subjects: Vec<Subject> = self.ledger.subjects_in(stage).filter(is_covered).collect();
        if subjects.is_empty() {
            return Err(Trouble::usage(format!("`{pattern}` covers no unit that belongs to stage `{name}`"))
                .help("`cledger list units` shows where each belongs"));
        }
        Ok(subjects)
    }

    /// The units and instances of a bundle that belong to a stage.
    fn members(&self, name: &Name, stage: StageId) -> Result<Vec<Subject>, Trouble> {
        let ledger = &self.ledger;
        let bundle = known_bundle(ledger, name.as_str())?;
        let stage_name = &ledger.stage(stage).name;
        // Whether a unit that cannot be read is one of them shows only when it can be.
        self.refuse_broken(Some(format!("`{}{name}@{stage_name}`", Bundle::WORD)), ledger.broken_in(stage))?;
        let members = ledger.members(bundle, stage);
        if members.is_empty() {
            let message = format!("no unit of bundle `{name}` belongs to stage `{stage_name}`");
            return Err(Trouble::usage(message).help("`cledger list bundles` shows its units"));
        }
        Ok(members)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parsed(texts: &[&str]) -> Result<WholeUnits, Trouble> {
        let texts: Vec<String> = texts.iter().map(|&text| text.to_owned()).collect();
        WholeUnits::parse(&texts, None, "delivered")
    }

    #[test]
    fn units_patterns_and_bundles_are_told_apart() {
        let name = |text: &str| Name::parse(text).unwrap();
        let all = parsed(&["desk+kiosk", "ga*e@test", "bundle:quay@test"]).unwrap();
        let expected = [
            Units::Named(Owner::Unit(name("desk"), Some(name("kiosk")))),
            Units::Covered(Pattern::parse("ga*e").unwrap()),
            Units::Bundle(name("quay")),
        ];
        assert_eq!((&all.units[..], all.stage), (&expected[..], Some(name("test"))));
        assert!(parsed(&["@test"]).unwrap().is_all());
        assert_eq!(parsed(&["bundle:quay@test:3"]).unwrap().delivery, Some(Delivery::Number(3)));
        // A unit may be called so.
        assert_eq!(parsed(&["bundle@test"]).unwrap().units.len(), 1);
    }

    #[test]
    fn what_means_no_units_of_one_stage_is_refused() {
        for (texts, wrong) in [
            (&["desk@test", "gate@dev"][..], "one stage at a time"),
            (&["desk/hold@test"], "names an entry"),
            (&["d*/hold@test"], "covers entries"),
            (&["desk", "@test"], "means all units"),
            (&["desk@test:3", "gate"], "of one unit"),
            (&["bundle:Quay@test"], "names no bundle"),
            (&["bundle:quay/hold@test"], "names no bundle"),
            (&["*@prod-*"], "not a pattern"),
        ] {
            let error = parsed(texts).unwrap_err().to_string();
            assert!(error.contains(wrong), "{texts:?}: {error}");
        }
    }
}
