//! What goes wrong with an account as a whole, in words, with the next step.

use url::Url;

use crate::distrust::{Distrust, Shown};
use crate::net::SFTP;
use crate::side_error::{Away, Delay, Refusal, SideError};
use katabatic_core::{Class, Error};

/// An error of reaching an account, as it reaches a person.
#[must_use]
pub fn explain(account: &str, address: &Url, error: &SideError) -> Error {
    let what = format!("reaching @{account} at {address}");
    let of = |class, why: &str, next: &str| Error::new(class, what.clone(), why, next);
    match error {
        SideError::Untrusted(distrust) => untrusted(&what, account, distrust),
        SideError::NotThere(said) if said.kind == Away::NoSuchHost => of(
            Class::NotThere,
            &format!(
                "there is no host of the name {}",
                address.host_str().unwrap_or("?")
            ),
            "Check the spelling of the address, and whether this computer is on the network.",
        ),
        SideError::NotThere(said) if said.kind == Away::NoTls => of(
            Class::NotThere,
            &said.why,
            "Check the port of the address. Plain http is only taken with --plain-http (or for this computer itself).",
        ),
        SideError::NotThere(said) if said.kind == Away::NoFolder => {
            of(Class::NotThere, &said.why, check_path(address))
        }
        SideError::NotThere(said) => of(
            Class::NotThere,
            &said.why,
            "Check host and port of the address, and whether the server is running.",
        ),
        SideError::TryAgain(said) if said.kind == Delay::Silent => of(
            Class::NotThere,
            &said.why,
            "The server is there, and does not answer. Try again later; if the line is only slow, give it longer: --patience SECONDS.",
        ),
        SideError::Refused(said) => {
            let next = match said.kind {
                Refusal::OtherAccount => format!(
                    "Nothing was carried. If the person really changed accounts, add the new one under another name and tie the lanes to it: katabatic lane change LANE --far @NEW/FOLDER. Else sign in as before: katabatic account sign-in {account}."
                ),
                Refusal::SignIn if address.scheme() == SFTP => format!(
                    "Is the right user named, and the public half of the key with the server (in authorized_keys there)? With another key: --key FILE; by a password: --sign-in basic; either with account add, or with account sign-in {account}."
                ),
                Refusal::Password if address.scheme() == SFTP => format!(
                    "Check both, or sign in by a key: katabatic account sign-in {account} --sign-in key --key FILE (its public half must be with the server), or by one that an SSH agent holds: --sign-in agent."
                ),
                Refusal::Password => "Check both. Where the account asks for a second step at sign-in, an app password may be needed (the server's own pages make one); where the server offers it, --sign-in device needs no password at all.".to_owned(),
                Refusal::SignIn => format!(
                    "Sign in again: katabatic account sign-in {account}. Lanes and files stay as they are."
                ),
            };
            of(Class::Refused, &said.why, &next)
        }
        SideError::Missing => of(
            Class::Failed,
            match address.scheme() {
                SFTP => "there is nothing at this path",
                _ => "there is nothing at this path (404)",
            },
            check_path(address),
        ),
        SideError::Failed(why) => of(Class::Failed, why, check_path(address)),
        SideError::Stopped => of(Class::Stopped, "stopped by Ctrl-C", "Nothing was saved."),
        other => of(Class::Failed, &other.to_string(), "Try again in a while."),
    }
}

/// What to look at where something answers at an address, and no account.
fn check_path(address: &Url) -> &'static str {
    match address.scheme() {
        SFTP => {
            "Check the path of the address: it must be a folder there that may be read. Without a path it is the home folder of who signs in."
        }
        _ => {
            "Check the path of the address: it must be the WebDAV folder, which the server's own help names."
        }
    }
}

/// A certificate or host key that is not trusted, and the option that would change that.
#[must_use]
pub fn untrusted(what: &str, account: &str, distrust: &Distrust) -> Error {
    let pin = distrust.shown.pin();
    let (name, otherwise) = match &distrust.shown {
        Shown::Certificate(_) => (
            "certificate",
            " Or give the authority's certificate: --ca FILE.",
        ),
        Shown::HostKey(_) => ("host key", ""),
    };
    let next = if distrust.other_was_known {
        format!(
            "Nothing was sent to it. Ask the server's administrator whether the {name} was changed. If so, compare the SHA-256, and pin the new one: katabatic account sign-in {account} --trust {pin}"
        )
    } else {
        format!(
            "Nothing was sent to it. Compare the SHA-256 with what the server's administrator says; if it is the same, pin it: --trust {pin} (with account add, or account sign-in {account}).{otherwise}"
        )
    };
    Error::new(Class::Refused, what, distrust.to_string(), next).with_facts(distrust.shown.facts())
}
