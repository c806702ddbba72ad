//! What all that is asked of one account in a program goes through.

use std::time::Duration;

use url::Url;

use super::rate::{Dials, Pace};
use super::traffic::Traffic;
use super::{Http, Line};
use crate::side_error::SideError;

/// What all clients of one account in a program share: connections, the number of requests in flight, the account's
/// own limits.
#[derive(Clone, Debug)]
pub struct Shared {
    pub(crate) http: Http,
    pub(crate) traffic: Traffic,
    pub(crate) up: [Pace; 2],
    pub(crate) down: [Pace; 2],
}

impl Shared {
    /// For this account, with the dials of all accounts together and its own.
    ///
    /// # Errors
    /// Where the line cannot be set up.
    pub fn new(line: &Line, address: &Url, dials: [&Dials; 2]) -> Result<Shared, SideError> {
        Ok(Shared {
            http: line
                .http_for_transfers(address)
                .map_err(SideError::Failed)?,
            traffic: Traffic::default(),
            up: dials.map(|dials| Pace::new(dials.up.clone())),
            down: dials.map(|dials| Pace::new(dials.down.clone())),
        })
    }

    /// For how long the server asked that nobody comes back.
    #[must_use]
    pub fn stays_away(&self) -> Option<Duration> {
        self.traffic.stays_away()
    }
}
