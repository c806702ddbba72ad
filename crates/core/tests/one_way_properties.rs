//! What must hold of every pass of a lane that carries one way, or leaves something out, on random trees.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

#[allow(dead_code, reason = "each test uses a part of the worlds")]
mod worlds;

use std::collections::BTreeSet;

use katabatic_core::{
    Choice, Decision, Digest, Drift, NewFolders, RelPath, Removals, Rule, Selection, Side, Step,
    Terms, Updates,
};
use proptest::prelude::*;
use worlds::{Node, Tree, World, a_world, a_world_with_unread_folders, one_way_terms, path};

fn source(terms: &Terms) -> Side {
    terms.direction.source().unwrap()
}

fn below(tree: &Tree, folder: &RelPath) -> Tree {
    let within =
        |(at, node): (&RelPath, &Node)| at.is_within(folder).then(|| (at.clone(), node.clone()));
    tree.iter().filter_map(within).collect()
}

fn work(world: &World, conflicts: &BTreeSet<RelPath>) -> Vec<Step> {
    world
        .plan()
        .into_iter()
        .filter(|step| step.decision.is_work() && !conflicts.contains(step.path()))
        .collect()
}

proptest! {
    #[test]
    fn the_source_is_never_written_to(mut world in a_world_with_unread_folders(), terms in one_way_terms()) {
        world.terms = terms;
        let side = source(&terms);
        let before = world.tree(side).clone();
        world.pass();
        prop_assert_eq!(&before, world.tree(side));
        world.pass();
        prop_assert_eq!(&before, world.tree(side));
    }

    #[test]
    fn a_strangers_file_on_the_receiving_side_is_never_touched(mut world in a_world(), terms in one_way_terms()) {
        world.terms = terms;
        let side = source(&terms).other();
        let before = world.tree(side).clone();
        let strangers: Vec<RelPath> = before.iter()
            .filter(|(at, node)| matches!(node, Node::File { .. }) && !world.ledger.contains_key(*at))
            .map(|(at, _)| at.clone())
            .collect();
        world.pass();
        for at in strangers {
            prop_assert_eq!(before.get(&at), world.tree(side).get(&at), "{}", at);
        }
    }

    #[test]
    fn what_the_lane_put_there_goes_only_as_the_terms_say(mut world in a_world(), terms in one_way_terms()) {
        world.terms = terms;
        let side = source(&terms).other();
        let (before, from) = (world.tree(side).clone(), world.tree(source(&terms)).clone());
        let agreed = world.ledger.clone();
        let moved_from: Vec<_> = world.plan().into_iter()
            .filter_map(|step| match step.decision {
                Decision::Move { from, .. } => Some(from),
                _ => None,
            })
            .collect();
        world.pass();
        for (at, node) in &before {
            if moved_from.iter().any(|from| at.is_within(from)) {
                // A new name is no removal, whatever the terms.
                continue;
            }
            let (Node::File { content, stamp }, Some(base)) = (node, agreed.get(at)) else { continue };
            let as_agreed = base.stamps[side].as_str() == stamp.to_string()
                || base.content == Some(Digest::of(content));
            let gone = world.tree(side).get(at) != Some(node);
            if gone && !as_agreed {
                prop_assert_eq!(terms.drift, Drift::Restore, "drift at {} was not left", at);
            }
            if gone && !from.contains_key(at) && as_agreed {
                let makes_way = from.keys().any(|other| at.is_within(other));
                prop_assert!(terms.removals == Removals::Carry || makes_way, "{} was removed", at);
            }
            if gone && matches!(from.get(at), Some(Node::File { .. })) && as_agreed {
                prop_assert_eq!(terms.updates, Updates::Replace, "{} was replaced", at);
            }
        }
    }

    #[test]
    fn a_second_pass_of_a_one_way_lane_carries_nothing(mut world in a_world_with_unread_folders(), terms in one_way_terms()) {
        world.terms = terms;
        let conflicts = world.pass();
        let mut left = work(&world, &conflicts);
        // What came along with a folder that was moved is read by the next pass, where its stamp is another.
        left.retain(|step| step.decision != Decision::Record);
        prop_assert_eq!(left, vec![]);
        world.pass();
        prop_assert_eq!(work(&world, &conflicts), vec![]);
    }

    #[test]
    fn no_version_is_lost_on_a_one_way_lane(mut world in a_world_with_unread_folders(), terms in one_way_terms()) {
        world.terms = terms;
        let before = world.contents();
        world.pass();
        let mut after = world.contents();
        after.extend(world.spares.iter().cloned());
        prop_assert!(before.is_subset(&after), "lost {:?}", before.difference(&after));
    }

    #[test]
    fn without_drift_and_strangers_the_receiving_side_becomes_the_source(mut world in a_world(), up in any::<bool>()) {
        world.pass();
        if world.plan().iter().any(|step| step.decision != Decision::Settled) {
            return Ok(());
        }
        let side = if up { Side::Near } else { Side::Far };
        world.terms = Terms {
            removals: Removals::Carry,
            ..Terms::of(if up { katabatic_core::Direction::Up } else { katabatic_core::Direction::Down })
        };
        world.edit(side, &worlds::Edit::Write(path("a/b"), b"new".to_vec()));
        world.edit(side, &worlds::Edit::Remove(path("b")));
        world.edit(side, &worlds::Edit::Write(path("c d/new"), b"newer".to_vec()));
        world.pass();
        let plain = |tree: &Tree| -> Vec<(RelPath, Option<Vec<u8>>)> {
            tree.iter().map(|(at, node)| (at.clone(), worlds::content_of(node))).collect()
        };
        prop_assert_eq!(plain(&world.near), plain(&world.far));
    }

    #[test]
    fn what_is_left_out_stays_on_both_sides(mut world in a_world_with_unread_folders(), skip in any::<bool>()) {
        let folder = path("a");
        world.selection = if skip {
            Selection { choice: Choice::new(std::slice::from_ref(&folder), &[], NewFolders::Take), ..Selection::default() }
        } else {
            Selection { rules: vec![Rule::parse("/a").unwrap()], ..Selection::default() }
        };
        let before = (below(&world.near, &folder), below(&world.far, &folder));
        let conflicts = world.pass();
        prop_assert_eq!(&before, &(below(&world.near, &folder), below(&world.far, &folder)));
        prop_assert!(!world.ledger.keys().any(|at| at.is_within(&folder)), "something left out is agreed on");
        prop_assert_eq!(work(&world, &conflicts), vec![]);
        // Taken again, what went meanwhile on one side comes back instead of travelling as a removal.
        world.near.retain(|at, _| !at.is_within(&folder));
        world.selection = Selection::default();
        world.pass();
        for (at, node) in &before.1 {
            if matches!(node, Node::File { .. }) {
                prop_assert_eq!(Some(node), world.far.get(at));
            }
        }
    }
}
