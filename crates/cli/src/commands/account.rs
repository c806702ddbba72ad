//! `account add | list | show | test | remove`.

use std::io::BufRead;
use std::process::ExitCode;

use katabatic_core::words;
use katabatic_engine::accounts::{self, Tested, understand_address};
use katabatic_engine::config::AccountConfig;
use katabatic_engine::secrets::{self, Secret};
use katabatic_engine::sides::webdav::Connection;
use katabatic_engine::{Class, Error};
use serde_json::json;

use crate::app::App;
use crate::args::{Account, AccountAdd};
use crate::draw::table::Rows;
use crate::draw::{json, line};

pub fn account(app: &App, account: &Account) -> Result<ExitCode, Error> {
    match account {
        Account::Add(add) => self::add(app, add)?,
        Account::List => list(app),
        Account::Show(named) => show(app, &named.name)?,
        Account::Test(named) => test(app, &named.name)?,
        Account::Remove(named) => remove(app, &named.name)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn add(app: &App, add: &AccountAdd) -> Result<(), Error> {
    let taken = app
        .config
        .accounts
        .iter()
        .any(|account| account.name == add.name);
    app.config.check_free("account", &add.name, taken)?;
    let address = understand_address(&add.address)?;
    let password = password(app, add)?;
    let connection = Connection {
        address: address.clone(),
        user: add.user.clone(),
        password: password.clone(),
    };
    let tested = app.run(accounts::test(&add.name, connection, &app.stop))?;
    secrets::keep(&app.home, &add.name, &password)?;
    let account = AccountConfig {
        name: add.name.clone(),
        address: address.to_string(),
        user: add.user.clone(),
    };
    let mut config = app.config.clone();
    config.add_account(account.clone())?;
    if app.common.json {
        json::print(&json!({"account": described(&account), "test": tested_json(&tested)}));
        return Ok(());
    }
    line(format!(
        "Added the account @{}: {} signs in at {address}",
        add.name, add.user
    ));
    say_tested(&tested);
    line("  password    kept in a file that only you can read, apart from the config");
    line(format!(
        "Next: katabatic lane add NAME --near DIR --far @{}/FOLDER",
        add.name
    ));
    Ok(())
}

fn password(app: &App, add: &AccountAdd) -> Result<Secret, Error> {
    let what = || format!("reading the password of @{}", add.name);
    let first_line = |mut reader: Box<dyn BufRead>| {
        let mut text = String::new();
        reader.read_line(&mut text).map_err(|why| {
            Error::usage(what(), why.to_string(), "Try again; nothing was saved.")
        })?;
        Ok(text)
    };
    let text = if add.password_stdin {
        first_line(Box::new(std::io::stdin().lock()))?
    } else if let Some(file) = &add.password_file {
        let opened = std::fs::File::open(file).map_err(|why| {
            Error::usage(
                what(),
                format!("{}: {why}", file.display()),
                "Name a file that can be read.",
            )
        })?;
        first_line(Box::new(std::io::BufReader::new(opened)))?
    } else {
        if !app.style.terminal {
            return Err(Error::usage(
                what(),
                "there is no terminal to ask on",
                "Give it with --password-stdin or --password-file FILE, never as an argument.",
            ));
        }
        rpassword::prompt_password(format!("Password of {} at {}: ", add.user, add.address))
            .map_err(|why| Error::usage(what(), why.to_string(), "Try again; nothing was saved."))?
    };
    let text = text.trim_end_matches(['\n', '\r']).to_owned();
    if text.is_empty() {
        return Err(Error::usage(
            what(),
            "it is empty",
            "Give one; nothing was saved.",
        ));
    }
    Ok(Secret::new(text))
}

fn say_tested(tested: &Tested) {
    line(format!(
        "  signed in   after {} ms",
        tested.signed_in.as_millis()
    ));
    let folders = match tested.folders.len() {
        0 => "no folders".to_owned(),
        count if count > 8 => format!(
            "{} and {} more folders",
            tested.folders[..8].join(", "),
            count - 8
        ),
        _ => tested.folders.join(", "),
    };
    let files = words::count(tested.files, "file", "files");
    line(format!(
        "  at the top  {folders}; {files}; listed in {} ms",
        tested.listed.as_millis()
    ));
}

fn described(account: &AccountConfig) -> serde_json::Value {
    json!({"name": account.name, "address": account.address, "user": account.user})
}

fn tested_json(tested: &Tested) -> serde_json::Value {
    json!({
        "signed_in_ms": tested.signed_in.as_millis() as u64,
        "listed_ms": tested.listed.as_millis() as u64,
        "folders": tested.folders,
        "files": tested.files,
    })
}

fn lanes_of(app: &App, name: &str) -> Vec<String> {
    app.config
        .lanes
        .iter()
        .filter(|lane| lane.account == name)
        .map(|lane| lane.name.clone())
        .collect()
}

fn list(app: &App) {
    if app.common.json {
        let accounts: Vec<_> = app.config.accounts.iter().map(described).collect();
        json::print(&json!({"accounts": accounts}));
        return;
    }
    if app.config.accounts.is_empty() {
        line(
            "There are no accounts yet. Add one: katabatic account add NAME --address URL --user USER",
        );
        return;
    }
    let mut rows = Rows::new(app.style, &["account", "user", "address", "lanes"]);
    for account in &app.config.accounts {
        let lanes = lanes_of(app, &account.name);
        let lanes = if lanes.is_empty() {
            "none".to_owned()
        } else {
            lanes.join(", ")
        };
        rows.add(vec![
            format!("@{}", account.name),
            account.user.clone(),
            account.address.clone(),
            lanes,
        ]);
    }
    rows.print(0);
}

fn show(app: &App, name: &str) -> Result<(), Error> {
    let account = app.config.account(name)?;
    let lanes = lanes_of(app, &account.name);
    if app.common.json {
        json::print(&json!({"account": described(account), "lanes": lanes}));
        return Ok(());
    }
    line(format!("account @{}", account.name));
    line(format!("  address     {}", account.address));
    line(format!("  user        {}", account.user));
    line("  password    in a file that only you can read, apart from the config");
    line(format!(
        "  lanes       {}",
        if lanes.is_empty() {
            "none".into()
        } else {
            lanes.join(", ")
        }
    ));
    Ok(())
}

fn test(app: &App, name: &str) -> Result<(), Error> {
    let account = app.config.account(name)?;
    let connection = Connection {
        address: understand_address(&account.address)?,
        user: account.user.clone(),
        password: secrets::recall(&app.home, &account.name)?,
    };
    let tested = app.run(accounts::test(&account.name, connection, &app.stop))?;
    if app.common.json {
        json::print(&json!({"account": described(account), "test": tested_json(&tested)}));
        return Ok(());
    }
    line(format!(
        "The account @{} answers: {} at {}",
        account.name, account.user, account.address
    ));
    say_tested(&tested);
    Ok(())
}

fn remove(app: &App, name: &str) -> Result<(), Error> {
    let account = app.config.account(name)?;
    let lanes = lanes_of(app, &account.name);
    if !lanes.is_empty() {
        return Err(Error::new(
            Class::Usage,
            format!("removing the account @{}", account.name),
            format!("lanes still use it: {}", lanes.join(", ")),
            format!(
                "Remove them first (their files stay on both sides): katabatic lane remove {}",
                lanes[0]
            ),
        ));
    }
    let name = account.name.clone();
    let mut config = app.config.clone();
    config.remove_account(&name)?;
    secrets::forget(&app.home, &name)?;
    if app.common.json {
        json::print(&json!({"removed": name}));
    } else {
        line(format!(
            "Removed the account @{name} and its password. Nothing was changed in the cloud."
        ));
    }
    Ok(())
}
