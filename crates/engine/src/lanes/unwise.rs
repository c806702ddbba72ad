//! What is possible and yet unwise about a lane: said when it is added, and never in the way.

use std::path::{Path, PathBuf};

use crate::config::LaneConfig;
use crate::lock;
use katabatic_core::place::{Place, absolute};

/// What is unwise about a lane, a sentence each.
#[must_use]
pub fn unwise(lane: &LaneConfig) -> Vec<String> {
    let mut said = Vec::new();
    for folder in [&lane.near, &lane.far].into_iter().filter_map(Place::local) {
        let shown = folder.display();
        if is_root_of_a_disk(folder) {
            said.push(format!(
                "{shown} is the root of a disk: whatever else is kept there comes along, the wastebasket too. A folder in it is safer."
            ));
        }
        if is_a_home(folder) {
            said.push(format!(
                "{shown} is a whole home folder: the settings of programs that change all the time come along. Tie the folders in it one by one."
            ));
        }
        if let Err(error) = lock::lock_folder(folder) {
            said.push(format!("{shown} is locked by a program: {}", error.why));
        }
    }
    said
}

fn is_root_of_a_disk(folder: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let device = |path: &Path| path.metadata().map(|meta| meta.dev()).ok();
    match folder.parent() {
        None => true,
        Some(parent) => device(folder).is_some() && device(folder) != device(parent),
    }
}

fn is_a_home(folder: &Path) -> bool {
    let own = std::env::var_os("HOME").map(PathBuf::from);
    own.is_some_and(|home| absolute(&home) == folder) || folder.parent() == Some(Path::new("/home"))
}
