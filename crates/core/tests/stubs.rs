//! What a stub here comes to, with everything that may have been agreed on and everything that the far side may show.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use katabatic_core::decide::{Verdict, decide};
use katabatic_core::{
    Base, Digest, Direction, Drift, Entry, Kind, PerSide, Removals, Side, Stamp, StampKind, Terms,
    Unknown, View,
};

const OWN: &str = "3:own";

fn stub_stamp(text: &str) -> Stamp {
    Stamp::of(StampKind::Stub, text)
}

fn base(near: &Stamp, kind: Kind, away: Option<Side>) -> Base {
    Base {
        kind,
        size: 3,
        content: (kind == Kind::File).then(|| Digest::of(b"old")),
        stamps: PerSide {
            near: near.clone(),
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
    for near in [stub_stamp(OWN), Stamp::new("a file")] {
        for away in [None, Some(Side::Near), Some(Side::Far)] {
            all.push(Some(base(&near, Kind::File, away)));
        }
    }
    all.push(Some(base(&Stamp::new(""), Kind::Folder, None)));
    all
}

fn file(stamp: &str) -> View {
    View::Present(Entry::file(3, Stamp::new(stamp)))
}

fn stub(stamp: &str) -> View {
    View::Present(Entry::file(3, stub_stamp(stamp)))
}

fn fars() -> Vec<View> {
    vec![
        View::Absent,
        View::Unknown(Unknown::NeverListed),
        file("far"),
        file("newer"),
        View::Present(Entry::folder()),
    ]
}

fn all_terms() -> Vec<Terms> {
    let mut all = Vec::new();
    for direction in [Direction::TwoWay, Direction::Up, Direction::Down] {
        for removals in [Removals::Carry, Removals::Keep, Removals::Ask] {
            for drift in [Drift::Leave, Drift::Restore] {
                for lead in [None, Some(Side::Near), Some(Side::Far)] {
                    all.push(Terms {
                        removals,
                        drift,
                        lead,
                        ..Terms::of(direction)
                    });
                }
            }
        }
    }
    all
}

#[test]
fn nothing_of_a_stub_is_ever_carried_up_or_read() {
    let mut tried = 0;
    for terms in all_terms() {
        for base in bases() {
            for near in [stub(OWN), stub("3:another")] {
                for far in fars() {
                    let (verdict, ..) = decide(base.as_ref(), &near, &far, &terms);
                    let carried = matches!(
                        verdict,
                        Verdict::Carry(Side::Far)
                            | Verdict::CarryBeside(Side::Far)
                            | Verdict::Compare
                            | Verdict::Remove(Side::Far)
                            | Verdict::KeepRemoved(Side::Near)
                    );
                    assert!(!carried, "{base:?} {near:?} {far:?} {terms:?}: {verdict:?}");
                    tried += 1;
                }
            }
        }
    }
    assert_eq!(tried, 54 * 8 * 2 * 5);
}

#[test]
fn a_stub_that_the_lane_made_is_a_version_like_any_other() {
    let terms = Terms::default();
    let agreed = base(&stub_stamp(OWN), Kind::File, None);
    let verdict = |near: &View, far: &View| decide(Some(&agreed), near, far, &terms).0;
    let own = stub(OWN);
    assert_eq!(verdict(&own, &file("far")), Verdict::Settled);
    assert_eq!(verdict(&own, &file("newer")), Verdict::Carry(Side::Near));
    assert_eq!(verdict(&own, &View::Absent), Verdict::Remove(Side::Near));
    assert_eq!(
        verdict(&View::Absent, &file("far")),
        Verdict::Remove(Side::Far)
    );
    // A file that took its name is an edit, and where it holds what the stub stood for, it is here again.
    assert_eq!(
        verdict(&file("a file"), &file("far")),
        Verdict::Carry(Side::Far)
    );
    let same = View::Present(Entry {
        content: Some(Digest::of(b"old")),
        ..Entry::file(3, Stamp::new("a file"))
    });
    assert_eq!(verdict(&same, &file("far")), Verdict::Record);
}

#[test]
fn a_stub_of_which_nothing_is_known_is_renewed_or_held() {
    let terms = Terms::default();
    let strange = Verdict::Hold(Side::Near, Unknown::StrangeStub);
    let another = stub("3:another");
    assert_eq!(
        decide(None, &another, &file("far"), &terms).0,
        Verdict::Carry(Side::Near)
    );
    assert_eq!(decide(None, &another, &View::Absent, &terms).0, strange);
    for near in [stub_stamp(OWN), Stamp::new("a file")] {
        let agreed = base(&near, Kind::File, None);
        for far in [file("far"), file("newer"), View::Absent] {
            assert_eq!(
                decide(Some(&agreed), &another, &far, &terms).0,
                strange,
                "{near:?} {far:?}"
            );
        }
    }
}

#[test]
fn a_lane_that_puts_drift_right_cannot_do_so_from_a_stub() {
    let terms = Terms {
        drift: Drift::Restore,
        ..Terms::of(Direction::Up)
    };
    let agreed = base(&stub_stamp(OWN), Kind::File, None);
    for far in [View::Absent, file("newer")] {
        assert_eq!(
            decide(Some(&agreed), &stub(OWN), &far, &terms).0,
            Verdict::Hold(Side::Far, Unknown::StubGone)
        );
    }
}
