//! A two-way lane over the stand-in: what a pass does, on real files and over the real protocol.

use std::fs;
use std::os::unix::fs::symlink;

use crate::worlds::{World, path, tree, write};
use katabatic_core::words::Telling;
use katabatic_engine::Class;
use katabatic_engine::pass::{Ending, Outcome, Wish};

async fn settled(files: &[(&str, &str)]) -> World {
    let world = World::new().await;
    for (at, content) in files {
        write(&world.near, at, content);
    }
    world.settle_down().await;
    world
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_pass_joins_both_sides() {
    let world = World::new().await;
    write(&world.near, "Viola/1.txt", "one");
    write(&world.far, "Cello/1.txt", "deep");
    write(&world.near, "same.txt", "same");
    write(&world.far, "same.txt", "same");
    write(&world.near, "differs.txt", "here");
    write(&world.far, "differs.txt", "ther");
    fs::create_dir(world.near.join("empty")).unwrap();
    let report = world.sync().await.unwrap();
    assert_eq!((report.counts.files_up, report.counts.files_down), (1, 1));
    assert_eq!(report.counts.conflicts, 1);
    let mut far = tree(&world.far);
    assert_eq!(
        far.insert("differs.txt".into(), Some("here".into())),
        Some(Some("ther".into()))
    );
    assert_eq!(tree(&world.near), far);
    assert!(
        !world.plan().await.unwrap().steps.iter().any(|step| step
            .decision
            .effects()
            .changes
            .is_some())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_go_both_ways_and_the_old_versions_are_kept() {
    let world = settled(&[
        ("a.txt", "old a"),
        ("b.txt", "old b"),
        ("gone/c.txt", "old c"),
        ("kind", "a file"),
    ])
    .await;
    write(&world.near, "a.txt", "new a");
    write(&world.far, "b.txt", "new b, longer");
    fs::remove_dir_all(world.far.join("gone")).unwrap();
    fs::remove_file(world.near.join("kind")).unwrap();
    write(&world.near, "kind/inside.txt", "now a folder");
    let report = world.sync().await.unwrap();
    assert!(!report.needs_a_person(), "{:#?}", report.outcomes);
    assert_eq!(tree(&world.near), tree(&world.far));
    assert_eq!(tree(&world.near)["b.txt"].as_deref(), Some("new b, longer"));
    assert!(!tree(&world.near).contains_key("gone"));
    let versions = world.every_version();
    for old in ["old a", "old b", "old c", "a file"] {
        assert!(versions.contains(old.as_bytes()), "{old} is lost");
    }
    assert!(!world.plan().await.unwrap().has_work());
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_names_times_and_sizes_all_work() {
    let world = World::new().await;
    let long = "é".repeat(127);
    let names = [
        "a b",
        "50% off?",
        "#1",
        "quo\"te'",
        "new\nline",
        "🎻 solo",
        "a+b;c=d&e",
        " lead",
        "trail ",
        "%41",
        "~",
        long.as_str(),
    ];
    for name in names {
        write(
            &world.near,
            &format!("up {name}")
                .chars()
                .take(250)
                .collect::<String>()
                .replace("up é", "é"),
            name,
        );
        write(&world.far, &format!("far/{name}"), name);
    }
    write(&world.near, "empty", "");
    let old = world.near.join("old");
    fs::write(&old, "before 1970").unwrap();
    let times = fs::FileTimes::new().set_modified(
        std::time::SystemTime::UNIX_EPOCH - std::time::Duration::from_millis(86_400_500),
    );
    fs::File::options()
        .write(true)
        .open(&old)
        .unwrap()
        .set_times(times)
        .unwrap();
    let report = world.sync().await.unwrap();
    assert!(!report.needs_a_person(), "{:#?}", report.outcomes);
    assert_eq!(tree(&world.near), tree(&world.far));
    // The edit time survives the way up and down again.
    fs::remove_file(world.home.ledger_file()).unwrap();
    fs::remove_file(&old).unwrap();
    world.sync().await.unwrap();
    let modified = fs::metadata(&old).unwrap().modified().unwrap();
    assert_eq!(
        modified,
        std::time::SystemTime::UNIX_EPOCH - std::time::Duration::from_millis(86_400_500)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_carried_is_left_out_and_the_rest_goes_on() {
    use std::os::unix::ffi::OsStrExt;
    let world = World::new().await;
    write(&world.near, "fine.txt", "fine");
    symlink("/etc/passwd", world.near.join("link")).unwrap();
    std::os::unix::net::UnixListener::bind(world.near.join("socket")).unwrap();
    fs::write(
        world.near.join(std::ffi::OsStr::from_bytes(b"not\xffutf8")),
        "x",
    )
    .unwrap();
    let report = world.sync().await.unwrap();
    assert_eq!(report.left_out, 3);
    assert!(!report.needs_a_person());
    assert_eq!(tree(&world.far).keys().collect::<Vec<_>>(), ["fine.txt"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_side_that_is_gone_removes_nothing() {
    let world = settled(&[("a.txt", "a"), ("b/c.txt", "c")]).await;
    let both = tree(&world.near);
    // Another folder at the same path, as an empty mount point would be.
    let aside = world.dir.path().join("aside");
    fs::rename(&world.near, &aside).unwrap();
    assert_eq!(world.sync().await.unwrap_err().class, Class::NotThere);
    fs::create_dir(&world.near).unwrap();
    assert_eq!(world.sync().await.unwrap_err().class, Class::NotThere);
    assert_eq!(tree(&world.far), both);
    fs::remove_dir(&world.near).unwrap();
    fs::rename(&aside, &world.near).unwrap();
    // And the far folder.
    let away = world.far.with_extension("away");
    fs::rename(&world.far, &away).unwrap();
    assert_eq!(world.sync().await.unwrap_err().class, Class::NotThere);
    fs::rename(&away, &world.far).unwrap();
    assert!(!world.plan().await.unwrap().has_work());
    assert_eq!(tree(&world.near), both);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_program_writes_into_a_file_it_kept_open_comes_forward() {
    use std::io::Write;
    let world = settled(&[("diary.txt", "monday\n"), ("other.txt", "x")]).await;
    let mut kept_open = fs::OpenOptions::new()
        .append(true)
        .open(world.near.join("diary.txt"))
        .unwrap();
    write(&world.far, "diary.txt", "monday, as changed there\n");
    write(&world.far, "other.txt", "y, and longer");
    world.sync().await.unwrap();
    kept_open.write_all(b"tuesday\n").unwrap();
    world.settle_down().await;
    let near = tree(&world.near);
    assert_eq!(
        near["diary.txt"].as_deref(),
        Some("monday, as changed there\n")
    );
    let late: Vec<_> = near
        .iter()
        .filter(|(name, _)| name.contains("written late"))
        .collect();
    assert_eq!(late.len(), 1, "{near:#?}");
    assert_eq!(late[0].1.as_deref(), Some("monday\ntuesday\n"));
    assert_eq!(near, tree(&world.far));
    world.settle_down().await;
    assert_eq!(tree(&world.near), near, "it comes forward once");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_far_folder_of_the_same_name_is_not_the_one_that_was_tied() {
    let world = settled(&[("a.txt", "a"), ("b.txt", "b")]).await;
    let aside = world.far.with_extension("aside");
    fs::rename(&world.far, &aside).unwrap();
    fs::create_dir(&world.far).unwrap();
    let error = world.sync().await.unwrap_err();
    assert_eq!(error.class, Class::NotThere);
    assert!(error.next.contains("right account"), "{error:?}");
    assert_eq!(tree(&world.near).len(), 2, "nothing is removed here");
    assert!(
        tree(&world.far).is_empty(),
        "and nothing fills the wrong account"
    );
    fs::remove_dir(&world.far).unwrap();
    fs::rename(&aside, &world.far).unwrap();
    assert!(!world.plan().await.unwrap().has_work());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_brake_stops_before_anything_is_carried() {
    let world = World::new().await;
    for number in 0..12 {
        write(&world.near, &format!("{number}.txt"), "x");
    }
    world.settle_down().await;
    for number in 0..12 {
        fs::remove_file(world.far.join(format!("{number}.txt"))).unwrap();
    }
    write(&world.near, "new.txt", "new");
    let stopped = world.sync().await.unwrap_err();
    assert_eq!(stopped.class, Class::Brake);
    assert!(stopped.next.contains("--release-brake 12"), "{stopped:?}");
    assert_eq!((tree(&world.near).len(), tree(&world.far).len()), (13, 0));
    let released = |number| Wish {
        release_brake: Some(number),
        ..Wish::default()
    };
    let wrong = world
        .pass()
        .await
        .unwrap()
        .sync(&released(11))
        .await
        .unwrap_err();
    assert_eq!(wrong.class, Class::Brake);
    world
        .pass()
        .await
        .unwrap()
        .sync(&released(12))
        .await
        .unwrap();
    assert_eq!(tree(&world.near).keys().collect::<Vec<_>>(), ["new.txt"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_of_dot_files_survives_a_server_that_never_lists_them() {
    let world = World::new().await;
    world.fault(&["hide-dots"]);
    write(&world.near, ".plans/.season", "spring");
    write(&world.near, ".plans/open.txt", "all");
    write(&world.near, "seen.txt", "seen");
    for _ in 0..3 {
        let report = world.sync().await.unwrap();
        assert!(!report.needs_a_person(), "{:#?}", report.outcomes);
    }
    assert_eq!(tree(&world.near).len(), 4);
    assert_eq!(tree(&world.near), tree(&world.far));
    write(&world.near, ".plans/.season", "summer and autumn");
    world.settle_down().await;
    assert_eq!(
        tree(&world.far)[".plans/.season"].as_deref(),
        Some("summer and autumn")
    );
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unreadable_folder_is_held_and_the_rest_goes_on() {
    let world = settled(&[("Past/1.txt", "one"), ("Now/2.txt", "two")]).await;
    world.fault(&["unreadable=Scores/Past"]);
    fs::remove_file(world.near.join("Past/1.txt")).unwrap();
    write(&world.near, "Now/2.txt", "two, edited");
    let report = world.sync().await.unwrap();
    let stuck = |path: &str| {
        report
            .outcomes
            .iter()
            .any(|outcome| outcome.step.path().as_str() == path && outcome.ending == Ending::Stuck)
    };
    assert!(
        stuck("Past/1.txt") && stuck("Past"),
        "the folder itself is named too: {:#?}",
        report.outcomes
    );
    assert_eq!(tree(&world.far)["Past/1.txt"].as_deref(), Some("one"));
    assert_eq!(
        tree(&world.far)["Now/2.txt"].as_deref(),
        Some("two, edited")
    );
    world.fault(&[]);
    world.settle_down().await;
    assert!(!tree(&world.far).contains_key("Past/1.txt"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_fails_half_the_time_loses_nothing() {
    for seed in 1..4 {
        let world = World::with_seed(seed).await;
        for number in 0..40 {
            write(
                &world.near,
                &format!("near/{number}.txt"),
                &format!("near {number}"),
            );
            write(
                &world.far,
                &format!("far/{number}.txt"),
                &format!("far {number}"),
            );
        }
        let before = world.every_version();
        world.fault(&["broken=0.5"]);
        for _ in 0..4 {
            match world.sync().await {
                Ok(report) => {
                    let stuck: Vec<_> = report
                        .outcomes
                        .iter()
                        .filter(|outcome| outcome.ending == Ending::Stuck)
                        .collect();
                    let telling = Telling {
                        time: &|_| String::new(),
                        sides: report.sides,
                    };
                    let told = |outcome: &&Outcome| !outcome.why(&telling).is_empty();
                    assert!(stuck.iter().all(told));
                }
                Err(error) => assert_eq!(error.class, Class::Failed, "{error:?}"),
            }
            assert!(before.is_subset(&world.every_version()));
        }
        world.fault(&[]);
        world.settle_down().await;
        assert_eq!(tree(&world.near), tree(&world.far), "seed {seed}");
        assert_eq!(tree(&world.near).len(), 82);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_whose_answers_get_lost_loses_nothing() {
    for seed in 1..4 {
        let world = World::with_seed(seed).await;
        for number in 0..24 {
            write(
                &world.near,
                &format!("near/{number}.txt"),
                &format!("near {number}"),
            );
            write(
                &world.far,
                &format!("far/{number}.txt"),
                &format!("far {number}"),
            );
        }
        world.settle_down().await;
        for number in 0..24 {
            let (near, far) = (format!("near/{number}.txt"), format!("far/{number}.txt"));
            match number % 4 {
                0 => fs::remove_file(world.near.join(&near)).unwrap(),
                1 => fs::remove_file(world.far.join(&far)).unwrap(),
                2 => write(&world.near, &near, &format!("near {number}, edited")),
                _ => write(&world.far, &far, &format!("far {number}, edited")),
            }
        }
        let before = world.every_version();
        world.fault(&["mute=0.25"]);
        let by_hand = || Wish {
            by_hand: true,
            ..Wish::default()
        };
        for _ in 0..3 {
            if let Err(error) = world.pass().await.unwrap().sync(&by_hand()).await {
                assert_ne!(error.class, Class::NotThere, "{error:?}");
            }
            assert!(before.is_subset(&world.every_version()), "seed {seed}");
        }
        world.fault(&[]);
        for _ in 0..3 {
            world.pass().await.unwrap().sync(&by_hand()).await.unwrap();
        }
        assert!(!world.plan().await.unwrap().has_work(), "seed {seed}");
        assert!(before.is_subset(&world.every_version()), "seed {seed}");
        assert_eq!(tree(&world.near), tree(&world.far), "seed {seed}");
        assert_eq!(
            tree(&world.near).len(),
            38,
            "seed {seed}: what was removed is gone, all else is there"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn cut_lines_busy_servers_and_flipped_bytes_are_got_over() {
    let world = World::with_seed(5).await;
    for number in 0..30 {
        write(
            &world.near,
            &format!("near/{number}.txt"),
            &format!("near {number} {}", "x".repeat(number * 997)),
        );
        write(
            &world.far,
            &format!("far/{number}.txt"),
            &format!("far {number} {}", "y".repeat(number * 997)),
        );
    }
    let (near, far) = (tree(&world.near), tree(&world.far));
    world.fault(&[
        "busy=0.2",
        "cut=0.15",
        "flip=0.15",
        "no-put-tag",
        "write-in-place",
        "early-conditions",
    ]);
    for _ in 0..3 {
        world.sync().await.unwrap();
        for (at, content) in tree(&world.near).into_iter().chain(tree(&world.far)) {
            let whole = near.get(&at).or_else(|| far.get(&at)).unwrap();
            assert_eq!(content, *whole, "{at} is not whole");
        }
    }
    world.fault(&[]);
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_path_can_be_carried_alone() {
    let world = settled(&[("a/1.txt", "one")]).await;
    write(&world.near, "a/2.txt", "two");
    write(&world.near, "b/3.txt", "three");
    let wish = Wish {
        scope: vec![path("b/3.txt")],
        ..Wish::default()
    };
    world.pass().await.unwrap().sync(&wish).await.unwrap();
    assert_eq!(
        tree(&world.far).keys().collect::<Vec<_>>(),
        ["a", "a/1.txt", "b", "b/3.txt"]
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn exactly_one_plan_is_carried_or_nothing() {
    let world = settled(&[("a.txt", "one")]).await;
    write(&world.near, "b.txt", "two");
    let plan = world.plan().await.unwrap();
    assert_eq!(plan.id, world.plan().await.unwrap().id);
    write(&world.near, "c.txt", "three");
    let exactly = Wish {
        exactly: Some(plan.id),
        ..Wish::default()
    };
    assert_eq!(
        world
            .pass()
            .await
            .unwrap()
            .sync(&exactly)
            .await
            .unwrap_err()
            .class,
        Class::NeedsPerson
    );
    assert_eq!(tree(&world.far).len(), 1);
    let exactly = Wish {
        exactly: Some(world.plan().await.unwrap().id),
        ..Wish::default()
    };
    world.pass().await.unwrap().sync(&exactly).await.unwrap();
    assert_eq!(tree(&world.far).len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_passes_never_run_on_one_folder() {
    let world = settled(&[("a.txt", "one")]).await;
    let first = world.pass().await.unwrap();
    let _lock = first.lock().unwrap();
    let error = world.sync().await.unwrap_err();
    assert!(
        error
            .why
            .contains(&format!("process {}", std::process::id())),
        "{error:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_files_in_one_folder() {
    let world = World::new().await;
    for number in 0..10_000 {
        write(&world.near, &format!("many/{number:05}"), "");
    }
    let report = world.sync().await.unwrap();
    assert_eq!(report.counts.files_up, 10_000);
    assert_eq!(
        fs::read_dir(world.far.join("many")).unwrap().count(),
        10_000
    );
}

/// A folder that turns into a link to somewhere else, right before something is placed in it.
struct Trap {
    folder: std::path::PathBuf,
    outside: std::path::PathBuf,
}

#[async_trait::async_trait]
impl katabatic_engine::seam::Hook for Trap {
    async fn at(
        &self,
        seam: katabatic_engine::seam::Seam,
        _: Option<katabatic_core::Side>,
        _: Option<&katabatic_core::RelPath>,
    ) {
        if seam == katabatic_engine::seam::Seam::Intended
            && self.folder.is_dir()
            && !self.folder.is_symlink()
        {
            fs::rename(&self.folder, self.folder.with_extension("aside")).unwrap();
            symlink(&self.outside, &self.folder).unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_outside_the_root_is_touched_through_a_link() {
    let world = settled(&[("folder/a.txt", "a"), ("folder/b.txt", "b")]).await;
    let outside = world.dir.path().join("outside");
    write(&outside, "a.txt", "somebody else's");
    write(&world.far, "folder/a.txt", "a, edited there");
    write(&world.far, "folder/new.txt", "new there");
    fs::remove_file(world.far.join("folder/b.txt")).unwrap();
    let trap = Trap {
        folder: world.near.join("folder"),
        outside: outside.clone(),
    };
    let clock = std::sync::Arc::new(katabatic_sides::clock::SystemClock);
    let pass = world
        .pass_with(std::sync::Arc::new(trap), clock)
        .await
        .unwrap();
    let report = pass.sync(&Wish::default()).await.unwrap();
    assert!(report.counts.stuck > 0, "{:#?}", report.outcomes);
    assert_eq!(
        tree(&outside).into_iter().collect::<Vec<_>>(),
        [("a.txt".into(), Some("somebody else's".into()))]
    );
}

#[tokio::test]
async fn what_a_change_of_terms_would_do_is_only_looked_at() {
    let world = World::new().await;
    write(&world.near, "a.txt", "a");
    write(&world.near, "b.txt", "b");
    world.settle_down().await;
    let mut after = world.config.lanes[0].clone();
    after.terms = katabatic_core::Terms::of(katabatic_core::Direction::Down);
    let ledger = world.home.open_ledger().unwrap();
    let next = katabatic_engine::lanes::preview_change(
        &world.home,
        &world.config,
        &ledger,
        &after,
        false,
        &katabatic_sides::stop::Stop::default(),
    )
    .await
    .unwrap();
    assert!(!next.first, "whose each file is stays known");
    // What was agreed is agreed on still: a removal travels.
    fs::remove_file(world.near.join("a.txt")).unwrap();
    world.sync().await.unwrap();
    assert!(!world.far.join("a.txt").exists());
    assert!(world.far.join("b.txt").exists());
}
