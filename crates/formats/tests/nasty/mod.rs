//! Text with everything in it that formats trip over.

use cledger_core::value::Value;
use cledger_formats::Tree;
use proptest::prelude::*;

/// Pieces that one format or another gives a meaning.
const PIECES: [&str; 44] = [
    "'", "\"", "\n", "\r\n", "#", "=", "$", "${x}", "\\", "\\n", "`id`", " ", "\t", ": ", " #", "- ", "ü",
    "潮", "🚢", "\u{85}", "\u{2028}", "\u{feff}", "no", "0123", "12:30:45", "1e3", "~", "%(x)s", "%", "<a>",
    "]]>", "&amp;", "&", "--", ";", "[x]", "{", "}", "'''", "\"\"\"", "\u{1c}", "\u{7f}", "!x", "@",
];

pub(crate) fn nasty() -> impl Strategy<Value = String> {
    let piece = prop_oneof![3 => prop::sample::select(&PIECES).prop_map(str::to_owned), 1 => "[ -~]{0,6}"];
    prop::collection::vec(piece, 0..6).prop_map(|pieces| pieces.concat())
}

pub(crate) fn flat() -> impl Strategy<Value = Vec<String>> {
    prop::collection::vec(nasty(), 1..5)
}

/// A tree with these values as `NAME_0`, `NAME_1`, …
pub(crate) fn named<'v>(values: impl IntoIterator<Item = &'v String>) -> Tree {
    let values = values.into_iter().enumerate();
    Tree(values.map(|(at, text)| (format!("NAME_{at}").into(), Value::text(text))).collect())
}

/// Values that readers are known to stumble over, one by one.
pub(crate) fn table() -> Vec<String> {
    let more = [
        "plain",
        "",
        "two words",
        " leading and trailing ",
        "say \"so\" and 'so'",
        "it's",
        "$HOME ${HOME} $(id)",
        "a#b # c",
        "back\\slash \\n",
        "ends with \\",
        "line one\nline two\ttab",
        "key=value; other",
        "yes",
        "null",
        "on",
        "True",
        "1.0",
        "-1",
        "0x1f",
        "1_000",
        "2027-01-31",
        ".5",
        "+1",
        "<tag attr='x'>",
        "a: b",
        "? x",
        "| x",
        "> x",
        "*x",
        "Ünïcode 渡し船",
        "\u{1f6a2}",
        "trailing\n",
        "\n\n",
        "a\r\nb",
        "@at",
        "[x]",
        "{{ x }}",
        "%d",
    ];
    PIECES.iter().chain(&more).map(|text| (*text).to_owned()).collect()
}
