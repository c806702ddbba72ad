//! Looking at places by hand, here and in an account alike.

use std::fs;

use crate::worlds::Desk;
use serde_json::{Value, json};

/// The same folder on both sides, and the two ways to name it.
fn both() -> (Desk, [&'static str; 2]) {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    for (at, bytes) in [
        ("big/deep/a.txt", 5000),
        ("big/b.txt", 100),
        ("small/c.txt", 10),
        ("d.txt", 7),
        (".hidden", 3),
        (".katabatic/own.txt", 999),
    ] {
        let content = "x".repeat(bytes);
        desk.write_near(at, &content);
        desk.write_far(at, &content);
    }
    (desk, ["near", "@office/Scores"])
}

fn names(answer: &Value) -> Vec<String> {
    answer["members"]
        .as_array()
        .unwrap()
        .iter()
        .map(|member| member["name"].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn a_folder_is_listed_the_same_wherever_it_lies() {
    let (desk, places) = both();
    for place in places {
        let list = |options: &[&str]| {
            let mut typed = vec!["list", place, "--json"];
            typed.extend(options);
            names(&desk.run(&typed).ends(0).json())
        };
        assert_eq!(list(&[]), ["big", "small", "d.txt"], "{place}");
        assert_eq!(list(&["--hidden", "--match", "*d*"]), [".hidden", "d.txt"]);
        assert_eq!(list(&["--sort", "size"])[0], "d.txt");
        desk.run(&["list", place])
            .ends(0)
            .says("2 folders, 1 file, 7 B; 1 hidden name");
        let gone = format!("{place}/nowhere");
        desk.run(&["list", &gone]).ends(6);
        desk.run(&["list", &format!("{place}/d.txt")]).ends(6);
    }
    desk.run(&["list", "near", "--match", "[x"])
        .ends(2)
        .says("the pattern");
    desk.run(&["list", "@nowhere/x"])
        .ends(2)
        .says("there are @office");
}

#[test]
fn folders_are_summed_up_the_same_wherever_they_lie() {
    let (desk, places) = both();
    for place in places {
        let sizes = desk
            .run(&["sizes", place, "--json", "--depth", "1"])
            .ends(0)
            .json();
        assert_eq!(
            sizes,
            json!({
                "name": place, "bytes": 5120, "files": 5, "unknown": [],
                "folders": [
                    {"name": "big", "bytes": 5100, "files": 2},
                    {"name": "small", "bytes": 10, "files": 1},
                ],
            })
        );
        desk.run(&["sizes", place])
            .ends(0)
            .says("deep/")
            .says("(beside the folders)");
    }
}

#[test]
fn what_could_not_be_counted_is_said() {
    let (mut desk, _) = both();
    desk.serve_again(&["unreadable=Scores/big"]);
    desk.run(&["sizes", "@office/Scores"])
        .ends(3)
        .says("the sums are too small")
        .says("big: ");
    desk.stop_serving();
    desk.run(&["sizes", "@office/Scores"])
        .ends(6)
        .says("does not answer");
}

#[test]
fn what_takes_the_room_of_an_account_is_told_with_what_each_step_frees() {
    let desk = Desk::tied(&[]);
    desk.write_near("Old/large.bin", &"x".repeat(30_000));
    desk.write_near("a.txt", "a text");
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("Old/large.bin")).unwrap();
    desk.run(&["sync"]).ends(0);
    desk.write_far(".katabatic/laptop-7/0123/spares/1", &"y".repeat(5_000));
    desk.run(&["room", "@office"])
        .ends(0)
        .says("@office: used ")
        .says("spares of this computer, lane scores")
        .says("spares of laptop-7, lane scores")
        .says("on the computer laptop-7, katabatic spares prune")
        .says("they free nothing until those are pruned");
    let told = desk.run(&["room", "@office", "--json"]).ends(0).json();
    let kept = told["kept"].as_array().unwrap();
    let bytes = |ours: bool| {
        let one = kept.iter().find(|kept| kept["ours"] == ours).unwrap();
        one["bytes"].as_u64().unwrap()
    };
    assert!(bytes(true) >= 30_000, "{told}");
    assert_eq!(bytes(false), 5_000);
    assert_eq!(told["folders"]["Scores"]["bytes"], 6);
    desk.run(&["room", "@office", "--free", "1GB"])
        .ends(2)
        .says("only the disk of this computer is freed so");
    desk.run(&["room", "@offcie"])
        .ends(2)
        .says("Did you mean office?");
}
