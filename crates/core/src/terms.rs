//! The terms of a lane: which way it carries, and what it does where the sides disagree about more than that.
//!
//! They are plain data, so that every cell of direction × removals × drift × updates can be tried without a lane.

use crate::{Side, SideNames};

/// Which way a lane carries.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Direction {
    /// Changes on each side go to the other.
    #[default]
    TwoWay,
    /// From near to far only.
    Up,
    /// From far to near only.
    Down,
}

/// What becomes of a removal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Removals {
    /// It is carried: what was removed on one side goes to the spares on the other.
    Carry,
    /// It is remembered, and the other side keeps its own.
    Keep,
    /// Each waits for a yes.
    Ask,
}

/// What becomes of a lane's own file that changed, or went, on the receiving side of a one-way lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Drift {
    /// It is reported and left.
    #[default]
    Leave,
    /// It is put right from the source; the drifted version goes to the spares.
    Restore,
}

/// What a one-way lane does with a new version of a file that it carried before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Updates {
    /// It takes the older one's place; that one goes to the spares.
    #[default]
    Replace,
    /// It goes beside the older one, under a dated name.
    Add,
    /// It is not carried: what is there stays.
    Never,
}

/// All of them together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Terms {
    /// Which way.
    pub direction: Direction,
    /// What becomes of removals.
    pub removals: Removals,
    /// What becomes of drift; means nothing on a two-way lane.
    pub drift: Drift,
    /// What becomes of new versions; means nothing on a two-way lane.
    pub updates: Updates,
    /// The side that leads where nothing was ever agreed: what only the other one has goes to the spares, and so does
    /// the other one's version of what differs. For one pass of a two-way lane, never in a config.
    pub lead: Option<Side>,
}

impl Default for Terms {
    fn default() -> Terms {
        Terms::of(Direction::TwoWay)
    }
}

impl Terms {
    /// The usual terms of a direction: removals are carried both ways, and kept one way.
    #[must_use]
    pub fn of(direction: Direction) -> Terms {
        Terms {
            direction,
            removals: Removals::usual(direction),
            drift: Drift::Leave,
            updates: Updates::Replace,
            lead: None,
        }
    }
}

impl Terms {
    /// Whether they go together.
    ///
    /// # Errors
    /// Says what does not.
    pub fn check(&self) -> Result<(), String> {
        if self.direction != Direction::TwoWay {
            return Ok(());
        }
        let one_way = |what: &str| {
            Err(format!(
                "up or down where {what} is set: on a two-way lane neither side is the source"
            ))
        };
        match (self.drift, self.updates) {
            (Drift::Restore, _) => one_way("drift"),
            (_, Updates::Add | Updates::Never) => one_way("updates"),
            _ => Ok(()),
        }
    }
}

impl Direction {
    /// Every direction.
    pub const ALL: [Direction; 3] = [Direction::TwoWay, Direction::Up, Direction::Down];

    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Direction::TwoWay => "two-way",
            Direction::Up => "up",
            Direction::Down => "down",
        }
    }

    /// The direction of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Direction> {
        Direction::ALL
            .into_iter()
            .find(|known| known.word() == word)
    }

    /// The side that a one-way lane only reads.
    #[must_use]
    pub fn source(self) -> Option<Side> {
        match self {
            Direction::TwoWay => None,
            Direction::Up => Some(Side::Near),
            Direction::Down => Some(Side::Far),
        }
    }

    /// Whether a lane of this direction ever writes to a side.
    #[must_use]
    pub fn writes_to(self, side: Side) -> bool {
        self.source() != Some(side)
    }

    /// What it means, in a sentence's middle.
    #[must_use]
    pub fn meaning(self, sides: SideNames) -> String {
        match self.source() {
            None => "changes on each side go to the other".to_owned(),
            Some(side) => format!(
                "what changes {0} goes to the other side; nothing is ever written {0}",
                sides.at(side)
            ),
        }
    }
}

impl Removals {
    /// Every choice.
    pub const ALL: [Removals; 3] = [Removals::Carry, Removals::Keep, Removals::Ask];

    /// What a lane of this direction does where nobody said otherwise.
    #[must_use]
    pub fn usual(direction: Direction) -> Removals {
        match direction {
            Direction::TwoWay => Removals::Carry,
            Direction::Up | Direction::Down => Removals::Keep,
        }
    }

    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Removals::Carry => "carry",
            Removals::Keep => "keep",
            Removals::Ask => "ask",
        }
    }

    /// The choice of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Removals> {
        Removals::ALL.into_iter().find(|known| known.word() == word)
    }

    /// What it means, in a sentence's middle.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Removals::Carry => "carried; what is removed or replaced is kept in the spares first",
            Removals::Keep => "kept: what is removed on one side stays on the other",
            Removals::Ask => "asked about: each waits for a yes (katabatic settle)",
        }
    }
}

impl Drift {
    /// Every choice.
    pub const ALL: [Drift; 2] = [Drift::Leave, Drift::Restore];

    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Drift::Leave => "leave",
            Drift::Restore => "restore",
        }
    }

    /// The choice of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Drift> {
        Drift::ALL.into_iter().find(|known| known.word() == word)
    }

    /// What it means, in a sentence's middle.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Drift::Leave => "reported and left",
            Drift::Restore => "put right from the source; the drifted version goes to the spares",
        }
    }
}

impl Updates {
    /// Every choice.
    pub const ALL: [Updates; 3] = [Updates::Replace, Updates::Add, Updates::Never];

    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Updates::Replace => "replace",
            Updates::Add => "add",
            Updates::Never => "never",
        }
    }

    /// The choice of this word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Updates> {
        Updates::ALL.into_iter().find(|known| known.word() == word)
    }

    /// What it means, in a sentence's middle.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Updates::Replace => "take the older version's place, which goes to the spares",
            Updates::Add => "go beside the older version, under a dated name",
            Updates::Never => "are not carried: what is there stays",
        }
    }
}
