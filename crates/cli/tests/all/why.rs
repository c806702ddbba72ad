//! `why` and `audit`: the whole story of a path, and the proof that both sides hold the same.

use std::fs;

use crate::worlds::{Desk, tree};

fn settled() -> Desk {
    settled_with(&[])
}

fn settled_with(faults: &[&str]) -> Desk {
    let desk = Desk::tied(faults);
    for name in ["a.txt", "Viola/b.txt", "Viola/c.txt", "cache/d.txt"] {
        desk.write_near(name, &format!("text of {name}"));
    }
    desk.run(&["sync"]).ends(0);
    desk
}

#[test]
fn every_kind_of_path_has_its_story() {
    let desk = settled();
    desk.run(&["why", "near/a.txt"])
        .ends(0)
        .says("settled")
        .says("carry up, 13 B: done; new on this computer (run 1, sync)")
        .says("does nothing: it is as agreed on");
    desk.write_near("a.txt", "edited");
    desk.run(&["why", "@office/Scores/a.txt"])
        .ends(0)
        .says("waiting up")
        .says("puts the version on this computer in its place in the cloud")
        .says("Next: katabatic sync");
    fs::remove_file(desk.near().join("Viola/b.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    let said = desk
        .run(&["why", "near/Viola/b.txt"])
        .ends(0)
        .says("nothing of that name is on either side")
        .says("remove there")
        .says("spares restore");
    assert!(!said.out.contains("Next: katabatic sync near"));
    let story = desk.run(&["why", "--json", "near/Viola/b.txt"]).json();
    let number = story["spares"][0]["number"].to_string();
    desk.run(&["spares", "restore", &number]).ends(0);
    desk.run(&["why", "near/Viola/b.txt"])
        .ends(0)
        .says("new on this computer");
    desk.run(&["why", "near/never there"])
        .ends(0)
        .says("no pass that is remembered did anything to it");
    desk.run(&["why", "scores"])
        .ends(2)
        .says("that is the whole lane");
}

#[test]
fn what_leaves_a_path_out_is_named_with_its_folder_and_its_way_back() {
    let desk = settled();
    desk.run(&["lane", "change", "scores", "--leave-out", "cache/", "--yes"])
        .ends(0);
    let why = desk
        .run(&["why", "near/cache/d.txt"])
        .ends(0)
        .says("the rule cache/ leaves it out, at the folder cache")
        .says("katabatic.toml")
        .says("lane change scores --let-in cache/");
    assert!(!why.out.contains("Next: katabatic sync"), "{}", why.out);
    desk.run(&["status", "near/cache/d.txt"])
        .ends(0)
        .says("left out")
        .says("at the folder cache");
    // What is nowhere would be left out, too.
    desk.run(&["why", "near/x.crdownload"])
        .ends(0)
        .says("the rule *.crdownload leaves it out");
    desk.run(&["choose", "scores", "--skip", "Viola", "--yes"])
        .ends(0);
    desk.run(&["why", "near/Viola/c.txt"])
        .ends(0)
        .says("Viola is not taken, at the folder Viola")
        .says("choose scores --take Viola");
}

#[test]
fn outside_of_all_lanes_the_nearest_is_named() {
    let desk = settled();
    desk.run(&["why", "beside/x.txt"])
        .ends(0)
        .says("no lane covers it")
        .says("lane scores, which ties");
    let answer = desk.run(&["why", "--json", "@office/Other/x"]).json();
    assert_eq!(answer["nearest_lane"], "scores");
    assert!(answer["lane"].is_null());
}

#[test]
fn a_conflict_needs_a_person_and_says_how() {
    let desk = settled();
    desk.write_near("a.txt", "one");
    desk.write_far("a.txt", "the other one");
    desk.run(&["sync"]).ends(3);
    desk.run(&["why", "near/a.txt"])
        .ends(3)
        .says("conflict")
        .says("leaves both versions as they are until it is settled")
        .says("settle");
}

#[test]
fn an_audit_proves_that_both_sides_are_equal_and_says_what_is_not() {
    let desk = settled();
    desk.run(&["audit"])
        .ends(0)
        .says("To read and compare: 4 files")
        .says("Proven: 4 files, equal on both sides to the last byte.");
    desk.write_near("only here.txt", "1");
    desk.write_far("only there.txt", "2");
    desk.write_near("Viola/c.txt", "text of Viola/C.txt");
    let audit = desk.run(&["audit", "--json"]).ends(3).json();
    let audit = &audit["audits"][0];
    let found: Vec<(&str, &str)> = audit["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            (
                one["verdict"].as_str().unwrap(),
                one["path"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        found,
        [
            ("different", "Viola/c.txt"),
            ("only here", "only here.txt"),
            ("only there", "only there.txt")
        ]
    );
    assert_eq!(audit["total"]["equal"], 3);
    assert_eq!(audit["folders"]["Viola"]["near"]["files"], 2);
    // Neither side was touched.
    assert!(!desk.far().join("only here.txt").exists());
    assert!(!desk.near().join("only there.txt").exists());
}

#[test]
fn an_audit_finds_what_a_disk_spoilt_under_an_unchanged_stamp_and_the_next_pass_sees_it() {
    // A server that gives digests is found out by these already.
    let desk = settled_with(&["without=digests"]);
    // The far copy changes without a new tag: as a server that lost a write would show it.
    let far = desk.far().join("a.txt");
    let times = fs::metadata(&far).unwrap().modified().unwrap();
    fs::write(&far, "text of A.txt").unwrap();
    fs::File::options()
        .write(true)
        .open(&far)
        .unwrap()
        .set_modified(times)
        .unwrap();
    let said = desk.run(&["audit"]).ends(3).says("different").says("a.txt");
    assert!(said.out.contains("other content"), "{}", said.out);
    // It is a conflict now, and no side was written over.
    desk.run(&["sync"]).ends(3).says("conflict");
    assert_eq!(
        fs::read(desk.near().join("a.txt")).unwrap(),
        b"text of a.txt"
    );
    assert_eq!(fs::read(&far).unwrap(), b"text of A.txt");
}

#[test]
fn a_quick_audit_reads_nothing_and_does_not_call_unproven_what_is_recorded() {
    let desk = settled();
    std::thread::sleep(std::time::Duration::from_millis(4_200));
    desk.run(&["sync"]).ends(0);
    desk.run(&["audit", "--quick"])
        .ends(0)
        .says("Nothing was read.");
    desk.write_near("a.txt", "text of b.txt");
    desk.run(&["audit", "--quick"])
        .ends(3)
        .says("not proven")
        .says("Next: katabatic audit scores");
}

#[test]
fn an_audit_leaves_a_report_of_each_kind() {
    let desk = settled();
    desk.write_near("<b>.txt", "only here");
    for kind in ["html", "csv", "json"] {
        let to = desk.path(&format!("report.{kind}"));
        let name = to.to_str().unwrap();
        desk.run(&["audit", "--to", name]).ends(3);
        let text = fs::read_to_string(&to).unwrap();
        assert!(
            text.contains(if kind == "html" {
                "only on this computer"
            } else {
                "only here"
            }),
            "{kind}: {text}"
        );
        assert_eq!(text.contains("<b>.txt"), kind != "html", "{kind}");
        // Nothing is written over.
        desk.run(&["audit", "--to", name])
            .ends(2)
            .says("is there already");
    }
    desk.run(&["audit", "--to", "report.doc"])
        .ends(2)
        .says(".html, .csv or .json");
}

/// Sets back when everything lies in the spares since, and when runs were.
fn days_ago(desk: &Desk, days: i64) {
    let ledger = rusqlite::Connection::open(desk.path("home/ledger.db")).unwrap();
    let ago = days * 86_400_000_000_000;
    ledger
        .execute("UPDATE spare SET taken_at = taken_at - ?1", [ago])
        .unwrap();
}

fn spares(desk: &Desk) -> usize {
    let list = desk.run(&["spares", "list", "--json"]).json();
    list["spares"].as_array().unwrap().len()
}

#[test]
fn what_is_old_is_given_up_once_somebody_says_so() {
    let desk = settled();
    desk.write_near("a.txt", "edited here");
    desk.write_far("Viola/b.txt", "edited there");
    fs::remove_dir_all(desk.near().join("cache")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(spares(&desk), 3);
    desk.run(&["spares", "list", "--within", "near/Viola"])
        .ends(0)
        .says("1 version");
    desk.run(&["spares", "list", "--day", "2001-01-01"])
        .ends(0)
        .says("Nothing in the spares is like that");
    desk.run(&["spares", "prune", "--yes"])
        .ends(0)
        .says("Nothing in the spares is old enough");
    // A limit in bytes takes nothing that is younger than a week.
    desk.run(&["spares", "prune", "--keep-below", "1", "--yes"])
        .ends(0)
        .says("old enough");
    days_ago(&desk, 8);
    desk.run(&["spares", "prune", "--keep-below", "20"])
        .ends(3)
        .says("To be given up: 2 versions")
        .says("Nothing was given up");
    assert_eq!(spares(&desk), 3);
    days_ago(&desk, 30);
    desk.run(&["spares", "prune", "--yes"])
        .ends(0)
        .says("Gave up 3 versions");
    assert_eq!(spares(&desk), 0);
    // Nothing of them is left on either side, and both sides are as they were.
    let left = tree(&desk.path(""));
    assert!(!left.values().any(|content| content == b"text of a.txt"));
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn what_yielded_in_a_conflict_goes_only_by_its_number() {
    let desk = settled();
    desk.write_near("a.txt", "one");
    desk.write_far("a.txt", "the other one");
    desk.run(&["sync"]).ends(3);
    desk.run(&["settle", "near/a.txt", "--keep", "near"])
        .ends(0);
    days_ago(&desk, 50);
    desk.run(&["spares", "prune", "--yes"])
        .ends(0)
        .says("yielded in a conflict");
    assert_eq!(spares(&desk), 1);
    desk.run(&["spares", "prune", "--number", "1", "--yes"])
        .ends(0);
    assert_eq!(spares(&desk), 0);
}

#[test]
fn a_clock_that_nothing_bears_out_makes_no_spare_old() {
    let desk = settled();
    desk.write_near("a.txt", "edited here");
    desk.run(&["sync"]).ends(0);
    let ledger = rusqlite::Connection::open(desk.path("home/ledger.db")).unwrap();
    let year = 365 * 86_400_000_000_000_i64;
    for (sign, says) in [(-1, "may have jumped ahead"), (2, "stands before")] {
        for column in ["spare SET taken_at = taken_at", "run SET began = began"] {
            ledger
                .execute(&format!("UPDATE {column} + ?1"), [sign * year])
                .unwrap();
        }
        desk.run(&["spares", "prune", "--yes"]).ends(3).says(says);
    }
    assert_eq!(spares(&desk), 1);
}

#[test]
fn runs_are_found_by_their_end_and_their_day() {
    let desk = settled();
    desk.write_near("a.txt", "one");
    desk.write_far("a.txt", "the other one");
    desk.run(&["sync"]).ends(3);
    let count = |options: &[&str]| {
        let all = desk.run(&[&["runs", "--json"], options].concat()).json();
        all["runs"].as_array().unwrap().len()
    };
    assert_eq!(count(&[]), 2);
    assert_eq!(count(&["--outcome", "person"]), 1);
    assert_eq!(count(&["--outcome", "fine"]), 1);
    assert_eq!(count(&["--outcome", "cut-off"]), 0);
    assert_eq!(count(&["--day", "2001-01-01"]), 0);
    desk.run(&["runs", "--day", "yesterday"])
        .ends(2)
        .says("Write it as");
}

#[test]
fn status_names_what_is_most_urgent_first_and_what_was_asked_for() {
    let desk = settled();
    for number in 0..60 {
        desk.write_near(&format!("new/{number:02}.txt"), "new");
    }
    desk.write_near("Viola/b.txt", "one");
    desk.write_far("Viola/b.txt", "the other one");
    desk.run(&["sync", "near/Viola"]).ends(3);
    let said = desk
        .run(&["status"])
        .ends(3)
        .says("61 paths, 180 B")
        .says("paths more");
    let first = said
        .out
        .lines()
        .position(|line| line.contains("Viola/b.txt"));
    let other = said
        .out
        .lines()
        .position(|line| line.contains("new/00.txt"));
    assert!(first < other, "{}", said.out);
    assert!(!said.out.contains("new/59.txt"), "{}", said.out);
    desk.run(&["status", "--all"]).ends(3).says("new/59.txt");
    let said = desk.run(&["status", "--state", "conflict,stuck"]).ends(3);
    assert!(!said.out.contains("new/"), "{}", said.out);
    let files = desk.run(&["status", "--state", "waiting", "--json"]).json();
    // The folder itself is one of them.
    assert_eq!(files["lanes"][0]["files"].as_array().unwrap().len(), 61);
}

#[test]
fn an_audit_leaves_what_a_killed_pass_left_and_a_lane_that_is_away_as_they_are() {
    let desk = settled();
    let other = [
        "lane",
        "add",
        "away",
        "--near",
        "other",
        "--far",
        "@office/Other",
        "--make",
    ];
    desk.run(&other).ends(0);
    desk.run(&["sync"]).ends(0);
    fs::rename(desk.path("other"), desk.path("elsewhere")).unwrap();
    desk.run(&["audit"]).ends(6).says("Proven: 4 files");
    let answer = desk.run(&["audit", "--json"]).json();
    assert_eq!(answer["failed"][0]["lane"], "away");
    assert_eq!(answer["audits"][0]["lane"], "scores");
}

#[test]
fn what_one_side_removed_and_the_other_keeps_is_not_called_equal() {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    desk.tie(&["--direction", "up"]).ends(0);
    desk.write_near("a.txt", "a");
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    let before = desk.run(&["why", "near/a.txt"]).ends(0);
    before
        .says(
            "removed on this computer; this lane keeps what was removed, so it stays in the cloud",
        )
        .says("changes neither side");
    let counts = || desk.run(&["status", "--json"]).ends(0).json()["lanes"][0]["counts"].clone();
    assert!(counts()["settled"].is_null(), "{}", counts());
    desk.run(&["sync"]).ends(0);
    assert!(counts()["settled"].is_null(), "{}", counts());
    let after = desk.run(&["why", "near/a.txt"]).ends(0);
    after
        .says("removed on this computer, and that removal is not carried")
        .says("changes neither side");
}

#[test]
fn the_versions_of_a_file_are_told_and_each_can_be_looked_at() {
    let mut desk = settled();
    desk.write_near("a.txt", "edited here\n");
    desk.run(&["sync"]).ends(0);
    let story = desk
        .run(&["why", "near/a.txt"])
        .ends(0)
        .says("Versions")
        .says("on this computer now")
        .says("replaced by the version on this computer")
        .says("by run 2 (sync); kept in the cloud")
        .says("--show near|far|1");
    assert!(!story.out.contains("\x1b"), "{}", story.out);
    let told = desk.run(&["why", "near/a.txt", "--json"]).ends(0).json();
    let versions = told["versions"].as_array().unwrap();
    let names: Vec<_> = versions.iter().map(|one| &one["version"]).collect();
    assert_eq!(names, ["near", "far", "1"]);
    assert_eq!(versions[2]["kept"]["number"], 1);

    // A text goes to the output as it is; what it is of is told beside it.
    let shown = desk.run(&["why", "near/a.txt", "--show", "1"]).ends(0);
    assert_eq!(shown.out, "text of a.txt");
    assert!(
        shown.err.contains("a.txt, version 1: 13 B"),
        "{}",
        shown.err
    );
    for side in ["near", "far"] {
        let shown = desk.run(&["why", "near/a.txt", "--show", side]).ends(0);
        assert_eq!(shown.out, "edited here\n");
    }
    let told = desk
        .run(&["why", "near/a.txt", "--show", "1", "--json"])
        .ends(0)
        .json();
    assert_eq!(told["text"], "text of a.txt");

    // Into a new file, never over one; and the lane is as it was.
    desk.run(&["why", "near/a.txt", "--show", "1", "--to", "copy.txt"])
        .ends(0)
        .says("A copy lies here: copy.txt");
    let copy = desk.path("copy.txt");
    assert_eq!(fs::read_to_string(&copy).unwrap(), "text of a.txt");
    desk.run(&["why", "near/a.txt", "--show", "near", "--to", "copy.txt"])
        .ends(1)
        .says("exists");
    assert_eq!(fs::read_to_string(&copy).unwrap(), "text of a.txt");
    desk.run(&["why", "near/a.txt", "--show", "9"])
        .ends(2)
        .says("no spare of that number is of this file");
    desk.run(&["why", "near/Viola/b.txt", "--show", "1"])
        .ends(2)
        .says("no spare of that number");
    desk.run(&["why", "near/Viola", "--show", "near"])
        .ends(2)
        .says("no file");
    desk.run(&["why", "near/none.txt", "--show", "far"])
        .ends(2)
        .says("nothing of that name");
    desk.run(&["plan"]).ends(0).says("nothing");
    // What lies here can be looked at while nothing answers there.
    desk.stop_serving();
    let shown = desk.run(&["why", "near/a.txt", "--show", "near"]).ends(0);
    assert_eq!(shown.out, "edited here\n");
    desk.run(&["why", "near/a.txt", "--show", "far"]).ends(6);
}

#[test]
fn a_version_that_is_no_text_is_copied_out_of_all_lanes() {
    let desk = settled();
    fs::write(desk.near().join("tone.wav"), b"RIFF\0\0\x1b[31m").unwrap();
    desk.run(&["sync"]).ends(0);
    let aside = desk.path("aside");
    fs::create_dir(&aside).unwrap();
    let asked = ["why", "near/tone.wav", "--show", "far", "--json"];
    let out = desk.command(&asked).env("TMPDIR", &aside).output().unwrap();
    let told: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let saved = std::path::Path::new(told["saved_to"].as_str().unwrap());
    assert!(saved.starts_with(&aside), "{}", saved.display());
    assert!(saved.ends_with("tone [far].wav"), "{}", saved.display());
    assert_eq!(fs::read(saved).unwrap(), b"RIFF\0\0\x1b[31m");
    // Nobody else looks into it.
    use std::os::unix::fs::PermissionsExt;
    let folder = fs::metadata(saved.parent().unwrap()).unwrap();
    assert_eq!(folder.permissions().mode() & 0o777, 0o700);
    // In a pipe a text is what it is, to the last byte.
    fs::write(desk.near().join("odd.txt"), "a\tb\r\nc").unwrap();
    let shown = desk.run(&["why", "near/odd.txt", "--show", "near"]).ends(0);
    assert_eq!(shown.out, "a\tb\r\nc");
}
