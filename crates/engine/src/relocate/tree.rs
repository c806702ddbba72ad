//! Copying a whole folder to another disk, as it is: dates, rights, attributes and links, and what no lane carries too.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File, FileTimes, Metadata, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use katabatic_core::dated_name::dated_name;
use rustix::fs::{OFlags, XattrFlags};

use super::{Stays, WhyStays};
use crate::pass::Progress;
use katabatic_sides::local::{give_up_file, is_stub};
use katabatic_sides::private_files::random_hex;
use katabatic_sides::proof::Proof;
use katabatic_sides::stop::Stop;
use katabatic_sides::{GivenUp, WhyKept, is_own};

/// What a folder holds.
#[derive(Debug, Default)]
pub(super) struct Weight {
    pub(super) files: u64,
    pub(super) bytes: u64,
    /// Sockets, pipes and devices, which cannot be copied.
    pub(super) odd: Vec<PathBuf>,
    /// Folders that another file system is mounted on.
    pub(super) mounts: Vec<PathBuf>,
}

/// One thing in a folder, by its path from the top.
struct Member {
    path: PathBuf,
    meta: Metadata,
}

/// Paths from the top that are passed over.
pub(super) type Skip = HashSet<PathBuf>;

/// Everything below a folder, each folder before its members; the tool's own room at the top is left out.
fn members(root: &Path, skip: &Skip) -> io::Result<Vec<Member>> {
    let mut found = Vec::new();
    let mut folders = vec![PathBuf::new()];
    let device = fs::metadata(root)?.dev();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(root.join(&folder))? {
            let entry = entry?;
            let path = folder.join(entry.file_name());
            let is_own =
                folder.as_os_str().is_empty() && is_own(&entry.file_name().to_string_lossy());
            if is_own || skip.contains(&path) {
                continue;
            }
            let meta = entry.path().symlink_metadata()?;
            if meta.is_dir() && meta.dev() == device {
                folders.push(path.clone());
            }
            found.push(Member { path, meta });
        }
    }
    found.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(found)
}

/// How much a folder holds.
pub(super) fn weigh(root: &Path, skip: &Skip) -> io::Result<Weight> {
    let mut weight = Weight::default();
    let device = fs::metadata(root)?.dev();
    for member in members(root, skip)? {
        let kind = member.meta.file_type();
        if kind.is_file() {
            weight.files += 1;
            weight.bytes += member.meta.len();
        } else if kind.is_dir() && member.meta.dev() != device {
            weight.mounts.push(member.path);
        } else if !kind.is_dir() && !kind.is_symlink() {
            weight.odd.push(member.path);
        }
    }
    Ok(weight)
}

fn stopped(stop: &Stop) -> io::Result<()> {
    match stop.asked() {
        true => Err(io::Error::new(io::ErrorKind::Interrupted, "stopped")),
        false => Ok(()),
    }
}

/// Copies everything that is not there yet as it is here; files that arrived before are not copied again.
pub(super) fn copy(
    from: &Path,
    to: &Path,
    skip: &Skip,
    progress: &Progress,
    stop: &Stop,
) -> io::Result<()> {
    fs::create_dir_all(to)?;
    let all = members(from, skip)?;
    for member in &all {
        stopped(stop)?;
        let (old, new) = (from.join(&member.path), to.join(&member.path));
        let kind = member.meta.file_type();
        if kind.is_dir() {
            match fs::create_dir(&new) {
                Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
                _ => {}
            }
        } else if kind.is_symlink() {
            copy_link(&old, &new)?;
        } else if kind.is_file() {
            if !is_same(&member.meta, &new) {
                copy_file(&old, &new, &member.meta)?;
            }
            progress.carried_bytes(member.meta.len());
            progress.carried_file();
        }
    }
    // Folders last: making what is in them would change their dates.
    for member in all.iter().rev().filter(|member| member.meta.is_dir()) {
        take_over(
            &File::open(to.join(&member.path))?,
            &from.join(&member.path),
            &member.meta,
        )?;
    }
    take_over(&File::open(to)?, from, &fs::metadata(from)?)?;
    rustix::fs::syncfs(File::open(to)?)?;
    Ok(())
}

fn is_same(meta: &Metadata, new: &Path) -> bool {
    new.symlink_metadata().is_ok_and(|there| {
        there.is_file()
            && there.len() == meta.len()
            && (there.mtime(), there.mtime_nsec()) == (meta.mtime(), meta.mtime_nsec())
    })
}

fn copy_link(old: &Path, new: &Path) -> io::Result<()> {
    let target = fs::read_link(old)?;
    if fs::read_link(new).is_ok_and(|there| there == target) {
        return Ok(());
    }
    match fs::remove_file(new) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => symlink(target, new),
    }
}

fn open_to_read(path: &Path) -> io::Result<File> {
    let flags = OFlags::NOFOLLOW.bits().cast_signed();
    OpenOptions::new().read(true).custom_flags(flags).open(path)
}

fn copy_file(old: &Path, new: &Path, meta: &Metadata) -> io::Result<()> {
    let mut source = open_to_read(old)?;
    let mut target = OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .custom_flags(OFlags::NOFOLLOW.bits().cast_signed())
        .open(new)?;
    io::copy(&mut source, &mut target)?;
    target.flush()?;
    // The date comes last: it says that all before it is done, and a copy that was cut has another one.
    take_over(&target, old, meta)
}

/// Attributes, owner, rights and dates, as far as this file system and this person can keep them.
pub(super) fn take_over(new: &File, old: &Path, meta: &Metadata) -> io::Result<()> {
    let source = File::open(old)?;
    let mut names = vec![0u8; 64 * 1024];
    if let Ok(length) = rustix::fs::flistxattr(&source, names.as_mut_slice()) {
        for name in names[..length]
            .split(|byte| *byte == 0)
            .filter(|name| !name.is_empty())
        {
            let mut value = vec![0u8; 64 * 1024];
            if let Ok(length) = rustix::fs::fgetxattr(&source, name, value.as_mut_slice())
                && let Err(why) =
                    rustix::fs::fsetxattr(new, name, &value[..length], XattrFlags::empty())
            {
                tracing::debug!("an attribute of {} stays behind: {why}", old.display());
            }
        }
    }
    if let Err(why) = std::os::unix::fs::fchown(new, Some(meta.uid()), Some(meta.gid())) {
        tracing::debug!("the owner of {} stays behind: {why}", old.display());
    }
    new.set_permissions(fs::Permissions::from_mode(meta.mode() & 0o7777))?;
    new.set_times(
        FileTimes::new()
            .set_accessed(meta.accessed()?)
            .set_modified(meta.modified()?),
    )
}

/// What both folders have alike.
#[derive(Debug, Default)]
pub(super) struct Compared {
    /// What is not the same.
    pub(super) differ: Vec<PathBuf>,
    same: HashMap<PathBuf, Same>,
}

/// One thing that is the same at both places.
#[derive(Debug)]
struct Same {
    here: Stamp,
    there: Stamp,
    /// What was read of the copy, of a file.
    proof: Option<Proof>,
}

/// Reads both folders in full.
pub(super) fn compare(from: &Path, to: &Path, skip: &Skip, stop: &Stop) -> io::Result<Compared> {
    // Who stores into a mapped page that is not written out yet moves no date; once it is, the next store does.
    rustix::fs::syncfs(File::open(from)?)?;
    let mut compared = Compared::default();
    for member in members(from, skip)? {
        stopped(stop)?;
        let (old, new) = (from.join(&member.path), to.join(&member.path));
        let kind = member.meta.file_type();
        let there = new.symlink_metadata().ok();
        let mut proof = None;
        let same = if kind.is_file() {
            is_same(&member.meta, &new) && {
                let read = Proof::by_reading(open_to_read(&new)?)?;
                let same = digest(&old)?.as_bytes() == &read.content().0;
                proof = Some(read);
                same
            }
        } else if kind.is_symlink() {
            fs::read_link(&old)? == fs::read_link(&new).unwrap_or_default()
        } else if kind.is_dir() {
            there.as_ref().is_some_and(Metadata::is_dir)
        } else {
            continue;
        };
        match there {
            Some(there) if same => {
                let same = Same {
                    here: Stamp::of(&member.meta),
                    there: Stamp::of(&there),
                    proof,
                };
                compared.same.insert(member.path, same);
            }
            _ => compared.differ.push(member.path),
        }
    }
    Ok(compared)
}

/// The BLAKE3 of a file.
pub(super) fn digest(path: &Path) -> io::Result<blake3::Hash> {
    let mut file = open_to_read(path)?;
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0u8; 256 * 1024];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hasher.finalize()),
            length => hasher.update(&buffer[..length]),
        };
    }
}

/// Removes what lies in `old`, as far as it still is what was compared with what is in `new`; `stubs` are those that were
/// made anew there. What is not, or is open, stays and is named.
pub(super) fn remove_old(
    (old, new): (&Path, &Path),
    aside: &Path,
    mut compared: Compared,
    stubs: &Skip,
) -> io::Result<Vec<Stays>> {
    fs::create_dir_all(aside)?;
    let (mut stays, mut folders) = (Vec::new(), Vec::new());
    for member in members(old, &Skip::new())? {
        if member.meta.is_dir() {
            folders.push(member.path);
            continue;
        }
        // A name that nothing has: one that was left there by a death may be the only copy of something.
        let name = random_hex(10).map_err(|error| io::Error::other(error.why))?;
        let (at, hidden) = (old.join(&member.path), aside.join(name));
        let gone = match compared.same.remove(&member.path) {
            Some(same) if same.here == Stamp::of(&member.meta) => {
                remove_one((&at, &new.join(&member.path)), &hidden, same)
            }
            Some(_) => Err(WhyStays::Changed),
            None if stubs.contains(&member.path) => remove_stub(&at, &hidden),
            None if is_odd(&member.meta) => fs::remove_file(&at).map_err(why_stays),
            None => Err(WhyStays::Changed),
        };
        if let Err(why) = gone {
            let path = member.path;
            stays.push(Stays { path, why });
        }
    }
    for folder in folders.into_iter().rev() {
        // One that is not empty is named by what is in it.
        match fs::remove_dir(old.join(&folder)) {
            Err(error) if error.kind() != io::ErrorKind::DirectoryNotEmpty => stays.push(Stays {
                path: folder,
                why: why_stays(error),
            }),
            _ => {}
        }
    }
    stays.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(stays)
}

fn why_stays(error: io::Error) -> WhyStays {
    WhyStays::Failed(error.to_string())
}

/// A socket, a pipe or a device: there is nothing in it.
fn is_odd(meta: &Metadata) -> bool {
    !meta.is_file() && !meta.is_dir() && !meta.is_symlink()
}

/// Removes one thing at the old place, where its copy is still what was read.
fn remove_one((at, copy): (&Path, &Path), hidden: &Path, same: Same) -> Result<(), WhyStays> {
    let there = copy.symlink_metadata().map_err(why_stays)?;
    if Stamp::of(&there) != same.there {
        return Err(WhyStays::Changed);
    }
    let Some(proof) = same.proof else {
        // A link holds nothing but where it leads to, which was compared.
        return fs::remove_file(at).map_err(why_stays);
    };
    let give_back = || {
        give_back(hidden, at)
            .map_err(|why| io::Error::other(format!("{why}; it lies in {}", hidden.display())))
    };
    match give_up_file(at, hidden, proof, give_back) {
        Ok(GivenUp::Gone) => Ok(()),
        Ok(GivenUp::Kept(WhyKept::Open)) => Err(WhyStays::Open),
        Ok(GivenUp::Kept(WhyKept::CannotTell(why))) => Err(WhyStays::CannotTell(why)),
        Ok(GivenUp::Kept(WhyKept::OtherContent)) => Err(WhyStays::Changed),
        Err(why) => Err(WhyStays::Failed(why.to_string())),
    }
}

/// What is a stub no more was opened meanwhile, and goes back.
fn remove_stub(at: &Path, hidden: &Path) -> Result<(), WhyStays> {
    fs::rename(at, hidden).map_err(why_stays)?;
    match is_stub(hidden) {
        Ok(true) => fs::remove_file(hidden).map_err(why_stays),
        Ok(false) => give_back(hidden, at)
            .map_err(why_stays)
            .and(Err(WhyStays::Changed)),
        Err(why) => give_back(hidden, at)
            .map_err(why_stays)
            .and(Err(why_stays(why))),
    }
}

/// Back to its name, or beside whatever has taken the name meanwhile.
fn give_back(hidden: &Path, to: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    let name = to
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    for attempt in 1..100 {
        let target = if attempt == 1 {
            to.to_owned()
        } else {
            to.with_file_name(dated_name(&name, "was here", attempt - 1))
        };
        match renameat_with(CWD, hidden, CWD, &target, RenameFlags::NOREPLACE) {
            Ok(()) => return Ok(()),
            Err(rustix::io::Errno::EXIST) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}

/// What tells that a file was not touched since: length, dates and inode.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Stamp(u64, i64, i64, i64, i64, u64);

impl Stamp {
    fn of(meta: &Metadata) -> Stamp {
        Stamp(
            meta.len(),
            meta.mtime(),
            meta.mtime_nsec(),
            meta.ctime(),
            meta.ctime_nsec(),
            meta.ino(),
        )
    }
}

/// Whether a folder holds nothing but the tool's own room; one that is not there holds nothing.
pub(super) fn is_empty(root: &Path) -> io::Result<bool> {
    match members(root, &Skip::new()) {
        Ok(members) => Ok(members.is_empty()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(true),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn copied(old: &Path, new: &Path) -> Compared {
        let (progress, stop) = (Progress::default(), Stop::default());
        copy(old, new, &Skip::new(), &progress, &stop).unwrap();
        let compared = compare(old, new, &Skip::new(), &stop).unwrap();
        assert!(compared.differ.is_empty());
        compared
    }

    fn of(stays: &[Stays]) -> Vec<(&str, WhyStays)> {
        let of = |stays: &Stays| stays.why.clone();
        stays
            .iter()
            .map(|stays| (stays.path.to_str().unwrap(), of(stays)))
            .collect()
    }

    #[test]
    fn what_was_stored_through_a_mapping_since_and_moved_no_date_stays() {
        let dir = tempfile::tempdir().unwrap();
        let (old, new) = (dir.path().join("old"), dir.path().join("new"));
        fs::create_dir_all(&old).unwrap();
        fs::write(old.join("mapped.txt"), "before").unwrap();
        let compared = copied(&old, &new);
        // As a store into a page that is dirty already does: the content is another, and no date has moved.
        let at = old.join("mapped.txt");
        let meta = at.metadata().unwrap();
        let mut compared = compared;
        fs::write(&at, "AFTER!").unwrap();
        File::options()
            .write(true)
            .open(&at)
            .and_then(|file| file.set_modified(meta.modified()?))
            .unwrap();
        let same = compared.same.get_mut(Path::new("mapped.txt")).unwrap();
        same.here = Stamp::of(&at.metadata().unwrap());
        let aside = dir.path().join("aside");
        let stays = remove_old((&old, &new), &aside, compared, &Skip::new()).unwrap();
        assert_eq!(of(&stays), [("mapped.txt", WhyStays::Changed)]);
        assert_eq!(fs::read(&at).unwrap(), b"AFTER!");
    }

    #[test]
    fn what_a_death_left_aside_is_never_written_over() {
        let dir = tempfile::tempdir().unwrap();
        let (old, new) = (dir.path().join("old"), dir.path().join("new"));
        fs::create_dir_all(&old).unwrap();
        fs::write(old.join("a.txt"), "a").unwrap();
        let compared = copied(&old, &new);
        let aside = dir.path().join("aside");
        fs::create_dir(&aside).unwrap();
        for left in ["0", "1"] {
            fs::write(aside.join(left), "the only copy").unwrap();
        }
        let stays = remove_old((&old, &new), &aside, compared, &Skip::new()).unwrap();
        assert_eq!(stays, []);
        for left in ["0", "1"] {
            assert_eq!(fs::read(aside.join(left)).unwrap(), b"the only copy");
        }
    }

    #[test]
    fn what_somebody_has_open_stays() {
        let dir = tempfile::tempdir().unwrap();
        let (old, new) = (dir.path().join("old"), dir.path().join("new"));
        fs::create_dir_all(&old).unwrap();
        fs::write(old.join("open.txt"), "open").unwrap();
        fs::write(old.join("closed.txt"), "closed").unwrap();
        let compared = copied(&old, &new);
        let open = File::options().append(true).open(old.join("open.txt"));
        let aside = dir.path().join("aside");
        let stays = remove_old((&old, &new), &aside, compared, &Skip::new()).unwrap();
        assert_eq!(of(&stays), [("open.txt", WhyStays::Open)]);
        drop(open);
    }

    #[test]
    fn what_changed_since_it_was_compared_stays_at_its_name() {
        let dir = tempfile::tempdir().unwrap();
        let old = dir.path().join("old");
        fs::create_dir_all(old.join("folder")).unwrap();
        for name in ["same.txt", "folder/edited.txt", "folder/gone.txt"] {
            fs::write(old.join(name), name).unwrap();
        }
        let new = dir.path().join("new");
        let compared = copied(&old, &new);
        fs::write(old.join("folder/edited.txt"), "edited since").unwrap();
        fs::write(old.join("new.txt"), "new since").unwrap();
        let aside = dir.path().join("aside");
        let stays = remove_old((&old, &new), &aside, compared, &Skip::new()).unwrap();
        assert_eq!(
            of(&stays),
            [
                ("folder/edited.txt", WhyStays::Changed),
                ("new.txt", WhyStays::Changed)
            ]
        );
        assert!(!old.join("same.txt").exists() && !old.join("folder/gone.txt").exists());
        assert_eq!(
            fs::read(old.join("folder/edited.txt")).unwrap(),
            b"edited since"
        );
        assert_eq!(fs::read_dir(dir.path().join("aside")).unwrap().count(), 0);
    }

    #[test]
    fn what_goes_back_overwrites_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let (hidden, name) = (dir.path().join("1"), dir.path().join("a.txt"));
        fs::write(&hidden, "the older").unwrap();
        fs::write(&name, "the newer").unwrap();
        give_back(&hidden, &name).unwrap();
        assert_eq!(fs::read(&name).unwrap(), b"the newer");
        assert_eq!(
            fs::read(dir.path().join("a [was here].txt")).unwrap(),
            b"the older"
        );
    }
}
