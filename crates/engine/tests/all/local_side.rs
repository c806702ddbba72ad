//! The steps of the primitive on a local folder, one by one, with what may meet them.

use katabatic_sides::{Lists as _, Marks as _, Places as _, Reads as _, Shelves as _, Stages as _};
use std::collections::HashSet;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::PathBuf;

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::{Digest, EditTime, Entry, Kind, Listing, OddKind, RelPath, Unknown};
use katabatic_sides::local::LocalSide;
use katabatic_sides::proof::{OldVersion, Warrant};
use katabatic_sides::stop::Stop;
use katabatic_sides::{
    Captured, Checked, FolderGone, Found, GivenUp, Put, SideError, Source, Staged, Steps, Swapped,
    Undone, WhyKept,
};
use tokio::sync::mpsc;

struct Near {
    dir: tempfile::TempDir,
    side: LocalSide,
    stop: Stop,
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

impl Near {
    fn new() -> Near {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("root")).unwrap();
        let stop = Stop::default();
        let side = LocalSide::open(
            &dir.path().join("root"),
            &dir.path().join("room"),
            "lane",
            stop.clone(),
        )
        .unwrap();
        Near { dir, side, stop }
    }

    fn at(&self, at: &str) -> PathBuf {
        self.dir.path().join("root").join(at)
    }

    fn spare(&self, name: &str) -> PathBuf {
        self.dir.path().join("room/spares").join(name)
    }

    fn write(&self, at: &str, content: &str) {
        fs::create_dir_all(self.at(at).parent().unwrap()).unwrap();
        fs::write(self.at(at), content).unwrap();
    }

    async fn seen(&self, at: &str) -> Entry {
        self.side.look(&path(at)).await.unwrap().unwrap()
    }

    async fn stage(&self, content: &str, like: &str) -> Staged {
        self.side
            .stage(
                source(&[content], content.len() as u64),
                &path(like),
                &Steps::unkept(),
            )
            .await
            .unwrap()
    }

    async fn scanned(&self) -> Vec<(String, Entry)> {
        let (found, mut inbox) = mpsc::channel(64);
        let side = self.side.clone();
        let scan = tokio::spawn(async move { side.scan(found).await });
        let mut all = Vec::new();
        while let Some(item) = inbox.recv().await {
            if let Found::Entry(path, entry) = item {
                all.push((path.to_string(), entry));
            }
        }
        scan.await.unwrap().unwrap();
        all
    }
}

fn source(chunks: &[&str], size: u64) -> Source {
    let chunks: Vec<Result<Bytes, SideError>> = chunks
        .iter()
        .map(|chunk| Ok(Bytes::copy_from_slice(chunk.as_bytes())))
        .collect();
    Source {
        size,
        edited: Some(EditTime(-1_500_000_000)),
        from: 0,
        announced: None,
        content: stream::iter(chunks).boxed(),
    }
}

async fn read(side: &LocalSide, at: &str, seen: &Entry) -> Result<Vec<u8>, SideError> {
    let mut source = side.read(&path(at), seen).await?;
    let mut whole = Vec::new();
    while let Some(chunk) = source.content.next().await {
        whole.extend_from_slice(&chunk?);
    }
    Ok(whole)
}

#[tokio::test]
async fn a_scan_is_in_tree_order_and_follows_nothing() {
    let near = Near::new();
    for at in [
        "b",
        "a/z",
        "a/b/c",
        "a b",
        ".katabatic/own",
        "a/.katabatic/own",
    ] {
        near.write(at, at);
    }
    symlink("/etc", near.at("link")).unwrap();
    let scanned = near.scanned().await;
    let names: Vec<&str> = scanned.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["a", "a/b", "a/b/c", "a/z", "a b", "b", "link"]);
    assert_eq!(scanned.last().unwrap().1.kind, Kind::Odd(OddKind::Link));
    assert_eq!(scanned[2].1.size, 5);
}

#[tokio::test]
async fn a_folder_that_cannot_be_read_is_unknown_and_not_empty() {
    let near = Near::new();
    near.write("closed/inside", "x");
    fs::set_permissions(near.at("closed"), fs::Permissions::from_mode(0o000)).unwrap();
    // Who may read everything sees it all the same; then there is nothing to test.
    let readable = fs::read_dir(near.at("closed")).is_ok();
    let scanned = near.scanned().await;
    fs::set_permissions(near.at("closed"), fs::Permissions::from_mode(0o755)).unwrap();
    if !readable {
        assert!(
            matches!(
                scanned[0].1.listing,
                Listing::Incomplete(Unknown::NotListed(_))
            ),
            "{scanned:?}"
        );
    }
}

#[tokio::test]
async fn a_root_that_is_gone_is_not_there() {
    let near = Near::new();
    near.side.mark_root().await.unwrap();
    let mark = near.side.root().await.unwrap();
    assert_eq!(near.side.root().await.unwrap(), mark);
    let elsewhere = LocalSide::open(
        &near.dir.path().join("missing"),
        &near.dir.path().join("room"),
        "lane",
        Stop::default(),
    );
    assert!(matches!(elsewhere.err(), Some(SideError::NotThere(_))));
    near.write("file", "x");
    let file = LocalSide::open(
        &near.at("file"),
        &near.dir.path().join("room"),
        "lane",
        Stop::default(),
    );
    assert!(matches!(file.err(), Some(SideError::NotThere(_))));
}

#[tokio::test]
async fn only_the_version_that_was_seen_is_read() {
    let near = Near::new();
    let long = "0123456789".repeat(100_000);
    for content in ["", "short", &long] {
        near.write("a", content);
        let seen = near.seen("a").await;
        assert_eq!(
            read(&near.side, "a", &seen).await.unwrap(),
            content.as_bytes()
        );
        near.write("a", &format!("{content} and more"));
        assert!(matches!(
            read(&near.side, "a", &seen).await,
            Err(SideError::BeingWritten)
        ));
    }
    let seen = near.seen("a").await;
    fs::remove_file(near.at("a")).unwrap();
    assert_eq!(read(&near.side, "a", &seen).await, Err(SideError::Missing));
}

#[tokio::test]
async fn a_file_that_changes_while_it_is_read_ends_in_an_error() {
    let near = Near::new();
    near.write("a", &"x".repeat(4 << 20));
    let seen = near.seen("a").await;
    let mut source = near.side.read(&path("a"), &seen).await.unwrap();
    source.content.next().await.unwrap().unwrap();
    fs::OpenOptions::new()
        .append(true)
        .open(near.at("a"))
        .and_then(|mut file| std::io::Write::write_all(&mut file, b"!"))
        .unwrap();
    let rest: Vec<_> = source.content.collect().await;
    assert!(matches!(rest.last(), Some(Err(SideError::BeingWritten))));
}

#[tokio::test]
async fn what_is_staged_is_whole_or_not_there() {
    let near = Near::new();
    let staged = near.stage("hello", "new").await;
    assert_eq!(
        (staged.digest, staged.entry.size),
        (Some(Digest::of(b"hello")), 5)
    );
    assert_eq!(
        staged.entry.edited,
        Some(EditTime(-1_500_000_000)),
        "dates before 1970 too"
    );
    assert!(near.side.is_staged(&staged.slot).await.unwrap());
    let short = near
        .side
        .stage(source(&["hell"], 5), &path("new"), &Steps::unkept())
        .await;
    assert!(matches!(short, Err(SideError::TryAgain(_))), "{short:?}");
    let broken = stream::iter([
        Ok(Bytes::from("x".repeat(300_000))),
        Err(SideError::try_again("cut")),
    ])
    .boxed();
    let cut = Source {
        size: 600_000,
        edited: None,
        from: 0,
        announced: None,
        content: broken,
    };
    assert_eq!(
        near.side
            .stage(cut, &path("new"), &Steps::unkept())
            .await
            .unwrap_err(),
        SideError::try_again("cut")
    );
    near.stop.ask();
    let stopped = near
        .side
        .stage(
            source(&[&"x".repeat(400_000)], 400_000),
            &path("new"),
            &Steps::unkept(),
        )
        .await;
    assert_eq!(stopped.unwrap_err(), SideError::Stopped);
    assert_eq!(
        fs::read_dir(near.dir.path().join("room/staging"))
            .unwrap()
            .count(),
        1
    );
    near.side.clear_staging(&HashSet::new()).await.unwrap();
    assert!(!near.side.is_staged(&staged.slot).await.unwrap());
    near.side.unstage(&staged.slot).await.unwrap();
}

#[tokio::test]
async fn a_replacement_takes_over_rights_and_attributes() {
    let near = Near::new();
    near.write("script", "old");
    fs::set_permissions(near.at("script"), fs::Permissions::from_mode(0o751)).unwrap();
    let set = rustix::fs::setxattr(
        near.at("script"),
        "user.note",
        b"bind it",
        rustix::fs::XattrFlags::empty(),
    );
    let old = near.seen("script").await;
    let staged = near.stage("new", "script").await;
    assert_eq!(
        near.side
            .swap(&staged.slot, &path("script"), "s1")
            .await
            .unwrap(),
        Swapped::Done
    );
    assert_eq!(near.side.check("s1", &old).await.unwrap(), Checked::Same);
    assert_eq!(fs::read(near.at("script")).unwrap(), b"new");
    assert_eq!(
        fs::metadata(near.at("script")).unwrap().mode() & 0o7777,
        0o751
    );
    if set.is_ok() {
        let mut value = [0; 16];
        let length = rustix::fs::getxattr(near.at("script"), "user.note", &mut value).unwrap();
        assert_eq!(&value[..length], b"bind it");
    }
    let placed = near
        .side
        .verify(&path("script"), &staged.entry)
        .await
        .unwrap();
    assert_eq!(placed.unwrap().size, 3);
}

#[tokio::test]
async fn a_swap_that_met_a_stranger_is_undone() {
    let near = Near::new();
    near.write("a", "old");
    let old = Entry {
        content: Some(Digest::of(b"old")),
        ..near.seen("a").await
    };
    let staged = near.stage("new", "a").await;
    // Rewritten in place with the old dates put back: only the content tells.
    let modified = fs::metadata(near.at("a")).unwrap().modified().unwrap();
    fs::write(near.at("a"), "odd").unwrap();
    fs::File::options()
        .write(true)
        .open(near.at("a"))
        .unwrap()
        .set_modified(modified)
        .unwrap();
    near.side
        .swap(&staged.slot, &path("a"), "s1")
        .await
        .unwrap();
    assert_eq!(near.side.check("s1", &old).await.unwrap(), Checked::Other);
    near.side.swap_back(&path("a"), "s1").await.unwrap();
    assert_eq!(fs::read(near.at("a")).unwrap(), b"odd");
    assert_eq!(
        near.side.check("s1", &staged.entry).await.unwrap(),
        Checked::Same,
        "ours came out again"
    );
    let other = near.side.give_up("s1", given_up("other")).await;
    assert_eq!(other, Ok(GivenUp::Kept(WhyKept::OtherContent)));
    let ours = near.side.give_up("s1", given_up("new")).await;
    assert_eq!(ours, Ok(GivenUp::Gone));
    assert_eq!(near.side.check("s1", &old).await.unwrap(), Checked::Nothing);
}

/// That a person gave up this content.
fn given_up(content: &str) -> Warrant {
    let content = Digest::of(content.as_bytes());
    Warrant::GivenUp(OldVersion::of(Some(content), None, false))
}

#[tokio::test]
async fn what_somebody_has_open_is_not_given_up() {
    let near = Near::new();
    near.write("a", "old");
    let seen = near.seen("a").await;
    let mut writer = fs::File::options().write(true).open(near.at("a")).unwrap();
    near.side.capture(&path("a"), "s1").await.unwrap();
    let open = near.side.give_up("s1", given_up("old")).await;
    assert_eq!(open, Ok(GivenUp::Kept(WhyKept::Open)));
    std::io::Write::write_all(&mut writer, b"new").unwrap();
    drop(writer);
    let written = near.side.give_up("s1", given_up("old")).await;
    assert_eq!(written, Ok(GivenUp::Kept(WhyKept::OtherContent)));
    assert_eq!(fs::read(near.spare("s1")).unwrap(), b"new");
    assert_eq!(near.side.check("s1", &seen).await.unwrap(), Checked::Other);
    let gone = near.side.give_up("s1", given_up("new")).await;
    assert_eq!(gone, Ok(GivenUp::Gone));
    assert!(!near.spare("s1").exists());
}

#[tokio::test]
async fn a_swap_with_nothing_leaves_it_staged() {
    let near = Near::new();
    let staged = near.stage("new", "a").await;
    assert_eq!(
        near.side
            .swap(&staged.slot, &path("a"), "s1")
            .await
            .unwrap(),
        Swapped::Nothing
    );
    assert!(near.side.is_staged(&staged.slot).await.unwrap());
    assert!(near.side.look_at_spare("s1").await.unwrap().is_none());
}

#[tokio::test]
async fn placing_never_replaces() {
    let near = Near::new();
    let staged = near.stage("ours", "a").await;
    near.write("a", "a stranger's");
    assert_eq!(
        near.side
            .place(&staged.slot, &staged.entry, &path("a"))
            .await
            .unwrap(),
        Put::Taken
    );
    assert_eq!(fs::read(near.at("a")).unwrap(), b"a stranger's");
    assert_eq!(
        near.side
            .place(&staged.slot, &staged.entry, &path("b"))
            .await
            .unwrap(),
        Put::Done
    );
    assert!(
        near.side
            .verify(&path("b"), &staged.entry)
            .await
            .unwrap()
            .is_some()
    );
    near.write("b", "changed since");
    assert!(
        near.side
            .verify(&path("b"), &staged.entry)
            .await
            .unwrap()
            .is_none()
    );
    let lost = near
        .side
        .place(&staged.slot, &staged.entry, &path("missing/c"))
        .await;
    assert!(
        matches!(lost, Err(Undone::NotDone(SideError::Failed(_)))),
        "{lost:?}"
    );
}

#[tokio::test]
async fn what_is_captured_can_go_back() {
    let near = Near::new();
    near.write("d/a", "old");
    let seen = near.seen("d/a").await;
    assert_eq!(
        near.side.capture(&path("d/a"), "s1").await.unwrap(),
        Captured::Taken
    );
    assert_eq!(
        near.side.capture(&path("d/a"), "s2").await.unwrap(),
        Captured::Nothing
    );
    assert_eq!(near.side.check("s1", &seen).await.unwrap(), Checked::Same);
    assert_eq!(fs::read(near.spare("s1")).unwrap(), b"old");
    let mut spare = near.side.read_spare("s1").await.unwrap();
    assert_eq!(spare.content.next().await.unwrap().unwrap(), "old");
    near.write("d/a", "new meanwhile");
    assert_eq!(
        near.side.put_back("s1", &path("d/a")).await.unwrap(),
        Put::Taken
    );
    fs::remove_file(near.at("d/a")).unwrap();
    assert_eq!(
        near.side.put_back("s1", &path("d/a")).await.unwrap(),
        Put::Done
    );
    assert_eq!(fs::read(near.at("d/a")).unwrap(), b"old");
    // A whole folder is captured in the same way.
    assert_eq!(
        near.side.capture(&path("d"), "s3").await.unwrap(),
        Captured::Taken
    );
    assert_eq!(
        near.side.check("s3", &Entry::folder()).await.unwrap(),
        Checked::Same
    );
    assert_eq!(near.side.check("s3", &seen).await.unwrap(), Checked::Other);
}

#[tokio::test]
async fn folders_are_made_once_and_removed_only_empty() {
    let near = Near::new();
    assert_eq!(near.side.make_folder(&path("d")).await.unwrap(), Put::Done);
    assert_eq!(near.side.make_folder(&path("d")).await.unwrap(), Put::Done);
    near.write("f", "x");
    assert_eq!(near.side.make_folder(&path("f")).await.unwrap(), Put::Taken);
    near.write("d/stranger", "x");
    let kept = near.side.remove_folder(&path("d"), "s").await.unwrap();
    assert_eq!(kept, FolderGone::Kept(vec!["stranger".into()]));
    fs::remove_file(near.at("d/stranger")).unwrap();
    assert_eq!(
        near.side.remove_folder(&path("d"), "s").await.unwrap(),
        FolderGone::Gone
    );
    assert_eq!(
        near.side.remove_folder(&path("d"), "s").await.unwrap(),
        FolderGone::Gone
    );
}

#[tokio::test]
async fn renaming_never_replaces() {
    let near = Near::new();
    near.write("a", "a");
    near.write("b", "b");
    assert_eq!(
        near.side.rename(&path("a"), &path("b")).await.unwrap(),
        Put::Taken
    );
    assert_eq!(
        near.side.rename(&path("a"), &path("c")).await.unwrap(),
        Put::Done
    );
    assert_eq!(fs::read(near.at("b")).unwrap(), b"b");
    assert_eq!(near.side.names(&RelPath::root()).await.unwrap().len(), 2);
}

#[tokio::test]
async fn no_step_goes_through_a_link() {
    let near = Near::new();
    let outside = near.dir.path().join("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("a"), "not ours").unwrap();
    symlink(&outside, near.at("link")).unwrap();
    let staged = near.stage("ours", "x").await;
    let through = path("link/a");
    assert!(
        near.side
            .place(&staged.slot, &staged.entry, &through)
            .await
            .is_err()
    );
    assert!(near.side.swap(&staged.slot, &through, "s1").await.is_err());
    assert!(near.side.capture(&through, "s2").await.is_err());
    assert!(near.side.make_folder(&path("link/d")).await.is_err());
    assert!(near.side.look(&through).await.is_err());
    assert_eq!(fs::read(outside.join("a")).unwrap(), b"not ours");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 1);
}

#[tokio::test]
async fn names_and_depths_at_the_limit_work() {
    let near = Near::new();
    let name = format!("x{}", "é".repeat(127));
    assert_eq!(name.len(), 255);
    near.write(&name, "long");
    assert_eq!(near.seen(&name).await.size, 4);
    let too_long = near.side.make_folder(&path(&"y".repeat(256))).await;
    assert!(
        matches!(&too_long, Err(Undone::NotDone(SideError::Failed(why))) if why.contains("longer")),
        "{too_long:?}"
    );
    // Deeper than one call of the system can name.
    let mut deep = RelPath::root();
    for _ in 0..20 {
        deep = deep.join(&"d".repeat(250)).unwrap();
        assert_eq!(near.side.make_folder(&deep).await.unwrap(), Put::Done);
    }
    assert!(deep.as_str().len() > 4096);
    let staged = near.stage("deep", "x").await;
    let file = deep.join("file").unwrap();
    assert_eq!(
        near.side
            .place(&staged.slot, &staged.entry, &file)
            .await
            .unwrap(),
        Put::Done
    );
    assert_eq!(near.scanned().await.len(), 22);
}
