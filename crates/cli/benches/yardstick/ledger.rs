//! Makes the yardstick ledger from a seed: units × stages × fields, in folder form. Here stands the plain one; `real`
//! makes the one that has what real ledgers have beside it.

use std::fmt::Write as _;
use std::path::Path;
use std::{fs, io};

use fastrand::Rng;

use crate::real;

/// What stands in a ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    /// Shared connections, a group, an endpoint and variables; a tenth of the units refers to another one.
    Plain,
    /// Groups, follows with exceptions, instances, tables, chains of references across units and of shared text, rules,
    /// and mistakes.
    Real,
    /// The same where nobody has made a mistake.
    RealWithoutMistakes,
}

/// The measure of a ledger.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Measure {
    pub(crate) shape: Shape,
    pub(crate) units: usize,
    pub(crate) stages: usize,
    pub(crate) fields: usize,
}

impl Measure {
    /// How many effective values there are.
    pub(crate) fn values(self) -> usize {
        self.units * self.stages * self.fields
    }
}

/// Fields that every unit has beside its variables: two shared entries and an endpoint.
const FIELDS_OF_ENTRIES: usize = 7 + 6 + 7;

/// The name of a stage by its number; the last two are of class production.
pub(crate) fn stage_name(number: usize) -> String {
    format!("stage-{number}")
}

/// The class of a stage by its number, of so many.
pub(crate) fn class(number: usize, stages: usize) -> &'static str {
    match number {
        0 => "development",
        _ if number + 2 < stages => "test",
        _ => "production",
    }
}

/// Writes the ledger into a folder that is there.
pub(crate) fn write(folder: &Path, measure: Measure, seed: u64) -> io::Result<()> {
    let mut random = Rng::with_seed(seed);
    match measure.shape {
        Shape::Plain => write_plain(folder, measure, &mut random),
        Shape::Real | Shape::RealWithoutMistakes => real::write(folder, measure, &mut random),
    }
}

fn write_plain(folder: &Path, measure: Measure, random: &mut Rng) -> io::Result<()> {
    let stages: Vec<String> = (0..measure.stages).map(stage_name).collect();
    fs::create_dir_all(folder.join("units"))?;
    fs::create_dir_all(folder.join("groups"))?;
    fs::write(folder.join("ledger.toml"), manifest(&stages))?;
    fs::write(folder.join("shared.toml"), SHARED)?;
    fs::write(
        folder.join("groups/common.toml"),
        "[shared.mail]\nhost = \"mail.yardstick.example\"\n\n[shared.store]\nuser = \"yard\"\n",
    )?;
    for stage in &stages {
        let folder = folder.join("stages").join(stage);
        fs::create_dir_all(&folder)?;
        let text = format!(
            "[store]\nhost = \"store.{stage}.yardstick.example\"\n\
             password = {{ from = \"env:STORE_PASSWORD\" }}\n"
        );
        fs::write(folder.join("shared.toml"), text)?;
    }
    let variables = measure.fields - FIELDS_OF_ENTRIES;
    for unit in 0..measure.units {
        let contract = contract(random, unit, variables);
        fs::write(folder.join(format!("units/unit-{unit}.toml")), contract)?;
        for stage in &stages {
            let settings = settings(random, stage, unit, variables, measure.units);
            fs::write(folder.join(format!("stages/{stage}/unit-{unit}.toml")), settings)?;
        }
    }
    Ok(())
}

fn manifest(stages: &[String]) -> String {
    let mut text = "format = 1\nname = \"Yardstick\"\ndefault_stage = \"stage-0\"\n".to_owned();
    for (number, stage) in stages.iter().enumerate() {
        let class = class(number, stages.len());
        let _ = write!(text, "\n[[stage]]\nname = \"{stage}\"\nclass = \"{class}\"\ngroups = [\"common\"]\n");
    }
    text
}

const SHARED: &str = "[connections.store]\nprotocol = \"postgresql\"\nfields.database.default = \"yard\"\n\n\
                      [connections.mail]\nprotocol = \"smtp\"\nfields.host.vary = \"may\"\n";

fn contract(random: &mut Rng, unit: usize, variables: usize) -> String {
    let mut text = format!(
        "about = \"Unit number {unit} of the yardstick\"\nowner = \"team-{}\"\nuses = [\"mail\", \"store\"]\n\n\
         [endpoints.next]\n\n[[output]]\npath = \"unit.env\"\nformat = \"dotenv\"\n",
        random.u8(..20)
    );
    for number in 0..variables {
        let _ = write!(text, "\n[variables.value-{number}]\n");
        text += match number % 5 {
            0 => "type = \"integer\"\nmin = 0\nmax = 100000\n",
            1 => "type = \"duration\"\ndefault = \"30s\"\n",
            2 => "about = \"What this unit is called by the others\"\n",
            3 => "type = \"boolean\"\ndefault = false\n",
            _ => "type = \"text\"\ndefault = \"${unit.name} in ${stage.name}\"\n",
        };
    }
    text
}

fn settings(random: &mut Rng, stage: &str, unit: usize, variables: usize, units: usize) -> String {
    let mut text = String::new();
    for number in 0..variables {
        let _ = match number % 5 {
            0 => writeln!(text, "value-{number} = {}", random.u32(..100_000)),
            1 => writeln!(text, "value-{number} = \"{}s\"", random.u8(1..)),
            2 => writeln!(text, "value-{number} = \"{} of {stage}\"", word(random)),
            3 => writeln!(text, "value-{number} = {}", random.bool()),
            _ => Ok(()),
        };
    }
    // A tenth of the units asks another one where it is.
    let base = if unit > 0 && unit.is_multiple_of(10) {
        format!("${{unit-{}/next.base}}/on", random.usize(..unit.min(units)))
    } else {
        format!("https://{}.{stage}.yardstick.example/{}", word(random), word(random))
    };
    let _ = write!(
        text,
        "\n[next]\nbase = \"{base}\"\ntimeout = \"{}s\"\n# The proxy is the same for the whole stage.\n\
         proxy = \"http://proxy.{stage}.yardstick.example:3128\"\n\n[store]\ndatabase = \"{}\"\n\
         options = {{ sslmode = \"require\", application_name = \"{}\" }}\n",
        random.u8(1..),
        word(random),
        word(random)
    );
    text
}

/// Eight letters.
pub(crate) fn word(random: &mut Rng) -> String {
    (0..8).map(|_| random.lowercase()).collect()
}
