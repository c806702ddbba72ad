//! How weight and colour are given to what is drawn on a terminal. They only add to words and marks: nothing is told by them
//! alone, and in a pipe, with `NO_COLOR` or on a terminal that cannot, there are none.

use std::io::IsTerminal;
use std::sync::OnceLock;

use katabatic_core::{Agreement, words};

use crate::common::Colour;
use crate::output;

/// What a piece of text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// The name of what follows.
    Heading,
    /// What is good to know and rarely read.
    Aside,
    /// All is as it should be.
    Fine,
    /// It goes on by itself.
    UnderWay,
    /// It waits for somebody.
    WaitsForYou,
    /// It cannot be done as things are.
    Cannot,
}

impl Look {
    /// That of a state.
    pub fn of(agreement: Agreement) -> Look {
        match agreement {
            Agreement::Settled => Look::Fine,
            Agreement::Waiting(_) | Agreement::Moving(_) => Look::UnderWay,
            Agreement::Conflict | Agreement::Asking(_) | Agreement::KeptBack => Look::WaitsForYou,
            Agreement::Stuck => Look::Cannot,
            Agreement::Drift | Agreement::LeftOut => Look::Aside,
        }
    }

    /// How it begins (ECMA-48, SGR). Of the colours, only those that can be read on dark and on light, and told from each
    /// other by people who see fewer.
    fn begins(self) -> &'static str {
        match self {
            Look::Heading => "\u{1b}[1m",
            Look::Aside => "\u{1b}[2m",
            Look::Fine => "",
            Look::UnderWay => "\u{1b}[36m",
            Look::WaitsForYou => "\u{1b}[1;35m",
            Look::Cannot => "\u{1b}[1;31m",
        }
    }
}

/// Whether this run gives any.
static GIVEN: OnceLock<bool> = OnceLock::new();

/// Settles it, from what was typed and what the environment says (no-color.org; `CLICOLOR_FORCE`).
pub fn decide(wanted: Colour, plain: bool) {
    let set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
    let given = match wanted {
        _ if plain => false,
        Colour::Always => true,
        Colour::Never => false,
        Colour::Auto if set("NO_COLOR") => false,
        Colour::Auto if set("CLICOLOR_FORCE") => true,
        Colour::Auto => std::io::stdout().is_terminal() && !dumb,
    };
    let _ = GIVEN.set(given);
}

/// A line that is put together of pieces. Only this type reaches the terminal with colour in it, and it makes harmless
/// whatever is put into it.
#[derive(Clone, Debug, Default)]
pub struct Drawn(String);

impl Drawn {
    /// A line of one piece.
    pub fn of(look: Look, text: &str) -> Drawn {
        Drawn::default().with(look, text)
    }

    /// With a piece more.
    pub fn with(mut self, look: Look, text: &str) -> Drawn {
        let text = words::harmless(text);
        let begins = match GIVEN.get() {
            Some(true) => look.begins(),
            Some(false) | None => "",
        };
        // Blanks beside it bear no colour, so that a line can end where its text ends.
        let inner = text.trim_matches(' ');
        if begins.is_empty() || inner.is_empty() {
            self.0.push_str(&text);
            return self;
        }
        let before = text.len() - text.trim_start_matches(' ').len();
        let after = before + inner.len();
        self.0.push_str(&text[..before]);
        self.0.push_str(begins);
        self.0.push_str(inner);
        self.0.push_str("\u{1b}[0m");
        self.0.push_str(&text[after..]);
        self
    }

    /// Writes it.
    pub fn print(&self) {
        output::drawn_line(self.0.trim_end());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_put_into_a_line_acts_on_no_terminal() {
        let drawn = Drawn::of(Look::Heading, "a\u{1b}[2Jb\nc").with(Look::Fine, "  d");
        assert_eq!(drawn.0, "a\\u{1b}[2Jb\\nc  d");
    }
}
