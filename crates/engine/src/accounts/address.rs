//! Understanding the address of an account as people write it, or copy it from somewhere.

use url::Url;

use crate::Error;
use katabatic_sides::net::SFTP;
use katabatic_sides::net::is_loopback;

/// An address that was understood, and what had to be put right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Understood {
    /// The address, ending in a slash.
    pub url: Url,
    /// A user name that stood in it.
    pub user: Option<String>,
    /// What was put right, in words.
    pub put_right: Vec<String>,
}

/// Understands an address.
///
/// # Errors
/// Says what cannot be used, and how it should be written.
pub fn understand(text: &str, plain_http: bool) -> Result<Understood, Error> {
    let wrong = |why: String, next: &str| {
        Error::usage(format!("the address {}", without_password(text)), why, next)
    };
    let example = "Write it as https://HOST/PATH/, as the server's own help gives it.";
    let mut put_right = Vec::new();
    let full = if text.contains("://") {
        text.to_owned()
    } else {
        put_right.push("https:// was put before it".to_owned());
        format!("https://{text}")
    };
    let mut url = Url::parse(full.trim()).map_err(|why| wrong(why.to_string(), example))?;
    if !matches!(url.scheme(), "http" | "https" | SFTP) {
        return Err(wrong(
            format!("{}: is not a way to reach an account", url.scheme()),
            "Write it as https://HOST/PATH/ for WebDAV, as the server's own help gives it, or as sftp://HOST/FOLDER/ for SFTP.",
        ));
    }
    if url.host_str().is_none_or(str::is_empty) {
        return Err(wrong("it names no host".into(), example));
    }
    if url.password().is_some() {
        return Err(wrong(
            "it holds a password, which now stands in this shell's history".into(),
            "Leave the password out; it is asked for. Think about changing it.",
        ));
    }
    let user = match url.username() {
        "" => None,
        name => Some(
            percent_encoding::percent_decode_str(name)
                .decode_utf8_lossy()
                .into_owned(),
        ),
    };
    if let Some(user) = &user {
        put_right.push(format!("the user name {user} was taken out of it"));
        // An address with a host takes a user name away.
        let _ = url.set_username("");
    }
    if url.query().is_some() || url.fragment().is_some() {
        put_right.push("what follows ? or # was left out: it belongs to a browser's page".into());
        url.set_query(None);
        url.set_fragment(None);
    }
    if url.scheme() == SFTP && url.path().is_empty() {
        put_right.push("it names no folder, so the home folder of who signs in is taken".into());
        url.set_path("/~/");
    }
    if url.scheme() == "http" && !is_loopback(&url) && !plain_http {
        return Err(wrong(
            "plain http would send the password and every file readable to everybody on the way"
                .into(),
            "Use https://. If the line is safe in another way (a tunnel), say --plain-http; every listing will say so.",
        ));
    }
    if !url.path().ends_with('/') {
        url.set_path(&format!("{}/", url.path()));
    }
    Ok(Understood {
        url,
        user,
        put_right,
    })
}

/// An address may have been pasted with a password in it, which must not show in an error.
fn without_password(text: &str) -> String {
    match (text.find("://"), text.rfind('@')) {
        (Some(scheme), Some(at)) if at > scheme => {
            format!("{}…{}", &text[..scheme + 3], &text[at..])
        }
        (None, Some(at)) => format!("…{}", &text[at..]),
        _ => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_put_right_where_that_is_safe() {
        for (text, url, user, notes) in [
            ("cloud.example/dav", "https://cloud.example/dav/", None, 1),
            ("http://127.0.0.1:8080", "http://127.0.0.1:8080/", None, 0),
            (
                "https://ada%40x@cloud.example/dav/?dir=/Scores#top",
                "https://cloud.example/dav/",
                Some("ada@x"),
                2,
            ),
            (
                "sftp://ada@files.example:2222/srv/Scores",
                "sftp://files.example:2222/srv/Scores/",
                Some("ada"),
                1,
            ),
            ("sftp://files.example", "sftp://files.example/~/", None, 1),
            (
                "https://cloud.example/a%20b/",
                "https://cloud.example/a%20b/",
                None,
                0,
            ),
        ] {
            let understood = understand(text, false).unwrap();
            assert_eq!(understood.url.as_str(), url);
            assert_eq!(understood.user.as_deref(), user);
            assert_eq!(understood.put_right.len(), notes, "{understood:?}");
        }
        assert!(understand("http://cloud.example/", true).is_ok());
    }

    #[test]
    fn what_is_not_safe_is_refused_with_the_reason() {
        for (text, why) in [
            ("ftp://x/", "ftp"),
            ("https://u:p4ss@x/", "password"),
            ("u:p4ss@x/", "password"),
            ("http://cloud.example/", "plain http"),
            ("https://", "host"),
        ] {
            let error = understand(text, false).unwrap_err();
            assert!(error.why.contains(why), "{text}: {error:?}");
            assert!(!format!("{error:?}").contains("p4ss"), "{error:?}");
        }
    }

    #[test]
    fn fuzz_addresses() {
        katabatic_fuzz::each_text("addresses", |text| {
            if let Ok(understood) = understand(text, false) {
                let url = understood.url;
                let host = url.host_str().unwrap_or_default().to_owned();
                let stays_here = host.starts_with("127.") || host == "[::1]" || host == "localhost";
                let is_safe = matches!(url.scheme(), "https" | SFTP);
                assert!(is_safe || stays_here, "{text:?}: {url}");
                assert!(!host.is_empty(), "{text:?}: {url}");
                assert!(
                    url.password().is_none() && url.username().is_empty(),
                    "{text:?}"
                );
                assert!(url.path().ends_with('/'), "{text:?}: {url}");
            }
        });
    }
}
