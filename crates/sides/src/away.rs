//! A side that is not there, such as a drive that is not plugged in, for whoever only wants to know how things stood
//! there when it was seen last: the ledger tells that. Whatever it is asked, it answers that it is not there.

use std::collections::HashSet;

use crate::capabilities::{
    Describes, Fences, HoldsStubs, Identifies, Lists, Marks, Places, Reads, Stages, TellsChanges,
};
use crate::shelves::Shelves;
use async_trait::async_trait;
use katabatic_core::{Entry, Kind, RelPath};
use tokio::sync::mpsc;

use crate::proof::Warrant;
use katabatic_core::known_root::KnownRoot;

use super::{
    Captured, Checked, FolderGone, Found, GivenUp, Outcome, Put, SideError, Source, Staged, Steps,
    Swapped, Undone,
};

/// A side that is not there, with the reason in words.
#[derive(Clone, Debug)]
pub struct AwaySide(pub String);

impl AwaySide {
    fn no<T>(&self) -> Result<T, SideError> {
        Err(SideError::not_there(self.0.clone()))
    }

    fn undone<T>(&self) -> Outcome<T> {
        self.no().map_err(Undone::NotDone)
    }
}

#[async_trait]
impl Lists for AwaySide {
    async fn root(&self) -> Result<KnownRoot, SideError> {
        self.no()
    }

    async fn scan(&self, _: mpsc::Sender<Found>) -> Result<(), SideError> {
        self.no()
    }

    async fn names(&self, _: &RelPath) -> Result<Vec<String>, SideError> {
        self.no()
    }

    async fn look(&self, _: &RelPath) -> Result<Option<Entry>, SideError> {
        self.no()
    }
}

impl TellsChanges for AwaySide {}

#[async_trait]
impl Reads for AwaySide {
    async fn read_from(&self, _: &RelPath, _: &Entry, _: u64) -> Result<Source, SideError> {
        self.no()
    }
}

impl Identifies for AwaySide {
    fn handle(&self, _: &Entry) -> Option<String> {
        None
    }

    fn handles_last(&self) -> bool {
        false
    }

    fn tags_prove(&self) -> bool {
        false
    }

    fn is_fresh(&self, _: &Entry) -> bool {
        false
    }
}

#[async_trait]
impl Stages for AwaySide {
    async fn stage(&self, _: Source, _: &RelPath, _: &Steps) -> Result<Staged, SideError> {
        self.no()
    }

    async fn unstage(&self, _: &str) -> Result<(), SideError> {
        self.no()
    }

    async fn is_staged(&self, _: &str) -> Result<bool, SideError> {
        self.no()
    }

    async fn clear_staging(&self, _: &HashSet<String>) -> Result<(), SideError> {
        self.no()
    }
}

#[async_trait]
impl Places for AwaySide {
    async fn swap(&self, _: &str, _: &RelPath, _: &str) -> Outcome<Swapped> {
        self.undone()
    }

    async fn swap_back(&self, _: &RelPath, _: &str) -> Outcome<()> {
        self.undone()
    }

    async fn capture(&self, _: &RelPath, _: &str) -> Outcome<Captured> {
        self.undone()
    }

    async fn check(&self, _: &str, _: &Entry) -> Result<Checked, SideError> {
        self.no()
    }

    async fn put_back(&self, _: &str, _: &RelPath) -> Outcome<Put> {
        self.undone()
    }

    async fn place(&self, _: &str, _: &Entry, _: &RelPath) -> Outcome<Put> {
        self.undone()
    }

    async fn verify(&self, _: &RelPath, _: &Entry) -> Result<Option<Entry>, SideError> {
        self.no()
    }

    async fn make_folder(&self, _: &RelPath) -> Outcome<Put> {
        self.undone()
    }

    async fn remove_folder(&self, _: &RelPath, _: &str) -> Outcome<FolderGone> {
        self.undone()
    }

    async fn rename(&self, _: &RelPath, _: &RelPath) -> Outcome<Put> {
        self.undone()
    }
}

#[async_trait]
impl Fences for AwaySide {
    async fn fence_spare(
        &self,
        _: &RelPath,
        _: Kind,
        _: &[String],
        _: &str,
    ) -> Result<Option<String>, SideError> {
        self.no()
    }

    async fn fence_staged(&self, _: &[String], _: &str) -> Result<Option<String>, SideError> {
        self.no()
    }
}

#[async_trait]
impl Shelves for AwaySide {
    async fn look_at_spare(&self, _: &str) -> Result<Option<Entry>, SideError> {
        self.no()
    }

    async fn shelf(&self) -> Result<Vec<String>, SideError> {
        self.no()
    }

    async fn is_empty_spare(&self, _: &str) -> Result<bool, SideError> {
        self.no()
    }

    async fn read_spare(&self, _: &str) -> Result<Source, SideError> {
        self.no()
    }

    async fn give_up(&self, _: &str, _: Warrant) -> Result<GivenUp, SideError> {
        self.no()
    }
}

impl HoldsStubs for AwaySide {}

#[async_trait]
impl Marks for AwaySide {
    async fn mark_root(&self) -> Result<(), SideError> {
        self.no()
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        self.no()
    }
}

impl Describes for AwaySide {}
