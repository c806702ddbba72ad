//! Stubs: files that have their name, size and date here, and not one block of their content.
//!
//! A stub has no rights at all, so that whoever opens it is told "permission denied" and never reads the zeros that a
//! file of holes would give. It bears a label, an extended attribute, for those who may look; which file is a stub is
//! the ledger's word.
//!
//! Each has a second name in the tool's own room: its inode. As long as that stands, the number is given to no other
//! file, and the count of its names tells whether a stub that is gone from its path was removed or only moved away.
//! Beside it lies an empty file with the owner, the rights and the attributes that its content had, where there was any.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{File, FileTimes, Permissions};
use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::PermissionsExt;

use katabatic_core::{EditTime, RelPath, Stamp};
use katabatic_opener::client::NotMarked;
use rustix::fs::{AtFlags, FileType, IFlags, Mode, OFlags, Statx, XattrFlags, linkat, unlinkat};
use rustix::io::Errno;

use super::fingerprint::handle_of;
use super::room::{Room, STAGING};
use super::stage::{system_time, take_over};
use super::{Inner, LocalSide, side_error, system};
use crate::private_files::random_hex;
use crate::{NewStub, SideError, Staged, Whereabouts};

/// The attribute that says that a file is a stub.
pub(super) use katabatic_opener::STUB_LABEL as LABEL;

/// The attribute by which a file asks to be left out of backups, or not to be.
const NO_BACKUP: &str = "user.xdg.robots.backup";

/// The form of the stub, the label's value.
const FORM: &[u8] = b"1";

/// How the label of a stub begins that is being filled; its date stands behind that, since writing changes it.
const FILLING: &str = "filling ";

/// Where what the content's owner and rights were is kept, behind the inode.
pub const LIKE: &str = ".like";

/// Whether a file is a stub: it has a size and no block, and either no rights at all or the label. Somebody who gave one
/// rights has not given it content.
pub(super) fn is_one(stat: &Statx, is_labelled: impl FnOnce() -> bool) -> bool {
    let is_file = FileType::from_raw_mode(stat.stx_mode.into()) == FileType::RegularFile;
    is_file
        && stat.stx_size > 0
        && stat.stx_blocks == 0
        && (stat.stx_mode & 0o7777 == 0 || is_labelled())
}

/// Whether a name in a folder bears the label, where that can be read.
pub(super) fn is_labelled_at(folder: BorrowedFd<'_>, name: &OsStr) -> bool {
    // Named by the folder's own descriptor, so that it is the folder that was looked at.
    let path = std::path::Path::new("/proc/self/fd")
        .join(folder.as_raw_fd().to_string())
        .join(name);
    rustix::fs::lgetxattr(path, LABEL, &mut [0u8; 64]).is_ok()
}

/// What the label of a file says, by a path to it.
fn label_at(shelf: &OwnedFd, name: &str) -> io::Result<Option<Vec<u8>>> {
    let mut value = [0u8; 64];
    let path = format!("/proc/self/fd/{}/{name}", shelf.as_raw_fd());
    match rustix::fs::lgetxattr(path, LABEL, &mut value) {
        Ok(length) => Ok(Some(value[..length].to_vec())),
        Err(Errno::NODATA) => Ok(None),
        Err(why) => Err(why.into()),
    }
}

/// Whether an open file bears the label.
pub(super) fn is_labelled(file: &File) -> bool {
    rustix::fs::fgetxattr(file, LABEL, &mut [0u8; 64]).is_ok()
}

fn is_filling(file: &File) -> bool {
    let mut value = [0u8; 64];
    let label = rustix::fs::fgetxattr(file, LABEL, &mut value);
    label.is_ok_and(|length| value[..length].starts_with(FILLING.as_bytes()))
}

/// Whether the file at a path is one whose content is on its way here.
pub(super) fn is_coming(inner: &Inner, path: &RelPath) -> bool {
    let parent = path.parent().unwrap_or_else(RelPath::root);
    let Ok(folder) = system::open_folder(inner.root.as_fd(), &parent) else {
        return false;
    };
    let label = label_at(&folder, path.name());
    label.is_ok_and(|label| label.is_some_and(|label| label.starts_with(FILLING.as_bytes())))
}

/// Nothing is ever read from a stub, nor from one that somebody gave rights and wrote into: what was not written reads as
/// zeros, and how much that is cannot be told, since a disk fills whole blocks.
pub(super) fn refuse(file: &File) -> Result<(), SideError> {
    let stat = system::stat_of(file.as_fd()).map_err(|error| side_error(&error))?;
    if is_filling(file) {
        return Err(SideError::Coming);
    }
    if is_one(&stat, || is_labelled(file)) {
        return Err(SideError::Failed(
            "it is a stub: its content is not here".into(),
        ));
    }
    if stat.stx_size > 0 && is_labelled(file) {
        return Err(SideError::Failed(
            "somebody wrote into a stub, whose content is not here: what was not written reads as zeros. To have the far version instead: katabatic fetch PATH; what was written goes into the spares".into(),
        ));
    }
    Ok(())
}

/// Whether stubs can be made on this file system; the answer says why not.
pub(super) fn can_be_held(inner: &Inner) -> Result<(), String> {
    let trial = NewStub {
        path: RelPath::root(),
        size: 1,
        edited: None,
        in_place: false,
        content: None,
    };
    let made = stage_one(inner, &trial).and_then(|staged| {
        forget(&inner.room, &staged.entry.stamp)?;
        inner.room.remove(STAGING, &staged.slot)
    });
    made.map_err(|error| error.to_string())
}

/// Stages stubs, all of them with one sync of the disk.
pub(super) fn stage_all(inner: &Inner, stubs: &[NewStub]) -> Vec<Result<Staged, SideError>> {
    let mut staged = Vec::with_capacity(stubs.len());
    for stub in stubs {
        staged.push(match inner.stop.asked() {
            true => Err(SideError::Stopped),
            false => stage_one(inner, stub),
        });
    }
    // A stub that a power cut made an empty file of would be carried up as one.
    if let Err(why) = rustix::fs::syncfs(inner.room.shelf(STAGING)) {
        let error = side_error(&why.into());
        return staged.into_iter().map(|_| Err(error.clone())).collect();
    }
    staged
}

fn stage_one(inner: &Inner, stub: &NewStub) -> Result<Staged, SideError> {
    let slot = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
    let staged = make(inner, stub, &slot);
    if staged.is_err()
        && let Err(why) = inner.room.remove(STAGING, &slot)
    {
        tracing::debug!("something staged is left over: {why}");
    }
    staged
}

fn make(inner: &Inner, stub: &NewStub, slot: &str) -> Result<Staged, SideError> {
    let failed = |error: io::Error| side_error(&error);
    let file = inner.room.create(STAGING, slot).map_err(failed)?;
    let shelf = inner.room.stubs().map_err(failed)?;
    let inode = system::stat_of(file.as_fd()).map_err(failed)?.stx_ino;
    if stub.in_place {
        keep_rights(inner, &shelf, inode, &stub.path).map_err(failed)?;
        take_owner(&shelf, inode, &file).map_err(failed)?;
    }
    rustix::fs::fsetxattr(&file, LABEL, FORM, XattrFlags::empty()).map_err(|why| {
        SideError::Failed(format!(
            "this file system keeps no extended attributes, so it can hold no stubs: {why}"
        ))
    })?;
    file.set_len(stub.size).map_err(failed)?;
    ask_for_no_backup(&file);
    if let Some(edited) = stub.edited {
        let times = FileTimes::new().set_modified(system_time(edited));
        file.set_times(times).map_err(failed)?;
    }
    file.set_permissions(Permissions::from_mode(0o000))
        .map_err(failed)?;
    let (from, name) = (inner.room.shelf(STAGING), inode.to_string());
    match linkat(from, slot, &shelf, &name, AtFlags::empty()) {
        Ok(()) => {}
        // Of a stub that is gone: with a name of its own it would not have given its number away.
        Err(Errno::EXIST) => return Err(SideError::Failed("its number is taken".into())),
        Err(why) => {
            return Err(SideError::Failed(format!(
                "this file system gives no file a second name, so it can hold no stubs: {why}"
            )));
        }
    }
    let entry = inner.room.entry(STAGING, slot)?.ok_or(SideError::Missing)?;
    if !entry.is_stub() {
        let _ = unlinkat(&shelf, &name, AtFlags::empty());
        return Err(SideError::Failed(
            "this file system gives an empty file of this size blocks, so it can hold no stubs"
                .into(),
        ));
    }
    Ok(Staged {
        slot: slot.to_owned(),
        entry,
        digest: stub.content,
    })
}

/// Asks programs that make backups to pass over a file that holds nothing: those that run as root would keep its zeros,
/// and bring them back one day as if they were the content. There are two ways to ask: the no-dump attribute
/// (ioctl_iflags(2)), and the hint of the Common Extended Attributes (freedesktop.org). A file system need not have either.
fn ask_for_no_backup(file: &File) {
    if let Ok(flags) = rustix::fs::ioctl_getflags(file) {
        let _ = rustix::fs::ioctl_setflags(file, flags | IFlags::NODUMP);
    }
    let _ = rustix::fs::fsetxattr(file, NO_BACKUP, b"false", XattrFlags::empty());
}

/// What has content again is for backups like any other file.
fn ask_for_backup_again(file: &File) {
    if let Ok(flags) = rustix::fs::ioctl_getflags(file) {
        let _ = rustix::fs::ioctl_setflags(file, flags & !IFlags::NODUMP);
    }
    let _ = rustix::fs::fremovexattr(file, NO_BACKUP);
}

/// An empty file with the owner, the rights and the attributes of what the stub takes the place of.
fn keep_rights(inner: &Inner, shelf: &OwnedFd, inode: u64, path: &RelPath) -> io::Result<()> {
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::TRUNC | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let name = format!("{inode}{LIKE}");
    // One that was left behind may not be open to us.
    let _ = unlinkat(shelf, &name, AtFlags::empty());
    let kept = rustix::fs::openat(shelf, &name, flags, Mode::from_raw_mode(0o600))?;
    take_over(inner, &File::from(kept), path)
}

fn take_owner(shelf: &OwnedFd, inode: u64, file: &File) -> io::Result<()> {
    let kept = system::stat_at(shelf.as_fd(), OsStr::new(&format!("{inode}{LIKE}")))?;
    let own = system::stat_of(file.as_fd())?;
    if (own.stx_uid, own.stx_gid) != (kept.stx_uid, kept.stx_gid)
        && let Err(why) = std::os::unix::fs::fchown(file, Some(kept.stx_uid), Some(kept.stx_gid))
    {
        tracing::debug!("a stub changes its owner: {why}");
    }
    Ok(())
}

/// Where the stub at a path is one: what its content's owner and rights were, if there was any content.
pub(super) fn stands_for(inner: &Inner, path: &RelPath) -> io::Result<Option<Option<OwnedFd>>> {
    let Ok(Some(entry)) = super::scan::look(inner, path) else {
        return Ok(None);
    };
    let (true, Some(inode)) = (entry.is_stub(), handle_of(&entry.stamp)) else {
        return Ok(None);
    };
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let name = format!("{inode}{LIKE}");
    let kept = rustix::fs::openat(inner.room.stubs()?, name, flags, Mode::empty());
    Ok(Some(kept.ok()))
}

/// Where the stub of this stamp is, which is not at its path any more.
pub(super) fn whereabouts(room: &Room, stamp: &Stamp) -> Result<Whereabouts, SideError> {
    let Some(inode) = handle_of(stamp) else {
        return Ok(Whereabouts::Elsewhere);
    };
    let shelf = room.stubs().map_err(|error| side_error(&error))?;
    match system::stat_at(shelf.as_fd(), OsStr::new(&inode)) {
        Ok(stat) if stat.stx_nlink == 1 => Ok(Whereabouts::Gone),
        Ok(_) => Ok(Whereabouts::Elsewhere),
        // Without its second name nobody can tell.
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Whereabouts::Elsewhere),
        Err(error) => Err(side_error(&error)),
    }
}

/// The inodes of all stubs that have a second name.
fn all(room: &Room) -> Result<Vec<String>, SideError> {
    let failed = |error: io::Error| side_error(&error);
    let shelf = room.stubs().map_err(failed)?;
    let mut all = Vec::new();
    for item in rustix::fs::Dir::read_from(&shelf).map_err(|why| failed(why.into()))? {
        let item = item.map_err(|why| failed(why.into()))?;
        let name = item.file_name().to_string_lossy().into_owned();
        if name.bytes().all(|byte| byte.is_ascii_digit()) {
            all.push(name);
        }
    }
    Ok(all)
}

/// Gives up what is kept of every stub but these, by their inodes.
pub(super) fn keep_only(room: &Room, keep: &HashSet<String>) -> Result<(), SideError> {
    for inode in all(room)? {
        if !keep.contains(&inode) {
            forget_inode(room, &inode)?;
        }
    }
    Ok(())
}

/// Gives up the second name of a stub, and what was kept beside it.
pub(super) fn forget(room: &Room, stamp: &Stamp) -> Result<(), SideError> {
    match handle_of(stamp) {
        Some(inode) => forget_inode(room, &inode),
        None => Ok(()),
    }
}

fn forget_inode(room: &Room, inode: &str) -> Result<(), SideError> {
    let shelf = room.stubs().map_err(|error| side_error(&error))?;
    for name in [format!("{inode}{LIKE}"), inode.to_owned()] {
        match unlinkat(&shelf, &name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(why) => return Err(side_error(&why.into())),
        }
    }
    Ok(())
}

/// Takes the rights from every stub, and makes stubs again of those whose content was cut off on its way here; how many
/// are stubs.
pub(super) fn close_all(room: &Room) -> Result<u64, SideError> {
    if !room.had_stubs() {
        return Ok(0);
    }
    let failed = |error: io::Error| side_error(&error);
    let shelf = room.stubs().map_err(failed)?;
    let mut closed = 0;
    for name in all(room)? {
        let stat = system::stat_at(shelf.as_fd(), OsStr::new(&name)).map_err(failed)?;
        if stat.stx_blocks == 0 {
            if stat.stx_mode & 0o7777 != 0 {
                allow(&shelf, &name, 0).map_err(failed)?;
            }
            closed += 1;
        } else if make_again(&shelf, &name, &stat).map_err(failed)? {
            closed += 1;
        }
    }
    Ok(closed)
}

/// Takes the rights from every stub that somebody gave any; how many had some.
pub(super) fn close_open(room: &Room) -> Result<u64, SideError> {
    if !room.had_stubs() {
        return Ok(0);
    }
    let failed = |error: io::Error| side_error(&error);
    let shelf = room.stubs().map_err(failed)?;
    let mut closed = 0;
    for name in all(room)? {
        let stat = system::stat_at(shelf.as_fd(), OsStr::new(&name)).map_err(failed)?;
        if stat.stx_blocks == 0 && stat.stx_mode & 0o7777 != 0 {
            allow(&shelf, &name, 0).map_err(failed)?;
            closed += 1;
        }
    }
    Ok(closed)
}

fn allow(shelf: &OwnedFd, name: &str, mode: u32) -> io::Result<()> {
    let mode = Mode::from_raw_mode(mode);
    Ok(rustix::fs::chmodat(shelf, name, mode, AtFlags::empty())?)
}

/// Makes a stub again of a file that was being filled; nobody was let in to it meanwhile. Whether it is one.
fn make_again(shelf: &OwnedFd, name: &str, stat: &Statx) -> io::Result<bool> {
    let rights = u32::from(stat.stx_mode & 0o7777);
    let label = match label_at(shelf, name) {
        Err(_) if rights & 0o600 != 0o600 => {
            allow(shelf, name, 0o600)?;
            let label = label_at(shelf, name);
            allow(shelf, name, rights)?;
            label?
        }
        label => label?,
    };
    let edited = label
        .as_deref()
        .and_then(|label| std::str::from_utf8(label).ok())
        .and_then(|label| label.strip_prefix(FILLING)?.parse().ok());
    let Some(edited) = edited.map(EditTime) else {
        return Ok(false);
    };
    allow(shelf, name, 0o600)?;
    let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let opened = rustix::fs::openat(shelf, name, flags, Mode::empty());
    allow(shelf, name, 0)?;
    empty(&File::from(opened?), stat.stx_size, edited)?;
    Ok(true)
}

/// Takes all content from a file that was being filled, and leaves the stub.
fn empty(file: &File, size: u64, edited: EditTime) -> io::Result<()> {
    file.set_len(0)?;
    file.set_len(size)?;
    file.set_times(FileTimes::new().set_modified(system_time(edited)))?;
    rustix::fs::fsetxattr(file, LABEL, FORM, XattrFlags::empty())?;
    file.sync_all()
}

/// Has files marked, and answers for each why it could not be, if it could not.
pub type MarkFiles<'m> = dyn Fn(&[OwnedFd]) -> io::Result<Vec<Option<NotMarked>>> + 'm;

/// Gives every stub that somebody is asked about before it is opened the rights that its content had; how many have them
/// now, and why one does not. `mark` has files marked, and answers for each.
pub(super) fn open_all(
    room: &Room,
    mark: &MarkFiles<'_>,
) -> Result<(u64, Option<String>), SideError> {
    const TOGETHER: usize = 1_000;
    if !room.had_stubs() {
        return Ok((0, None));
    }
    let failed = |error: io::Error| side_error(&error);
    let shelf = room.stubs().map_err(failed)?;
    let (mut opened, mut why_not) = (0, None);
    for names in all(room)?.chunks(TOGETHER) {
        let mut files = Vec::with_capacity(names.len());
        let mut marking = Vec::with_capacity(names.len());
        for name in names {
            let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            // One that went meanwhile needs no mark.
            let Ok(file) = rustix::fs::openat(&shelf, name, flags, Mode::empty()) else {
                continue;
            };
            let stat = system::stat_of(file.as_fd()).map_err(failed)?;
            let is_stub = stat.stx_blocks == 0;
            // One that got its content right before an agent died is asked about still, and somebody has to answer.
            if !is_stub || stat.stx_mode & 0o7777 == 0 {
                files.push(file);
                marking.push((name, is_stub));
            }
        }
        let answers = mark(&files).map_err(failed)?;
        for ((name, is_stub), answer) in marking.into_iter().zip(answers) {
            match answer {
                None if !is_stub => {}
                None => {
                    allow(&shelf, name, rights_of_content(&shelf, name)).map_err(failed)?;
                    opened += 1;
                }
                Some(why) => why_not = Some(why.to_string()),
            }
        }
    }
    Ok((opened, why_not))
}

/// The rights of what a stub stands for: as they were, or as a new file of this program gets them.
fn rights_of_content(shelf: &OwnedFd, name: &str) -> u32 {
    const USUAL: u32 = 0o644;
    let kept = system::stat_at(shelf.as_fd(), OsStr::new(&format!("{name}{LIKE}")));
    match kept.map(|kept| u32::from(kept.stx_mode & 0o777)) {
        // Without any rights nobody could open it, and nobody could before.
        Ok(rights) if rights != 0 => rights,
        _ => USUAL,
    }
}

/// A stub that gets its content while the program that opened it waits.
pub struct Filling {
    file: File,
    stat: Statx,
}

impl Filling {
    /// Whether a file is a stub that can be filled.
    ///
    /// # Errors
    /// As the system says.
    pub fn is_stub(file: &File) -> io::Result<bool> {
        let stat = system::stat_of(file.as_fd())?;
        Ok(is_one(&stat, || is_labelled(file)))
    }

    /// Whether it is a stub, or one that is being filled.
    pub fn is_unfinished(file: &File) -> bool {
        is_labelled(file)
    }

    /// The stub's stamp and its handle.
    ///
    /// # Errors
    /// As the system says.
    pub fn known_as(file: &File) -> io::Result<(Stamp, String)> {
        let stat = system::stat_of(file.as_fd())?;
        Ok((
            super::fingerprint::stub_stamp(&stat),
            stat.stx_ino.to_string(),
        ))
    }

    /// Begins; until it has ended well, the file is a stub that is being filled.
    ///
    /// # Errors
    /// As the system says.
    pub fn begin(file: File) -> io::Result<Filling> {
        let stat = system::stat_of(file.as_fd())?;
        // Who may not write a file may not label it either. Nobody is let in to it meanwhile.
        let rights = u32::from(stat.stx_mode & 0o7777);
        if rights & 0o600 != 0o600 {
            file.set_permissions(Permissions::from_mode(rights | 0o600))?;
        }
        let label = format!("{FILLING}{}", super::fingerprint::edit_time(&stat).0);
        rustix::fs::fsetxattr(&file, LABEL, label.as_bytes(), XattrFlags::empty())?;
        file.sync_all()?;
        Ok(Filling { file, stat })
    }

    /// Writes a piece of the content, from the beginning on.
    ///
    /// # Errors
    /// As the system says.
    pub fn write(&mut self, piece: &[u8]) -> io::Result<()> {
        std::io::Write::write_all(&mut self.file, piece)
    }

    /// All of it is here, `size` bytes, last edited then: it is a file like any other; its stamp.
    ///
    /// # Errors
    /// As the system says.
    pub fn end(self, side: &LocalSide, size: u64, edited: EditTime) -> io::Result<Stamp> {
        let file = &self.file;
        file.set_len(size)?;
        let shelf = side.inner.room.stubs()?;
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let kept = format!("{}{LIKE}", self.stat.stx_ino);
        ask_for_backup_again(file);
        if let Ok(kept) = rustix::fs::openat(shelf, kept, flags, Mode::empty()) {
            super::stage::take_over_attributes(&File::from(kept), file);
        }
        file.set_times(FileTimes::new().set_modified(system_time(edited)))?;
        file.sync_all()?;
        rustix::fs::fremovexattr(file, LABEL)?;
        self.give_rights_back()?;
        file.sync_all()?;
        Ok(super::fingerprint::stamp(&system::stat_of(file.as_fd())?))
    }

    /// It did not come: the stub is as it was.
    ///
    /// # Errors
    /// As the system says.
    pub fn give_up(self) -> io::Result<()> {
        let edited = super::fingerprint::edit_time(&self.stat);
        empty(&self.file, self.stat.stx_size, edited)?;
        self.give_rights_back()
    }

    fn give_rights_back(&self) -> io::Result<()> {
        let rights = u32::from(self.stat.stx_mode & 0o7777);
        match rights & 0o600 {
            0o600 => Ok(()),
            _ => self.file.set_permissions(Permissions::from_mode(rights)),
        }
    }
}
