//! Whom the agent tells what happened, and how: the table `[tell]` of the config.

use std::path::PathBuf;

use katabatic_core::telling::{Kind, QuietHours};
use toml_edit::{Array, Item, Table, value};
use url::Url;

use super::fields::{Fields, set_or_remove};
use super::mistake::Mistake;

/// One way of telling, and what is told over it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way<T> {
    /// Where to.
    pub to: T,
    /// What.
    pub kinds: Vec<Kind>,
}

/// Whom the agent tells what happened.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TellConfig {
    /// On the desktop of the person.
    pub desktop: Option<Way<()>>,
    /// By a program that is run.
    pub program: Option<Way<PathBuf>>,
    /// By a request to an address.
    pub address: Option<Way<Url>>,
    /// By a mail that is laid into a folder.
    pub mail_folder: Option<Way<PathBuf>>,
    /// When nothing is told.
    pub quiet_hours: Option<QuietHours>,
}

const KEYS: [&str; 8] = [
    "desktop",
    "program",
    "program_for",
    "address",
    "address_for",
    "mail_folder",
    "mail_for",
    "quiet_hours",
];

/// Where nothing is said, only what needs somebody is told.
const USUAL: [Kind; 1] = [Kind::Problem];

impl TellConfig {
    /// Reads the table.
    pub(super) fn read(table: Table) -> Result<TellConfig, Mistake> {
        let fields = Fields::of("tell", table, &KEYS)?;
        let kinds = |key: &str| -> Result<Vec<Kind>, Mistake> {
            let words = fields.list(key)?;
            let read = |word: &String| {
                Kind::parse(word)
                    .ok_or_else(|| fields.odd(key, "a list of success, changes, problem"))
            };
            match words.is_empty() {
                true => Ok(USUAL.into()),
                false => words.iter().map(read).collect(),
            }
        };
        let folder = |key: &str, kinds_key: &str| -> Result<Option<Way<PathBuf>>, Mistake> {
            let Some(text) = fields.optional(key)? else {
                return Ok(None);
            };
            let to = PathBuf::from(text);
            if !to.is_absolute() {
                return Err(fields.odd(key, "an absolute path"));
            }
            let kinds = kinds(kinds_key)?;
            Ok(Some(Way { to, kinds }))
        };
        let address = match fields.optional("address")? {
            None => None,
            Some(text) => {
                let to = Url::parse(&text).ok();
                let to = to.filter(|url| matches!(url.scheme(), "http" | "https"));
                Some(Way {
                    to: to.ok_or_else(|| fields.odd("address", "an address with https://"))?,
                    kinds: kinds("address_for")?,
                })
            }
        };
        let desktop = fields.list("desktop")?;
        Ok(TellConfig {
            desktop: match desktop.is_empty() {
                true => None,
                false => Some(Way {
                    to: (),
                    kinds: kinds("desktop")?,
                }),
            },
            program: folder("program", "program_for")?,
            address,
            mail_folder: folder("mail_folder", "mail_for")?,
            quiet_hours: match fields.optional("quiet_hours")? {
                None => None,
                Some(text) => Some(
                    QuietHours::parse(&text)
                        .map_err(|why| fields.odd("quiet_hours", &format!("hours ({why})")))?,
                ),
            },
        })
    }

    /// Writes it; comments stay.
    pub(super) fn write(&self, table: &mut Item) {
        let kinds = |kinds: &[Kind]| {
            let words: Array = kinds.iter().map(|kind| kind.word()).collect();
            value(words)
        };
        let path = |way: &Option<Way<PathBuf>>| {
            way.as_ref()
                .map(|way| value(way.to.to_string_lossy().as_ref()))
        };
        for (key, item) in [
            (
                "desktop",
                self.desktop.as_ref().map(|way| kinds(&way.kinds)),
            ),
            ("program", path(&self.program)),
            (
                "program_for",
                self.program.as_ref().map(|way| kinds(&way.kinds)),
            ),
            (
                "address",
                self.address.as_ref().map(|way| value(way.to.as_str())),
            ),
            (
                "address_for",
                self.address.as_ref().map(|way| kinds(&way.kinds)),
            ),
            ("mail_folder", path(&self.mail_folder)),
            (
                "mail_for",
                self.mail_folder.as_ref().map(|way| kinds(&way.kinds)),
            ),
            (
                "quiet_hours",
                self.quiet_hours.map(|hours| value(hours.to_string())),
            ),
        ] {
            set_or_remove(table, key, item);
        }
    }
}
