//! Names of a lane that the other side does not take, with names that would do, and their renaming here.
//!
//! What is asked is the disk, by the bytes it has; what the far side's probe found out about names; and what passes were
//! refused. A renaming is nothing else than what the person could do in a file manager: the next pass carries the file under
//! the name it has then.

use std::collections::{BTreeMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use katabatic_core::fitting_name::{NameLimits, NameTrouble};
use katabatic_core::{
    Agreement, Deed, Entry, ItemEnding, ItemOutcome, Kind, PerSide, RelPath, RunCommand,
    RunOutcome, Side, Stamp, Triple, View, portable,
};
use katabatic_ledger::account_rows;
use katabatic_ledger::runs::{Counts, RunItem};
use katabatic_sides::is_own;
use katabatic_sides::local::raw_names::{self, RawName};

use crate::Error;
use crate::pass::Pass;
use crate::session::{Ended, LockedLane, OpRun, in_run};
use crate::standing::{self, Standing};

/// A name here that is not taken there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OddName {
    /// The folder it lies in, below the lane's near side, as the disk has it.
    pub folder: PathBuf,
    /// The name, as the disk has it.
    pub name: OsString,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Why it is not taken.
    pub trouble: NameTrouble,
    /// One that would do.
    pub fitting: String,
}

impl OddName {
    /// The path below the near side, its bytes that are no text escaped.
    #[must_use]
    pub fn shown(&self) -> String {
        shown(&self.folder.join(&self.name))
    }
}

fn shown(path: &Path) -> String {
    match path.to_str() {
        Some(text) => text.to_owned(),
        None => path.as_os_str().as_bytes().escape_ascii().to_string(),
    }
}

/// Names of a lane that are not taken on the other side.
#[derive(Clone, Debug, Default)]
pub struct OddNames {
    /// Those here, in tree order.
    pub here: Vec<OddName>,
    /// Those there that cannot come here, why, and one that would do.
    pub there: Vec<(RelPath, String, String)>,
}

/// Looks for them; nothing is changed.
///
/// # Errors
/// Where the near side is no folder of this computer, or is not there, or a folder of it cannot be read.
pub async fn look(pass: &Pass) -> Result<OddNames, Error> {
    let lane = &pass.lane.config;
    let Some(near) = lane.near.local() else {
        return Err(Error::usage(
            format!("the names of lane {}", lane.name),
            "its near side is an account, so there is no folder here to rename things in",
            "Rename there: katabatic move @ACCOUNT/OLD @ACCOUNT/NEW",
        ));
    };
    let standing = standing::look(pass, &RelPath::root(), &|_| String::new()).await?;
    let limits = limits_there(pass)?;
    let open: BTreeMap<&RelPath, &Standing> = standing
        .standings
        .iter()
        .map(|one| (one.step.path(), one))
        .collect();
    let mut odd = OddNames::default();
    for (path, one) in &open {
        let is_there = one.step.entry(Side::Far).is_some() && one.step.entry(Side::Near).is_none();
        if let (true, true, Some(_)) = (is_there, is_stuck(one), portable::trouble(path.name())) {
            let fitting = NameLimits::default().fitting(path.name().as_bytes(), &|_| false);
            odd.there
                .push(((*path).clone(), one.reason.clone(), fitting));
        }
    }
    // What never goes up need not be taken there, and another name here would be drift.
    if !lane.terms.direction.writes_to(Side::Far) {
        return Ok(odd);
    }
    let mut seen = |folder: &Path, names: &[RawName]| {
        let looked = Looked {
            pass,
            limits: &limits,
            open: &open,
            folder,
            names,
        };
        looked.note(&mut odd.here)
    };
    raw_names::each_folder(near, &pass.stop, &mut seen)
        .map_err(|error| pass.side_failed(Side::Near, &error))?;
    odd.here
        .sort_by(|a, b| (&a.folder, &a.name).cmp(&(&b.folder, &b.name)));
    Ok(odd)
}

fn is_stuck(one: &Standing) -> bool {
    one.state.agreement == Agreement::Stuck
}

/// Which names the far side takes, as far as that was found out.
fn limits_there(pass: &Pass) -> Result<NameLimits, Error> {
    let Some(account) = pass.lane.config.account(Side::Far) else {
        return Ok(NameLimits::default());
    };
    let findings = pass
        .ledger
        .read(|connection| account_rows::findings(connection, account))?;
    let usual = NameLimits::default();
    Ok(
        findings.map_or_else(NameLimits::default, |(_, found)| NameLimits {
            refused: found.refused_characters + &found.unserved_characters,
            longest: found.longest_name.clamp(1, usual.longest),
            case_differs: found.case_differs,
            forms_differ: found.unicode_differs,
        }),
    )
}

/// One folder, while it is looked at.
struct Looked<'l> {
    pass: &'l Pass,
    limits: &'l NameLimits,
    /// What is not settled.
    open: &'l BTreeMap<&'l RelPath, &'l Standing>,
    folder: &'l Path,
    names: &'l [RawName],
}

impl Looked<'_> {
    /// Notes what is not taken, and answers which folders are to be looked into.
    fn note(&self, odd: &mut Vec<OddName>) -> Vec<OsString> {
        let mut taken: HashSet<String> = self
            .names
            .iter()
            .filter_map(|raw| raw.name.to_str().map(str::to_owned))
            .collect();
        let mut below = Vec::new();
        for raw in self.names {
            let path = self.path_of(&raw.name);
            if self.is_left_alone(raw, path.as_ref()) {
                continue;
            }
            if raw.folder {
                below.push(raw.name.clone());
            }
            let Some(trouble) = self.trouble(raw, path.as_ref()) else {
                continue;
            };
            let mut fitting = self
                .limits
                .fitting(raw.name.as_bytes(), &|name| self.is_taken(name, &taken));
            // Under a name of the tool's own it would be left out without a word.
            if is_own(&fitting) {
                fitting.insert(0, '_');
            }
            taken.insert(fitting.clone());
            odd.push(OddName {
                folder: self.folder.to_owned(),
                name: raw.name.clone(),
                is_folder: raw.folder,
                trouble,
                fitting,
            });
        }
        below
    }

    /// The path in the lane, where all of it is text.
    fn path_of(&self, name: &OsStr) -> Option<RelPath> {
        RelPath::from_bytes(self.folder.join(name).as_os_str().as_bytes()).ok()
    }

    /// What the tool keeps there, and what rules or the choice leave out.
    fn is_left_alone(&self, raw: &RawName, path: Option<&RelPath>) -> bool {
        if self.folder == Path::new("") && raw.name.to_str().is_some_and(is_own) {
            return true;
        }
        let Some(path) = path else {
            return false;
        };
        let kind = match raw.folder {
            true => Kind::Folder,
            false => Kind::File,
        };
        let entry = Entry {
            kind,
            ..Entry::file(0, Stamp::new(""))
        };
        let as_seen = Triple {
            path: path.clone(),
            base: None,
            views: PerSide {
                near: View::Present(entry),
                far: View::Absent,
            },
        };
        let selection = &self.pass.lane.config.selection;
        selection.leaves_out(&as_seen).is_some()
    }

    fn trouble(&self, raw: &RawName, path: Option<&RelPath>) -> Option<NameTrouble> {
        let Some(name) = raw.name.to_str() else {
            return Some(NameTrouble::NotUtf8);
        };
        // What is there under this name is taken, whatever the probe found.
        let open = path.and_then(|path| self.open.get(path));
        let open = open.filter(|one| one.step.entry(Side::Far).is_none())?;
        if let Some(trouble) = self.limits.trouble(name) {
            return Some(trouble);
        }
        let others = self.names.iter().filter_map(|raw| raw.name.to_str());
        let doubles = |limits: &NameLimits| {
            let mut others = others.clone();
            others
                .find(|other| limits.is_double(name, other))
                .map(str::to_owned)
        };
        // Of two that are one there, the one that is carried stays as it is; where none is, the first.
        if let Some(double) = doubles(self.limits)
            && (!self.is_open(&double) || *name > *double)
        {
            return Some(NameTrouble::Double(double));
        }
        if !is_stuck(open) {
            return None;
        }
        // What nobody has asked about is believed at its worst once something was refused.
        let strict = NameLimits {
            case_differs: false,
            forms_differ: false,
            ..NameLimits::default()
        };
        if let Some(double) = doubles(&strict) {
            return Some(NameTrouble::Double(double));
        }
        portable::trouble(name).map(|_| NameTrouble::Stuck(open.reason.clone()))
    }

    fn is_open(&self, name: &str) -> bool {
        self.path_of(OsStr::new(name))
            .is_some_and(|path| self.open.contains_key(&path))
    }

    /// Whether a name is one that is there, or one for the far side.
    fn is_taken(&self, name: &str, taken: &HashSet<String>) -> bool {
        taken.contains(name) || taken.iter().any(|other| self.limits.is_double(name, other))
    }
}

/// What a renaming did.
#[derive(Debug, Default)]
pub struct Renamed {
    /// The number of its run.
    pub run: i64,
    /// What has another name now.
    pub done: u64,
    /// What has not, and why.
    pub failed: Vec<(String, String)>,
}

/// Gives files and folders here the names that would do, each only where that is free.
///
/// # Errors
/// Where the near side is not there, or another program of ours is at work in the lane.
pub async fn rename(pass: &Pass, odd: &[OddName]) -> Result<Renamed, Error> {
    let pass = &pass.lock()?;
    pass.check_roots().await?;
    let run = pass
        .begin_run_of(RunCommand::Names, pass.clock.now())
        .await?;
    in_run(run, async |run| Ok(rename_each(pass, run, odd))).await
}

fn rename_each(pass: &LockedLane, run: &OpRun, odd: &[OddName]) -> Ended<Renamed> {
    let mut renamed = Renamed {
        run: run.number(),
        ..Renamed::default()
    };
    let near = pass.lane.config.near.local().unwrap_or(Path::new(""));
    // What lies in a folder first: its path is the one that was seen until the folder itself has another name.
    let mut deepest: Vec<&OddName> = odd.iter().collect();
    deepest.sort_by_key(|one| std::cmp::Reverse(one.folder.components().count()));
    for one in deepest {
        let did = raw_names::rename_in(near, &one.folder, &one.name, &one.fitting);
        let to = shown(&one.folder.join(&one.fitting));
        run.note(RunItem {
            path: one.shown(),
            deed: Deed::MoveByHand { to },
            reason: String::new(),
            bytes: 0,
            outcome: match &did {
                Ok(()) => ItemOutcome::DONE,
                Err(why) => ItemOutcome::with(ItemEnding::Failed, why.to_string()),
            },
            at: Some(pass.clock.now()),
        });
        match did {
            Ok(()) => renamed.done += 1,
            Err(why) => renamed.failed.push((one.shown(), why.to_string())),
        }
    }
    Ended {
        outcome: RunOutcome::done_if(renamed.failed.is_empty()),
        counts: Counts {
            moved: renamed.done,
            ..Counts::default()
        },
        value: renamed,
    }
}
