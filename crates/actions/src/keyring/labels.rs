//! Under which label each secret is sealed: a sealed secret opens for nothing else.

use yestrel_core::estate::Method;
use yestrel_core::keys::PublicKey;

/// The estate's signing key.
pub(crate) const SIGNING: &str = "estate signing key";

/// By what the estate's gateways call on each other.
pub(crate) const PEERS: &str = "call among gateways";

/// A signing key of the estate from before.
pub(crate) fn previous_signing(key: &PublicKey) -> String {
    format!("estate signing key {key}")
}

/// A gateway's own key.
pub(crate) fn gateway(name: &str) -> String {
    format!("gateway {name}")
}

/// The key of a gateway's certificate.
pub(crate) fn certificate(gateway: &str) -> String {
    format!("certificate of gateway {gateway}")
}

/// The key of a request that somebody else is to sign for a gateway.
pub(crate) fn request(gateway: &str) -> String {
    format!("request of gateway {gateway}")
}

/// An authority's key.
pub(crate) fn authority(name: &str) -> String {
    format!("authority {name}")
}

/// The key that answers for an authority.
pub(crate) fn responder(authority: &str) -> String {
    format!("responder of {authority}")
}

/// A credential's key, or the password that was made for it.
pub(crate) fn credential(name: &str) -> String {
    format!("credential {name}")
}

/// An account's second factor.
pub(crate) fn second_factor(credential: &str) -> String {
    format!("second factor of {credential}")
}

/// The form of an account's password for MS-CHAPv2.
pub(crate) fn ms_chap(credential: &str) -> String {
    format!("{} form of {credential}", Method::MsChapV2)
}

/// A secret that several share.
pub(crate) fn shared_secret(name: &str) -> String {
    format!("shared secret {name}")
}

/// A call secret of a listener.
pub(crate) fn call(listener: &str, number: u32) -> String {
    format!("call secret {number} of {listener}")
}
