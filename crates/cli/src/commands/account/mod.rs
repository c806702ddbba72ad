//! `account add | list | show | test | sign-in | rename | remove`, one a file.

mod add;
mod list;
mod look_around;
mod probing;
mod remove;
mod rename;
mod sftp_signing;
mod shown;
mod sign_in;
mod signing;
mod test;

use crate::commands::account::add::AccountAddArgs;
use crate::commands::account::remove::AccountRemoveArgs;
use crate::commands::account::rename::AccountRenameArgs;
use crate::commands::account::sign_in::AccountSignInArgs;
use crate::commands::account::test::AccountTestArgs;
use crate::common::NamedAccount;
use clap::Subcommand;
use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::config::{AccountConfig, SignIn};
use katabatic_sides::net::Trust;
use serde_json::{Value, json};

use crate::app::App;

pub use signing::{agreed, asks, confirmed};

/// `account …`.
#[derive(Debug, Subcommand)]
pub enum AccountCommand {
    /// Add an account, once it is reached, signed in to and looked at
    Add(AccountAddArgs),
    /// List all accounts: lanes, space, last reached, last error
    List,
    /// Show one account
    Show(NamedAccount),
    /// Reach an account step by step: name, connection, TLS, sign-in, listing, writing
    Test(AccountTestArgs),
    /// Sign in again, or change how: a new password, a gone sign-in, another certificate
    SignIn(AccountSignInArgs),
    /// Give an account another name; its lanes follow
    Rename(AccountRenameArgs),
    /// Remove an account; nothing changes in the cloud
    Remove(AccountRemoveArgs),
}

pub fn account(app: &App, account: &AccountCommand) -> Result<ExitCode, Error> {
    match account {
        AccountCommand::Add(typed) => add::add(app, typed)?,
        AccountCommand::List => list::list(app)?,
        AccountCommand::Show(named) => list::show(app, &named.name)?,
        AccountCommand::Test(typed) => return test::test(app, typed),
        AccountCommand::SignIn(typed) => sign_in::sign_in(app, typed)?,
        AccountCommand::Rename(typed) => rename::rename(app, typed)?,
        AccountCommand::Remove(typed) => remove::remove(app, typed)?,
    }
    Ok(ExitCode::SUCCESS)
}

/// An account as JSON has it; nothing secret is in it.
fn described(account: &AccountConfig) -> Value {
    json!({
        "name": account.name,
        "address": account.address,
        "user": account.user,
        "sign_in": account.sign_in.word(),
        "secrets": account.keeping.word(),
        "principal": account.principal.as_ref().map(|principal| &principal.href),
        "principal_name": account.principal.as_ref().map(|principal| &principal.name),
        "read_only": account.read_only,
        "plain_http": account.plain_http,
        "trust": match &account.trust {
            Trust::System => json!("system"),
            Trust::Authority(file) => json!({"ca": file}),
            Trust::Pinned(_) | Trust::HostKey(_) => json!(account.trust.describe()),
        },
        "proxy": account.proxy.text(),
    })
}

/// Who signs in, and how.
fn signs_in(account: &AccountConfig) -> String {
    match account.sign_in {
        SignIn::Basic => format!("{}, by name and password", account.user),
        SignIn::Device => format!("{}, let in by a code (no password is kept)", account.user),
        SignIn::Key => match &account.key {
            Some(file) => format!("{}, by the key in {}", account.user, file.display()),
            None => format!("{}, by a key", account.user),
        },
        SignIn::Agent => format!("{}, by a key of the SSH agent", account.user),
    }
}

fn lanes_of(app: &App, name: &str) -> Vec<String> {
    app.config
        .lanes
        .iter()
        .filter(|lane| lane.uses(name))
        .map(|lane| lane.name.clone())
        .collect()
}
