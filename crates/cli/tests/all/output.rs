//! Output that cannot be written: the work goes on, and the code tells.

use std::fs::{File, OpenOptions};
use std::process::Stdio;

use crate::worlds::{Desk, Said, tree};

/// A file that takes nothing: each write to it fails as on a full disk.
fn full() -> Stdio {
    OpenOptions::new()
        .write(true)
        .open("/dev/full")
        .unwrap()
        .into()
}

/// A pipe whose reader has gone.
fn closed() -> Stdio {
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    writer.into()
}

/// Three lanes, each with a file to carry.
fn three_lanes() -> Desk {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    for lane in ["one", "two", "three"] {
        std::fs::create_dir(desk.path(lane)).unwrap();
        crate::worlds::write(&desk.path(&format!("{lane}/file.txt")), lane);
        let far = format!("@office/{lane}");
        desk.run(&["lane", "add", lane, "--near", lane, "--far", &far, "--make"])
            .ends(0);
    }
    desk
}

fn with(desk: &Desk, args: &[&str], out: Stdio, err: Stdio) -> Said {
    let child = desk.command(args).stdout(out).stderr(err).spawn().unwrap();
    Said::from(child.wait_with_output().unwrap())
}

fn all_arrived(desk: &Desk) {
    for lane in ["one", "two", "three"] {
        let there = tree(&desk.path(&format!("cloud/librarian/{lane}")));
        assert!(there.contains_key("file.txt"), "{lane}: {there:?}");
    }
}

#[test]
fn a_full_output_ends_no_work_and_is_a_failure() {
    let desk = three_lanes();
    with(&desk, &["sync"], full(), Stdio::piped())
        .ends(1)
        .says("No space left on device")
        .says("The work itself was done to its end");
    all_arrived(&desk);
    with(&desk, &["audit"], full(), Stdio::piped()).ends(1);
    with(&desk, &["status", "--json"], full(), Stdio::piped()).ends(1);
    with(&desk, &["--help"], full(), Stdio::piped()).ends(1);
}

#[test]
fn a_closed_pipe_is_quiet_and_keeps_the_code() {
    let desk = three_lanes();
    let said = with(&desk, &["sync"], closed(), Stdio::piped()).ends(0);
    assert_eq!(said.err, "");
    all_arrived(&desk);
    crate::worlds::write(&desk.path("one/file.txt"), "changed here");
    crate::worlds::write(
        &desk.path("cloud/librarian/one/file.txt"),
        "changed there, longer",
    );
    let said = with(&desk, &["sync"], closed(), Stdio::piped()).ends(3);
    assert_eq!(said.err, "");
}

#[test]
fn a_full_standard_error_is_no_panic() {
    let desk = three_lanes();
    with(&desk, &["-vv", "sync"], Stdio::piped(), full()).ends(0);
    all_arrived(&desk);
    with(&desk, &["sync", "nope"], Stdio::piped(), full()).ends(2);
    with(&desk, &["no-such-command"], Stdio::piped(), full()).ends(2);
    with(&desk, &["sync"], full(), full()).ends(1);
}

#[test]
fn a_closed_terminal_does_not_end_what_was_told_to_outlive_it() {
    let mut desk = three_lanes();
    desk.serve_again(&["delay=300"]);
    let sync = desk.command(&["sync"]);
    let environment = sync
        .get_envs()
        .filter_map(|(name, value)| Some((name, value?)));
    let mut child = std::process::Command::new("nohup")
        .arg(sync.get_program())
        .args(sync.get_args())
        .envs(environment)
        .current_dir(desk.path(""))
        .stdin(Stdio::null())
        .stdout(File::create(desk.path("out")).unwrap())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    while !tree(&desk.path("cloud/librarian"))
        .keys()
        .any(|name| name.ends_with("file.txt"))
    {
        std::thread::yield_now();
    }
    let process = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(process, rustix::process::Signal::HUP).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
    all_arrived(&desk);
}

#[test]
fn wrong_use_is_told_in_json_where_that_was_asked_for() {
    let desk = Desk::bare(&[]);
    let said = desk.run(&["--json", "sync", "--perhaps"]).ends(2).json();
    assert_eq!(said["error"]["exit"], 2);
    assert!(
        said["error"]["why"].as_str().unwrap().contains("--perhaps"),
        "{said}"
    );
    assert!(
        said["error"]["next"].as_str().unwrap().contains("Usage:"),
        "{said}"
    );
}

#[test]
fn quiet_says_only_what_needs_a_person_and_what_was_asked_for() {
    let desk = three_lanes();
    for silent in [
        &["sync"][..],
        &["status"],
        &["doctor"],
        &["account", "test", "office"],
        &["limits", "--up", "5MB/s"],
        &["lane", "change", "one", "--by-name-only", "--yes"],
        &["make-folder", "@office/new"],
        &["copy", "one/file.txt", "@office/new/"],
        &["report", "--to", "page.html"],
        &["audit"],
    ] {
        let said = desk.run(&[&["-q"], silent].concat()).ends(0);
        assert_eq!((&*said.out, &*said.err), ("", ""), "{silent:?}");
    }
    desk.run(&["-q", "list", "@office/new"])
        .ends(0)
        .says("file.txt");
    desk.run(&["-q", "runs"]).ends(0).says("sync");
    desk.run(&["-q", "limits"]).ends(0).says("5MB/s");
    desk.run(&["-q", "status", "--json"]).ends(0).says("lanes");
    crate::worlds::write(&desk.path("two/file.txt"), "changed here");
    crate::worlds::write(
        &desk.path("cloud/librarian/two/file.txt"),
        "changed there, longer",
    );
    desk.run(&["-q", "sync"]).ends(3).says("conflict");
    let said = desk.run(&["-q", "status"]).ends(3).says("two: file.txt");
    assert!(!said.out.contains("Lane one"), "{}", said.out);
}

#[test]
fn how_far_it_has_come_is_told_in_lines_where_that_is_asked_for() {
    let desk = three_lanes();
    let said = desk.run(&["sync", "--progress", "lines"]).ends(0);
    let lines: Vec<serde_json::Value> = said
        .err
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let lanes: Vec<&str> = lines
        .iter()
        .map(|line| line["progress"]["lane"].as_str().unwrap())
        .collect();
    for lane in ["one", "two", "three"] {
        assert!(lanes.contains(&lane), "{lanes:?}");
    }
    assert_eq!(desk.run(&["sync"]).ends(0).err, "");
}

#[test]
fn what_changes_something_wants_a_yes_where_nobody_can_be_asked() {
    let desk = three_lanes();
    desk.run(&["sync"]).ends(0);
    for asks in [
        &["lane", "change", "one", "--direction", "up"][..],
        &["lane", "relocate", "one", "elsewhere"],
    ] {
        desk.run(asks)
            .ends(3)
            .says("--yes was not said")
            .says("Nothing was changed");
        let yes = [asks, &["--yes"]].concat();
        desk.run(&yes).ends(0);
    }
    // Older words are taken once more, and told.
    desk.run(&["lane", "change", "two", "--quiet-seconds", "5"])
        .ends(0)
        .says("--quiet-seconds is called --quiet-time now");
    desk.run(&["lane", "change", "two", "--quiet-time", "none"])
        .ends(0);
    desk.run(&["limits", "--limit-up", "5MB/s"])
        .ends(0)
        .says("--limit-up is called --up now");
}
