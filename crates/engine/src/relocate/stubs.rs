//! Stubs on their way to another disk: they cannot be copied, since what makes one is its inode. Each is made anew
//! where the copy grows, and the old one goes with the old folder.

use katabatic_sides::Places as _;
use katabatic_sides::{HoldsStubs as _, Lists as _};
use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use katabatic_core::{Base, Entry, RelPath, Side};

use super::tree;
use crate::config::LaneConfig;
use crate::open::side_failed;
use crate::{Class, Error, Home};
use katabatic_sides::local::{LocalSide, STUB_RIGHTS, STUBS_FOLDER, handle_of, room_place};
use katabatic_sides::stop::Stop;
use katabatic_sides::{NewStub, Placing, Put, SideError, SideStore};

/// The stubs of a near folder, as its lane knows them.
#[derive(Debug, Default)]
pub(crate) struct Stubs(BTreeMap<RelPath, Base>);

impl Stubs {
    /// Of all that was agreed on to be here.
    pub(crate) fn of(agreed: Vec<(RelPath, Base)>) -> Stubs {
        Stubs(
            agreed
                .into_iter()
                .filter(|(_, base)| base.is_stub())
                .collect(),
        )
    }

    /// Each with what was agreed on.
    pub(crate) fn each(&self) -> impl Iterator<Item = (&RelPath, &Base)> {
        self.0.iter()
    }

    pub(super) fn len(&self) -> u64 {
        self.0.len() as u64
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Where they are, from the folder's top.
    pub(super) fn paths(&self) -> HashSet<PathBuf> {
        let paths = self.0.keys();
        paths.map(|path| PathBuf::from(path.as_str())).collect()
    }

    /// Every stub is where the ledger knows it, and every one of the ledger's is there. One that was moved or removed, or
    /// opened meanwhile, is for a pass to settle, which needs the old disk.
    pub(super) fn check(
        &self,
        lane: &LaneConfig,
        found: &BTreeMap<RelPath, Entry>,
    ) -> Result<(), Error> {
        let is_there = |(path, base): (&RelPath, &Base)| {
            let entry = found.get(path);
            entry.is_some_and(|entry| entry.stamp == base.stamps.near)
        };
        let strange =
            |(path, entry): (&RelPath, &Entry)| entry.is_stub() && !self.0.contains_key(path);
        let moved = self.0.iter().find(|stub| !is_there(*stub));
        let strange = found.iter().find(|found| strange(*found));
        let odd = moved
            .map(|(path, _)| path)
            .or(strange.map(|(path, _)| path));
        match odd {
            None => Ok(()),
            Some(path) => Err(Error::new(
                Class::NeedsPerson,
                format!("taking the stubs of lane {} along", lane.name),
                format!(
                    "{path} is or was a stub, and something happened to it that no pass has settled yet"
                ),
                format!(
                    "Nothing was removed. Let a pass settle it first: katabatic sync {0}, then see: katabatic status {0}",
                    lane.name
                ),
            )),
        }
    }

    /// Whether the disk of the folder that grows can hold them, before anything is copied to it.
    pub(super) async fn check_disk(
        &self,
        home: &Home,
        lane: &LaneConfig,
        growing: &Path,
        stop: &Stop,
    ) -> Result<(), Error> {
        fs::create_dir_all(growing).map_err(|why| not_made(lane, why.to_string()))?;
        let side = open(home, lane, growing, stop)?;
        side.holds_stubs().await.map_err(|why| {
            // What was copied there before stays, for a next try.
            let _ = fs::remove_dir_all(katabatic_sides::local::own_folder::path(growing, &lane.id));
            let _ = fs::remove_dir(growing);
            not_made(lane, why)
        })
    }

    /// Makes them in the folder that grows, with the size and the date that were found.
    pub(super) async fn make(
        &self,
        home: &Home,
        lane: &LaneConfig,
        growing: &Path,
        found: &BTreeMap<RelPath, Entry>,
        stop: &Stop,
    ) -> Result<(), Error> {
        let failed = |why: String| not_made(lane, why);
        let at_side = |error: SideError| failed(error.to_string());
        let side = open(home, lane, growing, stop)?;
        for path in self.0.keys() {
            // Of a copy that was cut off; the folder is nobody's but ours.
            if let Some(before) = side.look(path).await.map_err(at_side)?
                && before.is_stub()
            {
                side.forget_stub(&before.stamp).await.map_err(at_side)?;
                fs::remove_file(growing.join(path.as_str()))
                    .map_err(|why| failed(why.to_string()))?;
            }
        }
        let new = |(path, base): (&RelPath, &Base)| NewStub {
            path: path.clone(),
            size: base.size,
            edited: found.get(path).and_then(|entry| entry.edited),
            in_place: false,
            content: base.content,
        };
        let stubs: Vec<NewStub> = self.0.iter().map(new).collect();
        let mut placings = Vec::with_capacity(stubs.len());
        for (staged, stub) in side.stage_stubs(&stubs).await.into_iter().zip(&stubs) {
            let staged = staged.map_err(at_side)?;
            placings.push(Placing {
                slot: staged.slot,
                version: staged.entry,
                path: stub.path.clone(),
            });
        }
        let placed = side.place_all(&placings).await;
        for (placed, placing) in placed.into_iter().zip(&placings) {
            if placed.map_err(|undone| at_side(undone.told()))? == Put::Taken {
                return Err(failed(format!("{} is there already", placing.path)));
            }
        }
        let old = lane.near_folder()?;
        let room = |root: &Path| {
            let place = room_place(root, &home.lane_room(&lane.id), &lane.id);
            place.map_err(|why| failed(why.to_string()))
        };
        let (from, to) = (
            room(old)?.dir.join(STUBS_FOLDER),
            room(growing)?.dir.join(STUBS_FOLDER),
        );
        for placing in &placings {
            let old = self
                .0
                .get(&placing.path)
                .and_then(|base| handle_of(&base.stamps.near));
            if let (Some(old), Some(new)) = (old, handle_of(&placing.version.stamp)) {
                let like = |room: &Path, inode: &str| room.join(format!("{inode}{STUB_RIGHTS}"));
                keep_rights(&like(&from, &old), &like(&to, &new))
                    .map_err(|why| failed(why.to_string()))?;
            }
        }
        Ok(())
    }

    /// None of them was opened, moved or removed since they were looked at.
    pub(crate) async fn check_still(
        &self,
        lane: &LaneConfig,
        side: &dyn SideStore,
    ) -> Result<(), Error> {
        let mut found = BTreeMap::new();
        for path in self.0.keys() {
            let looked = side.look(path).await;
            let looked = looked.map_err(|error| side_failed(lane, Side::Near, &error))?;
            found.extend(looked.map(|entry| (path.clone(), entry)));
        }
        self.check(lane, &found)
    }

    /// Gives up the second names of the old ones.
    pub(crate) async fn forget(&self, side: &dyn SideStore) {
        for (path, base) in &self.0 {
            if let Err(why) = side.forget_stub(&base.stamps.near).await {
                tracing::debug!("{path} leaves a name of its stub: {why}");
            }
        }
    }
}

fn not_made(lane: &LaneConfig, why: String) -> Error {
    Error::new(
        Class::Failed,
        format!("making the stubs of lane {} in its new place", lane.name),
        why,
        format!(
            "Nothing was removed. Bring their content first, which is copied then: katabatic fetch {}; or name a folder on another disk.",
            lane.name
        ),
    )
}

fn open(home: &Home, lane: &LaneConfig, growing: &Path, stop: &Stop) -> Result<LocalSide, Error> {
    LocalSide::open(growing, &home.lane_room(&lane.id), &lane.id, stop.clone())
        .map_err(|error| not_made(lane, error.to_string()))
}

/// The owner, the rights and the attributes that the content had here go along.
fn keep_rights(old: &Path, new: &Path) -> io::Result<()> {
    let meta = match old.symlink_metadata() {
        Err(why) if why.kind() == io::ErrorKind::NotFound => return Ok(()),
        meta => meta?,
    };
    let kept = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(new)?;
    tree::take_over(&kept, old, &meta)
}
