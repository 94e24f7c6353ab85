//! Which addresses listeners lease, of which policies give some.

use ipnet::Ipv4Net;
use yestrel_core::Result;
use yestrel_core::estate::Listener;
use yestrel_core::tunnel::Addresses;
use yestrel_store::Book;

/// Whether some listener leases addresses of a range.
pub(super) fn has_pool(book: &Book<'_>, pool: &Ipv4Net) -> Result<bool> {
    let leases = |one: &Listener| one.tunnel.addresses() == Addresses::Leased && one.pool.contains(pool);
    Ok(book.all::<Listener>()?.iter().any(leases))
}
