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

/// What only whoever took the sign-in knows of it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Signed<'a> {
    /// The realm of the name, of a session; of an account that comes in it is read from its name.
    pub realm: Option<&'a str>,
    /// The device did not sign in before.
    pub first: bool,
    /// The code of a second factor was given, and still counts.
    pub second_factor: bool,
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
    /// What is remembered of how a session that is up signed in.
    pub signed: Signed<'a>,
}
