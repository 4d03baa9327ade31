//! One unit while it is checked.

use super::bounds::Bounds;
use super::finding::Finding;
use super::standing::UnitStanding;
use crate::model::{Ledger, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver, Session};

/// A unit that every family of findings looks at, and what they have found so far.
pub(super) struct Checking<'c, 'r, 'l> {
    pub(super) bounds: &'c Bounds<'c>,
    pub(super) session: &'c mut Session<'r, 'l>,
    pub(super) unit: UnitId,
    pub(super) standing: UnitStanding,
    pub(super) findings: Vec<Finding>,
}

impl<'c, 'r, 'l> Checking<'c, 'r, 'l> {
    /// A unit of which nothing is found yet.
    pub(super) fn new(bounds: &'c Bounds<'c>, session: &'c mut Session<'r, 'l>, unit: UnitId) -> Self {
        session.move_to(unit);
        let standing = UnitStanding::new(session.ledger(), unit);
        Self { bounds, session, unit, standing, findings: Vec::new() }
    }

    /// The ledger.
    pub(super) fn ledger(&self) -> &'l Ledger {
        self.session.ledger()
    }

    /// The resolver.
    pub(super) fn resolver(&self) -> &'r Resolver<'l> {
        self.session.resolver
    }

    /// Takes a finding about a field in: it counts in the stage of the field, and is told where that field is
    /// asked for.
    pub(super) fn tell(&mut self, field: FieldId, mut finding: Finding) {
        let ledger = self.ledger();
        finding.needed_by.extend(finding.unit.is_none().then_some(self.unit));
        self.standing.stages[usize::from(field.stage.0)].count(self.bounds.counts(&finding));
        let (entry, declaration) = ledger.field(field.subject, field.slot);
        let name = declaration.name.as_ref().map(Name::as_str);
        if self.bounds.covers(&ledger.owner(field.subject), entry.name.as_str(), name) {
            self.findings.push(finding);
        }
    }
}
