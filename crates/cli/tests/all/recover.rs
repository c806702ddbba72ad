//! `recover`: what the far side holds comes back, whatever the direction, and nothing that is here is written over.

use std::fs;

use crate::worlds::{Desk, tree};

fn settled(options: &[&str]) -> Desk {
    let desk = Desk::bare(&[]);
    for name in ["a.txt", "Viola/b.txt", "Viola/deep/c.txt", "cache/d.txt"] {
        desk.write_near(name, &format!("text of {name}"));
    }
    desk.add_account().ends(0);
    desk.tie(options).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn what_is_missing_here_comes_back_to_its_place_and_nothing_is_written_over() {
    let desk = settled(&["--direction", "up"]);
    let all = tree(&desk.far());
    fs::remove_dir_all(desk.near().join("Viola")).unwrap();
    desk.write_near("a.txt", "newer, and longer than it was");
    // Shown first, and nothing is done.
    desk.run(&["recover", "scores"])
        .ends(3)
        .says("to be brought: 2 files")
        .says("in place otherwise, and left as they are: 1 path")
        .says("Nothing was brought");
    assert!(!desk.near().join("Viola").exists());
    desk.run(&["recover", "scores", "--yes"])
        .ends(3)
        .says("Brought 2 files");
    let here = tree(&desk.near());
    assert_eq!(here["Viola/deep/c.txt"], all["Viola/deep/c.txt"]);
    assert_eq!(here["a.txt"], b"newer, and longer than it was");
    assert_eq!(tree(&desk.far()), all);
    // The lane goes on as it was, and removes nothing there.
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    desk.run(&["runs", "--json"]).ends(0).says("recover");
}

#[test]
fn a_removal_that_was_not_carried_yet_is_taken_back() {
    let desk = settled(&[]);
    fs::remove_dir_all(desk.near().join("Viola")).unwrap();
    desk.run(&["recover", "scores", "near/Viola/deep", "--yes"])
        .ends(0)
        .says("Brought 1 file");
    assert!(!desk.near().join("Viola/b.txt").exists());
    desk.run(&["recover", "scores", "Viola", "--yes"]).ends(0);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    assert_eq!(tree(&desk.near()).len(), tree(&desk.far()).len());
}

#[test]
fn it_comes_to_another_folder_with_what_the_lane_leaves_out() {
    let desk = settled(&[]);
    desk.run(&["lane", "change", "scores", "--leave-out", "cache/", "--yes"])
        .ends(0);
    fs::remove_dir_all(desk.near().join("cache")).unwrap();
    desk.run(&["recover", "scores"])
        .ends(0)
        .says("left out by the lane's rules or choice: 1 file");
    let to = desk.path("elsewhere");
    desk.run(&["recover", "scores", "--to", to.to_str().unwrap(), "--yes"])
        .ends(0)
        .says("Brought 4 files");
    let mut brought = tree(&to);
    brought.retain(|path, _| !path.starts_with(".katabatic"));
    assert_eq!(brought, tree(&desk.far()));
    // Again: all of it is there.
    desk.run(&["recover", "scores", "--to", to.to_str().unwrap(), "--yes"])
        .ends(0)
        .says("in place already, of the same size: 4 files");
}

#[test]
fn what_cannot_be_told_there_is_said() {
    let mut desk = settled(&[]);
    fs::remove_dir_all(desk.near().join("Viola")).unwrap();
    desk.serve_again(&["unreadable=Scores/Viola"]);
    desk.run(&["recover", "scores", "--yes"])
        .ends(3)
        .says("Viola");
    desk.run(&["recover", "nothing"]).ends(2);
}

#[test]
fn without_the_near_folder_it_says_how_to_copy_what_is_there() {
    let desk = settled(&[]);
    fs::rename(desk.near(), desk.path("away")).unwrap();
    let to = desk.path("elsewhere");
    let said = desk.run(&["recover", "scores", "--to", to.to_str().unwrap(), "--yes"]);
    let next = said.ends(6);
    let command = next.err.split("katabatic copy ").nth(1).unwrap();
    let words: Vec<&str> = command.split_whitespace().take(2).collect();
    assert_eq!(words, ["@office/Scores", to.to_str().unwrap()]);
    desk.run(&["copy", words[0], words[1]]).ends(0);
    assert_eq!(tree(&to), tree(&desk.far()));
}

#[test]
fn killed_at_any_moment_it_leaves_no_half_file_and_goes_on() {
    let desk = Desk::tied(&[]);
    for number in 0..60 {
        let name = format!("{}/{number}.txt", number % 7);
        desk.write_near(&name, &format!("part {number} ").repeat(4_000));
    }
    desk.run(&["sync"]).ends(0);
    let all = tree(&desk.far());
    let mut killed = 0;
    for round in 0..12 {
        for folder in 0..7 {
            let folder = desk.near().join(folder.to_string());
            if round % 3 == 0 && folder.exists() {
                fs::remove_dir_all(folder).unwrap();
            }
        }
        let mut child = desk
            .command(&["recover", "scores", "--yes"])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(20 + 15 * round));
        child.kill().unwrap();
        killed += u32::from(!child.wait().unwrap().success());
        for (name, content) in tree(&desk.near()) {
            assert!(content == all[&name], "round {round}: half of {name}");
        }
        assert!(tree(&desk.far()) == all, "round {round}");
    }
    assert!(killed > 0, "it was never killed while it ran");
    desk.run(&["recover", "scores", "--yes"]).ends(0);
    assert!(tree(&desk.near()) == all);
    desk.run(&["sync"]).ends(0);
    assert!(tree(&desk.far()) == all);
    // Nothing that was staged is left.
    let left = tree(&desk.path("home"));
    let left: Vec<&String> = left
        .keys()
        .filter(|name| name.contains("staging"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}
