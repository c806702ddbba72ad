//! The keys of one table of the config, read with an eye on what they may be.

use toml_edit::{Item, Table, value};

use super::mistake::Mistake;
use crate::drives::OnDrive;
use katabatic_sides::net::rate::Limits;
use katabatic_sides::net::rates::Rates;

pub(super) fn write_limits(table: &mut Item, limits: &Limits) {
    for (key, rates) in [("limit_up", &limits.up), ("limit_down", &limits.down)] {
        let rates = rates.as_ref().map(|rates| value(rates.to_string()));
        set_or_remove(table, key, rates);
    }
}

pub(super) fn set_or_remove(table: &mut Item, key: &str, item: Option<Item>) {
    match item {
        Some(item) => table[key] = item,
        None => {
            if let Some(table) = table.as_table_like_mut() {
                table.remove(key);
            }
        }
    }
}

pub(super) struct Fields {
    whose: String,
    table: Table,
}

impl Fields {
    pub(super) fn of(whose: &str, table: Table, known: &[&str]) -> Result<Fields, Mistake> {
        let strange = table
            .iter()
            .map(|(key, _)| key.to_owned())
            .find(|key| !known.contains(&key.as_str()));
        match strange {
            Some(key) => Err(Mistake::strange(whose, &key, known)),
            None => Ok(Fields {
                whose: whose.to_owned(),
                table,
            }),
        }
    }

    pub(super) fn odd(&self, key: &str, wanted: &str) -> Mistake {
        self.wrong(key, format!("[{}] {key} must be {wanted}", self.whose))
    }

    pub(super) fn wrong(&self, key: &str, why: impl Into<String>) -> Mistake {
        Mistake::at(&self.whose, key, why)
    }

    pub(super) fn optional(&self, key: &str) -> Result<Option<String>, Mistake> {
        match self.table.get(key) {
            None => Ok(None),
            Some(_) => self.text(key).map(Some),
        }
    }

    pub(super) fn flag(&self, key: &str) -> Result<bool, Mistake> {
        match self.table.get(key) {
            None => Ok(false),
            Some(item) => item.as_bool().ok_or_else(|| self.odd(key, "true or false")),
        }
    }

    pub(super) fn number(&self, key: &str) -> Result<Option<u64>, Mistake> {
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

    pub(super) fn list(&self, key: &str) -> Result<Vec<String>, Mistake> {
        let Some(item) = self.table.get(key) else {
            return Ok(Vec::new());
        };
        let texts = item.as_array().and_then(|array| {
            let text = |item: &toml_edit::Value| item.as_str().map(str::to_owned);
            array.iter().map(text).collect()
        });
        texts.ok_or_else(|| self.odd(key, "a list of texts, such as [\"…\", \"…\"]"))
    }

    pub(super) fn drive(&self, key: &str) -> Result<Option<OnDrive>, Mistake> {
        let Some(item) = self.table.get(key) else {
            return Ok(None);
        };
        let wanted = "{ name = \"…\", uuid = \"…\", folder = \"…\" }";
        let text = |name: &str| {
            let text = item.as_table_like()?.get(name)?.as_str()?;
            Some(text.to_owned())
        };
        match (text("name"), text("uuid"), text("folder")) {
            (Some(name), Some(uuid), Some(folder)) => Ok(Some(OnDrive {
                uuid,
                name,
                folder: folder.into(),
            })),
            _ => Err(self.odd(key, wanted)),
        }
    }

    pub(super) fn limits(&self) -> Result<Limits, Mistake> {
        let rate = |key: &str| match self.optional(key)? {
            None => Ok(None),
            Some(text) => Rates::parse(&text)
                .map(Some)
                .map_err(|why| self.odd(key, &format!("a rate ({why})"))),
        };
        Ok(Limits {
            up: rate("limit_up")?,
            down: rate("limit_down")?,
        })
    }

    pub(super) fn text(&self, key: &str) -> Result<String, Mistake> {
        match self.table.get(key).and_then(Item::as_str) {
            Some(text) if !text.is_empty() => Ok(text.to_owned()),
            None if !self.table.contains_key(key) => Err(Mistake::missing(&self.whose, key)),
            _ => Err(self.odd(key, "a text: \"…\"")),
        }
    }
}
