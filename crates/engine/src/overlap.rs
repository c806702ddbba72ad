//! Which lanes may share a folder: a cloud and a second drive may, two that write to it may not.
//!
//! Two lanes that both write to one folder undo each other's work: each takes what the other wrote for a change to
//! carry on. So of all the lanes that touch a folder, a folder in it or around it, at most one may ever write there,
//! whatever the account is called and through whatever link the folder is reached.

use std::path::Path;

use katabatic_core::{RelPath, Side};

use crate::config::{Config, LaneConfig};
use crate::{Error, Home};
use katabatic_core::place::{Place, absolute};

struct Claim {
    shown: String,
    /// What the place really is: server, user and folders, or the real path.
    address: Vec<String>,
    writes: bool,
}

/// Makes sure that a lane and those of the config do not undo each other's work.
pub(crate) fn check_overlaps(config: &Config, lane: &LaneConfig) -> Result<(), Error> {
    let own = claims(config, lane)?;
    if let Some(how) = relation(&own[0], &own[1]) {
        return Err(Error::usage(
            format!("the lane {}", lane.name),
            format!(
                "its near side, {}, {how} its far side, {}",
                own[0].shown, own[1].shown
            ),
            "Choose two folders of which neither lies in the other.",
        ));
    }
    for other in config.lanes.iter().filter(|other| other.name != lane.name) {
        let others = claims(config, other)?;
        if relation(&own[0], &others[0]).is_some() && relation(&own[1], &others[1]).is_some() {
            return Err(clash(
                lane,
                other,
                &own[0],
                &others[0],
                "is tied to the same two places as",
            ));
        }
        for mine in &own {
            for theirs in others.iter().filter(|theirs| theirs.writes && mine.writes) {
                if let Some(how) = relation(mine, theirs) {
                    return Err(clash(lane, other, mine, theirs, how));
                }
            }
        }
    }
    Ok(())
}

fn clash(lane: &LaneConfig, other: &LaneConfig, mine: &Claim, theirs: &Claim, how: &str) -> Error {
    Error::usage(
        format!("the lane {}", lane.name),
        format!(
            "{} {how} {}, which the lane {} writes to already",
            mine.shown, theirs.shown, other.name
        ),
        format!(
            "Of the lanes that share a folder at most one may write to it. Choose another folder, a direction that only reads it, or take that lane away first, which removes no file: katabatic lane remove {}",
            other.name
        ),
    )
}

fn relation(mine: &Claim, theirs: &Claim) -> Option<&'static str> {
    let within = |a: &[String], b: &[String]| a.len() >= b.len() && a[..b.len()] == *b;
    let (mine, theirs) = (&mine.address, &theirs.address);
    match (within(mine, theirs), within(theirs, mine)) {
        (true, true) => Some("is"),
        (true, false) => Some("lies inside"),
        (false, true) => Some("lies around"),
        (false, false) => None,
    }
}

fn claims(config: &Config, lane: &LaneConfig) -> Result<[Claim; 2], Error> {
    let writes = |side| lane.terms.direction.writes_to(side);
    let claim = |side| {
        let place = lane.place(side);
        Ok(Claim {
            shown: place.to_string(),
            address: match place {
                Place::Local(path) => of_folder(path),
                Place::Far { account, path } => of_account(config, account, path)?,
            },
            writes: writes(side),
        })
    };
    Ok([claim(Side::Near)?, claim(Side::Far)?])
}

fn of_folder(path: &std::path::Path) -> Vec<String> {
    let path = absolute(path);
    // No server's name is empty, so no folder of an account begins like this.
    std::iter::once(String::new())
        .chain(path.iter().map(|part| part.to_string_lossy().into_owned()))
        .collect()
}

/// Server, user and folder, whatever the account is called here.
fn of_account(config: &Config, account: &str, path: &RelPath) -> Result<Vec<String>, Error> {
    let account = config.account(account)?;
    let url = url::Url::parse(&account.address).map_err(|why| {
        Error::usage(
            format!("the address of @{}", account.name),
            why.to_string(),
            "Correct it in the config.",
        )
    })?;
    let mut address = vec![
        url.host_str().unwrap_or_default().to_owned(),
        url.port_or_known_default().unwrap_or_default().to_string(),
        account.user.clone(),
    ];
    let decoded = percent_encoding::percent_decode_str(url.path())
        .decode_utf8_lossy()
        .into_owned();
    address.extend(
        decoded
            .split('/')
            .filter(|part| !part.is_empty())
            .map(str::to_owned),
    );
    address.extend(path.parts().map(str::to_owned));
    Ok(address)
}

/// No lane carries the tool's own folders.
pub(crate) fn check_own_home(home: &Home, folder: &Path) -> Result<(), Error> {
    let own = absolute(home.state());
    if folder.starts_with(&own) || own.starts_with(folder) {
        return Err(Error::usage(
            format!("the folder {}", folder.display()),
            format!(
                "the tool keeps its own things in {}, and would carry itself",
                own.display()
            ),
            "Choose another folder, or another home with --home DIR.",
        ));
    }
    Ok(())
}
