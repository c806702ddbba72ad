//! Options whose values are a few words, each of which stands for a value of the core or the engine.
//!
//! What a value is called stands with the value; here stand the words of the help beside it, and what reads it.

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use katabatic_core::{Direction, Drift, NewFolders, Removals, RunClass, Side, Updates};
use katabatic_engine::config::{ProofBy, SignIn};

/// A value that is typed by its name.
pub trait Choice: Copy + Send + Sync + 'static {
    /// All of them, with what the help says of each.
    const ALL: &'static [(Self, &'static str)];

    /// What it is called.
    fn name(self) -> &'static str;
}

/// Reads one of the values, and tells the help which there are.
pub fn choice<T: Choice>() -> impl TypedValueParser<Value = T> {
    let values = T::ALL
        .iter()
        .map(|(value, help)| PossibleValue::new(value.name()).help(*help));
    PossibleValuesParser::new(values).try_map(|typed: String| {
        let mut all = T::ALL.iter().map(|(value, _)| *value);
        all.find(|value| value.name() == typed)
            .ok_or_else(|| format!("{typed} is none of them"))
    })
}

impl Choice for Direction {
    const ALL: &'static [(Direction, &'static str)] = &[
        (Direction::TwoWay, "Changes on each side go to the other"),
        (Direction::Up, "Near to far only"),
        (Direction::Down, "Far to near only"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for Removals {
    const ALL: &'static [(Removals, &'static str)] = &[
        (Removals::Carry, "Carried; what goes is kept in the spares"),
        (
            Removals::Keep,
            "What is removed on one side stays on the other",
        ),
        (Removals::Ask, "Each waits for a yes"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for Drift {
    const ALL: &'static [(Drift, &'static str)] = &[
        (Drift::Leave, "Reported and left"),
        (
            Drift::Restore,
            "Put right from the source; the drifted version goes to the spares",
        ),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for Updates {
    const ALL: &'static [(Updates, &'static str)] = &[
        (
            Updates::Replace,
            "They take the older one's place, which goes to the spares",
        ),
        (
            Updates::Add,
            "They go beside the older one, under a dated name",
        ),
        (Updates::Never, "They are not carried"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for NewFolders {
    const ALL: &'static [(NewFolders, &'static str)] = &[
        (NewFolders::Take, "They come, too"),
        (NewFolders::Skip, "They stay on the other side alone"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for ProofBy {
    const ALL: &'static [(ProofBy, &'static str)] = &[
        (
            ProofBy::Content,
            "The digest that the server tells, or reading it back",
        ),
        (ProofBy::Tags, "Its version tag"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for Side {
    const ALL: &'static [(Side, &'static str)] = &[
        (Side::Near, "What is on this computer counts"),
        (Side::Far, "What is on the far side counts"),
    ];

    fn name(self) -> &'static str {
        Side::name(self)
    }
}

impl Choice for SignIn {
    const ALL: &'static [(SignIn, &'static str)] = &[
        (
            SignIn::Device,
            "By a code that the person types on any device",
        ),
        (SignIn::Basic, "By name and password"),
        (SignIn::Key, "By a key in a file, by SFTP (see --key)"),
        (SignIn::Agent, "By a key that the SSH agent holds, by SFTP"),
    ];

    fn name(self) -> &'static str {
        self.word()
    }
}

impl Choice for RunClass {
    const ALL: &'static [(RunClass, &'static str)] = &[
        (RunClass::Fine, "As it should"),
        (RunClass::NeedsPerson, "With something that needs a person"),
        (RunClass::Failed, "Not at all: it failed or was stopped"),
        (RunClass::Running, "Not yet: it runs now"),
        (
            RunClass::CutOff,
            "In the middle: the program or the computer went down",
        ),
    ];

    fn name(self) -> &'static str {
        match self {
            RunClass::Fine => "fine",
            RunClass::NeedsPerson => "person",
            RunClass::Failed => "failed",
            RunClass::Running => "running",
            RunClass::CutOff => "cut-off",
        }
    }
}
