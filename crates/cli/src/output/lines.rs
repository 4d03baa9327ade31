//! Findings as lines for editors: `file:line:column: severity: message [code]`.

use cledger_core::findings::Report;

use super::console::Console;
use super::places::Places;
use super::values;

pub(crate) fn print(console: &mut Console, places: &Places<'_>, report: &Report) {
    for finding in &report.findings {
        let at = places.of(finding);
        let message = values::escape(&finding.message.replace('\n', " "));
        console.line(format!(
            "{}:{}:{}: {}: {}: {message} [{}]",
            at.path,
            at.line,
            at.column,
            finding.severity.name(),
            finding.address,
            finding.kind()
        ));
    }
}
