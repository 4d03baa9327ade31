//! Sentences folded to the width of the console.

use std::borrow::Cow;

use textwrap::{Options, WordSplitter, fill};

/// A text folded to a width, if there is one; its lines but the first stand behind an indent.
pub(super) fn folded<'t>(text: &'t str, width: Option<usize>, indent: &str) -> Cow<'t, str> {
    let Some(width) = width else { return Cow::Borrowed(text) };
    let options = Options::new(width).subsequent_indent(indent);
    Cow::Owned(fill(text, options.word_splitter(WordSplitter::NoHyphenation)))
}
