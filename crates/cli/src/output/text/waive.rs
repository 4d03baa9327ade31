//! `waive` for people: what is waived now.

use cledger_core::model;
use cledger_work::waive::{Unwaived, Waived};

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

pub(crate) fn removed(console: &mut Console, unwaived: &Unwaived) {
    let Unwaived { code, address, count } = unwaived;
    let told = if *count == 0 {
        "which covered no finding of today".to_owned()
    } else {
        format!("{} told again", counted(*count, "finding"))
    };
    console.line(format!("{}: the waiver of `{code}` for {address}, {told}.", style::good("taken out")));
}
