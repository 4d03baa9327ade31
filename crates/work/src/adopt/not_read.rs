//! What is passed over where files are adopted.

/// A file that is not read.
#[derive(Debug, Clone)]
pub struct NotRead {
    /// Its path.
    pub path: String,
    /// Why not.
    pub reason: String,
}
