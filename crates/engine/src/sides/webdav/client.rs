//! Requests to an account: addresses, sign-in, patience with a busy server, and the words for what it answers.

use std::sync::Arc;
use std::time::Duration;

use katabatic_core::RelPath;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::header::{CONTENT_TYPE, HeaderMap, RETRY_AFTER};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use url::Url;

use crate::accounts::tokens::TokenKeeper;
use crate::net::{Http, Line, ProxyUsed};
use crate::secrets::Secret;
use crate::sides::SideError;
use crate::stop::Stop;

/// RFC 3986 §2.3: what may stand in a path as it is.
const IN_PATH: AsciiSet = NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~');

/// How often a request is made that a server was too busy for.
const ATTEMPTS: u32 = 4;

/// The longest time a server may ask us to wait before its request counts as stuck.
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// How somebody signs in.
#[derive(Clone, Debug)]
pub enum Signer {
    /// By name and password (RFC 7617).
    Basic {
        /// The name.
        user: String,
        /// The password.
        password: Secret,
    },
    /// By tokens that the device grant gave (RFC 6750).
    Tokens(Arc<TokenKeeper>),
}

/// How an account is reached.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The address of the WebDAV root, ending in a slash.
    pub address: Url,
    /// Who signs in, and with what.
    pub signer: Signer,
    /// Trust, proxy and patience.
    pub line: Line,
    /// Whose account it must be (RFC 5397), where that is known.
    pub principal: Option<Principal>,
    /// Whether nothing may be written there.
    pub read_only: bool,
}

/// Whose account it is (RFC 5397).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Principal {
    /// The address of the principal, as the server gives it.
    pub href: String,
    /// What it is called; the last part of the address where the server gives no name.
    pub name: String,
}

impl std::fmt::Display for Principal {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{} ({})", self.name, self.href)
    }
}

/// A client of one account, with one pool of connections.
#[derive(Clone)]
pub struct Client {
    http: Http,
    connection: Connection,
    pub(crate) stop: Stop,
}

impl Client {
    /// A client for this account.
    ///
    /// # Errors
    /// Where the line cannot be set up.
    pub fn new(connection: Connection, stop: Stop) -> Result<Client, SideError> {
        let http = connection
            .line
            .http(&connection.address)
            .map_err(SideError::Failed)?;
        Ok(Client {
            http,
            connection,
            stop,
        })
    }

    pub(super) fn is_read_only(&self) -> bool {
        self.connection.read_only
    }

    /// The proxy that is on the way.
    #[must_use]
    pub fn proxy(&self) -> &ProxyUsed {
        &self.http.proxy
    }

    /// Makes sure that the account is still the one that was added.
    ///
    /// # Errors
    /// [`SideError::Refused`] with both names where another one answers.
    pub(crate) fn check_principal(&self, found: Option<&str>) -> Result<(), SideError> {
        let Some(known) = &self.connection.principal else {
            return Ok(());
        };
        match found {
            Some(found) if same_href(&self.connection.address, found, &known.href) => Ok(()),
            Some(found) => Err(SideError::Refused(format!(
                "another account answers at this address now: it was {known}, and now it is {} ({found})",
                last_part(found)
            ))),
            None => Err(SideError::Refused(format!(
                "the server does not say any more whose account this is; it was {known}"
            ))),
        }
    }

    /// The address of a path below the account's; a folder's ends in a slash, as some servers insist.
    #[must_use]
    pub fn url(&self, path: &RelPath, folder: bool) -> Url {
        let mut url = self.connection.address.clone();
        let parts: Vec<String> = path
            .parts()
            .map(|part| utf8_percent_encode(part, &IN_PATH).to_string())
            .collect();
        let slash = if folder && !parts.is_empty() { "/" } else { "" };
        url.set_path(&format!(
            "{}{}{slash}",
            self.connection.address.path(),
            parts.join("/")
        ));
        url
    }

    /// The path below the account's address that an `href` of the server means; none where it leads elsewhere.
    #[must_use]
    pub fn path_of(&self, href: &str) -> Option<RelPath> {
        let url = self.connection.address.join(href).ok()?;
        let base = &self.connection.address;
        if (url.host_str(), url.port_or_known_default())
            != (base.host_str(), base.port_or_known_default())
        {
            return None;
        }
        // Decoded before they are compared: servers escape as they like.
        let decode = |text: &str| {
            percent_encoding::percent_decode_str(text)
                .decode_utf8()
                .ok()
                .map(|text| text.into_owned())
        };
        let (path, base) = (decode(url.path())?, decode(base.path())?);
        let below = path
            .strip_prefix(&base)
            .or_else(|| (format!("{path}/") == base).then_some(""))?;
        RelPath::parse(below.strip_suffix('/').unwrap_or(below)).ok()
    }

    /// What the resource at an address of this server is called; its address may lie outside of the account's folder.
    pub(super) async fn display_name(&self, href: &str) -> Result<Option<String>, SideError> {
        let url =
            self.connection.address.join(href).map_err(|why| {
                SideError::Failed(format!("the server names an odd address: {why}"))
            })?;
        if url.origin() != self.connection.address.origin() {
            // Credentials go to the account's own server only.
            return Ok(None);
        }
        let body = "<?xml version=\"1.0\"?><propfind xmlns=\"DAV:\"><prop><displayname/></prop></propfind>";
        let build = || {
            Ok(self
                .request("PROPFIND", url.clone())?
                .header("depth", "0")
                .header(CONTENT_TYPE, "application/xml; charset=utf-8")
                .body(body))
        };
        let response = self.send(true, build).await?;
        if response.status() != StatusCode::MULTI_STATUS {
            return Ok(None);
        }
        let bytes = response
            .bytes()
            .await
            .map_err(|error| self.line_error(&error))?;
        let resources = super::multistatus::read(&bytes[..])
            .await
            .map_err(SideError::Failed)?;
        Ok(resources
            .into_iter()
            .find_map(|resource| resource.display_name))
    }

    /// A small request that must succeed; the answer's body.
    pub(crate) async fn expect(
        &self,
        method: &str,
        url: Url,
        body: Option<&'static [u8]>,
    ) -> Result<Vec<u8>, SideError> {
        let build = || {
            let request = self.request(method, url.clone())?;
            Ok(match body {
                Some(body) => request.body(body),
                None => request,
            })
        };
        let response = self.send(false, build).await?;
        if !response.status().is_success() {
            return Err(refusal(response.status()));
        }
        let bytes = response
            .bytes()
            .await
            .map_err(|error| self.line_error(&error))?;
        Ok(bytes.to_vec())
    }

    /// A request; it is signed in when it is sent.
    ///
    /// Nothing that could write is ever sent to an account that may only be read.
    ///
    /// # Errors
    /// [`SideError::Failed`] where it may not be sent.
    pub fn request(&self, method: &str, url: Url) -> Result<RequestBuilder, SideError> {
        let only_looks = ["GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT"].contains(&method);
        if self.connection.read_only && !only_looks {
            return Err(SideError::Failed(
                "the account was added read-only, and nothing is written to it".into(),
            ));
        }
        let method = Method::from_bytes(method.as_bytes()).unwrap_or(Method::GET);
        Ok(self.http.client.request(method, url))
    }

    /// Sends a request that may be repeated where the server was too busy, or the line was cut and `harmless` says
    /// that doing it twice is the same as doing it once.
    ///
    /// # Errors
    /// [`SideError::Refused`] where the sign-in is not accepted, [`SideError::NotThere`] where nobody answers,
    /// [`SideError::TryAgain`] where it stayed busy or was cut.
    pub async fn send(
        &self,
        harmless: bool,
        build: impl Fn() -> Result<RequestBuilder, SideError> + Send + Sync,
    ) -> Result<Response, SideError> {
        let mut attempt = 1;
        let mut renewed = false;
        loop {
            let last = attempt >= ATTEMPTS;
            let wait = match self.send_signed(build()?).await {
                // Turned away at the door: nothing was done, so whatever it was may be asked again.
                Ok(Answer::TokenRefused) if !renewed => {
                    renewed = true;
                    continue;
                }
                outcome => match outcome.and_then(|answer| self.answered(answer)) {
                    Ok(response) if is_busy(response.status()) && !last => {
                        wait_asked(response.headers())
                    }
                    Ok(response) if is_busy(response.status()) => {
                        return Err(SideError::TryAgain(format!(
                            "the server is too busy ({})",
                            response.status().as_u16()
                        )));
                    }
                    Err(SideError::TryAgain(_)) if harmless && !last => None,
                    outcome => return outcome,
                },
            };
            self.pause(attempt, wait).await?;
            attempt += 1;
        }
    }

    /// Waits before another attempt: as long as the server asks, or a little longer each time.
    ///
    /// # Errors
    /// [`SideError::TryAgain`] where the server asks for longer than a pass should stand still.
    pub async fn pause(&self, attempt: u32, asked: Option<Duration>) -> Result<(), SideError> {
        let wait = match asked {
            Some(asked) if asked > LONGEST_WAIT => {
                return Err(SideError::TryAgain(format!(
                    "the server asks to come back in {} s",
                    asked.as_secs()
                )));
            }
            Some(asked) => asked,
            // Jitter, so that eight transfers turned away together do not come back together.
            None => Duration::from_millis(
                (50 << attempt.min(6)) + u64::from(std::process::id() % 37) * u64::from(attempt),
            ),
        };
        tokio::time::sleep(wait).await;
        Ok(())
    }

    /// Sends a request once.
    ///
    /// # Errors
    /// As [`Client::send`].
    pub async fn send_once(&self, request: RequestBuilder) -> Result<Response, SideError> {
        match self.send_signed(request).await? {
            Answer::TokenRefused => {
                Err(SideError::TryAgain("the sign-in had to be renewed".into()))
            }
            answer => self.answered(answer),
        }
    }

    async fn send_signed(&self, request: RequestBuilder) -> Result<Answer, SideError> {
        let (request, token) = match &self.connection.signer {
            Signer::Basic { user, password } => {
                (request.basic_auth(user, Some(password.reveal())), None)
            }
            Signer::Tokens(keeper) => {
                let token = keeper.access().await?;
                (request.bearer_auth(&token), Some((keeper, token)))
            }
        };
        let response = request
            .send()
            .await
            .map_err(|error| self.line_error(&error))?;
        match token {
            Some((keeper, token)) if response.status() == StatusCode::UNAUTHORIZED => {
                keeper.refused(&token).await?;
                Ok(Answer::TokenRefused)
            }
            _ => Ok(Answer::Of(response)),
        }
    }

    fn answered(&self, answer: Answer) -> Result<Response, SideError> {
        let refused = |who: &str| Err(SideError::Refused(who.to_owned()));
        let response = match (answer, &self.connection.signer) {
            (Answer::TokenRefused, _) => {
                return refused(
                    "the server does not take the sign-in, though it was just renewed (401)",
                );
            }
            (Answer::Of(response), signer) if response.status() == StatusCode::UNAUTHORIZED => {
                return match signer {
                    Signer::Basic { user, .. } => refused(&format!(
                        "the server does not accept the user name {user} with this password (401)"
                    )),
                    Signer::Tokens(_) => refused("the server does not take the sign-in (401)"),
                };
            }
            (Answer::Of(response), _) => response,
        };
        let status = response.status();
        if status.is_redirection() && status != StatusCode::NOT_MODIFIED {
            let to = response
                .headers()
                .get(reqwest::header::LOCATION)
                .and_then(|value| value.to_str().ok());
            // Never followed: whoever stands there would get the credentials.
            return Err(SideError::Failed(format!(
                "the server sends us elsewhere ({}): {}",
                status.as_u16(),
                to.unwrap_or("?")
            )));
        }
        Ok(response)
    }

    /// The words for a line that failed.
    #[must_use]
    pub fn line_error(&self, error: &reqwest::Error) -> SideError {
        self.http.line_error(&self.connection.address, error)
    }
}

/// How a signed request ended, apart from the line.
enum Answer {
    Of(Response),
    /// The token was not taken, and has been renewed.
    TokenRefused,
}

/// Whether two addresses of principals are the same one, however they are written.
pub(crate) fn same_href(base: &Url, one: &str, other: &str) -> bool {
    let plain = |href: &str| {
        let url = base.join(href).ok()?;
        let path = percent_encoding::percent_decode_str(url.path())
            .decode_utf8_lossy()
            .trim_end_matches('/')
            .to_owned();
        Some((url.origin(), path))
    };
    plain(one).is_some() && plain(one) == plain(other)
}

/// The last part of an address, readable.
pub(crate) fn last_part(href: &str) -> String {
    let last = href
        .trim_end_matches('/')
        .rsplit('/')
        .next()
        .unwrap_or(href);
    percent_encoding::percent_decode_str(last)
        .decode_utf8_lossy()
        .into_owned()
}

fn is_busy(status: StatusCode) -> bool {
    matches!(
        status,
        StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE
    )
}

/// `Retry-After` in seconds (RFC 9110 §10.2.3); a date is rare and is read as "a little later".
fn wait_asked(headers: &HeaderMap) -> Option<Duration> {
    headers
        .get(RETRY_AFTER)?
        .to_str()
        .ok()?
        .trim()
        .parse()
        .ok()
        .map(Duration::from_secs)
}

/// The words for an answer that is not what was asked for.
#[must_use]
pub fn refusal(status: StatusCode) -> SideError {
    match status.as_u16() {
        403 => SideError::Failed(
            "the server does not allow it (403): this account may only read there".into(),
        ),
        404 => SideError::Missing,
        409 => SideError::Failed("the folder it lies in is not there (409)".into()),
        412 => SideError::Changed("another version is there (412)".into()),
        413 => SideError::Failed("the server takes no file of this size (413)".into()),
        423 => SideError::Failed("somebody has locked it there (423)".into()),
        429 | 503 => SideError::TryAgain(format!("the server is too busy ({})", status.as_u16())),
        507 => {
            SideError::Full("the account is full (507); free some room there and sync again".into())
        }
        code => SideError::Failed(format!("the server answered {code}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn client(address: &str) -> Client {
        let connection = Connection {
            address: Url::parse(address).unwrap(),
            signer: Signer::Basic {
                user: "librarian".into(),
                password: Secret::new("x".into()),
            },
            line: Line::default(),
            principal: None,
            read_only: false,
        };
        Client::new(connection, Stop::default()).unwrap()
    }

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[test]
    fn every_name_survives_the_way_to_an_address_and_back() {
        let client = client("http://127.0.0.1:1/dav/me%20too/");
        for name in [
            "a b",
            "50% off?",
            "#1",
            "q\"u'o",
            "new\nline",
            "né🎻",
            "a+b;c=d&e",
            ":colon:",
            "%41",
            "http:x",
        ] {
            for folder in [false, true] {
                let url = client.url(&path("Scores").join(name).unwrap(), folder);
                assert_eq!(
                    client.path_of(url.as_str()),
                    Some(path("Scores").join(name).unwrap()),
                    "{name:?} {url}"
                );
                assert_eq!(
                    client.path_of(url.path()),
                    Some(path("Scores").join(name).unwrap()),
                    "{name:?}"
                );
            }
        }
    }

    #[test]
    fn an_href_is_understood_in_any_spelling_and_never_leaves_the_root() {
        let client = client("http://127.0.0.1:1/dav/");
        assert_eq!(client.path_of("/dav/"), Some(RelPath::root()));
        assert_eq!(client.path_of("/dav"), Some(RelPath::root()));
        assert_eq!(
            client.path_of("http://127.0.0.1:1/d%61v/a%2fb"),
            Some(path("a/b"))
        );
        assert_eq!(client.path_of("/dav/caf%c3%a9/"), Some(path("café")));
        for outside in [
            "/other/x",
            "/dav/../x",
            "http://elsewhere/dav/x",
            "/dav/%2e%2e/x",
            "/dav/a%00",
            "/dav/%ff",
            "/davx/a",
        ] {
            assert_eq!(client.path_of(outside), None, "{outside}");
        }
    }
}
