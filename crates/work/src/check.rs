//! What is missing, wrong or unused.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use cledger_core::address::Pattern;
use cledger_core::findings::{self, Finding, Report};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::{Scope, Surroundings};
use jiff::civil::Date;

use crate::against::{Against, keep_new};
use crate::change::Concerns;
use crate::covering::refuse_idle;
use crate::deliver::due;
use crate::differing::differing;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::shown::counted;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// What is to be checked.
#[derive(Debug, Clone, Default)]
pub struct ToCheck {
    /// A pattern of addresses; everything if not given.
    pub pattern: Option<String>,
    /// This stage alone.
    pub stage: Option<Name>,
    /// Try to fetch what settings take from outside.
    pub fetch: bool,
    /// Only what is new since this git revision.
    pub against: Option<String>,
    /// Take values that only the next delivery needs for errors.
    pub strict: bool,
    /// The day from which last days are counted; today if not given.
    pub today: Option<String>,
}

/// What was found.
#[derive(Debug)]
pub struct Checked {
    /// The ledger's folder, or the bare repository that it is in.
    pub folder: PathBuf,
    /// The ledger.
    pub ledger: Arc<Ledger>,
    /// The findings.
    pub report: Report,
    /// What was checked; everything if not given.
    pub pattern: Option<Pattern>,
    /// How many findings a revision had, too, where only what is new since then is in the report.
    pub older: Option<usize>,
    /// A line for each delivery of an earlier content that the ledger does not say.
    pub left: Vec<String>,
}

/// Finds what is missing, wrong or unused.
pub fn check(at: &Arc<Workplace>, asked: &ToCheck) -> Result<Checked, Trouble> {
    let pattern = pattern(asked)?;
    let today = at.day(asked.today.as_deref())?;
    let checked = match &asked.against {
        Some(revision) => against(at, revision, pattern, today)?,
        None => whole(at, asked, pattern, today)?,
    };
    if let Some(stage) = &asked.stage {
        known_stage(&checked.ledger, stage.as_str())?;
    }
    if let Some(pattern) = &checked.pattern {
        refuse_idle(&checked.ledger, pattern)?;
    }
    Ok(checked)
}

fn whole(
    at: &Arc<Workplace>,
    asked: &ToCheck,
    pattern: Option<Pattern>,
    today: Date,
) -> Result<Checked, Trouble> {
    let opened = Opened::read_quietly(at, &Scope::Whole)?;
    if let Some(stage) = &asked.stage {
        known_stage(&opened.ledger, stage.as_str())?;
    }
    let closed: Surroundings<'static>;
    let outside = if asked.fetch {
        &opened.surroundings
    } else {
        closed = opened.unfetched();
        &closed
    };
    let resolver = Resolver::new(&opened.ledger, outside, &[]);
    let mut report = findings::check(&resolver, pattern.as_ref(), Some(today));
    let left = due::look_back(&mut report, &opened, &resolver, asked.strict)?;
    opened.tell_unread_of(outside);
    let (folder, ledger) = (opened.folder.clone(), opened.ledger.clone());
    Ok(Checked { folder, ledger, report, pattern, older: None, left })
}

/// What is new since a revision.
fn against(
    at: &Arc<Workplace>,
    revision: &str,
    pattern: Option<Pattern>,
    today: Date,
) -> Result<Checked, Trouble> {
    let against = Against::read(at, revision)?;
    let before = Resolver::new(&against.before, against.outside_before(), &[]);
    let now = Resolver::new(&against.now, against.outside_now(), &[]);
    let mut report = findings::check(&now, pattern.as_ref(), Some(today));
    let all = report.findings.len();
    let gone = match against.concerned().filter(|_| pattern.is_none()) {
        Some((units, stages)) => {
            let concerns = Concerns::Units(units);
            let (new, gone) = differing((&before, &now), &concerns, stages.as_ref(), Some(today));
            let new: BTreeSet<_> = new.iter().map(Finding::key).collect();
            report.findings.retain(|finding| new.contains(&finding.key()));
            gone.iter().map(Finding::key).collect::<BTreeSet<_>>().len()
        }
        None => keep_new(&mut report, &findings::check(&before, pattern.as_ref(), Some(today))),
    };
    let older = all - report.findings.len();
    let new = counted(report.findings.len(), "new finding");
    at.telling.notice(&format!("Since {revision}: {new}, {gone} gone, {older} as before."));
    let (folder, ledger) = (against.folder.clone(), against.now.clone());
    Ok(Checked { folder, ledger, report, pattern, older: Some(older), left: Vec::new() })
}

fn pattern(asked: &ToCheck) -> Result<Option<Pattern>, Trouble> {
    let text = match (&asked.pattern, &asked.stage) {
        (None, None) => return Ok(None),
        (None, Some(stage)) => format!("@{stage}"),
        (Some(pattern), None) => pattern.clone(),
        (Some(pattern), Some(stage)) => {
            if Pattern::parse(pattern)?.has_stage() {
                return Err(Trouble::usage(format!("`{pattern}` names stages, and so does --stage")));
            }
            format!("{pattern}@{stage}")
        }
    };
    Ok(Some(Pattern::parse(&text)?))
}
