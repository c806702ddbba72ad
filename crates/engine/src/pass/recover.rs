//! Before a pass looks at anything: what an earlier one was cut off in is finished or undone.
//!
//! Every intent that has no outcome yet is a question: how far did it come? The answer is always on the side itself.
//! Where the spare holds the version that was to come out, and the new version stands in its place, it was done, and
//! only the ledger had not heard. Where the spare holds it and its place is empty, it is finished or put back. Where
//! the spare holds anything else, that goes back. Where a look fails, the path is held until a later pass.
//!
//! A look tells how things stand, and not how they will: a request whose answer got lost, or whose process died, may be
//! carried out at any later time. So before anything is looked at, each such request is *fenced*: what it would move is
//! given another name, or the name it would take is given to something else. Where a side cannot do that, the path is
//! held for a day.

use katabatic_core::{Entry, Kind, RelPath, SpareCause};

use super::late_writers::make_again;
use super::moves;
use super::primitive::{agreed_put, moved_on, spare};
use super::{Pass, Unfinished};
use crate::Error;
use crate::session::LockedLane;
use katabatic_ledger::intents::{self, Intent, Version};
use katabatic_ledger::partial_rows;
use katabatic_ledger::rows;
use katabatic_ledger::runs;
use katabatic_ledger::spare_rows;
use katabatic_sides::digest::digest;
use katabatic_sides::private_files::random_hex;
use katabatic_sides::{Checked, Put, SideError, SideStore, Undone};

/// The paths that a pass was cut off at, without clearing up any.
pub(crate) fn unfinished(pass: &Pass) -> Result<Unfinished, Error> {
    let intents = pass
        .ledger
        .read(|connection| intents::unfinished(connection, pass.lane.row.key))?;
    let mut held = Unfinished::new();
    for (_, path, intent) in intents {
        hold(&mut held, path, &intent, "the next sync clears it up");
    }
    Ok(held)
}

/// Nothing is done at the path of an intent, nor where it is moved from.
fn hold(held: &mut Unfinished, path: RelPath, intent: &Intent, why: &str) {
    let paths = intent.moved_from().into_iter().chain([path]);
    held.extend(paths.map(|path| (path, (intent.side(), why.to_owned()))));
}

/// Clears up, and says which paths could not be.
pub(crate) async fn recover(pass: &LockedLane) -> Result<Unfinished, Error> {
    let intents = pass
        .ledger
        .read(|connection| intents::unfinished(connection, pass.lane.row.key))?;
    let mut held = Unfinished::new();
    let cut_off = was_cut_off(pass)?;
    for (number, path, intent) in intents {
        match clear_up(pass, &path, (number, &intent)).await {
            Ok(_) => {}
            Err(error) if error.ends_the_pass() => {
                return Err(pass.side_failed(intent.side(), &error));
            }
            Err(error) => {
                pass.hold(&path, &intent);
                hold(&mut held, path, &intent, &error.to_string());
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

/// Whether the last run of the lane did not come to its end, or something that it began has no outcome.
pub(super) fn was_cut_off(pass: &Pass) -> Result<bool, Error> {
    let name = &pass.lane.config.name;
    let (open, last) = pass.ledger.read(|connection| {
        let open = intents::unfinished(connection, pass.lane.row.key)?;
        Ok((open, runs::last(connection, Some(name), 1)?))
    })?;
    Ok(!open.is_empty() || last.first().is_some_and(|run| run.outcome.is_none()))
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

/// What an intent turned out to have come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Cleared {
    /// What was intended is done, and recorded.
    Done,
    /// It is not, and will not be.
    AsBefore,
}

/// Finishes or undoes what an intent is about, so that no request of it is done later.
///
/// # Errors
/// Where how things stand cannot be told now; the intent stays then, and with it the path is held.
pub(crate) async fn clear_up(
    pass: &LockedLane,
    path: &RelPath,
    (number, intent): (i64, &Intent),
) -> Result<Cleared, SideError> {
    let store = pass.store(intent.side());
    let mut one = One {
        pass,
        store: &*store,
        number,
        path,
        intent: intent.clone(),
    };
    let (spare, staged) = one.fence().await?;
    one.clear_up(spare, staged).await
}

/// On a side that keeps no name from a late request, a path is held for so long.
const HELD_FOR: i64 = 24 * 3600 * 1_000_000_000;

struct One<'a> {
    pass: &'a LockedLane,
    store: &'a dyn SideStore,
    number: i64,
    path: &'a RelPath,
    intent: Intent,
}

impl One<'_> {
    /// Makes sure that nothing that was asked for is done any more; where what came out is, and what was staged.
    async fn fence(&mut self) -> Result<(Option<String>, Option<String>), SideError> {
        if self.store.may_act_late() {
            self.name_anew().await?;
        }
        let found = match names(&self.intent.spare_before, self.intent.spare.as_ref()) {
            Some((names, anew)) => {
                let expected = match &self.intent.old {
                    Some(old) if old.folder => Kind::Folder,
                    _ => Kind::File,
                };
                let store = self.store;
                store
                    .fence_spare(self.path, expected, &names, &anew)
                    .await?
            }
            None => None,
        };
        if self.intent.spare.is_some() && found.is_none() {
            self.wait_where_nothing_is_fenced()?;
        }
        let staged = match names(&self.intent.staged_before, self.intent.staged.as_ref()) {
            Some((names, anew)) => self.store.fence_staged(&names, &anew).await?,
            None => None,
        };
        Ok((found, staged))
    }

    /// What was captured and what was staged are to get names that no earlier request knows. These are noted first, so
    /// that both are found whatever happens.
    async fn name_anew(&mut self) -> Result<(), SideError> {
        let now = self.pass.clock.now().0;
        let intent = &mut self.intent;
        // What was noted a moment ago does not say when.
        intent.noted_at.get_or_insert(now);
        let slots = [
            (&mut intent.spare, &mut intent.spare_before),
            (&mut intent.staged, &mut intent.staged_before),
        ];
        for (now, before) in slots {
            if let Some(now) = now {
                let anew = random_hex(10).map_err(|error| SideError::Failed(error.why))?;
                before.push(std::mem::replace(now, anew));
            }
        }
        let (number, intent) = (self.number, self.intent.clone());
        self.pass
            .ledger
            .write(move |connection| intents::update(connection, number, &intent))
            .await
            .map_err(|error| SideError::Failed(error.to_string()))
    }

    /// A capture may come at any time where a name cannot be kept from it. It is waited for, for as long as anything on
    /// the way could hold it up.
    fn wait_where_nothing_is_fenced(&self) -> Result<(), SideError> {
        if self.store.keeps_names_from_late_requests() {
            return Ok(());
        }
        let now = self.pass.clock.now().0;
        let waited = now.saturating_sub(self.intent.noted_at.unwrap_or(now));
        match (0..HELD_FOR).contains(&waited) {
            true => Err(SideError::try_again(
                "a request to move this aside got no answer, and this server obeys nothing that would keep it from being done yet: nothing is done here for a day",
            )),
            false => Ok(()),
        }
    }

    async fn clear_up(
        &self,
        spare: Option<String>,
        staged: Option<String>,
    ) -> Result<Cleared, SideError> {
        if self.intent.moved_from.is_some() {
            return self.move_of(spare).await;
        }
        if self.intent.spare.is_none() {
            return self.nothing_was_to_come_out(staged).await;
        }
        if self.intent.expects_empty {
            return self.folder(spare).await;
        }
        let Some(slot) = spare else {
            // Nothing came out, so nothing went in.
            self.done(None, None);
            return Ok(Cleared::AsBefore);
        };
        // Only a folder of this computer ever has anything of ours on its spares' shelf, to be exchanged; and only there
        // is it known by its inode. In an account, an equal tag could be the old version's own.
        if let Some(new) = &self.intent.new
            && self.store.exchanges()
            && self.store.check(&slot, &new.entry()).await? == Checked::Same
        {
            // Our own copy, on its way to be exchanged, or on its way back: then it stood under its real name, and where
            // it came from there may be another version by now.
            self.keep(&slot, Some(new));
            return Ok(Cleared::AsBefore);
        }
        let expected = match &self.intent.old {
            Some(old) => self.store.check(&slot, &old.entry()).await? == Checked::Same,
            None => false,
        };
        if expected {
            self.came_out(&slot, staged).await
        } else {
            self.something_else_came_out(&slot).await
        }
    }

    async fn move_of(&self, spare: Option<String>) -> Result<Cleared, SideError> {
        let Some(from) = self.intent.moved_from() else {
            return Err(SideError::Failed("the ledger names no path".into()));
        };
        let kept = spare.clone();
        let known = (self.path, &self.intent, &from);
        match moves::clear_up(self.pass, self.store, known, spare).await? {
            moves::Cleared::Moved => {
                self.done(None, None);
                Ok(Cleared::Done)
            }
            moves::Cleared::AsBefore => {
                self.done(None, None);
                Ok(Cleared::AsBefore)
            }
            moves::Cleared::KeptAsSpare => {
                let slot = kept.as_deref().unwrap_or_default();
                self.keep(slot, self.intent.old.as_ref());
                Ok(Cleared::AsBefore)
            }
        }
    }

    /// A new file: either it arrived under its name, or it did not.
    async fn nothing_was_to_come_out(&self, staged: Option<String>) -> Result<Cleared, SideError> {
        let placed = match (&self.intent.new, staged) {
            (Some(new), None) if self.intent.staged.is_none() => self.sent_at_once(new).await?,
            (Some(new), staged) => self.placed(new, staged).await?,
            (None, _) => None,
        };
        self.done(placed.as_ref(), None);
        Ok(match placed {
            Some(_) => Cleared::Done,
            None => Cleared::AsBefore,
        })
    }

    /// What stands in place, if it is what was to: what was staged still is put there, where nothing is.
    async fn placed(
        &self,
        new: &Version,
        staged: Option<String>,
    ) -> Result<Option<Entry>, SideError> {
        if let Some(placed) = self.store.verify(self.path, &new.entry()).await? {
            return Ok(Some(placed));
        }
        if self.store.look(self.path).await?.is_some() {
            // Somebody wrote there since; the next look decides.
            return Ok(None);
        }
        let Some(slot) = staged else {
            return self.moved_since(new).await;
        };
        if !has_folder(self.store, self.path).await? {
            return Ok(None);
        }
        match self.store.place(&slot, &new.entry(), self.path).await {
            Ok(Put::Done) => self.store.verify(self.path, &new.entry()).await,
            Ok(Put::Taken) | Err(Undone::NotDone(_)) => Ok(None),
            Err(Undone::Unsure(error)) => Err(error),
        }
    }

    /// A stub that got its name and was moved on by somebody before the ledger had heard of it: it was there, and what
    /// became of it is found out like any other move.
    async fn moved_since(&self, new: &Version) -> Result<Option<Entry>, SideError> {
        let entry = new.entry();
        if !entry.is_stub() {
            return Ok(None);
        }
        Ok(moved_on(self.store, &entry).await.then_some(entry))
    }

    /// A small file that went under its real name in one request: no tag was known before it arrived, so what is there
    /// is ours only where its content is. One that comes late finds the name taken, or is a new file of a content that
    /// somebody saved.
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

    /// A folder that should be empty: strangers in it go back with it.
    async fn folder(&self, spare: Option<String>) -> Result<Cleared, SideError> {
        if let Some(slot) = spare {
            match self.put_back(&slot).await? {
                Put::Done => self.done(None, None),
                Put::Taken => self.met(&slot),
            }
            return Ok(Cleared::AsBefore);
        }
        if self.store.look(self.path).await?.is_some() {
            self.done(None, None);
            return Ok(Cleared::AsBefore);
        }
        let (lane, path, number) = (self.pass.lane.row.key, self.path.clone(), self.number);
        self.pass.ledger.write_later(move |connection| {
            rows::forget(connection, lane, &path)?;
            intents::done(connection, number)
        });
        Ok(Cleared::Done)
    }

    /// The spare holds the version that was to come out.
    async fn came_out(&self, slot: &str, staged: Option<String>) -> Result<Cleared, SideError> {
        let Some(new) = &self.intent.new else {
            // A removal. The name may have been taken since; that is a new file then.
            self.done(None, Some(slot));
            return Ok(Cleared::Done);
        };
        if let Some(placed) = self.placed(new, staged).await? {
            self.done(Some(&placed), Some(slot));
            return Ok(Cleared::Done);
        }
        let back = match self.store.look(self.path).await? {
            // Both versions stay; the next look decides.
            Some(_) => Put::Taken,
            None => self.put_back(slot).await?,
        };
        self.done(None, (back == Put::Taken).then_some(slot));
        Ok(Cleared::AsBefore)
    }

    /// Puts a version back to where it was taken from; where its folder went meanwhile, there is nothing to go back to.
    async fn put_back(&self, slot: &str) -> Result<Put, SideError> {
        if !has_folder(self.store, self.path).await? {
            return Ok(Put::Taken);
        }
        let back = self.store.put_back(slot, self.path).await;
        back.map_err(Undone::told)
    }

    /// The spare holds a stranger's version, captured in the instant before it would have been checked.
    async fn something_else_came_out(&self, slot: &str) -> Result<Cleared, SideError> {
        let ours_in_place = match &self.intent.new {
            Some(new) if self.store.exchanges() => {
                self.store.verify(self.path, &new.entry()).await?.is_some()
            }
            _ => false,
        };
        if ours_in_place {
            let back = self.store.swap_back(self.path, slot).await;
            back.map_err(Undone::told)?;
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
            return Ok(Cleared::AsBefore);
        }
        let back = match has_folder(self.store, self.path).await? {
            true => self.put_back(slot).await?,
            false => {
                // Somebody's own version must not lie in the spares alone because its folder went meanwhile.
                let parent = self.path.parent().unwrap_or_else(RelPath::root);
                let folder = make_again(self.store, &parent).await?;
                let beside = folder.join(self.path.name());
                let beside = beside.map_err(|why| SideError::Failed(why.to_string()))?;
                let back = self.store.put_back(slot, &beside).await;
                back.map_err(Undone::told)?
            }
        };
        match back {
            Put::Taken => self.met(slot),
            Put::Done => self.done(None, None),
        }
        Ok(Cleared::AsBefore)
    }

    /// Keeps somebody's own version as a spare, which is not what the plan saw, and is never dropped as that may be.
    fn met(&self, slot: &str) {
        self.close(None, Some(slot), &SpareCause::Met);
    }

    /// Keeps what is in the slot as a spare.
    fn keep(&self, slot: &str, version: Option<&Version>) {
        let (pass, intent, number) = (self.pass, &self.intent, self.number);
        let unknown = Version::unknown(0);
        let version = version.unwrap_or(&unknown);
        let kept = spare(
            pass,
            intent.side(),
            self.path,
            slot,
            version,
            None,
            &intent.spare_cause(),
        );
        pass.ledger.write_later(move |connection| {
            spare_rows::add(connection, &kept)?;
            intents::done(connection, number)
        });
    }

    /// Records the outcome: what stands in place, if it is ours, and what is kept as a spare.
    fn done(&self, placed: Option<&Entry>, kept: Option<&str>) {
        self.close(placed, kept, &self.intent.spare_cause());
    }

    fn close(&self, placed: Option<&Entry>, kept: Option<&str>, cause: &SpareCause) {
        let (pass, intent) = (self.pass, &self.intent);
        let agreed = placed
            .filter(|_| !intent.agreed_stays)
            .zip(intent.new.as_ref())
            .map(|(placed, new)| agreed_put(pass, intent.side(), self.path, placed, new, intent));
        let kept = kept.map(|slot| {
            let nothing = Version::unknown(0);
            let old = intent.old.as_ref().unwrap_or(&nothing);
            spare(pass, intent.side(), self.path, slot, old, None, cause)
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

/// The names that something may lie under, the first one first, and the one that it is to have now.
fn names(before: &[String], now: Option<&String>) -> Option<(Vec<String>, String)> {
    let now = now?;
    let names = match before.is_empty() {
        true => vec![now.clone()],
        false => before.to_vec(),
    };
    Some((names, now.clone()))
}
