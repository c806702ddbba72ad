//! An account, whatever is spoken with it: what is asked of it as a whole, and its folders as sides.

use std::sync::Arc;

use async_trait::async_trait;
use katabatic_core::findings::Findings;
use katabatic_core::{Entry, RelPath};

use crate::sftp::{SftpClient, SftpSide};
use crate::survey::Survey;
use crate::webdav::{self, WebdavSide};
use crate::{SideError, SideStore};

/// Asks an account for things.
#[derive(Clone)]
pub enum AccountClient {
    /// By WebDAV.
    Webdav(Box<webdav::Client>),
    /// By SFTP.
    Sftp(SftpClient),
}

/// What was found out about an account's server before.
#[derive(Clone, Debug, Default)]
pub struct KnownServer {
    /// Whether it takes no name that begins with a dot.
    pub without_dots: bool,
    /// What the probe found.
    pub findings: Option<Findings>,
}

impl AccountClient {
    /// Asks about the account's folder, and with `listed` what lies there.
    ///
    /// # Errors
    /// Where it cannot be asked, or somebody else's account answers.
    pub async fn survey(&self, listed: bool) -> Result<Survey, SideError> {
        match self {
            AccountClient::Webdav(client) => webdav::survey(client, listed).await,
            AccountClient::Sftp(client) => client.survey(listed).await,
        }
    }

    /// The folder `root` of the account as a side; `computer` names this computer's own room there.
    #[must_use]
    pub fn folder(
        self,
        root: RelPath,
        (computer, lane_id): (&str, &str),
        known: &KnownServer,
    ) -> Arc<dyn AccountFolder> {
        match self {
            AccountClient::Webdav(client) => {
                let side = WebdavSide::new(*client, root, computer, lane_id);
                let side = match known.without_dots {
                    true => side.without_dots(),
                    false => side,
                };
                match &known.findings {
                    Some(findings) => Arc::new(side.knowing(findings)),
                    None => Arc::new(side),
                }
            }
            AccountClient::Sftp(client) => {
                let side = SftpSide::new(client, root, computer, lane_id);
                match &known.findings {
                    Some(findings) => Arc::new(side.knowing(findings)),
                    None => Arc::new(side),
                }
            }
        }
    }
}

/// A folder of an account as a side, with what only such a side can say.
#[async_trait]
pub trait AccountFolder: SideStore {
    /// Where a spare lies, below the account's address.
    ///
    /// # Errors
    /// Where that is no name.
    fn spare_at(&self, spare: &str) -> Result<RelPath, SideError>;

    /// What a folder holds, in no order.
    ///
    /// # Errors
    /// As [`crate::Lists::look`]; a listing that is not whole is an error here.
    async fn members_of(&self, path: &RelPath) -> Result<Vec<(String, Entry)>, SideError>;
}

#[async_trait]
impl AccountFolder for WebdavSide {
    fn spare_at(&self, spare: &str) -> Result<RelPath, SideError> {
        WebdavSide::spare_at(self, spare)
    }

    async fn members_of(&self, path: &RelPath) -> Result<Vec<(String, Entry)>, SideError> {
        WebdavSide::members_of(self, path).await
    }
}

#[async_trait]
impl AccountFolder for SftpSide {
    fn spare_at(&self, spare: &str) -> Result<RelPath, SideError> {
        SftpSide::spare_at(self, spare)
    }

    async fn members_of(&self, path: &RelPath) -> Result<Vec<(String, Entry)>, SideError> {
        SftpSide::members_of(self, path).await
    }
}
