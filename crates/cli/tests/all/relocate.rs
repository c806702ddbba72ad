//! Moving a lane's folders to another place, through the built program.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};

use crate::worlds::{Desk, tree, write};

fn settled() -> Desk {
    let desk = Desk::tied(&[]);
    for (at, content) in [
        ("a.txt", "a"),
        ("b.txt", "bb"),
        ("Old/c.txt", "ccc"),
        ("draft.part", "left out"),
    ] {
        desk.write_near(at, content);
    }
    fs::create_dir(desk.near().join("Empty")).unwrap();
    symlink("a.txt", desk.near().join("link")).unwrap();
    desk.run(&["sync"]).ends(0);
    desk
}

/// A folder on another file system than the temporary one, where this computer has one that may be written.
fn another_disk() -> Option<tempfile::TempDir> {
    let here = fs::metadata(std::env::temp_dir()).unwrap().dev();
    let shared = Path::new("/dev/shm");
    let other = fs::metadata(shared).ok()?.dev() != here;
    other.then(|| tempfile::tempdir_in(shared).ok()).flatten()
}

/// A place on the other disk and one on this, in turn.
fn to_and_fro(desk: &Desk, other: &tempfile::TempDir, round: u64) -> PathBuf {
    match round % 2 {
        0 => other.path().join(format!("Scores {round}")),
        _ => desk.path(&format!("home again {round}")),
    }
}

/// The program, on its way with the lane's folder to this place.
fn moving(desk: &Desk, to: &Path) -> Child {
    desk.command(&["lane", "relocate", "scores", to.to_str().unwrap(), "--yes"])
        .stdout(Stdio::null())
        .spawn()
        .unwrap()
}

/// Nothing is carried, and a change on either side still is.
fn goes_on(desk: &Desk, near: &Path) {
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    write(&near.join("new.txt"), "new");
    fs::remove_file(desk.far().join("b.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(desk.far().join("new.txt").exists());
    assert!(!near.join("b.txt").exists());
}

#[test]
fn on_one_disk_the_folder_is_renamed() {
    let desk = settled();
    desk.run(&["lane", "relocate", "scores", "elsewhere/Scores", "--yes"])
        .ends(0)
        .says("would be renamed")
        .says("Nothing is carried over the network");
    let new = desk.path("elsewhere/Scores");
    assert!(!desk.near().exists());
    assert!(new.join("Empty").is_dir());
    goes_on(&desk, &new);
    // What was removed before and after the move can still be had back.
    let spares = desk.run(&["spares", "list", "--json"]).json();
    let number = spares["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number]).ends(0);
    assert!(new.join("b.txt").exists());
}

#[test]
fn to_another_disk_it_is_copied_compared_and_switched() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let new = disk.path().join("Scores");
    // One spare lies on the old disk already.
    fs::remove_file(desk.far().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    let before = tree(&desk.near());
    let edited = fs::metadata(desk.near().join("Old/c.txt"))
        .unwrap()
        .mtime_nsec();
    desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
        .ends(0)
        .says("would be copied")
        .says("then the old copy is removed");
    assert!(!desk.near().exists(), "the old copy is gone");
    assert_eq!(tree(&new), before);
    assert_eq!(fs::read_link(new.join("link")).unwrap(), Path::new("a.txt"));
    assert_eq!(
        fs::metadata(new.join("Old/c.txt")).unwrap().mtime_nsec(),
        edited
    );
    assert_eq!(
        fs::read_dir(disk.path()).unwrap().count(),
        1,
        "nothing half is left"
    );
    goes_on(&desk, &new);
    let spares = desk.run(&["spares", "list", "--json"]).json();
    for spare in spares["spares"].as_array().unwrap() {
        desk.run(&["spares", "restore", &spare["number"].to_string()])
            .ends(0);
    }
    assert_eq!(fs::read_to_string(new.join("a.txt")).unwrap(), "a");
}

#[test]
fn the_old_copy_may_stay_and_what_a_program_has_open_does() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    desk.run(&[
        "lane",
        "relocate",
        "scores",
        disk.path().join("one").to_str().unwrap(),
        "--keep-old",
        "--yes",
    ])
    .ends(0);
    assert_eq!(tree(&desk.near()), tree(&disk.path().join("one")));
    let open = fs::File::open(disk.path().join("one/a.txt")).unwrap();
    desk.run(&[
        "lane",
        "relocate",
        "scores",
        desk.path("back").to_str().unwrap(),
        "--yes",
    ])
    .ends(3)
    .says("a.txt stays at the old place");
    assert_eq!(
        tree(&disk.path().join("one"))
            .into_keys()
            .collect::<Vec<_>>(),
        ["a.txt"]
    );
    drop(open);
    goes_on(&desk, &desk.path("back"));
}

/// The stubs below a folder: files with a size and not one block.
fn stubs(near: &Path) -> Vec<&'static str> {
    let names = ["a.txt", "b.txt", "Old/c.txt", "new.txt"];
    let is_stub = |name: &&str| {
        let meta = fs::symlink_metadata(near.join(name));
        meta.is_ok_and(|meta| meta.len() > 0 && meta.blocks() == 0)
    };
    names.into_iter().filter(is_stub).collect()
}

#[test]
fn stubs_are_made_anew_on_the_other_disk() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let (near, new) = (desk.near(), disk.path().join("Scores"));
    let mode = fs::Permissions::from_mode(0o640);
    fs::set_permissions(near.join("Old/c.txt"), mode).unwrap();
    let dated = fs::metadata(near.join("Old/c.txt")).unwrap().mtime();
    desk.run(&["shed", "scores", "--only", "[bc].txt"]).ends(0);
    assert_eq!(stubs(&near), ["b.txt", "Old/c.txt"]);
    // One that was moved is settled first, which needs the old disk.
    fs::rename(near.join("b.txt"), near.join("moved.txt")).unwrap();
    let relocate = || desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"]);
    relocate().ends(3).says("no pass has settled yet");
    fs::rename(near.join("moved.txt"), near.join("b.txt")).unwrap();
    assert!(!new.exists());
    relocate().ends(0).says("2 stubs would be made anew");
    assert!(!near.exists());
    assert_eq!(stubs(&new), ["b.txt", "Old/c.txt"]);
    assert_eq!(fs::metadata(new.join("Old/c.txt")).unwrap().mtime(), dated);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    desk.run(&["audit"]).says("stubs: 2 of 5 B");
    desk.run(&["fetch", new.join("Old").to_str().unwrap()])
        .ends(0);
    assert_eq!(fs::read(new.join("Old/c.txt")).unwrap(), b"ccc");
    let fetched = fs::metadata(new.join("Old/c.txt")).unwrap();
    assert_eq!(
        fetched.mode() & 0o777,
        0o640,
        "the rights it had came along"
    );
    // Removing one is a removal there as it was here.
    fs::remove_file(new.join("b.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("b.txt").exists());
    // Back again, where the tool keeps its own things on the disk.
    desk.run(&["shed", "scores", "--only", "a.txt"]).ends(0);
    desk.run(&["lane", "relocate", "scores", "back", "--yes"])
        .ends(0);
    assert_eq!(stubs(&desk.path("back")), ["a.txt"]);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn killed_on_their_way_stubs_are_still_what_they_were() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    desk.run(&["shed", "scores"]).ends(0);
    let mut at = desk.near();
    for round in 0..12 {
        let new = to_and_fro(&desk, &disk, round);
        let mut child = moving(&desk, &new);
        // From before the first thing is made to behind the last.
        std::thread::sleep(std::time::Duration::from_millis(15 * round + 10));
        child.kill().unwrap();
        child.wait().unwrap();
        let shown = desk.run(&["lane", "show", "scores", "--json"]).json();
        let again = || desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"]);
        if shown["lane"]["near"] == new.to_str().unwrap() {
            at = new;
        } else if new.exists() && at.exists() {
            again().ends(3).says("remove it, which is a copy");
            fs::remove_dir_all(&new).unwrap();
        } else if new.exists() {
            // Both are on one disk: it was renamed, and killed before the lane knew.
            again().ends(0).says("3 files as agreed");
            at = new;
        }
        desk.run(&["sync"]).ends(0);
        assert_eq!(stubs(&at), ["a.txt", "b.txt", "Old/c.txt"], "round {round}");
        assert_eq!(tree(&desk.far()).len(), 3, "round {round}");
    }
    desk.run(&["fetch", "scores"]).ends(0);
    assert_eq!(fs::read(at.join("Old/c.txt")).unwrap(), b"ccc");
}

#[test]
fn killed_right_behind_the_switch_the_lane_is_at_its_new_place() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    desk.run(&["shed", "scores", "--only", "a.txt"]).ends(0);
    for round in 0..4 {
        let new = to_and_fro(&desk, &disk, round);
        let mut child = moving(&desk, &new);
        let names_it = || {
            let config = fs::read_to_string(desk.path("home/katabatic.toml")).unwrap();
            config.contains(new.to_str().unwrap())
        };
        while !names_it() && child.try_wait().unwrap().is_none() {
            std::thread::yield_now();
        }
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(names_it(), "round {round}");
        desk.run(&["status"]).ends(0);
        desk.run(&["sync"]).ends(0);
        assert_eq!(stubs(&new), ["a.txt"], "round {round}");
        assert_eq!(tree(&desk.far()).len(), 3, "round {round}");
    }
}

#[test]
fn a_copy_that_was_cut_goes_on_where_it_stopped() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let large = vec![7u8; 64 << 20];
    fs::write(desk.near().join("large.wav"), &large).unwrap();
    desk.run(&["sync"]).ends(0);
    let new = disk.path().join("Scores");
    let mut child = moving(&desk, &new);
    // Killed as soon as anything arrives under the name that nobody takes for the real one.
    while fs::read_dir(disk.path()).unwrap().next().is_none() && child.try_wait().unwrap().is_none()
    {
        std::thread::yield_now();
    }
    child.kill().unwrap();
    child.wait().unwrap();
    if !new.exists() {
        desk.run(&["sync"]).ends(0).says("nothing to carry");
        assert_eq!(tree(&desk.near()).len(), 5);
        desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
            .ends(0);
    }
    assert_eq!(tree(&new)["large.wav"].len(), large.len());
    assert_eq!(fs::read_dir(disk.path()).unwrap().count(), 1);
    goes_on(&desk, &new);
}

#[test]
fn a_folder_that_a_person_moved_is_compared_and_taken() {
    let desk = settled();
    let new = desk.path("moved");
    fs::rename(desk.near(), &new).unwrap();
    fs::remove_file(new.join("Old/c.txt")).unwrap();
    write(&new.join("a.txt"), "changed since");
    desk.run(&["sync"]).ends(6).says("Nothing was removed");
    desk.run(&["lane", "relocate", "scores", "moved", "--yes"])
        .ends(0)
        .says("1 file as agreed")
        .says("1 file with another content")
        .says("1 file missing: they come back");
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read_to_string(new.join("Old/c.txt")).unwrap(), "ccc");
    assert_eq!(
        fs::read_to_string(desk.far().join("a.txt")).unwrap(),
        "changed since"
    );
    goes_on(&desk, &new);
}

#[test]
fn a_place_that_cannot_be_used_says_why() {
    let desk = settled();
    let relocate = |to: &str| desk.run(&["lane", "relocate", "scores", to, "--yes"]);
    relocate("near/inside").ends(2).says("lies in the other");
    fs::create_dir_all(desk.path("left/.katabatic")).unwrap();
    relocate("left").ends(3).says("a folder of the tool's own");
    write(&desk.path("full/x"), "x");
    relocate("full").ends(2).says("files in both places");
    fs::rename(desk.near(), desk.path("gone")).unwrap();
    relocate("full").ends(2).says("not one file in it");
    relocate("@office/Other").ends(6);
}

#[test]
fn a_far_folder_that_was_moved_is_followed() {
    let desk = settled();
    fs::create_dir_all(desk.path("cloud/librarian/Archive")).unwrap();
    fs::rename(desk.far(), desk.path("cloud/librarian/Archive/Scores")).unwrap();
    fs::create_dir_all(desk.path("cloud/librarian/Wrong")).unwrap();
    desk.run(&["sync"]).ends(6);
    desk.run(&["lane", "relocate", "scores", "@office/Wrong", "--yes"])
        .ends(6)
        .says("not the folder this lane was tied to");
    desk.run(&[
        "lane",
        "relocate",
        "scores",
        "@office/Archive/Scores",
        "--yes",
    ])
    .ends(0)
    .says("Nothing is carried again");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn a_copy_that_has_its_name_already_is_finished() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let new = disk.path().join("Scores");
    desk.run(&[
        "lane",
        "relocate",
        "scores",
        new.to_str().unwrap(),
        "--keep-old",
        "--yes",
    ])
    .ends(0);
    // As if it had been killed before the config was switched.
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    let near = desk.near();
    fs::write(
        &config,
        text.replace(new.to_str().unwrap(), near.to_str().unwrap()),
    )
    .unwrap();
    desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
        .ends(0)
        .says("compared once more");
    assert!(!near.exists());
    goes_on(&desk, &new);
}

#[test]
fn a_copy_that_people_work_in_is_never_overwritten() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let new = disk.path().join("Scores");
    let target = new.to_str().unwrap();
    // A person copied the folder with everything on it, its mark too, and went on working in the copy.
    desk.run(&["lane", "relocate", "scores", target, "--keep-old", "--yes"])
        .ends(0);
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    fs::write(&config, text.replace(target, desk.near().to_str().unwrap())).unwrap();
    write(&new.join("a.txt"), "the work of a week");
    desk.run(&["lane", "relocate", "scores", target, "--yes"])
        .ends(3)
        .says("they differ: a.txt")
        .says("Nothing was changed");
    assert_eq!(
        fs::read_to_string(new.join("a.txt")).unwrap(),
        "the work of a week"
    );
    assert_eq!(fs::read_to_string(desk.near().join("a.txt")).unwrap(), "a");
}

#[test]
fn what_other_lanes_keep_at_the_old_place_stays() {
    let desk = settled();
    let Some(disk) = another_disk() else {
        return;
    };
    let kept = desk.near().join(".katabatic/a lane of long ago/spares/1");
    write(&kept, "the only copy");
    desk.run(&[
        "lane",
        "relocate",
        "scores",
        disk.path().join("Scores").to_str().unwrap(),
        "--yes",
    ])
    .ends(0);
    assert_eq!(fs::read_to_string(kept).unwrap(), "the only copy");
    assert_eq!(tree(&desk.near()).len(), 0);
}

/// A folder that is mounted a second time elsewhere.
struct Bound(std::path::PathBuf);

impl Drop for Bound {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}

#[test]
#[ignore = "mounts file systems, which root may do: .ci/run"]
fn from_a_second_mount_of_the_same_disk_the_spares_come_along() {
    let Some(disk) = another_disk() else {
        return;
    };
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    fs::create_dir(desk.path("bound")).unwrap();
    fs::create_dir(desk.path("bound to")).unwrap();
    let mount = std::process::Command::new("mount")
        .arg("--bind")
        .arg(desk.path("bound to"))
        .arg(desk.path("bound"))
        .status();
    assert!(mount.unwrap().success());
    let _bound = Bound(desk.path("bound"));
    let lane = ["lane", "add", "scores", "--near", "bound/near", "--make"];
    desk.run(&[&lane[..], &["--far", "@office/Scores"]].concat())
        .ends(0);
    let near = desk.path("bound/near");
    write(&near.join("a.txt"), "a, the first");
    desk.run(&["sync"]).ends(0);
    desk.write_far("a.txt", "a, edited there");
    desk.run(&["sync"]).ends(0);
    let new = disk.path().join("near");
    let new = new.to_str().unwrap();
    desk.run(&["lane", "relocate", "scores", new, "--yes"])
        .ends(0);
    assert!(!near.exists());
    desk.run(&["spares", "restore", "1", "--to", "back.txt"])
        .ends(0);
    assert_eq!(fs::read(desk.path("back.txt")).unwrap(), b"a, the first");
}
