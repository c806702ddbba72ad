//! Files without their content, as a technician meets them: brought as stubs, fetched, shed, held.

use std::fs::{self, FileTimes};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::time::{Duration, Instant, SystemTime};

use crate::worlds::{Desk, tree};

/// A lane whose far side holds two folders, synced once with these options.
fn desk(options: &[&str]) -> Desk {
    let desk = Desk::bare(&[]);
    for (at, content) in [
        ("rota.csv", "monday"),
        ("Waltz/horn.txt", "horn part"),
        ("Waltz/oboe.txt", "oboe part"),
        ("March/drum.txt", "drum part"),
    ] {
        desk.write_far(at, content);
    }
    desk.add_account().ends(0);
    desk.tie(options).ends(0);
    desk.run(&["sync"]).ends(0);
    desk
}

fn is_stub(desk: &Desk, at: &str) -> bool {
    let meta = fs::symlink_metadata(desk.near().join(at)).unwrap();
    assert!(meta.len() > 0);
    meta.blocks() == 0 && meta.mode() & 0o7777 == 0
}

#[test]
fn only_what_a_rule_catches_is_fetched_and_shed() {
    let desk = desk(&["--contents", "stubs"]);
    let stubs = || {
        let all = [
            "rota.csv",
            "Waltz/horn.txt",
            "Waltz/oboe.txt",
            "March/drum.txt",
        ];
        let stubs = all.into_iter().filter(|at| is_stub(&desk, at));
        stubs.collect::<Vec<_>>().join(" ")
    };
    desk.run(&["fetch", "scores", "--only", "*.csv", "--only", "Waltz/h*"])
        .ends(0)
        .says("brought 2 files");
    assert_eq!(stubs(), "Waltz/oboe.txt March/drum.txt");
    desk.run(&["fetch", "scores", "--only", "March"]).ends(0);
    assert_eq!(stubs(), "Waltz/oboe.txt");
    desk.run(&["fetch", "scores", "--only", "*.csv"])
        .ends(0)
        .says("nothing to fetch: what these rules catch is on this computer");
    desk.run(&["shed", "scores", "--only", ":smaller 9B"])
        .ends(0)
        .says("shed 1 file, 6 B");
    assert_eq!(stubs(), "rota.csv Waltz/oboe.txt");
    // What is not meant is not named as what stays.
    desk.write_near("Waltz/horn.txt", "another horn part");
    let said = desk.run(&["shed", "scores", "--only", "March/"]).ends(0);
    assert!(!said.out.contains("horn"), "{}", said.out);
    desk.run(&["fetch", "scores", "--only", ":odd"])
        .ends(2)
        .says("--only :odd");
}

#[test]
fn stubs_that_a_rule_leaves_out_are_told_and_come_once_they_are_let_in() {
    let desk = desk(&["--contents", "stubs"]);
    let change = |option: &str| desk.run(&["lane", "change", "scores", option, "*.txt", "--yes"]);
    change("--leave-out")
        .ends(0)
        .says("of these are stubs now, whose content is only on the other side");
    desk.run(&["sync"]).ends(0);
    let horn = desk.near().join("Waltz/horn.txt");
    let horn = horn.to_str().unwrap();
    desk.run(&["fetch", horn])
        .ends(3)
        .says("1 stub is not fetched")
        .says("the rule *.txt leaves it out");
    let answer = desk.run(&["fetch", horn, "--json"]).ends(3).json();
    let left_out = &answer["lanes"][0]["left_out"];
    assert_eq!(left_out[0]["path"], "Waltz/horn.txt", "{answer:#}");
    desk.run(&["status", horn])
        .ends(0)
        .says("how to let it in: katabatic why");
    desk.run(&["why", horn])
        .ends(0)
        .says("nothing brings its content")
        .says("--let-in '*.txt'");
    assert!(is_stub(&desk, "Waltz/horn.txt"));
    change("--let-in").ends(0);
    desk.run(&["sync"]).ends(0);
    desk.run(&["fetch", horn]).ends(0).says("brought 1 file");
    assert_eq!(
        fs::read(horn).unwrap(),
        fs::read(desk.far().join("Waltz/horn.txt")).unwrap()
    );
}

#[test]
fn a_stub_that_something_else_made_anew_is_renewed_and_another_one_is_held() {
    let desk = desk(&["--contents", "stubs"]);
    let replace = |at: &str, size: u64, dated: SystemTime| {
        let (beside, at) = (desk.path("beside"), desk.near().join(at));
        let file = fs::File::create(&beside).unwrap();
        file.set_len(size).unwrap();
        let times = FileTimes::new().set_modified(dated);
        file.set_times(times).unwrap();
        fs::set_permissions(&beside, fs::Permissions::from_mode(0o000)).unwrap();
        fs::rename(beside, at).unwrap();
    };
    for (at, longer) in [("Waltz/horn.txt", 0), ("Waltz/oboe.txt", 1)] {
        let shown = fs::metadata(desk.near().join(at)).unwrap();
        replace(at, shown.len() + longer, shown.modified().unwrap());
    }
    desk.run(&["sync"]).ends(3).says("stuck  Waltz/oboe.txt");
    desk.run(&["status"]).says("stuck    1 path");
    desk.run(&["fetch", "scores", "--only", "horn*"]).ends(0);
    let horn = fs::read(desk.near().join("Waltz/horn.txt")).unwrap();
    assert_eq!(horn, b"horn part");
    assert_eq!(tree(&desk.far()).len(), 4);
}

#[test]
fn a_folder_may_come_as_stubs_and_one_in_it_whole() {
    let desk = desk(&[]);
    desk.write_far("Waltz/Parts/bass.txt", "bass part");
    desk.run(&["sync"]).ends(0);
    let change = |contents: &str, folder: &str| {
        let typed = ["lane", "change", "scores", "--yes", "--contents", contents];
        desk.run(&[&typed[..], &["--in", folder]].concat())
    };
    change("stubs", "Waltz")
        .ends(0)
        .says("New files in Waltz would come as stubs")
        .says("shed 3 files");
    assert!(is_stub(&desk, "Waltz/horn.txt") && !is_stub(&desk, "rota.csv"));
    change("all", "Waltz/Parts").ends(0).says("brought 1 file");
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("Waltz: new files of the far side come as stubs")
        .says("Waltz/Parts: new files of the far side come with their content");
    for at in ["Waltz/new.txt", "Waltz/Parts/new.txt", "new.txt"] {
        desk.write_far(at, "new there");
    }
    desk.run(&["sync"]).ends(0);
    assert!(is_stub(&desk, "Waltz/new.txt"));
    assert!(!is_stub(&desk, "Waltz/Parts/new.txt") && !is_stub(&desk, "new.txt"));
    change("stubs", "Nowhere").ends(2);
    let typed = ["lane", "change", "scores", "--in", "Waltz", "--yes"];
    desk.run(&typed).ends(2);
    desk.run(&["lane", "change", "scores", "--yes", "--contents", "all"])
        .ends(0)
        .says("brought 3 files");
    let shown = desk.run(&["lane", "show", "scores", "--json"]).json();
    assert_eq!(shown["lane"]["stubs_in"].as_array().unwrap().len(), 0);
}

#[test]
fn a_lane_goes_with_its_stubs_and_nothing_is_removed_there() {
    let desk = desk(&["--contents", "stubs"]);
    desk.run(&["fetch", "scores", "--only", "rota.csv"]).ends(0);
    let there = tree(&desk.far());
    desk.run(&["lane", "remove", "scores"])
        .ends(3)
        .says("--drop-stubs");
    let horn = desk.near().join("Waltz/horn.txt");
    fs::rename(&horn, desk.near().join("Waltz/moved.txt")).unwrap();
    let remove = || desk.run(&["lane", "remove", "scores", "--drop-stubs"]);
    remove().ends(3).says("no pass has settled yet");
    fs::rename(desk.near().join("Waltz/moved.txt"), &horn).unwrap();
    remove().ends(0).says("but for 3 stubs here");
    let here: Vec<String> = tree(&desk.near()).into_keys().collect();
    assert_eq!(here, ["rota.csv"]);
    assert_eq!(tree(&desk.far()), there);
    desk.run(&["lane", "list"]).ends(0).says("no lanes yet");
    // Tied again, it is as it was.
    desk.tie(&["--contents", "stubs"]).ends(0);
    desk.run(&["sync"]).ends(0);
    assert!(is_stub(&desk, "Waltz/horn.txt"));
    assert_eq!(tree(&desk.far()), there);
}

#[test]
fn killed_while_a_lane_goes_with_its_stubs_nothing_is_removed_there() {
    let desk = desk(&["--contents", "stubs"]);
    for number in 0..150 {
        desk.write_far(&format!("Parts/{number}.txt"), &format!("part {number}"));
    }
    desk.run(&["sync"]).ends(0);
    let there = tree(&desk.far());
    for round in 0..10 {
        let mut child = desk
            .command(&["lane", "remove", "scores", "--drop-stubs"])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(20 + 12 * round));
        child.kill().unwrap();
        child.wait().unwrap();
        let lanes = desk.run(&["lane", "list", "--json"]).json();
        if lanes["lanes"].as_array().unwrap().is_empty() {
            desk.tie(&["--contents", "stubs"]).ends(0);
        }
        desk.run(&["sync"]).ends(0);
        assert_eq!(tree(&desk.far()), there, "round {round}");
        assert!(is_stub(&desk, "Parts/149.txt") && is_stub(&desk, "Parts/0.txt"));
    }
}

#[test]
fn a_lane_brings_stubs_and_its_files_are_fetched_shed_and_held() {
    let desk = desk(&["--contents", "stubs"]);
    let there = tree(&desk.far());
    let near = desk.near();
    let at = |at: &str| near.join(at).to_str().unwrap().to_owned();
    assert!(is_stub(&desk, "rota.csv") && is_stub(&desk, "Waltz/horn.txt"));
    desk.run(&["lane", "show", "scores"])
        .ends(0)
        .says("new files come as stubs");
    desk.run(&["status"])
        .ends(0)
        .says("All settled")
        .says("◌ stub     4 files")
        .says("whose content is only in the cloud");
    desk.run(&["status", &at("rota.csv")])
        .ends(0)
        .says("◌ stub")
        .says("katabatic fetch");
    desk.run(&["why", &at("rota.csv")])
        .ends(0)
        .says("takes no room")
        .says("permission denied");
    desk.run(&["doctor", "-v"])
        .says("4 files of 33 B here without content");
    desk.run(&["audit", "--yes"])
        .ends(0)
        .says("The 4 stubs are as agreed");
    // Looking costs no content.
    desk.run(&["list", &at("Waltz")])
        .ends(0)
        .says("horn.txt")
        .says("9 B");
    desk.run(&["sizes", near.to_str().unwrap()])
        .ends(0)
        .says("Waltz");
    assert!(is_stub(&desk, "Waltz/horn.txt"));

    desk.run(&["fetch", &at("Waltz"), "--preview"])
        .ends(0)
        .says("carry 2 files down")
        .says("Nothing was changed");
    desk.run(&["fetch", &at("Waltz")])
        .ends(0)
        .says("brought 2 files, 18 B")
        .says("the disk has");
    assert_eq!(fs::read(near.join("Waltz/horn.txt")).unwrap(), b"horn part");
    desk.run(&["fetch", &at("Waltz")])
        .ends(0)
        .says("nothing to fetch");

    desk.run(&["hold", &at("Waltz/oboe.txt")])
        .ends(0)
        .says("stays on this computer");
    desk.run(&["hold"]).ends(0).says("scores: Waltz/oboe.txt");
    desk.run(&["shed", &at("Waltz")])
        .ends(0)
        .says("shed 1 file, 9 B free again")
        .says("Nothing was removed")
        .says("Waltz/oboe.txt is held, and stays");
    assert!(is_stub(&desk, "Waltz/horn.txt") && !is_stub(&desk, "Waltz/oboe.txt"));
    let status = desk.run(&["status", "--json", "--all"]).json();
    let lies = &status["lanes"][0]["lies"];
    assert_eq!(lies["stub"]["files"], 3);
    assert_eq!(lies["held"]["bytes"], 9);

    // What is new in a held folder stays; what is held can be let go, and only that.
    desk.run(&["hold", &at("March")]).ends(0);
    desk.write_far("March/pipe.txt", "pipe part");
    desk.run(&["sync"]).ends(0).says("carried down");
    assert!(!is_stub(&desk, "March/pipe.txt"));
    desk.run(&["hold", "--off", &at("March/pipe.txt")])
        .ends(2)
        .says("it is held because March is");
    desk.run(&["hold", "--off", &at("March")]).ends(0);
    desk.run(&["hold", "--off", &at("March")])
        .ends(2)
        .says("it is not held");

    assert_eq!(
        fs::read(desk.far().join("Waltz/horn.txt")).unwrap(),
        there["Waltz/horn.txt"]
    );
    desk.run(&["lane", "remove", "scores"])
        .ends(3)
        .says("2 files in its folder here are stubs without content")
        .says("katabatic fetch scores");
    desk.run(&["lane", "change", "scores", "--contents", "all", "--yes"])
        .ends(0)
        .says("carry 2 files down")
        .says("brought 2 files");
    assert_eq!(tree(&near), tree(&desk.far()));
    desk.run(&["lane", "remove", "scores"]).ends(0);
}

#[test]
fn an_existing_lane_changes_over_and_says_what_it_frees() {
    let desk = desk(&[]);
    let near = desk.near();
    desk.write_near("Waltz/new.txt", "not there yet");
    let change = ["lane", "change", "scores", "--contents", "stubs"];
    desk.run(&[&change[..], &["--direction", "up", "--yes"]].concat())
        .ends(2)
        .says("goes by itself");
    desk.run(&[&change[..], &["--yes"]].concat())
        .says("free 33 B")
        .says("shed 4 files")
        .says("1 file is not shed")
        .says("new on this computer")
        .says("katabatic sync scores, and shed again");
    assert!(is_stub(&desk, "rota.csv"));
    assert_eq!(
        fs::read(near.join("Waltz/new.txt")).unwrap(),
        b"not there yet"
    );
    desk.run(&["shed", near.join("Waltz/new.txt").to_str().unwrap()])
        .ends(2)
        .says("knows of nothing of that name");
    desk.run(&["sync"]).ends(0).says("carried up");
    desk.run(&["shed", "scores"]).ends(0).says("shed 1 file");
    desk.run(&["runs", "scores"]).ends(0).says("shed");

    // A name that stands for nothing is no reason to believe that all is done.
    desk.run(&["fetch", near.join("Waltz/hron.txt").to_str().unwrap()])
        .ends(2)
        .says("knows of nothing of that name");
    desk.run(&["shed", "nowhere"])
        .ends(2)
        .says("neither a lane nor in one");
}

#[test]
fn removing_a_stub_is_told_apart_from_shedding() {
    let desk = desk(&["--contents", "stubs"]);
    fs::remove_file(desk.near().join("rota.csv")).unwrap();
    desk.run(&["plan", "scores"])
        .ends(0)
        .says("remove there")
        .says("removed on this computer");
    desk.run(&["sync"]).ends(0).says("removed");
    assert!(!desk.far().join("rota.csv").exists());
    // It is in the spares there, with its content.
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(spares["spares"].as_array().unwrap().len(), 1);
}

/// When a file was read and written last.
fn used(desk: &Desk, at: &str, days_ago: u64) {
    let then = SystemTime::now() - Duration::from_secs(days_ago * 86_400);
    let times = FileTimes::new().set_accessed(then).set_modified(then);
    let file = fs::File::options()
        .write(true)
        .open(desk.near().join(at))
        .unwrap();
    file.set_times(times).unwrap();
}

#[test]
fn room_is_made_of_what_was_not_used_for_longest() {
    let desk = Desk::bare(&[]);
    for (at, bytes) in [
        ("Old/1.txt", 4_000),
        ("Old/2.txt", 4_000),
        ("New/3.txt", 4_000),
        ("held.txt", 4_000),
    ] {
        desk.write_near(at, &"x".repeat(bytes));
    }
    for (at, days) in [
        ("Old/1.txt", 90),
        ("Old/2.txt", 40),
        ("New/3.txt", 3),
        ("held.txt", 400),
    ] {
        used(&desk, at, days);
    }
    desk.add_account().ends(0);
    desk.tie(&["--when", "by hand"]).ends(0);
    desk.run(&["sync"]).ends(0);
    let held = desk.near().join("held.txt");
    desk.run(&["hold", held.to_str().unwrap()]).ends(0);
    desk.write_near("unsettled.txt", "not there yet");
    // Carrying reads a file, which is no use of it by people: as it was before.
    for (at, days) in [("Old/1.txt", 90), ("Old/2.txt", 40), ("New/3.txt", 3)] {
        used(&desk, at, days);
    }
    desk.run(&["sync"]).ends(0);
    desk.write_near("unsettled.txt", "not there yet, and longer");
    let room = desk.run(&["room", "--json"]).json();
    let total = &room["lanes"][0]["total"];
    assert_eq!(
        (&total["here"]["bytes"], &total["can_go"]["bytes"]),
        (&16_025.into(), &12_000.into()),
        "{room}"
    );
    desk.run(&["room"])
        .ends(0)
        .says("Old/")
        .says("days ago")
        .says("The disk has");
    desk.run(&["room", "--free", "5KB", "--yes"])
        .ends(0)
        .says("Old/1.txt")
        .says("shed 2 files, 8.0 KB free again");
    assert!(is_stub(&desk, "Old/1.txt") && is_stub(&desk, "Old/2.txt"));
    assert!(!is_stub(&desk, "New/3.txt"));
    desk.run(&["room", "scores", "--free", "1GB", "--yes"])
        .ends(3)
        .says("less than 1.0 GB")
        .says("shed 1 file");
    assert!(!is_stub(&desk, "held.txt") && !is_stub(&desk, "unsettled.txt"));
    desk.run(&["room", "--free", "much", "--yes"])
        .ends(2)
        .says("it is not understood");

    // A budget is the agent's to keep; what is over it is said.
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--max-local",
        "3KB",
        "--leave-free",
        "1KB",
        "--yes",
    ])
    .ends(0)
    .says("at most 3.0 KB on this computer, 1.0 KB of the disk stay free");
    desk.run(&["room", "scores"])
        .ends(0)
        .says("1.0 KB too much lies on this computer");
    let config = fs::read_to_string(desk.path("home/katabatic.toml")).unwrap();
    assert!(config.contains("max_local = \"3KB\""), "{config}");
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--max-local",
        "none",
        "--leave-free",
        "none",
        "--yes",
    ])
    .ends(0)
    .says("all the room there is");
}

#[test]
fn the_agent_keeps_a_lane_within_its_budget() {
    let desk = desk(&["--max-local", "20"]);
    let mut agent = desk.command(&["agent", "run"]).spawn().unwrap();
    let begun = Instant::now();
    let over = || desk.run(&["room", "--json"]).json()["lanes"][0]["over"].clone();
    while over() != 0 {
        assert!(begun.elapsed().as_secs() < 120, "never within its budget");
        std::thread::sleep(Duration::from_millis(100));
    }
    desk.run(&["agent", "stop"]).ends(0);
    agent.wait().unwrap();
    assert_eq!(tree(&desk.far()).len(), 4, "nothing was removed");
}

#[test]
fn a_stub_that_somebody_gives_rights_is_closed_again_and_told() {
    let desk = desk(&["--contents", "stubs"]);
    // Nobody is told to give it any.
    let doctor = desk.run(&["doctor", "-v"]).ends(0);
    assert!(!doctor.out.contains("chmod"), "{}", doctor.out);
    doctor.says("stubs ask to be left out of backups");
    let horn = desk.near().join("Waltz/horn.txt");
    let asks = |name| rustix::fs::lgetxattr(&horn, name, &mut [0u8; 16]).is_ok();
    assert!(asks("user.xdg.robots.backup"));
    fs::set_permissions(&horn, fs::Permissions::from_mode(0o644)).unwrap();
    let status = desk.run(&["status"]).ends(0);
    let said = status.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        said.contains("somebody gave stubs rights (chmod), so programs read zeros"),
        "{said}"
    );
    let synced = desk.run(&["sync"]).ends(0);
    let said = synced.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        said.contains("1 stub had been given rights by somebody, and read as zeros"),
        "{said}"
    );
    assert!(is_stub(&desk, "Waltz/horn.txt"));
    let status = desk.run(&["status"]).ends(0);
    assert!(!status.out.contains("chmod"), "{}", status.out);
    // Fetched, it is for backups like any other file.
    desk.run(&["fetch", "near/Waltz/horn.txt"]).ends(0);
    assert!(!asks("user.xdg.robots.backup"));
    assert_eq!(fs::read_to_string(&horn).unwrap(), "horn part");
}

#[test]
fn the_agent_closes_a_stub_at_once() {
    let desk = desk(&["--contents", "stubs"]);
    let mut agent = desk
        .command(&["agent", "run"])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let until = |what: &str, holds: &dyn Fn() -> bool| {
        let begun = Instant::now();
        while !holds() {
            assert!(begun.elapsed() < Duration::from_secs(120), "never: {what}");
            std::thread::sleep(Duration::from_millis(30));
        }
    };
    until("it is idle", &|| {
        desk.run(&["agent", "status", "--json"]).json()["agent"]["lanes"][0]["doing"] == "idle"
    });
    let horn = desk.near().join("Waltz/horn.txt");
    fs::set_permissions(&horn, fs::Permissions::from_mode(0o644)).unwrap();
    until("it is closed", &|| is_stub(&desk, "Waltz/horn.txt"));
    agent.kill().unwrap();
    agent.wait().unwrap();
}

#[test]
fn a_stub_that_is_being_filled_is_no_change_that_waits_to_go_up() {
    let desk = desk(&["--contents", "stubs"]);
    let horn = desk.near().join("Waltz/horn.txt");
    // As it is while its content comes for a program that opened it.
    fs::set_permissions(&horn, fs::Permissions::from_mode(0o600)).unwrap();
    let labels = rustix::fs::XattrFlags::empty();
    rustix::fs::lsetxattr(&horn, katabatic_opener::STUB_LABEL, b"filling 1000", labels).unwrap();
    fs::write(&horn, "horn ").unwrap();
    let status = desk.run(&["status", "--json"]).ends(0).json();
    let counts = &status["lanes"][0]["counts"];
    assert_eq!(counts["waiting up"], serde_json::Value::Null, "{counts}");
    assert_eq!(counts["waiting down"], 1, "{counts}");
    desk.run(&["status"]).says("its content comes just now");
    let before = tree(&desk.far());
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.far()), before);
}

#[test]
fn a_backup_leaves_out_the_stubs_that_are_on_the_list() {
    let desk = Desk::bare(&[]);
    for at in ["here.txt", "odd *[1]?.wav", "odd x1y.wav", "Takes/one.wav"] {
        desk.write_far(at, "sound");
    }
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    let at = |name: &str| desk.near().join(name).to_str().unwrap().to_owned();
    desk.run(&["shed", &at("odd *[1]?.wav"), &at("Takes")])
        .ends(0);

    let list = desk.path("exclude");
    let list = list.to_str().unwrap();
    desk.run(&["room", "--exclude-list", list])
        .ends(0)
        .says("Wrote 2 stubs into");
    desk.run(&["room", "--exclude-list", list, "--json"])
        .ends(2)
        .says("there already");
    let told = desk
        .run(&["room", "scores", "--exclude-list", "second", "--json"])
        .ends(0)
        .json();
    assert_eq!(told["stubs"], 2);
    desk.run(&["room", "@office", "--exclude-list", "other"])
        .ends(2)
        .says("stubs lie on this computer");
    // Of what the lane leaves out, root reads zeros all the same.
    desk.run(&["lane", "change", "scores", "--leave-out", "Takes/", "--yes"])
        .ends(0);
    fs::remove_file(list).unwrap();
    desk.run(&["room", "--exclude-list", list])
        .ends(0)
        .says("Wrote 2 stubs into");
    let archive = desk.path("backup.tar");
    let archive = archive.to_str().unwrap();
    let tar = |arguments: &[&str]| {
        let out = std::process::Command::new("tar")
            .args(arguments)
            .output()
            .unwrap();
        assert!(
            out.status.success(),
            "{}",
            String::from_utf8_lossy(&out.stderr)
        );
        String::from_utf8(out.stdout).unwrap()
    };
    let near = desk.near();
    tar(&[
        "-P",
        "-cf",
        archive,
        "--exclude-from",
        list,
        near.to_str().unwrap(),
    ]);
    let held = tar(&["-P", "--quoting-style=literal", "-tf", archive]);
    let names: Vec<&str> = held
        .lines()
        .filter_map(|name| name.rsplit('/').next())
        .collect();
    assert!(
        names.contains(&"here.txt") && names.contains(&"odd x1y.wav"),
        "{held}"
    );
    assert!(
        !names.contains(&"one.wav") && !held.contains("odd *"),
        "{held}"
    );
}

#[test]
fn a_choice_frees_nothing_where_only_stubs_lie() {
    let desk = Desk::bare(&[]);
    desk.write_far("Past/march.txt", "twelve bytes");
    desk.write_far("Now/waltz.txt", "seven b");
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync"]).ends(0);
    let past = desk.near().join("Past");
    desk.run(&["shed", past.to_str().unwrap()]).ends(0);
    let effect = |option: &str, folder: &str| {
        let asked = ["choose", "scores", option, folder, "--preview", "--json"];
        desk.run(&asked).ends(0).json()["effect"].clone()
    };
    let told = effect("--skip", "Past");
    assert_eq!(
        (&told["frees"]["files"], &told["frees"]["bytes"]),
        (&1.into(), &0.into())
    );
    assert_eq!(effect("--skip", "Now")["frees"]["bytes"], 7);
    // What comes as a stub brings no content, either.
    let new_stubs = ["lane", "change", "scores", "--contents", "stubs", "--yes"];
    desk.run(&["choose", "scores", "--skip", "Past", "--yes"])
        .ends(0)
        .says("Dropped the local copies of 1 file, 0 B");
    desk.run(&new_stubs).ends(0);
    let told = effect("--take", "Past");
    assert_eq!(
        (&told["fetches"]["files"], &told["fetches"]["bytes"]),
        (&1.into(), &0.into())
    );
}
