//! The first pass after somebody changed what a lane does: its direction, or what becomes of removals.
//!
//! What was agreed on stays known, so whose each file is does, too. But what went away before counts under the terms of
//! before, and was no removal then, or none in this direction. So this pass removes nothing: what one side lacks is
//! brought there again, or is remembered as kept, where the source of a one-way lane lacks it.

use katabatic_core::{Entry, Side, Triple, View};

use super::Pass;

/// Whether the lane has other terms than those under which the whole of it was looked at last.
pub(super) fn are_new(pass: &Pass) -> bool {
    let known = pass.lane.row.terms.as_ref();
    known.is_some_and(|known| *known != pass.lane.config.terms_text())
}

/// Takes for never agreed on what went away under other terms, so that it comes back.
pub(crate) fn bring_back_what_went(pass: &Pass, triple: &mut Triple) {
    let Some(base) = &triple.base else {
        return;
    };
    if base.away.is_some() || !are_new(pass) {
        return;
    }
    let source = pass.lane.config.terms.direction.source();
    let went = |side: Side| {
        let other = triple.views[side.other()].entry();
        // Of a stub nothing could be brought back.
        let has_content = other.is_some_and(|entry| !Entry::is_stub(entry));
        triple.views[side] == View::Absent && has_content && source != Some(side)
    };
    if went(Side::Near) || went(Side::Far) {
        triple.base = None;
    }
}
