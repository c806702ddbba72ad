//! Drives, known by what is written on them and not by where they are mounted.
//!
//! A stick that is plugged in tomorrow may get another path, and another stick may get this one's. What stays is the
//! identifier that making the file system wrote on it. udev tells it to everybody; where there is no udev, it is read
//! from the device itself, which takes rights that usually only root has.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, FileType, StatxFlags, statx};

/// A file system that is mounted from a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// Its identifier, as udev spells it.
    pub uuid: String,
    /// Its label, where it has one.
    pub label: Option<String>,
    /// Where it is mounted.
    pub mounted_at: PathBuf,
}

/// A folder on a drive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OnDrive {
    /// The drive's identifier.
    pub uuid: String,
    /// What people call it.
    pub name: String,
    /// The folder, from where the drive is mounted.
    pub folder: PathBuf,
}

/// Where a folder on a drive is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Found {
    /// The drive is mounted, and this is the folder's path.
    At(PathBuf),
    /// The drive is mounted nowhere; the other one is at the path where it used to be.
    NotPluggedIn(Option<Volume>),
}

impl OnDrive {
    /// The drive that a folder lies on; none for the computer's own disk, and where no identifier can be told.
    #[must_use]
    pub fn of(folder: &Path) -> Option<OnDrive> {
        let volume = volume_of(folder)?;
        if volume.mounted_at == Path::new("/")
            || volume_of(Path::new("/")).is_some_and(|root| root.uuid == volume.uuid)
        {
            return None;
        }
        let within = folder.strip_prefix(&volume.mounted_at).ok()?;
        Some(OnDrive {
            name: volume.label.unwrap_or_else(|| volume.uuid.clone()),
            uuid: volume.uuid,
            folder: within.to_owned(),
        })
    }

    /// Where the folder is now; `usual` is where it was last.
    #[must_use]
    pub fn find(&self, usual: &Path) -> Found {
        let there = existing(usual).and_then(volume_of);
        if there
            .as_ref()
            .is_some_and(|volume| volume.uuid == self.uuid)
        {
            return Found::At(usual.to_owned());
        }
        let elsewhere = mounts()
            .into_iter()
            .filter_map(|mount| volume(&mount))
            .find(|volume| volume.uuid == self.uuid);
        match elsewhere {
            Some(volume) => Found::At(volume.mounted_at.join(&self.folder)),
            None => Found::NotPluggedIn(there.filter(|volume| volume.mounted_at != Path::new("/"))),
        }
    }
}

/// Which mount a folder lies on, by a number that the system gives to no later mount (statx(2), `STATX_MNT_ID_UNIQUE`,
/// Linux 6.8; before that, by one that it may give again): a drive that was away is told from one that was not, even where
/// nobody looked meanwhile. None where no folder is there.
#[must_use]
pub fn mount_number(folder: &Path) -> Option<u64> {
    const UNIQUE: StatxFlags = StatxFlags::from_bits_retain(0x4000);
    let asked = StatxFlags::TYPE | StatxFlags::MNT_ID | UNIQUE;
    let seen = statx(CWD, folder, AtFlags::empty(), asked).ok()?;
    let is_folder = FileType::from_raw_mode(seen.stx_mode.into()) == FileType::Directory;
    is_folder.then_some(seen.stx_mnt_id)
}

fn existing(path: &Path) -> Option<&Path> {
    path.ancestors().find(|path| path.exists())
}

struct Mount {
    device: PathBuf,
    at: PathBuf,
}

/// The volume that a path lies on.
#[must_use]
pub fn volume_of(path: &Path) -> Option<Volume> {
    let path = path.canonicalize().ok()?;
    // Of two mounts at one place the later one is seen.
    let mount = mounts()
        .into_iter()
        .filter(|mount| path.starts_with(&mount.at))
        .reduce(|best, next| {
            let deeper = next.at.components().count() >= best.at.components().count();
            if deeper { next } else { best }
        })?;
    volume(&mount)
}

/// Every mount of a device, as the kernel's own list has them (proc_pid_mountinfo(5)).
fn mounts() -> Vec<Mount> {
    let text = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let mount = |line: &str| {
        let (front, back) = line.split_once(" - ")?;
        let at = front.split(' ').nth(4)?;
        let device = back.split(' ').nth(1)?;
        Some(Mount {
            device: PathBuf::from(unescaped(device)),
            at: PathBuf::from(unescaped(at)),
        })
    };
    text.lines().filter_map(mount).collect()
}

/// Blanks in paths are written `\040`.
fn unescaped(text: &str) -> String {
    let mut out = Vec::new();
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        let code = text
            .get(at + 1..at + 4)
            .filter(|_| bytes[at] == b'\\')
            .and_then(|octal| u8::from_str_radix(octal, 8).ok());
        match code {
            Some(byte) => {
                out.push(byte);
                at += 4;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

fn volume(mount: &Mount) -> Option<Volume> {
    if !mount.device.starts_with("/dev") {
        return None;
    }
    let device = mount.device.canonicalize().ok()?;
    let named = |kind: &str| {
        fs::read_dir(Path::new("/dev/disk").join(kind))
            .ok()?
            .flatten()
            .find(|link| link.path().canonicalize().is_ok_and(|real| real == device))
            .map(|link| link.file_name().to_string_lossy().into_owned())
    };
    let written = || written_on(&device);
    let uuid = named("by-uuid").or_else(|| written().map(|(uuid, _)| uuid))?;
    let label = named("by-label").or_else(|| written().and_then(|(_, label)| label));
    Some(Volume {
        uuid,
        label,
        mounted_at: mount.at.clone(),
    })
}

/// Identifier and label as ext2, ext3, ext4, FAT32 and exFAT keep them.
fn written_on(device: &Path) -> Option<(String, Option<String>)> {
    let mut bytes = [0u8; 2048];
    File::open(device).ok()?.read_exact_at(&mut bytes, 0).ok()?;
    let hex = |range: std::ops::Range<usize>| -> String {
        bytes[range]
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect()
    };
    let serial = |at: usize| {
        let number = u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        format!("{:04X}-{:04X}", number >> 16, number & 0xffff)
    };
    let text = |range: std::ops::Range<usize>| {
        let text = String::from_utf8_lossy(&bytes[range]);
        let text = text.trim_end_matches(['\0', ' ']).to_owned();
        (!text.is_empty()).then_some(text)
    };
    if bytes[1024 + 0x38..1024 + 0x3a] == [0x53, 0xef] {
        let uuid = hex(1024 + 0x68..1024 + 0x78);
        let parts = [
            &uuid[..8],
            &uuid[8..12],
            &uuid[12..16],
            &uuid[16..20],
            &uuid[20..],
        ];
        return Some((parts.join("-"), text(1024 + 0x78..1024 + 0x88)));
    }
    if bytes[3..11] == *b"EXFAT   " {
        return Some((serial(0x64), None));
    }
    if bytes[0x52..0x57] == *b"FAT32" {
        return Some((serial(0x43), text(0x47..0x52)));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blanks_in_mount_points() {
        assert_eq!(unescaped(r"/media/my\040stick"), "/media/my stick");
        assert_eq!(unescaped(r"/media/a\b"), r"/media/a\b");
    }

    #[test]
    fn what_is_written_on_a_drive() {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().join("image");
        let mut bytes = [0u8; 2048];
        bytes[1024 + 0x38..1024 + 0x3a].copy_from_slice(&[0x53, 0xef]);
        bytes[1024 + 0x68] = 0xab;
        bytes[1024 + 0x78..1024 + 0x7d].copy_from_slice(b"STICK");
        fs::write(&at, bytes).unwrap();
        assert_eq!(
            written_on(&at),
            Some((
                "ab000000-0000-0000-0000-000000000000".into(),
                Some("STICK".into())
            ))
        );
        let mut bytes = [0u8; 2048];
        bytes[0x52..0x57].copy_from_slice(b"FAT32");
        bytes[0x43..0x47].copy_from_slice(&[0x78, 0x56, 0x34, 0x12]);
        bytes[0x47..0x52].copy_from_slice(b"MUSIC      ");
        fs::write(&at, bytes).unwrap();
        assert_eq!(
            written_on(&at),
            Some(("1234-5678".into(), Some("MUSIC".into())))
        );
        fs::write(&at, [0u8; 2048]).unwrap();
        assert_eq!(written_on(&at), None);
    }

    #[test]
    fn a_drive_that_is_nowhere_is_not_plugged_in() {
        let drive = OnDrive {
            uuid: "no such drive".into(),
            name: "STICK".into(),
            folder: "Backup".into(),
        };
        assert!(matches!(
            drive.find(Path::new("/media/nobody/STICK/Backup")),
            Found::NotPluggedIn(_)
        ));
    }
}
