//! The reasons behind a decision, in a technician's words.
//!
//! Times are handed in as a function, because what zone and format a person reads is not the core's business.

mod run_log;

pub use crate::quantity::{bytes, count, grouped, span};
pub use run_log::{deed, item_outcome, kept_for, run_outcome, spare_cause, spare_cause_told};

use crate::decide::Change;
use crate::selection::LeftOutBy;
use crate::{Agreement, Decision, EditTime, Entry, Kind, Side, SideNames, Step, Unknown};

/// What a step would do, in a word or two: `carry up`, `remove here`.
#[must_use]
pub fn action(decision: &Decision) -> String {
    match decision.deed() {
        Some(done) => deed(&done),
        None => standing(decision),
    }
}

/// What is said of a path that nothing is done with.
fn standing(decision: &Decision) -> String {
    match decision {
        Decision::Settled
        | Decision::KeptAway { .. }
        | Decision::Record
        | Decision::Forget
        | Decision::Carry { .. }
        | Decision::CarryBeside { .. }
        | Decision::MakeStub { .. }
        | Decision::Fetch
        | Decision::Shed
        | Decision::MakeFolder { .. }
        | Decision::Move { .. }
        | Decision::DropHere { .. }
        | Decision::Remove { .. }
        | Decision::Compare => "nothing".into(),
        Decision::Conflict => "conflict".into(),
        Decision::KeepFolder { on } => format!("keep folder {}", on.here_or_there()),
        Decision::KeepRemoved { on } => format!("keep {}", on.here_or_there()),
        Decision::AskRemoval { on } => format!("ask to remove {}", on.here_or_there()),
        Decision::Drift { .. } => Agreement::from(decision).word().into(),
        Decision::NotCarried { .. } => "not carried".into(),
        Decision::OldStays { on } => format!("older stays {}", on.here_or_there()),
        Decision::LeftOut { .. } | Decision::Ruled(_) => "left out".into(),
        Decision::Hold { .. } | Decision::BelowConflict => "hold".into(),
    }
}

/// How a person is told: what is not the core's to know.
#[derive(Clone, Copy)]
pub struct Telling<'a> {
    /// A time as that person reads it; empty, where no times are to be told.
    pub time: &'a dyn Fn(EditTime) -> String,
    /// What the lane's sides are called.
    pub sides: SideNames,
}

impl Telling<'_> {
    fn at(&self, side: Side) -> &'static str {
        self.sides.at(side)
    }
}

fn when(entry: Option<&Entry>, telling: &Telling<'_>) -> String {
    match entry.and_then(|entry| entry.edited.or(entry.received)) {
        Some(at) => Some((telling.time)(at))
            .filter(|time| !time.is_empty())
            .map_or_else(String::new, |time| format!(" {time}")),
        None => String::new(),
    }
}

fn change_words(step: &Step, side: Side, telling: &Telling<'_>) -> String {
    let at = telling.at(side);
    let entry = step.entry(side);
    match step.change(side) {
        Change::Nothing => format!("not {at} yet"),
        Change::Same => format!("unchanged {at}"),
        Change::Changed => format!("changed {at}{}", when(entry, telling)),
        Change::New => format!("new {at}"),
        Change::Removed => format!("removed {at}"),
        Change::Rekinded if step.view(side).is_folder() => format!("now a folder {at}"),
        Change::Rekinded => format!("now a file {at}"),
        Change::Odd(odd) => format!("{at} {}", odd.reason()),
        Change::Unknown(why) => format!("unknown {at}: {why}"),
    }
}

/// Why a step was decided as it was: `changed there 09:20, unchanged here`.
#[must_use]
pub fn reason(step: &Step, telling: &Telling<'_>) -> String {
    let both = |first: Side| {
        format!(
            "{}, {}",
            change_words(step, first, telling),
            change_words(step, first.other(), telling)
        )
    };
    match &step.decision {
        Decision::Settled | Decision::Record => match (&step.near, &step.far) {
            (Change::New, Change::New) => "the same on both sides".into(),
            _ => "the same on both sides, as agreed".into(),
        },
        Decision::KeptAway { away } => {
            format!(
                "removed {}, and that removal is not carried",
                telling.at(*away)
            )
        }
        Decision::Forget => "gone on both sides".into(),
        Decision::Carry { to, .. } | Decision::MakeFolder { on: to } => {
            let from = to.other();
            match (step.change(from), step.change(*to)) {
                (Change::New, Change::Nothing) => format!("new {}", telling.at(from)),
                (_, Change::Removed) if step.view(from).is_folder() => {
                    format!(
                        "removed {}, but something in it must stay: the folder comes back",
                        telling.at(*to)
                    )
                }
                (_, Change::Removed) => format!("{}: the edit wins and it comes back", both(from)),
                _ => both(from),
            }
        }
        Decision::MakeStub { .. } => match (step.change(Side::Far), step.change(Side::Near)) {
            (Change::New, Change::Nothing) => {
                format!("new {}; its content stays there", telling.at(Side::Far))
            }
            _ => format!(
                "{}; its content stays {}",
                both(Side::Far),
                telling.at(Side::Far)
            ),
        },
        Decision::Fetch => format!("a stub whose content is to be {}", telling.at(Side::Near)),
        Decision::Shed => {
            format!(
                "this version is {}; its content is dropped {}, nothing is removed",
                telling.at(Side::Far),
                telling.at(Side::Near)
            )
        }
        Decision::Move { on, from, files } => {
            let along = if step.seen.views.near.is_folder() || step.seen.views.far.is_folder() {
                format!(", with {} in it", count(*files, "file", "files"))
            } else {
                String::new()
            };
            format!("was {from} {}{along}", telling.at(on.other()))
        }
        Decision::DropHere { moved_to } => format!(
            "moved {0} to {moved_to}, which is not taken: the copy {1} goes, nothing is removed {0}",
            telling.at(Side::Far),
            telling.at(Side::Near)
        ),
        Decision::Remove {
            makes_way: true, ..
        } => "makes way for what the other side has in its place".into(),
        Decision::Remove { on, .. } => both(on.other()),
        Decision::Compare => {
            let how = match (&step.near, &step.far) {
                (Change::New, Change::New) => "new",
                _ => "changed",
            };
            format!("{how} on both sides, of the same length: both are read and compared")
        }
        Decision::Conflict => match (kind_of(step, Side::Near), kind_of(step, Side::Far)) {
            (Some(near), Some(far)) if near != far => {
                format!(
                    "{} {} and {} {}; neither is touched",
                    kind_words(near),
                    telling.at(Side::Near),
                    kind_words(far),
                    telling.at(Side::Far)
                )
            }
            _ => format!("{}; neither is touched", both(Side::Near)),
        },
        Decision::KeepFolder { on } => format!(
            "removed {}, but what the lane leaves out lies in it {}: the folder stays with just that",
            telling.at(on.other()),
            telling.at(*on)
        ),
        Decision::KeepRemoved { on } => format!(
            "removed {}; this lane keeps what was removed, so it stays {}",
            telling.at(on.other()),
            telling.at(*on)
        ),
        Decision::AskRemoval { on } => format!(
            "removed {}; it goes {} too only after a yes",
            telling.at(on.other()),
            telling.at(*on)
        ),
        Decision::Drift { on, keeps_back } => drift(step, (*on, *keeps_back), telling),
        Decision::NotCarried { on } => format!(
            "only {}; this lane carries {} only and did not put it there",
            telling.at(*on),
            on.towards()
        ),
        Decision::CarryBeside { to } => format!(
            "changed {}{}; it goes beside the older version {}",
            telling.at(to.other()),
            when(step.entry(to.other()), telling),
            telling.at(*to)
        ),
        Decision::OldStays { on } => format!(
            "changed {}{}, but this lane never carries new versions: the older one stays {}",
            telling.at(on.other()),
            when(step.entry(on.other()), telling),
            telling.at(*on)
        ),
        Decision::Ruled(by) => left_out_by(by),
        Decision::LeftOut { odd, .. } => odd.reason().into(),
        Decision::Hold {
            why: Unknown::ReadOnly,
            on,
        } => format!(
            "not carried {}: nothing may be written {}, it can only be read. Whoever owns it can give the right to write; or the lane carries {2} only (katabatic lane change LANE --direction {2})",
            on.towards(),
            telling.at(*on),
            on.other().towards()
        ),
        Decision::Hold {
            on,
            why: why @ Unknown::NotPortable(..),
        } => format!("not carried {}: {why}", on.towards()),
        Decision::Hold {
            why:
                why
                @ (Unknown::StubGone | Unknown::NoRoom(..) | Unknown::BeingWritten | Unknown::Coming),
            ..
        } => why.to_string(),
        Decision::Hold { on, why } if step.view(*on).is_folder() => {
            format!("what lies in it is unknown {}: {why}", telling.at(*on))
        }
        Decision::Hold { on, why } => format!("unknown {}: {why}", telling.at(*on)),
        Decision::BelowConflict => "lies below a conflict; settle that first".into(),
    }
}

/// What became of a file on the receiving side of a one-way lane, and how the source stands to it.
fn drift(step: &Step, (on, keeps_back): (Side, bool), telling: &Telling<'_>) -> String {
    let source = match step.change(on.other()) {
        Change::Same => String::new(),
        _ => format!(", {}", change_words(step, on.other(), telling)),
    };
    let so = match keeps_back {
        true => format!(
            "; so the version {} does not go {} until that is settled",
            telling.at(on.other()),
            on.towards()
        ),
        false => "; left as it is".to_owned(),
    };
    format!(
        "{} by somebody else than this lane{source}{so}",
        change_words(step, on, telling)
    )
}

/// What leaves a path out, in words.
#[must_use]
pub fn left_out_by(by: &LeftOutBy) -> String {
    match by {
        LeftOutBy::Rule(rule) => format!("the rule {rule} leaves it out"),
        LeftOutBy::Skipped(folder) => format!("{folder} is not taken"),
        LeftOutBy::NewFolder(_) => "a new folder there; this lane takes none by itself".into(),
        LeftOutBy::StandsHere(folder) => format!(
            "it stands here, but the lane does not take {folder} from there: take that folder, or give this one another name"
        ),
    }
}

/// What leaves something out, as a person calls it: the rule as it was written, or the folder.
#[must_use]
pub fn left_out_name(by: &LeftOutBy) -> String {
    match by {
        LeftOutBy::Rule(rule) => rule.clone(),
        LeftOutBy::Skipped(folder)
        | LeftOutBy::NewFolder(folder)
        | LeftOutBy::StandsHere(folder) => format!("/{folder}/"),
    }
}

fn kind_of(step: &Step, side: Side) -> Option<Kind> {
    step.entry(side).map(|entry| entry.kind)
}

fn kind_words(kind: Kind) -> &'static str {
    match kind {
        Kind::File => "a file",
        Kind::Folder => "a folder",
        Kind::Odd(odd) => odd.reason(),
    }
}

/// Whether a character does more to a terminal, or to whatever else shows a text, than to stand there: it moves, colours,
/// ends the line, or turns round what stands beside it (Unicode Standard Annex #9, explicit directional formatting).
#[must_use]
pub fn acts(c: char) -> bool {
    let turns = matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    c.is_control() || turns || matches!(c, '\u{2028}' | '\u{2029}')
}

/// A text in one line, with what [`acts`] written out: nothing in a name can move the cursor or fake a line.
#[must_use]
pub fn harmless(text: &str) -> String {
    let written = |c: char| match acts(c) {
        true => c.escape_default().collect::<Vec<_>>(),
        false => vec![c],
    };
    text.chars().flat_map(written).collect()
}

/// The same of a text of several lines, which stay.
#[must_use]
pub fn harmless_lines(text: &str) -> String {
    let lines: Vec<String> = text.split('\n').map(harmless).collect();
    lines.join("\n")
}

/// A path as it can be typed into a shell: bash, dash and zsh read back just this.
///
/// What would act on a terminal is written as `printf` reads it. A text that ends with a line's end is written in a form
/// that dash does not know before its version 0.5.13: a shell takes line ends from the end of what a command says.
#[must_use]
pub fn typed(text: &str) -> String {
    // An option would begin so.
    match text.starts_with('-') {
        true => quoted(&format!("./{text}")),
        false => quoted(text),
    }
}

/// An argument, be it an option or a path, as it can be typed into a shell; the same otherwise.
#[must_use]
pub fn quoted(text: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "/._-@+,:".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        return text.to_owned();
    }
    if !text.chars().any(acts) {
        return format!("'{}'", text.replace('\'', r"'\''"));
    }
    let octal = |c: char| {
        let mut bytes = [0; 4];
        let bytes = c.encode_utf8(&mut bytes).bytes();
        bytes
            .map(|byte| format!(r"\{byte:03o}"))
            .collect::<String>()
    };
    let stays = |c: char| plain(c) || c == ' ' || (!c.is_ascii() && !acts(c));
    let escaped: String = text
        .chars()
        .map(|c| match stays(c) {
            true => c.to_string(),
            false => octal(c),
        })
        .collect();
    match text.ends_with('\n') {
        true => format!("$'{escaped}'"),
        // Read as a format, in which this is the only other sign.
        false => format!("\"$(printf '{}')\"", escaped.replace(r"\045", "%%")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_acts_is_shown() {
        assert_eq!(harmless("a\nb\u{1b}[2J é🎻"), "a\\nb\\u{1b}[2J é🎻");
        assert_eq!(
            harmless("gpj.\u{202e}exe\u{2066}\u{9b}"),
            "gpj.\\u{202e}exe\\u{2066}\\u{9b}"
        );
        assert_eq!(harmless_lines("a\nb\rc"), "a\nb\\rc");
    }

    #[test]
    fn a_path_can_be_typed_as_it_is_shown() {
        assert_eq!(typed("/a/b.txt"), "/a/b.txt");
        assert_eq!(typed("/a b"), "'/a b'");
        assert_eq!(typed("it's"), r"'it'\''s'");
        assert_eq!(typed("a\nb"), r#""$(printf 'a\012b')""#);
        assert_eq!(
            typed("a\n\\';touch x;#%"),
            r#""$(printf 'a\012\134\047\073touch x\073\043%%')""#
        );
        assert_eq!(typed("a\n"), r"$'a\012'");
        assert_eq!(typed("-rf"), "./-rf");
        assert_eq!(typed("~root/x"), "'~root/x'");
        assert_eq!(typed("a\u{202e}b"), r#""$(printf 'a\342\200\256b')""#);
    }
}
