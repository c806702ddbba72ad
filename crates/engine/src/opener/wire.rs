//! What opener and agent say to each other: one JSON object a packet, with descriptors beside it (docs/formats.md).

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, recvmsg, sendmsg,
};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

/// As many descriptors go with one packet; the system takes 253.
pub(super) const TOGETHER: usize = 100;

const LONGEST: usize = 8 * 1024;

/// What an agent says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
pub(super) enum Order {
    /// Ask before the files of these descriptors are opened.
    Mark,
    /// Let the program go on.
    Allow {
        /// The number of the question.
        question: u64,
        /// Whether the file is none to ask about any more.
        filled: bool,
    },
    /// Do not let it open the file.
    Deny {
        /// The number of the question.
        question: u64,
        /// Whether it is told that it may not, instead of that the file cannot be read.
        forbidden: bool,
    },
    /// The content still comes: whoever waits goes on waiting.
    Coming {
        /// The number of the question.
        question: u64,
    },
    /// The stubs have no rights any more: the opener may end.
    Closed,
}

/// What the opener says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "said", rename_all = "kebab-case", deny_unknown_fields)]
pub(super) enum Said {
    /// What came of the marks, in the order of the descriptors: why not, where one could not be made.
    Marked {
        /// An answer each.
        failed: Vec<Option<String>>,
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

/// Sends one packet.
pub(super) fn send(
    socket: BorrowedFd<'_>,
    what: &impl Serialize,
    with: &[BorrowedFd<'_>],
) -> io::Result<()> {
    let text = serde_json::to_vec(what)?;
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(TOGETHER))];
    let mut along = SendAncillaryBuffer::new(&mut space);
    if !with.is_empty() && !along.push(SendAncillaryMessage::ScmRights(with)) {
        return Err(io::Error::other("too many descriptors for one packet"));
    }
    loop {
        match sendmsg(
            socket,
            &[IoSlice::new(&text)],
            &mut along,
            SendFlags::NOSIGNAL,
        ) {
            Ok(_) => return Ok(()),
            Err(rustix::io::Errno::INTR) => {}
            Err(why) => return Err(why.into()),
        }
    }
}

/// Waits for one packet; none where the other one is gone.
pub(super) fn receive<T: DeserializeOwned>(
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
    if got.bytes == 0 {
        return Ok(None);
    }
    let mut with = Vec::new();
    for message in along.drain() {
        if let RecvAncillaryMessage::ScmRights(descriptors) = message {
            with.extend(descriptors);
        }
    }
    let said = serde_json::from_slice(&text[..got.bytes])?;
    Ok(Some((said, with)))
}
