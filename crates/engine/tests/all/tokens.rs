//! Passes that ask the far side what changed instead of listing everything.

use std::fs;
use std::sync::Arc;

use crate::worlds::{World, tree, write};
use katabatic_core::{EditTime, RelPath, Side};
use katabatic_engine::pass::Wish;
use katabatic_engine::seam::{Hook, Seam};
use katabatic_ledger::rows::{self, LaneRow};
use katabatic_sides::clock::SystemClock;

async fn lane(world: &World) -> LaneRow {
    let pass = world.pass().await.unwrap();
    let found = pass
        .ledger
        .read(|connection| rows::lane_of(connection, "1234567890abcdef"));
    found.unwrap().unwrap()
}

async fn set_lane(world: &World, sql: &'static str) {
    let pass = world.pass().await.unwrap();
    pass.ledger
        .write(move |connection| connection.execute(sql, []))
        .await
        .unwrap();
}

/// A lane whose far side is known by a token.
async fn known() -> World {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    for at in ["a/1", "a/2", "a/deep/3", "b/4", "b/5", "top"] {
        write(&world.near, at, &format!("text of {at}"));
    }
    world.settle_down().await;
    assert!(lane(&world).await.token.is_some());
    world
}

/// One pass, which must not have listed the far side.
async fn sync_by_token(world: &World) {
    let before = lane(world).await.listed_at;
    world.sync().await.unwrap();
    assert_eq!(lane(world).await.listed_at, before, "it listed everything");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_change_there_is_told() {
    let world = known().await;
    write(&world.far, "a/1", "edited there");
    write(&world.far, "new/folder/6", "new there");
    fs::remove_file(world.far.join("b/4")).unwrap();
    fs::rename(world.far.join("a/deep"), world.far.join("moved")).unwrap();
    fs::remove_file(world.far.join("top")).unwrap();
    write(&world.far, "top/7", "a folder where a file was");
    for _ in 0..3 {
        sync_by_token(&world).await;
    }
    assert_eq!(tree(&world.near), tree(&world.far));
    assert!(world.near.join("moved/3").exists() && world.near.join("top/7").exists());
    assert!(!world.near.join("b/4").exists() && !world.near.join("a/deep").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_open_stays_open_without_being_listed_again() {
    let world = known().await;
    write(&world.near, "a/1", "edited here");
    write(&world.far, "a/1", "edited there, otherwise");
    for _ in 0..3 {
        sync_by_token(&world).await;
        let plan = world.plan().await.unwrap();
        assert_eq!(plan.totals().conflicts, 1);
    }
    write(&world.near, "a/1", "edited there, otherwise");
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_is_not_known_any_more_means_a_listing_and_no_removal() {
    let world = known().await;
    set_lane(
        &world,
        "UPDATE lane SET token = 'urn:standin:changes:of-another-life'",
    )
    .await;
    let before = lane(&world).await;
    write(&world.far, "a/1", "edited there");
    let report = world.sync().await.unwrap();
    assert_eq!((report.counts.removed, report.counts.files_down), (0, 1));
    let after = lane(&world).await;
    assert!(after.listed_at > before.listed_at && after.token != before.token);
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_listed_once_a_day_and_after_a_clock_was_set_back() {
    for wrong in [
        "listed_at - 90000000000000",
        "listed_at + 90000000000000",
        "NULL",
    ] {
        let world = known().await;
        let set = match wrong {
            "NULL" => "UPDATE lane SET listed_at = NULL",
            text if text.contains('-') => "UPDATE lane SET listed_at = listed_at - 90000000000000",
            _ => "UPDATE lane SET listed_at = listed_at + 90000000000000",
        };
        set_lane(&world, set).await;
        let before: Option<EditTime> = lane(&world).await.listed_at;
        world.sync().await.unwrap();
        assert_ne!(lane(&world).await.listed_at, before, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_token_is_kept_of_a_side_that_could_not_be_told_whole() {
    let world = known().await;
    set_lane(&world, "UPDATE lane SET token = NULL").await;
    world.fault(&["unreadable=Scores/b"]);
    world.sync().await.unwrap();
    assert_eq!(lane(&world).await.token, None);
    world.fault(&[]);
    world.settle_down().await;
    assert!(lane(&world).await.token.is_some());
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pass_over_a_part_does_not_swallow_the_changes_of_the_rest() {
    let world = known().await;
    write(&world.far, "a/1", "edited there");
    write(&world.far, "b/4", "edited there too");
    let wish = Wish {
        scope: vec![crate::worlds::path("a")],
        ..Wish::default()
    };
    world.pass().await.unwrap().sync(&wish).await.unwrap();
    assert_eq!(fs::read(world.near.join("b/4")).unwrap(), b"text of b/4");
    sync_by_token(&world).await;
    assert_eq!(tree(&world.near), tree(&world.far));
}

/// Stops a pass where it has just recorded something, as a kill does.
struct DiesAfterOne(tokio::sync::Notify);

#[async_trait::async_trait]
impl Hook for DiesAfterOne {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        if seam == Seam::Carried {
            self.0.notify_one();
            std::future::pending::<()>().await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_came_and_went_there_around_a_pass_that_was_cut_off_is_seen() {
    let world = known().await;
    write(&world.far, "b/came", "and goes again");
    let dies = Arc::new(DiesAfterOne(tokio::sync::Notify::new()));
    let pass = world
        .pass_with(Arc::clone(&dies) as _, Arc::new(SystemClock))
        .await
        .unwrap();
    let wish = Wish::default();
    tokio::select! {
        ended = pass.sync(&wish) => panic!("it was not cut off: {ended:?}"),
        () = dies.0.notified() => {}
    }
    drop(pass);
    assert!(world.near.join("b/came").exists());
    // To the server nothing has changed since the token of the pass before.
    fs::remove_file(world.far.join("b/came")).unwrap();
    world.sync().await.unwrap();
    assert!(!world.near.join("b/came").exists());
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_that_breaks_off_is_not_believed() {
    let world = known().await;
    for fault in ["short-listing=1", "xml=entities", "cut=1"] {
        set_lane(&world, "UPDATE lane SET token = NULL").await;
        write(&world.far, "b/5", &format!("edited under {fault}"));
        world.fault(&[fault]);
        // However it ends.
        let _ = world.sync().await;
        assert_eq!(tree(&world.near).len(), 9, "{fault}: nothing was removed");
        world.fault(&[]);
        world.settle_down().await;
        assert_eq!(tree(&world.near), tree(&world.far), "{fault}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn any_changes_on_both_sides_converge() {
    let world = known().await;
    let mut state = 7u64;
    let mut next = |below: u64| {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1);
        (state >> 33) % below
    };
    for round in 0..25 {
        for _ in 0..4 {
            let root = if next(2) == 0 {
                &world.near
            } else {
                &world.far
            };
            let at = root.join(format!(
                "{}/{}",
                ["a", "b", "c", "a/d"][next(4) as usize],
                next(5)
            ));
            match next(4) {
                0 => {
                    let _ = fs::remove_file(&at);
                }
                1 => {
                    let _ = fs::remove_dir_all(at.parent().unwrap());
                }
                _ => write(
                    root,
                    at.strip_prefix(root).unwrap().to_str().unwrap(),
                    &format!("round {round}, {}", next(1000)),
                ),
            }
        }
        for _ in 0..5 {
            let plan = world.plan().await.unwrap();
            let wish = katabatic_engine::pass::Wish {
                release_brake: Some(plan.brake.planned.total()),
                ..katabatic_engine::pass::Wish::default()
            };
            world.pass().await.unwrap().sync(&wish).await.unwrap();
        }
        // Conflicts wait for a person; here the near side always wins.
        for step in world.plan().await.unwrap().steps {
            let (near, far) = (
                world.near.join(step.path().as_str()),
                world.far.join(step.path().as_str()),
            );
            if near.is_file() && far.is_file() {
                fs::copy(&near, &far).unwrap();
            }
        }
        for _ in 0..3 {
            let plan = world.plan().await.unwrap();
            let wish = katabatic_engine::pass::Wish {
                release_brake: Some(plan.brake.planned.total()),
                ..katabatic_engine::pass::Wish::default()
            };
            world.pass().await.unwrap().sync(&wish).await.unwrap();
        }
        let open = world.plan().await.unwrap().steps;
        assert_eq!(
            tree(&world.near),
            tree(&world.far),
            "round {round}: {open:#?}"
        );
    }
}
