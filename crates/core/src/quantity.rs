//! Numbers as people read them.

/// A number of bytes as people read it: `812 B`, `4.1 KB`, `2.0 GB` (steps of 1000).
#[must_use]
pub fn bytes(count: u64) -> String {
    if count < 1000 {
        return format!("{count} B");
    }
    let mut value = count as f64;
    let mut unit = "B";
    for next in ["KB", "MB", "GB", "TB", "PB"] {
        if value < 999.95 {
            break;
        }
        value /= 1000.0;
        unit = next;
    }
    format!("{value:.1} {unit}")
}

/// At least so many bytes as an option takes them: `3.1MB`, in one word.
#[must_use]
pub fn typed_bytes(count: u64) -> String {
    for (unit, name) in [
        (1_000_000_000_000, "TB"),
        (1_000_000_000, "GB"),
        (1_000_000, "MB"),
    ] {
        if count >= unit {
            let tenths = u128::from(count)
                .saturating_mul(10)
                .div_ceil(u128::from(unit));
            return format!("{}.{}{name}", tenths / 10, tenths % 10);
        }
    }
    format!("{}KB", count.div_ceil(1_000))
}

/// A span in words: `8 s`, `3 min`, `2 h 5 min`.
#[must_use]
pub fn span(seconds: u64) -> String {
    match seconds {
        0..=89 => format!("{seconds} s"),
        90..=5_399 => format!("{} min", seconds.div_ceil(60)),
        _ => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}

/// A number and its noun: `1 file`, `12 files`, `1,200 files`.
#[must_use]
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!(
        "{} {}",
        grouped(number),
        if number == 1 { one } else { many }
    )
}

/// A number with its thousands set apart: `12,400`.
#[must_use]
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_as_people_read_them() {
        assert_eq!(bytes(0), "0 B");
        assert_eq!(bytes(999), "999 B");
        assert_eq!(bytes(4_096), "4.1 KB");
        assert_eq!(bytes(999_960), "1.0 MB");
        assert_eq!(bytes(2_000_000_000), "2.0 GB");
        assert_eq!(count(1, "file", "files"), "1 file");
        assert_eq!(count(12_400, "file", "files"), "12,400 files");
        assert_eq!(grouped(1_000_000), "1,000,000");
        assert_eq!(typed_bytes(1), "1KB");
        assert_eq!(typed_bytes(999_999), "1000KB");
        assert_eq!(typed_bytes(3_000_000), "3.0MB");
        assert_eq!(typed_bytes(3_000_001), "3.1MB", "never less than is needed");
        assert_eq!(typed_bytes(2_950_000_000_000), "3.0TB");
    }
}
