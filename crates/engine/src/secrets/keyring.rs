//! A secret in the desktop's keyring, by the Secret Service interface of freedesktop.org.
//!
//! The keyring may ask its owner to unlock it, which can take as long as a person takes; it is spoken to on a thread of
//! its own, so that no transfer waits for that.

use std::collections::HashMap;
use std::time::Duration;

use secret_service::{EncryptionType, SecretService};

use crate::home::Home;
use katabatic_sides::secret::Secret;

/// A keyring that does not even answer within this is none.
const ANSWER: Duration = Duration::from_secs(3);
/// A person who is asked to unlock it has this long.
const PERSON: Duration = Duration::from_secs(120);

/// Runs something against the keyring, on a thread of its own.
fn with<T: Send + 'static, F>(
    patience: Duration,
    then: impl FnOnce(SecretService<'static>) -> F + Send + 'static,
) -> Result<T, String>
where
    F: Future<Output = Result<T, secret_service::Error>>,
{
    let talk = move || {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|why| why.to_string())?;
        runtime.block_on(async {
            let asking = async {
                let service = SecretService::connect(EncryptionType::Dh).await?;
                then(service).await
            };
            match tokio::time::timeout(patience, asking).await {
                Ok(answer) => answer.map_err(|why| why.to_string()),
                Err(_) => Err("it does not answer".to_owned()),
            }
        })
    };
    std::thread::spawn(talk)
        .join()
        .unwrap_or_else(|_| Err("it could not be asked".into()))
}

fn attributes(home: &Home, account: &str) -> HashMap<String, String> {
    [
        ("application", "katabatic".to_owned()),
        ("home", home.state().display().to_string()),
        ("account", account.to_owned()),
    ]
    .into_iter()
    .map(|(name, value)| (name.to_owned(), value))
    .collect()
}

fn borrowed(attributes: &HashMap<String, String>) -> HashMap<&str, &str> {
    attributes
        .iter()
        .map(|(name, value)| (name.as_str(), value.as_str()))
        .collect()
}

/// Whether a keyring is there and open.
pub(super) fn answers() -> bool {
    with(ANSWER, |service| async move {
        let collection = service.get_default_collection().await?;
        collection.is_locked().await
    }) == Ok(false)
}

pub(super) fn keep(home: &Home, account: &str, secret: &Secret) -> Result<(), String> {
    let (attributes, secret) = (attributes(home, account), secret.clone());
    let label = format!("Katabatic: @{account}");
    with(PERSON, move |service| async move {
        let collection = service.get_default_collection().await?;
        if collection.is_locked().await? {
            collection.unlock().await?;
        }
        collection
            .create_item(
                &label,
                borrowed(&attributes),
                secret.reveal().as_bytes(),
                true,
                "text/plain",
            )
            .await
            .map(drop)
    })
}

pub(super) fn recall(home: &Home, account: &str) -> Result<Secret, String> {
    let attributes = attributes(home, account);
    let bytes = with(PERSON, move |service| async move {
        let found = service.search_items(borrowed(&attributes)).await?;
        let item = match (found.unlocked.first(), found.locked.first()) {
            (Some(item), _) => item,
            (None, Some(item)) => {
                item.unlock().await?;
                item
            }
            (None, None) => return Err(secret_service::Error::NoResult),
        };
        item.get_secret().await
    })?;
    String::from_utf8(bytes)
        .map(Secret::new)
        .map_err(|_| "what it holds is no text".into())
}

pub(super) fn forget(home: &Home, account: &str) -> Result<(), String> {
    let attributes = attributes(home, account);
    with(PERSON, move |service| async move {
        let found = service.search_items(borrowed(&attributes)).await?;
        for item in found.unlocked.iter().chain(&found.locked) {
            item.delete().await?;
        }
        Ok(())
    })
}
