//! `NAME=value` lines without quotes, as container engines (`--env-file`) and systemd
//! (`EnvironmentFile=`, systemd.exec(5)) read them.
//!
//! Engines take everything behind `=` as it is; systemd drops blanks around a value, and gives quotes
//! at its start and backslashes a meaning. Values that the two would read differently are refused.

use cledger_core::value::Value;

use crate::assignments::{self, is_variable};
use crate::{Format, Found, Order, ReadError, Tree, WriteError, start};

pub(crate) struct EnvPlain;

impl Format for EnvPlain {
    fn write_in(&self, order: &Order, tree: &Tree) -> Result<String, WriteError> {
        assignments::write((order, tree), |line, name, value| {
            if value.contains(['\n', '\r']) {
                return Err("has a line end in its value, which a plain environment file cannot hold");
            }
            if value.starts_with([' ', '\t', '\'', '"'])
                || value.ends_with([' ', '\t'])
                || value.contains('\\')
            {
                return Err(
                    "begins or ends with a blank, begins with a quote or has a backslash: container engines and systemd read that differently",
                );
            }
            line.extend([name, "=", value]);
            Ok(())
        })
    }

    fn read(&self, text: &str) -> Result<Found, ReadError> {
        let mut found = Found::default();
        for (line, content) in (1..).zip(start(text)?.lines()) {
            let content = content.trim_start_matches([' ', '\t']);
            if content.is_empty() || content.starts_with('#') {
                continue;
            }
            let pair = content.split_once('=').filter(|(name, _)| is_variable(name));
            let Some((name, value)) = pair else {
                return Err(ReadError { line, reason: "this is not NAME=value".to_owned() });
            };
            found.add(name, Value::text(value), line)?;
        }
        Ok(found)
    }
}
