//! What places may offer besides managing a host.

use std::net::IpAddr;

use yestrel_core::Result;
use yestrel_core::firewall::Service;

/// A port that a router forwards to a host behind it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mapping {
    /// As it is dialled from outside.
    pub outside: Service,
    /// On the host.
    pub inside: Service,
    /// The host.
    pub to: IpAddr,
}

/// Forwarding ports.
pub trait Forward: Send + Sync {
    /// What is forwarded now.
    ///
    /// # Errors
    /// The router does not answer or does not say.
    fn mappings(&self) -> Result<Vec<Mapping>>;

    /// Forwards a port. The same mapping again is no error.
    ///
    /// # Errors
    /// The router does not answer, or the port is forwarded to another host.
    fn map(&self, mapping: &Mapping) -> Result<()>;

    /// Forwards a port no longer; whether it was forwarded.
    ///
    /// # Errors
    /// The router does not answer, or refuses.
    fn unmap(&self, outside: Service) -> Result<bool>;
}

/// Setting what a name leads to.
pub trait Name: Send + Sync {
    /// Where the name leads by this service.
    ///
    /// # Errors
    /// The service does not answer.
    fn addresses(&self, name: &str) -> Result<Vec<IpAddr>>;

    /// Lets the name lead to this address.
    ///
    /// # Errors
    /// The service does not answer, or the name is not ours to set.
    fn set(&self, name: &str, address: IpAddr) -> Result<()>;
}

/// A machine that can be rented.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    pub name: String,
    pub region: String,
    /// Hundredths of the currency, by month.
    pub monthly: u64,
    /// Three letters (ISO 4217).
    pub currency: String,
}

/// Renting machines.
pub trait Rent: Send + Sync {
    /// What can be rented now.
    ///
    /// # Errors
    /// The provider does not answer.
    fn offers(&self) -> Result<Vec<Offer>>;

    /// Rents a machine under a name; gives its address.
    ///
    /// # Errors
    /// The provider does not answer, has none left, or refuses.
    fn rent(&self, offer: &Offer, name: &str) -> Result<IpAddr>;

    /// Gives a machine back, and stops paying for it.
    ///
    /// # Errors
    /// The provider does not answer, or there is none of that name.
    fn release(&self, name: &str) -> Result<()>;
}
