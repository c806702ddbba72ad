//! What goes wrong, and how often: faults of disks, lines and servers, deaths of the process, and strangers.

use std::collections::BTreeMap;

/// How a cloud is, for a whole world.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Nature {
    /// Every version has a tag of its own, every file an id.
    Good,
    /// As a good one; it tells what changed since a token, and a new file gets its name in one step.
    TellsChanges,
    /// Tags tell the file, the second and the length only; no ids.
    Coarse,
    /// Names that begin with a dot are in no listing.
    HidesDots,
    /// Tags are made of the time and the length, so that files can share one, and a version that is put in a file's place
    /// with its time kept has its tag; no ids.
    ClockTags,
    /// What is moved writes over what has the name, if it comes late: nothing can be kept from that.
    PlacesOver,
}

impl Nature {
    /// Whether every file has an id of its own, which it keeps for ever.
    #[must_use]
    pub fn gives_ids(self) -> bool {
        match self {
            Nature::Good | Nature::TellsChanges | Nature::HidesDots | Nature::PlacesOver => true,
            Nature::Coarse | Nature::ClockTags => false,
        }
    }
}

/// A known fault of the model itself, to see whether the trial finds it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Flaw {
    /// A placing writes over what has the name.
    PlacesOver,
    /// What is captured is gone.
    DropsSpares,
    /// A listing that was cut short is called whole.
    ShortIsWhole,
    /// What was done last on a disk is undone when the process dies, though the disk had said that it was synced.
    SkipsSync,
    /// Whatever was captured is called the version that was expected, and what stands in place too.
    ChecksNothing,
    /// Content that breaks off in the middle seems to end there, and nobody counts it.
    EndsEarly,
    /// What changed since a token is told without what was removed or came; only new versions of known files are.
    TellsHalf,
    /// A request that got no answer is not kept from being done later.
    FencesNothing,
    /// A copy is given up though a program has it open.
    SeesNoOpenFiles,
    /// A tag counts as proof of a content.
    TrustsTags,
    /// Before a large file is patched there, what is read of it is what was agreed on, whatever stands there.
    PatchesBlindly,
    /// The clock says that a day is over as soon as anybody asks: what was to be waited for is not.
    WaitsForNothing,
}

impl Flaw {
    /// All of them.
    pub const ALL: [Flaw; 12] = [
        Flaw::PlacesOver,
        Flaw::DropsSpares,
        Flaw::ShortIsWhole,
        Flaw::SkipsSync,
        Flaw::ChecksNothing,
        Flaw::EndsEarly,
        Flaw::TellsHalf,
        Flaw::FencesNothing,
        Flaw::SeesNoOpenFiles,
        Flaw::TrustsTags,
        Flaw::PatchesBlindly,
        Flaw::WaitsForNothing,
    ];
}

/// A kind of fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// The process dies before a step.
    DiesBefore,
    /// The process dies right after a step.
    DiesAfter,
    /// The process dies between two steps of a pass.
    DiesAtASeam,
    /// A line breaks before anything arrived.
    LineBroke,
    /// A line breaks after the server acted.
    AnswerLost,
    /// It cannot be told whether it was done; it was not.
    NotDoneAndUntold,
    /// It cannot be told whether it was done; it is done later.
    DoneLate,
    /// The process dies while a request is on its way, which is done later.
    DiesAndDoneLate,
    /// What nobody waits for any more is done.
    CameLate,
    /// A disk did it, and failed right after.
    FailedAfter,
    /// It failed.
    Failed,
    /// There is no room.
    Full,
    /// The whole side is gone for the rest of the pass.
    Gone,
    /// The account refuses for the rest of the pass.
    Refused,
    /// A listing ends early.
    ShortListing,
    /// Content breaks off in the middle.
    BreaksOff,
    /// The server does not know a token any more.
    TokenExpired,
    /// Somebody changes something at that very moment.
    Stranger,
    /// A program has a file open that is to be given up.
    HeldOpen,
    /// Another version was put in a file's place there, and its tag stayed.
    Disguised,
    /// A large file was cut, and went on where it stopped.
    WentOn,
    /// Only what changed in a large file was sent.
    Patched,
}

/// How often things go wrong in a pass, in thousandths of a step each; and what did.
#[derive(Debug)]
pub struct Mischief {
    /// Draws for each side by itself, so that the order in which sides are asked does not matter.
    dice: [fastrand::Rng; 2],
    /// Faults of disks, lines and servers.
    pub faults: u32,
    /// Deaths.
    pub deaths: u32,
    /// Strangers' changes.
    pub strangers: u32,
    /// How many of a thousand requests that change the cloud are done late.
    pub late: u32,
    /// A known fault of the model.
    pub flaw: Option<Flaw>,
    /// How often each happened.
    pub happened: BTreeMap<Fault, u64>,
    /// Whether the process is dead.
    pub dead: bool,
    /// Steps that sides were asked for, in all.
    pub steps: u64,
    /// What holds for the rest of a pass, a side each.
    lasting: [Option<Fault>; 2],
}

impl Mischief {
    /// Nothing goes wrong.
    #[must_use]
    pub fn none() -> Mischief {
        Mischief {
            dice: [fastrand::Rng::with_seed(0), fastrand::Rng::with_seed(0)],
            faults: 0,
            deaths: 0,
            strangers: 0,
            late: 0,
            flaw: None,
            happened: BTreeMap::new(),
            dead: false,
            steps: 0,
            lasting: [None; 2],
        }
    }

    /// For a pass with this seed.
    pub fn begin(&mut self, seed: u64, (faults, deaths, strangers): (u32, u32, u32)) {
        self.dice = [
            fastrand::Rng::with_seed(seed),
            fastrand::Rng::with_seed(seed ^ 0x9e37_79b9_7f4a_7c15),
        ];
        (self.faults, self.deaths, self.strangers) = (faults, deaths, strangers);
        self.dead = false;
        self.lasting = [None; 2];
    }

    /// What holds for the rest of the pass on a side.
    #[must_use]
    pub fn lasting(&self, far: bool) -> Option<Fault> {
        self.lasting[usize::from(far)]
    }

    /// From now on, for the rest of the pass.
    pub fn begin_lasting(&mut self, far: bool, fault: Fault) {
        self.lasting[usize::from(far)] = Some(fault);
    }

    /// The dice of one side.
    pub fn dice(&mut self, far: bool) -> &mut fastrand::Rng {
        &mut self.dice[usize::from(far)]
    }

    /// Whether something that happens so often (in thousandths) happens now.
    pub fn falls(&mut self, far: bool, often: u32) -> bool {
        often > 0 && self.dice(far).u32(0..1000) < often
    }

    /// What has happened since it had happened so often.
    #[must_use]
    pub fn since(&self, before: &BTreeMap<Fault, u64>) -> Vec<Fault> {
        let new = self
            .happened
            .iter()
            .filter(|(fault, count)| before.get(fault) != Some(count));
        new.map(|(fault, _)| *fault).collect()
    }

    /// Notes what happened.
    pub fn note(&mut self, fault: Fault) {
        *self.happened.entry(fault).or_default() += 1;
    }
}
