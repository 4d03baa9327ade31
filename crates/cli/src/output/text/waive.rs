//! `waive` for people: what is waived now.

use cledger_core::model;
use cledger_work::waive::Waived;

use crate::output::console::Console;
use crate::output::style;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, waived: &Waived) {
    let Waived { code, address, until, count } = waived;
    let what = match *count {
        _ if code == model::Waived::DRIFT => "what drifts there".to_owned(),
        0 => "no finding of today".to_owned(),
        count => counted(count, "finding"),
    };
    console.line(format!("{}: `{code}` for {address} until {until}, {what}.", style::good("waived")));
}
