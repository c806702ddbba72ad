//! The accounts that the config knows: saved, renamed, taken away with the lanes that use them.

use crate::accounts::device_grant;
use crate::config::{AccountConfig, Config};
use crate::secrets;
use crate::{Class, Error, Home, lanes};
use katabatic_ledger::{Ledger, account_rows};
use katabatic_sides::secret::Keeping;
use katabatic_sides::secret::Secret;

/// Saves a new account: its secret first, so that the config never names one that cannot sign in.
///
/// # Errors
/// Where secret or config cannot be written.
pub fn save(
    home: &Home,
    config: &mut Config,
    account: AccountConfig,
    secret: &Secret,
) -> Result<(), Error> {
    secrets::keep(home, &account.name, account.keeping, secret)?;
    config.add_account(account)
}

/// Saves an account that signed in again, perhaps with its secret kept in another way, or with another trust.
///
/// # Errors
/// Where secret or config cannot be written.
pub fn save_again(
    home: &Home,
    config: &mut Config,
    account: AccountConfig,
    secret: &Secret,
) -> Result<(), Error> {
    let before = config.account(&account.name)?.keeping;
    secrets::keep(home, &account.name, account.keeping, secret)?;
    let (name, keeping) = (account.name.clone(), account.keeping);
    config.change_account(account)?;
    if before != keeping {
        secrets::forget(home, &name, before)?;
    }
    Ok(())
}

/// Gives an account another name; its lanes follow.
///
/// # Errors
/// A name that is taken or cannot be one; a file that cannot be written.
pub async fn rename(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    from: &str,
    to: &str,
) -> Result<(), Error> {
    let account = config.account(from)?.clone();
    let taken = config.accounts.iter().any(|known| known.name == to);
    config.check_free("account", to, taken)?;
    let secret = secrets::recall(home, &account.name, account.keeping)?;
    // First under both names: whatever is cut off here, the account that the config names can sign in.
    secrets::keep(home, to, account.keeping, &secret)?;
    config.rename_account(&account.name, to)?;
    secrets::forget(home, &account.name, account.keeping)?;
    let (from, to) = (account.name, to.to_owned());
    ledger
        .write(move |connection| account_rows::rename(connection, &from, &to))
        .await
}

/// Takes an account away, with its lanes where that is wanted; every file stays on both sides.
///
/// # Errors
/// Where lanes still use it and are not to go too, or something cannot be written.
pub async fn remove(
    home: &Home,
    config: &mut Config,
    ledger: &Ledger,
    name: &str,
    with_lanes: bool,
) -> Result<Vec<String>, Error> {
    let account = config.account(name)?.clone();
    let lanes: Vec<String> = config
        .lanes
        .iter()
        .filter(|lane| lane.uses(&account.name))
        .map(|lane| lane.name.clone())
        .collect();
    if !lanes.is_empty() && !with_lanes {
        return Err(Error::new(
            Class::Usage,
            format!("removing the account @{}", account.name),
            format!("lanes still use it: {}", lanes.join(", ")),
            format!(
                "To take the lanes away too, and leave every file on both sides: katabatic account remove {} --with-lanes",
                account.name
            ),
        ));
    }
    for lane in &lanes {
        lanes::remove(home, config, ledger, lane).await?;
    }
    if account.keeping != Keeping::Passphrase
        && let Some(tokens) = secrets::recall(home, &account.name, account.keeping)
            .ok()
            .and_then(|secret| device_grant::Tokens::from_secret(&secret))
    {
        device_grant::revoke(&account.line(), &tokens).await;
    }
    config.remove_account(&account.name)?;
    secrets::forget(home, &account.name, account.keeping)?;
    ledger
        .write(move |connection| account_rows::forget(connection, &account.name))
        .await?;
    Ok(lanes)
}
