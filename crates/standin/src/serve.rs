//! The server itself: listening, signing in, drawing the mishap of each request, and handing it to its method.

use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hyper::body::Incoming;
use hyper::header::{
    AUTHORIZATION, DATE, HeaderValue, LOCATION, RETRY_AFTER, SERVER, WWW_AUTHENTICATE,
};
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::RwLock;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::changes::Changes;
use crate::cloud::{Body, Cloud, Cut, Target, answer, answer_as};
use crate::device_grant::{Grant, GrantConfig, random_text};
use crate::faults::{Faults, Mishap};
use crate::habits::Habit;
use crate::listing::http_date_of;
use crate::locks::Locks;
use crate::people::{Group, People, PeopleError, Share, User};
use crate::request_line::RequestLines;
use crate::sign_in::{SignedIn, signed_in};
use crate::store::Store;
use crate::{contrary, control, methods, sign_in_pages, tls};

/// What a stand-in is started with.
#[derive(Debug)]
pub struct Config {
    /// Where the files lie: one folder a user.
    pub data: PathBuf,
    /// Where to listen; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Who has an account.
    pub users: Vec<User>,
    /// Several users under one name.
    pub groups: Vec<Group>,
    /// Folders that several users see.
    pub shares: Vec<Share>,
    /// Whether each user's own files and each shared folder are roots of their own, below a top that holds nothing else.
    pub several_roots: bool,
    /// The most bytes that each user's own folder may hold.
    pub quota: Option<u64>,
    /// Whether to speak TLS, with certificates of its own making.
    pub tls: bool,
    /// How the device grant is offered.
    pub grant: GrantConfig,
    /// Where to listen for changes of the faults, if at all.
    pub control: Option<SocketAddr>,
    /// What goes wrong.
    pub faults: Arc<Faults>,
}

impl Config {
    /// A stand-in on a free port, with nobody, nothing shared and no faults.
    #[must_use]
    pub fn new(data: &Path) -> Config {
        Config {
            data: data.to_owned(),
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            users: Vec::new(),
            groups: Vec::new(),
            shares: Vec::new(),
            several_roots: false,
            quota: None,
            tls: false,
            grant: GrantConfig::default(),
            control: None,
            faults: Arc::new(Faults::new(Vec::new(), 1)),
        }
    }
}

/// Why a stand-in did not start.
#[derive(Debug, thiserror::Error)]
pub enum StandinError {
    /// The folder for the files.
    #[error("cannot use {0} for the files: {1}")]
    Data(PathBuf, io::Error),
    /// The address.
    #[error("cannot listen on {0}: {1}")]
    Listen(SocketAddr, io::Error),
    /// It only ever serves this computer.
    #[error(
        "{0} is not an address of this computer alone; the stand-in listens on 127.0.0.1 or [::1] only"
    )]
    NotLoopback(SocketAddr),
    /// The certificates.
    #[error("cannot make the certificates: {0}")]
    Tls(io::Error),
    /// Users, groups and shares do not go together.
    #[error("{0}")]
    People(#[from] PeopleError),
}

/// A stand-in that is running; it stops when this is dropped.
#[derive(Debug)]
pub struct Running {
    url: String,
    control: Option<String>,
    authority: Option<PathBuf>,
    data: PathBuf,
    tasks: Vec<JoinHandle<()>>,
}

impl Running {
    /// The address to give to an account: `http://127.0.0.1:PORT/`.
    #[must_use]
    pub fn url(&self) -> String {
        self.url.clone()
    }

    /// The control address, where one was asked for.
    #[must_use]
    pub fn control(&self) -> Option<&str> {
        self.control.as_deref()
    }

    /// The certificate of the authority, where it speaks TLS.
    #[must_use]
    pub fn authority(&self) -> Option<&Path> {
        self.authority.as_deref()
    }

    /// Where the files of a user lie on disk.
    #[must_use]
    pub fn files_of(&self, user: &str) -> PathBuf {
        self.data.join(user)
    }

    /// Waits for as long as the server runs.
    pub async fn wait(mut self) {
        for task in &mut self.tasks {
            // A task that ended by itself has nothing to say; there is no other end but being stopped.
            let _ = task.await;
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

/// Starts a stand-in.
///
/// # Errors
/// [`StandinError`] says whether the folder, the address, the certificates or the people were the trouble.
pub async fn start(config: Config) -> Result<Running, StandinError> {
    let people = People::new(
        config.users,
        config.groups,
        config.shares,
        config.several_roots,
    )?;
    let data = |error| StandinError::Data(config.data.clone(), error);
    let store = Store::new(&config.data).map_err(data)?;
    for folder in people.folders(store.root()) {
        std::fs::create_dir_all(folder).map_err(data)?;
    }
    let tls = match config.tls {
        true => Some(tls::acceptor(store.root()).map_err(StandinError::Tls)?),
        false => None,
    };
    let seed = seed(&store).map_err(data)?;
    let (listener, address) = listen(config.listen).await?;
    let control = match config.control {
        Some(control) => Some(listen(control).await?),
        None => None,
    };
    let scheme = if tls.is_some() { "https" } else { "http" };
    let mut running = Running {
        url: format!("{scheme}://{address}/"),
        control: control
            .as_ref()
            .map(|(_, address)| format!("http://{address}/")),
        authority: config.tls.then(|| tls::authority_file(store.root())),
        data: store.root().to_owned(),
        tasks: Vec::new(),
    };
    let cloud = Arc::new(Cloud {
        grant: Grant::new(config.grant, store.own("tokens.json")),
        store,
        people,
        faults: config.faults,
        locks: Locks::default(),
        changes: Changes::default(),
        quota: config.quota,
        seed,
        scheme,
        names: RwLock::new(()),
    });
    if let Some((listener, _)) = control {
        let cloud = Arc::clone(&cloud);
        running
            .tasks
            .push(tokio::spawn(accept(listener, None, move |request| {
                control::respond(Arc::clone(&cloud), request)
            })));
    }
    running
        .tasks
        .push(tokio::spawn(accept(listener, tls, move |request| {
            respond(Arc::clone(&cloud), request)
        })));
    Ok(running)
}

async fn listen(at: SocketAddr) -> Result<(TcpListener, SocketAddr), StandinError> {
    if !at.ip().is_loopback() {
        return Err(StandinError::NotLoopback(at));
    }
    let failed = |error| StandinError::Listen(at, error);
    let listener = TcpListener::bind(at).await.map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    Ok((listener, address))
}

/// What the phones' keys are made of: kept, so that a phone goes on showing the right codes.
fn seed(store: &Store) -> io::Result<Vec<u8>> {
    let file = store.own("seed");
    match std::fs::read(&file) {
        Ok(seed) if !seed.is_empty() => Ok(seed),
        _ => {
            let seed = random_text().into_bytes();
            std::fs::write(&file, &seed)?;
            Ok(seed)
        }
    }
}

async fn accept<F, A>(listener: TcpListener, tls: Option<TlsAcceptor>, respond: F)
where
    F: Fn(Request<Incoming>) -> A + Clone + Send + Sync + 'static,
    A: Future<Output = Result<Response<Body>, Cut>> + Send,
{
    // Dropping the set when the server is stopped ends the connections too.
    let mut connections = tokio::task::JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                let Ok((stream, _)) = accepted else { continue };
                let (respond, tls) = (respond.clone(), tls.clone());
                connections.spawn(async move {
                    if let Err(error) = serve_connection(stream, tls, respond).await {
                        tracing::debug!("a connection ended: {error}");
                    }
                });
            }
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn serve_connection<F, A>(
    stream: TcpStream,
    tls: Option<TlsAcceptor>,
    respond: F,
) -> Result<(), Box<dyn std::error::Error + Send + Sync>>
where
    F: Fn(Request<Incoming>) -> A,
    A: Future<Output = Result<Response<Body>, Cut>>,
{
    stream.set_nodelay(true)?;
    let service = hyper::service::service_fn(respond);
    let http = hyper::server::conn::http1::Builder::new();
    match tls {
        Some(tls) => {
            let stream = TokioIo::new(RequestLines::new(tls.accept(stream).await?));
            http.serve_connection(stream, service).await?;
        }
        None => {
            http.serve_connection(TokioIo::new(RequestLines::new(stream)), service)
                .await?
        }
    }
    Ok(())
}

/// Longer than anybody waits.
async fn never() {
    tokio::time::sleep(Duration::from_secs(86_400)).await;
}

async fn respond(cloud: Arc<Cloud>, request: Request<Incoming>) -> Result<Response<Body>, Cut> {
    if let Some(page) = sign_in_pages::page_of(request.uri().path()) {
        return Ok(sign_in_pages::respond(&cloud, page, request).await);
    }
    let mishap = cloud.faults.draw();
    tokio::time::sleep(mishap.delay).await;
    let asked = request.method().as_str();
    let silent_to_it = mishap.silent_to.iter().any(|method| method == asked);
    if mishap.does(Habit::Silent) {
        never().await;
    }
    let (clock, software) = (mishap.clock, mishap.software.clone());
    let habits = mishap.clone();
    let looks_at_content = ["GET", "HEAD"].contains(&asked);
    let mut mishap = mishap;
    mishap.own_address = cloud.base(&request).trim_end_matches('/').to_owned();
    let mut response = match mishap_answer(&mishap, &request) {
        Some(response) => response,
        None => hand_over(&cloud, mishap, request).await?,
    };
    contrary::after(&habits, looks_at_content, &mut response);
    if silent_to_it {
        never().await;
    }
    let software =
        software.unwrap_or_else(|| concat!("stand-in/", env!("CARGO_PKG_VERSION")).into());
    if let Ok(software) = HeaderValue::from_str(&software) {
        response.headers_mut().insert(SERVER, software);
    }
    if let (Some(ahead), Ok(now)) = (clock, i64::try_from(unix_now())) {
        let date = http_date_of(now.saturating_add(ahead));
        if let Ok(date) = HeaderValue::from_str(&date) {
            response.headers_mut().insert(DATE, date);
        }
    }
    Ok(response)
}

fn unix_now() -> u64 {
    std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |since| since.as_secs())
}

/// The answer of a server that does not even look at what is asked.
fn mishap_answer(mishap: &Mishap, request: &Request<Incoming>) -> Option<Response<Body>> {
    if mishap.busy || mishap.too_many || mishap.come_back.is_some() {
        let status = if mishap.too_many {
            StatusCode::TOO_MANY_REQUESTS
        } else {
            StatusCode::SERVICE_UNAVAILABLE
        };
        let mut response = answer(status, "busy\n");
        response
            .headers_mut()
            .insert(RETRY_AFTER, mishap.come_back.unwrap_or(0).into());
        return Some(response);
    }
    if mishap.broken {
        return Some(answer(
            StatusCode::INTERNAL_SERVER_ERROR,
            "broken on purpose\n",
        ));
    }
    if mishap.does(Habit::Html) {
        return Some(answer_as(
            StatusCode::OK,
            "text/html; charset=utf-8",
            "<!DOCTYPE html><html><body>Welcome! Please use the sign-in form.</body></html>\n",
        ));
    }
    let changes = !matches!(
        request.method().as_str(),
        "GET" | "HEAD" | "OPTIONS" | "PROPFIND" | "REPORT"
    );
    if mishap.locked && changes {
        return Some(answer(StatusCode::LOCKED, "somebody has locked it\n"));
    }
    let to = mishap.redirect.as_ref()?;
    let to = match to.as_str() {
        "loop" => request.uri().path().to_owned(),
        to => to.to_owned(),
    };
    let mut response = answer(StatusCode::TEMPORARY_REDIRECT, "it is elsewhere\n");
    let value = HeaderValue::from_str(&to).ok()?;
    response.headers_mut().insert(LOCATION, value);
    Some(response)
}

async fn hand_over(
    cloud: &Cloud,
    mishap: Mishap,
    request: Request<Incoming>,
) -> Result<Response<Body>, Cut> {
    let header = request
        .headers()
        .get(AUTHORIZATION)
        .and_then(|value| value.to_str().ok());
    let user = match signed_in(&cloud.people.users, &cloud.grant, header) {
        SignedIn::As(user) => user,
        SignedIn::SecondStep => {
            return Ok(refuse_sign_in(
                cloud,
                "this account signs in with a second step; a program needs an app password\n",
            ));
        }
        SignedIn::Not => return Ok(refuse_sign_in(cloud, "sign in\n")),
    };
    if let Some(name) = methods::principal_of(request.uri().path()) {
        return Ok(methods::principal(cloud, name, &request));
    }
    let Some(target) = Target::of(cloud, &user, request.uri().path(), mishap) else {
        return Ok(answer(StatusCode::BAD_REQUEST, "that path leads nowhere\n"));
    };
    let method = request.method().as_str().to_owned();
    tracing::debug!(method, path = request.uri().path(), user);
    if let Some(response) = contrary::before(cloud, &target, &request) {
        return Ok(response);
    }
    let mute = target.mishap.mute;
    let response = methods::dispatch(cloud, target, request).await?;
    if mute { Err(Cut) } else { Ok(response) }
}

fn refuse_sign_in(cloud: &Cloud, text: &str) -> Response<Body> {
    let mut response = answer(StatusCode::UNAUTHORIZED, text);
    let headers = response.headers_mut();
    headers.append(
        WWW_AUTHENTICATE,
        HeaderValue::from_static("Basic realm=\"stand-in\", charset=\"UTF-8\""),
    );
    if cloud.grant.config.offered {
        headers.append(
            WWW_AUTHENTICATE,
            HeaderValue::from_static("Bearer realm=\"stand-in\""),
        );
    }
    response
}
