//! Both roots are there, and are the ones that were tied: looked at before anything that a side shows is believed.

use katabatic_core::Side;

use super::Pass;
use crate::open::check_root;
use crate::session::LockedLane;
use crate::{Class, Error};
use katabatic_core::known_root::Recognised;
use katabatic_core::place::Place;
use katabatic_ledger::{account_rows, rows};
use katabatic_sides::SideError;
use katabatic_sides::side_error::Away;

/// How often a look is tried again that a whole pass depends on.
const LOOKS: u32 = 8;

/// Why an account was not reached; one that says that a folder is not there was.
fn not_reached(error: &SideError) -> Option<String> {
    match error {
        SideError::NotThere(said) if said.kind == Away::NoFolder => None,
        other => Some(other.to_string()),
    }
}

impl Pass {
    /// Makes sure that both roots are there, and are the ones that were tied.
    pub(crate) async fn check_roots(&self) -> Result<(), Error> {
        self.check_near_root().await?;
        match self.lane.far.root().await {
            Ok(found) => {
                if let Some(known) = &self.lane.row.far_root {
                    check_root(&self.lane.config, Side::Far, known, &found)?;
                }
                self.note_reached(Side::Far, None);
            }
            Err(SideError::Stopped) => {
                return Err(self.side_failed(Side::Far, &SideError::Stopped));
            }
            Err(error) if error.ends_the_pass() => {
                self.note_reached(Side::Far, not_reached(&error));
                return Err(self.side_failed(Side::Far, &error));
            }
            // It could not be told: the scan finds the root unknown and holds everything.
            Err(error) => tracing::debug!("the far root could not be looked at: {error}"),
        }
        if self.lane.row.far_marked {
            self.check_mark(Side::Far).await
        } else {
            Ok(())
        }
    }

    /// Another software answers than the one that was probed: what was found out counts no more.
    fn forget_findings(&self, side: Side) {
        let Some(account) = self.lane.config.account(side).map(str::to_owned) else {
            return;
        };
        let now = self.clock.now();
        self.ledger.write_later(move |connection| {
            account_rows::set_findings(connection, &account, now, None)
        });
    }

    /// Remembers when the account was reached last, or why it was not.
    fn note_reached(&self, side: Side, error: Option<String>) {
        let Some(account) = self.lane.config.account(side).map(str::to_owned) else {
            return;
        };
        if error.is_none() && self.store(side).software_changed() {
            self.forget_findings(side);
        }
        let now = self.clock.now();
        self.ledger.write_later(move |connection| match error {
            None => account_rows::reached(connection, &account, now, None),
            Some(why) => account_rows::failed(connection, &account, now, &why),
        });
    }

    /// An account's folder without the tool's own folder in it is another folder of the same name: one that was made
    /// anew, or the one of another account that answers at the address now.
    async fn check_mark(&self, side: Side) -> Result<(), Error> {
        let mut tries = 0;
        loop {
            match self.store(side).is_marked().await {
                Ok(true) => return Ok(()),
                Ok(false) => break,
                Err(error) if error.ends_the_pass() => {
                    return Err(self.side_failed(side, &error));
                }
                Err(_) if tries < LOOKS => tries += 1,
                Err(error) => return Err(self.side_failed(side, &error)),
            }
        }
        Err(Error::new(
            Class::NotThere,
            self.lane.config.side_words(side),
            "another folder is there than the one that was tied: the tool's own folder (.katabatic) is not in it",
            "Is it the right account? If that folder was only tidied away, or the whole folder really replaced, remove the lane and add it again: the first pass compares and removes nothing.",
        ))
    }

    /// Makes sure that the near root is there, and is the folder that was tied.
    pub(crate) async fn check_near_root(&self) -> Result<(), Error> {
        let root = self.lane.near.root().await.map_err(|error| {
            self.note_reached(Side::Near, not_reached(&error));
            self.side_failed(Side::Near, &error)
        })?;
        self.note_reached(Side::Near, None);
        let place = &self.lane.config.near;
        match (self.lane.row.near_root_at(place), place) {
            (None, _) => Ok(()),
            (Some(known), Place::Local(_)) => {
                check_root(&self.lane.config, Side::Near, known, &root)
            }
            (Some(_), Place::Far { .. }) => self.check_mark(Side::Near).await,
        }
    }
}

impl LockedLane {
    /// A root that is known from when its mark alone was noted is known by all that it is known by now; so is one whose
    /// move to another disk was killed right behind the switch.
    async fn note_roots_whole(&self) -> Result<(), Error> {
        let row = &self.lane.row;
        let near = row.near_root_at(&self.lane.config.near);
        let moved = near != row.near_root.as_ref();
        for (side, known) in [(Side::Near, near), (Side::Far, row.far_root.as_ref())] {
            let (Some(known), Place::Local(_)) = (known, self.lane.config.place(side)) else {
                continue;
            };
            let found = self.store(side).root().await;
            let found = found.map_err(|error| self.side_failed(side, &error))?;
            let key = row.key;
            let news = found != *known || (side == Side::Near && moved);
            if news && known.recognises(&found) == Recognised::Itself {
                self.ledger
                    .write(move |connection| match side {
                        Side::Near => rows::set_near_root(connection, key, &found),
                        Side::Far => rows::set_far_marked(connection, key, Some(&found)),
                    })
                    .await?;
            }
        }
        Ok(())
    }

    /// Gives both roots their marks and remembers how they are recognised, at the first pass.
    pub(crate) async fn remember_roots(&self) -> Result<(), Error> {
        let lane = self.lane.row.key;
        self.note_roots_whole().await?;
        if self.lane.row.near_root.is_none() {
            let marked = match self.lane.near.mark_root().await {
                Ok(()) => self.lane.near.root().await,
                Err(error) => Err(error),
            };
            match (marked, &self.lane.config.near) {
                (Ok(root), _) => {
                    self.ledger
                        .write(move |connection| rows::set_near_root(connection, lane, &root))
                        .await?;
                }
                (Err(error), Place::Local(_)) => return Err(self.side_failed(Side::Near, &error)),
                // As of a far root: the next pass tries again.
                (Err(error), Place::Far { .. }) => {
                    tracing::debug!("the near root keeps no mark yet: {error}");
                }
            }
        }
        if !self.lane.row.far_marked {
            match self.lane.far.mark_root().await {
                Ok(()) => {
                    let root = match self.lane.config.far {
                        Place::Local(_) => self.lane.far.root().await.ok(),
                        Place::Far { .. } => None,
                    };
                    self.ledger
                        .write(move |connection| {
                            rows::set_far_marked(connection, lane, root.as_ref())
                        })
                        .await?
                }
                // The next pass tries again; until then the far root is recognised by its address alone.
                Err(error) => tracing::debug!("the far root keeps no mark yet: {error}"),
            }
        }
        Ok(())
    }
}
