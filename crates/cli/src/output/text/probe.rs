//! `probe` for people: each service with what came back.

use cledger_core::probe::{Answer, Probed};

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::{style, values};
use cledger_work::probe::ProbeReport;
use cledger_work::shown::counted;

/// How many days before the end a certificate is told in colour.
const SOON: i64 = 30;

pub(crate) fn print(console: &mut Console, report: &ProbeReport) {
    console.line(style::heading(&format!("{} (class {})", report.stage, report.class)));
    console.line("");
    let mut table = Table::new(&["service", "needed by", "answer", ""], console.width());
    for (target, probed) in &report.probed {
        let tone = if probed.answer == Answer::Answers { Tone::Plain } else { Tone::Bad };
        let soon = probed.days_left.is_some_and(|days| days < SOON);
        table.row(vec![
            (values::escape(&target.shown()), Tone::Plain),
            (needed_by(&target.addresses), Tone::Plain),
            (probed.answer.words().to_owned(), tone),
            (values::escape(&detail(probed)), if soon { Tone::Bad } else { Tone::Quiet }),
        ]);
    }
    for without in &report.not_tried {
        table.row(vec![
            ("not tried".to_owned(), Tone::Quiet),
            (needed_by(std::slice::from_ref(&without.address)), Tone::Plain),
            ("not known".to_owned(), Tone::Bad),
            (values::escape(&without.reason), Tone::Quiet),
        ]);
    }
    table.keep_whole(2);
    table.lines().iter().for_each(|line| console.line(line));
    console.line("");
    let answer = report.probed.iter().filter(|(_, probed)| probed.answer == Answer::Answers).count();
    let all = report.probed.len();
    let unknown = report.not_tried.len();
    let more = if unknown == 0 { String::new() } else { format!(", {unknown} not tried") };
    if answer == all {
        let word = if unknown == 0 { style::good("answers") } else { style::doubtful("answers") };
        console.line(format!("{word}: {}{more}.", counted(all, "service")));
    } else {
        let text = format!("{} of {}", all - answer, counted(all, "service"));
        console.line(format!("{}: {text}{more}.", style::bad("does not answer")));
    }
}

/// The entries that lead to a service, the stage left out since it is the same for all.
fn needed_by(addresses: &[String]) -> String {
    let without_stage = |address: &String| address.split('@').next().unwrap_or(address).to_owned();
    addresses.iter().map(without_stage).collect::<Vec<_>>().join(", ")
}

fn detail(probed: &Probed) -> String {
    match probed.days_left {
        None => probed.detail.clone(),
        Some(days) => format!(
            "{}, certificate for {}",
            probed.detail,
            counted(days.unsigned_abs().try_into().unwrap_or(0), "more day")
        ),
    }
}
