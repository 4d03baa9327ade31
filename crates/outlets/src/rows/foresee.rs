//! What other rows, and those of other tables, will say to a change before it is made.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use cledger_core::delivery::RowChange;
use jiff::Timestamp;
use zeroize::Zeroizing;

use super::column::Column;
use super::constraint::{Reference, Unique};
use super::statement::Statement;
use super::step::{Doing, Step, Tuple, in_order, referred, steps};
use super::{Rows, no_table};
use crate::failure::{Deadline, Failure};
use crate::held::{RowsOf, Values};
use crate::reach::RowsReach;

/// How many questions are asked in one statement.
const AT_ONCE: usize = 50;

/// How many refusals are told one by one.
const MOST_TOLD: usize = 5;

/// What can be seen of a change before it is made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Foreseen {
    /// Why tables do not take it, if they do not. No value is told.
    pub refused: Option<String>,
    /// The tables that could not be asked, each with the reason.
    pub not_asked: Vec<String>,
}

impl RowsReach {
    /// Asks whether rows that may not be alike, and rows that need another, let these changes be made to what was
    /// seen. Nothing is written; what is there may be another when that is done.
    pub fn foresee(
        &self,
        of: &RowsOf,
        seen: &Values,
        changes: &[RowChange],
        limit: Duration,
    ) -> Result<Foreseen, Failure> {
        let mut rows = Rows::to_read(self, Deadline::within(limit))?;
        rows.sees_constraints = true;
        let tables = rows.tables(of)?;
        let steps = in_order(steps(&tables, of, seen, changes, (&*rows.database, Timestamp::now()))?);
        rows.judge(&steps)
    }
}

impl Rows<'_> {
    fn judge(&mut self, steps: &[Step<'_>]) -> Result<Foreseen, Failure> {
        let coming = coming(steps);
        if let Some(refused) = alike(steps).or_else(|| left_behind(steps, &coming)) {
            return Ok(Foreseen { refused: Some(refused), not_asked: Vec::new() });
        }
        let mut referring = BTreeMap::new();
        for step in steps.iter().filter(|step| step.doing != Doing::Insert) {
            let table = &step.table.constraints.table;
            if !referring.contains_key(table) {
                referring.insert(table.clone(), self.database.referring(table)?);
            }
        }
        let questions = questions(steps, &referring);
        let mut of_table: BTreeMap<&[String], Vec<&Question<'_>>> = BTreeMap::new();
        for question in &questions {
            of_table.entry(question.about.table()).or_default().push(question);
        }
        let (mut refused, mut not_asked) = (Vec::new(), Vec::new());
        for (table, questions) in of_table {
            for some in questions.chunks(AT_ONCE) {
                match self.ask(steps, table, some) {
                    Ok(found) => refused.extend(some.iter().zip(found).filter_map(|(question, found)| {
                        Some((question.step, question.refused(steps, &coming, &found)?))
                    })),
                    Err(failure) => {
                        not_asked.push(format!("`{}`: {failure}", table.join(".")));
                        break;
                    }
                }
            }
        }
        refused.sort_unstable();
        Ok(Foreseen { refused: in_one(&refused), not_asked })
    }

    /// Asks a table several questions, and gives the rows that each has found.
    fn ask(
        &mut self,
        steps: &[Step<'_>],
        table: &[String],
        questions: &[&Question<'_>],
    ) -> Result<Vec<Vec<Found>>, Failure> {
        let there = self.look(table)?.ok_or_else(|| no_table(table))?;
        // Rows of our own tables are told apart; of others, it is enough that there are some.
        let own = steps.iter().find(|step| step.table.constraints.table == table);
        let identity: Vec<&Column> =
            own.iter().flat_map(|step| &step.row).map(|(column, _)| *column).collect();
        let select = if identity.is_empty() { "SELECT DISTINCT" } else { "SELECT" };
        let from = format!(" FROM {}", self.quoted(table));
        let mut statement = Statement::new(&*self.database);
        for (at, question) in questions.iter().enumerate() {
            let union = if at == 0 { "" } else { " UNION ALL " };
            statement = statement.say(&format!("{union}{select} '{at}'"));
            for column in &identity {
                statement = statement.say(", ").select([*column]);
            }
            statement = statement.say(&from);
            let mut word = "WHERE";
            match &question.about {
                About::Alike(_, _, tuple) | About::Needed(_, tuple) => {
                    for (name, text) in question.about.columns().iter().zip(tuple) {
                        statement = statement.alike(word, there.column(name)?, text);
                        word = "AND";
                    }
                }
                About::Referring(reference) => {
                    let Step { table, row, .. } = &steps[question.step];
                    let own = self.quoted(&table.parts);
                    for (column, other) in reference.columns.iter().zip(&reference.others) {
                        let [column, other] = [column, other].map(|name| self.database.quoted(name));
                        statement = statement
                            .say(&format!(" {word} {column} = (SELECT {other} FROM {own}"))
                            .all("WHERE", row.iter().map(|(column, text)| (*column, text.as_str())))
                            .say(")");
                        word = "AND";
                    }
                }
            }
        }
        let Statement { text, values, .. } = statement;
        let mut found: Vec<Vec<Found>> = vec![Vec::new(); questions.len()];
        for row in self.database.query(&text, &values)? {
            let mut cells = row.into_iter();
            let at: Option<usize> = cells.next().flatten().and_then(|at| at.parse().ok());
            let told = cells.zip(&identity).map(|(text, column)| text.map(|text| column.told(text)));
            if let Some(of_question) = at.and_then(|at| found.get_mut(at)) {
                of_question.push(told.collect());
            }
        }
        Ok(found)
    }
}

/// What tells a row that was found from others of its table.
type Found = Vec<Option<Zeroizing<String>>>;

/// What one asks of a table about a step.
struct Question<'q> {
    step: usize,
    about: About<'q>,
}

/// What a question is about.
enum About<'q> {
    /// Rows of its table that may not be like it, which is to hold this.
    Alike(&'q [String], &'q Unique, Tuple<'q>),
    /// The row that it needs, which has to hold this.
    Needed(&'q Reference, Tuple<'q>),
    /// Rows that refer to it as it is.
    Referring(&'q Reference),
}

impl<'q> About<'q> {
    /// The table that is asked.
    fn table(&self) -> &'q [String] {
        match self {
            Self::Alike(table, ..) => table,
            Self::Needed(reference, _) => &reference.to,
            Self::Referring(reference) => &reference.from,
        }
    }

    /// The columns there.
    fn columns(&self) -> &'q [String] {
        match self {
            Self::Alike(_, unique, _) => &unique.columns,
            Self::Needed(reference, _) => &reference.others,
            Self::Referring(reference) => &reference.columns,
        }
    }
}

/// All that is to be asked.
fn questions<'q>(
    steps: &'q [Step<'q>],
    referring: &'q BTreeMap<Vec<String>, Vec<Reference>>,
) -> Vec<Question<'q>> {
    let mut questions = Vec::new();
    for (at, step) in steps.iter().enumerate() {
        let known = &step.table.constraints;
        let alike = known
            .unique
            .iter()
            .filter_map(|unique| Some(About::Alike(&known.table, unique, step.gained(&unique.columns)?)));
        let needed = known
            .references
            .iter()
            .filter_map(|reference| Some(About::Needed(reference, step.gained(&reference.columns)?)));
        let loses = |it: &&Reference| step.loses(&it.others);
        let referring = referring.get(&known.table).into_iter().flatten().filter(loses).map(About::Referring);
        questions.extend(alike.chain(needed).chain(referring).map(|about| Question { step: at, about }));
    }
    questions
}

impl Question<'_> {
    /// Why the step does not go, by the rows that were found.
    fn refused(&self, steps: &[Step<'_>], coming: &Coming<'_>, found: &[Found]) -> Option<String> {
        let step = &steps[self.step];
        let (what, table) = (&step.what, self.about.table().join("."));
        match &self.about {
            About::Alike(_, unique, _) => self.stands(steps, found).then(|| {
                let (columns, name) = (in_words(&unique.columns), &unique.name);
                format!(
                    "{what}: another row of `{table}` has the same in {columns}, and no two may (`{name}`)"
                )
            }),
            About::Needed(reference, tuple) => {
                let comes = coming.get(&(&reference.to, &reference.others, tuple.clone()));
                (found.is_empty() && comes.is_none_or(|&with| with > self.step)).then(|| {
                    let (columns, name) = (in_words(&reference.columns), &reference.name);
                    format!("{what}: `{table}` has no row for what is to be in {columns} (`{name}`)")
                })
            }
            About::Referring(reference) => self.stands(steps, found).then(|| {
                let (columns, name) = (in_words(&reference.columns), &reference.name);
                format!("{what}: rows of `{table}` refer to it in {columns} (`{name}`)")
            }),
        }
    }

    /// Whether one of the rows that were found is still so after this step and those before it.
    fn stands(&self, steps: &[Step<'_>], found: &[Found]) -> bool {
        let (table, columns) = (self.about.table(), self.about.columns());
        let of_table = |step: &&Step<'_>| step.table.constraints.table == table;
        found.iter().any(|row| {
            let mut done = steps[..=self.step].iter().filter(of_table);
            !done.any(|step| is_row(step, row) && step.loses(columns))
        })
    }
}

/// What comes that rows can refer to, and with which step: a table, columns of it, and what they are to hold.
type Coming<'s> = HashMap<(&'s [String], &'s [String], Tuple<'s>), usize>;

fn coming<'s>(steps: &'s [Step<'s>]) -> Coming<'s> {
    let references = referred(steps);
    let mut coming = Coming::new();
    for (at, step) in steps.iter().enumerate() {
        let table = &step.table.constraints.table;
        for reference in references.iter().filter(|it| it.to == *table) {
            if let Some(tuple) = step.gained(&reference.others) {
                coming.entry((table, &reference.others, tuple)).or_insert(at);
            }
        }
    }
    coming
}

/// A row that goes, or is to hold something else, although one that is written needs it as it is.
fn left_behind(steps: &[Step<'_>], coming: &Coming<'_>) -> Option<String> {
    let mut needed = HashMap::new();
    for step in steps {
        for reference in &step.table.constraints.references {
            if let Some(tuple) = step.gained(&reference.columns) {
                needed.insert((&reference.to, &reference.others, tuple), (&step.what, reference));
            }
        }
    }
    let references = referred(steps);
    steps.iter().find_map(|step| {
        let table = &step.table.constraints.table;
        references.iter().filter(|it| it.to == *table).find_map(|it| {
            let lost = step.lost(&it.others)?;
            let (other, reference) = needed.get(&(table, &it.others, lost.clone()))?;
            if coming.contains_key(&(table, &it.others, lost)) {
                return None;
            }
            let (what, columns, name) = (&step.what, in_words(&reference.columns), &reference.name);
            Some(format!("{what}: {other} is to refer to it in {columns} (`{name}`)"))
        })
    })
}

/// Refusals as one text, which does not name all of many.
fn in_one(refused: &[(usize, String)]) -> Option<String> {
    let mut told: Vec<&str> = refused.iter().map(|(_, why)| why.as_str()).take(MOST_TOLD).collect();
    let more = refused.len().saturating_sub(MOST_TOLD);
    let more = (more > 0).then(|| format!("and {more} more"));
    told.extend(more.as_deref());
    (!told.is_empty()).then(|| told.join("; "))
}

/// Two rows that are to be written, and may not be alike.
fn alike(steps: &[Step<'_>]) -> Option<String> {
    let mut written = HashMap::new();
    for step in steps {
        let known = &step.table.constraints;
        for unique in &known.unique {
            let Some(tuple) = step.gained(&unique.columns) else { continue };
            if let Some(other) = written.insert((&known.table, &unique.name, tuple), &step.what) {
                let (what, columns, name) = (&step.what, in_words(&unique.columns), &unique.name);
                return Some(format!(
                    "{what}: it is to have the same in {columns} as {other}, and no two rows may (`{name}`)"
                ));
            }
        }
    }
    None
}

/// Whether a row that was found is that of a step.
fn is_row(step: &Step<'_>, found: &Found) -> bool {
    step.row
        .iter()
        .zip(found)
        .all(|((column, text), found)| found.as_ref().is_some_and(|found| column.is_same(text, found)))
}

fn in_words(columns: &[String]) -> String {
    columns.iter().map(|column| format!("`{column}`")).collect::<Vec<_>>().join(", ")
}
