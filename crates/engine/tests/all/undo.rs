//! Taking back what a run replaced or removed: killed at any step, the next pass finishes it, and nothing is lost.

use std::fs;
use std::sync::Arc;

use crate::worlds::{World, tree, write};
use async_trait::async_trait;
use katabatic_core::{RelPath, Side};
use katabatic_engine::pass::Pass;
use katabatic_engine::seam::{Hook, Seam};
use katabatic_engine::undo::{look, take_back};
use katabatic_ledger::runs::{self, Run};
use katabatic_sides::clock::SystemClock;

/// The process dies at this seam, or somebody saves over the file there.
struct At {
    seam: Seam,
    saves: Option<std::path::PathBuf>,
    met: tokio::sync::Notify,
}

#[async_trait]
impl Hook for At {
    async fn at(&self, seam: Seam, _: Option<Side>, path: Option<&RelPath>) {
        if path.is_none_or(|path| path.as_str() != "a") || seam != self.seam {
            return;
        }
        self.met.notify_one();
        match &self.saves {
            Some(file) => fs::write(file, "saved in that instant").unwrap(),
            None => std::future::pending().await,
        }
    }
}

fn last_run(pass: &Pass) -> Run {
    let last = pass
        .ledger
        .read(|connection| runs::last(connection, None, 1));
    last.unwrap().remove(0)
}

/// A world in which a run replaced `a` on one side, with the version of the other.
async fn replaced(edited: Side) -> (World, Run) {
    let world = World::new().await;
    write(&world.near, "a", "old");
    write(&world.near, "b", "another");
    world.settle_down().await;
    let root = match edited {
        Side::Near => &world.near,
        Side::Far => &world.far,
    };
    write(root, "a", "the newer version");
    world.sync().await.unwrap();
    let run = last_run(&world.pass().await.unwrap());
    world.settle_down().await;
    (world, run)
}

const SEAMS: [Seam; 6] = [
    Seam::Intended,
    Seam::Captured,
    Seam::Checked,
    Seam::Placed,
    Seam::Verified,
    Seam::Recorded,
];

#[tokio::test(flavor = "multi_thread")]
async fn killed_at_any_step_the_name_is_never_empty_and_a_later_pass_goes_on() {
    for edited in [Side::Near, Side::Far] {
        for seam in SEAMS {
            let (world, run) = replaced(edited).await;
            let dies = Arc::new(At {
                seam,
                saves: None,
                met: tokio::sync::Notify::new(),
            });
            let pass = world
                .pass_with(Arc::clone(&dies) as _, Arc::new(SystemClock))
                .await
                .unwrap();
            let offer = look(&pass, &run).await.unwrap();
            assert_eq!(offer.totals()[1].0, 1, "{edited:?}: {offer:?}");
            tokio::select! {
                ended = take_back(&pass, &offer, &run) => panic!("{edited:?} {seam:?}: {ended:?}"),
                () = dies.met.notified() => {}
            }
            drop(pass);
            assert!(world.near.join("a").exists(), "{edited:?} {seam:?}");
            world.settle_down().await;
            assert_eq!(tree(&world.near), tree(&world.far), "{edited:?} {seam:?}");
            let every = world.every_version();
            for version in ["old", "the newer version"] {
                assert!(
                    every.contains(version.as_bytes()),
                    "{edited:?} {seam:?}: {version} is lost"
                );
            }
            // Once it stood in its place here, it gets to the other side.
            if seam != Seam::Intended {
                let here = &tree(&world.near)["a"];
                assert_eq!(here.as_deref(), Some("old"), "{edited:?} {seam:?}");
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_saved_in_that_instant_is_kept() {
    for seam in SEAMS {
        let (world, run) = replaced(Side::Far).await;
        let saves = Arc::new(At {
            seam,
            saves: Some(world.near.join("a")),
            met: tokio::sync::Notify::new(),
        });
        let pass = world.pass_with(saves, Arc::new(SystemClock)).await.unwrap();
        let offer = look(&pass, &run).await.unwrap();
        let _ = take_back(&pass, &offer, &run).await.unwrap();
        drop(pass);
        for _ in 0..4 {
            world.sync().await.unwrap();
        }
        let every = world.every_version();
        for version in ["old", "the newer version", "saved in that instant"] {
            assert!(every.contains(version.as_bytes()), "{seam:?}: {version}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_spare_that_somebody_wrote_into_is_not_brought_back_as_the_old_version() {
    let (world, run) = replaced(Side::Far).await;
    let pass = world.pass().await.unwrap();
    let offer = look(&pass, &run).await.unwrap();
    let spare = &offer.back[0].spare;
    let file = pass.lane.near.spare_here(&spare.slot).unwrap();
    fs::write(file, "written late").unwrap();
    let done = take_back(&pass, &offer, &run).await.unwrap();
    assert_eq!((done.back, done.failed.len()), (0, 1), "{done:?}");
    drop(pass);
    let every = world.every_version();
    assert!(every.contains("written late".as_bytes()));
    assert!(every.contains("the newer version".as_bytes()));
}
