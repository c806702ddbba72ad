//! Draws what `watch` shows. Colour says nothing that words do not.

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Modifier, Style as Look};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;

use super::model::{LaneLine, List, Model};
use crate::draw::{Style, shown_text};

/// As wide as the bar of a running lane.
const BAR: usize = 16;

pub fn draw(frame: &mut Frame<'_>, model: &Model, style: Style) {
    let area = frame.area();
    let lanes = lanes(model, style, usize::from(area.width));
    let open = open(model, usize::from(area.width));
    // Lanes first; of what is left, no more than half for what needs a person, and the rest for what happened.
    let for_lanes = (lanes.len() as u16).min(area.height.saturating_sub(8).max(3));
    let left = area.height.saturating_sub(for_lanes + 4);
    let for_open = (open.len() as u16).min((left / 2).max(2));
    let [
        title,
        lanes_at,
        heading_open,
        open_at,
        heading_happened,
        happened_at,
        foot,
    ] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(for_lanes),
        Constraint::Length(1),
        Constraint::Length(for_open),
        Constraint::Length(1),
        Constraint::Min(0),
        Constraint::Length(1),
    ])
    .areas(area);
    draw_title(frame, title, model);
    let chosen_line = lane_row(model);
    scrolled(frame, lanes_at, lanes, chosen_line);
    let needs = model.open_paths().len();
    heading(
        frame,
        heading_open,
        &match needs {
            0 => "Nothing needs a person.".to_owned(),
            1 => "1 path needs a person:".to_owned(),
            needs => format!("{needs} paths need a person:"),
        },
    );
    scrolled(frame, open_at, open, model.chosen(List::Open));
    heading(frame, heading_happened, "What happened last:");
    let happened = happened(model, usize::from(area.width));
    frame.render_widget(Paragraph::new(happened), happened_at);
    let keys = "up down: choose  Tab: other list  p: pause, go on  w: why  s: settle  q: leave";
    let foot_text = model.said().unwrap_or(keys);
    frame.render_widget(
        Paragraph::new(foot_text).style(Look::new().add_modifier(Modifier::REVERSED)),
        foot,
    );
}

fn draw_title(frame: &mut Frame<'_>, at: Rect, model: &Model) {
    let (left, clock) = (format!("katabatic: {}", model.title()), model.clock());
    let room = usize::from(at.width).saturating_sub(clock.len() + 1);
    let line = format!("{:<room$} {clock}", cut(&left, room));
    let look = Look::new().add_modifier(Modifier::BOLD);
    frame.render_widget(Paragraph::new(line).style(look), at);
}

fn heading(frame: &mut Frame<'_>, at: Rect, text: &str) {
    let look = Look::new().add_modifier(Modifier::BOLD);
    frame.render_widget(Paragraph::new(text.to_owned()).style(look), at);
}

/// Draws lines with the chosen one in sight.
fn scrolled(frame: &mut Frame<'_>, at: Rect, lines: Vec<Line<'static>>, chosen: usize) {
    let height = usize::from(at.height);
    let above = (chosen + 1).saturating_sub(height);
    let lines: Vec<Line<'static>> = lines.into_iter().skip(above).take(height).collect();
    frame.render_widget(Paragraph::new(lines), at);
}

/// In which line the chosen lane stands.
fn lane_row(model: &Model) -> usize {
    let all = model.lane_lines();
    let before = all.iter().take(model.chosen(List::Lanes));
    before.map(lines_of).sum()
}

fn lines_of(lane: &LaneLine) -> usize {
    1 + usize::from(!lane.more.is_empty()) + lane.paths.len()
}

fn lanes(model: &Model, style: Style, width: usize) -> Vec<Line<'static>> {
    let all = model.lane_lines();
    let widest = all.iter().map(|lane| lane.lane.chars().count()).max();
    let widest = widest.unwrap_or(0).min(24);
    let mut lines = Vec::new();
    for (number, lane) in all.iter().enumerate() {
        let chosen = model.list == List::Lanes && model.chosen(List::Lanes) == number;
        let pointer = if chosen { "> " } else { "  " };
        let bar = lane.done.map_or_else(String::new, |done| {
            format!("{} {:>2} %  ", bar(done, style.marks), done / 10)
        });
        let name = cut(&lane.lane, widest);
        let mut look = Look::new();
        if lane.runs || lane.needs {
            look = look.add_modifier(Modifier::BOLD);
        }
        let of_name = match chosen {
            true => look.add_modifier(Modifier::REVERSED),
            false => look,
        };
        let name = format!("{pointer}{name:<widest$}");
        let rest = format!("  {bar}{}", lane.doing);
        let room = width.saturating_sub(widest + 2);
        lines.push(Line::from(vec![
            Span::styled(name, of_name),
            Span::styled(cut(&rest, room), look),
        ]));
        let indent = " ".repeat(widest + 4);
        if !lane.more.is_empty() {
            lines.push(Line::from(cut(&format!("{indent}{}", lane.more), width)));
        }
        for path in &lane.paths {
            let path = shown_text(path);
            lines.push(Line::from(cut(&format!("{indent}now: {path}"), width)));
        }
    }
    if lines.is_empty() {
        lines.push(Line::from("  There are no lanes yet: katabatic lane add"));
    }
    lines
}

fn bar(done: u16, marks: bool) -> String {
    let full = usize::from(done) * BAR / 1000;
    let (on, off) = if marks { ('█', '░') } else { ('#', '.') };
    (0..BAR)
        .map(|at| if at < full { on } else { off })
        .collect()
}

fn open(model: &Model, width: usize) -> Vec<Line<'static>> {
    let open = model.open_paths().into_iter().enumerate();
    open.map(|(number, (lane, path, state, reason))| {
        let chosen = model.list == List::Open && model.chosen(List::Open) == number;
        let pointer = if chosen { "> " } else { "  " };
        let (path, reason) = (shown_text(path.as_str()), shown_text(reason));
        let text = format!("{pointer}{state}  {lane}: {path}  {reason}");
        let look = match chosen {
            true => Look::new().add_modifier(Modifier::REVERSED),
            false => Look::new(),
        };
        Line::from(Span::styled(cut(&text, width), look))
    })
    .collect()
}

fn happened(model: &Model, width: usize) -> Vec<Line<'static>> {
    let lines = model.happened().into_iter().map(|[at, lane, what, path]| {
        let path = shown_text(&path);
        cut(
            &format!("  {at}  {lane}: {path}  {}", shown_text(&what)),
            width,
        )
    });
    lines.map(Line::from).collect()
}

/// A text that fits, with dots where something was left out.
fn cut(text: &str, width: usize) -> String {
    console::truncate_str(text, width, "...").into_owned()
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use katabatic_agent::{Doing, LaneNow};
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    use super::super::model::{lane, looked};
    use super::*;

    fn drawn(model: &Model, width: u16, height: u16) -> Vec<String> {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        let style = Style {
            marks: false,
            progress: crate::draw::progress::Shown::Nothing,
            terminal: true,
            width: Some(width),
        };
        terminal.draw(|frame| draw(frame, model, style)).unwrap();
        let buffer = terminal.backend().buffer();
        let cells = buffer.content().chunks(usize::from(width));
        cells
            .map(|row| row.iter().map(ratatui::buffer::Cell::symbol).collect())
            .collect()
    }

    fn model(lanes: usize) -> Model {
        let names: Vec<String> = (0..lanes).map(|number| format!("lane-{number}")).collect();
        let now: Vec<LaneNow> = names
            .iter()
            .map(|name| {
                let doing = Doing::Running {
                    seen: 10,
                    files: (40, 10),
                    bytes: (10_000_000, 2_500_000),
                    paths: vec!["Season/a very long name of a recording.wav".into()],
                };
                lane(name, doing)
            })
            .collect();
        let mut model = Model::new(names.into_iter());
        model.hear(looked(Instant::now(), now));
        model
    }

    #[test]
    fn it_fits_small_terminals_and_keeps_its_keys_in_sight() {
        for (lanes, width, height) in [
            (1, 80, 24),
            (30, 80, 24),
            (3, 140, 42),
            (2, 30, 8),
            (2, 5, 2),
        ] {
            let rows = drawn(&model(lanes), width, height);
            assert_eq!(rows.len(), usize::from(height));
            if height >= 24 {
                let text = rows.join("\n");
                assert!(text.contains("####............"), "{text}");
                assert!(text.contains("2 paths need a person"), "{text}");
                assert!(rows[usize::from(height) - 1].contains("q: leave"), "{text}");
            }
        }
    }

    #[test]
    fn the_chosen_lane_is_always_in_sight() {
        let mut model = model(30);
        for _ in 0..29 {
            model.down();
        }
        let text = drawn(&model, 80, 24).join("\n");
        assert!(text.contains("> lane-29"), "{text}");
        model.say("something to read");
        assert!(drawn(&model, 80, 24)[23].contains("something to read"));
    }
}
