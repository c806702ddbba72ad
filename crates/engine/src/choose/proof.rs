//! Whether the far side has, byte for byte, each file whose local copy is to go.

use futures_util::{StreamExt, stream};
use katabatic_core::{Base, Entry, Kind, RelPath, Side};

use crate::Error;
use crate::pass::Pass;
use crate::pass::primitive::Trouble;
use crate::proof::{self, Claim, Outlook};
use crate::session::LockedLane;
use katabatic_ledger::rows;
use katabatic_sides::digest::digest;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::proof::Proof;

/// A file that is not proven to be on the far side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unproven {
    /// The path.
    pub path: RelPath,
    /// Why, in a sentence's middle.
    pub why: String,
}

/// What is known of the files of a folder, and what it takes to prove the rest.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Proofs {
    /// Files that go, with both versions; of a stub, the one here alone.
    going: Vec<Going>,
    /// What it takes to prove them.
    pub outlook: Outlook,
    /// Files that are not there, or not the same there.
    pub unproven: Vec<Unproven>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Going {
    path: RelPath,
    near: Entry,
    far: Option<Entry>,
}

/// A copy that may go.
pub(super) struct Proven {
    pub(super) path: RelPath,
    pub(super) near: Entry,
    /// None of a stub: nothing of it is here that could be lost.
    pub(super) proof: Option<Proof>,
}

impl Proofs {
    fn refuse(&mut self, path: &RelPath, why: &str) {
        self.unproven.push(Unproven {
            path: path.clone(),
            why: why.to_owned(),
        });
    }

    fn goes(&mut self, path: &RelPath, near: &Entry, far: Option<&Entry>) {
        self.going.push(Going {
            path: path.clone(),
            near: near.clone(),
            far: far.cloned(),
        });
    }
}

/// Puts one file where it belongs; nothing is proven by it yet.
pub(super) async fn weigh(
    pass: &Pass,
    path: &RelPath,
    near: &Entry,
    far: Option<&Entry>,
    proofs: &mut Proofs,
) -> Result<(), Error> {
    if near.is_stub() {
        proofs.goes(path, near, None);
        return Ok(());
    }
    let Some(far) = far.filter(|far| far.kind == Kind::File) else {
        proofs.refuse(path, "it is only here");
        return Ok(());
    };
    if far.size != near.size {
        proofs.refuse(path, "the version there is another one");
        return Ok(());
    }
    let row = pass
        .ledger
        .read(|connection| rows::row(connection, pass.lane.row.key, path))?;
    let agreed = row
        .and_then(|row| row.base)
        .filter(|base| base.kind == Kind::File && base.away.is_none());
    if let Some(base) = &agreed
        && !is_agreed_near(pass, path, near, base).await
    {
        proofs.refuse(path, "it was changed here, and that is not carried yet");
        return Ok(());
    }
    let claim = Claim {
        path,
        near,
        at: path,
        far,
    };
    proofs.outlook.add(proof::cost(pass, &claim)?);
    proofs.goes(path, near, Some(far));
    Ok(())
}

async fn is_agreed_near(pass: &Pass, path: &RelPath, near: &Entry, base: &Base) -> bool {
    if base.stamps.near == near.stamp {
        return true;
    }
    let Some(content) = base.content else {
        return false;
    };
    digest(&*pass.store(Side::Near), path, near).await.ok() == Some(content)
}

/// Proves everything that is to go; what turns out not to be there is told of instead.
pub(super) async fn prove(pass: &LockedLane, proofs: &mut Proofs) -> Result<Vec<Proven>, Error> {
    let going = std::mem::take(&mut proofs.going);
    let files = going.iter().filter(|one| one.far.is_some());
    let told = &proof::told(pass, files.map(|one| &one.path)).await;
    let tried: Vec<_> = stream::iter(going)
        .map(async |going| {
            let Going { path, near, far } = going;
            let proof = match &far {
                None => Ok(None),
                Some(far) => {
                    let claim = Claim {
                        path: &path,
                        near: &near,
                        at: &path,
                        far,
                    };
                    proof::prove(pass, &claim, told).await.map(Some)
                }
            };
            (path, near, proof)
        })
        .buffered(IN_FLIGHT)
        .collect()
        .await;
    let mut proven = Vec::with_capacity(tried.len());
    for (path, near, proof) in tried {
        match proof {
            Ok(proof) => proven.push(Proven { path, near, proof }),
            Err(Trouble::Met(why)) => proofs.unproven.push(Unproven { path, why }),
            Err(Trouble::Side(side, error) | Trouble::Unsure(side, error)) => {
                return Err(pass.side_failed(side, &error));
            }
            Err(Trouble::Ledger(error)) => return Err(error),
        }
    }
    Ok(proven)
}
