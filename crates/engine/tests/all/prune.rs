//! Giving up spares never takes the only copy of what a pass was cut off in, or of what a program wrote late.

use std::fs;
use std::sync::Arc;

use crate::worlds::{World, tree, write};
use async_trait::async_trait;
use katabatic_core::{RelPath, Side};
use katabatic_engine::pass::{Pass, Wish};
use katabatic_engine::prune::{GaveUp, give_up};
use katabatic_engine::seam::{Hook, Seam};
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::clock::SystemClock;

/// Somebody saves over the file in the instant before it is taken out, and then the process dies.
struct SavesAndDies {
    file: std::path::PathBuf,
    at: Seam,
    died: tokio::sync::Notify,
}

#[async_trait]
impl Hook for SavesAndDies {
    async fn at(&self, seam: Seam, _: Option<Side>, path: Option<&RelPath>) {
        if path.is_none_or(|path| path.as_str() != "a") {
            return;
        }
        if seam == Seam::Intended {
            fs::write(&self.file, "saved in that instant").unwrap();
        }
        if seam == self.at {
            self.died.notify_one();
            std::future::pending::<()>().await;
        }
    }
}

fn spares(pass: &Pass) -> Vec<Spare> {
    pass.ledger
        .read(|connection| spare_rows::all(connection, None))
        .unwrap()
}

async fn give_up_all(world: &World) -> GaveUp {
    let pass = world.pass().await.unwrap();
    let all = spares(&pass);
    give_up(&pass, &all).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_killed_pass_had_taken_out_is_not_given_up() {
    for (at, on, removed) in [
        (Seam::Captured, Side::Near, false),
        (Seam::Captured, Side::Far, false),
        (Seam::Captured, Side::Near, true),
        (Seam::Captured, Side::Far, true),
    ] {
        let world = World::new().await;
        write(&world.near, "a", "old");
        write(&world.near, "b", "another");
        world.settle_down().await;
        let (from, to) = match on {
            Side::Near => (&world.far, &world.near),
            Side::Far => (&world.near, &world.far),
        };
        match removed {
            true => fs::remove_file(from.join("a")).unwrap(),
            false => write(from, "a", "edited on the other side"),
        }
        let dies = Arc::new(SavesAndDies {
            file: to.join("a"),
            at,
            died: tokio::sync::Notify::new(),
        });
        let pass = world
            .pass_with(Arc::clone(&dies) as _, Arc::new(SystemClock))
            .await
            .unwrap();
        let wish = Wish::default();
        tokio::select! {
            ended = pass.sync(&wish) => panic!("{on:?}: it did not die: {ended:?}"),
            () = dies.died.notified() => {}
        }
        drop(pass);
        give_up_all(&world).await;
        let every = world.every_version();
        let kept = every.contains(b"saved in that instant".as_slice());
        assert!(kept, "{at:?} on {on:?}, removed {removed}: {every:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_program_wrote_late_is_not_given_up() {
    for later_passes in [0, 1] {
        let world = World::new().await;
        write(&world.near, "a", "old");
        world.settle_down().await;
        write(&world.far, "a", "a new version from there");
        world.sync().await.unwrap();
        for _ in 0..later_passes {
            world.sync().await.unwrap();
        }
        let pass = world.pass().await.unwrap();
        let spare = spares(&pass).remove(0);
        let file = pass.lane.near.spare_here(&spare.slot).unwrap();
        fs::write(file, "written late").unwrap();
        drop(pass);
        give_up_all(&world).await;
        let every = world.every_version();
        assert!(
            every.contains(b"written late".as_slice()),
            "{later_passes}: {every:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_spare_of_another_lane_of_that_name_stays() {
    let world = World::new().await;
    write(&world.near, "a", "old");
    world.settle_down().await;
    write(&world.far, "a", "a new version from there");
    world.sync().await.unwrap();
    let pass = world.pass().await.unwrap();
    let mut all = spares(&pass);
    all[0].lane.0 += 1;
    let gave_up = give_up(&pass, &all).await.unwrap();
    assert_eq!((gave_up.versions, gave_up.stayed.len()), (0, 1));
    drop(pass);
    assert_eq!(give_up_all(&world).await.versions, 1);
    assert_eq!(tree(&world.near), tree(&world.far));
}
