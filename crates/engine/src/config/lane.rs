//! A lane as the config has it.

use std::path::{Path, PathBuf};
use std::time::Duration;

use katabatic_core::brake::BrakeLimits;
use katabatic_core::condition::Condition;
use katabatic_core::room::Budget;
use katabatic_core::rules;
use katabatic_core::schedule::When;
use katabatic_core::{
    Choice, Contents, Direction, Drift, NewFolders, RelPath, Removals, Rule, Selection,
};
use katabatic_core::{Side, SideNames, Terms, Updates};
use toml_edit::{Array, InlineTable, Item, Table, value};

use super::fields::{Fields, set_or_remove, write_limits};
use super::mistake::Mistake;
use crate::Error;
use crate::drives::{Found, OnDrive};
use katabatic_core::place::Place;
use katabatic_sides::effort::IN_FLIGHT;
use katabatic_sides::net::rate::Limits;

/// A lane as the config has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LaneConfig {
    /// The name.
    pub name: String,
    /// What the ledger knows it by; made once, never changed.
    pub id: String,
    /// The near folder: one of this computer, absolute, or one of an account.
    pub near: Place,
    /// The far folder: one of an account, or one of this computer.
    pub far: Place,
    /// The drive the near folder lies on, where that is not the computer's own disk.
    pub near_drive: Option<OnDrive>,
    /// The drive the far folder lies on, where that is one of this computer.
    pub far_drive: Option<OnDrive>,
    /// Which way it carries, and what becomes of removals, drift and new versions.
    pub terms: Terms,
    /// What it leaves out.
    pub selection: Selection,
    /// What stops a pass.
    pub brake: BrakeLimits,
    /// Whether only names go up that every system can hold.
    pub portable_names: bool,
    /// Whether a pass needs the lane to be named.
    pub by_name_only: bool,
    /// How much of it may go over the line in a second.
    pub limits: Limits,
    /// Which files have their content here, and which are stubs.
    pub contents: Contents,
    /// By what a content is known to be on the far side before the last copy here goes.
    pub proof: ProofBy,
    /// So many files are carried at a time.
    pub transfers: usize,
    /// When the agent runs it.
    pub when: Vec<When>,
    /// For how long a folder must be quiet before what changed in it is carried.
    pub quiet: Duration,
    /// What must hold around the computer for the agent to run it.
    pub only_on: Vec<Condition>,
    /// After so many hours in which it has not settled, somebody is told.
    pub tell_unsettled_hours: Option<u64>,
}

/// By what a content is known to be on the far side before the last copy here goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ProofBy {
    /// By its digest there, or by reading it back.
    #[default]
    Content,
    /// By its version tag, where no other version can have that. It is called *believed* then.
    Tags,
}

impl ProofBy {
    /// As the config has it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            ProofBy::Content => "content",
            ProofBy::Tags => "tags",
        }
    }
}

/// Work is half-saved for no longer than this, as a rule.
pub const QUIET: Duration = Duration::from_secs(2);

const LANE_KEYS: [&str; 32] = [
    "id",
    "near",
    "far",
    "near_drive",
    "far_drive",
    "direction",
    "removals",
    "drift",
    "updates",
    "skip",
    "take",
    "new_folders",
    "leave_out",
    "names",
    "by_name_only",
    "brake_percent",
    "brake_always_fine",
    "brake_never_fine",
    "limit_up",
    "limit_down",
    "contents",
    "stubs_in",
    "all_in",
    "hold",
    "max_local",
    "leave_free",
    "proof",
    "transfers",
    "when",
    "quiet_seconds",
    "only_on",
    "tell_unsettled_hours",
];

impl LaneConfig {
    /// A lane of the usual terms that leaves nothing out.
    #[must_use]
    pub fn new(name: &str, id: &str, near: Place, far: Place) -> LaneConfig {
        LaneConfig {
            name: name.to_owned(),
            id: id.to_owned(),
            near,
            far,
            near_drive: None,
            far_drive: None,
            terms: Terms::default(),
            selection: Selection::default(),
            brake: BrakeLimits::default(),
            portable_names: false,
            by_name_only: false,
            limits: Limits::default(),
            contents: Contents::default(),
            proof: ProofBy::default(),
            transfers: IN_FLIGHT,
            when: vec![When::OnChange],
            quiet: QUIET,
            only_on: Vec::new(),
            tell_unsettled_hours: None,
        }
    }

    /// The far side as people write it: `@office/Scores`.
    #[must_use]
    pub fn far_place(&self) -> String {
        self.far.to_string()
    }

    /// What messages call its sides.
    #[must_use]
    pub fn side_names(&self) -> SideNames {
        SideNames::of(&self.near, &self.far)
    }

    /// The folder of a side.
    #[must_use]
    pub fn place(&self, side: Side) -> &Place {
        match side {
            Side::Near => &self.near,
            Side::Far => &self.far,
        }
    }

    /// The near folder, where it must be one of this computer.
    ///
    /// # Errors
    /// Where it is one of an account.
    pub fn near_folder(&self) -> Result<&Path, Error> {
        self.near.local().ok_or_else(|| {
            Error::usage(
                self.side_words(Side::Near),
                "it is a folder of an account, and this is for folders of this computer",
                format!("See what the lane is: katabatic lane show {}", self.name),
            )
        })
    }

    /// A side as errors name it.
    #[must_use]
    pub fn side_words(&self, side: Side) -> String {
        let place = self.place(side);
        format!("the {} side of lane {}, {place}", side.name(), self.name)
    }

    /// The account of a side, where it is one of an account.
    #[must_use]
    pub fn account(&self, side: Side) -> Option<&str> {
        self.place(side).account()
    }

    /// Whether a side is a folder of this account.
    #[must_use]
    pub fn uses(&self, account: &str) -> bool {
        [Side::Near, Side::Far]
            .into_iter()
            .any(|side| self.account(side) == Some(account))
    }

    /// What the ledger is told of the terms: under other ones, what was agreed says nothing.
    #[must_use]
    pub fn terms_text(&self) -> String {
        let terms = self.terms;
        format!("{} {}", terms.direction.word(), terms.removals.word())
    }

    /// What the ledger is told of what is left out: with other rules or another choice, everything is listed.
    #[must_use]
    pub fn selection_text(&self) -> String {
        let choice = &self.selection.choice;
        let folders: Vec<_> = choice.skipped().chain(choice.taken()).collect();
        let rules: Vec<&str> = self.selection.rules.iter().map(Rule::text).collect();
        format!("{rules:?} {folders:?} {}", choice.new_folders.word())
    }

    /// What stands for a side in a dated name: `@office`, or the name of a far folder; nothing for a folder here.
    #[must_use]
    pub fn label(&self, side: Side) -> Option<String> {
        match (self.place(side), side) {
            (Place::Far { account, .. }, _) => Some(format!("@{account}")),
            (Place::Local(_), Side::Near) => None,
            (Place::Local(path), Side::Far) => Some(path.file_name().map_or_else(
                || "there".into(),
                |name| name.to_string_lossy().into_owned(),
            )),
        }
    }

    /// The lane with its folders where their drives are mounted now.
    pub(super) fn where_drives_are(mut self) -> LaneConfig {
        if let (Some(drive), Place::Local(near)) = (&self.near_drive, &self.near)
            && let Found::At(path) = drive.find(near)
        {
            self.near = Place::Local(path);
        }
        if let (Some(drive), Place::Local(far)) = (&self.far_drive, &self.far)
            && let Found::At(path) = drive.find(far)
        {
            self.far = Place::Local(path);
        }
        self
    }

    /// The drive of a side, where it lies on one.
    #[must_use]
    pub fn drive(&self, side: Side) -> Option<&OnDrive> {
        match side {
            Side::Near => self.near_drive.as_ref(),
            Side::Far => self.far_drive.as_ref(),
        }
    }

    pub(super) fn read(
        name: &str,
        table: Table,
        accounts: &[String],
    ) -> Result<LaneConfig, Mistake> {
        let fields = Fields::of(&format!("lane.{name}"), table, &LANE_KEYS)?;
        let odd = |key: &str, text: &str, why: &str| {
            fields.wrong(key, format!("[lane.{name}] {key} = \"{text}\": {why}"))
        };
        let place = |key: &str| -> Result<Place, Mistake> {
            let text = fields.text(key)?;
            match Place::parse(&text, accounts) {
                Ok(Place::Local(_)) if !PathBuf::from(&text).is_absolute() => Err(odd(
                    key,
                    &text,
                    "it must be an absolute path, or @ACCOUNT/FOLDER of an account above",
                )),
                // As it was written: a drive that is not plugged in resolves to something else.
                Ok(Place::Local(_)) => Ok(Place::Local(PathBuf::from(&text))),
                Ok(place) => Ok(place),
                Err(error) => Err(odd(key, &text, &error.why)),
            }
        };
        let (near, far) = (place("near")?, place("far")?);
        let brake = BrakeLimits::default();
        let never_fine = fields.number("brake_never_fine")?;
        Ok(LaneConfig {
            name: name.to_owned(),
            id: fields.text("id")?,
            near,
            far,
            near_drive: fields.drive("near_drive")?,
            far_drive: fields.drive("far_drive")?,
            terms: terms(&fields)?,
            selection: selection(&fields)?,
            brake: BrakeLimits {
                percent: match fields.number("brake_percent")? {
                    None => brake.percent,
                    Some(percent @ 1..=100) => percent,
                    Some(_) => return Err(fields.odd("brake_percent", "from 1 to 100")),
                },
                always_fine: fields
                    .number("brake_always_fine")?
                    .unwrap_or(brake.always_fine),
                never_fine: never_fine.unwrap_or(brake.never_fine),
            },
            portable_names: match fields.optional("names")?.as_deref() {
                None | Some("any") => false,
                Some("portable") => true,
                Some(_) => return Err(fields.odd("names", "one of any, portable")),
            },
            by_name_only: fields.flag("by_name_only")?,
            limits: fields.limits()?,
            contents: contents(&fields)?,
            proof: match fields.optional("proof")?.as_deref() {
                None | Some("content") => ProofBy::Content,
                Some("tags") => ProofBy::Tags,
                Some(_) => return Err(fields.odd("proof", "one of content, tags")),
            },
            transfers: match fields.number("transfers")? {
                None => IN_FLIGHT,
                Some(many @ 1..=8) => many as usize,
                Some(_) => return Err(fields.odd("transfers", "from 1 to 8")),
            },
            when: when(&fields)?,
            quiet: fields
                .number("quiet_seconds")?
                .map_or(QUIET, Duration::from_secs),
            only_on: only_on(&fields)?,
            tell_unsettled_hours: match fields.number("tell_unsettled_hours")? {
                None | Some(1..=8_784) => fields.number("tell_unsettled_hours")?,
                Some(_) => return Err(fields.odd("tell_unsettled_hours", "from 1 to 8784")),
            },
        })
    }

    /// Writes what differs from the usual; comments and the order of what is there stay.
    pub(super) fn write(&self, table: &mut Item) -> Result<(), String> {
        let near = match &self.near {
            Place::Local(near) => near
                .to_str()
                .ok_or_else(|| "its path is not UTF-8".to_owned())?
                .to_owned(),
            near @ Place::Far { .. } => near.to_string(),
        };
        set(table, "id", &self.id);
        set(table, "near", &near);
        set(table, "far", &self.far_place());
        for (key, drive) in [
            ("near_drive", &self.near_drive),
            ("far_drive", &self.far_drive),
        ] {
            set_or_remove(table, key, drive.as_ref().map(written_drive));
        }
        set(table, "direction", self.terms.direction.word());
        let (terms, usual) = (self.terms, Terms::of(self.terms.direction));
        let differs = |differs: bool, word: &str| differs.then(|| value(word));
        for (key, item) in [
            (
                "removals",
                differs(terms.removals != usual.removals, terms.removals.word()),
            ),
            (
                "drift",
                differs(terms.drift != usual.drift, terms.drift.word()),
            ),
            (
                "updates",
                differs(terms.updates != usual.updates, terms.updates.word()),
            ),
            ("names", self.portable_names.then(|| value("portable"))),
            ("by_name_only", self.by_name_only.then(|| value(true))),
        ] {
            set_or_remove(table, key, item);
        }
        let choice = &self.selection.choice;
        let rules: Vec<&str> = self.selection.rules.iter().map(Rule::text).collect();
        for (key, list) in [
            ("skip", choice.skipped().map(RelPath::as_str).collect()),
            ("take", choice.taken().map(RelPath::as_str).collect()),
            ("leave_out", rules),
        ] {
            write_list(table, key, &list);
        }
        let when: Vec<String> = match self.when.as_slice() {
            [When::OnChange] => Vec::new(),
            when => when.iter().map(ToString::to_string).collect(),
        };
        let when: Vec<&str> = when.iter().map(String::as_str).collect();
        write_list(table, "when", &when);
        let only_on: Vec<String> = self.only_on.iter().map(ToString::to_string).collect();
        let only_on: Vec<&str> = only_on.iter().map(String::as_str).collect();
        write_list(table, "only_on", &only_on);
        let hours = self.tell_unsettled_hours;
        set_or_remove(
            table,
            "tell_unsettled_hours",
            hours.map(|hours| value(i64::try_from(hours).unwrap_or(i64::MAX))),
        );
        let quiet = i64::try_from(self.quiet.as_secs()).unwrap_or(i64::MAX);
        set_or_remove(
            table,
            "quiet_seconds",
            (self.quiet != QUIET).then(|| value(quiet)),
        );
        let by_tags = self.proof != ProofBy::default();
        set_or_remove(table, "proof", by_tags.then(|| value(self.proof.word())));
        let held: Vec<&str> = self.contents.held().map(RelPath::as_str).collect();
        write_list(table, "hold", &held);
        let budget = self.contents.budget;
        for (key, bytes) in [
            ("max_local", budget.max_local),
            ("leave_free", budget.leave_free),
        ] {
            set_or_remove(table, key, bytes.map(|bytes| value(size_text(bytes))));
        }
        let stubs = self.contents.comes_as_stubs().then(|| value("stubs"));
        set_or_remove(table, "contents", stubs);
        for (key, wanted) in [("stubs_in", true), ("all_in", false)] {
            let folders = self.contents.folders();
            let folders: Vec<&str> = folders
                .filter(|(_, stubs)| *stubs == wanted)
                .map(|(folder, _)| folder.as_str())
                .collect();
            write_list(table, key, &folders);
        }
        let new_folders = choice.new_folders;
        let skips = new_folders == NewFolders::Skip;
        set_or_remove(
            table,
            "new_folders",
            skips.then(|| value(new_folders.word())),
        );
        let usual = BrakeLimits::default();
        for (key, number, usual) in [
            ("brake_percent", self.brake.percent, usual.percent),
            (
                "brake_always_fine",
                self.brake.always_fine,
                usual.always_fine,
            ),
            ("brake_never_fine", self.brake.never_fine, usual.never_fine),
        ] {
            let number = i64::try_from(number).unwrap_or(i64::MAX);
            set_or_remove(
                table,
                key,
                (number != usual.cast_signed()).then(|| value(number)),
            );
        }
        write_limits(table, &self.limits);
        let transfers = (self.transfers != IN_FLIGHT)
            .then(|| value(i64::try_from(self.transfers).unwrap_or(i64::MAX)));
        set_or_remove(table, "transfers", transfers);
        Ok(())
    }
}

fn written_drive(drive: &OnDrive) -> Item {
    let mut table = InlineTable::new();
    table.insert("name", drive.name.as_str().into());
    table.insert("uuid", drive.uuid.as_str().into());
    table.insert("folder", drive.folder.to_string_lossy().as_ref().into());
    value(table)
}

/// A size that reads back as the same number of bytes.
pub(super) fn size_text(bytes: u64) -> String {
    let units = [(1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "KB")];
    let fits = units
        .into_iter()
        .find(|(unit, _)| bytes > 0 && bytes.is_multiple_of(*unit));
    match fits {
        Some((unit, name)) => format!("{}{name}", bytes / unit),
        None => bytes.to_string(),
    }
}

/// Sets a text where it is another one, so that what stands behind it on the line stays.
fn set(table: &mut Item, key: &str, text: &str) {
    if table.get(key).and_then(Item::as_str) != Some(text) {
        table[key] = value(text);
    }
}

fn write_list(table: &mut Item, key: &str, list: &[&str]) {
    let there = table.get(key).and_then(Item::as_array);
    let same = there.is_some_and(|array| {
        array
            .iter()
            .map(|item| item.as_str())
            .eq(list.iter().map(|text| Some(*text)))
    });
    if !same {
        let array: Array = list.iter().copied().collect();
        set_or_remove(table, key, (!list.is_empty()).then(|| value(array)));
    }
}

fn word<T>(
    fields: &Fields,
    key: &str,
    parse: impl Fn(&str) -> Option<T>,
    usual: T,
    known: &[&str],
) -> Result<T, Mistake> {
    match fields.optional(key)? {
        None => Ok(usual),
        Some(text) => {
            parse(&text).ok_or_else(|| fields.odd(key, &format!("one of {}", known.join(", "))))
        }
    }
}

fn only_on(fields: &Fields) -> Result<Vec<Condition>, Mistake> {
    let read = |text: &String| {
        Condition::parse(text)
            .map_err(|why| fields.odd("only_on", &format!("a list of conditions, but {why}")))
    };
    fields.list("only_on")?.iter().map(read).collect()
}

fn when(fields: &Fields) -> Result<Vec<When>, Mistake> {
    let written = fields.list("when")?;
    if written.is_empty() {
        return Ok(vec![When::OnChange]);
    }
    let read = |text: &String| {
        When::parse(text).map_err(|why| fields.odd("when", &format!("a list of times, but {why}")))
    };
    written.iter().map(read).collect()
}

fn terms(fields: &Fields) -> Result<Terms, Mistake> {
    let direction = fields.text("direction")?;
    let known = Direction::ALL.map(Direction::word);
    let direction = Direction::parse(&direction)
        .ok_or_else(|| fields.odd("direction", &format!("one of {}", known.join(", "))))?;
    let usual = Terms::of(direction);
    let terms = Terms {
        direction,
        removals: word(
            fields,
            "removals",
            Removals::parse,
            usual.removals,
            &Removals::ALL.map(Removals::word),
        )?,
        drift: word(
            fields,
            "drift",
            Drift::parse,
            usual.drift,
            &Drift::ALL.map(Drift::word),
        )?,
        updates: word(
            fields,
            "updates",
            Updates::parse,
            usual.updates,
            &Updates::ALL.map(Updates::word),
        )?,
        lead: None,
    };
    terms.check().map_err(|why| fields.odd("direction", &why))?;
    Ok(terms)
}

/// The paths of a list, none of them the lane's own folder.
fn paths(fields: &Fields, key: &str) -> Result<Vec<RelPath>, Mistake> {
    let parse = |text: String| -> Result<RelPath, Mistake> {
        RelPath::parse(text.trim_matches('/'))
            .ok()
            .filter(|path| !path.is_root())
            .ok_or_else(|| fields.odd(key, &format!("a list of folders, not {text:?}")))
    };
    fields.list(key)?.into_iter().map(parse).collect()
}

fn contents(fields: &Fields) -> Result<Contents, Mistake> {
    let stubs = match fields.optional("contents")?.as_deref() {
        None | Some("all") => false,
        Some("stubs") => true,
        Some(_) => return Err(fields.odd("contents", "one of all, stubs")),
    };
    let size = |key: &str| match fields.optional(key)? {
        None => Ok(None),
        Some(text) => rules::read_bytes(&text)
            .map(Some)
            .ok_or_else(|| fields.odd(key, "a size such as \"20GB\"")),
    };
    let mut contents = Contents::new(stubs, paths(fields, "hold")?);
    let mut folders: Vec<(RelPath, bool)> = Vec::new();
    for (key, stubs) in [("stubs_in", true), ("all_in", false)] {
        folders.extend(
            paths(fields, key)?
                .into_iter()
                .map(|folder| (folder, stubs)),
        );
    }
    // From the top: a folder sets all below it.
    folders.sort_by_key(|(folder, _)| folder.depth());
    for (folder, stubs) in folders {
        contents.set_folder(folder, stubs);
    }
    contents.budget = Budget {
        max_local: size("max_local")?,
        leave_free: size("leave_free")?,
    };
    Ok(contents)
}

fn selection(fields: &Fields) -> Result<Selection, Mistake> {
    let rule = |text: String| {
        Rule::parse(&text)
            .map_err(|why| fields.odd("leave_out", &format!("a list of rules, but {why}")))
    };
    let new_folders = word(
        fields,
        "new_folders",
        NewFolders::parse,
        NewFolders::Take,
        &["take", "skip"],
    )?;
    Ok(Selection {
        rules: fields
            .list("leave_out")?
            .into_iter()
            .map(rule)
            .collect::<Result<_, _>>()?,
        choice: Choice::new(
            &paths(fields, "skip")?,
            &paths(fields, "take")?,
            new_folders,
        ),
    })
}
