//! The plain yardstick ledger: shared connections, a group, an endpoint and variables of all sorts; a tenth of the units
//! refers to another one.

use std::fmt::Write as _;
use std::path::Path;
use std::{fs, io};

use fastrand::Rng;

use crate::ledger::{Measure, class, declared, entries, set, stage_name, word};

/// Fields that every unit has beside its variables: two shared entries and an endpoint.
const FIELDS_OF_ENTRIES: usize = 7 + 6 + 7;

/// Writes the ledger into a folder that is there.
pub(crate) fn write(folder: &Path, measure: Measure, random: &mut Rng) -> io::Result<()> {
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
        text += declared(number);
    }
    text
}

fn settings(random: &mut Rng, stage: &str, unit: usize, variables: usize, units: usize) -> String {
    let mut text = String::new();
    for number in 0..variables {
        text += &set(random, number, stage);
    }
    // A tenth of the units asks another one where it is.
    let base = if unit > 0 && unit.is_multiple_of(10) {
        format!("${{unit-{}/next.base}}/on", random.usize(..unit.min(units)))
    } else {
        format!("https://{}.{stage}.yardstick.example/{}", word(random), word(random))
    };
    text += &entries(random, &base, stage);
    text
}
