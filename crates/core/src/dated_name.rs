//! The name of a second version beside the first: `Score [@office 2026-11-23 09.20].pdf`.

/// The longest name that every usual file system takes, in bytes.
pub const LONGEST_NAME: usize = 255;

/// `name` with `label` in brackets before its extension, shortened to [`LONGEST_NAME`] bytes where it must be;
/// `attempt` above 1 adds a number, for when the name is taken.
#[must_use]
pub fn dated_name(name: &str, label: &str, attempt: u32) -> String {
    // A name that begins with its only dot has no extension.
    let (stem, extension) = match name.rfind('.') {
        Some(at) if at > 0 && name.len() - at <= 16 => name.split_at(at),
        _ => (name, ""),
    };
    let number = if attempt > 1 {
        format!(" {attempt}")
    } else {
        String::new()
    };
    // A slash could only come from an account's name in the label; no name may hold one.
    let tail = format!(" [{}{number}]{extension}", label.replace(['/', '\0'], "-"));
    let mut stem = stem.to_owned();
    while stem.len() + tail.len() > LONGEST_NAME && stem.pop().is_some() {}
    format!("{stem}{tail}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_the_extension_and_the_length() {
        assert_eq!(
            dated_name("Score.pdf", "@office 2026-11-23 09.20", 1),
            "Score [@office 2026-11-23 09.20].pdf"
        );
        assert_eq!(dated_name("Score.pdf", "@a/b x", 2), "Score [@a-b x 2].pdf");
        assert_eq!(dated_name(".profile", "@office", 1), ".profile [@office]");
        let long = dated_name(&"é".repeat(127), "@office 2026-11-23 09.20", 1);
        assert!(
            long.len() <= LONGEST_NAME && long.ends_with("é [@office 2026-11-23 09.20]"),
            "{long}"
        );
    }
}
