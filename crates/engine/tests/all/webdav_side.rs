//! The steps of the primitive on an account's folder, one by one, against a stand-in with its faults.

use katabatic_sides::{Lists as _, Places as _, Reads as _, Shelves as _, Stages as _};
use std::collections::HashSet;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Digest, EditTime, Entry, Kind, Listing, RelPath};
use katabatic_sides::net::Line;
use katabatic_sides::secret::Secret;
use katabatic_sides::stop::Stop;
use katabatic_sides::webdav::{Client, Connection, Signer, WebdavSide};
use katabatic_sides::{
    Captured, Checked, FolderGone, Found, Put, SideError, Source, Staged, Steps, Swapped, Undone,
};
use katabatic_standin::{Config, Fault, Faults, Running, User, start};
use tokio::sync::mpsc;

struct Far {
    dir: tempfile::TempDir,
    faults: Arc<Faults>,
    _running: Running,
    side: WebdavSide,
    stop: Stop,
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

impl Far {
    async fn new() -> Far {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("ada/root")).unwrap();
        let faults = Arc::new(Faults::new(Vec::new(), 3));
        let running = start(Config {
            users: vec![User::new("ada", "a").unwrap()],
            faults: Arc::clone(&faults),
            ..Config::new(dir.path())
        })
        .await
        .unwrap();
        let stop = Stop::default();
        let connection = Connection {
            address: running.url().parse().unwrap(),
            signer: Signer::Basic {
                user: "ada".into(),
                password: Secret::new("a".into()),
            },
            line: Line::default(),
            principal: None,
            read_only: false,
        };
        let client = Client::new(connection, stop.clone()).unwrap();
        let side = WebdavSide::new(client, path("root"), "computer", "lane");
        Far {
            dir,
            faults,
            _running: running,
            side,
            stop,
        }
    }

    fn fault(&self, faults: &[&str]) {
        self.faults.set(
            faults
                .iter()
                .map(|fault| fault.parse::<Fault>().unwrap())
                .collect(),
        );
    }

    fn at(&self, at: &str) -> PathBuf {
        self.dir.path().join("ada/root").join(at)
    }

    fn spare(&self, name: &str) -> PathBuf {
        self.at(".katabatic/computer/lane/spares").join(name)
    }

    fn write(&self, at: &str, content: &str) {
        fs::create_dir_all(self.at(at).parent().unwrap()).unwrap();
        fs::write(self.at(at), content).unwrap();
    }

    async fn seen(&self, at: &str) -> Entry {
        self.side.look(&path(at)).await.unwrap().unwrap()
    }

    async fn stage(&self, content: &str) -> Result<Staged, SideError> {
        self.side
            .stage(source(content), &path("x"), &Steps::unkept())
            .await
    }

    async fn read(&self, at: &str, seen: &Entry) -> Result<Vec<u8>, SideError> {
        let mut source = self.side.read(&path(at), seen).await?;
        let mut whole = Vec::new();
        while let Some(chunk) = source.content.next().await {
            whole.extend_from_slice(&chunk?);
        }
        Ok(whole)
    }

    async fn scanned(&self) -> (Listing, Vec<(String, Entry)>) {
        let (found, mut inbox) = mpsc::channel(64);
        let side = self.side.clone();
        let scan = tokio::spawn(async move { side.scan(found).await });
        let (mut root, mut all) = (None, Vec::new());
        while let Some(item) = inbox.recv().await {
            match item {
                Found::Root(listing) => root = Some(listing),
                Found::Entry(path, entry) => all.push((path.to_string(), entry)),
                Found::Unusable(_) | Found::Own(_) => {}
            }
        }
        scan.await.unwrap().unwrap();
        (root.unwrap(), all)
    }
}

fn source(content: &str) -> Source {
    let bytes = Bytes::copy_from_slice(content.as_bytes());
    let size = bytes.len() as u64;
    Source {
        size,
        edited: Some(EditTime(1_000_000_007)),
        from: 0,
        announced: None,
        content: stream::iter([Ok(bytes)]).boxed(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scan_is_in_tree_order_and_leaves_our_own_folder_out() {
    let far = Far::new().await;
    for at in [
        "b",
        "a/z",
        "a/b/c",
        "a b",
        "50% #?",
        ".katabatic/x/y",
        "a/.katabatic/y",
    ] {
        far.write(at, at);
    }
    let (root, scanned) = far.scanned().await;
    assert_eq!(root, Listing::Complete);
    let names: Vec<&str> = scanned.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["50% #?", "a", "a/b", "a/b/c", "a/z", "a b", "b"]);
    assert_eq!(scanned[3].1.size, 5);
    far.fault(&["unreadable=root/a"]);
    let (_, scanned) = far.scanned().await;
    assert!(
        matches!(scanned[1].1.listing, Listing::Incomplete(_)),
        "{scanned:?}"
    );
    far.fault(&["broken=1"]);
    assert!(matches!(far.scanned().await, (Listing::Incomplete(_), entries) if entries.is_empty()));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_root_is_there_or_it_is_said_why_not() {
    let far = Far::new().await;
    assert!(far.side.root().await.is_ok());
    fs::rename(far.at(""), far.dir.path().join("ada/aside")).unwrap();
    assert!(matches!(far.side.root().await, Err(SideError::NotThere(_))));
    fs::write(far.dir.path().join("ada/root"), "a file").unwrap();
    assert!(matches!(far.side.root().await, Err(SideError::NotThere(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn only_the_version_that_was_seen_is_read() {
    let far = Far::new().await;
    far.write("a", "first");
    let seen = far.seen("a").await;
    assert_eq!(far.read("a", &seen).await.unwrap(), b"first");
    far.write("a", "other");
    assert!(matches!(
        far.read("a", &seen).await,
        Err(SideError::Changed(_))
    ));
    fs::remove_file(far.at("a")).unwrap();
    assert_eq!(far.read("a", &seen).await, Err(SideError::Missing));
    assert_eq!(far.side.look(&path("a")).await, Ok(None));
}

#[tokio::test(flavor = "multi_thread")]
async fn damage_on_the_way_is_noticed() {
    let far = Far::new().await;
    far.write("a", &"0123456789".repeat(50_000));
    let seen = far.seen("a").await;
    far.fault(&["flip=1"]);
    assert!(
        matches!(far.read("a", &seen).await, Err(SideError::TryAgain(said)) if said.why.contains("damaged"))
    );
    far.fault(&["cut=1"]);
    assert!(matches!(
        far.read("a", &seen).await,
        Err(SideError::TryAgain(_))
    ));
    assert!(matches!(
        far.stage("hello").await,
        Err(SideError::TryAgain(_))
    ));
    far.fault(&["busy=1"]);
    assert!(
        matches!(far.read("a", &seen).await, Err(SideError::TryAgain(said)) if said.why.contains("503"))
    );
    far.fault(&["broken=1"]);
    assert!(
        matches!(far.read("a", &seen).await, Err(SideError::Failed(why)) if why.contains("500"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_staged_is_read_back_before_it_is_ours() {
    let far = Far::new().await;
    for faults in [&[][..], &["no-put-tag"]] {
        far.fault(faults);
        let staged = far.stage("hello").await.unwrap();
        assert_eq!(staged.digest, Some(Digest::of(b"hello")));
        assert!(far.side.is_staged(&staged.slot).await.unwrap());
        assert_eq!(
            far.side
                .place(&staged.slot, &staged.entry, &path("a"))
                .await
                .unwrap(),
            Put::Done
        );
        let placed = far
            .side
            .verify(&path("a"), &staged.entry)
            .await
            .unwrap()
            .unwrap();
        assert_eq!(
            placed.edited,
            Some(EditTime(1_000_000_007)),
            "the edit time moved along"
        );
        fs::remove_file(far.at("a")).unwrap();
    }
    far.fault(&[]);
    let left = far.stage("left over").await.unwrap();
    far.side.clear_staging(&HashSet::new()).await.unwrap();
    assert!(!far.side.is_staged(&left.slot).await.unwrap());
    far.side.unstage(&left.slot).await.unwrap();
    // Somebody tidied up: the folders are made again.
    fs::remove_dir_all(far.at(".katabatic")).unwrap();
    assert!(matches!(
        far.stage("again").await,
        Err(SideError::TryAgain(_))
    ));
    assert!(far.stage("again").await.is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edit_time_does_not_outlive_its_version() {
    let far = Far::new().await;
    let staged = far.stage("hello").await.unwrap();
    far.side
        .place(&staged.slot, &staged.entry, &path("a"))
        .await
        .unwrap();
    assert_eq!(far.seen("a").await.edited, Some(EditTime(1_000_000_007)));
    // Edited in place, so that the property stays on the file.
    fs::write(far.at("a"), "other").unwrap();
    let seen = far.seen("a").await;
    assert_eq!(seen.edited, None);
    assert!(seen.received.is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn placing_never_replaces() {
    let far = Far::new().await;
    let staged = far.stage("ours").await.unwrap();
    far.write("a", "a stranger's");
    assert_eq!(
        far.side
            .place(&staged.slot, &staged.entry, &path("a"))
            .await
            .unwrap(),
        Put::Taken
    );
    assert_eq!(fs::read(far.at("a")).unwrap(), b"a stranger's");
    assert!(
        far.side
            .verify(&path("a"), &staged.entry)
            .await
            .unwrap()
            .is_none()
    );
    let lost = far
        .side
        .place(&staged.slot, &staged.entry, &path("missing/c"))
        .await;
    assert!(matches!(lost, Err(Undone::NotDone(SideError::Failed(why))) if why.contains("409")));
    assert_eq!(
        far.side.swap(&staged.slot, &path("a"), "s").await.unwrap(),
        Swapped::Unable
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_captured_can_be_checked_and_go_back() {
    let far = Far::new().await;
    far.write("d/a", "old");
    let seen = far.seen("d/a").await;
    assert_eq!(
        far.side.capture(&path("d/a"), "s1").await.unwrap(),
        Captured::Taken
    );
    assert_eq!(
        far.side.capture(&path("d/a"), "s2").await.unwrap(),
        Captured::Nothing
    );
    assert_eq!(fs::read(far.spare("s1")).unwrap(), b"old");
    assert_eq!(far.side.check("s1", &seen).await.unwrap(), Checked::Same);
    let other = Entry::file(3, katabatic_core::Stamp::new("other"));
    assert_eq!(far.side.check("s1", &other).await.unwrap(), Checked::Other);
    assert_eq!(
        far.side.check("s1", &Entry::folder()).await.unwrap(),
        Checked::Other
    );
    assert_eq!(far.side.check("s9", &seen).await.unwrap(), Checked::Nothing);
    let mut spare = far.side.read_spare("s1").await.unwrap();
    assert_eq!(spare.content.next().await.unwrap().unwrap(), "old");
    far.write("d/a", "new meanwhile");
    assert_eq!(
        far.side.put_back("s1", &path("d/a")).await.unwrap(),
        Put::Taken
    );
    fs::remove_file(far.at("d/a")).unwrap();
    assert_eq!(
        far.side.put_back("s1", &path("d/a")).await.unwrap(),
        Put::Done
    );
    assert_eq!(fs::read(far.at("d/a")).unwrap(), b"old");
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_are_made_once_and_removed_only_empty() {
    let far = Far::new().await;
    assert_eq!(far.side.make_folder(&path("d")).await.unwrap(), Put::Done);
    assert_eq!(far.side.make_folder(&path("d")).await.unwrap(), Put::Done);
    far.write("f", "x");
    assert_eq!(far.side.make_folder(&path("f")).await.unwrap(), Put::Taken);
    assert!(far.side.make_folder(&path("x/y")).await.is_err());
    far.write("d/stranger", "x");
    assert_eq!(
        far.side.remove_folder(&path("d"), "s1").await.unwrap(),
        FolderGone::Kept(vec!["stranger".into()])
    );
    fs::remove_file(far.at("d/stranger")).unwrap();
    assert_eq!(
        far.side.remove_folder(&path("d"), "s2").await.unwrap(),
        FolderGone::InSpare
    );
    assert_eq!(
        far.side.remove_folder(&path("d"), "s3").await.unwrap(),
        FolderGone::Gone
    );
    assert!(!far.at("d").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_folders_listing_hides_is_found_when_it_was_captured() {
    let far = Far::new().await;
    far.write("d/.hidden", "somebody's");
    far.fault(&["hide-dots"]);
    let gone = far.side.remove_folder(&path("d"), "s1").await.unwrap();
    assert_eq!(gone, FolderGone::InSpare);
    assert_eq!(
        fs::read(far.spare("s1").join(".hidden")).unwrap(),
        b"somebody's",
        "whole, and in the spares"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn renaming_never_replaces() {
    let far = Far::new().await;
    far.write("a", "a");
    far.write("b", "b");
    assert_eq!(
        far.side.rename(&path("a"), &path("b")).await.unwrap(),
        Put::Taken
    );
    assert_eq!(
        far.side.rename(&path("a"), &path("c")).await.unwrap(),
        Put::Done
    );
    assert_eq!(fs::read(far.at("b")).unwrap(), b"b");
    let mut names = far.side.names(&RelPath::root()).await.unwrap();
    names.sort();
    assert_eq!(names, ["b", "c"]);
    assert_eq!(
        far.side.rename(&path("a"), &path("d")).await,
        Err(Undone::NotDone(SideError::Missing))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_asks_to_stop_stops_transfers_and_nothing_else() {
    let far = Far::new().await;
    far.write("a", "old");
    let seen = far.seen("a").await;
    let staged = far.stage("new").await.unwrap();
    far.stop.ask();
    assert_eq!(far.read("a", &seen).await, Err(SideError::Stopped));
    assert_eq!(far.stage("more").await.unwrap_err(), SideError::Stopped);
    // What is between two steps of the primitive goes on to its end.
    assert_eq!(
        far.side.capture(&path("a"), "s1").await.unwrap(),
        Captured::Taken
    );
    assert_eq!(far.side.check("s1", &seen).await.unwrap(), Checked::Same);
    assert_eq!(
        far.side
            .place(&staged.slot, &staged.entry, &path("a"))
            .await
            .unwrap(),
        Put::Done
    );
    assert!(
        far.side
            .verify(&path("a"), &staged.entry)
            .await
            .unwrap()
            .is_some()
    );
    assert_eq!(
        far.side.look(&path("a")).await.unwrap().unwrap().kind,
        Kind::File
    );
}
