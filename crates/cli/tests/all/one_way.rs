//! Lanes that carry one way, through the built program: the reading copy, the recordings, the mirror, the photos.

use std::fs;

use crate::worlds::{Desk, tree};

/// A lane of these options over what lies on both sides, and its first pass.
fn synced(options: &[&str], near: &[(&str, &str)], far: &[(&str, &str)]) -> Desk {
    let desk = Desk::bare(&[]);
    for (at, content) in near {
        desk.write_near(at, content);
    }
    for (at, content) in far {
        desk.write_far(at, content);
    }
    desk.add_account().ends(0);
    desk.tie(options).ends(0);
    desk.run(&["sync", "scores"]).ends(0);
    desk
}

fn near(desk: &Desk, at: &str) -> Option<String> {
    fs::read_to_string(desk.near().join(at)).ok()
}

fn far(desk: &Desk, at: &str) -> Option<String> {
    fs::read_to_string(desk.far().join(at)).ok()
}

#[test]
fn a_reading_copy_may_be_spoilt_and_is_put_right_when_somebody_says_so() {
    let desk = synced(
        &["--direction", "down"],
        &[],
        &[("Viola.txt", "clean"), ("Old/march.txt", "march")],
    );
    assert_eq!(near(&desk, "Viola.txt").as_deref(), Some("clean"));
    desk.write_near("Viola.txt", "scribbled");
    desk.write_near("my notes.txt", "mine");
    fs::remove_file(desk.near().join("Old/march.txt")).unwrap();
    let before = tree(&desk.far());

    desk.run(&["sync"])
        .ends(3)
        .says("kept back  Viola.txt")
        .says("settle PATH --keep far");
    assert_eq!(near(&desk, "Viola.txt").as_deref(), Some("scribbled"));
    desk.run(&["status", "scores"])
        .ends(3)
        .says("kept back")
        .says("this lane carries down only");
    desk.run(&["settle", "near/Viola.txt", "--keep", "near"])
        .ends(2)
        .says("carries nothing that changes on this computer");
    desk.run(&["settle", "near/Viola.txt", "--keep", "far"])
        .ends(0)
        .says("spares restore");
    assert_eq!(near(&desk, "Viola.txt").as_deref(), Some("clean"));
    assert_eq!(near(&desk, "Old/march.txt"), None);
    desk.run(&["sync", "--restore-drift"]).ends(0);
    assert_eq!(near(&desk, "Old/march.txt").as_deref(), Some("march"));
    assert_eq!(near(&desk, "my notes.txt").as_deref(), Some("mine"));
    assert_eq!(tree(&desk.far()), before, "a down lane wrote to its source");
    let spares = desk.run(&["spares", "list", "scores", "--json"]).json();
    assert_eq!(spares["spares"][0]["path"], "Viola.txt");
}

#[test]
fn a_new_version_over_drift_waits_until_it_is_put_right() {
    let desk = synced(&["--direction", "down"], &[], &[("a.txt", "one")]);
    desk.write_near("a.txt", "spoilt");
    desk.write_far("a.txt", "two, longer");
    desk.run(&["sync"])
        .ends(3)
        .says("changed on this computer")
        .says("the version in the cloud does not go down until that is settled");
    assert_eq!(near(&desk, "a.txt").as_deref(), Some("spoilt"));
    desk.run(&["lane", "change", "scores", "--drift", "restore", "--yes"])
        .ends(0)
        .says("Drift would be restore");
    desk.run(&["sync"]).ends(0).says("replaced");
    assert_eq!(near(&desk, "a.txt").as_deref(), Some("two, longer"));
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn recordings_go_up_and_what_others_put_there_is_not_fetched() {
    let desk = synced(
        &["--direction", "up"],
        &[("take 1.wav", "one"), ("take 2.wav", "two")],
        &[("theirs.wav", "a stranger's")],
    );
    assert_eq!(far(&desk, "take 1.wav").as_deref(), Some("one"));
    assert_eq!(near(&desk, "theirs.wav"), None);
    fs::remove_file(desk.near().join("take 1.wav")).unwrap();
    desk.run(&["plan", "scores"])
        .ends(0)
        .says("this lane keeps what was removed");
    desk.run(&["sync"]).ends(0);
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(far(&desk, "take 1.wav").as_deref(), Some("one"));
    // The name is used again: the kept one makes room, into the spares.
    desk.write_near("take 1.wav", "once more");
    desk.run(&["sync"]).ends(0);
    assert_eq!(far(&desk, "take 1.wav").as_deref(), Some("once more"));
    assert_eq!(far(&desk, "theirs.wav").as_deref(), Some("a stranger's"));
}

#[test]
fn a_name_that_a_stranger_has_there_is_a_conflict_that_never_changes_the_source() {
    let desk = Desk::bare(&[]);
    desk.write_near("plan.txt", "ours");
    desk.write_far("plan.txt", "theirs, longer");
    desk.add_account().ends(0);
    desk.tie(&["--direction", "up"]).ends(0);
    desk.run(&["sync"]).ends(3).says("conflict");
    desk.run(&["settle", "near/plan.txt", "--keep", "far"])
        .ends(2)
        .says("never writes on this computer");
    desk.run(&["settle", "near/plan.txt", "--keep", "both"])
        .ends(0);
    assert_eq!(near(&desk, "plan.txt").as_deref(), Some("ours"));
    assert_eq!(tree(&desk.near()).len(), 1);
    let there = tree(&desk.far());
    assert_eq!(there.len(), 2, "{there:?}");
    assert_eq!(there["plan.txt"], b"ours");
}

#[test]
fn each_removal_waits_for_a_yes() {
    let desk = synced(
        &["--direction", "up", "--removals", "ask"],
        &[
            ("a.txt", "a"),
            ("b.txt", "b"),
            ("Old/c.txt", "c"),
            ("Old/d.txt", "d"),
        ],
        &[],
    );
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    fs::remove_file(desk.near().join("b.txt")).unwrap();
    fs::remove_dir_all(desk.near().join("Old")).unwrap();
    desk.run(&["sync"])
        .ends(3)
        .says("asks to remove there")
        .says("says yes");
    desk.run(&["status", "scores"])
        .ends(3)
        .says("only after a yes");
    desk.run(&["settle", "near/a.txt", "--keep", "near"])
        .ends(0)
        .says("yes: 1 path");
    desk.run(&["settle", "near/b.txt", "--keep", "far"])
        .ends(0)
        .says("no: 1 path");
    assert_eq!(far(&desk, "a.txt"), None);
    assert_eq!(far(&desk, "b.txt").as_deref(), Some("b"));
    desk.run(&["settle", "near/Old", "--keep", "near"])
        .ends(0)
        .says("yes: 3 paths");
    assert!(!desk.far().join("Old").exists());
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(far(&desk, "b.txt").as_deref(), Some("b"));
}

#[test]
fn an_edited_photo_goes_beside_the_older_one() {
    let desk = synced(
        &["--direction", "up", "--updates", "add"],
        &[("poster.svg", "first")],
        &[],
    );
    desk.write_near("poster.svg", "second, better");
    desk.run(&["sync"]).ends(0).says("carried up");
    let there = tree(&desk.far());
    assert_eq!(there["poster.svg"], b"first");
    let beside: Vec<&String> = there
        .keys()
        .filter(|name| name.starts_with("poster ["))
        .collect();
    assert_eq!(beside.len(), 1, "{there:?}");
    assert_eq!(there[beside[0]], b"second, better");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
    assert_eq!(tree(&desk.far()).len(), 2);
    desk.run(&["status", "scores"]).ends(0).says("All settled");
}

#[test]
fn what_is_there_stays_where_new_versions_are_never_carried() {
    let desk = synced(
        &["--direction", "up", "--updates", "never"],
        &[("a.txt", "first")],
        &[],
    );
    desk.write_near("a.txt", "second, longer");
    desk.run(&["sync"]).ends(0);
    assert_eq!(far(&desk, "a.txt").as_deref(), Some("first"));
    desk.run(&["status", "near/a.txt"])
        .ends(0)
        .says("never carries new versions");
}

#[test]
fn a_lane_that_is_synced_by_name_only_is_left_out_of_a_plain_sync() {
    let desk = synced(&["--by-name-only"], &[("a.txt", "a")], &[]);
    desk.write_near("b.txt", "b");
    desk.run(&["sync"]).ends(0);
    assert_eq!(far(&desk, "b.txt"), None);
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--by-name-only",
        "false",
        "--yes",
    ])
    .ends(0)
    .says("takes the lane scores along");
    desk.run(&["sync"]).ends(0);
    assert_eq!(far(&desk, "b.txt").as_deref(), Some("b"));
}

#[test]
fn another_direction_shows_first_what_it_would_do_and_removes_nothing() {
    let desk = synced(&[], &[("a.txt", "a"), ("b.txt", "b")], &[]);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.write_near("new.txt", "new");
    desk.run(&["lane", "change", "scores", "--direction", "down", "--yes"])
        .ends(0)
        .says("Direction would be down")
        .says("carry 1 file down");
    desk.run(&["sync"]).ends(0);
    assert_eq!(near(&desk, "a.txt").as_deref(), Some("a"));
    assert_eq!(far(&desk, "new.txt"), None);
    assert_eq!(far(&desk, "a.txt").as_deref(), Some("a"));
}

#[test]
fn terms_that_mean_nothing_together_are_refused() {
    let desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    desk.tie(&["--drift", "restore"])
        .ends(2)
        .says("neither side is the source");
    desk.tie(&["--updates", "add"])
        .ends(2)
        .says("neither side is the source");
}

#[test]
fn the_brake_is_set_for_each_lane() {
    let files: Vec<String> = (0..30).map(|at| format!("{at:02}.txt")).collect();
    let near: Vec<(&str, &str)> = files.iter().map(|name| (name.as_str(), "x")).collect();
    let desk = synced(
        &["--brake-percent", "10", "--brake-always-fine", "3"],
        &near,
        &[],
    );
    for name in &files[..4] {
        fs::remove_file(desk.near().join(name)).unwrap();
    }
    desk.run(&["sync"])
        .ends(4)
        .says("remove 4 files in the cloud");
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--brake-always-fine",
        "4",
        "--yes",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.far()).len(), 26);
}

#[test]
fn one_side_may_lead_the_first_pass_and_the_rest_is_kept() {
    let desk = Desk::bare(&[]);
    for (at, content) in [
        ("same.txt", "same"),
        ("differs.txt", "here"),
        ("here.txt", "h"),
        ("a/b.txt", "x"),
    ] {
        desk.write_near(at, content);
    }
    for (at, content) in [
        ("same.txt", "same"),
        ("differs.txt", "othe"),
        ("longer.txt", "l"),
        ("old/there.txt", "t"),
    ] {
        desk.write_far(at, content);
    }
    desk.write_near("longer.txt", "longer here");
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["plan", "scores", "--lead", "near"])
        .ends(0)
        .says("remove 1 file in the cloud");
    desk.run(&["sync", "scores", "--lead", "near"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    assert_eq!(far(&desk, "differs.txt").as_deref(), Some("here"));
    assert!(!desk.far().join("old").exists());
    let spares = desk.run(&["spares", "list", "--json"]).json();
    assert_eq!(spares["spares"].as_array().unwrap().len(), 3, "{spares}");
    desk.run(&["sync", "scores", "--lead", "far"])
        .ends(2)
        .says("there were passes already");
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn a_leader_is_braked() {
    let desk = Desk::bare(&[]);
    for number in 0..12 {
        desk.write_far(&format!("{number}.txt"), "there");
    }
    desk.write_near("a.txt", "a");
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.run(&["sync", "scores", "--lead", "near"])
        .ends(4)
        .says("remove 12 files in the cloud");
    assert_eq!(tree(&desk.far()).len(), 12);
    desk.run(&["sync", "scores", "--lead", "near", "--release-brake", "12"])
        .ends(0);
    assert_eq!(tree(&desk.far()).len(), 1);
}

#[test]
fn a_yes_counts_only_for_the_side_it_was_asked_about() {
    let desk = synced(
        &["--removals", "ask"],
        &[("a.txt", "a"), ("b.txt", "b")],
        &[],
    );
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(3).says("asks to remove there");
    // Things turn round: it is here again, and gone there.
    desk.write_near("a.txt", "a");
    fs::remove_file(desk.far().join("a.txt")).unwrap();
    desk.run(&["settle", "near/a.txt", "--keep", "near"]);
    assert_eq!(near(&desk, "a.txt").as_deref(), Some("a"));
    desk.run(&["sync"]).ends(3).says("asks to remove here");
    desk.run(&["settle", "near/a.txt", "--keep", "far"]).ends(0);
    assert_eq!(near(&desk, "a.txt"), None);
}

#[test]
fn a_folder_that_was_in_a_lane_before_is_noticed() {
    let desk = synced(&[], &[("a.txt", "a")], &[]);
    desk.run(&["lane", "remove", "scores"]).ends(0);
    desk.write_near("a.txt", "changed since");
    desk.tie(&[])
        .ends(0)
        .says("is, or was, in a lane")
        .says("katabatic plan scores --lead near");
    desk.run(&["lane", "remove", "scores"]).ends(0);
    let other = [
        "lane",
        "add",
        "other",
        "--near",
        "other",
        "--far",
        "@office/Other",
        "--make",
    ];
    let said = desk.run(&other).ends(0);
    assert!(!said.out.contains("is, or was, in a lane"), "{}", said.out);
}

/// Two files that were carried up; one of them went there, and the other was changed there by somebody else.
fn kept_back() -> Desk {
    let desk = synced(
        &["--direction", "up"],
        &[("gone.txt", "ours"), ("changed.txt", "ours")],
        &[],
    );
    fs::remove_file(desk.far().join("gone.txt")).unwrap();
    desk.write_far("changed.txt", "theirs, longer");
    desk
}

#[test]
fn a_version_that_somebody_else_keeps_from_the_cloud_needs_a_person_everywhere() {
    let desk = kept_back();
    desk.write_near("changed.txt", "ours, and a newer one");
    desk.run(&["plan", "scores"])
        .says("keep back 2 files that somebody else changed or removed");
    let report = desk.run(&["sync", "--json"]).ends(3).json();
    assert_eq!(report["lanes"][0]["kept_back"], 2);
    desk.run(&["sync"]).ends(3).says("kept back  gone.txt");
    let status = desk.run(&["status", "scores"]).ends(3);
    let (kept, all_settled) = (
        status.out.find("~ kept back"),
        status.out.contains("All settled"),
    );
    assert!(kept.is_some() && !all_settled, "{}", status.out);
    desk.run(&["status", "--state", "kept-back", "--json"])
        .says("gone.txt")
        .says("changed.txt");
    desk.run(&["doctor"])
        .ends(3)
        .says("2 paths are kept back")
        .says("0 files that both sides hold");
    desk.run(&["runs"]).says("needs a person: 2 kept back");
    desk.run(&["report", "--to", "page.html"]).ends(3);
    desk.run(&["settle", "near/gone.txt", "--keep", "near"])
        .ends(0);
    assert_eq!(far(&desk, "gone.txt").as_deref(), Some("ours"));
    desk.run(&["settle", "near/changed.txt", "--keep", "far"])
        .ends(2)
        .says("--keep both")
        .says("katabatic copy");
    desk.run(&["settle", "near/changed.txt", "--keep", "both"])
        .ends(0)
        .says("beside the other one");
    assert_eq!(
        far(&desk, "changed.txt").as_deref(),
        Some("ours, and a newer one")
    );
    let there = tree(&desk.far());
    let beside = there
        .keys()
        .find(|name| name.starts_with("changed [") && name.ends_with("].txt"));
    assert!(beside.is_some(), "{there:?}");
    desk.run(&["sync"]).ends(0);
    desk.run(&["doctor", "-v"])
        .says("2 files that both sides hold");
}

#[test]
fn both_is_no_answer_where_nothing_is_kept_back() {
    let desk = synced(
        &["--direction", "up"],
        &[("Old/gone.txt", "gone"), ("Old/new.txt", "new")],
        &[],
    );
    fs::remove_file(desk.near().join("Old/gone.txt")).unwrap();
    desk.write_far("Old/gone.txt", "changed there, longer");
    desk.run(&["sync"]).ends(0);
    let before = tree(&desk.far());
    desk.run(&["settle", "near/Old", "--keep", "both"])
        .ends(2)
        .says("--keep near");
    let refused = desk.run(&["settle", "near/Old", "--keep", "far"]).ends(2);
    assert!(!refused.err.contains("--keep both"), "{}", refused.err);
    assert_eq!(tree(&desk.far()), before);
    // Of a folder, what is kept back alone gets a second name.
    desk.write_near("Old/new.txt", "newer");
    desk.write_far("Old/new.txt", "changed there as well");
    desk.run(&["sync"]).ends(3).says("kept back  Old/new.txt");
    desk.run(&["settle", "near/Old", "--keep", "both"])
        .ends(0)
        .says("carried 1 path on this computer");
    let after = tree(&desk.far());
    assert_eq!(after.len(), before.len() + 1, "{after:?}");
    assert_eq!(after["Old/new.txt"], b"newer");
    assert_eq!(after["Old/gone.txt"], before["Old/gone.txt"]);
}

#[test]
fn drift_that_keeps_nothing_back_needs_nobody() {
    let desk = synced(&["--direction", "up"], &[("a.txt", "ours")], &[]);
    desk.write_far("theirs.txt", "a stranger's");
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.write_far("a.txt", "changed there, longer");
    desk.run(&["sync"])
        .ends(0)
        .says("1 path changed in the cloud by somebody else");
    desk.run(&["status"]).ends(0).says("drift");
}

#[test]
fn other_terms_forget_nothing_of_what_the_lane_carried_and_remove_nothing_at_first() {
    let desk = synced(
        &["--direction", "up"],
        &[
            ("stays.txt", "1"),
            ("gone here.txt", "2"),
            ("later.txt", "3"),
        ],
        &[("theirs.txt", "a stranger's")],
    );
    fs::remove_file(desk.near().join("gone here.txt")).unwrap();
    desk.run(&["lane", "change", "scores", "--removals", "carry", "--yes"])
        .ends(0)
        .says("What the lane carried stays known as its own");
    // What went before the change was to be kept, and stays; and it is no stranger's.
    desk.run(&["sync"]).ends(0);
    assert_eq!(far(&desk, "gone here.txt").as_deref(), Some("2"));
    let why = desk.run(&["why", "near/gone here.txt"]);
    assert!(!why.out.contains("did not put it there"), "{}", why.out);
    desk.run(&["why", "near/theirs.txt"])
        .says("did not put it there");
    // What goes from now on goes there, too.
    fs::remove_file(desk.near().join("later.txt")).unwrap();
    desk.run(&["sync"]).ends(0).says("removed");
    assert_eq!(far(&desk, "later.txt"), None);
    assert_eq!(far(&desk, "stays.txt").as_deref(), Some("1"));
    // The other way round: what somebody else removed there was kept back, and is no removal of the two-way lane.
    fs::remove_file(desk.far().join("stays.txt")).unwrap();
    desk.run(&["sync"]).ends(3).says("kept back");
    desk.run(&[
        "lane",
        "change",
        "scores",
        "--direction",
        "two-way",
        "--yes",
    ])
    .ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(near(&desk, "stays.txt").as_deref(), Some("1"));
    assert_eq!(far(&desk, "stays.txt").as_deref(), Some("1"));
    assert_eq!(near(&desk, "theirs.txt").as_deref(), Some("a stranger's"));
    fs::remove_file(desk.far().join("stays.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(near(&desk, "stays.txt"), None);
}
