//! What takes the room of an account: its folders, and what the tool itself keeps there, of this computer and of others.
//!
//! An account that is full takes nothing more, and whoever frees room there by removing files finds them in the spares,
//! which lie in the same account. So both are weighed, and what each step would free is told.

use std::collections::BTreeMap;

use katabatic_core::place::Place;
use katabatic_core::{EditTime, RelPath, Side};
use katabatic_ledger::Ledger;
use katabatic_ledger::spare_rows;
use katabatic_sides::stop::Stop;
use katabatic_sides::{DOTLESS_OWN_FOLDER, OWN_FOLDER};

use crate::config::{Config, LaneConfig};
use crate::open::account_client;
use crate::places::{Sizes, sizes};
use crate::{Class, Error, Home};

const DAY: i64 = 86_400 * 1_000_000_000;

/// So old are the spares that pruning gives up by itself.
const USUAL_AGE: i64 = 30 * DAY;

/// What takes the room of an account.
#[derive(Clone, Debug, Default)]
pub struct RoomThere {
    /// Bytes used, where the server says so.
    pub used: Option<u64>,
    /// Bytes free, where the server says so.
    pub free: Option<u64>,
    /// What lies at its top, but for what the tool keeps.
    pub folders: Sizes,
    /// What the tool keeps, by computer and lane.
    pub kept: Vec<KeptThere>,
    /// What could not be counted, and why.
    pub unknown: Vec<String>,
}

/// What the tool keeps in one folder of an account, for one computer.
#[derive(Clone, Debug)]
pub struct KeptThere {
    /// The folder, as people write it.
    pub place: String,
    /// The lane here whose far side that is.
    pub lane: String,
    /// The computer.
    pub computer: String,
    /// Whether that is this one.
    pub ours: bool,
    /// Files, and their bytes.
    pub files: u64,
    /// The same.
    pub bytes: u64,
    /// Of these, spares of ours that pruning would give up by itself, since they are old.
    pub old: u64,
}

impl RoomThere {
    /// Bytes that are used and that nothing here accounts for: what the server keeps in a bin or in older versions, what
    /// other people keep there, or what was not counted.
    #[must_use]
    pub fn unseen(&self) -> Option<u64> {
        let kept: u64 = self.kept.iter().map(|kept| kept.bytes).sum();
        let seen = self.folders.bytes.saturating_add(kept);
        self.used.map(|used| used.saturating_sub(seen))
    }
}

/// Weighs what lies in an account.
///
/// # Errors
/// Where the account cannot be reached, or the ledger cannot be read. A folder that cannot be listed is named in the
/// answer instead.
pub async fn look(
    home: &Home,
    config: &Config,
    ledger: &Ledger,
    account: &str,
    now: EditTime,
    stop: &Stop,
) -> Result<RoomThere, Error> {
    let client = account_client(home, config.account(account)?, stop)?;
    let surveyed = client.survey(false).await.map_err(|error| {
        Error::failed(
            format!("asking @{account} what is free"),
            error,
            format!("See what is wrong: katabatic account test {account}"),
        )
    })?;
    let at = |path: RelPath| Place::Far {
        account: account.to_owned(),
        path,
    };
    let mut folders = sizes(home, config, &at(RelPath::root()), stop).await?;
    let mut there = RoomThere {
        used: surveyed.used,
        free: surveyed.free,
        unknown: std::mem::take(&mut folders.unknown),
        folders,
        kept: Vec::new(),
    };
    let own = home.computer()?;
    let old = old_spares(ledger, now)?;
    for (lane, root) in roots(config, account) {
        for name in [OWN_FOLDER, DOTLESS_OWN_FOLDER] {
            let Ok(room) = root.join(name) else {
                continue;
            };
            let place = at(room);
            match sizes(home, config, &place, stop).await {
                Ok(sizes) => {
                    there.unknown.extend(sizes.unknown);
                    for (computer, inside) in sizes.folders {
                        let ours = computer == own;
                        there.kept.push(KeptThere {
                            place: place.to_string(),
                            lane: lane.name.clone(),
                            ours,
                            files: inside.files,
                            bytes: inside.bytes,
                            old: match ours {
                                true => old.get(&lane.name).copied().unwrap_or(0),
                                false => 0,
                            },
                            computer,
                        });
                    }
                }
                // Nothing is kept there.
                Err(error) if error.class == Class::NotThere => {}
                Err(error) => there.unknown.push(format!("{place}: {}", error.why)),
            }
        }
    }
    Ok(there)
}

/// The lanes with a side in an account, and where; of several at the same place, the first.
fn roots<'c>(config: &'c Config, account: &str) -> Vec<(&'c LaneConfig, RelPath)> {
    let mut roots: Vec<(&LaneConfig, RelPath)> = Vec::new();
    for lane in &config.lanes {
        for side in [Side::Near, Side::Far] {
            if let Place::Far {
                account: of,
                path: root,
            } = lane.place(side)
                && of == account
                && roots.iter().all(|(_, known)| known != root)
            {
                roots.push((lane, root.clone()));
            }
        }
    }
    roots
}

/// Bytes of the far spares that are old, by lane.
fn old_spares(ledger: &Ledger, now: EditTime) -> Result<BTreeMap<String, u64>, Error> {
    let spares = ledger.read(|connection| spare_rows::all(connection, None))?;
    let mut old: BTreeMap<String, u64> = BTreeMap::new();
    for spare in spares {
        if spare.side == Side::Far && now.0.saturating_sub(spare.taken_at.0) >= USUAL_AGE {
            *old.entry(spare.lane_name).or_default() += spare.size;
        }
    }
    Ok(old)
}
