//! Comments that hold the place of values which a new stage has to set: `# host = ""  # host; where it runs`.

use std::collections::BTreeSet;

use cledger_core::types::Type;

use super::Edit;
use super::What;
use super::lines::{line_end, line_start};
use super::outline::outline;

/// The text without the comments that held the place of values that these edits have set.
pub(super) fn without_blanks(text: &str, edits: &[&Edit]) -> String {
    let is_set = |edit: &&&Edit| matches!(edit.what, What::Set(_));
    let set: BTreeSet<&[String]> = edits.iter().filter(is_set).map(|edit| &edit.path[..]).collect();
    if set.is_empty() || !text.lines().any(|line| key_of(line).is_some()) {
        return text.to_owned();
    }
    let Some(bodies) = outline(text) else { return text.to_owned() };
    let mut made = String::with_capacity(text.len());
    let mut done = 0;
    for (at, body) in bodies.iter().enumerate() {
        let end = bodies.get(at + 1).map_or(text.len(), |next| line_start(text, next.header.start));
        let mut here = if body.path.is_empty() { 0 } else { line_end(text, body.header.end) };
        while here < end {
            let next = line_end(text, here);
            if let Some(key) = key_of(&text[here..next]) {
                let path: Vec<String> = body.path.iter().cloned().chain(key).collect();
                if set.contains(&path[..]) {
                    made.push_str(&text[done..here]);
                    done = next;
                }
            }
            here = next;
        }
    }
    made + &text[done..]
}

/// The key of a value whose place a comment holds: what stands behind the value begins with a type.
fn key_of(line: &str) -> Option<Vec<String>> {
    let pair = line.strip_prefix("# ")?;
    let (_, said) = pair.rsplit_once("  # ")?;
    let said = said.trim_end();
    let is_type =
        |name: &str| said == name || said.strip_prefix(name).is_some_and(|rest| rest.starts_with(';'));
    if !Type::names().chain(["table"]).any(is_type) {
        return None;
    }
    let bodies = outline(pair)?;
    match &bodies[..] {
        [body] if body.pairs.len() == 1 => Some(body.pairs[0].keys.clone()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_goes_once_its_value_is_set_and_no_other_does() {
        let edit = |path: &[&str], what| Edit {
            file: String::new(),
            path: path.iter().map(|&step| step.to_owned()).collect(),
            header: 1,
            what,
        };
        let set = || What::Set("1".to_owned());
        let text = "# Settings\n\n[shared.db]\nhost = \"x\"\n# host = \"\"  # host; where\n# user = \"\"  # text\n# host = \"\"  # by hand\n\n[units.desk]\n# db.host = \"a  # b\"  # host\n";
        for (edits, gone) in [
            (vec![edit(&["shared", "db", "host"], set())], vec!["# host = \"\"  # host; where\n"]),
            (
                vec![edit(&["units", "desk", "db", "host"], set()), edit(&["shared", "db", "user"], set())],
                vec!["# user = \"\"  # text\n", "# db.host = \"a  # b\"  # host\n"],
            ),
            (vec![edit(&["shared", "db", "host"], What::Remove)], vec![]),
            (vec![edit(&["shared", "host"], set())], vec![]),
        ] {
            let expected = gone.iter().fold(text.to_owned(), |text, line| text.replace(line, ""));
            assert_eq!(without_blanks(text, &edits.iter().collect::<Vec<_>>()), expected);
        }
    }
}
