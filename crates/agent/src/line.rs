//! Whether a side that was not there is back: a server that answers, or a folder, and nothing more.

use std::path::PathBuf;
use std::time::Duration;

use katabatic_core::Side;
use reqwest::Method;
use tokio::net::TcpStream;
use tokio::time::timeout;
use url::Url;

use katabatic_core::place::Place;
use katabatic_engine::Home;
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::open::{address_of, connection_of};
use katabatic_sides::net::{Http, host_and_port};
use katabatic_sides::sftp;

/// Who does not take a connection in this time, or does not answer, is not there.
const PATIENCE: Duration = Duration::from_secs(3);

/// The way to one side.
enum Way {
    Folder(PathBuf),
    /// A server of SFTP, by host and port.
    Host(String, u16),
    Server {
        /// Where a connection is made to: the server, or the proxy on the way.
        place: String,
        http: Box<Http>,
        address: Url,
    },
}

impl Way {
    async fn is_open(&self) -> bool {
        match self {
            Way::Folder(folder) => folder.is_dir(),
            Way::Host(host, port) => {
                let connected = timeout(PATIENCE, TcpStream::connect((&host[..], *port)));
                matches!(connected.await, Ok(Ok(_)))
            }
            Way::Server {
                place,
                http,
                address,
            } => {
                let connected = timeout(PATIENCE, TcpStream::connect(place)).await;
                if !matches!(connected, Ok(Ok(_))) {
                    return false;
                }
                // Some take connections and say nothing. What else is wrong, a pass tells.
                let asked = http.client.request(Method::OPTIONS, address.clone());
                timeout(PATIENCE, asked.send()).await.is_ok()
            }
        }
    }
}

/// The ways to both sides, one of which was closed when it was last tried.
pub(super) struct Line {
    ways: Vec<Way>,
}

impl Line {
    /// The line of a lane; none where every way is open, and something else must be wrong.
    pub(super) async fn of(home: &Home, config: &Config, lane: &LaneConfig) -> Option<Line> {
        let mut ways = Vec::new();
        for side in [Side::Near, Side::Far] {
            match lane.place(side) {
                Place::Local(root) => ways.push(Way::Folder(root.clone())),
                Place::Far { account, .. } => {
                    let account = config.account(account).ok()?;
                    if account.is_sftp() {
                        let address = address_of(account).ok()?;
                        let (host, port) = sftp::really(address.host_str()?, address.port());
                        ways.push(Way::Host(host, port));
                        continue;
                    }
                    let connection = connection_of(home, account).ok()?;
                    let address = connection.address;
                    let http = Box::new(connection.line.http_for_transfers(&address).ok()?);
                    let goal = http.proxy.url.as_ref().unwrap_or(&address);
                    ways.push(Way::Server {
                        place: host_and_port(goal),
                        http,
                        address,
                    });
                }
            }
        }
        let line = Line { ways };
        (!line.all_open().await).then_some(line)
    }

    async fn all_open(&self) -> bool {
        for way in &self.ways {
            if !way.is_open().await {
                return false;
            }
        }
        true
    }

    /// Whether it is open again.
    pub(super) async fn is_back(&mut self) -> bool {
        self.all_open().await
    }
}
