//! `missing-value`: a field that needs a value and has none.

use super::code::Code;
use super::finding::{Finding, called};
use crate::model::{Class, Declaration, LayerId, Ledger, Subject, Vary};
use crate::resolve::{Because, FieldId, Origin, Outcome, Session};
use crate::types::Type;

/// The most fields between one without a value and the first cause that a message names.
const MOST_STEPS: usize = 60;

pub(super) fn finding(
    ledger: &Ledger,
    session: &mut Session<'_, '_>,
    field: FieldId,
    whose: FieldId,
    because: &Because,
    origin: Option<Origin>,
) -> Finding {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let called = called(entry, declaration);
    let stage = &ledger.stage(field.stage).name;
    let message = match because {
        Because::NothingSet if declaration.vary == Vary::Must => {
            format!("{called} has no value in `{stage}`: each stage must state its own")
        }
        Because::NothingSet => format!("{called} has no value in `{stage}`"),
        Because::MustBeStated => format!(
            "{called} has no value in `{stage}`: each stage must state its own, and no default or followed one counts"
        ),
        Because::NotFound(reason) => format!("{called} has no value in `{stage}`: {reason}"),
        Because::NeedsMissing(next) => {
            format!("{called} has no value in `{stage}`: {}", needs(ledger, session, *next))
        }
    };
    let mut finding = Finding::of_field(ledger, field, whose, Code::MissingValue, message);
    finding.place = origin.and_then(|origin| origin.place).or(Some(declaration.place));
    if let Because::NeedsMissing(next) = because {
        finding.because_of = Some(ledger.address(*next).to_string());
    }
    finding.help = match because {
        Because::NeedsMissing(next) => {
            format!("give {} a value, or write another one here", ledger.address(*next))
        }
        Because::NotFound(_) => "put it there, or write the value another way".to_owned(),
        Because::NothingSet | Because::MustBeStated => remedy(ledger, whose),
    };
    finding
}

/// The way from a field without a value to the first cause.
fn needs(ledger: &Ledger, session: &mut Session<'_, '_>, first: FieldId) -> String {
    let mut steps = Vec::new();
    let mut next = Some(first);
    while let Some(field) = next {
        if steps.len() == MOST_STEPS {
            steps.push("…".to_owned());
            break;
        }
        steps.push(ledger.address(field).to_string());
        next = match session.outcome(field) {
            Outcome::Missing(Because::NeedsMissing(next), _) => Some(next),
            _ => None,
        };
    }
    let why = match session.outcome(first) {
        Outcome::Absent(_) => "which is absent on purpose",
        Outcome::Broken(_) => "which has a problem of its own",
        _ => "which has no value",
    };
    if let [only] = &steps[..] {
        return format!("it refers to {only}, {why}");
    }
    format!("it refers to {}", steps.join(", which refers to "))
}

/// What to type to give a field a value in its stage.
fn remedy(ledger: &Ledger, field: FieldId) -> String {
    let (_, declaration) = ledger.field(field.subject, field.slot);
    let (address, stage) = (ledger.address(field), ledger.stage(field.stage));
    let mut typed = if declaration.secret {
        format!("cledger set {address} --from env:NAME")
    } else {
        let example = example(declaration);
        let quote = if example.contains(' ') { "'" } else { "" };
        format!("cledger set {quote}{address}={example}{quote}")
    };
    if stage.class == Class::Production {
        typed.push_str(&format!(" --countersign {}", stage.name));
    }
    if stage.locked {
        typed.push_str(" --why TEXT");
    }
    typed
}

fn example(declaration: &Declaration) -> String {
    let one_of = declaration.constraints.as_ref().and_then(|known| known.one_of.first());
    if let Some(value) = one_of {
        return value.to_text().to_string();
    }
    match declaration.this_type {
        Type::List => "[ \"…\" ]".to_owned(),
        Type::Map => "{ … = \"…\" }".to_owned(),
        Type::Date => "2027-01-31".to_owned(),
        Type::Table => "tables/….csv".to_owned(),
        _ => "…".to_owned(),
    }
}

impl Ledger {
    /// The file in which a layer's settings for a subject stand or would stand, and the table in
    /// it, if they do not stand at its root.
    pub fn settings_place(&self, subject: Subject, layer: LayerId) -> (String, Option<String>) {
        let folder = match layer {
            LayerId::Stage(_) => "stages",
            LayerId::Group(_) => "groups",
        };
        let name = self.layer_name(layer);
        let owner = self.owner(subject).to_string();
        if self.layer(layer).in_folder {
            return (format!("{folder}/{name}/{owner}.toml"), None);
        }
        let table = match subject {
            Subject::Shared => "shared".to_owned(),
            Subject::Unit(_, None) => format!("units.{owner}"),
            Subject::Unit(_, Some(_)) => format!("units.\"{owner}\""),
        };
        (format!("{folder}/{name}.toml"), Some(table))
    }
}
