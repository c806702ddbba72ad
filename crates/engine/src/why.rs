//! The whole story of one path, whether anything is there or not.
//!
//! A status says where a file stands. "Why is it not there?" needs more: what leaves it out and at which folder, what
//! both sides last agreed on, what passes did to it, and what lies in the spares of it. All of it is known here, so
//! no server is asked.

use katabatic_core::{Base, EditTime, Entry, LeftOutBy, PerSide, RelPath, Stamp, Triple, View};

use crate::Error;
use crate::pass::Pass;
use crate::standing::{self, LaneStanding, Standing};
use crate::versions::KeptVersion;
use katabatic_ledger::runs::{self, Run, RunItem};
use katabatic_ledger::spare_rows;

/// As many of the last things that happened to a path are told.
const LAST: usize = 5;

/// What is known of a path.
#[derive(Clone, Debug)]
pub struct Story {
    /// The path.
    pub path: RelPath,
    /// What leaves it out, and the path that does: its own, or a folder around it.
    pub left_out: Option<(RelPath, LeftOutBy)>,
    /// What the near side shows; looked at now, where it is a folder of this computer.
    pub near: View,
    /// What the far side showed when a pass looked last.
    pub far: View,
    /// Whether a pass notes what is there at such a path; of what is left out it does not.
    pub far_is_noted: bool,
    /// What both sides last agreed on.
    pub base: Option<Base>,
    /// When that version was edited, where it is known.
    pub edited: Option<EditTime>,
    /// How it stands, where anything is known of it.
    pub standing: Option<Standing>,
    /// The lane within this path: when it was looked at, and for a folder what is in it.
    pub within: LaneStanding,
    /// The last things that passes did to it or to a folder around it, the newest first.
    pub history: Vec<(Run, RunItem)>,
    /// What lies in the spares of it, or of a folder around it, the newest first.
    pub spares: Vec<KeptVersion>,
}

impl Story {
    /// Whether nothing is on either side, as far as anybody looked.
    #[must_use]
    pub fn is_nowhere(&self) -> bool {
        self.near == View::Absent && self.far == View::Absent
    }
}

/// Tells it.
///
/// # Errors
/// Where the near side is not there, or the ledger cannot be read.
pub async fn story(
    pass: &Pass,
    path: &RelPath,
    time: &dyn Fn(EditTime) -> String,
) -> Result<Story, Error> {
    let within = standing::look(pass, path, time).await?;
    let lane = pass.lane.row.key;
    let above = standing::folders_above(path);
    let mut left_out = standing::left_out_above(pass, path).await?;
    let (triple, row) = standing::seen_at(pass, path).await?;
    if left_out.is_none() {
        // A rule about names holds for what is nowhere, too.
        let as_if = match (&triple.views.near, &triple.views.far, &triple.base) {
            (View::Absent, View::Absent, None) => Triple {
                views: PerSide {
                    near: View::Absent,
                    far: View::Present(Entry::file(0, Stamp::new(""))),
                },
                ..triple.clone()
            },
            _ => triple.clone(),
        };
        left_out = pass
            .lane
            .config
            .selection
            .leaves_out(&as_if)
            .map(|by| (path.clone(), by));
    }
    let (history, spares) = pass.ledger.read(|connection| {
        let mut history = runs::of_path(connection, lane, path.as_str(), LAST)?;
        for folder in &above {
            // What was done to a folder whole was done to all in it.
            let of_folder = runs::of_path(connection, lane, folder.as_str(), LAST)?;
            history.extend(
                of_folder
                    .into_iter()
                    .filter(|(_, item)| item.deed.takes_members_along()),
            );
        }
        history.sort_by_key(|(run, _)| std::cmp::Reverse(run.number));
        history.truncate(LAST);
        let mut spares = spare_rows::of_path(connection, lane, path)?;
        for folder in &above {
            let of_folder = spare_rows::of_path(connection, lane, folder)?;
            spares.extend(of_folder.into_iter().filter(|spare| spare.folder));
        }
        spares.sort_by_key(|spare| std::cmp::Reverse(spare.number));
        let spares = spares
            .into_iter()
            .map(|spare| {
                let by = match spare.run {
                    Some(run) => runs::command_of(connection, run)?,
                    None => None,
                };
                Ok(KeptVersion { spare, by })
            })
            .collect::<rusqlite::Result<Vec<_>>>()?;
        Ok((history, spares))
    })?;
    let own = within
        .standings
        .iter()
        .find(|one| one.step.path() == path)
        .filter(|one| one.step.seen != nowhere(path))
        .cloned();
    Ok(Story {
        path: path.clone(),
        far_is_noted: left_out.is_none() || triple.views.far != View::Absent,
        left_out,
        near: triple.views.near,
        far: triple.views.far,
        base: triple.base,
        edited: row.and_then(|row| row.edited),
        standing: own,
        within,
        history,
        spares,
    })
}

fn nowhere(path: &RelPath) -> Triple {
    Triple {
        path: path.clone(),
        base: None,
        views: PerSide {
            near: View::Absent,
            far: View::Absent,
        },
    }
}
