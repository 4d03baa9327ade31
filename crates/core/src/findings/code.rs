//! The codes of findings, and how bad they are.

use std::fmt;

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Somebody should look at it.
    Warning,
    /// It must be mended.
    Error,
}

impl Severity {
    /// The word for it in outputs.
    pub fn name(self) -> &'static str {
        match self {
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

/// Declares the codes with their names, in the order in which they are best mended: a typing
/// mistake first, since it often explains a value that is missing.
macro_rules! codes {
    ($($(#[$doc:meta])* $code:ident $name:literal,)*) => {
        /// The stable code of a finding. `docs/findings.md` has a section for each.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Code {
            $($(#[$doc])* $code,)*
        }

        impl Code {
            /// All codes.
            pub const ALL: &[Code] = &[$(Code::$code,)*];

            /// The code as it is printed.
            pub fn name(self) -> &'static str {
                match self {
                    $(Code::$code => $name,)*
                }
            }
        }
    };
}

codes! {
    /// A file that cannot be read, or a field that needs what is in one.
    UnreadableFile "unreadable-file",
    /// A setting for an entry or field that the contract does not have.
    UnknownName "unknown-name",
    /// Settings for a unit or instance that does not exist or does not belong there.
    UnusedSetting "unused-setting",
    /// A reference that names nothing.
    ReferenceUnknown "reference-unknown",
    /// A field that refers to itself, directly or not.
    ReferenceCircle "reference-circle",
    /// A value of another type.
    WrongType "wrong-type",
    /// A value that its declaration does not allow.
    NotAllowed "not-allowed",
    /// A setting for a field that is the same everywhere, or derived.
    FixedValueSet "fixed-value-set",
    /// A secret in plain text.
    PlainSecret "plain-secret",
    /// Cipher text that cannot be read.
    CipherUnreadable "cipher-unreadable",
    /// A value that grows beyond all use by its references.
    ValueTooLong "value-too-long",
    /// A row of a lookup table that does not count.
    TableRow "table-row",
    /// A setting, credential or certificate past its last day.
    Expired "expired",
    /// A private key that does not belong to its certificate.
    WrongPrivateKey "wrong-private-key",
    /// A credential or certificate that runs out soon, or a setting whose last day is near.
    Expiring "expiring",
    /// A value that mentions a host or address of another stage.
    PointsAtOtherStage "points-at-other-stage",
    /// A value that two stages have, and may not.
    NotDistinct "not-distinct",
    /// A value in which stages differ that must agree.
    NotAligned "not-aligned",
    /// A waiver past its last day.
    WaiverExpired "waiver-expired",
    /// A waiver that nothing needs.
    WaiverUnneeded "waiver-unneeded",
    /// A waiver of whatever rule is broken.
    WaiverTooWide "waiver-too-wide",
    /// A rule of the ledger's own that is broken, or that covers nothing.
    Rule "rule",
    /// A host or URL still at its default in class production.
    DefaultInUse "default-in-use",
    /// A stage that follows one of a lower class.
    FollowsLowerClass "follows-lower-class",
    /// A secret that a production stage takes over from one that it follows.
    FollowsSecret "follows-secret",
    /// A shared entry that no unit uses.
    UnusedShared "unused-shared",
    /// A pattern in `ledger.toml` that covers nothing.
    IdlePattern "idle-pattern",
    /// What a unit declares or uses, and none of its files holds.
    InNoOutput "in-no-output",
    /// What a file held when it was taken over, and the ledger has no place for.
    NotAdopted "not-adopted",
    /// Two fields with one output name, or two outputs with one path.
    NameClash "name-clash",
    /// A field that needs a value and has none.
    MissingValue "missing-value",
    /// The same, of a field that the last delivery did without.
    Due "due",
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}
