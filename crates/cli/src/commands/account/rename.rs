//! `account rename`: another name here; nothing changes in the cloud.

use clap::Args;
use katabatic_engine::{Error, account_book};
use serde_json::json;

use super::lanes_of;
use crate::app::App;
use crate::draw::{json, line};

/// `account rename`.
#[derive(Args, Debug)]
pub struct AccountRenameArgs {
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub name: String,
    /// The name it gets
    pub to: String,
}

pub fn rename(app: &App, typed: &AccountRenameArgs) -> Result<(), Error> {
    let from = app.config.account(&typed.name)?.name.clone();
    let to = typed.to.strip_prefix('@').unwrap_or(&typed.to);
    if from == to {
        if app.common.json {
            json::print(&json!({"renamed": from, "to": to, "lanes": [], "so_already": true}));
        } else {
            line(format!(
                "It is called @{from} already; nothing was changed."
            ));
        }
        return Ok(());
    }
    let lanes = lanes_of(app, &from);
    let mut config = app.config.clone();
    app.run(account_book::rename(
        &app.home,
        &mut config,
        &app.ledger,
        &from,
        to,
    ))?;
    if app.common.json {
        json::print(&json!({"renamed": from, "to": to, "lanes": lanes}));
        return Ok(());
    }
    line(format!(
        "@{from} is now @{to}. Nothing was changed in the cloud."
    ));
    if !lanes.is_empty() {
        line(format!("Its lanes follow: {}", lanes.join(", ")));
    }
    Ok(())
}
