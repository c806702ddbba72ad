//! Where files stand: the near side looked at now, the far side as the last pass saw it.
//!
//! Asking the server for every `status` would be slow and would fail exactly when people ask: when something is wrong
//! with the network. So the far side is what the ledger remembers, and every answer says when that was seen.

use std::collections::BTreeMap;

use katabatic_core::reconcile::reconcile;
use katabatic_core::{
    Agreement, Decision, EditTime, Entry, FileState, Kind, Lies, Listing, Merge, RelPath, Side,
    Step, Tally, Triple, Unknown, View, words,
};
use tokio::sync::mpsc;

use crate::Error;
use crate::ledger::rows::{self, LedgerRow};
use crate::pass::moves;
use crate::pass::scan::digest;
use crate::pass::{Pass, Wish};
use crate::sides::{Found, Unusable};

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
    /// When the far side was last looked at.
    pub far_seen: Option<EditTime>,
    /// Whether no pass over the whole lane ever came to its end, though something was carried.
    pub cut_off: bool,
    /// When the near side was looked at: now, where it is a folder of this computer.
    pub near_seen: Option<EditTime>,
    /// Files by how they agree.
    pub counts: BTreeMap<Agreement, u64>,
    /// Bytes of the files that are settled.
    pub settled_bytes: u64,
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
    /// Whether something needs a person.
    #[must_use]
    pub fn needs_a_person(&self) -> bool {
        self.counts
            .iter()
            .any(|(agreement, count)| agreement.needs_a_person() && *count > 0)
    }
}

/// Looks at a lane, or at one path of it.
///
/// # Errors
/// Where the near side is not there or the ledger cannot be read.
pub async fn look(
    pass: &Pass,
    scope: &RelPath,
    time: &dyn Fn(EditTime) -> String,
) -> Result<LaneStanding, Error> {
    let near_seen = match pass.lane.config.account(Side::Near) {
        None => {
            pass.check_near_root().await?;
            Some(pass.clock.now())
        }
        Some(_) => pass.lane.row.seen_at,
    };
    let mut known: BTreeMap<RelPath, LedgerRow> = BTreeMap::new();
    pass.ledger.read(|connection| {
        rows::each_row(connection, pass.lane.row.key, scope, |row| {
            known.insert(row.path.clone(), row);
            true
        })
    })?;
    // An account is not asked for a status, on whichever side it is.
    let asks = pass.lane.config.account(Side::Near).is_none();
    let (near, root, unusable) = match asks {
        true => near_entries(pass, scope).await?,
        false => (Vec::new(), Listing::Complete, Vec::new()),
    };
    let near_root = root.clone();
    let base = known
        .iter()
        .map(|(path, row)| (path.clone(), row.base.clone()));
    let merge = Merge::new(
        base,
        root,
        near.into_iter(),
        Listing::Complete,
        std::iter::empty(),
    );
    let mut triples = Vec::new();
    for triple in merge {
        let triple =
            triple.map_err(|why| Error::failed("looking at the near side", why, "Try again."))?;
        let last_seen = |side| {
            known
                .get(&triple.path)
                .map_or(View::Absent, |row| row.last_seen(side))
        };
        let far = last_seen(Side::Far);
        triples.push(match asks {
            true => read_where_touched(pass, Triple { far, ..triple }).await,
            false => Triple {
                near: last_seen(Side::Near),
                far,
                ..triple
            },
        });
    }
    let one = !scope.is_root();
    let (steps, left_out) = reconcile(triples, pass.reconciler(&Wish::default()));
    let (open, settled): (Vec<Step>, Vec<Step>) = steps
        .into_iter()
        .partition(|step| !matches!(step.decision, Decision::Settled | Decision::KeptAway { .. }));
    let (aside, settled): (Vec<Step>, Vec<Step>) = settled
        .into_iter()
        .partition(|step| matches!(step.decision, Decision::KeptAway { .. }));
    let mut standing = LaneStanding {
        pass: pass.lane.row.pass,
        far_seen: pass.lane.row.seen_at,
        cut_off: pass.lane.row.seen_at.is_none() && !known.is_empty(),
        near_seen,
        counts: BTreeMap::new(),
        settled_bytes: 0,
        standings: Vec::new(),
        kept_away: aside.iter().map(|step| step.path().clone()).collect(),
        unusable,
        left_out: BTreeMap::new(),
    };
    let wish = Wish {
        scope: vec![scope.clone()],
        ..Wish::default()
    };
    let open = moves::join(pass, open, aside.clone(), &wish).await?;
    let steps = settled.into_iter().chain(aside).chain(open);
    for step in steps {
        standing.take(step, &known, one, scope, time);
    }
    standing
        .standings
        .sort_by(|a, b| a.step.path().cmp(b.step.path()));
    if !one {
        let row = pass
            .ledger
            .read(|connection| rows::row(connection, pass.lane.row.key, scope))?;
        let told = row.and_then(|row| row.open).map(|(_, reason)| {
            let why = Unknown::NotListed("as the last pass found".into());
            (Step::of_the_top(Side::Far, why), reason)
        });
        let here = match near_root {
            Listing::Incomplete(why) => {
                let step = Step::of_the_top(Side::Near, why);
                let reason = words::reason(&step, time);
                Some((step, reason))
            }
            Listing::Complete => None,
        };
        for (step, reason) in here.into_iter().chain(told) {
            *standing.counts.entry(Agreement::Stuck).or_default() += 1;
            let state = FileState::of(&step);
            standing.standings.insert(
                0,
                Standing {
                    step,
                    state,
                    reason,
                    edited: None,
                    unproven: false,
                },
            );
        }
        let known = pass
            .ledger
            .read(|connection| rows::left_out(connection, pass.lane.row.key))?;
        // What lies only on the far side is known from the last pass that listed everything.
        standing.left_out = if pass.lane.row.seen_at.is_some() {
            known.into_iter().collect()
        } else {
            left_out
                .iter()
                .map(|(by, tally)| (words::left_out_name(by), *tally))
                .collect()
        };
    }
    let by_rule: u64 = standing.left_out.values().map(|tally| tally.files).sum();
    *standing.counts.entry(Agreement::LeftOut).or_default() +=
        standing.unusable.len() as u64 + by_rule;
    standing.counts.retain(|_, count| *count > 0);
    Ok(standing)
}

async fn near_entries(
    pass: &Pass,
    scope: &RelPath,
) -> Result<(Vec<(RelPath, Entry)>, Listing, Vec<Unusable>), Error> {
    if !scope.is_root() {
        let there = pass
            .lane
            .near
            .look(scope)
            .await
            .map_err(|error| pass.side_failed(Side::Near, &error))?;
        match there {
            // One file costs one look, however large the lane is.
            None => return Ok((Vec::new(), Listing::Complete, Vec::new())),
            Some(entry) if entry.kind != Kind::Folder => {
                return Ok((vec![(scope.clone(), entry)], Listing::Complete, Vec::new()));
            }
            Some(_) => {}
        }
    }
    let (found, mut inbox) = mpsc::channel(1024);
    let near = pass.lane.near.clone();
    let scanning = tokio::spawn(async move { near.scan(found).await });
    let (mut entries, mut unusable) = (Vec::new(), Vec::new());
    let mut root = Listing::Incomplete(Unknown::NotListed("the listing failed".into()));
    while let Some(item) = inbox.recv().await {
        match item {
            Found::Root(listing) => root = listing,
            Found::Entry(path, entry) if path.is_within(scope) => entries.push((path, entry)),
            Found::Entry(..) => {}
            Found::Unusable(name) => unusable.push(name),
        }
    }
    match scanning.await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => return Err(pass.side_failed(Side::Near, &error)),
        Err(error) => {
            return Err(Error::failed(
                "looking at the near side",
                error,
                "Try again.",
            ));
        }
    }
    if !scope.is_root() {
        unusable.clear();
    }
    Ok((entries, root, unusable))
}

/// A new stamp is no new version until the content says so.
async fn read_where_touched(pass: &Pass, mut triple: Triple) -> Triple {
    if let (Some(base), View::Present(near)) = (&triple.base, &mut triple.near)
        && near.kind == Kind::File
        && near.stamp != base.near
        && near.size == base.size
        && let Ok(content) = digest(&*pass.lane.near, &triple.path, near).await
    {
        near.content = Some(content);
    }
    triple
}

impl LaneStanding {
    fn take(
        &mut self,
        step: Step,
        known: &BTreeMap<RelPath, LedgerRow>,
        one: bool,
        scope: &RelPath,
        time: &dyn Fn(EditTime) -> String,
    ) {
        let told = self
            .standings
            .last()
            .is_some_and(|last| last.step.path() == step.path());
        if told && matches!(step.decision, Decision::Hold { .. }) {
            return;
        }
        let row = known.get(step.path());
        let mut state = FileState::of(&step);
        if state.lies == Lies::There && step.entry(Side::Far).is_none() {
            state.lies = Lies::Here;
        }
        let settled = state.agreement == Agreement::Settled;
        let mut reason = if settled {
            String::new()
        } else {
            words::reason(&step, time)
        };
        // A folder that could not be listed there is as it should be by itself; what lies in it is the trouble.
        let held_folder = settled && step.seen.near.is_folder();
        // What the last pass found out by trying, and nothing here has changed since.
        if let Some((word, why)) = row.and_then(|row| row.open.as_ref())
            && (!settled || held_folder)
            && unchanged_since(row, &step)
        {
            match word.as_str() {
                "stuck" => (state.agreement, reason) = (Agreement::Stuck, why.clone()),
                "conflict" if step.decision == Decision::Compare => {
                    (state.agreement, reason) = (Agreement::Conflict, why.clone());
                }
                "drift" if step.decision == Decision::Compare => {
                    (state.agreement, reason) = (Agreement::Drift, why.clone());
                }
                _ => {}
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
        if (file || !settled) && !tallied {
            *self.counts.entry(state.agreement).or_default() += match step.decision {
                Decision::Move { files, .. } => files,
                _ => 1,
            };
        }
        if settled {
            self.settled_bytes += step.entry(Side::Near).map_or(0, |entry| entry.size);
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
