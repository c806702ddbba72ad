//! Names of properties and paths, as they stand in XML.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

const IN_HREF: AsciiSet = NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~')
    .remove(b'/');

/// A namespace and a name: `("DAV:", "getetag")`.
pub(crate) type Name = (String, String);

pub(crate) fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

pub(crate) fn href(path: &str, folder: bool) -> String {
    let slash = if folder && !path.is_empty() { "/" } else { "" };
    format!("/{}{slash}", utf8_percent_encode(path, &IN_HREF))
}

/// A name without a value.
pub(crate) fn bare(name: &Name) -> String {
    if name.0.is_empty() {
        format!("<{} xmlns=\"\"/>", name.1)
    } else {
        format!("<x:{} xmlns:x=\"{}\"/>", name.1, escaped(&name.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_href_escapes_what_a_url_cannot_hold() {
        assert_eq!(
            href("Past seasons/50% #1?.txt", false),
            "/Past%20seasons/50%25%20%231%3F.txt"
        );
        assert_eq!(href("", true), "/");
        assert_eq!(href("a", true), "/a/");
    }
}
