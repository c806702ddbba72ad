//! Names of hosts, looked up so that "there is no such host" can be told from every other way of not being reached.

use std::error::Error;
use std::fmt;
use std::io;

use reqwest::dns::{Addrs, Name, Resolve, Resolving};

/// The system's own way of looking names up.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Names;

/// No host has the name, as far as the system could find out.
#[derive(Debug)]
pub(super) struct NoSuchHost(io::Error);

impl fmt::Display for NoSuchHost {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(out)
    }
}

impl Error for NoSuchHost {}

impl Resolve for Names {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            match tokio::net::lookup_host((name.as_str(), 0)).await {
                Ok(found) => Ok(Box::new(found.collect::<Vec<_>>().into_iter()) as Addrs),
                Err(why) => Err(Box::new(NoSuchHost(why)) as Box<dyn Error + Send + Sync>),
            }
        })
    }
}

/// The error of this type that an error was made from, if any. An [`io::Error`] hides the one it wraps from
/// [`Error::source`].
pub(super) fn caused_by<'e, T: Error + 'static>(error: &'e (dyn Error + 'static)) -> Option<&'e T> {
    let mut now = Some(error);
    while let Some(error) = now {
        if let Some(found) = error.downcast_ref::<T>() {
            return Some(found);
        }
        let wrapped = error
            .downcast_ref::<io::Error>()
            .and_then(io::Error::get_ref);
        now = match wrapped {
            Some(wrapped) => Some(wrapped),
            None => error.source(),
        };
    }
    None
}

/// Whether what answered speaks no TLS: what TLS calls an invalid message is an answer in plain text.
pub(super) fn speaks_no_tls(error: &(dyn Error + 'static)) -> bool {
    matches!(
        caused_by::<rustls::Error>(error),
        Some(rustls::Error::InvalidMessage(_))
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_error_is_found_in_what_wraps_it() {
        let inner = rustls::Error::InvalidMessage(rustls::InvalidMessage::InvalidContentType);
        let wrapped = io::Error::new(io::ErrorKind::InvalidData, inner);
        assert!(speaks_no_tls(&io::Error::other(wrapped)));
        let other = io::Error::other(rustls::Error::DecryptError);
        assert!(!speaks_no_tls(&other));
        assert!(caused_by::<NoSuchHost>(&other).is_none());
    }
}
