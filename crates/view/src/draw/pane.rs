//! All about the field that is looked at.

use cledger_core::model::Class;
use cledger_work::shown::{Tone, cut};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Text};
use ratatui::widgets::{Block, Borders};

use super::{plain, wrapped};
use crate::look::Look;
use crate::screen::Screen;

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, screen: &mut Screen) {
    let stage = screen.rows.as_ref().and_then(|rows| rows.stages.get(screen.list.stage));
    let is_production = stage.is_some_and(|stage| stage.class == Class::Production);
    let class = if is_production { ", production" } else { "" };
    let title = screen.address().map(|address| format!(" {address}{class} ")).unwrap_or_default();
    let beside = area.width < frame.area().width;
    let frame_of = Block::new()
        .borders(if beside { Borders::LEFT | Borders::TOP } else { Borders::TOP })
        .border_style(screen.look.tone(Tone::Quiet))
        .title_style(Look::heading())
        .title(cut(&plain(&title), usize::from(area.width.saturating_sub(2))));
    let inner = frame_of.inner(area);
    frame.render_widget(frame_of, area);
    let lines = lines(screen, usize::from(inner.width));
    scroll(frame, inner, lines, &mut screen.scrolled, screen.look);
}

/// Draws lines as far as they are scrolled, and says that there are more.
pub(super) fn scroll(
    frame: &mut Frame<'_>,
    area: Rect,
    mut lines: Vec<Line<'static>>,
    scrolled: &mut u16,
    look: Look,
) {
    let room = usize::from(area.height);
    let most = lines.len().saturating_sub(room.saturating_sub(1));
    if lines.len() > room {
        *scrolled = (*scrolled).min(u16::try_from(most).unwrap_or(u16::MAX));
    } else {
        *scrolled = 0;
    }
    let below = lines.len().saturating_sub(usize::from(*scrolled) + room);
    lines.drain(..usize::from(*scrolled));
    if below > 0 && room > 1 {
        lines.truncate(room - 1);
        let said = format!("{} more lines: J", below + 1);
        lines.push(Line::styled(said, look.tone(Tone::Quiet)));
    }
    frame.render_widget(Text::from(lines), area);
}

fn lines(screen: &Screen, width: usize) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    let mut block = |title: &str, said: Vec<(usize, String, Tone)>| {
        if said.is_empty() {
            return;
        }
        lines.push(Line::styled(plain(title), Look::heading()));
        for (depth, text, tone) in said {
            let indent = " ".repeat((2 + depth * 2).min(width / 3));
            let folded = wrapped(&text, width.saturating_sub(indent.len()), screen.look.tone(tone));
            lines.extend(folded.into_iter().map(|mut line| {
                line.spans.insert(0, indent.clone().into());
                line
            }));
        }
    };
    let Some(rows) = &screen.rows else { return lines };
    let (Some(at), Some(stage)) = (screen.list.line(), rows.stages.get(screen.list.stage)) else {
        return lines;
    };
    let field = &rows.lines[at];
    if let Some(findings) = &screen.findings {
        let found = findings.at(&field.owner, &field.entry, &stage.name);
        block("findings", found.into_iter().map(|(text, tone)| (0, text, tone)).collect());
    }
    if let Some(unit) = screen.unit() {
        block("at outlets", outlets(screen, &unit));
    }
    match screen.detail() {
        Some(Ok(detail)) => {
            for part in &detail.blocks {
                block(&part.title, part.lines.clone());
            }
        }
        Some(Err(trouble)) => block("not known", vec![(0, trouble.clone(), Tone::Bad)]),
        None => block("…", vec![(0, "being found out".to_owned(), Tone::Quiet)]),
    }
    lines
}

/// What outlets have of the unit, first what is about the field.
fn outlets(screen: &Screen, unit: &str) -> Vec<(usize, String, Tone)> {
    let stage = unit.split_once('@').map(|(_, stage)| format!("@{stage}")).unwrap_or_default();
    let is_on_the_way = [unit, &stage].iter().any(|what| screen.looking.contains(*what));
    let mut said = Vec::new();
    if is_on_the_way {
        said.push((0, "being looked at".to_owned(), Tone::Quiet));
    }
    let Some(told) = screen.looked.get(unit) else { return said };
    if told.is_empty() {
        said.push((0, format!("{unit} is as the ledger says"), Tone::Good));
    }
    let address = screen.address();
    let mut told: Vec<_> = told.iter().collect();
    told.sort_by_key(|told| told.address != address);
    for one in told {
        said.push((0, format!("{}: {}", one.what.trim_end_matches([' ', ':']), one.word), one.tone));
        let [ledger, there] = &one.sides;
        if !ledger.is_empty() || !there.is_empty() {
            said.push((1, format!("in the ledger {ledger}, there {there}"), Tone::Plain));
        }
    }
    said
}
