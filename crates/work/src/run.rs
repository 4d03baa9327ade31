//! A program with a unit's values in its environment, and nothing on disk.

use std::ffi::OsString;
use std::process::Command;
use std::sync::Arc;

use cledger_core::environment::{Environment, environment, is_acted_on};
use cledger_core::findings::Finding;
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_core::trust;
use cledger_outlets::effect::OWN_VARIABLES;
use zeroize::Zeroizing;

use crate::change::hands_out;
use crate::gate;
use crate::known::not_trusted;
use crate::meant::unit_of;
use crate::opened::Opened;
use crate::rendered::not_readable;
use crate::trouble::Trouble;

/// What is to be started.
#[derive(Debug, Clone)]
pub struct ToRun {
    /// Whose values.
    pub subject: Subject,
    /// In which stage.
    pub stage: StageId,
    /// The program and its arguments.
    pub command: Vec<OsString>,
    /// Start from an empty environment.
    pub empty_env: bool,
    /// Variables that it has although they lead to secrets.
    pub pass: Vec<String>,
    /// The production stages whose secrets may be handed out, by their names.
    pub countersign: Vec<Name>,
}

/// A program that can be started, or what it would lack.
#[derive(Debug)]
pub enum Starting {
    /// It can.
    Ready(Command),
    /// Values are missing or wrong, or a rule is broken.
    Lacks(Arc<Ledger>, Vec<Finding>),
}

/// Refuses to start anything for a ledger that nobody has trusted.
pub fn refuse_untrusted(opened: &Opened) -> Result<(), Trouble> {
    if opened.granted().is_unsaid() {
        return Err(not_trusted("nothing is started"));
    }
    Ok(())
}

/// Makes a program ready to be started with a unit's values.
pub fn run(opened: &Opened, resolver: &Resolver<'_>, asked: &ToRun) -> Result<Starting, Trouble> {
    refuse_untrusted(opened)?;
    let (ledger, subject, stage) = (&opened.ledger, asked.subject, asked.stage);
    if subject == Subject::Shared {
        return Err(Trouble::usage("`shared` is no unit").help("write UNIT[+INSTANCE]@STAGE"));
    }
    let mut made = environment(&mut resolver.session(unit_of(subject)), subject, stage);
    refuse_clash(ledger, &made)?;
    gate::tell_not_judged(opened);
    if !made.left_out.is_empty() {
        let names = made.left_out.iter().map(|(name, field)| format!("{} ({name})", ledger.address(*field)));
        opened.at.telling.notice(&format!(
            "Not among the variables, since a file of the unit calls another value so: {}.",
            names.collect::<Vec<_>>().join(", ")
        ));
    }
    made.gaps.extend(gate::holding_up(opened, resolver, &[subject], stage)?);
    if !made.gaps.is_empty() {
        return Ok(Starting::Lacks(ledger.clone(), gate::each_once(made.gaps)));
    }
    if made.variables.values().any(|(_, effective)| effective.unread().is_some()) {
        return Err(not_readable(&[ledger.owner(subject).to_string()], &opened.surroundings, ""));
    }
    let Some((program, arguments)) = asked.command.split_first() else {
        return Err(Trouble::usage("there is no program to run"));
    };
    let mut command = Command::new(program);
    command.args(arguments);
    if asked.empty_env {
        command.env_clear();
    }
    for name in without(ledger, &asked.pass) {
        command.env_remove(name);
    }
    for (name, (field, effective)) in &made.variables {
        let Some(text) = variable(ledger, name, *field, effective)? else { continue };
        command.env(name, text.as_str());
    }
    let holds_secrets = made.variables.values().any(|(_, effective)| effective.is_secret());
    hands_out(&opened.at, ledger.stage(stage), holds_secrets, &asked.countersign)?;
    Ok(Starting::Ready(command))
}

/// The text of a variable, which must be one that an environment can hold, under a name that nothing acts on.
fn variable(
    ledger: &Ledger,
    name: &str,
    field: FieldId,
    effective: &Effective<'_>,
) -> Result<Option<Zeroizing<String>>, Trouble> {
    let Some(value) = effective.expose() else { return Ok(None) };
    let text = Zeroizing::new(value.to_text().to_string());
    let address = ledger.address(field);
    if name.is_empty() || name.contains(['=', '\0']) {
        let message = format!("`{address}` cannot be an environment variable: it would be called `{name}`");
        return Err(Trouble::usage(message).help("give it another name with `as`"));
    }
    if is_acted_on(name) {
        let message = format!(
            "`{address}` would be called `{name}`, on which a loader, a shell or an interpreter acts"
        );
        return Err(Trouble::refused(message).help("give it another name with `as`"));
    }
    if text.contains('\0') {
        let message = format!("`{address}` cannot be an environment variable: it holds a NUL character");
        return Err(Trouble::usage(message).help("hand it out in a rendered file"));
    }
    Ok(Some(text))
}

/// Variables that lead to secrets, and that no program gets unless it is passed them by name: our own, and those
/// that secrets of outlets come from.
fn without<'n>(ledger: &Ledger, pass: &'n [String]) -> impl Iterator<Item = String> + use<'n> {
    let own = OWN_VARIABLES.into_iter().map(str::to_owned);
    own.chain(trust::variables(ledger)).filter(|name| !pass.contains(name))
}

/// Refuses two fields under one name.
fn refuse_clash(ledger: &Ledger, made: &Environment<'_>) -> Result<(), Trouble> {
    let Some((name, field)) = made.clashes.first() else { return Ok(()) };
    let message = format!("`{}` and another field would both be called {name}", ledger.address(*field));
    Err(Trouble::usage(message).help("give one of them another name with `as`"))
}
