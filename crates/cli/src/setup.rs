//! What was typed about how a lane works, over what it was so far.

use crate::lasting::{Setting, Unit, lasting_or_none, number_or_none};
use crate::limits::LimitsArgs;
use crate::typed_choice::choice;
use clap::Args;
use clap::ValueEnum;
use std::time::Duration;

use katabatic_core::brake::BrakeLimits;
use katabatic_core::condition::Condition;
use katabatic_core::schedule::When;
use katabatic_core::{Direction, Drift, NewFolders, RelPath, Removals, Rule, Updates, rules};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, ProofBy, QUIET};
use katabatic_sides::effort::IN_FLIGHT;

/// Which names go up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum NamesTyped {
    /// Any that the far side takes
    Any,
    /// Only those that every usual system can hold; others wait, with a name that would do
    Portable,
}

/// How a lane works; what is not typed stays as it is.
#[derive(Args, Clone, Debug, Default, PartialEq)]
pub struct SetupArgs {
    /// Which way it carries; two-way where nothing was said
    #[arg(long, value_parser = choice::<Direction>())]
    pub direction: Option<Direction>,
    /// What becomes of removals; where nothing was said, two-way lanes carry them and the others keep
    #[arg(long, value_parser = choice::<Removals>())]
    pub removals: Option<Removals>,
    /// One-way: what becomes of files that changed on the receiving side
    #[arg(long, value_parser = choice::<Drift>())]
    pub drift: Option<Drift>,
    /// One-way: what becomes of new versions
    #[arg(long, value_parser = choice::<Updates>())]
    pub updates: Option<Updates>,
    /// Do not take this folder of the far side
    #[arg(long, value_name = "FOLDER")]
    pub skip: Vec<String>,
    /// Take this folder, within one that is not taken
    #[arg(long, value_name = "FOLDER")]
    pub take: Vec<String>,
    /// Take this folder of the far side alone; the others stay there, and so do new ones. May be given several times
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["skip", "take", "new_folders"])]
    pub only: Vec<String>,
    /// What happens to new folders on the far side
    #[arg(long, value_parser = choice::<NewFolders>())]
    pub new_folders: Option<NewFolders>,
    /// Leave out what matches: '*.tmp', 'cache/', '/Old/x', ':hidden', ':larger 2GB', ':smaller 1KB', ':deeper 3'
    #[arg(long, value_name = "RULE")]
    pub leave_out: Vec<String>,
    /// Drop this rule
    #[arg(long, value_name = "RULE")]
    pub let_in: Vec<String>,
    /// Begin without the rules for what desktops and office programs leave behind
    #[arg(long)]
    pub no_usual_rules: bool,
    /// Which names go up: any, or only those that every system can hold
    #[arg(long, value_enum)]
    pub names: Option<NamesTyped>,
    /// Whether it is synced only when it is named
    #[arg(long, value_name = "true|false", num_args = 0..=1, default_missing_value = "true")]
    pub by_name_only: Option<bool>,
    /// When the agent runs it: 'on change', 'every 15m', 'daily 18:00', 'weekdays 08:30', 'mon,fri 09:00', 'RRULE:…',
    /// 'at start', 'at end', 'when plugged in', 'when idle 10m', 'by hand'
    #[arg(long, value_name = "TIME")]
    pub when: Vec<String>,
    /// What comes here of new files: all, or stubs without content, which take no room
    #[arg(long, value_enum)]
    pub contents: Option<ContentsTyped>,
    /// Its content here is at most so much, such as 20GB; the agent sheds what was not used for longest. none lifts it
    #[arg(long, value_name = "SIZE|none")]
    pub max_local: Option<String>,
    /// So much of the disk stays free, in the same way
    #[arg(long, value_name = "SIZE|none")]
    pub leave_free: Option<String>,
    /// What proves that a file is there before its last copy here goes: its content, or its version tag alone, where that
    /// can be no other version's; it is called believed then
    #[arg(long, value_parser = choice::<ProofBy>())]
    pub proof: Option<ProofBy>,
    /// Carry so many files at a time; 8 otherwise
    #[arg(long, value_name = "N|none", value_parser = number_or_none(1..=8))]
    pub transfers: Option<Setting<u64>>,
    /// Carry what changed once its folder was quiet for so long; 2s otherwise
    #[arg(long, value_name = "TIME|none", alias = "quiet-seconds", value_parser = lasting_or_none(Unit::Seconds, 1..=3_600))]
    pub quiet_time: Option<Setting<u64>>,
    /// Let the agent run it only while this holds: 'unmetered', 'network NAME', 'mains'; 'any' lifts it
    #[arg(long, value_name = "CONDITION")]
    pub only_on: Vec<String>,
    /// Tell somebody when it has not settled for so long, in whole hours: 12h, 2d; never otherwise
    #[arg(long, value_name = "TIME|none", alias = "tell-unsettled-hours", value_parser = lasting_or_none(Unit::Hours, 0..=8_784))]
    pub tell_unsettled: Option<Setting<u64>>,
    /// The brake stops above this share of the files in a day; 25 otherwise
    #[arg(long, value_name = "PERCENT|none", value_parser = number_or_none(1..=100))]
    pub brake_percent: Option<Setting<u64>>,
    /// So many removals and replacements in a day never stop a pass; 10 otherwise
    #[arg(long, value_name = "N|none", value_parser = number_or_none(0..=u64::MAX))]
    pub brake_always_fine: Option<Setting<u64>>,
    /// More than so many in a day always stop a pass; 1000 otherwise
    #[arg(long, value_name = "N|none", value_parser = number_or_none(0..=u64::MAX))]
    pub brake_never_fine: Option<Setting<u64>>,
    /// How much may go over the line in a second.
    #[command(flatten)]
    pub limits: LimitsArgs,
}

/// What was typed over what was so far, where `none` brings back what is usual.
fn over(typed: Option<Setting<u64>>, so_far: u64, usual: u64) -> u64 {
    typed.map_or(so_far, |typed| typed.said().unwrap_or(usual))
}

/// What comes of new files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ContentsTyped {
    /// Files with their content
    All,
    /// Stubs: name, size and date; the content when it is fetched
    Stubs,
}

impl SetupArgs {
    /// The lane as it was meant; `usual_rules` adds the rules for the usual junk.
    pub fn over(&self, mut lane: LaneConfig, usual_rules: bool) -> Result<LaneConfig, Error> {
        self.terms(&mut lane);
        lane.terms.check().map_err(|why| {
            Error::usage(
                format!("the lane {}", lane.name),
                format!("its direction must be {why}"),
                "Say --direction up or --direction down, or leave that option out.",
            )
        })?;
        self.choice(&mut lane)?;
        self.rules(&mut lane, usual_rules)?;
        let brake = &mut lane.brake;
        let usual = BrakeLimits::default();
        brake.percent = over(self.brake_percent, brake.percent, usual.percent);
        brake.always_fine = over(self.brake_always_fine, brake.always_fine, usual.always_fine);
        brake.never_fine = over(self.brake_never_fine, brake.never_fine, usual.never_fine);
        lane.portable_names = self
            .names
            .map_or(lane.portable_names, |names| names == NamesTyped::Portable);
        lane.by_name_only = self.by_name_only.unwrap_or(lane.by_name_only);
        lane.limits = self.limits.over(&lane.limits)?;
        if let Some(typed) = self.contents {
            lane.contents.set_all(typed == ContentsTyped::Stubs);
        }
        let budget = &mut lane.contents.budget;
        for (typed, bytes) in [
            (&self.max_local, &mut budget.max_local),
            (&self.leave_free, &mut budget.leave_free),
        ] {
            *bytes = match typed.as_deref() {
                None => *bytes,
                Some("none") => None,
                Some(text) => Some(size_of(text)?),
            };
        }
        lane.proof = self.proof.unwrap_or(lane.proof);
        lane.transfers = over(self.transfers, lane.transfers as u64, IN_FLIGHT as u64) as usize;
        if !self.when.is_empty() {
            let read = |text: &String| {
                When::parse(text).map_err(|why| {
                    Error::usage(
                        format!("the time {text}"),
                        why,
                        "Say --when once for each time.",
                    )
                })
            };
            lane.when = self.when.iter().map(read).collect::<Result<_, _>>()?;
        }
        if !self.only_on.is_empty() {
            let read = |text: &String| {
                Condition::parse(text).map_err(|why| {
                    Error::usage(
                        format!("the condition {text}"),
                        why,
                        "Say --only-on once for each condition; `any` alone lifts them.",
                    )
                })
            };
            lane.only_on = match self.only_on.as_slice() {
                [any] if any == "any" => Vec::new(),
                all => all.iter().map(read).collect::<Result<_, _>>()?,
            };
        }
        lane.tell_unsettled_hours = match self.tell_unsettled {
            None => lane.tell_unsettled_hours,
            // Older versions said never so.
            Some(Setting::Usual | Setting::To(0)) => None,
            Some(Setting::To(hours)) => Some(hours),
        };
        let quiet = over(self.quiet_time, lane.quiet.as_secs(), QUIET.as_secs());
        lane.quiet = Duration::from_secs(quiet);
        Ok(lane)
    }

    fn terms(&self, lane: &mut LaneConfig) {
        let terms = &mut lane.terms;
        if let Some(direction) = self.direction {
            // The usual removals of the old direction are no wish for the new one.
            if direction != terms.direction {
                if terms.removals == Removals::usual(terms.direction) {
                    terms.removals = Removals::usual(direction);
                }
                if direction == Direction::TwoWay {
                    (terms.drift, terms.updates) = Default::default();
                }
            }
            terms.direction = direction;
        }
        terms.removals = self.removals.unwrap_or(terms.removals);
        terms.drift = self.drift.unwrap_or(terms.drift);
        terms.updates = self.updates.unwrap_or(terms.updates);
    }

    fn choice(&self, lane: &mut LaneConfig) -> Result<(), Error> {
        let choice = &mut lane.selection.choice;
        if !self.only.is_empty() {
            let only = self.only.iter().map(|folder| folder_of(folder));
            choice.take_only(&only.collect::<Result<Vec<_>, _>>()?);
        }
        choice.new_folders = self.new_folders.unwrap_or(choice.new_folders);
        for (folders, taken) in [(&self.skip, false), (&self.take, true)] {
            for folder in folders {
                choice.say(&folder_of(folder)?, taken);
            }
        }
        Ok(())
    }

    fn rules(&self, lane: &mut LaneConfig, usual: bool) -> Result<(), Error> {
        let known = &mut lane.selection.rules;
        for text in &self.let_in {
            let text = text.trim();
            let before = known.len();
            known.retain(|rule| rule.text() != text);
            if known.len() == before {
                let rules: Vec<&str> = known.iter().map(Rule::text).collect();
                return Err(Error::usage(
                    format!("the rule {text}"),
                    format!("the lane {} has no such rule", lane.name),
                    format!("Its rules are: {}", rules.join("  ")),
                ));
            }
        }
        let usual = rules::USUAL.iter().copied().filter(|_| usual);
        for text in usual.chain(self.leave_out.iter().map(String::as_str)) {
            let rule = Rule::parse(text).map_err(|why| {
                Error::usage(
                    format!("the rule {text}"),
                    why,
                    "Rules are names such as '*.tmp', paths such as /Old, or :hidden, :larger 2GB, :smaller 1KB, :deeper 3.",
                )
            })?;
            if !known.contains(&rule) {
                known.push(rule);
            }
        }
        Ok(())
    }
}

/// A size as it was typed.
pub fn size_of(typed: &str) -> Result<u64, Error> {
    rules::read_bytes(typed).ok_or_else(|| {
        Error::usage(
            format!("the size {typed}"),
            "it is not understood",
            "Write it such as 20GB or 500MB.",
        )
    })
}

/// A folder of a lane as it was typed, from the lane's root.
pub fn folder_of(typed: &str) -> Result<RelPath, Error> {
    let path = RelPath::parse(typed.trim_matches('/'));
    path.ok().filter(|path| !path.is_root()).ok_or_else(|| {
        Error::usage(
            format!("the folder {typed}"),
            "it is no path of a folder in the lane",
            "Write it from the lane's root, such as 'Past seasons/2019'.",
        )
    })
}
