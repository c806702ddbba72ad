//! Changing an account's folder: moves and copies that replace nothing, and folders.

use katabatic_core::{Entry, Kind, RelPath};
use reqwest::StatusCode;

use super::client::refusal;
use super::{Inner, list, room};
use crate::sides::{Captured, FolderGone, Put, SideError};

/// Removes something of the tool's own; what is not there is removed already.
pub(super) async fn delete(inner: &Inner, path: &RelPath) -> Result<(), SideError> {
    let url = inner.client.url(path, false);
    let response = inner
        .client
        .send(true, || inner.client.request("DELETE", url.clone()))
        .await?;
    match response.status() {
        StatusCode::NOT_FOUND => Ok(()),
        status if status.is_success() => Ok(()),
        status => Err(refusal(status)),
    }
}

async fn send_move(inner: &Inner, from: &RelPath, to: &RelPath) -> Result<StatusCode, SideError> {
    let status = send_move_as(inner, from, to, false).await?;
    if status != StatusCode::BAD_REQUEST {
        return Ok(status);
    }
    // Some servers take a folder only with a slash at the end of both names; this one has refused, and done nothing.
    match list::look(inner, from).await? {
        Some(there) if there.kind == Kind::Folder => send_move_as(inner, from, to, true).await,
        _ => Ok(status),
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
            Err(SideError::TryAgain("the staging folder went away".into()))
        }
        status => Err(refusal(status)),
    }
}

async fn send_move_as(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    folder: bool,
) -> Result<StatusCode, SideError> {
    let (url, destination) = (inner.client.url(from, folder), inner.client.url(to, folder));
    // Not harmless to repeat: the first may have been done, and the name may have been taken since.
    let build = || {
        let request = inner.client.request("MOVE", url.clone())?;
        Ok(request
            .header("destination", destination.as_str())
            .header("overwrite", "F"))
    };
    Ok(inner.client.send(false, build).await?.status())
}

/// Looks after a request whose outcome nobody told us.
async fn after_all(
    inner: &Inner,
    path: &RelPath,
    why: &SideError,
) -> Result<Option<Entry>, SideError> {
    // Also one that was only stopped: whoever is told anything else takes it for not done.
    list::look(inner, path)
        .await
        .map_err(|error| SideError::Unsure(format!("{why}, and a look afterwards failed: {error}")))
}

pub(super) async fn capture(
    inner: &Inner,
    path: &RelPath,
    spare: &RelPath,
) -> Result<Captured, SideError> {
    room::make_ready(inner).await?;
    let why = match send_move(inner, path, spare).await {
        Ok(StatusCode::CREATED | StatusCode::NO_CONTENT) => return Ok(Captured::Taken),
        Ok(StatusCode::NOT_FOUND) => return Ok(Captured::Nothing),
        Ok(StatusCode::CONFLICT) => {
            inner.room.doubt().await;
            return Err(SideError::TryAgain("the spares folder went away".into()));
        }
        Ok(status) if status.is_client_error() => return Err(refusal(status)),
        Ok(status) => refusal(status),
        Err(SideError::TryAgain(why)) => {
            SideError::Unsure(format!("{why}; it may still be under way there"))
        }
        Err(error) => return Err(error),
    };
    // The spare's name is nobody else's: if something is there, it is what we moved. If nothing is, only an answer of
    // the server proves that nothing will be: a request whose line was cut may be carried out after our look.
    match after_all(inner, spare, &why).await? {
        Some(_) => Ok(Captured::Taken),
        None => Err(why),
    }
}

/// Moves to a path where nothing is. `version` tells, where the answer is lost, whether it is ours that is there.
pub(super) async fn move_new(
    inner: &Inner,
    from: &RelPath,
    to: &RelPath,
    version: Option<&Entry>,
) -> Result<Put, SideError> {
    // Where the server does not obey `Overwrite: F`, this look is all that guards what is there.
    if inner.ways().look_before_move && list::look(inner, to).await?.is_some() {
        return Ok(Put::Taken);
    }
    let why = match send_move(inner, from, to).await {
        Ok(StatusCode::CREATED | StatusCode::NO_CONTENT) => return Ok(Put::Done),
        Ok(StatusCode::PRECONDITION_FAILED) => return Ok(Put::Taken),
        Ok(status) if status.is_client_error() => return Err(refusal(status)),
        Ok(status) => refusal(status),
        Err(error @ SideError::TryAgain(_)) => error,
        Err(error) => return Err(error),
    };
    if after_all(inner, from, &why).await?.is_some() {
        return Err(why);
    }
    match (after_all(inner, to, &why).await?, version) {
        (Some(there), Some(version)) if there.stamp == version.stamp => Ok(Put::Done),
        (Some(_), None) => Ok(Put::Done),
        _ => Err(SideError::Unsure(format!(
            "{why}, and it is at neither name now"
        ))),
    }
}

pub(super) async fn make_folder(inner: &Inner, path: &RelPath) -> Result<Put, SideError> {
    let url = inner.client.url(path, true);
    let response = inner
        .client
        .send(true, || inner.client.request("MKCOL", url.clone()))
        .await?;
    match response.status() {
        StatusCode::CREATED => Ok(Put::Done),
        StatusCode::CONFLICT | StatusCode::FORBIDDEN => Err(refusal(response.status())),
        status => match list::look(inner, path).await? {
            Some(there) if there.kind == Kind::Folder => Ok(Put::Done),
            Some(_) => Ok(Put::Taken),
            None => Err(refusal(status)),
        },
    }
}

pub(super) async fn remove_folder(
    inner: &Inner,
    path: &RelPath,
    spare: &RelPath,
) -> Result<FolderGone, SideError> {
    // DELETE would take strangers along that came in a moment ago; a folder that was moved away can be looked at.
    let names = |folder: crate::sides::walk::Folder| {
        folder.names.into_iter().map(|(name, _)| name).collect()
    };
    match list::members(inner, path).await {
        Ok(folder) if folder.names.is_empty() && folder.unusable.is_empty() => {}
        Ok(folder) => return Ok(FolderGone::Kept(names(folder))),
        Err(SideError::Missing) => return Ok(FolderGone::Gone),
        Err(error) => return Err(error),
    }
    if capture(inner, path, spare).await? == Captured::Nothing {
        return Ok(FolderGone::Gone);
    }
    let inside = list::members(inner, spare).await?;
    if inside.names.is_empty() && inside.unusable.is_empty() && inside.cut_short.is_none() {
        return Ok(FolderGone::Gone);
    }
    match move_new(inner, spare, path, None).await? {
        Put::Done => Ok(FolderGone::Kept(names(inside))),
        Put::Taken => Err(SideError::Failed(format!(
            "somebody put files in it while it was being removed, and its name was taken; they are safe in {spare}"
        ))),
    }
}
