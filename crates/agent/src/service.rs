//! What systemd wants to hear from a service of the type `notify` (sd_notify(3)): that it is ready, ends, and is alive.

use std::os::linux::net::SocketAddrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::Duration;

/// The way to whoever started us, if that is systemd.
pub(super) struct Service {
    socket: Option<(UnixDatagram, SocketAddr)>,
}

impl Service {
    pub(super) fn of_environment() -> Service {
        let address =
            std::env::var("NOTIFY_SOCKET")
                .ok()
                .and_then(|path| match path.strip_prefix('@') {
                    Some(name) => SocketAddr::from_abstract_name(name).ok(),
                    None => SocketAddr::from_pathname(path).ok(),
                });
        let socket = address.and_then(|address| Some((UnixDatagram::unbound().ok()?, address)));
        Service { socket }
    }

    /// Says something; who does not listen is none of our business.
    pub(super) fn say(&self, state: &str) {
        if let Some((socket, address)) = &self.socket
            && let Err(why) = socket.send_to_addr(state.as_bytes(), address)
        {
            tracing::debug!("the service manager does not listen: {why}");
        }
    }

    /// How often it wants to hear that we are alive: twice within the time it waits.
    pub(super) fn alive_every(&self) -> Option<Duration> {
        let micros: u64 = std::env::var("WATCHDOG_USEC").ok()?.parse().ok()?;
        (self.socket.is_some() && micros > 0).then(|| Duration::from_micros(micros / 2))
    }
}
