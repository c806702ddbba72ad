//! Files that were moved on the far side into a folder that is not taken: found by their ids, and dropped here.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use katabatic_core::{
    DroppedFor, Kind, LeftOutBy, RelPath, Side, SpareCause, Step, Triple, View, moved_out,
};

use super::carry::{Moved, Room};
use super::give_up::Copy;
use super::primitive::{self, Change, Learned, Trouble};
use super::{Pass, Wish};
use crate::Error;
use crate::proof::{self, Claim};
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;
use katabatic_sides::proof::Proof;

/// What lies on the far side in folders that are not taken and may have been moved there: where, by its id.
#[derive(Default)]
pub(crate) struct NotTaken(HashMap<Arc<str>, RelPath>);

impl NotTaken {
    /// A file that may have been moved out of what is taken, should the choice turn out to leave it out.
    pub(super) fn candidate(triple: &Triple) -> Option<(Arc<str>, RelPath)> {
        let (None, View::Absent, View::Present(far)) =
            (&triple.base, &triple.views.near, &triple.views.far)
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

    /// Where the far side has now what these steps would remove here.
    pub(super) fn moved_to(
        &self,
        pass: &Pass,
        steps: &[Step],
        wish: &Wish,
    ) -> Result<BTreeMap<RelPath, RelPath>, Error> {
        let mut moved_to = BTreeMap::new();
        if self.0.is_empty() || wish.by_hand || !pass.store(Side::Far).handles_last() {
            return Ok(moved_to);
        }
        let lane = pass.lane.row.key;
        pass.ledger.read(|connection| {
            for step in steps.iter().filter(|step| moved_out::may_have_left(step)) {
                let handle = rows::handle(connection, lane, step.path(), Side::Far)?;
                if let Some(to) = handle.and_then(|handle| self.0.get(handle.as_str())) {
                    moved_to.insert(step.path().clone(), to.clone());
                }
            }
            Ok(())
        })?;
        Ok(moved_to)
    }
}

/// Drops a copy here, once it is proven that the far side holds it at its new place; its bytes.
pub(super) async fn drop_copy(
    room: &Room<'_>,
    step: &Step,
    to: &RelPath,
) -> Result<Moved, Trouble> {
    let (pass, path) = (room.pass, step.path());
    let Some(near) = step.entry(Side::Near) else {
        return Err(Trouble::Met("it is gone already".into()));
    };
    let far = &pass.lane.far;
    let at_far = |error| Trouble::Side(Side::Far, error);
    let there = far.look(to).await.map_err(at_far)?;
    let there = there.filter(|there| there.kind == Kind::File && there.size == near.size);
    let Some(there) = there else {
        return Err(another_version(to));
    };
    // Nothing of a stub is here that could be lost.
    let proof = match near.is_stub() {
        true => None,
        false => {
            let claim = Claim {
                path,
                near,
                at: to,
                far: &there,
            };
            let proven = proof::prove(pass, &claim, &proof::Told::default()).await;
            Some(proven.map_err(|trouble| match trouble {
                Trouble::Met(_) => another_version(to),
                trouble => trouble,
            })?)
        }
    };
    if far.look(path).await.map_err(at_far)?.is_some() {
        return Err(Trouble::Met(
            "it is there again; the next pass looks at it".into(),
        ));
    }
    let content = proof.as_ref().map(Proof::content);
    let change = Change {
        side: Side::Near,
        path,
        old: Some(Version::of(near, content)),
        source: None,
        run: None,
        cause: SpareCause::Dropped(DroppedFor::MovedOut(to.to_string())),
        learned: Learned::default(),
    };
    let slot = primitive::remove(pass, change).await?;
    if let Some(proof) = proof {
        let path = path.clone();
        room.give_up(Copy { path, slot, proof }).await?;
    }
    Moved::bytes(near.size)
}

fn another_version(to: &RelPath) -> Trouble {
    Trouble::Met(format!(
        "it was moved to {to} there, which is not taken, but is another version by now: this copy stays"
    ))
}
