//! Looking at an account's folder with `PROPFIND` (RFC 4918 §9.1).

use std::io;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use async_trait::async_trait;
use futures_util::TryStreamExt;
use katabatic_core::{Entry, RelPath, Unknown};
use reqwest::header::{CONTENT_TYPE, DATE};
use reqwest::{Response, StatusCode};
use tokio_util::io::StreamReader;

use super::Inner;
use super::client::refusal;
use super::entry;
use super::multistatus::{self, OWN_NAMESPACE, Resource};
use crate::clock::{Clock, SystemClock};
use crate::sides::walk::{Folder, Lister};
use crate::sides::{OWN_FOLDER, SideError, Unusable};

fn wanted() -> String {
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind xmlns=\"DAV:\"><prop><resourcetype/><getcontentlength/>\
         <getetag/><getlastmodified/><edit-time xmlns=\"{OWN_NAMESPACE}\"/></prop></propfind>"
    )
}

async fn propfind(
    inner: &Inner,
    path: &RelPath,
    folder: bool,
    depth: &str,
) -> Result<Vec<Resource>, SideError> {
    let url = inner.client.url(path, folder);
    let build = || {
        inner
            .client
            .request("PROPFIND", url.clone())
            .header("depth", depth)
            .header(CONTENT_TYPE, "application/xml; charset=utf-8")
            .body(wanted())
    };
    let response = inner.client.send(true, build).await?;
    if response.status() != StatusCode::MULTI_STATUS {
        return Err(match response.status() {
            StatusCode::OK | StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => {
                SideError::Failed("the server does not speak WebDAV at this address".into())
            }
            status => refusal(status),
        });
    }
    note_clock(inner, &response);
    let line_error =
        |error: reqwest::Error| io::Error::other(inner.client.line_error(&error).to_string());
    let body = StreamReader::new(response.bytes_stream().map_err(line_error));
    multistatus::read(body).await.map_err(SideError::Failed)
}

fn note_clock(inner: &Inner, response: &Response) {
    let date = response
        .headers()
        .get(DATE)
        .and_then(|value| value.to_str().ok())
        .and_then(entry::http_date);
    if let Some(date) = date {
        // A header's date is in whole seconds: less than that is no difference.
        let ahead = date.0.saturating_sub(SystemClock.now().0);
        let ahead = if ahead.unsigned_abs() < 2_000_000_000 {
            0
        } else {
            ahead
        };
        inner.clock_ahead.store(ahead, Ordering::Relaxed);
    }
}

/// What is at a path below the account's address.
pub(super) async fn look(inner: &Inner, path: &RelPath) -> Result<Option<Entry>, SideError> {
    let resources = match propfind(inner, path, path.is_root(), "0").await {
        Ok(resources) => resources,
        Err(SideError::Missing) => return Ok(None),
        Err(error) => return Err(error),
    };
    let about = |resource: &&Resource| inner.client.path_of(&resource.href).as_ref() == Some(path);
    let Some(resource) = resources.iter().find(about) else {
        return Err(SideError::Failed(
            "the server's answer is about something else".into(),
        ));
    };
    if resource.status == Some(404) {
        return Ok(None);
    }
    let seen = entry::entry(resource, inner.clock_ahead.load(Ordering::Relaxed));
    seen.map(Some)
        .ok_or_else(|| SideError::Failed("the server does not say how long the file is".into()))
}

/// What a folder below the account's address holds.
pub(super) async fn members(inner: &Inner, path: &RelPath) -> Result<Folder, SideError> {
    let resources = propfind(inner, path, true, "1").await?;
    let mut folder = Folder::default();
    let mut spoke_of_itself = false;
    let mut incomplete = |why: String| folder.cut_short = Some(Unknown::NotListed(why));
    for resource in resources {
        let Some(at) = inner.client.path_of(&resource.href) else {
            if let Some(name) = unusable_name(&resource.href) {
                folder.unusable.push(Unusable {
                    shown: format!("{path}/{name}").trim_start_matches('/').to_owned(),
                    why: "its name there is not valid UTF-8, or leads out of the folder".into(),
                });
            }
            continue;
        };
        if at == *path {
            spoke_of_itself = resource.folder;
            continue;
        }
        if at.parent().as_ref() != Some(path) || at.name() == OWN_FOLDER {
            continue;
        }
        match (
            resource.status,
            entry::entry(&resource, inner.clock_ahead.load(Ordering::Relaxed)),
        ) {
            (Some(code), _) if !(200..300).contains(&code) => {
                incomplete(format!("the server answered {code} about {at}"))
            }
            (_, Some(entry)) => folder.names.push((at.name().to_owned(), entry)),
            (_, None) => incomplete(format!("the server does not say how long {at} is")),
        }
    }
    if !spoke_of_itself {
        folder.cut_short = Some(Unknown::NotListed(
            "the server's answer does not speak of the folder itself".into(),
        ));
    }
    Ok(folder)
}

fn unusable_name(href: &str) -> Option<&str> {
    href.trim_end_matches('/')
        .rsplit('/')
        .next()
        .filter(|name| !name.is_empty())
}

pub(super) struct FarLister(pub(super) Arc<Inner>);

#[async_trait]
impl Lister for FarLister {
    async fn list(&self, folder: &RelPath) -> Result<Folder, SideError> {
        if self.0.client.stop.asked() {
            return Err(SideError::Stopped);
        }
        let listed = members(&self.0, &self.0.far(folder)).await;
        match listed {
            Err(SideError::Missing) if folder.is_root() => Err(SideError::NotThere(
                "the folder is not there any more".into(),
            )),
            // It was there when its parent was listed; gone since is no proof of a removal.
            Err(SideError::Missing) => Err(SideError::Failed(
                "it went away while it was being listed".into(),
            )),
            listed => listed,
        }
    }
}
