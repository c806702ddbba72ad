//! A lane may be content with version tags as evidence of what the far side holds, where these say anything.

use katabatic_core::Side;

use crate::config::{LaneConfig, ProofBy};
use crate::{Class, Error};
use katabatic_ledger::{Ledger, account_rows};

/// Makes sure that what a lane is content with is evidence at all on its account's server.
///
/// # Errors
/// Where tags are shared by files or made of times there, or that is not known; and where the far side is no account.
pub fn check_proof(ledger: &Ledger, lane: &LaneConfig) -> Result<(), Error> {
    if lane.proof == ProofBy::Content {
        return Ok(());
    }
    let account = lane.account(Side::Far);
    let findings = match account {
        Some(account) => ledger.read(|connection| account_rows::findings(connection, account))?,
        None => None,
    };
    let why = match (account, findings.map(|(_, findings)| findings)) {
        (_, Some(findings)) if findings.tags_are_evidence() => return Ok(()),
        (None, _) => "its far side is no account, and files on a disk have no version tags",
        (_, None) => "what version tags are worth on its server was not found out yet",
        (_, Some(findings)) if findings.tags_prove_little() => {
            "its server gives no version tags, or such that hide changes"
        }
        (_, Some(findings)) if findings.tags_shared => {
            "on its server, files that came together have the same version tag"
        }
        (_, Some(_)) => {
            "its server makes version tags of times, which another version can have as well"
        }
    };
    let next = match account {
        Some(account) => format!(
            "What was found out: katabatic account test {account}. Without --proof tags, the server's digest or reading back proves it."
        ),
        None => "Leave --proof out: what is there is read.".to_owned(),
    };
    Err(Error::new(
        Class::Usage,
        format!("--proof tags for the lane {}", lane.name),
        why,
        next,
    ))
}
