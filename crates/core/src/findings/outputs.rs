//! `name-clash`: two fields with one name in an output, or two outputs with one path. `not-adopted`: what an original
//! held and no field does.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called};
use crate::model::{
    Declaration, Ledger, NoLabel, NotAdopted, Output, Slot, StageId, StageText, Subject, UnitId,
};
use crate::output::{self, OutputName};
use crate::source::Place;

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let unit = ledger.unit(id);
    if !bounds.covers_owner(unit.name.as_str(), None) {
        return;
    }
    for (at, one) in unit.outputs.iter().enumerate() {
        for left_out in &one.not_adopted {
            let finding = not_adopted(ledger, id, one, left_out);
            let severity = bounds.counts(&finding);
            checking
                .standing
                .stages
                .iter_mut()
                .filter(|here| here.belongs)
                .for_each(|here| here.count(severity));
            checking.findings.push(finding);
        }
        // Manifests may stand in one file, each under its own kind and name.
        let is_other = |other: &Output| {
            other.format.is_manifest()
                && one.format.is_manifest()
                && (other.format, &other.manifest_name) != (one.format, &one.manifest_name)
        };
        let clashes = |other: &Output| other.path == one.path && other.meets(one) && !is_other(other);
        if unit.outputs[..at].iter().any(clashes) {
            let message = format!("two outputs have the path `{}`", one.path);
            checking.findings.push(of_output(
                ledger,
                id,
                one.place,
                message,
                "give one of them another path, or other stages",
            ));
        }
        // Outputs that name and choose fields alike clash alike; one table alone has nothing to clash with.
        let alike = |other: &Output| {
            (other.format, other.naming, &other.prefix) == (one.format, one.naming, &one.prefix)
                && (&other.only, &other.except) == (&one.only, &one.except)
        };
        if one.table.is_none() && !unit.outputs[..at].iter().any(alike) {
            let names = one.names_as_written(ledger, id);
            checking.findings.extend(output::clash(&names).map(|clash| of_names(ledger, id, one, clash)));
        }
        for (stage, finding) in of_stages(ledger, id, one) {
            if bounds.covers_stage(stage) {
                checking.standing.stages[usize::from(stage.0)].count(bounds.counts(&finding));
                checking.findings.push(finding);
            }
        }
    }
}

/// What nobody has placed yet of a file that was taken over: the file is not written without it.
fn not_adopted(ledger: &Ledger, id: UnitId, output: &Output, left_out: &NotAdopted) -> Finding {
    let NotAdopted { name, at, why, place } = left_out;
    let message = format!(
        "`{name}` stood in {at} and has no place in the ledger, so `{}` would lack it: {why}",
        output.path
    );
    let help = "declare what it says, or do without it, and take it out of `not_adopted`";
    Finding { code: Code::NotAdopted, ..of_output(ledger, id, *place, message, help) }
}

fn of_names(
    ledger: &Ledger,
    id: UnitId,
    output: &Output,
    (name, first, second): (&OutputName, Slot, Slot),
) -> Finding {
    let field = |slot| ledger.field(Subject::Unit(id, None), slot);
    let ((entry, one_field), (other_entry, other_field)) = (field(first), field(second));
    let message = format!(
        "{} and {} are both called `{}` in `{}`",
        called(entry, one_field),
        called(other_entry, other_field),
        name.join("."),
        output.path
    );
    of_output(ledger, id, other_field.place, message, "give one of them another name with `as`")
}

/// What is wrong with names that refer to the stage, in each stage where the unit belongs.
fn of_stages(ledger: &Ledger, id: UnitId, output: &Output) -> Vec<(StageId, Finding)> {
    let mut findings = Vec::new();
    let subject = Subject::Unit(id, None);
    let is_here = |&stage: &StageId| ledger.unit(id).belongs_to(stage, None) && output.is_in(stage);
    let stages = || ledger.stage_ids().filter(is_here);
    if output.varies() {
        for stage in stages() {
            match output.path.expand(ledger, subject, stage) {
                Ok(path) => {
                    if let Some(fault) = output::path_fault(&path) {
                        let name = &ledger.stage(stage).name;
                        let message = format!("in `{name}` this path would be `{path}`: {fault}");
                        let help = "give the stage another label, or the output another path";
                        findings.push((stage, of_output(ledger, id, output.place, message, help)));
                    }
                }
                Err(missing) => findings.push((stage, no_label(ledger, id, output, stage, &missing))),
            }
        }
    }
    let own = ledger.slots(subject).all().map(|slot| ledger.field(subject, slot).1);
    let varies = |field: &Declaration| field.output_names().vary();
    if output.prefix.as_ref().is_some_and(StageText::varies) || own.into_iter().any(varies) {
        let missing =
            stages().filter_map(|stage| Some((stage, output.names_in(ledger, subject, stage).err()?)));
        findings
            .extend(missing.map(|(stage, missing)| (stage, no_label(ledger, id, output, stage, &missing))));
    }
    findings
}

/// The finding that a name of an output, or its path, has no value in a stage.
pub(crate) fn no_label(
    ledger: &Ledger,
    id: UnitId,
    output: &Output,
    stage: StageId,
    missing: &NoLabel,
) -> Finding {
    let name = &ledger.stage(stage).name;
    let message = format!("in `{name}`, {missing}, and `{}` or a name in it refers to it", output.path);
    let help = format!("give `{name}` the label in ledger.toml: labels = {{ {} = \"…\" }}", missing.0);
    Finding {
        code: Code::ReferenceUnknown,
        stage: Some(name.to_string()),
        ..of_output(ledger, id, output.place, message, &help)
    }
}

fn of_output(ledger: &Ledger, id: UnitId, place: Place, message: String, help: &str) -> Finding {
    let unit = ledger.unit(id);
    Finding {
        code: Code::NameClash,
        severity: Severity::Error,
        address: unit.name.to_string(),
        subject: unit.name.to_string(),
        stage: None,
        unit: Some(id),
        message,
        place: Some(place),
        hides_value: false,
        help: help.to_owned(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
