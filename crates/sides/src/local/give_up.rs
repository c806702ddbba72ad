//! Destroying a copy on the spares' shelf: only what the warrant is about, and only once nobody can write into it any more.
//!
//! Whoever had the file open when it was captured can still write into it, whatever was read of it. The kernel tells, by a
//! write lease, that nobody has: no process of any user. What is leased is read once more, compared, and deleted while the
//! lease is held.

use std::fs::{self, File, OpenOptions};
use std::os::fd::AsFd;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::Path;

use katabatic_core::{Digest, Entry, Kind, Stamp};
use katabatic_lease::{Asked, Lease, write_lease};
use rustix::fs::OFlags;

use super::room::SPARES;
use super::{Inner, carry, fingerprint, side_error, stub, system};
use crate::proof::{OldVersion, Proof, Warrant};
use crate::{GivenUp, SideError, WhyKept};

pub(super) fn give_up(inner: &Inner, spare: &str, warrant: &Warrant) -> Result<GivenUp, SideError> {
    let Some(seen) = inner.room.entry(SPARES, spare)? else {
        return Ok(GivenUp::Gone);
    };
    match warrant {
        Warrant::Proven(proof) if is_file(&seen) => {
            remove_leased(inner, spare, |file, _| holds(file, proof.content()))
        }
        Warrant::Proven(_) => Ok(GivenUp::Kept(WhyKept::OtherContent)),
        Warrant::Empty(_) if seen.is_stub() => remove(inner, spare),
        Warrant::Empty(_) if seen.kind == Kind::Folder => inner.room.drop_empty_folder(spare),
        Warrant::Empty(_) => Ok(GivenUp::Kept(WhyKept::OtherContent)),
        Warrant::GivenUp(old) => old_version(inner, spare, &seen, old),
    }
}

fn is_file(seen: &Entry) -> bool {
    seen.kind == Kind::File && !seen.is_stub()
}

fn old_version(
    inner: &Inner,
    spare: &str,
    seen: &Entry,
    old: &OldVersion,
) -> Result<GivenUp, SideError> {
    if seen.kind == Kind::Folder && old.is_folder() {
        inner.room.drop_folder(spare)?;
        return Ok(GivenUp::Gone);
    }
    if seen.kind == Kind::Folder || old.is_folder() {
        return Ok(GivenUp::Kept(WhyKept::OtherContent));
    }
    if seen.is_stub() {
        return remove(inner, spare);
    }
    let is_it = |file: &File, stamp: &_| match (old.content(), old.stamp()) {
        (Some(content), _) => holds(file, content),
        // What it held was never known: that it is as it was when it was taken out has to do.
        (None, Some(known)) => Ok(fingerprint::same_but_for_ctime(known, stamp)),
        (None, None) => Ok(true),
    };
    match remove_leased(inner, spare, is_it)? {
        // A person gave it up knowing that the disk tells nothing of who has it open.
        GivenUp::Kept(WhyKept::CannotTell(_)) => {
            let file = inner
                .room
                .open(SPARES, spare)
                .map_err(|why| side_error(&why))?;
            let stat = system::stat_of(file.as_fd()).map_err(|why| side_error(&why))?;
            match is_it(&file, &fingerprint::stamp(&stat))? {
                true => remove(inner, spare),
                false => Ok(GivenUp::Kept(WhyKept::OtherContent)),
            }
        }
        given_up => Ok(given_up),
    }
}

/// Removes a file on the shelf that nobody has open, where it is the one that is meant.
fn remove_leased(
    inner: &Inner,
    spare: &str,
    is_it: impl Fn(&File, &Stamp) -> Result<bool, SideError>,
) -> Result<GivenUp, SideError> {
    let file = inner
        .room
        .open(SPARES, spare)
        .map_err(|why| side_error(&why))?;
    match leased(file, is_it)? {
        Ok(_lease) => remove(inner, spare),
        Err(why) => Ok(GivenUp::Kept(why)),
    }
}

/// Nobody has the file open, and nobody opens it while the lease is kept, and it is the one that is meant.
fn leased(
    file: File,
    is_it: impl Fn(&File, &Stamp) -> Result<bool, SideError>,
) -> Result<Result<Lease, WhyKept>, SideError> {
    stub::refuse(&file)?;
    let lease = match write_lease(file) {
        Asked::Granted(lease) => lease,
        Asked::OpenElsewhere => return Ok(Err(WhyKept::Open)),
        Asked::Unavailable(why) => return Ok(Err(WhyKept::CannotTell(why.to_string()))),
    };
    let stat = system::stat_of(lease.file().as_fd()).map_err(|why| side_error(&why))?;
    Ok(match is_it(lease.file(), &fingerprint::stamp(&stat))? {
        true => Ok(lease),
        false => Err(WhyKept::OtherContent),
    })
}

/// Removes a file that lies at its own name, of which a copy is elsewhere: while it is leased, it is read, taken to a
/// name that nobody knows, and looked at once more. Where somebody had put another one in its place, that one goes back.
///
/// # Errors
/// As the system says; then it is there still.
pub fn give_up_file(
    at: &Path,
    aside: &Path,
    proof: Proof,
    give_back: impl FnOnce() -> std::io::Result<()>,
) -> Result<GivenUp, SideError> {
    let flags = OFlags::NOFOLLOW.bits().cast_signed();
    let file = OpenOptions::new()
        .read(true)
        .custom_flags(flags)
        .open(at)
        .map_err(|why| side_error(&why))?;
    let content = proof.content();
    let lease = match leased(file, |file, _| holds(file, content))? {
        Ok(lease) => lease,
        Err(why) => return Ok(GivenUp::Kept(why)),
    };
    let identity = |meta: &fs::Metadata| (meta.dev(), meta.ino());
    let take = || {
        let meant = identity(&lease.file().metadata()?);
        fs::rename(at, aside)?;
        if identity(&aside.symlink_metadata()?) == meant {
            fs::remove_file(aside)?;
            return Ok(GivenUp::Gone);
        }
        give_back()?;
        Ok(GivenUp::Kept(WhyKept::OtherContent))
    };
    take().map_err(|why: std::io::Error| side_error(&why))
}

fn holds(file: &File, content: Digest) -> Result<bool, SideError> {
    let file = file.try_clone().map_err(|why| side_error(&why))?;
    Ok(carry::hash(file).map_err(|why| side_error(&why))? == content)
}

fn remove(inner: &Inner, spare: &str) -> Result<GivenUp, SideError> {
    inner.room.remove(SPARES, spare)?;
    Ok(GivenUp::Gone)
}
