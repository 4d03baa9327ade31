//! What a use case may ask a person, and whom it tells what is not in its result.
//!
//! A terminal is one that can be asked; a table of answers in a test is another. Nothing in this crate knows
//! which it is.

use cledger_core::name::Name;
use zeroize::Zeroizing;

use crate::trouble::Trouble;

/// Whoever can be asked. Every answer may be "nobody is there" ([`None`] or `false`), which is what each question gets
/// that is not answered here.
pub trait Asking {
    /// Whether a production stage is meant: whoever is there types its name. What would be done to it is told as the
    /// beginning of a sentence that its name goes on.
    fn countersigns(&self, _stage: &Name, _does: &str) -> Result<bool, Trouble> {
        Ok(false)
    }

    /// A secret for what is called so here, typed twice where nobody can see it.
    fn secret(&self, _what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        Ok(None)
    }

    /// A value for a field that is asked for by these words; [`None`] also for an empty answer.
    fn value(&self, _what: &str) -> Result<Option<Zeroizing<String>>, Trouble> {
        Ok(None)
    }

    /// Whether somebody is there who could answer.
    fn is_there(&self) -> bool {
        false
    }
}

/// What is asked for where a production stage may be meant.
pub fn countersign_asked(stage: &Name, does: &str) -> String {
    let does = format!("{}{}", does[..1].to_uppercase(), &does[1..]);
    format!("{does} {stage}, a production stage. Type its name to go on")
}

/// Whoever is told what happens beside the result.
pub trait Telling {
    /// Something that a person should know, in one or more sentences.
    fn notice(&self, text: &str);

    /// A detail of what is done.
    fn detail(&self, text: &str);

    /// Something begins that has so many parts of this name. What comes back is told how many are done, and that
    /// it is over by being dropped.
    fn begins(&self, count: usize, what: &'static str) -> Box<dyn Progress>;
}

/// Something that goes on.
pub trait Progress: Send {
    /// So many parts are done.
    fn done(&self, count: usize);

    /// What came of one part, in a few words.
    fn ended(&self, _part: &str) {}
}

/// Whoever is asked before each step of a delivery, a withdrawal or a change of keys that leaves something behind:
/// an error ends the work just there, as the end of the program would.
pub trait Stepping {
    /// The step with this name is about to be taken.
    fn before(&self, _step: &'static str) -> Result<(), Trouble> {
        Ok(())
    }
}

impl Stepping for Nobody {}

/// Nobody: no question is answered, and nothing is told.
#[derive(Debug, Clone, Copy, Default)]
pub struct Nobody;

impl Asking for Nobody {}

impl Telling for Nobody {
    fn notice(&self, _: &str) {}

    fn detail(&self, _: &str) {}

    fn begins(&self, _: usize, _: &'static str) -> Box<dyn Progress> {
        Box::new(Nobody)
    }
}

impl Progress for Nobody {
    fn done(&self, _: usize) {}
}
