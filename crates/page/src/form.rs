//! The forms of a page.

pub(crate) mod csv;
pub(crate) mod html;
pub(crate) mod markdown;
pub(crate) mod picture;
