//! `account test`: each step of reaching an account, with its time.

use std::process::ExitCode;

use clap::Args;
use katabatic_core::RelPath;
use katabatic_engine::Error;
use katabatic_engine::accounts::reach::{self, Step};
use katabatic_engine::config::AccountConfig;
use katabatic_engine::open::{account_client, address_of, client_with, connection_of};
use katabatic_ledger::account_rows;
use katabatic_sides::account::AccountClient;
use katabatic_sides::certificate::Certificate;
use katabatic_sides::net::host_and_port;
use katabatic_sides::survey::Survey;
use serde_json::json;
use url::Url;

use super::probing::{self, Said};
use super::{described, shown};
use crate::app::App;
use crate::draw::{field, json, line};
use crate::exit;

/// What `account test` is asked with.
#[derive(Debug, Args)]
pub struct AccountTestArgs {
    /// The account
    #[arg(value_name = "ACCOUNT")]
    name: String,
    /// A folder of the account to try writing in, where nothing may be made at its top
    #[arg(long = "in", value_name = "FOLDER")]
    within: Option<String>,
}

pub fn test(app: &App, typed: &AccountTestArgs) -> Result<ExitCode, Error> {
    let account = app.config.account(&typed.name)?.clone();
    let within = match &typed.within {
        None => RelPath::root(),
        Some(folder) => RelPath::parse(folder.trim_matches('/')).map_err(|why| {
            Error::usage(
                format!("testing the account @{}", account.name),
                format!("{folder:?} is no folder of it: {why}"),
                "Name one as the account has it, such as Scores or Office/Scores.",
            )
        })?,
    };
    let tested = app.run(all(app, &account, &within));
    let (name, now) = (account.name.clone(), app.now());
    let tested = match tested {
        Ok(tested) => tested,
        Err(error) => {
            let why = error.why.clone();
            app.run(
                app.ledger
                    .write(move |connection| account_rows::failed(connection, &name, now, &why)),
            )?;
            return Err(error);
        }
    };
    let space = (tested.survey.used, tested.survey.free);
    app.run(
        app.ledger
            .write(move |connection| account_rows::reached(connection, &name, now, Some(space))),
    )?;
    let fine = tested.steps.iter().all(|step| step.fine);
    let code = if fine {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(exit::NEEDS_A_PERSON)
    };
    if app.common.json {
        json::print(&json!({
            "account": described(&account),
            "proxy": tested.proxy,
            "can": probing::as_json(&tested.said),
            "reached": shown::as_json(&tested.survey, &tested.steps, tested.certificate.as_ref()),
        }));
        return Ok(code);
    }
    line(format!("The account @{} answers:", account.name));
    shown::steps(app.style, &tested.steps);
    shown::survey(app.style, &tested.place, &tested.survey);
    field(app.style, "proxy", &tested.proxy);
    if let Some(certificate) = &tested.certificate {
        for (at, (name, fact)) in certificate.facts().iter().enumerate() {
            let head = if at == 0 { "certificate" } else { "" };
            field(app.style, head, &format!("{name} {fact}"));
        }
    }
    if account.plain_http {
        field(
            app.style,
            "plain http",
            "everybody on the way can read the password and every file",
        );
    }
    probing::table(app, &tested.said);
    if !fine {
        line(
            "Something is not possible there, as said above. Lanes that only bring files down can still be tied.",
        );
        if within.is_root() && !account.read_only {
            line(format!(
                "Where only the top is closed, try one of its folders: katabatic account test {} --in FOLDER",
                account.name
            ));
        }
    }
    Ok(code)
}

struct Tested {
    steps: Vec<Step>,
    survey: Survey,
    certificate: Option<Certificate>,
    said: Said,
    proxy: String,
    place: String,
}

async fn all(app: &App, account: &AccountConfig, within: &RelPath) -> Result<Tested, Error> {
    let (client, mut tested) = match account.is_sftp() {
        true => by_ssh(app, account)?,
        false => by_web(app, account).await?,
    };
    let address = address_of(account)?;
    let steps = &mut tested.steps;
    tested.survey = reach::enter(&account.name, &address, &client, steps).await?;
    let written =
        reach::try_writing(&account.name, &address, &client, within, account.read_only).await?;
    tested.said = if written.fine {
        probing::find_out(app, account, &address, &client, &tested.survey, within).await?
    } else {
        Said::NotTried(written.said.clone())
    };
    tested.steps.push(written);
    Ok(tested)
}

/// What is known before anybody signs in.
fn begun(address: &Url, proxy: String) -> Tested {
    Tested {
        steps: Vec::new(),
        survey: Survey::default(),
        certificate: None,
        said: Said::NotTried(String::new()),
        proxy,
        place: host_and_port(address),
    }
}

fn by_ssh(app: &App, account: &AccountConfig) -> Result<(AccountClient, Tested), Error> {
    let client = account_client(&app.home, account, &app.stop)?;
    let proxy = "none: SSH goes to the server itself, or over the hosts that ~/.ssh/config names";
    Ok((client, begun(&address_of(account)?, proxy.into())))
}

async fn by_web(app: &App, account: &AccountConfig) -> Result<(AccountClient, Tested), Error> {
    let connection = connection_of(&app.home, account)?;
    let (address, line) = (connection.address.clone(), connection.line.clone());
    let client = client_with(account, connection, &app.stop)?;
    let knocked = reach::knock(&account.name, &address, &line, client.proxy()).await?;
    let tested = Tested {
        steps: knocked.steps,
        certificate: knocked.certificate,
        ..begun(&address, client.proxy().describe())
    };
    Ok((AccountClient::Webdav(Box::new(client)), tested))
}
