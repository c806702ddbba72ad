//! Dropping local copies that are proven to be on the far side.
//!
//! Each goes the way of everything that is taken out: captured under a name of its own, checked to be the version that
//! was proven, forgotten by the ledger in the same commit. Only then is the captured copy deleted, so that a version
//! somebody saved in the last instant is put back instead.

use std::collections::BTreeMap;

use katabatic_core::{
    Choice, Deed, DroppedFor, ItemEnding, ItemOutcome, Kind, LeftOutBy, RelPath, RunCommand,
    RunOutcome, Selection, Side, SpareCause, Tally, words,
};

use super::{Looked, proof};
use crate::config::Config;
use crate::pass::Pass;
use crate::pass::give_up::{self, Copy, Freed};
use crate::pass::primitive::{self, Change, Learned, Trouble};
use crate::session::{Ended, LockedLane, OpRun, in_run};
use crate::{Class, Error};
use katabatic_ledger::intents::Version;
use katabatic_ledger::rows;
use katabatic_ledger::runs::{Counts, RunItem};
use katabatic_sides::proof::Proof;
use katabatic_sides::{FolderGone, SideError};

/// What was dropped.
#[derive(Debug, Default)]
pub struct Dropped {
    /// The run's number; none where nothing was here.
    pub run: Option<i64>,
    /// Files whose local copy is gone, and their bytes.
    pub files: (u64, u64),
    /// Files that a program has open: their room is not free yet.
    pub held_open: u64,
    /// Files whose copy went on evidence alone: they are believed to be there.
    pub believed: u64,
    /// Files that stay, and why.
    pub stayed: Vec<proof::Unproven>,
}

/// Makes the choice the lane's own and drops the local copies that it no longer takes.
///
/// # Errors
/// Where anything is not proven to be on the far side, with its name; nothing is changed then.
pub async fn drop_copies(
    pass: &Pass,
    config: &mut Config,
    after: &Choice,
) -> Result<Dropped, Error> {
    let pass = &pass.lock()?;
    let unfinished = pass.prepare().await?;
    // Looked at anew: a person may have taken an hour to say yes.
    let looked = super::look(pass).await?;
    let mut effect = super::effect(pass, &looked, after).await?;
    super::check_room(pass, &effect).await?;
    let proven = proof::prove(pass, &mut effect.proofs).await?;
    if let Some((path, (_, why))) = unfinished.iter().next() {
        effect.proofs.unproven.push(proof::Unproven {
            path: path.clone(),
            why: why.clone(),
        });
    }
    if !effect.proofs.unproven.is_empty() {
        return Err(refused(pass, &effect.proofs));
    }
    let before = pass.lane.config.clone();
    // The choice first: a copy that a crash leaves here is told of as standing here, and nothing is fetched again.
    let selection = Selection {
        choice: after.clone(),
        ..before.selection.clone()
    };
    let changed = crate::config::LaneConfig {
        selection,
        ..before.clone()
    };
    crate::lanes::change_choice(config, &pass.ledger, changed).await?;
    note_left_out(pass, &looked, after).await?;
    let mut dropped = Dropped::default();
    if looked.going(&before.selection.choice, after).is_empty() {
        return Ok(dropped);
    }
    let run = pass
        .begin_run_of(RunCommand::Choose, pass.clock.now())
        .await?;
    dropped.run = Some(run.number());
    in_run(run, async |run| {
        drop_in(pass, run, proven, &mut dropped).await?;
        remove_folders(pass, &looked, &before.selection.choice, after).await?;
        let counts = Counts {
            dropped: dropped.files.0,
            ..Counts::default()
        };
        let outcome = RunOutcome::Dropped.or_needs_person(dropped.stayed.is_empty());
        Ok(Ended {
            value: dropped,
            outcome,
            counts,
        })
    })
    .await
}

/// Drops what is proven to be there.
async fn drop_in(
    pass: &LockedLane,
    run: &OpRun,
    proven: Vec<proof::Proven>,
    dropped: &mut Dropped,
) -> Result<(), Error> {
    let (mut lot, mut freed) = (Vec::new(), Freed::default());
    for proof::Proven { path, near, proof } in proven {
        let change = Change {
            side: Side::Near,
            path: &path,
            old: Some(Version::of(&near, proof.as_ref().map(Proof::content))),
            source: None,
            run: None,
            cause: SpareCause::Dropped(DroppedFor::NotTaken),
            learned: Learned::default(),
        };
        match primitive::remove(pass, change).await {
            Ok(slot) => {
                dropped.files.0 += 1;
                dropped.files.1 += near.content_bytes();
                run.note(item(pass, &path, near.content_bytes()));
                lot.extend(proof.map(|proof| Copy { path, slot, proof }));
            }
            Err(Trouble::Met(why)) => dropped.stayed.push(proof::Unproven { path, why }),
            Err(Trouble::Side(side, error) | Trouble::Unsure(side, error)) => {
                return Err(pass.side_failed(side, &error));
            }
            Err(Trouble::Ledger(error)) => return Err(error),
        }
        if lot.len() >= give_up::LOT {
            freed.add(give_up::copies(pass, std::mem::take(&mut lot)).await?);
        }
    }
    freed.add(give_up::copies(pass, lot).await?);
    give_up::stubs(pass).await?;
    dropped.held_open = freed.held_open;
    dropped.believed = freed.believed;
    let kept = |(path, why)| proof::Unproven { path, why };
    dropped.stayed.extend(freed.stayed.into_iter().map(kept));
    Ok(())
}

/// What is not taken is known now, before the next pass lists it.
async fn note_left_out(pass: &LockedLane, looked: &Looked, after: &Choice) -> Result<(), Error> {
    let lane = pass.lane.row.key;
    let rules = &pass.lane.config.selection.rules;
    let known = pass
        .ledger
        .read(|connection| rows::left_out(connection, lane))?;
    let mut left_out: BTreeMap<String, Tally> = known
        .into_iter()
        .filter(|(by, _)| rules.iter().any(|rule| rule.text() == by))
        .collect();
    for folder in after.skipped() {
        let by = words::left_out_name(&LeftOutBy::Skipped(folder.clone()));
        left_out.insert(by, looked.left_in(folder, after));
    }
    pass.ledger
        .write(move |connection| rows::set_left_out(connection, lane, &left_out))
        .await
}

fn item(pass: &Pass, path: &RelPath, bytes: u64) -> RunItem {
    RunItem {
        path: path.to_string(),
        deed: Deed::DropCopy,
        reason: String::new(),
        bytes,
        outcome: ItemOutcome::with(ItemEnding::Done, "it stays there"),
        at: Some(pass.clock.now()),
    }
}

/// Folders that became empty go, the deepest first; what is left in one keeps it.
async fn remove_folders(
    pass: &LockedLane,
    looked: &Looked,
    before: &Choice,
    after: &Choice,
) -> Result<(), Error> {
    let mut folders: Vec<RelPath> = looked
        .going(before, after)
        .into_iter()
        .filter(|(_, entry)| entry.kind == Kind::Folder)
        .map(|(path, _)| path.clone())
        .collect();
    folders.reverse();
    for folder in folders {
        match primitive::remove_folder(pass, Side::Near, &folder).await {
            // What is in it all the same keeps it, and it is told of as standing here.
            Ok(FolderGone::Gone | FolderGone::InSpare | FolderGone::Kept(_))
            | Err(Trouble::Met(_) | Trouble::Side(_, SideError::Missing)) => {}
            Err(Trouble::Side(side, error) | Trouble::Unsure(side, error)) => {
                return Err(pass.side_failed(side, &error));
            }
            Err(Trouble::Ledger(error)) => return Err(error),
        }
    }
    pass.ledger.flush().await
}

/// Why local copies are not dropped.
#[must_use]
pub fn refused(pass: &Pass, proofs: &proof::Proofs) -> Error {
    const NAMED: usize = 8;
    let mut named: Vec<String> = proofs
        .unproven
        .iter()
        .take(NAMED)
        .map(|file| format!("{} ({})", file.path, file.why))
        .collect();
    if proofs.unproven.len() > NAMED {
        named.push(format!("and {} more", proofs.unproven.len() - NAMED));
    }
    Error::new(
        Class::NeedsPerson,
        format!("dropping local copies of lane {}", pass.lane.config.name),
        format!(
            "not everything in them is proven to be on the far side: {}",
            named.join(", ")
        ),
        format!(
            "Nothing was changed. Carry it first: katabatic sync {}",
            pass.lane.config.name
        ),
    )
}
