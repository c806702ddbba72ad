//! What the probe found out about a server, kept with the account and drawn as a table.

use katabatic_core::RelPath;
use katabatic_engine::Error;
use katabatic_engine::config::AccountConfig;
use katabatic_ledger::account_rows;
use katabatic_sides::account::AccountClient;
use katabatic_sides::explain::explain;
use katabatic_sides::probe::{Findings, Probed, probe};
use katabatic_sides::survey::Survey;
use serde_json::{Value, json};
use url::Url;

use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{field, line};

/// What there is to say about what a server can do.
pub enum Said {
    /// What was found.
    Found(Box<Findings>),
    /// Nothing was tried, or nothing may be written; why.
    NotTried(String),
}

/// Finds out what the account's server can do, and keeps it.
pub async fn find_out(
    app: &App,
    account: &AccountConfig,
    address: &Url,
    client: &AccountClient,
    survey: &Survey,
    within: &RelPath,
) -> Result<Said, Error> {
    if account.read_only {
        return Ok(Said::NotTried("the account was added read-only".into()));
    }
    let probed = match client {
        AccountClient::Webdav(client) => {
            probe(&account.name, address, client, survey, within).await?
        }
        AccountClient::Sftp(client) => {
            let probed = client.probe(survey, within).await;
            probed.map_err(|error| explain(&account.name, address, &error))?
        }
    };
    let (name, now) = (account.name.clone(), app.now());
    let found = match &probed {
        Probed::Found(findings) => Some((**findings).clone()),
        Probed::NotWritable(_) => None,
    };
    app.ledger
        .write(move |connection| account_rows::set_findings(connection, &name, now, found.as_ref()))
        .await?;
    Ok(match probed {
        Probed::Found(findings) => Said::Found(findings),
        Probed::NotWritable(why) => Said::NotTried(why),
    })
}

/// The whole table.
pub fn table(app: &App, said: &Said) {
    match said {
        Said::NotTried(why) => line(format!(
            "What the server can do was not found out: {why}. The worst is believed of it."
        )),
        Said::Found(findings) => {
            line("What the server can do, and what is done because of it:");
            let mut rows = Rows::bare(app.style, 3);
            for finding in findings.table() {
                let mark = if finding.unguarded { "(!) " } else { "" };
                rows.add(vec![
                    finding.about.to_owned(),
                    finding.found,
                    format!("{mark}{}", finding.therefore),
                ]);
            }
            rows.print(2);
        }
    }
}

/// Only what stays unguarded.
pub fn unguarded(app: &App, said: &Said) {
    if let Said::Found(findings) = said {
        for finding in findings.table().iter().filter(|finding| finding.unguarded) {
            field(
                app.style,
                "unguarded",
                &format!(
                    "{} is {}: {}",
                    finding.about, finding.found, finding.therefore
                ),
            );
        }
    }
}

/// All of it as JSON.
pub fn as_json(said: &Said) -> Value {
    match said {
        Said::NotTried(why) => json!({"findings": null, "why": why}),
        Said::Found(findings) => {
            let table: Vec<Value> = findings
                .table()
                .into_iter()
                .map(|finding| {
                    json!({
                        "about": finding.about,
                        "found": finding.found,
                        "therefore": finding.therefore,
                        "unguarded": finding.unguarded,
                    })
                })
                .collect();
            json!({"findings": findings, "table": table})
        }
    }
}
