//! What is missing, wrong or unused.

mod ages;

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use cledger_core::address::Pattern;
use cledger_core::findings::{self, Finding, Report, is_of_units};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::{Scope, Surroundings};
use jiff::civil::Date;

use crate::against::{Against, keep_new};
use crate::change::Concerns;
use crate::covering::meant;
use crate::deliver::due;
use crate::differing::differing;
use crate::meant::known_stage;
use crate::meanwhile::{meanwhile, on_one_thread};
use crate::opened::Opened;
use crate::shown::counted;
use crate::trouble::Trouble;
use crate::workplace::Workplace;

pub use self::ages::Ages;

/// What is to be checked.
#[derive(Debug, Clone, Default)]
pub struct ToCheck {
    /// Patterns of addresses, of whole units if there are several, or bundles; everything if none is given.
    pub patterns: Vec<String>,
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
    /// What was checked; everything if there is none.
    pub patterns: Vec<Pattern>,
    /// How many findings a revision had, too, where only what is new since then is in the report.
    pub older: Option<usize>,
    /// A line for each delivery of an earlier content that the ledger does not say.
    pub left: Vec<String>,
}

/// Finds what is missing, wrong or unused.
pub fn check(at: &Arc<Workplace>, asked: &ToCheck) -> Result<Checked, Trouble> {
    let texts = texts(asked)?;
    let today = at.day(asked.today.as_deref())?;
    match &asked.against {
        Some(revision) => against(at, (asked, &texts), revision, today),
        None => whole(&Opened::read_quietly(at, &Scope::Whole)?, (asked, &texts), today),
    }
}

/// Finds what is missing, wrong or unused in a ledger of which all was read.
pub(crate) fn judge(opened: &Opened) -> Result<Checked, Trouble> {
    whole(opened, (&ToCheck::default(), &[]), opened.at.today()?)
}

fn whole(opened: &Opened, (asked, texts): (&ToCheck, &[String]), today: Date) -> Result<Checked, Trouble> {
    let patterns = patterns(&opened.ledger, asked, texts)?;
    let closed: Surroundings<'static>;
    let outside = if asked.fetch {
        &opened.surroundings
    } else {
        closed = opened.unfetched();
        &closed
    };
    let resolver = Resolver::new(&opened.ledger, outside, &[]);
    let (mut report, delivered) = meanwhile(
        || findings::check(&resolver, &patterns, Some(today)),
        || on_one_thread(|| due::LastDeliveries::read(opened)),
    );
    let left = match delivered? {
        Some(delivered) => due::look_back(&mut report, delivered, opened, &resolver, asked.strict)?,
        None => Vec::new(),
    };
    resolver.let_go();
    opened.tell_unread_of(outside);
    let (folder, ledger) = (opened.folder.clone(), opened.ledger.clone());
    Ok(Checked { folder, ledger, report, patterns, older: None, left })
}

/// What is new since a revision, told with what is gone since then.
fn against(
    at: &Arc<Workplace>,
    asked: (&ToCheck, &[String]),
    revision: &str,
    today: Date,
) -> Result<Checked, Trouble> {
    let (checked, gone) = new_since(&Against::read(at, revision)?, asked, today)?;
    let new = counted(checked.report.findings.len(), "new finding");
    let older = checked.older.unwrap_or_default();
    at.telling.notice(&format!("Since {revision}: {new}, {gone} gone, {older} as before."));
    Ok(checked)
}

/// What is new since a revision, and how many findings are gone.
fn new_since(
    against: &Against,
    (asked, texts): (&ToCheck, &[String]),
    today: Date,
) -> Result<(Checked, usize), Trouble> {
    let patterns = patterns(&against.now, asked, texts)?;
    let before = Resolver::new(&against.before, against.outside_before(), &[]);
    let now = Resolver::new(&against.now, against.outside_now(), &[]);
    let mut report = findings::check(&now, &patterns, Some(today));
    let all = report.findings.len();
    let gone = match against.concerned().filter(|_| patterns.is_empty()) {
        Some((units, stages)) => {
            let concerns = Concerns::Units(units);
            let (new, gone) = differing((&before, &now), &concerns, stages.as_ref(), Some(today));
            let new: BTreeSet<_> = new.iter().map(Finding::key).collect();
            report.findings.retain(|finding| new.contains(&finding.key()));
            gone.iter().map(Finding::key).collect::<BTreeSet<_>>().len()
        }
        None => keep_new(&mut report, &findings::check(&before, &patterns, Some(today))),
    };
    before.let_go();
    now.let_go();
    let older = Some(all - report.findings.len());
    let (folder, ledger) = (against.folder.clone(), against.now.clone());
    Ok((Checked { folder, ledger, report, patterns, older, left: Vec::new() }, gone))
}

/// What is to be checked, each with the stage that is named by itself.
fn texts(asked: &ToCheck) -> Result<Vec<String>, Trouble> {
    let Some(stage) = &asked.stage else { return Ok(asked.patterns.clone()) };
    if asked.patterns.is_empty() {
        return Ok(vec![format!("@{stage}")]);
    }
    let with_stage = |text: &String| {
        if text.contains('@') {
            return Err(Trouble::usage(format!("`{text}` names stages, and so does --stage")));
        }
        Ok(format!("{text}@{stage}"))
    };
    asked.patterns.iter().map(with_stage).collect()
}

/// The patterns of what is to be checked.
fn patterns(ledger: &Ledger, asked: &ToCheck, texts: &[String]) -> Result<Vec<Pattern>, Trouble> {
    if let Some(stage) = &asked.stage {
        known_stage(ledger, stage.as_str())?;
    }
    let patterns = meant(ledger, texts)?;
    if texts.len() > 1
        && let Some(other) = patterns.iter().find(|pattern| !is_of_units(pattern))
    {
        return Err(Trouble::usage(format!(
            "`{other}` is more or less than units, and several of those are checked at once"
        ))
        .help("check it by itself"));
    }
    Ok(patterns)
}
