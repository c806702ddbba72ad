//! The table of a lane that carries one way only.
//!
//! Its source is never written to, and on its receiving side nothing is touched that the lane did not put there.
//! Whatever the lane did put there and that changed or went by itself is *drift*.

use super::{Change, Verdict, both_changed, restamped};
use crate::terms::{Drift, Removals, Terms, Updates};
use crate::{Base, Side, View};

/// The verdict on a path of which both sides can be told and neither is odd.
pub(crate) fn one_way(
    base: Option<&Base>,
    (near, near_change): (&View, &Change),
    (far, far_change): (&View, &Change),
    source: Side,
    terms: &Terms,
) -> Verdict {
    use Change as C;
    let receiver = source.other();
    let (from, to) = match source {
        Side::Near => (near_change, far_change),
        Side::Far => (far_change, near_change),
    };
    let away = base.and_then(|base| base.away);
    let drifted = |put_right: Verdict| match terms.drift {
        Drift::Leave => Verdict::Drift(receiver),
        Drift::Restore => put_right,
    };
    match (from, to) {
        (C::Nothing, C::Nothing) => Verdict::Nothing,
        (C::Same, C::Same) => match away {
            Some(side) => Verdict::KeptAway(side),
            None if restamped(base, near, far) => Verdict::Record,
            None => Verdict::Settled,
        },
        (C::Nothing, _) => Verdict::NotCarried(receiver),
        (C::Removed, C::Removed) => Verdict::Forget,
        (C::Same, C::Removed) if away == Some(source) => Verdict::Forget,
        (C::Removed, C::Same) if away == Some(receiver) => Verdict::Forget,
        // The copy that was kept is no longer the lane's business, whatever becomes of it.
        (C::Same, _) if away == Some(source) => Verdict::KeptAway(source),
        (_, C::Same) if away == Some(receiver) => Verdict::KeptAway(receiver),
        // What is new there since it was away is somebody else's.
        (C::Removed, C::New) => Verdict::NotCarried(receiver),
        (C::Removed, C::Same) => removal(receiver, terms),
        (C::Removed, _) => drifted(removal(receiver, terms)),
        (C::New, C::Nothing | C::Removed) => Verdict::Carry(receiver),
        (C::New, C::Same) => match both_changed(near, far) {
            Verdict::Record => Verdict::Record,
            _ => Verdict::Carry(receiver),
        },
        (C::Changed, C::Same) => match terms.updates {
            Updates::Replace => Verdict::Carry(receiver),
            Updates::Add => Verdict::CarryBeside(receiver),
            Updates::Never => Verdict::OldStays(receiver),
        },
        (C::Rekinded, C::Same) => match terms.updates {
            Updates::Replace => Verdict::Carry(receiver),
            Updates::Add | Updates::Never => Verdict::Conflict,
        },
        // What is new there is a stranger's, whatever the lane once agreed on.
        (_, C::New) => both_changed(near, far),
        (C::Same | C::Changed | C::Rekinded, C::Removed) => drifted(Verdict::Carry(receiver)),
        (C::Same, _) => drifted(Verdict::Carry(receiver)),
        // Both changed what the lane once carried.
        _ => match both_changed(near, far) {
            Verdict::Record => Verdict::Record,
            Verdict::Compare if terms.drift == Drift::Leave => Verdict::Compare,
            _ => drifted(Verdict::Carry(receiver)),
        },
    }
}

/// What a removal comes to that nothing stands against.
pub(crate) fn removal(on: Side, terms: &Terms) -> Verdict {
    match terms.removals {
        Removals::Carry => Verdict::Remove(on),
        Removals::Keep => Verdict::KeepRemoved(on),
        Removals::Ask => Verdict::AskRemoval(on),
    }
}
