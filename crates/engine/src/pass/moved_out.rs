//! Files that were moved on the far side into a folder that is not taken: found by their ids, and dropped here.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use katabatic_core::{Entry, Kind, LeftOutBy, RelPath, Side, Step, Triple, View, moved_out};

use super::primitive::{self, Change, Learned, Trouble};
use super::scan::digest;
use super::{Pass, Wish};
use crate::Error;
use crate::choose::DROPPED;
use crate::ledger::intents::Version;
use crate::ledger::rows;
use crate::session::LockedLane;
use crate::sides::SideStore;

/// What lies on the far side in folders that are not taken and may have been moved there: where, by its id.
#[derive(Default)]
pub(super) struct NotTaken(HashMap<Arc<str>, RelPath>);

impl NotTaken {
    /// A file that may have been moved out of what is taken, should the choice turn out to leave it out.
    pub(super) fn candidate(triple: &Triple) -> Option<(Arc<str>, RelPath)> {
        let (None, View::Absent, View::Present(far)) = (&triple.base, &triple.near, &triple.far)
        else {
            return None;
        };
        let handle = far.handle.clone().filter(|_| far.kind == Kind::File)?;
        Some((handle, triple.path.clone()))
    }

    pub(super) fn note(&mut self, (handle, path): (Arc<str>, RelPath), by: &LeftOutBy) {
        if matches!(by, LeftOutBy::Skipped(_) | LeftOutBy::NewFolder(_)) {
            self.0.insert(handle, path);
        }
    }

    /// Makes drops of the removals of what is among these.
    pub(super) fn drop_here(
        &self,
        pass: &Pass,
        steps: &mut [Step],
        wish: &Wish,
    ) -> Result<(), Error> {
        let far = pass.store(Side::Far);
        if self.0.is_empty() || wish.by_hand || !far.handles_last() {
            return Ok(());
        }
        let lane = pass.lane.row.key;
        let moved_to = pass.ledger.read(|connection| {
            let mut moved_to = BTreeMap::new();
            for step in steps.iter().filter(|step| moved_out::may_have_left(step)) {
                let handle = rows::handle(connection, lane, step.path(), Side::Far)?;
                if let Some(to) = handle.and_then(|handle| self.0.get(handle.as_str())) {
                    moved_to.insert(step.path().clone(), to.clone());
                }
            }
            Ok(moved_to)
        })?;
        moved_out::drop_here(steps, &moved_to);
        Ok(())
    }
}

/// Drops a copy here, once it is proven that the far side holds it at its new place; its bytes.
pub(super) async fn drop_copy(
    pass: &LockedLane,
    step: &Step,
    to: &RelPath,
) -> Result<u64, Trouble> {
    let (path, base) = (step.path(), step.seen.base.as_ref());
    let (Some(base), Some(near)) = (base, step.entry(Side::Near)) else {
        return Err(Trouble::Met("it is gone already".into()));
    };
    let far = pass.store(Side::Far);
    let at_far = |error| Trouble::Side(Side::Far, error);
    let there = far.look(to).await.map_err(at_far)?;
    let there = there.filter(|there| there.kind == Kind::File && there.size == base.size);
    let proven = match there {
        Some(there) => is_proven(pass, &*far, path, (to, &there), near).await?,
        None => false,
    };
    if !proven {
        return Err(Trouble::Met(format!(
            "it was moved to {to} there, which is not taken, but is another version by now: this copy stays"
        )));
    }
    if far.look(path).await.map_err(at_far)?.is_some() {
        return Err(Trouble::Met(
            "it is there again; the next pass looks at it".into(),
        ));
    }
    let change = Change {
        side: Side::Near,
        path,
        old: Some(Version::of(near, base.content)),
        source: None,
        run: None,
        why: format!("{DROPPED}it was moved to {to} there, which is not taken"),
        learned: Learned::default(),
    };
    primitive::remove(pass, change).await?;
    Ok(near.size)
}

/// Whether the version there is the one that was agreed on: by a tag that proves it, or by reading both.
async fn is_proven(
    pass: &Pass,
    far: &dyn SideStore,
    path: &RelPath,
    (to, there): (&RelPath, &Entry),
    near: &Entry,
) -> Result<bool, Trouble> {
    if near.is_stub() {
        // Nothing of it is here that could be lost.
        return Ok(true);
    }
    let lane = pass.lane.row.key;
    let (row, handle) = pass.ledger.read(|connection| {
        let handle = rows::handle(connection, lane, path, Side::Far)?;
        Ok((rows::row(connection, lane, path)?, handle))
    })?;
    // A tag speaks of one file alone; of another one an equal tag says nothing.
    let is_same_file = handle.is_some() && far.handle(there) == handle;
    let by_tag = is_same_file
        && row.is_some_and(|row| {
            !row.unproven && row.base.is_some_and(|base| base.far == there.stamp)
        });
    if by_tag && far.tags_prove() {
        return Ok(true);
    }
    let read = async |side, path: &RelPath, entry: &Entry| {
        digest(&*pass.store(side), path, entry)
            .await
            .map_err(|error| Trouble::Side(side, error))
    };
    Ok(read(Side::Near, path, near).await? == read(Side::Far, to, there).await?)
}
