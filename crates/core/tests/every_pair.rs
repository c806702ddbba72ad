//! Every pair of views of one path, with and without something agreed: the decision is checked against rules that are
//! written down once more here, in another form than the table's.

#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use katabatic_core::decide::{Verdict, decide};
use katabatic_core::{
    Base, Digest, Entry, Kind, OddKind, PerSide, Side, Stamp, Terms, Unknown, View,
};

/// What a side may show, in all the ways that matter.
fn views(side: Side) -> Vec<(&'static str, View)> {
    let agreed = if side == Side::Near { "near" } else { "far" };
    let file = |stamp: &str, size: u64, content: Option<&str>| {
        let content = content.map(|text| Digest::of(text.as_bytes()));
        View::Present(Entry {
            content,
            ..Entry::file(size, Stamp::new(stamp))
        })
    };
    vec![
        ("absent", View::Absent),
        ("unknown", View::Unknown(Unknown::NeverListed)),
        ("as agreed", file(agreed, 3, None)),
        ("touched", file("newer", 3, Some("old"))),
        ("changed, same size", file("newer", 3, Some("new"))),
        ("changed, unread", file("newer", 3, None)),
        ("changed, longer", file("newer", 9, None)),
        ("folder", View::Present(Entry::folder())),
        (
            "link",
            View::Present(Entry::of_kind(Kind::Odd(OddKind::Link))),
        ),
    ]
}

fn base(kind: Kind, away: Option<Side>) -> Base {
    Base {
        kind,
        size: 3,
        content: (kind == Kind::File).then(|| Digest::of(b"old")),
        stamps: PerSide {
            near: Stamp::new("near"),
            far: Stamp::new("far"),
        },
        listed: PerSide {
            near: true,
            far: true,
        },
        away,
    }
}

fn bases() -> Vec<Option<Base>> {
    let mut all = vec![None];
    for kind in [Kind::File, Kind::Folder] {
        for away in [None, Some(Side::Near), Some(Side::Far)] {
            all.push(Some(base(kind, away)));
        }
    }
    all
}

fn each(mut check: impl FnMut(&str, Option<&Base>, &View, &View, Verdict)) {
    for base in bases() {
        for (near_name, near) in views(Side::Near) {
            for (far_name, far) in views(Side::Far) {
                let case = format!("{base:?}, near {near_name}, far {far_name}");
                let (verdict, ..) = decide(base.as_ref(), &near, &far, &Terms::default());
                check(&case, base.as_ref(), &near, &far, verdict);
            }
        }
    }
}

#[test]
fn an_unknown_side_holds_and_an_odd_one_is_left_out() {
    each(|case, _, near, far, verdict| {
        let unknown = |view: &View| matches!(view, View::Unknown(_));
        let odd = |view: &View| {
            view.entry()
                .is_some_and(|entry| matches!(entry.kind, Kind::Odd(_)))
        };
        match verdict {
            Verdict::Hold(side, _) => assert!(
                unknown(if side == Side::Near { near } else { far }),
                "{case}"
            ),
            Verdict::LeftOut(side, _) => {
                assert!(odd(if side == Side::Near { near } else { far }), "{case}")
            }
            _ => assert!(
                ![near, far]
                    .into_iter()
                    .any(|view| unknown(view) || odd(view)),
                "{case}"
            ),
        }
    });
}

#[test]
fn only_an_agreed_version_is_ever_removed() {
    each(|case, base, near, far, verdict| {
        let Verdict::Remove(on) = verdict else { return };
        let (there, gone) = if on == Side::Near {
            (near, far)
        } else {
            (far, near)
        };
        let base = base.unwrap_or_else(|| panic!("{case}: removed though nothing was agreed"));
        assert_eq!(gone, &View::Absent, "{case}");
        assert_eq!(base.away, None, "{case}");
        let entry = there
            .entry()
            .unwrap_or_else(|| panic!("{case}: there is nothing to remove"));
        assert_eq!(entry.kind, base.kind, "{case}");
        let same = entry.kind == Kind::Folder
            || entry.stamp == base.stamps[on]
            || entry.content == base.content;
        assert!(same, "{case}: a version that nobody agreed on is removed");
    });
}

#[test]
fn only_an_agreed_version_is_ever_replaced() {
    each(|case, base, near, far, verdict| {
        let Verdict::Carry(to) = verdict else { return };
        let (from, there) = if to == Side::Near {
            (far, near)
        } else {
            (near, far)
        };
        assert!(from.entry().is_some(), "{case}: there is nothing to carry");
        let Some(entry) = there.entry() else { return };
        let base = base.unwrap_or_else(|| panic!("{case}: replaced though nothing was agreed"));
        assert_eq!(entry.kind, base.kind, "{case}");
        let same = entry.kind == Kind::Folder
            || entry.stamp == base.stamps[to]
            || entry.content == base.content;
        assert!(same, "{case}: a version that nobody agreed on is replaced");
    });
}

#[test]
fn what_is_recorded_is_the_same_on_both_sides() {
    each(|case, base, near, far, verdict| {
        if verdict != Verdict::Record {
            return;
        }
        let (near, far) = (near.entry().unwrap(), far.entry().unwrap());
        assert_eq!(near.kind, far.kind, "{case}");
        if near.kind == Kind::File {
            // A stamp that was agreed on stands for the agreed content.
            let content = |entry: &Entry, side| {
                let agreed =
                    base.filter(|base| base.kind == Kind::File && base.stamps[side] == entry.stamp);
                entry.content.or(agreed.and_then(|base| base.content))
            };
            let (near, far) = (content(near, Side::Near), content(far, Side::Far));
            assert!(near.is_some() && near == far, "{case}");
        }
    });
}

#[test]
fn what_is_forgotten_is_on_neither_side() {
    each(|case, _, near, far, verdict| {
        if verdict == Verdict::Forget {
            assert_eq!((near, far), (&View::Absent, &View::Absent), "{case}");
        }
    });
}

#[test]
fn a_conflict_always_has_two_versions() {
    each(|case, _, near, far, verdict| {
        if matches!(verdict, Verdict::Conflict | Verdict::Compare) {
            assert!(near.entry().is_some() && far.entry().is_some(), "{case}");
        }
    });
}

#[test]
fn a_version_on_one_side_only_is_carried_or_removed_or_remembered() {
    each(|case, base, near, far, verdict| {
        let plain = |view: &View| {
            view.entry()
                .is_some_and(|entry| matches!(entry.kind, Kind::File | Kind::Folder))
        };
        let side = match (plain(near), plain(far)) {
            (true, false) if *far == View::Absent => Side::Near,
            (false, true) if *near == View::Absent => Side::Far,
            _ => return,
        };
        let fine = match verdict {
            Verdict::Carry(to) => to == side.other(),
            Verdict::Remove(on) => on == side,
            Verdict::KeptAway(away) => away == side.other(),
            // Agreed to be away here all along, and now it came back as the only one.
            _ => base.is_some_and(|base| base.away == Some(side)),
        };
        assert!(fine, "{case}: {verdict:?}");
    });
}
