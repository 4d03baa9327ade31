//! Text that may refer to the stage and the unit which are rendered: `app-${stage.name}.env`.

use std::borrow::Cow;
use std::fmt;

use super::{Ledger, StageId, Subject};
use crate::address::Owner;
use crate::name::Name;
use crate::reference::{self, Piece, Target, pieces};

/// Text with references to `stage.name`, `stage.class`, `stage.label.X`, `unit.name` and
/// `unit.instance`, and to nothing else: names of files and fields depend on no setting.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct StageText(String);

/// Why a text cannot stand where names are made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StageTextError {
    /// A `${` is never closed.
    #[error("`${{` is opened here and never closed")]
    Unclosed,
    /// A reference to something else.
    #[error("`${{{0}}}` cannot stand here: only the stage and the unit can")]
    OfField(String),
}

/// A stage lacks the label that a text refers to.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`${{stage.label.{0}}}` has no value: the stage has no such label")]
pub struct NoLabel(pub String);

impl StageText {
    /// Reads a text.
    pub fn parse(text: &str) -> Result<Self, StageTextError> {
        for piece in pieces(text) {
            match piece {
                Piece::Literal(_) => {}
                Piece::Unclosed(_) => return Err(StageTextError::Unclosed),
                Piece::Reference(inside) => match Target::parse(inside) {
                    Ok(
                        Target::StageName
                        | Target::StageClass
                        | Target::StageLabel(_)
                        | Target::UnitName
                        | Target::UnitInstance,
                    ) => {}
                    Ok(_) | Err(_) => return Err(StageTextError::OfField(inside.to_owned())),
                },
            }
        }
        Ok(Self(text.to_owned()))
    }

    /// The text as it is written.
    pub fn as_written(&self) -> &str {
        &self.0
    }

    /// Whether it refers to something.
    pub fn varies(&self) -> bool {
        reference::is_in(&self.0)
    }

    /// Whether it refers to the unit or the instance.
    pub fn refers_to_unit(&self) -> bool {
        let mut pieces = pieces(&self.0);
        pieces.any(|piece| matches!(piece, Piece::Reference(inside) if inside.starts_with("unit.")))
    }

    /// The text for a stage, with references to the unit left as they are.
    pub fn for_stage(&self, ledger: &Ledger, stage: StageId) -> Result<String, NoLabel> {
        let mut expanded = String::new();
        for piece in pieces(&self.0) {
            match piece {
                Piece::Reference(inside) if inside.starts_with("unit.") => {
                    expanded.push_str(&format!("${{{inside}}}"));
                }
                Piece::Reference(inside) => {
                    let text = format!("${{{inside}}}");
                    expanded.push_str(&expand(&text, ledger, Subject::Shared, stage)?);
                }
                Piece::Literal(text) | Piece::Unclosed(text) => expanded.push_str(text),
            }
        }
        Ok(expanded)
    }

    /// The text for a subject in a stage.
    pub fn expand(&self, ledger: &Ledger, subject: Subject, stage: StageId) -> Result<Cow<'_, str>, NoLabel> {
        expand(&self.0, ledger, subject, stage)
    }

    /// The text for a unit or instance in a stage, which the ledger need not know.
    pub fn expand_for(
        &self,
        ledger: &Ledger,
        owner: &Owner,
        stage: StageId,
    ) -> Result<Cow<'_, str>, NoLabel> {
        expand_for(&self.0, ledger, owner, stage)
    }
}

impl fmt::Display for StageText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A text for a subject in a stage, which [`StageText::parse`] would take.
pub(crate) fn expand<'t>(
    text: &'t str,
    ledger: &Ledger,
    subject: Subject,
    stage: StageId,
) -> Result<Cow<'t, str>, NoLabel> {
    if !reference::is_in(text) {
        return Ok(Cow::Borrowed(text));
    }
    expand_for(text, ledger, &ledger.owner(subject), stage)
}

fn expand_for<'t>(
    text: &'t str,
    ledger: &Ledger,
    owner: &Owner,
    stage: StageId,
) -> Result<Cow<'t, str>, NoLabel> {
    if !reference::is_in(text) {
        return Ok(Cow::Borrowed(text));
    }
    let (unit, instance) = owner.names();
    let stage = ledger.stage(stage);
    let mut expanded = String::new();
    for piece in pieces(text) {
        match piece {
            Piece::Literal(literal) => expanded.push_str(literal),
            Piece::Unclosed(inside) => expanded.push_str(inside),
            Piece::Reference(inside) => match Target::parse(inside) {
                Ok(Target::StageName) => expanded.push_str(stage.name.as_str()),
                Ok(Target::StageClass) => expanded.push_str(stage.class.name()),
                Ok(Target::UnitName) => expanded.push_str(unit),
                Ok(Target::UnitInstance) => expanded.push_str(instance.unwrap_or_default()),
                Ok(Target::StageLabel(label)) => {
                    let found = Name::parse(&label).ok().and_then(|name| stage.labels.get(&name));
                    expanded.push_str(found.ok_or(NoLabel(label))?);
                }
                Ok(Target::Own(_) | Target::OfUnit(..) | Target::OfShared(_)) | Err(_) => {}
            },
        }
    }
    Ok(Cow::Owned(expanded))
}
