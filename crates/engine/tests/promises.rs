//! Sequences of events in which a version was destroyed once, or could not be found again, each by a name of its own.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

#[allow(
    dead_code,
    reason = "each file of tests uses its own part of the world"
)]
mod worlds;

use std::fs;
use std::sync::Arc;

use async_trait::async_trait;
use katabatic_core::{RelPath, Side};
use katabatic_engine::clock::SystemClock;
use katabatic_engine::ledger::{Ledger, runs};
use katabatic_engine::pass::Wish;
use katabatic_engine::seam::{Hook, Seam};
use katabatic_engine::{Class, lanes, sweep};
use worlds::{World, tree, write};

/// Something happens whenever a pass comes by a seam.
struct When<F>(Seam, F);

#[async_trait]
impl<F: Fn() + Send + Sync> Hook for When<F> {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        if seam == self.0 {
            self.1();
        }
    }
}

/// Another program's pass over the lane, for as long as it is kept.
fn another_pass(world: &World) -> fs::File {
    let file = fs::File::open(&world.near).unwrap();
    rustix::fs::flock(&file, rustix::fs::FlockOperation::LockExclusive).unwrap();
    file
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lane_is_not_removed_while_a_pass_replaces_and_removes_on() {
    let mut world = World::new().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let ledger = Ledger::open(&world.home).unwrap();
    let pass = another_pass(&world);
    let refused = lanes::remove(&world.home, &mut world.config, &ledger, "scores").await;
    assert!(refused.unwrap_err().why.contains("another pass is running"));
    assert_eq!(world.config.lanes.len(), 1);
    drop(pass);
    let removed = lanes::remove(&world.home, &mut world.config, &ledger, "scores").await;
    removed.unwrap();
    assert_eq!(world.config.lanes.len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_that_waited_for_its_turn_reads_again_what_was_known() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    // One command has read the row of the lane, and waits.
    let waited = world.pass().await.unwrap();
    // Meanwhile a pass brings a file there, and somebody removes it there again: to the older token, nothing happened.
    write(&world.near, "came and went", "two");
    world.settle_down().await;
    fs::remove_file(world.far.join("came and went")).unwrap();
    waited.sync(&Wish::default()).await.unwrap();
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_that_waited_while_the_lane_was_changed_does_nothing() {
    let mut world = World::new().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let waited = world.pass().await.unwrap();
    let mut lane = world.config.lanes[0].clone();
    lane.terms.direction = katabatic_core::Direction::Down;
    world.config.change_lane(lane).unwrap();
    write(&world.near, "b", "two");
    let refused = waited.sync(&Wish::default()).await.unwrap_err();
    assert_eq!(refused.class, Class::NeedsPerson);
    assert!(!world.far.join("b").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_fails_has_an_end() {
    let mut world = World::new().await;
    let mut lane = world.config.lanes[0].clone();
    lane.selection.rules = vec![katabatic_core::Rule::parse("*.tmp").unwrap()];
    write(&world.near, "junk.tmp", "junk");
    world.settle_down().await;
    world.config.change_lane(lane).unwrap();
    let world = Arc::new(world);
    let there = Arc::clone(&world);
    // The server asks to be left alone in the middle of the sweep.
    let hook = When(Seam::Intended, move || there.fault(&["come-back=3600"]));
    let pass = world.pass_with(Arc::new(hook), Arc::new(SystemClock)).await;
    let pass = pass.unwrap();
    let caught = sweep::caught(&pass, &[]).await.unwrap();
    assert!(sweep::sweep(&pass, &caught).await.is_err());
    let last = pass
        .ledger
        .read(|connection| runs::last(connection, Some("scores"), 1));
    let last = last.unwrap().remove(0);
    assert_eq!(last.command, "sweep");
    assert!(
        last.outcome.unwrap().contains("to be left"),
        "{:?}",
        last.ended
    );
}
