//! Signing in to an account by SFTP: by a key in a file, by one that the SSH agent holds, or by a password.

use std::path::{Path, PathBuf};

use katabatic_engine::config::{AccountConfig, SignIn};
use katabatic_engine::open::{address_of, sftp_connection_with};
use katabatic_engine::{Class, Error, secrets};
use katabatic_sides::account::AccountClient;
use katabatic_sides::explain::explain;
use katabatic_sides::net::{ProxySetting, Trust};
use katabatic_sides::secret::Secret;
use katabatic_sides::sftp::{self, SftpClient, WayIn};

use super::signing::{Credential, Reached, Signing, asks, enter, secret_typed};
use crate::app::App;

/// So many ways in are tried at the most: some servers turn away who knocks too often.
const MOST: usize = 4;

/// Says what goes with no account by SFTP.
pub fn check(account: &AccountConfig, typed: &Signing) -> Result<(), Error> {
    let odd = [
        (
            typed.ca.is_some(),
            "--ca",
            "a server of SSH shows a host key, and no certificate",
        ),
        (
            typed.proxy.is_some(),
            "--proxy",
            "SSH goes to the server itself, or over the hosts that ~/.ssh/config names (ProxyJump)",
        ),
        (
            account.plain_http,
            "--plain-http",
            "SSH is always encrypted",
        ),
        (
            account.client_id.is_some() || account.scope.is_some(),
            "--client-id or --scope",
            "SFTP knows no sign-in by a code",
        ),
        (
            typed.sign_in == Some(SignIn::Device),
            "--sign-in device",
            "SFTP knows no sign-in by a code",
        ),
        (
            matches!(account.trust, Trust::Pinned(_)),
            "--trust",
            "a server of SSH shows a host key, which is pinned as SHA256:…, as ssh-keygen -l prints it",
        ),
    ];
    for (is_there, option, why) in odd {
        if is_there {
            return Err(Error::usage(
                format!("the account @{}", account.name),
                format!("{option} does not go with an address of SFTP: {why}"),
                "Leave it out.",
            ));
        }
    }
    Ok(())
}

/// Reaches the account and signs in: in the way that was asked for, or in the first that lets one in.
pub fn reach(
    app: &App,
    mut account: AccountConfig,
    typed: &Signing,
    way: Option<SignIn>,
) -> Result<Reached, Error> {
    check(&account, typed)?;
    account.proxy = ProxySetting::Environment;
    let address = address_of(&account)?;
    let host = address.host_str().unwrap_or_default().to_owned();
    if account.user.is_empty() {
        let known = sftp::configured_user(&host).or_else(|| std::env::var("USER").ok());
        account.user = known.ok_or_else(|| {
            Error::usage(
                format!("signing in to @{}", account.name),
                "it is not known who signs in",
                "Say it: --user NAME.",
            )
        })?;
    }
    if let Some(key) = &typed.key {
        account.key = Some(std::path::absolute(key).unwrap_or_else(|_| key.clone()));
    }
    // Before anybody is asked for anything.
    let looking = SftpClient::new(
        sftp_connection_with(&app.home, &account, WayIn::Agent)?,
        app.stop.clone(),
    );
    app.run(looking.look_at_host())
        .map_err(|error| explain(&account.name, &address, &error))?;
    let with_secret = typed.password_stdin || typed.password_file.is_some();
    let way = match (way, &typed.key, with_secret) {
        (Some(way), ..) => Some(way),
        (None, Some(_), _) => Some(SignIn::Key),
        (None, None, true) => Some(SignIn::Basic),
        (None, None, false) => None,
    };
    match way {
        Some(SignIn::Basic) => by_password(app, account, typed),
        Some(SignIn::Agent) => entered(app, account, SignIn::Agent, WayIn::Agent),
        Some(SignIn::Key) => {
            let file = account
                .key
                .clone()
                .or_else(|| sftp::usual_keys(&host).into_iter().next());
            let file = file.ok_or_else(|| {
                Error::usage(
                    format!("signing in to @{}", account.name),
                    "no key was named, and there is none in ~/.ssh",
                    "Name its file: --key FILE. A new one: ssh-keygen -t ed25519.",
                )
            })?;
            by_key(app, account, &file, typed)
        }
        Some(SignIn::Device) | None => in_turn(app, &account, &host, typed),
    }
}

/// Tries what is there: keys of the agent, keys in files, then a password.
fn in_turn(
    app: &App,
    account: &AccountConfig,
    host: &str,
    typed: &Signing,
) -> Result<Reached, Error> {
    let mut refused: Option<Error> = None;
    let mut tried = 0;
    // The host is known to be the right one by now: what is refused is the sign-in.
    let turn = |result: Result<Reached, Error>, refused: &mut Option<Error>| match result {
        Err(error) if error.class == Class::Refused => {
            *refused = Some(error);
            None
        }
        done => Some(done),
    };
    if app.run(sftp::agent_has_keys()) {
        tried += 1;
        let entered = entered(app, account.clone(), SignIn::Agent, WayIn::Agent);
        if let Some(done) = turn(entered, &mut refused) {
            return done;
        }
    }
    let keys: Vec<PathBuf> = sftp::usual_keys(host)
        .into_iter()
        .take(MOST - tried)
        .collect();
    for file in keys {
        let is_locked = sftp::is_locked(&file).unwrap_or(true);
        if is_locked && !asks(app) {
            continue;
        }
        if let Some(done) = turn(by_key(app, account.clone(), &file, typed), &mut refused) {
            return done;
        }
    }
    match (asks(app), refused) {
        (false, Some(error)) => Err(error),
        (false, None) => entered(app, account.clone(), SignIn::Agent, WayIn::Agent),
        (true, _) => by_password(app, account.clone(), typed),
    }
}

fn by_password(app: &App, account: AccountConfig, typed: &Signing) -> Result<Reached, Error> {
    let password = secret_typed(app, &account, typed, "password")?;
    entered(app, account, SignIn::Basic, WayIn::Password(password))
}

fn by_key(
    app: &App,
    mut account: AccountConfig,
    file: &Path,
    typed: &Signing,
) -> Result<Reached, Error> {
    let address = address_of(&account)?;
    let locked = sftp::is_locked(file).map_err(|error| explain(&account.name, &address, &error))?;
    let typed_here = typed.password_stdin || typed.password_file.is_some();
    // What opened it before does so again, and is kept still.
    let is_here = app.config.account(&account.name).is_ok();
    let recall = || secrets::recall(&app.home, &account.name, account.keeping).ok();
    let kept = is_here.then(recall).flatten();
    let kept = kept.filter(|kept| !typed_here && sftp::opens(file, kept));
    let called = format!("passphrase of the key {}", file.display());
    let passphrase = match (locked, kept) {
        (false, _) => None,
        (true, Some(kept)) => Some(kept),
        (true, None) => Some(secret_typed(app, &account, typed, &called)?),
    };
    account.key = Some(file.to_owned());
    let way = WayIn::Key {
        file: file.to_owned(),
        passphrase,
    };
    entered(app, account, SignIn::Key, way)
}

fn entered(
    app: &App,
    mut account: AccountConfig,
    sign_in: SignIn,
    way: WayIn,
) -> Result<Reached, Error> {
    account.sign_in = sign_in;
    if sign_in != SignIn::Key {
        account.key = None;
    }
    let credential = Credential::Ssh(way);
    let mut steps = Vec::new();
    let survey = enter(app, &account, &credential, &mut steps)?;
    Ok(Reached {
        account,
        credential,
        survey,
        steps,
        certificate: None,
    })
}

/// A client for the account in this way.
pub fn client(app: &App, account: &AccountConfig, way: WayIn) -> Result<AccountClient, Error> {
    let connection = sftp_connection_with(&app.home, account, way)?;
    Ok(AccountClient::Sftp(SftpClient::new(
        connection,
        app.stop.clone(),
    )))
}

/// What is kept for such an account: a password, or what opens its key. Of an agent's key nothing is.
pub fn secret_of(way: &WayIn) -> Secret {
    match way {
        WayIn::Password(secret)
        | WayIn::Key {
            passphrase: Some(secret),
            ..
        } => secret.clone(),
        WayIn::Key {
            passphrase: None, ..
        }
        | WayIn::Agent => Secret::new(String::new()),
    }
}
