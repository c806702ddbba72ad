//! What the log says of each request: never a header, since secrets stand there.

use std::time::Instant;

use reqwest::{Request, Response};

/// The part of the log that requests are told in.
pub const REQUESTS: &str = "requests";

/// What is told of a request, from when it begins.
pub(super) struct Told {
    method: String,
    path: String,
    sends: Option<u64>,
    began: Instant,
}

impl Told {
    pub(super) fn begin(request: &Request) -> Told {
        Told {
            method: request.method().to_string(),
            path: request.url().path().to_owned(),
            sends: match request.body() {
                None => Some(0),
                Some(body) => body.as_bytes().map(|bytes| bytes.len() as u64),
            },
            began: Instant::now(),
        }
    }

    /// It was answered.
    pub(super) fn answered(&self, response: &Response) {
        let comes = response.content_length();
        self.tell(&response.status().as_u16().to_string(), comes);
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
