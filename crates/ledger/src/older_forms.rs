//! What older versions of the tool noted in words, as the facts that it was.
//!
//! Until the ledger's twelfth form, why a version was kept, what a run did with a path, and how it all ended stood there as
//! sentences; and a stamp's text began with signs for what it was. This is the only place that reads them, once, when such
//! a ledger is opened. What is not known stays in its words.

use katabatic_core::{
    Agreement, Deed, DroppedFor, ItemEnding, ItemOutcome, KeptFor, RunCommand, RunOutcome, Side,
    SpareCause, Stamp, StampKind,
};
use rusqlite::{Connection, params};
use serde_json::Value;

use super::facts::Fact;
use katabatic_core::known_root::KnownRoot;

const SIDES: [Side; 2] = [Side::Near, Side::Far];

/// Turns the words of a ledger into facts.
pub(super) fn translate(connection: &Connection) -> rusqlite::Result<()> {
    stamps(connection)?;
    for column in ["near_root", "far_root"] {
        let select = format!("SELECT number, {column} FROM lane WHERE {column} IS NOT NULL");
        each(connection, &select, |number, words| {
            let sql = format!("UPDATE lane SET {column} = ?2 WHERE number = ?1");
            connection.execute(&sql, params![number, Fact(root(&words))])
        })?;
    }
    each(
        connection,
        "SELECT number, cause FROM spare",
        |number, words| {
            let sql = "UPDATE spare SET cause = ?2 WHERE number = ?1";
            connection.execute(sql, params![number, Fact(&spare_cause(&words))])
        },
    )?;
    each(
        connection,
        "SELECT number, outcome FROM run WHERE outcome IS NOT NULL",
        |number, words| {
            let sql = "UPDATE run SET outcome = ?2 WHERE number = ?1";
            connection.execute(sql, params![number, Fact(&run_outcome(&words))])
        },
    )?;
    items(connection)?;
    each(
        connection,
        "SELECT 0, state FROM row WHERE state IS NOT NULL GROUP BY state",
        |_, words| {
            let sql = "UPDATE row SET state = ?2 WHERE state = ?1";
            connection.execute(sql, params![words, Fact(agreement(&words))])
        },
    )?;
    each(
        connection,
        "SELECT number, text FROM intent",
        |number, text| {
            let sql = "UPDATE intent SET text = ?2 WHERE number = ?1";
            connection.execute(sql, params![number, intent(&text).unwrap_or(text)])
        },
    )?;
    Ok(())
}

/// Turns what runs were asked for, which stood there in words up to the thirteenth form, into facts.
pub(super) fn run_commands(connection: &Connection) -> rusqlite::Result<()> {
    each(
        connection,
        "SELECT 0, command FROM run GROUP BY command",
        |_, words| {
            let sql = "UPDATE run SET command = ?2 WHERE command = ?1";
            connection.execute(sql, params![words, Fact(&run_command(&words))])
        },
    )
}

fn run_command(words: &str) -> RunCommand {
    match words {
        "sync" => RunCommand::Sync,
        "fetch" => RunCommand::Fetch,
        "shed" => RunCommand::Shed,
        "settle" => RunCommand::Settle,
        "sweep" => RunCommand::Sweep,
        "undo" => RunCommand::Undo,
        "choose" => RunCommand::Choose,
        "recover" => RunCommand::Recover,
        "open" => RunCommand::Open,
        // Where a name itself holds the word between the two places, nobody knows any more where one ends.
        words => RunCommand::Words(words.to_owned()),
    }
}

/// Row by row, since nothing finds an item by its words.
fn items(connection: &Connection) -> rusqlite::Result<()> {
    let mut select =
        connection.prepare("SELECT run, number, deed, remark FROM run_item WHERE ending = ''")?;
    let mut update = connection.prepare(
        "UPDATE run_item SET deed = ?3, ending = ?4, remark = ?5 WHERE run = ?1 AND number = ?2",
    )?;
    let all: Vec<(i64, i64, String, String)> = select
        .query_map([], |row| {
            Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
        })?
        .filter_map(Result::ok)
        .collect();
    for (run, number, words, result) in all {
        let ItemOutcome { ending, remark } = item_outcome(&result);
        update.execute(params![
            run,
            number,
            Fact(deed(&words)),
            Fact(ending),
            remark
        ])?;
    }
    Ok(())
}

/// A stamp began with `?` where it was in doubt, and then with `stub:` or `date ` where it was one of those.
fn stamps(connection: &Connection) -> rusqlite::Result<()> {
    connection.execute_batch(
        "UPDATE row SET near_doubt = COALESCE(near_stamp GLOB '[?]*', 0),
                        near_stub = COALESCE(ltrim(near_stamp, '?') GLOB 'stub:*', 0),
                        far_doubt = COALESCE(far_stamp GLOB '[?]*', 0);
         UPDATE row SET near_stamp = ltrim(near_stamp, '?'), far_stamp = ltrim(far_stamp, '?');",
    )?;
    for (table, column) in [
        ("row", "near_stamp"),
        ("row", "far_stamp"),
        ("row", "near_seen_stamp"),
        ("row", "far_seen_stamp"),
        ("spare", "stamp"),
        ("partial", "source"),
    ] {
        let bare = format!("ltrim({column}, '?')");
        let sql = format!(
            "UPDATE {table} SET {column} = CASE WHEN {column} GLOB '[?]*' THEN '?' ELSE '' END
                 || CASE WHEN {bare} GLOB 'stub:*' THEN 's:' || substr({bare}, 6)
                         WHEN {bare} GLOB 'date *' THEN 'd:' || substr({bare}, 6)
                         ELSE 'v:' || {bare} END
             WHERE {column} IS NOT NULL"
        );
        connection.execute(&sql, [])?;
    }
    Ok(())
}

fn stamp(text: &str) -> Stamp {
    let bare = text.trim_start_matches('?');
    let stamp = match (bare.strip_prefix("stub:"), bare.strip_prefix("date ")) {
        (Some(shown), _) => Stamp::of(StampKind::Stub, shown),
        (_, Some(date)) => Stamp::of(StampKind::Date, date),
        (None, None) => Stamp::new(bare),
    };
    match text.starts_with('?') {
        true => stamp.doubted(),
        false => stamp,
    }
}

/// A root was known by `mark M at I.B`, `mark M`, `inode N` or its address.
fn root(words: &str) -> KnownRoot {
    let inode = words.strip_prefix("inode ").map(str::parse);
    match (words.strip_prefix("mark "), inode) {
        (Some(mark), _) => match mark.split_once(" at ") {
            Some((mark, folder)) => KnownRoot::Marked {
                mark: mark.to_owned(),
                folder: Some(folder.to_owned()),
            },
            None => KnownRoot::Marked {
                mark: mark.to_owned(),
                folder: None,
            },
        },
        (None, Some(Ok(inode))) => KnownRoot::Inode(inode),
        (None, _) => KnownRoot::Address(words.to_owned()),
    }
}

/// What cannot be read is left to whoever reads it next, and calls the ledger damaged then.
fn each(
    connection: &Connection,
    select: &str,
    mut put: impl FnMut(i64, String) -> rusqlite::Result<usize>,
) -> rusqlite::Result<()> {
    let all: Vec<(i64, String)> = connection
        .prepare(select)?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
        .filter_map(Result::ok)
        .collect();
    for (number, words) in all {
        put(number, words)?;
    }
    Ok(())
}

/// An intent said why in words, and the versions in it had such stamps.
fn intent(text: &str) -> Option<String> {
    let mut intent: Value = serde_json::from_str(text).ok()?;
    for at in ["/old", "/new", "/source", "/member/1"] {
        if let Some(known) = intent.pointer_mut(&format!("{at}/stamp")) {
            *known = stamp(known.as_str()?).stored().into();
        }
    }
    let why = intent.as_object_mut()?.remove("why")?;
    let cause = match why.as_str()? {
        // What is put where nothing was leaves no spare.
        "" => None,
        words => Some(spare_cause(words)),
    };
    intent["cause"] = serde_json::to_value(cause).ok()?;
    Some(intent.to_string())
}

fn spare_cause(words: &str) -> SpareCause {
    let known = SIDES.into_iter().find_map(|side| {
        let at = side.here_or_there();
        Some(match words {
            _ if words == format!("replaced by the version from {at}") => {
                SpareCause::ReplacedFrom(side)
            }
            _ if words == format!("removed {at}") => SpareCause::RemovedFrom(side),
            _ if words == format!("makes way for something of another kind {at}") => {
                SpareCause::MadeWayFor(side)
            }
            _ if words == format!("moved {at}") => SpareCause::MovedOn(side),
            _ if words
                == format!("yielded to the version from {at} when the conflict was settled") =>
            {
                SpareCause::YieldedTo(side)
            }
            _ => return None,
        })
    });
    if let Some(known) = known {
        return known;
    }
    if let Some(why) = words.strip_prefix("dropped: ") {
        return SpareCause::Dropped(dropped_for(why));
    }
    let rule = words
        .strip_prefix("removed by hand: the rule ")
        .and_then(|rest| rest.strip_suffix(" leaves it out"));
    let run = words
        .strip_prefix("made way when run ")
        .and_then(|rest| rest.strip_suffix(" was taken back")?.parse().ok());
    let cannot_tell =
        words.strip_prefix("whether a program has it open cannot be told on this disk: ");
    match (rule, run, cannot_tell) {
        (Some(rule), ..) => return SpareCause::SweptBy(rule.to_owned()),
        (_, Some(run), _) => return SpareCause::MadeWayForRun(run),
        (.., Some(why)) => return SpareCause::Kept(KeptFor::CannotTell(why.to_owned())),
        (None, None, None) => {}
    }
    match words {
        "a new version beside an older one" => SpareCause::PutBeside,
        "kept beside the other version" => SpareCause::KeptBeside,
        "removed by hand" => SpareCause::RemovedByHand,
        "replaced by hand" => SpareCause::ReplacedByHand,
        "moved by hand" => SpareCause::MovedByHand,
        "met while something else was carried" => SpareCause::Met,
        "found among the spares, and in no list" => SpareCause::Found,
        "a program had it open when its content was dropped here" => {
            SpareCause::Kept(KeptFor::Open)
        }
        "it was written to while its content was dropped here" => {
            SpareCause::Kept(KeptFor::Written)
        }
        "its content was about to be dropped here, and went or changed there" => {
            SpareCause::Kept(KeptFor::ChangedThere)
        }
        "its content was about to be dropped here, and the far side could not be asked again" => {
            SpareCause::Kept(KeptFor::NotAsked)
        }
        words => SpareCause::Told(words.to_owned()),
    }
}

fn dropped_for(why: &str) -> DroppedFor {
    let moved_to = why
        .strip_prefix("it was moved to ")
        .and_then(|rest| rest.strip_suffix(" there, which is not taken"));
    match (why, moved_to) {
        (_, Some(to)) => DroppedFor::MovedOut(to.to_owned()),
        ("its content stays there", _) => DroppedFor::Stub,
        ("its folder is not taken any more", _) => DroppedFor::NotTaken,
        ("the stub of what came", _) => DroppedFor::Content,
        ("an older stub", _) => DroppedFor::NewerStub,
        ("the stub of what was removed there", _) => DroppedFor::Removal,
        ("the stub of a lane that is taken away", _) => DroppedFor::LaneGone,
        (why, None) => DroppedFor::Told(why.to_owned()),
    }
}

fn run_outcome(words: &str) -> RunOutcome {
    let took_back = words
        .strip_prefix("took back ")
        .and_then(|rest| rest.split(' ').next()?.replace(',', "").parse().ok());
    match (words, took_back) {
        (_, Some(files)) => RunOutcome::TookBack(files),
        ("all settled", _) => RunOutcome::AllSettled,
        ("done", _) => RunOutcome::Done,
        ("dropped", _) => RunOutcome::Dropped,
        ("removed what rules leave out", _) => RunOutcome::Swept,
        ("needs a person", _) => RunOutcome::NeedsPerson,
        ("stopped by Ctrl-C", _) => RunOutcome::Stopped,
        (words, None) => RunOutcome::Failed(words.to_owned()),
    }
}

fn deed(words: &str) -> Deed {
    let on_a_side = SIDES.into_iter().find_map(|side| {
        let (at, towards) = (side.here_or_there(), side.towards());
        Some(match words {
            _ if words == format!("carry {towards}") => Deed::Carry(side),
            _ if words == format!("carry {towards} beside") => Deed::CarryBeside(side),
            _ if words == format!("replace {at}") => Deed::Replace(side),
            _ if words == format!("make folder {at}") => Deed::MakeFolder(side),
            _ if words == format!("move {at}") => Deed::Move(side),
            _ if words == format!("remove {at}") => Deed::Remove(side),
            _ if words == format!("remove folder {at}") => Deed::RemoveFolder(side),
            _ => return None,
        })
    });
    match (words, on_a_side, words.strip_prefix("moved to ")) {
        (_, Some(deed), _) => deed,
        (_, _, Some(to)) => Deed::MoveByHand { to: to.to_owned() },
        ("make stub here", ..) => Deed::MakeStub,
        ("renew stub here", ..) => Deed::RenewStub,
        ("fetch here", ..) => Deed::Fetch,
        ("shed here", ..) => Deed::Shed,
        ("drop here", ..) => Deed::DropCopy,
        ("compare", ..) => Deed::Compare,
        ("found", ..) => Deed::Find,
        ("bring here", ..) => Deed::BringBack,
        ("take back", ..) => Deed::TakeBack,
        ("removed", ..) => Deed::RemoveByHand,
        ("copied", ..) => Deed::CopyByHand,
        (words, None, None) => Deed::Told(words.to_owned()),
    }
}

fn item_outcome(words: &str) -> ItemOutcome {
    let (ending, remark) = match words.split_once(": ") {
        Some((ending, remark)) => (ending, remark),
        None => (words, ""),
    };
    let ending = match ending {
        "done" => ItemEnding::Done,
        "waiting" => ItemEnding::Waiting,
        "conflict" => ItemEnding::Conflict,
        "stuck" => ItemEnding::Stuck,
        "drift" => ItemEnding::Drift,
        "asked" => ItemEnding::Asked,
        "asks to remove here" => ItemEnding::Asks(Side::Near),
        "asks to remove there" => ItemEnding::Asks(Side::Far),
        "left out" => ItemEnding::LeftOut,
        "stays" => ItemEnding::Stays,
        _ => return ItemOutcome::with(ItemEnding::Failed, words),
    };
    ItemOutcome::with(ending, remark)
}

/// A state that no version knows waits to be looked at, which the next pass does.
fn agreement(words: &str) -> Agreement {
    match words {
        "settled" => Agreement::Settled,
        "waiting up" => Agreement::Waiting(Side::Far),
        "waiting down" => Agreement::Waiting(Side::Near),
        "moving up" => Agreement::Moving(Side::Far),
        "moving down" => Agreement::Moving(Side::Near),
        "conflict" => Agreement::Conflict,
        "drift" => Agreement::Drift,
        "asks to remove here" => Agreement::Asking(Side::Near),
        "asks to remove there" => Agreement::Asking(Side::Far),
        "left out" => Agreement::LeftOut,
        _ => Agreement::Stuck,
    }
}

#[cfg(test)]
mod tests {
    use katabatic_core::words;

    use super::*;

    /// The words that are made of a fact today are those of before: so each is read back as that fact.
    #[test]
    fn every_word_of_before_is_a_fact_now() {
        let mut causes = vec![
            SpareCause::PutBeside,
            SpareCause::KeptBeside,
            SpareCause::RemovedByHand,
            SpareCause::ReplacedByHand,
            SpareCause::MovedByHand,
            SpareCause::SweptBy("*.tmp leaves it out".into()),
            SpareCause::MadeWayForRun(12),
            SpareCause::Met,
            SpareCause::Found,
            SpareCause::Told("in other words".into()),
        ];
        causes.extend(
            [
                DroppedFor::Stub,
                DroppedFor::NotTaken,
                DroppedFor::MovedOut("a: b".into()),
                DroppedFor::Content,
                DroppedFor::NewerStub,
                DroppedFor::Removal,
                DroppedFor::LaneGone,
                DroppedFor::Told("other".into()),
            ]
            .map(SpareCause::Dropped),
        );
        causes.extend(
            [
                KeptFor::Open,
                KeptFor::CannotTell("EINVAL".into()),
                KeptFor::Written,
                KeptFor::ChangedThere,
                KeptFor::NotAsked,
            ]
            .map(SpareCause::Kept),
        );
        let mut deeds = vec![
            Deed::MakeStub,
            Deed::RenewStub,
            Deed::Fetch,
            Deed::Shed,
            Deed::DropCopy,
            Deed::Compare,
            Deed::Find,
            Deed::BringBack,
            Deed::TakeBack,
            Deed::RemoveByHand,
            Deed::CopyByHand,
            Deed::MoveByHand {
                to: "@office/a b".into(),
            },
            Deed::Told("something else".into()),
        ];
        let mut endings = vec![
            ItemEnding::Done,
            ItemEnding::Waiting,
            ItemEnding::Conflict,
            ItemEnding::Stuck,
            ItemEnding::Drift,
            ItemEnding::Asked,
            ItemEnding::LeftOut,
            ItemEnding::Stays,
            ItemEnding::Failed,
        ];
        for side in SIDES {
            causes.extend([
                SpareCause::ReplacedFrom(side),
                SpareCause::RemovedFrom(side),
                SpareCause::MadeWayFor(side),
                SpareCause::MovedOn(side),
                SpareCause::YieldedTo(side),
            ]);
            deeds.extend([
                Deed::Carry(side),
                Deed::Replace(side),
                Deed::CarryBeside(side),
                Deed::MakeFolder(side),
                Deed::Move(side),
                Deed::Remove(side),
                Deed::RemoveFolder(side),
            ]);
            endings.push(ItemEnding::Asks(side));
            for state in [
                Agreement::Waiting(side),
                Agreement::Moving(side),
                Agreement::Asking(side),
                Agreement::Conflict,
                Agreement::LeftOut,
            ] {
                assert_eq!(agreement(state.word()), state);
            }
        }
        for cause in causes {
            assert_eq!(spare_cause(&words::spare_cause(&cause)), cause);
        }
        for done in deeds {
            assert_eq!(deed(&words::deed(&done)), done);
        }
        for ending in endings {
            let said = ItemOutcome::with(ending, "the disk is full: 5 KB");
            assert_eq!(item_outcome(&words::item_outcome(&said)), said);
        }
        for outcome in [
            RunOutcome::AllSettled,
            RunOutcome::Done,
            RunOutcome::Dropped,
            RunOutcome::Swept,
            RunOutcome::TookBack(1),
            RunOutcome::TookBack(12_400),
            RunOutcome::NeedsPerson,
            RunOutcome::Stopped,
            RunOutcome::Failed("the network: is not there".into()),
        ] {
            assert_eq!(run_outcome(&words::run_outcome(&outcome)), outcome);
        }
    }

    #[test]
    fn a_root_is_known_by_what_it_was() {
        let marked = |folder: Option<&str>| KnownRoot::Marked {
            mark: "a1".into(),
            folder: folder.map(str::to_owned),
        };
        assert_eq!(root("mark a1 at 7.1.5"), marked(Some("7.1.5")));
        assert_eq!(root("mark a1"), marked(None));
        assert_eq!(root("inode 12"), KnownRoot::Inode(12));
        let address = "https://cloud.example/dav/";
        assert_eq!(root(address), KnownRoot::Address(address.into()));
    }

    #[test]
    fn an_open_change_keeps_its_reason() {
        let older = r#"{"on_near":true,"spare":"x","why":"removed there",
            "old":{"size":5,"stamp":"?stub:5:1.2:-:7"},"member":["a",{"size":1,"stamp":"abc"}],"new":null}"#;
        let translated = intent(older).unwrap();
        let read: Value = serde_json::from_str(&translated).unwrap();
        assert_eq!(read["cause"], serde_json::json!({"removed-from": "far"}));
        assert!(read.get("why").is_none());
        assert_eq!(read["spare"], "x");
        assert_eq!(read["old"]["stamp"], "?s:5:1.2:-:7");
        assert_eq!(read["member"][1]["stamp"], "v:abc");
    }
}
