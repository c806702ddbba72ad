//! Where files stand: the near side looked at now, the far side as the last pass saw it.
//!
//! Asking the server for every `status` would be slow and would fail exactly when people ask: when something is wrong
//! with the network. So the far side is what the ledger remembers, and every answer says when that was seen.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError, mpsc as blocking};

use futures_util::{StreamExt, stream};
use katabatic_core::refine::of_agreed;
use katabatic_core::words::Telling;
use katabatic_core::{
    Agreement, Base, Decision, EditTime, FileState, Kind, LeftOutBy, Lies, Listing, MergeError,
    PerSide, Reconciler, RelPath, Side, Step, Tally, Triple, Unknown, View, words,
};
use tokio::sync::mpsc;

use crate::Error;
use crate::pass::closer_look::{look_closer, read_where_touched};
use crate::pass::merging::{Row, Shown, Stream, merge};
use crate::pass::other_terms::bring_back_what_went;
use crate::pass::refine::{self, Decided};
use crate::pass::scan::{not_cleared_up, tell_both};
use crate::pass::shared_tags::SharedTags;
use crate::pass::{Pass, Wish};
use crate::self_opening;
use katabatic_ledger::account_rows;
use katabatic_ledger::rows::{self, FailedPass, LedgerRow};
use katabatic_ledger::runs::{self, Run};
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::{Found, SideError, Unusable};

/// One path and where it stands.
#[derive(Clone, Debug)]
pub struct Standing {
    /// What was seen and agreed.
    pub step: Step,
    /// Its state.
    pub state: FileState,
    /// Why, in words; empty for what is settled.
    pub reason: String,
    /// What the two sides last agreed on was edited then.
    pub edited: Option<EditTime>,
    /// Whether the far content is only believed to be the agreed one: nobody has read it.
    pub unproven: bool,
}

/// A lane, and where everything asked about stands.
#[derive(Clone, Debug)]
pub struct LaneStanding {
    /// The number of the last pass; 0 before the first.
    pub pass: u64,
    /// The last pass that had something to do, or failed.
    pub last_run: Option<Run>,
    /// How the last pass ended, where that was before it carried anything.
    pub failed: Option<FailedPass>,
    /// When the last pass over the whole lane looked.
    pub pass_seen: Option<EditTime>,
    /// When the far side was last looked at.
    pub far_seen: Option<EditTime>,
    /// When and why the far side was not reached, where that was tried last.
    pub far_failed: Option<(EditTime, String)>,
    /// Whether no pass over the whole lane ever came to its end, though something was carried.
    pub cut_off: bool,
    /// When the near side was looked at: now, where it is a folder of this computer.
    pub near_seen: Option<EditTime>,
    /// Files by how they agree.
    pub counts: BTreeMap<Agreement, u64>,
    /// Bytes of the files that are settled.
    pub settled_bytes: u64,
    /// Files of the near side by where their content lies, with the bytes that they show.
    pub lies: BTreeMap<Lies, Tally>,
    /// Whether stubs can be read that nobody sees to: they read as zeros.
    pub open_stubs: bool,
    /// Stubs of the lane whose content went here on evidence alone: it is believed to be there.
    pub believed: Tally,
    /// Every path that is not settled, or every path where a single one was asked about.
    pub standings: Vec<Standing>,
    /// What one side removed and the other one keeps, as was agreed.
    pub kept_away: Vec<RelPath>,
    /// Names here that no lane can carry.
    pub unusable: Vec<Unusable>,
    /// What rules and the choice leave out in the whole lane, by the rule or the folder.
    pub left_out: BTreeMap<String, Tally>,
}

impl LaneStanding {
    /// The run of the last pass; none where that had nothing to carry, which is no run and completes what an older one that
    /// failed or was cut off had left.
    #[must_use]
    pub fn run_of_last_pass(&self) -> Option<&Run> {
        let run = self.last_run.as_ref()?;
        (!run.is_completed_by(self.pass_seen)).then_some(run)
    }

    /// Whether something needs a person.
    #[must_use]
    pub fn needs_a_person(&self) -> bool {
        self.counts
            .iter()
            .any(|(agreement, count)| agreement.needs_a_person() && *count > 0)
    }
}

/// What is told of each path that is settled, in the order of looking.
pub type Told<'t> = &'t mut dyn FnMut(&Step);

/// Looks at a lane, or at one path of it.
///
/// # Errors
/// Where the near side is not there or the ledger cannot be read.
pub async fn look(
    pass: &Pass,
    scope: &RelPath,
    time: &dyn Fn(EditTime) -> String,
) -> Result<LaneStanding, Error> {
    look_telling(pass, scope, time, false, &mut |_| {}).await
}

/// The same, and both sides are asked where it is to be `fresh`.
///
/// # Errors
/// As [`look`]; and where the far side is not there or refuses, if that is asked.
pub async fn look_telling(
    pass: &Pass,
    scope: &RelPath,
    time: &dyn Fn(EditTime) -> String,
    fresh: bool,
    told: Told<'_>,
) -> Result<LaneStanding, Error> {
    let near_seen = check_there(pass, fresh).await?;
    let one = !scope.is_root();
    let mut gathered = Gathered {
        told,
        known: BTreeMap::new(),
        any_known: false,
        settled_files: 0,
        settled_bytes: 0,
        lies: BTreeMap::new(),
        settled: Vec::new(),
        open: Vec::new(),
    };
    let (mut reconciler, roots, unusable) = match fresh {
        true => gather_anew(pass, scope, &mut gathered).await?,
        false => gather(pass, scope, &mut gathered).await?,
    };
    reconciler.finish(&mut |step| gathered.keep(pass, step, one));
    let Gathered {
        told,
        known,
        any_known,
        settled_files,
        settled_bytes,
        lies,
        settled,
        open,
    } = gathered;
    let (aside, settled): (Vec<Step>, Vec<Step>) = settled
        .into_iter()
        .partition(|step| matches!(step.decision, Decision::KeptAway { .. }));
    let mut standing = LaneStanding {
        counts: BTreeMap::from([(Agreement::Settled, settled_files)]),
        settled_bytes,
        lies,
        kept_away: aside.iter().map(|step| step.path().clone()).collect(),
        unusable,
        ..LaneStanding::of_lane(pass, fresh, near_seen, any_known)?
    };
    let wish = Wish {
        scope: vec![scope.clone()],
        ..Wish::default()
    };
    let decided = Decided {
        steps: open,
        aside: aside.clone(),
        ..Decided::default()
    };
    let open = refine::refine(pass, decided, &wish).await?.refined.steps;
    let telling = &Telling {
        time,
        sides: pass.lane.config.side_names(),
    };
    let steps = settled.into_iter().chain(aside).chain(open);
    for step in steps {
        // The next pass only notes that it stays so.
        if matches!(
            step.decision,
            Decision::KeepFolder { .. } | Decision::KeepRemoved { .. }
        ) {
            standing.kept_away.push(step.path().clone());
        }
        let mut state = FileState::of(&step);
        state.lies = where_it_lies(pass, &step);
        standing.take((step, state), &known, one, scope, telling, told);
    }
    standing
        .standings
        .sort_by(|a, b| a.step.path().cmp(b.step.path()));
    if !one {
        for (step, reason) in tops(pass, roots, fresh, telling)? {
            standing.tell_of_top(step, reason);
        }
        let seen_now = reconciler.left_out();
        standing.left_out = left_out(pass, seen_now, fresh)?;
    }
    if let Some((folder, by)) = left_out_above(pass, scope).await? {
        standing.leave_out(&folder, &by);
    }
    let by_rule: u64 = standing.left_out.values().map(|tally| tally.files).sum();
    *standing.counts.entry(Agreement::LeftOut).or_default() +=
        standing.unusable.len() as u64 + by_rule;
    standing.counts.retain(|_, count| *count > 0);
    let served = (pass.lane.home.as_ref()).is_some_and(self_opening::is_served);
    standing.open_stubs = pass.lane.near.saw_open_stubs() && !served;
    Ok(standing)
}

/// Makes sure that what is to be looked at is there; when the near side is seen.
async fn check_there(pass: &Pass, fresh: bool) -> Result<Option<EditTime>, Error> {
    match pass.lane.config.account(Side::Near) {
        _ if fresh => {
            pass.check_roots().await?;
            Ok(Some(pass.clock.now()))
        }
        None => {
            pass.check_near_root().await?;
            Ok(Some(pass.clock.now()))
        }
        Some(_) => Ok(pass.lane.row.seen_at),
    }
}

/// What could not be listed whole of the tops of both sides: now, or as the last pass found.
fn tops(
    pass: &Pass,
    roots: PerSide<Listing>,
    fresh: bool,
    telling: &Telling<'_>,
) -> Result<Vec<(Step, String)>, Error> {
    let of_top = |connection: &_| rows::row(connection, pass.lane.row.key, &RelPath::root());
    let row = pass.ledger.read(of_top)?;
    let remembered = row.and_then(|row| row.open).filter(|_| !fresh);
    let remembered = remembered.map(|(_, reason)| {
        let why = Unknown::NotListed("as the last pass found".into());
        (Step::of_the_top(Side::Far, why), reason)
    });
    let now = roots
        .into_iter()
        .filter_map(|(side, listing)| match listing {
            Listing::Incomplete(why) => {
                let step = Step::of_the_top(side, why);
                let reason = words::reason(&step, telling);
                Some((step, reason))
            }
            Listing::Complete => None,
        });
    Ok(now.chain(remembered).collect())
}

/// What rules and the choice leave out in the whole lane. What lies only on the far side is known from the last pass that
/// listed everything.
fn left_out(
    pass: &Pass,
    seen_now: &BTreeMap<LeftOutBy, Tally>,
    fresh: bool,
) -> Result<BTreeMap<String, Tally>, Error> {
    if pass.lane.row.seen_at.is_some() && !fresh {
        let known = pass
            .ledger
            .read(|connection| rows::left_out(connection, pass.lane.row.key))?;
        return Ok(known.into_iter().collect());
    }
    let told = seen_now
        .iter()
        .map(|(by, tally)| (words::left_out_name(by), *tally));
    Ok(told.collect())
}

/// What was looked at, with all that is settled only counted, so that a lane of any size fits.
struct Gathered<'t> {
    told: Told<'t>,
    /// Rows of paths that are not plainly as they were agreed.
    known: BTreeMap<RelPath, LedgerRow>,
    any_known: bool,
    settled_files: u64,
    settled_bytes: u64,
    lies: BTreeMap<Lies, Tally>,
    /// Settled steps of which the ledger, or the question, has more to say.
    settled: Vec<Step>,
    open: Vec<Step>,
}

impl Gathered<'_> {
    fn note(&mut self, row: LedgerRow, triple: &Triple) {
        self.any_known = true;
        let plain = |side: Side, view: &View| match (&row.base, view) {
            (Some(base), View::Present(seen)) => seen.stamp == base.stamps[side],
            _ => false,
        };
        let settled = plain(Side::Near, &triple.views.near) && plain(Side::Far, &triple.views.far);
        if !settled || row.open.is_some() || row.unproven {
            self.known.insert(row.path.clone(), row);
        }
    }

    fn keep(&mut self, pass: &Pass, step: Step, one: bool) {
        let step = of_agreed(step, &pass.lane.config.contents, &Wish::default());
        if let Some(near) = step
            .entry(Side::Near)
            .filter(|near| near.kind == Kind::File)
        {
            let tally = self.lies.entry(where_it_lies(pass, &step)).or_default();
            tally.files += 1;
            tally.bytes = tally.bytes.saturating_add(near.size);
        }
        match step.decision {
            Decision::Settled if !one && !self.known.contains_key(step.path()) => {
                if let Some(entry) = step
                    .entry(Side::Near)
                    .filter(|entry| entry.kind == Kind::File)
                {
                    self.settled_files += 1;
                    self.settled_bytes += entry.size;
                }
                (self.told)(&step);
            }
            Decision::Settled | Decision::KeptAway { .. } => self.settled.push(step),
            _ => self.open.push(step),
        }
    }
}

/// Where the content of what a step is about lies.
fn where_it_lies(pass: &Pass, step: &Step) -> Lies {
    let contents = &pass.lane.config.contents;
    Lies::of(
        step.entry(Side::Near),
        contents.held_by(step.path()).is_some(),
    )
}

/// What decided, whether the tops were listed whole, and names that no lane can carry.
type Looked = (Reconciler, PerSide<Listing>, Vec<Unusable>);

/// Looks at both sides, path by path.
async fn gather_anew(
    pass: &Pass,
    scope: &RelPath,
    gathered: &mut Gathered<'_>,
) -> Result<Looked, Error> {
    let lane = pass.lane.row.key;
    pass.ledger.read(|connection| {
        rows::each_row(connection, lane, scope, |row| {
            gathered.any_known = true;
            if row.open.is_some() || row.unproven {
                gathered.known.insert(row.path.clone(), row);
            }
            true
        })
    })?;
    let unfinished = pass.left_unfinished()?;
    let one = !scope.is_root();
    let shared = shared_tags(pass).await?;
    let mut reconciler = pass.reconciler(&Wish::default());
    let (far, scanning) = begin_listing(pass);
    let far = (far, &shared);
    let told = tell_both(pass, None, far, scanning, async |chunk| {
        pass.progress.saw(chunk.len());
        let within = chunk
            .drain(..)
            .filter(|triple| triple.path.is_within(scope));
        let mut closer = stream::iter(within)
            .map(|triple| look_closer(pass, triple))
            .buffered(IN_FLIGHT);
        while let Some((mut triple, _)) = closer.next().await {
            not_cleared_up(&unfinished, &mut triple);
            bring_back_what_went(pass, &mut triple);
            reconciler.push(triple, &mut |step| gathered.keep(pass, step, one));
        }
        Ok(())
    })
    .await?;
    let unusable = if one { Vec::new() } else { told.unusable };
    Ok((reconciler, told.roots, unusable))
}

type FarListing = (
    mpsc::Receiver<Found>,
    tokio::task::JoinHandle<Result<(), SideError>>,
);

fn begin_listing(pass: &Pass) -> FarListing {
    let (found, far) = mpsc::channel(BUFFER);
    let store = pass.store(Side::Far);
    (far, tokio::spawn(async move { store.scan(found).await }))
}

/// Tags that files share of which one changed or went: where there may be any, that takes a look of its own.
async fn shared_tags(pass: &Pass) -> Result<SharedTags, Error> {
    let shared = SharedTags::known(pass)?;
    if shared.is_empty() {
        return Ok(shared);
    }
    let (far, scanning) = begin_listing(pass);
    let far = (far, &shared);
    let told = tell_both(pass, None, far, scanning, async |_| Ok(())).await?;
    Ok(shared.and(told.stirred).unwrap_or(shared))
}

/// Puts the ledger's rows and the near side together, path by path.
async fn gather(
    pass: &Pass,
    scope: &RelPath,
    gathered: &mut Gathered<'_>,
) -> Result<Looked, Error> {
    // An account is not asked for a status, on whichever side it is.
    let asks = pass.lane.config.account(Side::Near).is_none();
    let (found, near) = mpsc::channel(BUFFER);
    let looking = look_near(pass, scope, asks, found).await?;
    let (rows_read, rows) = blocking::sync_channel(BUFFER);
    let (ledger, lane, within) = (pass.ledger.clone(), pass.lane.row.key, scope.clone());
    let reading = tokio::task::spawn_blocking(move || {
        ledger.read(|connection| {
            rows::each_row(connection, lane, &within, |row| rows_read.send(row).is_ok())
        })
    });
    let (triples_found, mut triples) = mpsc::channel(BUFFER);
    let within = scope.clone();
    let merging = tokio::task::spawn_blocking(move || {
        let unusable = Mutex::new(Vec::new());
        let near = match asks {
            true => Shown::Now(Stream::new(near, within, &unusable)),
            false => Shown::Remembered(|row: &LedgerRow| row.last_seen(Side::Near)),
        };
        let far = Shown::Remembered(|row: &LedgerRow| row.last_seen(Side::Far));
        let each = |triple, row| triples_found.blocking_send((triple, row)).is_ok();
        let roots = merge(rows.into_iter(), near, far, each)?;
        let unusable = unusable.into_inner();
        Ok::<_, MergeError>((roots, unusable.unwrap_or_else(PoisonError::into_inner)))
    });
    let one = !scope.is_root();
    let mut reconciler = pass.reconciler(&Wish::default());
    let mut chunk = Vec::with_capacity(BUFFER);
    while triples.recv_many(&mut chunk, BUFFER).await > 0 {
        for (mut triple, row) in chunk.drain(..) {
            if asks {
                read_where_touched(pass, &mut triple, Side::Near).await;
            }
            if let Some(row) = row {
                gathered.note(row, &triple);
            }
            bring_back_what_went(pass, &mut triple);
            reconciler.push(triple, &mut |step| gathered.keep(pass, step, one));
        }
    }
    let broke_off = |why: String| Error::failed("looking at the near side", why, "Try again.");
    let merged = merging
        .await
        .map_err(|error| broke_off(error.to_string()))?;
    let (roots, mut unusable) = merged.map_err(|error| {
        if error.is_of_the_ledger() {
            pass.ledger.distrust();
            return pass.ledger.failed(&error.to_string());
        }
        broke_off(error.to_string())
    })?;
    if let Some(looking) = looking {
        looking
            .await
            .map_err(|error| broke_off(error.to_string()))?
            .map_err(|error| pass.side_failed(Side::Near, &error))?;
    }
    reading
        .await
        .map_err(|error| broke_off(error.to_string()))??;
    if one {
        unusable.clear();
    }
    Ok((reconciler, roots, unusable))
}

const BUFFER: usize = 1024;

type Looking = tokio::task::JoinHandle<Result<(), SideError>>;

/// Sends what the near side shows within a path. One file costs one look, however large the lane is.
async fn look_near(
    pass: &Pass,
    scope: &RelPath,
    asks: bool,
    found: mpsc::Sender<Found>,
) -> Result<Option<Looking>, Error> {
    let near = pass.lane.near.clone();
    if asks && scope.is_root() {
        return Ok(Some(tokio::spawn(async move { near.scan(found).await })));
    }
    let there = match asks {
        true => near
            .look(scope)
            .await
            .map_err(|error| pass.side_failed(Side::Near, &error))?,
        false => None,
    };
    if there
        .as_ref()
        .is_some_and(|entry| entry.kind == Kind::Folder)
    {
        return Ok(Some(tokio::spawn(async move { near.scan(found).await })));
    }
    let entry = there.map(|entry| Found::Entry(scope.clone(), entry));
    for one in [Some(Found::Root(Listing::Complete)), entry]
        .into_iter()
        .flatten()
    {
        // Both fit before anybody listens.
        let _ = found.send(one).await;
    }
    Ok(None)
}

impl Row for LedgerRow {
    type Kept = LedgerRow;

    fn split(self) -> (RelPath, Option<Base>, Option<LedgerRow>) {
        (self.path.clone(), self.base.clone(), Some(self))
    }
}

/// The folders around a path, from the top down; without the top itself.
pub(crate) fn folders_above(path: &RelPath) -> Vec<RelPath> {
    let mut above: Vec<RelPath> = std::iter::successors(path.parent(), RelPath::parent)
        .filter(|folder| !folder.is_root())
        .collect();
    above.reverse();
    above
}

/// What leaves out a folder around a path, and which.
pub(crate) async fn left_out_above(
    pass: &Pass,
    path: &RelPath,
) -> Result<Option<(RelPath, LeftOutBy)>, Error> {
    for folder in folders_above(path) {
        let (triple, _) = seen_at(pass, &folder).await?;
        if let Some(by) = pass.lane.config.selection.leaves_out(&triple) {
            return Ok(Some((folder, by)));
        }
    }
    Ok(None)
}

/// One path as it is here now, and as it was there when a pass looked last, with its row.
pub(crate) async fn seen_at(
    pass: &Pass,
    path: &RelPath,
) -> Result<(Triple, Option<LedgerRow>), Error> {
    let lane = pass.lane.row.key;
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, lane, path))?;
    let last_seen = |side| {
        row.as_ref()
            .map_or(View::Absent, |row: &LedgerRow| row.last_seen(side))
    };
    let near = match pass.lane.config.account(Side::Near) {
        Some(_) => last_seen(Side::Near),
        None => match pass.lane.near.look(path).await {
            Ok(Some(entry)) => View::Present(entry),
            Ok(None) => View::Absent,
            Err(why) => View::Unknown(Unknown::NotListed(why.to_string())),
        },
    };
    let triple = Triple {
        path: path.clone(),
        views: PerSide {
            near,
            far: last_seen(Side::Far),
        },
        base: row.as_ref().and_then(|row| row.base.clone()),
    };
    Ok((triple, row))
}

impl LaneStanding {
    /// What is known of a lane before any path of it is looked at.
    fn of_lane(
        pass: &Pass,
        fresh: bool,
        near_seen: Option<EditTime>,
        any_known: bool,
    ) -> Result<LaneStanding, Error> {
        let row = &pass.lane.row;
        let last_run = |connection: &_| runs::last_pass(connection, row.key);
        let believed = |connection: &_| rows::believed_stubs(connection, row.key);
        Ok(LaneStanding {
            pass: row.pass,
            last_run: pass.ledger.read(last_run)?,
            failed: row.failed.clone(),
            pass_seen: row.seen_at,
            far_seen: match fresh {
                true => near_seen,
                false => row.seen_at,
            },
            far_failed: match pass.lane.config.account(Side::Far) {
                None => {
                    let away = pass.lane.far_away.clone();
                    away.map(|why| (pass.clock.now(), why))
                }
                Some(account) if !fresh => {
                    let known = |connection: &_| account_rows::account(connection, account);
                    pass.ledger.read(known)?.error
                }
                Some(_) => None,
            },
            cut_off: row.seen_at.is_none() && any_known && !fresh,
            near_seen,
            counts: BTreeMap::new(),
            settled_bytes: 0,
            lies: BTreeMap::new(),
            open_stubs: false,
            believed: pass.ledger.read(believed)?,
            standings: Vec::new(),
            kept_away: Vec::new(),
            unusable: Vec::new(),
            left_out: BTreeMap::new(),
        })
    }

    /// The top of a side is stuck, before all else.
    fn tell_of_top(&mut self, step: Step, reason: String) {
        *self.counts.entry(Agreement::Stuck).or_default() += 1;
        let standing = Standing {
            state: FileState::of(&step),
            step,
            reason,
            edited: None,
            unproven: false,
        };
        self.standings.insert(0, standing);
    }

    /// All that was asked about lies in a folder that is left out.
    fn leave_out(&mut self, folder: &RelPath, by: &LeftOutBy) {
        let all = self.counts.values().sum();
        self.counts = BTreeMap::from([(Agreement::LeftOut, all)]);
        for standing in &mut self.standings {
            standing.state.agreement = Agreement::LeftOut;
            standing.reason = format!("{}, at the folder {folder}", words::left_out_by(by));
        }
    }

    fn take(
        &mut self,
        (step, mut state): (Step, FileState),
        known: &BTreeMap<RelPath, LedgerRow>,
        one: bool,
        scope: &RelPath,
        telling: &Telling<'_>,
        told: &mut dyn FnMut(&Step),
    ) {
        let known_already = self
            .standings
            .last()
            .is_some_and(|last| last.step.path() == step.path());
        if known_already && matches!(step.decision, Decision::Hold { .. }) {
            return;
        }
        let row = known.get(step.path());
        if state.lies == Lies::There && step.entry(Side::Far).is_none() {
            state.lies = Lies::Here;
        }
        let settled = state.agreement == Agreement::Settled;
        let mut reason = if settled {
            String::new()
        } else {
            words::reason(&step, telling)
        };
        // A folder that could not be listed there is as it should be by itself; what lies in it is the trouble.
        let held_folder = settled && step.seen.views.near.is_folder();
        // What the last pass found out by trying, and nothing here has changed since.
        if let Some((found, why)) = row.and_then(|row| row.open.as_ref())
            && (!settled || held_folder)
            && unchanged_since(row, &step)
        {
            let lasts = match found {
                Agreement::Stuck => true,
                Agreement::Conflict | Agreement::Drift | Agreement::KeptBack => {
                    step.decision == Decision::Compare
                }
                Agreement::Settled
                | Agreement::Waiting(_)
                | Agreement::Moving(_)
                | Agreement::Asking(_)
                | Agreement::LeftOut => false,
            };
            if lasts {
                (state.agreement, reason) = (*found, why.clone());
            }
        }
        let settled = state.agreement == Agreement::Settled;
        let file = [Side::Near, Side::Far].into_iter().any(|side| {
            step.entry(side)
                .is_some_and(|entry| entry.kind != Kind::Folder)
        });
        let tallied = !one
            && matches!(step.decision, Decision::Ruled(_))
            && state.agreement == Agreement::LeftOut;
        // Told by itself: one side does not hold it.
        let kept = matches!(
            step.decision,
            Decision::KeptAway { .. } | Decision::KeepRemoved { .. } | Decision::KeepFolder { .. }
        );
        if (file || !settled) && !tallied && !kept {
            *self.counts.entry(state.agreement).or_default() += match step.decision {
                Decision::Move { files, .. } => files,
                _ => 1,
            };
        }
        if settled {
            self.settled_bytes += step.entry(Side::Near).map_or(0, |entry| entry.size);
            told(&step);
        }
        if !settled || (one && step.path() == scope) {
            let edited = row.and_then(|row| row.edited);
            self.standings.push(Standing {
                step,
                state,
                reason,
                edited,
                unproven: row.is_some_and(|row| row.unproven),
            });
        }
    }
}

fn unchanged_since(row: Option<&LedgerRow>, step: &Step) -> bool {
    let seen = row.map(|row| row.last_seen(Side::Near));
    let stamp = |view: Option<&View>| view.and_then(View::entry).map(|entry| entry.stamp.clone());
    stamp(seen.as_ref()) == stamp(Some(step.view(Side::Near)))
}
