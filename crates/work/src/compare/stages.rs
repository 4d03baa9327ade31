//! Two stages, or one unit in two stages, as the ledger has them.

use cledger_core::address::Address;
use cledger_core::compare::{self, SubjectCompared};
use cledger_core::let_go::let_go;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;

use crate::meant::{known_stage, unit_of};
use crate::opened::Opened;
use crate::trouble::{Kind, Trouble};
use crate::whole_units::WholeUnits;

/// How two stages stand to each other.
#[derive(Debug)]
pub struct ComparedStages<'l> {
    /// What the first side is called.
    pub left: String,
    /// What the second side is called.
    pub right: String,
    /// One for each unit and instance, and one for what is shared.
    pub subjects: Vec<SubjectCompared<'l>>,
}

impl Drop for ComparedStages<'_> {
    fn drop(&mut self) {
        let_go(std::mem::take(&mut self.subjects));
    }
}

impl ComparedStages<'_> {
    /// What kind of trouble there is: differences that are not meant.
    pub fn kind(&self) -> Option<Kind> {
        let is_unmeant = |subject: &SubjectCompared<'_>| match subject {
            SubjectCompared::Both(_, fields) => fields.iter().any(compare::Compared::is_unmeant),
            SubjectCompared::OnlyLeft(_) | SubjectCompared::OnlyRight(_) => false,
        };
        self.subjects.iter().any(is_unmeant).then_some(Kind::Found)
    }
}

/// Compares two stages, or one unit in two stages; the unit is that of the first where the second names none.
pub fn stages<'l>(
    opened: &Opened,
    resolver: &Resolver<'l>,
    left: &Address,
    right: &Address,
) -> Result<ComparedStages<'l>, Trouble> {
    let ledger = resolver.ledger();
    let right_owner = right.owner.as_ref().or(left.owner.as_ref());
    let (left_stage, right_stage) = (stage_name(left)?, stage_name(right)?);
    let ids = (known_stage(ledger, left_stage.as_str())?, known_stage(ledger, right_stage.as_str())?);
    let subjects = match (&left.owner, right_owner) {
        (None, None) => {
            for stage in [ids.0, ids.1] {
                opened.subjects_in([], stage)?;
            }
            compare::stages(resolver, ids, &|_| true)
        }
        (Some(one), Some(other)) => {
            let subjects = (opened.subject_in(one, ids.0)?, opened.subject_in(other, ids.1)?);
            if unit_of(subjects.0) != unit_of(subjects.1) {
                let message =
                    format!("`{one}` and `{other}` are different units, whose entries do not correspond");
                return Err(Trouble::usage(message)
                    .help(format!("compare one unit in two stages: {one}@{left_stage} @{right_stage}")));
            }
            let mut session = resolver.session(unit_of(subjects.0));
            let fields = compare::fields(&mut session, (subjects.0, ids.0), (subjects.1, ids.1));
            vec![SubjectCompared::Both(subjects.0, fields)]
        }
        _ => {
            let message = format!("`{left}` is a whole stage, and `{right}` is not");
            return Err(Trouble::usage(message).help("name the unit on the left side, or on neither"));
        }
    };
    let (left, right) = if left_stage == right_stage {
        let right = Address { owner: right_owner.cloned(), ..right.clone() };
        (left.to_string(), right.to_string())
    } else {
        (left_stage.to_string(), right_stage.to_string())
    };
    Ok(ComparedStages { left, right, subjects })
}

/// Compares some units of one stage with the same ones of another.
pub fn units<'l>(
    opened: &Opened,
    resolver: &Resolver<'l>,
    left: &WholeUnits,
    right: &Address,
) -> Result<ComparedStages<'l>, Trouble> {
    let ledger = resolver.ledger();
    if right.owner.is_some() {
        return Err(Trouble::usage(format!(
            "`{right}` names a unit, and the units are those of the first side"
        ))
        .help("write @STAGE"));
    }
    let right_stage = stage_name(right)?;
    let Some(left_stage) = left.stage.clone() else {
        return Err(
            Trouble::usage("the first side names no stage").help(format!("write it with @STAGE, as {right}"))
        );
    };
    let ids = (known_stage(ledger, left_stage.as_str())?, known_stage(ledger, right_stage.as_str())?);
    // They need belong to one of the two stages only: the other lacks them then.
    let found = [ids.0, ids.1].map(|stage| opened.whole_units(left, stage));
    if let [Err(trouble), Err(_)] = found {
        return Err(trouble);
    }
    let is_meant = |subject| left.has(opened, &ledger.owner(subject));
    let subjects = compare::stages(resolver, ids, &is_meant);
    Ok(ComparedStages { left: left_stage.to_string(), right: right_stage.to_string(), subjects })
}

fn stage_name(address: &Address) -> Result<Name, Trouble> {
    address.stage.clone().ok_or_else(|| {
        Trouble::usage(format!("`{address}` names no stage")).help(format!("write {address}@STAGE"))
    })
}
