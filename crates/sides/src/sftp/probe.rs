//! What a server of SFTP really does with what is asked of it, found out in a folder of its own that is removed again.

use futures_util::StreamExt;
use katabatic_core::RelPath;
use katabatic_core::findings::{Findings, FoundNames, SftpFindings};

use super::carry::{self, Way};
use super::client::SftpClient;
use super::far_path::Path;
use super::wire::{Ask, Attributes, RIGHTS, Status, open};
use super::{Inner, SftpSide, list, room, transfer};
use crate::private_files::random_hex;
use crate::probe::{LENGTHS, Probed, TRIED};
use crate::survey::Survey;
use crate::{Put, SideError, TEST_FOLDERS, Undone};

/// What the test of an account writes.
const CONTENT: &[u8] =
    b"Katabatic was here to see whether it may write. This file can be removed.\n";

/// A date that no clock shows any more.
const OLD: u32 = 1_000_000_000;

struct Trial {
    inner: std::sync::Arc<Inner>,
    folder: RelPath,
}

impl SftpClient {
    /// Writes a small file in a folder of its own making in the folder `within`, reads it back, and removes both.
    ///
    /// # Errors
    /// What did not go well.
    pub async fn try_writing(&self, within: &RelPath) -> Result<u64, SideError> {
        let trial = Trial::begin(self, within).await?;
        let written = trial.written_and_read().await;
        trial.clear().await?;
        written.map(|()| CONTENT.len() as u64)
    }

    /// Finds out what the server can do, in a folder of its own making in the folder `within`.
    ///
    /// # Errors
    /// Where the server goes away meanwhile.
    pub async fn probe(&self, survey: &Survey, within: &RelPath) -> Result<Probed, SideError> {
        let trial = match Trial::begin(self, within).await {
            Ok(trial) => trial,
            Err(error) if error.ends_the_pass() => return Err(error),
            Err(error) => return Ok(Probed::NotWritable(error.to_string())),
        };
        let found = trial.all(survey).await;
        let cleared = trial.clear().await;
        let mut found = found?;
        if let Err(why) = cleared {
            tracing::debug!("the folder of the test stays: {why}");
            found.left_behind = Some(trial.folder.as_str().to_owned());
        }
        Ok(Probed::Found(Box::new(found)))
    }
}

impl Trial {
    async fn begin(client: &SftpClient, within: &RelPath) -> Result<Trial, SideError> {
        let unique = random_hex(8).map_err(|error| SideError::Failed(error.why))?;
        let [name, _] = TEST_FOLDERS;
        let folder = within
            .join(&format!("{name}{unique}"))
            .map_err(|why| SideError::Failed(why.to_string()))?;
        let side = SftpSide::new(client.clone(), folder.clone(), "probe", "probe");
        let inner = side.inner;
        let made = carry::make_folder(&inner, &Path::account(&folder), None).await;
        match made.map_err(Undone::told)? {
            Put::Done => Ok(Trial { inner, folder }),
            Put::Taken => Err(SideError::Failed("the name of the test is taken".into())),
        }
    }

    async fn clear(&self) -> Result<(), SideError> {
        carry::remove_tree(&self.inner, &Path::account(&self.folder)).await
    }

    fn at(&self, name: &str) -> Path {
        Path::account(&self.folder).below(name)
    }

    async fn put(&self, name: &str, content: &'static [u8]) -> Result<(), SideError> {
        let flags = open::WRITE | open::CREATE | open::NEW;
        let file = self.inner.client.open(&self.at(name), flags).await;
        let file = file.map_err(Undone::told)?;
        file.done(file.packet(Ask::Write).long(0).text(content))
            .await
    }

    async fn content(&self, name: &str) -> Result<Option<Vec<u8>>, SideError> {
        let Some(seen) = list::look(&self.inner, &self.at(name)).await? else {
            return Ok(None);
        };
        let mut source = transfer::read(&self.inner, &self.at(name), &seen, 0).await?;
        let mut content = Vec::new();
        while let Some(piece) = source.content.next().await {
            content.extend_from_slice(&piece?);
        }
        Ok(Some(content))
    }

    async fn holds(&self, name: &str, content: &[u8]) -> Result<bool, SideError> {
        Ok(self.content(name).await?.as_deref() == Some(content))
    }

    async fn written_and_read(&self) -> Result<(), SideError> {
        self.put("test.txt", CONTENT).await?;
        match self.holds("test.txt", CONTENT).await? {
            true => Ok(()),
            false => Err(SideError::Failed(
                "what was written came back as something else".into(),
            )),
        }
    }

    async fn all(&self, survey: &Survey) -> Result<Findings, SideError> {
        let (keeps_dates, keeps_rights) = self.keeps_attributes().await?;
        let sftp = SftpFindings {
            links: self.gives_new_names(Way::Link).await?,
            takes_out: self.takes_out().await?,
            keeps_names: self.keeps_names().await?,
            rename_refuses: self.gives_new_names(Way::Plain).await?,
            syncs: self.syncs().await?,
            copies: self.copies().await?,
            keeps_dates,
            keeps_rights,
        };
        let names = self.names().await?;
        let quota = survey.used.is_some() || survey.free.is_some();
        Ok(Findings::of_sftp(survey.server.clone(), quota, sftp, names))
    }

    async fn renamed(&self, way: Way, from: &str, to: &str) -> Result<bool, SideError> {
        let said = self
            .inner
            .give_name(way, &self.at(from), &self.at(to))
            .await;
        let (status, _) = said.map_err(Undone::told)?;
        Ok(status == Status::Fine)
    }

    /// Whether this way gives a name where nothing has it, and leaves alone what has one.
    async fn gives_new_names(&self, way: Way) -> Result<bool, SideError> {
        let name = |what: &str| format!("{what} {way:?}");
        let (ours, taken, free) = (name("ours"), name("taken"), name("free"));
        self.put(&ours, b"ours").await?;
        self.put(&taken, b"somebody's").await?;
        let over = self.renamed(way, &ours, &taken).await?;
        let new = self.renamed(way, &ours, &free).await?;
        Ok(!over
            && new
            && self.holds(&taken, b"somebody's").await?
            && self.holds(&free, b"ours").await?)
    }

    async fn takes_out(&self) -> Result<bool, SideError> {
        self.put("taken out", b"a version").await?;
        Ok(self.renamed(Way::Over, "taken out", "kept").await?
            && self.content("taken out").await?.is_none()
            && self.holds("kept", b"a version").await?)
    }

    /// Whether a folder of ours keeps files and folders from its name, whichever way they would come.
    async fn keeps_names(&self) -> Result<bool, SideError> {
        self.put("late", b"late").await?;
        let folder = self.at("late folder");
        let made = carry::make_folder(&self.inner, &folder, None).await;
        made.map_err(Undone::told)?;
        let fence = self.at("fence");
        if !room::keep_free(&self.inner, &fence).await? {
            return Ok(false);
        }
        for what in ["late", "late folder"] {
            for way in [Way::Over, Way::Plain] {
                if self.renamed(way, what, "fence").await? {
                    return Ok(false);
                }
            }
        }
        let stands = room::stands(&self.inner, &fence).await?;
        room::let_go(&self.inner, &fence).await?;
        Ok(matches!(stands, room::Kept::Free))
    }

    async fn syncs(&self) -> Result<bool, SideError> {
        if !self.inner.client.has(transfer::FSYNC).await? {
            return Ok(false);
        }
        let flags = open::WRITE | open::CREATE | open::NEW;
        let file = self.inner.client.open(&self.at("synced"), flags).await;
        let file = file.map_err(Undone::told)?;
        said(file.done(file.extended(transfer::FSYNC)).await)
    }

    /// Whether the server copies right, and writes into the middle of a file without a harm to the rest.
    async fn copies(&self) -> Result<bool, SideError> {
        if !self.inner.client.has(transfer::COPY).await? {
            return Ok(false);
        }
        self.put("original", b"the original").await?;
        let client = &self.inner.client;
        let from = client.open(&self.at("original"), open::READ).await;
        let from = from.map_err(Undone::told)?;
        let flags = open::WRITE | open::CREATE | open::NEW;
        let to = client.open_beside(&from, &self.at("copy"), flags).await?;
        if !said(from.done(transfer::copy(&from, &to, transfer::WHOLE)).await)? {
            return Ok(false);
        }
        to.done(to.packet(Ask::Write).long(4).text(b"ORIG")).await?;
        Ok(self.holds("copy", b"the ORIGinal").await?
            && self.holds("original", b"the original").await?)
    }

    async fn keeps_attributes(&self) -> Result<(bool, bool), SideError> {
        self.put("dated", b"dated").await?;
        let file = self.inner.client.open(&self.at("dated"), open::WRITE).await;
        let file = file.map_err(Undone::told)?;
        for given in [
            Attributes {
                times: Some((OLD, OLD)),
                ..Attributes::default()
            },
            Attributes {
                mode: Some(0o640),
                ..Attributes::default()
            },
        ] {
            said(
                file.done(file.packet(Ask::FileSetStat).attributes(&given))
                    .await,
            )?;
        }
        let now = file.look().await?;
        Ok((
            now.times.is_some_and(|(_, changed)| changed == OLD),
            now.mode.is_some_and(|mode| mode & RIGHTS == 0o640),
        ))
    }

    async fn names(&self) -> Result<FoundNames, SideError> {
        let mut refused_characters = String::new();
        let mut taken = Vec::new();
        for character in TRIED {
            let name = format!("with {character} in it");
            match said(self.put(&name, b"x").await)? {
                true => taken.push((character, name)),
                false => refused_characters.push(character),
            }
        }
        let dotted = said(self.put(".dot", b"x").await)?;
        let shown = self
            .inner
            .client
            .names(&Path::account(&self.folder))
            .await?;
        let shows = |name: &str| shown.iter().any(|shown| shown.name == name.as_bytes());
        for (character, name) in taken {
            // Taken, and listed under another name, is as bad as refused.
            if !shows(&name) {
                refused_characters.push(character);
            }
        }
        let mut longest_name = 0;
        for length in LENGTHS {
            if said(self.put(&"n".repeat(length), b"x").await)? {
                longest_name = length;
                break;
            }
        }
        Ok(FoundNames {
            dots: dotted && shows(".dot"),
            case_differs: self.two_names("Case.txt", "case.txt").await?,
            unicode_differs: self.two_names("caf\u{e9}", "cafe\u{301}").await?,
            refused_characters,
            longest_name,
        })
    }

    async fn two_names(&self, one: &str, other: &str) -> Result<bool, SideError> {
        self.put(one, b"one").await?;
        Ok(said(self.put(other, b"other").await)? && self.holds(one, b"one").await?)
    }
}

/// Whether the server did it; that it is not there any more is an error.
fn said(done: Result<(), SideError>) -> Result<bool, SideError> {
    match done {
        Ok(()) => Ok(true),
        Err(error) if error.ends_the_pass() => Err(error),
        Err(SideError::TryAgain(why)) => Err(SideError::TryAgain(why)),
        Err(_) => Ok(false),
    }
}
