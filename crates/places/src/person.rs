//! Whoever sits before the command.

use yestrel_core::Result;
use zeroize::Zeroizing;

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
    fn compares(&self, host: &str, algorithm: &str, fingerprint: &str) -> Result<bool>;

    /// How far something has come, in bytes.
    fn progress(&self, what: &str, done: u64, whole: u64);
}
