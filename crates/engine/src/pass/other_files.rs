//! Another file at the same path with the same version tag: two files of one size and one time that changed places.
//!
//! A version tag that a server makes of time and size says the same of both, and the path would count as settled with
//! the wrong content. Where the server gives ids that are never given to another file, these tell; then the tag is
//! doubted, and the content decides.

use katabatic_core::{Base, Kind, RelPath, Side, Triple};

use super::Pass;
use super::merging::Row;
use katabatic_ledger::rows::Known;

/// The sides whose handles tell one file from another for ever.
pub(super) fn told_on(pass: &Pass) -> Vec<Side> {
    let mut sides = vec![Side::Near, Side::Far];
    sides.retain(|side| pass.store(*side).handles_last());
    sides
}

impl Row for Known {
    /// What finds the file again, by side.
    type Kept = Vec<(Side, String)>;

    fn split(self) -> (RelPath, Option<Base>, Option<Self::Kept>) {
        let handles = (!self.handles.is_empty()).then_some(self.handles);
        (self.path, self.base, handles)
    }
}

/// Doubts the stamp of a side that shows another file than the one that was agreed on, which `handles` find.
pub(super) fn doubt_another_file(triple: &mut Triple, handles: Vec<(Side, String)>) {
    let Some(base) = triple.base.as_mut().filter(|base| base.kind == Kind::File) else {
        return;
    };
    for (side, known) in handles {
        let (view, stamp) = match side {
            Side::Near => (&triple.views.near, &mut base.stamps.near),
            Side::Far => (&triple.views.far, &mut base.stamps.far),
        };
        if let Some(seen) = view.entry()
            && seen
                .handle
                .as_deref()
                .is_some_and(|handle| *handle != *known)
            && seen.stamp == *stamp
        {
            *stamp = stamp.doubted();
        }
    }
}
