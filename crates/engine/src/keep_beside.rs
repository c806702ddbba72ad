//! Keeping a version beside another one, under a dated name.

use katabatic_core::dated_name::dated_name;
use katabatic_core::{Entry, RelPath, Side, SpareCause};
use katabatic_sides::{Put, SideError};

use crate::local_time::in_a_name;
use crate::pass::Pass;
use crate::pass::primitive::{self, Trouble};
use crate::session::LockedLane;
use crate::{Class, Error};

/// Gives one side's version a dated name beside the other one's.
pub(crate) async fn keep_beside(
    pass: &LockedLane,
    path: &RelPath,
    side: Side,
    version: &Entry,
) -> Result<RelPath, Error> {
    let at = version
        .edited
        .or(version.received)
        .unwrap_or_else(|| pass.clock.now());
    let label = match pass.lane.config.label(side) {
        Some(whose) => format!("{whose} {}", in_a_name(at)),
        None => in_a_name(at),
    };
    let parent = path.parent().unwrap_or_else(RelPath::root);
    for attempt in 1..100 {
        let name = dated_name(path.name(), &label, attempt);
        let beside = parent
            .join(&name)
            .map_err(|why| Error::failed(format!("naming {name}"), why, "Settle it otherwise."))?;
        // A name that is free on one side alone would only make the next conflict.
        let taken = pass
            .store(side.other())
            .look(&beside)
            .await
            .map_err(|error| pass.side_failed(side.other(), &error))?;
        if taken.is_some() {
            continue;
        }
        let names = (path, &beside);
        match primitive::rename(pass, side, names, version, SpareCause::KeptBeside).await {
            Ok(Put::Done) => return Ok(beside),
            Ok(Put::Taken) => {}
            Err(Trouble::Side(_, SideError::Missing)) => {
                return Err(Error::new(
                    Class::NeedsPerson,
                    format!("settling {path}"),
                    format!(
                        "the version {} went away meanwhile",
                        pass.lane.config.side_names().at(side)
                    ),
                    "Sync; there is no conflict any more.",
                ));
            }
            Err(trouble) => return Err(not_settled(pass, path, trouble)),
        }
    }
    Err(Error::failed(
        format!("keeping both versions of {path}"),
        "no dated name is free beside it",
        "Move some away.",
    ))
}

/// Why what a person decided could not be carried out.
pub(crate) fn not_settled(pass: &Pass, path: &RelPath, trouble: Trouble) -> Error {
    match trouble {
        Trouble::Ledger(error) => error,
        Trouble::Side(side, error) | Trouble::Unsure(side, error) => pass.side_failed(side, &error),
        Trouble::Met(why) => Error::new(
            Class::NeedsPerson,
            format!("settling {path}"),
            why,
            "Sync, look at the conflict again, and settle it then.",
        ),
    }
}
