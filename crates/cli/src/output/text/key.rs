//! `key` for people: a line for each stage and group.

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;

use crate::commands::{KeyDone, KeyListed};
use crate::output::console::Console;
use crate::output::style;
use crate::output::table::{Table, Tone};

fn called(scope: &KeyScope) -> String {
    match scope {
        KeyScope::Stage(name) => name.to_string(),
        KeyScope::Group(name) => format!("{name} (group)"),
    }
}

fn joined(names: &[Name]) -> String {
    let names: Vec<&str> = names.iter().map(Name::as_str).collect();
    names.join(", ")
}

pub(crate) fn done(console: &mut Console, done: &[KeyDone], written: bool) {
    let counts = done.iter().any(|one| one.secrets.is_some());
    let heads: &[&str] =
        if counts { &["key of", "readers", "secrets", ""] } else { &["key of", "readers", ""] };
    let mut table = Table::new(heads, console.width());
    for one in done {
        let plain = |text: String| (text, Tone::Plain);
        let mut row = vec![plain(called(&one.scope)), plain(joined(&one.readers))];
        if let Some(secrets) = one.secrets.filter(|_| counts) {
            row.push(plain(secrets.to_string()));
        }
        let word =
            if written || !one.changes { one.word.to_owned() } else { format!("would be {}", one.word) };
        let who = one.reader.as_ref().map(|name| format!("{name} ")).unwrap_or_default();
        row.push((format!("{who}{word}"), Tone::Quiet));
        table.row(row);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    if !written {
        console.line("");
        console.line(format!("{}: --write does it.", style::doubtful("nothing written")));
    }
}

pub(crate) fn listed(console: &mut Console, listed: &[KeyListed]) {
    let mut table = Table::new(&["secrets of", "encrypted", "plain", "readers", "here"], console.width());
    for one in listed {
        let plain = |text: String| (text, Tone::Plain);
        let (readers, here) = match &one.unreadable {
            _ if !one.has_key => (("no key".to_owned(), Tone::Quiet), (String::new(), Tone::Quiet)),
            None => (plain(joined(&one.readers)), ("readable".to_owned(), Tone::Quiet)),
            Some(reason) => {
                (plain(joined(&one.readers)), (format!("not readable: {reason}"), Tone::Doubtful))
            }
        };
        let lying = (one.plain.to_string(), if one.plain > 0 { Tone::Doubtful } else { Tone::Plain });
        table.row(vec![plain(called(&one.scope)), plain(one.encrypted.to_string()), lying, readers, here]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
}
