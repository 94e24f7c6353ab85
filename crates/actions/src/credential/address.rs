//! Inner addresses that are given with credentials by wish: in whose pool one is, and whether it can be had.

use std::collections::{BTreeMap, VecDeque};
use std::net::Ipv4Addr;

use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{CredentialKind, Listener, Way};
use yestrel_core::{Problem, Result, moment, pool};
use yestrel_store::Book;
use yestrel_store::records::Address;

/// The listeners of some gateways at which a credential of a kind comes in.
pub(super) fn takers(book: &Book<'_>, gateways: &[String], kind: CredentialKind) -> Result<Vec<Listener>> {
    let proof = match kind {
        CredentialKind::KeyPair => ProofKind::Key,
        CredentialKind::Certificate => ProofKind::Certificate,
        CredentialKind::Password => ProofKind::Account,
    };
    let mut all: Vec<Listener> = Vec::new();
    for gateway in gateways {
        all.extend(book.find::<Listener>(&[("gateway", gateway.as_str().into())])?);
    }
    all.retain(|listener| listener.tunnel.proofs().contains(&proof));
    Ok(all)
}

/// Which of the listeners has an address in its pool.
///
/// # Errors
/// None has, or no device can have it.
pub(super) fn listener_of<'a>(listeners: &'a [Listener], address: Ipv4Addr, whom: &str) -> Result<&'a Listener> {
    let Some(listener) = listeners.iter().find(|listener| listener.pool.contains(&address)) else {
        let pools: Vec<_> = listeners.iter().map(|one| format!("{} of {}", one.pool, one.name)).collect();
        let there = if pools.is_empty() {
            "no listener there takes such a credential".into()
        } else {
            format!("the pools there are {}", pools.join(", "))
        };
        return Err(Problem::words(format!("{address} is in no pool from which {whom} gets its address"))
            .why(there)
            .try_("an --address of such a pool, or without it: one that is free is given"));
    };
    if !pool::usable(&listener.pool, address) {
        return Err(Problem::words(format!("no device can have {address}"))
            .why(format!("in {} it is the gateway's, or the first or last of the range", listener.pool))
            .try_("another --address"));
    }
    Ok(listener)
}

/// Gives an address to a credential, for good. Who only leased it gets another at its next sign-in.
///
/// # Errors
/// Another device has it.
pub(super) fn give(book: &Book<'_>, listener: &str, inner: Ipv4Addr, device: &str, credential: &str) -> Result<Way> {
    let wanted = Address::new(listener, inner, credential);
    if let Some(there) = book.get::<Address>(&wanted.name)?
        && !there.is_free(book.now)
        && !there.leased
        && there.device() != device
    {
        let held = there.held_until.map(|until| format!(", and it is held for that device until {}", moment(until)));
        return Err(Problem::refused(format!("{inner} is {}'s address at {listener}", there.device()))
            .why(format!("it was given with {}{}", there.credential, held.unwrap_or_default()))
            .try_("another --address"));
    }
    book.put(&wanted)?;
    Ok(Way { listener: listener.into(), inner })
}

/// Addresses that nobody had when a transaction asked for them, by listener: many are given by one transaction, and each look would be one
/// more question.
#[derive(Default)]
pub(super) struct Free(BTreeMap<String, VecDeque<(Ipv4Addr, bool)>>);

/// How many are asked for at once, after the first.
const RUN: usize = 256;

impl Free {
    /// Gives a credential the address that is wanted, where it is of this listener; else the one that the device had with a credential
    /// before, else one that is given to nobody. `first`: it is the device's first credential.
    ///
    /// # Errors
    /// Another device has the one that is wanted; the pool is full.
    pub(super) fn give(
        &mut self,
        book: &Book<'_>,
        listener: &Listener,
        wanted: Option<Ipv4Addr>,
        (device, credential): (&str, &str),
        first: bool,
    ) -> Result<Way> {
        if let Some(wanted) = wanted.filter(|wanted| listener.pool.contains(wanted)) {
            return give(book, &listener.name, wanted, device, credential);
        }
        // Whoever never had a credential has no address that waits.
        let held = if first { None } else { book.held_for(device, &listener.name)? };
        let (inner, recorded) = match held.filter(|had| listener.pool.contains(&had.inner)) {
            Some(had) => (had.inner, true),
            None => self.next(book, listener)?,
        };
        let address = Address::new(&listener.name, inner, credential);
        if recorded {
            book.put(&address)?
        } else {
            book.put_new(&address)?
        };
        if recorded && let Some(free) = self.0.get_mut(&listener.name) {
            // It was held for this device, and its time is over.
            free.retain(|(one, _)| *one != inner);
        }
        Ok(Way { listener: listener.name.clone(), inner })
    }

    fn next(&mut self, book: &Book<'_>, listener: &Listener) -> Result<(Ipv4Addr, bool)> {
        let most = if self.0.contains_key(&listener.name) { RUN } else { 1 };
        let free = self.0.entry(listener.name.clone()).or_default();
        if free.is_empty() {
            free.extend(book.free_addresses(listener, most)?);
        }
        free.pop_front().ok_or_else(|| pool::full(&listener.name, &listener.pool))
    }
}
