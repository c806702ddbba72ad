//! Lanes between two folders of this computer: a second drive, a mirror, a safe copy.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::worlds::{Desk, tree, write};

/// A desk whose near folder has these files, tied to a folder `drive` beside it.
fn mirrored(options: &[&str]) -> (Desk, PathBuf) {
    let desk = Desk::bare(&[]);
    for (at, content) in [("a.txt", "a"), ("b.txt", "b"), ("Old/c.txt", "c")] {
        desk.write_near(at, content);
    }
    let drive = desk.path("drive");
    fs::create_dir(&drive).unwrap();
    add(&desk, "mirror", "drive", options);
    desk.run(&["sync"]).ends(0);
    (desk, drive)
}

fn add(desk: &Desk, name: &str, far: &str, options: &[&str]) {
    let lane = ["lane", "add", name, "--near", "near", "--far", far];
    desk.run(&[&lane[..], options].concat()).ends(0);
}

#[test]
fn two_folders_here_are_kept_in_step_both_ways() {
    let (desk, drive) = mirrored(&[]);
    assert_eq!(tree(&desk.near()), tree(&drive));
    desk.write_near("a.txt", "changed here");
    write(&drive.join("b.txt"), "changed there");
    write(&drive.join("new.txt"), "new");
    fs::remove_file(drive.join("Old/c.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&drive));
    assert_eq!(
        fs::read_to_string(drive.join("a.txt")).unwrap(),
        "changed here"
    );
    assert_eq!(
        fs::read_to_string(desk.near().join("b.txt")).unwrap(),
        "changed there"
    );
    assert!(!desk.near().join("Old/c.txt").exists());
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    // What yielded on either side can be had back.
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(spares["spares"].as_array().unwrap().len(), 3);
    for side in [&desk.near(), &drive] {
        fs::write(side.join("same.txt"), side.to_str().unwrap()).unwrap();
    }
    desk.run(&["sync"]).ends(3).says("conflict");
    desk.run(&["settle", "near/same.txt", "--keep", "both"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&drive));
}

#[test]
fn a_touched_file_there_is_no_new_version() {
    let (desk, drive) = mirrored(&[]);
    let file = fs::File::options()
        .write(true)
        .open(drive.join("a.txt"))
        .unwrap();
    file.set_modified(
        std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000),
    )
    .unwrap();
    desk.write_near("a.txt", "changed here");
    desk.run(&["sync"]).ends(0);
    assert_eq!(
        fs::read_to_string(drive.join("a.txt")).unwrap(),
        "changed here"
    );
}

#[test]
fn a_mirror_carries_removals_and_a_safe_copy_keeps_what_is_gone() {
    let (desk, drive) = mirrored(&["--direction", "up", "--removals", "carry"]);
    fs::create_dir(desk.path("safe")).unwrap();
    add(&desk, "safe", "safe", &["--direction", "up"]);
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(!drive.join("a.txt").exists());
    assert_eq!(fs::read_to_string(desk.path("safe/a.txt")).unwrap(), "a");
}

#[test]
fn a_drive_that_is_not_there_removes_nothing() {
    let (desk, drive) = mirrored(&[]);
    fs::rename(&drive, desk.path("unplugged")).unwrap();
    desk.run(&["sync"]).ends(6).says("Nothing was removed");
    fs::create_dir(&drive).unwrap();
    desk.run(&["sync"]).ends(6).says("another folder is there");
    assert_eq!(
        fs::read_dir(&drive).unwrap().count(),
        0,
        "nothing of ours is made on another drive"
    );
    fs::remove_dir(&drive).unwrap();
    fs::rename(desk.path("unplugged"), &drive).unwrap();
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(tree(&desk.near()).len(), 3);
}

#[test]
fn of_the_lanes_that_share_a_folder_at_most_one_writes_to_it() {
    let (desk, _) = mirrored(&[]);
    desk.add_account().ends(0);
    let tie = |name: &str, near: &str, far: &str, more: &[&str]| {
        desk.run(&[&["lane", "add", name, "--near", near, "--far", far], more].concat())
    };
    tie("cloud", "near", "@office/Scores", &[])
        .ends(2)
        .says("which the lane mirror writes to already");
    tie("cloud", "near", "@office/Scores", &["--direction", "up"]).ends(0);
    tie("inner", "near/Old", "@office/Other", &["--make"])
        .ends(2)
        .says("lies inside");
    std::os::unix::fs::symlink(desk.near(), desk.path("link")).unwrap();
    tie("link", "link", "@office/Other", &["--make"])
        .ends(2)
        .says("writes to already");
    tie("self", "near", "near/Old", &[])
        .ends(2)
        .says("lies around its far side");
    tie("twice", "near", "@office/Scores", &["--direction", "down"])
        .ends(2)
        .says("writes to already");
    tie(
        "chain",
        "drive",
        "@office/Other",
        &["--make", "--direction", "up"],
    )
    .ends(0);
    desk.run(&["lane", "change", "cloud", "--direction", "two-way", "--yes"])
        .ends(2)
        .says("which the lane mirror writes to already");
}

#[test]
fn what_does_not_fit_on_the_disk_is_refused_before_a_byte() {
    let (desk, drive) = mirrored(&["--direction", "down"]);
    let file = fs::File::create(drive.join("huge.wav")).unwrap();
    // No bytes are written for it: only its length is more than any disk has.
    file.set_len(1 << 43).unwrap();
    desk.run(&["sync"])
        .ends(1)
        .says("8.8 TB")
        .says("free; nothing was fetched")
        .says("katabatic choose mirror");
    assert!(!desk.near().join("huge.wav").exists());
}

fn tool(program: &str, arguments: &[&str]) {
    let done = Command::new(program).args(arguments).output().unwrap();
    assert!(done.status.success(), "{program} {arguments:?}: {done:?}");
}

/// A file system in a file, mounted by root.
struct Stick {
    image: PathBuf,
    at: PathBuf,
}

impl Stick {
    fn new(dir: &Path, label: &str) -> Stick {
        let image = dir.join(format!("{label}.img"));
        fs::File::create(&image).unwrap().set_len(16 << 20).unwrap();
        tool("mkfs.ext4", &["-q", "-L", label, image.to_str().unwrap()]);
        Stick {
            image,
            at: PathBuf::new(),
        }
    }

    fn plug_in(&mut self, at: &Path) {
        fs::create_dir_all(at).unwrap();
        tool(
            "mount",
            &[
                "-o",
                "loop",
                self.image.to_str().unwrap(),
                at.to_str().unwrap(),
            ],
        );
        self.at = at.to_owned();
    }

    fn pull(&mut self) {
        tool("umount", &[self.at.to_str().unwrap()]);
        self.at = PathBuf::new();
    }
}

impl Drop for Stick {
    fn drop(&mut self) {
        if self.at != Path::new("") {
            let _ = Command::new("umount").arg(&self.at).status();
        }
    }
}

/// An exFAT file system in a file: no exchanges, no guarded names, no links, no attributes, no case, coarse times.
struct Card {
    device: String,
    at: PathBuf,
}

impl Card {
    fn new(dir: &Path) -> Card {
        let image = dir.join("card.img");
        fs::File::create(&image).unwrap().set_len(32 << 20).unwrap();
        tool("mkfs.exfat", &[image.to_str().unwrap()]);
        let found = Command::new("losetup")
            .args(["--find", "--show", image.to_str().unwrap()])
            .output()
            .unwrap();
        Card {
            device: String::from_utf8(found.stdout).unwrap().trim().to_owned(),
            at: PathBuf::new(),
        }
    }

    fn plug_in(&mut self, at: &Path) {
        fs::create_dir_all(at).unwrap();
        tool("mount.exfat-fuse", &[&self.device, at.to_str().unwrap()]);
        self.at = at.to_owned();
    }

    fn pull(&mut self) {
        tool("umount", &[self.at.to_str().unwrap()]);
        self.at = PathBuf::new();
    }
}

impl Drop for Card {
    fn drop(&mut self) {
        if self.at != Path::new("") {
            let _ = Command::new("umount").arg(&self.at).status();
        }
        let _ = Command::new("losetup").args(["-d", &self.device]).status();
    }
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_memory_card_holds_no_stubs_and_says_so_before_anything_is_done() {
    let desk = Desk::bare(&[]);
    let mut card = Card::new(&desk.path("."));
    let at = desk.path("card");
    card.plug_in(&at);
    desk.write_far("a.txt", "a part");
    desk.add_account().ends(0);
    desk.tie(&["--contents", "stubs"]).ends(0);
    desk.run(&["sync"]).ends(0);
    let new = at.join("Scores");
    desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
        .ends(1)
        .says("so it can hold no stubs")
        .says("katabatic fetch scores");
    assert_eq!(
        fs::read_dir(&at).unwrap().count(),
        0,
        "nothing is left there"
    );
    desk.run(&["fetch", "scores"]).ends(0);
    desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
        .ends(0);
    desk.write_far("b.txt", "b part");
    desk.run(&["sync"])
        .ends(1)
        .says("so it can hold no stubs")
        .says("--contents all");
    desk.run(&["shed", new.join("a.txt").to_str().unwrap()])
        .says("can hold no stubs");
    assert_eq!(fs::read(new.join("a.txt")).unwrap(), b"a part");
    desk.run(&["lane", "change", "scores", "--contents", "all", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read(new.join("b.txt")).unwrap(), b"b part");
    card.pull();
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_memory_card_is_a_side_and_says_what_it_lacks() {
    let desk = Desk::bare(&[]);
    for (at, content) in [("a.txt", "a"), ("Old/b.txt", "b"), ("Viola.txt", "viola")] {
        desk.write_far(at, content);
    }
    let (usual, other) = (desk.path("media/one"), desk.path("media/two"));
    let mut card = Card::new(&desk.path(""));
    card.plug_in(&usual);
    desk.add_account().ends(0);
    let lane = ["lane", "add", "card", "--near", "media/one/Scores"];
    desk.run(&[&lane[..], &["--far", "@office/Scores", "--make"]].concat())
        .ends(0)
        .says("lacks some of what a usual disk has")
        .says("- it takes names that differ only in case for one");
    desk.run(&["sync"]).ends(0);
    let near = usual.join("Scores");
    assert_eq!(tree(&near), tree(&desk.far()));
    desk.run(&["sync"]).ends(0).says("nothing to carry");

    // A new version, a removal, a folder under another name and a new file, either way.
    desk.write_far("a.txt", "a new version");
    write(&near.join("Old/b.txt"), "edited on the card");
    fs::remove_file(desk.far().join("Viola.txt")).unwrap();
    write(&near.join("new.txt"), "new");
    fs::rename(near.join("Old"), near.join("Older")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&near), tree(&desk.far()));
    assert!(desk.far().join("Older/b.txt").exists());
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert!(spares["spares"].as_array().unwrap().len() >= 2, "{spares}");

    // Names it cannot hold wait, each with one that would do; the rest goes on.
    desk.write_far("A.TXT", "its double");
    desk.write_far("who?.txt", "a question");
    desk.write_far("fine.txt", "fine");
    desk.run(&["sync"])
        .ends(3)
        .says("could go as \"A (2).TXT\"")
        .says("would go as \"who-.txt\"");
    assert!(near.join("fine.txt").exists());
    for at in ["A.TXT", "who?.txt"] {
        fs::remove_file(desk.far().join(at)).unwrap();
    }
    desk.run(&["sync"]).ends(0);
    assert_eq!(
        fs::read_to_string(near.join("a.txt")).unwrap(),
        "a new version"
    );

    // Pulled out nothing is taken for removed; elsewhere it is known again.
    card.pull();
    desk.run(&["sync"]).ends(6).says("not plugged in");
    card.plug_in(&other);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(tree(&other.join("Scores")), tree(&desk.far()));
    fs::remove_file(other.join("Scores/new.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("new.txt").exists());
    card.pull();
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_drive_is_known_by_what_is_written_on_it() {
    let desk = Desk::bare(&[]);
    desk.write_near("a.txt", "a");
    desk.write_near("b.txt", "b");
    let (usual, other) = (desk.path("media/one"), desk.path("media/two"));
    let (mut stick, mut stranger) = (
        Stick::new(&desk.path(""), "SCORES"),
        Stick::new(&desk.path(""), "HOLIDAY"),
    );
    stick.plug_in(&usual);
    desk.run(&[
        "lane",
        "add",
        "stick",
        "--near",
        "near",
        "--far",
        "media/one/Copy",
        "--make",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&usual.join("Copy")), tree(&desk.near()));
    stick.pull();
    desk.run(&["sync"])
        .ends(6)
        .says("the drive SCORES is not plugged in");

    stranger.plug_in(&usual);
    fs::create_dir(usual.join("Copy")).unwrap();
    desk.run(&["sync"])
        .ends(6)
        .says("another one is at")
        .says("HOLIDAY");
    assert_eq!(fs::read_dir(usual.join("Copy")).unwrap().count(), 0);

    // Mounted elsewhere it is found, and nothing is carried again.
    stick.plug_in(&other);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    write(&other.join("Copy/new.txt"), "from the stick");
    fs::remove_file(desk.near().join("b.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&other.join("Copy")), tree(&desk.near()));
    assert_eq!(
        tree(&desk.near()).into_keys().collect::<Vec<_>>(),
        ["a.txt", "new.txt"]
    );
    stranger.pull();
    stick.pull();
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_lane_runs_when_its_drive_is_plugged_in_wherever_it_is_mounted() {
    let desk = Desk::bare(&[]);
    desk.write_near("a.txt", "a");
    let mut stick = Stick::new(&desk.path(""), "copies");
    stick.plug_in(&desk.path("first"));
    fs::create_dir(desk.path("first/copy")).unwrap();
    add(&desk, "copy", "first/copy", &["--when", "when plugged in"]);
    desk.run(&["sync"]).ends(0);
    let mut agent = desk.command(&["agent", "run"]).spawn().unwrap();
    let agent_process = agent.id();
    let until = |what: &str, holds: &dyn Fn() -> bool| {
        let begun = std::time::Instant::now();
        while !holds() {
            assert!(begun.elapsed().as_secs() < 180, "never: {what}");
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    };
    let agent_runs = || {
        let said = desk.run(&["agent", "status", "--json"]).json();
        said["agent"]["lanes"][0]["doing"] == "idle"
    };
    until("the agent runs", &agent_runs);
    stick.pull();
    desk.write_near("b.txt", "written while it was away");
    stick.plug_in(&desk.path("second"));
    let there = desk.path("second/copy/b.txt");
    until("it is carried", &|| there.exists());
    // The same place again: nothing of the lane is otherwise, and it runs all the same.
    // So quickly that the agent never sees it gone.
    until("it is idle", &agent_runs);
    let signal = |name: &str| {
        let process = agent_process.to_string();
        let sent = std::process::Command::new("kill")
            .args([name, &process])
            .status();
        assert!(sent.unwrap().success());
    };
    signal("-STOP");
    stick.pull();
    desk.write_near("c.txt", "written while it was away again");
    stick.plug_in(&desk.path("second"));
    signal("-CONT");
    let there = desk.path("second/copy/c.txt");
    until("it is carried again", &|| there.exists());
    until("it is idle", &agent_runs);
    desk.run(&["agent", "stop"]).ends(0);
    agent.wait().unwrap();
}
