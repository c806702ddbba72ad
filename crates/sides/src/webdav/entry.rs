//! What a resource of a listing means: its stamp and its times.

use katabatic_core::{EditTime, Entry, Stamp, StampKind};

use super::multistatus::Resource;

/// No file is larger than this pebibyte; what claims to be would only spoil every sum that it is in.
const LARGEST: u64 = 1 << 50;

/// A version tag without `W/` and without quotes, which is how tags are compared to see a change.
pub(super) fn bare_tag(tag: &str) -> &str {
    let tag = tag.trim();
    tag.strip_prefix("W/").unwrap_or(tag).trim_matches('"')
}

/// The stamp of a file; where the server has no tags, date and size have to do.
pub(super) fn stamp(tag: Option<&str>, modified: Option<&str>, size: u64) -> Stamp {
    match tag {
        Some(tag) => Stamp::new(bare_tag(tag)),
        None => {
            let text = format!("{} {size}", modified.unwrap_or("unknown"));
            Stamp::of(StampKind::Date, &text)
        }
    }
}

/// The entry of a resource; none for a file that does not say how long it is. Where tags say nothing, none is looked at.
pub(super) fn entry(resource: &Resource, clock_ahead: i64, ignores_tags: bool) -> Option<Entry> {
    if resource.folder {
        return Some(Entry::folder());
    }
    let size = resource.length.filter(|length| *length <= LARGEST)?;
    let tag = resource.tag.as_deref().filter(|_| !ignores_tags);
    let stamp = stamp(tag, resource.modified.as_deref(), size);
    let edited = resource
        .edit_note
        .as_deref()
        .and_then(|note| read_edit_note(note, &stamp));
    let received = resource
        .modified
        .as_deref()
        .and_then(http_date)
        .map(|at| EditTime(at.0.saturating_sub(clock_ahead)));
    Some(Entry {
        edited,
        received,
        handle: resource.id.as_deref().map(Into::into),
        ..Entry::file(size, stamp)
    })
}

/// The edit time of a version, bound to the version's tag: a property outlives the content it was set for.
pub(super) fn write_edit_note(edited: EditTime, stamp: &Stamp) -> Option<String> {
    let at = jiff::Timestamp::from_nanosecond(i128::from(edited.0)).ok()?;
    Some(format!("{at} {}", in_a_note(stamp)))
}

/// A version as a note names it, which other computers read.
fn in_a_note(stamp: &Stamp) -> String {
    match stamp.kind() {
        StampKind::Date => format!("date {}", stamp.as_str()),
        StampKind::Version | StampKind::Stub => stamp.as_str().to_owned(),
    }
}

fn read_edit_note(note: &str, stamp: &Stamp) -> Option<EditTime> {
    let (at, of) = note.split_once(' ')?;
    if of != in_a_note(stamp) {
        return None;
    }
    let at: jiff::Timestamp = at.parse().ok()?;
    i64::try_from(at.as_nanosecond()).ok().map(EditTime)
}

/// The other forms in which servers write dates: two that HTTP still has to read (RFC 9110 §5.6.7).
const OLDER_DATES: [&str; 2] = ["%A, %d-%b-%y %H:%M:%S GMT", "%a %b %e %H:%M:%S %Y"];

/// An HTTP date (RFC 9110 §5.6.7) in nanoseconds since 1970, in any of its forms, or as RFC 3339 has it.
pub(crate) fn http_date(text: &str) -> Option<EditTime> {
    let text = text.trim();
    let older = |form: &&str| {
        let read = jiff::civil::DateTime::strptime(form, text).ok()?;
        read.to_zoned(jiff::tz::TimeZone::UTC).ok()
    };
    let at = jiff::fmt::rfc2822::DateTimeParser::new()
        .parse_timestamp(text)
        .ok()
        .or_else(|| OLDER_DATES.iter().find_map(older).map(|at| at.timestamp()))
        .or_else(|| text.parse().ok())?;
    i64::try_from(at.as_nanosecond()).ok().map(EditTime)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_date_is_read_in_every_form_that_servers_write() {
        for text in [
            "Sun, 06 Nov 1994 08:49:37 GMT",
            "Sunday, 06-Nov-94 08:49:37 GMT",
            "Sun Nov  6 08:49:37 1994",
            "1994-11-06T08:49:37Z",
        ] {
            let at = http_date(text).map(|at| at.0 / 1_000_000_000);
            assert_eq!(at, Some(784_111_777), "{text}");
        }
        assert_eq!(http_date("yesterday"), None);
    }

    #[test]
    fn an_edit_time_counts_only_for_its_own_version() {
        let stamp = Stamp::new("tag 1");
        for at in [0, -1_500_000_000, 1_795_000_000_123_456_789] {
            let note = write_edit_note(EditTime(at), &stamp).unwrap();
            assert_eq!(read_edit_note(&note, &stamp), Some(EditTime(at)), "{note}");
            assert_eq!(read_edit_note(&note, &Stamp::new("tag 2")), None);
        }
    }

    #[test]
    fn tags_are_compared_without_their_clothes() {
        for tag in ["\"x\"", "W/\"x\"", "x", " \"x\" "] {
            assert_eq!(bare_tag(tag), "x");
        }
        assert_eq!(
            http_date("Mon, 23 Nov 2026 09:20:00 GMT"),
            Some(EditTime(1_795_425_600_000_000_000))
        );
    }
}
