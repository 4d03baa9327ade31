//! The one error type of use cases: what kind of trouble, what is wrong and where, and what to type.

use std::fmt;

use cledger_core::address::AddressError;
use cledger_core::resolve::AssumptionError;
use cledger_store::daybook::{DaybookError, PackError};
use cledger_store::{
    EditError, FindError, GitError, IdentityError, KeyError, LockError, StateError, Unreadable, WriteError,
};

/// What kind of trouble it is. Over many units or steps the greatest kind is that of the whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Something was found that should not be: findings of severity error, differences not meant, or drift.
    Found,
    /// A guard says no: not countersigned, locked, or out of order.
    Refused,
    /// Something outside failed.
    Outside,
    /// Wrong usage, or input that cannot be read.
    Usage,
}

/// Why a use case ended without doing its work.
#[derive(Debug)]
pub enum Trouble {
    /// One thing is wrong.
    Plain {
        /// What kind of thing.
        kind: Kind,
        /// What is wrong, and where.
        message: String,
        /// Lines that show it: the text in question with a mark below the mistake, or a list.
        pointed: Option<String>,
        /// What to type.
        help: Option<String>,
    },
    /// The ledger cannot be read.
    Unreadable(Box<Unreadable>),
    /// The ledger could not be read after a change, which is not made.
    Spoiling(Box<Unreadable>),
    /// The ledger could not be read as it was at this revision.
    Before(String, Box<Unreadable>),
}

impl Trouble {
    /// One thing that is wrong, of this kind.
    pub fn new(kind: Kind, message: impl Into<String>) -> Self {
        Trouble::Plain { kind, message: message.into(), pointed: None, help: None }
    }

    /// Wrong usage, or input that cannot be read.
    pub fn usage(message: impl Into<String>) -> Self {
        Self::new(Kind::Usage, message)
    }

    /// Something outside failed.
    pub fn outside(message: impl Into<String>) -> Self {
        Self::new(Kind::Outside, message)
    }

    /// A guard says no.
    pub fn refused(message: impl Into<String>) -> Self {
        Self::new(Kind::Refused, message)
    }

    /// Adds what to type.
    #[must_use]
    pub fn help(mut self, text: impl Into<String>) -> Self {
        if let Trouble::Plain { help, .. } = &mut self {
            *help = Some(text.into());
        }
        self
    }

    /// Says where it is, in front of what is wrong.
    #[must_use]
    pub(crate) fn within(mut self, place: &str) -> Self {
        if let Trouble::Plain { message, .. } = &mut self {
            *message = format!("{place}: {message}");
        }
        self
    }

    /// Adds lines that show what is meant.
    #[must_use]
    pub fn pointed(mut self, text: impl Into<String>) -> Self {
        if let Trouble::Plain { pointed, .. } = &mut self {
            *pointed = Some(text.into());
        }
        self
    }

    /// What to type, where that is known.
    pub fn help_text(&self) -> Option<&str> {
        match self {
            Trouble::Plain { help, .. } => help.as_deref(),
            Trouble::Unreadable(_) | Trouble::Spoiling(_) | Trouble::Before(..) => None,
        }
    }

    /// What kind of trouble it is.
    pub fn kind(&self) -> Kind {
        match self {
            Trouble::Plain { kind, .. } => *kind,
            Trouble::Unreadable(_) | Trouble::Spoiling(_) | Trouble::Before(..) => Kind::Usage,
        }
    }
}

/// What is wrong, without what to do about it.
impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Trouble::Plain { message, .. } => f.write_str(message),
            Trouble::Unreadable(unreadable) => unreadable.fmt(f),
            Trouble::Spoiling(unreadable) => write!(f, "after the change {unreadable}"),
            Trouble::Before(revision, unreadable) => write!(f, "at {revision} {unreadable}"),
        }
    }
}

impl std::error::Error for Trouble {}

impl From<AddressError> for Trouble {
    fn from(error: AddressError) -> Self {
        Self::usage(error.to_string())
            .pointed(error.pointed())
            .help("an address is [UNIT[+INSTANCE] | shared][/ENTRY[.FIELD]][@STAGE]")
    }
}

impl From<AssumptionError> for Trouble {
    fn from(error: AssumptionError) -> Self {
        Self::usage(error.to_string())
    }
}

impl From<FindError> for Trouble {
    fn from(error: FindError) -> Self {
        if let FindError::OtherUser { folder, .. } = &error {
            let help = format!("if that is meant, name it: -C {}", folder.display());
            return Self::usage(error.to_string()).help(help);
        }
        Self::usage(error.to_string()).help(
            "name its folder with -C DIR, or make one: cledger init DIR --name NAME --stages dev,test,prod",
        )
    }
}

impl From<Unreadable> for Trouble {
    fn from(error: Unreadable) -> Self {
        Trouble::Unreadable(Box::new(error))
    }
}

impl From<LockError> for Trouble {
    fn from(error: LockError) -> Self {
        let message = error.to_string();
        match error {
            LockError::Busy(_) => Self::outside(message).help("try again, or wait longer: --wait SECONDS"),
            LockError::Foreign(foreign) => Self::refused(message).help(foreign.help()),
            LockError::NoPlan(no_plan) => Self::refused(message).help(no_plan.help()),
            LockError::Edited(_) => {
                Self::refused(message).help("`cledger resume` shows the change, to finish it or put it back")
            }
            LockError::Io(_) | LockError::Lock(_) | LockError::Unfinished(_) => Self::outside(message),
        }
    }
}

impl From<KeyError> for Trouble {
    fn from(error: KeyError) -> Self {
        let message = error.to_string();
        match error {
            KeyError::None(scope) => {
                Self::refused(message).help(format!("make one: cledger key make @{} --write", scope.name()))
            }
            KeyError::NotAtHand { scope, .. } => Self::refused(message).help(format!(
                "one of its readers can do this, or let you in: cledger key admit YOU @{} --recipient KEY --write",
                scope.name()
            )),
            KeyError::Unexplained { scope, .. } => {
                let name = scope.name();
                Self::refused(message).help(format!(
                    "compare: cledger key list --compare; if it is right: cledger trust --keys @{name} --write"
                ))
            }
            KeyError::FirstSight { scope, .. } => {
                let name = scope.name();
                Self::refused(message)
                    .help(format!("if these are the right ones: cledger trust --keys @{name} --write"))
            }
            KeyError::SeveralNotAtHand(_) => {
                Self::refused(message).help("one of their readers can do this; `cledger key list` names them")
            }
            KeyError::Broken { .. } | KeyError::Readers(_) => {
                Self::usage(message).help("take the file back from version control")
            }
            KeyError::Cipher { .. } => {
                Self::usage(message).help("set that secret anew, or take the setting out; then try again")
            }
            KeyError::Refused(_) => Self::usage(message),
            KeyError::Random(_) => Self::outside(message),
        }
    }
}

impl From<IdentityError> for Trouble {
    fn from(error: IdentityError) -> Self {
        let message = error.to_string();
        match error {
            IdentityError::NotWritten(..) => Self::outside(message),
            _ => Self::refused(message),
        }
    }
}

impl From<DaybookError> for Trouble {
    fn from(error: DaybookError) -> Self {
        let message = error.to_string();
        match error {
            DaybookError::Busy(..) | DaybookError::StageBusy(_) => {
                Self::outside(message).help("try again when that is done")
            }
            DaybookError::LeftOpen(unit, stage) => Self::refused(message)
                .help(format!("finish it first: cledger deliver {unit}@{stage} --write")),
            DaybookError::Lost(unit, stage) => {
                Self::outside(message).help(format!("`cledger history {unit}@{stage}` shows what came of it"))
            }
            DaybookError::Changed(_) => Self::usage(message).help(
                "nothing is made of it; `cledger history --verify` tells all, a backup has it as it was",
            ),
            DaybookError::Damaged(_) => {
                Self::usage(message).help("`cledger history --verify` says where; take it back from a backup")
            }
            DaybookError::Unfinished => Self::outside(message)
                .help("a command that writes in it clears that up: cledger deliver UNIT@STAGE --write"),
            DaybookError::Failed(_) => Self::outside(message),
            DaybookError::Version(_) => Self::usage(message).help("take a newer cledger"),
        }
    }
}

impl From<PackError> for Trouble {
    fn from(error: PackError) -> Self {
        match error {
            PackError::Key(error) => error.into(),
            other => Self::outside(format!("the delivery cannot be recorded: {other}")),
        }
    }
}

impl From<GitError> for Trouble {
    fn from(error: GitError) -> Self {
        let message = error.to_string();
        match error {
            GitError::NoGit(_) => Self::outside(message).help("install git, or leave out --against"),
            GitError::NoRepository(_) => {
                Self::usage(message).help("--against reads the ledger's history from git")
            }
            GitError::NoRevision(_) => Self::usage(message).help("name a branch, a tag or a commit"),
            GitError::NoLedger(_) => Self::usage(message).help("name a revision that has this ledger"),
            GitError::NotText(_) | GitError::TooLarge(_) | GitError::Refused(_) => Self::outside(message),
        }
    }
}

impl From<StateError> for Trouble {
    fn from(error: StateError) -> Self {
        Self::outside(error.to_string())
    }
}

impl From<WriteError> for Trouble {
    fn from(error: WriteError) -> Self {
        Self::outside(error.to_string())
    }
}

impl From<EditError> for Trouble {
    fn from(error: EditError) -> Self {
        Self::usage(error.to_string())
    }
}
