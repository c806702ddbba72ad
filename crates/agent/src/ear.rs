//! What was heard of each side since the last pass, and whether that is all there was to hear.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use katabatic_core::{PerSide, RelPath, Side};

use super::news::within;

/// However well it hears, the whole tree is walked so often: a word may be lost without a sign.
const WALKED_EVERY: Duration = Duration::from_secs(3_600);

/// More paths than this are not kept; walking the tree is no dearer.
const MOST: usize = 10_000;

/// What was heard.
#[derive(Debug)]
pub(super) struct Ear {
    /// Whether the system tells of every change, near and far.
    followed: PerSide<bool>,
    /// What it told since the last pass; none where something may be missing.
    heard: PerSide<Option<BTreeSet<RelPath>>>,
    /// When the whole tree was walked last.
    walked: Instant,
}

impl Ear {
    /// One that nothing is told.
    pub(super) fn deaf(now: Instant) -> Ear {
        Ear {
            followed: PerSide::default(),
            heard: PerSide::default(),
            walked: now,
        }
    }

    /// The system tells of every change on this side from now on.
    pub(super) fn follow(&mut self, side: Side) {
        self.followed[side] = true;
    }

    /// Something changed at these paths.
    pub(super) fn hear(&mut self, side: Side, root: &Path, paths: &[PathBuf]) {
        let heard = &mut self.heard[side];
        for path in paths {
            let Some(all) = heard else { return };
            match within(root, path) {
                Some(path) if all.len() < MOST => drop(all.insert(path)),
                _ => *heard = None,
            }
        }
    }

    /// A pass leaves a place alone that it was about to look at: that is for the next one.
    pub(super) fn set_aside(
        &mut self,
        heard: &mut PerSide<Option<BTreeSet<RelPath>>>,
        side: Side,
        root: &Path,
        path: &Path,
    ) {
        if let (Some(heard), Some(path)) = (&mut heard[side], within(root, path)) {
            heard.remove(&path);
        }
        self.hear(side, root, &[path.to_owned()]);
    }

    /// Something was not heard, or a pass did not get to its end.
    pub(super) fn lose(&mut self) {
        self.heard = PerSide::default();
    }

    /// When the whole tree is to be walked again.
    pub(super) fn walk_due(&self) -> Option<Instant> {
        let follows = self.followed.iter().any(|(_, followed)| *followed);
        follows.then(|| self.walked + WALKED_EVERY)
    }

    /// A pass begins: what it may look at instead of walking, on each side. What is heard from now on is for the next.
    pub(super) fn begin(
        &mut self,
        by_ear: bool,
        now: Instant,
    ) -> PerSide<Option<BTreeSet<RelPath>>> {
        let again = PerSide::of(|side| self.followed[side].then(BTreeSet::new));
        let heard = std::mem::replace(&mut self.heard, again);
        let heard = if by_ear { heard } else { PerSide::default() };
        let spared = |(side, heard): (Side, &Option<_>)| self.followed[side] && heard.is_some();
        if !heard.iter().any(spared) {
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

    fn near(heard: &PerSide<Option<BTreeSet<RelPath>>>) -> Option<Vec<&str>> {
        let near = heard.near.as_ref()?;
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
        assert_eq!(heard.far, None, "of the other side nothing is told");
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
