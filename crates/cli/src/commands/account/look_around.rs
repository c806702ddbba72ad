//! Where the address that was given is no WebDAV folder: which one on that host is.

use std::io::{BufRead, IsTerminal};

use katabatic_core::words;
use katabatic_engine::accounts::find::{self, Tried, what_lies_there};
use katabatic_engine::config::AccountConfig;
use katabatic_engine::open::{client_with, connection_with};
use katabatic_engine::{Class, Error};
use url::Url;

use super::signing::{Reached, SignedIn};
use crate::app::App;
use crate::draw::{self, line, say, shown_text};

/// So many of the addresses that were tried in vain are named.
const NAMED: usize = 12;

/// Looks for WebDAV folders on the host, and has somebody choose one. `first` is what was wrong with the address given.
pub fn look_around(
    app: &App,
    signed_in: &SignedIn,
    yes: bool,
    first: Error,
) -> Result<Reached, Error> {
    let account = &signed_in.account;
    let given = Url::parse(&account.address).map_err(|why| {
        Error::usage(
            format!("the address {}", account.address),
            why.to_string(),
            "Write it as https://HOST/PATH/.",
        )
    })?;
    let at = |address: &Url| AccountConfig {
        address: address.to_string(),
        ..account.clone()
    };
    let client = |address: &Url| {
        let account = at(address);
        let connection = connection_with(&account, signed_in.signer.clone())?;
        client_with(&account, connection, &app.stop)
    };
    let addresses = find::candidates(&given, &account.user);
    let looking = find::find(&account.name, &signed_in.http, addresses, &client);
    let tried = app.run(looking)?;
    let found: Vec<&Tried> = tried
        .iter()
        .filter(|tried| tried.folder().is_some())
        .collect();
    if found.is_empty() {
        return Err(nothing_found(first, &given, &tried));
    }
    let asks = !yes && !app.common.json && app.style.terminal && std::io::stdin().is_terminal();
    let tell = |text: String| match asks {
        true => line(shown_text(&text)),
        false => say(shown_text(&text)),
    };
    tell(format!(
        "{given} is no WebDAV folder ({}). On this host there {}:",
        first.why,
        match found.len() {
            1 => "is one".to_owned(),
            count => format!("are {count}"),
        }
    ));
    for (number, tried) in found.iter().enumerate() {
        let what = tried.folder().map_or_else(String::new, what_lies_there);
        tell(format!("  {}  {}  ({what})", number + 1, tried.address));
    }
    match asks {
        true => {
            let chosen = ask(account, &found)?;
            signed_in.enter(app, at(&chosen.address))
        }
        false => Err(Error::new(
            Class::NeedsPerson,
            format!("adding the account @{}", account.name),
            format!("{given} is no WebDAV folder, and which other one is meant was not said"),
            format!(
                "Say it: katabatic account add {} --address {}",
                account.name,
                words::typed(found[0].address.as_str())
            ),
        )),
    }
}

fn ask<'t>(account: &AccountConfig, found: &[&'t Tried]) -> Result<&'t Tried, Error> {
    draw::ask(format!(
        "Which one is the account? [1{}; nothing gives up] ",
        match found.len() {
            1 => String::new(),
            count => format!(" to {count}"),
        }
    ));
    let mut answer = String::new();
    let read = std::io::stdin().lock().read_line(&mut answer);
    let number: Option<usize> = read.ok().and_then(|_| answer.trim().parse().ok());
    let chosen = number.and_then(|number| found.get(number.checked_sub(1)?));
    chosen.copied().ok_or_else(|| {
        Error::new(
            Class::Failed,
            format!("adding the account @{}", account.name),
            "none of them is the right one, as was said",
            "Nothing was saved. Ask the server's administrator for the WebDAV address.",
        )
    })
}

/// Nothing was found: what was tried, and what each said.
fn nothing_found(first: Error, given: &Url, tried: &[Tried]) -> Error {
    let said = |tried: &Tried| match &tried.answer {
        find::Answer::Other(why) => why.clone(),
        find::Answer::Folder(_) => String::new(),
    };
    let mut facts = vec![("tried", format!("{given}: {}", first.why))];
    for tried in tried.iter().take(NAMED) {
        facts.push(("tried", format!("{}: {}", tried.address, said(tried))));
    }
    if tried.len() > NAMED {
        let more = words::grouped((tried.len() - NAMED) as u64);
        facts.push(("and", format!("{more} more like these")));
    }
    Error::new(
        first.class,
        first.what,
        format!("{}; nor is any of {} other addresses on this host", first.why, tried.len()),
        "Ask the server's administrator for the WebDAV address, or look for it in the server's own help.",
    )
    .with_facts(facts)
}
