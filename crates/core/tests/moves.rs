//! Moves by example, a row of the table each, and by property: a new name carries no content.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

#[allow(dead_code, reason = "each test uses a part of the worlds")]
mod worlds;

use katabatic_core::{Decision, Direction, Removals, Side, Terms};
use proptest::prelude::*;
use worlds::{Edit, Node, World, path};

fn settled(files: &[&str]) -> World {
    let mut world = World::default();
    for at in files {
        world.edit(Side::Near, &write(at, at));
    }
    world.pass();
    world
}

fn write(at: &str, content: &str) -> Edit {
    Edit::Write(path(at), content.as_bytes().to_vec())
}

fn rename(from: &str, to: &str) -> Edit {
    Edit::Rename(path(from), path(to))
}

/// The plan as `path: action`, then the pass; nothing may be left to do after it.
fn passed(world: &mut World) -> Vec<String> {
    let plan = world.plan();
    let lines = plan
        .iter()
        .map(|step| {
            let action = match &step.decision {
                Decision::Move { on, from, files } => {
                    format!("move {} from {from} ({files})", on.here_or_there())
                }
                other => katabatic_core::words::action(other),
            };
            format!("{}: {action}", step.path())
        })
        .collect();
    let conflicts = world.carry(&plan);
    let left: Vec<_> = world
        .plan()
        .into_iter()
        .filter(|step| step.decision.is_work() && !conflicts.contains(step.path()))
        .collect();
    assert!(left.is_empty(), "{left:#?}");
    lines
}

fn has(world: &World, side: Side, at: &str, content: &str) -> bool {
    matches!(world.tree(side).get(&path(at)), Some(Node::File { content: is, .. }) if is == content.as_bytes())
}

/// `Old` goes to `New` here, and `Other` into it, to a name that a file has which came to `Old` there: nothing is moved into
/// a folder that cannot be made.
#[test]
fn nothing_is_moved_below_a_file_that_came_along_there() {
    for side in [Side::Near, Side::Far] {
        let mut world = settled(&["Old/x", "Other/y"]);
        world.edit(side, &rename("Old", "New"));
        world.edit(side, &rename("Other", "New/z"));
        world.edit(side.other(), &write("Old/z", "a file"));
        world.pass();
        assert!(has(&world, side, "New/z/y", "Other/y"));
        assert!(has(&world, side.other(), "New/z", "a file"));
        assert!(!world.plan().iter().any(|step| step.decision.is_work()));
    }
}

#[test]
fn a_renamed_file_is_moved_on_the_other_side() {
    for side in [Side::Near, Side::Far] {
        let mut world = settled(&["a/x", "b/y"]);
        world.edit(side, &rename("a/x", "b/z"));
        let there = side.other().here_or_there();
        assert_eq!(
            passed(&mut world)[..1],
            [format!("b/z: move {there} from a/x (1)")]
        );
        assert!(has(&world, side.other(), "b/z", "a/x"));
        assert!(world.spares.is_empty());
    }
}

#[test]
fn a_folder_is_moved_whole_with_what_is_new_in_it_on_either_side() {
    let mut world = settled(&["old/a", "old/b", "old/deep/c", "other"]);
    world.edit(Side::Near, &rename("old", "new"));
    world.edit(Side::Near, &write("new/mine", "mine"));
    world.edit(Side::Far, &write("old/deep/theirs", "theirs"));
    assert_eq!(
        passed(&mut world),
        [
            "new: move there from old (4)",
            "new/deep/theirs: carry down",
            "new/mine: carry up"
        ]
    );
    assert_eq!(
        world.near.keys().collect::<Vec<_>>(),
        world.far.keys().collect::<Vec<_>>()
    );
    assert!(world.spares.is_empty());
}

#[test]
fn an_edit_on_the_other_side_follows_the_move() {
    let mut world = settled(&["a"]);
    world.edit(Side::Near, &rename("a", "b"));
    world.edit(Side::Far, &write("a", "edited"));
    assert_eq!(
        passed(&mut world),
        ["b: move there from a (1)", "b: replace here"]
    );
    assert!(has(&world, Side::Near, "b", "edited") && has(&world, Side::Far, "b", "edited"));
}

#[test]
fn what_the_other_side_removed_stays_under_its_new_name() {
    let mut world = settled(&["a", "d/x", "d/y"]);
    world.edit(Side::Near, &rename("a", "b"));
    world.edit(Side::Near, &rename("d", "e"));
    world.edit(Side::Far, &Edit::Remove(path("a")));
    world.edit(Side::Far, &Edit::Remove(path("d/x")));
    passed(&mut world);
    assert!(has(&world, Side::Far, "b", "a"));
    assert!(has(&world, Side::Far, "e/x", "d/x") && has(&world, Side::Far, "e/y", "d/y"));
}

#[test]
fn moved_by_both_to_one_name_is_recorded_and_to_two_names_both_stay() {
    let mut world = settled(&["a", "c"]);
    for side in [Side::Near, Side::Far] {
        world.edit(side, &rename("a", "b"));
    }
    world.edit(Side::Near, &rename("c", "here"));
    world.edit(Side::Far, &rename("c", "there"));
    passed(&mut world);
    for side in [Side::Near, Side::Far] {
        for (at, content) in [("b", "a"), ("here", "c"), ("there", "c")] {
            assert!(has(&world, side, at, content), "{at}");
        }
    }
}

#[test]
fn a_name_that_is_taken_there_is_a_conflict_and_nothing_is_lost() {
    let mut world = settled(&["a"]);
    world.edit(Side::Near, &rename("a", "b"));
    world.edit(Side::Far, &write("b", "another"));
    let plan = world.plan();
    assert!(
        plan.iter()
            .any(|step| step.path() == &path("b") && step.decision == Decision::Conflict)
    );
    world.carry(&plan);
    assert!(has(&world, Side::Near, "b", "a") && has(&world, Side::Far, "b", "another"));
}

#[test]
fn files_take_each_others_names_in_a_row_and_in_a_circle() {
    let mut world = settled(&["a", "b", "x", "y"]);
    for (from, to) in [("b", "c"), ("a", "b"), ("x", "z"), ("y", "x"), ("z", "y")] {
        world.edit(Side::Far, &rename(from, to));
    }
    let plan = passed(&mut world);
    assert!(
        plan.iter().all(|line| line.contains("move here")),
        "{plan:?}"
    );
    for (at, content) in [("b", "a"), ("c", "b"), ("x", "y"), ("y", "x")] {
        assert!(has(&world, Side::Near, at, content), "{at}");
    }
    assert!(world.spares.is_empty());
}

#[test]
fn a_folder_of_which_most_went_elsewhere_was_not_moved() {
    let mut world = settled(&["d/1", "d/2", "d/3", "d/4"]);
    world.edit(Side::Near, &rename("d/1", "e/1"));
    for at in ["d/2", "d/3", "d/4"] {
        world.edit(Side::Near, &Edit::Remove(path(at)));
    }
    world.edit(Side::Near, &Edit::Remove(path("d")));
    let plan = passed(&mut world);
    for line in ["e/1: move there from d/1 (1)", "e: make folder there"] {
        assert!(plan.iter().any(|is| is == line), "{plan:?}");
    }
    assert_eq!(world.spares.len(), 3);
}

#[test]
fn what_could_not_be_listed_in_the_moved_folder_is_not_taken_for_removed() {
    for behind_a_link in [false, true] {
        let mut world = settled(&["d/a", "d/b", "d/sub/x"]);
        world.edit(Side::Near, &rename("d", "e"));
        if behind_a_link {
            world.edit(Side::Near, &Edit::Link(path("e/sub")));
        } else {
            world.unread.insert((Side::Near, path("e/sub")));
        }
        let plan = world.plan();
        // What can be told goes on, file by file.
        let moves = |step: &&katabatic_core::Step| matches!(step.decision, Decision::Move { .. });
        assert_eq!(plan.iter().filter(moves).count(), 2, "{plan:#?}");
        let removed_as_moved = plan.iter().any(|step| {
            step.path().is_within(&path("e")) && matches!(step.decision, Decision::Remove { .. })
        });
        assert!(!removed_as_moved, "{plan:#?}");
    }
}

#[test]
fn an_editor_that_keeps_the_older_version_moved_nothing() {
    let mut world = settled(&["a"]);
    world.edit(Side::Near, &rename("a", "a~"));
    world.edit(Side::Near, &write("a", "newer"));
    assert_eq!(passed(&mut world), ["a: replace there", "a~: carry up"]);
}

#[test]
fn a_one_way_lane_carries_moves_of_its_source_whatever_becomes_of_removals() {
    for removals in Removals::ALL {
        let mut world = settled(&["d/a", "d/b"]);
        world.terms = Terms {
            direction: Direction::Up,
            removals,
            ..Terms::default()
        };
        world.edit(Side::Near, &rename("d", "e"));
        assert_eq!(passed(&mut world), ["e: move there from d (2)"]);
        // What moves on the receiving side is no news for the source.
        world.edit(Side::Far, &rename("e/a", "e/c"));
        let moves = |step: &katabatic_core::Step| matches!(step.decision, Decision::Move { .. });
        assert!(!world.plan().iter().any(moves));
    }
}

fn a_rename() -> impl Strategy<Value = (String, String)> {
    let name = || prop::sample::select(vec!["a", "b", "c", "a/d", "b/e", "c/f/g", "h", "i/j"]);
    (name(), name()).prop_map(|(from, to)| (from.to_owned(), to.to_owned()))
}

proptest! {
    #[test]
    fn new_names_carry_no_content_and_fill_no_spares(
        renames in prop::collection::vec(a_rename(), 1..6),
        far in any::<bool>(),
    ) {
        let side = if far { Side::Far } else { Side::Near };
        let mut world = settled(&["a/x", "a/y", "b/x", "b/z/x", "c/f/x", "c/f/y"]);
        for (from, to) in renames {
            if !world.tree(side).contains_key(&path(&to)) {
                world.edit(side, &rename(&from, &to));
            }
        }
        let plan = world.plan();
        let carries = |step: &&katabatic_core::Step| matches!(step.decision, Decision::Carry { .. });
        prop_assert_eq!(plan.iter().find(carries), None);
        world.carry(&plan);
        prop_assert!(world.spares.is_empty());
        let names = |side| world.tree(side).iter()
            .map(|(path, node)| (path.clone(), worlds::content_of(node))).collect::<Vec<_>>();
        prop_assert_eq!(names(Side::Near), names(Side::Far));
        prop_assert!(!world.plan().iter().any(|step| step.decision.is_work()));
    }
}
