//! Outputs: the names that fields have in rendered files.

use std::borrow::Cow;
use std::collections::BTreeSet;

use crate::model::{
    Apart, Declaration, Entry, Ledger, Levels, Naming, NoLabel, Outlet, Output, OutputFormat, Slot, StageId,
    StageText, Subject, UnitId, expand_stage_text,
};
use crate::name::Name;

/// The name of a field in an output: its steps from the root, more than one where it is nested.
pub type OutputName = Vec<String>;

/// Makes the names of fields in one output.
#[derive(Debug, Clone, Copy)]
pub struct NameMaker<'o> {
    format: OutputFormat,
    naming: Naming,
    prefix: Option<&'o str>,
    /// Lookup tables that are called as they are.
    apart: &'o [Apart],
    /// For whom and where references are expanded; without it they stay as they are written.
    around: Option<(&'o Ledger, Subject, StageId)>,
}

impl<'o> NameMaker<'o> {
    /// The usual names of a format.
    pub fn usual(format: OutputFormat) -> Self {
        Self { format, naming: format.usual_naming(), prefix: None, apart: &[], around: None }
    }

    /// The names in an output, with the references in them as they are written.
    pub fn as_written(output: &'o Output) -> Self {
        let prefix = output.prefix.as_ref().map(StageText::as_written);
        let apart = &output.apart;
        Self { format: output.format, naming: output.naming, prefix, apart, around: None }
    }

    /// The name of a field: what `as` says, in formats with levels a JSON Pointer (RFC 6901) if it
    /// begins with `/`; else one made as the output says, behind its prefix.
    pub fn name_of(&self, entry: &Entry, field: &Declaration) -> Result<OutputName, NoLabel> {
        if self.format == OutputFormat::Csv || self.apart.iter().any(|apart| apart.entry == entry.name) {
            return Ok(vec![entry.name.to_string()]);
        }
        let names = field.output_names();
        let by_format = names.by_format.iter().find(|(format, _)| format == self.format.name());
        let said = by_format.map(|(_, name)| name).or(names.all.as_ref());
        match said.filter(|_| self.format != OutputFormat::Template) {
            Some(said) => self.said(said),
            None => Ok(self.made(entry, field)),
        }
    }

    fn said(&self, said: &str) -> Result<OutputName, NoLabel> {
        let expanded = |text: &str| match self.around {
            Some((ledger, subject, stage)) => {
                expand_stage_text(text, ledger, subject, stage).map(Cow::into_owned)
            }
            None => Ok(text.to_owned()),
        };
        match said.strip_prefix('/') {
            Some(pointer) if self.format.levels() != Levels::One => {
                let steps =
                    pointer.split('/').map(|step| expanded(&step.replace("~1", "/").replace("~0", "~")));
                Ok(self.within_levels(steps.collect::<Result<_, _>>()?))
            }
            _ => Ok(vec![expanded(said)?]),
        }
    }

    fn made(&self, entry: &Entry, field: &Declaration) -> OutputName {
        let steps = || std::iter::once(&entry.name).chain(&field.name).map(Name::as_str);
        if self.format == OutputFormat::Template {
            return steps().map(|step| step.replace('-', "_")).collect();
        }
        let prefix = self.prefix.unwrap_or_default();
        let name = match self.naming {
            Naming::Nested => {
                let levels = prefix.split('.').filter(|level| !level.is_empty());
                return self.within_levels(levels.chain(steps()).map(str::to_owned).collect());
            }
            Naming::UpperSnake => {
                // Alone it may not begin with a digit.
                let starts_with_digit = entry.name.as_str().starts_with(|first: char| first.is_ascii_digit());
                let prefix = if self.prefix.is_none() && starts_with_digit { "_" } else { prefix };
                joined(prefix, steps(), "_", |c| if c == '-' { '_' } else { c.to_ascii_uppercase() })
            }
            Naming::Dotted => joined(prefix, steps(), ".", |c| c),
            Naming::Declared => joined(prefix, steps(), "_", |c| c),
            Naming::CamelCase => format!("{prefix}{}", camel_case(steps())),
        };
        vec![name]
    }

    /// The steps as the format can hold them: in one section, whose name has the levels above.
    fn within_levels(&self, mut steps: OutputName) -> OutputName {
        if self.format.levels() == Levels::Two && steps.len() > 2 {
            let last = steps.pop().unwrap_or_default();
            return vec![steps.join("."), last];
        }
        steps
    }
}

/// What `as` says for a field to have this name in files of a format, references in it as they are.
pub fn as_text(format: OutputFormat, name: &[String]) -> String {
    match name {
        [one] if format.levels() == Levels::One || !one.starts_with('/') => one.clone(),
        steps => {
            let mut pointer = String::new();
            for step in steps {
                pointer.push('/');
                pointer.push_str(&step.replace('~', "~0").replace('/', "~1"));
            }
            pointer
        }
    }
}

/// The steps behind a prefix, each of their characters as `made` makes it.
fn joined<'s>(
    prefix: &str,
    steps: impl Iterator<Item = &'s str> + Clone,
    between: &str,
    made: impl Fn(char) -> char,
) -> String {
    let length = steps.clone().map(|step| step.len() + between.len()).sum::<usize>();
    let mut name = String::with_capacity(prefix.len() + length);
    name.push_str(prefix);
    for (at, step) in steps.enumerate() {
        name.push_str(if at == 0 { "" } else { between });
        step.chars().for_each(|c| name.push(made(c)));
    }
    name
}

fn camel_case<'s>(steps: impl Iterator<Item = &'s str>) -> String {
    let mut name = String::new();
    for word in steps.flat_map(|step| step.split(['-', '_'])).filter(|word| !word.is_empty()) {
        let (first, rest) = word.split_at(1);
        name.push_str(&if name.is_empty() { first.to_owned() } else { first.to_ascii_uppercase() });
        name.push_str(rest);
    }
    name
}

impl Ledger {
    /// The fields of a unit that one of its outputs, or what an outlet without files has of it, calls so: the steps
    /// joined with dots, or as `as` writes them.
    pub fn fields_called(&self, unit: UnitId, name: &str) -> BTreeSet<Slot> {
        let known = self.unit(unit);
        let takes = |outlet: &&Outlet| {
            let mut stages = self.stage_ids();
            stages.any(|stage| {
                known.belongs_to(stage, None) && outlet.takes(stage, (known.name.as_str(), None))
            })
        };
        let contents = self.outlets.iter().filter(takes).filter_map(|outlet| outlet.kind.output());
        let all = known.outputs.iter().chain(contents);
        let called = all.flat_map(|output| {
            let is_it = |steps: &OutputName| steps.join(".") == name || as_text(output.format, steps) == name;
            output.names_as_written(self, unit).into_iter().filter(move |(steps, _)| is_it(steps))
        });
        called.map(|(_, slot)| slot).collect()
    }
}

impl Output {
    /// The names of all its fields as they are written, sorted.
    pub fn names_as_written(&self, ledger: &Ledger, unit: UnitId) -> Vec<(OutputName, Slot)> {
        // Nothing is expanded, so that no label can be missing.
        self.names(ledger, Subject::Unit(unit, None), NameMaker::as_written(self)).unwrap_or_default()
    }

    /// The names of all its fields for a subject in a stage, sorted.
    pub fn names_in(
        &self,
        ledger: &Ledger,
        subject: Subject,
        stage: StageId,
    ) -> Result<Vec<(OutputName, Slot)>, NoLabel> {
        self.with_maker(ledger, subject, stage, |maker| self.names(ledger, subject, maker))
    }

    /// The name of one field for a subject in a stage.
    pub fn name_in(
        &self,
        ledger: &Ledger,
        subject: Subject,
        stage: StageId,
        slot: Slot,
    ) -> Result<OutputName, NoLabel> {
        let (entry, field) = ledger.field(subject, slot);
        self.with_maker(ledger, subject, stage, |maker| maker.name_of(entry, field))
    }

    fn with_maker<R>(
        &self,
        ledger: &Ledger,
        subject: Subject,
        stage: StageId,
        make: impl FnOnce(NameMaker<'_>) -> Result<R, NoLabel>,
    ) -> Result<R, NoLabel> {
        let prefix = self.prefix.as_ref().map(|prefix| prefix.expand(ledger, subject, stage)).transpose()?;
        make(NameMaker {
            prefix: prefix.as_deref(),
            around: Some((ledger, subject, stage)),
            ..NameMaker::as_written(self)
        })
    }

    fn names(
        &self,
        ledger: &Ledger,
        subject: Subject,
        maker: NameMaker<'_>,
    ) -> Result<Vec<(OutputName, Slot)>, NoLabel> {
        let Subject::Unit(unit, _) = subject else { return Ok(Vec::new()) };
        let mut names = Vec::new();
        for slot in ledger.slots(subject).all() {
            let (entry, field) = ledger.field(subject, slot);
            if self.holds(ledger.unit(unit), entry, field) {
                names.push((maker.name_of(entry, field)?, slot));
            }
        }
        names.sort_unstable();
        Ok(names)
    }
}

/// A name that is another's too, or that lies on the way to another: the two fields that have them.
pub fn clash(names: &[(OutputName, Slot)]) -> Option<(&OutputName, Slot, Slot)> {
    let mut pairs = names.windows(2).filter(|pair| pair[1].0.starts_with(&pair[0].0));
    pairs.next().map(|pair| (&pair[0].0, pair[0].1, pair[1].1))
}

/// Why a path cannot be rendered to, if it cannot: it must stay below the folder of the unit.
pub fn path_fault(path: &str) -> Option<&'static str> {
    if path.is_empty() {
        Some("it is empty")
    } else if path.starts_with('/') {
        Some("it begins with `/`")
    } else if path.split('/').any(|part| matches!(part, "" | "." | "..")) {
        Some("it has an empty part, `.` or `..`")
    } else if path.contains(|c: char| c.is_control() || c == '\\' || c == ':') {
        Some("it has a backslash, a colon or a control character")
    } else {
        None
    }
}
