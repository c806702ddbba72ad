//! What to do about one path, and what doing it takes.

use crate::decide::Change;
use crate::run_log::Deed;
use crate::selection::LeftOutBy;
use crate::{Entry, Kind, Listing, OddKind, PerSide, RelPath, Side, Triple, Unknown, View};

/// What to do about one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Decision {
    /// Nothing: both sides are as agreed.
    Settled,
    /// Nothing: the removal on `away` is remembered, the other side keeps its own.
    KeptAway {
        /// The side where it is away.
        away: Side,
    },
    /// Carry nothing, agree on what both sides hold.
    Record,
    /// Carry nothing, drop the path from the ledger.
    Forget,
    /// Carry the file to `to`.
    Carry {
        /// The receiving side.
        to: Side,
        /// Whether a version there is replaced (and goes to the spares).
        replaces: bool,
    },
    /// Put a stub of the far version here: its name, size and date, and nothing of its content.
    MakeStub {
        /// Whether an older stub makes way for it.
        replaces: bool,
    },
    /// Bring the content of a stub here; both sides agree on it already.
    Fetch,
    /// Put a stub in the place of a file that both sides agree on, once it is proven that the far side has its content.
    Shed,
    /// Make the folder on `on`.
    MakeFolder {
        /// The receiving side.
        on: Side,
    },
    /// Give what lies on `on` under another name this name; the other side did that already.
    Move {
        /// The side that still has it under the older name.
        on: Side,
        /// The older name.
        from: RelPath,
        /// How many files that are: those of a whole folder.
        files: u64,
    },
    /// The far side has it at `moved_to` now, which is not taken: the copy here goes, and nothing is removed.
    DropHere {
        /// Where it is there.
        moved_to: RelPath,
    },
    /// Remove from `on` into the spares.
    Remove {
        /// The side that still has it.
        on: Side,
        /// Whether it makes way for something of another kind at the same path or above.
        makes_way: bool,
    },
    /// Both have a version of the same length: read both, then record or report a conflict.
    Compare,
    /// Both changed; neither side is touched.
    Conflict,
    /// A removed folder stays on `on`, with just what the lane leaves out in it; remember that.
    KeepFolder {
        /// The side that keeps it.
        on: Side,
    },
    /// A removal is not carried: it is remembered, and the side it is on keeps its own.
    KeepRemoved {
        /// The side that keeps it.
        on: Side,
    },
    /// Removing it from `on` waits for a yes.
    AskRemoval {
        /// The side that still has it.
        on: Side,
    },
    /// One-way: what the lane put on this side changed or went there by itself; nothing is done about it.
    Drift {
        /// The receiving side.
        on: Side,
        /// Whether the source holds a version that is not there because of it.
        keeps_back: bool,
    },
    /// One-way: something that the lane did not put on the receiving side; it is left alone.
    NotCarried {
        /// The receiving side.
        on: Side,
    },
    /// One-way: carry the new version to `to`, beside the older one.
    CarryBeside {
        /// The receiving side.
        to: Side,
    },
    /// One-way: the new version is not carried, the older one on this side stays.
    OldStays {
        /// The receiving side.
        on: Side,
    },
    /// Not in the lane: a rule or the choice of folders leaves it out. What was agreed on there is forgotten.
    Ruled(LeftOutBy),
    /// Not carried: it is of a kind no lane carries.
    LeftOut {
        /// The side that has it.
        on: Side,
        /// What it is.
        odd: OddKind,
    },
    /// Nothing for now: `on` cannot be told.
    Hold {
        /// The side that cannot be told.
        on: Side,
        /// Why.
        why: Unknown,
    },
    /// Nothing for now: it lies below a path that is in conflict.
    BelowConflict,
}

impl Decision {
    /// What it does with a file; none where nothing is done because of it.
    #[must_use]
    pub fn deed(&self) -> Option<Deed> {
        Some(match self {
            Decision::Record => Deed::Record,
            Decision::Forget => Deed::Forget,
            Decision::Carry {
                to,
                replaces: false,
            } => Deed::Carry(*to),
            Decision::Carry { to, replaces: true } => Deed::Replace(*to),
            Decision::CarryBeside { to } => Deed::CarryBeside(*to),
            Decision::MakeStub { replaces: false } => Deed::MakeStub,
            Decision::MakeStub { replaces: true } => Deed::RenewStub,
            Decision::Fetch => Deed::Fetch,
            Decision::Shed => Deed::Shed,
            Decision::MakeFolder { on } => Deed::MakeFolder(*on),
            Decision::Move { on, .. } => Deed::Move(*on),
            Decision::DropHere { .. } => Deed::DropCopy,
            Decision::Remove { on, .. } => Deed::Remove(*on),
            Decision::Compare => Deed::Compare,
            Decision::Settled
            | Decision::KeptAway { .. }
            | Decision::Conflict
            | Decision::KeepFolder { .. }
            | Decision::KeepRemoved { .. }
            | Decision::AskRemoval { .. }
            | Decision::Drift { .. }
            | Decision::NotCarried { .. }
            | Decision::OldStays { .. }
            | Decision::LeftOut { .. }
            | Decision::Ruled(_)
            | Decision::Hold { .. }
            | Decision::BelowConflict => return None,
        })
    }

    /// What carrying it out does.
    #[must_use]
    pub fn effects(&self) -> Effects {
        use Side::{Far, Near};
        match *self {
            Decision::Settled
            | Decision::KeptAway { .. }
            | Decision::Conflict
            | Decision::AskRemoval { .. }
            | Decision::Drift { .. }
            | Decision::NotCarried { .. }
            | Decision::OldStays { .. }
            | Decision::LeftOut { .. }
            | Decision::Ruled(_)
            | Decision::Hold { .. }
            | Decision::BelowConflict => Effects::default(),
            Decision::Record
            | Decision::Forget
            | Decision::KeepFolder { .. }
            | Decision::KeepRemoved { .. } => Effects::NOTED,
            Decision::Compare => Effects {
                reads: Some(Far),
                ..Effects::NOTED
            },
            Decision::Carry { to, replaces } => Effects {
                reads: Some(to.other()),
                takes_out: replaces.then_some(TakesOut::Replaced),
                ..Effects::on(to)
            },
            Decision::CarryBeside { to } => Effects {
                reads: Some(to.other()),
                ..Effects::on(to)
            },
            Decision::Fetch => Effects {
                reads: Some(Far),
                ..Effects::on(Near)
            },
            Decision::MakeStub { .. } | Decision::Shed | Decision::DropHere { .. } => {
                Effects::on(Near)
            }
            Decision::MakeFolder { on } | Decision::Move { on, .. } => Effects::on(on),
            Decision::Remove { on, .. } => Effects {
                takes_out: Some(TakesOut::Removed),
                ..Effects::on(on)
            },
        }
    }

    /// Whether a pass has anything to do because of it, be it only in the ledger or to compare.
    #[must_use]
    pub fn is_work(&self) -> bool {
        self.effects().is_work
    }
}

/// What carrying out a decision does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Effects {
    /// The side that it changes.
    pub changes: Option<Side>,
    /// The side whose content is read for it: to be carried to the other one, or to be compared.
    pub reads: Option<Side>,
    /// What becomes of a version that the side has which it changes, where another version, or none, takes its place.
    pub takes_out: Option<TakesOut>,
    /// Whether a pass has anything to do because of it, be it only in the ledger or to compare.
    pub is_work: bool,
}

/// How a version leaves its place; it lies among the spares afterwards.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TakesOut {
    /// Another version takes its place.
    Replaced,
    /// Nothing does.
    Removed,
}

impl Effects {
    /// The ledger notes it, and no side is changed.
    const NOTED: Effects = Effects {
        changes: None,
        reads: None,
        takes_out: None,
        is_work: true,
    };

    /// A side is changed.
    fn on(side: Side) -> Effects {
        Effects {
            changes: Some(side),
            ..Effects::NOTED
        }
    }
}

/// One path of a plan, with what it was decided from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// What was seen and agreed.
    pub seen: Triple,
    /// How the near side stands to what was agreed.
    pub near: Change,
    /// How the far side stands to what was agreed.
    pub far: Change,
    /// What to do.
    pub decision: Decision,
}

impl Step {
    /// What carrying it out does; none where nothing is done because of it.
    #[must_use]
    pub fn deed(&self) -> Option<Deed> {
        match self.decision {
            Decision::Remove { on, .. } if self.view(on).is_folder() => {
                Some(Deed::RemoveFolder(on))
            }
            _ => self.decision.deed(),
        }
    }

    /// The path.
    #[must_use]
    pub fn path(&self) -> &RelPath {
        &self.seen.path
    }

    /// What was seen, with what to do about it.
    pub(crate) fn of(seen: Triple, decision: Decision) -> Step {
        Step {
            near: Change::of(seen.base.as_ref(), Side::Near, &seen.views.near),
            far: Change::of(seen.base.as_ref(), Side::Far, &seen.views.far),
            decision,
            seen,
        }
    }

    /// That the top of a side could not be listed whole: what lies there and was not seen is unknown.
    #[must_use]
    pub fn of_the_top(on: Side, why: Unknown) -> Step {
        let unread = View::Present(Entry {
            listing: Listing::Incomplete(why.clone()),
            ..Entry::folder()
        });
        let read = View::Present(Entry::folder());
        let (near, far) = match on {
            Side::Near => (unread, read),
            Side::Far => (read, unread),
        };
        Step {
            seen: Triple {
                path: RelPath::root(),
                base: None,
                views: PerSide { near, far },
            },
            near: Change::Same,
            far: Change::Same,
            decision: Decision::Hold { on, why },
        }
    }

    /// What one side showed.
    #[must_use]
    pub fn view(&self, side: Side) -> &View {
        &self.seen.views[side]
    }

    /// What one side showed, where something was there.
    #[must_use]
    pub fn entry(&self, side: Side) -> Option<&Entry> {
        self.view(side).entry()
    }

    /// Whether a pass would change this side because of it.
    #[must_use]
    pub fn changes(&self, side: Side) -> bool {
        self.decision.effects().changes == Some(side)
    }

    /// Whether what a side shows is a file.
    #[must_use]
    pub fn is_file(&self, side: Side) -> bool {
        self.entry(side)
            .is_some_and(|entry| entry.kind == Kind::File)
    }

    /// The bytes that are carried or read back because of it.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        let from = self.decision.effects().reads;
        from.and_then(|from| self.entry(from))
            .map_or(0, |entry| entry.size)
    }

    /// The bytes of content that it brings to a side.
    #[must_use]
    pub fn brings(&self, side: Side) -> u64 {
        match self.changes(side) {
            true => self.bytes(),
            false => 0,
        }
    }

    /// Whether both sides are as agreed, and only a stamp is a new one.
    #[must_use]
    pub fn is_restamp(&self) -> bool {
        self.decision == Decision::Record
            && (&self.near, &self.far) == (&Change::Same, &Change::Same)
    }

    /// Whether it changes a side, or reads one to compare: what is only noted is done in no time, and is no step to
    /// wait for.
    #[must_use]
    pub fn takes_time(&self) -> bool {
        let effects = self.decision.effects();
        effects.changes.is_some() || effects.reads.is_some()
    }

    /// How one side stands to what was agreed.
    #[must_use]
    pub fn change(&self, side: Side) -> &Change {
        match side {
            Side::Near => &self.near,
            Side::Far => &self.far,
        }
    }
}
