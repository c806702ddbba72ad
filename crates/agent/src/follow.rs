//! Follows a folder of this computer: the system tells what changes in it, where it can.

use std::path::{Path, PathBuf};

use katabatic_core::Side;
use notify::event::{AccessKind, AccessMode};
use notify::{EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use tokio::sync::mpsc;

use super::Word;
use katabatic_sides::is_own;

/// For as long as it lives, the folder is followed.
pub(super) struct Follower {
    _watcher: RecommendedWatcher,
}

/// Follows a folder and all below it.
///
/// # Errors
/// Says why it cannot be followed; then it has to be looked at from time to time.
pub(super) fn follow(
    side: Side,
    root: &Path,
    tell: mpsc::UnboundedSender<Word>,
) -> Result<Follower, String> {
    if let Some(kind) = network_drive(root) {
        return Err(format!(
            "{} is on {kind}, which tells nothing",
            root.display()
        ));
    }
    let below = root.to_owned();
    let watching = notify::recommended_watcher(move |event| {
        if let Some(word) = word_of(side, &below, event) {
            // Nobody listens any more: the agent ends.
            let _ = tell.send(word);
        }
    });
    let failed = |why: notify::Error| match why.kind {
        notify::ErrorKind::MaxFilesWatch => {
            "there are more folders than this user may watch (sysctl fs.inotify.max_user_watches)"
                .to_owned()
        }
        _ => why.to_string(),
    };
    let mut watcher = watching.map_err(failed)?;
    watcher
        .watch(root, RecursiveMode::Recursive)
        .map_err(failed)?;
    Ok(Follower { _watcher: watcher })
}

fn word_of(side: Side, root: &Path, event: notify::Result<notify::Event>) -> Option<Word> {
    let event = match event {
        Ok(event) => event,
        Err(why) => return Some(Word::Lost(why.to_string())),
    };
    if event.need_rescan() {
        return Some(Word::Lost(
            "more happened at once than the system could tell".into(),
        ));
    }
    let writes = match event.kind {
        EventKind::Access(AccessKind::Close(AccessMode::Write)) => true,
        EventKind::Access(_) => false,
        _ => true,
    };
    let of_people = |path: &PathBuf| {
        let below = path.strip_prefix(root).unwrap_or(path);
        // What happens to the folder itself is the mark that a pass leaves there.
        path != root
            && !below
                .components()
                .any(|part| part.as_os_str().to_str().is_some_and(is_own))
    };
    let paths: Vec<PathBuf> = event.paths.into_iter().filter(of_people).collect();
    (writes && !paths.is_empty()).then_some(Word::Changed(side, paths))
}

/// What a network drive is called, if a folder lies on one: others change it, and no system tells of that.
fn network_drive(root: &Path) -> Option<&'static str> {
    let stat = rustix::fs::statfs(root).ok()?;
    match stat.f_type as u32 {
        0x6969 => Some("NFS"),
        0x517b | 0xff53_4d42 | 0xfe53_4d42 => Some("a Windows share"),
        0x6573_5546 => Some("a drive behind FUSE"),
        0x0102_1997 => Some("a 9P share"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn heard(words: &mut mpsc::UnboundedReceiver<Word>, name: &str) {
        loop {
            match words.recv().await.unwrap() {
                Word::Changed(_, paths) if paths.iter().any(|path| path.ends_with(name)) => return,
                Word::Changed(..) => {}
                _ => panic!("something else than a change was told"),
            }
        }
    }

    #[tokio::test]
    async fn what_people_do_is_told_and_what_the_tool_does_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path().canonicalize().unwrap();
        std::fs::create_dir(root.join(".katabatic")).unwrap();
        std::fs::create_dir(root.join("known")).unwrap();
        let (tell, mut words) = mpsc::unbounded_channel();
        let _follower = follow(Side::Near, &root, tell).unwrap();
        std::fs::write(root.join(".katabatic/staged"), "x").unwrap();
        std::fs::create_dir(root.join("new")).unwrap();
        heard(&mut words, "new").await;
        std::fs::write(root.join("a.txt"), "x").unwrap();
        heard(&mut words, "a.txt").await;
        std::fs::rename(root.join("a.txt"), root.join("known/b.txt")).unwrap();
        heard(&mut words, "b.txt").await;
        std::fs::remove_dir_all(root.join("known")).unwrap();
        heard(&mut words, "known").await;
        while let Ok(word) = words.try_recv() {
            let Word::Changed(_, paths) = word else {
                continue;
            };
            assert!(
                paths
                    .iter()
                    .all(|path| !path.starts_with(root.join(".katabatic")))
            );
        }
    }

    #[test]
    fn what_is_not_there_cannot_be_followed() {
        let (tell, _words) = mpsc::unbounded_channel();
        assert!(follow(Side::Near, Path::new("/nowhere/at/all"), tell).is_err());
    }
}
