//! The SSH connection that SFTP goes over (RFC 4251 to 4254): the way to the host, its key, and signing in.
//!
//! Nothing of a person's is sent before the host's key is trusted: the one that was pinned with the account, or else one
//! that `known_hosts` has. An unknown one is shown, a changed one ends it.

use std::borrow::Cow;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use russh::Preferred;
use russh::client::{self, Handle};
use tokio::net::TcpStream;

use super::host_check::{Checking, in_order};
use super::known_hosts;
use super::sign_in::{AskStep, WayIn, described, sign_in};
use super::ssh_config::{self, HostSettings};
use crate::SideError;
use crate::host_key::HostKey;
use crate::net::{SSH_PORT, Trust};
use crate::side_error::Away;

/// Something that was done on the way in, with the time that it took.
#[derive(Clone, Debug)]
pub struct Reached {
    /// What was done.
    pub name: &'static str,
    /// How long it took.
    pub took: Duration,
    /// What came of it.
    pub said: String,
}

/// A host with all that is needed to reach it.
pub(super) struct Goal<'a> {
    pub(super) host: &'a str,
    pub(super) port: Option<u16>,
    pub(super) user: &'a str,
    /// How somebody signs in; none where only the host is looked at.
    pub(super) way: Option<&'a WayIn>,
    pub(super) trust: &'a Trust,
    pub(super) patience: Duration,
    pub(super) ask: Option<&'a AskStep>,
}

/// A connection that somebody is signed in over.
pub(super) struct SshLine {
    pub(super) handle: Handle<Checking>,
    /// The connections that it goes through, which live as long as it does.
    _through: Vec<Handle<Checking>>,
    pub(super) reached: Vec<Reached>,
}

/// Without any sign of life for so long a connection is asked for one.
const KEEPALIVE: Duration = Duration::from_secs(15);

/// A slow line is full while so much is on its way.
const WINDOW: u32 = 16 * 1024 * 1024;

/// Nobody waits longer for a connection.
const TO_CONNECT: Duration = Duration::from_secs(20);

/// The user whom `~/.ssh/config` names for a host, where it does.
pub fn configured_user(host: &str) -> Option<String> {
    ssh_config::of(host).ok()?.user
}

/// Host and port that are really connected to, with what `~/.ssh/config` says.
#[must_use]
pub fn really(host: &str, port: Option<u16>) -> (String, u16) {
    let host = host.trim_matches(['[', ']']);
    // What cannot be believed has nobody sign in, either.
    place(host, port, &ssh_config::of(host).unwrap_or_default())
}

fn place(host: &str, port: Option<u16>, settings: &HostSettings) -> (String, u16) {
    (
        settings.name.clone().unwrap_or_else(|| host.to_owned()),
        port.or(settings.port).unwrap_or(SSH_PORT),
    )
}

/// The files of keys that are tried where none was named: those that `~/.ssh/config` names, or else the usual ones.
#[must_use]
pub fn usual_keys(host: &str) -> Vec<PathBuf> {
    usual_of(&ssh_config::of(host).unwrap_or_default())
}

fn usual_of(settings: &HostSettings) -> Vec<PathBuf> {
    let usual = || {
        let own = std::env::home_dir().map(|home| home.join(".ssh"));
        let names = ["id_ed25519", "id_ecdsa", "id_rsa"];
        own.map(|own| names.map(|name| own.join(name)).to_vec())
            .unwrap_or_default()
    };
    let named = match settings.keys.is_empty() {
        true => usual(),
        false => settings.keys.clone(),
    };
    named.into_iter().filter(|file| file.is_file()).collect()
}

/// Connects, looks at the host's key and signs in.
pub(super) async fn connect(goal: &Goal<'_>) -> Result<SshLine, SideError> {
    // Where another key is pinned than the host shows first, it may have that one, too.
    let orders: &[&[&str]] = match goal.trust {
        Trust::HostKey(_) => &[&[], &["ecdsa"], &["ssh-rsa"]],
        _ => &[&[]],
    };
    let mut turned_away = None;
    for first in orders {
        match connect_once(goal, first).await {
            Err(SideError::Untrusted(distrust)) => {
                turned_away.get_or_insert(SideError::Untrusted(distrust));
            }
            done => return done,
        }
    }
    Err(turned_away.unwrap_or(SideError::Stopped))
}

async fn connect_once(goal: &Goal<'_>, first: &[&str]) -> Result<SshLine, SideError> {
    let settings = ssh_config::of(goal.host)?;
    let (host, port) = place(goal.host, goal.port, &settings);
    let mut reached = Vec::new();
    let mut through: Vec<Handle<Checking>> = Vec::new();
    for jump in settings.jumps.iter().flatten() {
        let began = Instant::now();
        let handle = over(jump, through.last(), goal).await?;
        through.push(handle);
        reached.push(Reached {
            name: "on the way",
            took: began.elapsed(),
            said: format!("signed in at {jump}, as ~/.ssh/config has it"),
        });
    }
    let began = Instant::now();
    let mut handle = shaken(
        (&host, port),
        through.last(),
        (goal.trust, first),
        goal.patience,
    )
    .await?;
    let key = handle.1;
    reached.push(Reached {
        name: "connected",
        took: began.elapsed(),
        said: format!(
            "to {}; its host key {} is {}",
            key.0.host,
            key.0.pin(),
            key.1
        ),
    });
    if let Some(way) = goal.way {
        let began = Instant::now();
        let keys = usual_of(&settings);
        sign_in(&mut handle.0, (goal.user, way), &keys, goal.ask).await?;
        reached.push(Reached {
            name: "let in",
            took: began.elapsed(),
            said: format!("as {}, {}", goal.user, described(way)),
        });
    }
    Ok(SshLine {
        handle: handle.0,
        _through: through,
        reached,
    })
}

/// Signs in at a host on the way, with what is there without asking anybody.
async fn over(
    jump: &str,
    from: Option<&Handle<Checking>>,
    goal: &Goal<'_>,
) -> Result<Handle<Checking>, SideError> {
    let (user, rest) = match jump.rsplit_once('@') {
        Some((user, rest)) => (Some(user.to_owned()), rest),
        None => (None, jump),
    };
    let (host, port) = match rest.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') || host.ends_with(']') => {
            (host.trim_matches(['[', ']']), port.parse().ok())
        }
        _ => (rest.trim_matches(['[', ']']), None),
    };
    let settings = ssh_config::of(host)?;
    let place = place(host, port, &settings);
    let user = user
        .or_else(|| settings.user.clone())
        .unwrap_or_else(|| goal.user.to_owned());
    // A pin is of the goal alone.
    let known = Trust::System;
    let (mut handle, _) = shaken((&place.0, place.1), from, (&known, &[]), goal.patience).await?;
    let keys = usual_of(&settings);
    sign_in(&mut handle, (&user, &WayIn::Agent), &keys, None)
        .await
        .map_err(|error| match error {
            SideError::Refused(said) => SideError::refused(
                said.kind,
                format!("{jump}, which is on the way (ProxyJump), does not let {user} in: {said}"),
            ),
            other => other,
        })?;
    Ok(handle)
}

/// The connection with a host, its key, and by what that is trusted.
type Shaken = (Handle<Checking>, (HostKey, String));

async fn shaken(
    (host, port): (&str, u16),
    from: Option<&Handle<Checking>>,
    (trust, first): (&Trust, &[&str]),
    patience: Duration,
) -> Result<Shaken, SideError> {
    let known = known_hosts::keys_of(&known_hosts::files(), host, port);
    let verdict = Arc::new(Mutex::new(None));
    let shown_host = match port {
        SSH_PORT => host.to_owned(),
        port => format!("{host}:{port}"),
    };
    let checking = Checking {
        host: shown_host.clone(),
        trust: trust.clone(),
        verdict: Arc::clone(&verdict),
        known,
    };
    let config = Arc::new(client::Config {
        window_size: WINDOW,
        keepalive_interval: Some(KEEPALIVE),
        keepalive_max: usize::try_from(patience.as_secs() / KEEPALIVE.as_secs() + 1).unwrap_or(5),
        preferred: Preferred {
            key: Cow::Owned(in_order(&checking.known, first)),
            ..Preferred::DEFAULT
        },
        nodelay: true,
        ..client::Config::default()
    });
    let shaking = async {
        match from {
            None => {
                let stream = connected(host, port).await?;
                let shaken = client::connect_stream(config, stream, checking).await;
                shaken.map_err(|why| of_ssh(&shown_host, &why))
            }
            Some(from) => {
                let tunnel = from
                    .channel_open_direct_tcpip(host, u32::from(port), "127.0.0.1", 0)
                    .await
                    .map_err(|why| {
                        SideError::not_there(format!(
                            "{shown_host} is not reached from the host on the way: {why}"
                        ))
                    })?;
                let shaken = client::connect_stream(config, tunnel.into_stream(), checking).await;
                shaken.map_err(|why| of_ssh(&shown_host, &why))
            }
        }
    };
    let shaken = tokio::time::timeout(patience.min(TO_CONNECT), shaking).await;
    let verdict = verdict
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .take();
    let shaken = match shaken {
        Ok(shaken) => shaken,
        Err(_) => Err(SideError::not_there(format!(
            "{shown_host} does not answer within {} s",
            patience.min(TO_CONNECT).as_secs()
        ))),
    };
    match (verdict, shaken) {
        (Some(Err(distrust)), _) => Err(SideError::Untrusted(Box::new(distrust))),
        (Some(Ok(trusted)), Ok(handle)) => Ok((handle, trusted)),
        (_, Err(error)) => Err(error),
        (None, Ok(_)) => Err(SideError::not_there(format!("{shown_host} showed no key"))),
    }
}

async fn connected(host: &str, port: u16) -> Result<TcpStream, SideError> {
    let found: Vec<_> = tokio::net::lookup_host((host, port))
        .await
        .map_err(|why| {
            SideError::away(
                Away::NoSuchHost,
                format!("the name {host} could not be looked up: {why}"),
            )
        })?
        .collect();
    let stream = TcpStream::connect(&found[..])
        .await
        .map_err(|why| SideError::not_there(format!("{host}:{port} does not answer: {why}")))?;
    // Without it small packets wait for each other; that it cannot be set makes nothing wrong.
    let _ = stream.set_nodelay(true);
    Ok(stream)
}

fn of_ssh(host: &str, why: &russh::Error) -> SideError {
    match why {
        russh::Error::NoCommonAlgo { kind, theirs, .. } => SideError::Failed(format!(
            "{host} and this program have no {kind:?} algorithm in common; it offers {}",
            theirs.join(", ")
        )),
        russh::Error::Version => SideError::away(
            Away::NoTls,
            format!("{host} answers, and does not speak SSH"),
        ),
        other => SideError::not_there(format!("the connection with {host} failed: {other}")),
    }
}

#[cfg(test)]
mod tests;
