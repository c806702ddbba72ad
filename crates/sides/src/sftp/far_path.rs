//! A path on the server, as its bytes are sent.

use katabatic_core::RelPath;

/// A path on the server: below the account's folder, or any.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Path(Vec<u8>);

impl Path {
    /// A path of the account.
    pub(super) fn account(path: &RelPath) -> Path {
        Path(path.as_str().as_bytes().to_vec())
    }

    /// Something in the folder at this path.
    pub(super) fn below(&self, name: &str) -> Path {
        self.below_bytes(name.as_bytes())
    }

    /// The same of a name in any encoding.
    pub(super) fn below_bytes(&self, name: &[u8]) -> Path {
        Path([&self.0[..], name].join(&b'/'))
    }

    /// As the server names it, where the account's folder lies at `base`.
    pub(super) fn full(&self, base: &[u8]) -> Vec<u8> {
        if self.0.is_empty() {
            return base.to_vec();
        }
        let mut full = base.to_vec();
        if full.last() != Some(&b'/') {
            full.push(b'/');
        }
        full.extend_from_slice(&self.0);
        full
    }

    pub(super) fn shown(&self) -> std::borrow::Cow<'_, str> {
        String::from_utf8_lossy(&self.0)
    }
}
