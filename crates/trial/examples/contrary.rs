//! A day's work with servers that have habits drawn by lot: so many of them, or one again by its number.

use std::process::ExitCode;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use clap::Parser;
use katabatic_trial::contrary::{Draw, Lived, live, shrink};

/// Contrary servers.
#[derive(Parser)]
struct Typed {
    /// So many draws.
    #[arg(long, default_value_t = 300)]
    draws: u64,
    /// The number of the first; each next one is one more.
    #[arg(long, default_value_t = 1)]
    first: u64,
    /// So many at a time; most of a day is waiting.
    #[arg(long, default_value_t = 6)]
    at_a_time: usize,
    /// Fail at once, and do not look for the fewest habits.
    #[arg(long)]
    no_shrink: bool,
}

#[derive(Default)]
struct Sum {
    well: u64,
    with_stuck: u64,
    impossible: u64,
    badly: u64,
}

fn main() -> ExitCode {
    let typed = Typed::parse();
    let (next, sum) = (AtomicU64::new(0), Mutex::new(Sum::default()));
    std::thread::scope(|scope| {
        for _ in 0..typed.at_a_time {
            scope.spawn(|| work(&typed, &next, &sum));
        }
    });
    let Ok(sum) = sum.into_inner() else {
        return ExitCode::FAILURE;
    };
    println!(
        "{} days went well, {} of them with something that was told as stuck; {} servers take nothing, and say so; {} days went badly",
        sum.well, sum.with_stuck, sum.impossible, sum.badly
    );
    match sum.badly == 0 {
        true => ExitCode::SUCCESS,
        false => ExitCode::FAILURE,
    }
}

fn lived(draw: &Draw) -> Lived {
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build();
    let lived = match runtime {
        Ok(runtime) => runtime.block_on(live(draw)),
        Err(why) => Err(why.into()),
    };
    lived.unwrap_or_else(|why| Lived::Badly(format!("the trial could not go on: {why}")))
}

fn work(typed: &Typed, next: &AtomicU64, sum: &Mutex<Sum>) {
    loop {
        let number = next.fetch_add(1, Ordering::SeqCst);
        if number >= typed.draws {
            return;
        }
        let draw = Draw::of(typed.first + number);
        let lived_so = lived(&draw);
        let badly = match &lived_so {
            Lived::Badly(why) if typed.no_shrink => Some((draw.clone(), why.clone())),
            Lived::Badly(first) => {
                let smallest = shrink(&draw, &|draw| matches!(lived(draw), Lived::Badly(_)));
                let why = match lived(&smallest) {
                    Lived::Badly(why) => why,
                    Lived::Well { .. } | Lived::Impossible(_) => {
                        format!("not again; at first: {first}")
                    }
                };
                Some((smallest, why))
            }
            Lived::Well { .. } | Lived::Impossible(_) => None,
        };
        if let Some((draw, why)) = &badly {
            println!("{draw}\n  {why}\n");
        }
        let Ok(mut sum) = sum.lock() else { return };
        match lived_so {
            Lived::Well { stuck } => {
                sum.well += 1;
                sum.with_stuck += u64::from(stuck > 0);
            }
            Lived::Impossible(_) => sum.impossible += 1,
            Lived::Badly(_) => sum.badly += 1,
        }
    }
}
