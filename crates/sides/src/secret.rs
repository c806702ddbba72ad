//! A password on its way, and where passwords are kept.

use zeroize::Zeroize;

/// A password that never shows itself, not even in a panic, and is wiped from memory when it is done with.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Keeps this text.
    #[must_use]
    pub fn new(text: String) -> Secret {
        Secret(text)
    }

    /// The text, for the one place that sends it.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl Drop for Secret {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Secret(…)")
    }
}

/// Where a secret is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Keeping {
    /// A file that only its owner may read.
    #[default]
    File,
    /// The desktop's keyring (the Secret Service interface of freedesktop.org).
    Keyring,
    /// A file encrypted to a key that a passphrase opens.
    Passphrase,
}

impl Keeping {
    /// As config and options spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Keeping::File => "file",
            Keeping::Keyring => "keyring",
            Keeping::Passphrase => "passphrase",
        }
    }

    /// Reads the word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Keeping> {
        [Keeping::File, Keeping::Keyring, Keeping::Passphrase]
            .into_iter()
            .find(|keeping| keeping.word() == word)
    }

    /// What it means, in words.
    #[must_use]
    pub fn describe(self) -> &'static str {
        match self {
            Keeping::File => "in a file that only you can read, apart from the config",
            Keeping::Keyring => {
                "in the desktop's keyring, which is open while you are signed in there"
            }
            Keeping::Passphrase => {
                "in an encrypted file, whose passphrase is asked for once per sign-in"
            }
        }
    }
}
