//! What somebody shows who wants to come in.

use std::net::IpAddr;

use jiff::Timestamp;

use crate::keys::PublicKey;

/// What is shown. A tunnel has checked it as far as it can without knowing who is admitted: that the other end has the
/// private half of a key, say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shown<'a> {
    Key(PublicKey),
    /// SHA-256 of the public key with algorithm, of a certificate whose signature and dates hold.
    Certificate(PublicKey),
    /// The name of an account; whoever asks has still to check its password.
    Account(&'a str),
    /// The number of a shared secret.
    SharedSecret(u64),
    /// Nothing new: a session is up, of the credential that is known by this, and is looked at again.
    Session(PublicKey),
}

/// Somebody wants to come in.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// `GATEWAY/NAME`.
    pub listener: &'a str,
    pub shown: Shown<'a>,
    /// Where it comes from, where that is known.
    pub from: Option<IpAddr>,
    /// Of a session that is up: when it began.
    pub since: Option<Timestamp>,
}
