//! Finding out what a server can do, in a folder of our own making that is removed again.
//!
//! No answer is believed by its status alone: whatever was asked is read back. A server that says 412 and writes all
//! the same, or 201 and keeps a part, is found out here and not with somebody's files.

use std::collections::BTreeSet;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream;
use katabatic_core::RelPath;
use reqwest::header::{CONTENT_RANGE, CONTENT_TYPE, ETAG, LAST_MODIFIED};
use reqwest::{Body, RequestBuilder, StatusCode};
use url::Url;

use super::explain::explain;
use crate::private_files::random_hex;
use crate::survey::Survey;
use crate::webdav::{Client, Listed, OWN_NAMESPACE, Watch, http_date, listed, read_digest};
use crate::{SideError, TEST_FOLDERS};
use katabatic_core::Error;
pub use katabatic_core::findings::{CutPut, Finding, Findings, Keeps, ReadTag, Tags};

/// Characters that some servers refuse.
pub(crate) const TRIED: [char; 14] = [
    ':', '*', '?', '"', '<', '>', '|', '\\', '%', ';', '#', '+', '\u{1}', '🎻',
];
pub(crate) const LENGTHS: [usize; 4] = [255, 200, 143, 100];
const PAUSE: Duration = Duration::from_millis(150);

/// So many files come together, to see whether some share a tag.
const TOGETHER: usize = 24;

/// What came of looking: a folder where nothing may be written tells nothing else.
#[derive(Clone, Debug)]
pub enum Probed {
    /// What was found.
    Found(Box<Findings>),
    /// Nothing may be written there, and why.
    NotWritable(String),
}

/// Finds out what a server can do, in a folder of its own making in the folder `within`.
///
/// # Errors
/// Where the server goes away meanwhile, or what was written cannot be removed again.
pub async fn probe(
    account: &str,
    address: &Url,
    client: &Client,
    survey: &Survey,
    within: &RelPath,
) -> Result<Probed, Error> {
    let failed = |error: SideError| explain(account, address, &error);
    let unique = random_hex(8)?;
    let mut refused = String::new();
    for name in TEST_FOLDERS {
        let folder = within
            .join(&format!("{name}{unique}"))
            .map_err(|why| failed(SideError::Failed(why.to_string())))?;
        let room = Room {
            client,
            folder,
            late: AtomicU64::new(0),
        };
        match room.status("MKCOL", "", true, |request| request).await {
            Ok(status) if (200..300).contains(&status) => {
                let findings = room.found_and_cleared(survey).await.map_err(failed)?;
                return Ok(Probed::Found(Box::new(findings)));
            }
            Ok(status) => refused = format!("the server answered {status}"),
            Err(error) if error.ends_the_pass() => return Err(failed(error)),
            Err(error) => refused = error.to_string(),
        }
    }
    Ok(Probed::NotWritable(refused))
}

/// So long is waited for what was just made to be listed.
const LISTED_WITHIN: Duration = Duration::from_secs(10);

/// So often a folder is emptied that was not removed whole.
const EMPTIED: u32 = 8;

/// What a listing is like.
#[derive(Default)]
struct Listings {
    given: bool,
    late: bool,
    escapes_twice: bool,
    lengths: bool,
    dates: bool,
    itself: bool,
}

struct Room<'c> {
    client: &'c Client,
    folder: RelPath,
    /// After so many milliseconds what was made is listed.
    late: AtomicU64,
}

impl Room<'_> {
    fn url(&self, name: &str, folder: bool) -> Result<Url, SideError> {
        let path = name
            .split('/')
            .filter(|part| !part.is_empty())
            .try_fold(self.folder.clone(), |path, part| path.join(part))
            .map_err(|why| SideError::Failed(why.to_string()))?;
        Ok(self.client.url(&path, folder))
    }

    /// Finds out what there is to find, and removes all that was made for it.
    async fn found_and_cleared(&self, survey: &Survey) -> Result<Findings, SideError> {
        let found = self.all(survey).await;
        // Nobody else knows this folder, so all that is in it is ours.
        let cleared = self.clear(&self.folder).await;
        let mut findings = found?;
        if let Err(why) = cleared {
            if why.ends_the_pass() {
                return Err(why);
            }
            tracing::debug!("what the test made is still there: {why}");
            findings.left_behind = Some(self.folder.to_string());
        }
        Ok(findings)
    }

    /// Removes a folder with all that is in it; where the server leaves a part of it, that part first.
    fn clear<'a>(
        &'a self,
        folder: &'a RelPath,
    ) -> Pin<Box<dyn Future<Output = Result<(), SideError>> + Send + 'a>> {
        Box::pin(async move {
            let mut last = StatusCode::OK;
            for _ in 0..EMPTIED {
                let url = self.client.url(folder, true);
                let delete = || self.client.request("DELETE", url.clone());
                last = self.client.send(true, delete).await?.status();
                let in_part = last == StatusCode::MULTI_STATUS;
                if last == StatusCode::NOT_FOUND || last.is_success() && !in_part {
                    return Ok(());
                }
                for one in self.listing_of(folder).await? {
                    if one.path.parent().as_ref() != Some(folder) {
                        continue;
                    }
                    if one.is_folder {
                        self.clear(&one.path).await?;
                        continue;
                    }
                    let url = self.client.url(&one.path, false);
                    let delete = || self.client.request("DELETE", url.clone());
                    self.client.send(true, delete).await?;
                }
            }
            Err(SideError::Failed(format!(
                "the folder {folder} that the test made could not be removed again ({})",
                last.as_u16()
            )))
        })
    }

    async fn status(
        &self,
        method: &str,
        name: &str,
        folder: bool,
        with: impl Fn(RequestBuilder) -> RequestBuilder + Send + Sync,
    ) -> Result<u16, SideError> {
        let url = self.url(name, folder)?;
        let response = self
            .client
            .send(false, || {
                Ok(with(self.client.request(method, url.clone())?))
            })
            .await?;
        Ok(response.status().as_u16())
    }

    /// Writes a file; whether the server says it did.
    async fn put(&self, name: &str, content: &'static str) -> Result<bool, SideError> {
        let status = self
            .status("PUT", name, false, |request| request.body(content))
            .await?;
        Ok((200..300).contains(&status))
    }

    /// What a file holds; none where it is not there.
    async fn content(&self, name: &str) -> Result<Option<Bytes>, SideError> {
        let url = self.url(name, false)?;
        let response = self
            .client
            .send(true, || self.client.request("GET", url.clone()))
            .await?;
        if !response.status().is_success() {
            return Ok(None);
        }
        self.client.bytes(response).await.map(Some)
    }

    async fn holds(&self, name: &str, content: &str) -> Result<bool, SideError> {
        Ok(self
            .content(name)
            .await?
            .is_some_and(|there| there == content.as_bytes()))
    }

    async fn listing(&self) -> Result<Vec<Listed>, SideError> {
        self.listing_of(&self.folder).await
    }

    /// Waits for as long as what was made takes to be listed.
    async fn until_listed(&self) {
        tokio::time::sleep(Duration::from_millis(self.late.load(Ordering::Relaxed))).await;
    }

    async fn listing_of(&self, folder: &RelPath) -> Result<Vec<Listed>, SideError> {
        self.until_listed().await;
        listed(self.client, folder, "1").await
    }

    async fn tag(&self, name: &str) -> Result<Option<String>, SideError> {
        Ok(self.tag_and_id(name).await?.0)
    }

    async fn tag_and_id(&self, name: &str) -> Result<(Option<String>, Option<String>), SideError> {
        let found = self.listing().await?;
        Ok(found
            .into_iter()
            .find(|listed| listed.path.name() == name)
            .map_or((None, None), |listed| (listed.tag, listed.id)))
    }

    async fn to(
        &self,
        method: &str,
        from: &str,
        to: &str,
        header: (&'static str, &'static str),
    ) -> Result<u16, SideError> {
        let destination = self.url(to, false)?;
        self.status(method, from, false, |request| {
            request
                .header("destination", destination.as_str())
                .header(header.0, header.1)
        })
        .await
    }

    /// What a listing of a folder is like: whether it is given, how names stand in it, and how soon.
    async fn listings(&self) -> Result<Listings, SideError> {
        let name = "listed? 100%";
        let (served, name) = match self.put(name, "listed").await {
            Ok(true) => (true, name),
            _ => (self.put("listed", "listed").await?, "listed"),
        };
        let began = tokio::time::Instant::now();
        let mut found = Listings {
            late: false,
            ..Listings::default()
        };
        loop {
            let listed = match self.listing().await {
                Ok(listed) => listed,
                Err(error) if error.ends_the_pass() => return Err(error),
                // What was just made may be listed only later, the folder itself, too.
                Err(SideError::Missing) => Vec::new(),
                Err(_) => return Ok(found),
            };
            found.given |= !listed.is_empty();
            let twice = name
                .replace('%', "%25")
                .replace('?', "%3F")
                .replace(' ', "%20");
            let shown = |name: &str| listed.iter().find(|listed| listed.path.name() == name);
            let once = shown(name);
            if let Some(file) = once.or_else(|| shown(&twice)) {
                found.escapes_twice = once.is_none();
                found.lengths = file.length == Some(6);
                found.dates = file.modified.is_some();
                found.itself = listed.iter().any(|listed| listed.path == self.folder);
                if found.late {
                    let late = began.elapsed().as_millis() * 3 / 2;
                    let late = u64::try_from(late).unwrap_or(u64::MAX);
                    self.late.store(late, Ordering::Relaxed);
                }
                return Ok(found);
            }
            if !served || began.elapsed() > LISTED_WITHIN {
                return Ok(found);
            }
            found.late = true;
            tokio::time::sleep(PAUSE).await;
        }
    }

    /// What an answer to `GET` tells of the version that it is of.
    async fn read_tag(&self) -> Result<ReadTag, SideError> {
        self.put("read", "read").await?;
        let there = self.listing().await?;
        let there = there.iter().find(|listed| listed.path.name() == "read");
        let url = self.url("read", false)?;
        let response = self
            .client
            .send(true, || self.client.request("GET", url.clone()))
            .await?;
        let text = |name| {
            let value = response.headers().get(name)?;
            value.to_str().ok().map(str::to_owned)
        };
        let (tag, date) = (text(ETAG), text(LAST_MODIFIED));
        let bare = |tag: &str| tag.trim_start_matches("W/").trim_matches('"').to_owned();
        Ok(
            match (there.and_then(|there| there.tag.as_deref()), tag, date) {
                (Some(listed), Some(tag), _) if bare(listed) == bare(&tag) => ReadTag::Same,
                (Some(_), Some(_), _) => ReadTag::Other,
                (Some(_), None, _) => ReadTag::Nothing,
                (None, _, Some(date)) => {
                    let read = http_date(&date).map(|at| at.0 / 1_000_000_000);
                    match there
                        .is_some_and(|there| there.modified.is_some() && there.modified == read)
                    {
                        true => ReadTag::Same,
                        false => ReadTag::Other,
                    }
                }
                (None, _, None) => ReadTag::Nothing,
            },
        )
    }

    /// Whether a folder may have a name that begins with a dot. What the tool keeps there lies by that for good, so only a
    /// plain refusal is one.
    async fn takes_dots(&self) -> Result<Option<bool>, SideError> {
        let made = self
            .status("MKCOL", ".taken", true, |request| request)
            .await?;
        Ok(match made {
            200..300 => Some(true),
            400..500 => Some(false),
            _ => None,
        })
    }

    /// Whether a folder is moved with all that is in it.
    async fn moves_folders_whole(&self) -> Result<bool, SideError> {
        for folder in ["whole", "whole/deeper"] {
            self.status("MKCOL", folder, true, |request| request)
                .await?;
        }
        for file in ["whole/one", "whole/two", "whole/deeper/three"] {
            self.put(file, "moved whole").await?;
        }
        let destination = self.url("whole again", true)?;
        self.status("MOVE", "whole", true, |request| {
            request
                .header("destination", destination.as_str())
                .header("overwrite", "F")
        })
        .await?;
        for file in ["one", "two", "deeper/three"] {
            let came = self
                .holds(&format!("whole again/{file}"), "moved whole")
                .await?;
            let stayed = self.content(&format!("whole/{file}")).await?.is_some();
            if !came || stayed {
                return Ok(false);
            }
        }
        Ok(true)
    }

    async fn all(&self, survey: &Survey) -> Result<Findings, SideError> {
        let listings = self.listings().await?;
        self.client.escapes_twice(listings.escapes_twice);
        if !listings.given {
            return Err(SideError::Failed(
                "the server does not list what is in a folder (Depth: 1): nobody can see what lies there, and no lane can be tied to it".into(),
            ));
        }
        let (tags, put_has_tag) = self.tags().await?;
        self.put("moved", "moved").await?;
        self.put("not moved", "not moved").await?;
        let (before, id) = self.tag_and_id("moved").await?;
        let (_, other) = self.tag_and_id("not moved").await?;
        self.to("MOVE", "moved", "moved again", ("overwrite", "F"))
            .await?;
        let (after, id_after) = self.tag_and_id("moved again").await?;
        let move_keeps_tag = tags == Tags::Restless || after == before;
        let moves = self.holds("moved again", "moved").await?;
        let (refused_characters, unserved_characters, longest_name) = self.names().await?;
        let (tags_shared, tags_clock_made) = self.what_tags_are_made_of().await?;
        let (digests, listed_digests) = self.digests().await?;
        let found = Findings {
            server: survey.server.clone(),
            tags,
            put_has_tag,
            tags_shared,
            tags_clock_made,
            digests,
            listed_digests,
            read_tag: self.read_tag().await?,
            moves,
            moves_folders_whole: self.moves_folders_whole().await?,
            lists_members: listings.given,
            names_itself: listings.itself,
            tells_lengths: listings.lengths,
            tells_dates: listings.dates,
            lists_late: listings.late,
            escapes_twice: listings.escapes_twice,
            left_behind: None,
            takes_dots: self.takes_dots().await?,
            unserved_characters,
            move_keeps_tag,
            ids: id.is_some() && id == id_after && id != other,
            if_none_match: self.condition_on_put("if-none-match", "*").await?,
            if_match_put: self.condition_on_put("if-match", "\"no-such-tag\"").await?,
            if_match_delete: self.condition_on_delete().await?,
            if_match_move: self
                .condition_on("MOVE", ("if-match", "\"no-such-tag\""))
                .await?,
            if_match_copy: self
                .condition_on("COPY", ("if-match", "\"no-such-tag\""))
                .await?,
            no_overwrite_move: self.no_overwrite("MOVE").await?,
            no_overwrite_folder: self.no_overwrite_folder().await?,
            no_overwrite_copy: self.no_overwrite("COPY").await?,
            stranger_in_mid_body: self.stranger().await?,
            cut_put: self.cut().await?,
            partial_put: self.partial_put().await?,
            copies: {
                self.put("original", "the original").await?;
                self.to("COPY", "original", "copy", ("overwrite", "F"))
                    .await?;
                self.holds("copy", "the original").await?
            },
            infinity: self.infinity().await?,
            changes: self.changes().await?,
            quota: survey.used.is_some() || survey.free.is_some(),
            properties: self.properties().await?,
            lists_dots: {
                self.put(".dot", "dot").await?;
                self.tag_or_size(".dot").await?
            },
            case_differs: self.two_names("Case.txt", "case.txt").await?,
            unicode_differs: self.two_names("caf\u{e9}", "cafe\u{301}").await?,
            refused_characters,
            longest_name,
            sftp: None,
        };
        Ok(found)
    }

    async fn tag_or_size(&self, name: &str) -> Result<bool, SideError> {
        Ok(self
            .listing()
            .await?
            .iter()
            .any(|listed| listed.path.name() == name))
    }

    async fn tags(&self) -> Result<(Tags, bool), SideError> {
        let url = self.url("tagged", false)?;
        let (mut weak, mut coarse, mut absent, mut in_answer) = (false, false, false, false);
        let mut restless = false;
        let mut before: Option<String> = None;
        // Two writes within one second, more than once: a single pair may fall on both sides of a second.
        for content in ["version 1", "version 2", "version 3", "version 4"] {
            let response = self
                .client
                .send(false, || {
                    Ok(self.client.request("PUT", url.clone())?.body(content))
                })
                .await?;
            in_answer = response.headers().contains_key(ETAG);
            match self.tag("tagged").await? {
                None => absent = true,
                Some(tag) => {
                    weak |= tag.starts_with("W/");
                    let bare = tag.trim_start_matches("W/").trim_matches('"').to_owned();
                    coarse |= before.as_ref() == Some(&bare);
                    // Nobody wrote in between.
                    let again = self.tag("tagged").await?;
                    restless |= again.is_some_and(|again| {
                        again.trim_start_matches("W/").trim_matches('"') != bare
                    });
                    before = Some(bare);
                }
            }
        }
        let tags = match (absent, coarse, weak) {
            (true, ..) => Tags::Absent,
            _ if restless => Tags::Restless,
            (_, true, _) => Tags::Coarse,
            (_, _, true) => Tags::Weak,
            _ => Tags::Strong,
        };
        Ok((tags, in_answer))
    }

    /// Whether files of one size that come at the same time share a tag, and whether a tag tells size and time.
    async fn what_tags_are_made_of(&self) -> Result<(bool, bool), SideError> {
        let names: Vec<String> = (0..TOGETHER)
            .map(|number| format!("together {number}"))
            .collect();
        let puts = names.iter().map(|name| self.put(name, "together"));
        for put in futures_util::future::join_all(puts).await {
            put?;
        }
        let listed = self.listing().await?;
        let came = listed
            .iter()
            .filter(|listed| names.iter().any(|name| listed.path.name() == name));
        let (mut tags, mut shared, mut clock_made) = (BTreeSet::new(), false, false);
        for one in came {
            let Some(tag) = &one.tag else {
                return Ok((true, true));
            };
            shared |= !tags.insert(tag);
            // Where the time is not told, nobody can say that the tag is not made of it.
            clock_made |= one.modified.is_none() || is_clock_made(tag, one.modified);
        }
        Ok((shared, clock_made))
    }

    /// Whether the server tells the digest of what it holds, asked by name and in a listing; it must be no copy of what a
    /// client once said.
    async fn digests(&self) -> Result<(bool, bool), SideError> {
        let (mut told, mut listed) = (true, true);
        for content in ["digested", "digested anew"] {
            self.put("digested", content).await?;
            let right = sha256(content.as_bytes());
            let url = self.url("digested", false)?;
            let response = self
                .client
                .send(true, || {
                    let request = self.client.request("HEAD", url.clone())?;
                    Ok(request.header("want-repr-digest", "sha-256=10"))
                })
                .await?;
            let field = response.headers().get("repr-digest");
            let field = field.and_then(|field| field.to_str().ok());
            told &= field
                .and_then(read_digest)
                .is_some_and(|digest| digest.0 == right);
            // A property that anybody can set says nothing.
            let set = format!(
                "<?xml version=\"1.0\" encoding=\"utf-8\"?><propertyupdate xmlns=\"DAV:\"><set><prop>\
                 <repr-digest xmlns=\"{OWN_NAMESPACE}\">sha-256=:AAAA:</repr-digest></prop></set></propertyupdate>"
            );
            self.status("PROPPATCH", "digested", false, |request| {
                request
                    .header(CONTENT_TYPE, "application/xml; charset=utf-8")
                    .body(set.clone())
            })
            .await?;
            let found = self.listing().await?;
            let found = found
                .iter()
                .find(|listed| listed.path.name() == "digested")
                .and_then(|listed| read_digest(listed.digest.as_deref()?));
            listed &= found.is_some_and(|digest| digest.0 == right);
        }
        Ok((told, listed))
    }

    async fn condition_on_put(
        &self,
        name: &'static str,
        value: &'static str,
    ) -> Result<Keeps, SideError> {
        self.put("guarded", "before").await?;
        let status = self
            .status("PUT", "guarded", false, |request| {
                request.header(name, value).body("after!")
            })
            .await?;
        Ok(match (self.holds("guarded", "before").await?, status) {
            (true, 412) => Keeps::Obeyed,
            (true, _) => Keeps::Refused,
            (false, _) => Keeps::Ignored,
        })
    }

    async fn condition_on_delete(&self) -> Result<Keeps, SideError> {
        self.put("guarded", "before").await?;
        self.status("DELETE", "guarded", false, |request| {
            request.header("if-match", "\"no-such-tag\"")
        })
        .await?;
        Ok(if self.holds("guarded", "before").await? {
            Keeps::Obeyed
        } else {
            Keeps::Ignored
        })
    }

    async fn condition_on(
        &self,
        method: &str,
        header: (&'static str, &'static str),
    ) -> Result<Keeps, SideError> {
        self.put("guarded", "before").await?;
        let to = format!("{} of guarded", method.to_lowercase());
        let status = self.to(method, "guarded", &to, header).await?;
        let arrived = self.content(&to).await?.is_some();
        let stayed = self.holds("guarded", "before").await?;
        Ok(match (arrived, stayed, status) {
            (false, true, 412) => Keeps::Obeyed,
            (false, true, _) => Keeps::Refused,
            _ => Keeps::Ignored,
        })
    }

    async fn no_overwrite(&self, method: &str) -> Result<Keeps, SideError> {
        self.put("taken", "taken").await?;
        self.put("newcomer", "newcomer").await?;
        let status = self
            .to(method, "newcomer", "taken", ("overwrite", "F"))
            .await?;
        let untouched =
            self.holds("taken", "taken").await? && self.holds("newcomer", "newcomer").await?;
        Ok(match (untouched, status) {
            (true, 412) => Keeps::Obeyed,
            (true, _) => Keeps::Refused,
            (false, _) => Keeps::Ignored,
        })
    }

    /// Whether a file is moved over a folder, or into it, though nothing was to be written over.
    async fn no_overwrite_folder(&self) -> Result<Keeps, SideError> {
        self.status("MKCOL", "taken by a folder", true, |request| request)
            .await?;
        self.put("at a folder", "at a folder").await?;
        let status = self
            .to(
                "MOVE",
                "at a folder",
                "taken by a folder",
                ("overwrite", "F"),
            )
            .await?;
        let is_folder = self
            .listing()
            .await?
            .iter()
            .any(|listed| listed.path.name() == "taken by a folder" && listed.is_folder);
        let untouched = is_folder && self.holds("at a folder", "at a folder").await?;
        Ok(match (untouched, status) {
            (true, 412) => Keeps::Obeyed,
            (true, _) => Keeps::Refused,
            (false, _) => Keeps::Ignored,
        })
    }

    /// Our upload begins; somebody else's file comes to be under the name; then our upload goes on.
    async fn stranger(&self) -> Result<Keeps, SideError> {
        let url = self.url("meeting", false)?;
        let (go_on, wait) = tokio::sync::oneshot::channel::<()>();
        let body = stream::unfold(Some((wait, 0)), |state| async {
            let (wait, sent) = state?;
            if sent == 0 {
                return Some((
                    Ok::<_, std::io::Error>(Bytes::from_static(b"our first half, ")),
                    Some((wait, 1)),
                ));
            }
            // Nobody going on means that the test was given up.
            let _ = wait.await;
            Some((Ok(Bytes::from_static(b"our second")), None))
        });
        let request = self
            .client
            .request("PUT", url)?
            .header("if-none-match", "*")
            .header("content-length", 26)
            .body(Body::wrap_stream(body));
        let meanwhile = async {
            tokio::time::sleep(PAUSE).await;
            let put = self.put("meeting", "a stranger's").await;
            let _ = go_on.send(());
            put
        };
        let watch = Watch::default();
        let (ours, theirs) = tokio::join!(self.client.send_once(request, &watch), meanwhile);
        if !theirs? || matches!(ours, Err(ref error) if error.ends_the_pass()) {
            return Ok(Keeps::Refused);
        }
        Ok(if self.holds("meeting", "a stranger's").await? {
            Keeps::Obeyed
        } else {
            Keeps::Ignored
        })
    }

    /// Half an upload, and then the line is gone.
    async fn cut(&self) -> Result<CutPut, SideError> {
        let url = self.url("cut off", false)?;
        let body = stream::unfold(0, |sent| async move {
            match sent {
                0 => Some((Ok(Bytes::from(vec![b'x'; 100_000])), 1)),
                _ => {
                    // What was sent has to arrive before the line is cut.
                    tokio::time::sleep(PAUSE).await;
                    Some((Err(std::io::Error::other("cut off on purpose")), 2))
                }
            }
        });
        let request = self
            .client
            .request("PUT", url)?
            .header("content-length", 200_000)
            .body(Body::wrap_stream(body));
        // It fails, as it should.
        let _ = self.client.send_once(request, &Watch::default()).await;
        tokio::time::sleep(PAUSE).await;
        Ok(match self.content("cut off").await? {
            None => CutPut::Nothing,
            Some(_) => CutPut::Half,
        })
    }

    async fn partial_put(&self) -> Result<Keeps, SideError> {
        self.put("ranged", "0123456789").await?;
        let status = self
            .status("PUT", "ranged", false, |request| {
                request.header(CONTENT_RANGE, "bytes 3-5/10").body("abc")
            })
            .await?;
        let inside = self.content("ranged").await?;
        if inside.as_deref() == Some(b"012abc6789") {
            self.status("PUT", "ranged", false, |request| {
                request.header(CONTENT_RANGE, "bytes 10-12/13").body("def")
            })
            .await?;
            let longer = self.content("ranged").await?;
            return Ok(match longer.as_deref() {
                Some(b"012abc6789def") => Keeps::Obeyed,
                // Right inside a file and wrong at its end: not to be relied on for either.
                _ => Keeps::Ignored,
            });
        }
        Ok(match inside.as_deref() {
            Some(b"0123456789") if !(200..300).contains(&status) => Keeps::Refused,
            _ => Keeps::Ignored,
        })
    }

    async fn infinity(&self) -> Result<bool, SideError> {
        self.status("MKCOL", "deep", true, |request| request)
            .await?;
        self.put("deep/inside", "inside").await?;
        self.until_listed().await;
        match listed(self.client, &self.folder, "infinity").await {
            Ok(found) => Ok(found.iter().any(|listed| listed.path.name() == "inside")),
            Err(error) if error.ends_the_pass() => Err(error),
            Err(_) => Ok(false),
        }
    }

    /// Whether a token tells later what came, at any depth, and what went.
    async fn changes(&self) -> Result<bool, SideError> {
        self.status("MKCOL", "told", true, |request| request)
            .await?;
        self.put("told/gone later", "gone later").await?;
        let Some(token) = token_in(&self.told_since("").await?) else {
            return Ok(false);
        };
        self.status("MKCOL", "told/deep", true, |request| request)
            .await?;
        self.put("told/deep/inside", "inside").await?;
        self.status("DELETE", "told/gone later", false, |request| request)
            .await?;
        let told = self.told_since(&token).await?;
        let told = percent_encoding::percent_decode_str(&told).decode_utf8_lossy();
        Ok(token_in(&told).is_some_and(|next| next != token)
            && told.contains("told/deep/inside")
            && told.contains("told/gone later")
            && told.contains(" 404 "))
    }

    async fn told_since(&self, token: &str) -> Result<String, SideError> {
        self.until_listed().await;
        let body = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?><sync-collection xmlns=\"DAV:\"><sync-token>{}</sync-token>\
             <sync-level>infinite</sync-level><prop><getetag/></prop></sync-collection>",
            quick_xml::escape::escape(token)
        );
        let url = self.url("told", true)?;
        let response = self
            .client
            .send(false, || {
                Ok(self
                    .client
                    .request("REPORT", url.clone())?
                    .header("depth", "0")
                    .header(CONTENT_TYPE, "application/xml; charset=utf-8")
                    .body(body.clone()))
            })
            .await?;
        if response.status().as_u16() != 207 {
            return Ok(String::new());
        }
        let text = self.client.bytes(response).await?;
        Ok(String::from_utf8_lossy(&text).into_owned())
    }

    async fn properties(&self) -> Result<bool, SideError> {
        self.put("noted", "noted").await?;
        let set = "<?xml version=\"1.0\" encoding=\"utf-8\"?><propertyupdate xmlns=\"DAV:\"><set><prop>\
                   <test xmlns=\"urn:katabatic:properties\">kept &amp; found</test></prop></set></propertyupdate>";
        let ask = "<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind xmlns=\"DAV:\"><prop>\
                   <test xmlns=\"urn:katabatic:properties\"/></prop></propfind>";
        self.status("PROPPATCH", "noted", false, |request| {
            request
                .header(CONTENT_TYPE, "application/xml; charset=utf-8")
                .body(set)
        })
        .await?;
        self.until_listed().await;
        let url = self.url("noted", false)?;
        let response = self
            .client
            .send(true, || {
                Ok(self
                    .client
                    .request("PROPFIND", url.clone())?
                    .header("depth", "0")
                    .header(CONTENT_TYPE, "application/xml; charset=utf-8")
                    .body(ask))
            })
            .await?;
        let text = self.client.bytes(response).await?;
        Ok(String::from_utf8_lossy(&text).contains("kept &amp; found"))
    }

    async fn two_names(&self, one: &str, other: &str) -> Result<bool, SideError> {
        self.put(one, "one").await?;
        self.put(other, "other").await?;
        Ok(self.holds(one, "one").await? && self.holds(other, "other").await?)
    }

    /// The characters that names cannot hold, those of names that are listed and not given, and the longest name that was
    /// taken.
    async fn names(&self) -> Result<(String, String, usize), SideError> {
        let mut refused = String::new();
        let mut taken = Vec::new();
        for character in TRIED {
            let name = format!("with {character} in it");
            if self.put(&name, "x").await.unwrap_or(false) {
                taken.push((character, name));
            } else {
                refused.push(character);
            }
        }
        let shown: Vec<String> = self
            .listing()
            .await?
            .into_iter()
            .map(|listed| listed.path.name().to_owned())
            .collect();
        let mut unserved = String::new();
        for (character, name) in taken {
            // Taken, and listed under another name, is as bad as refused.
            if !shown.contains(&name) {
                refused.push(character);
            } else if !self.holds(&name, "x").await? {
                unserved.push(character);
            }
        }
        for length in LENGTHS {
            if self.put(&"n".repeat(length), "x").await.unwrap_or(false) {
                return Ok((refused, unserved, length));
            }
        }
        Ok((refused, unserved, 0))
    }
}

/// Whether a tag spells the time of its file, in seconds since 1970: whatever else is in it, another version that was given
/// the same time has it, too.
fn is_clock_made(tag: &str, modified: Option<i64>) -> bool {
    let parts = tag.split(|c: char| !c.is_ascii_alphanumeric());
    let numbers = parts.filter(|part| !part.is_empty()).flat_map(|part| {
        let hexadecimal = u64::from_str_radix(part, 16).ok();
        [hexadecimal, part.parse::<u64>().ok()]
    });
    let is_time = |number: u64| {
        modified.is_some_and(|at| {
            [1, 1_000, 1_000_000, 1_000_000_000].iter().any(|unit| {
                let seconds = i64::try_from(number / unit).unwrap_or(i64::MAX);
                seconds.abs_diff(at) <= 1
            })
        })
    };
    numbers.flatten().any(is_time)
}

fn sha256(content: &[u8]) -> [u8; 32] {
    let digest = ring::digest::digest(&ring::digest::SHA256, content);
    digest.as_ref().try_into().unwrap_or_default()
}

/// The change token in an answer; what prefix its namespace has is the server's choice.
fn token_in(answer: &str) -> Option<String> {
    let (_, rest) = answer
        .rsplit_once("sync-token>")
        .and_then(|(before, _)| before.rsplit_once("sync-token>"))?;
    let (token, _) = rest.split_once('<')?;
    let token = quick_xml::escape::unescape(token.trim()).ok()?;
    (!token.is_empty()).then(|| token.into_owned())
}
