//! `waive` for people: what is waived now.

use cledger_core::model;
use cledger_work::waive::{Unwaived, Waived};

use crate::output::console::Console;
use crate::output::style;
use crate::output::text::change::TO_DO_IT;
use cledger_work::shown::counted;

pub(crate) fn print(console: &mut Console, waived: &Waived) {
    let Waived { code, address, until, count, written } = waived;
    let what = match *count {
        _ if code == model::Waived::DRIFT => "what drifts there".to_owned(),
        0 => "no finding of today".to_owned(),
        count => counted(count, "finding"),
    };
    let does = if *written { style::good("waived") } else { style::heading("would waive") };
    console.line(format!("{does}: `{code}` for {address} until {until}, {what}."));
    if !written {
        console.line(TO_DO_IT);
    }
}

pub(crate) fn removed(console: &mut Console, unwaived: &Unwaived) {
    let Unwaived { code, address, count, written } = unwaived;
    let told = match *count {
        _ if code == model::Waived::DRIFT => "what drifts there is",
        0 => "no finding of today is",
        1 => "1 finding is",
        count => &format!("{} are", counted(count, "finding")),
    };
    let again = if *written { "told again" } else { "told again then" };
    let does = if *written { style::good("taken out") } else { style::heading("would take out") };
    console.line(format!("{does}: the waiver of `{code}` for {address}, {told} {again}."));
    if !written {
        console.line(TO_DO_IT);
    }
}
