//! The group outlives the process that holds it: the service manager keeps it (sd_notify(3), `FDSTORE=1`) and hands it to
//! the next one (sd_listen_fds(3)). While a process holds a group that nobody reads, whoever opens a marked file waits;
//! when the last one lets go of it, everybody is let through.

use std::io::{self, IoSlice};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::net::{
    AddressFamily, SendAncillaryBuffer, SendAncillaryMessage, SendFlags, SocketAddrUnix,
    SocketFlags, SocketType, sendmsg_addr, socket_with,
};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};

/// The name under which the group is kept.
const NAME: &str = "marks";

/// The first descriptor that a service manager hands to a service.
const FIRST: i32 = 3;

/// Whether somebody keeps the group when this process is killed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// The service manager does.
    ByServiceManager,
    /// Nobody does: where the process is killed, everybody is let through until the agents notice.
    ByNobody,
}

/// The group that an opener before this one left with the service manager, if it did.
pub(crate) fn handed_over() -> Option<OwnedFd> {
    let said = |name| std::env::var(name).ok();
    let is_for_us = said("LISTEN_PID")?.parse() == Ok(std::process::id());
    let count: i32 = said("LISTEN_FDS")?.parse().ok()?;
    let names = said("LISTEN_FDNAMES")?;
    let names = names.split(':').zip(FIRST..FIRST.checked_add(count)?);
    let mut ours = names.filter(|(name, _)| is_for_us && *name == NAME);
    let (_, number) = ours.next()?;
    let own = pidfd_open(getpid(), PidfdFlags::empty()).ok()?;
    // Copied by its number, which says nothing of who else believes to own that.
    pidfd_getfd(own, number, PidfdGetfdFlags::empty()).ok()
}

/// Gives the group to the service manager, if there is one, and says that the opener is ready.
pub(crate) fn hand_over(group: BorrowedFd<'_>) -> Kept {
    let Some(address) = std::env::var_os("NOTIFY_SOCKET") else {
        return Kept::ByNobody;
    };
    let told = say(
        &address,
        &format!("FDSTORE=1\nFDNAME={NAME}\nFDPOLL=0"),
        &[group],
    )
    .and_then(|()| say(&address, "READY=1", &[]));
    match told {
        Ok(()) => Kept::ByServiceManager,
        Err(why) => {
            tracing::warn!("the service manager does not listen: {why}");
            Kept::ByNobody
        }
    }
}

fn say(address: &std::ffi::OsStr, text: &str, with: &[BorrowedFd<'_>]) -> io::Result<()> {
    use std::os::unix::ffi::OsStrExt;
    let address = match address.as_bytes() {
        [b'@', name @ ..] => SocketAddrUnix::new_abstract_name(name)?,
        path => SocketAddrUnix::new(path)?,
    };
    let socket = socket_with(
        AddressFamily::UNIX,
        SocketType::DGRAM,
        SocketFlags::CLOEXEC,
        None,
    )?;
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut along = SendAncillaryBuffer::new(&mut space);
    if !with.is_empty() && !along.push(SendAncillaryMessage::ScmRights(with)) {
        return Err(io::Error::other("too many descriptors for one packet"));
    }
    let text = [IoSlice::new(text.as_bytes())];
    sendmsg_addr(
        socket.as_fd(),
        &address,
        &text,
        &mut along,
        SendFlags::NOSIGNAL,
    )?;
    Ok(())
}
