//! The properties of a resource: the live ones that the server makes, and the dead ones that clients set.

use std::fmt::Write as _;

use crate::digests::field;
use crate::faults::{Feature, Mishap};
use crate::habits::Habit;
use crate::listing::{Found, http_date, rfc850_date};
use crate::locks::Lock;
use crate::quota::Quota;
use crate::store::{self, Property};
use crate::xml_names::{Name, escaped, href};

/// What properties are made from, beside the resource itself.
pub(crate) struct Around<'a> {
    pub(crate) mishap: &'a Mishap,
    pub(crate) principal: String,
    /// Counts what is used, which takes long and is asked for rarely.
    pub(crate) quota: &'a dyn Fn(&Found) -> Option<Quota>,
    /// The digest of what a file holds, which takes a look at all of it and is asked for by name alone.
    pub(crate) digest: &'a dyn Fn(&Found) -> Option<Vec<u8>>,
    pub(crate) locks: &'a [Lock],
    pub(crate) sync_token: Option<&'a str>,
}

/// Live properties that `allprop` does not show: they are dear, or of newer standards that ask for that.
const ONLY_BY_NAME: [&str; 8] = [
    "quota-available-bytes",
    "quota-used-bytes",
    "resource-id",
    "current-user-principal",
    "current-user-privilege-set",
    "owner",
    "sync-token",
    "supported-report-set",
];

const PLAIN: [&str; 6] = [
    "resourcetype",
    "getlastmodified",
    "getcontentlength",
    "getetag",
    "supportedlock",
    "lockdiscovery",
];

fn dav(name: &str) -> Name {
    ("DAV:".to_owned(), name.to_owned())
}

/// The names of all properties of a resource, or of those that `allprop` shows.
pub(crate) fn names(found: &Found, around: &Around<'_>, all: bool) -> Vec<Name> {
    let by_name: &[&str] = if all { &ONLY_BY_NAME } else { &[] };
    let live = PLAIN.iter().chain(by_name).map(|name| dav(name));
    let dead = store::properties(&found.disk)
        .into_iter()
        .map(|property| (property.namespace, property.name));
    live.filter(|name| value(found, around, name).is_some())
        .chain(dead)
        .collect()
}

/// The element of one property; none where the resource does not have it.
pub(crate) fn element(found: &Found, around: &Around<'_>, name: &Name) -> Option<String> {
    if name.0 == "DAV:" {
        let (name, value) = (&name.1, value(found, around, name)?);
        return Some(format!("<D:{name}>{value}</D:{name}>"));
    }
    if is_live(name) {
        let offers = !around.mishap.lacks(Feature::Digests) && !found.meta.is_dir();
        let digest = offers.then(|| (around.digest)(found)).flatten()?;
        let (namespace, name) = DIGEST;
        return Some(format!(
            "<x:{name} xmlns:x=\"{namespace}\">{}</x:{name}>",
            field(&digest)
        ));
    }
    store::properties(&found.disk)
        .into_iter()
        .find(|property| property.namespace == name.0 && property.name == name.1)
        .map(|property| dead(&property))
}

/// The digest of a file, written as in `Repr-Digest` (RFC 9530 §3), since no standard has a property for it.
const DIGEST: (&str, &str) = ("urn:katabatic:properties", "repr-digest");

/// Whether a property is the server's own to tell, and nobody's to set.
pub(crate) fn is_live(name: &Name) -> bool {
    name.0 == "DAV:" || (name.0.as_str(), name.1.as_str()) == DIGEST
}

fn dead(property: &Property) -> String {
    let (name, xml) = (&property.name, &property.xml);
    if property.namespace.is_empty() {
        return format!("<{name} xmlns=\"\">{xml}</{name}>");
    }
    let namespace = escaped(&property.namespace);
    format!("<x:{name} xmlns:x=\"{namespace}\">{xml}</x:{name}>")
}

fn value(found: &Found, around: &Around<'_>, name: &Name) -> Option<String> {
    if name.0 != "DAV:" {
        return None;
    }
    let (folder, mishap) = (found.meta.is_dir(), around.mishap);
    let offers = |feature| (!mishap.lacks(feature)).then_some(());
    Some(match name.1.as_str() {
        "resourcetype" if folder => "<D:collection/>".to_owned(),
        "resourcetype" => String::new(),
        "getlastmodified" if mishap.does(Habit::NoDates) => return None,
        "getlastmodified" if mishap.does(Habit::OldDates) => rfc850_date(&found.meta),
        "getlastmodified" => http_date(&found.meta),
        "getcontentlength" if !folder && !mishap.does(Habit::NoLengths) => {
            found.meta.len().to_string()
        }
        "getetag" if !folder => {
            let tag = store::shown_tag(&found.disk, &found.meta, mishap)?;
            escaped(&store::quoted(&tag))
        }
        "resource-id" => {
            offers(Feature::ResourceIds)?;
            format!("<D:href>{}</D:href>", store::resource_id(&found.disk))
        }
        "current-user-principal" => {
            offers(Feature::Principal)?;
            format!("<D:href>{}</D:href>", principal_href(&around.principal))
        }
        "owner" => {
            offers(Feature::Rights)?;
            format!("<D:href>{}</D:href>", principal_href(&found.owner))
        }
        "current-user-privilege-set" => {
            offers(Feature::Rights)?;
            let rights: &[&str] = if found.writable {
                &["read", "write", "write-content", "bind", "unbind"]
            } else {
                &["read"]
            };
            rights.iter().fold(String::new(), |mut xml, right| {
                let _ = write!(xml, "<D:privilege><D:{right}/></D:privilege>");
                xml
            })
        }
        "quota-used-bytes" if folder => {
            offers(Feature::Quota)?;
            (around.quota)(found)?.used.to_string()
        }
        "quota-available-bytes" if folder => {
            offers(Feature::Quota)?;
            (around.quota)(found)?.available?.to_string()
        }
        "sync-token" if folder => {
            offers(Feature::Changes)?;
            around.sync_token?.to_owned()
        }
        "supported-report-set" if folder => {
            offers(Feature::Changes)?;
            "<D:supported-report><D:report><D:sync-collection/></D:report></D:supported-report>"
                .to_owned()
        }
        "supportedlock" => {
            offers(Feature::Locks)?;
            ["exclusive", "shared"].map(|scope| {
                format!("<D:lockentry><D:lockscope><D:{scope}/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>")
            }).concat()
        }
        "lockdiscovery" => {
            offers(Feature::Locks)?;
            around
                .locks
                .iter()
                .filter(|lock| lock.covers(&found.disk))
                .map(active_lock)
                .collect()
        }
        _ => return None,
    })
}

/// The address of somebody's account (RFC 3744 §2).
pub(crate) fn principal_href(name: &str) -> String {
    href(&format!(".standin/principals/{name}"), true)
}

/// A lock that is held (RFC 4918 §14.1).
pub(crate) fn active_lock(lock: &Lock) -> String {
    let scope = if lock.exclusive {
        "exclusive"
    } else {
        "shared"
    };
    let depth = if lock.deep { "infinity" } else { "0" };
    format!(
        "<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:{scope}/></D:lockscope><D:depth>{depth}</D:depth>\
         {}<D:timeout>Second-{}</D:timeout><D:locktoken><D:href>{}</D:href></D:locktoken>\
         <D:lockroot><D:href>{}</D:href></D:lockroot></D:activelock>",
        lock.owner,
        lock.seconds,
        lock.token,
        escaped(&lock.href)
    )
}
