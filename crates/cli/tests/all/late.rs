//! Requests whose answer did not come, and which the server does all the same when nobody thinks of them any more.

use std::collections::BTreeSet;
use std::fs;

use crate::proxy::{How, Proxy};
use crate::worlds::{Desk, tree};
use hyper::http::request::Parts;

/// A lane to a stand-in with these faults, with a gateway between it and the program.
fn behind_a_gateway(faults: &[&str]) -> (Desk, Proxy) {
    let mut desk = Desk::bare(faults);
    let server = desk.address.trim_start_matches("http://");
    let proxy = Proxy::before(server.trim_end_matches('/').parse().unwrap());
    desk.address = proxy.address.clone();
    desk.add_account().ends(0);
    desk.tie(&[]).ends(0);
    desk.write_near("a.txt", "one");
    desk.run(&["sync"]).ends(0);
    (desk, proxy)
}

/// A `MOVE` to a place of the lane's own room, from there, or neither.
fn moves(from: &'static str, to: &'static str) -> impl Fn(usize, &Parts) -> bool + Send {
    move |_, head| {
        let there = head.headers.get("destination");
        let there = there.map_or("", |value| value.to_str().unwrap());
        let is = |text: &str, wanted: &str| match wanted {
            "" => !text.contains("/.katabatic/"),
            shelf => text.contains(&format!("/{shelf}/")),
        };
        head.method.as_str() == "MOVE" && is(head.uri.path(), from) && is(there, to)
    }
}

/// A file that is there is moved to the spares' shelf.
fn captures() -> impl Fn(usize, &Parts) -> bool + Send {
    moves("", "spares")
}

/// What was staged gets its name.
fn places() -> impl Fn(usize, &Parts) -> bool + Send {
    moves("staging", "")
}

/// Every version that is on a side, or comes back from the list of spares.
fn versions(desk: &Desk) -> BTreeSet<String> {
    let trees = [tree(&desk.near()), tree(&desk.far())];
    let mut all: BTreeSet<String> = trees
        .iter()
        .flat_map(|tree| tree.values())
        .map(|content| String::from_utf8(content.clone()).unwrap())
        .collect();
    let listed = desk.run(&["spares", "list", "--json"]).json();
    for spare in listed["spares"].as_array().unwrap() {
        let number = spare["number"].to_string();
        let _ = fs::remove_file(desk.path("back"));
        desk.run(&["spares", "restore", &number, "--to", "back"])
            .ends(0);
        all.insert(fs::read_to_string(desk.path("back")).unwrap());
    }
    all
}

/// The gateway's late request is done, and the next passes see what came of it.
fn is_done_at_last(desk: &Desk, proxy: &Proxy) {
    let (_, was) = proxy.day_is_over();
    assert!(was.is_some(), "no such request came");
    for _ in 0..3 {
        desk.run(&["sync"]);
    }
}

fn both_sides_hold(desk: &Desk, content: &str) {
    for side in [desk.near(), desk.far()] {
        assert_eq!(fs::read_to_string(side.join("a.txt")).unwrap(), content);
    }
}

#[test]
fn a_capture_that_a_gateway_gave_up_takes_no_later_version_away() {
    let (desk, proxy) = behind_a_gateway(&["no-conditions"]);
    desk.write_near("a.txt", "two");
    proxy.means(captures(), How::AnsweredAndDoneLast);
    desk.run(&["sync"]);
    desk.write_near("a.txt", "three");
    for _ in 0..3 {
        desk.run(&["sync"]);
    }
    both_sides_hold(&desk, "three");
    is_done_at_last(&desk, &proxy);
    both_sides_hold(&desk, "three");
    assert!(versions(&desk).contains("one"));
}

#[test]
fn a_capture_of_a_program_that_was_killed_takes_no_later_version_away() {
    let (desk, proxy) = behind_a_gateway(&["no-conditions"]);
    desk.write_near("a.txt", "two");
    proxy.means(captures(), How::SilentAndDoneLast);
    let mut killed = desk.command(&["sync"]).spawn().unwrap();
    proxy.waits_for_it();
    killed.kill().unwrap();
    killed.wait().unwrap();
    desk.write_near("a.txt", "three");
    for _ in 0..3 {
        desk.run(&["sync"]);
    }
    both_sides_hold(&desk, "three");
    is_done_at_last(&desk, &proxy);
    both_sides_hold(&desk, "three");
    assert!(versions(&desk).contains("one"));
}

#[test]
fn a_capture_for_a_settled_conflict_is_in_the_list_however_late_it_is_done() {
    let (desk, proxy) = behind_a_gateway(&["no-conditions"]);
    desk.write_near("a.txt", "two, here");
    desk.write_far("a.txt", "two, there");
    desk.run(&["sync"]).ends(3);
    proxy.means(captures(), How::AnsweredAndDoneLast);
    desk.run(&["settle", "near/a.txt", "--keep", "near"]);
    is_done_at_last(&desk, &proxy);
    let all = versions(&desk);
    assert!(
        all.contains("two, here") && all.contains("two, there"),
        "{all:?}"
    );
}

#[test]
fn a_placing_that_was_cut_writes_over_nothing_later() {
    let (desk, proxy) = behind_a_gateway(&["no-conditions", "no-overwrite-check"]);
    desk.write_near("a.txt", "two");
    proxy.means(places(), How::AnsweredAndDoneLast);
    desk.run(&["sync"]);
    // Whatever was put back or placed meanwhile, somebody goes on working with it there.
    desk.run(&["sync"]);
    desk.write_far("a.txt", "three, there");
    desk.run(&["sync"]);
    is_done_at_last(&desk, &proxy);
    let all = versions(&desk);
    for content in ["one", "two", "three, there"] {
        assert!(all.contains(content), "{content} is nowhere: {all:?}");
    }
}
