//! Whoever sits before the command.

use yestrel_core::Result;
use zeroize::Zeroizing;

/// Which of the two keys on the way to a host one is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// The host's own.
    Host,
    /// That of the host on the way.
    Jump,
}

impl Whose {
    /// The option by which its fingerprint is named beforehand.
    #[must_use]
    pub fn option(self) -> &'static str {
        match self {
            Self::Host => "--host-key",
            Self::Jump => "--jump-key",
        }
    }
}

/// Whoever sits before the command: asked for what is never kept, and shown how far long work has come. Hosts are managed
/// several at a time, so questions may come from any thread; one is asked after another.
pub trait Person: Send + Sync {
    /// A secret, without echo.
    ///
    /// # Errors
    /// Nobody can be asked.
    fn secret(&self, what: &str) -> Result<Zeroizing<String>>;

    /// Whether the key with this fingerprint is really the host's.
    ///
    /// # Errors
    /// Nobody can be asked.
    fn compares(&self, host: &str, whose: Whose, algorithm: &str, fingerprint: &str) -> Result<bool>;

    /// How far something has come, in bytes.
    fn progress(&self, what: &str, done: u64, whole: u64);
}
