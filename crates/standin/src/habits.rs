//! What some servers always do and others never: a switch for each, which real servers were seen to have or the standards
//! allow. Whoever asks a server for anything has to do well with any of them, and with most of them together.

use std::collections::HashSet;

/// Something that a server always does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Habit {
    NoPutTag,
    EarlyConditions,
    NoConditions,
    NoOverwriteCheck,
    RacingMoves,
    WriteInPlace,
    PartialPutKeepsPart,
    HideDots,
    ForbidDots,
    NoTop,
    StrictSlashes,
    SlashRedirect301,
    SlashRedirect308,
    OneCase,
    Html,
    Silent,
    NoValidators,
    OtherValidators,
    LateDates,
    WholeHrefs,
    OtherHostHrefs,
    LowerCaseHrefs,
    TwiceEscapedHrefs,
    SlashlessHrefs,
    NoLengths,
    NoDates,
    OldDates,
    WithoutItself,
    Deeper,
    NoDepthOne,
    NeedsLength,
    HalfDone,
    Http10,
    Closes,
}

/// Every habit, the name it is asked for by, and what it does.
pub(crate) const TABLE: [(Habit, &str, &str); 34] = [
    (
        Habit::NoPutTag,
        "no-put-tag",
        "the answer to PUT has no ETag",
    ),
    (
        Habit::EarlyConditions,
        "early-conditions",
        "conditions are tested before the body is read, and not again",
    ),
    (
        Habit::NoConditions,
        "no-conditions",
        "If-Match, If-None-Match and If are ignored",
    ),
    (
        Habit::NoOverwriteCheck,
        "no-overwrite-check",
        "Overwrite: F is ignored",
    ),
    (
        Habit::RacingMoves,
        "racing-moves",
        "Overwrite: F is tested first and obeyed a moment later",
    ),
    (
        Habit::WriteInPlace,
        "write-in-place",
        "a cut PUT leaves half a file under its real name",
    ),
    (
        Habit::PartialPutKeepsPart,
        "partial-put-keeps-part",
        "a PUT of a range is answered 201 and keeps the range alone",
    ),
    (
        Habit::HideDots,
        "hide-dots",
        "names that begin with a dot are never listed",
    ),
    (
        Habit::ForbidDots,
        "forbid-dots",
        "names that begin with a dot are refused (403)",
    ),
    (
        Habit::NoTop,
        "no-top",
        "nothing can be made at the top, only in its folders (403)",
    ),
    (
        Habit::StrictSlashes,
        "strict-slashes",
        "a folder is moved only with a slash at the end of both names",
    ),
    (
        Habit::SlashRedirect301,
        "slash-redirect=301",
        "a folder that is named without a slash is answered 301, with one",
    ),
    (
        Habit::SlashRedirect308,
        "slash-redirect=308",
        "the same with 308",
    ),
    (
        Habit::OneCase,
        "one-case",
        "names that differ only in case are one",
    ),
    (Habit::Html, "html", "every answer is a web page"),
    (Habit::Silent, "silent", "no request is ever answered"),
    (
        Habit::NoValidators,
        "validators=none",
        "answers to GET and HEAD have neither ETag nor Last-Modified",
    ),
    (
        Habit::OtherValidators,
        "validators=other",
        "answers to GET and HEAD have another ETag than listings",
    ),
    (
        Habit::LateDates,
        "validators=late",
        "answers to GET and HEAD say a second later than listings when it was changed",
    ),
    (
        Habit::WholeHrefs,
        "hrefs=whole",
        "listings name whole addresses",
    ),
    (
        Habit::OtherHostHrefs,
        "hrefs=other-host",
        "the same, with the name that the server has for itself",
    ),
    (
        Habit::LowerCaseHrefs,
        "hrefs=lower-case",
        "listings escape in lower case",
    ),
    (
        Habit::TwiceEscapedHrefs,
        "hrefs=twice-escaped",
        "listings escape what they have escaped",
    ),
    (
        Habit::SlashlessHrefs,
        "hrefs=without-slash",
        "listings name folders without a slash",
    ),
    (
        Habit::NoLengths,
        "listings=no-lengths",
        "listings do not say how long files are",
    ),
    (
        Habit::NoDates,
        "listings=no-dates",
        "listings do not say when files were changed",
    ),
    (
        Habit::OldDates,
        "listings=old-dates",
        "listings write dates as RFC 850 has them",
    ),
    (
        Habit::WithoutItself,
        "listings=without-itself",
        "the listing of a folder does not name the folder",
    ),
    (
        Habit::Deeper,
        "listings=deeper",
        "Depth: 1 is answered as Depth: infinity",
    ),
    (
        Habit::NoDepthOne,
        "listings=none",
        "Depth: 1 is refused (403)",
    ),
    (
        Habit::NeedsLength,
        "needs-length",
        "what changes something and has no Content-Length is refused (411)",
    ),
    (
        Habit::HalfDone,
        "half-done",
        "MOVE and DELETE of a folder leave one thing where it was (207)",
    ),
    (Habit::Http10, "http-1.0", "answers are HTTP/1.0"),
    (
        Habit::Closes,
        "closes",
        "the connection ends with each answer",
    ),
];

impl Habit {
    pub(crate) fn named(text: &str) -> Option<Habit> {
        TABLE
            .iter()
            .find(|(_, name, _)| *name == text)
            .map(|(habit, ..)| *habit)
    }
}

/// The habits of a server.
pub(crate) type Habits = HashSet<Habit>;
