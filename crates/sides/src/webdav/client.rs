//! Requests to an account: addresses, sign-in, patience with a busy server, and the words for what it answers.

use async_trait::async_trait;
use std::hash::{BuildHasher, RandomState};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::BoxStream;
use futures_util::{StreamExt, TryStreamExt, stream};
use katabatic_core::RelPath;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::header::{
    ACCEPT_ENCODING, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, DATE, HeaderMap, HeaderValue,
    LOCATION, RETRY_AFTER,
};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use tokio::time::Instant;
use url::Url;

use super::entry::http_date;
use super::told::{Pieces, Told};
use crate::effort::ATTEMPTS;
use crate::net::rate::{Dials, Pace, Paces};
use crate::net::shared::Shared;
use crate::net::traffic::{Flight, Traffic};
use crate::net::{Http, Line, ProxyUsed};
use crate::secret::Secret;
use crate::side_error::Refusal;
use crate::stop::Stop;
use crate::{Outcome, SideError, Undone};
use katabatic_core::principal::Principal;

/// RFC 3986 §2.3: what may stand in a path as it is.
const IN_PATH: AsciiSet = NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~');

/// The longest time a server may ask us to wait before its request counts as stuck.
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// So many things a server may want otherwise in one request: a slash, and a length.
const WANTS: u32 = 2;

/// Where access tokens come from.
#[async_trait]
pub trait AccessTokens: std::fmt::Debug + Send + Sync {
    /// An access token that is good for a while.
    async fn access(&self) -> Result<String, SideError>;

    /// The server did not take this token, whatever its time says.
    async fn refused(&self, access: &str) -> Result<(), SideError>;

    /// The tokens as they are now, to be kept.
    async fn secret(&self) -> Secret;
}

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
    Tokens(Arc<dyn AccessTokens>),
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

/// The system may hold so many bytes that were handed over and are not on the line yet.
const BUFFERED: u64 = 4 * 1024 * 1024;

/// And on the slowest line that is waited for, so many of them go in a second.
const SLOWEST: f64 = 16_000.0;

/// When something last went up.
#[derive(Clone, Debug)]
pub(crate) struct Watch(Arc<Mutex<Watched>>);

#[derive(Debug)]
struct Watched {
    last: Instant,
    sent: u64,
    all: bool,
}

impl Default for Watch {
    fn default() -> Watch {
        Watch(Arc::new(Mutex::new(Watched {
            last: Instant::now(),
            sent: 0,
            all: false,
        })))
    }
}

impl Watch {
    fn watched(&self) -> MutexGuard<'_, Watched> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A request begins.
    fn begin(&self) {
        *self.watched() = Watched {
            last: Instant::now(),
            sent: 0,
            all: false,
        };
    }

    /// So many bytes are handed over now; with `all`, they are the last ones.
    pub(crate) fn sends(&self, bytes: u64, all: bool) {
        let mut watched = self.watched();
        watched.last = Instant::now();
        watched.sent += bytes;
        watched.all |= all;
    }

    /// When the server has been silent for too long, if nothing else goes up. Once all is handed over, what may still
    /// be on its way has its time, too.
    fn until(&self, patience: Duration) -> Instant {
        let watched = self.watched();
        let on_its_way = match watched.all {
            true => watched.sent.min(BUFFERED) as f64 / SLOWEST,
            false => 0.0,
        };
        watched.last + patience + Duration::from_secs_f64(on_its_way)
    }
}

/// A client of one account.
#[derive(Clone)]
pub struct Client {
    http: Http,
    connection: Connection,
    traffic: Traffic,
    /// What transfers keep to, up and down.
    pub(crate) up: Paces,
    pub(crate) down: Paces,
    pub(crate) stop: Stop,
    /// Whether the server escapes in listings what it has escaped; found out by the probe.
    escapes_twice: Arc<AtomicBool>,
}

impl Client {
    /// A client for this account that shares nothing with others.
    ///
    /// # Errors
    /// Where the line cannot be set up.
    pub fn new(connection: Connection, stop: Stop) -> Result<Client, SideError> {
        let none = Dials::default();
        let shared = Shared::new(&connection.line, &connection.address, [&none, &none])?;
        Ok(Client::sharing(connection, stop, &shared, &none))
    }

    /// A client for this account; `dials` are its own, beside those of the account.
    #[must_use]
    pub fn sharing(connection: Connection, stop: Stop, shared: &Shared, dials: &Dials) -> Client {
        let with = |[all, account]: &[Pace; 2], dial| {
            Paces([all.clone(), account.clone(), Pace::new(dial)])
        };
        Client {
            http: shared.http.clone(),
            traffic: shared.traffic.clone(),
            up: with(&shared.up, dials.up.clone()),
            down: with(&shared.down, dials.down.clone()),
            connection,
            stop,
            escapes_twice: Arc::default(),
        }
    }

    /// Whether the server escapes in listings what it has escaped.
    pub(crate) fn escapes_twice(&self, twice: bool) {
        self.escapes_twice.store(twice, Ordering::Relaxed);
    }

    pub(super) fn traffic(&self) -> &Traffic {
        &self.traffic
    }

    pub(super) fn patience(&self) -> Duration {
        self.connection.line.patience
    }

    /// The server's name.
    pub(super) fn host(&self) -> &str {
        let host = self.connection.address.host_str();
        host.unwrap_or("the server")
    }

    /// A request to the account's address that carries no credentials.
    pub(super) fn unsigned(&self, method: Method) -> RequestBuilder {
        let address = self.connection.address.clone();
        self.http.client.request(method, address)
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
            Some(found) => Err(SideError::refused(
                Refusal::OtherAccount,
                format!(
                    "another account answers at this address now: it was {known}, and now it is {} ({found})",
                    last_part(found)
                ),
            )),
            None => Err(SideError::refused(
                Refusal::OtherAccount,
                format!("the server does not say any more whose account this is; it was {known}"),
            )),
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
    ///
    /// Only its path counts. Servers behind others write a host, a port or a scheme that they have for themselves; nothing
    /// is ever asked for there.
    #[must_use]
    pub fn path_of(&self, href: &str) -> Option<RelPath> {
        let url = self.connection.address.join(href).ok()?;
        let base = &self.connection.address;
        // Decoded before they are compared: servers escape as they like.
        let decode = |text: &str| {
            percent_encoding::percent_decode_str(text)
                .decode_utf8()
                .ok()
                .map(|text| text.into_owned())
        };
        let (mut path, base) = (decode(url.path())?, decode(base.path())?);
        if self.escapes_twice.load(Ordering::Relaxed) {
            path = decode(&path)?;
        }
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
        let bytes = self.bytes(response).await?;
        let resources = super::multistatus::read(&bytes[..])
            .await
            .map_err(SideError::Failed)?;
        Ok(resources
            .into_iter()
            .find_map(|resource| resource.display_name))
    }

    /// A small request that must succeed; the answer's body.
    pub async fn expect(
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
        Ok(self.bytes(response).await?.to_vec())
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
        // RFC 9110 §12.5.3: where nothing is said, a server may compress as it likes.
        Ok(self
            .http
            .client
            .request(method, url)
            .header(ACCEPT_ENCODING, "identity"))
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
        Ok(self.send_held(harmless, build).await?.0)
    }

    /// As [`Client::send`]; the request counts as in flight until what comes along is dropped.
    pub(super) async fn send_held(
        &self,
        harmless: bool,
        build: impl Fn() -> Result<RequestBuilder, SideError> + Send + Sync,
    ) -> Result<(Response, Flight), SideError> {
        let mut attempt = 1;
        let mut renewed = false;
        loop {
            let last = attempt >= ATTEMPTS;
            let flight = self.traffic.begin().await;
            self.check_awake()?;
            let wait = match self.send_signed(build()?, None).await {
                // Turned away at the door: nothing was done, so whatever it was may be asked again.
                Ok(Answer::TokenRefused) if !renewed => {
                    renewed = true;
                    continue;
                }
                outcome => match outcome
                    .map_err(|unanswered| unanswered.error)
                    .and_then(|answer| self.answered(answer))
                {
                    Ok(response) if is_busy(response.status()) && !last => {
                        let wait = wait_asked(response.headers());
                        self.turned_away(wait);
                        wait
                    }
                    Ok(response) if is_busy(response.status()) => {
                        self.turned_away(wait_asked(response.headers()));
                        return Err(SideError::try_again(format!(
                            "the server is too busy ({})",
                            response.status().as_u16()
                        )));
                    }
                    Err(SideError::TryAgain(_)) if harmless && self.stop.is_over() => {
                        return Err(SideError::Stopped);
                    }
                    Err(SideError::TryAgain(_)) if harmless && !last => None,
                    outcome => {
                        flight.answered();
                        return outcome.map(|response| (response, flight));
                    }
                },
            };
            // Whoever waits takes no place.
            drop(flight);
            self.pause(attempt, wait).await?;
            attempt += 1;
        }
    }

    /// Sends a request that changes something under a name which others may see, and says what is known of it: an
    /// answer of the server itself, that it was not done, or that it may be done at any time.
    ///
    /// A busy server is asked again. Whether it had not done what it was asked before is not known then, as something on
    /// the way may have answered for it: the answer is [`Answered::Again`], and what it says of names (not there, taken) may
    /// be the work of the request before.
    pub(super) async fn send_change(
        &self,
        build: impl Fn() -> Result<RequestBuilder, SideError> + Send + Sync,
    ) -> Outcome<Answered> {
        let (mut attempt, mut renewed, mut in_doubt) = (1, false, false);
        loop {
            let not_done = |error| match in_doubt {
                true => Undone::Unsure(error),
                false => Undone::NotDone(error),
            };
            let flight = self.traffic.begin().await;
            self.check_awake().map_err(not_done)?;
            let request = build().map_err(not_done)?;
            let answer = match self.send_signed(request, None).await {
                Ok(Answer::TokenRefused) if !renewed => {
                    renewed = true;
                    continue;
                }
                Ok(answer) => answer,
                Err(Unanswered {
                    error,
                    may_have_left: false,
                }) => return Err(not_done(error)),
                Err(Unanswered { error, .. }) => return Err(Undone::Unsure(error)),
            };
            // Turned away or sent elsewhere: so says the server itself.
            let response = self.answered(answer).map_err(not_done)?;
            let status = response.status();
            if !is_busy(status) {
                flight.answered();
                // What it does not know it has not done (501).
                if status.is_server_error() && status != StatusCode::NOT_IMPLEMENTED {
                    return Err(Undone::Unsure(refusal(status)));
                }
                return Ok(match in_doubt {
                    true => Answered::Again(response),
                    false => Answered::Once(response),
                });
            }
            in_doubt |= status == StatusCode::SERVICE_UNAVAILABLE;
            let wait = wait_asked(response.headers());
            self.turned_away(wait);
            drop(flight);
            let busy = || refusal(status);
            if attempt >= ATTEMPTS {
                return Err(match in_doubt {
                    true => Undone::Unsure(busy()),
                    false => Undone::NotDone(busy()),
                });
            }
            if let Err(error) = self.pause(attempt, wait).await {
                return Err(match in_doubt {
                    true => Undone::Unsure(error),
                    false => Undone::NotDone(error),
                });
            }
            attempt += 1;
        }
    }

    /// The server is too busy, and may say for how long.
    fn turned_away(&self, asked: Option<Duration>) {
        let long = asked.filter(|asked| *asked > LONGEST_WAIT);
        if let Some(long) = long {
            self.traffic.stay_away(long);
        }
        self.traffic.turned_away(asked.filter(|_| long.is_none()));
    }

    /// Waits before another attempt: as long as the server asks, or a little longer each time.
    ///
    /// # Errors
    /// [`SideError::NotThere`] where the server asks for longer than a pass should stand still.
    pub async fn pause(&self, attempt: u32, asked: Option<Duration>) -> Result<(), SideError> {
        self.check_awake()?;
        let wait = match asked {
            Some(asked) => asked,
            None => {
                let longest = 100 << attempt.min(6);
                Duration::from_millis(longest / 2 + jitter() % (longest / 2))
            }
        };
        tokio::time::sleep(wait).await;
        Ok(())
    }

    /// Sends a request once, for which `watch` says when the last byte of it went up.
    ///
    /// # Errors
    /// As [`Client::send`].
    pub(crate) async fn send_once(
        &self,
        request: RequestBuilder,
        watch: &Watch,
    ) -> Result<Response, SideError> {
        let _flight = self.traffic.begin().await;
        self.check_awake()?;
        watch.begin();
        let answer = self
            .send_signed(request, Some(watch))
            .await
            .map_err(|unanswered| unanswered.error)?;
        if let Answer::Of(response) = &answer
            && is_busy(response.status())
        {
            self.turned_away(wait_asked(response.headers()));
        }
        match answer {
            Answer::TokenRefused => Err(SideError::try_again("the sign-in had to be renewed")),
            answer => self.answered(answer),
        }
    }

    /// Sends a request, and once more as the server wants to have it where it says how, and has done nothing.
    async fn send_signed(
        &self,
        request: RequestBuilder,
        watch: Option<&Watch>,
    ) -> Result<Answer, Unanswered> {
        let mut request = request;
        for _ in 0..WANTS {
            let again = request.try_clone();
            let answer = self.send_signed_once(request, watch).await?;
            let wanted = match (&answer, again) {
                (Answer::Of(response), Some(again)) => as_wanted(response, again),
                _ => None,
            };
            match wanted {
                Some(wanted) => request = wanted,
                None => return Ok(answer),
            }
        }
        self.send_signed_once(request, watch).await
    }

    async fn send_signed_once(
        &self,
        request: RequestBuilder,
        watch: Option<&Watch>,
    ) -> Result<Answer, Unanswered> {
        let (request, token) = match &self.connection.signer {
            Signer::Basic { user, password } => {
                (request.basic_auth(user, Some(password.reveal())), None)
            }
            Signer::Tokens(keeper) => {
                let token = keeper.access().await.map_err(Unanswered::never_left)?;
                (request.bearer_auth(&token), Some((keeper, token)))
            }
        };
        let response = self.within_patience(request, watch).await?;
        match token {
            Some((keeper, token)) if response.status() == StatusCode::UNAUTHORIZED => {
                keeper
                    .refused(&token)
                    .await
                    .map_err(Unanswered::never_left)?;
                Ok(Answer::TokenRefused)
            }
            _ => Ok(Answer::Of(response)),
        }
    }

    /// Not the whole time counts, which for a large file on a slow line may be days, but the time without a byte.
    async fn within_patience(
        &self,
        request: RequestBuilder,
        watch: Option<&Watch>,
    ) -> Result<Response, Unanswered> {
        let patience = self.patience();
        let began = Instant::now();
        let (http, request) = request.build_split();
        let request = request.map_err(|error| Unanswered::never_left(self.line_error(&error)))?;
        let told = Told::begin(&request);
        let mut sending = std::pin::pin!(http.execute(request));
        let mut given_up = std::pin::pin!(self.stop.given_up());
        loop {
            let until = || watch.map_or(began + patience, |watch| watch.until(patience));
            let sent = tokio::select! {
                sent = tokio::time::timeout_at(until(), &mut sending) => sent,
                () = &mut given_up => {
                    told.failed("was given up");
                    return Err(Unanswered::lost(self.gave_up()));
                }
            };
            match sent {
                Ok(Ok(mut response)) => {
                    self.traffic.answers();
                    told.answered(&mut response);
                    return Ok(response);
                }
                Ok(Err(error)) => {
                    let may_have_left = !(error.is_connect() || error.is_builder());
                    let error = self.line_error(&error);
                    told.failed(&error.to_string());
                    return Err(Unanswered {
                        error,
                        may_have_left,
                    });
                }
                Err(_) if until() > Instant::now() => {}
                Err(_) => {
                    told.failed("was not answered in time");
                    self.knock(began).await;
                    return Err(Unanswered::lost(self.silent()));
                }
            }
        }
    }

    /// The words for a request that was under way as everything had to end: like one whose line was cut.
    fn gave_up(&self) -> SideError {
        SideError::try_again(format!("it was stopped before {} answered", self.host()))
    }

    fn silent(&self) -> SideError {
        self.http.silent(&self.connection.address)
    }

    /// The body of an answer, piece by piece, no longer than the server is silent for as long as it may.
    pub(crate) fn body(
        &self,
        mut response: Response,
    ) -> BoxStream<'static, Result<Bytes, SideError>> {
        let (client, patience) = (self.clone(), self.patience());
        let pieces = Pieces::of(&mut response);
        let body = response.bytes_stream().inspect_ok(move |piece| {
            if let Some(pieces) = &pieces {
                pieces.came(piece.len());
            }
        });
        let body = body.boxed();
        stream::unfold(Some(body), move |body| {
            let client = client.clone();
            async move {
                let mut body = body?;
                let next = tokio::select! {
                    next = tokio::time::timeout(patience, body.next()) => next,
                    () = client.stop.given_up() => return Some((Err(SideError::Stopped), None)),
                };
                match next {
                    Ok(None) => None,
                    Ok(Some(Ok(chunk))) => Some((Ok(chunk), Some(body))),
                    Ok(Some(Err(error))) => Some((Err(client.line_error(&error)), None)),
                    Err(_) => Some((Err(client.silent()), None)),
                }
            }
        })
        .boxed()
    }

    /// The whole body of an answer that is known to be small.
    ///
    /// # Errors
    /// Where the line was cut.
    pub(crate) async fn bytes(&self, response: Response) -> Result<Bytes, SideError> {
        let mut body = self.body(response);
        let mut whole = Vec::new();
        while let Some(chunk) = body.next().await {
            whole.extend_from_slice(&chunk?);
        }
        Ok(whole.into())
    }

    fn answered(&self, answer: Answer) -> Result<Response, SideError> {
        let refused = |who: &str| Err(SideError::refused(Refusal::SignIn, who));
        let response = match (answer, &self.connection.signer) {
            (Answer::TokenRefused, _) => {
                return refused(
                    "the server does not take the sign-in, though it was just renewed (401)",
                );
            }
            (Answer::Of(response), signer) if response.status() == StatusCode::UNAUTHORIZED => {
                return match signer {
                    Signer::Basic { user, .. } => Err(SideError::refused(
                        Refusal::Password,
                        format!(
                            "the server does not accept the user name {user} with this password (401)"
                        ),
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
                .get(LOCATION)
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

/// What a server said to a request that changes something.
pub(super) enum Answered {
    /// To the only one that was sent.
    Once(Response),
    /// To the last one of several, of which an earlier one may have been done.
    Again(Response),
}

impl Answered {
    /// What it answered.
    pub(super) fn status(&self) -> StatusCode {
        match self {
            Answered::Once(response) | Answered::Again(response) => response.status(),
        }
    }

    /// The answer itself.
    pub(super) fn into_response(self) -> Response {
        match self {
            Answered::Once(response) | Answered::Again(response) => response,
        }
    }

    /// The undone request, where the server refused it: for certain, if it was the only one.
    pub(super) fn refused(&self) -> Undone {
        match self {
            Answered::Once(response) => Undone::NotDone(refusal(response.status())),
            Answered::Again(response) => Undone::Unsure(refusal(response.status())),
        }
    }
}

/// A request that no answer came to.
struct Unanswered {
    error: SideError,
    /// Whether it may have reached the server, which may do it still.
    may_have_left: bool,
}

impl Unanswered {
    fn never_left(error: SideError) -> Unanswered {
        Unanswered {
            error,
            may_have_left: false,
        }
    }

    fn lost(error: SideError) -> Unanswered {
        Unanswered {
            error,
            may_have_left: true,
        }
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

/// A request as the server says that it would take it: with the slash that it wants at the end of a folder's name, or with
/// the length of a body that there is not. None where it says nothing of this kind.
fn as_wanted(response: &Response, request: RequestBuilder) -> Option<RequestBuilder> {
    let status = response.status();
    let is_moved = matches!(
        status,
        StatusCode::MOVED_PERMANENTLY | StatusCode::PERMANENT_REDIRECT
    );
    if !is_moved && status != StatusCode::LENGTH_REQUIRED {
        return None;
    }
    let (client, request) = request.build_split();
    let mut request = request.ok()?;
    if is_moved {
        let mut with_slash = request.url().clone();
        with_slash.set_path(&format!("{}/", request.url().path()));
        let to = response.headers().get(LOCATION)?.to_str().ok()?;
        // Only the slash is taken from it: to another place or host, the credentials do not go.
        let to = request.url().join(to).ok()?;
        if request.url().path().ends_with('/') || to.path() != with_slash.path() {
            return None;
        }
        *request.url_mut() = with_slash;
        // What is moved is a folder, then, and stays one.
        if let Some(to) = request.headers().get("destination") {
            let to = HeaderValue::from_str(&format!("{}/", to.to_str().ok()?)).ok()?;
            request.headers_mut().insert("destination", to);
        }
    } else {
        let is_nothing = |body: &reqwest::Body| body.as_bytes().is_some_and(<[u8]>::is_empty);
        if !request.body().is_none_or(is_nothing) {
            return None;
        }
        request.headers_mut().insert(CONTENT_LENGTH, 0.into());
    }
    Some(RequestBuilder::from_parts(client, request))
}

fn is_busy(status: StatusCode) -> bool {
    matches!(
        status,
        StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE
    )
}

/// `Retry-After` (RFC 9110 §10.2.3): seconds, or a date, which counts from the server's own.
fn wait_asked(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get(RETRY_AFTER)?.to_str().ok()?.trim();
    if let Ok(seconds) = text.parse() {
        return Some(Duration::from_secs(seconds));
    }
    let (then, now) = (
        http_date(text)?,
        http_date(headers.get(DATE)?.to_str().ok()?)?,
    );
    u64::try_from(then.0.saturating_sub(now.0))
        .ok()
        .map(Duration::from_nanos)
}

/// Anything: so that transfers turned away together do not come back together.
fn jitter() -> u64 {
    RandomState::new().hash_one(0)
}

/// In which coding (RFC 9110 §8.4) an answer came, where that is another than was asked for.
pub(super) fn unasked_coding(headers: &HeaderMap) -> Option<SideError> {
    let coding = headers.get(CONTENT_ENCODING)?.to_str().unwrap_or("unknown");
    (!coding.eq_ignore_ascii_case("identity")).then(|| {
        SideError::Failed(format!(
            "the server, or something on the way, compresses what it sends (Content-Encoding: {coding}), though it was asked not to: switch that off there for this address"
        ))
    })
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
        405 | 501 => SideError::Failed(format!(
            "the server does not do what was asked ({}); what it can do: katabatic account test",
            status.as_u16()
        )),
        413 => SideError::Failed("the server takes no file of this size (413)".into()),
        423 => SideError::Failed("somebody has locked it there (423)".into()),
        429 | 503 => SideError::try_again(format!("the server is too busy ({})", status.as_u16())),
        507 => SideError::Full("the account is full (507)".into()),
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
        assert_eq!(
            client.path_of("https://inside.example:8443/dav/x"),
            Some(path("x")),
            "the host that a server has for itself is none to ask"
        );
        assert_eq!(client.path_of("/dav/a%2520b"), Some(path("a%20b")));
        client.escapes_twice(true);
        assert_eq!(client.path_of("/dav/a%2520b%253f"), Some(path("a b?")));
        assert_eq!(client.path_of("/dav/%252e%252e/x"), None);
        client.escapes_twice(false);
        for outside in [
            "/other/x",
            "/dav/../x",
            "/dav/%2e%2e/x",
            "/dav/a%00",
            "/dav/%ff",
            "/davx/a",
        ] {
            assert_eq!(client.path_of(outside), None, "{outside}");
        }
    }
}
