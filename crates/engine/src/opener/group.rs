//! The questions of the system: a fanotify group for what is asked before content is used, with a mark on each stub's
//! inode.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};

use nix::fcntl::AT_FDCWD;
use nix::sys::fanotify::{
    EventFFlags, Fanotify, FanotifyEvent, FanotifyResponse, InitFlags, MarkFlags, MaskFlags,
    Response,
};
use rustix::fs::{FileType, Stat, fstat};

/// Asked before content is read or mapped (Linux 6.14); the library does not know it yet.
const FAN_PRE_ACCESS: u64 = 0x0010_0000;

/// An inode, by device and number.
pub(super) type Inode = (u64, u64);

/// A question that is not answered yet.
pub(super) struct Question {
    event: FanotifyEvent,
    /// The file that is asked about.
    pub(super) inode: Inode,
    /// The process that waits.
    pub(super) process: i32,
}

impl Question {
    /// The file, open for reading and writing without any question.
    pub(super) fn file(&self) -> Option<BorrowedFd<'_>> {
        self.event.fd()
    }
}

/// How a question is answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Answer {
    Allow,
    /// As if the disk could not be read.
    Unreadable,
    /// As if the program had no right to it.
    Forbidden,
}

pub(super) struct Group(Fanotify);

fn mask() -> MaskFlags {
    MaskFlags::FAN_OPEN_PERM | MaskFlags::from_bits_retain(FAN_PRE_ACCESS)
}

pub(super) fn inode_of(stat: &Stat) -> Inode {
    (stat.st_dev, stat.st_ino)
}

impl Group {
    pub(super) fn new() -> io::Result<Group> {
        let flags = InitFlags::FAN_CLASS_PRE_CONTENT
            | InitFlags::FAN_CLOEXEC
            | InitFlags::FAN_UNLIMITED_QUEUE
            | InitFlags::FAN_UNLIMITED_MARKS;
        let files = EventFFlags::O_RDWR | EventFFlags::O_LARGEFILE | EventFFlags::O_CLOEXEC;
        Ok(Group(Fanotify::init(flags, files)?))
    }

    /// Marks the file of a descriptor that a person sent; it must be a file of their own.
    pub(super) fn mark(&self, file: BorrowedFd<'_>, person: u32) -> io::Result<Inode> {
        let stat = fstat(file)?;
        if FileType::from_raw_mode(stat.st_mode) != FileType::RegularFile {
            return Err(io::Error::other("only files can be stubs"));
        }
        if person != 0 && stat.st_uid != person {
            return Err(io::Error::other("it is somebody else's file"));
        }
        self.change(MarkFlags::FAN_MARK_ADD, file)?;
        Ok(inode_of(&stat))
    }

    pub(super) fn unmark(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.change(MarkFlags::FAN_MARK_REMOVE, file)
    }

    fn change(&self, flags: MarkFlags, file: BorrowedFd<'_>) -> io::Result<()> {
        let path = format!("/proc/self/fd/{}", file.as_raw_fd());
        Ok(self.0.mark(flags, mask(), AT_FDCWD, Some(path.as_str()))?)
    }

    /// Waits for questions.
    pub(super) fn wait(&self) -> io::Result<Vec<Question>> {
        let events = match self.0.read_events() {
            Ok(events) => events,
            Err(nix::errno::Errno::EINTR) => return Ok(Vec::new()),
            Err(why) => return Err(why.into()),
        };
        let mut questions = Vec::with_capacity(events.len());
        for event in events {
            let Some(file) = event.fd() else { continue };
            let inode = inode_of(&fstat(file)?);
            let process = event.pid();
            questions.push(Question {
                event,
                inode,
                process,
            });
        }
        Ok(questions)
    }

    pub(super) fn answer(&self, question: &Question, answer: Answer) -> io::Result<()> {
        let Some(file) = question.file() else {
            return Ok(());
        };
        let denied = |error: nix::errno::Errno| {
            let number = (error as u32 & 0xff) << 24;
            Response::from_bits_retain(Response::FAN_DENY.bits() | number)
        };
        let response = match answer {
            Answer::Allow => Response::FAN_ALLOW,
            Answer::Unreadable => denied(nix::errno::Errno::EIO),
            Answer::Forbidden => denied(nix::errno::Errno::EPERM),
        };
        Ok(self
            .0
            .write_response(FanotifyResponse::new(file.as_fd(), response))?)
    }
}
