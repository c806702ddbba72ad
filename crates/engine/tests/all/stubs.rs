//! Stubs on a real disk, against the stand-in: what becomes of each kind of file with everything that may happen to it,
//! with and without a death at every seam; and what must never be carried.

use std::fs::{self, Permissions};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use crate::worlds::{Death, World, path, tree, write};
use katabatic_core::{Agreement, Contents, Decision, Lies, RelPath, Side};
use katabatic_engine::pass::{Report, WantedContents, Wish};
use katabatic_engine::seam::Seam;
use katabatic_engine::{audit, standing};
use katabatic_ledger::rows;

/// What a name here is.
#[derive(Debug, PartialEq, Eq)]
enum Is {
    /// A stub of so many bytes.
    Stub(u64),
    /// A file with this content.
    File(String),
    Nothing,
}

fn is(at: &Path) -> Is {
    let Ok(meta) = fs::symlink_metadata(at) else {
        return Is::Nothing;
    };
    if meta.blocks() == 0 && meta.len() > 0 {
        assert_eq!(meta.mode() & 0o7777, 0, "{at:?} could be opened");
        return Is::Stub(meta.len());
    }
    Is::File(fs::read_to_string(at).unwrap())
}

fn wish(contents: WantedContents, scope: &[&str]) -> Wish {
    Wish {
        scope: scope.iter().map(|at| path(at)).collect(),
        contents: Some(contents),
        ..Wish::default()
    }
}

async fn fetch(world: &World, scope: &[&str]) -> Report {
    let pass = world.pass().await.unwrap();
    pass.sync(&wish(WantedContents::Here, scope)).await.unwrap()
}

async fn shed(world: &World, scope: &[&str]) -> Report {
    let pass = world.pass().await.unwrap();
    pass.sync(&wish(WantedContents::Away, scope)).await.unwrap()
}

fn contents(world: &mut World, stubs: bool, held: &[&str]) {
    let mut lane = world.config.lanes[0].clone();
    lane.contents = Contents::new(stubs, held.iter().map(|at| path(at)));
    world.config.change_lane(lane).unwrap();
}

/// Replaces a file as editors do, by another one that gets its name.
fn save(root: &Path, at: &str, content: &str) {
    let new = root.join("../being saved");
    fs::write(&new, content).unwrap();
    fs::rename(new, root.join(at)).unwrap();
}

const OLD: &str = "the first version";
const NEW: &str = "a second version, longer";

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Start {
    Stub,
    Here,
    Held,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Event {
    Fetch,
    Shed,
    Hold,
    LetGo,
    EditHere,
    EditThere,
    RemoveHere,
    RemoveThere,
    RenameHere,
    RenameThere,
}

const NAME: &str = "folder/file";
const RENAMED: &str = "folder/other name";

/// What is expected: under which name, what is here, what is there.
type Expected = (&'static str, fn() -> Is, Option<&'static str>);

fn stub_of_old() -> Is {
    Is::Stub(OLD.len() as u64)
}

fn stub_of_new() -> Is {
    Is::Stub(NEW.len() as u64)
}

fn old() -> Is {
    Is::File(OLD.into())
}

fn new() -> Is {
    Is::File(NEW.into())
}

fn nothing() -> Is {
    Is::Nothing
}

/// Every start with every event.
const TABLE: [(Start, Event, Expected); 30] = {
    use Event::*;
    use Start::*;
    [
        (Stub, Fetch, (NAME, old, Some(OLD))),
        (Stub, Shed, (NAME, stub_of_old, Some(OLD))),
        (Stub, Hold, (NAME, old, Some(OLD))),
        (Stub, LetGo, (NAME, stub_of_old, Some(OLD))),
        (Stub, EditHere, (NAME, new, Some(NEW))),
        (Stub, EditThere, (NAME, stub_of_new, Some(NEW))),
        (Stub, RemoveHere, (NAME, nothing, None)),
        (Stub, RemoveThere, (NAME, nothing, None)),
        (Stub, RenameHere, (RENAMED, stub_of_old, Some(OLD))),
        (Stub, RenameThere, (RENAMED, stub_of_old, Some(OLD))),
        (Here, Fetch, (NAME, old, Some(OLD))),
        (Here, Shed, (NAME, stub_of_old, Some(OLD))),
        (Here, Hold, (NAME, old, Some(OLD))),
        (Here, LetGo, (NAME, old, Some(OLD))),
        (Here, EditHere, (NAME, new, Some(NEW))),
        (Here, EditThere, (NAME, new, Some(NEW))),
        (Here, RemoveHere, (NAME, nothing, None)),
        (Here, RemoveThere, (NAME, nothing, None)),
        (Here, RenameHere, (RENAMED, old, Some(OLD))),
        (Here, RenameThere, (RENAMED, old, Some(OLD))),
        (Held, Fetch, (NAME, old, Some(OLD))),
        (Held, Shed, (NAME, old, Some(OLD))),
        (Held, Hold, (NAME, old, Some(OLD))),
        (Held, LetGo, (NAME, old, Some(OLD))),
        (Held, EditHere, (NAME, new, Some(NEW))),
        (Held, EditThere, (NAME, new, Some(NEW))),
        (Held, RemoveHere, (NAME, nothing, None)),
        (Held, RemoveThere, (NAME, nothing, None)),
        (Held, RenameHere, (RENAMED, old, Some(OLD))),
        (Held, RenameThere, (RENAMED, old, Some(OLD))),
    ]
};

async fn started(start: Start) -> World {
    let mut world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, NAME, OLD);
    write(&world.near, "folder/another", "another file");
    world.settle_down().await;
    match start {
        Start::Stub => {
            let report = shed(&world, &[NAME]).await;
            assert_eq!(report.counts.shed, 1, "{:#?}", report.outcomes);
            assert_eq!(is(&world.near.join(NAME)), stub_of_old());
        }
        Start::Here => {}
        Start::Held => contents(&mut world, false, &["folder"]),
    }
    world
}

/// What happens, and the pass that is to carry it.
fn happen(world: &mut World, event: Event) -> Wish {
    let (near, far) = (world.near.clone(), world.far.clone());
    match event {
        Event::Fetch => return wish(WantedContents::Here, &[NAME]),
        Event::Shed => return wish(WantedContents::Away, &[NAME]),
        Event::Hold => contents(world, false, &["folder"]),
        Event::LetGo => contents(world, false, &[]),
        Event::EditHere => save(&near, NAME, NEW),
        Event::EditThere => save(&far, NAME, NEW),
        Event::RemoveHere => fs::remove_file(near.join(NAME)).unwrap(),
        Event::RemoveThere => fs::remove_file(far.join(NAME)).unwrap(),
        Event::RenameHere => fs::rename(near.join(NAME), near.join(RENAMED)).unwrap(),
        Event::RenameThere => fs::rename(far.join(NAME), far.join(RENAMED)).unwrap(),
    }
    Wish::default()
}

async fn check(world: &World, (name, here, there): Expected, case: &str) {
    assert_eq!(is(&world.near.join(name)), here(), "{case}");
    let far = fs::read_to_string(world.far.join(name)).ok();
    assert_eq!(far.as_deref(), there, "{case}");
    let other = if name == NAME { RENAMED } else { NAME };
    assert_eq!(is(&world.near.join(other)), Is::Nothing, "{case}");
    assert!(!world.far.join(other).exists(), "{case}");
    let plan = world.plan().await.unwrap();
    assert!(!plan.has_work(), "{case}: {:#?}", plan.steps);
    leaves_nothing_behind(world, case);
}

/// Every stub has its second name in the tool's own room, and nothing else has one there.
fn leaves_nothing_behind(world: &World, case: &str) {
    let room = world.dir.path().join("home/lanes/1234567890abcdef");
    let names = |shelf: &str| -> Vec<String> {
        let entries = fs::read_dir(room.join(shelf)).into_iter().flatten();
        let names = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap());
        names.collect()
    };
    let mut stubs: Vec<String> = names("stubs");
    stubs.retain(|name| !name.ends_with(".like"));
    let mut expected = Vec::new();
    let mut folders = vec![world.near.clone()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let entry = entry.unwrap();
            let meta = entry.metadata().unwrap();
            if meta.is_dir() {
                folders.push(entry.path());
            } else if let Is::Stub(_) = is(&entry.path()) {
                expected.push(meta.ino().to_string());
            }
        }
    }
    stubs.sort();
    expected.sort();
    assert_eq!(stubs, expected, "{case}");
    for shelf in ["staging", "spares"] {
        for name in names(shelf) {
            let spare = fs::symlink_metadata(room.join(shelf).join(&name)).unwrap();
            assert!(
                spare.blocks() > 0 || spare.is_dir(),
                "{case}: {shelf}/{name}"
            );
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_that_may_happen_to_a_file_wherever_its_content_lies() {
    for (start, event, expected) in TABLE {
        let mut world = started(start).await;
        let wish = happen(&mut world, event);
        let pass = world.pass().await.unwrap();
        pass.sync(&wish).await.unwrap();
        drop(pass);
        world.settle_down().await;
        check(&world, expected, &format!("{start:?} and {event:?}")).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_with_a_death_at_every_seam() {
    let mut deaths = 0;
    // A file that is simply here is tried at every seam without any stubs.
    let with_stubs = TABLE.into_iter().filter(|(start, event, _)| {
        *start == Start::Stub || matches!(event, Event::Shed | Event::Fetch | Event::Hold)
    });
    for (start, event, expected) in with_stubs {
        for at in Seam::ALL {
            let mut world = started(start).await;
            let wish = happen(&mut world, event);
            let died = Death::at(at, 0).meets(&world, &wish).await;
            if !died {
                continue;
            }
            deaths += 1;
            let case = format!("{start:?} and {event:?}, dead at {at:?}");
            world.settle_down().await;
            // Whoever asked for content, or to be rid of it, asks again.
            if wish.contents.is_some() {
                let pass = world.pass().await.unwrap();
                pass.sync(&wish).await.unwrap();
            }
            check(&world, expected, &case).await;
        }
    }
    assert!(deaths > 100, "{deaths} deaths");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tree_comes_as_stubs_and_shows_what_it_is() {
    let mut world = World::new().await;
    contents(&mut world, true, &["kept"]);
    for number in 0..40 {
        write(
            &world.far,
            &format!("many/{number}"),
            &"x".repeat(100 + number),
        );
    }
    write(&world.far, "kept/score", "held from the beginning");
    write(&world.far, "empty", "");
    let report = world.sync().await.unwrap();
    assert_eq!((report.counts.stubs, report.counts.files_down), (40, 2));
    for number in 0..40 {
        let at = format!("many/{number}");
        assert_eq!(is(&world.near.join(&at)), Is::Stub(100 + number));
        let dates =
            [&world.near, &world.far].map(|root| fs::metadata(root.join(&at)).unwrap().mtime());
        assert_eq!(dates[0], dates[1], "{at}");
    }
    assert_eq!(
        is(&world.near.join("kept/score")),
        Is::File("held from the beginning".into())
    );
    assert_eq!(fs::read(world.near.join("empty")).unwrap(), b"");
    world.settle_down().await;

    let pass = world.pass().await.unwrap();
    let seen = standing::look(&pass, &RelPath::root(), &|_| String::new())
        .await
        .unwrap();
    assert_eq!(seen.counts[&Agreement::Settled], 42);
    assert_eq!(seen.lies[&Lies::Stub].files, 40);
    assert_eq!(seen.lies[&Lies::Held].files, 1);

    // An audit reads what is here, and counts the stubs apart; an edit there makes one of them unproven.
    save(&world.far, "many/7", "another version");
    let found = audit::audit(&pass, false, None).await.unwrap();
    assert_eq!((found.stubs.files, found.total().equal), (39, 2));
    assert_eq!(found.findings.len(), 1);
    assert_eq!(found.findings[0].path, path("many/7"));
    drop(pass);
    assert_eq!(fetch(&world, &["many"]).await.counts.files_down, 40);
    assert_eq!(tree(&world.near), tree(&world.far));
    leaves_nothing_behind(&world, "all of it is here");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_whose_tags_prove_nothing_is_read_before_anything_goes() {
    for fault in ["tags=missing", "tags=coarse"] {
        let world = World::new().await;
        world.fault(&[fault]);
        write(&world.near, "a", "some content");
        write(&world.near, "b", "some content, too");
        world.settle_down().await;
        // Behind the back of every tag, date and size.
        let before = fs::metadata(world.far.join("b"))
            .unwrap()
            .modified()
            .unwrap();
        fs::write(world.far.join("b"), "SOME CONTENT, too").unwrap();
        let spoilt = fs::File::options()
            .write(true)
            .open(world.far.join("b"))
            .unwrap();
        spoilt.set_modified(before).unwrap();
        let report = shed(&world, &[]).await;
        assert_eq!(
            is(&world.near.join("a")),
            Is::Stub(12),
            "{fault}: {:#?}",
            report.outcomes
        );
        assert_eq!(
            is(&world.near.join("b")),
            Is::File("some content, too".into()),
            "{fault}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_on_the_far_side_yet_keeps_its_content() {
    let world = started(Start::Here).await;
    save(&world.near, NAME, NEW);
    write(&world.near, "folder/new", "only here");
    let pass = world.pass().await.unwrap();
    let plan = pass
        .plan(&wish(WantedContents::Away, &["folder"]))
        .await
        .unwrap();
    assert_eq!(plan.aside.len(), 2, "{:#?}", plan.aside);
    drop(pass);
    assert_eq!(shed(&world, &["folder"]).await.counts.shed, 1);
    assert_eq!(is(&world.near.join(NAME)), new());
    assert_eq!(
        is(&world.near.join("folder/new")),
        Is::File("only here".into())
    );
    assert_eq!(is(&world.near.join("folder/another")), Is::Stub(12));
    assert_eq!(
        fs::read_to_string(world.far.join(NAME)).unwrap(),
        OLD,
        "nothing else was carried"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rights_and_attributes_come_back_with_the_content() {
    let world = World::new().await;
    write(&world.near, "script", "#!/bin/sh");
    fs::set_permissions(world.near.join("script"), Permissions::from_mode(0o750)).unwrap();
    let file = fs::File::open(world.near.join("script")).unwrap();
    rustix::fs::fsetxattr(&file, "user.tag", b"blue", rustix::fs::XattrFlags::empty()).unwrap();
    drop(file);
    world.settle_down().await;
    shed(&world, &[]).await;
    assert_eq!(is(&world.near.join("script")), Is::Stub(9));
    fetch(&world, &[]).await;
    let meta = fs::metadata(world.near.join("script")).unwrap();
    assert_eq!(meta.mode() & 0o7777, 0o750);
    let mut value = [0u8; 8];
    let length = rustix::fs::getxattr(world.near.join("script"), "user.tag", &mut value).unwrap();
    assert_eq!(&value[..length], b"blue");
    let label = rustix::fs::getxattr(world.near.join("script"), "user.katabatic.stub", &mut value);
    assert!(label.is_err(), "what has its content is no stub");
}

/// What a pass makes of whatever is at a path here.
async fn held_here(world: &World, at: &str) {
    let report = world.sync().await.unwrap();
    let outcome = report
        .outcomes
        .iter()
        .find(|one| one.step.path() == &path(at));
    let decision = outcome.map(|one| one.step.decision.clone());
    assert!(
        matches!(decision, Some(Decision::Hold { on: Side::Near, .. })) || report.counts.stuck > 0,
        "{at}: {:#?}",
        report.outcomes
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stub_that_was_moved_away_is_not_removed_there() {
    let world = started(Start::Stub).await;
    fs::rename(world.near.join(NAME), world.dir.path().join("taken out")).unwrap();
    held_here(&world, NAME).await;
    assert_eq!(fs::read_to_string(world.far.join(NAME)).unwrap(), OLD);
    // Nor does another file that gets its name take what is there away.
    write(&world.near, NAME, NEW);
    held_here(&world, NAME).await;
    assert_eq!(fs::read_to_string(world.far.join(NAME)).unwrap(), OLD);
    // A hard link keeps the file as well.
    let second = started(Start::Stub).await;
    fs::hard_link(second.near.join(NAME), second.dir.path().join("linked")).unwrap();
    fs::remove_file(second.near.join(NAME)).unwrap();
    held_here(&second, NAME).await;
    assert!(second.far.join(NAME).exists());
    fs::remove_file(second.dir.path().join("linked")).unwrap();
    second.settle_down().await;
    assert!(!second.far.join(NAME).exists(), "now it was removed");

    // Fetched, its content is at its place again, wherever the stub is, as soon as that is free.
    fs::remove_file(world.near.join(NAME)).unwrap();
    fetch(&world, &[NAME]).await;
    assert_eq!(is(&world.near.join(NAME)), old());
    world.settle_down().await;
    assert!(world.far.join(NAME).exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn holes_are_never_carried() {
    let world = started(Start::Stub).await;
    let stub = world.near.join(NAME);
    // Given rights, it is a stub still.
    fs::set_permissions(&stub, Permissions::from_mode(0o644)).unwrap();
    let plan = world.plan().await.unwrap();
    assert!(!plan.has_work(), "{:#?}", plan.steps);

    // Something written behind the holes.
    use std::io::Write;
    let mut file = fs::File::options().append(true).open(&stub).unwrap();
    file.write_all(b" and an addition").unwrap();
    drop(file);
    let report = world.sync().await.unwrap();
    assert_eq!(report.counts.stuck, 1, "{:#?}", report.outcomes);
    assert_eq!(fs::read_to_string(world.far.join(NAME)).unwrap(), OLD);

    // Not even where it may have been written anew as a whole. Its content is fetched over it, and nothing is lost.
    fs::write(&stub, "written anew").unwrap();
    let report = world.sync().await.unwrap();
    assert_eq!(report.counts.stuck, 1, "{:#?}", report.outcomes);
    assert_eq!(fetch(&world, &[NAME]).await.counts.files_down, 1);
    assert_eq!(is(&stub), old());
    assert!(world.every_version().contains(b"written anew".as_slice()));
    world.settle_down().await;

    // Its content came into it while somebody waited, and the ledger never heard of that.
    let filled = started(Start::Stub).await;
    let stub = filled.near.join(NAME);
    fs::set_permissions(&stub, Permissions::from_mode(0o644)).unwrap();
    fs::write(&stub, OLD).unwrap();
    rustix::fs::removexattr(&stub, "user.katabatic.stub").unwrap();
    filled.settle_down().await;
    assert_eq!(is(&stub), old());
    assert_eq!(fs::read_to_string(filled.far.join(NAME)).unwrap(), OLD);

    // A copy that holds the rights of a stub, its label, or both.
    let world = started(Start::Stub).await;
    let stub = world.near.join(NAME);
    for (name, labelled, mode) in [("a", true, 0o644), ("b", false, 0), ("c", true, 0)] {
        let copy = fs::File::create(world.near.join(name)).unwrap();
        copy.set_len(OLD.len() as u64).unwrap();
        if labelled {
            rustix::fs::fsetxattr(
                &copy,
                "user.katabatic.stub",
                b"1",
                rustix::fs::XattrFlags::empty(),
            )
            .unwrap();
        }
        copy.set_permissions(Permissions::from_mode(mode)).unwrap();
        held_here(&world, name).await;
        assert!(!world.far.join(name).exists(), "{name}");
        fs::remove_file(world.near.join(name)).unwrap();
    }
    // Moved to where the far side has a new file: neither is given up for the other.
    let moved = started(Start::Stub).await;
    fs::rename(moved.near.join(NAME), moved.near.join("taken")).unwrap();
    write(&moved.far, "taken", "somebody else's");
    held_here(&moved, "taken").await;
    assert_eq!(is(&moved.near.join("taken")), stub_of_old());
    assert_eq!(fs::read_to_string(moved.far.join(NAME)).unwrap(), OLD);

    // Moved over another file.
    fs::rename(&stub, world.near.join("folder/another")).unwrap();
    held_here(&world, "folder/another").await;
    assert_eq!(
        fs::read_to_string(world.far.join("folder/another")).unwrap(),
        "another file"
    );
    assert_eq!(fs::read_to_string(world.far.join(NAME)).unwrap(), OLD);
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_of_stubs_are_moved_and_removed_like_any_other() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    for number in 0..12 {
        write(
            &world.near,
            &format!("season/{number}"),
            &format!("part {number}"),
        );
        write(
            &world.near,
            &format!("concert/{number}"),
            &format!("programme {number}"),
        );
    }
    world.settle_down().await;
    assert_eq!(shed(&world, &[]).await.counts.shed, 24);
    fs::rename(world.near.join("season"), world.near.join("season 1")).unwrap();
    let report = world.sync().await.unwrap();
    assert_eq!(
        (report.counts.moved, report.counts.removed),
        (12, 0),
        "{:#?}",
        report.outcomes
    );
    assert_eq!(
        fs::read_to_string(world.far.join("season 1/3")).unwrap(),
        "part 3"
    );

    // A removal of stubs counts twice for the brake: twelve are as many as the lane bears, and are too many.
    fs::remove_dir_all(world.near.join("concert")).unwrap();
    let stopped = world.sync().await.unwrap_err();
    assert_eq!(stopped.class, katabatic_engine::Class::Brake);
    let plan = world.plan().await.unwrap();
    assert_eq!(plan.brake.planned.total(), 24);
    let pass = world.pass().await.unwrap();
    let released = Wish {
        release_brake: Some(24),
        ..Wish::default()
    };
    assert_eq!(pass.sync(&released).await.unwrap().counts.removed, 12);
    drop(pass);
    assert!(!world.far.join("concert").exists());
    leaves_nothing_behind(&world, "a folder of stubs removed");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lane_that_begins_anew_knows_its_stubs_again() {
    let world = started(Start::Stub).await;
    let id = world.config.lanes[0].id.clone();
    let ledger = world.home.open_ledger().unwrap();
    ledger
        .write(move |connection| rows::forget_agreed(connection, &id))
        .await
        .unwrap();
    let plan = world.plan().await.unwrap();
    let renewed = plan
        .steps
        .iter()
        .any(|step| step.decision == Decision::MakeStub { replaces: true });
    assert!(renewed, "{:#?}", plan.steps);
    world.settle_down().await;
    assert_eq!(is(&world.near.join(NAME)), stub_of_old());
    assert_eq!(fs::read_to_string(world.far.join(NAME)).unwrap(), OLD);
    leaves_nothing_behind(&world, "begun anew");
    fetch(&world, &[]).await;
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_takes_the_place_of_a_folder_with_stubs() {
    let world = started(Start::Stub).await;
    fs::remove_dir_all(world.far.join("folder")).unwrap();
    write(&world.far, "folder", "a file now");
    world.settle_down().await;
    assert_eq!(
        is(&world.near.join("folder")),
        Is::File("a file now".into())
    );
    leaves_nothing_behind(&world, "the folder is gone");
}
