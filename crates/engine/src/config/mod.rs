//! The config: one TOML file, made to be read and edited by hand. Commands change it in place and keep its comments.

mod account;
mod fields;
mod lane;
mod openings;
mod tell;

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

use katabatic_core::admission::Rules;
use toml_edit::{DocumentMut, Item, Table, TableLike, Value, value};

pub use account::{AccountConfig, SignIn};
pub use lane::{LaneConfig, ProofBy, QUIET};
pub use tell::{TellConfig, Way};

use crate::Error;
use crate::home::Home;
use katabatic_core::place::Place;
use katabatic_sides::net::rate::Limits;
use katabatic_sides::net::rates::Rates;
use katabatic_sides::private_files::write_private;

/// Runs are remembered for so many days, unless the config says otherwise.
pub const KEPT_DAYS: i64 = 90;

/// The config file, read and checked.
#[derive(Clone, Debug)]
pub struct Config {
    file: PathBuf,
    document: DocumentMut,
    /// The accounts, in the file's order.
    pub accounts: Vec<AccountConfig>,
    /// The lanes, in the file's order.
    pub lanes: Vec<LaneConfig>,
    /// For how many days it is remembered what runs did.
    pub keep_runs_days: i64,
    /// How much may go over the line in a second, for all lanes together.
    pub limits: Limits,
    /// Whom the agent tells what happened.
    pub tell: TellConfig,
    /// Which programs get the content of stubs, and how much of it.
    pub openings: Rules,
}

const KEEP_RUNS: &str = "keep_runs_days";

/// Keys that stand before all tables.
const KEYS: [&str; 3] = [KEEP_RUNS, "limit_up", "limit_down"];

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
            keep_runs_days: KEPT_DAYS,
            limits: Limits::default(),
            tell: TellConfig::default(),
            openings: Rules::default(),
        };
        config.understand()?;
        Ok(config)
    }

    fn understand(&mut self) -> Result<(), Error> {
        let wrong = |why: String| wrong(&self.file, &why);
        for (key, _) in self.document.iter() {
            if !["account", "lane", "openings", "tell"].contains(&key) && !KEYS.contains(&key) {
                return Err(wrong(format!(
                    "`{key}` means nothing here; there are {}, [account.NAME], [lane.NAME], [openings] and [tell]",
                    KEYS.join(", ")
                )));
            }
        }
        let keep_runs_days = match self.document.get(KEEP_RUNS) {
            None => KEPT_DAYS,
            Some(days) => days
                .as_integer()
                .filter(|days| (1..=36_500).contains(days))
                .ok_or_else(|| {
                    wrong(format!(
                        "`{KEEP_RUNS}` is a number of days, from 1 to 36500"
                    ))
                })?,
        };
        let rates = |key: &str| match self.document.get(key) {
            None => Ok(None),
            Some(item) => match item.as_str().map(Rates::parse) {
                Some(Ok(rates)) => Ok(Some(rates)),
                Some(Err(why)) => Err(wrong(format!("`{key}` is a rate ({why})"))),
                None => Err(wrong(format!("`{key}` is a rate such as \"2MB/s\""))),
            },
        };
        let limits = Limits {
            up: rates("limit_up")?,
            down: rates("limit_down")?,
        };
        let tell = match self.document.get("tell").cloned().map(Item::into_table) {
            None => TellConfig::default(),
            Some(Ok(table)) => TellConfig::read(table).map_err(wrong)?,
            Some(Err(_)) => return Err(wrong("`tell` is a table: [tell]".into())),
        };
        let openings = match self.document.get("openings").cloned().map(Item::into_table) {
            None => Rules::default(),
            Some(Ok(table)) => openings::read(table).map_err(wrong)?,
            Some(Err(_)) => return Err(wrong("`openings` is a table: [openings]".into())),
        };
        let mut accounts = Vec::new();
        for (name, table) in tables(&self.document, "account").map_err(wrong)? {
            check_name(&name).map_err(|why| wrong(format!("[account.{name}]: {why}")))?;
            accounts.push(AccountConfig::read(&name, table).map_err(wrong)?);
        }
        let names: Vec<String> = accounts
            .iter()
            .map(|account: &AccountConfig| account.name.clone())
            .collect();
        let mut lanes = Vec::new();
        for (name, table) in tables(&self.document, "lane").map_err(wrong)? {
            check_name(&name).map_err(|why| wrong(format!("[lane.{name}]: {why}")))?;
            let lane = LaneConfig::read(&name, table, &names).map_err(wrong)?;
            lanes.push(lane.where_drives_are());
        }
        (self.accounts, self.lanes) = (accounts, lanes);
        self.keep_runs_days = keep_runs_days;
        self.limits = limits;
        self.tell = tell;
        self.openings = openings;
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

    /// Sets how much may go over the line in a second, for all lanes together, and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn set_limits(&mut self, limits: Limits) -> Result<(), Error> {
        for (key, rates) in [("limit_up", &limits.up), ("limit_down", &limits.down)] {
            match rates {
                Some(rates) => self.document[key] = value(rates.to_string()),
                None => drop(self.document.remove(key)),
            }
        }
        self.limits = limits;
        self.save()
    }

    /// Sets whom the agent tells what happened, and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn set_tell(&mut self, tell: TellConfig) -> Result<(), Error> {
        if self.document.get("tell").is_none() {
            self.document["tell"] = Item::Table(Table::new());
        }
        tell.write(&mut self.document["tell"]);
        if tell == TellConfig::default() {
            self.document.remove("tell");
        }
        self.tell = tell;
        self.save()
    }

    /// Sets which programs get the content of stubs, and how much of it, and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn set_openings(&mut self, rules: Rules) -> Result<(), Error> {
        if self.document.get("openings").is_none() {
            self.document["openings"] = Item::Table(Table::new());
        }
        openings::write(&rules, &mut self.document["openings"]);
        if rules == Rules::default() {
            self.document.remove("openings");
        }
        self.openings = rules;
        self.save()
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
            for (key, place) in [("near", &mut lane.near), ("far", &mut lane.far)] {
                if let Place::Far { account, .. } = place
                    && account == from
                {
                    to.clone_into(account);
                    self.document["lane"][&lane.name][key] = value(place.to_string());
                }
            }
        }
        self.save()
    }

    /// Changes a lane and saves.
    ///
    /// # Errors
    /// Where there is none of that name, or the file cannot be written.
    pub fn change_lane(&mut self, lane: LaneConfig) -> Result<(), Error> {
        self.lane(&lane.name)?;
        let table = &mut self.document["lane"][&lane.name];
        lane.write(table).map_err(|why| unwritable(&lane, why))?;
        for known in &mut self.lanes {
            if known.name == lane.name {
                known.clone_from(&lane);
            }
        }
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
        let mut table = Item::Table(Table::new());
        lane.write(&mut table)
            .map_err(|why| unwritable(&lane, why))?;
        *self.table("lane", &lane.name) = table;
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

    /// The settings as a person may pass them on: without comments, which may say anything. No secret is ever in them.
    #[must_use]
    pub fn without_comments(&self) -> String {
        let mut text = String::new();
        lines_of(&mut text, "", self.document.as_table());
        text
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

fn lines_of(text: &mut String, name: &str, table: &dyn TableLike) {
    let mut tables = Vec::new();
    let mut lines = String::new();
    for (key, item) in table.iter() {
        match (item.as_value(), item.as_table_like()) {
            (Some(value), _) => {
                let mut value = value.clone();
                undress(&mut value);
                let _ = writeln!(lines, "{key} = {}", value);
            }
            (None, Some(table)) => tables.push((key, table)),
            (None, None) => {}
        }
    }
    if !name.is_empty() && !lines.is_empty() {
        let _ = writeln!(text, "{}[{name}]", if text.is_empty() { "" } else { "\n" });
    }
    text.push_str(&lines);
    for (key, table) in tables {
        let name = match name {
            "" => key.to_owned(),
            name => format!("{name}.{key}"),
        };
        lines_of(text, &name, table);
    }
}

/// Takes off what stands around a value and between the parts of a list.
fn undress(value: &mut Value) {
    if let Some(list) = value.as_array_mut() {
        list.iter_mut().for_each(undress);
        list.set_trailing("");
        list.set_trailing_comma(false);
        list.fmt();
    }
    value.decor_mut().clear();
}

fn unwritable(lane: &LaneConfig, why: String) -> Error {
    let what = format!("the folder {}", lane.near);
    Error::usage(what, why, "Rename the folder.")
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
                "there is no account @x",
            ),
            (
                "[lane.l]\nid = \"1\"\nnear = \"/n\"\nfar = \"/f\"\ndirection = \"sideways\"\n",
                "one of two-way, up, down",
            ),
            ("[lane\n", "line 1"),
            ("[openings]\nmost_files = 0\n", "above 0"),
            ("[openings]\nmost_bytes = \"much\"\n", "a size"),
            ("[openings]\nkeep_out = \"grep\"\n", "a list"),
        ] {
            let (_dir, home) = home(text);
            let error = Config::read(&home).unwrap_err();
            assert!(error.why.contains(names), "{text:?}: {error:?}");
        }
    }

    #[test]
    fn who_gets_the_content_of_stubs_is_written_where_it_is_not_as_usual() {
        let (_dir, home) =
            home("[openings] # by hand\nkeep_out = [\"grep\"]\nmost_files = \"none\"\n");
        let mut config = Config::read(&home).unwrap();
        assert_eq!(
            (config.openings.files, config.openings.kept_out.len()),
            (None, 1)
        );
        assert_eq!(config.openings.bytes, Rules::default().bytes);
        let rules = Rules {
            files: Some(50),
            bytes: None,
            kept_out: Vec::new(),
        };
        config.set_openings(rules.clone()).unwrap();
        assert_eq!(Config::read(&home).unwrap().openings, rules);
        let text = fs::read_to_string(home.config_file()).unwrap();
        assert!(
            text.contains("# by hand\n") && text.contains("most_bytes = \"none\""),
            "{text}"
        );
        config.set_openings(Rules::default()).unwrap();
        assert!(
            !fs::read_to_string(home.config_file())
                .unwrap()
                .contains("openings")
        );
    }

    #[test]
    fn what_is_passed_on_holds_no_comment() {
        let (_dir, home) = home(
            "# the password is hunter2\nkeep_runs_days = 30 # long enough\n[account.x]\naddress = \"https://dav.example/\"\nuser = \"u\"\nproxy = \"http://proxy.example:3128\" # ask Ann: hunter2\n[lane.l]\nid = \"1\"\nnear = \"/n\"\nfar = \"@x/\"\ndirection = \"two-way\"\nleave_out = [ # old\n  \"*.tmp\", # hunter2\n]\n",
        );
        let config = Config::read(&home).unwrap();
        assert_eq!(config.keep_runs_days, 30);
        let text = config.without_comments();
        assert!(!text.contains("hunter2") && !text.contains('#'), "{text}");
        assert!(
            text.starts_with("keep_runs_days = 30\n\n[account.x]\n"),
            "{text}"
        );
        assert!(
            text.contains("proxy = \"http://proxy.example:3128\"\n"),
            "{text}"
        );
        assert!(text.contains("leave_out = [\"*.tmp\"]\n"), "{text}");
        assert!(text.contains("far = \"@x/\"\n"), "{text}");
    }

    #[test]
    fn fuzz_config() {
        let (_dir, home) = home("");
        katabatic_fuzz::each("config", |text| {
            fs::write(home.config_file(), text).unwrap();
            let Ok(config) = Config::read(&home) else {
                return;
            };
            // What was understood is written in the same words, and understood again.
            for lane in config.lanes.clone() {
                let mut again = config.clone();
                again.change_lane(lane).unwrap();
                assert_eq!(Config::read(&home).unwrap().lanes, config.lanes);
            }
        });
    }

    #[test]
    fn fuzz_rules() {
        use katabatic_core::{Entry, RelPath, Rule, Stamp};
        let path = RelPath::parse("Old/deep/a.tmp").unwrap();
        katabatic_fuzz::each_text("rules", |text| {
            if let Ok(rule) = Rule::parse(text) {
                assert_eq!(Rule::parse(rule.text()).unwrap(), rule);
                let _ = rule.catches(&path, &Entry::file(1, Stamp::new("")));
                assert!(!rule.meaning().is_empty());
            }
        });
    }
}
