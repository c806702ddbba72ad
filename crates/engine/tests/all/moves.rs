//! Moves against a real disk and the stand-in: no content travels, nothing goes to the spares, and a server that gives
//! no ids only makes it slower.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use crate::worlds::{World, path, tree, write};
use async_trait::async_trait;
use katabatic_core::{Agreement, Direction, RelPath, Removals, Side, Terms, Updates};
use katabatic_engine::pass::{Report, Wish};
use katabatic_engine::seam::{Hook, Seam};
use katabatic_engine::standing;
use katabatic_sides::clock::SystemClock;

fn rename(root: &Path, from: &str, to: &str) {
    let to = root.join(to);
    fs::create_dir_all(to.parent().unwrap()).unwrap();
    fs::rename(root.join(from), to).unwrap();
}

async fn settled(files: &[&str]) -> World {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    for at in files {
        write(&world.near, at, &format!("content of {at}"));
    }
    world.settle_down().await;
    world
}

/// A pass that must leave both sides equal and nothing to do.
async fn synced(world: &World) -> Report {
    let report = world.sync().await.unwrap();
    assert_eq!(tree(&world.near), tree(&world.far));
    let plan = world.plan().await.unwrap();
    assert!(!plan.has_work(), "{:#?}", plan.steps);
    report
}

fn carried(report: &Report) -> (u64, u64, u64, u64) {
    let counts = &report.counts;
    (
        counts.moved,
        counts.files_up + counts.files_down,
        counts.removed,
        counts.replaced,
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn files_and_folders_are_moved_both_ways_and_no_content_travels() {
    let mut worlds = vec![settled(&["a", "b", "d/1", "d/e/2", "f/3"]).await];
    // The same with a second folder of this computer for the far side.
    let mut here = World::new().await;
    here.far_is_here();
    for at in ["a", "b", "d/1", "d/e/2", "f/3"] {
        write(&here.near, at, &format!("content of {at}"));
    }
    here.settle_down().await;
    worlds.push(here);
    for world in worlds {
        rename(&world.near, "a", "sub/x");
        rename(&world.near, "d", "sub/d2");
        rename(&world.far, "b", "b2");
        rename(&world.far, "f", "g/h");
        let report = synced(&world).await;
        assert_eq!(carried(&report), (5, 0, 0, 0), "{:#?}", report.outcomes);
        assert_eq!(report.settled, 5);
        assert!(world.near.join("g/h/3").exists() && world.far.join("sub/d2/e/2").exists());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_whole_folder_is_one_request() {
    let names: Vec<String> = (0..40).map(|number| format!("old/{number}")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let world = settled(&names).await;
    rename(&world.near, "old", "new");
    write(&world.near, "new/mine", "new here");
    write(&world.far, "old/theirs", "new there");
    fs::remove_file(world.near.join("new/7")).unwrap();
    write(&world.far, "old/8", "edited there, longer");
    let report = synced(&world).await;
    let moves = report
        .outcomes
        .iter()
        .filter(|outcome| matches!(outcome.step.decision, katabatic_core::Decision::Move { .. }));
    assert_eq!(moves.count(), 1);
    assert_eq!(
        (
            report.counts.files_up,
            report.counts.files_down,
            report.counts.removed
        ),
        (1, 2, 1)
    );
    assert_eq!(report.settled, 41);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_without_ids_costs_a_transfer_and_nothing_else() {
    let world = settled(&["a", "d/1"]).await;
    world.fault(&["without=resource-ids"]);
    world.sync().await.unwrap();
    rename(&world.far, "a", "b");
    rename(&world.near, "d", "e");
    let report = synced(&world).await;
    assert_eq!(carried(&report), (1, 1, 1, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn names_change_in_a_row_in_a_circle_and_in_case_only() {
    let world = settled(&["a", "b", "x", "y", "Case.txt"]).await;
    for root in [&world.near, &world.far] {
        for (from, to) in [("b", "c"), ("a", "b"), ("x", "z"), ("y", "x"), ("z", "y")] {
            rename(root, from, to);
        }
        let from = if root == &world.near {
            "Case.txt"
        } else {
            "case.txt"
        };
        rename(
            root,
            from,
            if root == &world.near {
                "case.txt"
            } else {
                "CASE.txt"
            },
        );
        let report = synced(&world).await;
        let did: Vec<String> = report
            .outcomes
            .iter()
            .map(|outcome| {
                let (path, decision) = (outcome.step.path(), &outcome.step.decision);
                format!("{path}: {decision:?}")
            })
            .collect();
        assert_eq!(carried(&report), (5, 0, 0, 0), "{did:#?}");
        // And back, for the other side's turn.
        for (from, to) in [("b", "a"), ("c", "b"), ("x", "z"), ("y", "x"), ("z", "y")] {
            rename(root, from, to);
        }
        synced(&world).await;
    }
    assert!(world.near.join("CASE.txt").exists());
}

/// Two files of one size and one moment, to which the stand-in gives one tag, change places.
fn change_places(root: &Path) {
    for (from, to) in [("one", "aside"), ("two", "one"), ("aside", "two")] {
        rename(root, from, to);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_of_one_tag_that_change_places_in_an_account_are_seen_to_have_done_so() {
    for near_is_an_account in [false, true] {
        let mut world = World::new().await;
        if near_is_an_account {
            world.near_is_an_account();
        }
        world.knows_the_stand_in().await;
        let by_hand = if near_is_an_account {
            &world.near
        } else {
            &world.far
        };
        let an_hour_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(3_600);
        for at in ["one", "two"] {
            write(by_hand, at, at);
            let file = fs::File::options()
                .write(true)
                .open(by_hand.join(at))
                .unwrap();
            file.set_modified(an_hour_ago).unwrap();
        }
        world.settle_down().await;
        change_places(by_hand);
        let report = world.sync().await.unwrap();
        assert_eq!(tree(&world.near), tree(&world.far));
        assert_eq!(
            tree(&world.near)["one"].as_deref(),
            Some("two"),
            "{report:?}"
        );
        // What was read once to tell is known now.
        assert!(!world.plan().await.unwrap().has_work());
        world.fault(&["silent-to=GET"]);
        let plan = world.plan().await.unwrap();
        let accounts = &[Side::Far, Side::Near][..1 + usize::from(near_is_an_account)];
        for (step, side) in plan
            .steps
            .iter()
            .flat_map(|step| accounts.iter().map(move |side| (step, *side)))
        {
            let seen = step.entry(side).unwrap_or_else(|| panic!("{step:#?}"));
            assert_eq!(seen.content, None, "it was read again: {step:#?}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_number_that_a_new_file_got_is_no_move() {
    let world = settled(&["a"]).await;
    let inode = fs::metadata(world.near.join("a")).unwrap().ino();
    fs::remove_file(world.near.join("a")).unwrap();
    // Some file systems give the number to the next file at once; where this one does not, nothing is tried here.
    write(&world.near, "b", "another one!");
    let again = fs::metadata(world.near.join("b")).unwrap().ino() == inode;
    let report = synced(&world).await;
    assert_eq!(
        carried(&report),
        (0, 1, 1, 0),
        "number given again: {again}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_one_way_lane_moves_what_its_source_moved_and_keeps_what_it_removed() {
    let mut world = settled(&["d/1", "d/2", "gone"]).await;
    let mut lane = world.config.lanes[0].clone();
    lane.terms = Terms {
        direction: Direction::Up,
        removals: Removals::Keep,
        ..Terms::default()
    };
    world.config.change_lane(lane).unwrap();
    world.sync().await.unwrap();
    rename(&world.near, "d", "e");
    fs::remove_file(world.near.join("gone")).unwrap();
    let report = world.sync().await.unwrap();
    assert_eq!(carried(&report), (2, 0, 0, 0));
    assert!(world.far.join("gone").exists() && world.far.join("e/2").exists());
    assert!(!world.far.join("d").exists());

    // Where nothing there may ever change, neither may a name.
    let mut lane = world.config.lanes[0].clone();
    lane.terms.updates = Updates::Never;
    world.config.change_lane(lane).unwrap();
    rename(&world.near, "e", "f");
    let report = world.sync().await.unwrap();
    assert_eq!(carried(&report), (0, 2, 0, 0));
    assert!(world.far.join("f/2").exists() && world.far.join("e/2").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn status_tells_of_a_move_before_it_is_carried() {
    let world = settled(&["d/1", "d/2"]).await;
    rename(&world.near, "d", "e");
    let pass = world.pass().await.unwrap();
    let seen = standing::look(&pass, &RelPath::root(), &|_| String::new())
        .await
        .unwrap();
    assert_eq!(seen.counts.get(&Agreement::Waiting(Side::Far)), Some(&2));
    assert_eq!(seen.standings.len(), 1, "{:#?}", seen.standings);
    assert_eq!(
        seen.standings[0].reason,
        "was d on this computer, with 2 files in it"
    );
}

/// Puts another file where the moved one was, right before the move is done there.
struct Replaces(std::path::PathBuf);

#[async_trait]
impl Hook for Replaces {
    async fn at(&self, seam: Seam, _: Option<Side>, at: Option<&RelPath>) {
        if seam == Seam::Intended && at == Some(&path("b")) {
            fs::remove_file(&self.0).unwrap();
            fs::write(&self.0, "a stranger's, put there in the last moment").unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_stranger_put_there_in_the_last_moment_goes_back_to_its_name() {
    let world = settled(&["a"]).await;
    rename(&world.near, "a", "b");
    let hook = Arc::new(Replaces(world.far.join("a")));
    let pass = world.pass_with(hook, Arc::new(SystemClock)).await.unwrap();
    let report = pass.sync(&Wish::default()).await.unwrap();
    assert_eq!(report.counts.stuck, 1, "{:#?}", report.outcomes);
    assert!(world.far.join("a").exists());
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
    let versions = world.every_version();
    for content in ["content of a", "a stranger's, put there in the last moment"] {
        assert!(versions.contains(content.as_bytes()), "{content}");
    }
}

/// A lane that takes `now` and not `past`, with files of `now` that were moved to `past` there.
async fn moved_out() -> World {
    let mut world = settled(&["now/a", "now/b", "now/c"]).await;
    write(&world.far, "past/old", "old");
    let mut lane = world.config.lanes[0].clone();
    lane.selection.choice.say(&path("past"), false);
    world.config.change_lane(lane).unwrap();
    world.settle_down().await;
    rename(&world.far, "now", "past/now");
    world
}

/// Writes into one path here at one seam: as an editor that saves a new file, or through what it has open.
struct Writer {
    at: Seam,
    file: Mutex<Option<fs::File>>,
    to: std::path::PathBuf,
    wrote: AtomicBool,
}

#[async_trait]
impl Hook for Writer {
    async fn at(&self, seam: Seam, _: Option<Side>, about: Option<&RelPath>) {
        let is_it = about.is_none_or(|about| *about == path("now/a"));
        if seam != self.at || !is_it {
            return;
        }
        let open = self.file.lock().unwrap().take();
        let writes = open.is_some() || self.to.parent().unwrap().exists();
        self.wrote.fetch_or(writes, Ordering::SeqCst);
        match open {
            Some(mut open) => std::io::Write::write_all(&mut open, b"written late").unwrap(),
            None if self.to.parent().unwrap().exists() => {
                fs::write(self.to.with_extension("new"), "saved anew").unwrap();
                fs::rename(self.to.with_extension("new"), &self.to).unwrap();
            }
            None => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_that_is_dropped_because_it_was_moved_out_there_is_never_an_edited_one() {
    let mut written = 0;
    for at in Seam::ALL {
        for late in [true, false] {
            let world = moved_out().await;
            let to = world.near.join("now/a");
            let file = late.then(|| fs::OpenOptions::new().append(true).open(&to).unwrap());
            let writer = Arc::new(Writer {
                at,
                file: Mutex::new(file),
                to,
                wrote: AtomicBool::new(false),
            });
            let pass = world
                .pass_with(Arc::clone(&writer) as _, Arc::new(SystemClock))
                .await
                .unwrap();
            pass.sync(&Wish::default()).await.unwrap();
            drop(pass);
            drop(writer.file.lock().unwrap().take());
            for _ in 0..4 {
                world.sync().await.unwrap();
            }
            let wanted: &[u8] = if late { b"written late" } else { b"saved anew" };
            let found = world
                .every_version()
                .iter()
                .any(|content| content.ends_with(wanted));
            let wrote = writer.wrote.load(Ordering::SeqCst);
            assert!(found || !wrote, "{at:?}, late {late}: it is gone");
            written += u32::from(wrote);
            assert!(tree(&world.far)["past/now/b"].is_some());
            assert_eq!(tree(&world.near).get("now/b"), None, "{at:?}");
        }
    }
    assert!(written >= 10, "it wrote {written} times only");
}

/// Saves a version right before a replacement, and writes into the new one while that is looked at.
struct Twice(std::path::PathBuf);

#[async_trait]
impl Hook for Twice {
    async fn at(&self, seam: Seam, side: Option<Side>, about: Option<&RelPath>) {
        if side != Some(Side::Near) || about != Some(&path("a")) {
            return;
        }
        match seam {
            Seam::Intended => {
                fs::write(self.0.with_extension("new"), "saved before").unwrap();
                fs::rename(self.0.with_extension("new"), &self.0).unwrap();
            }
            Seam::Captured => fs::write(&self.0, "written into the new one").unwrap(),
            _ => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_saved_over_our_copy_in_its_moment_comes_forward() {
    let world = settled(&["a"]).await;
    write(&world.far, "a", "a new version there");
    let hook = Arc::new(Twice(world.near.join("a")));
    let pass = world.pass_with(hook, Arc::new(SystemClock)).await.unwrap();
    pass.sync(&Wish::default()).await.unwrap();
    drop(pass);
    world.sync().await.unwrap();
    world.sync().await.unwrap();
    let near = tree(&world.near);
    let here = |text: &str| {
        near.values()
            .any(|content| content.as_deref() == Some(text))
    };
    assert!(
        here("saved before") && here("written into the new one"),
        "{near:#?}"
    );
}
