//! Texts that are kept of values, and that may be secrets.

use std::fmt;

use zeroize::Zeroizing;

use crate::resolve::Effective;
use crate::value::{Held, Value};

/// A text that is kept, and says whether it is a secret: of a value, as JSON, or of a file. It cannot be printed,
/// and nobody gets at the text of a secret without asking for just that.
#[derive(Clone, PartialEq, Eq)]
pub struct Kept {
    text: Option<Zeroizing<String>>,
    secret: bool,
}

impl Kept {
    /// A text, secret or not.
    pub fn new(text: Zeroizing<String>, secret: bool) -> Self {
        Self { text: Some(text), secret }
    }

    /// A secret that is not readable here.
    pub fn unreadable() -> Self {
        Self { text: None, secret: true }
    }

    /// A value as JSON.
    pub fn of_value(held: &Held) -> Self {
        Self::new(held.expose().to_secret_json(), held.is_secret())
    }

    /// An effective value as JSON. One that was not read counts as a secret: nobody can tell.
    pub fn of_effective(effective: &Effective<'_>) -> Self {
        effective.held().map_or_else(Self::unreadable, Self::of_value)
    }

    /// Whether it is a secret.
    pub fn is_secret(&self) -> bool {
        self.secret
    }

    /// Whether its text is at hand.
    pub fn is_readable(&self) -> bool {
        self.text.is_some()
    }

    /// The text, if anybody may see it.
    pub fn open(&self) -> Option<&str> {
        self.text.as_ref().filter(|_| !self.secret).map(|text| text.as_str())
    }

    /// The text, secret or not; [`None`] where it is not readable here. Who calls this must not print or keep what
    /// it gives without saying which it is.
    pub fn expose(&self) -> Option<&Zeroizing<String>> {
        self.text.as_ref()
    }

    /// The value that it is the JSON of.
    pub fn value(&self) -> Option<Held> {
        let json = serde_json::from_str(self.text.as_ref()?).ok()?;
        Some(Held::new(Value::from_json(json)?, self.secret))
    }
}

impl fmt::Debug for Kept {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.secret { "(secret)" } else { "(open)" })
    }
}
