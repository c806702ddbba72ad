//! Names that were typed wrongly.

/// Which of these was meant by what is none of them, where one of them is much like it.
#[must_use]
pub fn did_you_mean<'k>(typed: &str, known: &[&'k str]) -> Option<&'k str> {
    /// Of 1, which is equal.
    const MUCH_LIKE: f64 = 0.8;
    let likeness = |known: &str| strsim::jaro_winkler(&typed.to_lowercase(), &known.to_lowercase());
    known
        .iter()
        .map(|known| (likeness(known), *known))
        .filter(|(likeness, _)| *likeness > MUCH_LIKE)
        .max_by(|(one, _), (other, _)| one.total_cmp(other))
        .map(|(_, known)| known)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_much_like_it_was_meant() {
        let known = ["scores", "recordings", "office"];
        for (typed, meant) in [
            ("scroes", Some("scores")),
            ("Scores", Some("scores")),
            ("recording", Some("recordings")),
            ("ofice", Some("office")),
            ("minutes", None),
            ("", None),
        ] {
            assert_eq!(did_you_mean(typed, &known), meant, "{typed}");
        }
        assert_eq!(did_you_mean("scores", &[]), None);
    }
}
