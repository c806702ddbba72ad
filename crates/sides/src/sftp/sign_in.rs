//! Signing in to a host: by a key, a key that an agent holds, a password, or answers to what it asks.

use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use russh::client::{AuthResult, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{PrivateKeyWithHashAlg, load_secret_key};
use russh::{MethodKind, MethodSet};

use super::host_check::Checking;
use crate::SideError;
use crate::secret::Secret;
use crate::side_error::{Delay, Refusal, Said};

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

/// A way in, in a few words.
#[must_use]
pub fn described(way: &WayIn) -> String {
    match way {
        WayIn::Password(_) => "by a password".into(),
        WayIn::Key { file, .. } => format!("by the key in {}", file.display()),
        WayIn::Agent => "by a key of the SSH agent".into(),
    }
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

pub(super) async fn sign_in(
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
