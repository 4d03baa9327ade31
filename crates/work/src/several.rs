//! The same done with many things, some of them at once.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;

use crate::asking::Telling;

/// Does this with each thing, with `at_once` of them at the same time, and tells how many are done; it is given what
/// tells what came of one. All that comes of them is in the order of the things, in which they are begun, too.
///
/// The threads are its own: what is done waits for others, and holds what they want.
pub(crate) fn each<T: Send, R: Send>(
    things: Vec<T>,
    at_once: usize,
    (telling, what): (&dyn Telling, &'static str),
    this: impl Fn(T, &dyn Fn(&str)) -> R + Sync,
) -> Vec<R> {
    let count = things.len();
    let progress = Mutex::new(telling.begins(count, what));
    let (waiting, done) = (Mutex::new(things.into_iter().enumerate()), AtomicUsize::new(0));
    let all = Mutex::new(Vec::with_capacity(count));
    let work = || {
        while let Some((at, thing)) = next(&waiting) {
            let outcome = this(thing, &|part| lock(&progress).ended(part));
            lock(&all).push((at, outcome));
            lock(&progress).done(done.fetch_add(1, Ordering::SeqCst) + 1);
        }
    };
    thread::scope(|scope| {
        for _ in 1..at_once.min(count) {
            scope.spawn(work);
        }
        work();
    });
    let mut all = all.into_inner().unwrap_or_else(PoisonError::into_inner);
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, outcome)| outcome).collect()
}

/// The next thing, taken out of the lock before anything is done with it.
fn next<I: Iterator>(waiting: &Mutex<I>) -> Option<I::Item> {
    lock(waiting).next()
}

/// Takes a lock. Whoever has failed with it has left nothing half done that others would see.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asking::Nobody;

    #[test]
    fn what_comes_of_each_is_in_the_order_of_the_things() {
        for at_once in [0, 1, 3, 100] {
            let doubled = each((0..50).collect(), at_once, (&Nobody, "numbers"), |number: u32, _| number * 2);
            assert_eq!(doubled, (0..50).map(|number| number * 2).collect::<Vec<_>>(), "{at_once}");
        }
    }

    #[test]
    fn so_many_are_under_way_at_the_same_time() {
        // Each waits until three are there: with fewer at once this would never end.
        let barrier = std::sync::Barrier::new(3);
        let met = each(vec![(); 3], 3, (&Nobody, "things"), |(), _| barrier.wait().is_leader());
        assert_eq!(met.iter().filter(|is_leader| **is_leader).count(), 1);
    }
}
