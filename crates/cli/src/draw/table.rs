//! The one place that draws tables: columns without lines, fitted to the terminal, whole in a pipe.
//!
//! Where a table is wider than the terminal, paths are shortened in the middle, and sentences go on in a line below. A name is
//! never broken in two: what is copied from the screen is either the whole name or shows that it is not.

use super::look::{Drawn, Look};
use super::{Style, shortened, wrapped};

/// Between two columns.
const GAP: usize = 2;

/// A column is never narrower than this, if what is in it is wider.
const NARROWEST: usize = 12;

/// What becomes of a column that is too wide.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fit {
    /// It goes on in a line below, between words.
    Words,
    /// It is shortened in the middle.
    Path,
    /// Nothing: the others make room.
    Whole,
}

#[derive(Clone, Debug)]
struct Column {
    fit: Fit,
    right: bool,
}

/// What stands in a row and a column.
#[derive(Clone, Debug)]
pub struct Cell {
    look: Look,
    text: String,
}

impl Cell {
    /// A text that looks like this.
    pub fn of(look: Look, text: impl Into<String>) -> Cell {
        Cell {
            look,
            text: text.into(),
        }
    }
}

impl Cell {
    /// What stands there.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// How it looks.
    pub fn look(&self) -> Look {
        self.look
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Cell {
        Cell::of(Look::Fine, text)
    }
}

/// A table that is being filled.
pub struct Rows {
    width: Option<usize>,
    columns: Vec<Column>,
    headings: Option<Vec<Cell>>,
    rows: Vec<Vec<Cell>>,
}

impl Rows {
    /// One with these headings.
    pub fn new(style: Style, headings: &[&str]) -> Rows {
        let drawn = headings.iter().map(|text| Cell::of(Look::Heading, *text));
        Rows {
            headings: Some(drawn.collect()),
            ..Rows::bare(style, headings.len())
        }
    }

    /// One without headings.
    pub fn bare(style: Style, columns: usize) -> Rows {
        let column = Column {
            fit: Fit::Words,
            right: false,
        };
        Rows {
            width: style.width.map(usize::from),
            columns: vec![column; columns],
            headings: None,
            rows: Vec::new(),
        }
    }

    /// Adds a row.
    pub fn add<C: Into<Cell>>(&mut self, cells: Vec<C>) {
        debug_assert_eq!(cells.len(), self.columns.len());
        self.rows.push(cells.into_iter().map(Into::into).collect());
    }

    /// Aligns a column of numbers to the right; it is never broken.
    pub fn numbers(&mut self, column: usize) {
        if let Some(column) = self.columns.get_mut(column) {
            column.right = true;
            column.fit = Fit::Whole;
        }
    }

    /// Never breaks what stands in a column; the others make room.
    pub fn whole(&mut self, column: usize) {
        self.fit(column, Fit::Whole);
    }

    /// A column of paths and names: what is too long is shortened in the middle.
    pub fn paths(&mut self, column: usize) {
        self.fit(column, Fit::Path);
    }

    fn fit(&mut self, column: usize, fit: Fit) {
        if let Some(column) = self.columns.get_mut(column) {
            column.fit = fit;
        }
    }

    /// Whether nothing was added.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Writes it, indented.
    pub fn print(&self, indent: usize) {
        self.print_telling(indent, &mut |_| {});
    }

    /// The same; after each row, `more` may write what else is to be told of it.
    pub fn print_telling(&self, indent: usize, more: &mut dyn FnMut(usize)) {
        if self.is_empty() {
            return;
        }
        let widths = self.widths(indent);
        if let Some(headings) = &self.headings {
            self.print_row(indent, &widths, headings);
        }
        for (at, row) in self.rows.iter().enumerate() {
            self.print_row(indent, &widths, row);
            more(at);
        }
    }

    fn widths(&self, indent: usize) -> Vec<usize> {
        let all = || self.headings.iter().chain(&self.rows);
        let widest = |column: usize| {
            let widths = all().map(|row| console::measure_text_width(&row[column].text));
            widths.max().unwrap_or(0)
        };
        let mut widths: Vec<usize> = (0..self.columns.len()).map(widest).collect();
        let Some(width) = self.width else {
            return widths;
        };
        let gaps = indent + GAP * self.columns.len().saturating_sub(1);
        let mut over = (gaps + widths.iter().sum::<usize>()).saturating_sub(width);
        // The widest column that can gives way first, until it is as wide as the next.
        while over > 0 {
            let gives = |column: &usize| {
                self.columns[*column].fit != Fit::Whole && widths[*column] > NARROWEST
            };
            let widest = (0..widths.len())
                .filter(gives)
                .max_by_key(|column| widths[*column]);
            let Some(widest) = widest else { break };
            widths[widest] -= 1;
            over -= 1;
        }
        widths
    }

    fn print_row(&self, indent: usize, widths: &[usize], row: &[Cell]) {
        let parts: Vec<Vec<String>> = row
            .iter()
            .zip(&self.columns)
            .zip(widths)
            .map(|((cell, column), width)| match column.fit {
                Fit::Whole => vec![cell.text.clone()],
                Fit::Path => vec![shortened(&cell.text, *width)],
                Fit::Words => {
                    let lines = wrapped(&cell.text, *width).into_iter();
                    // A word that is longer than its column is a name or a path.
                    lines.map(|line| shortened(&line, *width)).collect()
                }
            })
            .collect();
        let lines = parts.iter().map(Vec::len).max().unwrap_or(0);
        for line in 0..lines {
            let mut drawn = Drawn::of(Look::Fine, &" ".repeat(indent));
            for (at, (cell, column)) in row.iter().zip(&self.columns).enumerate() {
                let text = parts[at].get(line).map_or("", String::as_str);
                let alignment = match column.right {
                    true => console::Alignment::Right,
                    false => console::Alignment::Left,
                };
                let padded = console::pad_str(text, widths[at], alignment, None);
                let gap = if at == 0 { "" } else { "  " };
                drawn = drawn.with(Look::Fine, gap).with(cell.look, &padded);
            }
            drawn.print();
        }
    }
}
