//! `account sign-in`: again, when a sign-in is gone, a password was changed, or a certificate is to be pinned anew.

use crate::commands::account::signing::Signing;
use clap::Args;
use katabatic_engine::account_book;
use katabatic_engine::accounts::address;
use katabatic_engine::config::SignIn;
use katabatic_engine::{Class, Error};
use katabatic_ledger::account_rows;
use katabatic_sides::net::host_and_port;
use serde_json::json;

use super::signing::{self, Reached, confirmed};
use super::{described, shown, signs_in};
use crate::app::App;
use crate::draw::{field, json, line};

/// `account sign-in`.
#[derive(Args, Debug)]
pub struct AccountSignInArgs {
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub name: String,
    /// Who signs in, where that is somebody else by name
    #[arg(long)]
    pub user: Option<String>,
    /// How to sign in.
    #[command(flatten)]
    pub signing: Signing,
}

pub fn sign_in(app: &App, typed: &AccountSignInArgs) -> Result<(), Error> {
    let mut account = app.config.account(&typed.name)?.clone();
    let before = account.keeping;
    signing::apply(&mut account, &typed.signing)?;
    if let Some(user) = &typed.user {
        account.user.clone_from(user);
    }
    let with_key = typed.signing.key.is_some().then_some(SignIn::Key);
    let way = typed.signing.sign_in.or(with_key).or(Some(account.sign_in));
    let signing = Signing {
        sign_in: way,
        password_file: typed.signing.password_file.clone(),
        limits: typed.signing.limits.clone(),
        proxy: None,
        ca: None,
        trust: None,
        key: typed.signing.key.clone(),
        ..typed.signing
    };
    let reached = signing::reach(app, account, &signing)?;
    let Reached {
        mut account,
        survey,
        steps,
        certificate,
        credential,
    } = reached;
    let secret = signing::secret_of(app, &credential);
    if account.principal.is_none() {
        account.principal.clone_from(&survey.principal);
    }
    if !app.common.json {
        line("Reached:");
        let url = address::understand(&account.address, account.plain_http)?.url;
        shown::survey(app.style, &host_and_port(&url), &survey);
    }
    if !confirmed(app, typed.signing.yes, "Is this the right account?")? {
        return Err(Error::new(
            Class::Failed,
            format!("signing in to @{}", account.name),
            "it is not the right account, as was said",
            "Nothing was saved.",
        ));
    }
    let mut config = app.config.clone();
    account_book::save_again(&app.home, &mut config, account.clone(), &secret)?;
    let (name, space, now) = (account.name.clone(), (survey.used, survey.free), app.now());
    app.run(
        app.ledger
            .write(move |connection| account_rows::reached(connection, &name, now, Some(space))),
    )?;
    if app.common.json {
        json::print(&json!({
            "account": described(&account),
            "reached": shown::as_json(&survey, &steps, certificate.as_ref()),
        }));
        return Ok(());
    }
    line(format!(
        "Signed in to @{} again; its lanes stay as they are.",
        account.name
    ));
    field(app.style, "signs in", &signs_in(&account));
    if before != account.keeping {
        field(
            app.style,
            "secret",
            &format!("now kept {}", account.keeping.describe()),
        );
    }
    Ok(())
}
