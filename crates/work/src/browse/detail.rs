//! All about one field in a stage: what it comes to, what is written for it, what that is made of, where it ends up, and
//! what depends on it.

use cledger_core::impact::depending_on;
use cledger_core::model::{LayerId, Ledger};
use cledger_core::resolve::{FieldId, Resolver};
use cledger_core::source::Place;
use cledger_core::trace::{Candidate, Saying, Standing, origin};
use cledger_store::Target;

use crate::opened::Opened;
use crate::shown::{Tone, counted, origin as origin_shown};
use crate::trace::{Traced, trace, words};
use crate::trouble::Trouble;

/// The most fields that are named of those that depend on a value.
const MOST: usize = 100;

/// Lines below a heading.
#[derive(Debug, Clone)]
pub struct Block {
    /// The heading.
    pub title: String,
    /// The lines: how deep each stands, its text, and what that says.
    pub lines: Vec<(usize, String, Tone)>,
}

impl Block {
    fn new(title: impl Into<String>) -> Self {
        Self { title: title.into(), lines: Vec::new() }
    }

    fn line(&mut self, depth: usize, (text, tone): (String, Tone)) {
        if !text.is_empty() {
            self.lines.push((depth, text, tone));
        }
    }
}

/// All about a field in a stage.
#[derive(Debug)]
pub struct Detail {
    /// Its address.
    pub address: String,
    /// Whether it is declared a secret: then nobody may see what is typed for it.
    pub secret: bool,
    /// Whether it can be set at all.
    pub settable: bool,
    /// Where it is written now: the layer, for whom, and the place.
    pub from: Option<String>,
    /// The text that its value is written as, to begin a change with; `None` where that is no plain line of text.
    pub written: Option<String>,
    /// What is known of it.
    pub blocks: Vec<Block>,
}

impl Detail {
    /// Finds out all about the field at an address. Secrets stay masked.
    pub(super) fn of(opened: &Opened, address: &str) -> Result<Self, Trouble> {
        let place = opened.place(address, None)?;
        let Target::Layer(LayerId::Stage(stage)) = place.target else {
            return Err(Trouble::usage(format!("`{address}` is in no stage")).help("write UNIT/ENTRY@STAGE"));
        };
        if let Some(owner) = &place.address.owner {
            opened.subject_in(owner, stage)?;
        }
        let (ledger, outside) = (&*opened.ledger, opened.unfetched());
        let resolver = Resolver::new(ledger, &outside, &[]);
        let field = FieldId { subject: place.subject, stage, slot: place.slot };
        let declaration = ledger.field(place.subject, place.slot).1;
        let traced = trace(&resolver, field);
        let from = origin(&traced.outcome).and_then(|origin| origin.place).filter(|_| !declaration.derived);
        let wins = traced.candidates.iter().rev().find(|it| it.standing == Standing::Wins);
        let blocks = [
            Some(value(ledger, &traced)),
            Some(candidates(ledger, &traced, declaration.derived)),
            Some(steps(ledger, &traced)),
            Some(ends(&traced)),
            from.map(|from| depending(&resolver, from)),
        ];
        Ok(Self {
            address: address.to_owned(),
            secret: declaration.secret,
            settable: !declaration.derived,
            from: wins.map(|wins| words::place(ledger, wins)),
            written: wins.and_then(text).filter(|_| !declaration.secret),
            blocks: blocks.into_iter().flatten().filter(|block| !block.lines.is_empty()).collect(),
        })
    }
}

/// The text of a candidate that can be typed as it is.
fn text(candidate: &Candidate<'_>) -> Option<String> {
    let Saying::Value(held) = candidate.says else { return None };
    let text = held.open()?.to_text();
    (!text.contains(crate::shown::is_hidden)).then(|| text.to_string())
}

fn value(ledger: &Ledger, traced: &Traced<'_>) -> Block {
    let mut block = Block::new("value");
    block.line(0, words::outcome(&traced.outcome, false));
    let from = origin(&traced.outcome).map(|origin| origin_shown(ledger, origin)).unwrap_or_default();
    block.line(0, (from, Tone::Quiet));
    block
}

fn candidates(ledger: &Ledger, traced: &Traced<'_>, derived: bool) -> Block {
    let mut block = Block::new("candidates, weakest first");
    if traced.candidates.is_empty() {
        block.line(0, (words::no_candidate(derived).to_owned(), Tone::Quiet));
    }
    for candidate in &traced.candidates {
        block.line(0, (words::place(ledger, candidate), Tone::Plain));
        let (standing, tone) = words::standing(candidate);
        block.line(1, (format!("{}, {standing}", words::says(candidate, false)), tone));
    }
    block
}

fn steps(ledger: &Ledger, traced: &Traced<'_>) -> Block {
    let mut block = Block::new("refers to");
    for step in &traced.steps {
        let (says, tone) = words::outcome(&step.outcome, false);
        let again = if step.again { " (see above)" } else { "" };
        let name = words::field_name(ledger, traced.field, step.field);
        block.line(step.depth - 1, (format!("{name}: {says}{again}"), tone));
    }
    block
}

fn ends(traced: &Traced<'_>) -> Block {
    let mut block = Block::new("ends up as");
    for end in &traced.ends {
        block.line(0, (format!("{} in {}", end.name.join("."), end.path), Tone::Plain));
    }
    block
}

/// What depends on whatever is written at a place.
fn depending(resolver: &Resolver<'_>, from: Place) -> Block {
    let ledger = resolver.ledger();
    let mut block = Block::new(format!("what depends on {}", ledger.files.locate(from)));
    let affected = depending_on(resolver, from);
    for one in affected.iter().take(MOST) {
        let through = one.through.map(|through| format!(" through {}", ledger.address(through)));
        let line = format!("{}{}", ledger.address(one.field), through.unwrap_or_default());
        block.line(0, (line, Tone::Plain));
    }
    if affected.len() > MOST {
        let more = counted(affected.len() - MOST, "more value");
        block.line(0, (format!("and {more}: `cledger impact` names them"), Tone::Quiet));
    }
    block
}
