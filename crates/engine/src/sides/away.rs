//! A side that is not there, such as a drive that is not plugged in, for whoever only wants to know how things stood
//! there when it was seen last: the ledger tells that. Whatever it is asked, it answers that it is not there.

use std::collections::HashSet;

use async_trait::async_trait;
use katabatic_core::{Entry, RelPath};
use tokio::sync::mpsc;

use super::{
    Captured, Checked, FolderGone, Found, Put, SideError, SideStore, Source, Staged, Steps, Swapped,
};

/// A side that is not there, with the reason in words.
#[derive(Clone, Debug)]
pub(crate) struct AwaySide(pub(crate) String);

impl AwaySide {
    fn no<T>(&self) -> Result<T, SideError> {
        Err(SideError::NotThere(self.0.clone()))
    }
}

#[async_trait]
impl SideStore for AwaySide {
    async fn root(&self) -> Result<String, SideError> {
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

    async fn read_from(&self, _: &RelPath, _: &Entry, _: u64) -> Result<Source, SideError> {
        self.no()
    }

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

    async fn swap(&self, _: &str, _: &RelPath, _: &str) -> Result<Swapped, SideError> {
        self.no()
    }

    async fn swap_back(&self, _: &RelPath, _: &str) -> Result<(), SideError> {
        self.no()
    }

    async fn capture(&self, _: &RelPath, _: &str) -> Result<Captured, SideError> {
        self.no()
    }

    async fn check(&self, _: &str, _: &Entry) -> Result<Checked, SideError> {
        self.no()
    }

    async fn put_back(&self, _: &str, _: &RelPath) -> Result<Put, SideError> {
        self.no()
    }

    async fn place(&self, _: &str, _: &Entry, _: &RelPath) -> Result<Put, SideError> {
        self.no()
    }

    async fn verify(&self, _: &RelPath, _: &Entry) -> Result<Option<Entry>, SideError> {
        self.no()
    }

    async fn look_at_spare(&self, _: &str) -> Result<Option<Entry>, SideError> {
        self.no()
    }

    async fn read_spare(&self, _: &str) -> Result<Source, SideError> {
        self.no()
    }

    async fn drop_spare(&self, _: &str) -> Result<(), SideError> {
        self.no()
    }

    async fn make_folder(&self, _: &RelPath) -> Result<Put, SideError> {
        self.no()
    }

    async fn remove_folder(&self, _: &RelPath, _: &str) -> Result<FolderGone, SideError> {
        self.no()
    }

    async fn rename(&self, _: &RelPath, _: &RelPath) -> Result<Put, SideError> {
        self.no()
    }

    fn handle(&self, _: &Entry) -> Option<String> {
        None
    }

    fn handles_last(&self) -> bool {
        false
    }

    async fn mark_root(&self) -> Result<(), SideError> {
        self.no()
    }

    async fn is_marked(&self) -> Result<bool, SideError> {
        self.no()
    }

    fn tags_prove(&self) -> bool {
        false
    }

    fn is_fresh(&self, _: &Entry) -> bool {
        false
    }
}
