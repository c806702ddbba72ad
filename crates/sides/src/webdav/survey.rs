//! What an account says of itself, before anything is tied to it: whose it is, how full it is, what lies at its top.

use katabatic_core::RelPath;

use super::client::{Client, last_part, same_href};
use super::entry::http_date;
use super::list::{clock_ahead, propfind, software};
use super::multistatus::{OWN_NAMESPACE, Resource};
use crate::survey::{Survey, Top};
use crate::{SideError, is_own};
use katabatic_core::principal::Principal;

const ABOUT: &str = "<?xml version=\"1.0\" encoding=\"utf-8\"?><propfind xmlns=\"DAV:\"><prop><resourcetype/>\
    <current-user-principal/><current-user-privilege-set/><owner/>";
const QUOTA: &str = "<quota-used-bytes/><quota-available-bytes/>";
const END: &str = "</prop></propfind>";

/// Asks about the root of an account, and with `listed` what lies there.
///
/// # Errors
/// Where it cannot be asked, or somebody else's account answers.
pub async fn survey(client: &Client, listed: bool) -> Result<Survey, SideError> {
    let root = RelPath::root();
    let asked = format!("{ABOUT}{QUOTA}{END}");
    let (resources, headers) = propfind(client, &root, true, "0", &asked).await?;
    let about = |resource: &&Resource| client.path_of(&resource.href) == Some(root.clone());
    let Some(itself) = resources.iter().find(about) else {
        return Err(SideError::Failed(
            "the server's answer is about something else".into(),
        ));
    };
    if !itself.folder {
        return Err(SideError::Failed(
            "a file is at this address, no folder".into(),
        ));
    }
    client.check_principal(itself.principal.as_deref())?;
    let mut survey = Survey {
        principal: match &itself.principal {
            Some(href) => Some(principal(client, href).await),
            None => None,
        },
        used: itself.used,
        free: itself.free,
        may_write: itself.may_write,
        server: software(&headers),
        clock_ahead: clock_ahead(&headers),
        top: Vec::new(),
    };
    if listed {
        survey.top = top(client, itself).await?;
    }
    Ok(survey)
}

async fn top(client: &Client, itself: &Resource) -> Result<Vec<Top>, SideError> {
    let asked = format!("{ABOUT}{END}");
    let (resources, _) = propfind(client, &RelPath::root(), true, "1", &asked).await?;
    let me = itself.owner.clone().or(itself.principal.clone());
    Ok(members(client, &RelPath::root(), resources, me.as_deref()))
}

/// The folders in a folder that belong to somebody else, with the owner and whether one may write there.
pub(super) async fn shared(client: &Client, folder: &RelPath) -> Result<Vec<Top>, SideError> {
    let asked = format!("{ABOUT}{END}");
    let (resources, _) = propfind(client, folder, true, "1", &asked).await?;
    let itself = resources
        .iter()
        .find(|resource| client.path_of(&resource.href).as_ref() == Some(folder));
    // The folder itself may be somebody else's.
    let me = itself.and_then(|itself| itself.principal.clone().or(itself.owner.clone()));
    let mut shared = members(client, folder, resources, me.as_deref());
    shared.retain(|member| member.folder && member.owner.is_some());
    Ok(shared)
}

/// What lies in a folder, in the order of names; `me` is whose the account is.
fn members(
    client: &Client,
    folder: &RelPath,
    resources: Vec<Resource>,
    me: Option<&str>,
) -> Vec<Top> {
    let base = client.url(&RelPath::root(), true);
    let mine = |owner: &String| me.is_none_or(|me| same_href(&base, me, owner));
    let mut top: Vec<Top> = resources
        .into_iter()
        .filter_map(|resource| {
            let path = client.path_of(&resource.href)?;
            let is_member = !path.is_root() && path.parent()? == *folder && !is_own(path.name());
            is_member.then(|| Top {
                name: path.name().to_owned(),
                folder: resource.folder,
                may_write: resource.may_write,
                owner: resource
                    .owner
                    .filter(|owner| !mine(owner))
                    .map(|owner| last_part(&owner)),
            })
        })
        .collect();
    top.sort_by(|a, b| a.name.cmp(&b.name));
    top
}

/// What the principal is called, where its address tells.
async fn principal(client: &Client, href: &str) -> Principal {
    let plain = || Principal {
        href: href.to_owned(),
        name: last_part(href),
    };
    match client.display_name(href).await {
        Ok(Some(name)) => Principal {
            href: href.to_owned(),
            name,
        },
        Ok(None) => plain(),
        Err(error) => {
            tracing::debug!("what {href} is called could not be asked: {error}");
            plain()
        }
    }
}

/// A member of a listing, as the probe needs it.
pub(crate) struct Listed {
    pub path: RelPath,
    /// The tag as it was sent.
    pub(crate) tag: Option<String>,
    /// What it is known by wherever it is moved to (RFC 5842 §3.1).
    pub(crate) id: Option<String>,
    /// Whether it is a folder.
    pub(crate) is_folder: bool,
    /// How long the file is, where the listing says so.
    pub(crate) length: Option<u64>,
    /// When it was last changed, in seconds since 1970.
    pub(crate) modified: Option<i64>,
    /// The digest of what it holds, as the server tells it.
    pub(crate) digest: Option<String>,
}

fn seconds(modified: &str) -> Option<i64> {
    http_date(modified).map(|at| at.0 / 1_000_000_000)
}

/// Lists a folder to any depth.
pub(crate) async fn listed(
    client: &Client,
    path: &RelPath,
    depth: &str,
) -> Result<Vec<Listed>, SideError> {
    let asked = format!(
        "{ABOUT}<getetag/><resource-id/><getcontentlength/><getlastmodified/><repr-digest xmlns=\"{OWN_NAMESPACE}\"/>{END}"
    );
    let (resources, _) = propfind(client, path, true, depth, &asked).await?;
    Ok(resources
        .into_iter()
        .filter_map(|resource| {
            Some(Listed {
                path: client.path_of(&resource.href)?,
                tag: resource.tag,
                id: resource.id,
                is_folder: resource.folder,
                length: resource.length,
                modified: resource.modified.as_deref().and_then(seconds),
                digest: resource.digest,
            })
        })
        .collect())
}
