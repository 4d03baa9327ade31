//! The yardstick ledger as real ones are: units that refer to a few others in chains of up to ten, shared text in shared
//! text, two groups, three follows with exceptions, instances, tables, rules, and mistakes in one of fifty settings.

use std::fmt::Write as _;
use std::path::Path;
use std::{fs, io};

use fastrand::Rng;

use crate::ledger::{Measure, Shape, class, declared, entries, set, stage_name, word};

/// Fields that every unit has beside its variables: two shared connections, an endpoint and two references.
const FIELDS_OF_ENTRIES: usize = 7 + 6 + 7 + 2;

/// Units refer to each other within blocks of so many, each to those before it.
const BLOCK: usize = 10;

/// One of so many settings is a mistake.
const MISTAKES: usize = 50;

/// Writes the ledger into a folder that is there.
pub(crate) fn write(folder: &Path, measure: Measure, random: &mut Rng) -> io::Result<()> {
    for name in ["units", "tables", "groups/common", "groups/live", "stages"] {
        fs::create_dir_all(folder.join(name))?;
    }
    fs::write(folder.join("ledger.toml"), manifest(measure.stages))?;
    fs::write(folder.join("shared.toml"), SHARED)?;
    fs::write(folder.join("groups/common/shared.toml"), COMMON)?;
    fs::write(folder.join("groups/live/shared.toml"), "[mail]\nport = 587\n")?;
    let stages: Vec<String> = (0..measure.stages).map(stage_name).collect();
    for stage in &stages {
        fs::create_dir_all(folder.join("stages").join(stage))?;
        fs::write(folder.join(format!("stages/{stage}/shared.toml")), shared_of(stage))?;
    }
    let variables = measure.fields - FIELDS_OF_ENTRIES;
    for unit in 0..measure.units {
        let write = |path: String, text: String| fs::write(folder.join(path), text);
        write(format!("units/unit-{unit}.toml"), contract(random, unit, variables))?;
        if has_table(unit) {
            let rows = (0..8).map(|row| format!("quay-{row},{},{}\n", word(random), random.u8(..)));
            write(
                format!("tables/unit-{unit}.csv"),
                format!("quay,name,places\n{}", rows.collect::<String>()),
            )?;
        }
        for group in ["common", "live"] {
            if random.u8(..4) == 0 {
                write(format!("groups/{group}/unit-{unit}.toml"), "value-1 = \"45s\"\n".to_owned())?;
            }
        }
        for (number, stage) in stages.iter().enumerate() {
            let settings = settings(random, (number, unit, variables), measure.shape);
            write(format!("stages/{stage}/unit-{unit}.toml"), settings)?;
            for instance in INSTANCES.iter().filter(|_| has_instances(unit)) {
                let text = format!("value-0 = {}\n\n[next]\ntimeout = \"9s\"\n", random.u16(..));
                write(format!("stages/{stage}/unit-{unit}+{instance}.toml"), text)?;
            }
        }
    }
    Ok(())
}

const INSTANCES: [&str; 2] = ["east", "west"];

fn has_instances(unit: usize) -> bool {
    unit % 4 == 3
}

fn has_table(unit: usize) -> bool {
    unit % 10 == 4
}

fn manifest(stages: usize) -> String {
    let mut text = "format = 1\nname = \"Yardstick\"\ndefault_stage = \"stage-0\"\n\n\
                    [[rule]]\nname = \"patience\"\nfields = \"*/next.timeout\"\nmax = \"300s\"\n\n\
                    [[rule]]\nname = \"ways\"\ntypes = [\"url\"]\npattern = \"^(https?|smtp|postgresql)://\"\n"
        .to_owned();
    for number in 0..stages {
        let (name, class) = (stage_name(number), class(number, stages));
        let groups = if class == "production" { "\"common\", \"live\"" } else { "\"common\"" };
        let _ = write!(
            text,
            "\n[[stage]]\nname = \"{name}\"\nclass = \"{class}\"\ngroups = [{groups}]\n\
             labels = {{ zone = \"zone-{number}\" }}\n"
        );
        if follows(number) {
            let _ = writeln!(
                text,
                "follow = [{{ stage = \"{}\", only = [\"shared/*\", \"*/value-*\", \"*/next.*\"], \
                 except = [\"shared/*.host\", \"*/value-?0\", \"*/*.password\", \"unit-1*/next.base\"] }}]",
                stage_name(number - 1)
            );
        }
    }
    text
}

/// Whether a stage follows the one before it, of the same class.
fn follows(stage: usize) -> bool {
    matches!(stage, 2 | 4 | 7)
}

const SHARED: &str = "[connections.store]\nprotocol = \"postgresql\"\nfields.database.default = \"yard\"\n\n\
                      [connections.mail]\nprotocol = \"smtp\"\nfields.host.vary = \"may\"\n\n\
                      [variables.domain]\ndefault = \"${zone}.yardstick.example\"\n\n\
                      [variables.zone]\ndefault = \"${stage.label.zone}\"\n";

const COMMON: &str = "[mail]\nhost = \"mail.${domain}\"\n\n[store]\nuser = \"yard\"\n";

fn shared_of(stage: &str) -> String {
    format!("[store]\nhost = \"store.{stage}.${{domain}}\"\npassword = {{ from = \"env:STORE_PASSWORD\" }}\n")
}

fn contract(random: &mut Rng, unit: usize, variables: usize) -> String {
    let mut text = format!(
        "about = \"Unit number {unit} of the yardstick\"\nowner = \"team-{}\"\nversion = \"3.{}\"\n\
         uses = [\"mail\", \"store\"]\n\n[endpoints.next]\n\n[[output]]\npath = \"unit.env\"\nformat = \"dotenv\"\n\n\
         [variables.ask]\ntype = \"url\"\n\n[variables.greeting]\n",
        random.u8(..20),
        random.u8(..9)
    );
    if has_instances(unit) {
        text += "\n[instances.east]\n\n[instances.west]\nstages = [\"stage-*\"]\n";
    }
    if has_table(unit) {
        let _ = write!(
            text,
            "\n[tables.quays]\ncolumns = [\"quay\", \"name\", \"places\"]\nkey = \"quay\"\n\
             rows = \"tables/unit-{unit}.csv\"\n"
        );
    }
    for number in 0..variables {
        let _ = write!(text, "\n[variables.value-{number}]\n");
        text += declared(number);
    }
    text
}

fn settings(random: &mut Rng, (stage, unit, variables): (usize, usize, usize), shape: Shape) -> String {
    let mut text = String::new();
    let name = stage_name(stage);
    let base = format!("https://{}.${{stage.name}}.yardstick.example/{}", word(random), word(random));
    // A chain through the units of the block, and others of it beside.
    let (first, place) = (unit / BLOCK * BLOCK, unit % BLOCK);
    let (ask, greeting) = if place == 0 {
        (base.clone(), word(random))
    } else {
        let other = |random: &mut Rng| first + random.usize(..place);
        (
            format!("${{unit-{}/ask}}/{}", unit - 1, word(random)),
            format!("${{unit-{}/value-2}} of ${{unit-{}/greeting}}", other(random), other(random)),
        )
    };
    let _ = writeln!(text, "ask = \"{ask}\"\ngreeting = \"{greeting}\"");
    for number in 0..variables {
        // What is followed is not set a second time.
        if follows(stage) && number % 2 == 1 {
            continue;
        }
        if shape == Shape::Real && random.usize(..MISTAKES) == 0 {
            text += &mistake(random, number);
            continue;
        }
        text += &set(random, number, &name);
    }
    text += &entries(random, &base, &name);
    if has_table(unit) {
        let _ = write!(
            text,
            "\n[quays]\nquay-{} = {{ name = \"{}\", places = \"{}\" }}\n",
            random.u8(..8),
            word(random),
            random.u8(..)
        );
    }
    text
}

/// What people get wrong: another type, too much, a slip of a name, a value left out, a reference to nothing.
fn mistake(random: &mut Rng, number: usize) -> String {
    match random.u8(..5) {
        0 => format!("value-{number} = [\"{}\"]\n", word(random)),
        1 if number.is_multiple_of(5) => format!("value-{number} = {}\n", 100_000 + random.u32(1..1000)),
        1 | 2 => format!("vaule-{number} = \"{}\"\n", word(random)),
        3 => String::new(),
        _ => format!("value-{number} = \"${{{}.host}}\"\n", word(random)),
    }
}
