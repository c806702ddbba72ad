//! Whose account it is.

/// Whose account it is (RFC 5397).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Principal {
    /// The address of the principal, as the server gives it.
    pub href: String,
    /// What it is called; the last part of the address where the server gives no name.
    pub name: String,
}

impl std::fmt::Display for Principal {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{} ({})", self.name, self.href)
    }
}
