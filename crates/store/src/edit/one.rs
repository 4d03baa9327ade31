//! One edit of a file's text, whatever it is of.

use super::change::{change_in, remove_all};
use super::listed::change_listed;
use super::outline::outline;
use super::{Edit, What};

/// The text after the change; an error says what stands in its way.
pub(super) fn change(text: &str, edit: &Edit) -> Result<String, String> {
    let path: Vec<&str> = edit.path.iter().map(String::as_str).collect();
    match &edit.what {
        What::RemoveAll => remove_all(text, &path, 0),
        What::RemoveInside(stays) => remove_all(text, &path, *stays),
        What::Listed(items, what) => change_listed(text, items, what),
        what => change_in(text, &outline(text).ok_or("it is not TOML")?, &path, edit.header, what),
    }
}
