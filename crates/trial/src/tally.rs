//! What a trial has been through, in numbers: an empty one proves nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use katabatic_core::decide::Change;

use crate::mischief::Fault;

/// A cell of the decision table: how the near side and the far side stood to what was agreed.
pub type Cell = (&'static str, &'static str);

/// The numbers.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    /// Worlds that were lived through.
    pub worlds: u64,
    /// Passes that were begun.
    pub passes: u64,
    /// Of these, passes that walked no tree here, and were told where to look.
    pub by_ear: u64,
    /// Passes in which the process died.
    pub died: u64,
    /// What sides were asked for, and seams passed.
    pub steps: u64,
    /// Faults by kind.
    pub faults: BTreeMap<Fault, u64>,
    /// How often each cell was met.
    pub cells: BTreeMap<Cell, u64>,
    /// Cells that were met in a pass in which a fault of that kind happened.
    pub together: BTreeSet<(Cell, Fault)>,
    /// Moves that were carried.
    pub moves: u64,
    /// Stubs that were made or renewed.
    pub stubs: u64,
    /// Stubs that got their content.
    pub fetched: u64,
    /// Files that became stubs.
    pub shed: u64,
}

/// The row or column of a change.
#[must_use]
pub fn name(change: &Change) -> &'static str {
    match change {
        Change::Nothing => "nothing",
        Change::Same => "same",
        Change::Changed => "changed",
        Change::New => "new",
        Change::Removed => "removed",
        Change::Rekinded => "other kind",
        Change::Odd(_) => "odd",
        Change::Unknown(_) => "unknown",
    }
}

impl Tally {
    /// Adds what another trial has been through.
    pub fn add(&mut self, other: &Tally) {
        self.worlds += other.worlds;
        self.passes += other.passes;
        self.by_ear += other.by_ear;
        self.died += other.died;
        self.steps += other.steps;
        self.moves += other.moves;
        self.stubs += other.stubs;
        self.fetched += other.fetched;
        self.shed += other.shed;
        for (fault, count) in &other.faults {
            *self.faults.entry(*fault).or_default() += count;
        }
        for (cell, count) in &other.cells {
            *self.cells.entry(*cell).or_default() += count;
        }
        self.together.extend(other.together.iter().copied());
    }
}

impl fmt::Display for Tally {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(
            out,
            "{} worlds, {} passes ({} of them killed), {} steps, {} moves carried",
            self.worlds, self.passes, self.died, self.steps, self.moves
        )?;
        writeln!(
            out,
            "{} stubs made, {} fetched, {} files shed",
            self.stubs, self.fetched, self.shed
        )?;
        writeln!(out, "What went wrong:")?;
        for (fault, count) in &self.faults {
            writeln!(out, "  {fault:?}: {count}")?;
        }
        writeln!(
            out,
            "Cells of the table (near, far): times met; kinds of faults met together with it, of {}:",
            self.faults.len()
        )?;
        for (cell, count) in &self.cells {
            let kinds = self.together.iter().filter(|(of, _)| of == cell).count();
            writeln!(out, "  {}, {}: {count}; {kinds}", cell.0, cell.1)?;
        }
        Ok(())
    }
}
