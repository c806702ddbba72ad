//! A near root in which others may write, or which they may read: other users of the computer, which root makes.

use std::fs::{self, Permissions};
use std::os::unix::fs::{PermissionsExt, chown, symlink};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::worlds::{Desk, tree};

const STRANGER: u32 = 4_011;

/// A desk whose near folder is on another mount than the home, so that its room is at the near root, and where everybody
/// may write.
fn everybodys() -> (Desk, tempfile::TempDir) {
    let desk = Desk::bare(&[]);
    let shared = tempfile::tempdir_in("/dev/shm").unwrap();
    fs::set_permissions(shared.path(), Permissions::from_mode(0o777)).unwrap();
    fs::remove_dir(desk.near()).unwrap();
    symlink(shared.path(), desk.near()).unwrap();
    (desk, shared)
}

fn tied(desk: &Desk, shared: &Path) {
    desk.add_account().ends(0);
    let near = shared.to_str().unwrap();
    desk.run(&[
        "lane",
        "add",
        "scores",
        "--near",
        near,
        "--far",
        "@office/Scores",
    ])
    .ends(0);
}

/// What was kept of a file comes back.
fn replaces_and_brings_back(desk: &Desk, shared: &Path) {
    fs::write(shared.join("a.txt"), "one").unwrap();
    desk.run(&["sync"]).ends(0);
    desk.write_far("a.txt", "two, from there");
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read(shared.join("a.txt")).unwrap(), b"two, from there");
    let listed = desk.run(&["spares", "list", "--json"]).json();
    let number = listed["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number, "--to", "back"])
        .ends(0);
    assert_eq!(fs::read(desk.path("back")).unwrap(), b"one");
}

#[test]
fn a_folder_of_the_tools_name_that_somebody_made_beforehand_gets_nothing() {
    if !rustix::process::geteuid().is_root() {
        // There is nobody else to be.
        return;
    }
    for made in ["a folder", "a link", "one that everybody may write"] {
        let (desk, shared) = everybodys();
        let elsewhere = tempfile::tempdir_in("/dev/shm").unwrap();
        chown(elsewhere.path(), Some(STRANGER), Some(STRANGER)).unwrap();
        let own = shared.path().join(".katabatic");
        match made {
            "a link" => symlink(elsewhere.path(), &own).unwrap(),
            _ => fs::create_dir(&own).unwrap(),
        }
        match made {
            "a folder" => chown(&own, Some(STRANGER), Some(STRANGER)).unwrap(),
            "a link" => {}
            _ => fs::set_permissions(&own, Permissions::from_mode(0o777)).unwrap(),
        }
        tied(&desk, shared.path());
        replaces_and_brings_back(&desk, shared.path());
        assert_eq!(fs::read_dir(&own).unwrap().count(), 0, "{made}");
        assert_eq!(fs::read_dir(elsewhere.path()).unwrap().count(), 0, "{made}");
        let there = shared.path().join(".katabatic-1");
        assert_eq!(
            there.metadata().unwrap().permissions().mode() & 0o777,
            0o700
        );
        // It is told, and it is no part of the lane.
        desk.run(&["doctor", "-v"]).says(".katabatic-1");
        assert!(
            !tree(&desk.far())
                .keys()
                .any(|name| name.contains("katabatic"))
        );
        // Where the stranger's goes, ours stays where it is.
        let removed = match made {
            "a link" => fs::remove_file(&own),
            _ => fs::remove_dir(&own),
        };
        removed.unwrap();
        let number =
            desk.run(&["spares", "list", "--json"]).json()["spares"][0]["number"].to_string();
        desk.run(&["spares", "restore", &number, "--to", "again"])
            .ends(0);
        assert!(!own.exists(), "{made}");
    }
}

#[test]
fn what_was_kept_stays_found_where_others_were_given_the_right_to_write() {
    let (desk, shared) = everybodys();
    tied(&desk, shared.path());
    replaces_and_brings_back(&desk, shared.path());
    let own = shared.path().join(".katabatic");
    let opened = Command::new("chmod")
        .args(["-R", "a+rwX"])
        .arg(&own)
        .status();
    assert!(opened.unwrap().success());
    let number = desk.run(&["spares", "list", "--json"]).json()["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number, "--to", "again"])
        .ends(0);
    assert_eq!(fs::read(desk.path("again")).unwrap(), b"one");
    assert_eq!(own.metadata().unwrap().permissions().mode() & 0o777, 0o700);
    assert!(!shared.path().join(".katabatic-1").exists());
}

#[test]
fn a_lock_of_somebody_elses_refuses_no_pass() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let desk = Desk::tied(&[]);
    fs::set_permissions(desk.path(""), Permissions::from_mode(0o755)).unwrap();
    let holds = |user: u32| {
        let mut command = Command::new("flock");
        command
            .args([
                "--no-fork",
                "near",
                "sh",
                "-c",
                "echo holds; exec sleep 1000",
            ])
            .current_dir(desk.path(""))
            .uid(user)
            .gid(user);
        let mut holder = command.stdout(Stdio::piped()).spawn().unwrap();
        let mut said = [0; 5];
        std::io::Read::read_exact(holder.stdout.as_mut().unwrap(), &mut said).unwrap();
        crate::beside::Beside(holder)
    };
    desk.write_near("a.txt", "one");
    let stranger = holds(STRANGER);
    desk.run(&["sync"]).ends(0);
    assert!(desk.far().join("a.txt").exists());
    drop(stranger);
    // One of this person's own counts.
    let _own = holds(0);
    desk.run(&["sync"])
        .ends(1)
        .says("another pass is running there");
}
