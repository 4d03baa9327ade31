//! What resolving a field comes to.

use std::sync::Arc;

use super::FieldId;
use crate::model::{Declaration, GroupId, Ledger, StageId};
use crate::source::Place;
use crate::value::{Held, Value};

/// The layer that an effective value came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layer {
    /// The declaration's default.
    Default,
    /// A group of the stage.
    Group(GroupId),
    /// A stage that the stage follows, as its own list names it.
    Follow(StageId),
    /// The stage itself.
    Stage(StageId),
    /// A value given for this run.
    Run,
    /// Worked out from other fields.
    Derived,
}

impl Layer {
    /// The word for it in outputs.
    pub fn word(self) -> &'static str {
        match self {
            Layer::Default => "default",
            Layer::Group(_) => "group",
            Layer::Follow(_) => "follow",
            Layer::Stage(_) => "stage",
            Layer::Run => "run",
            Layer::Derived => "derived",
        }
    }

    /// The name of its group or stage.
    pub fn name(self, ledger: &Ledger) -> Option<&str> {
        match self {
            Layer::Group(id) => Some(ledger.group(id).name.as_str()),
            Layer::Follow(id) | Layer::Stage(id) => Some(ledger.stage(id).name.as_str()),
            Layer::Default | Layer::Run | Layer::Derived => None,
        }
    }
}

/// Where an effective value came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// The layer.
    pub layer: Layer,
    /// Where its text stands; for derived values and built-in defaults the entry's declaration.
    pub place: Option<Place>,
}

/// The content of an effective value.
#[derive(Debug, Clone)]
pub enum Content<'l> {
    /// As it stands in the ledger.
    Written(&'l Held),
    /// Made from references, from other fields, or fetched.
    Made(Arc<Held>),
    /// It is there, and was not read.
    Unread(Unread),
}

/// Why a value was not read. If it is made from several, the last of these counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Unread {
    /// It is outside the ledger, and nobody looked.
    Outside,
    /// It is outside the ledger, which nobody has said may look there.
    NotTrusted,
    /// It is encrypted, and its key is not at hand.
    NoKey,
}

/// A value that the subject gets in the stage.
#[derive(Debug, Clone)]
pub struct Effective<'l> {
    content: Content<'l>,
    secret: bool,
    /// Where it came from.
    pub origin: Origin,
    /// The fields that its own text refers to, or that it was derived from.
    pub through: Option<Arc<[FieldId]>>,
}

impl<'l> Effective<'l> {
    /// A value; `secret` says that it is one, by its declaration or by what it refers to.
    pub(super) fn new(
        content: Content<'l>,
        secret: bool,
        origin: Origin,
        through: Option<Arc<[FieldId]>>,
    ) -> Self {
        let content = match content {
            // It is held as what it is, whatever it was where it came from.
            Content::Written(Held::Open(value)) if secret => {
                Content::Made(Arc::new(Held::new(value.clone(), true)))
            }
            Content::Made(held) if secret && !held.is_secret() => {
                Content::Made(Arc::new(Held::new(held.expose().clone(), true)))
            }
            content => content,
        };
        Self { content, secret, origin, through }
    }

    /// Its content.
    pub(crate) fn content(&self) -> &Content<'l> {
        &self.content
    }

    /// Whether it is a secret, by its declaration or by what it refers to.
    pub fn is_secret(&self) -> bool {
        self.secret
    }

    /// The value, which says whether it is a secret; [`None`] if it was not read.
    pub fn held(&self) -> Option<&Held> {
        match &self.content {
            Content::Written(held) => Some(held),
            Content::Made(held) => Some(held),
            Content::Unread(_) => None,
        }
    }

    /// Why it was not read, if it was not.
    pub fn unread(&self) -> Option<Unread> {
        match self.content {
            Content::Unread(why) => Some(why),
            Content::Written(_) | Content::Made(_) => None,
        }
    }

    /// The value, secret or not; `None` if it was not read. Who calls this must not print or keep
    /// what it gives: [`Effective::held`] says what it is.
    pub fn expose(&self) -> Option<&Value> {
        self.held().map(Held::expose)
    }
}

/// Why a field has no value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Because {
    /// Nothing is set for it.
    NothingSet,
    /// Only a default or a followed value is there, and each stage must state its own.
    MustBeStated,
    /// What its `from` names was not found, for this reason.
    NotFound(String),
    /// What it refers to has no value.
    NeedsMissing(FieldId),
}

/// The problems that leave a field without a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProblemCode {
    /// The value is of another type.
    WrongType,
    /// A reference names nothing.
    ReferenceUnknown,
    /// The field refers to itself, directly or not.
    ReferenceCircle,
    /// The cipher text cannot be read.
    CipherUnreadable,
    /// The value grows beyond all use by its references.
    ValueTooLong,
    /// It stands in a file that cannot be read, or would.
    UnreadableFile,
}

impl ProblemCode {
    /// The stable code.
    pub fn name(self) -> &'static str {
        match self {
            ProblemCode::WrongType => "wrong-type",
            ProblemCode::ReferenceUnknown => "reference-unknown",
            ProblemCode::ReferenceCircle => "reference-circle",
            ProblemCode::CipherUnreadable => "cipher-unreadable",
            ProblemCode::ValueTooLong => "value-too-long",
            ProblemCode::UnreadableFile => "unreadable-file",
        }
    }
}

/// Something that leaves a field without a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// Which problem.
    pub code: ProblemCode,
    /// What is wrong, without any secret in it.
    pub detail: String,
    /// For a circle, the fields around it, beginning with this one.
    pub path: Arc<[FieldId]>,
    /// Where the text is that has the problem.
    pub origin: Origin,
}

/// What resolving a field comes to.
#[derive(Debug, Clone)]
pub enum Outcome<'l> {
    /// A value.
    Value(Effective<'l>),
    /// None, on purpose.
    Absent(Origin),
    /// None, and none is needed.
    Unset,
    /// None, although one is needed. The origin is that of the text that came to nothing.
    Missing(Because, Option<Origin>),
    /// None, for these reasons: one for each code.
    Broken(Arc<[Problem]>),
}

impl<'l> Outcome<'l> {
    /// A value that counts as it stands in the ledger.
    pub(super) fn as_written(held: &'l Held, declaration: &Declaration, origin: Origin) -> Self {
        let secret = declaration.secret || held.is_secret();
        Outcome::Value(Effective::new(Content::Written(held), secret, origin, None))
    }

    /// Whether there is no value since nobody has written one: there is no text that could lead to a secret.
    pub fn is_of_nothing(&self) -> bool {
        match self {
            Outcome::Unset | Outcome::Absent(_) => true,
            Outcome::Missing(because, _) => matches!(because, Because::NothingSet | Because::MustBeStated),
            Outcome::Value(_) | Outcome::Broken(_) => false,
        }
    }

    /// The value, if there is one.
    pub fn value(&self) -> Option<&Effective<'l>> {
        match self {
            Outcome::Value(effective) => Some(effective),
            _ => None,
        }
    }
}
