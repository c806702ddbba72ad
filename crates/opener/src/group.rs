//! The questions of the system: a fanotify group for what is asked before content is used, with a mark on each stub's
//! inode.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};

use nix::errno::Errno;
use nix::fcntl::AT_FDCWD;
use nix::sys::fanotify::{
    EventFFlags, Fanotify, FanotifyEvent, InitFlags, MarkFlags, MaskFlags, Response,
};
use rustix::fs::{AtFlags, FileType, StatxAttributes, StatxFlags, statx};

use crate::STUB_LABEL;
use crate::questions::{Answer, Inode};

/// Asked before content is read or mapped (Linux 6.14); the library does not know it yet.
const FAN_PRE_ACCESS: u64 = 0x0010_0000;

/// What is known of a file by its descriptor. Nothing of it is read from a disk or asked of whoever serves a file system
/// of their own making, which may never answer.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Facts {
    pub(crate) inode: Inode,
    pub(crate) owner: u32,
    pub(crate) is_file: bool,
    /// Root lets nobody write it, or only at its end; a descriptor for writing would not ask again.
    pub(crate) is_guarded: bool,
    /// Blocks that are here, 512 bytes each.
    pub(crate) blocks: u64,
}

impl Facts {
    pub(crate) fn of(file: BorrowedFd<'_>) -> io::Result<Facts> {
        let flags = AtFlags::EMPTY_PATH | AtFlags::STATX_DONT_SYNC;
        let stat = statx(file, c"", flags, StatxFlags::BASIC_STATS)?;
        Ok(Facts {
            inode: Inode {
                device: (stat.stx_dev_major, stat.stx_dev_minor),
                number: stat.stx_ino,
            },
            owner: stat.stx_uid,
            is_file: FileType::from_raw_mode(stat.stx_mode.into()) == FileType::RegularFile,
            is_guarded: stat
                .stx_attributes
                .intersects(StatxAttributes::IMMUTABLE | StatxAttributes::APPEND),
            blocks: stat.stx_blocks,
        })
    }
}

/// A question of the system, which it waits with until it is answered.
pub(crate) struct Question {
    event: FanotifyEvent,
    is_answered: AtomicBool,
}

impl Question {
    /// The file, open for reading and writing without any question.
    pub(crate) fn file(&self) -> Option<BorrowedFd<'_>> {
        self.event.fd()
    }

    /// The process that waits; 0 for one that this program cannot see.
    pub(crate) fn process(&self) -> i32 {
        self.event.pid()
    }

    /// The file, if it belongs to this person now and they may write it: nobody else's descriptor is ever handed out.
    pub(crate) fn file_of(&self, person: u32) -> Option<BorrowedFd<'_>> {
        let file = self.file()?;
        let facts = Facts::of(file).ok()?;
        let is_theirs = facts.owner == person || person == 0;
        (is_theirs && !facts.is_guarded).then_some(file)
    }

    /// Whether all of its content is here, as far as a stub's label says. May wait for the disk.
    pub(crate) fn is_whole(&self) -> bool {
        let label = self
            .file()
            .map(|file| rustix::fs::fgetxattr(file, STUB_LABEL, &mut [0u8; 0]));
        matches!(label, Some(Err(rustix::io::Errno::NODATA)))
    }
}

/// The group, which outlives no process that holds it; see [`crate::Kept`].
pub(crate) struct Group(Fanotify);

fn mask() -> MaskFlags {
    MaskFlags::FAN_OPEN_PERM | MaskFlags::from_bits_retain(FAN_PRE_ACCESS)
}

/// What came of waiting for questions.
pub(crate) enum Came {
    /// These.
    Questions(Vec<Question>),
    /// The system could not ask one, and has denied it itself: a program that runs cannot be opened for writing, say.
    /// Whatever it was costs nobody else a moment.
    Denied(Errno),
}

impl Group {
    pub(crate) fn new() -> io::Result<Group> {
        let flags = InitFlags::FAN_CLASS_PRE_CONTENT
            | InitFlags::FAN_CLOEXEC
            | InitFlags::FAN_UNLIMITED_QUEUE
            | InitFlags::FAN_UNLIMITED_MARKS;
        let files = EventFFlags::O_RDWR | EventFFlags::O_LARGEFILE | EventFFlags::O_CLOEXEC;
        Ok(Group(Fanotify::init(flags, files)?))
    }

    /// The group of an opener before this one, which was kept; what that one left open is answered: it cannot be read.
    pub(crate) fn kept(group: OwnedFd, descriptors: u32) -> Group {
        // SAFETY: the service manager hands back under our name what we gave it, and that was a group.
        let group = Group(unsafe { Fanotify::from_owned_fd(group) });
        let open = (0..descriptors).filter(|number| {
            let number = i32::try_from(*number).unwrap_or(i32::MAX);
            group.write(number, Answer::Unreadable).is_ok()
        });
        let open = open.count();
        tracing::info!("{open} questions of the opener before this one are answered");
        group
    }

    pub(crate) fn mark(&self, file: BorrowedFd<'_>) -> Result<(), Errno> {
        self.change(MarkFlags::FAN_MARK_ADD, file)
    }

    pub(crate) fn unmark(&self, file: BorrowedFd<'_>) -> Result<(), Errno> {
        self.change(MarkFlags::FAN_MARK_REMOVE, file)
    }

    fn change(&self, flags: MarkFlags, file: BorrowedFd<'_>) -> Result<(), Errno> {
        let path = format!("/proc/self/fd/{}", file.as_raw_fd());
        self.0.mark(flags, mask(), AT_FDCWD, Some(path.as_str()))
    }

    /// Waits for questions.
    ///
    /// # Errors
    /// Where there will be none any more.
    pub(crate) fn wait(&self) -> io::Result<Came> {
        match self.0.read_events() {
            Ok(events) => {
                let question = |event| Question {
                    event,
                    is_answered: AtomicBool::new(false),
                };
                Ok(Came::Questions(events.into_iter().map(question).collect()))
            }
            Err(why @ (Errno::EBADF | Errno::EFAULT | Errno::EINVAL)) => Err(why.into()),
            Err(why) => Ok(Came::Denied(why)),
        }
    }

    /// Answers a question, once: what is said of it afterwards counts no more.
    pub(crate) fn answer(&self, question: &Question, answer: Answer) {
        let Some(file) = question.file() else {
            return;
        };
        if question.is_answered.swap(true, Ordering::SeqCst) {
            return;
        }
        if let Err(why) = self.write(file.as_raw_fd(), answer) {
            tracing::warn!("a question was not answered: {why}");
        }
    }

    /// Writes a response (`struct fanotify_response`, fanotify(7)).
    fn write(&self, number: i32, answer: Answer) -> Result<usize, rustix::io::Errno> {
        let denied = |error: Errno| Response::FAN_DENY.bits() | (error as u32 & 0xff) << 24;
        let response = match answer {
            Answer::Allow => Response::FAN_ALLOW.bits(),
            Answer::Unreadable => denied(Errno::EIO),
            Answer::Forbidden => denied(Errno::EPERM),
        };
        let mut text = [0u8; 8];
        text[..4].copy_from_slice(&number.to_ne_bytes());
        text[4..].copy_from_slice(&response.to_ne_bytes());
        rustix::io::write(&self.0, &text)
    }
}

impl AsFd for Group {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

/// Inodes with a mark, by their numbers alone: the system writes devices in a form of its own.
pub(crate) fn marked_numbers(group: &Group) -> io::Result<std::collections::BTreeSet<u64>> {
    use std::io::BufRead;
    let path = format!("/proc/self/fdinfo/{}", group.as_fd().as_raw_fd());
    let lines = io::BufReader::new(std::fs::File::open(path)?).lines();
    let number = |line: String| {
        let number = line.split(' ').find_map(|part| part.strip_prefix("ino:"));
        number.and_then(|number| u64::from_str_radix(number, 16).ok())
    };
    lines
        .map(|line| Ok(number(line?)))
        .filter_map(Result::transpose)
        .collect()
}
