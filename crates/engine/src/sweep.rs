//! Removing what a lane's rules leave out, from both sides, into the spares.
//!
//! A rule itself never removes anything. But junk that was carried before the rule came stays on both sides, and on
//! every computer it got to. A person may have it removed: only what a rule of the lane catches, shown first, each file
//! captured and checked to be the version that was shown.

use katabatic_core::{
    Deed, Entry, ItemEnding, ItemOutcome, Kind, RelPath, Rule, RunCommand, RunOutcome, Side,
    SpareCause,
};

use crate::choose::entries;
use crate::pass::Pass;
use crate::pass::primitive::{self, Change, Learned, Trouble};
use crate::session::{Ended, LockedLane, OpRun, in_run};
use crate::{Class, Error};
use katabatic_ledger::intents::Version;
use katabatic_ledger::runs::{Counts, RunItem};
use katabatic_sides::FolderGone;

/// What rules catch on one side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OnSide {
    /// The side.
    pub side: Side,
    /// Each file, with the rule that catches it.
    pub files: Vec<(RelPath, Entry, String)>,
    /// Folders that a rule catches, or that lie in one, in tree order.
    folders: Vec<RelPath>,
    /// Whether nothing can be removed there.
    pub read_only: bool,
}

impl OnSide {
    /// Bytes of the files.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.files
            .iter()
            .map(|(_, entry, _)| entry.size)
            .fold(0, u64::saturating_add)
    }
}

/// What was removed.
#[derive(Debug, Default)]
pub struct Swept {
    /// The run's number.
    pub run: Option<i64>,
    /// Files that are in the spares now, and their bytes.
    pub files: (u64, u64),
    /// What stays, and why.
    pub stayed: Vec<(RelPath, String)>,
}

/// What these rules of a lane catch on both sides; nothing is changed.
///
/// # Errors
/// A rule that is none of the lane's, or a side that cannot be listed whole.
pub async fn caught(pass: &Pass, wanted: &[String]) -> Result<[OnSide; 2], Error> {
    let config = &pass.lane.config;
    let rules = &config.selection.rules;
    if let Some(stranger) = wanted
        .iter()
        .find(|wanted| !rules.iter().any(|rule| rule.text() == **wanted))
    {
        let known: Vec<&str> = rules.iter().map(Rule::text).collect();
        return Err(Error::new(
            Class::Usage,
            format!("the rule {stranger:?} of lane {}", config.name),
            format!("it is none of the lane's; there are {}", known.join("  ")),
            format!(
                "To leave something out first: katabatic lane change {} --leave-out RULE",
                config.name
            ),
        ));
    }
    let chosen: Vec<&Rule> = rules
        .iter()
        .filter(|rule| wanted.is_empty() || wanted.iter().any(|wanted| wanted == rule.text()))
        .collect();
    pass.check_roots().await?;
    let near = on_side(pass, Side::Near, &chosen).await?;
    let far = on_side(pass, Side::Far, &chosen).await?;
    Ok([near, far])
}

async fn on_side(pass: &Pass, side: Side, rules: &[&Rule]) -> Result<OnSide, Error> {
    let mut found = OnSide {
        side,
        files: Vec::new(),
        folders: Vec::new(),
        read_only: pass.store(side).is_read_only(),
    };
    let mut within: Option<(RelPath, String)> = None;
    for (path, entry) in entries(pass, side).await? {
        let by = match &within {
            Some((folder, by)) if path.is_within(folder) => Some(by.clone()),
            _ => rules
                .iter()
                .find(|rule| rule.catches(&path, &entry))
                .map(|rule| rule.text().to_owned()),
        };
        let Some(by) = by else {
            continue;
        };
        match entry.kind {
            Kind::Folder => {
                if within
                    .as_ref()
                    .is_none_or(|(folder, _)| !path.is_within(folder))
                {
                    within = Some((path.clone(), by));
                }
                found.folders.push(path);
            }
            Kind::File => found.files.push((path, entry, by)),
            // A link or a pipe is nothing that the spares could hold; its folder stays.
            Kind::Odd(_) => {}
        }
    }
    Ok(found)
}

/// Removes what was shown, into the spares.
///
/// # Errors
/// Where a side is not there or the ledger cannot be written.
pub async fn sweep(pass: &Pass, shown: &[OnSide; 2]) -> Result<Swept, Error> {
    let pass = &pass.lock()?;
    let unfinished = pass.prepare().await?;
    if let Some((path, (_, why))) = unfinished.into_iter().next() {
        return Err(Error::new(
            Class::NeedsPerson,
            format!(
                "removing what rules leave out of lane {}",
                pass.lane.config.name
            ),
            format!("a pass was cut off at {path}, and that is not cleared up yet: {why}"),
            format!("Sync first: katabatic sync {}", pass.lane.config.name),
        ));
    }
    let run = pass
        .begin_run_of(RunCommand::Sweep, pass.clock.now())
        .await?;
    in_run(run, async |run| sweep_in(pass, run, shown).await).await
}

async fn sweep_in(
    pass: &LockedLane,
    run: &OpRun,
    shown: &[OnSide; 2],
) -> Result<Ended<Swept>, Error> {
    let mut swept = Swept {
        run: Some(run.number()),
        ..Swept::default()
    };
    for on in shown.iter().filter(|on| !on.read_only) {
        for (path, entry, by) in &on.files {
            let change = Change {
                side: on.side,
                path,
                old: Some(Version::of(entry, None)),
                source: None,
                run: Some(run.number()),
                cause: SpareCause::SweptBy(by.clone()),
                learned: Learned::default(),
            };
            let result = primitive::remove(pass, change).await;
            let outcome = match &result {
                Ok(_) => ItemOutcome::DONE,
                Err(trouble) => ItemOutcome::with(ItemEnding::Stays, trouble.to_string()),
            };
            let item = RunItem {
                path: path.to_string(),
                deed: Deed::Remove(on.side),
                reason: String::new(),
                bytes: entry.size,
                outcome,
                at: Some(pass.clock.now()),
            };
            run.note(item);
            match result {
                Ok(_) => {
                    swept.files.0 += 1;
                    swept.files.1 = swept.files.1.saturating_add(entry.size);
                }
                Err(Trouble::Side(side, error)) if error.ends_the_pass() => {
                    return Err(pass.side_failed(side, &error));
                }
                Err(Trouble::Ledger(error)) => return Err(error),
                Err(trouble) => swept.stayed.push((path.clone(), trouble.to_string())),
            }
        }
        for folder in on.folders.iter().rev() {
            if let Some(why) = remove_folder(pass, on.side, folder).await? {
                swept.stayed.push((folder.clone(), why));
            }
        }
    }
    let outcome = RunOutcome::Swept.or_needs_person(swept.stayed.is_empty());
    Ok(Ended {
        value: swept,
        outcome,
        counts: Counts::default(),
    })
}

/// Removes a folder that is empty by now; why it stays, where it does.
async fn remove_folder(
    pass: &LockedLane,
    side: Side,
    path: &RelPath,
) -> Result<Option<String>, Error> {
    match primitive::remove_folder(pass, side, path).await {
        Ok(FolderGone::Gone | FolderGone::InSpare) => Ok(None),
        Ok(FolderGone::Kept(names)) => {
            Ok(Some(format!("something is in it: {}", names.join(", "))))
        }
        Err(Trouble::Ledger(error)) => Err(error),
        Err(Trouble::Side(side, error)) if error.ends_the_pass() => {
            Err(pass.side_failed(side, &error))
        }
        Err(trouble) => Ok(Some(trouble.to_string())),
    }
}
