//! The environment variables that a unit's program gets in a stage.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use crate::findings::{self, Finding};
use crate::model::{FieldPatterns, Output, OutputFormat, Slot, StageId, StageText, Subject};
use crate::resolve::{Effective, FieldId, Outcome, Session};

/// Names on which a loader, a shell, an interpreter or this program acts: whoever sets one can have something
/// else run than what was meant.
const ACTED_ON: [&str; 34] = [
    "PATH",
    "ENV",
    "BASH_ENV",
    "IFS",
    "CDPATH",
    "FPATH",
    "ZDOTDIR",
    "SHELLOPTS",
    "BASHOPTS",
    "PS4",
    "PROMPT_COMMAND",
    "INPUTRC",
    "EDITOR",
    "VISUAL",
    "PAGER",
    "MANPAGER",
    "LESSOPEN",
    "LESSCLOSE",
    "BROWSER",
    "NODE_OPTIONS",
    "NODE_PATH",
    "JAVA_TOOL_OPTIONS",
    "JDK_JAVA_OPTIONS",
    "_JAVA_OPTIONS",
    "CLASSPATH",
    "RUBYOPT",
    "RUBYLIB",
    "PHPRC",
    "PHP_INI_SCAN_DIR",
    "LUA_INIT",
    "GCONV_PATH",
    "GLIBC_TUNABLES",
    "DOTNET_STARTUP_HOOKS",
    "SHELL",
];

/// The same by how they begin.
const ACTED_ON_BEGINNINGS: [&str; 10] =
    ["LD_", "DYLD_", "PYTHON", "GIT_", "BASH_FUNC_", "PERL5", "LUA_PATH", "COR_", "CORECLR_", "CLEDGER_"];

/// Whether a loader, a shell, an interpreter or this program acts on an environment variable of this name.
pub fn is_acted_on(name: &str) -> bool {
    let upper = name.to_ascii_uppercase();
    ACTED_ON.contains(&upper.as_str()) || ACTED_ON_BEGINNINGS.iter().any(|start| upper.starts_with(start))
}

/// The variables of a unit or instance in a stage.
#[derive(Debug, Clone, Default)]
pub struct Environment<'l> {
    /// The values by their names: those that the unit's own environment files give them, and for what is in none of
    /// these those of the first of them, else those of dotenv files.
    pub variables: BTreeMap<String, (FieldId, Effective<'l>)>,
    /// What keeps it from being whole: fields without the value they need, or with a wrong one.
    pub gaps: Vec<Finding>,
    /// Fields that have the name of another one, and the unit's own files say so.
    pub clashes: Vec<(String, FieldId)>,
    /// Fields that are in none of the unit's own environment files, and would have the name of another one.
    pub left_out: Vec<(String, FieldId)>,
}

/// Works out the variables of a subject that belongs to the stage. Lookup tables with a file of their
/// own are left out.
pub fn environment<'l>(session: &mut Session<'_, 'l>, subject: Subject, stage: StageId) -> Environment<'l> {
    let ledger = session.ledger();
    let mut made = Environment::default();
    let Subject::Unit(unit, _) = subject else { return made };
    let own: Vec<&Output> =
        ledger.unit(unit).outputs.iter().filter(|it| it.format.is_environment() && it.is_in(stage)).collect();
    let usual = Output::plain(StageText::default(), OutputFormat::Dotenv, ledger.unit(unit).place);
    let all = Output {
        only: FieldPatterns::default(),
        except: FieldPatterns::default(),
        ..(*own.first().unwrap_or(&&usual)).clone()
    };
    for slot in ledger.slots(subject).all() {
        let field = FieldId { subject, stage, slot };
        if all.holds(ledger.unit(unit), ledger.field(subject, slot).0, ledger.field(subject, slot).1) {
            made.gaps.extend(findings::of_field(session, field));
            made.gaps.extend(findings::of_rows(session, field));
        }
    }
    let is_own = !own.is_empty();
    let mut done: BTreeSet<Slot> = BTreeSet::new();
    let files = own.into_iter().map(|output| (output, false));
    for (output, is_rest) in files.chain([(&all, true)]) {
        let names = match output.names_in(ledger, subject, stage) {
            Ok(names) => names,
            Err(missing) => {
                made.gaps.push(findings::no_label(ledger, unit, output, stage, &missing));
                return made;
            }
        };
        let before = done.clone();
        for (name, slot) in names.into_iter().filter(|(_, slot)| !is_rest || !before.contains(slot)) {
            done.insert(slot);
            let field = FieldId { subject, stage, slot };
            let Outcome::Value(effective) = session.outcome(field) else { continue };
            match made.variables.entry(name.concat()) {
                Entry::Vacant(vacant) => drop(vacant.insert((field, effective))),
                Entry::Occupied(known) if known.get().0 == field => {}
                Entry::Occupied(known) if is_rest && is_own => {
                    made.left_out.push((known.key().clone(), field));
                }
                Entry::Occupied(known) => made.clashes.push((known.key().clone(), field)),
            }
        }
    }
    made
}

#[cfg(test)]
mod tests {
    use super::is_acted_on;

    #[test]
    fn names_that_have_something_else_run_are_known() {
        for name in
            ["LD_PRELOAD", "ld_preload", "DYLD_INSERT_LIBRARIES", "PATH", "Path", "PYTHONPATH", "GIT_SSH"]
        {
            assert!(is_acted_on(name), "{name}");
        }
        for name in
            ["BOOKINGS_DB_HOST", "SEAT_HOLD", "LDAP_HOST", "ENVOY_URL", "PATHS", "HTTP_PROXY", "JAVA_HOME"]
        {
            assert!(!is_acted_on(name), "{name}");
        }
    }
}
