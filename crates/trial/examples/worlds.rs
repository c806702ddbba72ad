//! Runs many worlds, and prints what they went through; stops at the first that breaks a promise.

use std::process::ExitCode;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use clap::Parser;
use katabatic_trial::script::{Script, shrink};
use katabatic_trial::tally::Tally;
use katabatic_trial::trial::{live, live_and_tell};

/// Trial by simulation: worlds in which everything goes wrong that can.
#[derive(Parser)]
struct Typed {
    /// So many worlds.
    #[arg(long, default_value_t = 1_000)]
    worlds: u64,
    /// The number of the first; each next one is one more.
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

fn main() -> ExitCode {
    let typed = Typed::parse();
    let (next, failed) = (AtomicU64::new(0), AtomicBool::new(false));
    let sum = Mutex::new(Tally::default());
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                work(&typed, &next, &failed, &sum).unwrap_or_else(|why| {
                    failed.store(true, Ordering::SeqCst);
                    eprintln!("the trial could not go on: {why}");
                });
            });
        }
    });
    if let Ok(sum) = sum.lock() {
        print!("{sum}");
    }
    if failed.into_inner() {
        return ExitCode::FAILURE;
    }
    println!("No promise was broken.");
    ExitCode::SUCCESS
}

fn work(
    typed: &Typed,
    next: &AtomicU64,
    failed: &AtomicBool,
    sum: &Mutex<Tally>,
) -> Result<(), String> {
    let room = tempfile::tempdir().map_err(|why| why.to_string())?;
    let wrong = |script: &Script| match live(script, None, room.path()) {
        Ok(lived) => lived.failure,
        Err(error) => Some(format!("the trial could not go on: {error:?}")),
    };
    while !failed.load(Ordering::SeqCst) {
        let number = next.fetch_add(1, Ordering::SeqCst);
        if number >= typed.worlds {
            break;
        }
        let script = Script::from_seed(typed.seed + number);
        let lived = live(&script, None, room.path()).map_err(|error| format!("{error:?}"))?;
        if let Ok(mut sum) = sum.lock() {
            sum.add(&lived.tally);
        }
        let Some(failure) = lived.failure else {
            continue;
        };
        failed.store(true, Ordering::SeqCst);
        let kind = kind_of(&failure);
        let smallest = shrink(&script, &|script| {
            wrong(script).is_some_and(|failure| kind_of(&failure) == kind)
        });
        println!("World {} broke a promise: {failure}", script.seed);
        println!(
            "Made smaller, it still does: {}\n{smallest}",
            wrong(&smallest).unwrap_or_default()
        );
        let lived = live_and_tell(&smallest, None, room.path(), true);
        for line in lived.map(|lived| lived.told).unwrap_or_default() {
            println!("{line}");
        }
    }
    Ok(())
}

/// The first words of a failure, which say what kind it is.
fn kind_of(failure: &str) -> String {
    let without_place = failure
        .strip_prefix("after act ")
        .and_then(|rest| rest.split_once(": "))
        .map_or(failure, |(_, rest)| rest);
    without_place.chars().take(12).collect()
}
