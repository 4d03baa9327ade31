//! Hiding the secrets of what is brought in what programs say.

use cledger_core::kept::Kept;
use cledger_core::model::{StageId, Subject};
use cledger_core::resolve::{FieldId, Outcome, Resolver};
use cledger_core::value::Value;
use cledger_outlets::effect::Masking;
use cledger_store::daybook::Content;
use zeroize::Zeroizing;

use crate::meant::unit_of;

/// What hides the secrets of a unit in a stage, as they are now and as they are in this content.
pub(crate) fn masking(
    resolver: &Resolver<'_>,
    subject: Option<Subject>,
    stage: StageId,
    contents: [Option<&Content>; 2],
) -> Masking {
    masking_of([(resolver, subject, stage, contents)].into_iter())
}

/// The same of several units.
pub(crate) fn masking_of<'m, 'l: 'm>(
    units: impl Iterator<Item = (&'m Resolver<'l>, Option<Subject>, StageId, [Option<&'m Content>; 2])>,
) -> Masking {
    let mut secrets = Vec::new();
    for (resolver, subject, stage, contents) in units {
        secrets.extend(subject.iter().flat_map(|&subject| secrets_of(resolver, subject, stage)));
        secrets.extend(contents.into_iter().flatten().flat_map(secrets_in));
    }
    Masking::of(secrets.iter().map(|secret: &Zeroizing<String>| secret.as_str()))
}

/// Whatever may be a secret in a content.
fn secrets_in(content: &Content) -> Vec<Zeroizing<String>> {
    let ours = content.files.values().chain(content.documents.values()).chain(content.rows.values());
    let texts = ours.chain(content.before.values());
    texts.filter(|kept| kept.is_secret()).filter_map(Kept::expose).flat_map(|text| words_of(text)).collect()
}

/// The secrets of a unit in a stage, as far as they are readable: the texts that they consist of.
pub(crate) fn secrets_of(
    resolver: &Resolver<'_>,
    subject: Subject,
    stage: StageId,
) -> Vec<Zeroizing<String>> {
    let ledger = resolver.ledger();
    let mut session = resolver.session(unit_of(subject));
    let mut secrets: Vec<Zeroizing<String>> = Vec::new();
    for slot in ledger.slots(subject).all() {
        if let Outcome::Value(effective) = session.outcome(FieldId { subject, stage, slot })
            && effective.is_secret()
            && let Some(value) = effective.expose()
        {
            leaves(value, &mut secrets);
        }
    }
    secrets
}

/// The texts that a value consists of.
fn leaves(value: &Value, into: &mut Vec<Zeroizing<String>>) {
    match value {
        Value::List(values) => values.iter().for_each(|value| leaves(value, into)),
        Value::Map(values) => values.values().for_each(|value| leaves(value, into)),
        other => into.push(Zeroizing::new(other.to_text().to_string())),
    }
}

/// Whatever may be a value in a text with secrets of which the ledger does not know any more where they stand:
/// the rest of each line behind its first `=` or `:`, and what stands in quotes there.
fn words_of(text: &str) -> Vec<Zeroizing<String>> {
    let mut words = Vec::new();
    for line in text.lines() {
        let rest = line.split_once(['=', ':']).map_or(line, |(_, rest)| rest).trim();
        let bare = rest.trim_end_matches([',', ';']).trim_matches(['"', '\'']);
        words.extend([rest, bare].iter().filter(|word| word.len() >= WORD).map(|word| (*word).to_owned()));
        words.extend(rest.split('"').filter(|word| word.len() >= WORD).map(str::to_owned));
    }
    words.into_iter().map(Zeroizing::new).collect()
}

/// The shortest such word, in bytes: shorter ones are no secrets worth the name.
const WORD: usize = 6;
