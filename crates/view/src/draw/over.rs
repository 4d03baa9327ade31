//! What lies over the fields: what is typed, what a change would do, questions, keys, and what was told.

use cledger_work::shown::Tone;
use ratatui::Frame;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear};
use tui_input::Input;

use super::pane::scroll;
use super::words::{FOUND, KEYS, OTHERWISE};
use super::{plain, wrapped};
use crate::look::Look;
use crate::screen::{Asked, Form, OnTop, Part, SAYS, Screen};

/// In front of what is typed.
const LABEL: usize = 9;

pub(super) fn draw(frame: &mut Frame<'_>, body: Rect, screen: &mut Screen) {
    let look = screen.look;
    match &screen.on_top {
        OnTop::Nothing => {}
        OnTop::Filter => {
            let inner = window(frame, body, "show fields with", 1, look);
            typed(frame, inner, &screen.filters.text);
        }
        OnTop::Form(form) => of_form(frame, body, form, look),
        OnTop::Change { lines, head, .. } => {
            let width = usize::from(body.width.saturating_sub(2));
            let mut all = wrapped(head, width, Look::heading());
            all.extend(lines.iter().flat_map(|(text, tone)| wrapped(text, width, look.tone(*tone))));
            let inner = window(frame, body, "a change", all.len(), look);
            scroll(frame, inner, all, &mut screen.scrolled, look);
        }
        OnTop::Keys => {
            let width = usize::from(body.width.saturating_sub(2));
            let marks = [FOUND, OTHERWISE].into_iter().chain(cledger_work::matrix::MARKS);
            let line = |(key, does): (&str, &str)| wrapped(&format!("{key:15}{does}"), width, Style::new());
            let mut lines: Vec<Line<'static>> = KEYS.into_iter().flat_map(line).collect();
            lines.push(Line::raw(""));
            lines.extend(marks.flat_map(line));
            let inner = window(frame, body, "keys and marks", lines.len(), look);
            scroll(frame, inner, lines, &mut screen.scrolled, look);
        }
        OnTop::Notices => {
            let width = usize::from(body.width.saturating_sub(2));
            let told = screen.notices.iter().rev();
            let mut lines: Vec<Line<'static>> =
                told.flat_map(|it| wrapped(it, width, Style::new())).collect();
            if lines.is_empty() {
                lines.push(Line::raw("Nothing was told."));
            }
            let inner = window(frame, body, "what was told, the last first", lines.len(), look);
            scroll(frame, inner, lines, &mut screen.scrolled, look);
        }
    }
    if let Some(asked) = screen.asked() {
        question(frame, body, asked, look);
    }
}

/// Clears as many lines at the bottom as are needed, within a frame; gives what is inside.
fn window(frame: &mut Frame<'_>, body: Rect, title: &str, lines: usize, look: Look) -> Rect {
    let height = u16::try_from(lines + 2).unwrap_or(u16::MAX).min(body.height);
    let area = Rect { y: body.bottom() - height, height, ..body };
    let block = Block::bordered()
        .border_style(look.tone(Tone::Quiet))
        .title_style(Look::heading())
        .title(format!(" {title} "));
    let inner = block.inner(area);
    frame.render_widget(Clear, area);
    frame.render_widget(block, area);
    inner
}

/// What is typed, with the cursor in it.
fn typed(frame: &mut Frame<'_>, area: Rect, input: &Input) {
    let width = usize::from(area.width.saturating_sub(1));
    let from = input.visual_scroll(width);
    let shown: String = input.value().chars().skip(skipped(input.value(), from)).collect();
    frame.render_widget(plain(&shown), area);
    let at = u16::try_from(input.visual_cursor().saturating_sub(from)).unwrap_or(0);
    frame.set_cursor_position(Position::new(area.x + at.min(area.width.saturating_sub(1)), area.y));
}

/// How many characters are left out so that so many columns are.
fn skipped(text: &str, columns: usize) -> usize {
    let mut used = 0;
    text.chars()
        .take_while(|c| {
            used += unicode_width::UnicodeWidthChar::width(*c).unwrap_or(0);
            used <= columns
        })
        .count()
}

fn of_form(frame: &mut Frame<'_>, body: Rect, form: &Form, look: Look) {
    let width = usize::from(body.width.saturating_sub(2));
    let now = form.from.iter().map(|from| (format!("It is written now in {from}"), Tone::Quiet));
    let trouble = form.trouble.iter().map(|text| (text.clone(), Tone::Bad));
    let below: Vec<Line<'static>> =
        now.chain(trouble).flat_map(|(text, tone)| wrapped(&text, width, look.tone(tone))).collect();
    let parts: Vec<(Part, &str)> =
        [(Part::Address, "address"), (Part::Says, "says"), (Part::Value, "value"), (Part::Why, "why")]
            .into_iter()
            .filter(|(part, _)| form.has(*part))
            .collect();
    let inner = window(frame, body, "set", parts.len() + below.len(), look);
    for (row, (part, label)) in (0..).zip(&parts) {
        if row >= inner.height {
            return;
        }
        let line = Rect { y: inner.y + row, height: 1, ..inner };
        let is_here = form.part == *part;
        let style = if is_here { Look::chosen() } else { look.tone(Tone::Quiet) };
        frame.render_widget(Span::styled(*label, style), line);
        let label = u16::try_from(LABEL).unwrap_or(0).min(line.width);
        let rest = Rect { x: line.x + label, width: line.width - label, ..line };
        let input = match part {
            Part::Says => {
                let says = match form.says {
                    0 if form.secret => "a secret, which is asked for and never shown",
                    says => SAYS[says],
                };
                frame.render_widget(format!("{says}  (← →)"), rest);
                continue;
            }
            Part::Address => &form.address,
            Part::Value => &form.value,
            Part::Why => &form.why,
        };
        if is_here {
            typed(frame, rest, input);
        } else {
            frame.render_widget(plain(input.value()), rest);
        }
    }
    let from = u16::try_from(parts.len()).unwrap_or(0).min(inner.height);
    let rest = Rect { y: inner.y + from, height: inner.height - from, ..inner };
    frame.render_widget(ratatui::text::Text::from(below), rest);
}

fn question(frame: &mut Frame<'_>, body: Rect, asked: &Asked, look: Look) {
    let width = usize::from(body.width.saturating_sub(2));
    let mut lines = wrapped(&format!("{}:", asked.what()), width, Look::heading());
    if asked.differed {
        lines.extend(wrapped("The two were not the same: type it twice again.", width, look.tone(Tone::Bad)));
    }
    let above = u16::try_from(lines.len()).unwrap_or(0);
    lines.push(match asked.shown() {
        Some(typed) => Line::raw(plain(typed)),
        None => Line::styled("(hidden)", look.tone(Tone::Quiet)),
    });
    let inner = window(frame, body, "a question", lines.len(), look);
    frame.render_widget(ratatui::text::Text::from(lines), inner);
    let typed = asked.shown().map_or(0, unicode_width::UnicodeWidthStr::width);
    let at = u16::try_from(typed).unwrap_or(0).min(inner.width.saturating_sub(1));
    frame.set_cursor_position(Position::new(
        inner.x + at,
        inner.y + above.min(inner.height.saturating_sub(1)),
    ));
}
