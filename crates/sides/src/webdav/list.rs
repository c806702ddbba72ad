//! Looking at an account's folder with `PROPFIND` (RFC 4918 §9.1).

use std::collections::{BTreeMap, HashSet};
use std::hash::{Hash, Hasher};
use std::io;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use futures_util::{StreamExt, TryStreamExt, stream};
use katabatic_core::{Entry, Kind, OddKind, RelPath, Stamp, Unknown};
use reqwest::StatusCode;
use reqwest::header::{
    CONTENT_LENGTH, CONTENT_TYPE, DATE, ETAG, HeaderMap, HeaderName, LAST_MODIFIED, SERVER,
};
use tokio_util::io::StreamReader;

use super::client::{Client, refusal, unasked_coding};
use super::download::read_digest;
use super::entry;
use super::multistatus::{self, OWN_NAMESPACE, Resource};
use super::{Inner, LISTINGS};
use crate::clock::{Clock, SystemClock};
use crate::walk::{Folder, Lister};
use crate::{Sha256, SideError, Unusable};

/// A folder that holds more names than this is taken for one without end.
const MOST_NAMES: usize = 2_000_000;

/// So often an answer may name what it has named before.
const MOST_TWICE: u32 = 1_000;

pub(super) fn wanted(more: &str) -> String {
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind xmlns=\"DAV:\"><prop><resourcetype/><getcontentlength/>\
         <getetag/><getlastmodified/>{more}<edit-time xmlns=\"{OWN_NAMESPACE}\"/></prop></propfind>"
    )
}

/// Asks a server about a resource and, by depth, what it holds; the answer's headers come along.
pub(super) async fn propfind(
    client: &Client,
    path: &RelPath,
    folder: bool,
    depth: &str,
    body: &str,
) -> Result<(Vec<Resource>, HeaderMap), SideError> {
    let mut resources = Vec::new();
    let (mut named, mut again) = (HashSet::new(), 0);
    let (_, headers) = ask(
        client,
        ("PROPFIND", path, folder),
        depth,
        body,
        &mut |resource| {
            let mut hasher = std::hash::DefaultHasher::new();
            resource.href.hash(&mut hasher);
            again += u32::from(!named.insert(hasher.finish()));
            if again > MOST_TWICE {
                return Err("the server names the same things again and again".into());
            }
            if named.len() > MOST_NAMES {
                return Err(format!(
                    "the server names more than {MOST_NAMES} things in one folder"
                ));
            }
            resources.push(resource);
            Ok(())
        },
    )
    .await?;
    Ok((resources, headers))
}

/// Asks a question that is answered by a multistatus, and gives on what comes as it comes; a change token, where one
/// comes too, and the headers.
pub(super) async fn ask(
    client: &Client,
    (method, path, folder): (&str, &RelPath, bool),
    depth: &str,
    body: &str,
    each: &mut (dyn FnMut(Resource) -> Result<(), String> + Send),
) -> Result<(Option<String>, HeaderMap), SideError> {
    let url = client.url(path, folder);
    let build = || {
        let request = client.request(method, url.clone())?;
        Ok(request
            .header("depth", depth)
            .header(CONTENT_TYPE, "application/xml; charset=utf-8")
            .body(body.to_owned()))
    };
    let (response, _flight) = client.send_held(true, build).await?;
    if response.status() != StatusCode::MULTI_STATUS {
        return Err(match response.status() {
            StatusCode::OK | StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => {
                SideError::Failed(no_webdav(response.headers()))
            }
            status => refusal(status),
        });
    }
    let headers = response.headers().clone();
    if let Some(error) = unasked_coding(&headers) {
        return Err(error);
    }
    // What is wrong with the line is no fault of the XML that it cut.
    let broken = Arc::new(Mutex::new(None));
    let line_error = {
        let broken = Arc::clone(&broken);
        move |error: SideError| {
            let told = io::Error::other(error.to_string());
            *broken.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
            told
        }
    };
    let body = StreamReader::new(client.body(response).map_err(line_error));
    let read = multistatus::read_each(body, each).await;
    let broken = broken.lock().unwrap_or_else(PoisonError::into_inner).take();
    match (read, broken) {
        (Ok(token), _) => Ok((token, headers)),
        (Err(_), Some(of_the_line)) => Err(of_the_line),
        (Err(why), None) => Err(SideError::Failed(why)),
    }
}

/// What the server's software calls itself.
pub(super) fn software(headers: &HeaderMap) -> Option<String> {
    headers
        .get(SERVER)
        .and_then(|value| value.to_str().ok())
        .map(str::to_owned)
}

fn no_webdav(headers: &HeaderMap) -> String {
    let page = headers
        .get(CONTENT_TYPE)
        .and_then(|kind| kind.to_str().ok())
        .is_some_and(|kind| kind.contains("html"));
    let what = if page {
        "a web page came back"
    } else {
        "something else came back"
    };
    format!("the server does not speak WebDAV at this address: {what}")
}

/// How far a server's clock is ahead of ours, in nanoseconds; nothing where that is less than can be told.
pub(super) fn clock_ahead(headers: &HeaderMap) -> Option<i64> {
    let date = headers
        .get(DATE)
        .and_then(|value| value.to_str().ok())
        .and_then(entry::http_date)?;
    // A header's date is in whole seconds: less than that is no difference.
    let ahead = date.0.saturating_sub(SystemClock.now().0);
    Some(if ahead.unsigned_abs() < 2_000_000_000 {
        0
    } else {
        ahead
    })
}

async fn listed(
    inner: &Inner,
    path: &RelPath,
    folder: bool,
    depth: &str,
) -> Result<Vec<Resource>, SideError> {
    let (resources, headers) =
        propfind(&inner.client, path, folder, depth, &inner.wanted("")).await?;
    if let Some(ahead) = clock_ahead(&headers) {
        inner.clock_ahead.store(ahead, Ordering::Relaxed);
    }
    Ok(resources)
}

/// Makes sure that the root is there, and whose account it is; what is at the root.
pub(super) async fn root(inner: &Inner) -> Result<Option<Entry>, SideError> {
    let asked = wanted("<resource-id/><current-user-principal/><current-user-privilege-set/>");
    let found = propfind(&inner.client, &inner.root, true, "0", &asked).await;
    let resources = match found {
        Ok((resources, headers)) => {
            *inner
                .software
                .lock()
                .unwrap_or_else(PoisonError::into_inner) = Some(software(&headers));
            resources
        }
        Err(SideError::Missing) => return Ok(None),
        Err(error) => return Err(error),
    };
    let about =
        |resource: &&Resource| inner.client.path_of(&resource.href).as_ref() == Some(&inner.root);
    let Some(resource) = resources.iter().find(about) else {
        return Err(SideError::Failed(
            "the server's answer is about something else".into(),
        ));
    };
    inner
        .client
        .check_principal(resource.principal.as_deref())?;
    inner
        .only_read
        .store(resource.may_write == Some(false), Ordering::Relaxed);
    inner
        .gives_ids
        .store(inner.ways().ids && resource.id.is_some(), Ordering::Relaxed);
    Ok(Some(Entry::folder())
        .filter(|_| resource.folder)
        .or_else(|| inner.entry(resource)))
}

/// What is at a path below the account's address.
pub(super) async fn look(inner: &Inner, path: &RelPath) -> Result<Option<Entry>, SideError> {
    let mut resources = match listed(inner, path, path.is_root(), "0").await {
        Ok(resources) => resources,
        Err(SideError::Missing) => return Ok(None),
        Err(error) => return Err(error),
    };
    let about = |resource: &Resource| inner.client.path_of(&resource.href).as_ref() == Some(path);
    let Some(resource) = resources.iter().position(about) else {
        return Err(SideError::Failed(
            "the server's answer is about something else".into(),
        ));
    };
    let resource = &mut resources[resource];
    if resource.status == Some(404) {
        return Ok(None);
    }
    if lacks_much(resource) {
        match Head::of(inner, path).await? {
            Some(head) => head.complete(resource),
            None => return Ok(Some(not_given())),
        }
    }
    let seen = inner.entry(resource);
    seen.map(Some)
        .ok_or_else(|| SideError::Failed("the server does not say how long the file is".into()))
}

/// As [`look`], for what a server said it has just made: where it lists that only later, it is waited for.
pub(super) async fn look_for_ours(
    inner: &Inner,
    path: &RelPath,
) -> Result<Option<Entry>, SideError> {
    let began = tokio::time::Instant::now();
    let mut pause = SOON;
    loop {
        let seen = look(inner, path).await?;
        let waits = inner.ways().lists_late && began.elapsed() < LISTED_WITHIN;
        if seen.is_some() || !waits || inner.client.stop.asked() {
            return Ok(seen);
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(1));
    }
}

/// What was made is listed within this time, also on a server that lists it late.
const LISTED_WITHIN: Duration = Duration::from_secs(10);
/// When it is first looked for again.
const SOON: Duration = Duration::from_millis(50);

/// Whether a listing says too little of a file for one version to be told from another.
fn lacks_much(resource: &Resource) -> bool {
    let is_named = resource
        .status
        .is_none_or(|code| (200..300).contains(&code));
    let tells_nothing = resource.tag.is_none() && resource.modified.is_none();
    is_named && !resource.folder && (resource.length.is_none() || tells_nothing)
}

/// What a server says of a file when it is asked for its head (`HEAD`, RFC 9110 §9.3.2).
#[derive(Default)]
struct Head {
    length: Option<u64>,
    tag: Option<String>,
    modified: Option<String>,
}

impl Head {
    /// None where the file went, or is not given though it is listed.
    async fn of(inner: &Inner, path: &RelPath) -> Result<Option<Head>, SideError> {
        let url = inner.client.url(path, false);
        let head = || inner.client.request("HEAD", url.clone());
        let response = inner.client.send(true, head).await?;
        match response.status() {
            StatusCode::NOT_FOUND => return Ok(None),
            // What is known of it stays as little as it was.
            status if !status.is_success() => return Ok(Some(Head::default())),
            _ => {}
        }
        let text = |name: HeaderName| {
            let value = response.headers().get(name)?;
            value.to_str().ok().map(str::to_owned)
        };
        Ok(Some(Head {
            length: text(CONTENT_LENGTH).and_then(|length| length.parse().ok()),
            tag: text(ETAG),
            modified: text(LAST_MODIFIED),
        }))
    }

    /// Says what a listing does not.
    fn complete(self, resource: &mut Resource) {
        resource.length = resource.length.or(self.length);
        if resource.tag.is_none() && resource.modified.is_none() {
            (resource.tag, resource.modified) = (self.tag, self.modified);
        }
    }
}

/// What a folder below the account's address holds.
pub(super) async fn members(inner: &Inner, path: &RelPath) -> Result<Folder, SideError> {
    let mut resources = match listed(inner, path, true, "1").await {
        Ok(resources) => resources,
        Err(error @ SideError::Failed(_)) => {
            let is_there =
                matches!(look(inner, path).await, Ok(Some(there)) if there.kind == Kind::Folder);
            return Err(match is_there {
                true => SideError::Failed(format!(
                    "the server does not list what is in the folder (Depth: 1): {error}"
                )),
                false => error,
            });
        }
        Err(error) => return Err(error),
    };
    let not_given_here = complete_all(inner, path, &mut resources).await?;
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
        if at.parent().as_ref() != Some(path) {
            continue;
        }
        match (resource.status, inner.entry(&resource)) {
            (Some(code), _) if !(200..300).contains(&code) => {
                incomplete(format!("the server answered {code} about {at}"))
            }
            (_, Some(entry)) => folder.names.push((at.name().to_owned(), entry)),
            (_, None) if not_given_here.contains(&at) => {
                folder.names.push((at.name().to_owned(), not_given()));
            }
            (_, None) => incomplete(format!("the server does not say how long {at} is")),
        }
    }
    // What never names the folder itself is asked once more whether it is there: an answer that knows nothing of it is none.
    if !spoke_of_itself && !inner.ways().names_itself {
        spoke_of_itself =
            matches!(look(inner, path).await?, Some(there) if there.kind == Kind::Folder);
    }
    if !spoke_of_itself {
        folder.cut_short = Some(Unknown::NotListed(
            "the server's answer does not speak of the folder itself".into(),
        ));
    }
    Ok(folder)
}

/// A file that is listed, and of which nothing can be had.
fn not_given() -> Entry {
    Entry {
        kind: Kind::Odd(OddKind::NotGiven),
        ..Entry::folder()
    }
}

/// Asks for what a listing does not say of the files in a folder, several at a time; those that are not given.
async fn complete_all(
    inner: &Inner,
    folder: &RelPath,
    resources: &mut [Resource],
) -> Result<HashSet<RelPath>, SideError> {
    let mut lacking = Vec::new();
    for (at, resource) in resources.iter().enumerate() {
        let path = inner.client.path_of(&resource.href);
        if let Some(path) = path.filter(|path| path.parent().as_ref() == Some(folder))
            && lacks_much(resource)
        {
            lacking.push((at, path));
        }
    }
    let mut without = HashSet::new();
    let heads: Vec<_> = stream::iter(lacking)
        .map(|(at, path)| async move { (at, Head::of(inner, &path).await, path) })
        .buffer_unordered(LISTINGS)
        .collect()
        .await;
    for (at, head, path) in heads {
        match head? {
            Some(head) => head.complete(&mut resources[at]),
            None => drop(without.insert(path)),
        }
    }
    Ok(without)
}

/// The digests that a listing of a folder tells, each with the stamp of its version.
pub(super) async fn digests(
    inner: &Inner,
    folder: &RelPath,
) -> Result<BTreeMap<String, (Stamp, Sha256)>, SideError> {
    let body = inner.wanted(&format!("<repr-digest xmlns=\"{OWN_NAMESPACE}\"/>"));
    let (resources, _) = propfind(&inner.client, folder, true, "1", &body).await?;
    let mut told = BTreeMap::new();
    for resource in resources {
        let Some(at) = inner.client.path_of(&resource.href) else {
            continue;
        };
        let digest = resource.digest.as_deref().and_then(read_digest);
        let entry = inner.entry(&resource);
        if let (Some(digest), Some(entry)) = (digest, entry)
            && at.parent().as_ref() == Some(folder)
        {
            told.insert(at.name().to_owned(), (entry.stamp, digest));
        }
    }
    Ok(told)
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
            Err(SideError::Missing) if folder.is_root() => {
                Err(SideError::not_there("the folder is not there any more"))
            }
            // It was there when its parent was listed; gone since is no proof of a removal.
            Err(SideError::Missing) => Err(SideError::Failed(
                "it went away while it was being listed".into(),
            )),
            listed => listed,
        }
    }
}
