//! Requests to an account: addresses, sign-in, patience with a busy server, and the words for what it answers.

use std::time::Duration;

use katabatic_core::RelPath;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::header::{HeaderMap, RETRY_AFTER};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use url::Url;

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

/// How an account is reached.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The address of the WebDAV root, ending in a slash.
    pub address: Url,
    /// Who signs in.
    pub user: String,
    /// With what.
    pub password: Secret,
}

/// A client of one account, with one pool of connections.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    connection: Connection,
    pub(crate) stop: Stop,
}

impl Client {
    /// A client for this account.
    ///
    /// # Errors
    /// Where the TLS library cannot be set up.
    pub fn new(connection: Connection, stop: Stop) -> Result<Client, SideError> {
        // Another client may have installed the provider already; it is the same one.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let mut builder = reqwest::Client::builder();
        if connection.address.scheme() == "http" {
            // Reading the system's certificates takes longer than a small pass, and nothing here will need them.
            builder = builder.tls_certs_only([]);
        }
        let http = builder
            .redirect(reqwest::redirect::Policy::none())
            .connect_timeout(Duration::from_secs(20))
            .read_timeout(Duration::from_secs(60))
            .pool_max_idle_per_host(16)
            .tcp_nodelay(true)
            .user_agent(concat!("katabatic/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|error| {
                SideError::Failed(format!("setting up the connection: {}", chain(&error)))
            })?;
        Ok(Client {
            http,
            connection,
            stop,
        })
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

    /// A request, signed in.
    pub fn request(&self, method: &str, url: Url) -> RequestBuilder {
        let method = Method::from_bytes(method.as_bytes()).unwrap_or(Method::GET);
        self.http.request(method, url).basic_auth(
            &self.connection.user,
            Some(self.connection.password.reveal()),
        )
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
        build: impl Fn() -> RequestBuilder + Send + Sync,
    ) -> Result<Response, SideError> {
        let mut attempt = 1;
        loop {
            let last = attempt >= ATTEMPTS;
            let wait = match self.send_once(build()).await {
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
        let response = request
            .send()
            .await
            .map_err(|error| self.line_error(&error))?;
        match response.status() {
            StatusCode::UNAUTHORIZED => Err(SideError::Refused(format!(
                "the server does not accept the user name or the password of {} (401)",
                self.connection.user
            ))),
            status if status.is_redirection() && status != StatusCode::NOT_MODIFIED => {
                let to = response
                    .headers()
                    .get(reqwest::header::LOCATION)
                    .and_then(|value| value.to_str().ok());
                Err(SideError::Failed(format!(
                    "the server sends us elsewhere ({}): {}",
                    status.as_u16(),
                    to.unwrap_or("?")
                )))
            }
            _ => Ok(response),
        }
    }

    /// The words for a line that failed.
    #[must_use]
    pub fn line_error(&self, error: &reqwest::Error) -> SideError {
        let host = self.connection.address.host_str().unwrap_or("the server");
        if error.is_connect() {
            return SideError::NotThere(format!("{host} does not answer: {}", chain(error)));
        }
        if error.is_timeout() {
            return SideError::TryAgain(format!("{host} sent nothing for a minute"));
        }
        SideError::TryAgain(format!(
            "the connection to {host} was cut: {}",
            chain(error)
        ))
    }
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

/// The innermost reason of an error, which says what happened; the outer ones say that it happened in a request.
fn chain(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}

/// The words for an answer that is not what was asked for.
#[must_use]
pub fn refusal(status: StatusCode) -> SideError {
    match status.as_u16() {
        403 => SideError::Failed("the server does not allow it (403)".into()),
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
            user: "librarian".into(),
            password: Secret::new("x".into()),
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
