//! What a decision becomes once more is known than both sides show: each rule by itself, and in what order they count.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use std::collections::BTreeMap;
use std::sync::Arc;

use katabatic_core::reconcile::reconcile;
use katabatic_core::refine::stub_question;
use katabatic_core::{
    Base, Contents, Decision, Entry, Facts, PerSide, Reconciler, Refined, RelPath, Selection, Side,
    Stamp, StampKind, Step, StubFact, StubQuestion, TakesOut, Terms, Triple, Unknown, View,
    WantedContents, Wish, refine,
};

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn stub(of: &str) -> Stamp {
    Stamp::of(StampKind::Stub, of)
}

fn file(size: u64, stamp: Stamp) -> View {
    View::Present(Entry::file(size, stamp))
}

/// A file of ten bytes that both sides agreed on.
fn agreed(near: Stamp) -> Option<Base> {
    Some(Base {
        kind: katabatic_core::Kind::File,
        size: 10,
        content: None,
        stamps: PerSide {
            near,
            far: Stamp::new("far"),
        },
        listed: PerSide {
            near: true,
            far: true,
        },
        away: None,
    })
}

fn seen(at: &str, base: Option<Base>, near: View, far: View) -> Triple {
    Triple {
        path: path(at),
        base,
        views: PerSide { near, far },
    }
}

/// What is new on one side alone.
fn new_on(side: Side, at: &str, size: u64) -> Triple {
    let (near, far) = match side {
        Side::Near => (file(size, Stamp::new("new")), View::Absent),
        Side::Far => (View::Absent, file(size, Stamp::new("new"))),
    };
    seen(at, None, near, far)
}

fn decided(triples: Vec<Triple>) -> Vec<Step> {
    let reconciler = Reconciler::new(Terms::default(), Arc::new(Selection::default()));
    reconcile(triples, reconciler).0
}

fn refined(triples: Vec<Triple>, facts: &Facts<'_>, wish: &Wish) -> Refined {
    refine(decided(triples), facts, wish)
}

fn decisions(steps: &[Step]) -> Vec<(&str, &Decision)> {
    steps
        .iter()
        .map(|step| (step.path().as_str(), &step.decision))
        .collect()
}

const DOWN: Decision = Decision::Carry {
    to: Side::Near,
    replaces: false,
};
const UP: Decision = Decision::Carry {
    to: Side::Far,
    replaces: false,
};

#[test]
fn what_does_not_fit_is_held_and_the_rest_goes_on() {
    let contents = Contents::default();
    let facts = Facts {
        free: PerSide {
            near: Some(14),
            far: None,
        },
        ..Facts::of(&contents)
    };
    let triples = || {
        vec![
            new_on(Side::Far, "a", 10),
            new_on(Side::Near, "b", 1_000),
            new_on(Side::Far, "c", 5),
            new_on(Side::Far, "empty", 0),
        ]
    };
    let out = refined(triples(), &facts, &Wish::default());
    let held = Decision::Hold {
        on: Side::Near,
        why: Unknown::NoRoom(15, 14),
    };
    assert_eq!(
        decisions(&out.steps),
        [("a", &held), ("b", &UP), ("c", &held), ("empty", &DOWN)]
    );
    assert_eq!(out.no_room.near, Some((15, 14)));
    assert_eq!(out.no_room.far, None);
    let wide = Facts {
        free: PerSide {
            near: Some(15),
            far: None,
        },
        ..facts
    };
    let out = refined(triples(), &wide, &Wish::default());
    assert_eq!(
        decisions(&out.steps),
        [("a", &DOWN), ("b", &UP), ("c", &DOWN), ("empty", &DOWN)]
    );
    assert_eq!(out.no_room, PerSide::default());
}

/// What is held for another reason takes no room, and what only comes as a stub does not either.
#[test]
fn only_what_would_come_needs_room() {
    let contents = Contents::new(true, [path("held")]);
    let facts = Facts {
        free: PerSide {
            near: Some(10),
            far: None,
        },
        ..Facts::of(&contents)
    };
    let triples = vec![
        new_on(Side::Far, "as a stub", 1_000),
        new_on(Side::Far, "held", 10),
    ];
    let out = refined(triples, &facts, &Wish::default());
    assert_eq!(
        decisions(&out.steps),
        [
            ("as a stub", &Decision::MakeStub { replaces: false }),
            ("held", &DOWN)
        ]
    );
}

#[test]
fn what_a_side_would_be_changed_by_is_held_where_it_may_only_be_read() {
    let contents = Contents::default();
    let facts = Facts {
        read_only: PerSide {
            near: false,
            far: true,
        },
        portable_names: true,
        ..Facts::of(&contents)
    };
    let gone_here = seen(
        "gone",
        agreed(Stamp::new("near")),
        View::Absent,
        file(10, Stamp::new("far")),
    );
    let triples = vec![
        new_on(Side::Far, "down", 1),
        gone_here,
        new_on(Side::Near, "what?", 1),
    ];
    let out = refined(triples, &facts, &Wish::default());
    let held = Decision::Hold {
        on: Side::Far,
        why: Unknown::ReadOnly,
    };
    assert_eq!(
        decisions(&out.steps),
        [("down", &DOWN), ("gone", &held), ("what?", &held)]
    );
}

#[test]
fn a_name_that_not_every_system_holds_waits_only_where_it_would_be_new_there() {
    let contents = Contents::default();
    let facts = Facts {
        portable_names: true,
        ..Facts::of(&contents)
    };
    let edited = seen(
        "known?",
        agreed(Stamp::new("near")),
        file(11, Stamp::new("edited")),
        file(10, Stamp::new("far")),
    );
    let triples = vec![
        new_on(Side::Far, "from there?", 1),
        edited,
        new_on(Side::Near, "new?", 1),
    ];
    let out = refined(triples, &facts, &Wish::default());
    let [there, known, new] = &out.steps[..] else {
        panic!("{:?}", out.steps)
    };
    assert_eq!(there.decision, DOWN);
    assert!(known.changes(Side::Far), "{known:?}");
    assert!(
        matches!(&new.decision, Decision::Hold { why: Unknown::NotPortable(_, would), .. } if would == "new-"),
        "{new:?}"
    );
}

#[test]
fn a_stub_that_has_another_name_is_not_taken_for_removed() {
    let contents = Contents::default();
    let gone = || {
        vec![seen(
            "a",
            agreed(stub("1")),
            View::Absent,
            file(10, Stamp::new("far")),
        )]
    };
    let asked = stub_question(&decided(gone())[0], &Wish::default());
    assert_eq!(asked, Some(StubQuestion::WhereIsIt));
    let with = |fact: StubFact| Facts {
        stubs: BTreeMap::from([(path("a"), fact)]),
        ..Facts::of(&contents)
    };
    let removed = Decision::Remove {
        on: Side::Far,
        makes_way: false,
    };
    let held = Decision::Hold {
        on: Side::Near,
        why: Unknown::StubElsewhere,
    };
    for (fact, wanted) in [
        (StubFact::Gone, &removed),
        (StubFact::AtItsPath, &removed),
        (StubFact::Elsewhere, &held),
    ] {
        let out = refined(gone(), &with(fact), &Wish::default());
        assert_eq!(decisions(&out.steps), [("a", wanted)], "{fact:?}");
    }
    let here = Wish {
        contents: Some(WantedContents::Here),
        ..Wish::default()
    };
    let out = refined(gone(), &with(StubFact::Elsewhere), &here);
    assert_eq!(
        decisions(&out.steps),
        [("a", &DOWN)],
        "its content is asked for at its own path"
    );
}

#[test]
fn below_a_folder_in_a_moved_stubs_place_nothing_is_carried() {
    let contents = Contents::default();
    let triples = vec![
        seen(
            "a",
            agreed(stub("1")),
            View::Present(Entry::folder()),
            file(10, Stamp::new("far")),
        ),
        new_on(Side::Near, "a/inside", 1),
        new_on(Side::Near, "b", 1),
    ];
    let facts = Facts {
        stubs: BTreeMap::from([(path("a"), StubFact::Elsewhere)]),
        ..Facts::of(&contents)
    };
    let out = refined(triples, &facts, &Wish::default());
    let inside = out
        .steps
        .iter()
        .filter(|step| step.path() == &path("a/inside"));
    assert!(
        inside.clone().count() > 0
            && inside
                .into_iter()
                .all(|step| step.decision == Decision::BelowConflict),
        "{:?}",
        out.steps
    );
    assert_eq!(out.steps.last().unwrap().decision, UP);
}

#[test]
fn a_stub_of_another_path_is_held_and_one_that_nobody_knows_is_renewed() {
    let contents = Contents::default();
    let strange = || {
        vec![seen(
            "a",
            None,
            file(10, stub("1")),
            file(10, Stamp::new("far")),
        )]
    };
    assert_eq!(
        stub_question(&decided(strange())[0], &Wish::default()),
        Some(StubQuestion::WhoseIsIt)
    );
    let with = |fact| Facts {
        stubs: BTreeMap::from([(path("a"), fact)]),
        ..Facts::of(&contents)
    };
    for (fact, is_held) in [
        (StubFact::OfThisLane, true),
        (StubFact::OfAnotherLane, false),
        (StubFact::KnownNowhere, false),
    ] {
        let out = refined(strange(), &with(fact), &Wish::default());
        let held = matches!(out.steps[0].decision, Decision::Hold { .. });
        assert_eq!(held, is_held, "{fact:?}");
    }
}

#[test]
fn fetching_and_shedding_leave_the_rest_aside() {
    let contents = Contents::new(false, [path("held")]);
    let facts = Facts::of(&contents);
    let settled = |at: &str, near: Stamp| {
        seen(
            at,
            agreed(near.clone()),
            file(10, near),
            file(10, Stamp::new("far")),
        )
    };
    let triples = || {
        let mut steps = decided(vec![new_on(Side::Near, "new", 1)]);
        for (at, near) in [
            ("held", Stamp::new("n")),
            ("here", Stamp::new("n")),
            ("stub", stub("1")),
        ] {
            steps.extend(decided(vec![settled(at, near)]));
        }
        steps
    };
    let pass = |contents| Wish {
        contents,
        ..Wish::default()
    };
    let away = refine(triples(), &facts, &pass(Some(WantedContents::Away)));
    assert_eq!(decisions(&away.steps), [("here", &Decision::Shed)]);
    assert!(away.aside.iter().any(|step| step.path() == &path("new")));
    let here = refine(triples(), &facts, &pass(Some(WantedContents::Here)));
    assert_eq!(decisions(&here.steps), [("stub", &Decision::Fetch)]);
    let neither = refine(triples(), &facts, &pass(None));
    assert!(neither.aside.is_empty());
    assert!(neither.steps.iter().any(|step| step.decision == UP));
}

#[test]
fn a_scope_takes_along_the_folders_that_have_to_be_made() {
    let contents = Contents::default();
    let folder = |at: &str| seen(at, None, View::Present(Entry::folder()), View::Absent);
    let triples = vec![
        folder("a"),
        folder("a/b"),
        new_on(Side::Near, "a/b/c", 1),
        new_on(Side::Near, "a/x", 1),
        folder("z"),
    ];
    let wish = Wish {
        scope: vec![path("a/b/c")],
        ..Wish::default()
    };
    let out = refined(triples, &Facts::of(&contents), &wish);
    let paths: Vec<&str> = out.steps.iter().map(|step| step.path().as_str()).collect();
    assert_eq!(paths, ["a", "a/b", "a/b/c"]);
}

#[test]
fn a_yes_to_a_removal_is_one_to_that_side_alone() {
    let contents = Contents::default();
    let gone = |at: &str, near: View, far: View| seen(at, agreed(Stamp::new("near")), near, far);
    let triples = vec![
        gone("here", View::Absent, file(10, Stamp::new("far"))),
        gone("there", file(10, Stamp::new("near")), View::Absent),
    ];
    let wish = Wish {
        removes_on: Some(Side::Far),
        ..Wish::default()
    };
    let out = refined(triples, &Facts::of(&contents), &wish);
    let remove = Decision::Remove {
        on: Side::Far,
        makes_way: false,
    };
    let ask = Decision::AskRemoval { on: Side::Near };
    assert_eq!(decisions(&out.steps), [("here", &remove), ("there", &ask)]);
}

#[test]
fn what_a_decision_does_is_told_of_every_kind() {
    let replaced = Decision::Carry {
        to: Side::Near,
        replaces: true,
    };
    let effects = replaced.effects();
    assert_eq!(effects.changes, Some(Side::Near));
    assert_eq!(effects.reads, Some(Side::Far));
    assert_eq!(effects.takes_out, Some(TakesOut::Replaced));
    let compared = Decision::Compare.effects();
    assert_eq!((compared.changes, compared.reads), (None, Some(Side::Far)));
    assert!(compared.is_work);
    for nothing in [
        Decision::Settled,
        Decision::Conflict,
        Decision::BelowConflict,
    ] {
        assert_eq!(nothing.effects(), katabatic_core::Effects::default());
    }
}

/// What a move takes along is at its old name on one side until the move is carried.
#[test]
fn what_is_to_be_moved_is_not_shed_at_the_name_it_will_have() {
    let contents = Contents::default();
    let wish = Wish {
        contents: Some(WantedContents::Away),
        ..Wish::default()
    };
    let restamped = |at: &str| {
        let mut base = agreed(Stamp::new("near")).unwrap();
        base.stamps.far = Stamp::new("older");
        base.content = Some(katabatic_core::Digest::of(b"0123456789"));
        let with = |stamp| Entry {
            content: base.content,
            ..Entry::file(10, stamp)
        };
        let (near, far) = (with(base.stamps.near.clone()), with(Stamp::new("far")));
        seen(at, Some(base), View::Present(near), View::Present(far))
    };
    let mut steps = decided(vec![restamped("moved/a"), restamped("stays")]);
    assert!(steps.iter().all(Step::is_restamp), "{steps:?}");
    let folder = seen("moved", None, View::Present(Entry::folder()), View::Absent);
    let mut made = decided(vec![folder]);
    made[0].decision = Decision::Move {
        on: Side::Far,
        from: path("older"),
        files: 1,
    };
    steps.extend(made);
    let out = refine(steps, &Facts::of(&contents), &wish);
    assert_eq!(decisions(&out.steps), [("stays", &Decision::Shed)]);
}
