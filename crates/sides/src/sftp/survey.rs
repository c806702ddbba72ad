//! What an SFTP account says of itself: how full its disk is, and what lies at its top.

use katabatic_core::RelPath;

use super::client::SftpClient;
use super::far_path::Path;
use crate::survey::{Survey, Top};
use crate::{SideError, is_own};

impl SftpClient {
    /// Asks about the account's folder, and with `listed` what lies there.
    ///
    /// # Errors
    /// Where it cannot be asked, or is no folder.
    pub async fn survey(&self, listed: bool) -> Result<Survey, SideError> {
        let root = Path::account(&RelPath::root());
        match self.look(&root).await? {
            Some(there) if there.is_folder() => {}
            Some(_) => {
                return Err(SideError::Failed(
                    "a file is at this address, no folder, or a link".into(),
                ));
            }
            None => return Err(SideError::Missing),
        }
        let space = self.space().await?;
        let mut survey = Survey {
            used: space.map(|(used, _)| used),
            free: space.map(|(_, free)| free),
            server: Some(self.spoken().await?),
            ..Survey::default()
        };
        if listed {
            survey.top = self
                .names(&root)
                .await?
                .into_iter()
                .map(|name| Top {
                    name: String::from_utf8_lossy(&name.name).into_owned(),
                    folder: name.attributes.is_folder(),
                    may_write: None,
                    owner: None,
                })
                .filter(|top| !is_own(&top.name))
                .collect();
            survey.top.sort_by(|a, b| a.name.cmp(&b.name));
        }
        Ok(survey)
    }

    /// What is spoken with the server.
    async fn spoken(&self) -> Result<String, SideError> {
        let extensions = self.extensions().await?;
        let of_openssh = extensions
            .iter()
            .any(|(name, _)| name.ends_with("@openssh.com"));
        Ok(match of_openssh {
            true => "SFTP 3 with the extensions of OpenSSH".into(),
            false => "SFTP 3".into(),
        })
    }
}
