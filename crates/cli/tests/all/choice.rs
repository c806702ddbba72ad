//! Choosing folders and leaving things out, through the built program.

use std::fs;
use std::io::Write;

use crate::worlds::{Desk, tree};

/// A lane whose far side holds two seasons and a file beside them, synced once.
fn seasons(options: &[&str]) -> Desk {
    seasons_on(&[], options)
}

fn seasons_on(faults: &[&str], options: &[&str]) -> Desk {
    let desk = Desk::bare(faults);
    for (at, content) in [
        ("rota.csv", "monday"),
        ("Past/2018/march.txt", "march"),
        ("Past/2019/waltz.txt", "waltz"),
        ("Season/poster.svg", "<svg/>"),
    ] {
        desk.write_far(at, content);
    }
    desk.add_account().ends(0);
    desk.tie(options).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

fn names(desk: &Desk) -> Vec<String> {
    tree(&desk.near()).into_keys().collect()
}

#[test]
fn a_folder_is_skipped_and_taken_again_and_the_cloud_keeps_everything() {
    let desk = seasons(&[]);
    let there = tree(&desk.far());
    desk.run(&["choose", "scores"])
        .ends(0)
        .says("whole")
        .says("Past/")
        .says("Free on this disk");
    desk.run(&["choose", "scores", "--skip", "Past", "--preview"])
        .ends(0)
        .says("drop the local copies of 2 files and free 10 B")
        .says("other computers keep theirs")
        .says("Nothing was changed");
    assert_eq!(names(&desk).len(), 4);
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(0)
        .says("Dropped the local copies of 2 files");
    assert_eq!(names(&desk), ["Season/poster.svg", "rota.csv"]);
    assert!(!desk.near().join("Past").exists());
    desk.run(&["sync"])
        .ends(0)
        .says("nothing to carry")
        .says("2 things were left out");
    assert_eq!(tree(&desk.far()), there);
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(
        spares["spares"].as_array().unwrap().len(),
        0,
        "the room is free at once"
    );
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("/Past/")
        .says("2 files");

    desk.run(&["choose", "scores", "--take", "Past/2019", "--yes"])
        .ends(0)
        .says("fetch 1 file, 5 B");
    desk.run(&["choose", "scores"]).ends(0).says("in part");
    desk.run(&["sync"]).ends(0);
    assert_eq!(
        names(&desk),
        ["Past/2019/waltz.txt", "Season/poster.svg", "rota.csv"]
    );
    desk.run(&["choose", "scores", "--take", "Past", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk).len(), 4);
    assert_eq!(tree(&desk.far()), there);
}

#[test]
fn some_folders_alone_are_taken_and_what_comes_later_stays_there() {
    let desk = seasons(&[]);
    let there = tree(&desk.far());
    desk.run(&["choose", "scores", "--only", "Past/2019", "--yes"])
        .ends(0)
        .says("drop the local copies of 2 files");
    assert_eq!(names(&desk), ["Past/2019/waltz.txt", "rota.csv"]);
    desk.write_far("Later/new.txt", "new there");
    desk.write_far("Past/2020/polka.txt", "new there, too");
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk), ["Past/2019/waltz.txt", "rota.csv"]);
    assert!(there.keys().all(|name| desk.far().join(name).exists()));
    desk.run(&["choose", "scores", "--only", "Nowhere", "--yes"])
        .ends(2)
        .says("there is no such folder");
    desk.run(&["choose", "scores", "--only", "Past", "--skip", "Season"])
        .ends(2);

    // From the beginning.
    let desk = Desk::bare(&[]);
    for at in ["Past/a.txt", "Season/b.txt", "Season/Parts/c.txt", "d.txt"] {
        desk.write_far(at, "x");
    }
    desk.add_account().ends(0);
    desk.tie(&["--only", "Season/Parts", "--only", "Past"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk), ["Past/a.txt", "Season/Parts/c.txt", "d.txt"]);
    desk.write_far("Later/new.txt", "new there");
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk).len(), 3);
}

#[test]
fn nothing_goes_that_is_not_proven_to_be_in_the_cloud() {
    let desk = seasons(&[]);
    desk.write_near("Past/2018/new.txt", "never carried");
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(3)
        .says("Past/2018/new.txt (it is only here)")
        .says("Nothing was changed");
    fs::remove_file(desk.near().join("Past/2018/new.txt")).unwrap();
    desk.write_near("Past/2018/march.txt", "MARCH");
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(3)
        .says("changed here, and that is not carried yet");
    desk.write_near("Past/2018/march.txt", "march");
    desk.write_far("Past/2019/waltz.txt", "another waltz");
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(3)
        .says("the version there is another one");
    fs::remove_file(desk.far().join("Past/2019/waltz.txt")).unwrap();
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(3)
        .says("it is only here");
    assert_eq!(names(&desk).len(), 4, "nothing was dropped");
    desk.run(&["lane", "show", "scores", "--json"])
        .ends(0)
        .says("\"skip\":[]");
}

#[test]
fn what_only_reading_proves_is_read_back_and_a_changed_version_stays() {
    let desk = seasons_on(&["without=digests"], &[]);
    desk.run(&["choose", "scores", "--skip", "Past", "--preview"])
        .ends(0)
        .says("2 files are read back first, 10 B");
    // The same length, another content.
    desk.write_far("Past/2019/waltz.txt", "WALTZ");
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(3)
        .says("is not what is here: it stays here");
    assert_eq!(names(&desk).len(), 4);
}

#[test]
fn what_a_program_has_open_is_not_deleted_under_it() {
    let desk = seasons(&[]);
    let at = desk.near().join("Past/2018/march.txt");
    let mut open = fs::OpenOptions::new().append(true).open(at).unwrap();
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(0)
        .says("A program has");
    open.write_all(b", played late").unwrap();
    drop(open);
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(spares["spares"][0]["path"], "Past/2018/march.txt");
    // The next pass sees what was written late, and puts it where people look.
    desk.run(&["sync"]);
    let late: Vec<String> = names(&desk)
        .into_iter()
        .filter(|name| name.contains("written late"))
        .collect();
    assert_eq!(late.len(), 1, "{:?}", names(&desk));
}

#[test]
fn a_folder_made_here_with_a_skipped_name_is_stuck_with_the_reason() {
    let desk = seasons(&["--skip", "Past"]);
    assert_eq!(names(&desk), ["Season/poster.svg", "rota.csv"]);
    desk.write_near("Past/mine.txt", "mine");
    desk.run(&["sync"])
        .ends(3)
        .says("the lane does not take Past from there");
    assert!(!desk.far().join("Past/mine.txt").exists());
    desk.run(&["choose", "scores", "--take", "Past", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert!(desk.far().join("Past/mine.txt").exists());
    assert_eq!(names(&desk).len(), 5);
}

#[test]
fn a_copy_removed_while_its_folder_was_skipped_by_hand_comes_back() {
    let desk = seasons(&[]);
    let config = desk.path("home/katabatic.toml");
    let text = fs::read_to_string(&config).unwrap();
    fs::write(&config, format!("{text}skip = [\"Past\"]\n")).unwrap();
    desk.run(&["sync"]).ends(3);
    fs::remove_dir_all(desk.near().join("Past")).unwrap();
    fs::write(&config, text).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk).len(), 4);
    assert_eq!(
        tree(&desk.far()).len(),
        4,
        "deleting a skipped copy removed it from the cloud"
    );
}

#[test]
fn new_folders_in_the_cloud_may_stay_there() {
    let desk = seasons(&[]);
    desk.run(&["choose", "scores", "--new-folders", "skip", "--yes"])
        .ends(0);
    desk.write_far("Tour/plan.txt", "tour");
    desk.write_far("Season/programme.txt", "programme");
    desk.run(&["sync"]).ends(0);
    assert!(!desk.near().join("Tour").exists());
    assert!(desk.near().join("Season/programme.txt").exists());
    assert_eq!(names(&desk).len(), 5);
    desk.run(&["choose", "scores", "--take", "Tour", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert!(desk.near().join("Tour/plan.txt").exists());
}

#[test]
fn rules_leave_out_on_both_sides_and_never_remove() {
    let desk = Desk::bare(&[]);
    desk.write_near("Thumbs.db", "junk");
    desk.write_near("rota.tmp", "draft");
    desk.write_near("cache/x", "x");
    desk.write_near("a.txt", "a");
    desk.write_far("desktop.ini", "junk");
    desk.add_account().ends(0);
    desk.tie(&["--leave-out", "*.tmp", "--leave-out", "cache/"])
        .ends(0)
        .says("leave out 1 file by *.tmp");
    desk.run(&["sync"]).ends(0).says("4 things were left out");
    assert_eq!(
        tree(&desk.far()).into_keys().collect::<Vec<_>>(),
        ["a.txt", "desktop.ini"]
    );
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("*.tmp")
        .says("1 file, 5 B");
    desk.run(&["status", "near/rota.tmp"])
        .ends(0)
        .says("the rule *.tmp leaves it out");

    // A rule that catches what was carried leaves it on both sides, whatever happens to it there.
    desk.run(&["lane", "change", "scores", "--leave-out", "a.txt", "--yes"])
        .ends(0)
        .says("A new rule: a.txt");
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(desk.far().join("a.txt").exists());
    desk.run(&["lane", "change", "scores", "--let-in", "a.txt", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read_to_string(desk.near().join("a.txt")).unwrap(), "a");
    desk.tie(&["--leave-out", ":bigger 3"])
        .ends(2)
        .says("there is no rule");
    desk.run(&["lane", "change", "scores", "--let-in", "nope", "--yes"])
        .ends(2)
        .says("has no such rule");
}

#[test]
fn a_removed_folder_stays_with_what_is_left_out_in_it() {
    let desk = Desk::bare(&[]);
    desk.write_near("Old/a.txt", "a");
    desk.write_near("Old/draft.tmp", "draft");
    desk.add_account().ends(0);
    desk.tie(&["--leave-out", "*.tmp"]).ends(0);
    desk.run(&["sync"]).ends(0);
    fs::remove_dir_all(desk.far().join("Old")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(names(&desk), ["Old/draft.tmp"]);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert!(!desk.far().join("Old").exists());
}

#[test]
fn names_that_do_not_travel_wait_with_one_that_would_do() {
    let desk = Desk::bare(&[]);
    desk.write_near("Take 1: slow.wav", "x");
    desk.write_near("who?/inside.txt", "y");
    desk.write_near("fine.txt", "z");
    desk.add_account().ends(0);
    desk.tie(&["--names", "portable"]).ends(0);
    desk.run(&["sync"])
        .ends(3)
        .says("it would go as \"Take 1- slow.wav\"")
        .says("\"who-\"");
    assert_eq!(
        tree(&desk.far()).into_keys().collect::<Vec<_>>(),
        ["fine.txt"]
    );
    fs::rename(desk.near().join("who?"), desk.near().join("who")).unwrap();
    desk.run(&["lane", "change", "scores", "--names", "any", "--yes"])
        .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.far()).len(), 3);
}

/// Runs the program on a terminal of its own, with these answers typed.
pub fn on_a_terminal(desk: &Desk, arguments: &str, answers: &str) -> String {
    let program = env!("CARGO_BIN_EXE_katabatic");
    let mut command = desk.command(&[]);
    let mut terminal = std::process::Command::new("script");
    terminal
        .args(["-qec", &format!("{program} {arguments}"), "/dev/null"])
        .current_dir(desk.path(""))
        .env("HOME", desk.path("person"))
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped());
    for (name, value) in command.arg("--version").get_envs() {
        match value {
            Some(value) => terminal.env(name, value),
            None => terminal.env_remove(name),
        };
    }
    let mut child = terminal.spawn().unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(answers.as_bytes())
        .unwrap();
    String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).into_owned()
}

#[test]
fn on_a_terminal_a_lane_is_asked_for_step_by_step() {
    let desk = Desk::bare(&[]);
    for at in ["Past/2018/march.txt", "Season/poster.svg", "rota.csv"] {
        desk.write_far(at, "text");
    }
    fs::create_dir(desk.path("person")).unwrap();
    desk.add_account().ends(0);
    // The account; Scores, that folder itself; the usual near folder and name; down; without Past; the usual rules and one more;
    // removals, contents and times as usual; no agent.
    let said = on_a_terminal(
        &desk,
        "lane add",
        "1\n2\n1\n\n\n3\n1\n\n*.bak\n\n\n\ny\nn\n",
    );
    assert!(said.contains("lane add scores"), "{said}");
    assert!(said.contains("carry 2 files down, 8 B"), "{said}");
    assert!(said.contains("--direction down --skip"), "{said}");
    assert!(said.contains("Added the lane scores"), "{said}");
    desk.run(&["sync"]).ends(0);
    let lane = desk
        .run(&["lane", "show", "scores", "--json"])
        .ends(0)
        .json();
    assert_eq!(lane["lane"]["direction"], "down");
    assert_eq!(lane["lane"]["skip"].as_array().unwrap().len(), 1);
    assert!(
        lane["lane"]["leave_out"]
            .as_array()
            .unwrap()
            .contains(&"*.bak".into())
    );
    assert!(desk.path("person/Scores/rota.csv").exists());
    // Whoever says no has added nothing; without a terminal nobody is asked.
    let said = on_a_terminal(
        &desk,
        "lane add",
        "1\n2\n1\nelse\nother\n1\n\n\n\n\n\n\nperhaps\nn\n",
    );
    assert!(said.contains("Nothing was added"), "{said}");
    assert!(!desk.path("else").exists());
    desk.run(&["lane", "add"]).ends(2).says("are all needed");
}

#[test]
fn the_questions_know_what_is_there_and_refuse_at_once_what_cannot_be() {
    let desk = Desk::bare(&[]);
    for at in ["Past/2018/march.txt", "Season/poster.svg", "rota.csv"] {
        desk.write_far(at, "text");
    }
    fs::create_dir(desk.path("person")).unwrap();
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    // A folder that is typed by its name is the one that is there, and one that is nearly so is asked about. The near folder of
    // another lane is refused at once, and so is the direction that would write where that writes.
    let answers =
        "1\nScores/Seeson\ny\nnear\nperson/Season\nseason\n1\n3\n\n\n3\n2\n3\nnoon\n06:30\ny\nn\n";
    let said = on_a_terminal(&desk, "lane add", answers);
    for told in [
        "Do you mean Season/?",
        "@office/Scores/Season exists: 1 file, 4 B",
        "That cannot be: ",
        "which the lane scores writes to already",
        "What becomes of what somebody removes?",
        "Start it now?",
        "Later: katabatic agent start",
        "--direction down --removals ask --contents stubs --when 'daily 06:30'",
    ] {
        assert!(said.contains(told), "{told}: {said}");
    }
    assert_eq!(said.matches("That cannot be").count(), 2, "{said}");
    let lane = desk
        .run(&["lane", "show", "season", "--json"])
        .ends(0)
        .json();
    assert_eq!(lane["lane"]["removals"], "ask");
    assert_eq!(lane["lane"]["contents"], "stubs");
    assert_eq!(lane["lane"]["when"][0], "daily 06:30");
    // What is not there is made, and said to be.
    let answers = "1\nMinutes\nperson/Minutes\n\n\n\n\n\n\n4\ny\n";
    let said = on_a_terminal(&desk, "lane add", answers);
    assert!(
        said.contains("@office/Minutes does not exist yet, and is made"),
        "{said}"
    );
    assert!(said.contains("Added the lane minutes"), "{said}");
    assert!(!said.contains("Start it now?"), "{said}");
}

#[test]
fn an_account_is_asked_for_on_a_terminal_with_its_password() {
    let desk = Desk::bare(&[]);
    fs::create_dir(desk.path("person")).unwrap();
    desk.run(&["account", "add", "office"])
        .ends(2)
        .says("its --address is needed");
    let answers = format!(
        "not an address at all\n{}\nlibrarian\npractice\ny\n",
        desk.address
    );
    let said = on_a_terminal(&desk, "account add office --plain-http", &answers);
    assert!(said.contains("What is its address"), "{said}");
    assert!(said.contains("Password of librarian"), "{said}");
    assert!(said.contains("Added the account @office"), "{said}");
    // The password is not shown.
    assert!(
        !said.replace("practice\r\n", "").contains("practice"),
        "{said}"
    );
}

#[test]
fn on_a_terminal_a_second_drive_is_asked_for_too_and_a_no_leaves_nothing() {
    let desk = Desk::bare(&[]);
    desk.write_near("a.txt", "text");
    fs::create_dir_all(desk.path("drive/Copy")).unwrap();
    fs::create_dir(desk.path("person")).unwrap();
    // Without an account there is only this; both folders are there, so the first pass is looked at.
    for (answer, added) in [("n", false), ("y", true)] {
        let answers = format!("1\ndrive/Copy\nnear\n\n2\n\n\n\n\n{answer}\nn\n");
        let said = on_a_terminal(&desk, "lane add", &answers);
        assert!(said.contains("carry 1 file up, 4 B"), "{said}");
        assert!(said.contains("--far "), "{said}");
        assert_eq!(said.contains("Added the lane copy"), added, "{said}");
        let rooms = fs::read_dir(desk.path("home/lanes")).map_or(0, |rooms| rooms.count());
        assert_eq!(rooms, usize::from(added), "{said}");
    }
    desk.run(&["sync"]).ends(0);
    assert!(desk.path("drive/Copy/a.txt").exists());
}

#[test]
fn on_a_terminal_folders_are_chosen_with_the_arrow_keys() {
    let desk = seasons(&[]);
    fs::create_dir(desk.path("person")).unwrap();
    // Past is the larger one and stands first: it is left out, and Enter and a yes do it.
    let said = on_a_terminal(&desk, "choose scores", " \ry\n");
    assert!(said.contains("would free 10 B"), "{said}");
    assert!(!desk.near().join("Past").exists(), "{said}");
    assert!(desk.far().join("Past/2018/march.txt").exists());
    // Down and up again, taken again; Esc leaves everything as it is.
    on_a_terminal(&desk, "choose scores", "\u{1b}[B\u{1b}[A \ry\n");
    desk.run(&["sync"]).ends(0);
    assert!(desk.near().join("Past/2018/march.txt").exists());
    on_a_terminal(&desk, "choose scores", " q");
    desk.run(&["sync"]).ends(0);
    assert!(desk.near().join("Past/2018/march.txt").exists());
}

#[test]
fn what_is_moved_there_to_where_it_is_not_taken_frees_its_room_here() {
    let desk = Desk::bare(&[]);
    for number in 0..30 {
        desk.write_far(&format!("Now/{number}.txt"), &format!("part {number}"));
    }
    desk.write_far("Past/march.txt", "march");
    desk.write_far("rota.csv", "rota");
    desk.add_account().ends(0);
    desk.tie(&["--skip", "Past"]).ends(0);
    desk.run(&["sync"]).ends(0);
    fs::rename(desk.far().join("Now"), desk.far().join("Past/Now")).unwrap();
    desk.write_near("Now/7.txt", "part 7, edited here meanwhile");

    // All but one of the lane's files: as removals the brake would stop them.
    desk.run(&["plan"])
        .ends(0)
        .says("drop the copies on this computer of 29 files and free")
        .says("Past/Now/3.txt, which is not taken");
    desk.run(&["sync"]).ends(0).says("dropped");
    assert_eq!(
        fs::read_dir(desk.near().join("Now")).unwrap().count(),
        1,
        "what was edited here is no copy"
    );
    assert!(!desk.near().join("Past").exists());
    assert!(desk.far().join("Past/Now/3.txt").exists());
    assert_eq!(
        fs::read_to_string(desk.far().join("Now/7.txt")).unwrap(),
        "part 7, edited here meanwhile"
    );
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(
        spares["spares"].as_array().map(Vec::len),
        Some(0),
        "{spares}"
    );
    desk.run(&["runs"]).says("29 dropped");
    desk.run(&["sync"]).ends(0);

    // Moved back to where it is taken, it comes.
    fs::rename(desk.far().join("Past/Now"), desk.far().join("Then")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read_dir(desk.near().join("Then")).unwrap().count(), 30);
}

#[test]
fn what_was_changed_on_its_way_to_where_it_is_not_taken_stays_here() {
    let desk = Desk::bare(&[]);
    desk.write_far("Now/a.txt", "as agreed");
    desk.write_far("Past/march.txt", "march");
    desk.add_account().ends(0);
    desk.tie(&["--skip", "Past"]).ends(0);
    desk.run(&["sync"]).ends(0);
    let (from, to) = (desk.far().join("Now/a.txt"), desk.far().join("Past/a.txt"));
    fs::rename(from, &to).unwrap();
    let mut file = fs::OpenOptions::new().write(true).open(&to).unwrap();
    file.write_all(b"AS AGREED").unwrap();
    drop(file);
    desk.run(&["sync"])
        .ends(3)
        .says("is another version by now");
    assert_eq!(
        fs::read_to_string(desk.near().join("Now/a.txt")).unwrap(),
        "as agreed"
    );
}

#[test]
fn what_rules_leave_out_can_be_removed_from_both_sides_into_the_spares() {
    let desk = Desk::bare(&[]);
    desk.write_near("a.txt", "a");
    for at in ["a.tmp", "cache/x.txt", "cache/deep/y.txt", "Old/b.tmp"] {
        desk.write_near(at, at);
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    let change = ["lane", "change", "scores", "--leave-out", "*.tmp", "--yes"];
    desk.run(&[&change[..], &["--leave-out", "cache/"]].concat())
        .ends(0);
    desk.run(&["sync"]).ends(0);
    desk.write_near("only here.tmp", "never carried");
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("katabatic lane sweep scores");
    desk.run(&["lane", "sweep", "scores"])
        .ends(3)
        .says("*.tmp")
        .says("Nothing was removed")
        .says("computer   only here.tmp");
    desk.run(&["lane", "sweep", "scores", "a.txt", "--yes"])
        .ends(2)
        .says("none of the lane's");
    assert!(desk.far().join("cache/deep/y.txt").exists());

    desk.run(&["lane", "sweep", "scores", "cache/", "--yes"])
        .ends(0)
        .says("Removed 4 files");
    assert!(!desk.far().join("cache").exists() && !desk.near().join("cache").exists());
    assert!(desk.near().join("a.tmp").exists());
    desk.run(&["lane", "sweep", "scores", "--yes"])
        .ends(0)
        .says("Removed 5 files");
    assert_eq!(names(&desk), ["a.txt"]);
    assert_eq!(tree(&desk.far()), tree(&desk.near()));
    let spares = desk.run(&["spares", "list", "scores", "--json"]).json();
    assert_eq!(spares["spares"].as_array().unwrap().len(), 9, "{spares}");
    desk.run(&["lane", "sweep", "scores"])
        .ends(0)
        .says("Nothing that the rules");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    let kept = spares["spares"].as_array().unwrap().iter();
    let lost = kept.clone().find(|spare| spare["path"] == "only here.tmp");
    let number = lost.unwrap()["number"].to_string();
    desk.run(&["spares", "restore", &number]).ends(0);
    assert!(desk.near().join("only here.tmp").exists());
}

#[test]
fn names_that_a_server_takes_for_one_wait_with_one_that_would_do() {
    let desk = Desk::tied(&["one-case"]);
    desk.write_near("Viola.txt", "viola");
    desk.run(&["sync"]).ends(0);
    desk.write_near("viola.TXT", "another part");
    desk.write_near("Cello.txt", "cello");
    desk.run(&["sync"])
        .ends(3)
        .says("takes the two for one")
        .says("could go as \"viola (2).TXT\"");
    assert!(desk.far().join("Cello.txt").exists());
    assert_eq!(
        fs::read_to_string(desk.far().join("Viola.txt")).unwrap(),
        "viola"
    );
    fs::remove_file(desk.near().join("viola.TXT")).unwrap();
    // A name that only changes its case is a move there too.
    fs::rename(desk.near().join("Viola.txt"), desk.near().join("VIOLA.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn who_shares_a_folder_is_said_and_whether_it_may_be_changed() {
    let mut desk = Desk::bare(&[]);
    let options = [
        "--user",
        "librarian:practice",
        "--user",
        "conductor:practice",
    ];
    let shares = [
        "--share",
        "Season=conductor,librarian:read",
        "--share",
        "Tour=conductor,librarian",
    ];
    desk.serve_with("127.0.0.1:0", &[&options[..], &shares].concat());
    desk.write_far("a.txt", "a");
    desk.add_account().ends(0);
    let lane = ["lane", "add", "all", "--near", "near", "--far", "@office/"];
    desk.run(&lane).ends(0);
    desk.run(&["choose", "all"])
        .ends(0)
        .says("shared by")
        .says("conductor, to be read only")
        .says("conductor, to be changed too");
    let folders = desk.run(&["choose", "all", "--json"]).json();
    let found = folders["folders"].as_array().unwrap().iter();
    let own = found.clone().find(|one| one["path"] == "Scores").unwrap();
    assert!(own["shared_by"].is_null(), "{own}");
}

#[test]
fn a_lane_may_be_content_with_tags_where_they_are_not_made_of_the_clock() {
    let desk = Desk::bare(&["tags=counted", "without=digests"]);
    desk.add_account().ends(0);
    desk.tie(&["--proof", "tags"]).ends(0).says("believed");
    desk.write_far("a.txt", "some content");
    desk.run(&["sync"]).ends(0);
    desk.run(&["shed", "near/a.txt"]).ends(0).says("believed");
    desk.run(&["status"]).ends(0).says("believed");
    let standing = desk.run(&["status", "--json"]).ends(0).json();
    assert_eq!(standing["lanes"][0]["believed"]["files"], 1, "{standing}");
    // Its content comes from there again, and is known.
    desk.run(&["fetch", "near/a.txt"]).ends(0);
    let standing = desk.run(&["status", "--json"]).ends(0).json();
    assert_eq!(standing["lanes"][0]["believed"]["files"], 0, "{standing}");
}

#[test]
fn tags_that_are_made_of_the_clock_are_no_proof_that_one_may_choose() {
    let desk = Desk::bare(&["tags=clock"]);
    desk.add_account().ends(0);
    desk.tie(&["--proof", "tags"])
        .ends(2)
        .says("have the same version tag");
    desk.tie(&[]).ends(0);
    desk.run(&["lane", "change", "scores", "--proof", "tags", "--yes"])
        .ends(2)
        .says("have the same version tag");
}
