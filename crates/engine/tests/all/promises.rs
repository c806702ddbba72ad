//! Sequences of events in which a version was destroyed once, or could not be found again, each by a name of its own.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use crate::worlds::{Death, World, path, tree, write};
use async_trait::async_trait;
use katabatic_core::known_root::KnownRoot;
use katabatic_core::{EditTime, RelPath, RunCommand, RunOutcome, Side};
use katabatic_engine::pass::{Report, WantedContents, Wish};
use katabatic_engine::seam::{Hook, NoHook, Seam};
use katabatic_engine::{Class, choose, lanes, room, spares, sweep};
use katabatic_ledger::runs;
use katabatic_ledger::spare_rows::{self, Spare};
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::local::LocalSide;

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
    let ledger = world.home.open_ledger().unwrap();
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
    assert_eq!(last.command, RunCommand::Sweep);
    assert!(
        matches!(&last.outcome, Some(RunOutcome::Failed(why)) if why.contains("to be left")),
        "{:?}",
        last.ended
    );
}

/// Somebody replaces a file by another one of the same length, and keeps its time: the tag stays what it was.
fn disguise(file: &Path, content: &str) {
    let before = file.metadata().unwrap();
    assert_eq!(before.len(), content.len() as u64);
    fs::write(file, content).unwrap();
    set_time(file, before.modified().unwrap());
}

fn set_time(file: &Path, at: SystemTime) {
    let file = fs::File::options().write(true).open(file).unwrap();
    file.set_modified(at).unwrap();
}

fn is_kept(world: &World, content: &str) -> bool {
    world.every_version().contains(content.as_bytes())
}

async fn shed(world: &World, scope: &[&str]) -> Report {
    let wish = Wish {
        scope: scope.iter().map(|at| path(at)).collect(),
        contents: Some(WantedContents::Away),
        ..Wish::default()
    };
    world.pass().await.unwrap().sync(&wish).await.unwrap()
}

/// Leaves a folder out of the choice, as `choose --skip` does.
async fn skip(world: &mut World, folder: &str) {
    let pass = world.pass().await.unwrap();
    let looked = choose::look(&pass).await.unwrap();
    let mut after = pass.lane.config.selection.choice.clone();
    after.say(&path(folder), false);
    let effect = choose::effect(&pass, &looked, &after).await.unwrap();
    if effect.proofs.unproven.is_empty() {
        // What is not proven there refuses it all.
        let _ = choose::drop_copies(&pass, &mut world.config, &after).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_files_of_one_tag_are_not_taken_for_each_other() {
    let mut world = World::new().await;
    world.fault(&["tags=clock"]);
    world.probe().await;
    write(&world.near, "keep/a", "the first one");
    write(&world.near, "out/b", "the other one");
    world.settle_down().await;
    let at = SystemTime::now() - Duration::from_secs(3600);
    set_time(&world.far.join("keep/a"), at);
    set_time(&world.far.join("out/b"), at);
    world.settle_down().await;
    // Plain DAV moves one over the other: the path shows the tag that was agreed on.
    fs::rename(world.far.join("keep/a"), world.far.join("out/b")).unwrap();
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
    skip(&mut world, "out").await;
    assert!(is_kept(&world, "the first one") && is_kept(&world, "the other one"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_only_copy_of_a_version_stays_where_another_has_its_tag_there() {
    for stays_by in ["shed", "choose", "room", "budget"] {
        let mut world = World::new().await;
        world.knows_the_stand_in().await;
        write(&world.near, "folder/a", "ours, and only here");
        world.settle_down().await;
        disguise(&world.far.join("folder/a"), "theirs in its place");
        match stays_by {
            "shed" => drop(shed(&world, &["folder/a"]).await),
            "choose" => skip(&mut world, "folder").await,
            "room" => {
                let pass = world.pass().await.unwrap();
                let takes = room::look(&pass).await.unwrap();
                assert_eq!(takes.can_go.len(), 1);
                room::shed(&pass, &takes.can_go).await.unwrap();
            }
            _ => {
                let mut lane = world.config.lanes[0].clone();
                lane.contents.budget.max_local = Some(1);
                world.config.change_lane(lane).unwrap();
                room::keep(&world.pass().await.unwrap()).await.unwrap();
            }
        }
        assert!(is_kept(&world, "ours, and only here"), "{stays_by}");
        assert!(is_kept(&world, "theirs in its place"), "{stays_by}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_patch_never_mixes_two_versions() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    let block = |letter: &str| letter.repeat(128 * 1024);
    let whole = |letter: &str| block(letter).repeat(96);
    write(&world.near, "large", &whole("a"));
    world.settle_down().await;
    disguise(&world.far.join("large"), &whole("b"));
    let edited = format!("{}{}", block("c"), &whole("a")[128 * 1024..]);
    write(&world.near, "large", &edited);
    for _ in 0..4 {
        world.sync().await.unwrap();
    }
    let all = world.every_version();
    assert!(all.contains(edited.as_bytes()) && all.contains(whole("b").as_bytes()));
    let mixed = |content: &Vec<u8>| content.contains(&b'b') && content.contains(&b'c');
    assert!(!all.iter().any(mixed), "two versions were mixed");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_has_open_can_be_written_to_after_it_was_shed() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, "a", "as it was");
    world.settle_down().await;
    let mut open = fs::File::options()
        .append(true)
        .open(world.near.join("a"))
        .unwrap();
    let report = shed(&world, &["a"]).await;
    assert_eq!(report.held_open, 1, "{report:#?}");
    open.write_all(b", and what was saved afterwards").unwrap();
    assert!(is_kept(&world, "as it was, and what was saved afterwards"));
}

#[tokio::test(flavor = "multi_thread")]
async fn half_a_copy_of_the_folder_is_not_the_folder() {
    let world = World::new().await;
    write(&world.near, "a", "one");
    write(&world.near, "b", "two");
    world.settle_down().await;
    let known = LocalSide::recognise(&world.near).unwrap();
    assert!(
        matches!(
            &known,
            KnownRoot::Marked {
                folder: Some(_),
                ..
            }
        ),
        "this file system keeps no birth of a folder: {known:?}"
    );
    let copy = world.dir.path().join("copy");
    let copied = Command::new("cp")
        .arg("-a")
        .arg(&world.near)
        .arg(&copy)
        .status();
    assert!(copied.unwrap().success());
    fs::remove_file(copy.join("b")).unwrap();
    fs::remove_dir_all(&world.near).unwrap();
    fs::rename(&copy, &world.near).unwrap();
    let refused = world.sync().await.unwrap_err();
    assert_eq!(refused.class, Class::NotThere);
    assert!(refused.why.contains("a copy of the folder"), "{refused:?}");
    assert!(world.far.join("b").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_goes_between_its_check_and_the_look_empties_nothing() {
    let world = World::new().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let gone = world.near.clone();
    let hook = When(Seam::Recovered, move || fs::remove_dir_all(&gone).unwrap());
    let pass = world.pass_with(Arc::new(hook), Arc::new(SystemClock)).await;
    let refused = pass.unwrap().sync(&Wish::default()).await.unwrap_err();
    assert_eq!(refused.class, Class::NotThere);
    assert!(world.far.join("a").exists());
}

/// Where the far spares of the lane lie on the stand-in's disk.
fn far_shelf(world: &World) -> PathBuf {
    let own = world.far.join(".katabatic");
    let computer = fs::read_dir(own).unwrap().next().unwrap().unwrap().path();
    computer.join("1234567890abcdef/spares")
}

fn spares_of(world: &World) -> Vec<Spare> {
    let ledger = world.home.open_ledger().unwrap();
    ledger
        .read(|connection| spare_rows::all(connection, None))
        .unwrap()
}

/// So much later than it is.
struct Later(Duration);

impl Clock for Later {
    fn now(&self) -> EditTime {
        let later = i64::try_from(self.0.as_nanos()).unwrap();
        EditTime(SystemClock.now().0 + later)
    }
}

async fn sync_later(world: &World, days: u32) {
    let clock = Later(Duration::from_secs(24 * 3600) * days);
    let pass = world.pass_with(Arc::new(NoHook), Arc::new(clock)).await;
    pass.unwrap().sync(&Wish::default()).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_lies_on_a_shelf_and_in_no_list_comes_into_the_list_and_back() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let near_shelf = world.dir.path().join("home/lanes/1234567890abcdef/spares");
    write(&near_shelf, "0123456789abcdef0123", "left here");
    write(&near_shelf, "0123456789abcdef0124", "one");
    write(&far_shelf(&world), "0123456789abcdef0125", "left there");
    sync_later(&world, 2).await;
    let listed = spares_of(&world);
    let known = listed.iter().find(|spare| spare.slot.ends_with("0124"));
    assert_eq!(known.unwrap().path, path("a"), "its content is known");
    assert_eq!(listed.len(), 3, "{listed:#?}");
    for spare in &listed {
        let pass = world.pass().await.unwrap();
        spares::restore(&pass, spare, spare.side, None)
            .await
            .unwrap();
    }
    world.settle_down().await;
    let contents: Vec<String> = tree(&world.far).into_values().flatten().collect();
    for content in ["left here", "left there"] {
        assert!(
            contents.iter().any(|there| there == content),
            "{contents:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_folder_on_the_far_shelf_goes_after_a_month_and_not_before() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let empty = far_shelf(&world).join("0123456789abcdef0123");
    fs::create_dir(&empty).unwrap();
    sync_later(&world, 2).await;
    sync_later(&world, 20).await;
    assert!(empty.exists(), "it may keep a late request away");
    sync_later(&world, 40).await;
    assert!(!empty.exists());
    assert_eq!(spares_of(&world), []);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_late_writer_does_to_a_spare_of_unknown_content_comes_forward() {
    let world = World::new().await;
    write(&world.near, "a", "one");
    world.settle_down().await;
    let mut open = fs::File::options()
        .append(true)
        .open(world.near.join("a"))
        .unwrap();
    write(&world.far, "a", "two, from there");
    // Nothing is cleared up after the capture yet: the next pass looks at the spare for the first time.
    world.sync().await.unwrap();
    let ledger = rusqlite::Connection::open(world.home.ledger_file()).unwrap();
    let forgotten = "UPDATE spare SET content = NULL, read_again = 0";
    assert_eq!(ledger.execute(forgotten, []).unwrap(), 1);
    drop(ledger);
    world.sync().await.unwrap();
    open.write_all(b", written late").unwrap();
    world.settle_down().await;
    let here: Vec<String> = tree(&world.near).into_values().flatten().collect();
    assert!(here.contains(&"one, written late".to_owned()), "{here:?}");
}

/// A stranger writes when a pass has noted what it is about to do, and the pass dies when that is done.
struct WrittenOverAndKilled {
    at: PathBuf,
    dies: Arc<Death>,
}

#[async_trait]
impl Hook for WrittenOverAndKilled {
    async fn at(&self, seam: Seam, side: Option<Side>, path: Option<&RelPath>) {
        if seam == Seam::Intended {
            fs::write(&self.at, "a stranger's").unwrap();
        }
        self.dies.at(seam, side, path).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn our_own_copy_on_its_way_back_is_kept_after_a_crash_too() {
    for is_back in [false, true] {
        let mut world = World::new().await;
        world.far_is_here();
        write(&world.near, "a", "one");
        world.settle_down().await;
        write(&world.near, "a", "two");
        let dies = Death::at(Seam::Captured, 0);
        let hook = Arc::new(WrittenOverAndKilled {
            at: world.far.join("a"),
            dies: Arc::clone(&dies),
        });
        assert!(dies.is_met_by(&world, hook, &Wish::default()).await);
        assert_eq!(tree(&world.far)["a"], Some("two".into()));
        if is_back {
            // It died a moment later: the stranger's is back in its place, and ours where that was.
            let all = fs::read_dir(world.dir.path()).unwrap();
            let captured = found_below(all, "a stranger's").unwrap();
            let (here, there) = (rustix::fs::CWD, rustix::fs::RenameFlags::EXCHANGE);
            rustix::fs::renameat_with(here, &captured, here, world.far.join("a"), there).unwrap();
        }
        // The version that stood there for a moment is nowhere else by now.
        write(&world.near, "a", "three");
        world.settle_down().await;
        let all = world.every_version();
        for content in ["two", "three", "a stranger's"] {
            assert!(all.contains(content.as_bytes()), "{is_back}: {content}");
        }
        let listed = spares_of(&world);
        assert!(
            listed.iter().any(|spare| spare.size == 3),
            "{is_back}: {listed:#?}"
        );
    }
}

fn found_below(folder: fs::ReadDir, content: &str) -> Option<PathBuf> {
    folder.map(|entry| entry.unwrap().path()).find_map(|at| {
        if at.is_dir() {
            return found_below(fs::read_dir(&at).unwrap(), content);
        }
        (fs::read(&at).unwrap() == content.as_bytes()).then_some(at)
    })
}
