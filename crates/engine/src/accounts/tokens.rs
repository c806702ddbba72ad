//! The access token of an account while it is used: renewed before it ends, by one program at a time.

use std::fs::File;

use async_trait::async_trait;
use rustix::fs::{FlockOperation, flock};
use tokio::sync::Mutex;

use super::device_grant::{Tokens, renew};
use crate::Home;
use crate::secrets;
use katabatic_sides::net::Line;
use katabatic_sides::secret::Keeping;
use katabatic_sides::secret::Secret;
use katabatic_sides::side_error::SideError;
use katabatic_sides::webdav::AccessTokens;

/// A token that ends within this many seconds is renewed before it is used.
const SOON: i64 = 30;

/// Holds the tokens of one account.
#[derive(Debug)]
pub struct TokenKeeper {
    home: Home,
    account: String,
    /// Where renewed tokens are kept; none while nobody has said yet that it is the right account.
    keeping: Option<Keeping>,
    line: Line,
    tokens: Mutex<Tokens>,
}

impl TokenKeeper {
    /// A keeper for tokens that were just recalled or given.
    #[must_use]
    pub fn new(
        home: Home,
        account: &str,
        keeping: Option<Keeping>,
        line: Line,
        tokens: Tokens,
    ) -> TokenKeeper {
        TokenKeeper {
            home,
            account: account.to_owned(),
            keeping,
            line,
            tokens: Mutex::new(tokens),
        }
    }

    async fn renewed(&self, tokens: &Tokens) -> Result<Tokens, SideError> {
        let Some(keeping) = self.keeping else {
            return renew(&self.line, tokens).await;
        };
        // Two programs that renew at once would each make the other's token worthless at some servers.
        let path = self
            .home
            .secrets()
            .join(format!(".{}.renewing", self.account));
        let failed = |why: String| SideError::Failed(format!("renewing the sign-in: {why}"));
        let lock = tokio::task::spawn_blocking(move || {
            let file = File::create(path)?;
            flock(&file, FlockOperation::LockExclusive)?;
            Ok::<_, std::io::Error>(file)
        });
        let _lock = lock
            .await
            .map_err(|why| failed(why.to_string()))?
            .map_err(|why| failed(why.to_string()))?;
        let kept = secrets::recall(&self.home, &self.account, keeping)
            .ok()
            .and_then(|secret| Tokens::from_secret(&secret));
        if let Some(kept) = kept
            && kept.access != tokens.access
        {
            return Ok(kept);
        }
        let new = renew(&self.line, tokens).await?;
        // Before it is used: once the server has seen the new one, the old one may be worth nothing.
        secrets::keep(&self.home, &self.account, keeping, &new.to_secret())
            .map_err(|error| failed(error.why))?;
        Ok(new)
    }
}

#[async_trait]
impl AccessTokens for TokenKeeper {
    async fn access(&self) -> Result<String, SideError> {
        let mut tokens = self.tokens.lock().await;
        if tokens.until - jiff::Timestamp::now().as_second() < SOON {
            *tokens = self.renewed(&tokens).await?;
        }
        Ok(tokens.access.clone())
    }

    async fn refused(&self, access: &str) -> Result<(), SideError> {
        let mut tokens = self.tokens.lock().await;
        if tokens.access == access {
            *tokens = self.renewed(&tokens).await?;
        }
        Ok(())
    }

    async fn secret(&self) -> Secret {
        self.tokens.lock().await.to_secret()
    }
}
