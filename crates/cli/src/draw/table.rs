//! The one place that draws tables: columns without lines, fitted to the terminal, whole in a pipe.

use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, Table, presets};

use super::{Style, line};

/// A table that is being filled.
pub struct Rows {
    table: Table,
    columns: usize,
}

impl Rows {
    /// One with these headings.
    pub fn new(style: Style, headings: &[&str]) -> Rows {
        let mut rows = Rows::bare(style, headings.len());
        rows.table.set_header(
            headings
                .iter()
                .map(|heading| heading.to_lowercase())
                .collect::<Vec<_>>(),
        );
        rows
    }

    /// One without headings.
    pub fn bare(style: Style, columns: usize) -> Rows {
        let mut table = Table::new();
        table
            .load_preset(presets::NOTHING)
            .set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(style.width.unwrap_or(u16::MAX).saturating_sub(2).max(40));
        Rows { table, columns }
    }

    /// Adds a row.
    pub fn add(&mut self, cells: Vec<String>) {
        debug_assert_eq!(cells.len(), self.columns);
        self.table.add_row(cells);
    }

    /// Aligns a column of numbers to the right.
    pub fn numbers(&mut self, column: usize) {
        if let Some(column) = self.table.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }

    /// Never breaks what stands in a column; the others make room.
    pub fn whole(&mut self, column: usize) {
        if let Some(column) = self.table.column_mut(column) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
    }

    /// Whether nothing was added.
    pub fn is_empty(&self) -> bool {
        self.table.row_count() == 0
    }

    /// Writes it, indented.
    pub fn print(&self, indent: usize) {
        if self.is_empty() {
            return;
        }
        let mut table = self.table.clone();
        for column in table.column_iter_mut() {
            column.set_padding((0, 2));
        }
        for row in table.to_string().lines() {
            line(format!("{}{}", " ".repeat(indent), row.trim_end()));
        }
    }
}
