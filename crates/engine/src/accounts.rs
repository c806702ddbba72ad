//! Accounts: understanding an address, and finding out whether it can be used before anything is saved.

use std::time::{Duration, Instant};

use katabatic_core::{Kind, RelPath};
use url::{Host, Url};

use crate::sides::webdav::{Client, Connection, WebdavSide};
use crate::sides::{SideError, SideStore};
use crate::{Class, Error};

/// Understands the address of an account as people write it.
///
/// # Errors
/// Says what cannot be used, and how it should be written.
pub fn understand_address(text: &str) -> Result<Url, Error> {
    let wrong = |why: String, next: &str| {
        Error::usage(format!("the address {}", without_password(text)), why, next)
    };
    let example = "Write it as https://HOST/PATH/, as the server's own help gives it.";
    let full = if text.contains("://") {
        text.to_owned()
    } else {
        format!("https://{text}")
    };
    let mut url = Url::parse(&full).map_err(|why| wrong(why.to_string(), example))?;
    if !matches!(url.scheme(), "http" | "https") {
        return Err(wrong(
            format!("{}: is not a way to reach a WebDAV server", url.scheme()),
            example,
        ));
    }
    if !url.username().is_empty() || url.password().is_some() {
        return Err(wrong(
            "it holds a user name or a password".into(),
            "Leave them out: the name goes into --user, the password is asked for.",
        ));
    }
    if url.query().is_some() || url.fragment().is_some() {
        return Err(wrong(
            "it holds a query (after ? or #), as a browser's address does".into(),
            example,
        ));
    }
    let loopback = match url.host() {
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        Some(Host::Domain(name)) => name == "localhost",
        None => return Err(wrong("it names no host".into(), example)),
    };
    if url.scheme() == "http" && !loopback {
        return Err(wrong(
            "plain http would send the password readable to everybody on the way".into(),
            "Use https://. Plain http is taken for this computer itself only.",
        ));
    }
    if !url.path().ends_with('/') {
        url.set_path(&format!("{}/", url.path()));
    }
    Ok(url)
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

/// What a test of an account found.
#[derive(Clone, Debug)]
pub struct Tested {
    /// How long it took to be answered and signed in.
    pub signed_in: Duration,
    /// How long it took to list the root.
    pub listed: Duration,
    /// The folders at the root, by name.
    pub folders: Vec<String>,
    /// How many files lie at the root.
    pub files: u64,
}

/// Reaches the account, signs in and lists its root. Nothing is written.
///
/// # Errors
/// [`Class::NotThere`] where nobody answers, [`Class::Refused`] where the sign-in is not accepted, and
/// [`Class::Failed`] where something answers that is no WebDAV folder.
pub async fn test(
    name: &str,
    connection: Connection,
    stop: &crate::stop::Stop,
) -> Result<Tested, Error> {
    let (address, user) = (connection.address.clone(), connection.user.clone());
    let client = Client::new(connection, stop.clone())
        .map_err(|why| Error::failed("connecting", why, "Try again."))?;
    let side = WebdavSide::new(client, RelPath::root(), "test", "test");
    let failed = |error: SideError| explain(name, &address, &user, &error);
    let began = Instant::now();
    side.root().await.map_err(failed)?;
    let signed_in = began.elapsed();
    let began = Instant::now();
    let (mut folders, mut files) = (Vec::new(), 0);
    for (name, entry) in side.members_of(&RelPath::root()).await.map_err(failed)? {
        match entry.kind {
            Kind::Folder => folders.push(name),
            _ => files += 1,
        }
    }
    folders.sort();
    Ok(Tested {
        signed_in,
        listed: began.elapsed(),
        folders,
        files,
    })
}

fn explain(name: &str, address: &Url, user: &str, error: &SideError) -> Error {
    let what = format!("reaching @{name} at {address}");
    match error {
        SideError::NotThere(why) if why.contains("does not answer") && is_name_trouble(why) => {
            Error::new(
                Class::NotThere,
                what,
                format!(
                    "there is no host of the name {}",
                    address.host_str().unwrap_or("?")
                ),
                "Check the spelling of the address, and whether this computer is on the network.",
            )
        }
        SideError::NotThere(why) if why.contains("does not answer") => Error::new(
            Class::NotThere,
            what,
            why.as_str(),
            "Check host and port of the address, and whether the server is running.",
        ),
        SideError::NotThere(_) | SideError::Failed(_) => Error::new(
            Class::Failed,
            what,
            match error {
                SideError::NotThere(why) => {
                    format!("something answers, but {}", why.replace("it is", "this is"))
                }
                other => other.to_string(),
            },
            "Check the path of the address: it must be the WebDAV folder, which the server's own help names.",
        ),
        SideError::Refused(_) => Error::new(
            Class::Refused,
            what,
            format!("the server does not accept the user name {user} with this password (401)"),
            "Check both. Where a second step is asked for at sign-in, an app password may be needed.",
        ),
        SideError::Stopped => Error::new(
            Class::Stopped,
            what,
            "stopped by Ctrl-C",
            "Nothing was saved.",
        ),
        other => Error::failed(what, other, "Try again in a while."),
    }
}

fn is_name_trouble(why: &str) -> bool {
    ["lookup", "resolve", "Name or service", "No address"]
        .iter()
        .any(|sign| why.contains(sign))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_put_right_or_refused_with_the_reason() {
        let ok = |text: &str| understand_address(text).map(|url| url.to_string());
        assert_eq!(
            ok("cloud.example/dav"),
            Ok("https://cloud.example/dav/".into())
        );
        assert_eq!(
            ok("http://127.0.0.1:8080"),
            Ok("http://127.0.0.1:8080/".into())
        );
        for (text, why) in [
            ("ftp://x/", "ftp"),
            ("https://u:p4ss@x/", "password"),
            ("https://x/?a=b", "query"),
            ("http://cloud.example/", "plain http"),
            ("https://", "host"),
        ] {
            let error = understand_address(text).unwrap_err();
            assert!(error.why.contains(why), "{text}: {error:?}");
            assert!(!format!("{error:?}").contains("p4ss"), "{error:?}");
        }
    }
}
