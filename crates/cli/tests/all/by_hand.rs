//! Changing places by hand, here and in an account alike.

use std::collections::BTreeSet;
use std::fs;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::worlds::Desk;

/// A desk with an account and no lane, and the same few files in both places.
fn both() -> (Desk, [&'static str; 2]) {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    for (at, content) in [
        ("letters/a.txt", "the first letter"),
        ("letters/old/b.txt", "the second"),
        ("note.txt", "a note"),
    ] {
        desk.write_near(at, content);
        desk.write_far(at, content);
    }
    (desk, ["near", "@office/Scores"])
}

fn disk(desk: &Desk, place: &str) -> PathBuf {
    if place.starts_with('@') {
        desk.far()
    } else {
        desk.near()
    }
}

#[test]
fn a_folder_is_made_once() {
    let (desk, places) = both();
    for place in places {
        let new = format!("{place}/new");
        desk.run(&["make-folder", &new])
            .ends(0)
            .says("Made the folder");
        assert!(disk(&desk, place).join("new").is_dir());
        desk.run(&["make-folder", &new])
            .ends(0)
            .says("is there already");
        desk.run(&["make-folder", &format!("{place}/note.txt")])
            .ends(2)
            .says("has that name");
        desk.run(&["make-folder", &format!("{place}/not/there/yet")])
            .ends(0)
            .says("Made the folder");
        assert!(disk(&desk, place).join("not/there/yet").is_dir());
        desk.run(&["make-folder", &format!("{place}/note.txt/below")])
            .ends(2);
    }
}

#[test]
fn what_is_removed_comes_back() {
    let (desk, places) = both();
    for place in places {
        let note = format!("{place}/note.txt");
        let number = desk.run(&["remove", &note, "--json"]).ends(0).json()["removed"][0]["spare"]
            .as_i64()
            .unwrap();
        assert!(!disk(&desk, place).join("note.txt").exists());
        desk.run(&["remove", &note]).ends(6).says("nothing is at");
        let kept = match place {
            "near" => "kept on this computer",
            _ => "kept in the cloud",
        };
        desk.run(&["spares", "list"])
            .ends(0)
            .says("note.txt")
            .says(kept);
        desk.run(&["spares", "restore", &number.to_string()])
            .ends(0)
            .says("note.txt to ");
        let back = fs::read(disk(&desk, place).join("note.txt")).unwrap();
        assert_eq!(back, b"a note");
    }
}

#[test]
fn a_folder_goes_only_when_the_count_is_known() {
    let (desk, places) = both();
    for place in places {
        let letters = format!("{place}/letters");
        desk.run(&["remove", &letters])
            .ends(3)
            .says("it holds 2 files (26 B) in 2 folders")
            .says("--holding 2");
        desk.run(&["remove", &letters, "--holding", "1"])
            .ends(3)
            .says("and not 1");
        assert!(disk(&desk, place).join("letters/old/b.txt").exists());
        let done = desk.run(&["remove", &letters, "--holding", "2", "--json"]);
        let number = done.ends(0).json()["removed"][0]["spare"].as_i64().unwrap();
        assert!(!disk(&desk, place).join("letters").exists());
        desk.run(&["spares", "list"]).ends(0).says("letters/  26 B");
        // Its name was taken meanwhile: it comes back beside it.
        fs::create_dir(disk(&desk, place).join("letters")).unwrap();
        desk.run(&["spares", "restore", &number.to_string()])
            .ends(0)
            .says("letters [spare ");
    }
    desk.run(&["remove", "@office"])
        .ends(2)
        .says("the root of everything");
    desk.run(&["remove", "/"]).ends(2);
}

#[test]
fn a_link_is_removed_and_never_what_it_leads_to() {
    let (desk, _) = both();
    fs::write(desk.near().join("../outside.txt"), "precious").unwrap();
    std::os::unix::fs::symlink("../outside.txt", desk.near().join("link")).unwrap();
    desk.run(&["remove", "near/link"]).ends(2);
    assert_eq!(
        fs::read(desk.near().join("../outside.txt")).unwrap(),
        b"precious"
    );
}

#[test]
fn files_and_folders_are_copied_between_any_two_places() {
    let (desk, _) = both();
    for (number, (from, to)) in [
        ("near/letters", "@office/Scores/up"),
        ("@office/Scores/letters", "near/down"),
        ("@office/Scores/letters", "@office/Scores/across"),
        ("near/letters", "near/beside"),
    ]
    .into_iter()
    .enumerate()
    {
        let said = desk.run(&["copy", from, to]).ends(0);
        said.says("2 files, 26 B copied");
        let at = disk(&desk, to).join(to.rsplit('/').next().unwrap());
        assert_eq!(
            fs::read(at.join("old/b.txt")).unwrap(),
            b"the second",
            "{to}"
        );
        // A finished copy is not done again onto the same name.
        desk.run(&["copy", from, to]).ends(2).says("has the name");
        desk.run(&["runs"]).ends(0).says("copy");
        let single = format!("{to}/note {number}.txt");
        desk.run(&["copy", "near/note.txt", &single]).ends(0);
        assert_eq!(
            fs::read(at.join(format!("note {number}.txt"))).unwrap(),
            b"a note"
        );
    }
    let times = |path: PathBuf| fs::metadata(path).unwrap().modified().unwrap();
    desk.run(&["copy", "@office/Scores/up/a.txt", "near/a again.txt"])
        .ends(0);
    assert_eq!(
        times(desk.near().join("letters/a.txt")),
        times(desk.near().join("a again.txt")),
        "edit times go both ways"
    );
}

#[test]
fn a_name_that_is_taken_stays_unless_it_is_to_be_replaced() {
    let (desk, places) = both();
    for place in places {
        desk.write_near("other.txt", "another one");
        let to = format!("{place}/note.txt");
        desk.run(&["copy", "near/other.txt", &to])
            .ends(2)
            .says("--replace");
        assert_eq!(
            fs::read(disk(&desk, place).join("note.txt")).unwrap(),
            b"a note"
        );
        desk.run(&["copy", "near/other.txt", &to, "--replace"])
            .ends(0);
        assert_eq!(
            fs::read(disk(&desk, place).join("note.txt")).unwrap(),
            b"another one"
        );
        desk.run(&["spares", "list"])
            .ends(0)
            .says("replaced by hand");
        let (a, b) = (
            format!("{place}/letters/a.txt"),
            format!("{place}/note.txt"),
        );
        desk.run(&["move", &a, &b]).ends(2).says("--replace");
        desk.run(&["move", &a, &b, "--replace"])
            .ends(0)
            .says("lies in the spares");
        let moved = fs::read(disk(&desk, place).join("note.txt")).unwrap();
        assert_eq!(moved, b"the first letter");
        assert!(!disk(&desk, place).join("letters/a.txt").exists());
        desk.run(&[
            "move",
            &format!("{place}/letters"),
            &format!("{place}/letters/old/in itself"),
        ])
        .ends(2)
        .says("into itself");
        desk.run(&["move", &b, &format!("{place}/letters/")])
            .ends(0);
        assert!(disk(&desk, place).join("letters/note.txt").exists());
    }
}

#[test]
fn a_move_between_an_account_and_this_computer_removes_only_what_was_copied() {
    let (desk, _) = both();
    desk.run(&["move", "near/letters", "@office/Scores/from here"])
        .ends(0)
        .says("both sides were counted");
    assert!(!desk.near().join("letters").exists());
    assert_eq!(
        fs::read(desk.far().join("from here/old/b.txt")).unwrap(),
        b"the second"
    );
    desk.run(&["spares", "list"]).ends(0).says("letters/");
    // A link is not copied, so nothing may be removed.
    std::os::unix::fs::symlink("note.txt", desk.near().join("link")).unwrap();
    desk.write_near("more/c.txt", "c");
    std::os::unix::fs::symlink("c.txt", desk.near().join("more/link")).unwrap();
    desk.run(&["move", "near/more", "@office/Scores/more"])
        .ends(3)
        .says("Nothing was removed");
    assert!(desk.near().join("more/c.txt").exists());
}

#[test]
fn a_copy_that_was_cut_goes_on() {
    let mut desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    for number in 0..40 {
        desk.write_near(&format!("many/{number}.txt"), &format!("text {number}"));
    }
    desk.stop_serving();
    desk.serve_again(&["cut=0.6"]);
    let arrived = |desk: &Desk| fs::read_dir(desk.far().join("many")).map_or(0, Iterator::count);
    // On such a line one go is not enough, but something arrives.
    for _ in 0..30 {
        let said = desk.run(&["copy", "near/many", "@office/Scores/many"]);
        assert_ne!(said.code, Some(0), "{}", said.out);
        if arrived(&desk) > 0 {
            break;
        }
    }
    desk.stop_serving();
    desk.serve_again(&[]);
    desk.run(&["copy", "near/many", "@office/Scores/many"])
        .ends(0)
        .says("gone on with")
        .says("there already");
    assert_eq!(arrived(&desk), 40);
    // Within one account, more at a time than requests are in flight: none waits for another without end.
    desk.run(&["copy", "@office/Scores/many", "@office/Scores/again"])
        .ends(0)
        .says("40 files");
    assert_eq!(fs::read_dir(desk.far().join("again")).unwrap().count(), 40);
}

#[test]
fn lanes_are_named_and_their_roots_kept() {
    let (desk, _) = both();
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.run(&["remove", "near/note.txt"])
        .ends(0)
        .says("It lies in the lane scores: its next pass carries that up to @office/Scores");
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("note.txt").exists());
    desk.run(&["remove", "@office/Scores/letters/a.txt"])
        .ends(0)
        .says("carries that down");
    for root in ["near", "@office/Scores"] {
        desk.run(&["remove", root, "--holding", "1"])
            .ends(2)
            .says("a whole side of the lane scores lies in it");
        desk.run(&["move", root, "elsewhere"]).ends(2);
        desk.write_near("../other.txt", "other");
        desk.run(&["copy", "other.txt", root, "--replace"])
            .ends(2)
            .says("a whole side of the lane scores");
    }
}

#[test]
fn what_may_go_over_the_line_is_said_and_lifted() {
    let (desk, _) = both();
    desk.tie(&["--limit-up", "fast"])
        .ends(2)
        .says("write it like 2MB/s, 500kB/s or 16Mbit/s");
    desk.tie(&["--limit-up", "2MB/s"]).ends(0);
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("2MB/s up");
    desk.run(&["lane", "change", "scores", "--yes"])
        .ends(2)
        .says("nothing was said that is to change");
    desk.run(&["lane", "change", "scores", "--limit-up", "2MB/s", "--yes"])
        .ends(0)
        .says("It is so already");
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--limit-up",
        "none",
        "--limit-down",
        "16Mbit/s",
        "--yes",
    ])
    .ends(0)
    .says("at most 2MB/s down");
    desk.run(&["sync", "scores", "--limit-down", "none"])
        .ends(0);
    let lane = desk
        .run(&["lane", "show", "scores", "--json"])
        .ends(0)
        .json();
    assert_eq!(lane["lane"]["limit_down"], "2MB/s");
    assert_eq!(lane["lane"]["limit_up"], serde_json::Value::Null);
}

#[test]
fn a_spare_is_found_after_its_account_got_another_name() {
    let (desk, _) = both();
    desk.run(&["remove", "@office/Scores/note.txt"]).ends(0);
    desk.run(&["account", "rename", "office", "studio"]).ends(0);
    desk.run(&["spares", "restore", "1"])
        .ends(0)
        .says("@studio/Scores/note.txt");
    assert_eq!(fs::read(desk.far().join("note.txt")).unwrap(), b"a note");
}

#[test]
fn the_tools_own_folders_are_nobodys_to_change_by_hand() {
    let desk = Desk::tied(&[]);
    desk.write_near("note.txt", "first");
    desk.run(&["sync"]).ends(0);
    desk.write_near("note.txt", "second");
    desk.run(&["sync"]).ends(0);
    for own in ["@office/Scores/.katabatic", "home/lanes", "home/ledger.db"] {
        for arguments in [
            &["remove", own, "--holding", "1"][..],
            &["move", own, "@office/away"],
            &["copy", "near/note.txt", own, "--replace"],
            &["make-folder", &format!("{own}/new")],
        ] {
            let said = desk.run(arguments);
            assert!(
                said.code == Some(2) || said.code == Some(6),
                "{arguments:?} {}",
                said.err
            );
        }
    }
    // A lane of another computer is tied to it, and its spares lie there.
    desk.run(&["lane", "remove", "scores"]).ends(0);
    desk.run(&["remove", ".", "--holding", "9"])
        .ends(2)
        .says("the tool keeps its own things in it");
    for away in [
        &["remove", "@office/Scores", "--holding", "1"][..],
        &["move", "@office/Scores", "@office/Elsewhere"],
    ] {
        desk.run(away).ends(2).says("it holds spares");
    }
    assert!(desk.far().join("note.txt").exists());
}

#[test]
fn a_folder_with_the_spares_of_another_computer_somewhere_in_it_stays() {
    let (desk, places) = both();
    for place in places {
        let deep = disk(&desk, place).join("letters/old/.katabatic/elsewhere/1234/spares");
        fs::create_dir_all(&deep).unwrap();
        fs::write(deep.join("only here"), "the only copy").unwrap();
        let letters = format!("{place}/letters");
        for removal in [
            vec!["remove", &letters, "--holding", "2"],
            vec!["move", &letters, &format!("{place}/elsewhere")],
        ] {
            desk.run(&removal)
                .ends(2)
                .says("the folder old in it holds spares");
        }
        assert!(deep.join("only here").exists());
    }
}

#[test]
fn what_is_edited_while_it_is_moved_elsewhere_stays() {
    let mut desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    desk.write_near("many/a.txt", "as it was copied");
    desk.write_near("many/z.bin", &"x".repeat(600_000));
    desk.stop_serving();
    desk.serve_again(&["slow=200000"]);
    let mut moving = desk
        .command(&["move", "near/many", "@office/Scores/many"])
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let arrived = desk.far().join("many/a.txt");
    while !arrived.exists() && moving.try_wait().unwrap().is_none() {
        std::thread::yield_now();
    }
    desk.write_near("many/a.txt", "edited meanwhile");
    let said: crate::worlds::Said = moving.wait_with_output().unwrap().into();
    said.ends(3)
        .says("it was changed while it was being copied");
    assert_eq!(
        fs::read(desk.near().join("many/a.txt")).unwrap(),
        b"edited meanwhile"
    );
}

#[test]
fn killed_at_any_moment_no_version_is_lost() {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    let mut known = BTreeSet::new();
    let mut killed = 0;
    for round in 0..36u64 {
        let set = format!("near/set {round}");
        for number in 0..6 {
            let text = format!("round {round}, file {number} ").repeat(2000);
            desk.write_near(&format!("set {round}/{number}.txt"), &text);
            known.insert(text.into_bytes());
        }
        let arguments = match round % 3 {
            0 => ["copy", &set, "@office/Scores/set", "--replace"],
            1 => ["move", &set, "@office/Scores/set", "--replace"],
            _ => ["remove", "@office/Scores/set", "--holding", "6"],
        };
        let mut child = desk
            .command(&arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let moment = Duration::from_micros(8_000 + round * 7_919 % 70_000);
        let began = Instant::now();
        // The moment of death is what differs from round to round: nothing is waited for.
        while began.elapsed() < moment && child.try_wait().unwrap().is_none() {
            std::thread::yield_now();
        }
        killed += usize::from(child.try_wait().unwrap().is_none());
        child.kill().unwrap();
        child.wait().unwrap();
        let found: BTreeSet<Vec<u8>> = [
            desk.near(),
            desk.far(),
            desk.path("home/lanes"),
            desk.path("cloud/librarian/.katabatic"),
        ]
        .iter()
        .filter(|root| root.exists())
        .flat_map(|root| crate::worlds::tree(root).into_values())
        .collect();
        let lost = known.difference(&found).count();
        assert_eq!(lost, 0, "round {round}: {lost} versions are lost");
    }
    assert!(killed >= 12, "only {killed} of 36 were still running");
    // Nothing half bears a real name.
    for (at, content) in crate::worlds::tree(&desk.far()) {
        assert!(known.contains(&content), "{at} is half a file");
    }
}
