//! Lists of paths with a state or an action before them and a reason behind them.
//!
//! Where the terminal is wide enough they stand in columns. Where it is not, a path is never broken, only shortened in the
//! middle where it is wider than the terminal: the reason gets a line of its own below, once for all neighbours that share
//! it. In a pipe everything is whole.

use super::look::{Drawn, Look};
use super::table::{Cell, Rows};
use super::{Style, line, shortened, wrapped};

/// One path.
pub struct Item {
    /// Its state, or what is to be done.
    pub lead: Cell,
    /// The path, as it may be shown.
    pub name: String,
    /// A size, where one belongs there.
    pub size: String,
    /// Why.
    pub reason: String,
}

/// Writes a list.
pub fn print(style: Style, indent: usize, items: &[Item]) {
    let widest = |part: fn(&Item) -> &str| {
        items
            .iter()
            .map(|item| console::measure_text_width(part(item)))
            .max()
            .unwrap_or(0)
    };
    let (lead, name, size) = (
        widest(|item| item.lead.text()),
        widest(|item| &item.name),
        widest(|item| &item.size),
    );
    let all = indent + lead + name + size + widest(|item| &item.reason) + 8;
    if style.width.is_some_and(|width| all > usize::from(width)) {
        return narrow(style, indent, lead, items);
    }
    let mut rows = Rows::bare(style, if size > 0 { 4 } else { 3 });
    for item in items {
        let mut cells: Vec<Cell> = vec![
            item.lead.clone(),
            item.name.clone().into(),
            item.size.clone().into(),
            item.reason.clone().into(),
        ];
        if size == 0 {
            cells.remove(2);
        }
        rows.add(cells);
    }
    if size > 0 {
        rows.numbers(2);
    }
    rows.print(indent);
}

fn narrow(style: Style, indent: usize, lead: usize, items: &[Item]) {
    let margin = " ".repeat(indent);
    for (at, item) in items.iter().enumerate() {
        let padding = " ".repeat(lead - console::measure_text_width(item.lead.text()));
        let size = if item.size.is_empty() {
            String::new()
        } else {
            format!("  {}", item.size)
        };
        let room = usize::from(style.width.unwrap_or(u16::MAX));
        let others = indent + lead + 2 + console::measure_text_width(&size);
        let name = shortened(&item.name, room.saturating_sub(others).max(20));
        Drawn::of(Look::Fine, &margin)
            .with(item.lead.look(), item.lead.text())
            .with(Look::Fine, &format!("{padding}  {name}{size}"))
            .print();
        let shared = items.get(at + 1).is_some_and(|next| {
            (next.lead.text(), &next.reason) == (item.lead.text(), &item.reason)
        });
        if !shared && !item.reason.is_empty() {
            let room = usize::from(style.width.unwrap_or(u16::MAX))
                .saturating_sub(indent + 4)
                .max(20);
            for part in wrapped(&item.reason, room) {
                line(format!("{margin}    {part}"));
            }
        }
    }
}
