//! `key` for people: a line for each stage and group.

use std::collections::BTreeSet;

use cledger_core::cipher::KeyScope;
use cledger_core::name::Name;
use cledger_store::{Recipient, SeenKey, Sight};

use super::change::ONLY_SHOWN;
use crate::output::console::Console;
use crate::output::style;
use crate::output::style::Tone;
use crate::output::table::Table;
use cledger_work::keys::{Compared, KeyReader, KeysChanged, KeysTrusted, KnownSecret, Listed, OwnIdentity};
use cledger_work::shown::counted;

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

pub(crate) fn done(console: &mut Console, changed: &KeysChanged) {
    let KeysChanged { done, known, not_readable, written } = changed;
    let counts = done.iter().any(|one| one.secrets.is_some());
    let heads: &[&str] =
        if counts { &["key of", "readers", "secrets", ""] } else { &["key of", "readers", ""] };
    let mut table = Table::new(heads, console.width());
    for one in done {
        let plain = |text: String| (text, Tone::Plain);
        let mut row = vec![plain(called(&one.scope)), plain(names(&one.readers))];
        if let Some(secrets) = one.secrets.filter(|_| counts) {
            row.push(plain(secrets.to_string()));
        }
        let word =
            if *written || !one.changes { one.word.to_owned() } else { format!("would be {}", one.word) };
        let who = one.reader.as_ref().map(|name| format!("{name} ")).unwrap_or_default();
        row.push((format!("{who}{word}"), Tone::Quiet));
        table.row(row);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    fingerprints(console, done.iter().flat_map(|one| &one.readers));
    may_know(console, done.iter().find_map(|one| one.reader.as_ref()), (known, *written));
    if !not_readable.is_empty() {
        console.line("");
        console.line(format!("{}:", style::bad("passed over, since the key is not at hand")));
        for (scope, reason) in not_readable {
            console.wrapped(&format!("  {}: {reason}", called(scope)), "    ");
        }
    }
    if !*written {
        console.line("");
        console.line(format!("{}: --write does it.", style::doubtful("nothing written")));
    }
}

/// What somebody who was let out may still know, one line each, to be ticked off.
fn may_know(console: &mut Console, who: Option<&Name>, (known, written): (&[KnownSecret], bool)) {
    let Some(who) = who.filter(|_| !known.is_empty()) else { return };
    console.line("");
    console.line(format!("{}:", style::heading(&format!("{who} could read these: give each another value"))));
    let mut table = Table::new(&["secret", "used by"], console.width());
    for secret in known {
        let used = secret.used_by.iter().map(|(owner, stage)| format!("{owner}@{stage}"));
        let used: Vec<String> = used.collect();
        let used = if used.is_empty() { "nobody".to_owned() } else { used.join(", ") };
        table.row(vec![(secret.address.clone(), Tone::Plain), (used, Tone::Plain)]);
    }
    table.keep_whole(0);
    table.lines().iter().for_each(|line| console.line(line));
    let count = known.iter().map(|secret| secret.used_by.len()).sum();
    if count > 0 {
        let chores = counted(count, "chore");
        let each = "to tick off, one for each use";
        console.line(if written {
            format!("{chores} {each}: cledger chores")
        } else {
            format!("Comes with {chores} {each}.")
        });
    }
}

pub(crate) fn listed(console: &mut Console, listed: &[Listed]) {
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
    fingerprints(console, listed.iter().flat_map(|one| &one.known));
    let news: Vec<String> = listed.iter().filter_map(news).collect();
    if !news.is_empty() {
        console.line(format!("\n{}", style::heading("New since the last look")));
        for line in news {
            console.wrapped(&line, "  ");
        }
    }
}

/// What is new about a key, if something is.
fn news(one: &Listed) -> Option<String> {
    let name = called(&one.scope);
    match one.sight.as_ref()? {
        Sight::Same => None,
        Sight::First => {
            Some(format!("{name}: {} it was not seen here before", style::doubtful("first sight:")))
        }
        Sight::Explained => Some(format!("{name}: changed by one of its readers")),
        Sight::Unexplained(reason) => Some(format!("{name}: {} {reason}", style::bad("not explained:"))),
    }
}

/// The readers, each once, with what tells their public keys from others.
fn fingerprints<'r>(console: &mut Console, readers: impl Iterator<Item = &'r KeyReader>) {
    let readers: BTreeSet<&KeyReader> = readers.collect();
    if readers.is_empty() {
        return;
    }
    console.line("");
    let mut table = Table::new(&["reader", "public key"], console.width());
    for reader in readers {
        table.row(vec![(reader.name.to_string(), Tone::Plain), (reader.fingerprint.clone(), Tone::Plain)]);
    }
    table.lines().iter().for_each(|line| console.line(line));
}

fn names(readers: &[KeyReader]) -> String {
    let names: Vec<&str> = readers.iter().map(|reader| reader.name.as_str()).collect();
    names.join(", ")
}

/// Keys as they were last seen, and as they are.
pub(crate) fn compared(console: &mut Console, found: &[Compared]) {
    let mut table = Table::new(&["key of", "", "key", "changes", "readers"], console.width());
    for one in found {
        let mut row = |name: String, when: &str, seen: Option<&SeenKey>, tone: Tone| {
            let quiet = |text: &str| (text.to_owned(), Tone::Quiet);
            let cells = match seen {
                None if when == "now" => [quiet("not readable here"), quiet(""), quiet("")],
                None => [quiet("never"), quiet(""), quiet("")],
                Some(seen) => {
                    let readers = seen.readers.iter().map(|(name, key)| {
                        let key = Recipient::parse(key).ok().map(|key| format!(" {}", key.fingerprint()));
                        format!("{name}{}", key.unwrap_or_default())
                    });
                    let readers: Vec<String> = readers.collect();
                    [(seen.id.clone(), tone), (seen.generation.to_string(), tone), (readers.join(", "), tone)]
                }
            };
            table.row([(name, Tone::Plain), quiet(when)].into_iter().chain(cells).collect());
        };
        let tone = match one.sight {
            Some(Sight::Unexplained(_)) => Tone::Bad,
            Some(Sight::First) => Tone::Doubtful,
            _ => Tone::Plain,
        };
        row(called(&one.scope), "last seen", one.before.as_ref(), Tone::Plain);
        row(String::new(), "now", one.now.as_ref(), tone);
    }
    table.keep_whole(0);
    table.keep_whole(1);
    table.keep_whole(2);
    table.lines().iter().for_each(|line| console.line(line));
    for one in found {
        if let Some(Sight::Unexplained(reason)) = &one.sight {
            let text = format!("{}: {} {reason}", called(&one.scope), style::bad("not explained:"));
            console.line("");
            console.wrapped(&text, "  ");
        }
    }
}

/// What became of keys that somebody says are the right ones.
pub(crate) fn trusted(console: &mut Console, trusted: &KeysTrusted) {
    let KeysTrusted { keys: found, written } = trusted;
    compared(console, found);
    let news = found.iter().any(|one| one.sight != Some(Sight::Same));
    let keys = if found.len() == 1 { "this key" } else { "these keys" };
    console.line("");
    console.line(match (*written, news) {
        (true, _) => format!("{}: new secrets may be written under {keys}.", style::good("trusted")),
        (false, true) => {
            let text = format!("if {keys} and the readers are the right ones: --write.");
            format!("{}: {text}", style::doubtful("nothing written"))
        }
        (false, false) => format!("{}: nothing changed since the last look.", style::good("as last seen")),
    });
}

/// The public keys of one's own identity, alone on standard output.
pub(crate) fn identity(console: &mut Console, identity: &OwnIdentity) {
    if !identity.written {
        console.line(format!("Would make a new identity, readable by you alone: {}", identity.path));
        console.line(ONLY_SHOWN);
        return;
    }
    let what = if identity.is_new { "New identity, readable by you alone" } else { "Your identity" };
    console.notice(&format!("{what}: {}\nIts public key, for whoever lets you in:", identity.path));
    for recipient in &identity.recipients {
        console.line(recipient);
    }
}
