//! One-time codes by the clock (RFC 6238): what the person's phone shows, as the second step of signing in.

use ring::hmac;

/// Seconds for which a code is good.
const STEP: u64 = 30;

/// The code of six digits of this moment, for a key that the phone and the server share.
pub(crate) fn code(key: &[u8], unix_seconds: u64) -> String {
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, key);
    let mac = hmac::sign(&key, &(unix_seconds / STEP).to_be_bytes());
    let mac = mac.as_ref();
    // RFC 4226 §5.3: the last four bits say where the number stands.
    let at = usize::from(mac[19] & 15);
    let number = u32::from_be_bytes([mac[at] & 0x7f, mac[at + 1], mac[at + 2], mac[at + 3]]);
    format!("{:06}", number % 1_000_000)
}

/// Whether a code is right now, or was in the step before: people type slowly.
pub(crate) fn is_right(key: &[u8], unix_seconds: u64, typed: &str) -> bool {
    let typed: String = typed.chars().filter(|c| !c.is_whitespace()).collect();
    [unix_seconds, unix_seconds.saturating_sub(STEP)]
        .iter()
        .any(|&at| code(key, at) == typed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_those_of_the_standard() {
        // RFC 6238, appendix B, the last six of its eight digits.
        let key = b"12345678901234567890";
        for (at, expected) in [
            (59, "287082"),
            (1_111_111_109, "081804"),
            (1_234_567_890, "005924"),
            (20_000_000_000, "353130"),
        ] {
            assert_eq!(code(key, at), expected);
        }
        assert!(is_right(key, 59 + 30, "287 082"), "typed slowly");
        assert!(!is_right(key, 59 + 60, "287082"));
    }
}
