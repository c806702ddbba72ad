//! What goes wrong with this computer's own disks and limits: the right message, nothing lost, and the next pass is fine.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::being_written::{LENGTH, Writer, written_since};
use crate::worlds::{Desk, Said, tree};

fn tool(program: &str, arguments: &[&str]) {
    let done = Command::new(program).args(arguments).output().unwrap();
    assert!(done.status.success(), "{program} {arguments:?}: {done:?}");
}

/// A disk, mounted by root.
struct Disk(PathBuf);

impl Disk {
    /// One on which files may share their blocks.
    fn that_shares_blocks(desk: &Desk) -> Disk {
        let (image, at) = (desk.path("shares.img"), desk.path("disk"));
        fs::File::create(&image)
            .unwrap()
            .set_len(300 << 20)
            .unwrap();
        tool("mkfs.btrfs", &["-q", image.to_str().unwrap()]);
        fs::create_dir(&at).unwrap();
        tool(
            "mount",
            &["-o", "loop", image.to_str().unwrap(), at.to_str().unwrap()],
        );
        Disk(at)
    }

    /// A small one.
    fn new(desk: &Desk) -> Disk {
        let (image, at) = (desk.path("small.img"), desk.path("disk"));
        fs::File::create(&image).unwrap().set_len(16 << 20).unwrap();
        // So few files that it is full long before its bytes are.
        tool("mkfs.ext4", &["-q", "-N", "64", image.to_str().unwrap()]);
        fs::create_dir(&at).unwrap();
        tool(
            "mount",
            &["-o", "loop", image.to_str().unwrap(), at.to_str().unwrap()],
        );
        Disk(at)
    }

    fn remount(&self, how: &str) {
        let how = format!("remount,{how}");
        tool("mount", &["-o", &how, self.0.to_str().unwrap()]);
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

fn on_a_small_disk(files: usize) -> (Desk, Disk) {
    let desk = Desk::bare(&[]);
    let disk = Disk::new(&desk);
    for number in 0..files {
        desk.write_far(&format!("Past/{number}.txt"), &format!("part {number}"));
    }
    desk.write_far("rota.csv", "monday");
    desk.add_account().ends(0);
    let lane = ["lane", "add", "scores", "--near", "disk/Scores", "--make"];
    desk.run(&[&lane[..], &["--far", "@office/Scores"]].concat())
        .ends(0);
    (desk, disk)
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_full_disk_stops_what_comes_and_room_can_be_made_on_it() {
    let (desk, disk) = on_a_small_disk(100);
    let there = tree(&desk.far());
    desk.run(&["sync"])
        .ends(3)
        .says("the disk is full; free some room (katabatic choose");
    assert_eq!(tree(&desk.far()), there);
    // Full to the last file: it can be looked at all the same, and room can be made by leaving a folder out.
    for number in 0.. {
        if fs::write(disk.0.join(format!("filler {number}")), "").is_err() {
            break;
        }
    }
    desk.run(&["status"]).says("Past/");
    desk.run(&["plan"]).ends(0);
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(0)
        .says("Dropped the local copies");
    desk.run(&["sync"]).ends(0);
    assert_eq!(
        tree(&disk.0.join("Scores")).into_keys().collect::<Vec<_>>(),
        ["rota.csv"]
    );
    assert_eq!(tree(&desk.far()), there);
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_disk_that_may_only_be_read_is_a_source_and_gets_nothing() {
    let (desk, disk) = on_a_small_disk(3);
    desk.run(&["sync"]).ends(0);
    fs::write(disk.0.join("Scores/mine.txt"), "mine").unwrap();
    desk.write_far("rota.csv", "tuesday");
    disk.remount("ro");
    desk.run(&["sync"])
        .ends(3)
        .says("rota.csv")
        .says("nothing may be written on this computer");
    assert_eq!(fs::read(desk.far().join("mine.txt")).unwrap(), b"mine");
    desk.run(&["sync"]).ends(3);
    disk.remount("rw");
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&disk.0.join("Scores")), tree(&desk.far()));
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn too_few_open_files_are_said_and_lose_nothing() {
    let desk = Desk::bare(&[]);
    for number in 0..120 {
        desk.write_near(&format!("{}/{number}.txt", number % 12), "up");
        desk.write_far(&format!("there/{number}.txt"), "down");
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    let program = env!("CARGO_BIN_EXE_katabatic");
    for most in [10, 40, 64, 80] {
        let mut limited = Command::new("sh");
        limited.args(["-c", &format!("ulimit -n {most}; exec {program} sync")]);
        limited.current_dir(desk.path(""));
        for (name, value) in desk.command(&[]).get_envs() {
            match value {
                Some(value) => limited.env(name, value),
                None => limited.env_remove(name),
            };
        }
        let said: Said = limited.output().unwrap().into();
        assert!(!said.err.contains("panicked"), "{most}: {}", said.err);
        let told = said.code == Some(0) || said.err.contains("why") || said.out.contains("stuck");
        assert!(told, "{most}: {:?}\n{}\n{}", said.code, said.out, said.err);
    }
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    assert_eq!(tree(&desk.near()).len(), 240);
}

/// As a person, whom rights keep out; root they would not.
fn as_a_person(desk: &Desk, arguments: &[&str]) -> Said {
    let is_root = rustix::process::geteuid().is_root();
    let mut command = desk.command(arguments);
    if is_root {
        let plain = command;
        command = Command::new("setpriv");
        command
            .args(["--reuid=65534", "--regid=65534", "--clear-groups"])
            .arg(plain.get_program())
            .args(plain.get_args())
            .current_dir(desk.path(""));
        for (name, value) in plain.get_envs() {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
    }
    command.output().unwrap().into()
}

fn rights(at: &Path, mode: u32) {
    fs::set_permissions(at, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn what_rights_keep_from_us_is_not_taken_for_removed() {
    let desk = Desk::bare(&[]);
    let is_root = rustix::process::geteuid().is_root();
    for at in ["open/a.txt", "shut/b.txt", "shut/deep/c.txt", "unread.txt"] {
        desk.write_near(at, at);
    }
    if is_root {
        // Everything of the desk becomes that person's.
        rights(&desk.path(""), 0o755);
        tool(
            "chown",
            &["-R", "65534:65534", desk.path("").to_str().unwrap()],
        );
    }
    let account = ["account", "add", "office", "--address", &desk.address];
    let signing = ["--user", "librarian", "--password-file", "password"];
    as_a_person(&desk, &[&account[..], &signing].concat()).ends(0);
    let lane = ["lane", "add", "scores", "--near", "near"];
    as_a_person(&desk, &[&lane[..], &["--far", "@office/Scores"]].concat()).ends(0);
    as_a_person(&desk, &["sync"]).ends(0);
    let there = tree(&desk.far());
    assert_eq!(there.len(), 4);

    rights(&desk.near().join("shut"), 0o000);
    fs::write(desk.near().join("unread.txt"), "another text").unwrap();
    rights(&desk.near().join("unread.txt"), 0o000);
    desk.write_far("new.txt", "new");
    let said = as_a_person(&desk, &["sync"]).ends(3);
    said.says("shut").says("does not allow it");
    // The rest went on, and nothing was removed.
    assert!(desk.near().join("new.txt").exists());
    assert!(there.keys().all(|at| desk.far().join(at).exists()));
    rights(&desk.near().join("open"), 0o555);
    as_a_person(&desk, &["doctor"])
        .ends(3)
        .says("on this computer: 2 things may not be read and 1 folder may not be written to: ")
        .says("near/shut")
        .says("chmod u+rwX")
        .says("all that the lane needs, in the cloud");
    rights(&desk.near().join("open"), 0o755);

    rights(&desk.near().join("shut"), 0o755);
    rights(&desk.near().join("unread.txt"), 0o644);
    as_a_person(&desk, &["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

/// Fills a disk to the last byte.
fn fill(with: &Path) {
    let mut rest = fs::File::create(with).unwrap();
    // What a file system keeps back for what it has not written out yet is free once it is.
    for _ in 0..3 {
        while std::io::Write::write_all(&mut rest, &[0; 1024]).is_ok() {}
        rest.sync_all().unwrap();
    }
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn a_disk_that_is_full_under_the_ledger_is_said_and_some_room_mends_it() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    let disk = Disk::new(&desk);
    tool(
        "mv",
        &[
            desk.path("home").to_str().unwrap(),
            disk.0.to_str().unwrap(),
        ],
    );
    std::os::unix::fs::symlink(disk.0.join("home"), desk.path("home")).unwrap();
    desk.run(&["sync"]).ends(0);
    // What helps somebody whose disk is full is written into the ledger: some room was kept back for that.
    fill(&disk.0.join("filler"));
    desk.write_near("b.txt", "b");
    desk.run(&["sync"]).ends(0);
    let more = disk.0.join("more");
    fill(&more);
    desk.write_near("c.txt", "c");
    desk.run(&["sync"])
        .ends(1)
        .says("the disk that it lies on is full")
        .says("Free some room on that disk");
    fs::remove_file(more).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn what_is_written_all_the_time_is_carried_from_a_copy_as_it_was_at_one_moment() {
    let desk = Desk::bare(&[]);
    let disk = Disk::that_shares_blocks(&desk);
    desk.add_account().ends(0);
    let lane = ["lane", "add", "scores", "--near", "disk/Scores", "--make"];
    desk.run(&[&lane[..], &["--far", "@office/Scores"]].concat())
        .ends(0);
    let log = disk.0.join("Scores/log");
    let writer = Writer::of(&log);
    // Where it may be quiet in a moment, it is waited for.
    desk.run(&["sync"]).ends(3).says("it is being written");
    assert_eq!(tree(&desk.far()).len(), 0);
    written_since(&desk, 3_600);
    desk.run(&["sync"]).ends(0);
    let first = fs::read(desk.far().join("log")).unwrap();
    assert_eq!(first.len() as u64, LENGTH);
    // It goes on being written, and what was carried is no word on what it is now.
    desk.run(&["sync"]).ends(3).says("it is being written");
    written_since(&desk, 3_600);
    desk.run(&["sync"]).ends(0);
    drop(writer);
    desk.run(&["sync"]).ends(0);
    let now = fs::read(&log).unwrap();
    assert!(fs::read(desk.far().join("log")).unwrap() == now);
    desk.run(&["audit"]).ends(0);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    let staged = tree(&disk.0.join("Scores/.katabatic"))
        .into_keys()
        .filter(|path| path.contains("staging/"))
        .count();
    assert_eq!(staged, 0, "copies are left over");
}
