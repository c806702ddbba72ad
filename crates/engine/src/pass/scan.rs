//! The first room: both sides and the ledger become one stream of triples, and the core turns it into steps.
//!
//! Nothing that comes out of here may be used before both scans have ended well: a scan that breaks off would read as
//! "all the rest was removed".

use std::collections::{BTreeMap, BTreeSet};
use std::sync::mpsc as blocking;
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::{StreamExt, stream};
use katabatic_core::refine::of_agreed;
use katabatic_core::{
    Decision, EditTime, Entry, Kind, Listing, MergeError, PerSide, Reconciler, RelPath, Side,
    Stamp, Step, Tally, Triple, Unknown, View, words,
};
use tokio::sync::mpsc;

use super::closer_look::{is_plain, look_closer};
use super::far_changes::{self, Token};
use super::merging::{Shown, Stream, merge};
use super::moved_out::NotTaken;
use super::other_files::{self, doubt_another_file};
use super::other_terms::bring_back_what_went;
use super::refine::Decided;
use super::shared_tags::SharedTags;
use super::{Pass, Unfinished, Wish, heard, told};
use crate::Error;
use crate::open::side_failed;
use katabatic_ledger::rows;
use katabatic_sides::{Changes, Found, SideError, Unusable};

/// Files whose content is read at a time to see whether they changed.
const READ_AT_A_TIME: usize = 8;
const BUFFER: usize = 1024;

/// What both sides showed, and what it comes to.
pub(crate) struct Seen {
    /// Every step but those that are settled.
    pub(crate) decided: Decided,
    /// Files both sides agree on, as they are.
    pub(crate) settled: u64,
    /// Files the ledger knew.
    pub(crate) known: u64,
    /// Of these, still shown by (or unknown on) each side.
    pub(crate) left_near: u64,
    pub(crate) left_far: u64,
    /// Names that are listed now and were not when they were agreed on.
    pub(crate) newly_listed: Vec<RelPath>,
    /// Names that no path can be made of.
    pub(crate) unusable: Vec<Unusable>,
    /// What is left out, by the rule or the folder.
    pub(crate) left_out: BTreeMap<String, Tally>,
    /// Whether both sides were listed whole.
    pub(crate) listed_whole: bool,
    /// Whether the ledger held nothing that waits for an answer.
    pub(crate) nothing_open: bool,
    /// Whether the far side could be told everywhere.
    pub(crate) far_is_clear: bool,
    /// When the looking began: what changed later may have been missed.
    pub(crate) began: EditTime,
    /// What stands for the far side as it was seen.
    pub(crate) token: Option<Token>,
    /// Version tags that files share of which one changed or went.
    pub(crate) shared_tags: SharedTags,
}

pub(crate) async fn scan(pass: &Pass, unfinished: &Unfinished, wish: &Wish) -> Result<Seen, Error> {
    let mut shared = SharedTags::known(pass)?;
    loop {
        let (seen, stirred) = scan_doubting(pass, unfinished, wish, &shared).await?;
        match shared.and(stirred) {
            None => {
                return Ok(Seen {
                    shared_tags: shared,
                    ..seen
                });
            }
            // What was told first may have a tag of which only later something was found.
            Some(more) => shared = more,
        }
    }
}

/// The same; the answer says which tags were found to be doubtful.
async fn scan_doubting(
    pass: &Pass,
    unfinished: &Unfinished,
    wish: &Wish,
    shared: &SharedTags,
) -> Result<(Seen, BTreeSet<Stamp>), Error> {
    let mut sorting = Sorting::new(pass, unfinished, wish);
    let near = heard_here(pass, wish).await?;
    let (far_found, far) = mpsc::channel(BUFFER);
    let far_scan = far_changes::begin(pass, far_found, wish);
    let far = (far, shared);
    let told = tell_both(pass, near, far, far_scan, async |chunk| {
        pass.progress.saw(chunk.len());
        if chunk.iter().all(|triple| is_plain(pass, triple)) {
            for triple in chunk.drain(..) {
                let listed = triple.views.far.entry().is_some();
                sorting.take(triple, listed)?;
            }
            return Ok(());
        }
        let closer = stream::iter(chunk.drain(..))
            .map(|triple| look_closer(pass, triple))
            .buffered(READ_AT_A_TIME);
        let looked: Vec<(Triple, bool)> = closer.collect().await;
        for (triple, listed) in looked {
            sorting.take(triple, listed)?;
        }
        Ok(())
    })
    .await?;
    let Told {
        roots,
        far: token,
        nothing_open,
        unusable,
        stirred,
    } = told;
    if shared.and(stirred.clone()).is_some() {
        // It is told once more.
        return Ok((sorting.finish(), stirred));
    }
    let mut seen = sorting.finish();
    for (side, listing) in roots {
        if let Listing::Incomplete(why) = listing {
            seen.far_is_clear &= side == Side::Near;
            seen.decided.tops.push(Step::of_the_top(side, why));
        }
    }
    seen.nothing_open = nothing_open;
    let by_ear = wish.heard.iter().any(|(_, heard)| heard.is_some());
    seen.listed_whole = token.as_ref().is_none_or(|token| token.listed) && !by_ear;
    if !seen.listed_whole {
        // What changed since says nothing of what was left out before.
        let known = pass
            .ledger
            .read(|connection| rows::left_out(connection, pass.lane.row.key))?;
        seen.left_out = known.into_iter().collect();
    }
    seen.unusable = unusable;
    // A token says nothing of what the listing could not: the next pass has to list that again.
    seen.token = token.filter(|_| seen.far_is_clear && seen.unusable.is_empty());
    Ok((seen, stirred))
}

/// What changed on the near side, where the system said of all of it.
async fn heard_here(pass: &Pass, wish: &Wish) -> Result<Option<Changes>, Error> {
    let Some(heard) = &wish.heard.near else {
        return Ok(None);
    };
    let (store, lane) = (pass.store(Side::Near), pass.lane.row.key);
    let changes = heard::changes(&*store, Side::Near, &pass.ledger, lane, heard).await;
    changes.map_err(|error| pass.side_failed(Side::Near, &error))
}

/// What is known once both sides have been told to their end.
pub(crate) struct Told<T> {
    /// Whether the tops were listed whole.
    pub(crate) roots: PerSide<Listing>,
    /// What the far scan left.
    pub(crate) far: T,
    /// Whether the ledger held nothing that waits for an answer.
    pub(crate) nothing_open: bool,
    /// Names that no path can be made of.
    pub(crate) unusable: Vec<Unusable>,
    /// Shared tags of files that changed or went there.
    pub(crate) stirred: BTreeSet<Stamp>,
}

/// Puts the near side (walked, unless `near_changes` says what changed on it), what a far scan finds, and the ledger together, in
/// tree order and chunks. Nothing that `each` was
/// told may be used before this has ended well.
pub(crate) async fn tell_both<T>(
    pass: &Pass,
    near_changes: Option<Changes>,
    (far, shared): (mpsc::Receiver<Found>, &SharedTags),
    far_scan: tokio::task::JoinHandle<Result<T, SideError>>,
    mut each: impl AsyncFnMut(&mut Vec<Triple>) -> Result<(), Error>,
) -> Result<Told<T>, Error> {
    let (near_found, near) = mpsc::channel(BUFFER);
    let (store, ledger, lane) = (
        pass.store(Side::Near),
        pass.ledger.clone(),
        pass.lane.row.key,
    );
    let near_scan = tokio::spawn(async move {
        match near_changes {
            Some(changes) => told::tell(store, Side::Near, ledger, lane, changes, near_found).await,
            None => store.scan(near_found).await,
        }
    });

    let (rows, known) = blocking::sync_channel(BUFFER);
    let (ledger, lane) = (pass.ledger.clone(), pass.lane.row.key);
    let handles_on = other_files::told_on(pass);
    let reading = tokio::task::spawn_blocking(move || {
        let mut open = false;
        ledger.read(|connection| {
            rows::each_known(connection, lane, &handles_on, |known| {
                open |= known.is_open;
                rows.send(known).is_ok()
            })
        })?;
        Ok::<_, Error>(!open)
    });

    let (triples_found, mut triples) = mpsc::channel(BUFFER);
    let unusable = Arc::new(Mutex::new(Vec::new()));
    let (collecting, shared) = (Arc::clone(&unusable), shared.clone());
    let merging = tokio::task::spawn_blocking(move || {
        let now = |found| Shown::Now(Stream::new(found, RelPath::root(), &collecting));
        let mut stirred = BTreeSet::new();
        let each = |mut triple: Triple, handles: Option<Vec<(Side, String)>>| {
            if let Some(handles) = handles {
                doubt_another_file(&mut triple, handles);
            }
            shared.doubt(&mut triple, &mut stirred);
            triples_found.blocking_send(triple).is_ok()
        };
        let roots = merge(known.into_iter(), now(near), now(far), each)?;
        Ok::<_, MergeError>((roots, stirred))
    });

    let mut chunk = Vec::with_capacity(BUFFER);
    while triples.recv_many(&mut chunk, BUFFER).await > 0 {
        each(&mut chunk).await?;
        chunk.clear();
    }

    let config = &pass.lane.config;
    let broke_off = |why: String| {
        Error::failed(
            format!("looking at lane {}", config.name),
            why,
            "Try again.",
        )
    };
    // In this order: where a side ended early, the merge only ended because of it.
    let broken = |error: tokio::task::JoinError| SideError::Failed(error.to_string());
    let near_end = near_scan.await.unwrap_or_else(|error| Err(broken(error)));
    let far_end = far_scan.await.unwrap_or_else(|error| Err(broken(error)));
    let merged = merging
        .await
        .map_err(|error| broke_off(error.to_string()))?;
    let (far, far_end) = match far_end {
        Ok(left) => (Some(left), Ok(())),
        Err(error) => (None, Err(error)),
    };
    for (side, end) in [(Side::Near, near_end), (Side::Far, far_end)] {
        match end {
            Ok(()) => {}
            // The merge gave up and stopped listening: its own reason is the one that counts.
            Err(SideError::Stopped) if merged.is_err() => {}
            Err(error) => return Err(side_failed(config, side, &error)),
        }
    }
    let (roots, stirred) = merged.map_err(|error| {
        if error.is_of_the_ledger() {
            pass.ledger.distrust();
            return pass.ledger.failed(&error.to_string());
        }
        broke_off(error.to_string())
    })?;
    let nothing_open = reading
        .await
        .map_err(|error| broke_off(error.to_string()))??;
    let far = far.ok_or_else(|| side_failed(config, Side::Far, &SideError::Stopped))?;
    let unusable = std::mem::take(&mut *unusable.lock().unwrap_or_else(PoisonError::into_inner));
    Ok(Told {
        roots,
        far,
        nothing_open,
        unusable,
        stirred,
    })
}

/// Where an earlier pass was cut off and nobody has cleared up, what a side shows says nothing; nor does it that something
/// is missing below such a path, where nothing can be put before that is clear.
pub(crate) fn not_cleared_up(unfinished: &Unfinished, triple: &mut Triple) {
    if unfinished.is_empty() {
        return;
    }
    let held = std::iter::successors(Some(triple.path.clone()), RelPath::parent)
        .find_map(|above| Some((unfinished.get(&above)?, above == triple.path)));
    let Some(((side, why), is_it)) = held else {
        return;
    };
    let view = &mut triple.views[*side];
    if is_it || *view == View::Absent {
        *view = View::Unknown(Unknown::Unfinished(why.clone()));
    }
}

struct Sorting<'p> {
    pass: &'p Pass,
    wish: &'p Wish,
    unfinished: &'p Unfinished,
    reconciler: Reconciler,
    seen: Seen,
}

impl<'p> Sorting<'p> {
    fn new(pass: &'p Pass, unfinished: &'p Unfinished, wish: &'p Wish) -> Sorting<'p> {
        let seen = Seen {
            decided: Decided::default(),
            settled: 0,
            known: 0,
            left_near: 0,
            left_far: 0,
            newly_listed: Vec::new(),
            unusable: Vec::new(),
            left_out: BTreeMap::new(),
            listed_whole: false,
            nothing_open: true,
            began: pass.clock.now(),
            token: None,
            shared_tags: SharedTags::default(),
            far_is_clear: true,
        };
        Sorting {
            pass,
            wish,
            unfinished,
            reconciler: pass.reconciler(wish),
            seen,
        }
    }

    fn take(&mut self, mut triple: Triple, listed: bool) -> Result<(), Error> {
        if self.pass.stop.asked() {
            return Err(self.pass.side_failed(Side::Near, &SideError::Stopped));
        }
        not_cleared_up(self.unfinished, &mut triple);
        bring_back_what_went(self.pass, &mut triple);
        let incomplete = |entry: &Entry| entry.listing != Listing::Complete;
        if matches!(triple.views.far, View::Unknown(_))
            || triple.views.far.entry().is_some_and(incomplete)
        {
            self.seen.far_is_clear = false;
        }
        if let Some(base) = &triple.base {
            if base.kind == Kind::File && base.away.is_none() {
                self.seen.known += 1;
                self.seen.left_near += u64::from(triple.views.near != View::Absent);
                self.seen.left_far += u64::from(triple.views.far != View::Absent);
            }
            if listed && !base.listed.far {
                self.seen.newly_listed.push(triple.path.clone());
            }
        }
        let seen = &mut self.seen;
        let candidate = NotTaken::candidate(&triple);
        let (contents, wish) = (&self.pass.lane.config.contents, self.wish);
        let mut sink = |step| keep(seen, of_agreed(step, contents, wish));
        let left_out = self.reconciler.push(triple, &mut sink);
        if let (Some(candidate), Some(by)) = (candidate, &left_out) {
            self.seen.decided.not_taken.note(candidate, by);
        }
        Ok(())
    }

    fn finish(mut self) -> Seen {
        let seen = &mut self.seen;
        let (contents, wish) = (&self.pass.lane.config.contents, self.wish);
        let mut sink = |step| keep(seen, of_agreed(step, contents, wish));
        self.reconciler.finish(&mut sink);
        let left_out = self.reconciler.left_out().iter();
        seen.left_out = left_out
            .map(|(by, tally)| (words::left_out_name(by), *tally))
            .collect();
        self.seen
    }
}

fn keep(seen: &mut Seen, step: Step) {
    match step.decision {
        Decision::Settled => seen.settled += u64::from(step.is_file(Side::Near)),
        Decision::KeptAway { .. } => seen.decided.aside.push(step),
        _ => {
            // A new stamp for the same content is news for the ledger only.
            seen.settled += u64::from(step.is_restamp() && step.is_file(Side::Near));
            seen.decided.steps.push(step);
        }
    }
}
