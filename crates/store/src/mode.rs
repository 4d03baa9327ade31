//! Who may read a file that is written, and what writing it came to.

/// Who may read a file that is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Whoever the system's usual rights let.
    Usual,
    /// Its owner alone (0600), since it holds a secret.
    OwnerOnly,
    /// Whoever could before; for a new file as usual.
    AsBefore,
    /// These permission bits (`chmod(2)`).
    Bits(u32),
}

/// What writing a file came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// It was not there before.
    New,
    /// It had other content or other rights.
    Changed,
    /// It had this content already and was not touched.
    Unchanged,
}
