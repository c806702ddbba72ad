//! What becomes of a step that a side is asked for: it is done, it goes wrong, or it is the last thing the process does.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use katabatic_core::RelPath;
use katabatic_engine::sides::SideError;
use tokio::sync::Notify;

use crate::mischief::Fault;
use crate::script::stranger;
use crate::side::SimulatedSide;
use crate::world::{SECOND, World};

/// What all sides of a trial share.
#[derive(Clone)]
pub struct Shared {
    /// The world.
    pub world: Arc<Mutex<World>>,
    /// Told when the process dies.
    pub died: Arc<Notify>,
}

impl Shared {
    /// The world, for as long as one looks at it.
    pub fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The process dies: nothing after this is ever done.
    pub async fn die(&self) {
        self.world().mischief.dead = true;
        self.died.notify_one();
        std::future::pending::<()>().await;
    }
}

enum Going {
    On,
    Dying,
}

impl SimulatedSide {
    /// Does something to the world, or lets it go wrong. `about` is the path that a stranger may well be at, too.
    pub(crate) async fn step<T>(
        &self,
        name: &'static str,
        changes: bool,
        about: Option<&RelPath>,
        deed: impl FnOnce(&mut World) -> Result<T, SideError> + Send,
    ) -> Result<T, SideError>
    where
        T: Send,
    {
        let far = self.is_far();
        // What else was under way when the process died is never done either.
        if self.shared.world().mischief.dead {
            std::future::pending::<()>().await;
        }
        let (going, outcome) = {
            let mut world = self.shared.world();
            world.mischief.steps += 1;
            let pause = world.mischief.dice(far).i64(0..SECOND / 2);
            world.now += pause;
            let often = world.mischief.strangers;
            if world.mischief.falls(far, often) {
                world.mischief.note(Fault::Stranger);
                stranger(&mut world, self.at, about);
            }
            let before = world.mischief.happened.clone();
            let (going, outcome) = self.happens(&mut world, changes, deed);
            if world.is_traced() {
                let wrong = world.mischief.since(&before);
                let failed = outcome.as_ref().err();
                world.trace(format!(
                    "  computer {} {:?}: {name} {} {wrong:?} {failed:?}",
                    self.computer,
                    self.at,
                    about.map_or("", RelPath::as_str)
                ));
            }
            (going, outcome)
        };
        if let Going::Dying = going {
            self.shared.die().await;
        }
        outcome
    }

    fn happens<T>(
        &self,
        world: &mut World,
        changes: bool,
        deed: impl FnOnce(&mut World) -> Result<T, SideError>,
    ) -> (Going, Result<T, SideError>) {
        let far = self.is_far();
        let untold = || Err(SideError::Unsure("the answer was lost".into()));
        if world.away.contains(&(self.at, self.computer)) {
            return (Going::On, Err(SideError::NotThere("it is away".into())));
        }
        if let Some(fault) = world.mischief.lasting(far) {
            return (Going::On, Err(lasting(fault)));
        }
        let (faults, deaths) = (world.mischief.faults, world.mischief.deaths);
        if world.mischief.falls(far, deaths) {
            if world.mischief.dice(far).bool() {
                world.mischief.note(Fault::DiesBefore);
                return (Going::Dying, untold());
            }
            world.mischief.note(Fault::DiesAfter);
            world.remember(self.at, changes);
            let outcome = deed(world);
            return (Going::Dying, outcome);
        }
        if world.mischief.falls(far, faults) {
            let kinds: &[Fault] = match (far, changes) {
                (true, true) => &[
                    Fault::LineBroke,
                    Fault::AnswerLost,
                    Fault::NotDoneAndUntold,
                    Fault::Failed,
                    Fault::Full,
                    Fault::Gone,
                    Fault::Refused,
                ],
                (true, false) => &[Fault::LineBroke, Fault::Failed, Fault::Gone, Fault::Refused],
                (false, true) => &[Fault::Failed, Fault::Full],
                (false, false) => &[Fault::Failed],
            };
            let fault = kinds[world.mischief.dice(far).usize(0..kinds.len())];
            world.mischief.note(fault);
            let outcome = match fault {
                Fault::LineBroke => Err(SideError::TryAgain("the line broke".into())),
                Fault::AnswerLost => {
                    let _ = deed(world);
                    untold()
                }
                Fault::NotDoneAndUntold => untold(),
                Fault::Full => Err(SideError::Full("there is no room".into())),
                Fault::Gone | Fault::Refused => {
                    world.mischief.begin_lasting(far, fault);
                    Err(lasting(fault))
                }
                _ => Err(SideError::Failed("it failed".into())),
            };
            return (Going::On, outcome);
        }
        world.remember(self.at, changes);
        (Going::On, deed(world))
    }
}

fn lasting(fault: Fault) -> SideError {
    match fault {
        Fault::Refused => SideError::Refused("the account refuses".into()),
        _ => SideError::NotThere("nobody answers".into()),
    }
}
