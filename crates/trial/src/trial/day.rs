//! A day of a simulated office: people who come, work and go, drives that are pulled, lines that break, a battery, and
//! on each computer an agent that decides by the core's own rules when a pass runs. Minutes go by in no time.
//!
//! What decides here is what the agent decides with (`schedule`, `condition`), and every pass is a real one; what is
//! played is the clock, and the system's word of what changed, of which some is lost.

use std::collections::BTreeSet;
use std::path::Path;

use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use katabatic_core::condition::{self, Condition, Surroundings};
use katabatic_core::schedule::{self, When};
use katabatic_core::{Direction, PerSide, RelPath, Terms};
use katabatic_engine::pass::Wish;
use katabatic_engine::{Class, Error};

use super::{Ended, Lived, Trial, begin};
use crate::mischief::Nature;
use crate::script::{Edit, Script, apply, some_edit};
use crate::world::{At, SECOND};

const MINUTE: i64 = 60 * SECOND;

/// The day begins at midnight; after the last hour of people, three quiet ones follow.
const MINUTES: i64 = 24 * 60;
const QUIET: i64 = 3 * 60;

/// How a computer is, and what its agent knows.
struct Desk {
    when: Vec<When>,
    only_on: Vec<Condition>,
    around: Surroundings,
    /// Whether it is switched on.
    on: bool,
    heard: Option<BTreeSet<RelPath>>,
    /// Something was heard, and waits until it is quiet.
    dirty: bool,
    last: Zoned,
    walked: i64,
    asked: i64,
    failures: u32,
    retry: Option<i64>,
    /// Something was not there when it failed.
    missed: bool,
    /// The brake stopped it, until somebody has looked.
    braked: bool,
    now: bool,
}

/// What a day was like.
#[derive(Debug, Default)]
pub struct Day {
    /// Passes that agents ran.
    pub passes: u64,
    /// Passes that failed, because something was not there or went wrong.
    pub failed: u64,
    /// Passes that were not run, because what must hold did not.
    pub waited: u64,
    /// Things that people did.
    pub edits: u64,
    /// Passes that the brake stopped.
    pub braked: u64,
    /// Times a drive or a line was gone.
    pub away: u64,
}

fn wall(at: i64) -> Zoned {
    Timestamp::from_nanosecond(at.into())
        .unwrap_or(Timestamp::UNIX_EPOCH)
        .to_zoned(TimeZone::UTC)
}

/// Lives through a day made from a number; what was wrong at its end, if anything.
///
/// # Errors
/// Where the trial itself cannot go on.
pub fn live_a_day(seed: u64, room: &Path) -> Result<(Day, Lived), Error> {
    let script = Script {
        seed,
        computers: 3,
        nature: [Nature::Good, Nature::TellsChanges][(seed % 2) as usize],
        terms: Terms::of(Direction::TwoWay),
        leave_out: Vec::new(),
        skip: Vec::new(),
        late: 0,
        acts: Vec::new(),
    };
    let mut trial = begin(&script, None, room, false)?;
    let mut day = Day::default();
    let failure = trial.day(seed, &mut day)?;
    Ok((day, trial.lived(failure)))
}

impl Trial<'_> {
    fn day(&mut self, seed: u64, day: &mut Day) -> Result<Option<String>, Error> {
        let mut dice = fastrand::Rng::with_seed(seed);
        let begins = {
            let mut world = self.shared.world();
            // Midnight.
            world.now -= world.now % (MINUTES * MINUTE);
            world.now
        };
        let mut desks = [
            vec!["on change"],
            vec!["every 15m", "at start"],
            vec!["weekdays 18:00", "sat,sun 18:00", "on change"],
        ]
        .map(|when| Desk {
            when: when.into_iter().flat_map(When::parse).collect(),
            only_on: Vec::new(),
            around: Surroundings {
                metered: Some(false),
                networks: Some(vec!["Office".into()]),
                on_battery: Some(false),
                idle_since: None,
            },
            on: true,
            heard: None,
            dirty: false,
            last: wall(begins),
            walked: 0,
            asked: 0,
            failures: 0,
            retry: None,
            missed: false,
            braked: false,
            now: true,
        });
        desks[1].only_on = vec![Condition::Unmetered, Condition::Mains];
        for minute in 0..MINUTES + QUIET {
            let people = minute < MINUTES;
            {
                let mut world = self.shared.world();
                world.now = world.now.max(begins + minute * MINUTE);
            }
            if minute == MINUTES {
                self.shared.world().away.clear();
                for desk in &mut desks {
                    desk.around.metered = Some(false);
                    desk.around.on_battery = Some(false);
                    desk.now |= !desk.on;
                    desk.on = true;
                }
            }
            for (number, desk) in desks.iter_mut().enumerate() {
                if people {
                    self.people(number, desk, &mut dice, day, minute);
                }
                if let Some(wrong) = self.agent(number, desk, &mut dice, day, people)? {
                    return Ok(Some(format!("minute {minute}: {wrong}")));
                }
            }
        }
        let left = self.left_to_do()?;
        if !left.is_empty() {
            return Ok(Some(format!("after three quiet hours is left: {left:?}")));
        }
        self.is_settled()
    }

    /// What happens at one computer, and in the cloud, in a minute.
    fn people(
        &mut self,
        number: usize,
        desk: &mut Desk,
        dice: &mut fastrand::Rng,
        day: &mut Day,
        minute: i64,
    ) {
        let working = (8 * 60..19 * 60).contains(&minute);
        // Computers are switched off in the evening, most of them, and on in the morning.
        if minute % 60 == 0 {
            let on = working || dice.u8(..4) == 0;
            if on && !desk.on {
                desk.now = desk
                    .when
                    .iter()
                    .any(|when| matches!(when, When::AtStart | When::OnChange));
                desk.heard = None;
            }
            desk.on = on;
        }
        let mut world = self.shared.world();
        for at in [At::Disk(number), At::Cloud] {
            let away = (at, number);
            if world.away.contains(&away) {
                if dice.u8(..20) == 0 {
                    world.away.remove(&away);
                }
            } else if dice.u16(..300) == 0 {
                world.away.insert(away);
                day.away += 1;
            }
        }
        if dice.u8(..60) == 0 {
            desk.around.metered = Some(dice.bool());
            desk.around.on_battery = Some(dice.u8(..3) == 0);
        }
        let there = !world.away.contains(&(At::Disk(number), number));
        if working && desk.on && there && dice.u8(..8) == 0 {
            // A burst now and then.
            for _ in 0..[1, 1, 2, 12][dice.usize(..4)] {
                let edit = some_edit(dice, None);
                apply(&mut world, At::Disk(number), &edit);
                day.edits += 1;
                // The system's word may be lost.
                if dice.u8(..40) > 0 {
                    desk.dirty = true;
                    if let Some(heard) = &mut desk.heard {
                        heard.extend(touched(&edit));
                    }
                }
            }
        }
        if dice.u8(..30) == 0 {
            let edit = some_edit(dice, None);
            apply(&mut world, At::Cloud, &edit);
            day.edits += 1;
        }
    }

    /// What the agent of one computer does in a minute.
    fn agent(
        &mut self,
        number: usize,
        desk: &mut Desk,
        dice: &mut fastrand::Rng,
        day: &mut Day,
        trouble: bool,
    ) -> Result<Option<String>, Error> {
        if !desk.on {
            return Ok(None);
        }
        let (now, nothing_away) = {
            let world = self.shared.world();
            let away = world.away.iter().any(|(_, computer)| *computer == number);
            (world.now, !away)
        };
        let on_change = desk.when.contains(&When::OnChange);
        let timed = schedule::next(&desk.when, &desk.last).is_some_and(|at| at <= wall(now));
        let walk = on_change && now - desk.walked >= 60 * MINUTE;
        let asks = on_change && now - desk.asked >= 5 * MINUTE;
        let due = match desk.retry {
            Some(retry) => now >= retry || (desk.missed && nothing_away) || desk.braked,
            None => desk.now || timed || walk || asks || (on_change && desk.dirty),
        };
        if !due {
            return Ok(None);
        }
        if condition::waits_for(&desk.only_on, &desk.around).is_some() {
            day.waited += 1;
            return Ok(None);
        }
        let by_ear = desk
            .heard
            .take()
            .filter(|_| desk.retry.is_none() && !walk && !timed && !desk.now);
        if by_ear.is_none() {
            desk.walked = now;
        }
        // Somebody looks at what the brake stopped, and says that it is wanted; not at once.
        let looked = desk.braked && dice.u8(..20) == 0;
        let plan = looked.then(|| self.plan(number).ok()).flatten();
        let release_brake = plan.map(|plan| plan.brake.planned.total());
        if desk.braked && release_brake.is_none() {
            return Ok(None);
        }
        let wish = Wish {
            heard: PerSide {
                near: by_ear,
                far: None,
            },
            release_brake,
            ..Wish::default()
        };
        desk.heard = on_change.then(BTreeSet::new);
        (desk.dirty, desk.now, desk.asked, desk.last) = (false, false, now, wall(now));
        let odds = if trouble { (3, 2, 3) } else { (0, 0, 0) };
        self.shared.world().mischief.begin(dice.u64(..), odds);
        let ended = self.sync(number, &wish)?;
        self.shared.world().mischief.begin(0, (0, 0, 0));
        day.passes += 1;
        let fine = match &ended {
            Ended::Came(result) => matches!(&**result, Ok(report) if report.counts.stuck == 0),
            Ended::Died => false,
        };
        let class = match &ended {
            Ended::Came(result) => result.as_ref().as_ref().err().map(|error| error.class),
            Ended::Died => None,
        };
        desk.missed = class == Some(Class::NotThere);
        desk.braked = class == Some(Class::Brake);
        day.braked += u64::from(desk.braked);
        if fine {
            (desk.failures, desk.retry) = (0, None);
        } else {
            day.failed += 1;
            desk.failures += 1;
            desk.heard = None;
            let pause = schedule::pause_after(desk.failures).as_nanos();
            desk.retry = Some(now + i64::try_from(pause).unwrap_or(MINUTE));
        }
        Ok(self.lost())
    }
}

/// What the system says about what somebody did.
fn touched(edit: &Edit) -> Vec<RelPath> {
    match edit {
        Edit::Write { path, .. }
        | Edit::Remove(path)
        | Edit::MakeFolder(path)
        | Edit::Disguise(path) => vec![path.clone()],
        Edit::Copy(_, to) => vec![to.clone()],
        Edit::Rename(from, to) => vec![from.clone(), to.clone()],
    }
}
