//! The two-way table, row by row, by example: what each pair of changes comes to.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

#[expect(dead_code, reason = "the random worlds are for the properties")]
mod worlds;

use katabatic_core::{Decision, Side, words};
use worlds::{Edit, World, path};

fn settled() -> World {
    let mut world = World::default();
    for (at, content) in [
        ("Viola/1.txt", "one"),
        ("Viola/2.txt", "two"),
        ("rota.csv", "mon"),
    ] {
        world.edit(Side::Near, &write(at, content));
    }
    world.pass();
    assert!(
        world
            .plan()
            .iter()
            .all(|step| step.decision == Decision::Settled)
    );
    world
}

fn write(at: &str, content: &str) -> Edit {
    Edit::Write(path(at), content.as_bytes().to_vec())
}

fn remove(at: &str) -> Edit {
    Edit::Remove(path(at))
}

/// What the plan says of each path that is not settled, as `path: action - reason`.
fn plan_after(near: &[Edit], far: &[Edit]) -> Vec<String> {
    let mut world = settled();
    near.iter().for_each(|edit| world.edit(Side::Near, edit));
    far.iter().for_each(|edit| world.edit(Side::Far, edit));
    let said = |step: &katabatic_core::Step| {
        format!(
            "{}: {} - {}",
            step.path(),
            words::action(&step.decision),
            words::reason(
                step,
                &words::Telling {
                    time: &|_| "09:20".into(),
                    sides: katabatic_core::SideNames::ComputerAndCloud,
                },
            )
        )
    };
    world
        .plan()
        .iter()
        .filter(|step| step.decision != Decision::Settled)
        .map(said)
        .collect()
}

#[test]
fn one_side_changed() {
    assert_eq!(
        plan_after(&[write("rota.csv", "tuesday")], &[]),
        ["rota.csv: replace there - changed on this computer, unchanged in the cloud"]
    );
    assert_eq!(
        plan_after(&[], &[write("rota.csv", "tuesday")]),
        ["rota.csv: replace here - changed in the cloud, unchanged on this computer"]
    );
}

#[test]
fn a_new_stamp_with_old_content_is_no_change() {
    assert_eq!(
        plan_after(&[Edit::Touch(path("rota.csv"))], &[]),
        ["rota.csv: record - the same on both sides, as agreed"]
    );
}

#[test]
fn new_on_one_side_or_on_both() {
    assert_eq!(
        plan_after(&[write("new", "x")], &[]),
        ["new: carry up - new on this computer"]
    );
    assert_eq!(
        plan_after(&[], &[write("new", "x")]),
        ["new: carry down - new in the cloud"]
    );
    assert_eq!(
        plan_after(&[write("new", "x")], &[write("new", "y")]),
        ["new: compare - new on both sides, of the same length: both are read and compared"]
    );
    assert_eq!(
        plan_after(&[write("new", "x")], &[write("new", "yy")]),
        ["new: conflict - new on this computer, new in the cloud; neither is touched"]
    );
    assert_eq!(
        plan_after(
            &[Edit::MakeFolder(path("n"))],
            &[Edit::MakeFolder(path("n"))]
        ),
        ["n: record - the same on both sides"]
    );
}

#[test]
fn both_changed() {
    assert_eq!(
        plan_after(
            &[write("rota.csv", "tuesday")],
            &[write("rota.csv", "wednesday")]
        ),
        ["rota.csv: conflict - changed on this computer, changed in the cloud; neither is touched"]
    );
    assert_eq!(
        plan_after(&[write("rota.csv", "tue")], &[write("rota.csv", "tue")]),
        ["rota.csv: record - the same on both sides, as agreed"]
    );
}

#[test]
fn removed_on_one_side_or_on_both() {
    assert_eq!(
        plan_after(&[remove("rota.csv")], &[]),
        ["rota.csv: remove there - removed on this computer, unchanged in the cloud"]
    );
    assert_eq!(
        plan_after(&[], &[remove("rota.csv")]),
        ["rota.csv: remove here - removed in the cloud, unchanged on this computer"]
    );
    assert_eq!(
        plan_after(&[remove("rota.csv")], &[remove("rota.csv")]),
        ["rota.csv: forget - gone on both sides"]
    );
    assert_eq!(
        plan_after(&[remove("rota.csv")], &[write("rota.csv", "tuesday")]),
        [
            "rota.csv: carry down - changed in the cloud, removed on this computer: the edit wins and it comes back"
        ]
    );
}

#[test]
fn a_removed_folder_goes_after_its_members() {
    assert_eq!(
        plan_after(&[remove("Viola")], &[]),
        [
            "Viola/1.txt: remove there - removed on this computer, unchanged in the cloud",
            "Viola/2.txt: remove there - removed on this computer, unchanged in the cloud",
            "Viola: remove there - removed on this computer, unchanged in the cloud",
        ]
    );
}

#[test]
fn a_member_that_changed_brings_the_folder_back() {
    assert_eq!(
        plan_after(&[remove("Viola")], &[write("Viola/2.txt", "edited")]),
        [
            "Viola/1.txt: remove there - removed on this computer, unchanged in the cloud",
            "Viola: make folder here - removed on this computer, but something in it must stay: the folder comes back",
            "Viola/2.txt: carry down - changed in the cloud, removed on this computer: the edit wins and it comes back",
        ]
    );
}

#[test]
fn what_is_left_out_keeps_its_folder() {
    let mut world = settled();
    world.edit(Side::Near, &Edit::Link(path("Viola/link")));
    world.edit(Side::Far, &remove("Viola"));
    let last = world
        .plan()
        .into_iter()
        .find(|step| step.path() == &path("Viola"))
        .unwrap();
    assert_eq!(last.decision, Decision::KeepFolder { on: Side::Near });
    world.pass();
    assert_eq!(
        world.near.keys().map(|at| at.as_str()).collect::<Vec<_>>(),
        ["Viola", "Viola/link", "rota.csv"]
    );
    assert!(
        !world.far.contains_key(&path("Viola")),
        "the kept folder does not come back on the side that removed it"
    );
    assert!(world.plan().iter().all(|step| !step.decision.is_work()));
    // A new file in it is a reason to have the folder on both sides again.
    world.edit(Side::Near, &write("Viola/3.txt", "three"));
    world.pass();
    assert!(world.far.contains_key(&path("Viola/3.txt")));
}

#[test]
fn files_and_folders_take_each_others_place() {
    assert_eq!(
        plan_after(&[write("Viola", "now a file")], &[]),
        [
            "Viola/1.txt: remove there - makes way for what the other side has in its place",
            "Viola/2.txt: remove there - makes way for what the other side has in its place",
            "Viola: remove there - makes way for what the other side has in its place",
            "Viola: carry up - now a file on this computer, unchanged in the cloud",
        ]
    );
    assert_eq!(
        plan_after(&[write("rota.csv/mon.csv", "x")], &[]),
        [
            "rota.csv: remove there - makes way for what the other side has in its place",
            "rota.csv: make folder there - now a folder on this computer, unchanged in the cloud",
            "rota.csv/mon.csv: carry up - new on this computer",
        ]
    );
}

#[test]
fn a_change_of_kind_against_an_edit_is_a_conflict() {
    assert_eq!(
        plan_after(
            &[write("rota.csv/mon.csv", "x")],
            &[write("rota.csv", "tuesday")]
        ),
        [
            "rota.csv: conflict - a folder on this computer and a file in the cloud; neither is touched",
            "rota.csv/mon.csv: hold - lies below a conflict; settle that first",
        ]
    );
    assert_eq!(
        plan_after(
            &[write("Viola", "now a file")],
            &[write("Viola/1.txt", "edited")]
        ),
        [
            "Viola/1.txt: hold - lies below a conflict; settle that first",
            "Viola/2.txt: hold - lies below a conflict; settle that first",
            "Viola: conflict - a file on this computer and a folder in the cloud; neither is touched",
        ]
    );
}

#[test]
fn a_folder_replaced_by_a_link_was_not_emptied() {
    assert_eq!(
        plan_after(&[Edit::Link(path("Viola"))], &[]),
        [
            "Viola: left out - a symbolic link, which is never followed",
            "Viola/1.txt: hold - unknown on this computer: in place of its folder there is a symbolic link, which is never followed",
            "Viola/2.txt: hold - unknown on this computer: in place of its folder there is a symbolic link, which is never followed",
        ]
    );
}

#[test]
fn what_cannot_be_listed_is_held_and_the_rest_goes_on() {
    let mut world = settled();
    world.unread.insert((Side::Far, path("Viola")));
    world.edit(Side::Near, &remove("Viola/1.txt"));
    world.edit(Side::Near, &write("rota.csv", "tuesday"));
    world.pass();
    assert!(world.far.contains_key(&path("Viola/1.txt")));
    assert_eq!(
        worlds::content_of(&world.far[&path("rota.csv")]),
        Some(b"tuesday".to_vec())
    );
}

#[test]
fn a_file_takes_the_place_of_a_folder_only_when_all_of_it_is_known() {
    let mut world = settled();
    world.edit(Side::Near, &write("Viola/solo/1.txt", "solo"));
    world.pass();
    world.edit(Side::Near, &write("Viola", "now a file"));
    world.unread.insert((Side::Far, path("Viola/solo")));
    world.edit(Side::Far, &write("Viola/solo/2.txt", "unseen"));
    let before = world.far.clone();
    world.pass();
    assert_eq!(
        world.far, before,
        "nothing of it goes while a folder in it cannot be listed"
    );
    let decision = world
        .plan()
        .into_iter()
        .find(|step| step.path() == &path("Viola"))
        .unwrap()
        .decision;
    assert!(
        matches!(decision, Decision::Hold { on: Side::Far, .. }),
        "{decision:?}"
    );
}
