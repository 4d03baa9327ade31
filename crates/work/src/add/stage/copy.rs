//! A stage that is a copy of another: its settings as they stand there, with other texts in them, and without secrets
//! unless they are asked for or made.

use std::collections::BTreeSet;
use std::path::PathBuf;

use cledger_core::cipher::KeyScope;
use cledger_core::impact::Written as Layered;
use cledger_core::model::{LayerId, Ledger, Note, SettingValue, StageId};
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_core::search::{self, Conditions};
use cledger_store::{Changed, Edit, Overlay, Target, What, apply, make as make_keys, setting};
use zeroize::Zeroizing;

use super::{Copying, NewStage};
use crate::add::added::{Added, written_as_planned};
use crate::add::like::with_swaps;
use crate::change::{Changing, NO_CHANGE, hands_out};
use crate::declare::ToDo;
use crate::fill::{Filling, ToAsk, lacking_in};
use crate::generated::{ALPHABET, generated};
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::setting::{Given, Setter, source_text, write};
use crate::trouble::Trouble;

/// Adds the stage that `changed` declares, with the settings of the other one.
pub(super) fn copied(
    changing: &Changing,
    new: &NewStage,
    copying: &Copying,
    like: StageId,
    mut changed: Changed,
) -> Result<Added, Trouble> {
    let ledger = changing.ledger();
    pairs_of(&copying.swap)?;
    copy_files(changing, new, like, &mut changed);
    let scope = KeyScope::Stage(new.name.clone());
    let makes_secrets = new.with_secrets || copying.generate.is_some();
    let keyed = makes_secrets && with_key(changing, new, like, &scope, &mut changed)?;
    let after = changing.read_after(&changed)?;
    let id = known_stage(&after, new.name.as_str())?;
    let (edits, count, secrets) = taken_over(&after, id, new, copying)?;
    if !secrets.is_empty() && new.with_secrets {
        hands_out(&changing.opened.at, ledger.stage(like), true, &new.consent.countersign)?;
    }
    changed.extend(apply(&Overlay::new(changing.disk(), &changed), &edits)?);
    let after = if new.with_secrets {
        changing.resealed(ledger, &NO_CHANGE, &mut changed)?
    } else {
        changing.read_after(&changed)?
    };
    let (form, made) = completed(changing, new, copying, after, &mut changed)?;
    let planned = changing.plan_texts_in(changed, Some(&BTreeSet::from([new.name.clone()])))?;
    changing.refuse_bad_rows(&planned)?;
    let notice = |text: &str| changing.opened.at.telling.notice(text);
    if keyed {
        let readers = format!(
            "A key is made for {}, for those who read that of {}.",
            new.name,
            ledger.stage(like).name
        );
        notice(&readers);
    }
    if !secrets.is_empty() && !new.with_secrets {
        notice(&format!(
            "Not taken over, since they are secrets: {} (--with-secrets takes them over).",
            secrets.join(", ")
        ));
    }
    let what = format!("stage {} like {}", new.name, ledger.stage(like).name);
    let mut added = written_as_planned(changing, planned, what)?.0;
    added.copied = Some(count);
    added.made = made;
    added.form = form;
    added.to_do = ToDo::Write;
    Ok(added)
}

/// The files of the other stage under the new name.
fn copy_files(changing: &Changing, new: &NewStage, like: StageId, changed: &mut Changed) {
    let (old, ledger) = (&changing.ledger().stage(like).name, changing.ledger());
    let (file, folder) = (format!("stages/{old}.toml"), format!("stages/{old}/"));
    for known in &ledger.files.0 {
        let path = if known.path == file {
            format!("stages/{}.toml", new.name)
        } else if let Some(rest) = known.path.strip_prefix(&folder) {
            format!("stages/{}/{rest}", new.name)
        } else {
            continue;
        };
        changed.insert(path, Some(known.text.clone()));
    }
}

/// Makes a key for the new stage for those who read the other one's; whether that had one.
fn with_key(
    changing: &Changing,
    new: &NewStage,
    like: StageId,
    scope: &KeyScope,
    changed: &mut Changed,
) -> Result<bool, Trouble> {
    let other = changing.ledger().key_scope(LayerId::Stage(like));
    let keys = changing.keys(&NO_CHANGE);
    if !keys.has_key(&other) {
        return Ok(false);
    }
    let known = keys.key(&other).map_err(|error| {
        Trouble::from(error)
            .help(format!("add the stage without secrets, and make its key: cledger key make @{}", new.name))
    })?;
    let more = make_keys(&changing.keys(changed), std::slice::from_ref(scope), &known.readers, None)?;
    changed.extend(more);
    Ok(true)
}

/// The edits by which the copied settings become those of the new stage, how many there are, and the secrets among
/// them, which go unless they are taken over.
fn taken_over(
    after: &Ledger,
    id: StageId,
    new: &NewStage,
    copying: &Copying,
) -> Result<(Vec<Edit>, usize, Vec<String>), Trouble> {
    let pairs = pairs_of(&copying.swap)?;
    let layer = LayerId::Stage(id);
    let (mut edits, mut count, mut secrets) = (Vec::new(), 0, Vec::new());
    let all = search::settings(after, &Unfetched, &Conditions::default());
    for found in all.iter().filter(|found| matches!(found.written, Layered::In(of) if of == layer)) {
        let Some(known) = found.setting else { continue };
        let is_secret =
            after.field(found.subject, found.slot).1.secret || matches!(known.value, SettingValue::Cipher(_));
        let edit = |what| setting(after, Target::Layer(layer), found.subject, found.slot, what);
        if is_secret {
            secrets.push(format!(
                "{}/{}",
                after.owner(found.subject),
                after.field_name(found.subject, found.slot)
            ));
            if !new.with_secrets {
                edits.push(edit(What::Remove));
                continue;
            }
        } else {
            let said = source_text(after, known);
            let other = with_swaps(&said, &pairs);
            edits.extend(other.filter(|other| *other != said).map(|other| edit(What::Set(other))));
        }
        count += 1;
    }
    secrets.sort_unstable();
    secrets.dedup();
    Ok((edits, count, secrets))
}

/// The form that was written, and for how many values.
type Form = Option<(PathBuf, usize)>;

/// Makes the secrets that the new stage lacks, and asks for what else it lacks. Gives the form that was written, and the
/// addresses of the secrets.
fn completed(
    changing: &Changing,
    new: &NewStage,
    copying: &Copying,
    after: Ledger,
    changed: &mut Changed,
) -> Result<(Form, Vec<String>), Trouble> {
    let mut made = Vec::new();
    let mut opened = opened(changing, after, changed);
    let id = known_stage(&opened.ledger, new.name.as_str())?;
    let note = Note { why: new.consent.why.clone(), ..Note::default() };
    if let Some(length) = copying.generate {
        let mut edits = Vec::new();
        {
            let (ledger, keys) = (&opened.ledger, changing.keys(changed));
            let setter = Setter { ledger, keys: &keys, plain_secrets: copying.plain_secrets };
            let outside = changing.outside(changed);
            let resolver = Resolver::new(ledger, &outside, &[]);
            for lacking in lacking_in(&resolver, id, &|_| true).into_iter().filter(|lacking| lacking.secret) {
                let place = opened.place(&lacking.address, None)?;
                let text: Zeroizing<String> = generated(length, ALPHABET)?;
                let declaration = ledger.field(place.subject, place.slot).1;
                // What must have a form of its own cannot be any text.
                if declaration.this_type != cledger_core::types::Type::Text {
                    continue;
                }
                let said = match setter.said(&place, Given::Hand(&text), None) {
                    Ok(said) => said,
                    Err(trouble) if declaration.constraints.is_some() => {
                        changing.opened.at.telling.notice(&format!("{trouble}."));
                        continue;
                    }
                    Err(trouble) => return Err(trouble),
                };
                edits.extend(write(ledger, &place, LayerId::Stage(id), &said, &note).0);
                made.push(lacking.address);
            }
        }
        changed.extend(apply(&Overlay::new(changing.disk(), changed), &edits)?);
        opened = self::opened(changing, changing.read_after(changed)?, changed);
    }
    let asked = ToAsk {
        answers: copying.answers.clone(),
        plain_secrets: copying.plain_secrets,
        write: copying.write,
        note,
    };
    let filling = Filling::of(&opened, &changing.keys(changed), &[id], &|_| true, &asked)?;
    changed.extend(apply(&Overlay::new(changing.disk(), changed), &filling.edits)?);
    Ok((filling.form, made))
}

/// The ledger as these changes make it.
fn opened(changing: &Changing, after: Ledger, changed: &Changed) -> Opened {
    Opened::of(&changing.opened.at, changing.root().to_owned(), after, changed.clone())
}

/// Old texts and new ones.
fn pairs_of(texts: &[String]) -> Result<Vec<(String, String)>, Trouble> {
    crate::add::like::pairs(texts)
}

/// A text with others in it.
pub(super) fn swap(text: &str, pairs: &[String]) -> String {
    pairs.chunks_exact(2).fold(text.to_owned(), |text, pair| text.replace(&pair[0], &pair[1]))
}
