//! Signing in, as `account add` and `account sign-in` do it: by a code typed elsewhere, or by a password that is
//! typed here, piped in or read from a file. Nothing is saved before a person has seen whom it reached.

use crate::lasting::{Setting, Unit, lasting_or_none};
use crate::limits::LimitsArgs;
use crate::typed_choice::choice;
use clap::Args;
use clap::ValueEnum;
use std::io::{BufRead, IsTerminal};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use katabatic_engine::accounts::device_grant::{Answered, CLIENT_ID, Endpoints, Grant, discover};
use katabatic_engine::accounts::reach::{self, Step};
use katabatic_engine::accounts::tokens::TokenKeeper;
use katabatic_engine::config::{AccountConfig, SignIn, read_trust};
use katabatic_engine::open::{client_with, connection_with};
use katabatic_engine::{Class, Error};
use katabatic_sides::account::AccountClient;
use katabatic_sides::certificate::Certificate;
use katabatic_sides::explain::explain;
use katabatic_sides::net::{Http, ProxySetting, Trust};
use katabatic_sides::secret::Keeping;
use katabatic_sides::secret::Secret;
use katabatic_sides::sftp::WayIn;
use katabatic_sides::survey::Survey;
use katabatic_sides::webdav::Signer;

use super::sftp_signing;
use crate::app::App;
use crate::draw::{line, shown_text};
use crate::output;

/// What `account add` and `account sign-in` share.
#[derive(Args, Debug)]
pub struct Signing {
    /// How to sign in; the best that the server offers where this is left out
    #[arg(long, value_parser = choice::<SignIn>())]
    pub sign_in: Option<SignIn>,
    /// Read the password, or what opens the key, from standard input
    #[arg(long, conflicts_with = "password_file")]
    pub password_stdin: bool,
    /// Read it from the first line of this file
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<PathBuf>,
    /// Where to keep the secret; the keyring where one answers, else a file
    #[arg(long, value_enum)]
    pub secrets: Option<KeepingTyped>,
    /// The same as --secrets passphrase
    #[arg(long, conflicts_with = "secrets")]
    pub passphrase: bool,
    /// The key to sign in with by SFTP; those of the SSH agent and of ~/.ssh are tried where it is left out
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
    /// Pin this certificate (sha256:HEX) or host key (SHA256:…), and trust no other
    #[arg(long, value_name = "SHA-256", conflicts_with = "ca")]
    pub trust: Option<String>,
    /// Trust the authorities in this PEM file, and no others
    #[arg(long, value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// The proxy on the way, or `none`; the environment decides where this is left out
    #[arg(long, value_name = "URL|none")]
    pub proxy: Option<String>,
    /// For how long the server may send nothing; 60s otherwise
    #[arg(long, value_name = "TIME|none", value_parser = lasting_or_none(Unit::Seconds, 1..=3_600))]
    pub patience: Option<Setting<u64>>,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsArgs,
    /// Do not ask whether it is the right account
    #[arg(long)]
    pub yes: bool,
}

/// Where to keep a secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum KeepingTyped {
    /// A file that only its owner may read
    File,
    /// The desktop's keyring
    Keyring,
    /// A file encrypted with a passphrase
    Passphrase,
}

/// An account that was reached and signed in to, and is not saved yet.
pub struct Reached {
    /// The account, as it would be saved.
    pub account: AccountConfig,
    /// How it signed in.
    pub credential: Credential,
    /// What it says of itself.
    pub survey: Survey,
    /// What was done, with times.
    pub steps: Vec<Step>,
    /// The server's certificate, where it was seen.
    pub certificate: Option<Certificate>,
}

/// By what somebody signs in.
#[derive(Clone)]
pub enum Credential {
    /// To a server of the web.
    Web(Signer),
    /// To a host of SSH.
    Ssh(WayIn),
}

/// The secret to keep: tokens may have been renewed since they were given.
pub fn secret_of(app: &App, credential: &Credential) -> Secret {
    match credential {
        Credential::Web(Signer::Basic { password, .. }) => password.clone(),
        Credential::Web(Signer::Tokens(keeper)) => app.run(keeper.secret()),
        Credential::Ssh(way) => sftp_signing::secret_of(way),
    }
}

/// A client for an account that is not saved yet.
pub fn client_of(
    app: &App,
    account: &AccountConfig,
    credential: &Credential,
) -> Result<AccountClient, Error> {
    match credential {
        Credential::Web(signer) => {
            let connection = connection_with(account, signer.clone())?;
            let client = client_with(account, connection, &app.stop)?;
            Ok(AccountClient::Webdav(Box::new(client)))
        }
        Credential::Ssh(way) => sftp_signing::client(app, account, way.clone()),
    }
}

/// Takes over what was typed about trust, proxy, patience and the store.
pub fn apply(account: &mut AccountConfig, typed: &Signing) -> Result<(), Error> {
    let wrong = |option: &str, why: String| {
        Error::usage(
            format!("the option {option}"),
            why,
            "See katabatic account add --help.",
        )
    };
    if let Some(pin) = &typed.trust {
        account.trust = read_trust(pin).map_err(|why| wrong("--trust", why))?;
    }
    if let Some(file) = &typed.ca {
        let file = std::path::absolute(file).unwrap_or_else(|_| file.clone());
        account.trust = Trust::Authority(file);
    }
    if let Some(text) = &typed.proxy {
        account.proxy = ProxySetting::parse(text).map_err(|why| wrong("--proxy", why))?;
    }
    account.limits = typed.limits.over(&account.limits)?;
    if let Some(patience) = typed.patience {
        account.patience = patience.said();
    }
    match (typed.secrets, typed.passphrase) {
        (Some(KeepingTyped::Passphrase), _) | (None, true) => {
            account.keeping = Keeping::Passphrase;
        }
        (Some(KeepingTyped::Keyring), _) => account.keeping = Keeping::Keyring,
        (Some(KeepingTyped::File), _) => account.keeping = Keeping::File,
        (None, false) => {}
    }
    Ok(())
}

fn http(account: &AccountConfig, url: &url::Url) -> Result<Http, Error> {
    account.line().http(url).map_err(|why| {
        Error::failed(
            format!("connecting to @{}", account.name),
            why,
            "See katabatic account add --help: --ca, --trust, --proxy.",
        )
    })
}

/// Reaches the account, signs in and looks at it.
pub fn reach(app: &App, account: AccountConfig, typed: &Signing) -> Result<Reached, Error> {
    if account.is_sftp() {
        return sftp_signing::reach(app, account, typed, typed.sign_in);
    }
    let signed_in = sign_in_to(app, account, typed, typed.sign_in)?;
    signed_in.enter(app, signed_in.account.clone())
}

/// An account that was reached, and that somebody signs in to; nothing was asked there yet.
pub struct SignedIn {
    /// The account, as it would be saved.
    pub account: AccountConfig,
    /// How to sign in.
    pub signer: Signer,
    /// How it is reached.
    pub http: Http,
    steps: Vec<Step>,
    certificate: Option<Certificate>,
}

impl SignedIn {
    /// Asks the account what it says of itself, at the address that it has here.
    pub fn enter(&self, app: &App, account: AccountConfig) -> Result<Reached, Error> {
        let credential = Credential::Web(self.signer.clone());
        let mut steps = self.steps.clone();
        let survey = enter(app, &account, &credential, &mut steps)?;
        Ok(Reached {
            account,
            credential,
            survey,
            steps,
            certificate: self.certificate.clone(),
        })
    }
}

/// Reaches the server, and has somebody sign in: in this way, or else in the best that the server offers.
pub fn sign_in_to(
    app: &App,
    mut account: AccountConfig,
    typed: &Signing,
    way: Option<SignIn>,
) -> Result<SignedIn, Error> {
    if typed.key.is_some() || matches!(way, Some(SignIn::Key | SignIn::Agent)) {
        return Err(Error::usage(
            format!("signing in to @{}", account.name),
            "a key is for accounts by SFTP, and this address is of WebDAV",
            "Give an address such as sftp://HOST/FOLDER/, or leave the key out.",
        ));
    }
    let address = parsed(&account)?;
    let line_to = http(&account, &address)?;
    let (name, plan) = (account.name.clone(), account.line());
    let proxy = plan
        .proxy
        .used_for(&address)
        .map_err(|why| Error::failed(format!("connecting to @{name}"), why, "Say --proxy URL."))?;
    let knocking = reach::knock(&name, &address, &plan, &proxy);
    let knocked = unless_stopped(app, &name, knocking)?;
    let settling = reach::settle(&name, &line_to, &address);
    let (settled, notes) = unless_stopped(app, &name, settling)?;
    if settled != address {
        say(app, &notes.join("; "));
        account.address = settled.to_string();
    }
    let line_to = http(&account, &settled)?;
    let with_password = typed.password_stdin || typed.password_file.is_some();
    let device = match way {
        Some(SignIn::Basic | SignIn::Key | SignIn::Agent) => None,
        None if with_password => None,
        _ => {
            let found = async {
                let found = discover(&line_to, &settled).await;
                found.map_err(|error| explain(&name, &settled, &error))
            };
            unless_stopped(app, &name, found)?
        }
    };
    let signer = match (device, way) {
        (Some(endpoints), _) => by_code(app, &mut account, line_to.clone(), endpoints)?,
        (None, Some(SignIn::Device)) => {
            return Err(Error::new(
                Class::Refused,
                format!("signing in to @{name}"),
                "the server offers no device grant (RFC 8628)",
                "Leave --sign-in device out, and sign in by name and password.",
            ));
        }
        (None, _) => by_password(app, &mut account, typed)?,
    };
    Ok(SignedIn {
        account,
        signer,
        http: line_to,
        steps: knocked.steps,
        certificate: knocked.certificate,
    })
}

fn parsed(account: &AccountConfig) -> Result<url::Url, Error> {
    katabatic_engine::accounts::address::understand(&account.address, account.plain_http)
        .map(|understood| understood.url)
}

/// Signs in and asks what the account says of itself.
pub fn enter(
    app: &App,
    account: &AccountConfig,
    credential: &Credential,
    steps: &mut Vec<Step>,
) -> Result<Survey, Error> {
    let client = client_of(app, account, credential)?;
    let address = parsed(account)?;
    app.run(reach::enter(&account.name, &address, &client, steps))
}

/// Nothing is done there yet, so that it may end at any moment.
fn unless_stopped<T>(
    app: &App,
    name: &str,
    reaching: impl Future<Output = Result<T, Error>>,
) -> Result<T, Error> {
    app.run(async {
        tokio::select! {
            reached = reaching => reached,
            _ = app.stop.until_asked() => Err(Error::new(
                Class::Stopped,
                format!("reaching @{name}"),
                "stopped by Ctrl-C",
                "Nothing was saved.",
            )),
        }
    })
}

/// What is said while it goes on; not in JSON, where only the answer counts.
fn say(app: &App, text: &str) {
    if !app.common.json {
        line(text);
    }
}

fn by_code(
    app: &App,
    account: &mut AccountConfig,
    http: Http,
    endpoints: Endpoints,
) -> Result<Signer, Error> {
    let what = format!("signing in to @{}", account.name);
    let address = parsed(account)?;
    let failed = |error| explain(&account.name, &address, &error);
    let client_id = account.client_id.clone();
    let grant = Grant::new(
        http,
        endpoints,
        client_id.as_deref().unwrap_or(CLIENT_ID),
        account.scope.as_deref(),
    );
    let code = app.run(grant.ask()).map_err(failed)?;
    // On standard error where the answer is JSON: the person has to see it either way.
    let tell = |text: String| {
        let text = shown_text(&text);
        if app.common.json {
            crate::draw::say(text);
        } else {
            line(text);
        }
    };
    tell(
        "The person whose account it is signs in on any device; no password is typed here.".into(),
    );
    tell(format!("  open  {}", code.address));
    tell(format!("  type  {}", code.code));
    if let Some(address) = &code.address_with_code {
        tell(format!("  or open this, with the code in it: {address}"));
    }
    tell(format!(
        "  the code is good for {}; Ctrl-C gives up",
        minutes(code.lasts)
    ));
    let terminal = app.style.terminal;
    let tick = move |left: Duration| {
        if terminal {
            output::error_piece(&format!(
                "\r  waiting: {:>2}:{:02} left ",
                left.as_secs() / 60,
                left.as_secs() % 60
            ));
        }
    };
    let answered = app
        .run(grant.wait(&code, &app.stop, &tick))
        .map_err(failed)?;
    if terminal {
        output::error_piece(&format!("\r{:30}\r", ""));
    }
    let next = "Nothing was saved. Try again for a new code.";
    match answered {
        Answered::Approved(tokens) => {
            tell("  approved".into());
            account.sign_in = SignIn::Device;
            let keeper = TokenKeeper::new(
                app.home.clone(),
                &account.name,
                None,
                account.line(),
                *tokens,
            );
            Ok(Signer::Tokens(Arc::new(keeper)))
        }
        Answered::Refused => Err(Error::new(
            Class::Refused,
            what,
            "the person refused it on the page",
            next,
        )),
        Answered::Expired => Err(Error::new(
            Class::Refused,
            what,
            format!(
                "the code expired: nobody typed it within {}",
                minutes(code.lasts)
            ),
            next,
        )),
        Answered::Stopped => Err(Error::new(
            Class::Stopped,
            what,
            "stopped by Ctrl-C",
            "Nothing was saved.",
        )),
    }
}

fn minutes(length: Duration) -> String {
    match length.as_secs() {
        seconds if seconds < 120 => katabatic_core::words::count(seconds, "second", "seconds"),
        seconds => katabatic_core::words::count(seconds / 60, "minute", "minutes"),
    }
}

fn by_password(app: &App, account: &mut AccountConfig, typed: &Signing) -> Result<Signer, Error> {
    if account.user.is_empty() {
        return Err(Error::usage(
            format!("signing in to @{}", account.name),
            "the server takes a name and a password, and no name was given",
            "Say who signs in: --user NAME.",
        ));
    }
    account.sign_in = SignIn::Basic;
    let password = secret_typed(app, account, typed, "password")?;
    Ok(Signer::Basic {
        user: account.user.clone(),
        password,
    })
}

/// A password, or another secret that is called so: piped in, from a file, or typed.
pub fn secret_typed(
    app: &App,
    account: &AccountConfig,
    typed: &Signing,
    called: &str,
) -> Result<Secret, Error> {
    let what = || format!("reading the {called} of @{}", account.name);
    let wrong = |why: String, next: &str| Error::usage(what(), why, next);
    let first_line = |mut reader: Box<dyn BufRead>| {
        let mut text = String::new();
        reader
            .read_line(&mut text)
            .map_err(|why| wrong(why.to_string(), "Try again; nothing was saved."))?;
        Ok::<_, Error>(text)
    };
    let text = if typed.password_stdin {
        first_line(Box::new(std::io::stdin().lock()))?
    } else if let Some(file) = &typed.password_file {
        let opened = std::fs::File::open(file).map_err(|why| {
            wrong(
                format!("{}: {why}", file.display()),
                "Name a file that can be read.",
            )
        })?;
        first_line(Box::new(std::io::BufReader::new(opened)))?
    } else {
        if !app.style.terminal {
            return Err(wrong(
                "there is no terminal to ask on".into(),
                "Give it with --password-stdin or --password-file FILE, never as an argument.",
            ));
        }
        let mut called = called.to_owned();
        called[..1].make_ascii_uppercase();
        rpassword::prompt_password(format!(
            "{called} of {} at {}: ",
            account.user, account.address
        ))
        .map_err(|why| wrong(why.to_string(), "Try again; nothing was saved."))?
    };
    let text = text.trim_end_matches(['\n', '\r']).to_owned();
    if text.is_empty() {
        return Err(wrong("it is empty".into(), "Give one; nothing was saved."));
    }
    Ok(Secret::new(text))
}

/// Asks a question on a terminal; without one there is nobody to ask, and what was typed counts.
pub fn confirmed(app: &App, yes: bool, question: &str) -> Result<bool, Error> {
    match yes || !asks(app) {
        true => Ok(true),
        false => answered(question),
    }
}

/// The same of what changes or frees something: where nobody can be asked, it takes a yes that was typed.
pub fn agreed(app: &App, yes: bool, what: &str, question: &str) -> Result<(), Error> {
    if yes {
        return Ok(());
    }
    if !asks(app) {
        return Err(Error::new(
            Class::NeedsPerson,
            what,
            "nobody can be asked here, and --yes was not said",
            "Nothing was changed. To do it: the same with --yes",
        ));
    }
    match answered(question)? {
        true => Ok(()),
        false => Err(Error::failed(
            what,
            "it is not to be done, as was said",
            "Nothing was changed.",
        )),
    }
}

/// Whether there is somebody at a terminal.
pub fn asks(app: &App) -> bool {
    app.style.terminal && std::io::stdin().is_terminal()
}

fn answered(question: &str) -> Result<bool, Error> {
    let answer = typed_answer(&format!("{question} [y/N] "), "Say --yes.")?;
    Ok(matches!(answer.as_str(), "y" | "Y" | "yes"))
}

/// What somebody types to a question, without the blanks around it; where there is nothing to read, `next` is to be done.
pub fn typed_answer(question: &str, next: &str) -> Result<String, Error> {
    crate::draw::ask(question);
    let mut answer = String::new();
    let read = std::io::stdin().read_line(&mut answer);
    let read = read.map_err(|why| Error::usage("asking", why.to_string(), next))?;
    match read {
        0 => Err(Error::usage("asking", "the answers ended", next)),
        _ => Ok(answer.trim().to_owned()),
    }
}
