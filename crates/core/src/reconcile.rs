//! The plan: a stream of paths in, a stream of steps out.
//!
//! [`crate::decide`] looks at one path. What is left for this module is what folders ask for:
//!
//! - A folder that one side removed goes only when nothing in it must stay, and a folder comes before its members in
//!   tree order. So its removal waits on a stack until the last member went by. A member that must live there makes
//!   the folder again first; one that is left out or unknown keeps it where it is.
//! - A file that takes a folder's place may do so only when every member of the folder can go. Until that is known,
//!   the members' removals are kept back; one member that changed turns the whole place into a conflict.
//! - Below a conflict of a file and a folder nothing is carried.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::decide::{Verdict, decide};
use crate::decision::{Decision, Step};
use crate::selection::{Caught, LeftOutBy, Selection, Sieve, Tally};
use crate::terms::Terms;
use crate::{Entry, Kind, Listing, RelPath, Side, Triple, Unknown, View};

enum Mode {
    /// On both sides, or about to be.
    Plain,
    /// Removed on the other side; its removal from `on` waits for the members.
    Leaving { on: Side, keep: Option<Keep> },
    /// A file of the other side is to take this folder's place on `folder`; the members' steps wait.
    Yielding {
        folder: Side,
        held: Vec<Step>,
        spoiled: Option<Decision>,
    },
    /// Of another kind on the other side; nothing is carried below it.
    Blocked(Decision),
}

/// Why a folder that lies on one side only stays as it is. The later one outweighs the earlier.
#[derive(Clone, Copy, PartialEq, PartialOrd)]
enum Keep {
    /// The lane asks first.
    Asked,
    /// The lane keeps what was removed.
    ByTerms,
    /// Something in it is left out or not carried.
    ForLeftOut,
    /// Something in it cannot be told.
    ForUnknown,
    /// It went on the receiving side by itself.
    AsDrift,
}

struct Frame {
    step: Step,
    mode: Mode,
}

/// Turns triples in tree order into steps; see the module's text.
#[derive(Default)]
pub struct Reconciler {
    terms: Terms,
    sieve: Sieve,
    frames: Vec<Frame>,
}

impl Reconciler {
    /// One for a lane of these terms, with nothing seen yet.
    #[must_use]
    pub fn new(terms: Terms, selection: Arc<Selection>) -> Reconciler {
        Reconciler {
            terms,
            sieve: Sieve::new(selection),
            frames: Vec::new(),
        }
    }

    /// What was left out so far, and by what.
    #[must_use]
    pub fn left_out(&self) -> &BTreeMap<LeftOutBy, Tally> {
        self.sieve.tallies()
    }

    /// Takes the next path; `sink` gets the steps that are ready. The answer says what leaves the path out, if anything.
    pub fn push(&mut self, triple: Triple, sink: &mut impl FnMut(Step)) -> Option<LeftOutBy> {
        self.leave_until(Some(&triple.path), sink);
        if let Some(caught) = self.sieve.caught(&triple) {
            let by = caught.by.clone();
            self.push_left_out(triple, caught, sink);
            return Some(by);
        }
        self.push_taken(triple, sink);
        None
    }

    /// A path that is in the lane.
    fn push_taken(&mut self, triple: Triple, sink: &mut impl FnMut(Step)) {
        let (verdict, near, far) = decide(
            triple.base.as_ref(),
            &triple.views.near,
            &triple.views.far,
            &self.terms,
        );
        let step = Step {
            seen: triple,
            near,
            far,
            decision: Decision::Settled,
        };
        match self.frames.last_mut().map(|frame| &mut frame.mode) {
            Some(Mode::Blocked(decision)) => {
                let decision = match decision {
                    Decision::Drift { on, .. } => drift(&step.seen, *on),
                    other => other.clone(),
                };
                if verdict != Verdict::Nothing {
                    sink(Step {
                        decision: decision.clone(),
                        ..step.clone()
                    });
                }
                self.enter(step, Mode::Blocked(decision));
                return;
            }
            Some(Mode::Yielding { folder, .. }) => {
                let folder = *folder;
                self.push_yielding(step, &verdict, folder);
                return;
            }
            _ => {}
        }
        self.push_plain(step, verdict, sink);
    }

    /// Ends the stream.
    pub fn finish(&mut self, sink: &mut impl FnMut(Step)) {
        self.leave_until(None, sink);
    }

    /// A path that a rule or the choice leaves out: the folders around it stay, and nothing is done to it.
    fn push_left_out(&mut self, triple: Triple, caught: Caught, sink: &mut impl FnMut(Step)) {
        let there = triple.views.near != View::Absent || triple.views.far != View::Absent;
        let step = Step::of(triple, Decision::Ruled(caught.by));
        if there {
            self.stays(Keep::ForLeftOut);
            self.spoil(Decision::Conflict);
        }
        // Of a whole folder that is left out it is enough to name the folder.
        if step.seen.base.is_some() || (there && caught.outermost) {
            sink(step);
        }
    }

    /// What was to be replaced by a file has to stay.
    fn spoil(&mut self, with: Decision) {
        for frame in &mut self.frames {
            if let Mode::Yielding { spoiled, .. } = &mut frame.mode {
                *spoiled = Some(with);
                return;
            }
        }
    }

    fn enter(&mut self, step: Step, mode: Mode) {
        self.frames.push(Frame { step, mode });
    }

    fn push_plain(&mut self, step: Step, verdict: Verdict, sink: &mut impl FnMut(Step)) {
        let folder = step.seen.views.near.is_folder() || step.seen.views.far.is_folder();
        match verdict {
            Verdict::Nothing => {}
            Verdict::Settled | Verdict::Record => {
                let decision = if verdict == Verdict::Settled {
                    Decision::Settled
                } else {
                    Decision::Record
                };
                if folder {
                    self.enter(step.clone(), Mode::Plain);
                }
                let unread = unread_anywhere(&step);
                sink(Step { decision, ..step });
                unread.into_iter().for_each(sink);
            }
            Verdict::KeptAway(away) => {
                if folder {
                    // A member that must live on the other side makes the folder there again.
                    self.enter(
                        step.clone(),
                        Mode::Leaving {
                            on: away.other(),
                            keep: Some(Keep::ForLeftOut),
                        },
                    );
                } else {
                    self.stays(Keep::ForLeftOut);
                    sink(Step {
                        decision: Decision::KeptAway { away },
                        ..step
                    });
                }
            }
            Verdict::Forget => sink(Step {
                decision: Decision::Forget,
                ..step
            }),
            Verdict::Carry(to) => self.carry(step, to, sink),
            Verdict::Remove(on) => {
                if step.view(on).is_folder() {
                    let keep = unread(&step, on).map(|_| Keep::ForUnknown);
                    self.enter(step, Mode::Leaving { on, keep });
                } else {
                    sink(Step {
                        decision: Decision::Remove {
                            on,
                            makes_way: false,
                        },
                        ..step
                    });
                }
            }
            Verdict::Compare => sink(Step {
                decision: Decision::Compare,
                ..step
            }),
            Verdict::Conflict => {
                if folder {
                    let blocked = Mode::Blocked(Decision::BelowConflict);
                    self.enter(step.clone(), blocked);
                }
                sink(Step {
                    decision: Decision::Conflict,
                    ..step
                });
            }
            Verdict::KeepRemoved(on) => {
                self.remains(step, on, Keep::ByTerms, Decision::KeepRemoved { on }, sink);
            }
            Verdict::AskRemoval(on) => {
                self.remains(step, on, Keep::Asked, Decision::AskRemoval { on }, sink);
            }
            Verdict::Drift(on) => {
                let decision = drift(&step.seen, on);
                if step.view(on) == &View::Absent {
                    self.remains(step, on.other(), Keep::AsDrift, decision, sink);
                } else {
                    self.stays(Keep::ForLeftOut);
                    if folder {
                        self.enter(step.clone(), Mode::Blocked(decision.clone()));
                    }
                    sink(Step { decision, ..step });
                }
            }
            Verdict::NotCarried(on) => {
                self.stays(Keep::ForLeftOut);
                if folder {
                    self.enter(step.clone(), Mode::Plain);
                }
                sink(Step {
                    decision: Decision::NotCarried { on },
                    ..step
                });
            }
            Verdict::CarryBeside(to) => {
                self.come_back(to, sink);
                sink(Step {
                    decision: Decision::CarryBeside { to },
                    ..step
                });
            }
            Verdict::OldStays(on) => sink(Step {
                decision: Decision::OldStays { on },
                ..step
            }),
            Verdict::LeftOut(on, odd) => {
                self.stays(Keep::ForLeftOut);
                sink(Step {
                    decision: Decision::LeftOut { on, odd },
                    ..step
                });
            }
            Verdict::Hold(on, why) => {
                self.stays(Keep::ForUnknown);
                sink(Step {
                    decision: Decision::Hold { on, why },
                    ..step
                });
            }
        }
    }

    /// Something that lies on `on` only stays there: a file at once, a folder when all in it went by.
    fn remains(
        &mut self,
        step: Step,
        on: Side,
        keep: Keep,
        decision: Decision,
        sink: &mut impl FnMut(Step),
    ) {
        if step.view(on).is_folder() {
            let keep = Some(unread(&step, on).map_or(keep, |_| Keep::ForUnknown));
            self.enter(step, Mode::Leaving { on, keep });
        } else {
            self.stays(keep);
            sink(Step { decision, ..step });
        }
    }

    /// `step` is to be brought from the other side to `to`.
    fn carry(&mut self, step: Step, to: Side, sink: &mut impl FnMut(Step)) {
        let from_folder = step.view(to.other()).is_folder();
        let there = step.entry(to).map(|entry| entry.kind);
        if from_folder {
            self.come_back(to, sink);
            self.enter(step.clone(), Mode::Plain);
            // When it is told what could not be listed in it, the folder stands on both sides.
            let unread = unread_anywhere(&step).map(|mut unread| {
                let made = &mut unread.seen.views[to];
                *made = View::Present(Entry::folder());
                unread
            });
            match there {
                // A folder takes a file's place: the file goes first.
                Some(Kind::File) => {
                    let makes_way = Decision::Remove {
                        on: to,
                        makes_way: true,
                    };
                    for decision in [makes_way, Decision::MakeFolder { on: to }] {
                        sink(Step {
                            decision,
                            ..step.clone()
                        });
                    }
                }
                Some(_) => sink(Step {
                    decision: Decision::Record,
                    ..step
                }),
                None => sink(Step {
                    decision: Decision::MakeFolder { on: to },
                    ..step
                }),
            }
            unread.into_iter().for_each(sink);
        } else if there == Some(Kind::Folder) {
            self.come_back(to, sink);
            let spoiled = unread(&step, to).map(|why| Decision::Hold { on: to, why });
            self.enter(
                step,
                Mode::Yielding {
                    folder: to,
                    held: Vec::new(),
                    spoiled,
                },
            );
        } else {
            self.come_back(to, sink);
            let replaces = there.is_some();
            sink(Step {
                decision: Decision::Carry { to, replaces },
                ..step
            });
        }
    }

    /// A member has to live on `to`: folders above it whose removal waits are made there again.
    fn come_back(&mut self, to: Side, sink: &mut impl FnMut(Step)) {
        for frame in &mut self.frames {
            if matches!(frame.mode, Mode::Leaving { on, .. } if on == to.other()) {
                frame.mode = Mode::Plain;
                sink(Step {
                    decision: Decision::MakeFolder { on: to },
                    ..frame.step.clone()
                });
            } else if matches!(frame.mode, Mode::Leaving { on, .. } if on == to) {
                // The member is brought into the very folder that was to go: the folder stays.
                frame.mode = Mode::Plain;
                sink(Step {
                    decision: Decision::MakeFolder { on: to.other() },
                    ..frame.step.clone()
                });
            }
        }
    }

    /// A member stays where it is without being carried: so must the folders around it.
    fn stays(&mut self, reason: Keep) {
        for frame in &mut self.frames {
            if let Mode::Leaving { keep, .. } = &mut frame.mode
                && keep.is_none_or(|so_far| so_far < reason)
            {
                *keep = Some(reason);
            }
        }
    }

    fn push_yielding(&mut self, step: Step, verdict: &Verdict, folder: Side) {
        let hold = |on: Side, why: Unknown| {
            let hold = Decision::Hold { on, why };
            (hold.clone(), Some(hold))
        };
        let (decision, spoils) = match verdict {
            Verdict::Nothing => return,
            Verdict::Remove(on) if *on == folder => match unread(&step, *on) {
                Some(why) => hold(*on, why),
                None => (
                    Decision::Remove {
                        on: *on,
                        makes_way: true,
                    },
                    None,
                ),
            },
            Verdict::Forget => (Decision::Forget, None),
            Verdict::Hold(on, why) => hold(*on, why.clone()),
            _ => (Decision::BelowConflict, Some(Decision::Conflict)),
        };
        let outer = self
            .frames
            .iter_mut()
            .find_map(|frame| match &mut frame.mode {
                Mode::Yielding { held, spoiled, .. } => Some((held, spoiled)),
                _ => None,
            });
        if let Some((held, spoiled)) = outer {
            // A member that changed weighs more than one that cannot be told: the conflict is certain.
            if spoils == Some(Decision::Conflict) || spoiled.is_none() {
                *spoiled = spoils.or(spoiled.take());
            }
            held.push(Step { decision, ..step });
        }
    }

    fn leave_until(&mut self, next: Option<&RelPath>, sink: &mut impl FnMut(Step)) {
        while self
            .frames
            .last()
            .is_some_and(|frame| next.is_none_or(|next| !next.is_within(frame.step.path())))
        {
            let Some(Frame { step, mode }) = self.frames.pop() else {
                return;
            };
            match mode {
                Mode::Plain | Mode::Blocked(_) => {}
                Mode::Leaving { on, keep: None } => {
                    sink(Step {
                        decision: Decision::Remove {
                            on,
                            makes_way: false,
                        },
                        ..step
                    });
                }
                Mode::Leaving {
                    on,
                    keep: Some(reason),
                } => {
                    self.stays(reason);
                    let remembered = step.seen.base.as_ref().and_then(|base| base.away);
                    sink(match (reason, remembered) {
                        (Keep::Asked, _) => Step {
                            decision: Decision::AskRemoval { on },
                            ..step
                        },
                        (Keep::AsDrift, _) => Step {
                            decision: drift(&step.seen, on.other()),
                            ..step
                        },
                        (Keep::ForLeftOut | Keep::ByTerms, Some(away)) => Step {
                            decision: Decision::KeptAway { away },
                            ..step
                        },
                        (Keep::ByTerms, None) => Step {
                            decision: Decision::KeepRemoved { on },
                            ..step
                        },
                        (Keep::ForLeftOut, None) => Step {
                            decision: Decision::KeepFolder { on },
                            ..step
                        },
                        (Keep::ForUnknown, _) => {
                            let why = Unknown::NotListed("something in it cannot be told".into());
                            Step {
                                decision: Decision::Hold { on, why },
                                ..step
                            }
                        }
                    });
                }
                Mode::Yielding {
                    folder,
                    held,
                    spoiled: None,
                } => {
                    // Members first and the deepest folder first, so that each folder is empty when its turn comes.
                    let (folders, files): (Vec<Step>, Vec<Step>) = held
                        .into_iter()
                        .partition(|member| member.view(folder).is_folder());
                    files
                        .into_iter()
                        .chain(folders.into_iter().rev())
                        .for_each(&mut *sink);
                    sink(Step {
                        decision: Decision::Remove {
                            on: folder,
                            makes_way: true,
                        },
                        ..step.clone()
                    });
                    sink(Step {
                        decision: Decision::Carry {
                            to: folder,
                            replaces: false,
                        },
                        ..step
                    });
                }
                Mode::Yielding {
                    held,
                    spoiled: Some(decision),
                    ..
                } => {
                    for member in held {
                        let below = match &decision {
                            Decision::Conflict => Decision::BelowConflict,
                            other => other.clone(),
                        };
                        sink(Step {
                            decision: below,
                            ..member
                        });
                    }
                    sink(Step { decision, ..step });
                }
            }
        }
    }
}

/// Why what lies in the folder of this step is not all known on `side`; then the folder cannot go.
fn unread(step: &Step, side: Side) -> Option<Unknown> {
    match &step.entry(side)?.listing {
        Listing::Incomplete(why) => Some(why.clone()),
        Listing::Complete => None,
    }
}

/// A folder that could not be listed is a thing to tell of, though the folder itself is as it should be.
fn unread_anywhere(step: &Step) -> Option<Step> {
    let on = [Side::Near, Side::Far]
        .into_iter()
        .find(|side| unread(step, *side).is_some())?;
    Some(Step {
        decision: Decision::Hold {
            on,
            why: unread(step, on)?,
        },
        ..step.clone()
    })
}

/// Reconciles a whole stream at once.
pub fn reconcile(
    triples: impl IntoIterator<Item = Triple>,
    mut reconciler: Reconciler,
) -> (Vec<Step>, BTreeMap<LeftOutBy, Tally>) {
    let mut steps = Vec::new();
    for triple in triples {
        reconciler.push(triple, &mut |step| steps.push(step));
    }
    reconciler.finish(&mut |step| steps.push(step));
    (steps, reconciler.sieve.into_tallies())
}

/// What is left alone on the receiving side `on`, by whether the source holds something that is not there.
fn drift(seen: &Triple, on: Side) -> Decision {
    Decision::Drift {
        on,
        keeps_back: seen.views[on.other()].entry().is_some(),
    }
}
