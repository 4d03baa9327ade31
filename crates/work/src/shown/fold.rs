//! Texts folded at the breaks that values have by nature.

use std::borrow::Cow;

use textwrap::core::Word;
use textwrap::{Options, WordSeparator, WordSplitter, wrap};

use super::breaks;

/// A text in lines of at most this width.
pub fn folded(text: &str, width: usize) -> String {
    let mut lines = Vec::new();
    for line in text.split('\n') {
        let indent: String = line.chars().take_while(|c| *c == ' ').collect();
        let indent = if indent.len() < width { indent } else { String::new() };
        let options = Options::new(width)
            .word_separator(WordSeparator::Custom(|line| Box::new(parted(line))))
            .word_splitter(WordSplitter::NoHyphenation)
            .initial_indent(&indent)
            .subsequent_indent(&indent);
        lines.extend(wrap(line.trim_start_matches(' '), options).into_iter().map(Cow::into_owned));
    }
    lines.join("\n")
}

/// The pieces between which a value may be parted.
pub fn parted(line: &str) -> impl Iterator<Item = Word<'_>> {
    let mut from = 0;
    breaks(line).chain([line.len()]).map(move |to| {
        let piece = &line[from..to];
        from = to;
        Word::from(piece)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_parted_where_they_have_a_break() {
        for (text, width, lines) in [
            (
                "http://fares.north.example:8070/fares?a=1&b=2",
                24,
                "http://fares.north\n.example:8070/fares?a=1&\nb=2",
            ),
            ("[\"en\",\"de\",\"fr\"]", 10, "[\"en\",\n\"de\",\"fr\"]"),
            ("ticket-desk/db.user@prod-north", 20, "ticket-desk/db.user\n@prod-north"),
            ("one word  more", 8, "one word\nmore"),
            ("  row heron-point", 8, "  row\n  heron-\n  point"),
            ("abcdefghij", 4, "abcd\nefgh\nij"),
            ("日本語テキスト", 6, "日本語\nテキス\nト"),
        ] {
            assert_eq!(folded(text, width), lines, "{text}");
        }
    }
}
