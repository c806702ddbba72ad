//! The config: one TOML file, made to be read and edited by hand. Commands change it in place and keep its comments.

mod account;
mod fields;
mod lane;
mod mistake;
mod openings;
mod tell;

use std::fmt::Write as _;
use std::fs;
use std::path::PathBuf;

use katabatic_core::admission::Rules;
use katabatic_core::did_you_mean;
use toml_edit::{DocumentMut, Item, Table, TableLike, Value, value};

pub use account::{AccountConfig, SignIn, is_sftp, read_trust};
pub use lane::{LaneConfig, ProofBy, QUIET};
pub use tell::{TellConfig, Way};

use self::mistake::{Mistake, wrong};
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

/// What is read in place of what is wrong about an account, to find what else is.
const ANY_ACCOUNT: [(&str, &str); 2] = [("address", "https://example.org/"), ("user", "user")];

/// The same of a lane.
const ANY_LANE: [(&str, &str); 4] = [
    ("id", "id"),
    ("near", "/near"),
    ("far", "/far"),
    ("direction", "two-way"),
];

/// The tables there are.
const TABLES: [&str; 4] = ["account", "lane", "openings", "tell"];

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
            .map_err(|error: toml_edit::TomlError| mistake::no_toml(&file, &text, &error))?;
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
        config
            .understand()
            .map_err(|mistakes| mistake::told(&config.file, &text, &mistakes))?;
        Ok(config)
    }

    fn understand(&mut self) -> Result<(), Vec<Mistake>> {
        let mut mistakes = Vec::new();
        for (key, _) in self.document.iter() {
            if !TABLES.contains(&key) && !KEYS.contains(&key) {
                let known = [&KEYS[..], &TABLES[..]].concat();
                mistakes.push(Mistake::strange("", key, &known));
            }
        }
        let mut note = |mistake| mistakes.push(mistake);
        let keep_runs_days = self.keep_runs().unwrap_or_else(|mistake| {
            note(mistake);
            KEPT_DAYS
        });
        let mut rates = |key: &str| {
            self.rates(key).unwrap_or_else(|mistake| {
                note(mistake);
                None
            })
        };
        let limits = Limits {
            up: rates("limit_up"),
            down: rates("limit_down"),
        };
        let mut read = |read: Result<(), Vec<Mistake>>| {
            if let Err(more) = read {
                mistakes.extend(more);
            }
        };
        let (mut tell, mut openings) = (TellConfig::default(), Rules::default());
        read(self.own_table("tell", |table| {
            tell = mistake::all(table, &[], TellConfig::read)?;
            Ok(())
        }));
        read(self.own_table("openings", |table| {
            openings = mistake::all(table, &[], openings::read)?;
            Ok(())
        }));
        let mut accounts = Vec::new();
        read(self.each_table("account", |name, table| {
            accounts.push(mistake::all(table, &ANY_ACCOUNT, |table| {
                AccountConfig::read(name, table)
            })?);
            Ok(())
        }));
        let names: Vec<String> = accounts
            .iter()
            .map(|account: &AccountConfig| account.name.clone())
            .collect();
        // What is wrong about an account is no mistake of the lanes that name it.
        let known = match self.document.get("account").and_then(Item::as_table_like) {
            Some(group) => group.iter().map(|(name, _)| name.to_owned()).collect(),
            None => names,
        };
        let mut lanes = Vec::new();
        read(self.each_table("lane", |name, table| {
            let lane = mistake::all(table, &ANY_LANE, |table| {
                LaneConfig::read(name, table, &known)
            })?;
            lanes.push(lane.where_drives_are());
            Ok(())
        }));
        if !mistakes.is_empty() {
            return Err(mistakes);
        }
        (self.accounts, self.lanes) = (accounts, lanes);
        self.keep_runs_days = keep_runs_days;
        self.limits = limits;
        self.tell = tell;
        self.openings = openings;
        Ok(())
    }

    fn keep_runs(&self) -> Result<i64, Mistake> {
        let wrong = || {
            let why = format!("`{KEEP_RUNS}` is a number of days, from 1 to 36500");
            Mistake::at("", KEEP_RUNS, why)
        };
        match self.document.get(KEEP_RUNS) {
            None => Ok(KEPT_DAYS),
            Some(days) => days
                .as_integer()
                .filter(|days| (1..=36_500).contains(days))
                .ok_or_else(wrong),
        }
    }

    fn rates(&self, key: &str) -> Result<Option<Rates>, Mistake> {
        let wrong = |why: String| Mistake::at("", key, why);
        match self.document.get(key) {
            None => Ok(None),
            Some(item) => match item.as_str().map(Rates::parse) {
                Some(Ok(rates)) => Ok(Some(rates)),
                Some(Err(why)) => Err(wrong(format!("`{key}` is a rate ({why})"))),
                None => Err(wrong(format!("`{key}` is a rate such as \"2MB/s\""))),
            },
        }
    }

    /// Reads a table of this name, where there is one.
    fn own_table(
        &self,
        name: &str,
        read: impl FnOnce(Table) -> Result<(), Vec<Mistake>>,
    ) -> Result<(), Vec<Mistake>> {
        match self.document.get(name).cloned().map(Item::into_table) {
            None => Ok(()),
            Some(Ok(table)) => read(table),
            Some(Err(_)) => {
                let why = format!("`{name}` is a table: [{name}]");
                Err(vec![Mistake::at("", name, why)])
            }
        }
    }

    /// Reads each table of a kind, such as `[lane.scores]`.
    fn each_table(
        &self,
        kind: &str,
        mut read: impl FnMut(&str, Table) -> Result<(), Vec<Mistake>>,
    ) -> Result<(), Vec<Mistake>> {
        let Some(group) = self.document.get(kind) else {
            return Ok(());
        };
        let Some(group) = group.as_table_like() else {
            let why = format!("`{kind}` must be written [{kind}.NAME]");
            return Err(vec![Mistake::at("", kind, why)]);
        };
        let mut mistakes = Vec::new();
        for (name, item) in group.iter() {
            let table = match (item.clone().into_table(), check_name(name)) {
                (Ok(table), Ok(())) => table,
                (Err(_), _) => {
                    let why = format!("`{kind}.{name}` must be a table, [{kind}.{name}]");
                    mistakes.push(Mistake::at(kind, name, why));
                    continue;
                }
                (_, Err(why)) => {
                    mistakes.push(Mistake::at(kind, name, format!("[{kind}.{name}]: {why}")));
                    continue;
                }
            };
            if let Err(more) = read(name, table) {
                mistakes.extend(more);
            }
        }
        match mistakes.is_empty() {
            true => Ok(()),
            false => Err(mistakes),
        }
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
                    listed("account", name, &self.account_names()),
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
                    listed("lane", name, &names),
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
        self.move_in("account", from, to);
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

    /// Gives a lane another name, and saves.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn rename_lane(&mut self, from: &str, to: &str) -> Result<(), Error> {
        self.move_in("lane", from, to);
        for lane in &mut self.lanes {
            if lane.name == from {
                to.clone_into(&mut lane.name);
            }
        }
        self.save()
    }

    /// Moves what is set of one of a kind under another name.
    fn move_in(&mut self, kind: &str, from: &str, to: &str) {
        let group = self.document.get_mut(kind);
        let group = group.and_then(Item::as_table_like_mut);
        if let Some(group) = group
            && let Some(item) = group.remove(from)
        {
            group.insert(to, item);
        }
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

/// What there is in place of a name that is none; the one that may have been meant first.
#[must_use]
pub fn listed(kind: &str, typed: &str, names: &[String]) -> String {
    if names.is_empty() {
        return format!("There are none yet: katabatic {kind} add");
    }
    let known: Vec<&str> = names.iter().map(String::as_str).collect();
    let all = format!("There are: {}", names.join(", "));
    match did_you_mean(typed, &known) {
        Some(meant) => format!("Did you mean {meant}? {all}"),
        None => all,
    }
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
            let told = error.details.join("\n");
            assert!(told.contains(names), "{text:?}: {error:?}");
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
