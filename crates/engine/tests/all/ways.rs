//! The ways of carrying that the probe decides on, each against a server that is really like that: small files in one
//! request, large ones in steps and patches, and what happens when they are cut, met by strangers or lied to.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use crate::worlds::{World, tree, write};
use async_trait::async_trait;
use katabatic_core::blocks::Grain;
use katabatic_core::{RelPath, Side};
use katabatic_engine::pass::{Report, Wish};
use katabatic_engine::seam::{Hook, Seam};
use katabatic_engine::{Class, Home};
use katabatic_ledger::spare_rows;
use katabatic_sides::STEP;
use katabatic_sides::clock::SystemClock;
use katabatic_sides::stop::Stop;
use katabatic_standin::Faults;

const BLOCK: u64 = Grain::USUAL.block;

/// Content that does not repeat, so that a part in the wrong place shows.
fn large(bytes: u64) -> Vec<u8> {
    (0..bytes / 8)
        .flat_map(|number| number.wrapping_mul(0x9E37_79B9_7F4A_7C15).to_le_bytes())
        .collect()
}

fn set(root: &Path, at: &str, content: &[u8]) {
    fs::write(root.join(at), content).unwrap();
}

fn staged(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else if folder.ends_with("staging") && !path.ends_with(".now") {
                found.push(path);
            }
        }
    }
    found
}

/// Runs a pass and stops it as soon as so many bytes of a large file lie safely in a staging.
async fn stopped_behind(world: &World, bytes: u64) -> Report {
    let pass = world.pass().await.unwrap();
    let (stop, ledger) = (pass.stop.clone(), pass.ledger.clone());
    let watching = async move {
        loop {
            let noted: i64 = ledger
                .read(|connection| {
                    connection.query_row("SELECT COALESCE(MAX(done), 0) FROM partial", [], |row| {
                        row.get(0)
                    })
                })
                .unwrap();
            if noted as u64 >= bytes {
                return stop.ask();
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    };
    let wish = Wish::default();
    let (report, ()) = tokio::join!(pass.sync(&wish), watching);
    report.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_upload_goes_on_where_it_was_cut() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    let content = large(4 * STEP + 12_345 * 8);
    set(&world.near, "long.wav", &content);
    world.fault(&["slow=200000000"]);
    let report = stopped_behind(&world, STEP).await;
    assert!(report.stopped && report.counts.files_up == 0, "{report:?}");
    let [slot] = &staged(&world.far)[..] else {
        panic!("one file is on its way: {:?}", staged(&world.far));
    };
    let inode = fs::metadata(slot).unwrap().ino();
    // Another lane's leftover is not ours to clear.
    let foreign = slot.ancestors().nth(3).unwrap().join("other/staging");
    fs::create_dir_all(&foreign).unwrap();
    fs::write(foreign.join("theirs"), "theirs").unwrap();

    world.settle_down().await;
    let placed = world.far.join("long.wav");
    assert!(fs::read(&placed).unwrap() == content);
    assert_eq!(
        fs::metadata(&placed).unwrap().ino(),
        inode,
        "it was begun anew"
    );
    assert_eq!(staged(&world.far), [foreign.join("theirs")]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_download_goes_on_where_it_was_cut() {
    let world = World::new().await;
    let content = large(4 * STEP + 8);
    set(&world.far, "long.wav", &content);
    world.fault(&["slow=200000000"]);
    stopped_behind(&world, STEP).await;
    let room = world.dir.path().join("home");
    let [slot] = &staged(&room)[..] else {
        panic!("one file is on its way: {:?}", staged(&room));
    };
    let inode = fs::metadata(slot).unwrap().ino();
    world.settle_down().await;
    let placed = world.near.join("long.wav");
    assert!(fs::read(&placed).unwrap() == content);
    assert_eq!(
        fs::metadata(&placed).unwrap().ino(),
        inode,
        "it was begun anew"
    );
    assert!(staged(&room).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_arrived_of_another_version_is_not_gone_on_with() {
    for up in [true, false] {
        let world = World::new().await;
        world.knows_the_stand_in().await;
        let (from, to) = if up {
            (&world.near, &world.far)
        } else {
            (&world.far, &world.near)
        };
        set(from, "long.wav", &large(3 * STEP));
        world.fault(&["slow=200000000"]);
        stopped_behind(&world, STEP).await;
        let mut other = large(3 * STEP);
        other.reverse();
        set(from, "long.wav", &other);
        world.fault(&[]);
        world.settle_down().await;
        assert!(fs::read(to.join("long.wav")).unwrap() == other, "up: {up}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_arrived_is_not_believed_without_looking() {
    for up in [true, false] {
        let world = World::new().await;
        world.knows_the_stand_in().await;
        let content = large(3 * STEP);
        let (from, to) = if up {
            (&world.near, &world.far)
        } else {
            (&world.far, &world.near)
        };
        set(from, "long.wav", &content);
        world.fault(&["slow=200000000"]);
        stopped_behind(&world, STEP).await;
        world.fault(&[]);
        let room = world.dir.path().join("home");
        let slot = staged(if up { &world.far } else { &room }).remove(0);
        // Half of it went missing, as after a power cut.
        fs::OpenOptions::new()
            .write(true)
            .open(&slot)
            .unwrap()
            .set_len(STEP / 2)
            .unwrap();
        world.settle_down().await;
        assert!(
            fs::read(to.join("long.wav")).unwrap() == content,
            "up: {up}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn cut_lines_and_flipped_bits_do_not_spoil_a_large_file() {
    let world = World::with_seed(5).await;
    world.knows_the_stand_in().await;
    set(&world.near, "up.wav", &large(3 * STEP));
    set(&world.far, "down.wav", &large(3 * STEP + 16));
    world.fault(&["cut=0.3", "flip=0.3", "busy=0.2"]);
    for _ in 0..40 {
        let report = world.sync().await;
        if report.is_ok_and(|report| !report.needs_a_person()) {
            break;
        }
    }
    world.fault(&[]);
    world.settle_down().await;
    assert!(fs::read(world.far.join("up.wav")).unwrap() == large(3 * STEP));
    assert!(fs::read(world.near.join("down.wav")).unwrap() == large(3 * STEP + 16));
}

/// A large file that both sides hold, whose blocks are known.
async fn settled_large(faults: &[&str]) -> (World, Vec<u8>) {
    let world = World::new().await;
    world.fault(faults);
    world.probe().await;
    let content = large(80 * BLOCK + 24);
    set(&world.near, "long.wav", &content);
    world.settle_down().await;
    (world, content)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_small_change_in_a_large_file_costs_little() {
    let (world, old) = settled_large(&[]).await;
    let mut new = old.clone();
    new[3 * BLOCK as usize + 5] ^= 1;
    new.extend(b"and a little more at the end");
    set(&world.near, "long.wav", &new);
    let report = world.sync().await.unwrap();
    assert_eq!(report.counts.bytes_up, BLOCK + 24 + 28);
    assert_eq!(
        unproven(&world).await,
        1,
        "nobody has read what was made there"
    );
    assert!(fs::read(world.far.join("long.wav")).unwrap() == new);
    assert!(
        world.every_version().contains(&old),
        "the old version is kept"
    );
    // The next change builds on this one.
    new[9 * BLOCK as usize] ^= 1;
    set(&world.near, "long.wav", &new);
    assert_eq!(world.sync().await.unwrap().counts.bytes_up, BLOCK);
    assert!(fs::read(world.far.join("long.wav")).unwrap() == new);
    // What is shorter than before cannot be patched.
    new.truncate(70 * BLOCK as usize);
    set(&world.near, "long.wav", &new);
    assert_eq!(world.sync().await.unwrap().counts.bytes_up, 70 * BLOCK);
    assert!(fs::read(world.far.join("long.wav")).unwrap() == new);
    assert_eq!(
        unproven(&world).await,
        0,
        "carried whole, it is proven again"
    );
}

async fn unproven(world: &World) -> i64 {
    let sql = "SELECT COUNT(*) FROM row WHERE unproven";
    let pass = world.pass().await.unwrap();
    pass.ledger
        .read(|connection| connection.query_row(sql, [], |row| row.get(0)))
        .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn servers_that_cannot_patch_get_the_whole_file() {
    for fault in [
        "partial-put-keeps-part",
        "without=partial-put",
        "tags=coarse",
        "tags=missing",
    ] {
        let (world, old) = settled_large(&[fault]).await;
        let mut new = old.clone();
        new[3 * BLOCK as usize + 5] ^= 1;
        set(&world.near, "long.wav", &new);
        let report = world.sync().await.unwrap();
        assert_eq!(report.counts.bytes_up, new.len() as u64, "{fault}");
        assert!(
            fs::read(world.far.join("long.wav")).unwrap() == new,
            "{fault}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_there_is_never_patched_over() {
    let (world, old) = settled_large(&[]).await;
    let (mut ours, mut theirs) = (old.clone(), old.clone());
    ours[5] ^= 1;
    theirs[BLOCK as usize] ^= 1;
    set(&world.near, "long.wav", &ours);
    let hook = Stranger {
        at: Seam::BeforeRead,
        file: world.far.join("long.wav"),
        content: theirs.clone(),
    };
    let pass = world.pass_with(Arc::new(hook), Arc::new(SystemClock)).await;
    pass.unwrap().sync(&Wish::default()).await.unwrap();
    assert!(fs::read(world.far.join("long.wav")).unwrap() == theirs);
    let report = world.sync().await.unwrap();
    assert_eq!(report.counts.conflicts, 1);
    assert!(fs::read(world.far.join("long.wav")).unwrap() == theirs);
    assert!(fs::read(world.near.join("long.wav")).unwrap() == ours);
}

/// Writes a file the first time the pass comes to a seam.
struct Stranger {
    at: Seam,
    file: PathBuf,
    content: Vec<u8>,
}

#[async_trait]
impl Hook for Stranger {
    async fn at(&self, seam: Seam, _: Option<Side>, path: Option<&RelPath>) {
        let ours = path.is_some_and(|path| self.file.ends_with(path.as_str()));
        if seam == self.at && ours {
            let beside = self.file.with_extension("new");
            fs::write(&beside, &self.content).unwrap();
            fs::rename(&beside, &self.file).unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn small_files_go_at_once_only_where_nothing_can_spoil_them() {
    // Beside each fault: whether a small file may go by one request.
    for (fault, at_once) in [
        ("delay=0", true),
        ("no-put-tag", true),
        ("tags=late", true),
        ("early-conditions", false),
        ("no-conditions", false),
        ("write-in-place", false),
        ("tags=coarse", false),
        ("tags=missing", false),
    ] {
        let world = World::new().await;
        world.fault(&[fault]);
        world.probe().await;
        for number in 0..5 {
            write(
                &world.near,
                &format!("{number}.txt"),
                &format!("text {number}"),
            );
        }
        let seams = Arc::new(Seams::default());
        let hook: Arc<dyn Hook> = Arc::<Seams>::clone(&seams);
        let pass = world.pass_with(hook, Arc::new(SystemClock)).await.unwrap();
        let report = pass.sync(&Wish::default()).await.unwrap();
        assert_eq!(
            (report.counts.files_up, report.counts.stuck),
            (5, 0),
            "{fault}"
        );
        let was_staged = seams.0.lock().unwrap().contains(&Seam::Staged);
        assert_eq!(!was_staged, at_once, "{fault}");
        assert_eq!(tree(&world.near), tree(&world.far), "{fault}");
        world.settle_down().await;
        assert_eq!(
            unproven(&world).await,
            0,
            "{fault}: proven by the next pass"
        );
    }
}

#[derive(Default)]
struct Seams(std::sync::Mutex<Vec<Seam>>);

#[async_trait]
impl Hook for Seams {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        self.0.lock().unwrap().push(seam);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_keeps_the_name_they_came_to_first() {
    for at in [Seam::BeforeRead, Seam::Placed, Seam::Verified] {
        let world = World::new().await;
        world.knows_the_stand_in().await;
        write(&world.near, "rota.csv", "ours");
        let hook = Stranger {
            at,
            file: world.far.join("rota.csv"),
            content: b"a stranger's".to_vec(),
        };
        let pass = world.pass_with(Arc::new(hook), Arc::new(SystemClock)).await;
        pass.unwrap().sync(&Wish::default()).await.unwrap();
        let there = fs::read(world.far.join("rota.csv")).unwrap();
        assert_eq!(there, b"a stranger's", "{at:?}");
        world.sync().await.unwrap();
        let there = fs::read(world.far.join("rota.csv")).unwrap();
        assert_eq!(there, b"a stranger's", "{at:?}");
        assert!(world.every_version().contains(&b"ours"[..]), "{at:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_that_get_lost_neither_double_nor_lose_a_small_file() {
    let world = World::with_seed(3).await;
    world.knows_the_stand_in().await;
    for number in 0..60 {
        write(
            &world.near,
            &format!("{number}.txt"),
            &format!("text {number}"),
        );
    }
    world.fault(&["mute=0.3", "cut=0.1"]);
    for _ in 0..3 {
        // However it ends.
        let _ = world.sync().await;
    }
    world.fault(&[]);
    world.settle_down().await;
    assert_eq!(tree(&world.near), tree(&world.far));
    assert_eq!(tree(&world.far).len(), 60);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slow_line_is_no_silent_one() {
    let mut world = World::new().await;
    world.knows_the_stand_in().await;
    let mut account = world.config.accounts[0].clone();
    account.patience = Some(3);
    world.config.change_account(account).unwrap();
    set(&world.near, "up.wav", &large(900_000));
    set(&world.far, "down.wav", &large(900_000));
    // Each takes six seconds in all, and is never silent for three.
    world.fault(&["slow=150000"]);
    let report = world.sync().await.unwrap();
    assert_eq!((report.counts.files_up, report.counts.files_down), (1, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_answers_nothing_ends_the_pass_and_one_that_chews_on_a_request_does_not() {
    let mut world = World::new().await;
    world.knows_the_stand_in().await;
    let mut account = world.config.accounts[0].clone();
    account.patience = Some(1);
    world.config.change_account(account).unwrap();
    for number in 0..9 {
        set(&world.far, &format!("{number}.txt"), b"new there");
    }
    world.fault(&["silent"]);
    let error = world.sync().await.unwrap_err();
    assert_eq!(error.class, Class::NotThere, "{error:?}");
    assert!(error.why.contains("sent nothing for 1 s"), "{error:?}");
    world.fault(&["silent-to=GET"]);
    let report = once_awake(&world).await;
    assert_eq!(report.counts.files_down, 0);
    assert_eq!(report.outcomes.len(), 9, "{report:?}");
    world.fault(&["silent-to=GET", "silent-to=OPTIONS"]);
    let error = world.sync().await.unwrap_err();
    assert_eq!(error.class, Class::NotThere, "{error:?}");
    world.fault(&[]);
    let report = once_awake(&world).await;
    assert_eq!(report.counts.files_down, 9);
    assert_eq!(tree(&world.near), tree(&world.far));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_asks_for_a_long_pause_gets_it() {
    let world = World::new().await;
    world.knows_the_stand_in().await;
    write(&world.near, "a", "a");
    world.settle_down().await;
    write(&world.near, "b", "b");
    world.fault(&["come-back=40"]);
    let error = world.sync().await.unwrap_err();
    assert_eq!(error.class, Class::NotThere, "{error:?}");
    assert!(
        error.why.contains("asks to be left alone for another "),
        "{error:?}"
    );
    // It would answer now, and is not asked.
    world.fault(&[]);
    let error = world.sync().await.unwrap_err();
    assert!(error.why.contains("asks to be left alone"), "{error:?}");
    assert!(error.next.contains("Sync again then"), "{error:?}");
    assert!(!world.far.join("b").exists());
}

/// A server that at a seam asks for a long pause, and does nothing more.
struct TurnsAway {
    faults: Arc<Faults>,
    at: Seam,
}

#[async_trait]
impl Hook for TurnsAway {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        if seam == self.at {
            self.faults.set(vec!["come-back=40".parse().unwrap()]);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_pause_that_is_asked_for_in_the_middle_of_anything_loses_nothing() {
    for seam in Seam::ALL {
        let mut world = World::new().await;
        world.knows_the_stand_in().await;
        for name in [
            "edited here",
            "edited there",
            "removed here",
            "removed there",
        ] {
            write(&world.near, name, &format!("old {name}"));
        }
        world.settle_down().await;
        write(&world.near, "edited here", "new, and made here");
        write(&world.far, "edited there", "new, and made there");
        fs::remove_file(world.near.join("removed here")).unwrap();
        fs::remove_file(world.far.join("removed there")).unwrap();
        write(&world.near, "came/here", "came here");
        write(&world.far, "came/there", "came there");
        let mut versions = world.every_version();
        let hook = TurnsAway {
            faults: Arc::clone(&world.faults),
            at: seam,
        };
        let pass = world.pass_with(Arc::new(hook), Arc::new(SystemClock)).await;
        // However it ends: some seams come after the last request.
        let _ended = pass.unwrap().sync(&Wish::default()).await;
        world.fault(&[]);
        // Another program knows of no pause.
        world.home = Home::under(&world.dir.path().join("home")).unwrap();
        world.settle_down().await;
        assert_eq!(tree(&world.near), tree(&world.far), "{seam:?}");
        let every = world.every_version();
        versions.retain(|version| !every.contains(version));
        assert!(versions.is_empty(), "{seam:?}: lost {versions:?}");
    }
}

/// The server is left alone for a moment after it answered nothing.
async fn once_awake(world: &World) -> Report {
    loop {
        match world.sync().await {
            Ok(report) => return report,
            Err(error) => assert_eq!(error.class, Class::NotThere, "{error:?}"),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pass_that_waits_for_a_silent_server_ends_soon_after_it_is_told_to_and_loses_nothing() {
    for method in [
        "PROPFIND", "REPORT", "GET", "PUT", "MOVE", "MKCOL", "DELETE",
    ] {
        let world = World::new().await;
        world.knows_the_stand_in().await;
        for name in ["edited.txt", "removed.txt", "removed there.txt"] {
            set(&world.near, name, b"agreed");
        }
        world.sync().await.unwrap();
        set(&world.near, "edited.txt", b"edited here");
        set(&world.near, "up.wav", &large(200_000));
        set(&world.far, "down.wav", &large(300_000));
        fs::create_dir(world.near.join("folder")).unwrap();
        set(&world.near, "folder/in it.txt", b"new");
        fs::remove_file(world.near.join("removed.txt")).unwrap();
        fs::remove_file(world.far.join("removed there.txt")).unwrap();
        world.fault(&[&format!("silent-to={method}")]);
        let pass = world.pass().await.unwrap();
        let stop = pass.stop.clone();
        let told = async move {
            // It waits for a minute wherever it is by then, or has ended.
            tokio::time::sleep(Duration::from_millis(300)).await;
            stop.ask();
        };
        let wish = Wish::default();
        let both = async { tokio::join!(pass.sync(&wish), told) };
        let ended = tokio::time::timeout(Duration::from_secs(40), both).await;
        let (result, ()) = ended.unwrap_or_else(|_| panic!("{method}: it waited on"));
        if let Ok(report) = result {
            assert_eq!(report.counts.conflicts, 0, "{method}: {report:?}");
        }
        world.fault(&[]);
        once_awake(&world).await;
        world.sync().await.unwrap();
        let there = tree(&world.far);
        assert_eq!(tree(&world.near), there, "{method}");
        let names: Vec<&str> = there.keys().map(|name| name.as_str()).collect();
        let wanted = [
            "down.wav",
            "edited.txt",
            "folder",
            "folder/in it.txt",
            "up.wav",
        ];
        assert_eq!(names, wanted, "{method}");
        assert_eq!(
            there["edited.txt"].as_deref(),
            Some("edited here"),
            "{method}"
        );
    }
}

/// A server that does what it is asked at a seam, and then says nothing any more, while the pass is told to end.
struct Falls {
    silent: Arc<Faults>,
    at: Seam,
    stop: Stop,
}

#[async_trait]
impl Hook for Falls {
    async fn at(&self, seam: Seam, side: Option<Side>, _: Option<&RelPath>) {
        if seam == self.at && side == Some(Side::Far) && !self.stop.asked() {
            let silent = ["MOVE", "PROPFIND", "PUT", "DELETE", "OPTIONS"];
            let silent = silent.map(|method| format!("silent-to={method}").parse().unwrap());
            self.silent.set(silent.into());
            self.stop.ask();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_server_did_before_it_fell_silent_is_found_again_though_the_pass_was_stopped() {
    for seam in [Seam::Intended, Seam::Captured, Seam::Checked] {
        let world = World::new().await;
        world.knows_the_stand_in().await;
        let old = [
            ("edited.txt", "agreed, edited"),
            ("removed.txt", "agreed, removed"),
        ];
        for (name, content) in old {
            set(&world.near, name, content.as_bytes());
        }
        world.sync().await.unwrap();
        set(&world.near, "edited.txt", b"edited here");
        fs::remove_file(world.near.join("removed.txt")).unwrap();
        let mut pass = world.pass().await.unwrap();
        let hook = Falls {
            silent: Arc::clone(&world.faults),
            at: seam,
            stop: pass.stop.clone(),
        };
        pass.hook = Arc::new(hook);
        let wish = Wish::default();
        let ended = tokio::time::timeout(Duration::from_secs(40), pass.sync(&wish)).await;
        let _how = ended.unwrap_or_else(|_| panic!("{seam:?}: it waited on"));
        assert!(pass.stop.asked(), "{seam:?} is passed");
        world.fault(&[]);
        once_awake(&world).await;
        let report = world.sync().await.unwrap();
        assert_eq!(report.counts.conflicts, 0, "{seam:?}: {report:?}");
        let there = tree(&world.far);
        assert_eq!(tree(&world.near), there, "{seam:?}");
        assert_eq!(there.len(), 1, "{seam:?}: {there:?}");
        assert_eq!(there["edited.txt"].as_deref(), Some("edited here"));
        let spares = pass
            .ledger
            .read(|connection| spare_rows::all(connection, None));
        let spares = spares.unwrap();
        for (name, content) in old {
            let is_kept = spares
                .iter()
                .any(|spare| spare.path.as_str() == name && spare.size == content.len() as u64);
            assert!(
                is_kept,
                "{seam:?}: the old {name} is lost sight of: {spares:?}"
            );
        }
    }
}
