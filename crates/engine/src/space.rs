//! How much each folder of a lane holds, as both sides agree.

use std::collections::BTreeMap;

use katabatic_core::{Kind, Tally};

use crate::Error;
use katabatic_ledger::{Ledger, rows};

/// Files and bytes of each folder at the top of a lane; what lies in none has no name. Nothing for a lane that never ran.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn by_folder(ledger: &Ledger, lane_id: &str) -> Result<BTreeMap<String, Tally>, Error> {
    ledger.read(|connection| {
        let mut folders: BTreeMap<String, Tally> = BTreeMap::new();
        let Some(lane) = rows::lane_of(connection, lane_id)? else {
            return Ok(folders);
        };
        rows::each_known(connection, lane.key, &[], |known| {
            if let Some(base) = known.base.filter(|base| base.kind == Kind::File) {
                let text = known.path.as_str();
                let top = text.split_once('/').map_or("", |(top, _)| top);
                let tally = folders.entry(top.to_owned()).or_default();
                tally.files += 1;
                tally.bytes = tally.bytes.saturating_add(base.size);
            }
            true
        })?;
        Ok(folders)
    })
}
