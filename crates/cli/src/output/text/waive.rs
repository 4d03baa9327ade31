//! `waive` for people: what is waived now.

use cledger_core::model::Waived;

use super::check::counted;
use crate::output::console::Console;
use crate::output::style;

pub(crate) fn print(console: &mut Console, code: &str, address: &str, until: &str, count: usize) {
    let what = match count {
        _ if code == Waived::DRIFT => "what drifts there".to_owned(),
        0 => "no finding of today".to_owned(),
        count => counted(count, "finding"),
    };
    console.line(format!("{}: `{code}` for {address} until {until}, {what}.", style::good("waived")));
}
