//! The ways in which a stand-in can be bad.

use std::str::FromStr;
use std::time::Duration;

/// How everything below a path is bad.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It answers after so long.
    Slow(Duration),
    /// It takes requests and never answers.
    Hang,
    /// It answers what is read, and never what is written.
    HangWrites,
    /// It says that it cannot now (503).
    Down,
    /// It answers what is read, and says that it cannot write now (503).
    DownWrites,
    /// It refuses the token (401).
    Refuse,
    /// It says that it has written, and has not.
    LoseWrites,
    /// It does the next thing that it is asked to write, and says that it could not (503), as where an
    /// answer is lost between; after that it is good again.
    LoseAnswer,
    /// It answers with something that is no JSON.
    Garbage,
    /// It answers with hundreds of megabytes.
    Huge,
    /// It sends whoever asks back to the same address.
    Loop,
}

/// A fault that there is not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownFault(String);

impl std::fmt::Display for UnknownFault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "there is no fault `{}`; it can be slow:MILLISECONDS", self.0)?;
        Fault::NAMED.iter().try_for_each(|(name, _)| write!(f, ", {name}"))
    }
}

impl std::error::Error for UnknownFault {}

impl Fault {
    const NAMED: [(&'static str, Fault); 10] = [
        ("hang", Fault::Hang),
        ("hang-writes", Fault::HangWrites),
        ("down", Fault::Down),
        ("down-writes", Fault::DownWrites),
        ("refuse", Fault::Refuse),
        ("lose-answer", Fault::LoseAnswer),
        ("lose-writes", Fault::LoseWrites),
        ("garbage", Fault::Garbage),
        ("huge", Fault::Huge),
        ("loop", Fault::Loop),
    ];
}

impl FromStr for Fault {
    type Err = UnknownFault;

    fn from_str(text: &str) -> Result<Self, UnknownFault> {
        let unknown = || UnknownFault(text.to_owned());
        if let Some(delay) = text.strip_prefix("slow:") {
            return Ok(Fault::Slow(Duration::from_millis(delay.parse().map_err(|_| unknown())?)));
        }
        let mut named = Self::NAMED.iter();
        named.find(|(name, _)| *name == text).map(|(_, fault)| *fault).ok_or_else(unknown)
    }
}
