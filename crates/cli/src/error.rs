//! The program's one error type: what is wrong, why, what to type, and the exit status.

use cledger_core::address::AddressError;
use cledger_core::resolve::AssumptionError;
use cledger_store::{
    FindError, IdentityError, KeyError, LockError, NoPlan, StateError, Unreadable, WriteError,
};

/// The exit statuses, as DESIGN.md section 7 has them.
pub(crate) mod status {
    /// All is well.
    pub(crate) const CLEAN: u8 = 0;
    /// Findings of severity error, differences not meant, or drift.
    pub(crate) const FOUND: u8 = 1;
    /// Wrong usage or unreadable input.
    pub(crate) const USAGE: u8 = 2;
    /// Something outside failed.
    pub(crate) const OUTSIDE: u8 = 3;
    /// Refused: not countersigned, locked, or out of order.
    pub(crate) const REFUSED: u8 = 4;
}

/// Why a command ended without doing its work.
#[derive(Debug)]
pub(crate) enum CliError {
    /// One thing is wrong.
    Plain {
        status: u8,
        message: String,
        /// The text in question with a mark below the mistake.
        pointed: Option<String>,
        help: Option<String>,
    },
    /// The ledger cannot be read.
    Unreadable(Box<Unreadable>),
    /// The ledger could not be read after a change, which is not made.
    Spoiling(Box<Unreadable>),
    /// The ledger could not be read as it was at this revision.
    Before(String, Box<Unreadable>),
}

impl CliError {
    fn new(status: u8, message: impl Into<String>) -> Self {
        CliError::Plain { status, message: message.into(), pointed: None, help: None }
    }

    /// Wrong usage, or input that cannot be read.
    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self::new(status::USAGE, message)
    }

    /// Something outside failed.
    pub(crate) fn outside(message: impl Into<String>) -> Self {
        Self::new(status::OUTSIDE, message)
    }

    /// A guard says no.
    pub(crate) fn refused(message: impl Into<String>) -> Self {
        Self::new(status::REFUSED, message)
    }

    /// Adds what to type.
    pub(crate) fn help(mut self, text: impl Into<String>) -> Self {
        if let CliError::Plain { help, .. } = &mut self {
            *help = Some(text.into());
        }
        self
    }

    /// The exit status that goes with it.
    pub(crate) fn status(&self) -> u8 {
        match self {
            CliError::Plain { status, .. } => *status,
            CliError::Unreadable(_) | CliError::Spoiling(_) | CliError::Before(..) => status::USAGE,
        }
    }
}

impl From<AddressError> for CliError {
    fn from(error: AddressError) -> Self {
        CliError::Plain {
            status: status::USAGE,
            message: error.to_string(),
            pointed: Some(error.pointed()),
            help: Some("an address is [UNIT[+INSTANCE] | shared][/ENTRY[.FIELD]][@STAGE]".to_owned()),
        }
    }
}

impl From<AssumptionError> for CliError {
    fn from(error: AssumptionError) -> Self {
        Self::usage(error.to_string())
    }
}

impl From<FindError> for CliError {
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

impl From<Unreadable> for CliError {
    fn from(error: Unreadable) -> Self {
        CliError::Unreadable(Box::new(error))
    }
}

impl From<LockError> for CliError {
    fn from(error: LockError) -> Self {
        let message = error.to_string();
        match error {
            LockError::Busy(_) => Self::outside(message).help("try again, or wait longer: --wait SECONDS"),
            LockError::Foreign(foreign) => Self::refused(message).help(foreign.help()),
            LockError::NoPlan(_) => Self::refused(message).help(NoPlan::HELP),
            LockError::Edited(_) => {
                Self::refused(message).help("`cledger resume` shows the change, to finish it or put it back")
            }
            LockError::Io(_) | LockError::Lock(_) | LockError::Unfinished(_) => Self::outside(message),
        }
    }
}

impl From<KeyError> for CliError {
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

impl From<IdentityError> for CliError {
    fn from(error: IdentityError) -> Self {
        let message = error.to_string();
        match error {
            IdentityError::NotWritten(..) => Self::outside(message),
            _ => Self::refused(message),
        }
    }
}

impl From<StateError> for CliError {
    fn from(error: StateError) -> Self {
        Self::outside(error.to_string())
    }
}

impl From<WriteError> for CliError {
    fn from(error: WriteError) -> Self {
        Self::outside(error.to_string())
    }
}
