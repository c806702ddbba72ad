//! `account remove`: the account and its secret go from here; every file stays where it is.

use clap::Args;
use katabatic_engine::{Error, account_book};
use serde_json::json;

use crate::app::App;
use crate::draw::{json, line};

/// `account remove`.
#[derive(Args, Debug)]
pub struct AccountRemoveArgs {
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub name: String,
    /// Take its lanes away too; every file stays on both sides
    #[arg(long)]
    pub with_lanes: bool,
}

pub fn remove(app: &App, typed: &AccountRemoveArgs) -> Result<(), Error> {
    let name = app.config.account(&typed.name)?.name.clone();
    let mut config = app.config.clone();
    let lanes = app.run(account_book::remove(
        &app.home,
        &mut config,
        &app.ledger,
        &name,
        typed.with_lanes,
    ))?;
    if app.common.json {
        json::print(&json!({"removed": name, "lanes": lanes}));
        return Ok(());
    }
    line(format!(
        "Removed the account @{name} and its secret. Nothing was changed in the cloud."
    ));
    if !lanes.is_empty() {
        line(format!(
            "Its lanes went too: {}. Every file stays, here and in the cloud.",
            lanes.join(", ")
        ));
    }
    Ok(())
}
