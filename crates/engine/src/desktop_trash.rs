//! What lies in the desktop's trash and came from a folder of a lane.
//!
//! Only looked at: a person who removed a file in the file manager often has it there still, and then it need not be
//! fetched from anywhere. What passes take out never goes there, since people empty their trash, and a spare that
//! anybody can empty is none. The form is the freedesktop.org Trash specification, 1.0.

use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use katabatic_core::RelPath;
use percent_encoding::percent_decode;

use crate::config::LaneConfig;
use katabatic_core::place::Place;

/// More entries than this in one trash are not looked at.
const MOST: usize = 10_000;

/// An info file that is longer is none.
const LONGEST_INFO: u64 = 64 * 1024;

/// Something in the trash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trashed {
    /// The lane's name.
    pub lane: String,
    /// Where it was in the lane.
    pub path: RelPath,
    /// When it was put there, by the clock of that moment: `2026-11-26T09:20:00`; empty where nobody noted it.
    pub when: String,
    /// Where it lies now.
    pub lies: PathBuf,
    /// Whether it is a folder.
    pub folder: bool,
    /// Length in bytes; of a folder nothing is known.
    pub size: u64,
}

/// Everything in the trashes of this user that came from the near folder of one of these lanes, the newest first.
#[must_use]
pub fn look(lanes: &[LaneConfig]) -> Vec<Trashed> {
    let home = home_trash();
    let mut found = Vec::new();
    for lane in lanes {
        let Place::Local(root) = &lane.near else {
            continue;
        };
        let mut rooms: Vec<(PathBuf, PathBuf)> = Vec::new();
        if let Some(home) = &home {
            rooms.push((home.clone(), PathBuf::from("/")));
        }
        rooms.extend(drive_trashes(root));
        for (room, top) in rooms {
            found.extend(in_room(&room, &top, lane, root));
        }
    }
    found.sort_by(|one, other| other.when.cmp(&one.when).then(one.path.cmp(&other.path)));
    found
}

fn home_trash() -> Option<PathBuf> {
    let data = std::env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .filter(|data| data.is_absolute());
    let data = data.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".local/share")));
    data.map(|data| data.join("Trash"))
}

/// The trashes at the top of the drive that a folder lies on, with that top.
fn drive_trashes(folder: &Path) -> Vec<(PathBuf, PathBuf)> {
    let Ok(device) = fs::metadata(folder).map(|meta| meta.dev()) else {
        return Vec::new();
    };
    let same = |above: &&Path| fs::metadata(above).is_ok_and(|meta| meta.dev() == device);
    let Some(top) = folder.ancestors().take_while(same).last() else {
        return Vec::new();
    };
    let user = rustix::process::getuid().as_raw();
    [format!(".Trash/{user}"), format!(".Trash-{user}")]
        .map(|room| (top.join(room), top.to_owned()))
        .into()
}

fn in_room(room: &Path, top: &Path, lane: &LaneConfig, root: &Path) -> Vec<Trashed> {
    let mut found = Vec::new();
    let infos = fs::read_dir(room.join("info"));
    for info in infos.into_iter().flatten().flatten().take(MOST) {
        let name = info.file_name();
        let Some(name) = name.as_bytes().strip_suffix(b".trashinfo") else {
            continue;
        };
        let Some((was, when)) = read_info(&info.path()) else {
            continue;
        };
        let Some(path) = below(&top.join(was), root) else {
            continue;
        };
        let lies = room.join("files").join(OsString::from_vec(name.to_vec()));
        // An info without its file is a leftover.
        let Ok(meta) = fs::symlink_metadata(&lies) else {
            continue;
        };
        found.push(Trashed {
            lane: lane.name.clone(),
            path,
            when,
            folder: meta.is_dir(),
            size: if meta.is_dir() { 0 } else { meta.len() },
            lies,
        });
    }
    found
}

fn below(was: &Path, root: &Path) -> Option<RelPath> {
    let below = was.strip_prefix(root).ok()?.to_str()?;
    RelPath::parse(below).ok().filter(|path| !path.is_root())
}

/// Where something was and when it was put away, from its info file.
fn read_info(file: &Path) -> Option<(PathBuf, String)> {
    let meta = fs::symlink_metadata(file).ok()?;
    if !meta.is_file() || meta.len() > LONGEST_INFO {
        return None;
    }
    let text = fs::read(file).ok()?;
    let mut lines = text.split(|byte| *byte == b'\n');
    if lines.next()?.trim_ascii() != b"[Trash Info]" {
        return None;
    }
    let (mut was, mut when) = (None, String::new());
    for line in lines {
        if let Some(path) = line.strip_prefix(b"Path=") {
            let path: Vec<u8> = percent_decode(path.trim_ascii()).collect();
            was = was.or(Some(PathBuf::from(OsString::from_vec(path))));
        } else if let Some(date) = line.strip_prefix(b"DeletionDate=") {
            let date = std::str::from_utf8(date).unwrap_or_default().trim();
            let date: Result<jiff::civil::DateTime, _> = date.parse();
            when = date.map_or_else(|_| String::new(), |date| date.to_string());
        }
    }
    was.map(|was| (was, when))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put_away(room: &Path, name: &str, was: &str, when: &str, content: Option<&str>) {
        fs::create_dir_all(room.join("info")).unwrap();
        fs::create_dir_all(room.join("files")).unwrap();
        let info = format!("[Trash Info]\nPath={was}\nDeletionDate={when}\n");
        fs::write(room.join(format!("info/{name}.trashinfo")), info).unwrap();
        if let Some(content) = content {
            fs::write(room.join("files").join(name), content).unwrap();
        }
    }

    #[test]
    fn what_came_from_the_lane_is_found_and_nothing_else() {
        let dir = tempfile::tempdir().unwrap();
        let (room, near) = (dir.path().join("Trash"), PathBuf::from("/home/x/Scores"));
        put_away(
            &room,
            "a",
            "/home/x/Scores/Low%20Water/a%25.txt",
            "2026-11-26T09:20:00",
            Some("abc"),
        );
        put_away(
            &room,
            "b",
            "/home/x/Scores2/b.txt",
            "2026-11-26T09:20:00",
            Some("b"),
        );
        put_away(
            &room,
            "c",
            "/home/x/Scores/../c.txt",
            "2026-11-26T09:20:00",
            Some("c"),
        );
        put_away(
            &room,
            "leftover",
            "/home/x/Scores/d.txt",
            "2026-11-26T09:20:00",
            None,
        );
        put_away(
            &room,
            "undated",
            "/home/x/Scores/e.txt",
            "yesterday",
            Some(""),
        );
        fs::write(
            room.join("info/odd.trashinfo"),
            b"[Trash Info]\nPath=%ff\xff",
        )
        .unwrap();
        fs::write(
            room.join("info/none.trashinfo"),
            "Path=/home/x/Scores/f.txt",
        )
        .unwrap();
        let lane = LaneConfig::new(
            "scores",
            "1234567890abcdef",
            Place::Local(near.clone()),
            Place::Local("/far".into()),
        );
        let mut found = in_room(&room, Path::new("/"), &lane, &near);
        found.sort_by(|one, other| one.path.cmp(&other.path));
        let told: Vec<_> = found
            .iter()
            .map(|one| (one.path.as_str(), one.when.as_str(), one.size))
            .collect();
        assert_eq!(
            told,
            [
                ("Low Water/a%.txt", "2026-11-26T09:20:00", 3),
                ("e.txt", "", 0)
            ]
        );
        assert_eq!(found[0].lies, room.join("files/a"));
    }

    #[test]
    fn on_a_drive_the_path_begins_at_its_top() {
        let dir = tempfile::tempdir().unwrap();
        let near = dir.path().join("Scores");
        let room = dir.path().join(".Trash-1000");
        put_away(
            &room,
            "a",
            "Scores/a.txt",
            "2026-11-26T09:20:00",
            Some("abc"),
        );
        let lane = LaneConfig::new(
            "scores",
            "1234567890abcdef",
            Place::Local(near.clone()),
            Place::Local("/far".into()),
        );
        let found = in_room(&room, dir.path(), &lane, &near);
        assert_eq!(found[0].path.as_str(), "a.txt");
        let (rooms, uid) = (
            drive_trashes(dir.path()),
            rustix::process::getuid().as_raw(),
        );
        assert!(rooms[1].0.ends_with(format!(".Trash-{uid}")), "{rooms:?}");
    }
}
