//! A gateway between the program and a server, which does to one request what gateways do: it answers before the server
//! does, or the line is cut.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use http_body_util::{BodyExt, Full};
use hyper::body::{Bytes, Incoming};
use hyper::http::request::Parts;
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// What becomes of the one request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// Answered 504; the server does it at once.
    AnsweredAndDone,
    /// Answered 504; the server does it after so many more requests have come.
    AnsweredAndDoneLater(usize),
    /// Answered 504; the server does it when everything else of the day is done.
    AnsweredAndDoneLast,
    /// Not answered, however long anybody waits; the server does it when everything else of the day is done.
    SilentAndDoneLast,
    /// The line is cut before the server has it.
    CutBefore,
    /// The server does it, and the line is cut before its answer.
    CutAfter,
}

impl How {
    /// What the days are lived through with, of which each goes on after it.
    pub const OF_A_DAY: [How; 5] = [
        How::AnsweredAndDone,
        How::AnsweredAndDoneLater(12),
        How::AnsweredAndDoneLast,
        How::CutBefore,
        How::CutAfter,
    ];

    pub fn words(self) -> &'static str {
        match self {
            How::AnsweredAndDone => "504, done at once",
            How::AnsweredAndDoneLater(_) => "504, done 12 requests later",
            How::AnsweredAndDoneLast => "504, done after the day",
            How::SilentAndDoneLast => "no answer, done after the day",
            How::CutBefore => "cut before",
            How::CutAfter => "cut after",
        }
    }
}

/// Whether a request is the one that is meant: its number, from 0, and what it is.
type IsMeant = Box<dyn Fn(usize, &Parts) -> bool + Send>;

#[derive(Default)]
struct State {
    /// Which request is meant, and what becomes of it. There is one at most.
    meant: Option<(IsMeant, How)>,
    /// What it was.
    was: Option<String>,
    late: Option<tokio::task::JoinHandle<()>>,
}

/// Requests that came since the count was set back.
#[derive(Clone, Copy, Default)]
struct Clock {
    came: usize,
    meant_one_came: bool,
    day_is_over: bool,
}

pub struct Proxy {
    pub address: String,
    state: Arc<Mutex<State>>,
    clock: watch::Sender<Clock>,
    runtime: tokio::runtime::Runtime,
}

type Answer = Response<Full<Bytes>>;

impl Proxy {
    /// Between this computer and a server of it.
    pub fn before(server: SocketAddr) -> Proxy {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let listener = runtime.block_on(TcpListener::bind("127.0.0.1:0")).unwrap();
        let address = format!("http://{}/", listener.local_addr().unwrap());
        let state = Arc::new(Mutex::new(State::default()));
        let (clock, _) = watch::channel(Clock::default());
        let (shared, ticks) = (Arc::clone(&state), clock.clone());
        runtime.spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (shared, ticks) = (Arc::clone(&shared), ticks.clone());
                tokio::spawn(async move {
                    let service = service_fn(|request| {
                        answer(server, Arc::clone(&shared), ticks.clone(), request)
                    });
                    let serving = hyper::server::conn::http1::Builder::new();
                    // A line that is cut on purpose ends in an error.
                    let _ = serving
                        .serve_connection(TokioIo::new(stream), service)
                        .await;
                });
            }
        });
        Proxy {
            address,
            state,
            clock,
            runtime,
        }
    }

    /// Counts anew; the first request is meant of which this is true.
    pub fn means(&self, is_meant: impl Fn(usize, &Parts) -> bool + Send + 'static, how: How) {
        *self.state.lock().unwrap() = State {
            meant: Some((Box::new(is_meant), how)),
            ..State::default()
        };
        self.clock.send_replace(Clock::default());
    }

    /// Waits until the request that is meant has come.
    pub fn waits_for_it(&self) {
        let mut clock = self.clock.subscribe();
        let came = clock.wait_for(|clock| clock.meant_one_came);
        self.runtime.block_on(came).unwrap();
    }

    /// The day is over: what was to be done late is done now. How many requests came, and which one was meant.
    pub fn day_is_over(&self) -> (usize, Option<String>) {
        self.clock.send_modify(|clock| clock.day_is_over = true);
        let (was, late) = {
            let mut state = self.state.lock().unwrap();
            state.meant = None;
            (state.was.take(), state.late.take())
        };
        if let Some(late) = late {
            self.runtime.block_on(late).unwrap();
        }
        (self.clock.borrow().came, was)
    }
}

async fn answer(
    server: SocketAddr,
    state: Arc<Mutex<State>>,
    clock: watch::Sender<Clock>,
    request: Request<Incoming>,
) -> Result<Answer, std::io::Error> {
    let (head, body) = request.into_parts();
    let body = body.collect().await.map_err(std::io::Error::other)?;
    let what = format!("{} {}", head.method, head.uri.path());
    let number = {
        let mut number = 0;
        clock.send_modify(|clock| {
            number = clock.came;
            clock.came += 1;
        });
        number
    };
    let how = {
        let mut state = state.lock().unwrap();
        match state.meant.take() {
            Some((is_meant, how)) if is_meant(number, &head) => {
                state.was = Some(what);
                Some(how)
            }
            another => {
                state.meant = another;
                None
            }
        }
    };
    let request = Request::from_parts(head, Full::new(body.to_bytes()));
    let Some(how) = how else {
        return Ok(pass_on(server, request).await);
    };
    let late = match how {
        How::CutBefore => return Err(std::io::ErrorKind::ConnectionReset.into()),
        How::CutAfter => {
            pass_on(server, request).await;
            return Err(std::io::ErrorKind::ConnectionReset.into());
        }
        How::AnsweredAndDone => {
            pass_on(server, request).await;
            return Ok(gateway_timeout());
        }
        How::AnsweredAndDoneLater(more) => number + more,
        How::AnsweredAndDoneLast | How::SilentAndDoneLast => usize::MAX,
    };
    let mut ticks = clock.subscribe();
    let doing = tokio::spawn(async move {
        let is_time = |clock: &Clock| clock.day_is_over || clock.came > late;
        ticks.wait_for(is_time).await.unwrap();
        pass_on(server, request).await;
    });
    state.lock().unwrap().late = Some(doing);
    clock.send_modify(|clock| clock.meant_one_came = true);
    if how == How::SilentAndDoneLast {
        return std::future::pending().await;
    }
    Ok(gateway_timeout())
}

fn gateway_timeout() -> Answer {
    let mut answer = Response::new(Full::default());
    *answer.status_mut() = StatusCode::GATEWAY_TIMEOUT;
    answer
}

/// Asks the server. What it is asked is what came, with the same name of the host, so that a `Destination` is of it.
async fn pass_on(server: SocketAddr, request: Request<Full<Bytes>>) -> Answer {
    let asked = async {
        let stream = TcpStream::connect(server).await?;
        let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream))
            .await
            .map_err(std::io::Error::other)?;
        tokio::spawn(connection);
        let answer = sender.send_request(request).await;
        let (head, body) = answer.map_err(std::io::Error::other)?.into_parts();
        let body = body.collect().await.map_err(std::io::Error::other)?;
        Ok::<_, std::io::Error>(Response::from_parts(head, Full::new(body.to_bytes())))
    };
    asked.await.unwrap_or_else(|why| {
        let mut answer = Response::new(Full::new(Bytes::from(why.to_string())));
        *answer.status_mut() = StatusCode::BAD_GATEWAY;
        answer
    })
}
