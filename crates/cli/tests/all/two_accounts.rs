//! Lanes between two accounts, through the built program.

use std::fs;
use std::path::PathBuf;

use crate::worlds::{Desk, Said, tree, write};

/// The accounts `office` and `archive`, which is somebody else's on the same server.
fn desk(faults: &[&str]) -> Desk {
    let mut desk = Desk::bare(&[]);
    let mut options = vec!["--user", "librarian:practice", "--user", "keeper:practice"];
    options.extend(faults.iter().flat_map(|fault| ["--fault", *fault]));
    desk.serve_with("127.0.0.1:0", &options);
    fs::create_dir_all(desk.path("cloud/keeper/Scores")).unwrap();
    desk.add_account().ends(0);
    add_keeper(&desk, &[]).ends(0);
    desk
}

fn add_keeper(desk: &Desk, options: &[&str]) -> Said {
    let account = [
        "account",
        "add",
        "archive",
        "--address",
        &desk.address,
        "--user",
        "keeper",
        "--password-file",
        "password",
    ];
    desk.run(&[&account[..], options].concat())
}

fn tie(desk: &Desk, options: &[&str]) -> Said {
    let lane = ["lane", "add", "copy", "--near", "@archive/Scores"];
    desk.run(&[&lane[..], &["--far", "@office/Scores"], options].concat())
}

fn near(desk: &Desk) -> PathBuf {
    desk.path("cloud/keeper/Scores")
}

#[test]
fn two_accounts_are_kept_in_step_by_the_same_engine() {
    let desk = desk(&[]);
    write(&near(&desk).join("both.txt"), "the same");
    desk.write_far("both.txt", "the same");
    write(&near(&desk).join("Old/march.txt"), "march");
    desk.write_far("Viola.txt", "viola");
    tie(&desk, &[]).ends(0).says("@archive/Scores");
    desk.run(&["plan"]).ends(0).says("up").says("down");
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&near(&desk)), tree(&desk.far()));
    assert_eq!(tree(&near(&desk)).len(), 3);

    // An edit, a removal and a whole folder moved, on either side.
    write(&near(&desk).join("Viola.txt"), "viola, with bowings");
    fs::remove_file(near(&desk).join("both.txt")).unwrap();
    fs::rename(desk.far().join("Old"), desk.far().join("Older")).unwrap();
    desk.run(&["plan"]).ends(0).says("remove there");
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&near(&desk)), tree(&desk.far()));
    assert!(near(&desk).join("Older/march.txt").exists() && !near(&desk).join("Old").exists());
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(spares["spares"].as_array().unwrap().len(), 2, "{spares}");
    desk.run(&["status"])
        .ends(0)
        .says("2 files")
        .says("@archive/Scores");
    desk.run(&["sync", "--json"]).ends(0);
}

#[test]
fn a_conflict_names_both_accounts_and_what_yields_comes_back() {
    let desk = desk(&[]);
    desk.write_far("a.txt", "as it was");
    tie(&desk, &[]).ends(0);
    desk.run(&["sync"]).ends(0);
    write(&near(&desk).join("a.txt"), "edited in the archive");
    desk.write_far("a.txt", "edited in the office");
    desk.run(&["sync"]).ends(3);
    desk.run(&["conflicts"])
        .ends(3)
        .says("@archive/Scores/a.txt --keep");
    desk.run(&["settle", "@archive/Scores/a.txt", "--keep", "far"])
        .ends(0)
        .says("spares restore");
    assert_eq!(tree(&near(&desk)), tree(&desk.far()));
    let spares = desk.run(&["spares", "list", "--json"]).json();
    let number = spares["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number])
        .ends(0)
        .says("@archive/Scores/a [spare ");
    desk.run(&["sync"]).ends(0);
    let all = tree(&desk.far());
    let kept = |text: &str| all.values().any(|content| content == text.as_bytes());
    assert!(kept("edited in the archive") && kept("edited in the office"));
}

#[test]
fn another_folder_in_the_account_is_not_taken_for_emptied() {
    let desk = desk(&[]);
    desk.write_far("a.txt", "a");
    tie(&desk, &[]).ends(0);
    desk.run(&["sync"]).ends(0);
    fs::rename(near(&desk), desk.path("cloud/keeper/Scores of old")).unwrap();
    desk.run(&["sync"]).ends(6);
    fs::create_dir(near(&desk)).unwrap();
    desk.run(&["sync"])
        .ends(6)
        .says("the near side of lane copy, @archive/Scores")
        .says("another folder is there");
    assert!(desk.far().join("a.txt").exists());
    // It was moved there; the lane follows, and nothing is carried again.
    fs::remove_dir_all(near(&desk)).unwrap();
    desk.run(&[
        "lane",
        "relocate",
        "copy",
        "@archive/Scores of old",
        "--yes",
    ])
    .ends(0)
    .says("@archive/Scores of old");
    let plan = desk.run(&["plan", "--json"]).json();
    assert_eq!(
        plan["plans"][0]["steps"].as_array().map(Vec::len),
        Some(0),
        "{plan}"
    );
}

#[test]
fn an_account_that_hides_names_can_only_be_the_far_side() {
    let desk = desk(&["hide-dots"]);
    tie(&desk, &[])
        .ends(2)
        .says("does not list names that begin with a dot")
        .says("--near @office/Scores --far @archive/Scores");
    desk.run(&["lane", "list"]).says("no lanes");
    desk.run(&[
        "lane",
        "add",
        "copy",
        "--near",
        "@archive/Scores",
        "--far",
        "near",
    ])
    .ends(2)
    .says("--far @archive/Scores");
}

#[test]
fn a_near_account_that_may_only_be_read_gets_nothing() {
    let desk = desk(&[]);
    desk.run(&["account", "remove", "archive"]).ends(0);
    add_keeper(&desk, &["--read-only"]).ends(0);
    write(&near(&desk).join("theirs.txt"), "theirs");
    desk.write_far("ours.txt", "ours");
    tie(&desk, &[]).ends(0);
    desk.run(&["sync"])
        .ends(3)
        .says("not carried down: nothing may be written on the near side");
    assert!(desk.far().join("theirs.txt").exists());
    assert!(!near(&desk).join("ours.txt").exists());
}

#[test]
fn a_lane_follows_its_near_account_when_it_is_renamed_and_goes_with_it() {
    let desk = desk(&[]);
    desk.write_far("a.txt", "a");
    tie(&desk, &[]).ends(0);
    desk.run(&["sync"]).ends(0);
    desk.run(&["account", "rename", "archive", "attic"]).ends(0);
    desk.run(&["lane", "show", "copy"])
        .ends(0)
        .says("@attic/Scores")
        .says("between two accounts");
    desk.run(&["sync"]).ends(0);
    desk.run(&["account", "remove", "attic"])
        .ends(2)
        .says("copy");
    desk.run(&["account", "remove", "attic", "--with-lanes"])
        .ends(0);
    assert!(near(&desk).join("a.txt").exists() && desk.far().join("a.txt").exists());
}
