//! The built program, killed at random moments in the middle of a sync of 300 files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::worlds::{Desk, tree};

/// The same on every run: which moments are chosen, and what the files hold.
struct Random(u64);

impl Random {
    fn next(&mut self, below: u64) -> u64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % below
    }
}

fn content(what: &str, random: &mut Random) -> String {
    format!("{what} ").repeat(1 + random.next(400) as usize)
}

/// Every version anywhere: on both sides and in the spares.
fn versions(desk: &Desk) -> BTreeSet<Vec<u8>> {
    let mut all: BTreeSet<Vec<u8>> = tree(&desk.near())
        .into_values()
        .chain(tree(&desk.far()).into_values())
        .collect();
    for spares in [desk.path("home/lanes"), desk.far().join(".katabatic")] {
        if spares.exists() {
            all.extend(tree(&spares).into_values());
        }
    }
    all
}

/// Fifty rounds of edits in a minute are far more than the brake lets through in a day: it is told the number.
fn released(desk: &Desk) -> String {
    let plan = desk.run(&["plan", "--json"]).json();
    let brake = &plan["plans"][0]["brake"];
    (brake["removed"].as_u64().unwrap() + brake["replaced"].as_u64().unwrap()).to_string()
}

#[test]
fn fifty_kills_leave_no_half_file_and_lose_nothing() {
    let desk = Desk::tied(&[]);
    let mut random = Random(20_261_123);
    let mut known: BTreeSet<Vec<u8>> = BTreeSet::new();
    let mut whole = BTreeMap::new();
    // How long a whole sync takes on this machine: the kills are spread over just that time.
    let mut sync_takes = Duration::from_millis(400);
    let mut killed = 0;
    for round in 0..50 {
        // New files and edits on both sides, each path on one side only, and a few removals.
        for number in 0..300 {
            let (side, root) = if number % 2 == 0 {
                ("near", desk.near())
            } else {
                ("far", desk.far())
            };
            let at = format!("{side}/{}/{number}.txt", number % 7);
            if round == 0 || random.next(10) == 0 {
                let text = content(&format!("round {round} {at}"), &mut random);
                crate::worlds::write(&root.join(&at), &text);
                whole.insert(at, text.into_bytes());
            }
        }
        known.extend(versions(&desk));
        let mut child = desk
            .command(&["sync", "scores", "--release-brake", &released(&desk)])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let moment = Duration::from_micros(random.next(sync_takes.as_micros() as u64));
        let began = Instant::now();
        // The moment of death is what is random here: nothing is waited for.
        while began.elapsed() < moment && child.try_wait().unwrap().is_none() {
            std::thread::yield_now();
        }
        killed += usize::from(child.try_wait().unwrap().is_none());
        child.kill().unwrap();
        child.wait().unwrap();
        for (at, content) in tree(&desk.near()).into_iter().chain(tree(&desk.far())) {
            assert!(
                known.contains(&content),
                "round {round}: {at} is half a file"
            );
        }
        let number = released(&desk);
        let began = Instant::now();
        let mut said = desk.run(&["sync", "scores", "--release-brake", &number]);
        if said.code == Some(4) {
            // What the kill left open was held in the plan, and cleared up by the sync: the number is a new one.
            said = desk.run(&["sync", "scores", "--release-brake", &released(&desk)]);
        }
        sync_takes = began.elapsed().max(Duration::from_millis(50));
        said.ends(0);
        assert_eq!(tree(&desk.near()), whole, "round {round}: near");
        assert_eq!(tree(&desk.far()), whole, "round {round}: far");
        let lost = known.difference(&versions(&desk)).count();
        assert_eq!(lost, 0, "round {round}: {lost} versions are lost");
    }
    assert!(
        killed >= 25,
        "only {killed} of 50 syncs were still running when they were killed"
    );
    let plan = desk.run(&["plan", "--json"]).ends(0).json();
    assert_eq!(plan["plans"][0]["totals"]["stuck"], 0);
    assert!(fs::read_dir(desk.path("home/lanes")).unwrap().count() == 1);
}
