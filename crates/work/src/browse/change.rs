//! A change that is tried, shown, and then made if it still does what was shown.

use std::cell::OnceCell;
use std::sync::Arc;
use std::time::Duration;

use zeroize::Zeroizing;

use crate::change::{Changing, Consent};
use crate::set::{SettingsChanged, ToSay, ToSet, set, unset};
use crate::setting::Written;
use crate::shown::{Tone, counted, seen};
use crate::trouble::{Kind, Trouble};
use crate::workplace::Workplace;

/// So long is waited for somebody else who is changing the ledger.
const WAIT: Duration = Duration::from_secs(10);

/// The most effective values and findings that are listed.
const MOST: usize = 100;

/// A setting to be written or taken out.
#[derive(Debug, Clone)]
pub struct Change {
    /// Where; a group or `default` may stand for the stage.
    pub address: String,
    /// What is to be said there.
    pub say: Say,
    /// Why, where somebody says so.
    pub why: Option<String>,
}

/// What a setting is to say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Say {
    /// This text, in the field's own type.
    Text(String),
    /// A secret, which is asked for.
    Secret,
    /// That there is none, on purpose.
    Absent,
    /// Nothing: the setting is taken out.
    Nothing,
}

/// What came of a change.
#[derive(Debug)]
pub enum Outcome {
    /// What it would do, a line each. Nothing is written.
    Tried(Vec<(String, Tone)>),
    /// It is not made, since it would do something else than what was shown before: this.
    Otherwise(Vec<(String, Tone)>),
    /// Something outside failed while it was made; the trouble says how far that came, where that is known.
    NotKnown(Trouble),
    /// It is made.
    Made {
        /// What it did, a line each.
        lines: Vec<(String, Tone)>,
        /// The settings that were written or taken out, a sentence each.
        settings: Vec<String>,
    },
}

/// A change that was tried.
pub(super) struct Trial {
    change: Change,
    secret: OnceCell<Zeroizing<String>>,
    /// All that it would do, whatever of that is shown.
    does: Vec<(String, Tone)>,
}

impl Trial {
    /// Tries a change.
    pub(super) fn of(at: &Arc<Workplace>, change: Change) -> Result<(Self, Outcome), Trouble> {
        if change.address.contains('=') {
            let message =
                format!("`{}` is no address: what the field is to be has a line of its own", change.address);
            return Err(Trouble::usage(message).help("write UNIT/ENTRY.FIELD@STAGE"));
        }
        let mut trial = Self { change, secret: OnceCell::new(), does: Vec::new() };
        let changing = Changing::start_partly(at, WAIT)?.dry_run(true);
        let tried = trial.say(&changing)?;
        trial.does = lines(&tried, usize::MAX);
        Ok((trial, Outcome::Tried(lines(&tried, MOST))))
    }

    /// Makes the change, under one lock with a look at what it does now. What it would do otherwise is shown, and not
    /// done.
    pub(super) fn make(mut self, at: &Arc<Workplace>) -> Result<(Option<Self>, Outcome), Trouble> {
        let changing = Changing::start_partly(at, WAIT)?.dry_run(true);
        let now = self.say(&changing)?;
        let does = lines(&now, usize::MAX);
        if does != self.does {
            self.does = does;
            return Ok((Some(self), Outcome::Otherwise(lines(&now, MOST))));
        }
        let changing = changing.dry_run(false);
        let made = match self.say(&changing) {
            Err(trouble) if trouble.kind() == Kind::Outside => return Ok((None, Outcome::NotKnown(trouble))),
            made => made?,
        };
        let settings = made.settings.iter().map(sentence).collect();
        Ok((None, Outcome::Made { lines: lines(&made, MOST), settings }))
    }

    fn say(&self, changing: &Changing) -> Result<SettingsChanged, Trouble> {
        let Change { address, say, why } = &self.change;
        let consent = Consent { why: why.clone(), ..Consent::default() };
        let secret = || self.secret_text(changing);
        let (setting, say) = match say {
            Say::Text(text) => (format!("{address}={text}"), ToSay::Asked),
            Say::Secret => (address.clone(), ToSay::Text(&secret)),
            Say::Absent => (address.clone(), ToSay::Absent),
            Say::Nothing => return unset(changing, std::slice::from_ref(address), None, &consent),
        };
        set(changing, &ToSet { settings: vec![setting], say, consent, ..ToSet::default() })
    }

    /// The secret, asked for once.
    fn secret_text(&self, changing: &Changing) -> Result<Zeroizing<String>, Trouble> {
        if let Some(text) = self.secret.get() {
            return Ok(text.clone());
        }
        let typed = changing.opened.at.asking.secret(&self.change.address)?;
        let typed = typed.ok_or_else(|| Trouble::usage("no secret was typed, so nothing is set"))?;
        Ok(self.secret.get_or_init(|| typed).clone())
    }
}

fn side(side: Option<&String>) -> &str {
    side.map_or("not set", String::as_str)
}

fn sentence(one: &Written) -> String {
    let (before, after) = (side(one.before.as_ref()), side(one.after.as_ref()));
    format!("{}: {before} became {after}, in {}", one.address, one.file)
}

/// What a change does, a line each: so many effective values and findings at most.
fn lines(changed: &SettingsChanged, most: usize) -> Vec<(String, Tone)> {
    let mut lines = Vec::new();
    for one in &changed.settings {
        lines.push((one.address.clone(), Tone::Plain));
        lines.push((format!("  from  {}", side(one.before.as_ref())), Tone::Plain));
        lines.push((format!("  to    {}", side(one.after.as_ref())), Tone::Plain));
        lines.push((format!("  in    {}", one.file), Tone::Quiet));
    }
    let count = changed.effects.len();
    let change = if count == 1 { "changes" } else { "change" };
    let effects = match count {
        0 => "No effective value changes.".to_owned(),
        _ => format!("{} {change}:", counted(count, "effective value")),
    };
    lines.push((effects, Tone::Plain));
    for effect in changed.effects.iter().take(most) {
        let ((before, _), (after, tone)) = (seen(&effect.before), seen(&effect.after));
        lines.push((format!("  {}: {before} becomes {after}", effect.address), tone));
    }
    let findings = [("causes", Tone::Bad, &changed.caused), ("cures", Tone::Good, &changed.cured)];
    let mut left_out = count.saturating_sub(most);
    for (does, tone, findings) in findings {
        for finding in findings.iter().take(most) {
            let said = format!("{does} {} at {}: {}", finding.kind(), finding.address, finding.message);
            lines.push((said, tone));
        }
        left_out += findings.len().saturating_sub(most);
    }
    if left_out > 0 {
        lines.push((format!("and {left_out} more of these"), Tone::Quiet));
    }
    lines
}
