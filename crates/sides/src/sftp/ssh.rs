//! The SSH connection that SFTP goes over (RFC 4251 to 4254): the way to the host, its key, and signing in.
//!
//! Nothing of a person's is sent before the host's key is trusted: the one that was pinned with the account, or else one
//! that `known_hosts` has. An unknown one is shown, a changed one ends it.

use std::borrow::Cow;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use russh::client::{self, AuthResult, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{Algorithm, PrivateKeyWithHashAlg, PublicKeyOrCertificate, load_secret_key};
use russh::{MethodKind, MethodSet, Preferred};
use tokio::net::TcpStream;

use super::known_hosts::{self, KnownKey};
use super::ssh_config::{self, HostSettings};
use crate::SideError;
use crate::distrust::{Distrust, Shown};
use crate::host_key::{self, HostKey};
use crate::net::{SSH_PORT, Trust};
use crate::secret::Secret;
use crate::side_error::{Away, Delay, Refusal, Said};

/// How somebody signs in.
#[derive(Clone, Debug)]
pub enum WayIn {
    /// By a password, or by it and what else the server asks (RFC 4252 §8, RFC 4256).
    Password(Secret),
    /// By the key in a file, which a passphrase may open (RFC 4252 §7).
    Key {
        /// The file of the private key.
        file: PathBuf,
        /// What opens it, where it is locked.
        passphrase: Option<Secret>,
    },
    /// By a key that the SSH agent of this session holds.
    Agent,
}

/// Asks a person for what a server wants to know at sign-in besides a password; none where nobody can be asked.
pub type AskStep = Arc<dyn Fn(&str) -> Option<Secret> + Send + Sync>;

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

/// Whether the key in a file is locked by a passphrase.
///
/// # Errors
/// Where it is no private key.
pub fn is_locked(file: &Path) -> Result<bool, SideError> {
    check_readers(file)?;
    match load_secret_key(file, None) {
        Ok(_) => Ok(false),
        Err(russh::keys::Error::KeyIsEncrypted) => Ok(true),
        Err(why) => Err(no_key(file, &why)),
    }
}

/// Makes sure that a key is nobody else's to read, as OpenSSH does.
fn check_readers(file: &Path) -> Result<(), SideError> {
    let Ok(meta) = std::fs::metadata(file) else {
        return Ok(());
    };
    if meta.uid() != rustix::process::geteuid().as_raw() || meta.mode() & 0o077 == 0 {
        return Ok(());
    }
    Err(SideError::refused(
        Refusal::SignIn,
        format!(
            "others can read the key in {}; take that right away: chmod go-rwx {}, and think about a new key",
            file.display(),
            katabatic_core::words::typed(&file.to_string_lossy())
        ),
    ))
}

/// Whether this opens the key in a file.
#[must_use]
pub fn opens(file: &Path, passphrase: &Secret) -> bool {
    load_secret_key(file, Some(passphrase.reveal())).is_ok()
}

/// What a server takes at sign-in, in words.
fn in_words(methods: &MethodSet) -> String {
    let words: Vec<&str> = methods
        .iter()
        .map(|method| match method {
            MethodKind::None => "nothing",
            MethodKind::Password => "a password",
            MethodKind::PublicKey => "a key",
            MethodKind::HostBased => "the key of a host",
            MethodKind::KeyboardInteractive => "answers to its questions",
            MethodKind::GssapiWithMic => "a ticket of Kerberos",
        })
        .collect();
    match words.is_empty() {
        true => "nothing that it names".into(),
        false => words.join(", "),
    }
}

fn no_key(file: &Path, why: &russh::keys::Error) -> SideError {
    SideError::refused(
        Refusal::SignIn,
        format!("the key in {} cannot be used: {why}", file.display()),
    )
}

/// Whether the SSH agent of this session holds any key.
pub async fn agent_has_keys() -> bool {
    let Ok(mut agent) = AgentClient::connect_env().await else {
        return false;
    };
    agent
        .request_identities()
        .await
        .is_ok_and(|keys| !keys.is_empty())
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

/// A way in, in a few words.
#[must_use]
pub fn described(way: &WayIn) -> String {
    match way {
        WayIn::Password(_) => "by a password".into(),
        WayIn::Key { file, .. } => format!("by the key in {}", file.display()),
        WayIn::Agent => "by a key of the SSH agent".into(),
    }
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

/// The kinds of host keys in the order in which they are asked for: those that the host is known by, then `first`.
fn in_order(known: &[KnownKey], first: &[&str]) -> Vec<Algorithm> {
    let mut kinds: Vec<Algorithm> = Preferred::DEFAULT.key.to_vec();
    let name = |algorithm: &Algorithm| match algorithm {
        Algorithm::Rsa { .. } => "ssh-rsa".to_owned(),
        other => other.to_string(),
    };
    kinds.sort_by_key(|algorithm| {
        let name = name(algorithm);
        let is_known = known.iter().any(|key| !key.revoked && key.kind == name);
        let is_first = first.iter().any(|word| name.starts_with(word));
        (!is_known, !is_first)
    });
    kinds
}

/// A key that is trusted, and by what; or why it is not.
type Verdict = Result<(HostKey, String), Distrust>;

/// Looks at a host's key as it is shown.
pub(super) struct Checking {
    host: String,
    trust: Trust,
    known: Vec<KnownKey>,
    verdict: Arc<Mutex<Option<Verdict>>>,
}

impl client::Handler for Checking {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &PublicKeyOrCertificate,
    ) -> Result<bool, russh::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = shown else {
            // None is asked for.
            return Ok(false);
        };
        let blob = key.to_bytes().map_err(russh::Error::from)?;
        let kind = match key.algorithm() {
            Algorithm::Rsa { .. } => "ssh-rsa".to_owned(),
            other => other.to_string(),
        };
        let shown = HostKey::of(&self.host, &kind, &blob);
        let judged = judge(&self.trust, &self.known, &shown, &blob);
        let is_trusted = judged.is_ok();
        let verdict = match judged {
            Ok(by) => Ok((shown, by)),
            Err((why, other_was_known)) => Err(Distrust {
                shown: Shown::HostKey(shown),
                why,
                other_was_known,
            }),
        };
        *self.verdict.lock().unwrap_or_else(PoisonError::into_inner) = Some(verdict);
        Ok(is_trusted)
    }
}

/// By what a key is trusted; or why not, and whether another one was known.
fn judge(
    trust: &Trust,
    known: &[KnownKey],
    shown: &HostKey,
    blob: &[u8],
) -> Result<String, (String, bool)> {
    if let Some(revoked) = known.iter().find(|key| key.revoked && key.blob == blob) {
        return Err((format!("it is revoked ({})", revoked.at), false));
    }
    match trust {
        Trust::HostKey(pinned) if *pinned == shown.sha256 => Ok("the one that was pinned".into()),
        Trust::HostKey(pinned) => Err((
            format!("another one was pinned, {}", host_key::pin(pinned)),
            true,
        )),
        Trust::System => {
            let mut good = known.iter().filter(|key| !key.revoked);
            match (good.clone().find(|key| key.blob == blob), good.next()) {
                (Some(same), _) => Ok(format!("known ({})", same.at)),
                (None, Some(other)) => Err((
                    format!(
                        "this computer knows the host by another one ({}); either the server was set up anew, or somebody answers in its place",
                        other.at
                    ),
                    true,
                )),
                (None, None) => Err(("this computer does not know the host yet".into(), false)),
            }
        }
        Trust::Authority(_) | Trust::Pinned(_) => Err((
            "a certificate is pinned with this account, or an authority of them, and SSH has host keys"
                .into(),
            false,
        )),
    }
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

fn cut(why: &russh::Error) -> SideError {
    SideError::TryAgain(Said {
        kind: Delay::Cut,
        why: format!("the connection was cut at sign-in: {why}"),
    })
}

/// What is left to try after an attempt.
enum Turn {
    In,
    /// What was given is right, and something else is wanted, too.
    Half(MethodSet),
    No(MethodSet),
}

fn turn(result: AuthResult) -> Turn {
    match result {
        AuthResult::Success => Turn::In,
        AuthResult::Failure {
            remaining_methods,
            partial_success: true,
        } => Turn::Half(remaining_methods),
        AuthResult::Failure {
            remaining_methods, ..
        } => Turn::No(remaining_methods),
    }
}

async fn sign_in(
    handle: &mut Handle<Checking>,
    (user, way): (&str, &WayIn),
    usual: &[PathBuf],
    ask: Option<&AskStep>,
) -> Result<(), SideError> {
    // Asked first, since each wrong attempt counts against whoever signs in.
    let offered = handle.authenticate_none(user).await;
    let offered = match turn(offered.map_err(|why| cut(&why))?) {
        Turn::In => return Ok(()),
        Turn::Half(methods) | Turn::No(methods) => methods,
    };
    if offered.is_empty() && handle.is_closed() {
        return Err(SideError::try_again("the connection was cut at sign-in"));
    }
    let half = match way {
        WayIn::Password(password) => {
            return by_password(handle, user, password, &offered, ask).await;
        }
        WayIn::Key { file, passphrase } => by_key(handle, user, file, passphrase.as_ref()).await?,
        WayIn::Agent => by_agent(handle, user, usual).await?,
    };
    match half {
        None => Ok(()),
        // The key was right, and the server wants to know something more.
        Some(methods) if methods.contains(&MethodKind::KeyboardInteractive) => {
            by_questions(handle, user, None, ask).await
        }
        Some(methods) => Err(SideError::refused(
            Refusal::SignIn,
            format!(
                "the key is right, and the server wants {} as well",
                in_words(&methods)
            ),
        )),
    }
}

async fn by_password(
    handle: &mut Handle<Checking>,
    user: &str,
    password: &Secret,
    offered: &MethodSet,
    ask: Option<&AskStep>,
) -> Result<(), SideError> {
    let wrong = || {
        SideError::refused(
            Refusal::Password,
            format!("the server does not accept the user name {user} with this password"),
        )
    };
    if offered.contains(&MethodKind::Password) {
        let tried = handle.authenticate_password(user, password.reveal()).await;
        return match turn(tried.map_err(|why| cut(&why))?) {
            Turn::In => Ok(()),
            Turn::Half(methods) if methods.contains(&MethodKind::KeyboardInteractive) => {
                by_questions(handle, user, None, ask).await
            }
            Turn::Half(methods) => Err(SideError::refused(
                Refusal::SignIn,
                format!(
                    "the password is right, and the server wants {} as well",
                    in_words(&methods)
                ),
            )),
            Turn::No(_) => Err(wrong()),
        };
    }
    if offered.contains(&MethodKind::KeyboardInteractive) {
        return by_questions(handle, user, Some(password), ask).await;
    }
    Err(SideError::refused(
        Refusal::SignIn,
        format!(
            "the server takes no password; it takes {}",
            in_words(offered)
        ),
    ))
}

/// Answers what the server asks: the password where it asks for one, and for the rest a person.
async fn by_questions(
    handle: &mut Handle<Checking>,
    user: &str,
    password: Option<&Secret>,
    ask: Option<&AskStep>,
) -> Result<(), SideError> {
    let mut password = password;
    let begun = handle
        .authenticate_keyboard_interactive_start(user, None)
        .await;
    let mut reply = begun.map_err(|why| cut(&why))?;
    loop {
        match reply {
            KeyboardInteractiveAuthResponse::Success => return Ok(()),
            KeyboardInteractiveAuthResponse::Failure { .. } => {
                return Err(SideError::refused(
                    Refusal::Password,
                    format!("the server does not accept what {user} answered at sign-in"),
                ));
            }
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                let mut answers = Vec::new();
                for prompt in prompts {
                    let answer = match password.take_if(|_| !prompt.echo) {
                        Some(password) => Some(password.clone()),
                        None => asked(ask, prompt.prompt.trim()).await,
                    };
                    let answer = answer.ok_or_else(|| {
                        SideError::refused(
                            Refusal::SignIn,
                            format!(
                                "the server asks {:?} at each sign-in, which only a person at a terminal can answer; a key (--sign-in key) needs nobody",
                                prompt.prompt.trim()
                            ),
                        )
                    })?;
                    answers.push(answer.reveal().to_owned());
                }
                let answered = handle
                    .authenticate_keyboard_interactive_respond(answers)
                    .await;
                reply = answered.map_err(|why| cut(&why))?;
            }
        }
    }
}

async fn asked(ask: Option<&AskStep>, question: &str) -> Option<Secret> {
    let (ask, question) = (Arc::clone(ask?), question.to_owned());
    tokio::task::spawn_blocking(move || ask(&question))
        .await
        .ok()
        .flatten()
}

/// None where that was enough; else what the server wants besides.
async fn by_key(
    handle: &mut Handle<Checking>,
    user: &str,
    file: &Path,
    passphrase: Option<&Secret>,
) -> Result<Option<MethodSet>, SideError> {
    check_readers(file)?;
    let key =
        load_secret_key(file, passphrase.map(Secret::reveal)).map_err(|why| no_key(file, &why))?;
    let hash = handle.best_supported_rsa_hash().await;
    let hash = hash.map_err(|why| cut(&why))?.flatten();
    let tried = handle
        .authenticate_publickey(user, PrivateKeyWithHashAlg::new(Arc::new(key), hash))
        .await;
    match turn(tried.map_err(|why| cut(&why))?) {
        Turn::In => Ok(None),
        Turn::Half(methods) => Ok(Some(methods)),
        Turn::No(_) => Err(SideError::refused(
            Refusal::SignIn,
            format!(
                "the server does not let {user} in by the key in {}",
                file.display()
            ),
        )),
    }
}

async fn by_agent(
    handle: &mut Handle<Checking>,
    user: &str,
    usual: &[PathBuf],
) -> Result<Option<MethodSet>, SideError> {
    let hash = handle.best_supported_rsa_hash().await;
    let hash = hash.map_err(|why| cut(&why))?.flatten();
    if let Ok(mut agent) = AgentClient::connect_env().await {
        for identity in agent.request_identities().await.unwrap_or_default() {
            let AgentIdentity::PublicKey { key, .. } = identity else {
                continue;
            };
            let hash = hash.filter(|_| key.algorithm().is_rsa());
            let tried = handle
                .authenticate_publickey_with(user, key, hash, &mut agent)
                .await;
            match tried.map(turn) {
                Ok(Turn::In) => return Ok(None),
                Ok(Turn::Half(methods)) => return Ok(Some(methods)),
                Ok(Turn::No(_)) => {}
                Err(why) => tracing::debug!("the SSH agent did not sign: {why}"),
            }
        }
    }
    // Keys that need nobody's passphrase do as well as those of an agent.
    for file in usual {
        if load_secret_key(file, None).is_ok()
            && let Ok(half) = by_key(handle, user, file, None).await
        {
            return Ok(half);
        }
    }
    Err(SideError::refused(
        Refusal::SignIn,
        format!(
            "no key of the SSH agent ({}) and none in ~/.ssh lets {user} in",
            match std::env::var_os("SSH_AUTH_SOCK") {
                Some(at) => at.display().to_string(),
                None => "SSH_AUTH_SOCK names none".into(),
            }
        ),
    ))
}

#[cfg(test)]
mod tests;
