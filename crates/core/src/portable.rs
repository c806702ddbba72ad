//! Names that every usual system can hold.
//!
//! A name that is fine here can be impossible on the next computer that takes the folder. A lane may ask for names that
//! travel everywhere; others wait, with the reason and a name that would do.

use unicode_normalization::UnicodeNormalization;

use crate::dated_name::LONGEST_NAME;

/// Names that mean a device on some systems, with whatever extension.
const DEVICES: [&str; 22] = [
    "con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8",
    "com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9",
];

fn is_forbidden(c: char) -> bool {
    c.is_control() || "<>:\"|?*\\".contains(c)
}

/// Why a name cannot be held everywhere, in a sentence's middle; none where it can.
#[must_use]
pub fn trouble(name: &str) -> Option<String> {
    let stem = name.split('.').next().unwrap_or(name).trim_end();
    if let Some(c) = name.chars().find(|c| is_forbidden(*c)) {
        return Some(format!("its name holds {:?}, which some systems refuse", c));
    }
    if name.ends_with('.') || name.ends_with(' ') {
        return Some("its name ends with a dot or a blank, which some systems drop".into());
    }
    if DEVICES.contains(&stem.to_lowercase().as_str()) {
        return Some(format!("{stem} means a device on some systems"));
    }
    if name.len() > LONGEST_NAME {
        return Some(format!("its name is longer than {LONGEST_NAME} bytes"));
    }
    None
}

/// A name like this one that can be held everywhere.
#[must_use]
pub fn suggestion(name: &str) -> String {
    let mut plain: String = name
        .chars()
        .map(|c| if is_forbidden(c) { '-' } else { c })
        .collect();
    while plain.len() > LONGEST_NAME {
        plain.pop();
    }
    let kept = plain.trim_end_matches(['.', ' ']).len();
    plain.truncate(kept);
    let stem = plain.split('.').next().unwrap_or_default().to_owned();
    if plain.is_empty() || DEVICES.contains(&stem.to_lowercase().as_str()) {
        plain.insert(0, '_');
    }
    plain
}

/// Whether two different names are one to a system that tells no case apart, or not how letters are coded.
#[must_use]
pub fn is_double(name: &str, other: &str) -> bool {
    let plain = |name: &str| name.nfc().collect::<String>().to_lowercase();
    name != other && plain(name) == plain(other)
}

/// A name like this one that is no double of it.
#[must_use]
pub fn beside(name: &str) -> String {
    let (stem, ending) = match name.rsplit_once('.') {
        Some((stem, ending)) if !stem.is_empty() => (stem, format!(".{ending}")),
        _ => (name, String::new()),
    };
    format!("{stem} (2){ending}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn doubles_differ_only_in_case_or_coding() {
        assert!(is_double("Viola.pdf", "viola.PDF"));
        assert!(is_double("caf\u{e9}", "cafe\u{301}"));
        assert!(!is_double("a", "a") && !is_double("a", "b"));
        assert_eq!(beside("Viola.pdf"), "Viola (2).pdf");
        assert_eq!(beside(".hidden"), ".hidden (2)");
    }

    #[test]
    fn what_travels_everywhere() {
        for fine in [
            "Viola.txt",
            "Largo, lento.pdf",
            ".profile",
            "console.txt",
            "é🎻",
        ] {
            assert_eq!(trouble(fine), None, "{fine}");
            assert_eq!(suggestion(fine), fine);
        }
    }

    #[test]
    fn what_does_not_and_what_would() {
        for (name, would) in [
            ("Take 1: slow.wav", "Take 1- slow.wav"),
            ("who?", "who-"),
            ("draft.", "draft"),
            ("ends with a blank ", "ends with a blank"),
            ("aux.txt", "_aux.txt"),
            ("NUL", "_NUL"),
            ("...", "_"),
            ("a\nb", "a-b"),
        ] {
            assert!(trouble(name).is_some(), "{name}");
            assert_eq!(suggestion(name), would);
            assert_eq!(trouble(would), None, "{would}");
        }
        let long = "é".repeat(200);
        assert!(trouble(&long).is_some());
        assert_eq!(trouble(&suggestion(&long)), None);
    }
}
