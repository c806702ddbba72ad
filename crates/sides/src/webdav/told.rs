//! What the log says of each request: never a header, since secrets stand there.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use reqwest::header::CONTENT_LENGTH;
use reqwest::{Request, Response};
use tracing::Level;

use crate::net::REQUESTS;

/// What is told of a request, from when it begins.
pub(super) struct Told {
    method: String,
    path: String,
    /// None: sent in pieces, and no length was said before.
    sends: Option<u64>,
    began: Instant,
}

impl Told {
    pub(super) fn begin(request: &Request) -> Told {
        let said = || {
            request
                .headers()
                .get(CONTENT_LENGTH)?
                .to_str()
                .ok()?
                .parse()
                .ok()
        };
        Told {
            method: request.method().to_string(),
            path: request.url().path().to_owned(),
            sends: match request.body() {
                None => Some(0),
                Some(body) => body
                    .as_bytes()
                    .map(|bytes| bytes.len() as u64)
                    .or_else(said),
            },
            began: Instant::now(),
        }
    }

    /// It was answered. Where the answer does not say how long it is, it is told once it has been read.
    pub(super) fn answered(self, response: &mut Response) {
        let status = response.status().as_u16().to_string();
        match response.content_length() {
            None if tracing::enabled!(target: REQUESTS, Level::TRACE) => {
                response.extensions_mut().insert(Arc::new(Pieces {
                    came: AtomicU64::new(0),
                    told: self,
                    status,
                }));
            }
            comes => self.tell(&status, comes),
        }
    }

    /// It was not, because of this.
    pub(super) fn failed(&self, why: &str) {
        self.tell(why, None);
    }

    fn tell(&self, how: &str, comes: Option<u64>) {
        let bytes =
            |many: Option<u64>| many.map_or_else(|| "?".to_owned(), |many| many.to_string());
        tracing::trace!(
            target: REQUESTS,
            "{} {} {how}, {} bytes there, {} bytes back, {:.1} ms",
            self.method,
            self.path,
            bytes(self.sends),
            bytes(comes),
            self.began.elapsed().as_secs_f64() * 1e3
        );
    }
}

/// An answer that does not say how long it is: told when the last that knows of it lets it go, which is when it has been
/// read, or when nobody wants it any more.
pub(super) struct Pieces {
    came: AtomicU64,
    told: Told,
    status: String,
}

impl Pieces {
    /// Those of this answer, if it is told by them.
    pub(super) fn of(response: &mut Response) -> Option<Arc<Pieces>> {
        response.extensions_mut().remove()
    }

    /// So many bytes more have come.
    pub(super) fn came(&self, bytes: usize) {
        self.came.fetch_add(bytes as u64, Ordering::Relaxed);
    }
}

impl Drop for Pieces {
    fn drop(&mut self) {
        self.told
            .tell(&self.status, Some(self.came.load(Ordering::Relaxed)));
    }
}
