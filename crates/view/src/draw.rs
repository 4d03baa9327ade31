//! Draws what is on the screen.

mod fields;
mod over;
mod pane;
mod words;

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span, Text};
use unicode_width::UnicodeWidthStr as _;

use cledger_work::shown::{Tone, cut, escape, folded};

use crate::look::Look;
use crate::screen::{OnTop, Screen};

/// The smallest screen on which there is something to see.
const SMALLEST: (u16, u16) = (30, 8);

/// So wide, the pane stands beside the fields; else below them.
const BESIDE: u16 = 120;

/// Draws what is on the screen.
pub fn draw(frame: &mut Frame<'_>, screen: &mut Screen) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        frame.render_widget("Too small a window", area);
        return;
    }
    let message = message(screen, area.width);
    let foot = u16::try_from(message.len()).unwrap_or(1).min(area.height / 3);
    let [head, body, foot, keys] = Layout::vertical([
        Constraint::Length(2),
        Constraint::Min(1),
        Constraint::Length(foot),
        Constraint::Length(1),
    ])
    .areas(area);
    let (fields, pane) = parted(screen, body);
    fields::draw(frame, fields, screen);
    // Which stages fit is known now.
    frame.render_widget(Text::from(heads(screen, head.width)), head);
    if let Some(pane) = pane {
        pane::draw(frame, pane, screen);
    }
    frame.render_widget(Text::from(message), foot);
    frame.render_widget(Line::styled(words::keys(screen, keys.width), screen.look.tone(Tone::Quiet)), keys);
    over::draw(frame, body, screen);
}

/// Where the fields are, and where the pane is, if there is one.
fn parted(screen: &Screen, body: Rect) -> (Rect, Option<Rect>) {
    if !screen.has_pane || body.height < 8 {
        return (body, None);
    }
    let [fields, pane] = if body.width >= BESIDE {
        Layout::horizontal([Constraint::Percentage(60), Constraint::Percentage(40)]).areas(body)
    } else {
        // No more lines than there are fields.
        let wanted = u16::try_from(screen.list.items.len() + 1).unwrap_or(u16::MAX);
        let most = body.height * 11 / 20;
        Layout::vertical([Constraint::Length(wanted.clamp(3, most)), Constraint::Min(1)]).areas(body)
    };
    (fields, Some(pane))
}

/// What is shown: which ledger of when, and which of its fields.
fn heads(screen: &Screen, width: u16) -> Vec<Line<'static>> {
    let Some(rows) = &screen.rows else {
        let said = if screen.is_reading() { "Reading the ledger …" } else { "Nothing is read." };
        return vec![Line::raw(said)];
    };
    let counts = match &screen.findings {
        Some(findings) => findings.counts.clone(),
        None if screen.is_reading() => "judging …".to_owned(),
        None => "not judged".to_owned(),
    };
    let right = format!("{counts}, read {} UTC", rows.read);
    let first = sides(Span::styled(plain(&rows.ledger), Look::heading()), &right, usize::from(width));
    let (shown, all) = (screen.list.fields, rows.lines.len());
    let mut said = Vec::new();
    if !screen.filters.text.value().is_empty() {
        said.push(format!("with `{}`", screen.filters.text.value()));
    }
    said.extend(screen.filters.missing.then(|| "missing somewhere".to_owned()));
    said.extend(screen.filters.differing.then(|| "differing".to_owned()));
    let fields = if said.is_empty() {
        format!("{all} fields")
    } else {
        format!("{shown} of {all} fields: {}", said.join(", "))
    };
    let tone = if said.is_empty() { Tone::Quiet } else { Tone::Doubtful };
    let second = Span::styled(plain(&fields), screen.look.tone(tone));
    let stages = words::stages(screen);
    vec![first, sides(second, &stages, usize::from(width))]
}

/// A text on the left, and one on the right as far as there is room.
fn sides(left: Span<'static>, right: &str, width: usize) -> Line<'static> {
    let used = left.width();
    let right = if used + 2 < width { cut(&plain(right), width - used - 2) } else { String::new() };
    let gap = width.saturating_sub(used + right.width());
    Line::from(vec![left, Span::raw(" ".repeat(gap)), Span::raw(right)])
}

/// What is told last, in lines of this width.
fn message(screen: &Screen, width: u16) -> Vec<Line<'static>> {
    let (text, tone) = match (screen.under_way, &screen.message) {
        (Some(under_way), _) => (under_way.to_owned(), Tone::Quiet),
        (None, Some((text, tone))) => (text.clone(), *tone),
        (None, None) if matches!(screen.on_top, OnTop::Nothing) => (words::legend(screen), Tone::Quiet),
        (None, None) => return Vec::new(),
    };
    wrapped(&text, usize::from(width), screen.look.tone(tone))
}

/// A text in lines of this width, each in this style.
fn wrapped(text: &str, width: usize, style: ratatui::style::Style) -> Vec<Line<'static>> {
    let folded = folded(&plain(text), width.max(1));
    folded.lines().map(|line| Line::styled(line.to_owned(), style)).collect()
}

/// A text as it may come to a terminal: everything that comes from a ledger or an outlet goes through here.
fn plain(text: &str) -> String {
    escape(text)
}
