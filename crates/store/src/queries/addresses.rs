//! Which inner addresses are held, and for whom.

use yestrel_core::Result;

use crate::book::Book;
use crate::records::Address;
use crate::rows::Query;

/// Later than any moment.
const EVER: &str = "9999-12-31T23:59:59Z";

impl Book<'_> {
    /// Addresses that are held after a revocation, or were.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn held_addresses(&self) -> Result<Vec<Address>> {
        self.ask(&Query { at_most: Some(("held_until", EVER)), ..Query::default() })
    }

    /// The address of a listener that was held last for a device: it gets that one again.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn held_for(&self, device: &str, listener: &str) -> Result<Option<Address>> {
        let (prefix, filters) = (format!("{device}/"), [("listener", listener.into())]);
        let query = Query {
            filters: &filters,
            beginning: Some(("credential", &prefix)),
            at_most: Some(("held_until", EVER)),
            ..Query::default()
        };
        let all: Vec<Address> = self.ask(&query)?;
        Ok(all.into_iter().max_by_key(|address| (address.held_until, address.inner)))
    }
}
