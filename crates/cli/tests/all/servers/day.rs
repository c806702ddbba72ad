//! A day's work on a lane, in which one request after the other goes wrong in each of the ways in which requests do.
//! Whatever becomes of it, every version is afterwards on a side, or in the list of spares, and comes back from there.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use serde_json::Value;

use super::{Lane, open_to_all, served, setting};
use crate::proxy::{How, Proxy};

/// The day: what somebody does, and what it writes.
struct Day<'l> {
    lane: &'l Lane,
    /// Everything that ever was the content of a file.
    written: BTreeSet<String>,
}

impl Day<'_> {
    fn here(&mut self, at: &str, content: &str) {
        let old = fs::read(self.lane.near(at));
        self.written.insert(content.to_owned());
        self.lane.write_near(at, content);
        self.is_given_up(old);
    }

    fn there(&mut self, at: &str, content: &str) {
        let old = fs::read(self.lane.far.join(at));
        self.written.insert(content.to_owned());
        self.lane.write_far(at, content);
        self.is_given_up(old);
    }

    fn removes(&mut self, at: &Path) {
        let old = fs::read(at);
        let _ = fs::remove_file(at);
        self.is_given_up(old);
    }

    /// What somebody writes over or removes is owed by nobody, unless another copy of it is kept somewhere.
    fn is_given_up(&mut self, old: io::Result<Vec<u8>>) {
        let Ok(old) = old else {
            return;
        };
        let places = [self.lane.dir.path(), &self.lane.far];
        if !places.iter().any(|root| keeps(root, &old)) {
            self.written.remove(&*String::from_utf8_lossy(&old));
        }
    }

    fn say(&self, words: &[&str]) {
        self.lane.run(words);
    }

    fn sync(&self) {
        self.say(&["sync"]);
    }

    /// The numbers of what is in the spares.
    fn spares(&self) -> Vec<Value> {
        let listed = self.lane.run(&["spares", "list", "--json"]).json();
        listed["spares"].as_array().unwrap().clone()
    }

    fn goes_by(&mut self, far: &str) {
        self.here("a.txt", "a, the first");
        self.here("sub/b.txt", "b, the first");
        self.there("c.txt", "c, the first");
        self.there("sub/d.txt", "d, the first");
        self.sync();
        // Edited on each side, and replaced.
        self.here("a.txt", "a, edited here");
        self.there("c.txt", "c, edited there");
        self.there("sub/d.txt", "d, replaced there");
        self.sync();
        // A conflict, and its end.
        self.here("sub/b.txt", "b, edited here");
        self.there("sub/b.txt", "b, edited there");
        self.sync();
        self.say(&["settle", "near/sub/b.txt", "--keep", "near"]);
        self.sync();
        // Removed, on each side.
        self.here("gone here.txt", "removed here");
        self.here("gone there.txt", "removed there");
        self.sync();
        self.removes(&self.lane.near("gone here.txt"));
        self.removes(&self.lane.far.join("gone there.txt"));
        self.sync();
        // Moved: a file, and a folder.
        fs::create_dir_all(self.lane.near("moved")).unwrap();
        let _ = fs::rename(self.lane.near("a.txt"), self.lane.near("moved/a.txt"));
        let _ = fs::rename(self.lane.near("sub"), self.lane.near("sub 2"));
        self.sync();
        self.say(&["shed", "near/sub 2/d.txt"]);
        // Brought back, there; and a run taken back.
        let removed = self
            .spares()
            .into_iter()
            .find(|spare| spare["path"] == "gone here.txt");
        if let Some(removed) = removed {
            self.say(&[
                "spares",
                "restore",
                &removed["number"].to_string(),
                "--on",
                "far",
            ]);
        }
        self.sync();
        self.here("moved/a.txt", "a, edited at last");
        self.sync();
        let runs = self.lane.run(&["runs", "--json"]).json();
        let last = runs["runs"][0]["number"].to_string();
        self.say(&["undo", &last, "--yes"]);
        self.sync();
        // By hand.
        let at = |path: &str| format!("@office/{far}/{path}");
        self.here("../by hand.txt", "copied by hand");
        self.say(&["copy", "by hand.txt", &at("by hand.txt")]);
        self.say(&["move", &at("by hand.txt"), &at("moved by hand.txt")]);
        self.say(&["remove", &at("c.txt")]);
        self.removes(&self.lane.dir.path().join("by hand.txt"));
        self.sync();
    }
}

/// Whether a content is kept below a folder; what is staged is on its way, and may be given up.
fn keeps(root: &Path, content: &[u8]) -> bool {
    fs::read_dir(root).unwrap().any(|entry| {
        let entry = entry.unwrap();
        match entry.file_type().unwrap().is_dir() {
            true => entry.file_name() != "staging" && keeps(&entry.path(), content),
            false => fs::read(entry.path()).is_ok_and(|found| found == content),
        }
    })
}

/// What went wrong of what was to hold.
type Wrong = String;

/// The folder of the lane on the server, its files here, and an account that is known.
struct Worker {
    lane: Lane,
    name: String,
    proxy: Proxy,
}

impl Worker {
    fn new(name: &str) -> Worker {
        let address = setting("ADDRESS");
        let server = address.trim_start_matches("http://").trim_end_matches('/');
        let proxy = Proxy::before(server.parse().unwrap());
        let lane = Lane::at(name, &proxy.address);
        lane.tie(name);
        let home = lane.dir.path().join("home");
        copy(&home, &lane.dir.path().join("home as tied"));
        Worker {
            lane,
            name: name.to_owned(),
            proxy,
        }
    }

    fn begins_anew(&self) {
        let home = self.lane.dir.path().join("home");
        fs::remove_dir_all(&home).unwrap();
        copy(&self.lane.dir.path().join("home as tied"), &home);
        // What came back the day before is no copy that anybody keeps.
        let _ = fs::remove_file(self.lane.dir.path().join("back"));
        for folder in [self.lane.near(""), self.lane.far.clone()] {
            for entry in fs::read_dir(folder).unwrap() {
                let at = entry.unwrap().path();
                match at.is_dir() {
                    true => fs::remove_dir_all(at).unwrap(),
                    false => fs::remove_file(at).unwrap(),
                }
            }
        }
        open_to_all(&self.lane.far);
    }

    /// One day; how many requests it took, which one was meant, and what is wrong afterwards.
    fn day(&self, meant: Option<(usize, How)>) -> (usize, Option<String>, Option<Wrong>) {
        self.begins_anew();
        let (meant, how) = meant.unwrap_or((usize::MAX, How::CutBefore));
        self.proxy.means(move |number, _| number == meant, how);
        let mut day = Day {
            lane: &self.lane,
            written: BTreeSet::new(),
        };
        day.goes_by(&self.name);
        let (came, was) = self.proxy.day_is_over();
        (came, was, self.afterwards(&day).err())
    }

    fn afterwards(&self, day: &Day<'_>) -> Result<(), Wrong> {
        let lane = &self.lane;
        for _ in 0..4 {
            day.sync();
        }
        day.say(&["fetch", "near"]);
        let mut texts: BTreeMap<String, String> = BTreeMap::new();
        let mut see = |place: String, content: Vec<u8>| {
            texts.insert(String::from_utf8_lossy(&content).into_owned(), place);
        };
        let near = lane.near_tree();
        let far = served(&lane.far);
        for (at, content) in near.iter().chain(&far) {
            see(at.clone(), content.clone());
        }
        let back = lane.dir.path().join("back");
        for spare in day.spares() {
            let _ = fs::remove_file(&back);
            let number = spare["number"].to_string();
            if spare["folder"] == true {
                lane.run(&["spares", "restore", &number]);
                for (at, content) in lane.near_tree().iter().chain(&served(&lane.far)) {
                    see(at.clone(), content.clone());
                }
                continue;
            }
            let said = lane.run(&["spares", "restore", &number, "--to", "back"]);
            match fs::read(&back) {
                Ok(content) => see(format!("spare {number}"), content),
                Err(_) => return Err(format!("spare {spare} does not come back: {}", said.err)),
            }
        }
        let lost: Vec<&String> = day
            .written
            .iter()
            .filter(|text| !texts.contains_key(*text))
            .collect();
        if !lost.is_empty() {
            return Err(format!("nowhere: {lost:?}; there is {texts:?}"));
        }
        let said = lane.run(&["status", "--json"]);
        match near == far || said.code == Some(3) {
            true => Ok(()),
            false => Err(format!(
                "the sides differ and status says {:?}: {near:?} and {far:?}",
                said.code
            )),
        }
    }
}

fn copy(from: &Path, to: &Path) {
    let copied = Command::new("cp").arg("-a").arg(from).arg(to).status();
    assert!(copied.unwrap().success());
}

/// What came of one day.
struct Came {
    at: usize,
    method: String,
    wrong: Option<Wrong>,
}

/// So many days are lived through at a time; most of a day is waiting between attempts.
const AT_A_TIME: usize = 8;

/// Runs the day once for every request of it, or so many of the first, and every way in which that can go wrong: each
/// `every`th of them. What is wrong afterwards is told, and the table.
pub fn every_request(name: &str, every: usize, most: usize) -> (String, Vec<Wrong>) {
    let (requests, _, wrong) = Worker::new(name).day(None);
    let requests = requests.min(most);
    assert_eq!(wrong, None, "a day in which nothing goes wrong");
    let next = AtomicUsize::new(every);
    let days: Vec<Came> = thread::scope(|scope| {
        let work = |number: usize| {
            let (name, next) = (format!("{name} {number}"), &next);
            scope.spawn(move || some_days(&Worker::new(&name), requests, (next, every)))
        };
        let workers: Vec<_> = (0..AT_A_TIME).map(work).collect();
        let came = workers.into_iter().map(|worker| worker.join().unwrap());
        came.flatten().collect()
    });
    let mut table = BTreeMap::new();
    for day in &days {
        let cells: &mut [(u32, u32); 5] = table.entry(day.method.clone()).or_default();
        cells[day.at].0 += 1;
        cells[day.at].1 += u32::from(day.wrong.is_some());
    }
    let wrongs = days.into_iter().filter_map(|day| day.wrong).collect();
    (drawn(requests, &table), wrongs)
}

fn some_days(worker: &Worker, requests: usize, (next, every): (&AtomicUsize, usize)) -> Vec<Came> {
    let mut days = Vec::new();
    loop {
        let number = next.fetch_add(every, Ordering::SeqCst) - 1;
        let (request, at) = (number / How::OF_A_DAY.len(), number % How::OF_A_DAY.len());
        if request >= requests {
            return days;
        }
        let how = How::OF_A_DAY[at];
        let (_, was, wrong) = worker.day(Some((request, how)));
        let was = was.unwrap_or_default();
        let method = was.split(' ').next().filter(|method| !method.is_empty());
        days.push(Came {
            at,
            method: method.unwrap_or("none").to_owned(),
            wrong: wrong
                .map(|wrong| format!("request {request} ({was}), {}: {wrong}", how.words())),
        });
    }
}

/// A line for each method: in how many days each thing happened to it, and after how many something was wrong.
fn drawn(requests: usize, table: &BTreeMap<String, [(u32, u32); 5]>) -> String {
    let mut lines = vec![format!(
        "a day's work: {requests} requests; days, and those after which something was wrong"
    )];
    let heads: Vec<&str> = How::OF_A_DAY.into_iter().map(How::words).collect();
    lines.push(format!("  {:9} {}", "", heads.join("  ")));
    for (method, cells) in table {
        let cells: Vec<String> = cells
            .iter()
            .zip(&heads)
            .map(|((days, wrong), head)| {
                format!("{:>width$}", format!("{days}/{wrong}"), width = head.len())
            })
            .collect();
        lines.push(format!("  {method:9} {}", cells.join("  ")));
    }
    lines.join("\n")
}
