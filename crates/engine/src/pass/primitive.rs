//! Capture, check, place, verify: the one way in which a pass replaces or removes anything, on either side.
//!
//! What is there is first moved whole into the spares. There, where nobody else writes, it is checked to be the
//! version that the plan saw. Only then does the new version take the name, and only while the name is free. Last,
//! what has the name is looked at again. Whatever else is met on the way is put back or kept beside, and the path is
//! planned afresh by the next pass.
//!
//! An intent in the ledger comes before the first of these steps, and goes in the same commit as their outcome. Where a
//! request got no answer, `recover` finds out how things stand and keeps it from being done later; where it cannot, the
//! intent stays, and nothing else is done at the path until it can.

use katabatic_core::blocks::Blocks;
use katabatic_core::{
    Base, Digest, Entry, Kind, PerSide, RelPath, Side, SpareCause, Stamp, Toll, portable,
};

use super::Pass;
use super::recover::{self, Cleared};
use crate::Error;
use crate::seam::Seam;
use crate::session::LockedLane;
pub use crate::session::Trouble;
use katabatic_ledger::block_rows;
use katabatic_ledger::intents::{self, Intent, Version};
use katabatic_ledger::rows::{self, Agreed, Origin};
use katabatic_ledger::runs;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::private_files::random_hex;
use katabatic_sides::{
    Captured, Checked, FolderGone, Put, SideError, SideStore, Staged, Swapped, Undone, Whereabouts,
};

/// Why a name that was to be free is not: something came there, or the side takes another name for this one.
pub(super) async fn why_taken(store: &dyn SideStore, path: &RelPath) -> Trouble {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    let names = store.names(&parent).await.unwrap_or_default();
    let is_there = names.iter().any(|name| name == path.name());
    let double = names
        .into_iter()
        .find(|name| !is_there && portable::is_double(name, path.name()));
    Trouble::Met(match double {
        Some(double) => format!(
            "{} has {double:?}, which differs only in case or in how its letters are coded, and takes the two for one; it could go as {:?} (katabatic names)",
            parent_words(&parent),
            portable::beside(path.name())
        ),
        None => "something came to be there meanwhile; the next pass looks at it".into(),
    })
}

fn parent_words(parent: &RelPath) -> String {
    match parent.is_root() {
        true => "the folder".into(),
        false => format!("the folder {parent}"),
    }
}

/// A change of one side at one path.
pub(crate) struct Change<'a> {
    pub(crate) side: Side,
    pub(crate) path: &'a RelPath,
    /// The version that is to come out.
    pub(crate) old: Option<Version>,
    /// The version that goes in, as the other side shows it under this name, and whether that side ever listed it.
    pub(crate) source: Option<(Version, bool)>,
    pub(crate) run: Option<i64>,
    pub(crate) cause: SpareCause,
    pub(crate) learned: Learned,
}

/// What was learned about a new version on its way, beside its digest.
#[derive(Clone, Debug, Default)]
pub(crate) struct Learned {
    /// The hashes of its blocks.
    pub(crate) blocks: Option<Blocks>,
    /// Whether the content of what was staged is only believed.
    pub(crate) unproven: bool,
}

/// Whether a stub that had its name a moment ago was moved on by somebody: then it was there, and what became of it is
/// found out like any other move.
pub(super) async fn moved_on(store: &dyn SideStore, placed: &Entry) -> bool {
    placed.is_stub() && store.stub_whereabouts(&placed.stamp).await == Ok(Whereabouts::Elsewhere)
}

/// A unique name for what comes out.
pub(crate) fn spare_name() -> Result<String, Trouble> {
    Ok(random_hex(10)?)
}

/// Puts a staged file at a path, replacing the version `old` where there is one, and records it; the spare in which that
/// one lies now.
pub(crate) async fn put(
    pass: &LockedLane,
    change: Change<'_>,
    staged: Staged,
) -> Result<Option<String>, Trouble> {
    put_and(pass, change, staged, false).await
}

/// As [`put`], as if somebody had edited the file on that side: what was agreed stays, and the next pass carries it on.
pub(crate) async fn edit(
    pass: &LockedLane,
    change: Change<'_>,
    staged: Staged,
) -> Result<(), Trouble> {
    put_and(pass, change, staged, true).await.map(drop)
}

async fn put_and(
    pass: &LockedLane,
    change: Change<'_>,
    staged: Staged,
    agreed_stays: bool,
) -> Result<Option<String>, Trouble> {
    let store = pass.store(change.side);
    let spare = change.old.is_some().then(spare_name).transpose()?;
    let intent = Intent {
        spare: spare.clone(),
        old: change.old.clone(),
        staged: Some(staged.slot.clone()),
        new: Some(Version::of(&staged.entry, staged.digest)),
        source: change.source.as_ref().map(|(version, _)| version.clone()),
        unproven: change.learned.unproven,
        source_listed: change.source.as_ref().is_some_and(|(_, listed)| *listed),
        agreed_stays,
        ..Intent::on(change.side, Some(change.cause.clone()))
    };
    let number = note(pass, change.path, &intent).await?;
    pass.seam(Seam::Intended, Some(change.side), Some(change.path))
        .await;
    let doing = Doing {
        pass,
        store: &*store,
        change: &change,
        number,
        intent: &intent,
    };
    let placed = match (&spare, &change.old) {
        (Some(spare), Some(old)) => doing.replace(&staged, spare, &old.entry()).await?,
        _ => doing.place(&staged).await?,
    };
    if let Placed::Now(entry) = placed {
        pass.seam(Seam::Verified, Some(change.side), Some(change.path))
            .await;
        let kept = spare.clone().zip(change.old.clone());
        doing.record_put(&entry, &staged, kept).await?;
    }
    pass.seam(Seam::Recorded, Some(change.side), Some(change.path))
        .await;
    Ok(spare)
}

/// Takes the version `old` out of a path into the spares, and forgets the path; the spare in which it lies now.
pub(crate) async fn remove(pass: &LockedLane, change: Change<'_>) -> Result<String, Trouble> {
    let store = pass.store(change.side);
    let Some(old) = change.old.clone() else {
        return Err(Trouble::Met("there is nothing to remove".into()));
    };
    let slot = spare_name()?;
    let intent = Intent {
        spare: Some(slot.clone()),
        old: Some(old.clone()),
        ..Intent::on(change.side, Some(change.cause.clone()))
    };
    let number = note(pass, change.path, &intent).await?;
    pass.seam(Seam::Intended, Some(change.side), Some(change.path))
        .await;
    let doing = Doing {
        pass,
        store: &*store,
        change: &change,
        number,
        intent: &intent,
    };
    if let TakenOut::Recorded = doing.take_out(&slot, &old.entry()).await? {
        return Ok(slot);
    }
    let spare = doing.spare_of(&slot, &old);
    let (lane, path, run) = (pass.lane.row.key, change.path.clone(), change.run);
    pass.ledger.write_later(move |connection| {
        spare_rows::add(connection, &spare)?;
        rows::forget(connection, lane, &path)?;
        if let Some(run) = run {
            runs::count_toll(
                connection,
                run,
                Toll {
                    removed: 1,
                    replaced: 0,
                },
            )?;
        }
        intents::done(connection, number)
    });
    pass.seam(Seam::Recorded, Some(change.side), Some(change.path))
        .await;
    Ok(slot)
}

/// Gives something another name on one side, where nothing has that; what was agreed stays as it is.
pub(crate) async fn rename(
    pass: &LockedLane,
    on: Side,
    (from, to): (&RelPath, &RelPath),
    seen: &Entry,
    cause: SpareCause,
) -> Result<Put, Trouble> {
    let intent = Intent {
        old: Some(Version::of(seen, None)),
        moved_from: Some(from.to_string()),
        agreed_stays: true,
        ..Intent::on(on, Some(cause))
    };
    let number = note(pass, to, &intent).await?;
    pass.seam(Seam::Intended, Some(on), Some(to)).await;
    let put = match pass.store(on).rename(from, to).await {
        Ok(put) => Ok(put),
        Err(Undone::NotDone(error)) => Err(Trouble::Side(on, error)),
        Err(Undone::Unsure(why)) => {
            resolve(pass, on, to, (number, &intent), why).await?;
            return Ok(Put::Done);
        }
    };
    pass.ledger
        .write_later(move |connection| intents::done(connection, number));
    put
}

/// Removes a folder that should be empty by now, and forgets it; what is in it all the same keeps it.
pub(crate) async fn remove_folder(
    pass: &LockedLane,
    on: Side,
    path: &RelPath,
) -> Result<FolderGone, Trouble> {
    let spare = spare_name()?;
    let intent = Intent {
        spare: Some(spare.clone()),
        old: Some(Version::of(&Entry::folder(), None)),
        expects_empty: true,
        ..Intent::on(on, Some(SpareCause::RemovedFrom(on.other())))
    };
    let number = note(pass, path, &intent).await?;
    let gone = match pass.store(on).remove_folder(path, &spare).await {
        Ok(gone) => gone,
        Err(Undone::NotDone(error)) => {
            pass.ledger
                .write_later(move |connection| intents::done(connection, number));
            return Err(Trouble::Side(on, error));
        }
        Err(Undone::Unsure(why)) => {
            resolve(pass, on, path, (number, &intent), why).await?;
            return Ok(FolderGone::Gone);
        }
    };
    pass.seam(Seam::RemovedFolder, Some(on), Some(path)).await;
    let (lane, forgotten) = (pass.lane.row.key, path.clone());
    let (is_gone, kept) = match &gone {
        FolderGone::Gone => (true, None),
        FolderGone::InSpare => {
            let folder = Version::of(&Entry::folder(), None);
            let kept = self::spare(pass, on, path, &spare, &folder, None, &intent.spare_cause());
            (true, Some(kept))
        }
        FolderGone::Kept(_) => (false, None),
    };
    pass.ledger.write_later(move |connection| {
        if let Some(kept) = &kept {
            spare_rows::add(connection, kept)?;
        }
        if is_gone {
            rows::forget(connection, lane, &forgotten)?;
        }
        intents::done(connection, number)
    });
    Ok(gone)
}

/// Notes what is about to be done. Where an earlier request at one of these paths may be done yet, nothing is.
pub(super) async fn note(
    pass: &LockedLane,
    path: &RelPath,
    intent: &Intent,
) -> Result<i64, Trouble> {
    let from = intent.moved_from();
    for path in from.iter().chain([path]) {
        check_clear(pass, intent.side(), path)?;
    }
    let noted = note_all(pass, vec![(path.clone(), intent.clone())]).await?;
    let number = noted.into_iter().next();
    number.ok_or_else(|| Trouble::Met("nothing was noted of it".into()))
}

/// Makes sure that no earlier request at a path may be done yet.
pub(crate) fn check_clear(pass: &LockedLane, side: Side, path: &RelPath) -> Result<(), Trouble> {
    match pass.is_held(side, path) {
        true => Err(Trouble::Met(
            "an earlier request here got no answer and may be done yet; the next pass looks at it"
                .into(),
        )),
        false => Ok(()),
    }
}

/// Notes many in one commit; the number of each.
pub(super) async fn note_all(
    pass: &LockedLane,
    intents: Vec<(RelPath, Intent)>,
) -> Result<Vec<i64>, Error> {
    let (lane, now) = (pass.lane.row.key, pass.clock.now().0);
    let place = pass.lane.place.clone();
    pass.ledger
        .write(move |connection| {
            let note = |(path, intent): &(RelPath, Intent)| {
                let intent = Intent {
                    noted_at: Some(now),
                    place: place.clone(),
                    ..intent.clone()
                };
                intents::note(connection, lane, path, &intent)
            };
            intents.iter().map(note).collect()
        })
        .await
}

/// A request got no answer: whether it was done is found out, and it is kept from being done later. Where what was
/// intended turns out to be done, it is recorded.
pub(super) async fn resolve(
    pass: &LockedLane,
    side: Side,
    path: &RelPath,
    (number, intent): (i64, &Intent),
    why: SideError,
) -> Result<(), Trouble> {
    match recover::clear_up(pass, path, (number, intent)).await {
        Ok(Cleared::Done) => Ok(()),
        Ok(Cleared::AsBefore) => Err(Trouble::Met(format!(
            "{why}; how things stand is known now, and the next pass goes on from there"
        ))),
        Err(error) => {
            tracing::debug!("{path} is held: {error}");
            pass.hold(path, intent);
            Err(Trouble::Unsure(side, why))
        }
    }
}

/// How the new version got its place.
enum Placed {
    /// It stands there now.
    Now(Entry),
    /// It was found there, and is recorded.
    Recorded,
}

/// How the old version came out.
enum TakenOut {
    /// It is in the spare, and is what it should be.
    Now,
    /// That, and all that was to follow, was found done, and is recorded.
    Recorded,
}

struct Doing<'a> {
    pass: &'a LockedLane,
    store: &'a dyn SideStore,
    change: &'a Change<'a>,
    number: i64,
    intent: &'a Intent,
}

impl Doing<'_> {
    /// As the function of that name.
    async fn resolve(&self, why: SideError) -> Result<(), Trouble> {
        let intent = (self.number, self.intent);
        resolve(self.pass, self.change.side, self.change.path, intent, why).await
    }

    /// How things stand is known, and they cannot be put right now: the intent stays, and the next pass tries.
    fn held(&self, error: SideError) -> Trouble {
        self.pass.hold(self.change.path, self.intent);
        Trouble::Unsure(self.change.side, error)
    }

    async fn seam(&self, seam: Seam) {
        self.pass
            .seam(seam, Some(self.change.side), Some(self.change.path))
            .await;
    }

    fn side(&self, error: SideError) -> Trouble {
        Trouble::Side(self.change.side, error)
    }

    /// The path is as it was found: nothing is left to clear up.
    fn undone(&self) {
        let number = self.number;
        self.pass
            .ledger
            .write_later(move |connection| intents::done(connection, number));
    }

    /// Drops what was staged, and the intent. A leftover in the staging is cleared by the next pass.
    async fn drop_staged(&self, staged: &Staged) {
        if let Err(why) = self.store.unstage(&staged.slot).await {
            tracing::debug!("something staged is left over: {why}");
        }
        self.undone();
    }

    async fn place(&self, staged: &Staged) -> Result<Placed, Trouble> {
        match self
            .store
            .place(&staged.slot, &staged.entry, self.change.path)
            .await
        {
            Ok(Put::Done) => {}
            Ok(Put::Taken) => {
                self.drop_staged(staged).await;
                return Err(why_taken(self.store, self.change.path).await);
            }
            Err(Undone::Unsure(why)) => {
                self.resolve(why).await?;
                return Ok(Placed::Recorded);
            }
            Err(Undone::NotDone(error)) => {
                self.drop_staged(staged).await;
                return Err(self.side(error));
            }
        }
        self.seam(Seam::Placed).await;
        self.verify(staged).await.map(Placed::Now)
    }

    async fn verify(&self, staged: &Staged) -> Result<Entry, Trouble> {
        match self.store.verify(self.change.path, &staged.entry).await {
            Ok(Some(entry)) => Ok(entry),
            Ok(None) if moved_on(self.store, &staged.entry).await => Ok(staged.entry.clone()),
            Ok(None) => {
                self.undone();
                Err(Trouble::Met(
                    "it was changed right after it was put there; the next pass looks at it".into(),
                ))
            }
            // It is in place; the intent stays, and the next pass finds it there.
            Err(error) => Err(self.held(error)),
        }
    }

    async fn replace(&self, staged: &Staged, spare: &str, old: &Entry) -> Result<Placed, Trouble> {
        match self.store.swap(&staged.slot, self.change.path, spare).await {
            Ok(Swapped::Done) => self.check_swapped(staged, spare, old).await,
            Ok(Swapped::Unable) => match self.take_out(spare, old).await {
                Ok(TakenOut::Now) => self.place_over(staged, spare).await,
                Ok(TakenOut::Recorded) => Ok(Placed::Recorded),
                Err(trouble) => {
                    // Where it stays open how things stand, the intent stays, and with it what was staged.
                    if !matches!(trouble, Trouble::Unsure(..)) {
                        let _ = self.store.unstage(&staged.slot).await;
                    }
                    Err(trouble)
                }
            },
            Ok(Swapped::Nothing) => {
                self.drop_staged(staged).await;
                Err(Trouble::Met(
                    "it was removed meanwhile; the next pass looks at it".into(),
                ))
            }
            Err(Undone::Unsure(why)) => {
                self.resolve(why).await?;
                Ok(Placed::Recorded)
            }
            Err(Undone::NotDone(error)) => {
                self.drop_staged(staged).await;
                Err(self.side(error))
            }
        }
    }

    /// The new version is in place and the old one in the spare; was that the one the plan saw?
    async fn check_swapped(
        &self,
        staged: &Staged,
        spare: &str,
        old: &Entry,
    ) -> Result<Placed, Trouble> {
        self.seam(Seam::Captured).await;
        match self.store.check(spare, old).await {
            Ok(Checked::Same) => {
                self.seam(Seam::Checked).await;
                self.seam(Seam::Placed).await;
                let verified = self.verify(staged).await;
                if matches!(verified, Err(Trouble::Met(_))) {
                    self.keep_as_spare(spare, old.size);
                }
                verified.map(Placed::Now)
            }
            Ok(Checked::Other | Checked::Nothing) => {
                match self.store.swap_back(self.change.path, spare).await {
                    Ok(()) => {}
                    // Whatever is on the shelf, the intent names it until it is back.
                    Err(undone) => return Err(self.held(undone.told())),
                }
                self.after_swap_back(staged, spare).await?;
                Err(Trouble::Met(
                    "another version came to be there meanwhile; it was put back untouched".into(),
                ))
            }
            Err(error) => Err(self.held(error)),
        }
    }

    /// What came out of the way back is our own copy, or one more version of a stranger's: both are kept.
    async fn after_swap_back(&self, staged: &Staged, spare: &str) -> Result<(), Trouble> {
        let ours = self
            .store
            .check(spare, &staged.entry)
            .await
            .map_err(|error| self.held(error))?;
        // It stood under its real name for a moment, and where it came from there may be another version by now. What
        // somebody saved over it meanwhile is another content than ours, and comes forward when it is read again.
        if ours != Checked::Nothing {
            // Of a stub no content is known, and whatever is read is another one.
            let digest = staged.digest.unwrap_or_else(|| Digest::of(b""));
            let own = Version::of(&staged.entry, Some(digest));
            let mut spare = self.spare_of(spare, &own);
            if ours != Checked::Same {
                // Somebody's own is never dropped, whatever was to become of what the plan saw.
                spare.cause = SpareCause::Met;
            }
            self.pass
                .ledger
                .write_later(move |connection| spare_rows::add(connection, &spare));
        }
        self.undone();
        Ok(())
    }

    /// Captures, and checks that it is the expected version; anything else goes back.
    async fn take_out(&self, spare: &str, old: &Entry) -> Result<TakenOut, Trouble> {
        match self.store.capture(self.change.path, spare).await {
            Ok(Captured::Taken) => {}
            Ok(Captured::Nothing) => {
                self.undone();
                return Err(Trouble::Met(
                    "it was removed meanwhile; the next pass looks at it".into(),
                ));
            }
            Err(Undone::Unsure(why)) => {
                self.resolve(why).await?;
                return Ok(TakenOut::Recorded);
            }
            Err(Undone::NotDone(error)) => {
                self.undone();
                return Err(self.side(error));
            }
        }
        self.seam(Seam::Captured).await;
        match self.store.check(spare, old).await {
            Ok(Checked::Same) => {
                self.seam(Seam::Checked).await;
                Ok(TakenOut::Now)
            }
            Ok(Checked::Other | Checked::Nothing) => {
                self.give_back(spare, old.size).await?;
                Err(Trouble::Met(
                    "another version came to be there meanwhile; it was put back untouched".into(),
                ))
            }
            Err(error) => {
                // Whatever it is that was taken out, its place is where it was.
                self.give_back(spare, old.size).await?;
                Err(self.side(error))
            }
        }
    }

    /// Puts back what was captured; where its name was taken meanwhile, it stays as a spare.
    async fn give_back(&self, spare: &str, size: u64) -> Result<(), Trouble> {
        match self.store.put_back(spare, self.change.path).await {
            Ok(Put::Done) => self.undone(),
            Ok(Put::Taken) => {
                self.keep_as_spare(spare, size);
                self.undone();
            }
            Err(undone) => return Err(self.held(undone.told())),
        }
        Ok(())
    }

    /// The old version is out; the new one takes its name.
    async fn place_over(&self, staged: &Staged, spare: &str) -> Result<Placed, Trouble> {
        let old_size = self.change.old.as_ref().map_or(0, |old| old.size);
        match self
            .store
            .place(&staged.slot, &staged.entry, self.change.path)
            .await
        {
            Ok(Put::Done) => {}
            Ok(Put::Taken) => {
                self.keep_as_spare(spare, old_size);
                self.drop_staged(staged).await;
                return Err(Trouble::Met(
                    "something new came to be there meanwhile; the next pass looks at it".into(),
                ));
            }
            Err(Undone::Unsure(why)) => {
                self.resolve(why).await?;
                return Ok(Placed::Recorded);
            }
            Err(Undone::NotDone(error)) => {
                self.give_back(spare, old_size).await?;
                self.drop_staged(staged).await;
                return Err(self.side(error));
            }
        }
        self.seam(Seam::Placed).await;
        let verified = self.verify(staged).await;
        if matches!(verified, Err(Trouble::Met(_))) {
            self.keep_as_spare(spare, old_size);
        }
        verified.map(Placed::Now)
    }

    fn spare_of(&self, slot: &str, version: &Version) -> Spare {
        spare(
            self.pass,
            self.change.side,
            self.change.path,
            slot,
            version,
            self.change.run,
            &self.change.cause,
        )
    }

    /// Registers a version that nobody asked to take out, but that must not be lost sight of.
    fn keep_as_spare(&self, slot: &str, size: u64) {
        let version = Version::unknown(size);
        let spare = Spare {
            cause: SpareCause::Met,
            ..self.spare_of(slot, &version)
        };
        self.pass
            .ledger
            .write_later(move |connection| spare_rows::add(connection, &spare));
    }

    async fn record_put(
        &self,
        placed: &Entry,
        staged: &Staged,
        kept: Option<(String, Version)>,
    ) -> Result<(), Trouble> {
        let intent = self.intent;
        let new = Version::of(placed, staged.digest);
        let agreed = agreed_put(
            self.pass,
            self.change.side,
            self.change.path,
            placed,
            &new,
            intent,
        );
        let spare = kept.map(|(slot, old)| self.spare_of(&slot, &old));
        let (lane, run, number) = (self.pass.lane.row.key, self.change.run, self.number);
        let blocks = self.change.learned.blocks.clone();
        let agreed = (!intent.agreed_stays).then_some(agreed);
        self.pass.ledger.write_later(move |connection| {
            if let Some(agreed) = &agreed {
                rows::agree(connection, lane, agreed)?;
                if let (Some(blocks), Some(content)) = (&blocks, &agreed.base.content) {
                    block_rows::keep(connection, lane, &agreed.path, content, blocks)?;
                }
            }
            if let Some(spare) = &spare {
                spare_rows::add(connection, spare)?;
                let replaced = !spare.cause.is_drop();
                if let Some(run) = run.filter(|_| replaced) {
                    runs::count_toll(
                        connection,
                        run,
                        Toll {
                            removed: 0,
                            replaced: 1,
                        },
                    )?;
                }
            }
            intents::done(connection, number)
        });
        Ok(())
    }
}

/// The row of a version that went out.
pub(crate) fn spare(
    pass: &Pass,
    side: Side,
    path: &RelPath,
    slot: &str,
    version: &Version,
    run: Option<i64>,
    cause: &SpareCause,
) -> Spare {
    Spare {
        place: pass.lane.place.clone(),
        lane_id: None,
        stamp: (!version.stamp.as_str().is_empty()).then(|| version.stamp.clone()),
        number: 0,
        lane: pass.lane.row.key,
        lane_name: pass.lane.config.name.clone(),
        side,
        path: path.clone(),
        slot: slot.to_owned(),
        folder: version.folder,
        size: version.size,
        content: version.digest(),
        edited: version.edited(),
        taken_at: pass.clock.now(),
        run,
        cause: cause.clone(),
    }
}

/// What both sides agree on once `placed` stands on `side`.
pub(crate) fn agreed_put(
    pass: &Pass,
    side: Side,
    path: &RelPath,
    placed: &Entry,
    new: &Version,
    intent: &Intent,
) -> Agreed {
    let source = intent
        .source
        .as_ref()
        .map_or_else(|| Stamp::new(""), |version| version.stamp.clone());
    let (near, far) = match side {
        Side::Near => (placed.stamp.clone(), source),
        Side::Far => (source, placed.stamp.clone()),
    };
    let base = Base {
        kind: Kind::File,
        size: placed.size,
        content: new.digest(),
        stamps: PerSide {
            near: near.clone(),
            far,
        },
        listed: PerSide {
            near: true,
            far: side == Side::Near && intent.source_listed,
        },
        // Without a source it is on this side alone.
        away: intent.source.is_none().then_some(side.other()),
    };
    let edited = intent
        .source
        .as_ref()
        .and_then(Version::edited)
        .or(placed.edited);
    let source = intent.source.as_ref().map(Version::entry);
    let seen = match side {
        Side::Near => (Some(placed), source.as_ref()),
        Side::Far => (source.as_ref(), Some(placed)),
    };
    Agreed {
        unproven: intent.unproven,
        origin: match side {
            Side::Near if intent.source.is_some() => Origin::There,
            Side::Near | Side::Far => Origin::Here,
        },
        ..agreed(pass, path, base, edited, seen)
    }
}

/// A row to record; a stamp that may still hide a change is marked so that the next pass reads the content. `near` and
/// `far` are the versions that were seen, where the row is about a file.
pub(crate) fn agreed(
    pass: &Pass,
    path: &RelPath,
    mut base: Base,
    edited: Option<katabatic_core::EditTime>,
    (near, far): (Option<&Entry>, Option<&Entry>),
) -> Agreed {
    let far_handle = far.and_then(|far| pass.lane.far.handle(far));
    // On a disk the stamp alone tells all that is asked here.
    let by_stamp = Entry::file(base.size, base.stamps.near.clone());
    let seen = near
        .filter(|near| near.stamp == base.stamps.near)
        .unwrap_or(&by_stamp);
    let near_handle = pass.lane.near.handle(seen);
    // The stamp of a file that is written all the time was taken before its copy was read: by now it no longer looks
    // fresh, and still may hide a write from between the two.
    let hides_a_write = pass.lane.near.is_fresh(seen) || pass.reads_a_copy_of(path);
    if base.kind == Kind::File && hides_a_write {
        base.stamps.near = base.stamps.near.doubted();
    }
    if base.kind == Kind::File && far.is_some_and(|far| pass.lane.far.is_fresh(far)) {
        match base.is_stub() {
            // There is nothing here to read it against; which content it is will be known when that comes.
            true => base.content = None,
            false => base.stamps.far = base.stamps.far.doubted(),
        }
    }
    Agreed {
        path: path.clone(),
        base,
        edited,
        near_handle,
        far_handle,
        unproven: false,
        origin: Origin::AsBefore,
    }
}
