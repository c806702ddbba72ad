//! Before a pass looks at anything: what an earlier one was cut off in is finished or undone.
//!
//! Every intent that has no outcome yet is a question: how far did it come? The answer is always on the side itself.
//! Where the spare holds the version that was to come out, and the new version stands in its place, it was done, and
//! only the ledger had not heard. Where the spare holds it and its place is empty, it is finished or put back. Where
//! the spare holds anything else, that goes back. Where a look fails, the path is held until a later pass.

use katabatic_core::{Entry, Kind, RelPath};

use super::late_writers::make_again;
use super::moves::{self, Cleared};
use super::primitive::{MET, agreed_put, moved_on, spare};
use super::scan::digest;
use super::{Pass, Unfinished};
use crate::Error;
use crate::ledger::intents::{self, Intent, Version};
use crate::ledger::partial_rows;
use crate::ledger::rows;
use crate::ledger::runs;
use crate::ledger::spare_rows;
use crate::session::LockedLane;
use crate::sides::{Checked, Put, SideError, SideStore};

/// The paths that a pass was cut off at, without clearing up any.
pub(crate) fn unfinished(pass: &Pass) -> Result<Unfinished, Error> {
    let intents = pass
        .ledger
        .read(|connection| intents::unfinished(connection, pass.lane.row.key))?;
    let held = |(_, path, intent): (i64, RelPath, Intent)| {
        (
            path,
            (intent.side(), "the next sync clears it up".to_owned()),
        )
    };
    Ok(intents.into_iter().map(held).collect())
}

/// Clears up, and says which paths could not be.
pub(crate) async fn recover(pass: &LockedLane) -> Result<Unfinished, Error> {
    let intents = pass
        .ledger
        .read(|connection| intents::unfinished(connection, pass.lane.row.key))?;
    let mut held = Unfinished::new();
    let cut_off = !intents.is_empty() || was_cut_off(pass)?;
    for (number, path, intent) in intents {
        let side = intent.side();
        let store = pass.store(side);
        let one = One {
            pass,
            store: &*store,
            number,
            path: &path,
            intent: &intent,
        };
        match one.clear_up().await {
            Ok(()) => {}
            Err(error) if error.ends_the_pass() => return Err(pass.side_failed(side, &error)),
            Err(error) => {
                held.insert(path, (side, error.to_string()));
            }
        }
    }
    if held.is_empty() {
        for side in [katabatic_core::Side::Near, katabatic_core::Side::Far] {
            // Leftovers cost room and nothing else; the next pass tries again.
            let (lane, now) = (pass.lane.row.key, pass.clock.now());
            let keep = pass
                .ledger
                .write(move |connection| partial_rows::wanted(connection, lane, side, now))
                .await?;
            let keep = keep.into_iter().collect();
            if let Err(why) = pass.store(side).clear_staging(&keep).await {
                tracing::debug!("leftovers in the staging could not be cleared: {why}");
            }
        }
    }
    pass.ledger.flush().await?;
    if cut_off && held.is_empty() {
        // A stub that went just before the end may have left its second name behind.
        let lane = pass.lane.row.key;
        let known = pass
            .ledger
            .read(|connection| rows::stub_handles(connection, lane))?;
        if let Err(why) = pass.lane.near.keep_only_stubs(&known).await {
            tracing::debug!("what was kept of stubs that are gone is there still: {why}");
        }
    }
    Ok(held)
}

/// Whether the last run of the lane did not come to its end.
fn was_cut_off(pass: &Pass) -> Result<bool, Error> {
    let name = &pass.lane.config.name;
    let last = pass
        .ledger
        .read(|connection| runs::last(connection, Some(name), 1))?;
    Ok(last.first().is_some_and(|run| run.outcome.is_none()))
}

/// Whether the folder of a path is there.
pub(super) async fn has_folder(store: &dyn SideStore, path: &RelPath) -> Result<bool, SideError> {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    if parent.is_root() {
        return Ok(true);
    }
    let there = store.look(&parent).await?;
    Ok(there.is_some_and(|there| there.kind == Kind::Folder))
}

struct One<'a> {
    pass: &'a LockedLane,
    store: &'a dyn SideStore,
    number: i64,
    path: &'a RelPath,
    intent: &'a Intent,
}

impl One<'_> {
    async fn clear_up(&self) -> Result<(), SideError> {
        if let Some(from) = &self.intent.moved_from {
            let cleared =
                moves::clear_up(self.pass, self.store, self.path, self.intent, from).await?;
            match cleared {
                Cleared::Forgotten => self.done(None, None),
                Cleared::KeptAsSpare => {
                    let slot = self.intent.spare.as_deref().unwrap_or_default();
                    self.keep(slot, self.intent.old.as_ref());
                }
            }
            return Ok(());
        }
        let Some(slot) = &self.intent.spare else {
            return self.nothing_was_to_come_out().await;
        };
        if self.store.look_at_spare(slot).await?.is_none() {
            // Nothing came out, so nothing went in.
            self.done(None, None);
            return Ok(());
        }
        // Only a folder of this computer ever has anything of ours on its spares' shelf, to be exchanged; and only there
        // is it known by its inode. In an account, an equal tag could be the old version's own.
        if let Some(new) = &self.intent.new
            && self.store.exchanges()
            && self.store.check(slot, &new.entry()).await? == Checked::Same
        {
            // Our own copy, on its way to be exchanged, or on its way back.
            self.store.drop_spare(slot).await?;
            self.done(None, None);
            return Ok(());
        }
        let expected = match &self.intent.old {
            Some(old) => self.store.check(slot, &old.entry()).await? == Checked::Same,
            None => false,
        };
        if expected {
            self.came_out(slot).await
        } else {
            self.something_else_came_out(slot).await
        }
    }

    /// A new file: either it arrived under its name, or it did not.
    async fn nothing_was_to_come_out(&self) -> Result<(), SideError> {
        let placed = match &self.intent.new {
            Some(new) if self.intent.staged.is_none() => self.sent_at_once(new).await?,
            Some(new) => match self.store.verify(self.path, &new.entry()).await? {
                Some(placed) => Some(placed),
                None => self.moved_since(new).await?,
            },
            None => None,
        };
        self.done(placed.as_ref(), None);
        Ok(())
    }

    /// A stub that got its name and was moved on by somebody before the ledger had heard of it: it was there, and what
    /// became of it is found out like any other move.
    async fn moved_since(&self, new: &Version) -> Result<Option<Entry>, SideError> {
        let entry = new.entry();
        let staged = match &self.intent.staged {
            Some(slot) => self.store.is_staged(slot).await?,
            None => true,
        };
        if !entry.is_stub() || staged {
            return Ok(None);
        }
        Ok(moved_on(self.store, &entry).await.then_some(entry))
    }

    /// A small file that went under its real name in one request: no tag was known before it arrived, so what is there
    /// is ours only where its content is.
    async fn sent_at_once(&self, new: &Version) -> Result<Option<Entry>, SideError> {
        let Some(there) = self.store.look(self.path).await? else {
            return Ok(None);
        };
        if there.kind != Kind::File || there.size != new.size {
            return Ok(None);
        }
        let content = digest(self.store, self.path, &there).await?;
        Ok((Some(content) == new.digest()).then_some(there))
    }

    /// The spare holds the version that was to come out.
    async fn came_out(&self, slot: &str) -> Result<(), SideError> {
        let Some(new) = &self.intent.new else {
            // A removal. The name may have been taken since; that is a new file then.
            self.done(None, Some(slot));
            return Ok(());
        };
        if let Some(placed) = self.store.verify(self.path, &new.entry()).await? {
            self.done(Some(&placed), Some(slot));
            return Ok(());
        }
        if self.store.look(self.path).await?.is_some() {
            // Somebody wrote there since. Both versions stay; the next look decides.
            self.done(None, Some(slot));
            return Ok(());
        }
        if let Some(staged) = &self.intent.staged
            && self.store.is_staged(staged).await?
            && has_folder(self.store, self.path).await?
            && self.store.place(staged, &new.entry(), self.path).await? == Put::Done
            && let Some(placed) = self.store.verify(self.path, &new.entry()).await?
        {
            self.done(Some(&placed), Some(slot));
            return Ok(());
        }
        if let Some(placed) = self.moved_since(new).await? {
            self.done(Some(&placed), Some(slot));
            return Ok(());
        }
        let back = match has_folder(self.store, self.path).await? {
            true => self.store.put_back(slot, self.path).await?,
            // Its folder went meanwhile: there is nothing that it could go back to.
            false => Put::Taken,
        };
        self.done(None, (back == Put::Taken).then_some(slot));
        Ok(())
    }

    /// The spare holds a stranger's version, captured in the instant before it would have been checked.
    async fn something_else_came_out(&self, slot: &str) -> Result<(), SideError> {
        let ours_in_place = match &self.intent.new {
            Some(new) if self.store.exchanges() => {
                self.store.verify(self.path, &new.entry()).await?.is_some()
            }
            _ => false,
        };
        if ours_in_place {
            self.store.swap_back(self.path, slot).await?;
            let own = self.intent.new.as_ref().map(Version::entry);
            let ours_again = match own {
                Some(own) => self.store.check(slot, &own).await?,
                None => Checked::Nothing,
            };
            match ours_again {
                // It stood under its real name, and where it came from there may be another version by now.
                Checked::Same => self.keep(slot, self.intent.new.as_ref()),
                Checked::Other => self.met(slot),
                Checked::Nothing => self.done(None, None),
            }
            return Ok(());
        }
        let back = match has_folder(self.store, self.path).await? {
            true => self.store.put_back(slot, self.path).await?,
            false => {
                // Somebody's own version must not lie in the spares alone because its folder went meanwhile.
                let parent = self.path.parent().unwrap_or_else(RelPath::root);
                let folder = make_again(self.store, &parent).await?;
                let beside = folder.join(self.path.name());
                let beside = beside.map_err(|why| SideError::Failed(why.to_string()))?;
                self.store.put_back(slot, &beside).await?
            }
        };
        match back {
            Put::Taken => self.met(slot),
            Put::Done => self.done(None, None),
        }
        Ok(())
    }

    /// Keeps somebody's own version as a spare, which is not what the plan saw, and is never dropped as that may be.
    fn met(&self, slot: &str) {
        let intent = Intent {
            why: MET.into(),
            ..self.intent.clone()
        };
        let one = One {
            intent: &intent,
            ..*self
        };
        one.done(None, Some(slot));
    }

    /// Keeps what is in the slot as a spare.
    fn keep(&self, slot: &str, version: Option<&Version>) {
        let (pass, intent, number) = (self.pass, self.intent, self.number);
        let unknown = Version::unknown(0);
        let version = version.unwrap_or(&unknown);
        let kept = spare(
            pass,
            intent.side(),
            self.path,
            slot,
            version,
            None,
            &intent.why,
        );
        pass.ledger.write_later(move |connection| {
            spare_rows::add(connection, &kept)?;
            intents::done(connection, number)
        });
    }

    /// Records the outcome: what stands in place, if it is ours, and what is kept as a spare.
    fn done(&self, placed: Option<&Entry>, kept: Option<&str>) {
        let (pass, intent) = (self.pass, self.intent);
        let agreed = placed
            .filter(|_| !intent.agreed_stays)
            .zip(intent.new.as_ref())
            .map(|(placed, new)| agreed_put(pass, intent.side(), self.path, placed, new, intent));
        let kept = kept.map(|slot| {
            let nothing = Version::unknown(0);
            let old = intent.old.as_ref().unwrap_or(&nothing);
            spare(pass, intent.side(), self.path, slot, old, None, &intent.why)
        });
        let removed = intent.new.is_none() && kept.is_some();
        let (lane, path, number) = (pass.lane.row.key, self.path.clone(), self.number);
        pass.ledger.write_later(move |connection| {
            if let Some(agreed) = &agreed {
                rows::agree(connection, lane, agreed)?;
            }
            if let Some(kept) = &kept {
                spare_rows::add(connection, kept)?;
            }
            if removed {
                rows::forget(connection, lane, &path)?;
            }
            intents::done(connection, number)
        });
    }
}
