//! Reaching an account, step by step, each with the time it took: a technician must see which one fails.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use katabatic_core::words::bytes;
use reqwest::header::LOCATION;
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use url::Url;

use crate::Error;
use katabatic_core::RelPath;
use katabatic_sides::account::AccountClient;
use katabatic_sides::certificate::Certificate;
use katabatic_sides::explain::explain;
use katabatic_sides::net::{Http, Line, ProxyUsed, handshake_failed, host_and_port};
use katabatic_sides::private_files::random_hex;
use katabatic_sides::side_error::Away;
use katabatic_sides::survey::Survey;
use katabatic_sides::webdav::{Client, survey};
use katabatic_sides::{SideError, TEST_FOLDERS};

/// So often a server may send us on before that counts as a loop.
const REDIRECTS: usize = 5;

/// What the test writes and reads back.
const TEST_CONTENT: &[u8] =
    b"Katabatic was here to see whether it may write. This file can be removed.\n";

/// One step of reaching an account.
#[derive(Clone, Debug)]
pub struct Step {
    /// What was done.
    pub name: &'static str,
    /// How long it took.
    pub took: Duration,
    /// What came of it.
    pub said: String,
    /// Whether it went well; what did not is not always an error.
    pub fine: bool,
}

/// How a server was found.
#[derive(Clone, Debug)]
pub struct Knocked {
    /// The steps up to the TLS handshake.
    pub steps: Vec<Step>,
    /// The server's certificate, where the line goes straight to it by TLS.
    pub certificate: Option<Certificate>,
}

/// Looks up the name, connects, and shakes hands; nothing is sent to the server yet.
///
/// # Errors
/// Says which step failed, and why.
pub async fn knock(
    account: &str,
    address: &Url,
    line: &Line,
    proxy: &ProxyUsed,
) -> Result<Knocked, Error> {
    let failed = |error: SideError| explain(account, address, &error);
    let goal = proxy.url.as_ref().unwrap_or(address);
    let place = host_and_port(goal);
    let whose = if proxy.url.is_some() {
        "the proxy "
    } else {
        ""
    };
    let mut steps = Vec::new();

    let began = Instant::now();
    let found: Vec<SocketAddr> = within(line, tokio::net::lookup_host(&place), || {
        format!(
            "the name {} could not be looked up",
            goal.host_str().unwrap_or("?")
        )
    })
    .await
    .map_err(|(kind, why)| {
        let no_such_host = kind == Slow::Failed && proxy.url.is_none();
        failed(match no_such_host {
            true => SideError::away(Away::NoSuchHost, why),
            false => SideError::not_there(why),
        })
    })?
    .collect();
    let mut addresses: Vec<String> = found.iter().map(|found| found.ip().to_string()).collect();
    addresses.dedup();
    steps.push(Step {
        name: "name looked up",
        took: began.elapsed(),
        said: match goal.host() {
            Some(url::Host::Domain(name)) => format!("{whose}{name} is {}", addresses.join(", ")),
            _ => format!("{whose}{} is a number, no name", addresses.join(", ")),
        },
        fine: true,
    });

    let began = Instant::now();
    let stream = within(line, TcpStream::connect(&found[..]), || {
        format!("{place} does not answer")
    })
    .await
    .map_err(|(_, why)| failed(SideError::not_there(why)))?;
    let peer = stream
        .peer_addr()
        .map_or(place.clone(), |peer| peer.to_string());
    steps.push(Step {
        name: "connected",
        took: began.elapsed(),
        said: format!("to {whose}{peer}"),
        fine: true,
    });
    let certificate = match (address.scheme(), &proxy.url) {
        ("https", None) => Some(
            shake_hands(address, line, stream, &mut steps)
                .await
                .map_err(failed)?,
        ),
        _ => None,
    };
    Ok(Knocked { steps, certificate })
}

/// How something ended that did not come about in time.
#[derive(PartialEq, Eq)]
enum Slow {
    /// With an error.
    Failed,
    /// Not within the time.
    TooLate,
}

async fn within<T>(
    line: &Line,
    doing: impl Future<Output = std::io::Result<T>>,
    what: impl Fn() -> String,
) -> Result<T, (Slow, String)> {
    match tokio::time::timeout(line.patience.min(Duration::from_secs(20)), doing).await {
        Ok(Ok(done)) => Ok(done),
        Ok(Err(why)) => Err((Slow::Failed, format!("{}: {why}", what()))),
        Err(_) => {
            let seconds = line.patience.as_secs().min(20);
            Err((Slow::TooLate, format!("{} within {seconds} s", what())))
        }
    }
}

async fn shake_hands(
    address: &Url,
    line: &Line,
    stream: TcpStream,
    steps: &mut Vec<Step>,
) -> Result<Certificate, SideError> {
    let began = Instant::now();
    let (config, turned_away) = line.tls().map_err(SideError::Failed)?;
    let host = address
        .host_str()
        .unwrap_or_default()
        .trim_matches(['[', ']']);
    let name = ServerName::try_from(host.to_owned())
        .map_err(|why| SideError::Failed(format!("{host} is no name for TLS: {why}")))?;
    let shaken = tokio::time::timeout(
        line.patience,
        TlsConnector::from(Arc::clone(&config)).connect(name, stream),
    );
    let connection = match shaken.await {
        Ok(Ok(connection)) => connection,
        Ok(Err(why)) => {
            return Err(match turned_away.take() {
                Some(distrust) => SideError::Untrusted(Box::new(distrust)),
                None => handshake_failed(address, &why),
            });
        }
        Err(_) => {
            return Err(SideError::not_there(format!(
                "{} took the connection and then said nothing for {} s",
                host_and_port(address),
                line.patience.as_secs()
            )));
        }
    };
    let (_, session) = connection.get_ref();
    let version = match session.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
        Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2",
        _ => "TLS",
    };
    let der = session
        .peer_certificates()
        .and_then(|chain| chain.first())
        .map(|certificate| certificate.to_vec())
        .unwrap_or_default();
    let certificate = Certificate::read(&der);
    steps.push(Step {
        name: "TLS",
        took: began.elapsed(),
        said: format!("{version}; {}", line.trust.describe()),
        fine: true,
    });
    Ok(certificate)
}

/// Where the address leads: redirects within the same server are followed before anybody signs in, others never.
///
/// # Errors
/// Where it leads round and round, or to another server.
pub async fn settle(
    account: &str,
    http: &Http,
    address: &Url,
) -> Result<(Url, Vec<String>), Error> {
    let mut at = address.clone();
    let mut been = vec![address.clone()];
    let mut notes = Vec::new();
    loop {
        let propfind = reqwest::Method::from_bytes(b"PROPFIND").unwrap_or(reqwest::Method::OPTIONS);
        let response = http
            .client
            .request(propfind, at.clone())
            .header("depth", "0")
            .send()
            .await
            .map_err(|error| explain(account, &at, &http.line_error(&at, &error)))?;
        let status = response.status();
        let to = response
            .headers()
            .get(LOCATION)
            .and_then(|value| value.to_str().ok())
            .filter(|_| matches!(status.as_u16(), 301 | 302 | 303 | 307 | 308));
        let Some(to) = to else {
            return Ok((at, notes));
        };
        let wrong = |why: String, next: &str| {
            Err(Error::failed(
                format!("reaching @{account} at {address}"),
                why,
                next,
            ))
        };
        let Ok(mut next) = at.join(to) else {
            return wrong(
                format!("the server sends us to {to:?}, which is no address"),
                "Ask the server's administrator for the WebDAV address.",
            );
        };
        next.set_query(None);
        next.set_fragment(None);
        // A server does not say as whom anybody signs in; neither can be set where the address holds no host.
        let _ = next.set_username("");
        let _ = next.set_password(None);
        if !next.path().ends_with('/') {
            next.set_path(&format!("{}/", next.path()));
        }
        let same_server = next.host_str() == at.host_str()
            && (next.origin() == at.origin() || at.scheme() == "http" && next.scheme() == "https");
        if !same_server {
            return wrong(
                format!(
                    "the server sends us to another one, {next}; nobody signs in there unasked"
                ),
                "If that is the right server, give its address: --address URL.",
            );
        }
        if been.contains(&next) || been.len() > REDIRECTS {
            return wrong(
                format!("the server sends us round in a loop ({} → {next})", at),
                "Ask the server's administrator for the WebDAV address.",
            );
        }
        notes.push(format!("the server leads on to {next}"));
        been.push(next.clone());
        at = next;
    }
}

/// Signs in and asks what the account says of itself, and with `listed` what lies at its top.
///
/// # Errors
/// Where the sign-in is not accepted, or something answers that is no WebDAV folder.
pub async fn enter(
    account: &str,
    address: &Url,
    client: &AccountClient,
    steps: &mut Vec<Step>,
) -> Result<Survey, Error> {
    let failed = |error: SideError| explain(account, address, &error);
    match client {
        AccountClient::Webdav(client) => {
            let began = Instant::now();
            let itself = survey(client, false).await.map_err(failed)?;
            steps.push(Step {
                name: "signed in",
                took: began.elapsed(),
                said: match &itself.principal {
                    Some(principal) => format!("as {principal}"),
                    None => "the server does not say whose account it is".into(),
                },
                fine: true,
            });
        }
        AccountClient::Sftp(client) => {
            let reached = client.enter().await.map_err(failed)?;
            steps.extend(reached.into_iter().map(|reached| Step {
                name: reached.name,
                took: reached.took,
                said: reached.said,
                fine: true,
            }));
        }
    }
    let began = Instant::now();
    let survey = client.survey(true).await.map_err(failed)?;
    let folders = survey.top.iter().filter(|top| top.folder).count();
    steps.push(Step {
        name: "listed",
        took: began.elapsed(),
        said: format!(
            "{}, {} at the top",
            katabatic_core::words::count(folders as u64, "folder", "folders"),
            katabatic_core::words::count((survey.top.len() - folders) as u64, "file", "files")
        ),
        fine: true,
    });
    Ok(survey)
}

/// Writes a small file in a folder of its own making in the folder `within`, reads it back, and removes both.
///
/// # Errors
/// Where the server goes away meanwhile; that it does not let us write is no error, but said in the step.
pub async fn try_writing(
    account: &str,
    address: &Url,
    client: &AccountClient,
    within: &RelPath,
    read_only: bool,
) -> Result<Step, Error> {
    let began = Instant::now();
    let (said, fine) = if read_only {
        (
            "not tried: the account was added read-only".to_owned(),
            true,
        )
    } else {
        let tried = match client {
            AccountClient::Webdav(client) => write_and_remove(client, within).await,
            AccountClient::Sftp(client) => client.try_writing(within).await,
        };
        match tried {
            Ok(written) => (
                format!("{} written, read back and removed", bytes(written)),
                true,
            ),
            Err(error) if error.ends_the_pass() => return Err(explain(account, address, &error)),
            Err(error) => (error.to_string(), false),
        }
    };
    Ok(Step {
        name: "written",
        took: began.elapsed(),
        said,
        fine,
    })
}

/// How many bytes were.
async fn write_and_remove(client: &Client, within: &RelPath) -> Result<u64, SideError> {
    let unique = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
    let odd = |why: katabatic_core::PathError| SideError::Failed(why.to_string());
    let [usual, dotless] = TEST_FOLDERS.map(|name| within.join(&format!("{name}{unique}")));
    let (mut folder, dotless) = (usual.map_err(odd)?, dotless.map_err(odd)?);
    let make = async |folder| {
        let url = client.url(folder, true);
        client.expect("MKCOL", url, None).await
    };
    if let Err(why) = make(&folder).await {
        // Some servers take no name that begins with a dot.
        if why.ends_the_pass() || make(&dotless).await.is_err() {
            return Err(why);
        }
        folder = dotless;
    }
    let file = folder.join("test.txt").map_err(odd)?;
    let written = async {
        client
            .expect("PUT", client.url(&file, false), Some(TEST_CONTENT))
            .await?;
        let back = client.expect("GET", client.url(&file, false), None).await?;
        if back == TEST_CONTENT {
            Ok(())
        } else {
            Err(SideError::Failed(
                "what was written came back as something else".into(),
            ))
        }
    }
    .await;
    // The file first: the folder is only removed once it holds nothing of ours.
    let cleared = async {
        client
            .expect("DELETE", client.url(&file, false), None)
            .await?;
        client
            .expect("DELETE", client.url(&folder, true), None)
            .await
    }
    .await;
    written?;
    let written = TEST_CONTENT.len() as u64;
    cleared.map(|_| written).map_err(|why| {
        SideError::Failed(format!(
            "it was written, but {folder} could not be removed again: {why}"
        ))
    })
}
