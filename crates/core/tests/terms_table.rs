//! The tables of docs/guide.md: what a pass does under each of the terms. They are made here, and checked there.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

use std::sync::Arc;

use katabatic_core::reconcile::reconcile;
use katabatic_core::{
    Base, Digest, Direction, Drift, Entry, Kind, PerSide, Reconciler, RelPath, Removals, Selection,
    Side, Stamp, Terms, Triple, Updates, View, words,
};

/// A side as people see it, beside what was agreed.
#[derive(Clone, Copy, PartialEq)]
enum Seen {
    Nothing,
    Agreed,
    Edited,
}

fn view(side: Side, seen: Seen) -> View {
    let file = |stamp: &str, text: &str| {
        View::Present(Entry {
            content: Some(Digest::of(text.as_bytes())),
            ..Entry::file(text.len() as u64, Stamp::new(stamp))
        })
    };
    match seen {
        Seen::Nothing => View::Absent,
        Seen::Agreed => file("agreed", "old"),
        Seen::Edited => file("newer", side.name()),
    }
}

/// What a pass does about one file, in the words of the plan.
fn does(known: bool, near: Seen, far: Seen, terms: Terms) -> String {
    let base = known.then(|| Base {
        kind: Kind::File,
        size: 3,
        content: Some(Digest::of(b"old")),
        stamps: PerSide {
            near: Stamp::new("agreed"),
            far: Stamp::new("agreed"),
        },
        listed: PerSide {
            near: true,
            far: true,
        },
        away: None,
    });
    let triple = Triple {
        path: RelPath::parse("file").unwrap(),
        base,
        views: PerSide {
            near: view(Side::Near, near),
            far: view(Side::Far, far),
        },
    };
    let (steps, _) = reconcile(
        [triple],
        Reconciler::new(terms, Arc::new(Selection::default())),
    );
    steps
        .first()
        .map_or_else(|| "nothing".into(), |step| words::action(&step.decision))
}

fn table(head: &[&str], rows: Vec<Vec<String>>) -> String {
    let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
    let mut text = line(head.iter().map(|cell| (*cell).to_owned()).collect());
    text.push_str(&line(head.iter().map(|_| "---".to_owned()).collect()));
    rows.into_iter().for_each(|row| text.push_str(&line(row)));
    text
}

const SITUATIONS: [(&str, bool, Seen, Seen); 11] = [
    ("unchanged on both sides", true, Seen::Agreed, Seen::Agreed),
    ("new here", false, Seen::Edited, Seen::Nothing),
    ("new there", false, Seen::Nothing, Seen::Edited),
    (
        "new on both sides, different",
        false,
        Seen::Edited,
        Seen::Edited,
    ),
    ("edited here", true, Seen::Edited, Seen::Agreed),
    ("edited there", true, Seen::Agreed, Seen::Edited),
    (
        "edited on both sides, differently",
        true,
        Seen::Edited,
        Seen::Edited,
    ),
    ("removed here", true, Seen::Nothing, Seen::Agreed),
    ("removed there", true, Seen::Agreed, Seen::Nothing),
    (
        "removed here, edited there",
        true,
        Seen::Nothing,
        Seen::Edited,
    ),
    (
        "edited here, removed there",
        true,
        Seen::Edited,
        Seen::Nothing,
    ),
];

fn by_direction() -> String {
    let with = |direction, drift| Terms {
        drift,
        ..Terms::of(direction)
    };
    let columns = [
        Terms::of(Direction::TwoWay),
        with(Direction::Up, Drift::Leave),
        with(Direction::Up, Drift::Restore),
        with(Direction::Down, Drift::Leave),
        with(Direction::Down, Drift::Restore),
    ];
    let row = |(situation, known, near, far): (&str, bool, Seen, Seen)| {
        let cells = columns.iter().map(|terms| does(known, near, far, *terms));
        std::iter::once(situation.to_owned()).chain(cells).collect()
    };
    table(
        &[
            "the file is",
            "two-way",
            "up",
            "up, drift = restore",
            "down",
            "down, drift = restore",
        ],
        SITUATIONS.into_iter().map(row).collect(),
    )
}

fn by_removals() -> String {
    let removed = [SITUATIONS[7], SITUATIONS[8], SITUATIONS[9]];
    let mut rows = Vec::new();
    for direction in Direction::ALL {
        for (situation, known, near, far) in removed {
            let cells = Removals::ALL.into_iter().map(|removals| {
                let terms = Terms {
                    removals,
                    ..Terms::of(direction)
                };
                does(known, near, far, terms)
            });
            let lead = [direction.word().to_owned(), situation.to_owned()];
            rows.push(lead.into_iter().chain(cells).collect());
        }
    }
    table(&["direction", "the file is", "carry", "keep", "ask"], rows)
}

fn by_updates() -> String {
    let mut rows = Vec::new();
    for (direction, at) in [(Direction::Up, 4), (Direction::Down, 5)] {
        let (situation, known, near, far) = SITUATIONS[at];
        let cells = Updates::ALL.into_iter().map(|updates| {
            let terms = Terms {
                updates,
                ..Terms::of(direction)
            };
            does(known, near, far, terms)
        });
        let lead = [direction.word().to_owned(), situation.to_owned()];
        rows.push(lead.into_iter().chain(cells).collect());
    }
    table(
        &["direction", "the file is", "replace", "add", "never"],
        rows,
    )
}

#[test]
fn the_guide_says_what_a_pass_does() {
    let guide =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide.md"))
            .unwrap();
    let missing: Vec<String> = [by_direction(), by_removals(), by_updates()]
        .into_iter()
        .filter(|table| !guide.contains(table))
        .collect();
    assert!(
        missing.is_empty(),
        "docs/guide.md does not have:\n\n{}",
        missing.join("\n")
    );
}
