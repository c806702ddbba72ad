//! Write leases of fcntl(2): the kernel's word that nobody else has a file open, or mapped.
//!
//! What stands in `/proc` of other people's processes cannot be read, so no list tells who could still write into a file
//! that is about to be deleted. The kernel knows: it grants a write lease only while no other open description of the
//! file exists, in any process of any user on this computer, mappings among them.
//!
//! This is a crate of its own because the call is in none of the safe interfaces to the system.
#![deny(unsafe_op_in_unsafe_fn)]

use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, RawFd};

/// By which signal who holds a lease is told that somebody waits (fcntl(2)); in no crate yet.
const F_SETSIG: libc::c_int = 10;

/// What became of asking for a lease.
#[derive(Debug)]
pub enum Asked {
    /// Nobody else has the file open; nobody opens it either, for as long as this is kept.
    Granted(Lease),
    /// Somebody has it open, or mapped.
    OpenElsewhere,
    /// This file system gives none, or not of this file: who has it open cannot be told.
    Unavailable(io::Error),
}

/// Nobody else has the file open. Whoever opens it meanwhile waits until this is dropped.
#[derive(Debug)]
pub struct Lease(File);

impl Lease {
    /// The file, to be read.
    #[must_use]
    pub fn file(&self) -> &File {
        &self.0
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        // Closing the descriptor gives the lease back as well; done first, nobody waits for the closing.
        let _ = set(self.0.as_raw_fd(), libc::F_SETLEASE, libc::F_UNLCK);
    }
}

fn set(descriptor: RawFd, command: libc::c_int, argument: libc::c_int) -> io::Result<()> {
    // SAFETY: both commands take an integer and touch no memory of ours; a wrong descriptor is an error of the call.
    match unsafe { libc::fcntl(descriptor, command, argument) } {
        -1 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// Asks for a write lease on a file that was opened for reading.
#[must_use]
pub fn write_lease(file: File) -> Asked {
    // Who waits for the lease is told by a signal, SIGIO, which would end this process. This one is ignored by itself.
    let asked = set(file.as_raw_fd(), F_SETSIG, libc::SIGURG)
        .and_then(|()| set(file.as_raw_fd(), libc::F_SETLEASE, libc::F_WRLCK));
    match asked {
        Ok(()) => Asked::Granted(Lease(file)),
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => Asked::OpenElsewhere,
        Err(error) => Asked::Unavailable(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::{Duration, Instant};

    #[test]
    fn a_lease_is_granted_only_while_nobody_else_has_the_file_open() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a");
        std::fs::write(&path, "content").unwrap();
        let open = || File::open(&path).unwrap();
        let other = File::options().append(true).open(&path).unwrap();
        assert!(matches!(write_lease(open()), Asked::OpenElsewhere));
        drop(other);
        let reader = open();
        assert!(matches!(write_lease(open()), Asked::OpenElsewhere));
        drop(reader);
        assert!(matches!(write_lease(open()), Asked::Granted(_)));
        assert!(
            matches!(write_lease(open()), Asked::Granted(_)),
            "given back"
        );
    }

    #[test]
    fn whoever_opens_the_file_meanwhile_waits_and_ends_nobody() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a");
        std::fs::write(&path, "content").unwrap();
        let Asked::Granted(lease) = write_lease(File::open(&path).unwrap()) else {
            panic!("it is granted");
        };
        let began = Instant::now();
        let opening =
            std::thread::spawn(move || File::options().append(true).open(&path).map(drop));
        while !opening.is_finished() && began.elapsed() < Duration::from_millis(100) {
            std::thread::yield_now();
        }
        assert!(!opening.is_finished(), "it waits for the lease");
        drop(lease);
        opening.join().unwrap().unwrap();
    }
}
