//! Which programs get the content of stubs, and how much of it: the table `[openings]` of the config.

use katabatic_core::admission::Rules;
use katabatic_core::rules;
use toml_edit::{Array, Item, Table, value};

use super::fields::{Fields, set_or_remove};
use super::lane::size_text;
use super::mistake::Mistake;

const KEYS: [&str; 3] = ["keep_out", "most_files", "most_bytes"];

/// What stands for "no limit".
const NONE: &str = "none";

/// Reads the table; what is not in it is as usual.
pub(super) fn read(table: Table) -> Result<Rules, Mistake> {
    let usual = Rules::default();
    let has = |key: &str| table.contains_key(key);
    let (has_names, has_files, has_bytes) = (has("keep_out"), has("most_files"), has("most_bytes"));
    let fields = Fields::of("openings", table, &KEYS)?;
    let is_none = |key: &str| {
        fields
            .optional(key)
            .is_ok_and(|text| text.as_deref() == Some(NONE))
    };
    let files = match has_files {
        false => usual.files,
        true if is_none("most_files") => None,
        true => fields
            .number("most_files")
            .map_err(|_| fields.odd("most_files", "a whole number above 0, or \"none\""))?,
    };
    let bytes = match has_bytes {
        false => usual.bytes,
        true if is_none("most_bytes") => None,
        true => {
            let text = fields.text("most_bytes")?;
            let size = rules::read_bytes(&text).filter(|bytes| *bytes > 0);
            let odd = || fields.odd("most_bytes", "a size such as \"10GB\", or \"none\"");
            Some(size.ok_or_else(odd)?)
        }
    };
    let kept_out = match has_names {
        false => usual.kept_out,
        true => fields.list("keep_out")?,
    };
    Ok(Rules {
        kept_out,
        files,
        bytes,
    })
}

/// Writes what is not as usual; comments stay.
pub(super) fn write(rules: &Rules, table: &mut Item) {
    let usual = Rules::default();
    let names: Array = rules.kept_out.iter().map(String::as_str).collect();
    let or_none = |text: Option<Item>| text.unwrap_or_else(|| value(NONE));
    let files = rules
        .files
        .map(|files| value(i64::try_from(files).unwrap_or(i64::MAX)));
    let bytes = rules.bytes.map(|bytes| value(size_text(bytes)));
    for (key, differs, item) in [
        ("keep_out", rules.kept_out != usual.kept_out, value(names)),
        ("most_files", rules.files != usual.files, or_none(files)),
        ("most_bytes", rules.bytes != usual.bytes, or_none(bytes)),
    ] {
        set_or_remove(table, key, differs.then_some(item));
    }
}
