//! What was typed about how a lane works, over what it was so far.

use std::time::Duration;

use katabatic_core::condition::Condition;
use katabatic_core::schedule::When;
use katabatic_core::{Direction, Drift, NewFolders, RelPath, Removals, Rule, Updates, rules};
use katabatic_engine::Error;
use katabatic_engine::config::{LaneConfig, ProofBy};

use crate::args::{
    ContentsTyped, DirectionTyped, DriftTyped, NamesTyped, NewFoldersTyped, ProofTyped,
    RemovalsTyped, SetupTyped, UpdatesTyped,
};

impl SetupTyped {
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
        brake.percent = self.brake_percent.unwrap_or(brake.percent);
        brake.always_fine = self.brake_always_fine.unwrap_or(brake.always_fine);
        brake.never_fine = self.brake_never_fine.unwrap_or(brake.never_fine);
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
        lane.proof = match self.proof {
            None => lane.proof,
            Some(ProofTyped::Content) => ProofBy::Content,
            Some(ProofTyped::Tags) => ProofBy::Tags,
        };
        lane.transfers = self.transfers.map_or(lane.transfers, |many| many as usize);
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
        lane.tell_unsettled_hours = match self.tell_unsettled_hours {
            None => lane.tell_unsettled_hours,
            Some(0) => None,
            hours => hours,
        };
        lane.quiet = self.quiet_seconds.map_or(lane.quiet, Duration::from_secs);
        Ok(lane)
    }

    fn terms(&self, lane: &mut LaneConfig) {
        let terms = &mut lane.terms;
        if let Some(typed) = self.direction {
            let direction = match typed {
                DirectionTyped::TwoWay => Direction::TwoWay,
                DirectionTyped::Up => Direction::Up,
                DirectionTyped::Down => Direction::Down,
            };
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
        if let Some(typed) = self.removals {
            terms.removals = match typed {
                RemovalsTyped::Carry => Removals::Carry,
                RemovalsTyped::Keep => Removals::Keep,
                RemovalsTyped::Ask => Removals::Ask,
            };
        }
        if let Some(typed) = self.drift {
            terms.drift = match typed {
                DriftTyped::Leave => Drift::Leave,
                DriftTyped::Restore => Drift::Restore,
            };
        }
        if let Some(typed) = self.updates {
            terms.updates = match typed {
                UpdatesTyped::Replace => Updates::Replace,
                UpdatesTyped::Add => Updates::Add,
                UpdatesTyped::Never => Updates::Never,
            };
        }
    }

    fn choice(&self, lane: &mut LaneConfig) -> Result<(), Error> {
        let choice = &mut lane.selection.choice;
        if let Some(typed) = self.new_folders {
            choice.new_folders = typed.into();
        }
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

impl From<NewFoldersTyped> for NewFolders {
    fn from(typed: NewFoldersTyped) -> NewFolders {
        match typed {
            NewFoldersTyped::Take => NewFolders::Take,
            NewFoldersTyped::Skip => NewFolders::Skip,
        }
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
