//! `undo`: what a run removed or replaced comes back on both sides, and what is newer stays.

use std::collections::BTreeMap;
use std::fs;

use crate::worlds::{Desk, tree};

fn settled(options: &[&str]) -> Desk {
    let desk = Desk::bare(&[]);
    for name in ["a.txt", "Viola/b.txt", "Viola/deep/c.txt", "Cello/d.txt"] {
        desk.write_near(name, &format!("text of {name}"));
    }
    fs::create_dir_all(desk.near().join("Viola/empty")).unwrap();
    desk.add_account().ends(0);
    desk.tie(options).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

/// The last run of a command.
fn last(desk: &Desk, command: &str) -> String {
    let runs = desk.run(&["runs", "--json"]).ends(0).json();
    let runs = runs["runs"].as_array().unwrap();
    let of = |run: &&serde_json::Value| run["command"].as_str().unwrap().starts_with(command);
    let run = runs.iter().find(of).unwrap();
    run["number"].to_string()
}

fn both_hold(desk: &Desk, all: &BTreeMap<String, Vec<u8>>) {
    assert!(tree(&desk.near()) == *all, "here is something else");
    assert!(tree(&desk.far()) == *all, "there is something else");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn a_folder_that_was_removed_comes_back_on_both_sides_whole() {
    for (removed_far, direction) in [(false, "two-way"), (true, "two-way"), (false, "up")] {
        let desk = settled(&["--direction", direction, "--removals", "carry"]);
        let all = tree(&desk.near());
        let root = if removed_far { desk.far() } else { desk.near() };
        fs::remove_dir_all(root.join("Viola")).unwrap();
        desk.run(&["sync"]).ends(0);
        assert!(!desk.near().join("Viola").exists() && !desk.far().join("Viola").exists());
        let run = last(&desk, "sync");
        desk.run(&["runs", &run]).ends(0).says("katabatic undo");
        // Shown first, and nothing is done.
        desk.run(&["undo", &run])
            .ends(3)
            .says("to be brought back: 2 files")
            .says("Viola/deep/c.txt")
            .says("Nothing was taken back");
        assert!(!desk.near().join("Viola").exists());
        desk.run(&["undo", &run, "--yes"])
            .ends(0)
            .says("Took back 2 files")
            .says("Both sides hold them now.");
        assert!(desk.near().join("Viola/empty").is_dir(), "{direction}");
        assert!(desk.far().join("Viola/empty").is_dir(), "{direction}");
        both_hold(&desk, &all);
        // Again: it is as it was.
        desk.run(&["undo", &run, "--yes"])
            .ends(0)
            .says("nothing to take back");
    }
}

#[test]
fn versions_that_were_replaced_take_their_place_again_and_the_newer_ones_are_kept() {
    for (edited_far, direction) in [(false, "two-way"), (true, "two-way"), (false, "up")] {
        let desk = settled(&["--direction", direction]);
        let before = tree(&desk.near());
        let root = if edited_far { desk.far() } else { desk.near() };
        crate::worlds::write(&root.join("a.txt"), "a newer text, and longer");
        crate::worlds::write(&root.join("Viola/b.txt"), "another newer text");
        desk.run(&["sync"]).ends(0);
        let after = tree(&desk.near());
        let run = last(&desk, "sync");
        desk.run(&["undo", &run, "--yes"])
            .ends(0)
            .says("to take the place of the newer version again: 2 files")
            .says("Took back 2 files");
        both_hold(&desk, &before);
        let spares = desk.run(&["spares", "list", "--json"]).ends(0).json();
        let kept = spares["spares"].as_array().unwrap();
        let newer = |spare: &&serde_json::Value| spare["size"] == 24;
        assert!(kept.iter().any(|spare| newer(&spare)), "{spares:#}");
        // What the undo replaced on the other side can be taken back, too.
        desk.run(&["undo", &last(&desk, "undo"), "--yes"]).ends(0);
        both_hold(&desk, &after);
    }
}

#[test]
fn what_is_newer_than_the_run_stays() {
    let desk = settled(&[]);
    for name in ["a.txt", "Viola/b.txt", "Cello/d.txt"] {
        desk.write_near(name, "second version");
    }
    desk.run(&["sync"]).ends(0);
    let run = last(&desk, "sync");
    // One goes on and is carried, one is edited and not carried yet, one is there on one side only.
    desk.write_near("a.txt", "third version, and longer");
    desk.run(&["sync"]).ends(0);
    desk.write_near("Viola/b.txt", "third version, and not carried");
    fs::remove_file(desk.far().join("Cello/d.txt")).unwrap();
    let (near, far) = (tree(&desk.near()), tree(&desk.far()));
    desk.run(&["undo", &run, "--yes"])
        .ends(3)
        .says("left as it is: 3 files")
        .says("put a newer version there")
        .says("something that is not carried yet has its name: sync first")
        .says("katabatic spares restore");
    assert_eq!((tree(&desk.near()), tree(&desk.far())), (near, far));
}

#[test]
fn a_lane_that_carries_down_gets_back_what_was_removed_and_keeps_the_newer_version() {
    let desk = Desk::bare(&[]);
    desk.write_far("a.txt", "first");
    desk.write_far("gone.txt", "still wanted");
    desk.add_account().ends(0);
    desk.tie(&["--direction", "down", "--removals", "carry"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    desk.write_far("a.txt", "second version");
    fs::remove_file(desk.far().join("gone.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    let far = tree(&desk.far());
    desk.run(&["undo", &last(&desk, "sync"), "--yes"])
        .says("the lane only carries down")
        .says("Took back 1 file");
    assert_eq!(tree(&desk.near())["gone.txt"], b"still wanted");
    assert_eq!(tree(&desk.near())["a.txt"], b"second version");
    desk.run(&["sync"]);
    assert_eq!(tree(&desk.near())["gone.txt"], b"still wanted");
    assert_eq!(tree(&desk.far()), far, "the source was written to");
}

#[test]
fn a_version_is_restored_on_the_side_that_was_asked_for() {
    let desk = settled(&[]);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    let spares = desk.run(&["spares", "list", "--json"]).ends(0).json();
    let number = spares["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number, "--on", "far"])
        .ends(0)
        .says("@office/Scores/a.txt");
    assert!(desk.far().join("a.txt").exists() && !desk.near().join("a.txt").exists());
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near())["a.txt"], b"text of a.txt");
    // Again: the name is taken, so it goes beside.
    desk.run(&["spares", "restore", &number, "--on", "far"])
        .ends(0)
        .says("[spare ");
    let desk = Desk::bare(&[]);
    desk.write_far("a.txt", "first");
    desk.add_account().ends(0);
    desk.tie(&["--direction", "down"]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.write_far("a.txt", "second version");
    desk.run(&["sync"]).ends(0);
    desk.run(&["spares", "restore", "1", "--on", "far"])
        .ends(2)
        .says("never writes there");
}

#[test]
fn what_was_swept_and_what_was_removed_by_hand_goes_back_where_it_was() {
    let desk = settled(&[]);
    desk.write_near("x.junk", "left behind");
    desk.run(&["sync"]).ends(0);
    let all = tree(&desk.near());
    desk.run(&["lane", "change", "scores", "--leave-out", "*.junk", "--yes"])
        .ends(0);
    desk.run(&["lane", "sweep", "scores", "--yes"]).ends(0);
    assert!(!desk.far().join("x.junk").exists());
    desk.run(&["undo", &last(&desk, "sweep"), "--yes"])
        .ends(0)
        .says("Took back 2 files");
    both_hold(&desk, &all);

    desk.run(&["remove", "@office/Scores/Cello", "--holding", "1"])
        .ends(0);
    assert!(!desk.far().join("Cello").exists());
    let run = last(&desk, "remove");
    desk.run(&["undo", &run])
        .ends(0)
        .says("Nothing was taken back");
    desk.run(&["undo", &run, "--yes"]).ends(0).says("Back: ");
    both_hold(&desk, &all);
    desk.run(&["undo", &run, "--yes"])
        .ends(0)
        .says("nothing to take back");
    desk.run(&["undo", "999"]).ends(2).says("there is none");
}

#[test]
fn killed_at_any_moment_it_loses_no_version_and_can_be_gone_on_with() {
    let desk = Desk::tied(&[]);
    let brake = [
        "--brake-always-fine",
        "100000",
        "--brake-never-fine",
        "100000",
    ];
    desk.run(&[&["lane", "change", "scores", "--yes"], &brake[..]].concat())
        .ends(0);
    for number in 0..40 {
        desk.write_near(
            &format!("{}/{number}.txt", number % 5),
            &format!("part {number} ").repeat(3_000),
        );
    }
    desk.run(&["sync"]).ends(0);
    let all = tree(&desk.near());
    let mut killed = 0;
    for round in 0..10_u64 {
        for number in 0..40 {
            let file = desk.near().join(format!("{}/{number}.txt", number % 5));
            match number % 2 {
                0 => fs::remove_file(file).unwrap(),
                _ => crate::worlds::write(&file, &format!("round {round} of {number}")),
            }
        }
        desk.run(&["sync"]).ends(0);
        let run = last(&desk, "sync");
        let mut child = desk
            .command(&["undo", &run, "--yes"])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(30 + 25 * round));
        child.kill().unwrap();
        killed += u32::from(!child.wait().unwrap().success());
        let again = desk.run(&["undo", &run, "--yes"]);
        assert!(
            matches!(again.code, Some(0 | 3)),
            "{}{}",
            again.out,
            again.err
        );
        desk.run(&["sync"]);
        let (near, far) = (tree(&desk.near()), tree(&desk.far()));
        for (name, content) in &all {
            let newer = format!("round {round} of ");
            for (side, tree) in [("here", &near), ("there", &far)] {
                if let Some(found) = tree.get(name) {
                    let known = found == content || found.starts_with(newer.as_bytes());
                    assert!(known, "round {round}: {name} {side} is neither version");
                }
            }
        }
        // What did not come back by itself lies in the spares, and is found there.
        let spares = desk.run(&["spares", "list", "--json"]).ends(0).json();
        for (name, content) in &all {
            let kept =
                || {
                    spares["spares"].as_array().unwrap().iter().any(|spare| {
                        spare["path"] == name.as_str() && spare["size"] == content.len()
                    })
                };
            let there = near.get(name) == Some(content) || far.get(name) == Some(content);
            assert!(there || kept(), "round {round}: {name} is lost");
        }
        for (name, content) in &all {
            desk.write_near(name, std::str::from_utf8(content).unwrap());
        }
        let settling = desk.run(&["sync"]);
        if settling.code == Some(3) {
            desk.run(&["settle", "scores", "--keep", "near"]);
        }
        let differs = tree(&desk.far()) != all;
        assert!(!differs, "round {round}: {}{}", settling.out, settling.err);
    }
    assert!(killed > 0, "it was never killed while it ran");
}

/// The numbers and the paths of what is in the spares.
fn kept(desk: &Desk) -> Vec<(String, String)> {
    let listed = desk.run(&["spares", "list", "--json"]).ends(0).json();
    let kept = listed["spares"].as_array().unwrap().iter();
    kept.map(|spare| {
        let path = spare["path"].as_str().unwrap().to_owned();
        (spare["number"].to_string(), path)
    })
    .collect()
}

/// One version in the spares of either side.
fn replaced_on_both_sides() -> Desk {
    let desk = Desk::tied(&[]);
    desk.write_near("edited here.txt", "there before");
    desk.write_near("deep/edited there.txt", "here before");
    desk.run(&["sync"]).ends(0);
    desk.write_near("edited here.txt", "edited");
    desk.write_far("deep/edited there.txt", "edited");
    desk.run(&["sync"]).ends(0);
    assert_eq!(kept(&desk).len(), 2);
    desk
}

fn comes_back(desk: &Desk) {
    for (number, path) in kept(desk) {
        let before = match path.as_str() {
            "edited here.txt" => "there before",
            _ => "here before",
        };
        let to = format!("back {number}");
        desk.run(&["spares", "restore", &number, "--to", &to])
            .ends(0);
        assert_eq!(fs::read_to_string(desk.path(&to)).unwrap(), before);
        fs::remove_file(desk.path(&to)).unwrap();
    }
}

#[test]
fn what_a_lane_replaced_comes_back_after_the_lane_was_taken_away() {
    let desk = replaced_on_both_sides();
    desk.run(&["lane", "remove", "scores"])
        .ends(0)
        .says("2 versions")
        .says("katabatic spares list scores");
    comes_back(&desk);
    // Tied anew, it is another lane: what the first one kept is kept, and comes back to its place or beside it.
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    comes_back(&desk);
    desk.run(&["spares", "list", "scores"])
        .ends(0)
        .says("deep/edited there.txt");
    for (number, _) in kept(&desk) {
        desk.run(&["spares", "restore", &number])
            .ends(0)
            .says("[spare ");
    }
    assert_eq!(kept(&desk), []);
    desk.run(&["sync"]).ends(0);
    let here = crate::worlds::tree(&desk.near());
    assert_eq!(here, crate::worlds::tree(&desk.far()));
    assert_eq!(here.len(), 4, "{:?}", here.keys());
}

#[test]
fn what_a_lane_that_was_taken_away_kept_can_be_given_up() {
    let desk = replaced_on_both_sides();
    desk.run(&["lane", "remove", "scores"]).ends(0);
    for (number, _) in kept(&desk) {
        desk.run(&["spares", "prune", "--number", &number, "--yes"])
            .ends(0)
            .says("1 version");
    }
    assert_eq!(kept(&desk), []);
}

#[test]
fn what_was_kept_comes_back_after_the_home_moved_to_another_disk() {
    let desk = replaced_on_both_sides();
    let shared = std::path::Path::new("/dev/shm");
    let elsewhere = tempfile::tempdir_in(shared).unwrap();
    let home = elsewhere.path().join("home");
    let moved = std::process::Command::new("mv")
        .arg(desk.path("home"))
        .arg(&home)
        .status();
    assert!(moved.unwrap().success());
    std::os::unix::fs::symlink(&home, desk.path("home")).unwrap();
    comes_back(&desk);
    desk.write_far("deep/edited there.txt", "edited once more");
    desk.run(&["sync"]).ends(0);
    assert_eq!(kept(&desk).len(), 3);
    // Moving house brings along what lies in either room.
    let new = elsewhere.path().join("near");
    desk.run(&["lane", "relocate", "scores", new.to_str().unwrap(), "--yes"])
        .ends(0);
    assert!(!desk.near().exists());
    let all = kept(&desk);
    assert_eq!(all.len(), 3);
    for (number, _) in all {
        desk.run(&[
            "spares",
            "restore",
            &number,
            "--to",
            &format!("at last {number}"),
        ])
        .ends(0);
    }
}

#[test]
fn a_copy_of_the_folder_takes_its_place_where_somebody_says_so() {
    let desk = Desk::tied(&[]);
    desk.write_near("a.txt", "a");
    desk.write_near("b.txt", "b");
    desk.run(&["sync"]).ends(0);
    let copied = std::process::Command::new("cp")
        .arg("-a")
        .args([desk.near(), desk.path("copy")])
        .status();
    assert!(copied.unwrap().success());
    fs::remove_file(desk.path("copy/b.txt")).unwrap();
    fs::remove_dir_all(desk.near()).unwrap();
    fs::rename(desk.path("copy"), desk.near()).unwrap();
    desk.run(&["sync"])
        .ends(6)
        .says("a copy of the folder")
        .says("katabatic lane relocate scores NEW-NAME");
    fs::rename(desk.near(), desk.path("near 2")).unwrap();
    desk.run(&["lane", "relocate", "scores", "near 2", "--yes"])
        .ends(0)
        .says("1 file missing");
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read(desk.path("near 2/b.txt")).unwrap(), b"b");
    assert_eq!(crate::worlds::tree(&desk.far()).len(), 2);
}
