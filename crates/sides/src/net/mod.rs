//! The line to a server: which certificates are trusted, which proxy is on the way, how long a server may stay silent.
//!
//! Everything that speaks HTTP is built here, so that no request can go around these decisions. Redirects are never
//! followed by themselves: a server that could send us elsewhere could send our credentials there.

mod names;
pub mod proxy;
pub mod rate;
pub mod rates;
pub mod shared;
pub mod traffic;
pub mod trust;
pub mod unacknowledged;

use std::sync::Arc;
use std::time::Duration;

use url::{Host, Url};

use crate::side_error::{Away, Delay, Said, SideError};

pub use proxy::{ProxySetting, ProxyUsed};
pub use trust::Trust;

/// The scheme of addresses of accounts by SFTP.
pub const SFTP: &str = "sftp";

/// The port that SSH has, which SFTP goes over (RFC 4253 §4.1).
pub const SSH_PORT: u16 = 22;

/// The part of the log that requests are told in.
pub const REQUESTS: &str = "requests";

/// A server may stay silent for this long, unless the account says otherwise.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// How a server is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// Which certificates are trusted.
    pub trust: Trust,
    /// Which proxy is asked to help.
    pub proxy: ProxySetting,
    /// For how long a server may send nothing before it counts as not answering.
    pub patience: Duration,
}

impl Default for Line {
    fn default() -> Line {
        Line {
            trust: Trust::System,
            proxy: ProxySetting::Environment,
            patience: PATIENCE,
        }
    }
}

/// Something that makes requests, and remembers the certificate it turned away.
#[derive(Clone, Debug)]
pub struct Http {
    /// What sends the requests.
    pub client: reqwest::Client,
    pub(crate) turned_away: trust::TurnedAway,
    /// The proxy on the way, if any.
    pub proxy: ProxyUsed,
    /// For how long the server may send nothing.
    pub patience: Duration,
}

impl Line {
    /// What makes requests to this address over the line.
    ///
    /// # Errors
    /// Says which certificates or which proxy cannot be used.
    pub fn http(&self, address: &Url) -> Result<Http, String> {
        self.http_with(address, |builder| builder.read_timeout(self.patience))
    }

    /// The same for large bodies, whose silence is watched by whoever sends them: while a body goes up, the other end
    /// has nothing to say.
    ///
    /// # Errors
    /// As [`Line::http`].
    pub fn http_for_transfers(&self, address: &Url) -> Result<Http, String> {
        // The system tells when nothing that was sent is taken any more.
        self.http_with(address, |builder| builder.tcp_user_timeout(self.patience))
    }

    fn http_with(
        &self,
        address: &Url,
        more: impl Fn(reqwest::ClientBuilder) -> reqwest::ClientBuilder,
    ) -> Result<Http, String> {
        let turned_away = trust::TurnedAway::default();
        let builder = if address.scheme() == "http" {
            // Reading the system's certificates takes longer than a small pass, and nothing here will need them.
            trust::install_provider();
            reqwest::Client::builder().tls_certs_only([])
        } else {
            let config = self.trust.tls_config(&turned_away)?;
            reqwest::Client::builder().tls_backend_preconfigured(config)
        };
        let proxy = self.proxy.used_for(address)?;
        let builder = match proxy.reqwest()? {
            Some(proxy) => builder.proxy(proxy),
            None => builder.no_proxy(),
        };
        let client = more(builder)
            .dns_resolver(Arc::new(names::Names))
            .redirect(reqwest::redirect::Policy::none())
            .connect_timeout(self.patience.min(Duration::from_secs(20)))
            .pool_max_idle_per_host(traffic::MOST)
            .tcp_nodelay(true)
            .user_agent(concat!("katabatic/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|error| format!("setting up the connection: {}", innermost(&error)))?;
        Ok(Http {
            client,
            turned_away,
            proxy,
            patience: self.patience,
        })
    }

    /// The TLS settings of the line, for a handshake that is looked at by itself.
    ///
    /// # Errors
    /// Says which certificates cannot be used.
    pub fn tls(&self) -> Result<(Arc<rustls::ClientConfig>, trust::TurnedAway), String> {
        let turned_away = trust::TurnedAway::default();
        let config = self.trust.tls_config(&turned_away)?;
        Ok((Arc::new(config), turned_away))
    }
}

impl Http {
    /// The words for a server that takes a request and says nothing.
    #[must_use]
    pub(crate) fn silent(&self, address: &Url) -> SideError {
        SideError::TryAgain(Said {
            kind: Delay::Silent,
            why: format!(
                "{} took the request and then sent nothing for {} s",
                address.host_str().unwrap_or("the server"),
                self.patience.as_secs()
            ),
        })
    }

    /// The words for a line that failed.
    #[must_use]
    pub fn line_error(&self, address: &Url, error: &reqwest::Error) -> SideError {
        let host = address.host_str().unwrap_or("the server");
        if let Some(distrust) = self.turned_away.take() {
            return SideError::Untrusted(Box::new(distrust));
        }
        if error.is_timeout() && !error.is_connect() {
            return self.silent(address);
        }
        if !error.is_connect() {
            return SideError::try_again(format!(
                "the connection to {host} was cut: {}",
                innermost(error)
            ));
        }
        let why = innermost(error);
        if names::speaks_no_tls(error) {
            return no_tls(address);
        }
        let kind = match names::caused_by::<names::NoSuchHost>(error) {
            Some(_) => Away::NoSuchHost,
            None => Away::NoAnswer,
        };
        match &self.proxy.url {
            Some(proxy) => SideError::not_there(format!(
                "{host} cannot be reached through the proxy {}: {why}",
                host_and_port(proxy)
            )),
            None => SideError::away(kind, format!("{host} does not answer: {why}")),
        }
    }
}

/// What answers at an address speaks no TLS.
fn no_tls(address: &Url) -> SideError {
    SideError::away(
        Away::NoTls,
        format!(
            "{} answers, but speaks no TLS: it is a plain http port, or none for the web at all",
            host_and_port(address)
        ),
    )
}

/// How a TLS handshake failed.
pub fn handshake_failed(address: &Url, why: &std::io::Error) -> SideError {
    match names::speaks_no_tls(why) {
        true => no_tls(address),
        false => SideError::not_there(format!("the TLS handshake failed: {why}")),
    }
}

/// Whether an address is one of this computer itself.
#[must_use]
pub fn is_loopback(url: &Url) -> bool {
    match url.host() {
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        // RFC 6761 §6.3: these never leave this computer.
        Some(Host::Domain(name)) => name == "localhost" || name.ends_with(".localhost"),
        None => false,
    }
}

/// Host and port of an address: `cloud.example:443`.
#[must_use]
pub fn host_and_port(url: &Url) -> String {
    format!(
        "{}:{}",
        url.host_str().unwrap_or("?"),
        url.port_or_known_default().unwrap_or(match url.scheme() {
            SFTP => SSH_PORT,
            _ => 0,
        })
    )
}

/// The innermost reason of an error, which says what happened; the outer ones say that it happened in a request.
pub fn innermost(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}
