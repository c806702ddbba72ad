//! One file of 1 GiB up and down, beside curl, and then 1 MiB changed in it.
//!
//! `cargo bench --bench one_large_file` runs it against the stand-in; `BENCH_ADDRESS` and the others name another
//! server, as in `five_thousand`. `BENCH_MIB` makes the file smaller.

mod world;

use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::FileExt;

use serde_json::Value;
use world::{Server, Took, at, measured, only_built, tie};

const MIB: u64 = 1024 * 1024;

fn main() {
    if only_built() {
        return;
    }
    let mib: u64 = std::env::var("BENCH_MIB")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(1024);
    let dir = tempfile::tempdir().expect("a temporary folder");
    let dir = dir.path();
    let server = Server::start(&dir.join("cloud"), &[]);
    fs::create_dir(dir.join("first")).expect("a folder is made");
    let large = dir.join("first/large.bin");
    let mut file = File::create(&large).expect("the file is made");
    let mut state = 1u64;
    for _ in 0..mib {
        let block: Vec<u8> = (0..MIB / 8)
            .flat_map(|_| {
                state = state
                    .wrapping_mul(6_364_136_223_846_793_005)
                    .wrapping_add(1);
                state.to_le_bytes()
            })
            .collect();
        file.write_all(&block).expect("it is written");
    }
    file.sync_all().expect("it reaches the disk");
    drop(file);
    let say = |what: &str, took: Took, beside: Option<Took>| {
        let beside = beside.map_or_else(String::new, |other| {
            format!("{:.2} x curl", took.times(other))
        });
        println!(
            "{what:<28} {:>7.2} s  {:>6.0} MB/s  {:>5.0} MB at most  {beside}",
            took.time.as_secs_f64(),
            (mib * MIB) as f64 / 1e6 / took.time.as_secs_f64(),
            took.peak,
        );
    };
    let url = format!("{}curl.bin", server.address);
    let up = measured(
        server
            .curl(dir)
            .args(["--upload-file", "first/large.bin", &url]),
    );
    say("curl up", up, None);
    let down = measured(server.curl(dir).args(["--output", "curl.bin", &url]));
    say("curl down", down, None);
    tie(dir, &server, "home-1", "first", "bench");
    say("up", measured(&mut at(dir, "home-1", &["sync"])), Some(up));
    tie(dir, &server, "home-2", "second", "bench");
    say(
        "down",
        measured(&mut at(dir, "home-2", &["sync"])),
        Some(down),
    );
    OpenOptions::new()
        .write(true)
        .open(&large)
        .expect("it is opened")
        .write_all_at(&vec![7; MIB as usize], (mib / 2) * MIB + 12_345)
        .expect("1 MiB is changed");
    say(
        "1 MiB changed in it, up",
        measured(&mut at(dir, "home-1", &["sync"])),
        Some(up),
    );
    let runs = at(dir, "home-1", &["runs", "--json"]).output();
    let runs: Value = serde_json::from_slice(&runs.expect("runs starts").stdout).expect("JSON");
    let bytes = runs["runs"][0]["up"]["bytes"].as_u64().unwrap_or(0);
    println!(
        "of it went up                {bytes} bytes, {:.2} % of the file",
        bytes as f64 * 100.0 / (mib * MIB) as f64
    );
}
