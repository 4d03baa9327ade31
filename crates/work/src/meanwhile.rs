//! Two things at once, where one waits for files or others, and the other works on values.

use std::panic::resume_unwind;
use std::thread;

use rayon::ThreadPoolBuilder;

/// Does one thing on a thread of its own while this thread does the other, and gives what both come to.
pub(crate) fn meanwhile<A: Send, B>(one: impl FnOnce() -> A + Send, other: impl FnOnce() -> B) -> (A, B) {
    thread::scope(|scope| {
        let one = scope.spawn(one);
        let other = other();
        (one.join().unwrap_or_else(|panic| resume_unwind(panic)), other)
    })
}

/// Does something on one thread, whatever it does on several otherwise: while others are busy on all of those, it would
/// wait until they are done.
pub(crate) fn on_one_thread<A: Send>(this: impl FnOnce() -> A + Send) -> A {
    match ThreadPoolBuilder::new().num_threads(1).build() {
        Ok(pool) => pool.install(this),
        Err(_) => this(),
    }
}
