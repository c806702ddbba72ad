//! Changing an account's folder: moves and copies that replace nothing, and folders.

use std::sync::Arc;

use katabatic_core::{Entry, Kind, RelPath};
use reqwest::StatusCode;

use super::client::{Answered, refusal};
use super::{Inner, download, list, room};
use crate::digest::digest_of;
use crate::proof::Warrant;
use crate::walk::Folder;
use crate::{Captured, FolderGone, GivenUp, Outcome, Put, SideError, Undone, WhyKept};

/// Removes something of the tool's own; what is not there is removed already.
pub(super) async fn delete(inner: &Inner, path: &RelPath) -> Result<(), SideError> {
    let url = inner.client.url(path, false);
    let response = inner
        .client
        .send(true, || inner.client.request("DELETE", url.clone()))
        .await?;
    match response.status() {
        StatusCode::NOT_FOUND => Ok(()),
        // What it holds, or a part of that, may still be there (RFC 4918 §9.6.1).
        StatusCode::MULTI_STATUS => match list::look(inner, path).await? {
            None => Ok(()),
            Some(_) => Err(SideError::Failed(
                "the server removed only a part of it (207)".into(),
            )),
        },
        status if status.is_success() => Ok(()),
        status => Err(refusal(status)),
    }
}

async fn send_move(inner: &Inner, from: &RelPath, to: &RelPath) -> Outcome<Answered> {
    let answer = send_move_as(inner, from, to, false).await?;
    if answer.status() != StatusCode::BAD_REQUEST {
        return Ok(answer);
    }
    // Some servers take a folder only with a slash at the end of both names; this one has refused, and done nothing.
    match list::look(inner, from).await {
        Ok(Some(there)) if there.kind == Kind::Folder => send_move_as(inner, from, to, true).await,
        _ => Ok(answer),
    }
}

/// Has the server copy a file to a name of our own.
pub(super) async fn copy_new(inner: &Inner, from: &RelPath, to: &RelPath) -> Result<(), SideError> {
    let (url, destination) = (inner.client.url(from, false), inner.client.url(to, false));
    let build = || {
        let request = inner.client.request("COPY", url.clone())?;
        Ok(request
            .header("destination", destination.as_str())
            .header("overwrite", "F"))
    };
    match inner.client.send(false, build).await?.status() {
        StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(()),
        StatusCode::CONFLICT => {
            inner.room.doubt().await;
            Err(SideError::try_again("the staging folder went away"))
        }
        status => Err(refusal(status)),
    }
}

/// Asks the server to move something to where nothing is.
async fn send_move_as(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    folder: bool,
) -> Outcome<Answered> {
    let (url, destination) = (inner.client.url(from, folder), inner.client.url(to, folder));
    let build = || {
        let request = inner.client.request("MOVE", url.clone())?;
        Ok(request
            .header("destination", destination.as_str())
            .header("overwrite", "F"))
    };
    inner.client.send_change(build).await
}

/// What became of a move, as far as its answer tells.
enum Moved {
    Done,
    /// Nothing is at the older name.
    Nothing,
    /// Something has the new one.
    Taken,
    /// A part of what it holds stays at the older name.
    InPart,
}

/// Moves to where nothing is, once. Whatever a server says but that it has done it or refused it, says nothing.
async fn move_once(inner: &Inner, from: &RelPath, to: &RelPath) -> Outcome<Moved> {
    let answer = send_move(inner, from, to).await?;
    let of_names = |moved| match &answer {
        Answered::Once(_) => Ok(moved),
        Answered::Again(_) => Err(answer.refused()),
    };
    match answer.status() {
        StatusCode::CREATED | StatusCode::NO_CONTENT => Ok(Moved::Done),
        StatusCode::NOT_FOUND => of_names(Moved::Nothing),
        StatusCode::PRECONDITION_FAILED => of_names(Moved::Taken),
        // All of it, or a part: what is where tells (RFC 4918 §9.9.4).
        StatusCode::MULTI_STATUS => {
            let left = list::look(inner, from).await.map_err(Undone::Unsure)?;
            let came = list::look_for_ours(inner, to)
                .await
                .map_err(Undone::Unsure)?;
            Ok(match (left, came) {
                (None, Some(_)) => Moved::Done,
                (_, _) => Moved::InPart,
            })
        }
        status @ (StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED) => {
            let why = SideError::Failed(format!(
                "the server moves nothing (MOVE: {}); without that nothing can be placed or kept safely there",
                status.as_u16()
            ));
            Err(match answer {
                Answered::Once(_) => Undone::NotDone(why),
                // One that was turned away before may have been done.
                Answered::Again(_) => Undone::Unsure(why),
            })
        }
        status if status.is_client_error() => Err(answer.refused()),
        // Accepted and not done yet (202), or something that no standard knows.
        status => Err(Undone::Unsure(refusal(status))),
    }
}

/// Some of it is here and some there: whoever clears up after a cut looks at both.
fn in_part() -> Undone {
    Undone::Unsure(SideError::Failed(
        "the server moved only a part of the folder (207)".into(),
    ))
}

pub(super) async fn capture(inner: &Inner, path: &RelPath, spare: &RelPath) -> Outcome<Captured> {
    room::make_ready(inner).await.map_err(Undone::NotDone)?;
    let why = match move_once(inner, path, spare).await {
        Ok(Moved::Done) => return Ok(Captured::Taken),
        Ok(Moved::Nothing) => return Ok(Captured::Nothing),
        Ok(Moved::InPart) => return Err(in_part()),
        // A name that nobody else knows: what is there came by a request of ours.
        Ok(Moved::Taken) => Undone::Unsure(refusal(StatusCode::PRECONDITION_FAILED)),
        Err(Undone::NotDone(SideError::Failed(why))) => {
            inner.room.doubt().await;
            return Err(Undone::NotDone(SideError::Failed(why)));
        }
        Err(not_done @ Undone::NotDone(_)) => return Err(not_done),
        Err(unsure) => unsure,
    };
    // The spare's name is nobody else's: if something is there, it is what we moved. If nothing is, that says nothing of
    // what may come.
    match list::look(inner, spare).await {
        Ok(Some(_)) => Ok(Captured::Taken),
        Ok(None) | Err(_) => Err(why),
    }
}

/// Moves to a path where nothing is. `version` tells, where the answer is lost, whether it is ours that is there.
pub(super) async fn move_new(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    version: Option<&Entry>,
) -> Outcome<Put> {
    // Where the server does not obey `Overwrite: F`, this look is all that guards what is there.
    if inner.ways().look_before_move
        && list::look(inner, to)
            .await
            .map_err(Undone::NotDone)?
            .is_some()
    {
        return Ok(Put::Taken);
    }
    let why = match move_once(inner, from, to).await {
        Ok(Moved::Done) => return Ok(Put::Done),
        Ok(Moved::Taken) => return Ok(Put::Taken),
        Ok(Moved::Nothing) => return Err(Undone::NotDone(SideError::Missing)),
        Ok(Moved::InPart) => return Err(in_part()),
        Err(not_done @ Undone::NotDone(_)) => return Err(not_done),
        Err(unsure) => unsure,
    };
    // That it has left its older name and is under the new one is certain; all else may change yet.
    if let Some(version) = version
        && list::look(inner, from).await == Ok(None)
        && let Ok(Some(there)) = list::look(inner, to).await
        && there.stamp == version.stamp
    {
        return Ok(Put::Done);
    }
    Err(why)
}

/// Destroys what lies in a spare, if it is what the warrant is about.
///
/// What is proven is proven of copies on this computer alone: none of an account's is ever given up for it.
pub(super) async fn give_up(
    inner: &Arc<Inner>,
    spare: &RelPath,
    warrant: &Warrant,
) -> Result<GivenUp, SideError> {
    let Some(there) = list::look(inner, spare).await? else {
        return Ok(GivenUp::Gone);
    };
    let is_it = match warrant {
        Warrant::Proven(_) => false,
        Warrant::Empty(_) => {
            inner.ways().lists_dots && is_empty_folder(inner, spare, &there).await?
        }
        Warrant::GivenUp(old) => {
            let content = async { digest_of(download::read(inner, spare, &there, 0).await?).await };
            old.lies_there(&there, content).await?
        }
    };
    if !is_it {
        return Ok(GivenUp::Kept(WhyKept::OtherContent));
    }
    delete(inner, spare).await?;
    Ok(GivenUp::Gone)
}

/// Keeps a name on the shelf from every capture that was asked for before: a folder has it from now on, which no server
/// makes where something is, nor writes over where it obeys `Overwrite: F`.
async fn occupy(inner: &Inner, spare: &RelPath) -> Result<bool, SideError> {
    let url = inner.client.url(spare, true);
    let answer = inner
        .client
        .send_change(|| inner.client.request("MKCOL", url.clone()))
        .await
        .map_err(Undone::told)?;
    match answer.status() {
        StatusCode::CREATED => Ok(true),
        StatusCode::METHOD_NOT_ALLOWED => Ok(false),
        status => Err(refusal(status)),
    }
}

/// Whether a folder of ours keeps a file of ours from its name, on a server that nobody has asked that yet.
async fn is_kept_from(inner: &Inner, folder: &RelPath) -> Result<bool, SideError> {
    let file = inner.room.staged(&room::Room::new_slot()?)?;
    inner
        .client
        .expect(
            "PUT",
            inner.client.url(&file, false),
            Some(b"is this kept out?"),
        )
        .await?;
    let moved = move_once(inner, &file, folder).await;
    let stays = list::look(inner, &file).await?.is_some();
    let kept = list::look(inner, folder).await?;
    let is_folder = kept.is_some_and(|there| there.kind == Kind::Folder);
    delete(inner, &file).await?;
    let was_refused = !matches!(
        moved,
        Ok(Moved::Done | Moved::InPart) | Err(Undone::Unsure(_))
    );
    Ok(was_refused && stays && is_folder)
}

/// Whether what is there is a folder with nothing in it.
async fn is_empty_folder(inner: &Inner, path: &RelPath, there: &Entry) -> Result<bool, SideError> {
    if there.kind != Kind::Folder {
        return Ok(false);
    }
    let inside = list::members(inner, path).await?;
    Ok(inside.names.is_empty() && inside.unusable.is_empty() && inside.cut_short.is_none())
}

/// As `SideStore::is_empty_spare`: what is not listed there may be in it all the same.
pub(super) async fn is_empty_spare(inner: &Inner, spare: &RelPath) -> Result<bool, SideError> {
    match list::look(inner, spare).await? {
        Some(there) if inner.ways().lists_dots => is_empty_folder(inner, spare, &there).await,
        _ => Ok(false),
    }
}

/// As `SideStore::fence_spare`.
pub(super) async fn fence_spare(
    inner: &Inner,
    expected: Kind,
    names: &[String],
    anew: &str,
) -> Result<Option<String>, SideError> {
    room::make_ready(inner).await?;
    for name in names {
        let spare = inner.room.spare(name)?;
        let Some(there) = list::look(inner, &spare).await? else {
            continue;
        };
        let shows_all = inner.ways().lists_dots || expected != Kind::Folder;
        if shows_all && is_empty_folder(inner, &spare, &there).await? {
            continue;
        }
        return give_another_name(inner, &spare, anew).await.map(Some);
    }
    let Some(name) = names.first() else {
        return Ok(None);
    };
    let spare = inner.room.spare(name)?;
    if occupy(inner, &spare).await? {
        if inner.ways().fences.is_none() {
            let fences = is_kept_from(inner, &spare).await?;
            inner.found_fences(fences);
        }
        return Ok(None);
    }
    match list::look_for_ours(inner, &spare).await? {
        Some(there) if is_empty_folder(inner, &spare, &there).await? => Ok(None),
        // It came just now, or is listed only now.
        Some(_) => give_another_name(inner, &spare, anew).await.map(Some),
        None => Err(SideError::try_again(
            "what was asked for before was done just now",
        )),
    }
}

/// What lies in a spare may be on its way back to where it was: under another name it is not.
async fn give_another_name(
    inner: &Inner,
    spare: &RelPath,
    anew: &str,
) -> Result<String, SideError> {
    match move_once(inner, spare, &inner.room.spare(anew)?).await {
        Ok(Moved::Done) => Ok(anew.to_owned()),
        Ok(Moved::Nothing | Moved::Taken | Moved::InPart) => Err(SideError::try_again(
            "what is kept there was moved just now",
        )),
        Err(undone) => Err(undone.told()),
    }
}

/// As `SideStore::fence_staged`: what is under another name is not moved by who asked for the older one.
pub(super) async fn fence_staged(
    inner: &Inner,
    names: &[String],
    anew: &str,
) -> Result<Option<String>, SideError> {
    let to = inner.room.staged(anew)?;
    for name in names {
        match move_once(inner, &inner.room.staged(name)?, &to).await {
            Ok(Moved::Done) => return Ok(Some(anew.to_owned())),
            Ok(Moved::Nothing) => {}
            Ok(Moved::Taken | Moved::InPart) => {
                return Err(SideError::Failed("a name in the staging is taken".into()));
            }
            Err(undone) => return Err(undone.told()),
        }
    }
    Ok(None)
}

pub(super) async fn make_folder(inner: &Inner, path: &RelPath) -> Outcome<Put> {
    let url = inner.client.url(path, true);
    let why = match inner
        .client
        .send_change(|| inner.client.request("MKCOL", url.clone()))
        .await
    {
        Ok(answer) if answer.status() == StatusCode::CREATED => return Ok(Put::Done),
        Ok(answer)
            if matches!(
                answer.status(),
                StatusCode::CONFLICT | StatusCode::FORBIDDEN
            ) =>
        {
            return Err(answer.refused());
        }
        Ok(answer) => answer.refused(),
        Err(error @ Undone::NotDone(_)) => return Err(error),
        Err(unsure) => unsure,
    };
    match list::look(inner, path).await {
        Ok(Some(there)) if there.kind == Kind::Folder => Ok(Put::Done),
        Ok(Some(_)) => Ok(Put::Taken),
        Ok(None) | Err(_) => Err(why),
    }
}

pub(super) async fn remove_folder(
    inner: &Inner,
    path: &RelPath,
    spare: &RelPath,
) -> Outcome<FolderGone> {
    // DELETE would take strangers along that came in a moment ago; a folder that was moved away can be looked at.
    let names = |folder: Folder| folder.names.into_iter().map(|(name, _)| name).collect();
    match list::members(inner, path).await {
        Ok(Folder {
            cut_short: Some(why),
            ..
        }) => return Err(Undone::NotDone(SideError::Failed(why.to_string()))),
        Ok(folder) if folder.names.is_empty() && folder.unusable.is_empty() => {}
        Ok(folder) => return Ok(FolderGone::Kept(names(folder))),
        Err(SideError::Missing) => return Ok(FolderGone::Gone),
        Err(error) => return Err(Undone::NotDone(error)),
    }
    if capture(inner, path, spare).await? == Captured::Nothing {
        return Ok(FolderGone::Gone);
    }
    let unsure = Undone::Unsure;
    list::look_for_ours(inner, spare).await.map_err(unsure)?;
    let inside = list::members(inner, spare).await.map_err(unsure)?;
    if inside.names.is_empty() && inside.unusable.is_empty() && inside.cut_short.is_none() {
        if !inner.ways().lists_dots {
            return Ok(FolderGone::InSpare);
        }
        // Nobody else knows its name by now, so nobody puts anything into it.
        if let Err(why) = delete(inner, spare).await {
            tracing::debug!("an empty folder is left over among the spares: {why}");
        }
        return Ok(FolderGone::Gone);
    }
    match move_new(inner, spare, path, None).await.map_err(|undone| Undone::Unsure(undone.told()))? {
        Put::Done => Ok(FolderGone::Kept(names(inside))),
        // The intent stays open, and the next pass keeps it as a spare that is named.
        Put::Taken => Err(Undone::Unsure(SideError::Failed(
            "somebody put files in it while it was being removed, and its name was taken; they are kept".into(),
        ))),
    }
}
