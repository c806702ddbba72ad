//! Moves: found out between the first room and the second, carried in the third.
//!
//! A scan shows a name that is gone and a name that is new. That the two are one file is told by what outlives a
//! rename: on a disk the inode, which is given to other files at once and so counts only with the same content; in an
//! account the resource id (RFC 5842 §3.1), where the server gives one.
//!
//! A move is one request, whatever it moves. It takes nothing out and writes over nothing: it is done only while the
//! new name is free, and what was moved is looked at afterwards. Files that take each other's names go round through
//! the spares' shelf.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use futures_util::{StreamExt, stream};
use katabatic_core::decide::Change;
use katabatic_core::moves::{self, Found};
use katabatic_core::{
    Base, Decision, Entry, Kind, PerSide, RelPath, Side, SpareCause, Step, Updates, View, portable,
};

use super::carry::{Moved, Room};
use super::closer_look::{content_of, read_where_touched};
use super::primitive::{self, Trouble, agreed};
use super::recover::has_folder;
use super::{Pass, Wish};
use crate::Error;
use crate::seam::Seam;
use crate::session::LockedLane;
use katabatic_ledger::intents::{self, Intent, Version};
use katabatic_ledger::rows;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::{Captured, Checked, Put, SideError, SideStore, Undone};

/// Makes moves of removals and transfers that are moves. `aside` are the paths whose removal is remembered.
pub(crate) async fn join(
    pass: &Pass,
    steps: Vec<Step>,
    aside: Vec<Step>,
    wish: &Wish,
) -> Result<Vec<Step>, Error> {
    let scope = wish.paths();
    let meant = |step: &&Step| scope.iter().any(|path| step.path().is_within(path));
    let terms = wish.terms.unwrap_or(pass.lane.config.terms);
    // An answer of a person gives versions new names itself, and means just that. And where nothing that was carried
    // may ever change, neither may its name.
    if wish.by_hand || terms.updates == Updates::Never {
        return Ok(steps);
    }
    let sides = match terms.direction.source() {
        Some(source) => vec![source],
        None => vec![Side::Near, Side::Far],
    };
    let mut found = Vec::new();
    for on in sides {
        if pass.store(on.other()).is_read_only() {
            continue;
        }
        let store = pass.store(on);
        // Of a name that is never listed it cannot be seen whether something is there again.
        let left: Vec<&Step> = steps
            .iter()
            .filter(|step| moves::may_have_left(step, on) && !store.may_hide(step.path()))
            .filter(meant)
            .collect();
        if left.is_empty() {
            continue;
        }
        let nameable = |step: &&Step| {
            let kept = on == Side::Near && pass.lane.config.portable_names;
            !kept
                || step
                    .path()
                    .parts()
                    .all(|part| portable::trouble(part).is_none())
        };
        let came = steps
            .iter()
            .filter(|step| moves::may_have_come(step, on))
            .filter(meant)
            .filter(nameable);
        let by_handle = by_handle(pass, on, &left)?;
        let pairs = came.filter_map(|came| {
            let handle = store.handle(came.entry(on)?)?;
            let left = by_handle.get(&handle).copied().flatten()?;
            (left.path() != came.path()).then_some((left, came))
        });
        let looked = stream::iter(pairs)
            .map(|(left, came)| same_file(pass, on, left, came))
            .buffered(IN_FLIGHT);
        found.extend(
            looked
                .filter_map(async |found| found)
                .collect::<Vec<_>>()
                .await,
        );
    }
    if found.is_empty() {
        return Ok(steps);
    }
    let mut renamed = moves::rename(steps, aside, found);
    // What came along is looked at beside what was agreed on only now.
    for (on, triple) in renamed.unread() {
        read_where_touched(pass, triple, on).await;
    }
    Ok(renamed.decide(pass.reconciler(wish)))
}

/// What was agreed on, by what finds it again; a handle that two of them had finds neither.
fn by_handle<'s>(
    pass: &Pass,
    on: Side,
    left: &[&'s Step],
) -> Result<BTreeMap<String, Option<&'s Step>>, Error> {
    let lane = pass.lane.row.key;
    pass.ledger.read(|connection| {
        let mut known: BTreeMap<String, Option<&Step>> = BTreeMap::new();
        for step in left {
            if let Some(handle) = rows::handle(connection, lane, step.path(), on)? {
                known
                    .entry(handle)
                    .and_modify(|known| *known = None)
                    .or_insert(Some(*step));
            }
        }
        Ok(known)
    })
}

/// Whether what came is what left: the handle says so, and what it is worth here.
async fn same_file(pass: &Pass, on: Side, left: &Step, came: &Step) -> Option<Found> {
    let (base, entry) = (left.seen.base.as_ref()?, came.entry(on)?);
    let found = |content| {
        Some(Found {
            on,
            from: left.path().clone(),
            to: came.path().clone(),
            content,
        })
    };
    let (store, agreed) = (pass.store(on), &base.stamps[on]);
    if *agreed == entry.stamp {
        return found(None);
    }
    if store.handles_last() {
        let may_hide_a_change = base.size == entry.size
            && (agreed.is_doubt_of(&entry.stamp) || store.stamps_change_alone());
        if !may_hide_a_change {
            return found(None);
        }
    } else if base.size != entry.size || base.content.is_none() {
        return None;
    }
    match content_of(pass, on, came.path(), entry).await {
        Ok(content) if store.handles_last() || base.content == Some(content) => {
            found(Some(content))
        }
        Ok(_) => None,
        Err(why) => {
            tracing::debug!("{} is not looked at as a move: {why}", came.path());
            None
        }
    }
}

/// A file of a circle, on the spares' shelf until its new name is left.
struct Lifted<'s> {
    step: &'s Step,
    one: One<'s>,
    slot: String,
    number: i64,
    intent: Intent,
}

/// Carries the moves, each after what it needs.
pub(super) async fn carry(room: &Room<'_>, steps: &[&Step]) {
    let is_source = |from: &RelPath, step: &Step| matches!(&step.decision, Decision::Move { from: other, .. } if other == from);
    let mut lifted = Vec::new();
    for (at, step) in steps.iter().copied().enumerate() {
        let Decision::Move { on, from, .. } = &step.decision else {
            room.step(step).await;
            continue;
        };
        if room.is_over() {
            room.left_waiting(step);
            continue;
        }
        let one = One {
            room,
            step,
            on: *on,
            from,
            from_is_taken_over: steps.iter().any(|other| {
                matches!(other.decision, Decision::Move { .. }) && other.path() == from
            }),
        };
        let waits = steps[at + 1..]
            .iter()
            .any(|later| is_source(step.path(), later));
        if waits {
            match one.lift().await {
                Ok((slot, number, intent)) => lifted.push(Lifted {
                    step,
                    one,
                    slot,
                    number,
                    intent,
                }),
                Err(trouble) => room.settle(step, Err(trouble)),
            }
            continue;
        }
        let moved = one.carry().await;
        room.settle(step, moved);
    }
    for Lifted {
        step,
        one,
        slot,
        number,
        intent,
    } in lifted
    {
        let placed = one.set_down(&slot, number, &intent).await;
        room.settle(step, placed);
    }
}

/// One move.
struct One<'s> {
    room: &'s Room<'s>,
    step: &'s Step,
    /// The side that still has it under the older name.
    on: Side,
    from: &'s RelPath,
    /// Whether another file is moved to the older name.
    from_is_taken_over: bool,
}

impl One<'_> {
    fn store(&self) -> Arc<dyn SideStore> {
        self.room.pass.store(self.on)
    }

    fn side(&self, error: SideError) -> Trouble {
        Trouble::Side(self.on, error)
    }

    fn seen(&self) -> Result<&Entry, Trouble> {
        self.step
            .entry(self.on)
            .ok_or_else(|| Trouble::Met("there is nothing to move".into()))
    }

    async fn seam(&self, seam: Seam) {
        let path = self.step.path();
        self.room.pass.seam(seam, Some(self.on), Some(path)).await;
    }

    /// Whoever moved it on the other side has not moved it back since.
    async fn still_moved(&self) -> Result<(), Trouble> {
        let other = self.on.other();
        let store = self.room.pass.store(other);
        let look = async |path: &RelPath| {
            store
                .look(path)
                .await
                .map_err(|error| Trouble::Side(other, error))
        };
        let kind = |entry: Option<&Entry>| entry.map(|entry| entry.kind);
        let here = look(self.step.path()).await?;
        let gone = self.from_is_taken_over || look(self.from).await?.is_none();
        if gone && kind(here.as_ref()) == kind(self.step.entry(other)) {
            return Ok(());
        }
        Err(Trouble::Met(
            "it was moved on meanwhile; the next pass looks at it".into(),
        ))
    }

    async fn note(&self, spare: Option<String>) -> Result<(i64, Intent), Trouble> {
        let seen = self.seen()?;
        let base = self.step.seen.base.as_ref();
        let content = base
            .filter(|base| base.stamps[self.on] == seen.stamp)
            .and_then(|base| base.content);
        let intent = Intent {
            spare,
            old: Some(Version::of(seen, content)),
            moved_from: Some(self.from.to_string()),
            member: self.member()?,
            ..Intent::on(self.on, Some(SpareCause::MovedOn(self.on.other())))
        };
        let number = primitive::note(self.room.pass, self.step.path(), &intent).await?;
        Ok((number, intent))
    }

    /// How things stand is known, and they cannot be put right now.
    fn held(&self, undone: Undone, intent: &Intent) -> Trouble {
        self.room.pass.hold(self.step.path(), intent);
        Trouble::Unsure(self.on, undone.told())
    }

    /// A request of the move got no answer: that is cleared up at once, if it can be; the move is done, or the trouble
    /// is told.
    async fn resolve(
        &self,
        number: i64,
        intent: &Intent,
        why: SideError,
    ) -> Result<Moved, Trouble> {
        let (pass, path) = (self.room.pass, self.step.path());
        primitive::resolve(pass, self.on, path, (number, intent), why).await?;
        Moved::bytes(0)
    }

    /// A file in the folder that is moved, by which the folder is known again.
    fn member(&self) -> Result<Option<(String, Version)>, Trouble> {
        if self.seen()?.kind != Kind::Folder {
            return Ok(None);
        }
        let (lane, mut member) = (self.room.pass.lane.row.key, None);
        self.room.pass.ledger.read(|connection| {
            rows::each_row(connection, lane, self.from, |row| {
                if let Some(base) = row.base
                    && base.kind == Kind::File
                    && base.away.is_none()
                {
                    let seen = Entry::file(base.size, base.stamps[self.on].undoubted());
                    let within = row.path.as_str()[self.from.as_str().len() + 1..].to_owned();
                    member = Some((within, Version::of(&seen, base.content)));
                }
                member.is_none()
            })
        })?;
        Ok(member)
    }

    async fn carry(&self) -> Result<Moved, Trouble> {
        self.still_moved().await?;
        let (number, intent) = self.note(None).await?;
        self.seam(Seam::Intended).await;
        match self.store().rename(self.from, self.step.path()).await {
            Ok(Put::Done) => {}
            // Where case tells no names apart, the name is taken by what is to be moved, or a move to itself is refused.
            Ok(Put::Taken) | Err(Undone::NotDone(SideError::Failed(_)))
                if differs_in_case_only(self.from, self.step.path()) =>
            {
                self.close(number).await?;
                let (slot, number, intent) = self.lift().await?;
                return self.set_down(&slot, number, &intent).await;
            }
            Ok(Put::Taken) => {
                self.done(number);
                return Err(Trouble::Met(
                    "its new name was taken meanwhile; the next pass looks at it".into(),
                ));
            }
            Err(Undone::Unsure(why)) => return self.resolve(number, &intent, why).await,
            Err(Undone::NotDone(SideError::Missing)) => {
                self.done(number);
                return Err(Trouble::Met(
                    "it is not there any more; the next pass looks at it".into(),
                ));
            }
            Err(Undone::NotDone(error)) => {
                self.done(number);
                return Err(self.side(error));
            }
        }
        self.seam(Seam::Placed).await;
        if self.seen()?.kind == Kind::Folder {
            return self.record_folder(number).await;
        }
        let store = self.store();
        let verified = store.verify(self.step.path(), self.seen()?).await;
        match verified.map_err(|error| self.side(error))? {
            Some(entry) => self.record_file(&entry, number),
            None => {
                // Somebody put another version there in the last moment. Its place is where it was.
                match store.rename(self.step.path(), self.from).await {
                    Ok(_) => self.done(number),
                    Err(undone) => return Err(self.held(undone, &intent)),
                }
                Err(Trouble::Met(
                    "another version came to be there meanwhile; the next pass looks at it".into(),
                ))
            }
        }
    }

    /// Takes the file out of its older name; the slot it is in, and the intent.
    async fn lift(&self) -> Result<(String, i64, Intent), Trouble> {
        let seen = self.seen()?;
        if seen.kind != Kind::File && !differs_in_case_only(self.from, self.step.path()) {
            return Err(Trouble::Met(
                "only files can take each other's names".into(),
            ));
        }
        let slot = primitive::spare_name()?;
        let (number, intent) = self.note(Some(slot.clone())).await?;
        self.seam(Seam::Intended).await;
        match self.store().capture(self.from, &slot).await {
            Ok(Captured::Taken) => {}
            Ok(Captured::Nothing) => {
                self.done(number);
                return Err(Trouble::Met(
                    "it was removed meanwhile; the next pass looks at it".into(),
                ));
            }
            Err(Undone::Unsure(why)) => {
                // Its way to the new name, too, is gone on with where it had begun: then it is there.
                self.resolve(number, &intent, why).await?;
                return Err(Trouble::Met(
                    "it got its new name by a request that nobody answered; the next pass looks at it".into(),
                ));
            }
            Err(Undone::NotDone(error)) => {
                self.done(number);
                return Err(self.side(error));
            }
        }
        self.seam(Seam::Captured).await;
        let checked = self.store().check(&slot, seen).await;
        if checked != Ok(Checked::Same) {
            // The intent stays until it is known to be back.
            let back = self.store().put_back(&slot, self.from).await;
            if back.map_err(|undone| self.held(undone, &intent))? == Put::Done {
                self.done(number);
            }
            return Err(match checked {
                Err(error) => self.side(error),
                Ok(_) => Trouble::Met(
                    "another version came to be there meanwhile; it was put back untouched".into(),
                ),
            });
        }
        self.seam(Seam::Checked).await;
        Ok((slot, number, intent))
    }

    /// Gives what was lifted its new name; where that is taken after all, the older one.
    async fn set_down(&self, slot: &str, number: i64, intent: &Intent) -> Result<Moved, Trouble> {
        let (store, path) = (self.store(), self.step.path());
        match store.put_back(slot, path).await {
            Ok(Put::Done) => {}
            Ok(Put::Taken) => {
                // The intent stays where that name is taken too: the next pass keeps it as a spare.
                let back = store.put_back(slot, self.from).await;
                if back.map_err(|undone| self.held(undone, intent))? == Put::Done {
                    self.done(number);
                }
                return Err(Trouble::Met(
                    "its new name was taken meanwhile; the next pass looks at it".into(),
                ));
            }
            Err(undone) => return self.resolve(number, intent, undone.told()).await,
        }
        self.seam(Seam::Placed).await;
        if self.seen()?.kind == Kind::Folder {
            return self.record_folder(number).await;
        }
        let verified = store.verify(path, self.seen()?).await;
        match verified.map_err(|error| self.side(error))? {
            Some(entry) => self.record_file(&entry, number),
            None => {
                self.done(number);
                Err(Trouble::Met(
                    "it was changed right after it was moved; the next pass looks at it".into(),
                ))
            }
        }
    }

    /// As [`One::done`], before another intent of the same paths.
    async fn close(&self, number: i64) -> Result<(), Trouble> {
        let ledger = &self.room.pass.ledger;
        Ok(ledger
            .write(move |connection| intents::done(connection, number))
            .await?)
    }

    fn done(&self, number: i64) {
        self.room
            .pass
            .ledger
            .write_later(move |connection| intents::done(connection, number));
    }

    /// What was agreed on under the older name is agreed on under the new one.
    fn record_file(&self, there: &Entry, number: i64) -> Result<Moved, Trouble> {
        let (pass, step, path) = (self.room.pass, self.step, self.step.path());
        let (Some(base), Some(other)) = (&step.seen.base, step.entry(self.on.other())) else {
            self.done(number);
            return Moved::bytes(0);
        };
        let seen = self.seen()?;
        // A version that was edited as well stays different from what was agreed on, and is carried in its turn.
        let stamp = |side: Side| {
            let (was, now) = if side == self.on {
                (seen, there)
            } else {
                (other, other)
            };
            if *step.change(side) == Change::Same || was.stamp == base.stamps[side] {
                now.stamp.clone()
            } else {
                base.stamps[side].clone()
            }
        };
        let base = Base {
            stamps: PerSide {
                near: stamp(Side::Near),
                far: stamp(Side::Far),
            },
            listed: PerSide {
                near: true,
                far: self.on == Side::Near,
            },
            ..base.clone()
        };
        let (near, far) = match self.on {
            Side::Near => (there, other),
            Side::Far => (other, there),
        };
        let edited = other.edited.or(there.edited);
        let agreed = agreed(pass, path, base, edited, (Some(near), Some(far)));
        let (lane, from, taken_over) = (
            pass.lane.row.key,
            self.from.clone(),
            self.from_is_taken_over,
        );
        pass.ledger.write_later(move |connection| {
            rows::move_blocks(connection, lane, &from, &agreed.path)?;
            if !taken_over {
                rows::forget(connection, lane, &from)?;
            }
            rows::agree(connection, lane, &agreed)?;
            intents::done(connection, number)
        });
        Moved::bytes(0)
    }

    async fn record_folder(&self, number: i64) -> Result<Moved, Trouble> {
        let (pass, path) = (self.room.pass, self.step.path());
        let there = self.store().look(path).await;
        let there = there.map_err(|error| self.side(error))?;
        if there.is_none_or(|entry| entry.kind != Kind::Folder) {
            self.done(number);
            return Err(Trouble::Met(
                "it was changed right after it was moved; the next pass looks at it".into(),
            ));
        }
        let (lane, from, to, on) = (pass.lane.row.key, self.from.clone(), path.clone(), self.on);
        pass.ledger
            .write(move |connection| {
                rows::rename(connection, lane, &from, &to, on)?;
                intents::done(connection, number)
            })
            .await?;
        self.seam(Seam::Recorded).await;
        if self.on == Side::Far || pass.lane.config.account(Side::Near).is_some() {
            only_what_is_listed(pass, path, self.on).await?;
        }
        Moved::bytes(0)
    }
}

fn differs_in_case_only(from: &RelPath, to: &RelPath) -> bool {
    from.as_str().to_lowercase() == to.as_str().to_lowercase()
}

/// After a whole folder was moved on a side: what its listings show can later be seen to go; what they do not show did not
/// come along, and nothing is agreed on about it any more.
async fn only_what_is_listed(pass: &LockedLane, folder: &RelPath, on: Side) -> Result<(), Error> {
    let (lane, there) = (pass.lane.row.key, pass.store(on));
    let mut known: BTreeMap<RelPath, Vec<RelPath>> = BTreeMap::new();
    pass.ledger.read(|connection| {
        rows::each_row(connection, lane, folder, |row| {
            let agreed = row.base.is_some_and(|base| base.away != Some(on));
            if let (true, Some(parent)) = (agreed && row.path != *folder, row.path.parent()) {
                known.entry(parent).or_default().push(row.path);
            }
            true
        })
    })?;
    let listings: Vec<(Vec<RelPath>, BTreeSet<String>)> = stream::iter(known)
        .map(async |(parent, paths)| match there.names(&parent).await {
            Ok(names) => Some((paths, names.into_iter().collect())),
            Err(why) => {
                tracing::debug!("{parent} could not be listed after it was moved: {why}");
                None
            }
        })
        .buffered(IN_FLIGHT)
        .filter_map(async |listing| listing)
        .collect()
        .await;
    pass.ledger
        .write(move |connection| {
            for (paths, names) in &listings {
                for path in paths {
                    match (names.contains(path.name()), on) {
                        (false, _) => rows::forget_all(connection, lane, path)?,
                        (true, Side::Far) => rows::mark_listed(connection, lane, path)?,
                        (true, Side::Near) => {}
                    }
                }
            }
            Ok(())
        })
        .await
}

/// What became of a move that got no answer, or that a pass was cut off in.
pub(super) enum Cleared {
    /// It has its new name, and what is known of it, too.
    Moved,
    /// It is at one of its names, and what is known of it stays.
    AsBefore,
    /// Both its names are taken by others, or their folders are gone.
    KeptAsSpare,
}

/// Finishes or forgets a move that an earlier pass was cut off in. What was lifted lies in the spare.
pub(super) async fn clear_up(
    pass: &LockedLane,
    store: &dyn SideStore,
    (path, intent, from): (&RelPath, &Intent, &RelPath),
    spare: Option<String>,
) -> Result<Cleared, SideError> {
    if intent.spare.is_some() {
        return match spare {
            Some(slot) => clear_up_lifted(store, path, intent, from, &slot).await,
            None => Ok(Cleared::AsBefore),
        };
    }
    if store.may_act_late() {
        go_on(store, from, path).await?;
    }
    let Some(old) = &intent.old else {
        return Ok(Cleared::AsBefore);
    };
    let known_again = match &intent.member {
        Some((within, version)) if old.folder => {
            let member = RelPath::parse(&format!("{path}/{within}"))
                .map_err(|why| SideError::Failed(format!("the ledger names no path: {why}")))?;
            store.look(from).await?.is_none()
                && store.verify(&member, &version.entry()).await?.is_some()
        }
        // Without anything to know it by, both sides are compared afresh.
        None if old.folder => false,
        // At the older name still: then what has the new one only looks like it.
        _ => {
            store.verify(path, &old.entry()).await?.is_some()
                && store.verify(from, &old.entry()).await?.is_none()
        }
    };
    if !known_again {
        return Ok(Cleared::AsBefore);
    }
    if !intent.agreed_stays {
        let (lane, from, to, on) = (pass.lane.row.key, from.clone(), path.clone(), intent.side());
        pass.ledger
            .write_later(move |connection| rows::rename(connection, lane, &from, &to, on));
    }
    Ok(Cleared::Moved)
}

/// A move that got no answer may come at any time, as long as its older name is there and its new one is free. So it is
/// done: then there is nothing that it could move, and nowhere that it could go.
async fn go_on(store: &dyn SideStore, from: &RelPath, to: &RelPath) -> Result<(), SideError> {
    if store.look(from).await?.is_none() || store.look(to).await?.is_some() {
        return Ok(());
    }
    match store.rename(from, to).await {
        // Refused, it was refused before, or it is done by now; how things stand is looked at next.
        Ok(_) | Err(Undone::NotDone(_)) => Ok(()),
        Err(Undone::Unsure(error)) => Err(error),
    }
}

/// A file that was on the spares' shelf, between its two names: it goes on to the new one, if it is the version that was
/// to be moved, or back to the older one.
async fn clear_up_lifted(
    store: &dyn SideStore,
    path: &RelPath,
    intent: &Intent,
    from: &RelPath,
    slot: &str,
) -> Result<Cleared, SideError> {
    let as_planned = match &intent.old {
        Some(old) => store.check(slot, &old.entry()).await? == Checked::Same,
        None => false,
    };
    let names = if as_planned {
        [path, from]
    } else {
        [from, path]
    };
    for name in names {
        if !has_folder(store, name).await? {
            continue;
        }
        let back = store.put_back(slot, name).await;
        if back.map_err(Undone::told)? == Put::Done {
            return Ok(Cleared::AsBefore);
        }
    }
    Ok(Cleared::KeptAsSpare)
}

/// Files that are settled once a move is carried: those that have no step of their own.
pub(super) fn settled_by<'s>(step: &Step, others: impl Iterator<Item = &'s Step>) -> u64 {
    let Decision::Move { on, files, .. } = &step.decision else {
        return 0;
    };
    let open = others.filter(|other| {
        other.path().is_within(step.path())
            && !matches!(other.decision, Decision::Move { .. })
            && !other.is_restamp()
            && matches!(other.view(*on), View::Present(entry) if entry.kind == Kind::File)
    });
    files.saturating_sub(open.count() as u64)
}
