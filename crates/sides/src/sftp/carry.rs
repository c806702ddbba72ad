//! Changing an account's folder: what is taken out, placed, moved and made there.
//!
//! The protocol's own `RENAME` is two steps on many servers: a second name, and then the first one goes, which may be
//! another file's by then. So what others may be writing is taken out by `posix-rename@openssh.com`, which is one step and
//! goes only to names of our own; and what is ours gets its name by `hardlink@openssh.com`, which takes no name that
//! anything has.

use std::sync::Arc;

use katabatic_core::{Entry, Kind, RelPath};

use super::far_path::Path;
use super::refusal::{odd, refused};
use super::wire::{Answer, Ask, Packet, Status};
use super::{Inner, list, room, transfer};
use crate::digest::digest_of;
use crate::proof::Warrant;
use crate::{Captured, FolderGone, GivenUp, Outcome, Put, SideError, Undone, WhyKept};

const POSIX_RENAME: &str = "posix-rename@openssh.com";
const HARD_LINK: &str = "hardlink@openssh.com";

/// How a rename or a link is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Way {
    /// Over whatever has the new name, in one step.
    Over,
    /// A second name, where nothing has it.
    Link,
    /// As version 3 has it: an error where something has the new name.
    Plain,
}

impl Inner {
    /// Gives something another name; what the server says of it.
    pub(super) async fn give_name(
        &self,
        way: Way,
        from: &Path,
        to: &Path,
    ) -> Outcome<(Status, String)> {
        let (word, packet) = match way {
            Way::Over => (POSIX_RENAME, Packet::extended(POSIX_RENAME)),
            Way::Link => (HARD_LINK, Packet::extended(HARD_LINK)),
            Way::Plain => (Ask::Rename.word(), Packet::new(Ask::Rename)),
        };
        let asked = self
            .client
            .change(word, from, |full| packet.text(&full(from)).text(&full(to)));
        match asked.await? {
            Answer::Status(status, words) => Ok((status, words)),
            _ => Err(Undone::Unsure(odd())),
        }
    }

    async fn remove(&self, ask: Ask, path: &Path) -> Outcome<(Status, String)> {
        let asked = self
            .client
            .change(ask.word(), path, |full| Packet::new(ask).text(&full(path)));
        match asked.await? {
            Answer::Status(status, words) => Ok((status, words)),
            _ => Err(Undone::Unsure(odd())),
        }
    }

    /// By what something is taken out that others may be writing.
    async fn taking_out(&self) -> Result<Way, SideError> {
        Ok(match self.client.has(POSIX_RENAME).await? {
            true => Way::Over,
            false => Way::Plain,
        })
    }
}

/// Removes a file of the tool's own; what is not there is removed already.
pub(super) async fn delete(inner: &Inner, path: &Path) -> Result<(), SideError> {
    let (status, words) = inner
        .remove(Ask::Remove, path)
        .await
        .map_err(Undone::told)?;
    match status {
        Status::Fine | Status::NoSuchFile => Ok(()),
        status => Err(refused(status, &words)),
    }
}

/// Removes an empty folder of the tool's own; what is not there is removed already.
pub(super) async fn remove_empty(inner: &Inner, path: &Path) -> Result<(), SideError> {
    let gone = inner.remove(Ask::RemoveFolder, path).await;
    let (status, words) = gone.map_err(Undone::told)?;
    match status {
        Status::Fine | Status::NoSuchFile => Ok(()),
        status => Err(refused(status, &words)),
    }
}

pub(super) async fn capture(inner: &Inner, path: &Path, spare: &Path) -> Outcome<Captured> {
    room::make_ready(inner).await.map_err(Undone::NotDone)?;
    let way = inner.taking_out().await.map_err(Undone::NotDone)?;
    let (status, words) = inner.give_name(way, path, spare).await?;
    match status {
        Status::Fine => Ok(Captured::Taken),
        Status::NoSuchFile => match list::look(inner, path).await.map_err(Undone::NotDone)? {
            None => Ok(Captured::Nothing),
            Some(_) => {
                inner.room.doubt().await;
                let why = SideError::try_again("the folder of the spares went away");
                Err(Undone::NotDone(why))
            }
        },
        status => Err(Undone::NotDone(refused(status, &words))),
    }
}

/// Moves what is ours to where nothing is: it has the new name once nothing else had it.
pub(super) async fn move_new(inner: &Inner, from: &Path, to: &Path) -> Outcome<Put> {
    let there = list::look(inner, from).await.map_err(Undone::NotDone)?;
    let there = there.ok_or(Undone::NotDone(SideError::Missing))?;
    if there.kind != Kind::File {
        return move_plainly(inner, from, to).await;
    }
    match link(inner, from, to).await? {
        Linked::Done => {}
        Linked::Taken => return Ok(Put::Taken),
        Linked::CannotLink => return move_plainly(inner, from, to).await,
    }
    // It bears its name; the other one is of our own room, where it is cleared up if this is lost.
    match inner.remove(Ask::Remove, from).await {
        Ok((Status::Fine | Status::NoSuchFile, _)) => {}
        Ok((status, words)) => {
            tracing::debug!(
                "a second name stays in the room: {}",
                refused(status, &words)
            );
        }
        Err(undone) => tracing::debug!("a second name may stay in the room: {undone}"),
    }
    Ok(Put::Done)
}

/// What became of a second name.
enum Linked {
    Done,
    Taken,
    /// The server, or its disk, gives no second names.
    CannotLink,
}

async fn link(inner: &Inner, from: &Path, to: &Path) -> Outcome<Linked> {
    if !inner.client.has(HARD_LINK).await.map_err(Undone::NotDone)? || !inner.links {
        return Ok(Linked::CannotLink);
    }
    let (status, words) = inner.give_name(Way::Link, from, to).await?;
    match status {
        Status::Fine => return Ok(Linked::Done),
        Status::NoSuchFile => return Err(Undone::NotDone(missing_folder())),
        _ => {}
    }
    match list::look(inner, to).await.map_err(Undone::NotDone)? {
        Some(_) => Ok(Linked::Taken),
        None if status == Status::NotAllowed => Err(Undone::NotDone(refused(status, &words))),
        None => Ok(Linked::CannotLink),
    }
}

fn missing_folder() -> SideError {
    SideError::try_again("the folder it goes to is not there any more")
}

/// By the protocol's own rename, after a look: for folders, which replace nothing but an empty folder, and where there are
/// no second names.
async fn move_plainly(inner: &Inner, from: &Path, to: &Path) -> Outcome<Put> {
    if list::look(inner, to)
        .await
        .map_err(Undone::NotDone)?
        .is_some()
    {
        return Ok(Put::Taken);
    }
    let (status, words) = inner.give_name(Way::Plain, from, to).await?;
    match status {
        Status::Fine => Ok(Put::Done),
        Status::NoSuchFile => Err(Undone::NotDone(missing_folder())),
        status => match list::look(inner, to).await.map_err(Undone::NotDone)? {
            Some(_) => Ok(Put::Taken),
            None => Err(Undone::NotDone(refused(status, &words))),
        },
    }
}

/// Renames what others may be writing. A file gets the new name beside the old one first; what then has the old one is
/// taken out and looked at, and goes back where it is another version.
pub(super) async fn rename(inner: &Arc<Inner>, from: &Path, to: &Path) -> Outcome<Put> {
    let seen = list::look(inner, from).await.map_err(Undone::NotDone)?;
    let seen = seen.ok_or(Undone::NotDone(SideError::Missing))?;
    if seen.kind != Kind::File {
        return move_plainly(inner, from, to).await;
    }
    room::make_ready(inner).await.map_err(Undone::NotDone)?;
    match link(inner, from, to).await? {
        Linked::Done => {}
        Linked::Taken => return Ok(Put::Taken),
        Linked::CannotLink => return move_plainly(inner, from, to).await,
    }
    let aside = room::new_slot().and_then(|slot| inner.room.spare(&slot));
    let aside = aside.map_err(Undone::Unsure)?;
    let way = inner.taking_out().await.map_err(Undone::Unsure)?;
    let unsure = |error: Undone| Undone::Unsure(error.told());
    match inner.give_name(way, from, &aside).await.map_err(unsure)? {
        (Status::Fine, _) => {}
        // Somebody removed it under its old name meanwhile.
        (Status::NoSuchFile, _) => return Ok(Put::Done),
        (status, words) => return Err(Undone::Unsure(refused(status, &words))),
    }
    let out = list::look(inner, &aside).await.map_err(Undone::Unsure)?;
    if let Some(out) = out
        && is_version(&out, &seen)
        && is_the_linked(inner, (&aside, &out), to).await?
    {
        delete(inner, &aside).await.map_err(Undone::Unsure)?;
        return Ok(Put::Done);
    }
    // Another version came under the old name: that stays.
    move_new(inner, &aside, from).await.map_err(unsure)?;
    Ok(Put::Done)
}

/// Whether what was taken out from under the old name is what got the new one. Of a young version second and length do not
/// tell: another one of the same second may have come under the old name meanwhile, and would be destroyed.
async fn is_the_linked(
    inner: &Arc<Inner>,
    (aside, out): (&Path, &Entry),
    to: &Path,
) -> Outcome<bool> {
    if !inner.is_young(out) {
        return Ok(true);
    }
    let content = async |path: &Path| {
        let seen = list::look(inner, path).await?.ok_or(SideError::Missing)?;
        digest_of(transfer::read(inner, path, &seen, 0).await?).await
    };
    let both = async { Ok(content(aside).await? == content(to).await?) };
    both.await.map_err(Undone::Unsure)
}

pub(super) fn is_version(there: &Entry, expected: &Entry) -> bool {
    there.kind == Kind::File && there.stamp == expected.stamp && there.size == expected.size
}

pub(super) async fn make_folder(inner: &Inner, path: &Path, rights: Option<u32>) -> Outcome<Put> {
    let status = match inner.ask_for_folder(path, rights).await {
        Ok(Status::Fine) => return Ok(Put::Done),
        Ok(status) => status,
        Err(not_done @ Undone::NotDone(_)) => return Err(not_done),
        Err(unsure) => {
            return match list::look(inner, path).await {
                Ok(Some(there)) if there.kind == Kind::Folder => Ok(Put::Done),
                _ => Err(unsure),
            };
        }
    };
    match list::look(inner, path).await.map_err(Undone::NotDone)? {
        Some(there) if there.kind == Kind::Folder => Ok(Put::Done),
        Some(_) => Ok(Put::Taken),
        None if status == Status::NoSuchFile => Err(Undone::NotDone(missing_folder())),
        None => Err(Undone::NotDone(refused(status, ""))),
    }
}

/// Removes a folder, which the server does only where nothing is in it.
pub(super) async fn remove_folder(inner: &Inner, path: &RelPath) -> Outcome<FolderGone> {
    let (status, words) = inner
        .remove(Ask::RemoveFolder, &Path::account(path))
        .await?;
    match status {
        Status::Fine | Status::NoSuchFile => return Ok(FolderGone::Gone),
        _ => {}
    }
    let inside = list::members(inner, path).await.map_err(Undone::NotDone)?;
    let mut names: Vec<String> = inside.names.into_iter().map(|(name, _)| name).collect();
    names.extend(inside.unusable.into_iter().map(|odd| odd.shown));
    match names.is_empty() {
        true => Err(Undone::NotDone(refused(status, &words))),
        false => Ok(FolderGone::Kept(names)),
    }
}

/// Destroys what lies in a spare, if it is what the warrant is about.
///
/// What is proven is proven of copies on this computer alone: none of an account's is ever given up for it.
pub(super) async fn give_up(
    inner: &Arc<Inner>,
    spare: &Path,
    warrant: &Warrant,
) -> Result<GivenUp, SideError> {
    let Some(there) = list::look(inner, spare).await? else {
        return Ok(GivenUp::Gone);
    };
    let is_folder = there.kind == Kind::Folder;
    let is_it = match warrant {
        Warrant::Proven(_) => false,
        Warrant::Empty(_) => !matches!(room::stands(inner, spare).await?, room::Kept::Something),
        Warrant::GivenUp(old) => {
            let content = async { digest_of(transfer::read(inner, spare, &there, 0).await?).await };
            old.lies_there(&there, content).await?
        }
    };
    if !is_it {
        return Ok(GivenUp::Kept(WhyKept::OtherContent));
    }
    match (warrant, is_folder) {
        // Nothing but what is empty goes by it: a folder may have been captured here late, since that look.
        (Warrant::Empty(_), _) => {
            if let Err(why) = room::let_go(inner, spare).await {
                return match room::stands(inner, spare).await? {
                    room::Kept::Something => Ok(GivenUp::Kept(WhyKept::OtherContent)),
                    room::Kept::Open | room::Kept::Free => Err(why),
                };
            }
        }
        (_, true) => remove_tree(inner, spare).await?,
        (_, false) => delete(inner, spare).await?,
    }
    Ok(GivenUp::Gone)
}

/// Removes a folder of the shelf with all that is in it: there is no one request for that.
pub(super) async fn remove_tree(inner: &Inner, folder: &Path) -> Result<(), SideError> {
    let mut left = vec![(folder.clone(), false)];
    while let Some((at, is_emptied)) = left.pop() {
        if is_emptied {
            remove_empty(inner, &at).await?;
            continue;
        }
        left.push((at.clone(), true));
        for name in inner.client.names(&at).await? {
            let below = at.below_bytes(&name.name);
            match name.attributes.is_folder() {
                true => left.push((below, false)),
                false => delete(inner, &below).await?,
            }
        }
    }
    Ok(())
}

/// As `Fences::fence_spare`.
pub(super) async fn fence_spare(
    inner: &Inner,
    names: &[String],
    anew: &str,
) -> Result<Option<String>, SideError> {
    room::make_ready(inner).await?;
    for name in names {
        let spare = inner.room.spare(name)?;
        match room::stands(inner, &spare).await? {
            room::Kept::Something => {
                return give_another_name(inner, &spare, &inner.room.spare(anew)?, anew)
                    .await
                    .map(Some);
            }
            room::Kept::Open | room::Kept::Free => {}
        }
    }
    let Some(name) = names.first() else {
        return Ok(None);
    };
    let spare = inner.room.spare(name)?;
    match room::keep_free(inner, &spare).await? {
        true => Ok(None),
        false => give_another_name(inner, &spare, &inner.room.spare(anew)?, anew)
            .await
            .map(Some),
    }
}

/// What lies in our room may be on its way to where it was asked for: under another name it is not.
async fn give_another_name(
    inner: &Inner,
    from: &Path,
    to: &Path,
    anew: &str,
) -> Result<String, SideError> {
    let way = inner.taking_out().await?;
    let (status, words) = inner.give_name(way, from, to).await.map_err(Undone::told)?;
    match status {
        Status::Fine => Ok(anew.to_owned()),
        Status::NoSuchFile => Err(SideError::try_again(
            "what is kept there was moved just now",
        )),
        status => Err(refused(status, &words)),
    }
}

/// As `Fences::fence_staged`.
pub(super) async fn fence_staged(
    inner: &Inner,
    names: &[String],
    anew: &str,
) -> Result<Option<String>, SideError> {
    let to = inner.room.staged(anew)?;
    for name in names {
        let from = inner.room.staged(name)?;
        if list::look(inner, &from).await?.is_some() {
            return give_another_name(inner, &from, &to, anew).await.map(Some);
        }
    }
    Ok(None)
}
