//! Version tags that more than one file has.
//!
//! Where a server makes tags of times and sizes, files that came together share one, and each can take the place of
//! another without any tag telling. So once a file with a shared tag changes or goes, all others with it are doubted:
//! their content decides. The doubt is written down before anything is carried, for every lane, since the file that went
//! may have taken the place of one in another.

use std::collections::BTreeSet;
use std::sync::Arc;

use katabatic_core::{Base, Kind, Side, Stamp, Triple, View};

use super::Pass;
use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::rows;

/// What is known of shared tags while both sides are told.
#[derive(Clone, Debug, Default)]
pub(crate) struct SharedTags {
    /// Tags that more than one row of the ledger has.
    shared: Arc<BTreeSet<Stamp>>,
    /// Those of files that changed or went.
    stirred: Arc<BTreeSet<Stamp>>,
}

impl SharedTags {
    /// As the ledger has them; none where a tag belongs to one file alone.
    pub(crate) fn known(pass: &Pass) -> Result<SharedTags, Error> {
        let far = pass.store(Side::Far);
        if far.tags_are_evidence() || pass.lane.config.account(Side::Far).is_none() {
            return Ok(SharedTags::default());
        }
        let shared = pass.ledger.read(rows::shared_far_stamps)?;
        Ok(SharedTags {
            shared: Arc::new(shared),
            stirred: Arc::default(),
        })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.shared.is_empty()
    }

    /// The same, and what else was found stirred; none where that is nothing new.
    pub(crate) fn and(&self, stirred: BTreeSet<Stamp>) -> Option<SharedTags> {
        if stirred.is_subset(&self.stirred) {
            return None;
        }
        Some(SharedTags {
            shared: Arc::clone(&self.shared),
            stirred: Arc::new(self.stirred.union(&stirred).cloned().collect()),
        })
    }

    /// Writes the doubts down, for the rows of all lanes.
    pub(crate) async fn note(&self, pass: &LockedLane) -> Result<(), Error> {
        if self.stirred.is_empty() {
            return Ok(());
        }
        let stirred = Arc::clone(&self.stirred);
        pass.ledger
            .write(move |connection| {
                for stamp in &*stirred {
                    rows::doubt_far_stamp(connection, stamp)?;
                }
                Ok(())
            })
            .await
    }

    /// Doubts what has a tag that was stirred; the tag of what changed or went itself comes into `stirred`.
    pub(super) fn doubt(&self, triple: &mut Triple, stirred: &mut BTreeSet<Stamp>) {
        if self.shared.is_empty() {
            return;
        }
        let agreed = |base: &&mut Base| base.kind == Kind::File && base.away.is_none();
        let Some(base) = triple.base.as_mut().filter(agreed) else {
            return;
        };
        let tag = base.stamps.far.undoubted();
        if !self.shared.contains(&tag) {
            return;
        }
        let is_as_agreed = match &triple.views.far {
            View::Present(far) => far.kind == Kind::File && far.stamp == tag,
            View::Absent => false,
            // Nobody knows.
            View::Unknown(_) => true,
        };
        if !is_as_agreed {
            stirred.insert(tag);
        } else if self.stirred.contains(&tag) && base.stamps.far == tag {
            match base.is_stub() {
                // There is nothing here to read it against; which content it is will be known when that comes.
                true => base.content = None,
                false => base.stamps.far = tag.doubted(),
            }
        }
    }
}
