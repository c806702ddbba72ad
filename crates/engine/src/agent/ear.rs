//! What was heard of each side since the last pass, and whether that is all there was to hear.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use katabatic_core::{RelPath, Side};

use super::news::within;

/// However well it hears, the whole tree is walked so often: a word may be lost without a sign.
const WALKED_EVERY: Duration = Duration::from_secs(3_600);

/// More paths than this are not kept; walking the tree is no dearer.
const MOST: usize = 10_000;

/// What was heard.
#[derive(Debug)]
pub(super) struct Ear {
    /// Whether the system tells of every change, near and far.
    followed: [bool; 2],
    /// What it told since the last pass; none where something may be missing.
    heard: [Option<BTreeSet<RelPath>>; 2],
    /// When the whole tree was walked last.
    walked: Instant,
}

fn index(side: Side) -> usize {
    usize::from(side == Side::Far)
}

impl Ear {
    /// One that nothing is told.
    pub(super) fn deaf(now: Instant) -> Ear {
        Ear {
            followed: [false; 2],
            heard: [None, None],
            walked: now,
        }
    }

    /// The system tells of every change on this side from now on.
    pub(super) fn follow(&mut self, side: Side) {
        self.followed[index(side)] = true;
    }

    /// Something changed at these paths.
    pub(super) fn hear(&mut self, side: Side, root: &Path, paths: &[PathBuf]) {
        let heard = &mut self.heard[index(side)];
        for path in paths {
            let Some(all) = heard else { return };
            match within(root, path) {
                Some(path) if all.len() < MOST => drop(all.insert(path)),
                _ => *heard = None,
            }
        }
    }

    /// Something was not heard, or a pass did not get to its end.
    pub(super) fn lose(&mut self) {
        self.heard = [None, None];
    }

    /// When the whole tree is to be walked again.
    pub(super) fn walk_due(&self) -> Option<Instant> {
        self.followed
            .contains(&true)
            .then(|| self.walked + WALKED_EVERY)
    }

    /// A pass begins: what it may look at instead of walking, on each side. What is heard from now on is for the next.
    pub(super) fn begin(&mut self, by_ear: bool, now: Instant) -> [Option<BTreeSet<RelPath>>; 2] {
        let again = self.followed.map(|followed| followed.then(BTreeSet::new));
        let heard = std::mem::replace(&mut self.heard, again);
        let heard = if by_ear { heard } else { [None, None] };
        let spared = |side: usize| self.followed[side] && heard[side].is_some();
        if !(spared(0) || spared(1)) {
            self.walked = now;
        }
        heard
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hear(ear: &mut Ear, path: &str) {
        ear.hear(Side::Near, Path::new("/lane"), &[PathBuf::from(path)]);
    }

    fn near(heard: &[Option<BTreeSet<RelPath>>; 2]) -> Option<Vec<&str>> {
        let near = heard[0].as_ref()?;
        Some(near.iter().map(RelPath::as_str).collect())
    }

    #[test]
    fn what_was_heard_counts_only_after_a_walk_and_only_while_nothing_is_missing() {
        let now = Instant::now();
        let mut ear = Ear::deaf(now);
        ear.follow(Side::Near);
        hear(&mut ear, "/lane/a");
        assert_eq!(near(&ear.begin(true, now)), None, "nothing was walked yet");
        hear(&mut ear, "/lane/b");
        hear(&mut ear, "/lane/c/d");
        let heard = ear.begin(true, now);
        assert_eq!(near(&heard), Some(vec!["b", "c/d"]));
        assert_eq!(heard[1], None, "of the other side nothing is told");
        assert_eq!(near(&ear.begin(true, now)), Some(vec![]));
        hear(&mut ear, "/lane/e");
        assert_eq!(near(&ear.begin(false, now)), None, "the tree is walked");
        hear(&mut ear, "/elsewhere");
        hear(&mut ear, "/lane/f");
        assert_eq!(
            near(&ear.begin(true, now)),
            None,
            "only a walk tells what that was"
        );
        ear.lose();
        hear(&mut ear, "/lane/g");
        assert_eq!(near(&ear.begin(true, now)), None);
    }

    #[test]
    fn the_tree_is_walked_every_hour_whatever_is_heard() {
        let now = Instant::now();
        let mut ear = Ear::deaf(now);
        assert_eq!(ear.walk_due(), None);
        ear.follow(Side::Near);
        let later = now + Duration::from_secs(1_800);
        ear.begin(false, now);
        ear.begin(true, later);
        assert_eq!(ear.walk_due(), Some(now + WALKED_EVERY));
        ear.begin(false, later);
        assert_eq!(ear.walk_due(), Some(later + WALKED_EVERY));
    }
}
