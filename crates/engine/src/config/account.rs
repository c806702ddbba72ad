//! An account as the config has it.

use std::path::PathBuf;
use std::time::Duration;

use toml_edit::{Item, Table, value};

use super::fields::{Fields, set_or_remove};
use super::mistake::Mistake;
use katabatic_core::principal::Principal;
use katabatic_sides::certificate::{pin, read_pin};
use katabatic_sides::host_key;
use katabatic_sides::net::SFTP;
use katabatic_sides::net::rate::Limits;
use katabatic_sides::net::{Line, PATIENCE, ProxySetting, Trust};
use katabatic_sides::secret::Keeping;

/// How an account signs in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SignIn {
    /// By name and password (RFC 7617).
    #[default]
    Basic,
    /// By the device grant (RFC 8628).
    Device,
    /// By a key in a file (RFC 4252 §7).
    Key,
    /// By a key that the SSH agent holds.
    Agent,
}

impl SignIn {
    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            SignIn::Basic => "basic",
            SignIn::Device => "device",
            SignIn::Key => "key",
            SignIn::Agent => "agent",
        }
    }
}

/// An account as the config has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccountConfig {
    /// The name, without `@`.
    pub name: String,
    /// The address of its WebDAV root or of its folder by SFTP, ending in a slash.
    pub address: String,
    /// Who signs in.
    pub user: String,
    /// How they sign in.
    pub sign_in: SignIn,
    /// Where the secret is kept.
    pub keeping: Keeping,
    /// Whose account it was when it was added (RFC 5397), where the server says so.
    pub principal: Option<Principal>,
    /// Whether nothing may be written there.
    pub read_only: bool,
    /// Which certificates are trusted.
    pub trust: Trust,
    /// Whether plain http is taken for another computer.
    pub plain_http: bool,
    /// Which proxy is on the way.
    pub proxy: ProxySetting,
    /// For how many seconds the server may stay silent, where that was said.
    pub patience: Option<u64>,
    /// How much may go over the line in a second, for all its lanes together.
    pub limits: Limits,
    /// The name under which this program asks for tokens, where it is another one.
    pub client_id: Option<String>,
    /// What the tokens are asked for, where the server wants that said.
    pub scope: Option<String>,
    /// The file with the key that somebody signs in by, where that is the way.
    pub key: Option<PathBuf>,
}

impl AccountConfig {
    /// An account that signs in by name and password, with nothing special about it.
    #[must_use]
    pub fn new(name: &str, address: &str, user: &str) -> AccountConfig {
        AccountConfig {
            name: name.to_owned(),
            address: address.to_owned(),
            user: user.to_owned(),
            sign_in: SignIn::Basic,
            keeping: Keeping::File,
            principal: None,
            read_only: false,
            trust: Trust::System,
            plain_http: false,
            proxy: ProxySetting::Environment,
            patience: None,
            limits: Limits::default(),
            client_id: None,
            scope: None,
            key: None,
        }
    }

    /// Whether it is reached by SFTP, and not by WebDAV.
    #[must_use]
    pub fn is_sftp(&self) -> bool {
        is_sftp(&self.address)
    }

    /// Trust, proxy and patience.
    #[must_use]
    pub fn line(&self) -> Line {
        Line {
            trust: self.trust.clone(),
            proxy: self.proxy.clone(),
            patience: self.patience.map_or(PATIENCE, Duration::from_secs),
        }
    }

    pub(super) fn read(name: &str, table: Table) -> Result<AccountConfig, Mistake> {
        let fields = Fields::of(&format!("account.{name}"), table, &ACCOUNT_KEYS)?;
        let odd =
            |key: &str, why: String| fields.wrong(key, format!("[account.{name}] {key}: {why}"));
        let sign_in = match fields.optional("sign_in")?.as_deref() {
            None | Some("basic") => SignIn::Basic,
            Some("device") => SignIn::Device,
            Some("key") => SignIn::Key,
            Some("agent") => SignIn::Agent,
            Some(other) => {
                return Err(odd(
                    "sign_in",
                    format!("there is no {other}; there are basic, device, key and agent"),
                ));
            }
        };
        let keeping = match fields.optional("secrets")? {
            None => Keeping::File,
            Some(word) => Keeping::parse(&word).ok_or_else(|| {
                odd(
                    "secrets",
                    format!("there is no {word}; there are file, keyring and passphrase"),
                )
            })?,
        };
        let trust = match (fields.optional("trust")?, fields.optional("ca")?) {
            (None, None) => Trust::System,
            (Some(pin), None) => read_trust(&pin).map_err(|why| odd("trust", why))?,
            (None, Some(file)) => Trust::Authority(file.into()),
            (Some(_), Some(_)) => {
                return Err(odd(
                    "trust",
                    "a pinned certificate and an authority (ca) do not go together".into(),
                ));
            }
        };
        let proxy = match fields.optional("proxy")? {
            None => ProxySetting::Environment,
            Some(text) => ProxySetting::parse(&text).map_err(|why| odd("proxy", why))?,
        };
        let principal = fields.optional("principal")?.map(|href| Principal {
            name: href.clone(),
            href,
        });
        Ok(AccountConfig {
            name: name.to_owned(),
            address: fields.text("address")?,
            user: fields.text("user")?,
            sign_in,
            keeping,
            principal: match (principal, fields.optional("principal_name")?) {
                (Some(principal), Some(name)) => Some(Principal { name, ..principal }),
                (principal, _) => principal,
            },
            read_only: fields.flag("read_only")?,
            trust,
            plain_http: fields.flag("plain_http")?,
            proxy,
            patience: fields.number("patience")?,
            limits: fields.limits()?,
            client_id: fields.optional("client_id")?,
            scope: fields.optional("scope")?,
            key: fields.optional("key")?.map(PathBuf::from),
        })
    }

    /// Writes what differs from the usual; comments and the order of what is there stay.
    pub(super) fn write(&self, table: &mut Item) {
        table["address"] = value(&self.address);
        table["user"] = value(&self.user);
        let word = |wanted: bool, word: &str| wanted.then(|| word.to_owned());
        let (trust, ca) = match &self.trust {
            Trust::System => (None, None),
            Trust::Pinned(sha256) => (Some(pin(sha256)), None),
            Trust::HostKey(sha256) => (Some(host_key::pin(sha256)), None),
            Trust::Authority(file) => (None, Some(file.to_string_lossy().into_owned())),
        };
        let principal = self.principal.as_ref();
        for (key, text) in [
            (
                "sign_in",
                word(self.sign_in != SignIn::Basic, self.sign_in.word()),
            ),
            (
                "secrets",
                word(self.keeping != Keeping::File, self.keeping.word()),
            ),
            (
                "principal",
                principal.map(|principal| principal.href.clone()),
            ),
            (
                "principal_name",
                principal.map(|principal| principal.name.clone()),
            ),
            ("trust", trust),
            ("ca", ca),
            ("proxy", self.proxy.text()),
            ("client_id", self.client_id.clone()),
            ("scope", self.scope.clone()),
            (
                "key",
                self.key
                    .as_ref()
                    .map(|file| file.to_string_lossy().into_owned()),
            ),
            ("limit_up", self.limits.up.as_ref().map(ToString::to_string)),
            (
                "limit_down",
                self.limits.down.as_ref().map(ToString::to_string),
            ),
        ] {
            set_or_remove(table, key, text.map(value));
        }
        set_or_remove(table, "read_only", self.read_only.then(|| value(true)));
        set_or_remove(table, "plain_http", self.plain_http.then(|| value(true)));
        let patience = self
            .patience
            .and_then(|seconds| i64::try_from(seconds).ok());
        set_or_remove(table, "patience", patience.map(value));
    }
}

/// Whether this is the address of an account that is reached by SFTP.
#[must_use]
pub fn is_sftp(address: &str) -> bool {
    let scheme = address
        .trim_start()
        .split_once("://")
        .map(|(scheme, _)| scheme);
    scheme.is_some_and(|scheme| scheme.eq_ignore_ascii_case(SFTP))
}

/// What is pinned: a certificate, or a host key, each as it is written.
///
/// # Errors
/// Says how each should be written.
pub fn read_trust(text: &str) -> Result<Trust, String> {
    match text.trim_start().starts_with("SHA256:") {
        true => host_key::read_pin(text).map(Trust::HostKey),
        false => read_pin(text).map(Trust::Pinned),
    }
}

const ACCOUNT_KEYS: [&str; 17] = [
    "address",
    "user",
    "sign_in",
    "secrets",
    "principal",
    "principal_name",
    "read_only",
    "trust",
    "ca",
    "plain_http",
    "proxy",
    "patience",
    "client_id",
    "scope",
    "key",
    "limit_up",
    "limit_down",
];
