//! Finding the WebDAV folder of an account by what people know: a host's name, or the address of a page in a browser.
//!
//! Only the host that was named is ever asked, and only by the scheme that was given. An address is first asked without
//! credentials ([`OPTIONS`, RFC 9110 §9.3.7]), and signed in to once at the most; where two addresses do not take the
//! sign-in, no other is tried, since some servers lock an account after a few.

use std::collections::BTreeSet;

use katabatic_core::words;
use katabatic_sides::SideError;
use katabatic_sides::net::Http;
use katabatic_sides::survey::Survey;
use katabatic_sides::webdav::{Client, survey};
use reqwest::Method;
use url::Url;

use super::reach::settle;
use crate::Error;

/// Where WebDAV folders usually lie on a host; `{}` is the user's name.
const USUAL: [&str; 12] = [
    "dav/",
    "webdav/",
    "dav/{}/",
    "webdav/{}/",
    "dav/files/{}/",
    "files/",
    "files/{}/",
    "storage/",
    "disk/",
    "drive/",
    "home/",
    "public/",
];

/// So many addresses may refuse the sign-in.
const MOST_REFUSALS: usize = 2;

/// So many addresses are tried.
const MOST: usize = 40;

/// What an address answered.
#[derive(Clone, Debug)]
pub enum Answer {
    /// As a WebDAV folder: what it says of itself.
    Folder(Box<Survey>),
    /// As something else, or not at all; what, in words.
    Other(String),
}

/// An address that was tried.
#[derive(Clone, Debug)]
pub struct Tried {
    /// The address.
    pub address: Url,
    /// What it answered.
    pub answer: Answer,
}

impl Tried {
    /// What lies there, where it is a WebDAV folder.
    #[must_use]
    pub fn folder(&self) -> Option<&Survey> {
        match &self.answer {
            Answer::Folder(survey) => Some(survey),
            Answer::Other(_) => None,
        }
    }
}

/// The addresses that are worth a try where the given one is none: its parents up to the host's root, then the usual
/// folders, each below every one of those.
#[must_use]
pub fn candidates(given: &Url, user: &str) -> Vec<Url> {
    let mut above = Vec::new();
    let mut at = given.clone();
    while at.path() != "/" {
        match at.path_segments_mut() {
            Ok(mut parts) => parts.pop_if_empty().pop().push(""),
            Err(()) => break,
        };
        above.push(at.clone());
    }
    let user = percent_encoding::utf8_percent_encode(user, percent_encoding::NON_ALPHANUMERIC);
    let user = user.to_string();
    let usual: Vec<String> = USUAL
        .iter()
        .filter(|folder| !user.is_empty() || !folder.contains("{}"))
        .map(|folder| folder.replace("{}", &user))
        .collect();
    let mut all = above.clone();
    // The host's root first: that is where most are.
    for at in above.iter().rev().chain([given]) {
        all.extend(usual.iter().filter_map(|folder| at.join(folder).ok()));
    }
    let mut seen = BTreeSet::from([given.clone()]);
    all.retain(|url| seen.insert(url.clone()));
    all.truncate(MOST);
    all
}

/// Tries addresses one after the other; `client` makes one that signs in at an address.
///
/// # Errors
/// Where the line is gone, or everything has to stop.
pub async fn find(
    account: &str,
    http: &Http,
    addresses: Vec<Url>,
    client: &(dyn Fn(&Url) -> Result<Client, Error> + Sync),
) -> Result<Vec<Tried>, Error> {
    let mut tried: Vec<Tried> = Vec::new();
    let mut refusals = 0;
    for address in addresses {
        let other = |why: String| Answer::Other(why);
        // Redirects within the host lead to where it really is.
        let (address, answer) = match settle(account, http, &address).await {
            Err(error) => (address, other(error.why)),
            Ok((settled, _)) if tried.iter().any(|known| known.address == settled) => continue,
            Ok((settled, _)) => {
                let answer = match unsigned(http, &settled).await {
                    Some(why) => other(why),
                    None if refusals >= MOST_REFUSALS => {
                        other("not signed in to: others did not take the sign-in".into())
                    }
                    None => match survey(&client(&settled)?, true).await {
                        Ok(survey) => Answer::Folder(Box::new(survey)),
                        Err(error @ (SideError::Stopped | SideError::NotThere(_))) => {
                            return Err(katabatic_sides::explain::explain(
                                account, &settled, &error,
                            ));
                        }
                        Err(error) => {
                            refusals += usize::from(matches!(error, SideError::Refused(_)));
                            other(error.to_string())
                        }
                    },
                };
                (settled, answer)
            }
        };
        tried.push(Tried { address, answer });
    }
    Ok(tried)
}

/// Asks without credentials; why it is not worth a sign-in, where that is so.
async fn unsigned(http: &Http, address: &Url) -> Option<String> {
    let asked = http.client.request(Method::OPTIONS, address.clone());
    let answer = match asked.send().await {
        Ok(answer) => answer,
        Err(error) => return Some(http.line_error(address, &error).to_string()),
    };
    match answer.status().as_u16() {
        404 | 410 => Some("nothing is there (404)".into()),
        _ => None,
    }
}

/// What lies at the top of an account, in a few words.
#[must_use]
pub fn what_lies_there(survey: &Survey) -> String {
    const NAMED: usize = 4;
    let folders: Vec<&str> = survey
        .top
        .iter()
        .filter(|top| top.folder)
        .map(|top| top.name.as_str())
        .collect();
    let files = survey.top.len() - folders.len();
    let named = folders[..folders.len().min(NAMED)].join(", ");
    let folders = match folders.len() {
        0 => "no folders".to_owned(),
        count if count <= NAMED => format!(
            "{}: {named}",
            words::count(count as u64, "folder", "folders")
        ),
        count => format!("{} folders: {named} …", words::grouped(count as u64)),
    };
    format!("{folders}; {}", words::count(files as u64, "file", "files"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parents_come_first_then_the_usual_folders_and_none_twice() {
        let given = Url::parse("https://cloud.example/shop/page/").unwrap();
        let all = candidates(&given, "ada b");
        let all: Vec<&str> = all.iter().map(Url::as_str).collect();
        assert_eq!(all[0], "https://cloud.example/shop/");
        assert_eq!(all[1], "https://cloud.example/");
        assert_eq!(all[2], "https://cloud.example/dav/");
        assert!(all.contains(&"https://cloud.example/webdav/ada%20b/"));
        assert!(all.contains(&"https://cloud.example/shop/dav/"));
        assert!(
            all.iter()
                .all(|url| url.starts_with("https://cloud.example/"))
        );
        assert!(!all.contains(&given.as_str()));
        let mut once = all.clone();
        once.sort_unstable();
        once.dedup();
        assert_eq!(once.len(), all.len());
        assert!(all.len() <= MOST);
        let nobody = candidates(&Url::parse("https://cloud.example/").unwrap(), "");
        assert!(nobody.iter().all(|url| !url.path().contains("%7B")));
    }
}
