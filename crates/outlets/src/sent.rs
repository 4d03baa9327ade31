//! Secrets on their way out.

use std::sync::Arc;

use zeroize::Zeroizing;

/// A secret that is sent, shared by those who send it, and never printed.
#[derive(Clone)]
pub struct Sent(Arc<Zeroizing<String>>);

impl Sent {
    /// Takes the secret over.
    pub fn new(secret: Zeroizing<String>) -> Self {
        Self(Arc::new(secret))
    }

    pub(crate) fn expose(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Sent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Sent(…)")
    }
}
