//! Exit codes, by what a script would want to know.

use std::process::ExitCode;

use katabatic_engine::Class;

/// Finished, but something needs a person.
pub const NEEDS_A_PERSON: u8 = 3;

/// The number of an error's class.
pub fn number(class: Class) -> u8 {
    match class {
        Class::Failed | Class::Busy => 1,
        Class::Usage => 2,
        Class::NeedsPerson => NEEDS_A_PERSON,
        Class::Brake => 4,
        Class::Refused => 5,
        Class::NotThere => 6,
        Class::Stopped => 130,
    }
}

/// The exit code of an error's class.
pub fn code(class: Class) -> ExitCode {
    ExitCode::from(number(class))
}

/// The code of a command that only showed what it would do, since nobody could be asked and no yes was typed; where there
/// was nothing to do at all, it is done.
pub fn only_shown(anything: bool) -> ExitCode {
    ExitCode::from(if anything { NEEDS_A_PERSON } else { 0 })
}

/// Of several ends, the one a script should hear of first: a failure before a question, a question before nothing.
pub fn worse(a: u8, b: u8) -> u8 {
    let rank = |code: u8| {
        [0, NEEDS_A_PERSON, 4, 1, 2, 5, 6, 130]
            .iter()
            .position(|&known| known == code)
            .unwrap_or(3)
    };
    if rank(a) >= rank(b) { a } else { b }
}
