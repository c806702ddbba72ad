//! What one path's three views come to, before the folders around it have a say.
//!
//! The table of a two-way lane stands here, a row a `match` arm; the one of a one-way lane in `one_way`.
//! [`crate::reconcile`] adds what needs more than one path: folders that must outlive their members, and files that take
//! a folder's place.

mod one_way;

use crate::terms::Terms;
use crate::{Base, Entry, Kind, OddKind, Side, Unknown, View};
use one_way::{one_way, removal};

/// How one side stands to what was agreed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Nothing was agreed, and nothing is there.
    Nothing,
    /// As agreed.
    Same,
    /// A file with other content (or content that cannot be told from other content).
    Changed,
    /// There, though nothing was agreed or it was agreed to be away.
    New,
    /// Gone.
    Removed,
    /// A file where a folder was agreed, or the reverse.
    Rekinded,
    /// Something a lane does not carry.
    Odd(OddKind),
    /// Cannot be told.
    Unknown(Unknown),
}

impl Change {
    /// How `view` of `side` stands to `base`.
    #[must_use]
    pub fn of(base: Option<&Base>, side: Side, view: &View) -> Change {
        let entry = match view {
            View::Unknown(why) => return Change::Unknown(why.clone()),
            View::Absent => {
                return match base {
                    None => Change::Nothing,
                    Some(base) if base.away == Some(side) => Change::Same,
                    Some(_) => Change::Removed,
                };
            }
            View::Present(entry) => entry,
        };
        if let Kind::Odd(odd) = entry.kind {
            return Change::Odd(odd);
        }
        match base {
            None => Change::New,
            Some(base) if base.away == Some(side) => Change::New,
            Some(base) if base.kind != entry.kind => Change::Rekinded,
            Some(base) if entry.kind == Kind::Folder || same_file(base, side, entry) => {
                Change::Same
            }
            Some(_) => Change::Changed,
        }
    }

    fn is_new_content(&self) -> bool {
        matches!(self, Change::Changed | Change::New | Change::Rekinded)
    }
}

fn same_file(base: &Base, side: Side, entry: &Entry) -> bool {
    if base.stamps[side] == entry.stamp {
        return true;
    }
    // A new stamp alone is no new version: the content decides, where it was read.
    base.content.is_some() && base.content == entry.content && base.size == entry.size
}

/// What a path's views come to by themselves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Nothing agreed, nothing there.
    Nothing,
    /// Both sides are as agreed; nothing to do.
    Settled,
    /// Both sides are as agreed, one of them with a removal that is remembered.
    KeptAway(Side),
    /// Both sides hold the same: agree on it.
    Record,
    /// Both are away: nothing to agree on any more.
    Forget,
    /// Bring the version of the other side to this one.
    Carry(Side),
    /// The path is gone on the other side and as agreed on this one: remove it here.
    Remove(Side),
    /// Both sides have a version of equal length that nothing has compared yet.
    Compare,
    /// Both sides changed.
    Conflict,
    /// The removal is remembered, and this side keeps its own.
    KeepRemoved(Side),
    /// Gone on the other side: removing it from this one waits for a yes.
    AskRemoval(Side),
    /// One-way: what the lane put on this side changed or went there by itself.
    Drift(Side),
    /// One-way: a stranger's, on the receiving side.
    NotCarried(Side),
    /// One-way: bring the new version to this side, beside the older one.
    CarryBeside(Side),
    /// One-way: the older version on this side stays.
    OldStays(Side),
    /// This side is something a lane does not carry.
    LeftOut(Side, OddKind),
    /// This side cannot be told.
    Hold(Side, Unknown),
}

/// The verdict on one path.
#[must_use]
pub fn decide(
    base: Option<&Base>,
    near: &View,
    far: &View,
    terms: &Terms,
) -> (Verdict, Change, Change) {
    use Change as C;
    let (n, f) = (
        Change::of(base, Side::Near, near),
        Change::of(base, Side::Far, far),
    );
    let verdict = match (&n, &f) {
        (C::Unknown(why), _) => Verdict::Hold(Side::Near, why.clone()),
        (_, C::Unknown(why)) => Verdict::Hold(Side::Far, why.clone()),
        (C::Odd(odd), _) => Verdict::LeftOut(Side::Near, *odd),
        (_, C::Odd(odd)) => Verdict::LeftOut(Side::Far, *odd),
        _ if is_strange_stub(base, near) => strange_stub(base, far),
        _ => match terms.direction.source() {
            Some(source) => one_way(base, (near, &n), (far, &f), source, terms),
            None => two_way(base, (near, &n), (far, &f), terms),
        },
    };
    (of_content(verdict, near), n, f)
}

/// A stub has nothing that could be brought back to the far side, or kept here when it goes there.
fn of_content(verdict: Verdict, near: &View) -> Verdict {
    let needs_content = matches!(
        verdict,
        Verdict::Carry(Side::Far)
            | Verdict::CarryBeside(Side::Far)
            | Verdict::KeepRemoved(Side::Near)
            | Verdict::Compare
    );
    match near.entry().is_some_and(Entry::is_stub) && needs_content {
        true => Verdict::Hold(Side::Far, Unknown::StubGone),
        false => verdict,
    }
}

/// Whether there is a stub here that is not the one that was agreed on.
fn is_strange_stub(base: Option<&Base>, near: &View) -> bool {
    near.entry().is_some_and(|entry| {
        entry.is_stub() && base.is_none_or(|base| base.stamps.near != entry.stamp)
    })
}

/// A stub has no content that could be carried anywhere, and none that could be lost.
fn strange_stub(base: Option<&Base>, far: &View) -> Verdict {
    match (base, far) {
        // What the ledger knew of it is lost, and the far side has what it may have stood for.
        (None, View::Present(far)) if far.kind == Kind::File => Verdict::Carry(Side::Near),
        // What lies in a folder has no place where there is a file.
        _ if far.is_folder() => Verdict::Conflict,
        _ => Verdict::Hold(Side::Near, Unknown::StrangeStub),
    }
}

fn two_way(
    base: Option<&Base>,
    (near, n): (&View, &Change),
    (far, f): (&View, &Change),
    terms: &Terms,
) -> Verdict {
    use Change as C;
    if let (Some(leader), None) = (terms.lead, base) {
        return led(leader, near, far);
    }
    match (n, f) {
        (C::Nothing, C::Nothing) => Verdict::Nothing,
        (C::Same, C::Same) => match base.and_then(|base| base.away) {
            Some(side) => Verdict::KeptAway(side),
            None if restamped(base, near, far) => Verdict::Record,
            None => Verdict::Settled,
        },
        (C::Removed | C::Nothing, C::Removed | C::Nothing) => Verdict::Forget,
        // The remembered removal on one side, and now the other side's copy went too.
        (C::Same, C::Removed) if base.is_some_and(|base| base.away == Some(Side::Near)) => {
            Verdict::Forget
        }
        (C::Removed, C::Same) if base.is_some_and(|base| base.away == Some(Side::Far)) => {
            Verdict::Forget
        }
        (C::Removed, C::Same) => removal(Side::Far, terms),
        (C::Same, C::Removed) => removal(Side::Near, terms),
        (C::Removed | C::Nothing, _) => Verdict::Carry(Side::Near),
        (_, C::Removed | C::Nothing) => Verdict::Carry(Side::Far),
        (changed, C::Same)
            if changed.is_new_content() && base.is_some_and(|base| base.away.is_none()) =>
        {
            Verdict::Carry(Side::Far)
        }
        (C::Same, changed)
            if changed.is_new_content() && base.is_some_and(|base| base.away.is_none()) =>
        {
            Verdict::Carry(Side::Near)
        }
        _ => both_changed(near, far),
    }
}

/// A path that nothing was agreed on, where one side leads.
fn led(leader: Side, near: &View, far: &View) -> Verdict {
    let (first, other) = match leader {
        Side::Near => (near, far),
        Side::Far => (far, near),
    };
    match (first.entry(), other.entry()) {
        (None, None) => Verdict::Nothing,
        (None, Some(_)) => Verdict::Remove(leader.other()),
        (Some(_), None) => Verdict::Carry(leader.other()),
        (Some(_), Some(_)) => match both_changed(near, far) {
            Verdict::Record => Verdict::Record,
            // Equal content is still recorded, and what differs is a conflict: the answer to it is known now.
            Verdict::Compare => Verdict::Compare,
            _ => Verdict::Carry(leader.other()),
        },
    }
}

/// Whether the content is as agreed while a side's stamp is a new one, which the ledger should learn.
pub(crate) fn restamped(base: Option<&Base>, near: &View, far: &View) -> bool {
    let Some(base) = base.filter(|base| base.kind == Kind::File) else {
        return false;
    };
    [(Side::Near, near), (Side::Far, far)]
        .into_iter()
        .any(|(side, view)| {
            view.entry()
                .is_some_and(|entry| entry.stamp != base.stamps[side])
        })
}

pub(crate) fn both_changed(near: &View, far: &View) -> Verdict {
    let (Some(near), Some(far)) = (near.entry(), far.entry()) else {
        // One side is agreed to be away and the other side's version is new: the edit wins.
        return if near.entry().is_some() {
            Verdict::Carry(Side::Far)
        } else {
            Verdict::Carry(Side::Near)
        };
    };
    match (near.kind, far.kind) {
        (Kind::Folder, Kind::Folder) => Verdict::Record,
        (Kind::File, Kind::File) if near.size != far.size => Verdict::Conflict,
        (Kind::File, Kind::File) => match (near.content, far.content) {
            (Some(near), Some(far)) if near == far => Verdict::Record,
            (Some(_), Some(_)) => Verdict::Conflict,
            _ => Verdict::Compare,
        },
        _ => Verdict::Conflict,
    }
}
