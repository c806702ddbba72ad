//! The steps of the primitive on a folder of an account by SFTP, one by one, against a real `sshd`: `.ci/servers` starts one.
//! On other servers they have nothing to try.

use katabatic_sides::{
    Fences as _, Lists as _, Places as _, Reads as _, Shelves as _, Stages as _,
};
use std::collections::HashSet;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use katabatic_core::blocks::Stretch;
use katabatic_core::{Digest, EditTime, Entry, Kind, RelPath};
use katabatic_sides::host_key::read_pin;
use katabatic_sides::net::Trust;
use katabatic_sides::sftp::{Connection, SftpClient, SftpSide, WayIn};
use katabatic_sides::stop::Stop;
use katabatic_sides::survey::Survey;
use katabatic_sides::{
    Captured, Checked, FolderGone, Found, Partial, Patch, Put, SideError, Source, Staged, Steps,
    Undone,
};
use tokio::sync::mpsc;

fn setting(name: &str) -> String {
    std::env::var(format!("KATABATIC_SERVER_{name}")).unwrap()
}

struct Far {
    folder: PathBuf,
    client: SftpClient,
    side: SftpSide,
    stop: Stop,
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

impl Far {
    /// A folder of this name on the server; none where it is no server of SFTP.
    async fn new(name: &str) -> Option<Far> {
        let address = setting("ADDRESS");
        if !address.starts_with("sftp://") {
            return None;
        }
        let folder = Path::new(&setting("FILES")).join(name);
        fs::create_dir_all(&folder).unwrap();
        let way = WayIn::Key {
            file: setting("KEY").into(),
            passphrase: None,
        };
        let stop = Stop::default();
        let connection = Connection {
            trust: Trust::HostKey(read_pin(&setting("TRUST")).unwrap()),
            ..Connection::new(address.parse().unwrap(), "root", way)
        };
        let client = SftpClient::new(connection, stop.clone());
        let probed = client.probe(&Survey::default(), &path(name)).await.unwrap();
        let katabatic_sides::probe::Probed::Found(findings) = probed else {
            panic!("the folder may be written");
        };
        let side = SftpSide::new(client.clone(), path(name), "computer", "lane");
        Some(Far {
            folder,
            client,
            side: side.knowing(&findings),
            stop,
        })
    }

    fn at(&self, at: &str) -> PathBuf {
        self.folder.join(at)
    }

    fn own(&self, shelf: &str, name: &str) -> PathBuf {
        self.at(".katabatic/computer/lane").join(shelf).join(name)
    }

    /// Written long enough ago to be no young version.
    fn write(&self, at: &str, content: &str) {
        fs::create_dir_all(self.at(at).parent().unwrap()).unwrap();
        let file = fs::File::create(self.at(at)).unwrap();
        std::io::Write::write_all(&mut &file, content.as_bytes()).unwrap();
        let old = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000);
        file.set_modified(old).unwrap();
    }

    async fn seen(&self, at: &str) -> Entry {
        self.side.look(&path(at)).await.unwrap().unwrap()
    }

    async fn stage(&self, content: &str) -> Result<Staged, SideError> {
        self.side
            .stage(source(content), &path("x"), &Steps::unkept())
            .await
    }

    async fn read(&self, at: &str, seen: &Entry, from: u64) -> Result<Vec<u8>, SideError> {
        let mut source = self.side.read_from(&path(at), seen, from).await?;
        let mut whole = Vec::new();
        while let Some(chunk) = source.content.next().await {
            whole.extend_from_slice(&chunk?);
        }
        Ok(whole)
    }
}

fn source(content: &str) -> Source {
    let bytes = Bytes::copy_from_slice(content.as_bytes());
    let size = bytes.len() as u64;
    Source {
        size,
        edited: Some(EditTime(1_000_000_007_000_000_000)),
        from: 0,
        announced: None,
        content: stream::iter([Ok(bytes)]).boxed(),
    }
}

fn blake3_of(content: &[u8]) -> Digest {
    Digest(*blake3::hash(content).as_bytes())
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_lists_in_tree_order_and_leaves_out_what_is_no_file() {
    let Some(far) = Far::new("sftp lists").await else {
        return;
    };
    for name in ["b", "a/x", "a!", ".dot"] {
        far.write(name, "x");
    }
    std::os::unix::fs::symlink("/etc/passwd", far.at("link")).unwrap();
    let odd = far
        .folder
        .join(std::ffi::OsStr::from_bytes(b"no \xff text"));
    fs::write(odd, "x").unwrap();
    far.side.make_folder(&path("a")).await.unwrap();
    far.stage("so that our own folder is there").await.unwrap();
    let (found, mut inbox) = mpsc::channel(64);
    let side = far.side.clone();
    let scan = tokio::spawn(async move { side.scan(found).await });
    let (mut all, mut unusable, mut own) = (Vec::new(), 0, 0);
    while let Some(item) = inbox.recv().await {
        match item {
            Found::Entry(path, entry) => all.push((path.to_string(), entry.kind)),
            Found::Unusable(_) => unusable += 1,
            Found::Own(_) => own += 1,
            Found::Root(_) => {}
        }
    }
    scan.await.unwrap().unwrap();
    let names: Vec<&str> = all.iter().map(|(name, _)| &name[..]).collect();
    assert_eq!(names, [".dot", "a", "a/x", "a!", "b", "link"]);
    assert!(matches!(all[5].1, Kind::Odd(_)));
    assert_eq!((unusable, own), (1, 1));
    assert_eq!(far.side.look(&path("nothing")).await, Ok(None));
    assert_eq!(far.side.look(&path("b/below a file")).await, Ok(None));
    let survey = far.client.survey(true).await.unwrap();
    assert!(survey.free.is_some_and(|free| free > 0));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_reads_the_version_that_was_seen_and_no_other() {
    let Some(far) = Far::new("sftp reads").await else {
        return;
    };
    // Of many pieces, the last of which is not whole.
    let long: String = (0..700_000)
        .map(|at| char::from(b'a' + (at % 23) as u8))
        .collect();
    far.write("long", &long);
    let seen = far.seen("long").await;
    assert_eq!(far.read("long", &seen, 0).await.unwrap(), long.as_bytes());
    assert_eq!(
        far.read("long", &seen, 650_001).await.unwrap(),
        &long.as_bytes()[650_001..]
    );
    let part = Stretch {
        from: 40_000,
        length: 10,
    };
    let read = far
        .side
        .read_part(&path("long"), &seen, part)
        .await
        .unwrap();
    assert_eq!(read, long.as_bytes()[40_000..40_010]);
    // Written while it is read.
    let mut source = far.side.read(&path("long"), &seen).await.unwrap();
    source.content.next().await.unwrap().unwrap();
    fs::write(far.at("long"), &long).unwrap();
    let mut end = Ok(Bytes::new());
    while let Some(next) = source.content.next().await {
        end = next;
    }
    assert!(matches!(end, Err(SideError::Changed(_))), "{end:?}");
    let another = far.read("long", &seen, 0).await;
    assert!(matches!(another, Err(SideError::Changed(_))), "{another:?}");
    assert_eq!(far.read("gone", &seen, 0).await, Err(SideError::Missing));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_stages_whole_with_date_and_rights_and_goes_on_where_it_was_cut() {
    let Some(far) = Far::new("sftp stages").await else {
        return;
    };
    far.write("x", "an older version");
    fs::set_permissions(
        far.at("x"),
        std::os::unix::fs::PermissionsExt::from_mode(0o640),
    )
    .unwrap();
    let staged = far.stage("new").await.unwrap();
    assert_eq!(staged.digest, Some(blake3_of(b"new")));
    let meta = fs::metadata(far.own("staging", &staged.slot)).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mtime(&meta), 1_000_000_007);
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&meta) & 0o777, 0o640);
    // A source that ends too soon, and one that breaks off.
    let short = Source {
        size: 9,
        ..source("short")
    };
    let short = far.side.stage(short, &path("y"), &Steps::unkept()).await;
    assert_eq!(short.unwrap_err(), SideError::BeingWritten);

    // A large one is cut after two steps, and goes on.
    let large: Vec<u8> = (0..40_000_000u32).map(|at| (at * 7 % 251) as u8).collect();
    let large_source = |until: usize, then: Option<SideError>| {
        let pieces: Vec<_> = large[..until]
            .chunks(1 << 20)
            .map(|piece| Ok(Bytes::copy_from_slice(piece)))
            .chain(then.map(Err))
            .collect();
        Source {
            size: large.len() as u64,
            content: stream::iter(pieces).boxed(),
            ..source("")
        }
    };
    let noted = Arc::new(Mutex::new(Vec::<Option<Partial>>::new()));
    let note = Arc::clone(&noted);
    let steps = Steps {
        known: None,
        note: Arc::new(move |step| note.lock().unwrap().push(step)),
    };
    let last = || noted.lock().unwrap().last().cloned().flatten();
    let stage = async |source, known: Option<Partial>| {
        let steps = Steps {
            known,
            ..steps.clone()
        };
        far.side.stage(source, &path("y"), &steps).await
    };
    let cut = || large_source(36_000_000, Some(SideError::try_again("cut")));
    stage(cut(), None).await.unwrap_err();
    let known = last().unwrap();
    assert!(known.done >= 32 << 20, "{known:?}");
    noted.lock().unwrap().clear();
    let whole = stage(large_source(large.len(), None), Some(known.clone())).await;
    let whole = whole.unwrap();
    // In a copy: what of the cut one comes late goes elsewhere.
    assert_ne!(whole.slot, known.slot);
    assert!(!far.own("staging", &known.slot).exists());
    let first = noted.lock().unwrap()[0].clone().unwrap();
    assert_eq!((&first.slot, first.done), (&whole.slot, known.done));
    // Another beginning is noticed, and not gone on with.
    stage(cut(), None).await.unwrap_err();
    let wrong = Partial {
        prefix: Digest([0; 32]),
        ..last().unwrap()
    };
    let other = stage(large_source(large.len(), None), Some(wrong)).await;
    assert!(matches!(other, Err(SideError::TryAgain(_))), "{other:?}");
    assert_eq!(last(), None);
    assert!(fs::read(far.own("staging", &whole.slot)).unwrap() == large);
    assert_eq!(whole.digest, Some(blake3_of(&large)));
    let keep = HashSet::from([whole.slot.clone()]);
    far.side.clear_staging(&keep).await.unwrap();
    assert!(!far.side.is_staged(&staged.slot).await.unwrap());
    assert!(far.side.is_staged(&whole.slot).await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_places_and_renames_without_replacing_anything() {
    let Some(far) = Far::new("sftp places").await else {
        return;
    };
    let staged = far.stage("ours").await.unwrap();
    far.write("a", "a stranger's");
    let place = async |at: &str| far.side.place(&staged.slot, &staged.entry, &path(at)).await;
    assert_eq!(place("a").await, Ok(Put::Taken));
    assert_eq!(fs::read(far.at("a")).unwrap(), b"a stranger's");
    let verified = far.side.verify(&path("a"), &staged.entry).await;
    assert_eq!(verified, Ok(None));
    let lost = place("missing/c").await;
    assert!(matches!(lost, Err(Undone::NotDone(SideError::TryAgain(_)))));
    assert_eq!(place("b").await, Ok(Put::Done));
    assert!(!far.own("staging", &staged.slot).exists());
    assert_eq!(far.seen("b").await.stamp, staged.entry.stamp);

    let rename = async |from: &str, to: &str| far.side.rename(&path(from), &path(to)).await;
    assert_eq!(rename("a", "b").await, Ok(Put::Taken));
    assert_eq!(rename("a", "c").await, Ok(Put::Done));
    assert_eq!(fs::read(far.at("c")).unwrap(), b"a stranger's");
    assert_eq!(
        rename("a", "d").await,
        Err(Undone::NotDone(SideError::Missing))
    );
    // Of one that was written just now, second and length tell nothing: the content decides.
    fs::write(far.at("young"), "young").unwrap();
    assert_eq!(rename("young", "young still").await, Ok(Put::Done));
    assert_eq!(fs::read(far.at("young still")).unwrap(), b"young");
    fs::remove_file(far.at("young still")).unwrap();
    far.write("folder/in it", "x");
    fs::create_dir(far.at("taken")).unwrap();
    assert_eq!(rename("folder", "taken").await, Ok(Put::Taken));
    assert_eq!(rename("folder", "moved").await, Ok(Put::Done));
    assert_eq!(fs::read(far.at("moved/in it")).unwrap(), b"x");
    let mut names = far.side.names(&RelPath::root()).await.unwrap();
    names.sort();
    assert_eq!(names, ["b", "c", "moved", "taken"]);
    // Nothing of a rename stays in the room.
    assert_eq!(far.side.shelf().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_keeps_what_is_captured_and_its_names_from_late_requests() {
    let Some(far) = Far::new("sftp captures").await else {
        return;
    };
    far.write("d/a", "old");
    let seen = far.seen("d/a").await;
    let capture = async |at: &str, spare: &str| far.side.capture(&path(at), spare).await;
    assert_eq!(capture("d/a", "s1").await, Ok(Captured::Taken));
    assert_eq!(capture("d/a", "s2").await, Ok(Captured::Nothing));
    assert_eq!(fs::read(far.own("spares", "s1")).unwrap(), b"old");
    assert_eq!(far.side.check("s1", &seen).await, Ok(Checked::Same));
    assert_eq!(
        far.side.check("s1", &Entry::folder()).await,
        Ok(Checked::Other)
    );
    assert_eq!(far.side.check("s9", &seen).await, Ok(Checked::Nothing));
    far.write("d/a", "new meanwhile");
    assert_eq!(far.side.put_back("s1", &path("d/a")).await, Ok(Put::Taken));
    fs::remove_file(far.at("d/a")).unwrap();
    assert_eq!(far.side.put_back("s1", &path("d/a")).await, Ok(Put::Done));
    assert_eq!(fs::read(far.at("d/a")).unwrap(), b"old");

    // Nothing was captured under this name, and nothing will be any more: no file, and no folder.
    assert!(far.side.keeps_names_from_late_requests());
    let fence = async |names: &[&str]| {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        far.side
            .fence_spare(&path("d/a"), Kind::File, &names, "anew")
            .await
            .unwrap()
    };
    assert_eq!(fence(&["f1"]).await, None);
    assert!(capture("d/a", "f1").await.is_err());
    assert!(capture("d", "f1").await.is_err());
    assert_eq!(fs::read(far.at("d/a")).unwrap(), b"old");
    assert_eq!(fence(&["f1"]).await, None, "and that is known again");
    assert!(far.side.is_empty_spare("f1").await.unwrap());
    // What was captured after all has another name from then on.
    assert_eq!(capture("d/a", "f2").await, Ok(Captured::Taken));
    assert_eq!(fence(&["f1", "f2"]).await.as_deref(), Some("anew"));
    assert!(far.side.put_back("f2", &path("d/a")).await.is_err());
    assert_eq!(fs::read(far.own("spares", "anew")).unwrap(), b"old");
    // The same of what was staged.
    let staged = far.stage("ours").await.unwrap();
    let fenced = far
        .side
        .fence_staged(std::slice::from_ref(&staged.slot), "again")
        .await;
    assert_eq!(fenced.unwrap().as_deref(), Some("again"));
    let late = far
        .side
        .place(&staged.slot, &staged.entry, &path("late"))
        .await;
    assert_eq!(late, Err(Undone::NotDone(SideError::Missing)));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_makes_folders_once_and_removes_only_empty_ones() {
    let Some(far) = Far::new("sftp folders").await else {
        return;
    };
    assert_eq!(far.side.make_folder(&path("d")).await, Ok(Put::Done));
    assert_eq!(far.side.make_folder(&path("d")).await, Ok(Put::Done));
    far.write("f", "x");
    assert_eq!(far.side.make_folder(&path("f")).await, Ok(Put::Taken));
    assert!(far.side.make_folder(&path("x/y")).await.is_err());
    far.write("d/stranger", "x");
    let remove = async || far.side.remove_folder(&path("d"), "s").await;
    assert_eq!(
        remove().await,
        Ok(FolderGone::Kept(vec!["stranger".into()]))
    );
    fs::remove_file(far.at("d/stranger")).unwrap();
    assert_eq!(remove().await, Ok(FolderGone::Gone));
    assert_eq!(remove().await, Ok(FolderGone::Gone));
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_patches_a_copy_and_never_what_stands_there() {
    let Some(far) = Far::new("sftp patches").await else {
        return;
    };
    assert!(far.side.patches());
    let old = "0123456789".repeat(100_000);
    far.write("large", &old);
    let seen = far.seen("large").await;
    let mut new = old.clone().into_bytes();
    new[500_000..500_004].copy_from_slice(b"ABCD");
    new.extend_from_slice(b"and more");
    let patch = Patch {
        size: new.len() as u64,
        edited: None,
        digest: blake3_of(&new),
        ranges: vec![
            Stretch {
                from: 500_000,
                length: 4,
            },
            Stretch {
                from: 1_000_000,
                length: 8,
            },
        ],
    };
    let bytes = Bytes::from(new.clone());
    let content = move |part: Stretch| {
        let piece = bytes.slice(part.from as usize..(part.from + part.length) as usize);
        stream::iter([Ok(piece)]).boxed()
    };
    let staged = far
        .side
        .patch(&path("large"), &seen, &patch, &content)
        .await;
    let staged = staged.unwrap();
    assert!(fs::read(far.own("staging", &staged.slot)).unwrap() == new);
    assert!(fs::read(far.at("large")).unwrap() == old.as_bytes());
    // One that was written just now may be written again within the second that it bears.
    fs::write(far.at("large"), &old).unwrap();
    let young = far.seen("large").await;
    let patched = far
        .side
        .patch(&path("large"), &young, &patch, &content)
        .await;
    assert!(matches!(patched, Err(SideError::Changed(_))), "{patched:?}");
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "needs a server: .ci/servers"]
async fn sftp_stops_transfers_and_finishes_what_is_being_placed() {
    let Some(far) = Far::new("sftp stops").await else {
        return;
    };
    far.write("a", "old");
    let seen = far.seen("a").await;
    let staged = far.stage("new").await.unwrap();
    far.stop.ask();
    assert_eq!(far.read("a", &seen, 0).await, Err(SideError::Stopped));
    assert_eq!(far.stage("more").await.unwrap_err(), SideError::Stopped);
    let captured = far.side.capture(&path("a"), "s1").await;
    assert_eq!(captured, Ok(Captured::Taken));
    assert_eq!(far.side.check("s1", &seen).await, Ok(Checked::Same));
    let placed = far
        .side
        .place(&staged.slot, &staged.entry, &path("a"))
        .await;
    assert_eq!(placed, Ok(Put::Done));
}
