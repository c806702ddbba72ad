//! Names that a place does not take, and names like them that it would.

use unicode_normalization::UnicodeNormalization;

use crate::dated_name::LONGEST_NAME;
use crate::portable;

/// What is known of the names that a place takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameLimits {
    /// Characters that no name can hold there, or that are listed and then not given.
    pub refused: String,
    /// The longest name, in bytes.
    pub longest: usize,
    /// Whether names that differ only in case are two.
    pub case_differs: bool,
    /// Whether names that differ only in how their letters are coded are two.
    pub forms_differ: bool,
}

impl Default for NameLimits {
    /// Those of a place that takes every name.
    fn default() -> NameLimits {
        NameLimits {
            refused: String::new(),
            longest: LONGEST_NAME,
            case_differs: true,
            forms_differ: true,
        }
    }
}

/// Why a name is not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NameTrouble {
    /// Its bytes are no valid UTF-8, so that no two systems show it alike.
    NotUtf8,
    /// It holds this character.
    Refused(char),
    /// It is longer than so many bytes.
    TooLong(usize),
    /// The place takes it and this name for one.
    Double(String),
    /// The place refused it, or the lane holds it back, with this reason.
    Stuck(String),
}

impl NameLimits {
    /// Why the place does not take a name, as far as its own letters tell; none where it takes it.
    #[must_use]
    pub fn trouble(&self, name: &str) -> Option<NameTrouble> {
        if let Some(refused) = name.chars().find(|c| self.refused.contains(*c)) {
            return Some(NameTrouble::Refused(refused));
        }
        (name.len() > self.longest).then_some(NameTrouble::TooLong(self.longest))
    }

    /// Whether the place takes two different names for one.
    #[must_use]
    pub fn is_double(&self, name: &str, other: &str) -> bool {
        let plain = |name: &str| {
            let coded: String = match self.forms_differ {
                true => name.to_owned(),
                false => name.nfc().collect(),
            };
            match self.case_differs {
                true => coded,
                false => coded.to_lowercase(),
            }
        };
        name != other && plain(name) == plain(other)
    }

    /// A name like this one that the place takes, that every usual system can hold, and that is not `taken`.
    ///
    /// Bytes that are no UTF-8 are read as Latin-1 (ISO 8859-1), which old archives and older systems wrote mostly.
    #[must_use]
    pub fn fitting(&self, name: &[u8], taken: &dyn Fn(&str) -> bool) -> String {
        let text = match std::str::from_utf8(name) {
            Ok(text) => text.to_owned(),
            Err(_) => name.iter().map(|byte| char::from(*byte)).collect(),
        };
        let taken_letters = |c: char| match self.refused.contains(c) {
            true => '-',
            false => c,
        };
        let text: String = text.chars().map(taken_letters).collect();
        let text = self.shortened(&portable::suggestion(&text), 0);
        if !taken(&text) {
            return text;
        }
        let numbered = (2..).map(|number| self.numbered(&text, number));
        let mut free = numbered.filter(|name| !taken(name));
        free.next().unwrap_or(text)
    }

    fn numbered(&self, name: &str, number: u32) -> String {
        let tail = format!(" ({number})");
        let short = self.shortened(name, tail.len());
        let (stem, ending) = parts(&short);
        format!("{stem}{tail}{ending}")
    }

    /// A name with room for so many bytes more; what stands before its ending is cut, and never inside a letter.
    fn shortened(&self, name: &str, room: usize) -> String {
        let (stem, ending) = parts(name);
        let most = self.longest.saturating_sub(room + ending.len()).max(1);
        let mut stem = stem.to_owned();
        while stem.len() > most && stem.chars().count() > 1 {
            stem.pop();
        }
        format!("{}{ending}", stem.trim_end_matches(['.', ' ']))
    }
}

/// What stands before a name's ending, and the ending with its dot.
fn parts(name: &str) -> (&str, &str) {
    match name.rfind('.') {
        Some(at) if at > 0 && name.len() - at <= 16 => name.split_at(at),
        _ => (name, ""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn free(_: &str) -> bool {
        false
    }

    #[test]
    fn a_place_says_which_names_it_does_not_take() {
        let limits = NameLimits {
            refused: ":%".into(),
            longest: 10,
            ..NameLimits::default()
        };
        assert_eq!(limits.trouble("a:b"), Some(NameTrouble::Refused(':')));
        assert_eq!(
            limits.trouble("longer than ten"),
            Some(NameTrouble::TooLong(10))
        );
        assert_eq!(limits.trouble("short"), None);
        assert_eq!(NameLimits::default().trouble("a:b%"), None);
    }

    #[test]
    fn doubles_are_what_the_place_takes_for_one() {
        let one_case = NameLimits {
            case_differs: false,
            ..NameLimits::default()
        };
        assert!(one_case.is_double("Viola.pdf", "viola.PDF"));
        assert!(!one_case.is_double("caf\u{e9}", "cafe\u{301}"));
        assert!(!one_case.is_double("a", "a"));
        let one_form = NameLimits {
            forms_differ: false,
            ..NameLimits::default()
        };
        assert!(one_form.is_double("caf\u{e9}", "cafe\u{301}"));
        assert!(!one_form.is_double("A", "a"));
    }

    #[test]
    fn a_name_that_would_do_is_like_it_and_free() {
        let limits = NameLimits {
            refused: "%".into(),
            longest: 24,
            ..NameLimits::default()
        };
        assert_eq!(limits.fitting(b"50% off.txt", &free), "50- off.txt");
        assert_eq!(limits.fitting(b"caf\xe9.txt", &free), "caf\u{e9}.txt");
        assert_eq!(limits.fitting(b"Take 1: x.wav", &free), "Take 1- x.wav");
        let taken = |name: &str| name == "50- off.txt" || name == "50- off (2).txt";
        assert_eq!(limits.fitting(b"50% off.txt", &taken), "50- off (3).txt");
        let long = limits.fitting("é".repeat(30).as_bytes(), &free);
        assert!(long.len() <= 24 && !long.is_empty(), "{long}");
        let long = "score for all of them at once.pdf";
        let short = limits.fitting(long.as_bytes(), &free);
        assert!(short.len() <= 24 && short.ends_with(".pdf"), "{short}");
        let one = |name: &str| name == short;
        let other = limits.fitting(long.as_bytes(), &one);
        assert!(other.len() <= 24 && other.ends_with(" (2).pdf"), "{other}");
    }
}
