//! Whether a local copy is proven to be on the far side, byte for byte, and by what.

use katabatic_core::{Base, Digest, Entry, Kind, RelPath, Side};

use crate::Error;
use crate::ledger::rows;
use crate::pass::Pass;
use crate::pass::scan::digest;
use crate::sides::SideError;

/// A file that is not proven to be on the far side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unproven {
    /// The path.
    pub path: RelPath,
    /// Why, in a sentence's middle.
    pub why: String,
}

/// What proves the files of a folder.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Proofs {
    /// Files proven by a version tag that is the agreed one still, with the near version they prove.
    pub by_tag: Vec<(RelPath, Entry, Option<Digest>)>,
    /// Files that only reading back can prove, with both versions.
    pub to_read: Vec<(RelPath, Entry, Entry)>,
    /// Files that are not there, or not the same there.
    pub unproven: Vec<Unproven>,
}

impl Proofs {
    /// Bytes that have to be read back.
    #[must_use]
    pub fn bytes_to_read(&self) -> u64 {
        self.to_read
            .iter()
            .map(|(_, _, far)| far.size)
            .fold(0, u64::saturating_add)
    }
}

/// Puts one file where it belongs.
pub(super) async fn weigh(
    pass: &Pass,
    path: &RelPath,
    near: &Entry,
    far: Option<&Entry>,
    proofs: &mut Proofs,
) -> Result<(), Error> {
    if near.is_stub() {
        // Nothing of it is here that could be lost.
        proofs.by_tag.push((path.clone(), near.clone(), None));
        return Ok(());
    }
    let mut refuse = |why: &str| {
        proofs.unproven.push(Unproven {
            path: path.clone(),
            why: why.to_owned(),
        });
    };
    let Some(far) = far.filter(|far| far.kind == Kind::File) else {
        refuse("it is only here");
        return Ok(());
    };
    if far.size != near.size {
        refuse("the version there is another one");
        return Ok(());
    }
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, pass.lane.row.key, path))?;
    let (base, unproven) = row.map_or((None, true), |row| (row.base, row.unproven));
    let agreed = base.filter(|base| base.kind == Kind::File && base.away.is_none());
    match agreed {
        Some(base) if is_agreed_near(pass, path, near, &base).await => {
            let proves = base.far == far.stamp && pass.lane.far.tags_prove() && !unproven;
            if proves {
                proofs
                    .by_tag
                    .push((path.clone(), near.clone(), base.content));
            } else {
                proofs
                    .to_read
                    .push((path.clone(), near.clone(), far.clone()));
            }
        }
        Some(_) => refuse("it was changed here, and that is not carried yet"),
        // Never compared, and of the same length: reading tells.
        None => proofs
            .to_read
            .push((path.clone(), near.clone(), far.clone())),
    }
    Ok(())
}

async fn is_agreed_near(pass: &Pass, path: &RelPath, near: &Entry, base: &Base) -> bool {
    if base.near == near.stamp {
        return true;
    }
    let Some(content) = base.content else {
        return false;
    };
    digest(&*pass.store(Side::Near), path, near).await.ok() == Some(content)
}

/// Reads back what only reading proves; the answer holds what turned out to be another version.
pub(super) async fn read_back(pass: &Pass, proofs: &mut Proofs) -> Result<(), (Side, SideError)> {
    for (path, near, far) in std::mem::take(&mut proofs.to_read) {
        let here = digest(&*pass.store(Side::Near), &path, &near)
            .await
            .map_err(|error| (Side::Near, error))?;
        let there = digest(&*pass.store(Side::Far), &path, &far)
            .await
            .map_err(|error| (Side::Far, error))?;
        if here == there {
            proofs.by_tag.push((path, near, Some(here)));
        } else {
            proofs.unproven.push(Unproven {
                path,
                why: "the version there is another one".into(),
            });
        }
    }
    Ok(())
}
