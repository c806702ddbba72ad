//! What becomes of a step that a side is asked for: it is done, it goes wrong, or it is the last thing the process does.

use katabatic_core::RelPath;
use katabatic_sides::side_error::Refusal;
use katabatic_sides::{Outcome, SideError, Undone};

use crate::mischief::Fault;
use crate::script::stranger;
use crate::side::SimulatedSide;
use crate::world::{SECOND, World};

enum Going {
    On,
    Dying,
}

impl SimulatedSide {
    /// Looks at the world, or lets that go wrong. `about` is the path that a stranger may well be at, too.
    pub(crate) async fn step<T: Send>(
        &self,
        name: &'static str,
        about: Option<&RelPath>,
        look: impl FnOnce(&mut World) -> Result<T, SideError> + Send,
    ) -> Result<T, SideError> {
        self.may_begin().await;
        let (going, outcome) = self.at_that_moment(name, about, |world| self.looks(world, look));
        self.goes(going).await;
        outcome.map_err(Undone::told)
    }

    /// Does something to the world, lets it go wrong, or does it later, when nobody waits for it any more.
    pub(crate) async fn change<T: Send + 'static>(
        &self,
        name: &'static str,
        about: Option<&RelPath>,
        deed: impl FnOnce(&mut World) -> Result<T, SideError> + Send + 'static,
    ) -> Outcome<T> {
        self.may_begin().await;
        let (going, outcome) = self.at_that_moment(name, about, |world| self.does(world, deed));
        self.goes(going).await;
        outcome
    }

    /// What else was under way when the process died is never done either.
    async fn may_begin(&self) {
        if self.shared.world().mischief.dead {
            std::future::pending::<()>().await;
        }
    }

    async fn goes(&self, going: Going) {
        if let Going::Dying = going {
            self.shared.die().await;
        }
    }

    fn at_that_moment<T>(
        &self,
        name: &'static str,
        about: Option<&RelPath>,
        happens: impl FnOnce(&mut World) -> (Going, Outcome<T>),
    ) -> (Going, Outcome<T>) {
        let far = self.is_far();
        let mut world = self.shared.world();
        world.mischief.steps += 1;
        let pause = world.mischief.dice(far).i64(0..SECOND / 2);
        world.now += pause;
        world.what_was_late();
        let often = world.mischief.strangers;
        if world.mischief.falls(far, often) {
            world.mischief.note(Fault::Stranger);
            stranger(&mut world, self.at, about);
        }
        let before = world.mischief.happened.clone();
        let (going, outcome) = happens(&mut world);
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
    }

    /// Whether the side is there at all.
    fn is_there(&self, world: &World) -> Outcome<()> {
        if world.away.contains(&(self.at, self.computer)) {
            let away = SideError::not_there("it is away");
            return Err(Undone::NotDone(away));
        }
        match world.mischief.lasting(self.is_far()) {
            Some(fault) => Err(Undone::NotDone(lasting(fault))),
            None => Ok(()),
        }
    }

    /// Which of these kinds of faults happens now, if any.
    fn falls(&self, world: &mut World, kinds: &[Fault]) -> Option<Fault> {
        let (far, faults) = (self.is_far(), world.mischief.faults);
        if !world.mischief.falls(far, faults) {
            return None;
        }
        let fault = kinds[world.mischief.dice(far).usize(0..kinds.len())];
        world.mischief.note(fault);
        Some(fault)
    }

    fn looks<T>(
        &self,
        world: &mut World,
        look: impl FnOnce(&mut World) -> Result<T, SideError>,
    ) -> (Going, Outcome<T>) {
        let far = self.is_far();
        if let Err(away) = self.is_there(world) {
            return (Going::On, Err(away));
        }
        let deaths = world.mischief.deaths;
        if world.mischief.falls(far, deaths) {
            world.mischief.note(Fault::DiesBefore);
            return (Going::Dying, untold());
        }
        let kinds: &[Fault] = match far {
            true => &[Fault::LineBroke, Fault::Failed, Fault::Gone, Fault::Refused],
            false => &[Fault::Failed],
        };
        let outcome = match self.falls(world, kinds) {
            Some(fault) => Err(Undone::NotDone(self.fails(world, fault))),
            None => look(world).map_err(Undone::NotDone),
        };
        (Going::On, outcome)
    }

    fn does<T: 'static>(
        &self,
        world: &mut World,
        deed: impl FnOnce(&mut World) -> Result<T, SideError> + Send + 'static,
    ) -> (Going, Outcome<T>) {
        let far = self.is_far();
        if let Err(away) = self.is_there(world) {
            return (Going::On, Err(away));
        }
        let deaths = world.mischief.deaths;
        if world.mischief.falls(far, deaths) {
            match world.mischief.dice(far).u8(0..if far { 3 } else { 2 }) {
                0 => world.mischief.note(Fault::DiesBefore),
                1 => {
                    world.mischief.note(Fault::DiesAfter);
                    world.remember(self.at, true);
                    let _ = deed(world);
                }
                _ => {
                    world.mischief.note(Fault::DiesAndDoneLate);
                    world.do_later(deed);
                }
            }
            return (Going::Dying, untold());
        }
        let kinds: &[Fault] = match far {
            true => &[
                Fault::LineBroke,
                Fault::AnswerLost,
                Fault::NotDoneAndUntold,
                Fault::DoneLate,
                Fault::DoneLate,
                Fault::Failed,
                Fault::Full,
                Fault::Gone,
                Fault::Refused,
            ],
            false => &[Fault::Failed, Fault::Full, Fault::FailedAfter],
        };
        let late = world.mischief.late;
        let fault = match far && world.mischief.falls(far, late) {
            true => {
                world.mischief.note(Fault::DoneLate);
                Some(Fault::DoneLate)
            }
            false => self.falls(world, kinds),
        };
        let outcome = match fault {
            Some(Fault::AnswerLost) => {
                let _ = deed(world);
                untold()
            }
            Some(Fault::FailedAfter) => {
                world.remember(self.at, true);
                match deed(world) {
                    Ok(_) => Err(Undone::Unsure(SideError::Failed("the disk failed".into()))),
                    Err(error) => Err(Undone::NotDone(error)),
                }
            }
            Some(Fault::NotDoneAndUntold) => untold(),
            Some(Fault::DoneLate) => {
                world.do_later(deed);
                untold()
            }
            Some(fault) => Err(Undone::NotDone(self.fails(world, fault))),
            None => {
                world.remember(self.at, true);
                deed(world).map_err(Undone::NotDone)
            }
        };
        (Going::On, outcome)
    }

    /// What a fault that prevents something says.
    fn fails(&self, world: &mut World, fault: Fault) -> SideError {
        match fault {
            Fault::LineBroke => SideError::try_again("the line broke"),
            Fault::Full => SideError::Full("there is no room".into()),
            Fault::Gone | Fault::Refused => {
                world.mischief.begin_lasting(self.is_far(), fault);
                lasting(fault)
            }
            _ => SideError::Failed("it failed".into()),
        }
    }
}

fn untold<T>() -> Outcome<T> {
    Err(Undone::Unsure(SideError::try_again("the answer was lost")))
}

fn lasting(fault: Fault) -> SideError {
    match fault {
        Fault::Refused => SideError::refused(Refusal::SignIn, "the account refuses"),
        _ => SideError::not_there("nobody answers"),
    }
}
