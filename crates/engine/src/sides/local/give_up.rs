//! Destroying a copy on the spares' shelf: only what the warrant is about, and only once nobody can write into it any more.
//!
//! Whoever had the file open when it was captured can still write into it, whatever was read of it. The kernel tells, by a
//! write lease, that nobody has: no process of any user. What is leased is read once more, compared, and deleted while the
//! lease is held.

use std::fs::File;
use std::os::fd::AsFd;

use katabatic_core::{Digest, Entry, Kind};
use katabatic_lease::{Asked, write_lease};

use super::room::SPARES;
use super::{Inner, carry, fingerprint, side_error, stub, system};
use crate::proof::{OldVersion, Warrant};
use crate::sides::{GivenUp, SideError, WhyKept};

pub(super) fn give_up(inner: &Inner, spare: &str, warrant: &Warrant) -> Result<GivenUp, SideError> {
    let Some(seen) = inner.room.entry(SPARES, spare)? else {
        return Ok(GivenUp::Gone);
    };
    match warrant {
        Warrant::Proven(proof) if is_file(&seen) => {
            leased(inner, spare, |file, _| holds(file, proof.content()))
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
    match leased(inner, spare, is_it)? {
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

/// Removes a file that nobody has open, where it is the one that is meant.
fn leased(
    inner: &Inner,
    spare: &str,
    is_it: impl Fn(&File, &katabatic_core::Stamp) -> Result<bool, SideError>,
) -> Result<GivenUp, SideError> {
    let file = inner
        .room
        .open(SPARES, spare)
        .map_err(|why| side_error(&why))?;
    stub::refuse(&file)?;
    let lease = match write_lease(file) {
        Asked::Granted(lease) => lease,
        Asked::OpenElsewhere => return Ok(GivenUp::Kept(WhyKept::Open)),
        Asked::Unavailable(why) => {
            return Ok(GivenUp::Kept(WhyKept::CannotTell(why.to_string())));
        }
    };
    let stat = system::stat_of(lease.file().as_fd()).map_err(|why| side_error(&why))?;
    match is_it(lease.file(), &fingerprint::stamp(&stat))? {
        true => remove(inner, spare),
        false => Ok(GivenUp::Kept(WhyKept::OtherContent)),
    }
}

fn holds(file: &File, content: Digest) -> Result<bool, SideError> {
    let file = file.try_clone().map_err(|why| side_error(&why))?;
    Ok(carry::hash(file).map_err(|why| side_error(&why))? == content)
}

fn remove(inner: &Inner, spare: &str) -> Result<GivenUp, SideError> {
    inner.room.remove(SPARES, spare)?;
    Ok(GivenUp::Gone)
}
