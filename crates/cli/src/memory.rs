//! What of this program's memory can leave it.

/// Keeps the system from writing this program's memory into a file when it fails, and other programs of the
/// same user from looking into it, as far as the system knows how. Programs that it starts are not touched.
pub(crate) fn no_dumps() {
    #[cfg(target_os = "linux")]
    {
        use rustix::process::{DumpableBehavior, set_dumpable_behavior};
        // Where the system refuses, all else goes on.
        let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    }
}
