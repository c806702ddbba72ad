//! What would be lost with this computer: whether it may be wiped or given away.
//!
//! A yes here is a promise, so each lane is read whole and compared, whatever was recorded of it before; and what no lane
//! covers is counted in all of the person's home folder, since nobody remembers what they once saved beside their lanes.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use katabatic_core::place::absolute;
use katabatic_core::{Agreement, Kind, RelPath, Side};
use katabatic_ledger::Ledger;
use katabatic_ledger::spare_rows;

use crate::Error;
use crate::audit::{Audit, Verdict};
use crate::config::LaneConfig;
use crate::standing::LaneStanding;

/// Why a lane is no reason to let this computer go.
#[derive(Clone, Debug)]
pub enum Obstacle {
    /// It could not be compared.
    NotCompared(Error),
    /// A side could not be listed whole.
    NotWhole,
    /// What is here is not proven to be there.
    NotThere {
        /// How many files, with their bytes.
        files: (u64, u64),
        /// Some of them, with what each came to.
        some: Vec<(RelPath, Verdict)>,
    },
    /// Names here that no lane can carry.
    Names(Vec<String>),
    /// Changed here after it was compared.
    ChangedSince(u64),
    /// Both sides lie on the same disk, and go with it.
    OneDisk,
    /// Its far side is another drive of this computer, which has to be kept.
    IsADrive(PathBuf),
}

impl Obstacle {
    /// Whether it is lost with this computer; otherwise it is only to be minded.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        match self {
            Obstacle::NotCompared(_)
            | Obstacle::NotWhole
            | Obstacle::NotThere { .. }
            | Obstacle::Names(_)
            | Obstacle::ChangedSince(_)
            | Obstacle::OneDisk => true,
            Obstacle::IsADrive(_) => false,
        }
    }
}

/// As many paths are named of a lane.
const NAMED: usize = 10;

/// What stands against letting this computer go, of a lane that was compared and then looked at once more.
#[must_use]
pub fn of_lane(lane: &LaneConfig, audit: &Audit, afterwards: &LaneStanding) -> Vec<Obstacle> {
    let mut found = Vec::new();
    if !audit.whole {
        found.push(Obstacle::NotWhole);
    }
    let (mut files, mut some) = ((0u64, 0u64), Vec::new());
    for finding in &audit.findings {
        let empty_folder = finding.verdict == Verdict::OnlyNear
            && finding
                .near
                .as_ref()
                .is_some_and(|entry| entry.kind == Kind::Folder);
        // What only the other side holds is not lost. What could not be read may be here.
        if finding.verdict == Verdict::OnlyFar || empty_folder {
            continue;
        }
        files.0 += 1;
        let size = finding.near.as_ref().map_or(0, |entry| entry.size);
        files.1 = files.1.saturating_add(size);
        if some.len() < NAMED {
            some.push((finding.path.clone(), finding.verdict));
        }
    }
    if files.0 > 0 {
        found.push(Obstacle::NotThere { files, some });
    }
    if !audit.unusable.is_empty() {
        let names = audit.unusable.iter().map(|name| name.shown.clone());
        found.push(Obstacle::Names(names.collect()));
    }
    let changed = |agreement: &Agreement| match agreement {
        Agreement::Waiting(Side::Far) | Agreement::Moving(Side::Far) | Agreement::Conflict => true,
        Agreement::Settled
        | Agreement::Waiting(Side::Near)
        | Agreement::Moving(Side::Near)
        | Agreement::Drift
        | Agreement::KeptBack
        | Agreement::Stuck
        | Agreement::Asking(_)
        | Agreement::LeftOut => false,
    };
    let since = afterwards.counts.iter();
    let since: u64 = since
        .filter(|(agreement, _)| changed(agreement))
        .map(|(_, count)| *count)
        .sum();
    if since > 0 && files.0 == 0 {
        found.push(Obstacle::ChangedSince(since));
    }
    found.extend(on_this_computer(lane));
    found
}

/// Where the far side is a folder of this computer.
#[must_use]
pub fn on_this_computer(lane: &LaneConfig) -> Option<Obstacle> {
    let far = lane.far.local()?;
    let disk = |path: &Path| fs::metadata(path).map(|meta| meta.dev()).ok();
    let same = lane
        .near
        .local()
        .is_some_and(|near| disk(near) == disk(far));
    Some(match same {
        true => Obstacle::OneDisk,
        false => Obstacle::IsADrive(far.to_path_buf()),
    })
}

/// Something right in the home folder that no lane covers, or not all of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Uncovered {
    /// Its name; empty for the files that lie in no folder.
    pub name: String,
    /// Files in it that no lane covers.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Folders in it that could not be looked into, and why.
    pub unread: Vec<String>,
}

impl Uncovered {
    /// Whether its name is hidden: programs keep their settings so, and some of them people's mail.
    #[must_use]
    pub fn is_hidden(&self) -> bool {
        self.name.starts_with('.')
    }
}

/// What lies in a home folder beside what is covered, the largest first. Links are not followed, and what is mounted is not
/// entered: it is no part of this disk.
///
/// # Errors
/// Where the home folder itself cannot be listed.
pub fn uncovered(home: &Path, covered: &[&Path]) -> std::io::Result<Vec<Uncovered>> {
    let home = absolute(home);
    let covered: Vec<PathBuf> = covered.iter().map(|path| absolute(path)).collect();
    if covered.iter().any(|root| home.starts_with(root)) {
        return Ok(Vec::new());
    }
    let disk = fs::metadata(&home)?.dev();
    let mut found: BTreeMap<String, Uncovered> = BTreeMap::new();
    for entry in fs::read_dir(&home)? {
        let entry = entry?;
        let meta = entry.metadata()?;
        let name = match meta.is_dir() {
            true => entry.file_name().to_string_lossy().into_owned(),
            false => String::new(),
        };
        let one = found.entry(name.clone()).or_default();
        one.name = name;
        count(&entry.path(), &meta, disk, &covered, one);
    }
    let mut found: Vec<Uncovered> = found.into_values().collect();
    found.retain(|one| one.files > 0 || !one.unread.is_empty());
    found.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    Ok(found)
}

/// Adds up what lies at and below a path.
fn count(path: &Path, meta: &fs::Metadata, disk: u64, covered: &[PathBuf], sum: &mut Uncovered) {
    if covered.iter().any(|root| root == path) {
        return;
    }
    if meta.is_file() {
        sum.files += 1;
        sum.bytes = sum.bytes.saturating_add(meta.len());
    }
    if !meta.is_dir() {
        return;
    }
    let mut unread = |why: String| sum.unread.push(format!("{}: {why}", path.display()));
    if meta.dev() != disk {
        return unread("something is mounted there".into());
    }
    let members: Result<Vec<_>, _> = fs::read_dir(path).and_then(Iterator::collect);
    match members {
        Err(why) => unread(why.to_string()),
        Ok(members) => {
            for member in members {
                match member.metadata() {
                    Ok(meta) => count(&member.path(), &meta, disk, covered, sum),
                    Err(why) => {
                        let at = member.path();
                        sum.unread.push(format!("{}: {why}", at.display()));
                    }
                }
            }
        }
    }
}

/// Versions among the spares that lie on this computer, with their bytes: they go with it.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn spares_here(ledger: &Ledger) -> Result<(u64, u64), Error> {
    let all = ledger.read(|connection| spare_rows::all(connection, None))?;
    let here = all.iter().filter(|spare| spare.side == Side::Near);
    Ok(here.fold((0, 0), |(files, bytes), spare| {
        (files + 1, bytes.saturating_add(spare.size))
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_no_lane_covers_is_counted_beside_the_lanes() {
        let home = tempfile::tempdir().unwrap();
        let at = |path: &str| home.path().join(path);
        for (path, content) in [
            ("Scores/a.txt", "in a lane"),
            ("Letters/b.txt", "12345"),
            ("Letters/deep/c.txt", "123"),
            (".mail/inbox", "1234567890"),
            ("loose.txt", "1"),
        ] {
            fs::create_dir_all(at(path).parent().unwrap()).unwrap();
            fs::write(at(path), content).unwrap();
        }
        std::os::unix::fs::symlink(at("Scores"), at("link")).unwrap();
        let found = uncovered(home.path(), &[&at("Scores")]).unwrap();
        let told: Vec<_> = found
            .iter()
            .map(|one| (one.name.as_str(), one.files, one.bytes))
            .collect();
        assert_eq!(told, [(".mail", 1, 10), ("Letters", 2, 8), ("", 1, 1)]);
        assert!(found[0].is_hidden());
        assert_eq!(uncovered(home.path(), &[home.path()]).unwrap(), []);
    }
}
