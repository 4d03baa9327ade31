//! Keys as daybooks keep them.

/// The key of a stage as it was when something was recorded under it, wrapped for its readers, so that records
/// stay readable whatever becomes of the ledger's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrappedKey {
    /// The id of the data key.
    pub id: String,
    /// Of which stage.
    pub stage: String,
    /// How often its file had been changed.
    pub generation: u64,
    /// The file's text.
    pub text: String,
}
