//! Rows of the ledger and what both sides show, put together path by path.
//!
//! The core's merge takes three streams in tree order. A pass hears both sides now; a status hears the near side, and
//! takes the far one as the row remembers it. Both go through here.

use std::cell::RefCell;
use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use katabatic_core::{
    Base, Entry, Listing, Merge, MergeError, PerSide, RelPath, Triple, Unknown, View,
};
use tokio::sync::mpsc;

use katabatic_sides::{Found, Unusable};

/// A row of the ledger, as whoever asks for the merge reads it.
pub(crate) trait Row {
    /// What is kept of it until its path comes out of the merge.
    type Kept;

    /// The path, what was agreed on there, and what is to be kept of it, if anything.
    fn split(self) -> (RelPath, Option<Base>, Option<Self::Kept>);
}

/// What a side shows.
pub(crate) enum Shown<'u, K> {
    /// What it shows now.
    Now(Stream<'u>),
    /// What the row remembers of it.
    Remembered(fn(&K) -> View),
}

impl<'u, K> Shown<'u, K> {
    /// How it is remembered, where it is not heard now.
    fn remembered(&self) -> Option<fn(&K) -> View> {
        match self {
            Shown::Now(_) => None,
            Shown::Remembered(view) => Some(*view),
        }
    }

    /// Whether its top was listed whole, and what is heard of it.
    fn heard(self) -> (Listing, Option<Stream<'u>>) {
        match self {
            Shown::Now(mut stream) => (stream.root(), Some(stream)),
            Shown::Remembered(_) => (Listing::Complete, None),
        }
    }
}

/// A scan's channel as an iterator over what lies within a path, with what cannot be a path put aside.
pub(crate) struct Stream<'u> {
    found: mpsc::Receiver<Found>,
    within: RelPath,
    unusable: &'u Mutex<Vec<Unusable>>,
}

impl<'u> Stream<'u> {
    pub(crate) fn new(
        found: mpsc::Receiver<Found>,
        within: RelPath,
        unusable: &'u Mutex<Vec<Unusable>>,
    ) -> Stream<'u> {
        Stream {
            found,
            within,
            unusable,
        }
    }

    /// The root's listing comes first; where it does not come, the scan failed and nothing will be used.
    fn root(&mut self) -> Listing {
        match self.found.blocking_recv() {
            Some(Found::Root(listing)) => listing,
            Some(Found::Entry(..) | Found::Unusable(_) | Found::Own(_)) | None => {
                Listing::Incomplete(Unknown::NotListed("the listing failed".into()))
            }
        }
    }
}

impl Iterator for Stream<'_> {
    type Item = (RelPath, Entry);

    fn next(&mut self) -> Option<(RelPath, Entry)> {
        loop {
            match self.found.blocking_recv()? {
                Found::Entry(path, entry) if path.is_within(&self.within) => {
                    return Some((path, entry));
                }
                Found::Unusable(name) => self
                    .unusable
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .push(name),
                Found::Entry(..) | Found::Root(_) | Found::Own(_) => {}
            }
        }
    }
}

/// Tells each path with what was kept of its row, for as long as more is wanted. The answer says whether the tops were
/// listed whole.
pub(crate) fn merge<R: Row>(
    rows: impl Iterator<Item = R>,
    near: Shown<'_, R::Kept>,
    far: Shown<'_, R::Kept>,
    mut each: impl FnMut(Triple, Option<R::Kept>) -> bool,
) -> Result<PerSide<Listing>, MergeError> {
    let (near_remembered, far_remembered) = (near.remembered(), far.remembered());
    let ((near_root, near), (far_root, far)) = (near.heard(), far.heard());
    // The merge reads ahead: of one or two paths.
    let kept = RefCell::new(VecDeque::new());
    let base = rows.map(|row| {
        let (path, base, keeps) = row.split();
        if let Some(keeps) = keeps {
            kept.borrow_mut().push_back((path.clone(), keeps));
        }
        (path, base)
    });
    let roots = PerSide {
        near: near_root.clone(),
        far: far_root.clone(),
    };
    let (near, far) = (near.into_iter().flatten(), far.into_iter().flatten());
    for triple in Merge::new(base, near_root, near, far_root, far) {
        let mut triple = triple?;
        let row = {
            let mut kept = kept.borrow_mut();
            let is_here = kept.front().is_some_and(|(path, _)| *path == triple.path);
            is_here
                .then(|| kept.pop_front())
                .flatten()
                .map(|(_, kept)| kept)
        };
        for (view, remembered) in [
            (&mut triple.views.near, near_remembered),
            (&mut triple.views.far, far_remembered),
        ] {
            if let Some(remembered) = remembered {
                *view = row.as_ref().map_or(View::Absent, remembered);
            }
        }
        if !each(triple, row) {
            break;
        }
    }
    Ok(roots)
}
