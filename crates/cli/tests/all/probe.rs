//! Finding out what a server can do, and being right on servers that can do less than they say.

use std::fs;
use std::time::{Duration, SystemTime};

use crate::worlds::{Desk, tree};
use serde_json::Value;

fn findings(desk: &Desk) -> Value {
    let said = desk.run(&["account", "test", "office", "--json"]);
    said.ends(0).json()["can"].clone()
}

#[test]
fn every_fault_of_a_server_is_found_out() {
    let mut desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    let good = findings(&desk)["findings"].clone();
    for (name, value) in [
        ("tags", "strong"),
        ("if_none_match", "obeyed"),
        ("if_match_put", "obeyed"),
        ("if_match_delete", "obeyed"),
        ("if_match_move", "obeyed"),
        ("if_match_copy", "obeyed"),
        ("no_overwrite_move", "obeyed"),
        ("no_overwrite_folder", "obeyed"),
        ("no_overwrite_copy", "obeyed"),
        ("stranger_in_mid_body", "obeyed"),
        ("cut_put", "nothing"),
        ("partial_put", "obeyed"),
        ("refused_characters", ""),
        ("unserved_characters", ""),
        ("read_tag", "same"),
    ] {
        assert_eq!(good[name], value, "{name}");
    }
    for name in [
        "digests",
        "listed_digests",
        "tags_clock_made",
        "put_has_tag",
        "move_keeps_tag",
        "ids",
        "copies",
        "infinity",
        "changes",
        "quota",
        "properties",
        "lists_dots",
        "case_differs",
        "unicode_differs",
        "moves",
        "moves_folders_whole",
        "lists_members",
        "names_itself",
        "tells_lengths",
        "tells_dates",
        "takes_dots",
    ] {
        assert_eq!(good[name], true, "{name}");
    }
    found_out(
        &mut desk,
        &good,
        &[
            ("tags=late", &[("tags", Value::from("weak"))][..]),
            (
                "tags=coarse",
                &[("tags", "coarse".into()), ("tags_shared", true.into())],
            ),
            ("tags=counted", &[("tags_clock_made", false.into())]),
            (
                "tags=missing",
                &[
                    ("tags", "absent".into()),
                    ("tags_shared", true.into()),
                    ("put_has_tag", false.into()),
                ],
            ),
            (
                "without=digests",
                &[("digests", false.into()), ("listed_digests", false.into())],
            ),
            ("no-put-tag", &[("put_has_tag", false.into())]),
            (
                "no-conditions",
                &[
                    ("if_none_match", "ignored".into()),
                    ("if_match_put", "ignored".into()),
                    ("if_match_delete", "ignored".into()),
                    ("if_match_move", "ignored".into()),
                    ("if_match_copy", "ignored".into()),
                    ("stranger_in_mid_body", "ignored".into()),
                ],
            ),
            (
                "early-conditions",
                &[("stranger_in_mid_body", "ignored".into())],
            ),
            (
                "no-overwrite-check",
                &[
                    ("no_overwrite_move", "ignored".into()),
                    ("no_overwrite_folder", "ignored".into()),
                    ("no_overwrite_copy", "ignored".into()),
                ],
            ),
            ("write-in-place", &[("cut_put", "half".into())]),
            ("without=partial-put", &[("partial_put", "refused".into())]),
            (
                "partial-put-keeps-part",
                &[("partial_put", "ignored".into())],
            ),
            ("without=infinity", &[("infinity", false.into())]),
            ("without=changes", &[("changes", false.into())]),
            ("without=quota", &[("quota", false.into())]),
            ("without=resource-ids", &[("ids", false.into())]),
            ("without=properties", &[("properties", false.into())]),
            ("hide-dots", &[("lists_dots", false.into())]),
            ("one-case", &[("case_differs", false.into())]),
        ],
    );
}

#[test]
fn what_few_servers_do_is_found_out() {
    let mut desk = Desk::bare(&[]);
    desk.add_account().ends(0);
    let good = findings(&desk)["findings"].clone();
    found_out(
        &mut desk,
        &good,
        &[
            (
                "tags=restless",
                &[
                    ("tags", Value::from("restless")),
                    ("read_tag", "other".into()),
                    ("tags_clock_made", false.into()),
                ][..],
            ),
            ("validators=none", &[("read_tag", "nothing".into())]),
            ("validators=other", &[("read_tag", "other".into())]),
            ("hrefs=twice-escaped", &[("escapes_twice", true.into())]),
            ("hrefs=other-host", &[]),
            ("hrefs=without-slash", &[]),
            ("listings=no-lengths", &[("tells_lengths", false.into())]),
            ("listings=no-dates", &[("tells_dates", false.into())]),
            ("listings=old-dates", &[]),
            ("listings=without-itself", &[("names_itself", false.into())]),
            ("listings=deeper", &[]),
            ("slash-redirect=301", &[]),
            ("slash-redirect=308", &[]),
            ("needs-length", &[]),
            ("http-1.0", &[]),
            ("closes", &[]),
            (
                "forbid-dots",
                &[("takes_dots", false.into()), ("lists_dots", false.into())],
            ),
            ("unserved=?", &[("unserved_characters", "?".into())]),
            ("half-done", &[("moves_folders_whole", false.into())]),
            ("write-behind=200", &[("lists_late", true.into())]),
            (
                "without-method=MOVE",
                &[
                    ("moves", false.into()),
                    ("moves_folders_whole", false.into()),
                    ("move_keeps_tag", false.into()),
                    ("ids", false.into()),
                    ("if_match_move", "refused".into()),
                    ("no_overwrite_move", "refused".into()),
                    ("no_overwrite_folder", "refused".into()),
                ],
            ),
        ],
    );
}

/// Each of these habits is found out, and nothing else is blamed on the server.
fn found_out(desk: &mut Desk, good: &Value, cases: &[(&str, &[(&str, Value)])]) {
    let listen = desk.address.split("://").nth(1).unwrap();
    let listen = listen.trim_end_matches('/').to_owned();
    for &(fault, expected) in cases {
        desk.serve(&listen, &[fault]);
        let found = findings(desk)["findings"].clone();
        for (name, value) in expected {
            assert_eq!(found[name], *value, "{fault}: {name}");
        }
        // Nothing else is blamed on the server.
        let blamed: Vec<&String> = found
            .as_object()
            .unwrap()
            .iter()
            .filter(|(name, value)| good[name.as_str()] != **value)
            .map(|(name, _)| name)
            .filter(|name| !expected.iter().any(|(known, _)| known == name))
            .collect();
        let follows: &[&str] = match fault {
            // An upload that lands in place at once is not met by a stranger in its middle, but mixed with one.
            "write-in-place" => &["stranger_in_mid_body"],
            _ => &[],
        };
        assert!(
            blamed.iter().all(|name| follows.contains(&name.as_str())),
            "{fault}: {blamed:?}"
        );
        assert_eq!(
            tree(&desk.path("cloud/librarian")).len(),
            0,
            "{fault}: the test left something"
        );
    }
}

#[test]
fn what_is_not_guarded_is_said_when_the_account_is_added() {
    let desk = Desk::bare(&["no-overwrite-check"]);
    desk.add_account()
        .ends(0)
        .says("Overwrite: F on MOVE is ignored")
        .says("a look right before each move");
    desk.run(&["account", "show", "office"])
        .ends(0)
        .says("2 things unguarded");
}

#[test]
fn on_a_server_with_coarse_tags_a_change_within_the_second_is_found() {
    for tags in ["tags=coarse", "tags=missing"] {
        let desk = Desk::tied(&[tags, "without=digests"]);
        desk.write_near("a.txt", "one");
        desk.run(&["sync"]).ends(0);
        let at = desk.far().join("a.txt");
        let modified = fs::metadata(&at).unwrap().modified().unwrap();
        fs::write(&at, "two").unwrap();
        let file = fs::File::options().write(true).open(&at).unwrap();
        file.set_modified(modified).unwrap();
        desk.run(&["sync"]).ends(0);
        assert_eq!(
            fs::read(desk.near().join("a.txt")).unwrap(),
            b"two",
            "{tags}"
        );
        desk.run(&["sync"]).ends(0).says("nothing to carry");
    }
}

#[test]
fn what_is_old_enough_is_not_read_again() {
    let mut desk = Desk::tied(&["tags=coarse"]);
    desk.write_far("old.txt", "old");
    let old = SystemTime::now() - Duration::from_secs(3600);
    let file = fs::File::options()
        .write(true)
        .open(desk.far().join("old.txt"))
        .unwrap();
    file.set_modified(old).unwrap();
    desk.run(&["sync"]).ends(0);
    // From here on whatever is read arrives damaged; a pass that reads says so.
    desk.serve_again(&["tags=coarse", "flip=1"]);
    desk.run(&["sync"]).ends(0);
}

#[test]
fn another_software_at_the_address_is_not_trusted_until_it_was_looked_at() {
    let mut desk = Desk::tied(&[]);
    desk.run(&["account", "show", "office"])
        .ends(0)
        .says("nothing unguarded");
    desk.serve_again(&["software=other/2.0"]);
    desk.write_near("a.txt", "one");
    desk.run(&["sync"]).ends(0);
    desk.run(&["account", "show", "office"])
        .ends(0)
        .says("its software changed since");
    desk.run(&["account", "test", "office"])
        .ends(0)
        .says("other/2.0");
    desk.run(&["account", "show", "office"])
        .ends(0)
        .says("nothing unguarded");
}

#[test]
fn a_server_that_ignores_everything_loses_nothing() {
    let desk = Desk::tied(&[
        "no-overwrite-check",
        "no-conditions",
        "tags=coarse",
        "partial-put-keeps-part",
        "without=properties",
        "without=principal",
        "without=rights",
    ]);
    for name in ["a.txt", "b.txt", "c/d.txt"] {
        desk.write_near(name, "first");
    }
    desk.run(&["sync"]).ends(0);
    desk.write_near("a.txt", "changed here");
    desk.write_far("b.txt", "changed there");
    fs::remove_file(desk.near().join("c/d.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert_eq!(tree(&desk.near()), tree(&desk.far()));
    assert_eq!(
        desk.run(&["spares", "list", "--json"]).json()["spares"]
            .as_array()
            .unwrap()
            .len(),
        3
    );
    desk.run(&["sync"]).ends(0).says("nothing to carry");
}

#[test]
fn a_removed_folder_goes_where_folders_need_a_slash_too() {
    let desk = Desk::tied(&["strict-slashes"]);
    desk.write_near("folder/a.txt", "one");
    desk.write_near("stays.txt", "two");
    desk.run(&["sync"]).ends(0);
    fs::remove_dir_all(desk.near().join("folder")).unwrap();
    desk.run(&["sync"]).ends(0);
    assert!(!desk.far().join("folder").exists());
}

#[test]
fn what_is_kept_there_stays_where_the_first_test_found_room_for_it() {
    let mut desk = Desk::tied(&["forbid-dots"]);
    for name in ["a.txt", "b.txt", "c.txt"] {
        desk.write_near(name, name);
    }
    desk.run(&["sync"]).ends(0);
    fs::remove_file(desk.near().join("a.txt")).unwrap();
    desk.run(&["sync"]).ends(0);
    // Another test that finds otherwise does not make the tool look elsewhere for its spares.
    desk.serve_again(&[]);
    desk.run(&["account", "test", "office"]).ends(0);
    desk.run(&["spares", "restore", "1", "--on", "far"]).ends(0);
    desk.run(&["sync"]).ends(0);
    assert_eq!(fs::read(desk.near().join("a.txt")).unwrap(), b"a.txt");
    assert!(desk.far().join("katabatic.own").is_dir());
    assert!(!desk.far().join(".katabatic").exists());
}

#[test]
fn names_that_a_server_escapes_twice_are_listed_as_they_are() {
    let desk = Desk::bare(&["hrefs=twice-escaped"]);
    desk.write_far("Über 100 % (neu).txt", "all of it");
    desk.write_far("Größe/ä.txt", "inside");
    desk.add_account().ends(0);
    desk.run(&["list", "@office/Scores"])
        .ends(0)
        .says("Über 100 % (neu).txt")
        .says("Größe/");
    desk.run(&["sizes", "@office"]).ends(0).says("Größe");
}
