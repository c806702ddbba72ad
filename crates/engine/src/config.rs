//! The config: one TOML file, made to be read and edited by hand. Commands change it in place and keep its comments.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use toml_edit::{DocumentMut, Item, Table, value};

use crate::Error;
use crate::home::{Home, write_private};
use crate::net::certificate::{pin, read_pin};
use crate::net::rate::{Limits, Rate};
use crate::net::{Line, PATIENCE, ProxySetting, Trust};
use crate::secrets::Keeping;
use crate::sides::webdav::Principal;

/// How an account signs in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SignIn {
    /// By name and password (RFC 7617).
    #[default]
    Basic,
    /// By the device grant (RFC 8628).
    Device,
}

impl SignIn {
    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            SignIn::Basic => "basic",
            SignIn::Device => "device",
        }
    }
}

/// An account as the config has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccountConfig {
    /// The name, without `@`.
    pub name: String,
    /// The address of its WebDAV root, ending in a slash.
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
        }
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

    fn read(name: &str, table: Table) -> Result<AccountConfig, String> {
        let fields = Fields::of(&format!("account.{name}"), table, &ACCOUNT_KEYS)?;
        let odd = |key: &str, why: String| format!("[account.{name}] {key}: {why}");
        let sign_in = match fields.optional("sign_in")?.as_deref() {
            None | Some("basic") => SignIn::Basic,
            Some("device") => SignIn::Device,
            Some(other) => {
                return Err(odd(
                    "sign_in",
                    format!("there is no {other}; there are basic and device"),
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
            (Some(pin), None) => Trust::Pinned(read_pin(&pin).map_err(|why| odd("trust", why))?),
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
        })
    }

    /// Writes what differs from the usual; comments and the order of what is there stay.
    fn write(&self, table: &mut Item) {
        table["address"] = value(&self.address);
        table["user"] = value(&self.user);
        let word = |wanted: bool, word: &str| wanted.then(|| word.to_owned());
        let (trust, ca) = match &self.trust {
            Trust::System => (None, None),
            Trust::Pinned(sha256) => (Some(pin(sha256)), None),
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
            ("limit_up", self.limits.up.map(|rate| rate.to_string())),
            ("limit_down", self.limits.down.map(|rate| rate.to_string())),
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

const ACCOUNT_KEYS: [&str; 16] = [
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
    "limit_up",
    "limit_down",
];

fn write_limits(table: &mut Item, limits: Limits) {
    for (key, rate) in [("limit_up", limits.up), ("limit_down", limits.down)] {
        set_or_remove(table, key, rate.map(|rate| value(rate.to_string())));
    }
}

fn set_or_remove(table: &mut Item, key: &str, item: Option<Item>) {
    match item {
        Some(item) => table[key] = item,
        None => {
            if let Some(table) = table.as_table_like_mut() {
                table.remove(key);
            }
        }
    }
}

/// Which way a lane carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    /// Changes on each side go to the other.
    TwoWay,
}

impl Direction {
    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Direction::TwoWay => "two-way",
        }
    }
}

/// A lane as the config has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LaneConfig {
    /// The name.
    pub name: String,
    /// What the ledger knows it by; made once, never changed.
    pub id: String,
    /// The near folder, absolute.
    pub near: PathBuf,
    /// The account of the far side.
    pub account: String,
    /// The far folder, below the account's address.
    pub far: katabatic_core::RelPath,
    /// Which way it carries.
    pub direction: Direction,
    /// How much of it may go over the line in a second.
    pub limits: Limits,
}

impl LaneConfig {
    /// The far side as people write it: `@office/Scores`.
    #[must_use]
    pub fn far_place(&self) -> String {
        far_place(&self.account, &self.far)
    }
}

/// A folder of an account as people write it.
#[must_use]
pub fn far_place(account: &str, path: &katabatic_core::RelPath) -> String {
    if path.is_root() {
        format!("@{account}/")
    } else {
        format!("@{account}/{path}")
    }
}

/// The config file, read and checked.
#[derive(Clone, Debug)]
pub struct Config {
    file: PathBuf,
    document: DocumentMut,
    /// The accounts, in the file's order.
    pub accounts: Vec<AccountConfig>,
    /// The lanes, in the file's order.
    pub lanes: Vec<LaneConfig>,
}

impl Config {
    /// Reads the config of a home; one that is not there is empty.
    ///
    /// # Errors
    /// Says which line or key is wrong.
    pub fn read(home: &Home) -> Result<Config, Error> {
        let file = home.config_file();
        let text = match fs::read_to_string(&file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(wrong(&file, &error.to_string())),
        };
        let document: DocumentMut = text
            .parse()
            .map_err(|error: toml_edit::TomlError| wrong(&file, &error.to_string()))?;
        let mut config = Config {
            file,
            document,
            accounts: Vec::new(),
            lanes: Vec::new(),
        };
        config.understand()?;
        Ok(config)
    }

    fn understand(&mut self) -> Result<(), Error> {
        let wrong = |why: String| wrong(&self.file, &why);
        for (key, _) in self.document.iter() {
            if !["account", "lane"].contains(&key) {
                return Err(wrong(format!(
                    "`{key}` means nothing here; there are [account.NAME] and [lane.NAME]"
                )));
            }
        }
        let mut accounts = Vec::new();
        for (name, table) in tables(&self.document, "account").map_err(wrong)? {
            check_name(&name).map_err(|why| wrong(format!("[account.{name}]: {why}")))?;
            accounts.push(AccountConfig::read(&name, table).map_err(wrong)?);
        }
        let mut lanes = Vec::new();
        for (name, table) in tables(&self.document, "lane").map_err(wrong)? {
            check_name(&name).map_err(|why| wrong(format!("[lane.{name}]: {why}")))?;
            let fields = Fields::of(
                &format!("lane.{name}"),
                table,
                &["id", "near", "far", "direction", "limit_up", "limit_down"],
            )
            .map_err(wrong)?;
            let direction = match fields.text("direction").map_err(wrong)?.as_str() {
                "two-way" => Direction::TwoWay,
                other => {
                    return Err(wrong(format!(
                        "[lane.{name}] direction = \"{other}\": only two-way is built so far"
                    )));
                }
            };
            let near = PathBuf::from(fields.text("near").map_err(wrong)?);
            if !near.is_absolute() {
                return Err(wrong(format!(
                    "[lane.{name}] near = \"{}\": it must be an absolute path",
                    near.display()
                )));
            }
            let far = fields.text("far").map_err(wrong)?;
            let (account, path) = far
                .strip_prefix('@')
                .map(|rest| rest.split_once('/').unwrap_or((rest, "")))
                .filter(|(account, _)| accounts.iter().any(|known| known.name == *account))
                .ok_or_else(|| wrong(format!("[lane.{name}] far = \"{far}\": it must be @ACCOUNT/FOLDER of an account above")))?;
            let path = katabatic_core::RelPath::parse(path.trim_matches('/'))
                .map_err(|why| wrong(format!("[lane.{name}] far = \"{far}\": {why}")))?;
            let id = fields.text("id").map_err(wrong)?;
            let limits = fields.limits().map_err(wrong)?;
            lanes.push(LaneConfig {
                name,
                id,
                near,
                account: account.to_owned(),
                far: path,
                direction,
                limits,
            });
        }
        (self.accounts, self.lanes) = (accounts, lanes);
        Ok(())
    }

    /// The names of all accounts.
    #[must_use]
    pub fn account_names(&self) -> Vec<String> {
        self.accounts
            .iter()
            .map(|account| account.name.clone())
            .collect()
    }

    /// The account of this name.
    ///
    /// # Errors
    /// Lists the accounts there are.
    pub fn account(&self, name: &str) -> Result<&AccountConfig, Error> {
        let name = name.strip_prefix('@').unwrap_or(name);
        self.accounts
            .iter()
            .find(|account| account.name == name)
            .ok_or_else(|| {
                Error::usage(
                    format!("the account {name}"),
                    "there is none of that name",
                    listed("account", &self.account_names()),
                )
            })
    }

    /// The lane of this name.
    ///
    /// # Errors
    /// Lists the lanes there are.
    pub fn lane(&self, name: &str) -> Result<&LaneConfig, Error> {
        self.lanes
            .iter()
            .find(|lane| lane.name == name)
            .ok_or_else(|| {
                let names: Vec<String> = self.lanes.iter().map(|lane| lane.name.clone()).collect();
                Error::usage(
                    format!("the lane {name}"),
                    "there is none of that name",
                    listed("lane", &names),
                )
            })
    }

    /// Adds an account and saves.
    ///
    /// # Errors
    /// A name that is taken or cannot be one; a file that cannot be written.
    pub fn add_account(&mut self, account: AccountConfig) -> Result<(), Error> {
        self.check_free(
            "account",
            &account.name,
            self.accounts.iter().any(|known| known.name == account.name),
        )?;
        account.write(self.table("account", &account.name));
        self.accounts.push(account);
        self.save()
    }

    /// Changes an account and saves.
    ///
    /// # Errors
    /// Where there is none of that name, or the file cannot be written.
    pub fn change_account(&mut self, account: AccountConfig) -> Result<(), Error> {
        self.account(&account.name)?;
        account.write(&mut self.document["account"][&account.name]);
        for known in &mut self.accounts {
            if known.name == account.name {
                known.clone_from(&account);
            }
        }
        self.save()
    }

    /// Gives an account another name, in its lanes too, and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn rename_account(&mut self, from: &str, to: &str) -> Result<(), Error> {
        let group = self
            .document
            .get_mut("account")
            .and_then(Item::as_table_like_mut);
        if let Some(group) = group
            && let Some(item) = group.remove(from)
        {
            group.insert(to, item);
        }
        for account in &mut self.accounts {
            if account.name == from {
                to.clone_into(&mut account.name);
            }
        }
        for lane in &mut self.lanes {
            if lane.account == from {
                to.clone_into(&mut lane.account);
                self.document["lane"][&lane.name]["far"] = value(lane.far_place());
            }
        }
        self.save()
    }

    /// Ties a lane to another far folder and saves.
    ///
    /// # Errors
    /// Where there is no such lane, or the file cannot be written.
    pub fn change_far(
        &mut self,
        name: &str,
        account: &str,
        far: katabatic_core::RelPath,
    ) -> Result<(), Error> {
        self.lane(name)?;
        for lane in &mut self.lanes {
            if lane.name == name {
                account.clone_into(&mut lane.account);
                lane.far = far.clone();
                self.document["lane"][name]["far"] = value(lane.far_place());
            }
        }
        self.save()
    }

    /// Gives a lane other limits and saves.
    ///
    /// # Errors
    /// As [`Config::change_far`].
    pub fn change_limits(&mut self, name: &str, limits: Limits) -> Result<(), Error> {
        self.lane(name)?;
        for lane in self.lanes.iter_mut().filter(|lane| lane.name == name) {
            lane.limits = limits;
        }
        write_limits(&mut self.document["lane"][name], limits);
        self.save()
    }

    /// Adds a lane and saves.
    ///
    /// # Errors
    /// As [`Config::add_account`].
    pub fn add_lane(&mut self, lane: LaneConfig) -> Result<(), Error> {
        self.check_free(
            "lane",
            &lane.name,
            self.lanes.iter().any(|known| known.name == lane.name),
        )?;
        let near = lane.near.to_str().ok_or_else(|| {
            Error::usage(
                format!("the folder {}", lane.near.display()),
                "its path is not UTF-8",
                "Rename the folder.",
            )
        })?;
        let table = self.table("lane", &lane.name);
        table["id"] = value(&lane.id);
        table["near"] = value(near);
        table["far"] = value(lane.far_place());
        table["direction"] = value(lane.direction.word());
        write_limits(table, lane.limits);
        self.lanes.push(lane);
        self.save()
    }

    /// Takes an account out and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn remove_account(&mut self, name: &str) -> Result<(), Error> {
        self.remove("account", name);
        self.accounts.retain(|account| account.name != name);
        self.save()
    }

    /// Takes a lane out and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn remove_lane(&mut self, name: &str) -> Result<(), Error> {
        self.remove("lane", name);
        self.lanes.retain(|lane| lane.name != name);
        self.save()
    }

    /// Whether a new name may be used.
    ///
    /// # Errors
    /// Says why not.
    pub fn check_free(&self, kind: &str, name: &str, taken: bool) -> Result<(), Error> {
        let what = format!("the {kind} name {name:?}");
        check_name(name).map_err(|why| {
            Error::usage(&what, why, "Choose a name such as `office` or `scores`.")
        })?;
        if taken {
            return Err(Error::usage(
                what,
                format!(
                    "there is a{} {kind} of that name already",
                    if kind == "account" { "n" } else { "" }
                ),
                format!(
                    "Choose another name, or remove that one first: katabatic {kind} remove {name}"
                ),
            ));
        }
        Ok(())
    }

    fn table(&mut self, kind: &str, name: &str) -> &mut Item {
        let group = self.document.entry(kind).or_insert_with(|| {
            let mut group = Table::new();
            group.set_implicit(true);
            Item::Table(group)
        });
        group[name] = Item::Table(Table::new());
        &mut group[name]
    }

    fn remove(&mut self, kind: &str, name: &str) {
        if let Some(group) = self
            .document
            .get_mut(kind)
            .and_then(Item::as_table_like_mut)
        {
            group.remove(name);
        }
    }

    fn save(&self) -> Result<(), Error> {
        write_private(&self.file, self.document.to_string().as_bytes()).map_err(|why| {
            Error::failed(
                format!("saving the config {}", self.file.display()),
                why,
                "Look at the folder's rights and room.",
            )
        })
    }
}

fn listed(kind: &str, names: &[String]) -> String {
    if names.is_empty() {
        format!("There are none yet: katabatic {kind} add")
    } else {
        format!("There are: {}", names.join(", "))
    }
}

fn wrong(file: &Path, why: &str) -> Error {
    Error::usage(
        format!("the config {}", file.display()),
        why.trim_end(),
        "Correct it with an editor; nothing was changed.",
    )
}

fn tables(document: &DocumentMut, kind: &str) -> Result<Vec<(String, Table)>, String> {
    let Some(group) = document.get(kind) else {
        return Ok(Vec::new());
    };
    let group = group
        .as_table_like()
        .ok_or_else(|| format!("`{kind}` must be written [{kind}.NAME]"))?;
    let table = |(name, item): (&str, &Item)| {
        let table = item
            .clone()
            .into_table()
            .map_err(|_| format!("`{kind}.{name}` must be a table, [{kind}.{name}]"))?;
        Ok((name.to_owned(), table))
    };
    group.iter().map(table).collect()
}

fn check_name(name: &str) -> Result<(), String> {
    let fine = |c: char| c.is_alphanumeric() || c == '-' || c == '_';
    if name.is_empty() || name.len() > 64 || !name.chars().all(fine) || name.starts_with('-') {
        return Err("a name is made of letters, digits, `-` and `_`, at most 64 bytes, and does not begin with `-`".into());
    }
    Ok(())
}

struct Fields {
    whose: String,
    table: Table,
}

impl Fields {
    fn of(whose: &str, table: Table, known: &[&str]) -> Result<Fields, String> {
        let strange = table
            .iter()
            .map(|(key, _)| key.to_owned())
            .find(|key| !known.contains(&key.as_str()));
        match strange {
            Some(key) => Err(format!(
                "[{whose}] `{key}` means nothing here; there are {}",
                known.join(", ")
            )),
            None => Ok(Fields {
                whose: whose.to_owned(),
                table,
            }),
        }
    }

    fn odd(&self, key: &str, wanted: &str) -> String {
        format!("[{}] {key} must be {wanted}", self.whose)
    }

    fn optional(&self, key: &str) -> Result<Option<String>, String> {
        match self.table.get(key) {
            None => Ok(None),
            Some(_) => self.text(key).map(Some),
        }
    }

    fn flag(&self, key: &str) -> Result<bool, String> {
        match self.table.get(key) {
            None => Ok(false),
            Some(item) => item.as_bool().ok_or_else(|| self.odd(key, "true or false")),
        }
    }

    fn number(&self, key: &str) -> Result<Option<u64>, String> {
        match self.table.get(key) {
            None => Ok(None),
            Some(item) => item
                .as_integer()
                .and_then(|number| u64::try_from(number).ok())
                .filter(|&number| number > 0)
                .map(Some)
                .ok_or_else(|| self.odd(key, "a whole number above 0")),
        }
    }

    fn limits(&self) -> Result<Limits, String> {
        let rate = |key: &str| match self.optional(key)? {
            None => Ok(None),
            Some(text) => Rate::parse(&text)
                .map(Some)
                .map_err(|why| self.odd(key, &format!("a rate ({why})"))),
        };
        Ok(Limits {
            up: rate("limit_up")?,
            down: rate("limit_down")?,
        })
    }

    fn text(&self, key: &str) -> Result<String, String> {
        match self.table.get(key).and_then(Item::as_str) {
            Some(text) if !text.is_empty() => Ok(text.to_owned()),
            _ => Err(format!("[{}] needs {key} = \"…\"", self.whose)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn home(text: &str) -> (tempfile::TempDir, Home) {
        let dir = tempfile::tempdir().unwrap();
        let home = Home::under(dir.path()).unwrap();
        fs::write(home.config_file(), text).unwrap();
        (dir, home)
    }

    #[test]
    fn commands_keep_the_comments_of_people() {
        let (_dir, home) = home(
            "# mind the account\n[account.old] # of last season\naddress = \"http://x/\"\nuser = \"u\"\n",
        );
        let mut config = Config::read(&home).unwrap();
        let office = AccountConfig::new("office", "http://y/", "librarian");
        config.add_account(office).unwrap();
        let text = fs::read_to_string(home.config_file()).unwrap();
        assert!(
            text.starts_with("# mind the account\n[account.old] # of last season\n"),
            "{text}"
        );
        let mut again = Config::read(&home).unwrap();
        assert_eq!(again.accounts.len(), 2);
        again.remove_account("office").unwrap();
        assert_eq!(Config::read(&home).unwrap().account_names(), ["old"]);
    }

    #[test]
    fn what_is_wrong_is_named() {
        for (text, names) in [
            ("[acount.x]\n", "`acount`"),
            ("[account.x]\naddress = \"http://x/\"\n", "needs user"),
            (
                "[account.x]\naddress = \"a\"\nuser = \"u\"\npassword = \"p\"\n",
                "`password` means nothing",
            ),
            (
                "[lane.l]\nid = \"1\"\nnear = \"here\"\nfar = \"@x/\"\ndirection = \"two-way\"\n",
                "absolute",
            ),
            (
                "[lane.l]\nid = \"1\"\nnear = \"/n\"\nfar = \"@x/\"\ndirection = \"two-way\"\n",
                "@ACCOUNT/FOLDER",
            ),
            (
                "[lane.l]\nid = \"1\"\nnear = \"/n\"\nfar = \"@x/\"\ndirection = \"sideways\"\n",
                "sideways",
            ),
            ("[lane\n", "line 1"),
        ] {
            let (_dir, home) = home(text);
            let error = Config::read(&home).unwrap_err();
            assert!(error.why.contains(names), "{text:?}: {error:?}");
        }
    }
}
