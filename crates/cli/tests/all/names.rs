//! `names`: what the far side does not take is shown with a name that would do, and renamed here after a yes.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;

use serde_json::Value;

use crate::worlds::{Desk, tree};

fn here(answer: &Value) -> Vec<(&str, &str, &str)> {
    let names = answer["lanes"][0]["here"].as_array().unwrap();
    names
        .iter()
        .map(|one| {
            let text = |key: &str| one[key].as_str().unwrap();
            (text("path"), text("would_do"), text("trouble"))
        })
        .collect()
}

#[test]
fn names_that_are_no_text_are_given_ones_after_a_yes() {
    let desk = Desk::tied(&[]);
    let odd = desk.near().join(OsStr::from_bytes(b"d\xfcrer"));
    fs::create_dir(&odd).unwrap();
    fs::write(odd.join(OsStr::from_bytes(b"\xe4.txt")), "inside").unwrap();
    fs::write(desk.near().join(OsStr::from_bytes(b"caf\xe9.txt")), "one").unwrap();
    desk.write_near("caf\u{e9}.txt", "the other");
    desk.run(&["lane", "change", "scores", "--leave-out", "junk/", "--yes"])
        .ends(0);
    let junk = desk.near().join("junk");
    fs::create_dir(&junk).unwrap();
    fs::write(junk.join(OsStr::from_bytes(b"\xff")), "left alone").unwrap();

    // Nobody can be asked here, so it is only shown.
    desk.run(&["names"])
        .ends(3)
        .says("3 names on this computer are not taken")
        .says("no valid UTF-8")
        .says("the same with --yes");
    desk.run(&["status"]).says("katabatic names");
    let shown = desk
        .run(&["names", "scores", "--preview", "--json"])
        .ends(3)
        .json();
    assert_eq!(
        here(&shown),
        [
            ("caf\\xe9.txt", "caf\u{e9} (2).txt", "not-utf8"),
            ("d\\xfcrer", "d\u{fc}rer", "not-utf8"),
            ("d\\xfcrer/\\xe4.txt", "\u{e4}.txt", "not-utf8"),
        ]
    );
    assert!(odd.exists());

    let done = desk
        .run(&["names", "scores", "--yes", "--json"])
        .ends(0)
        .json();
    assert_eq!(done["lanes"][0]["renamed"], 3);
    let run = done["lanes"][0]["run"].to_string();
    desk.run(&["runs", &run])
        .ends(0)
        .says("names")
        .says("d\u{fc}rer");
    desk.run(&["names"]).ends(0).says("every name here is one");
    desk.run(&["sync"]).ends(0);
    let there = tree(&desk.far());
    assert_eq!(there["d\u{fc}rer/\u{e4}.txt"], b"inside");
    assert_eq!(there["caf\u{e9} (2).txt"], b"one");
    assert_eq!(there["caf\u{e9}.txt"], b"the other");
    assert!(junk.join(OsStr::from_bytes(b"\xff")).exists());
}

#[test]
fn names_that_the_lane_holds_back_are_renamed_and_carried() {
    let desk = Desk::tied(&[]);
    desk.run(&["lane", "change", "scores", "--names", "portable", "--yes"])
        .ends(0);
    desk.write_near("Take 1: slow.wav", "slow");
    desk.write_near("Act: two/horn.txt", "horn");
    desk.write_near("plain.txt", "plain");
    desk.run(&["sync"]).ends(3);
    let shown = desk.run(&["names", "--json"]).ends(3).json();
    assert_eq!(
        here(&shown),
        [
            ("Act: two", "Act- two", "stuck"),
            ("Take 1: slow.wav", "Take 1- slow.wav", "stuck"),
        ]
    );
    desk.run(&["names", "scores", "--yes"])
        .ends(0)
        .says("Renamed 2 names");
    desk.run(&["sync"]).ends(0);
    let there = tree(&desk.far());
    assert_eq!(there["Act- two/horn.txt"], b"horn");
    assert_eq!(there["Take 1- slow.wav"], b"slow");
    // What came to have the new name since is not written over: another one is found.
    desk.write_near("a: b.txt", "first");
    desk.write_near("a- b.txt", "taken");
    desk.run(&["sync"]).ends(3);
    desk.run(&["names", "--yes"]).ends(0).says("a- b (2).txt");
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.far())["a- b (2).txt"], b"first");
    assert_eq!(tree(&desk.far())["a- b.txt"], b"taken");
}

#[test]
fn a_name_that_is_there_is_taken_and_a_lane_that_only_brings_down_asks_for_none() {
    let mut desk = Desk::tied(&[]);
    desk.write_near("old? take.wav", "carried before");
    desk.run(&["sync"]).ends(0);
    // From now on such names are listed there, and not given to anybody.
    desk.serve_again(&["unserved=?"]);
    desk.run(&["account", "test", "office"]);
    desk.write_near("new? take.wav", "mine");
    let shown = desk.run(&["names", "--json"]).ends(3).json();
    assert_eq!(
        here(&shown),
        [("new? take.wav", "new- take.wav", "character")]
    );
    desk.run(&["names", "--yes"]).ends(0);
    desk.run(&["sync"]);
    assert_eq!(tree(&desk.far())["new- take.wav"], b"mine");
    assert!(desk.near().join("old? take.wav").exists());

    // What nothing carries up may be called anything.
    let down = ["lane", "change", "scores", "--direction", "down", "--yes"];
    desk.run(&down).ends(0);
    desk.write_near("stranger? here.wav", "x");
    desk.run(&["names"]).ends(0).says("every name here is one");
}

#[test]
fn of_two_names_that_are_one_there_the_one_that_was_carried_stays() {
    let desk = Desk::tied(&["one-case"]);
    desk.write_near("viola.TXT", "first");
    desk.run(&["sync"]).ends(0);
    desk.write_near("Viola.txt", "second");
    for _ in 0..2 {
        let shown = desk.run(&["names", "--json"]).ends(3).json();
        assert_eq!(here(&shown), [("Viola.txt", "Viola (2).txt", "double")]);
        // Before a pass was refused, and after.
        desk.run(&["sync"]).ends(3);
    }
    desk.run(&["names", "--yes"]).ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.far())["viola.TXT"], b"first");
    assert_eq!(tree(&desk.far())["Viola (2).txt"], b"second");
}

#[test]
fn a_lane_without_a_folder_here_says_where_to_rename() {
    let desk = Desk::tied(&[]);
    desk.run(&["names", "nowhere"]).ends(2).says("nowhere");
    fs::rename(desk.near(), desk.path("away")).unwrap();
    desk.run(&["names"]).ends(6);
}
