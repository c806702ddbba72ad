//! What each part of a pass costs a file, at ten, a hundred and a thousand times as many files: a part whose cost a
//! file grows with their number would make a large lane unusable. `BENCH_MOST` stops at fewer files.

use katabatic_sides::Lists as _;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use katabatic_core::{
    Base, Decision, Digest, Entry, Kind, Listing, Merge, PerSide, Reconciler, RelPath, Selection,
    Side, Stamp, Terms,
};
use katabatic_engine::Home;
use katabatic_ledger::rows::{self, Agreed, Origin};
use katabatic_ledger::{LaneKey, Ledger};
use katabatic_sides::Found;
use katabatic_sides::local::LocalSide;
use katabatic_sides::stop::Stop;
use katabatic_sides::webdav::count_resources;

const SIZES: [usize; 4] = [1_000, 10_000, 100_000, 1_000_000];

/// Files in one folder.
const FOLDER: usize = 100;

/// A number is the middle one of as many turns.
const TURNS: usize = 3;

/// As many writes are handed to the ledger before somebody waits for them.
const WAITING: usize = 10_000;

/// What it is called, and one turn of it.
type Part<'p> = (&'static str, Box<dyn FnMut() + 'p>);

fn main() {
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let most = std::env::var("BENCH_MOST").ok();
    let most = most
        .and_then(|text| text.parse().ok())
        .unwrap_or(usize::MAX);
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let dir = tempfile::tempdir().expect("a temporary folder");
    println!(
        "{:<44} {:>9} {:>9} {:>12} {:>18}",
        "part", "files", "seconds", "µs per file", "against the fewest"
    );
    let mut fewest = Vec::new();
    for files in SIZES.into_iter().filter(|files| *files <= most) {
        let tree = dir.path().join(files.to_string());
        make(&tree, files);
        let body = listing();
        let home = dir.path().join(format!("home {files}"));
        let ledger = Home::under(&home)
            .expect("a home")
            .open_ledger()
            .expect("a ledger");
        let parts: [Part<'_>; 5] = [
            (
                "near side listed (the second time)",
                Box::new(|| runtime.block_on(scan(&tree, &dir.path().join("state"), files))),
            ),
            ("sides and ledger decided on", Box::new(|| decide(files))),
            (
                "far listings read (XML)",
                Box::new(|| runtime.block_on(read_listings(&body, files))),
            ),
            (
                "rows written to the ledger",
                Box::new(|| runtime.block_on(write(&ledger, files))),
            ),
            (
                "rows read from the ledger",
                Box::new(|| read(&ledger, files)),
            ),
        ];
        for (number, (name, mut part)) in parts.into_iter().enumerate() {
            let mut turns: Vec<Duration> = (0..TURNS).map(|_| timed(&mut part)).collect();
            turns.sort();
            let seconds = turns[TURNS / 2].as_secs_f64();
            let each = seconds * 1e6 / files as f64;
            if fewest.len() == number {
                fewest.push(each);
            }
            let growth = each / fewest[number];
            println!("{name:<44} {files:>9} {seconds:>9.3} {each:>12.2} {growth:>16.2} x");
        }
    }
}

fn timed(part: &mut impl FnMut()) -> Duration {
    let began = Instant::now();
    part();
    began.elapsed()
}

fn path(number: usize) -> RelPath {
    let text = format!(
        "folder {:05}/file {:02}.txt",
        number / FOLDER,
        number % FOLDER
    );
    RelPath::parse(&text).expect("a path")
}

fn make(tree: &Path, files: usize) {
    for number in 0..files {
        let path = tree.join(path(number).as_str());
        if number % FOLDER == 0 {
            fs::create_dir_all(path.parent().expect("a folder")).expect("a folder is made");
        }
        fs::write(path, format!("{number}\n")).expect("a file is written");
    }
}

async fn scan(tree: &Path, state: &Path, files: usize) {
    let side = LocalSide::open(tree, state, "bench", Stop::default()).expect("the near side");
    let (found, mut inbox) = tokio::sync::mpsc::channel(1024);
    let scanning = tokio::spawn(async move { side.scan(found).await });
    let mut seen = 0;
    while let Some(found) = inbox.recv().await {
        seen += usize::from(matches!(found, Found::Entry(_, entry) if entry.kind == Kind::File));
    }
    scanning.await.expect("it ends").expect("it is listed");
    assert_eq!(seen, files);
}

/// Every folder and every file, in tree order.
fn entries(files: usize) -> impl Iterator<Item = (RelPath, Option<usize>)> {
    (0..files).flat_map(|number| {
        let path = path(number);
        let folder = (number % FOLDER == 0).then(|| (path.parent().expect("a folder"), None));
        folder.into_iter().chain([(path, Some(number))])
    })
}

fn entry(number: Option<usize>) -> Entry {
    match number {
        None => Entry::folder(),
        Some(number) => Entry::file(1000, Stamp::new(&format!("stamp {number}"))),
    }
}

fn base(number: Option<usize>) -> Base {
    let entry = entry(number);
    Base {
        kind: entry.kind,
        size: entry.size,
        content: number.map(|number| Digest::of(&number.to_le_bytes())),
        stamps: PerSide {
            near: entry.stamp.clone(),
            far: entry.stamp,
        },
        listed: PerSide {
            near: true,
            far: true,
        },
        away: None,
    }
}

fn decide(files: usize) {
    let side = || entries(files).map(|(path, number)| (path, entry(number)));
    let merge = Merge::new(
        entries(files).map(|(path, number)| (path, Some(base(number)))),
        Listing::Complete,
        side(),
        Listing::Complete,
        side(),
    );
    let mut reconciler = Reconciler::new(Terms::default(), Arc::new(Selection::default()));
    let mut settled = 0;
    let mut count = |step: katabatic_core::Step| {
        let file = step
            .entry(Side::Near)
            .is_some_and(|entry| entry.kind == Kind::File);
        settled += usize::from(step.decision == Decision::Settled && file);
    };
    for triple in merge {
        reconciler.push(triple.expect("in order"), &mut count);
    }
    reconciler.finish(&mut count);
    assert_eq!(settled, files);
}

/// The answer to one question about a folder, as servers give it.
fn listing() -> String {
    let mut body = String::from(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">",
    );
    for number in 0..FOLDER {
        body.push_str(&format!(
            "\n<D:response><D:href>/files/folder%2000001/file%20{number:02}.txt</D:href><D:propstat><D:prop><D:resourcetype/><D:getcontentlength>1000</D:getcontentlength><D:getetag>\"3e8-6543{number:02}\"</D:getetag><D:getlastmodified>Mon, 23 Nov 2026 10:15:{number:02} GMT</D:getlastmodified></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
        ));
    }
    body.push_str("\n</D:multistatus>");
    body
}

async fn read_listings(body: &str, files: usize) {
    for _ in 0..files / FOLDER {
        let count = count_resources(body.as_bytes()).await;
        assert_eq!(count, Ok(FOLDER as u64));
    }
}

const LANE: LaneKey = LaneKey(1);

async fn write(ledger: &Ledger, files: usize) {
    for (done, (path, number)) in entries(files).enumerate() {
        let agreed = Agreed {
            path,
            base: base(number),
            edited: None,
            near_handle: number.map(|number| format!("handle {number}")),
            far_handle: None,
            unproven: false,
            origin: Origin::There,
        };
        ledger.write_later(move |connection| rows::agree(connection, LANE, &agreed));
        if done % WAITING == 0 {
            ledger.flush().await.expect("it is written");
        }
    }
    ledger.flush().await.expect("it is written");
}

fn read(ledger: &Ledger, files: usize) {
    let mut seen = 0;
    let counted = ledger.read(|connection| {
        rows::each_row(connection, LANE, &RelPath::root(), |row| {
            seen += usize::from(row.base.is_some_and(|base| base.kind == Kind::File));
            true
        })
    });
    counted.expect("it is read");
    assert_eq!(seen, files);
}
