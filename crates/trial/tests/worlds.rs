//! A few hundred worlds, the faults that the trial must find if they are there, and what it found before, by name.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;

use katabatic_core::{Direction, Drift, RelPath, Removals, Terms};
use katabatic_trial::mischief::{Fault, Flaw, Nature};
use katabatic_trial::script::{Act, Edit, Script, shrink};
use katabatic_trial::tally::Tally;
use katabatic_trial::trial::day::live_a_day;
use katabatic_trial::trial::{live, live_and_tell};
use katabatic_trial::world::At;

/// What is wrong after a script; none where all promises were kept.
fn wrong(script: &Script, flaw: Option<Flaw>) -> Option<String> {
    let room = tempfile::tempdir().unwrap();
    live(script, flaw, room.path()).unwrap().failure
}

#[test]
fn no_promise_is_broken() {
    let next = AtomicU64::new(0);
    let tallies: Vec<Tally> = thread::scope(|scope| {
        let work = || {
            let room = tempfile::tempdir().unwrap();
            let mut tally = Tally::default();
            loop {
                let seed = next.fetch_add(1, Ordering::SeqCst);
                if seed >= 300 {
                    return tally;
                }
                let script = Script::from_seed(seed);
                let lived = live(&script, None, room.path()).unwrap();
                assert_eq!(lived.failure, None, "{script}");
                tally.add(&lived.tally);
            }
        };
        let workers = [scope.spawn(work), scope.spawn(work)];
        workers.map(|worker| worker.join().unwrap()).into()
    });
    let mut sum = Tally::default();
    tallies.iter().for_each(|tally| sum.add(tally));
    // A trial in which nothing happened would prove nothing.
    assert!(sum.died > 50 && sum.moves > 5 && sum.by_ear > 100, "{sum}");
    assert!(sum.stubs > 50 && sum.fetched > 20 && sum.shed > 50, "{sum}");
    assert!(sum.faults.len() >= 12 && sum.cells.len() >= 20, "{sum}");
}

#[test]
fn after_a_day_of_people_drives_and_networks_that_come_and_go_every_lane_is_settled() {
    let room = tempfile::tempdir().unwrap();
    for seed in 1..=6 {
        let (day, lived) = live_a_day(seed, room.path()).unwrap();
        assert_eq!(lived.failure, None, "day {seed}: {day:?}");
        // A day on which nothing happened would prove nothing.
        assert!(
            day.passes > 80 && day.failed > 10 && day.edits > 300,
            "{day:?}"
        );
        assert!(day.waited > 10 && day.away > 3, "{day:?}");
    }
}

/// Where a fault of the model is looked for.
enum Sought {
    /// In worlds of every kind.
    Anywhere,
    /// In worlds with this cloud, the only ones in which it makes a difference.
    With(Nature),
    /// In a world that was made for it: it takes several things in a row that seldom come together by chance.
    In(Script),
}

fn sought(flaw: Flaw) -> Sought {
    let edited = |seed| {
        [
            edit_in_place(At::Disk(0), "a"),
            Act::Wait(60),
            pass(seed, 0),
        ]
    };
    let quiet = |seed| [Act::Wait(60), pass(seed, 0)];
    let disguised_then = |after: Vec<Act>| {
        let before = (9..16).flat_map(edited);
        // Until what was patched is read back, nothing is patched on it.
        let acts = before.chain((10..15).flat_map(quiet));
        let disguise = Act::Edit(At::Cloud, Edit::Disguise(path("a")));
        Sought::In(Script {
            nature: Nature::ClockTags,
            ..one_computer(acts.chain([disguise]).chain(after).collect())
        })
    };
    match flaw {
        // Every eighth pass drops what is here.
        Flaw::TrustsTags => disguised_then(vec![pass(8, 0)]),
        Flaw::PatchesBlindly => disguised_then((9..16).flat_map(edited).collect()),
        Flaw::WaitsForNothing => Sought::With(Nature::PlacesOver),
        Flaw::TellsHalf => Sought::With(Nature::TellsChanges),
        Flaw::PlacesOver
        | Flaw::DropsSpares
        | Flaw::ShortIsWhole
        | Flaw::SkipsSync
        | Flaw::ChecksNothing
        | Flaw::EndsEarly
        | Flaw::FencesNothing
        | Flaw::SeesNoOpenFiles => Sought::Anywhere,
    }
}

#[test]
fn every_known_fault_of_the_model_is_found() {
    for flaw in Flaw::ALL {
        let among: Vec<Script> = match sought(flaw) {
            Sought::In(script) => {
                assert_eq!(wrong(&script, None), None, "without {flaw:?}");
                vec![script]
            }
            Sought::Anywhere => (0..1_000).map(Script::from_seed).collect(),
            Sought::With(nature) => (0..)
                .map(Script::from_seed)
                .filter(|script| script.nature == nature)
                .take(1_000)
                .collect(),
        };
        let found = among
            .iter()
            .find(|script| wrong(script, Some(flaw)).is_some());
        assert!(
            found.is_some(),
            "{flaw:?} was not found in {} worlds",
            among.len()
        );
    }
}

#[test]
fn a_world_is_the_same_every_time() {
    for seed in 0..20 {
        let script = Script::from_seed(seed);
        let told = || {
            let room = tempfile::tempdir().unwrap();
            live_and_tell(&script, None, room.path(), true)
                .unwrap()
                .told
        };
        let first = told();
        assert!(!first.is_empty());
        let again = told();
        let differs = (0..first.len().max(again.len())).find(|at| first.get(*at) != again.get(*at));
        if let Some(at) = differs {
            let around = at.saturating_sub(12)..at + 2;
            let lines = |told: &[String]| {
                let lines = around.clone().filter_map(|at| told.get(at).cloned());
                lines.collect::<Vec<String>>().join("\n")
            };
            panic!(
                "{script}\nfirst:\n{}\nthen:\n{}",
                lines(&first),
                lines(&again)
            );
        }
    }
}

#[test]
fn what_fails_is_made_smaller() {
    let fails = |script: &Script| wrong(script, Some(Flaw::DropsSpares)).is_some();
    let script = (0..2_000).map(Script::from_seed).find(fails).unwrap();
    let smaller = shrink(&script, &fails);
    assert!(fails(&smaller) && smaller.acts.len() <= 6, "{smaller}");
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn write(at: At, text: &str) -> Act {
    let path = path(text);
    Act::Edit(
        at,
        Edit::Write {
            path,
            in_place: false,
            longer: false,
        },
    )
}

fn pass(seed: u64, faults: u32) -> Act {
    Act::Pass {
        computer: 0,
        seed,
        odds: (faults, 0, 0),
    }
}

fn one_computer(acts: Vec<Act>) -> Script {
    Script {
        seed: 0,
        computers: 1,
        nature: Nature::Good,
        terms: Terms::default(),
        leave_out: Vec::new(),
        skip: Vec::new(),
        late: 0,
        acts,
    }
}

#[test]
fn what_was_written_late_comes_forward_though_its_folder_is_a_file_now() {
    let script = one_computer(vec![
        write(At::Cloud, "b/inside"),
        pass(1, 0),
        write(At::Cloud, "b"),
        pass(2, 0),
        Act::LateWrite(0),
    ]);
    assert_eq!(wrong(&script, None), None);
}

#[test]
fn what_a_short_listing_of_the_top_hid_is_told_of() {
    for seed in 0..60 {
        let script = one_computer(vec![pass(0, 0), write(At::Cloud, "a"), pass(seed, 300)]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn what_a_short_listing_of_a_new_folder_hid_is_told_of() {
    for seed in 0..60 {
        let script = one_computer(vec![write(At::Cloud, "a/b/c"), pass(seed, 200)]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn what_a_short_listing_of_a_folder_in_a_files_place_hid_is_told_of() {
    for seed in 0..60 {
        let script = one_computer(vec![
            write(At::Cloud, "a"),
            pass(0, 0),
            write(At::Cloud, "a/b/c"),
            pass(seed, 200),
        ]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn a_drifted_file_that_the_source_removed_goes_where_drift_is_put_right() {
    let mut script = one_computer(vec![
        Act::Edit(
            At::Cloud,
            Edit::Write {
                path: path("b"),
                in_place: true,
                longer: true,
            },
        ),
        pass(1, 0),
        Act::Edit(At::Cloud, Edit::Remove(path("b"))),
        write(At::Disk(0), "b"),
    ]);
    script.terms = Terms {
        direction: Direction::Down,
        removals: Removals::Carry,
        drift: Drift::Restore,
        ..Terms::default()
    };
    assert_eq!(wrong(&script, None), None);
}

#[test]
fn what_lies_in_a_folder_that_could_not_be_moved_waits_for_it() {
    for (at, seed) in (0..100).map(|seed| ([At::Disk(0), At::Cloud][seed as usize % 2], seed)) {
        let script = one_computer(vec![
            write(At::Disk(0), "d/x"),
            write(At::Disk(0), "d/y"),
            pass(1, 0),
            Act::Edit(at, Edit::Rename(path("d"), path("e"))),
            write(at, "e/x"),
            write(At::Disk(0), "e/z"),
            pass(seed, 150),
        ]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn a_version_that_was_in_place_and_came_out_again_is_kept() {
    for seed in 0..200 {
        let script = one_computer(vec![
            write(At::Cloud, "b"),
            pass(1, 0),
            Act::Wait(60),
            write(At::Cloud, "b"),
            pass(seed, 60),
            write(At::Cloud, "b"),
            Act::LateWrite(0),
        ]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn what_went_there_before_it_was_seen_listed_is_brought_there_again() {
    for seed in 0..60 {
        let script = one_computer(vec![
            write(At::Disk(0), "a/b"),
            pass(seed, 200),
            Act::Edit(At::Cloud, Edit::Remove(path("a"))),
        ]);
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

#[test]
fn what_came_and_went_there_around_a_pass_that_was_cut_off_is_seen() {
    for seed in 0..40 {
        let script = Script {
            nature: Nature::TellsChanges,
            ..one_computer(vec![
                pass(0, 0),
                write(At::Cloud, "a/c d"),
                write(At::Cloud, "b/b~"),
                Act::Pass {
                    computer: 0,
                    seed,
                    odds: (0, 60, 0),
                },
                Act::Edit(At::Cloud, Edit::Remove(path("b"))),
            ])
        };
        assert_eq!(wrong(&script, None), None, "{seed}");
    }
}

/// A file became a folder, and the request to move the file aside there got no answer: nothing is put below that name
/// before it is clear, which is a day where the server keeps no name.
#[test]
fn nothing_is_put_below_a_name_that_waits_for_a_request() {
    let here = |edit| Act::Edit(At::Disk(0), edit);
    let folder = |text: &str| here(Edit::MakeFolder(path(text)));
    let script = Script {
        seed: 7205,
        nature: Nature::PlacesOver,
        leave_out: vec!["b~"],
        late: 110,
        ..one_computer(vec![
            edit_in_place(At::Disk(0), "a"),
            edit_in_place(At::Disk(0), "b"),
            here(Edit::Copy(path("a"), path("a/b~"))),
            folder("c d/b"),
            pass(11442185390802319546, 0),
            folder("b/.dot/c d"),
            Act::Pass {
                computer: 0,
                seed: 1042387757045847260,
                odds: (24, 4, 0),
            },
        ])
    };
    assert_eq!(wrong(&script, None), None);
}

fn edit_in_place(at: At, text: &str) -> Act {
    let path = path(text);
    Act::Edit(
        at,
        Edit::Write {
            path,
            in_place: true,
            longer: true,
        },
    )
}

#[test]
fn of_a_large_file_that_changed_a_little_only_the_change_is_sent() {
    let edited = |seed| {
        [
            edit_in_place(At::Disk(0), "a"),
            Act::Wait(60),
            pass(seed, 0),
        ]
    };
    let script = one_computer((2..16).flat_map(edited).collect());
    let room = tempfile::tempdir().unwrap();
    let lived = live(&script, None, room.path()).unwrap();
    assert_eq!(lived.failure, None);
    assert!(
        lived.tally.faults.contains_key(&Fault::Patched),
        "{}",
        lived.tally
    );
}
