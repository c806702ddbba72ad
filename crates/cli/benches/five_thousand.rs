//! 5,000 files of a few KB: carried up into an empty account and down into a second folder, beside curl doing the same
//! with sixteen requests at a time, and a pass with nothing to do.
//!
//! `cargo bench --bench five_thousand` runs it against the stand-in. To run it against another WebDAV server on this
//! computer, name an empty folder there: `BENCH_ADDRESS=http://127.0.0.1:8081/ BENCH_USER=u BENCH_PASSWORD=p`.

mod world;

use std::fmt::Write;
use std::fs;
use std::path::Path;

use world::{Server, Took, at, measured, only_built, tie};

const FILES: usize = 5_000;
const FOLDERS: usize = 50;

fn name_of(number: usize) -> String {
    format!("folder {:02}/{number}.txt", number % FOLDERS)
}

fn files(root: &Path) {
    for number in 0..FILES {
        let path = root.join(name_of(number));
        fs::create_dir_all(path.parent().expect("it lies in a folder")).expect("a folder is made");
        let line = format!("file {number} of the bench\n");
        fs::write(path, line.repeat(40 + number * 7 % 200)).expect("a file is written");
    }
}

/// curl reads what to carry from a file; each line pair is one transfer.
fn with_curl(server: &Server, dir: &Path, line: impl Fn(&str, &str) -> String) -> Took {
    let mut config = String::new();
    for number in 0..FILES {
        let name = name_of(number);
        let url = format!("{}curl/{}", server.address, name.replace(' ', "%20"));
        writeln!(config, "{}", line(&name, &url)).expect("a text takes a line");
    }
    fs::write(dir.join("curl.config"), config).expect("curl's config is written");
    measured(server.curl(dir).args([
        "--parallel",
        "--parallel-max",
        "16",
        "--config",
        "curl.config",
    ]))
}

fn main() {
    if only_built() {
        return;
    }
    let dir = tempfile::tempdir().expect("a temporary folder");
    let dir = dir.path();
    let server = Server::start(&dir.join("cloud"), &[]);
    files(&dir.join("first"));
    let say = |what: &str, took: Took, beside: Option<Took>| {
        let beside = beside.map_or_else(String::new, |curl| {
            format!("{:.2} x curl", took.times(curl))
        });
        println!(
            "{what:<34} {:>7.2} s  {:>7.0} files/s  {:>5.0} MB at most  {beside}",
            took.time.as_secs_f64(),
            FILES as f64 / took.time.as_secs_f64(),
            took.peak,
        );
    };
    server.make_folder(dir, "curl");
    for folder in 0..FOLDERS {
        server.make_folder(dir, &format!("curl/folder {folder:02}"));
    }
    let up = with_curl(&server, dir, |name, url| {
        format!("upload-file = \"first/{name}\"\nurl = \"{url}\"")
    });
    say("curl, 5,000 files up", up, None);
    let down = with_curl(&server, dir, |name, url| {
        format!("create-dirs\noutput = \"curl/{name}\"\nurl = \"{url}\"")
    });
    say("curl, 5,000 files down", down, None);
    tie(dir, &server, "home-1", "first", "bench");
    say(
        "first pass, 5,000 files up",
        measured(&mut at(dir, "home-1", &["sync"])),
        Some(up),
    );
    say(
        "the pass right after it",
        measured(&mut at(dir, "home-1", &["sync"])),
        None,
    );
    tie(dir, &server, "home-2", "second", "bench");
    say(
        "first pass, 5,000 files down",
        measured(&mut at(dir, "home-2", &["sync"])),
        Some(down),
    );
    say(
        "a pass with nothing to do",
        measured(&mut at(dir, "home-1", &["sync"])),
        None,
    );
}
