//! The ledger as the passes use it: rows that come back as they went in, scopes, intents, and failures.

use katabatic_core::{
    Agreement, Base, Deed, Digest, EditTime, Entry, ItemOutcome, Kind, PerSide, RelPath,
    RunCommand, RunOutcome, Side, SpareCause, Stamp, Toll, View,
};

use super::intents::{self, Intent, Version};
use super::pauses;
use super::rows::{self, Agreed, LaneRow, Open, Origin};
use super::runs::{self, Counts, RunItem};
use super::spare_rows::{self, Spare};
use super::{LaneKey, Ledger};
use katabatic_core::known_root::KnownRoot;

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn opened(folder: &std::path::Path) -> Result<Ledger, katabatic_core::Error> {
    Ledger::open(folder.join("ledger.db"), |_| Ok(None))
}

async fn ledger() -> (tempfile::TempDir, Ledger, LaneKey) {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path()).unwrap();
    let lane = lane(&ledger, "a").await;
    (dir, ledger, lane.key)
}

async fn lane(ledger: &Ledger, id: &'static str) -> LaneRow {
    ledger
        .write(|connection| rows::ensure_lane(connection, id))
        .await
        .unwrap();
    ledger
        .read(|connection| rows::lane_of(connection, id))
        .unwrap()
        .unwrap()
}

fn agreed(at: &str, content: &str) -> Agreed {
    Agreed {
        path: path(at),
        base: Base {
            kind: Kind::File,
            size: content.len() as u64,
            content: Some(Digest::of(content.as_bytes())),
            stamps: PerSide {
                near: Stamp::new("near stamp"),
                far: Stamp::new("far stamp"),
            },
            listed: PerSide {
                near: true,
                far: false,
            },
            away: None,
        },
        edited: Some(EditTime(-5)),
        near_handle: Some("7".into()),
        far_handle: None,
        unproven: false,
        origin: Origin::AsBefore,
    }
}

fn open(at: &str, state: Agreement) -> Open {
    let far = Entry {
        received: Some(EditTime(9)),
        ..Entry::file(4, Stamp::new("other"))
    };
    Open {
        path: path(at),
        near: View::Absent,
        far: View::Present(far),
        state,
        reason: "because".into(),
    }
}

fn all(ledger: &Ledger, lane: LaneKey, within: &str) -> Vec<rows::LedgerRow> {
    let mut found = Vec::new();
    let each = |row| {
        found.push(row);
        true
    };
    ledger
        .read(|connection| rows::each_row(connection, lane, &path(within), each))
        .unwrap();
    found
}

fn names(rows: &[rows::LedgerRow]) -> Vec<&str> {
    rows.iter().map(|row| row.path.as_str()).collect()
}

#[tokio::test]
async fn what_was_agreed_comes_back_in_tree_order() {
    let (_dir, ledger, lane) = ledger().await;
    for at in ["b", "a/z", "a b", "a", "a/b/c", "a\u{1}x"] {
        let agreed = agreed(at, at);
        ledger
            .write(move |connection| rows::agree(connection, lane, &agreed))
            .await
            .unwrap();
    }
    let found = all(&ledger, lane, "");
    assert_eq!(names(&found), ["a", "a/b/c", "a/z", "a\u{1}x", "a b", "b"]);
    assert_eq!(
        names(&all(&ledger, lane, "a")),
        ["a", "a/b/c", "a/z"],
        "a folder and what lies in it, no more"
    );
    let row = ledger
        .read(|connection| rows::row(connection, lane, &path("a/z")))
        .unwrap()
        .unwrap();
    assert_eq!(row.base, Some(agreed("a/z", "a/z").base));
    assert_eq!(row.edited, Some(EditTime(-5)));
    let View::Present(entry) = row.last_seen(Side::Far) else {
        panic!("it was agreed on")
    };
    assert_eq!((entry.stamp.as_str(), entry.size), ("far stamp", 3));
    ledger
        .write(move |connection| rows::forget(connection, lane, &path("a/z")))
        .await
        .unwrap();
    assert!(
        ledger
            .read(|connection| rows::row(connection, lane, &path("a/z")))
            .unwrap()
            .is_none()
    );
}

#[tokio::test]
async fn a_removal_that_is_remembered_is_absent_on_its_side() {
    let (_dir, ledger, lane) = ledger().await;
    let mut kept = agreed("d", "");
    kept.base.away = Some(Side::Far);
    ledger
        .write(move |connection| rows::agree(connection, lane, &kept))
        .await
        .unwrap();
    let row = ledger
        .read(|connection| rows::row(connection, lane, &path("d")))
        .unwrap()
        .unwrap();
    assert_eq!(row.last_seen(Side::Far), View::Absent);
    assert!(row.last_seen(Side::Near).entry().is_some());
}

#[tokio::test]
async fn what_is_open_closes_when_a_pass_finds_it_settled() {
    let (_dir, ledger, lane) = ledger().await;
    ledger
        .write(move |connection| {
            rows::agree(connection, lane, &agreed("a/agreed", "x"))?;
            for at in ["a/agreed", "a/new", "b/new"] {
                rows::note_open(connection, lane, 1, &open(at, Agreement::Conflict))?;
            }
            rows::close_pass(connection, lane, 1, Some(EditTime(100)), &[RelPath::root()])
        })
        .await
        .unwrap();
    let found = all(&ledger, lane, "");
    assert_eq!(names(&found), ["a/agreed", "a/new", "b/new"]);
    assert!(
        found
            .iter()
            .all(|row| row.open == Some((Agreement::Conflict, "because".into())))
    );
    assert_eq!(found[1].last_seen(Side::Near), View::Absent);
    let View::Present(far) = found[1].last_seen(Side::Far) else {
        panic!("it was seen there")
    };
    assert_eq!(
        (far.stamp.as_str(), far.received),
        ("other", Some(EditTime(9)))
    );

    // A pass over one folder says nothing about the others.
    ledger
        .write(move |connection| rows::close_pass(connection, lane, 2, None, &[path("a")]))
        .await
        .unwrap();
    let found = all(&ledger, lane, "");
    assert_eq!(
        names(&found),
        ["a/agreed", "b/new"],
        "what was never agreed on and is not open is no row"
    );
    assert!(found[0].open.is_none() && found[0].far_seen.is_none());
    assert!(found[1].open.is_some());
    let row = self::lane(&ledger, "a").await;
    assert_eq!(
        (row.pass, row.seen_at),
        (2, Some(EditTime(100))),
        "the whole lane was not looked at again"
    );
}

#[tokio::test]
async fn agreeing_closes_and_listing_is_remembered() {
    let (_dir, ledger, lane) = ledger().await;
    ledger
        .write(move |connection| {
            rows::note_open(connection, lane, 1, &open("a", Agreement::Stuck))?;
            rows::agree(connection, lane, &agreed("a", "x"))?;
            rows::mark_listed(connection, lane, &path("a"))
        })
        .await
        .unwrap();
    let row = ledger
        .read(|connection| rows::row(connection, lane, &path("a")))
        .unwrap()
        .unwrap();
    assert!(row.open.is_none());
    assert!(row.base.unwrap().listed.far);
}

#[tokio::test]
async fn lanes_do_not_see_each_other_and_can_be_forgotten() {
    let (_dir, ledger, first) = ledger().await;
    let second = lane(&ledger, "b").await.key;
    assert_ne!(first, second);
    for lane in [first, second] {
        ledger
            .write(move |connection| rows::agree(connection, lane, &agreed("x", "x")))
            .await
            .unwrap();
    }
    ledger
        .write(move |connection| {
            rows::set_near_root(connection, first, &KnownRoot::Inode(1))?;
            rows::forget_lane(connection, "a")
        })
        .await
        .unwrap();
    assert!(all(&ledger, first, "").is_empty());
    assert_eq!(all(&ledger, second, "").len(), 1);
    assert_eq!(lane(&ledger, "a").await.near_root, None);
}

#[tokio::test]
async fn intents_stay_until_they_have_an_outcome() {
    let (_dir, ledger, lane) = ledger().await;
    let version = Version::of(&Entry::file(3, Stamp::new("s")), Some(Digest::of(b"abc")));
    assert_eq!(version.digest(), Some(Digest::of(b"abc")));
    assert_eq!(version.entry().content, Some(Digest::of(b"abc")));
    assert!(Version::of(&Entry::folder(), None).entry().kind == Kind::Folder);
    let intent = Intent {
        spare: Some("slot".into()),
        spare_before: vec!["an earlier slot".into()],
        old: Some(version),
        source_listed: true,
        ..Intent::on(Side::Far, Some(SpareCause::RemovedFrom(Side::Near)))
    };
    let noted = intent.clone();
    let number = ledger
        .write(move |connection| intents::note(connection, lane, &path("a/b"), &noted))
        .await
        .unwrap();
    let unfinished = ledger
        .read(|connection| intents::unfinished(connection, lane))
        .unwrap();
    assert_eq!(unfinished, [(number, path("a/b"), intent)]);
    ledger.write_later(move |connection| intents::done(connection, number));
    ledger.flush().await.unwrap();
    assert!(
        ledger
            .read(|connection| intents::unfinished(connection, lane))
            .unwrap()
            .is_empty()
    );
}

#[tokio::test]
async fn runs_add_up_for_the_brake_and_are_shown_newest_first() {
    let (_dir, ledger, lane) = ledger().await;
    let begin = async |command: RunCommand, at: i64| {
        ledger
            .write(move |connection| {
                runs::begin(connection, lane, "scores", &command, EditTime(at))
            })
            .await
            .unwrap()
    };
    let (old, new, settled) = (
        begin(RunCommand::Sync, 10).await,
        begin(RunCommand::Sync, 50).await,
        begin(RunCommand::Settle, 60).await,
    );
    for (run, removed) in [(old, 5), (new, 2), (settled, 1)] {
        let toll = Toll {
            removed,
            replaced: 1,
        };
        ledger
            .write(move |connection| runs::count_toll(connection, run, toll))
            .await
            .unwrap();
    }
    let toll = ledger
        .read(|connection| runs::toll_since(connection, lane, EditTime(50)))
        .unwrap();
    assert_eq!(
        toll,
        Toll {
            removed: 2,
            replaced: 1
        },
        "what a person settled by hand does not count"
    );
    let item = RunItem {
        path: "a".into(),
        deed: Deed::Carry(Side::Far),
        reason: String::new(),
        bytes: 3,
        outcome: ItemOutcome::DONE,
        at: Some(EditTime(52)),
    };
    let (first, second) = (
        item.clone(),
        RunItem {
            path: "b".into(),
            ..item.clone()
        },
    );
    ledger
        .write(move |connection| {
            runs::add_item(connection, new, &first)?;
            runs::add_item(connection, new, &second)?;
            let counts = Counts {
                files_up: 2,
                bytes_up: 6,
                ..Counts::default()
            };
            runs::end(
                connection,
                new,
                EditTime(55),
                &RunOutcome::AllSettled,
                &counts,
            )
        })
        .await
        .unwrap();
    let items = ledger
        .read(|connection| runs::items(connection, new))
        .unwrap();
    assert_eq!(
        items
            .iter()
            .map(|item| (item.path.as_str(), item.at))
            .collect::<Vec<_>>(),
        [("a", Some(EditTime(52))), ("b", Some(EditTime(52)))]
    );
    let last = ledger
        .read(|connection| runs::last(connection, Some("scores"), 2))
        .unwrap();
    assert_eq!(
        last.iter().map(|run| run.number).collect::<Vec<_>>(),
        [settled, new]
    );
    assert_eq!((last[1].counts.files_up, last[1].counts.removed), (2, 2));
    assert!(
        ledger
            .read(|connection| runs::last(connection, Some("other"), 9))
            .unwrap()
            .is_empty()
    );
    let cut_off = ledger
        .read(|connection| runs::run(connection, old))
        .unwrap()
        .unwrap();
    assert_eq!((cut_off.ended, cut_off.outcome), (None, None));
}

#[tokio::test]
async fn a_spare_is_listed_once_however_often_it_is_found() {
    let (_dir, ledger, lane) = ledger().await;
    let spare = Spare {
        place: None,
        lane_id: None,
        stamp: Some(Stamp::new("far stamp")),
        number: 0,
        lane,
        lane_name: "scores".into(),
        side: Side::Far,
        path: path("a"),
        slot: "slot".into(),
        folder: false,
        size: 3,
        content: Some(Digest::of(b"abc")),
        edited: None,
        taken_at: EditTime(1),
        run: Some(4),
        cause: SpareCause::RemovedFrom(Side::Near),
    };
    for _ in 0..2 {
        let spare = spare.clone();
        ledger
            .write(move |connection| spare_rows::add(connection, &spare))
            .await
            .unwrap();
    }
    let all = ledger
        .read(|connection| spare_rows::all(connection, None))
        .unwrap();
    assert_eq!(
        all,
        [Spare {
            number: all[0].number,
            ..spare
        }]
    );
    let number = all[0].number;
    assert_eq!(
        ledger
            .read(|connection| spare_rows::of_run(connection, 4))
            .unwrap()
            .len(),
        1
    );
    ledger
        .write(move |connection| spare_rows::forget(connection, number))
        .await
        .unwrap();
    assert!(
        ledger
            .read(|connection| spare_rows::spare(connection, number))
            .unwrap()
            .is_none()
    );
}

#[tokio::test]
async fn after_a_write_that_failed_nothing_more_is_written() {
    let (_dir, ledger, lane) = ledger().await;
    ledger.write_later(|connection| {
        connection
            .execute("INSERT INTO nowhere VALUES (1)", [])
            .map(drop)
    });
    ledger.write_later(move |connection| rows::agree(connection, lane, &agreed("a", "x")));
    let error = ledger.flush().await.unwrap_err();
    assert!(error.why.contains("nowhere"), "{error:?}");
    assert!(
        all(&ledger, lane, "").is_empty(),
        "a later write must not stand without the one before it"
    );
}

#[tokio::test]
async fn a_ledger_of_a_newer_version_is_not_opened() {
    let dir = tempfile::tempdir().unwrap();
    drop(opened(dir.path()).unwrap());
    let connection = rusqlite::Connection::open(dir.path().join("ledger.db")).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    let Err(error) = opened(dir.path()) else {
        panic!("it was opened")
    };
    assert!(error.why.contains("newer version"), "{error:?}");
    use std::os::unix::fs::PermissionsExt;
    let mode = std::fs::metadata(dir.path().join("ledger.db"))
        .unwrap()
        .permissions()
        .mode();
    assert_eq!(
        mode & 0o077,
        0,
        "nobody else reads the names of a person's files"
    );
}

/// A token stands for the far side as it was: no row that says more of it is written beside it.
#[tokio::test]
async fn a_token_goes_with_the_first_row_that_is_newer() {
    let (_dir, ledger, lane) = ledger().await;
    let known = agreed("a", "first");
    let first = known.clone();
    let setup = move |connection: &_| rows::agree(connection, lane, &first);
    ledger.write(setup).await.unwrap();

    let token_after = async |name: &str, change: Change| {
        ledger
            .write(move |connection| {
                rows::set_token(connection, lane, Some("t"), None)?;
                change(connection, lane)
            })
            .await
            .unwrap();
        let row = ledger.read(|connection| rows::lane_of(connection, "a"));
        (name.to_owned(), row.unwrap().unwrap().token)
    };
    let shed = Agreed {
        base: Base {
            stamps: PerSide {
                near: Stamp::of(katabatic_core::StampKind::Stub, "5"),
                far: known.base.stamps.far.clone(),
            },
            ..known.base.clone()
        },
        unproven: true,
        ..known.clone()
    };
    let with_far = |far: &str, origin| Agreed {
        base: Base {
            stamps: PerSide {
                near: known.base.stamps.near.clone(),
                far: Stamp::new(far),
            },
            ..known.base.clone()
        },
        origin,
        ..known.clone()
    };
    let newer = with_far("newer", Origin::Here);
    let from_there = with_far("came from there", Origin::There);
    let again = known.clone();
    let changes: Vec<(&str, bool, Change)> = vec![
        (
            "as it was",
            true,
            Box::new(move |c, lane| rows::agree(c, lane, &again)),
        ),
        (
            "another version here",
            true,
            Box::new(move |c, lane| rows::agree(c, lane, &shed)),
        ),
        (
            "listed",
            true,
            Box::new(|c, lane| rows::mark_listed(c, lane, &path("a"))),
        ),
        (
            "a newer version came from there",
            true,
            Box::new(move |c, lane| rows::agree(c, lane, &from_there)),
        ),
        (
            "another version there",
            false,
            Box::new(move |c, lane| rows::agree(c, lane, &newer)),
        ),
        (
            "new",
            false,
            Box::new(|c, lane| rows::agree(c, lane, &agreed("b", "new"))),
        ),
        (
            "seen there",
            false,
            Box::new(|c, lane| rows::note_open(c, lane, 1, &open("c", Agreement::Stuck))),
        ),
        (
            "gone there",
            false,
            Box::new(|c, lane| {
                let gone = Open {
                    far: View::Absent,
                    ..open("a", Agreement::Waiting(Side::Near))
                };
                rows::note_open(c, lane, 1, &gone)
            }),
        ),
        (
            "renamed",
            false,
            Box::new(|c, lane| rows::rename(c, lane, &path("b"), &path("d"), Side::Far)),
        ),
        (
            "forgotten",
            false,
            Box::new(|c, lane| rows::forget(c, lane, &path("d"))),
        ),
    ];
    for (name, stays, change) in changes {
        let (name, token) = token_after(name, change).await;
        assert_eq!(token.is_some(), stays, "{name}");
    }
}

type Change = Box<dyn FnOnce(&rusqlite::Connection, LaneKey) -> rusqlite::Result<()> + Send>;

#[tokio::test]
async fn the_pause_of_a_lane_follows_its_new_name() {
    let (_dir, ledger, _lane) = ledger().await;
    let renamed = ledger.write(|connection| {
        pauses::set(connection, "scores", Some(EditTime(7)))?;
        pauses::set(connection, "other", None)?;
        rows::rename_lane(connection, "no such id", "scores", "music")?;
        pauses::all(connection)
    });
    let pauses = renamed.await.unwrap();
    let told: Vec<_> = pauses
        .iter()
        .map(|(name, until)| (name.as_str(), *until))
        .collect();
    assert_eq!(told, [("music", Some(EditTime(7))), ("other", None)]);
}
