//! The socket that agents connect to, and its folder: with rights of their own, whatever is usual for new files.

use std::fs::{self, DirBuilder, Permissions};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{DirBuilderExt, FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use rustix::net::{
    AddressFamily, SocketAddrUnix, SocketFlags, SocketType, bind, listen, socket_with,
};

/// Anybody may connect; only root may put another socket in its place.
const FOLDER: u32 = 0o755;
const SOCKET: u32 = 0o666;

/// So many may be connecting at the same moment.
const AT_ONCE: i32 = 128;

/// A socket that is listened at, and that goes with this unless another one has its name by then.
pub(crate) struct Socket {
    pub(crate) listening: OwnedFd,
    path: PathBuf,
    made: (u64, u64),
}

impl Socket {
    pub(crate) fn make(path: &Path) -> io::Result<Socket> {
        if let Some(folder) = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty())
        {
            make_folder(folder)?;
        }
        match fs::symlink_metadata(path) {
            Ok(there) if there.file_type().is_socket() => fs::remove_file(path)?,
            Ok(_) => return Err(io::Error::other("something else has its name")),
            Err(why) if why.kind() == io::ErrorKind::NotFound => {}
            Err(why) => return Err(why),
        }
        let listening = socket_with(
            AddressFamily::UNIX,
            SocketType::SEQPACKET,
            SocketFlags::CLOEXEC,
            None,
        )?;
        bind(&listening, &SocketAddrUnix::new(path)?)?;
        fs::set_permissions(path, Permissions::from_mode(SOCKET))?;
        let made = fs::symlink_metadata(path)?;
        listen(&listening, AT_ONCE)?;
        Ok(Socket {
            listening,
            path: path.to_owned(),
            made: (made.dev(), made.ino()),
        })
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Nobody finds it any more.
    pub(crate) fn remove(&self) {
        let there = fs::symlink_metadata(&self.path);
        if there.is_ok_and(|there| (there.dev(), there.ino()) == self.made) {
            // The next one makes it anew.
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// Makes the folder where there is none; where there is one, nobody else may put a socket of theirs into it.
fn make_folder(folder: &Path) -> io::Result<()> {
    if !folder.exists() {
        DirBuilder::new()
            .recursive(true)
            .mode(FOLDER)
            .create(folder)?;
        fs::set_permissions(folder, Permissions::from_mode(FOLDER))?;
    }
    let there = fs::metadata(folder)?;
    let own = rustix::process::geteuid().as_raw();
    if (there.uid() != own && there.uid() != 0) || there.mode() & 0o022 != 0 {
        return Err(io::Error::other(format!(
            "others may write in {}",
            folder.display()
        )));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folder_and_socket_have_their_own_rights() {
        let room = tempfile::tempdir().unwrap();
        let folder = room.path().join("run");
        let at = folder.join("socket");
        let before = rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
        let made = Socket::make(&at);
        rustix::process::umask(before);
        let made = made.unwrap();
        let mode = |at: &Path| fs::symlink_metadata(at).unwrap().mode() & 0o7777;
        assert_eq!((mode(&folder), mode(&at)), (FOLDER, SOCKET));
        // One after it takes its place, and is not taken away with it.
        let after = Socket::make(&at).unwrap();
        made.remove();
        assert!(at.exists());
        after.remove();
        assert!(!at.exists());
    }

    #[test]
    fn nothing_else_is_removed_and_no_folder_of_everybodys_is_taken() {
        let room = tempfile::tempdir().unwrap();
        let at = room.path().join("socket");
        fs::write(&at, "precious").unwrap();
        assert!(Socket::make(&at).is_err());
        assert_eq!(fs::read(&at).unwrap(), b"precious");
        fs::set_permissions(room.path(), Permissions::from_mode(0o777)).unwrap();
        assert!(Socket::make(&room.path().join("other")).is_err());
    }
}
