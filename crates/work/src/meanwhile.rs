//! Two things at once, where one waits for files or others, and the other works on values.

use std::panic::resume_unwind;
use std::thread;

/// Does one thing on a thread of its own while this thread does the other, and gives what both come to.
pub(crate) fn meanwhile<A: Send, B>(one: impl FnOnce() -> A + Send, other: impl FnOnce() -> B) -> (A, B) {
    thread::scope(|scope| {
        let one = scope.spawn(one);
        let other = other();
        (one.join().unwrap_or_else(|panic| resume_unwind(panic)), other)
    })
}
