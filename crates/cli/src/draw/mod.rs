//! How answers look: on a terminal, in a pipe, and as JSON.

pub mod audit_report;
pub mod audit_words;
pub mod bars;
pub mod days;
pub mod error;
pub mod folder_listing;
pub mod json;
pub mod listing;
pub mod look;
pub mod new_file;
pub mod page;
pub mod progress;
pub mod run_words;
pub mod state_tree;
pub mod table;
pub mod ticket_page;
pub mod time;
pub mod tree;
pub mod urgency;

use crate::common::{Common, HowFar};
use crate::draw::look::{Drawn, Look};
use crate::draw::progress::Shown;
use crate::draw::table::Cell;
use crate::output;
use std::io::Write;
use std::path::{Path, PathBuf};

use katabatic_core::{Agreement, Direction, Lies, RelPath, Share, words};
use katabatic_engine::choose::Weighed;

/// What the terminal can show and the person wants.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    /// Whether marks may stand beside words.
    pub marks: bool,
    /// Whether there is a terminal to draw progress on.
    pub terminal: bool,
    /// How progress is told.
    pub progress: Shown,
    /// The width of a line, in columns; none in a pipe.
    pub width: Option<u16>,
}

impl Style {
    /// The style of this run.
    pub fn of(common: &Common) -> Style {
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"]
            .iter()
            .find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()));
        let utf8 = locale.is_some_and(|locale| {
            locale
                .to_ascii_lowercase()
                .replace('-', "")
                .contains("utf8")
        });
        let stdout = console::Term::stdout();
        let columns = std::env::var("COLUMNS")
            .ok()
            .and_then(|columns| columns.parse().ok());
        let terminal = console::Term::stderr().is_term() && !common.quiet && !common.json;
        Style {
            marks: utf8 && !common.plain,
            terminal,
            progress: match common.progress {
                HowFar::Lines => Shown::Lines,
                HowFar::Auto if terminal => Shown::Drawn,
                HowFar::Auto | HowFar::None => Shown::Nothing,
            },
            width: if stdout.is_term() {
                columns.or_else(|| stdout.size_checked().map(|(_, width)| width))
            } else {
                columns
            },
        }
    }

    /// A state's mark and word.
    pub fn state(self, agreement: Agreement) -> String {
        if self.marks {
            format!("{} {}", agreement.mark(), agreement.word())
        } else {
            agreement.word().to_owned()
        }
    }

    /// The same as it stands in a table or a list, in its colour.
    pub fn state_cell(self, agreement: Agreement) -> Cell {
        Cell::of(Look::of(agreement), self.state(agreement))
    }

    /// Where content lies, with its mark and word.
    pub fn lies(self, lies: Lies) -> String {
        match self.marks && !lies.mark().is_empty() {
            true => format!("{} {}", lies.mark(), lies.word()),
            false => lies.word().to_owned(),
        }
    }

    /// The sign between the two places of a lane: which way it carries.
    pub fn arrow(self, direction: Direction) -> &'static str {
        match (direction, self.marks) {
            (Direction::TwoWay, _) => self.two_way(),
            (Direction::Up, true) => "→",
            (Direction::Up, false) => "->",
            (Direction::Down, true) => "←",
            (Direction::Down, false) => "<-",
        }
    }

    /// How much of a folder is taken, with a mark beside the words.
    pub fn share(self, share: Share) -> String {
        let mark = match share {
            Share::Whole => "■",
            Share::Part => "◧",
            Share::None => "□",
        };
        if self.marks {
            format!("{mark} {}", share.word())
        } else {
            share.word().to_owned()
        }
    }

    /// The sign between two places that are the same.
    pub fn two_way(self) -> &'static str {
        if self.marks { "↔" } else { "<->" }
    }
}

/// Writes a line to standard output; nothing in it acts on a terminal or begins another line.
pub fn line(text: impl AsRef<str>) {
    output::line(text.as_ref());
}

/// The same where errors go, which nobody need read.
pub fn say(text: impl AsRef<str>) {
    output::error_line(text.as_ref());
}

/// Asks something there, in a line that the answer ends.
pub fn ask(question: impl AsRef<str>) {
    // What the question is about was said before it.
    output::give_out();
    output::error_piece(&words::harmless(question.as_ref()));
}

/// Where the log goes: to standard error, with nothing in it that acts on a terminal. Each piece is one line, behind what
/// all of them begin with.
pub struct Log(pub &'static str);

impl Write for Log {
    fn write(&mut self, text: &[u8]) -> std::io::Result<usize> {
        let line = String::from_utf8_lossy(text);
        let line = line.strip_suffix('\n').unwrap_or(&line);
        output::error_line(&format!("{}{}", self.0, line.trim_start()));
        Ok(text.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// A line of a named fact, wrapped to the terminal below itself; nothing in it can fake a line.
pub fn field(style: Style, name: &str, text: &str) {
    const NAME: usize = 12;
    let room = usize::from(style.width.unwrap_or(u16::MAX))
        .saturating_sub(NAME + 2)
        .max(30);
    for (at, part) in wrapped(&shown_text(text), room).iter().enumerate() {
        let name = if at == 0 { name } else { "" };
        Drawn::of(Look::Aside, &format!("  {name:<NAME$}"))
            .with(Look::Fine, part)
            .print();
    }
}

/// A sentence, wrapped to the terminal; nothing in it can fake a line.
pub fn sentence(style: Style, indent: usize, text: &str) {
    let room = usize::from(style.width.unwrap_or(u16::MAX))
        .saturating_sub(indent)
        .max(30);
    for part in wrapped(&shown_text(text), room) {
        line(format!("{}{part}", " ".repeat(indent)));
    }
}

/// A folder of this computer as people write it: `~/Scores` where it lies in the person's home.
pub fn at_home(path: &Path) -> String {
    let home = std::env::var_os("HOME").map(PathBuf::from);
    let below = home
        .filter(|home| home.parent().is_some())
        .and_then(|home| path.strip_prefix(home).ok());
    shown_text(&match below {
        Some(below) if below == Path::new("") => "~".into(),
        Some(below) => format!("~/{}", below.display()),
        None => path.display().to_string(),
    })
}

/// A path as it may be shown: nothing in a name can move the cursor or fake a line.
pub fn shown(path: &RelPath) -> String {
    if path.is_root() {
        return "(top)".to_owned();
    }
    shown_text(path.as_str())
}

/// A text in one line in which nothing acts on a terminal.
pub fn shown_text(text: &str) -> String {
    words::harmless(text)
}

/// A text in lines of at most `room` columns, broken between words.
pub fn wrapped(text: &str, room: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let Some(last) = lines.last_mut() else {
            continue;
        };
        if last.is_empty() {
            last.push_str(word);
        } else if console::measure_text_width(last) + 1 + console::measure_text_width(word) <= room
        {
            last.push(' ');
            last.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// A name that fits: what is in the middle of it goes, so that how it begins and how it ends can be read.
pub fn shortened(name: &str, room: usize) -> String {
    const LEFT_OUT: &str = "[…]";
    if console::measure_text_width(name) <= room {
        return name.to_owned();
    }
    let half = room.saturating_sub(LEFT_OUT.chars().count()) / 2;
    let taken = |characters: &mut dyn Iterator<Item = char>| {
        let (mut taken, mut wide) = (Vec::new(), 0);
        for c in characters {
            let mut buffer = [0; 4];
            wide += console::measure_text_width(c.encode_utf8(&mut buffer));
            if wide > half {
                break;
            }
            taken.push(c);
        }
        taken
    };
    let begins: String = taken(&mut name.chars()).into_iter().collect();
    let ends: String = taken(&mut name.chars().rev()).into_iter().rev().collect();
    format!("{begins}{LEFT_OUT}{ends}")
}

/// In tree order, but the largest of the folders of one folder first.
pub fn largest_first(weighed: &[Weighed]) -> Vec<&Weighed> {
    let mut ordered = Vec::new();
    below(weighed, &RelPath::root(), &mut ordered);
    ordered
}

fn below<'w>(weighed: &'w [Weighed], folder: &RelPath, ordered: &mut Vec<&'w Weighed>) {
    let mut inside: Vec<&Weighed> = weighed
        .iter()
        .filter(|one| one.path.parent().as_ref() == Some(folder))
        .collect();
    inside.sort_by_key(|one| std::cmp::Reverse(one.bytes));
    for one in inside {
        ordered.push(one);
        below(weighed, &one.path, ordered);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_break_between_words() {
        assert_eq!(wrapped("one two three", 7), ["one two", "three"]);
        assert_eq!(wrapped("longer than seven", 7), ["longer", "than", "seven"]);
        assert_eq!(wrapped("", 7), [""]);
    }

    #[test]
    fn long_names_are_shortened_in_the_middle() {
        assert_eq!(shortened("march.pdf", 20), "march.pdf");
        assert_eq!(
            shortened("A very long name of a score, part 2.pdf", 21),
            "A very lo[…]art 2.pdf"
        );
    }
}
