//! The server itself: listening, signing in, drawing the mishap of each request, and handing it to its method.

use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE};
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;
use tokio::sync::RwLock;
use tokio::task::JoinHandle;

use crate::faults::{Faults, Mishap};
use crate::methods;
use crate::sign_in::{User, signed_in};
use crate::store::Store;

/// What a stand-in is started with.
#[derive(Debug)]
pub struct Config {
    /// Where the files lie: one folder a user.
    pub data: PathBuf,
    /// Where to listen; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Who has an account.
    pub users: Vec<User>,
    /// What goes wrong.
    pub faults: Arc<Faults>,
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
}

/// A stand-in that is running; it stops when this is dropped.
#[derive(Debug)]
pub struct Running {
    address: SocketAddr,
    data: PathBuf,
    task: JoinHandle<()>,
}

impl Running {
    /// The address to give to an account: `http://127.0.0.1:PORT/`.
    #[must_use]
    pub fn url(&self) -> String {
        format!("http://{}/", self.address)
    }

    /// Where the files of a user lie on disk.
    #[must_use]
    pub fn files_of(&self, user: &str) -> PathBuf {
        self.data.join(user)
    }

    /// Waits for as long as the server runs.
    pub async fn wait(mut self) {
        // A task that ended by itself has nothing to say; there is no other end but being stopped.
        let _ = (&mut self.task).await;
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// What all requests share.
pub(crate) struct Cloud {
    pub(crate) store: Store,
    pub(crate) users: Vec<User>,
    pub(crate) faults: Arc<Faults>,
    /// Held for writing while names change, so that a condition and what follows from it are one step.
    pub(crate) names: RwLock<()>,
}

pub(crate) type Body = BoxBody<Bytes, io::Error>;

/// The connection is to be cut without an answer.
#[derive(Debug)]
pub(crate) struct Cut;

impl std::fmt::Display for Cut {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("cut on purpose")
    }
}

impl std::error::Error for Cut {}

pub(crate) fn answer(status: StatusCode, text: &str) -> Response<Body> {
    let body = Full::new(Bytes::copy_from_slice(text.as_bytes()))
        .map_err(|never| match never {})
        .boxed();
    let mut response = Response::new(body);
    *response.status_mut() = status;
    response
}

/// Starts a stand-in.
///
/// # Errors
/// [`StandinError`] says whether the folder or the address was the trouble.
pub async fn start(config: Config) -> Result<Running, StandinError> {
    if !config.listen.ip().is_loopback() {
        return Err(StandinError::NotLoopback(config.listen));
    }
    let data = |error| StandinError::Data(config.data.clone(), error);
    let store = Store::new(&config.data).map_err(data)?;
    for user in &config.users {
        std::fs::create_dir_all(store.home(&user.name)).map_err(data)?;
    }
    let listener = TcpListener::bind(config.listen)
        .await
        .map_err(|error| StandinError::Listen(config.listen, error))?;
    let address = listener
        .local_addr()
        .map_err(|error| StandinError::Listen(config.listen, error))?;
    let cloud = Arc::new(Cloud {
        store,
        users: config.users,
        faults: config.faults,
        names: RwLock::new(()),
    });
    let task = tokio::spawn(accept(listener, cloud));
    Ok(Running {
        address,
        data: Path::new(&config.data).to_owned(),
        task,
    })
}

async fn accept(listener: TcpListener, cloud: Arc<Cloud>) {
    // Dropping the set when the server is stopped ends the connections too.
    let mut connections = tokio::task::JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                let Ok((stream, _)) = accepted else { continue };
                let _ = stream.set_nodelay(true);
                let cloud = Arc::clone(&cloud);
                connections.spawn(async move {
                    let service = hyper::service::service_fn(move |request| respond(Arc::clone(&cloud), request));
                    let http = hyper::server::conn::http1::Builder::new();
                    if let Err(error) = http.serve_connection(TokioIo::new(stream), service).await {
                        tracing::debug!("a connection ended: {error}");
                    }
                });
            }
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn respond(cloud: Arc<Cloud>, request: Request<Incoming>) -> Result<Response<Body>, Cut> {
    let mishap = cloud.faults.draw();
    tokio::time::sleep(mishap.delay).await;
    if mishap.busy {
        let mut response = answer(StatusCode::SERVICE_UNAVAILABLE, "busy\n");
        response
            .headers_mut()
            .insert(RETRY_AFTER, HeaderValue::from_static("0"));
        return Ok(response);
    }
    if mishap.broken {
        return Ok(answer(
            StatusCode::INTERNAL_SERVER_ERROR,
            "broken on purpose\n",
        ));
    }
    let header = request
        .headers()
        .get(AUTHORIZATION)
        .and_then(|value| value.to_str().ok());
    let Some(user) = signed_in(&cloud.users, header).map(|user| user.name.clone()) else {
        let mut response = answer(StatusCode::UNAUTHORIZED, "sign in\n");
        response.headers_mut().insert(
            WWW_AUTHENTICATE,
            HeaderValue::from_static("Basic realm=\"stand-in\""),
        );
        return Ok(response);
    };
    let Some(target) = Target::of(&cloud, &user, request.uri().path(), mishap) else {
        return Ok(answer(StatusCode::BAD_REQUEST, "that path leads nowhere\n"));
    };
    let method = request.method().as_str().to_owned();
    tracing::debug!(method, path = request.uri().path(), user);
    let mute = target.mishap.mute;
    let response = methods::dispatch(&cloud, target, request).await?;
    if mute { Err(Cut) } else { Ok(response) }
}

/// What a request is about.
pub(crate) struct Target {
    pub(crate) user: String,
    /// The path from the user's root, unescaped, without slashes at its ends.
    pub(crate) path: String,
    pub(crate) disk: PathBuf,
    pub(crate) mishap: Mishap,
}

impl Target {
    fn of(cloud: &Cloud, user: &str, request_path: &str, mishap: Mishap) -> Option<Target> {
        let disk = cloud.store.resolve(user, request_path)?;
        let path = disk
            .strip_prefix(cloud.store.home(user))
            .ok()?
            .to_str()?
            .to_owned();
        Some(Target {
            user: user.to_owned(),
            path,
            disk,
            mishap,
        })
    }
}
