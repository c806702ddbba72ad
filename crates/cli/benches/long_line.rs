//! 1,000 small files up and down where every answer takes 200 ms longer: how many requests are in flight decides.

mod world;

use std::fs;

use world::{Server, at, measured, only_built, tie};

const FILES: usize = 1_000;
const DELAY: f64 = 0.2;

fn main() {
    if only_built() {
        return;
    }
    let dir = tempfile::tempdir().expect("a temporary folder");
    let dir = dir.path();
    let server = Server::start(&dir.join("cloud"), &["--fault", "delay=200"]);
    for number in 0..FILES {
        let folder = dir.join(format!("first/{}", number % 10));
        fs::create_dir_all(&folder).expect("a folder is made");
        fs::write(folder.join(format!("{number}.txt")), "a few bytes\n").expect("it is written");
    }
    for (home, near, what) in [("home-1", "first", "up"), ("home-2", "second", "down")] {
        tie(dir, &server, home, near, "bench");
        let took = measured(&mut at(dir, home, &["sync"])).time.as_secs_f64();
        println!(
            "1,000 files {what:<5} {took:>6.1} s; one request after another, one a file: {:>4.0} s, so {:.1} x in flight",
            FILES as f64 * DELAY,
            FILES as f64 * DELAY / took
        );
    }
}
