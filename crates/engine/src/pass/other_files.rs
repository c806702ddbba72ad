//! Another file at the same path with the same version tag: two files of one size and one time that changed places.
//!
//! A version tag that a server makes of time and size says the same of both, and the path would count as settled with
//! the wrong content. Where the server gives ids that are never given to another file, these tell; then the tag is
//! doubted, and the content decides.

use std::cell::RefCell;
use std::collections::VecDeque;

use katabatic_core::{Base, Kind, RelPath, Side, Triple};

use super::Pass;
use crate::ledger::rows::Known;

/// The sides whose handles tell one file from another for ever.
pub(super) fn told_on(pass: &Pass) -> Vec<Side> {
    let mut sides = vec![Side::Near, Side::Far];
    sides.retain(|side| pass.store(*side).handles_last());
    sides
}

/// The handles of the rows that the merge has taken and not given out yet: of one or two paths.
#[derive(Default)]
pub(super) struct Handles(RefCell<VecDeque<OfPath>>);

/// What finds the file of one path, by side.
type OfPath = (RelPath, Vec<(Side, String)>);

impl Handles {
    /// Keeps a row's handles until its path comes out of the merge.
    pub(super) fn put_by(&self, known: Known) -> (RelPath, Option<Base>) {
        if !known.handles.is_empty() {
            let kept = (known.path.clone(), known.handles);
            self.0.borrow_mut().push_back(kept);
        }
        (known.path, known.base)
    }

    /// Doubts the stamp of a side that shows another file than the one that was agreed on.
    pub(super) fn doubt_another_file(&self, mut triple: Triple) -> Triple {
        let mut kept = self.0.borrow_mut();
        while let Some((path, _)) = kept.front()
            && *path < triple.path
        {
            kept.pop_front();
        }
        if kept.front().is_none_or(|(path, _)| *path != triple.path) {
            return triple;
        }
        let handles = kept
            .pop_front()
            .map_or_else(Vec::new, |(_, handles)| handles);
        let Some(base) = triple.base.as_mut().filter(|base| base.kind == Kind::File) else {
            return triple;
        };
        for (side, known) in handles {
            let (view, stamp) = match side {
                Side::Near => (&triple.near, &mut base.near),
                Side::Far => (&triple.far, &mut base.far),
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
        triple
    }
}
