//! The desktop's standard folders, as the XDG user-dirs file names them (`user-dirs.dirs`, xdg-user-dirs).
//!
//! The file is made by the desktop in the person's language, so a folder may be called `Dokumente`; what stays is the
//! key it stands behind. A folder that is the home folder itself is one the person does not want to have.

use std::path::{Path, PathBuf};

/// Each standard folder: its word here, the key in the file, and the name it has on the far side in every language.
pub const STANDARD: [(&str, &str, &str); 8] = [
    ("desktop", "XDG_DESKTOP_DIR", "Desktop"),
    ("documents", "XDG_DOCUMENTS_DIR", "Documents"),
    ("downloads", "XDG_DOWNLOAD_DIR", "Downloads"),
    ("music", "XDG_MUSIC_DIR", "Music"),
    ("pictures", "XDG_PICTURES_DIR", "Pictures"),
    ("public", "XDG_PUBLICSHARE_DIR", "Public"),
    ("templates", "XDG_TEMPLATES_DIR", "Templates"),
    ("videos", "XDG_VIDEOS_DIR", "Videos"),
];

/// A standard folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standard {
    /// The word for it, such as `documents`.
    pub word: &'static str,
    /// What it is called on the far side.
    pub there: &'static str,
    /// Where it is here; none where the person has none.
    pub here: Option<PathBuf>,
}

/// The standard folders of a person, from the text of their user-dirs file; without one, the English names count.
#[must_use]
pub fn standard_folders(home: &Path, text: Option<&str>) -> Vec<Standard> {
    let standard = |(word, key, there): (&'static str, &str, &'static str)| Standard {
        word,
        there,
        here: match text {
            None => Some(home.join(there)),
            Some(text) => value_of(text, key)
                .and_then(|value| path_of(home, &value))
                .filter(|path| path != home),
        },
    };
    STANDARD.into_iter().map(standard).collect()
}

/// The last value counts, as in a shell; a backslash takes the next character as it is.
fn value_of(text: &str, key: &str) -> Option<String> {
    let value = |line: &str| {
        let rest = line.trim().strip_prefix(key)?.strip_prefix('=')?;
        let quoted = rest.trim().strip_prefix('"')?;
        let (mut out, mut chars) = (String::new(), quoted.chars());
        loop {
            match chars.next()? {
                '"' => return Some(out),
                '\\' => out.push(chars.next()?),
                c => out.push(c),
            }
        }
    };
    text.lines().rev().find_map(value)
}

/// Only absolute paths and paths below the home folder are allowed there.
fn path_of(home: &Path, value: &str) -> Option<PathBuf> {
    let trimmed = value.trim_end_matches('/');
    if let Some(rest) = trimmed.strip_prefix("$HOME") {
        let below = rest.trim_start_matches('/');
        return (rest.is_empty() || rest.starts_with('/')).then(|| {
            if below.is_empty() {
                home.to_owned()
            } else {
                home.join(below)
            }
        });
    }
    value.starts_with('/').then(|| PathBuf::from(value))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn here(text: &str, word: &str) -> Option<PathBuf> {
        standard_folders(Path::new("/home/librarian"), Some(text))
            .into_iter()
            .find(|standard| standard.word == word)?
            .here
    }

    #[test]
    fn names_in_the_persons_language() {
        let text = "# made by the desktop\nXDG_DOCUMENTS_DIR=\"$HOME/Dokumente\"\nXDG_MUSIC_DIR=\"/data/Musik \\\"alt\\\"\"\n  XDG_DESKTOP_DIR=\"$HOME/\"\nXDG_VIDEOS_DIR=\"Videos\"\n";
        assert_eq!(
            here(text, "documents"),
            Some("/home/librarian/Dokumente".into())
        );
        assert_eq!(here(text, "music"), Some("/data/Musik \"alt\"".into()));
        assert_eq!(
            here(text, "desktop"),
            None,
            "the home folder itself is none"
        );
        assert_eq!(here(text, "videos"), None, "a relative path is not allowed");
        assert_eq!(here(text, "pictures"), None);
        assert_eq!(here("XDG_PICTURES_DIR=\"$HOMEX/a\"", "pictures"), None);
        assert_eq!(here("XDG_PICTURES_DIR=\"$HOME/unclosed", "pictures"), None);
    }

    #[test]
    fn without_the_file_the_english_names_count() {
        let folders = standard_folders(Path::new("/h"), None);
        assert_eq!(folders[1].here, Some("/h/Documents".into()));
    }

    #[test]
    fn fuzz_user_dirs() {
        katabatic_fuzz::each_text("user-dirs", |text| {
            let folders = standard_folders(Path::new("/home/librarian"), Some(text));
            assert_eq!(folders.len(), STANDARD.len());
            let all = folders.iter().filter_map(|folder| folder.here.as_ref());
            all.for_each(|here| assert!(here.is_absolute(), "{text:?}: {here:?}"));
        });
    }
}
