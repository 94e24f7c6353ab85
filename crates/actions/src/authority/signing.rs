//! Which authority signs, what stands above it, and the record of what it signed.

use jiff::Timestamp;
use yestrel_core::estate::{Authority, CertificateKind, CertificateState, IssuedCertificate};
use yestrel_core::x509::Certificate;
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;

use crate::keyring::{above, decoded, encoded};

/// Notes a certificate that was signed.
pub(crate) fn record(
    book: &Book<'_>,
    authority: &str,
    kind: CertificateKind,
    subject: &str,
    certificate: &Certificate,
    now: Timestamp,
) -> Result<()> {
    book.put(&IssuedCertificate {
        name: certificate.serial(),
        authority: authority.into(),
        kind,
        subject: subject.into(),
        certificate: encoded(certificate),
        state: CertificateState::Good,
        issued: now,
        expires: certificate.not_after(),
        revoked: None,
        reason: None,
    })
}

/// The authority that issues when none is named: the only one that can and is no root above others.
///
/// # Errors
/// There is none, or several.
pub(crate) fn issuing(book: &Book<'_>, named: Option<&str>) -> Result<Authority> {
    if let Some(named) = named {
        let authority: Authority = book.need(named)?;
        if let Some(at) = authority.retired {
            return Err(
                Problem::refused(format!("the authority {named} is retired")).why(format!("since {}", moment(at)))
            );
        }
        return Ok(authority);
    }
    let all: Vec<Authority> = book.all()?;
    let fit: Vec<_> = all
        .iter()
        .filter(|one| one.retired.is_none() && one.private_key.is_some() && one.expires > book.now)
        .filter(|one| !all.iter().any(|other| other.parent.as_ref() == Some(&one.name)))
        .collect();
    match fit[..] {
        [only] => Ok(only.clone()),
        [] => Err(Problem::refused("there is no authority that could sign this")
            .why("the estate has none whose key is here")
            .try_("yestrel authority create")),
        _ => Err(Problem::words("there are several authorities; which is to sign?")
            .why(fit.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", "))
            .try_("--authority NAME")),
    }
}

/// The chain below the root: an authority's own certificate and those above it, without the last.
pub(crate) fn chain(book: &Book<'_>, authority: &Authority) -> Result<(Vec<Certificate>, Certificate)> {
    let mut chain = vec![decoded(&authority.certificate)?];
    chain.extend(above(book, authority)?);
    let root = chain.pop().ok_or_else(|| Problem::failed("an authority has no certificate"))?;
    Ok((chain, root))
}
