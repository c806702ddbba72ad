//! Asking for the passphrase of the secrets: from the environment, or on the terminal.

use std::io::IsTerminal;

use katabatic_engine::Error;
use katabatic_sides::secret::Secret;

const VARIABLE: &str = "KATABATIC_PASSPHRASE";

/// Asks for it; a new one is typed twice.
pub fn ask(new: bool) -> Result<Secret, Error> {
    let what = "opening the secrets";
    if let Ok(text) = std::env::var(VARIABLE)
        && !text.is_empty()
    {
        return Ok(Secret::new(text));
    }
    let wrong = |why: &str, next: &str| Err(Error::usage(what, why, next));
    if !std::io::stdin().is_terminal() {
        return wrong(
            "there is no terminal to ask for the passphrase on",
            "Set KATABATIC_PASSPHRASE.",
        );
    }
    let typed = |prompt: &str| {
        rpassword::prompt_password(prompt)
            .map_err(|why| Error::usage(what, why.to_string(), "Set KATABATIC_PASSPHRASE."))
    };
    let first = typed(if new {
        "A new passphrase for the secrets: "
    } else {
        "Passphrase of the secrets: "
    })?;
    if first.is_empty() {
        return wrong("it is empty", "Type one; nothing was saved.");
    }
    if new && typed("The same again: ")? != first {
        return wrong("the two are not the same", "Try again; nothing was saved.");
    }
    Ok(Secret::new(first))
}

/// Asks for what a server wants to know at sign-in; none where there is no terminal.
pub fn ask_step(question: &str) -> Option<Secret> {
    if !std::io::stdin().is_terminal() {
        return None;
    }
    // The question is the server's: nothing in it may steer the terminal.
    let question = crate::draw::shown_text(question);
    rpassword::prompt_password(format!("{question} "))
        .ok()
        .map(Secret::new)
}
