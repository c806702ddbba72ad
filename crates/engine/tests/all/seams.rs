//! Strangers and crashes at every seam of a pass.
//!
//! The scenario has one of each: a new file, an edit, a removal, a removed folder, a renamed file and a renamed folder on
//! each side, and two files that took each other's names. At every seam, and
//! at every time it is passed, a stranger writes to the very path the pass is working on, on either side; or the pass
//! dies there. Afterwards every version that ever was must be on a side or in the spares, and the sides must be equal
//! but for open conflicts.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use crate::worlds::{Death, World, tree, write};
use async_trait::async_trait;
use katabatic_core::{RelPath, Side};
use katabatic_engine::pass::Wish;
use katabatic_engine::seam::{Hook, Seam};
use katabatic_sides::clock::SystemClock;

/// Of four worlds one has a server that was probed, so that the ways for good servers are tried at every seam as well
/// as those for strangers; one has a second folder of this computer for its far side; and one ties two accounts.
async fn scenario() -> World {
    static WORLDS: AtomicUsize = AtomicUsize::new(0);
    let mut world = World::new().await;
    match WORLDS.fetch_add(1, Ordering::SeqCst) % 4 {
        0 => {}
        1 => world.knows_the_stand_in().await,
        2 => world.far_is_here(),
        _ => {
            world.near_is_an_account();
            world.knows_the_stand_in().await;
        }
    }
    for at in [
        "edit-here",
        "edit-there",
        "remove-here",
        "remove-there",
        "folder-here/1",
        "folder-there/1",
        "kind",
        "name-here",
        "name-there",
        "tree-here/1",
        "tree-here/deep/2",
        "tree-there/1",
        "turn-a",
        "turn-b",
    ] {
        write(&world.near, at, &format!("old {at}"));
    }
    world.settle_down().await;
    write(&world.near, "edit-here", "new edit, made here");
    write(&world.far, "edit-there", "new edit, made there");
    write(&world.near, "new-here/1", "new file here");
    write(&world.far, "new-there/1", "new file there");
    fs::remove_file(world.near.join("remove-here")).unwrap();
    fs::remove_file(world.far.join("remove-there")).unwrap();
    fs::remove_dir_all(world.near.join("folder-here")).unwrap();
    fs::remove_dir_all(world.far.join("folder-there")).unwrap();
    fs::remove_file(world.near.join("kind")).unwrap();
    write(&world.near, "kind/1", "a folder where a file was");
    let rename = |root: &Path, from: &str, to: &str| {
        fs::rename(root.join(from), root.join(to)).unwrap();
    };
    rename(&world.near, "name-here", "folder name-here");
    rename(&world.far, "name-there", "other name-there");
    rename(&world.near, "tree-here", "other tree-here");
    rename(&world.far, "tree-there", "other tree-there");
    for (from, to) in [("turn-a", "turn"), ("turn-b", "turn-a"), ("turn", "turn-b")] {
        rename(&world.near, from, to);
    }
    world
}

/// Whatever else happened: nothing lost, nothing half, and the next passes bring both sides together.
async fn check(world: &World, mut versions: BTreeSet<Vec<u8>>, case: &str) {
    world.fault(&[]);
    for _ in 0..5 {
        world
            .sync()
            .await
            .unwrap_or_else(|error| panic!("{case}: {error:?}"));
        if !world.plan().await.unwrap().has_work() {
            break;
        }
    }
    let every = world.every_version();
    versions.retain(|version| !every.contains(version));
    let lost: Vec<_> = versions
        .iter()
        .map(|version| String::from_utf8_lossy(version))
        .collect();
    assert!(lost.is_empty(), "{case}: lost {lost:?}");
    let plan = world.plan().await.unwrap();
    let open: BTreeSet<String> = plan
        .steps
        .iter()
        .map(|step| step.path().to_string())
        .collect();
    let settled = |root: &Path| {
        let mut tree = tree(root);
        tree.retain(|at, _| !open.contains(at));
        tree
    };
    assert_eq!(settled(&world.near), settled(&world.far), "{case}");
    assert!(!plan.has_work(), "{case}: {:#?}", plan.steps);
}

struct Stranger {
    at: Seam,
    on: Side,
    countdown: AtomicUsize,
    root: std::path::PathBuf,
    in_place: bool,
    /// What the stranger wrote over: a version that the stranger, and not the pass, took away.
    destroyed: Mutex<Vec<Vec<u8>>>,
}

#[async_trait]
impl Hook for Stranger {
    async fn at(&self, seam: Seam, _: Option<Side>, path: Option<&RelPath>) {
        if seam != self.at || self.countdown.fetch_sub(1, Ordering::SeqCst) != 0 {
            return;
        }
        let path = path.map_or("edit-here", RelPath::as_str);
        let target = self.root.join(path);
        // Into a folder, beside the members that the pass knows; a file's name is taken or replaced.
        let target = if target.is_dir() {
            target.join("stranger")
        } else {
            target
        };
        if target
            .parent()
            .is_none_or(|parent| fs::create_dir_all(parent).is_err())
        {
            return;
        }
        if let Ok(old) = fs::read(&target) {
            self.destroyed.lock().unwrap().push(old);
        }
        if self.in_place {
            fs::write(&target, "a stranger's own words").unwrap();
        } else {
            let beside = self.root.join("../stranger-on-the-way");
            fs::write(&beside, "a stranger's own words").unwrap();
            fs::rename(&beside, &target).unwrap();
        }
    }
}

/// A seam is tried at most so often; the trial by simulation tries the rest.
const TIMES: usize = 12;

async fn strangers(on: Side, in_place: bool) {
    for (number, at) in Seam::ALL.into_iter().enumerate() {
        // The first time, and then every other one.
        for time in (0..TIMES).filter(|time| *time == 0 || (time + number) % 2 == 0) {
            let world = scenario().await;
            let mut versions = world.every_version();
            let root = if on == Side::Near {
                &world.near
            } else {
                &world.far
            };
            let stranger = Arc::new(Stranger {
                at,
                on,
                countdown: AtomicUsize::new(time),
                root: root.clone(),
                in_place,
                destroyed: Mutex::default(),
            });
            let case = format!(
                "a stranger on {:?} at {at:?}, time {time}, in place {in_place}",
                stranger.on
            );
            let pass = world
                .pass_with(Arc::clone(&stranger) as _, Arc::new(SystemClock))
                .await
                .unwrap();
            let result = pass.sync(&Wish::default()).await;
            drop(pass);
            let reached = stranger.countdown.load(Ordering::SeqCst) > time;
            assert!(reached || time > 0, "no pass ever stands at {at:?}");
            if !reached {
                break;
            }
            result.unwrap_or_else(|error| panic!("{case}: {error:?}"));
            versions.insert(b"a stranger's own words".to_vec());
            let destroyed = stranger.destroyed.lock().unwrap().clone();
            versions.retain(|version| !destroyed.contains(version));
            check(&world, versions, &case).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_here_at_every_seam() {
    strangers(Side::Near, false).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_there_at_every_seam() {
    strangers(Side::Far, false).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_who_writes_in_place_here() {
    strangers(Side::Near, true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pass_that_dies_at_every_seam_is_finished_by_the_next() {
    for at in Seam::ALL {
        for time in 0..TIMES {
            let world = scenario().await;
            let versions = world.every_version();
            let died = Death::at(at, time).meets(&world, &Wish::default()).await;
            if !died {
                break;
            }
            check(&world, versions, &format!("dead at {at:?}, time {time}")).await;
            let near = tree(&world.near);
            assert_eq!(near, tree(&world.far), "dead at {at:?}, time {time}");
            assert_eq!(near["edit-here"].as_deref(), Some("new edit, made here"));
            assert_eq!(near["edit-there"].as_deref(), Some("new edit, made there"));
            assert!(
                !near.contains_key("remove-here") && !near.contains_key("folder-there"),
                "{near:?}"
            );
        }
    }
}

/// Puts a link in the place of the file or the folder that the pass is about to go on with.
struct Linker {
    at: Seam,
    countdown: AtomicUsize,
    root: std::path::PathBuf,
    outside: std::path::PathBuf,
    aside: std::path::PathBuf,
    swapped: Mutex<Option<String>>,
}

#[async_trait]
impl Hook for Linker {
    async fn at(&self, seam: Seam, _: Option<Side>, path: Option<&RelPath>) {
        if seam != self.at || self.countdown.fetch_sub(1, Ordering::SeqCst) != 0 {
            return;
        }
        let path = path.map_or("tree-here", RelPath::as_str);
        let top = path.split('/').next().unwrap().to_owned();
        let target = self.root.join(&top);
        let points_at = match target.is_dir() {
            true => self.outside.clone(),
            false => self.outside.join("1"),
        };
        if fs::rename(&target, &self.aside).is_ok() {
            std::os::unix::fs::symlink(points_at, &target).unwrap();
            *self.swapped.lock().unwrap() = Some(top);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_put_in_the_way_at_any_seam_leads_nowhere() {
    let mut swaps = 0;
    for (number, at) in Seam::ALL.into_iter().enumerate() {
        for time in (0..TIMES).filter(|time| *time == 0 || (time + number) % 4 == 0) {
            let world = scenario().await;
            if world.config.lanes[0].account(Side::Near).is_some() {
                // Who could put a link into an account?
                continue;
            }
            let versions = world.every_version();
            let outside = world.dir.path().join("outside");
            for name in ["1", "deep/2", "deep/3"] {
                write(&outside, name, &format!("outside {name}"));
            }
            let before = tree(&outside);
            let linker = Arc::new(Linker {
                at,
                countdown: AtomicUsize::new(time),
                root: world.near.clone(),
                outside: outside.clone(),
                aside: world.dir.path().join("aside"),
                swapped: Mutex::default(),
            });
            let case = format!("a link at {at:?}, time {time}");
            let pass = world
                .pass_with(Arc::clone(&linker) as _, Arc::new(SystemClock))
                .await
                .unwrap();
            // What it says of the path is its own business; where it wrote is not.
            let _ = pass.sync(&Wish::default()).await;
            drop(pass);
            assert_eq!(before, tree(&outside), "{case}");
            let far = world.every_version();
            let leaked = far.iter().any(|version| version.starts_with(b"outside"));
            assert!(!leaked, "{case}: what lies outside was carried");
            let Some(top) = linker.swapped.lock().unwrap().clone() else {
                continue;
            };
            swaps += 1;
            let place = world.near.join(&top);
            if place.is_symlink() {
                fs::remove_file(&place).unwrap();
            }
            let back = match place.exists() {
                true => world.near.join(format!("back {top}")),
                false => place,
            };
            fs::rename(world.dir.path().join("aside"), back).unwrap();
            check(&world, versions, &case).await;
        }
    }
    assert!(swaps > 10, "a link was put in the way only {swaps} times");
}
