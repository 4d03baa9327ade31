//! Options of a command that are put together only where the command is meant: there are many commands, and one is run.

use std::ops::Deref;

use clap::builder::{Resettable, StyledStr};
use clap::{ArgMatches, Args, Command, Error, FromArgMatches};

use crate::examples::below;

/// The options of a command.
#[derive(Debug)]
pub(crate) struct Deferred<T>(T);

impl<T> Deref for Deferred<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

/// Adds the options; what is said about the command stays, as where they are added at once.
fn augmented<T: Args>(command: Command) -> Command {
    let said = |text: Option<&StyledStr>| text.cloned().map_or(Resettable::Reset, Resettable::Value);
    let (about, long_about) = (said(command.get_about()), said(command.get_long_about()));
    below(T::augment_args(command)).about(about).long_about(long_about)
}

impl<T: Args> Args for Deferred<T> {
    fn augment_args(command: Command) -> Command {
        command.defer(augmented::<T>)
    }

    fn augment_args_for_update(command: Command) -> Command {
        command.defer(T::augment_args_for_update)
    }
}

impl<T: FromArgMatches> FromArgMatches for Deferred<T> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
        T::from_arg_matches(matches).map(Self)
    }

    fn from_arg_matches_mut(matches: &mut ArgMatches) -> Result<Self, Error> {
        T::from_arg_matches_mut(matches).map(Self)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
        self.0.update_from_arg_matches(matches)
    }
}
