//! What opener and agent say to each other: one JSON object a packet, with descriptors beside it (docs/formats.md).

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, ReturnFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, recvmsg, sendmsg,
};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

/// As many descriptors go with one packet; the system takes 253.
pub(crate) const TOGETHER: usize = 100;

const LONGEST: usize = 8 * 1024;

/// What an agent says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Order {
    /// Ask before the files of these descriptors are opened.
    Mark,
    /// The content is here: let the program go on, and ask about the file no more.
    Allow {
        /// The number of the question.
        question: u64,
    },
    /// Do not let it open the file.
    Deny {
        /// The number of the question.
        question: u64,
        /// Whether it is told that it may not, instead of that the file cannot be read.
        forbidden: bool,
    },
    /// The stubs have no rights any more: the opener may end.
    Closed,
}

/// What the opener says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "said", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Said {
    /// What came of the marks, in the order of the descriptors: why not, where one could not be made.
    Marked {
        /// An answer each.
        failed: Vec<Option<NotMarked>>,
    },
    /// A program opens the file of the descriptor that comes along, and waits.
    Asks {
        /// The number of the question.
        question: u64,
        /// The program's process.
        process: i32,
    },
    /// The opener is about to end: the stubs are to lose their rights.
    Ending,
}

/// Why a file could not be marked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[serde(rename_all = "kebab-case")]
pub enum NotMarked {
    /// It is a folder, a pipe or the like.
    #[error("only files can be stubs")]
    NoFile,
    /// It belongs to somebody else.
    #[error("it is somebody else's file")]
    NotYours,
    /// Root has made it one that cannot be changed, or only at its end (chattr(1)).
    #[error("root lets nobody change it")]
    Guarded,
    /// The person has as many marks as one may have.
    #[error("{0} files of one person are marked, and there can be no more")]
    TooMany(usize),
    /// Nobody would answer for it.
    #[error("the opener is about to end")]
    Ending,
    /// The system does not do it.
    #[error("{}", io::Error::from_raw_os_error(*.0))]
    System(i32),
}

/// Sends one packet; what does not fit into the socket at once is not sent.
pub(crate) fn send_now(
    socket: BorrowedFd<'_>,
    what: &impl Serialize,
    with: &[BorrowedFd<'_>],
) -> io::Result<()> {
    send_with(socket, what, with, SendFlags::DONTWAIT)
}

/// Sends one packet, however long the other one takes to read.
pub(crate) fn send(
    socket: BorrowedFd<'_>,
    what: &impl Serialize,
    with: &[BorrowedFd<'_>],
) -> io::Result<()> {
    send_with(socket, what, with, SendFlags::empty())
}

fn send_with(
    socket: BorrowedFd<'_>,
    what: &impl Serialize,
    with: &[BorrowedFd<'_>],
    flags: SendFlags,
) -> io::Result<()> {
    let text = serde_json::to_vec(what)?;
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(TOGETHER))];
    let mut along = SendAncillaryBuffer::new(&mut space);
    if !with.is_empty() && !along.push(SendAncillaryMessage::ScmRights(with)) {
        return Err(io::Error::other("too many descriptors for one packet"));
    }
    let flags = flags | SendFlags::NOSIGNAL;
    loop {
        match sendmsg(socket, &[IoSlice::new(&text)], &mut along, flags) {
            Ok(_) => return Ok(()),
            Err(rustix::io::Errno::INTR) => {}
            Err(why) => return Err(why.into()),
        }
    }
}

/// Waits for one packet; none where the other one is gone.
///
/// # Errors
/// Where it is none of ours, or not all of it came: text and descriptors that do not fit, or for which this process has
/// no room, are cut off by the system.
pub(crate) fn receive<T: DeserializeOwned>(
    socket: impl AsFd,
) -> io::Result<Option<(T, Vec<OwnedFd>)>> {
    let mut text = [0u8; LONGEST];
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(TOGETHER))];
    let mut along = RecvAncillaryBuffer::new(&mut space);
    let got = loop {
        let mut into = [IoSliceMut::new(&mut text)];
        match recvmsg(
            socket.as_fd(),
            &mut into,
            &mut along,
            RecvFlags::CMSG_CLOEXEC,
        ) {
            Ok(got) => break got,
            Err(rustix::io::Errno::INTR) => {}
            Err(why) => return Err(why.into()),
        }
    };
    let mut with = Vec::new();
    for message in along.drain() {
        if let RecvAncillaryMessage::ScmRights(descriptors) = message {
            with.extend(descriptors);
        }
    }
    if got.bytes == 0 {
        return Ok(None);
    }
    if got
        .flags
        .intersects(ReturnFlags::TRUNC | ReturnFlags::CTRUNC)
    {
        return Err(io::Error::other("a packet came in part only"));
    }
    let said = serde_json::from_slice(&text[..got.bytes])?;
    Ok(Some((said, with)))
}
