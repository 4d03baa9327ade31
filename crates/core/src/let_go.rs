//! Letting go of much at once: wiping and freeing it takes a while, which all threads share.

use rayon::prelude::*;

use crate::model::UNITS_AT_ONCE;

/// Drops a list, a long one on all threads.
pub fn let_go<T: Send>(list: Vec<T>) {
    if list.len() > UNITS_AT_ONCE {
        list.into_par_iter().with_max_len(UNITS_AT_ONCE).for_each(drop);
    }
}
