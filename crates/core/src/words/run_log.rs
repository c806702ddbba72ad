//! What runs noted and why versions were kept, in a technician's words.

use crate::run_log::{Deed, ItemEnding, ItemOutcome, RunOutcome};
use crate::spare_cause::{DroppedFor, KeptFor, SpareCause};

use super::count;
use crate::SideNames;

/// What was done with a path, in a word or two: `carry up`, `remove here`.
#[must_use]
pub fn deed(deed: &Deed) -> String {
    match deed {
        Deed::Record => "record".into(),
        Deed::Forget => "forget".into(),
        Deed::Carry(to) => format!("carry {}", to.towards()),
        Deed::Replace(on) => format!("replace {}", on.here_or_there()),
        Deed::CarryBeside(to) => format!("carry {} beside", to.towards()),
        Deed::MakeStub => "make stub here".into(),
        Deed::RenewStub => "renew stub here".into(),
        Deed::Fetch => "fetch here".into(),
        Deed::Shed => "shed here".into(),
        Deed::MakeFolder(on) => format!("make folder {}", on.here_or_there()),
        Deed::Move(on) => format!("move {}", on.here_or_there()),
        Deed::DropCopy => "drop here".into(),
        Deed::Remove(on) => format!("remove {}", on.here_or_there()),
        Deed::RemoveFolder(on) => format!("remove folder {}", on.here_or_there()),
        Deed::Compare => "compare".into(),
        Deed::Find => "found".into(),
        Deed::BringBack => "bring here".into(),
        Deed::TakeBack => "take back".into(),
        Deed::RemoveByHand => "removed".into(),
        Deed::CopyByHand => "copied".into(),
        Deed::MoveByHand { to } => format!("moved to {to}"),
        Deed::Told(words) => words.clone(),
    }
}

/// How it ended for a path: `done`, `stuck: the disk there is full`.
#[must_use]
pub fn item_outcome(outcome: &ItemOutcome) -> String {
    let ending = match outcome.ending {
        ItemEnding::Done => "done".into(),
        ItemEnding::Waiting => "waiting".into(),
        ItemEnding::Conflict => "conflict".into(),
        ItemEnding::Stuck => "stuck".into(),
        ItemEnding::Drift => "drift".into(),
        ItemEnding::KeptBack => "kept back".into(),
        ItemEnding::Asked => "asked".into(),
        ItemEnding::Asks(side) => format!("asks to remove {}", side.here_or_there()),
        ItemEnding::LeftOut => "left out".into(),
        ItemEnding::Stays => "stays".into(),
        ItemEnding::Failed => return outcome.remark.clone(),
    };
    match outcome.remark.is_empty() {
        true => ending,
        false => format!("{ending}: {}", outcome.remark),
    }
}

/// How a run ended, in a word or two.
#[must_use]
pub fn run_outcome(outcome: &RunOutcome) -> String {
    match outcome {
        RunOutcome::AllSettled => "all settled".into(),
        RunOutcome::BeingWritten(files) => {
            format!("{} still written", count(*files, "file is", "files are"))
        }
        RunOutcome::Done => "done".into(),
        RunOutcome::Dropped => "dropped".into(),
        RunOutcome::Swept => "removed what rules leave out".into(),
        RunOutcome::TookBack(files) => format!("took back {}", count(*files, "file", "files")),
        RunOutcome::NeedsPerson => "needs a person".into(),
        RunOutcome::Stopped => "stopped by Ctrl-C".into(),
        RunOutcome::Failed(why) => why.clone(),
    }
}

/// Why a version lies among the spares, as answers to programs and older ledgers have it.
#[must_use]
pub fn spare_cause(cause: &SpareCause) -> String {
    match cause {
        SpareCause::ReplacedFrom(side) => {
            format!("replaced by the version from {}", side.here_or_there())
        }
        SpareCause::RemovedFrom(side) => format!("removed {}", side.here_or_there()),
        SpareCause::MadeWayFor(side) => format!(
            "makes way for something of another kind {}",
            side.here_or_there()
        ),
        SpareCause::MovedOn(side) => format!("moved {}", side.here_or_there()),
        SpareCause::PutBeside => "a new version beside an older one".into(),
        SpareCause::KeptBeside => "kept beside the other version".into(),
        SpareCause::RemovedByHand => "removed by hand".into(),
        SpareCause::ReplacedByHand => "replaced by hand".into(),
        SpareCause::MovedByHand => "moved by hand".into(),
        SpareCause::SweptBy(rule) => format!("removed by hand: the rule {rule} leaves it out"),
        SpareCause::YieldedTo(side) => format!(
            "yielded to the version from {} when the conflict was settled",
            side.here_or_there()
        ),
        SpareCause::MadeWayForRun(run) => format!("made way when run {run} was taken back"),
        SpareCause::Met => "met while something else was carried".into(),
        SpareCause::Found => "found among the spares, and in no list".into(),
        SpareCause::Dropped(why) => format!("dropped: {}", dropped_for(why)),
        SpareCause::Kept(why) => kept_for(why),
        SpareCause::Told(words) => words.clone(),
    }
}

/// The same as a person reads it, by what the lane's sides are called.
#[must_use]
pub fn spare_cause_told(cause: &SpareCause, sides: SideNames) -> String {
    match cause {
        SpareCause::ReplacedFrom(side) => format!("replaced by the version {}", sides.at(*side)),
        SpareCause::RemovedFrom(side) => format!("removed {}", sides.at(*side)),
        SpareCause::MadeWayFor(side) => format!(
            "makes way for something of another kind {}",
            sides.at(*side)
        ),
        SpareCause::MovedOn(side) => format!("moved {}", sides.at(*side)),
        SpareCause::YieldedTo(side) => format!(
            "yielded to the version {} when the conflict was settled",
            sides.at(*side)
        ),
        SpareCause::PutBeside
        | SpareCause::KeptBeside
        | SpareCause::RemovedByHand
        | SpareCause::ReplacedByHand
        | SpareCause::MovedByHand
        | SpareCause::SweptBy(_)
        | SpareCause::MadeWayForRun(_)
        | SpareCause::Met
        | SpareCause::Found
        | SpareCause::Dropped(_)
        | SpareCause::Kept(_)
        | SpareCause::Told(_) => spare_cause(cause),
    }
}

fn dropped_for(why: &DroppedFor) -> String {
    match why {
        DroppedFor::Stub => "its content stays there".into(),
        DroppedFor::NotTaken => "its folder is not taken any more".into(),
        DroppedFor::MovedOut(to) => format!("it was moved to {to} there, which is not taken"),
        DroppedFor::Content => "the stub of what came".into(),
        DroppedFor::NewerStub => "an older stub".into(),
        DroppedFor::Removal => "the stub of what was removed there".into(),
        DroppedFor::LaneGone => "the stub of a lane that is taken away".into(),
        DroppedFor::Told(words) => words.clone(),
    }
}

/// Why what was to be given up was kept.
#[must_use]
pub fn kept_for(why: &KeptFor) -> String {
    match why {
        KeptFor::Open => "a program had it open when its content was dropped here".into(),
        KeptFor::CannotTell(why) => {
            format!("whether a program has it open cannot be told on this disk: {why}")
        }
        KeptFor::Written => "it was written to while its content was dropped here".into(),
        KeptFor::ChangedThere => {
            "its content was about to be dropped here, and went or changed there".into()
        }
        KeptFor::NotAsked => {
            "its content was about to be dropped here, and the far side could not be asked again"
                .into()
        }
    }
}
