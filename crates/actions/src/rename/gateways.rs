//! Other names for gateways and listeners. Their agents are told by the next order, which they know by its key to be for them; whoever is in
//! stays in.

use std::collections::BTreeMap;

use yestrel_core::estate::{
    Authority, CertificateKind, Credential, Gateway, IssuedCertificate, Listener, Material, Revocation, Session,
    SharedSecret, Told,
};
use yestrel_core::policy::Asks;
use yestrel_core::tunnel::Tunnel;
use yestrel_core::tunnel::quill::CallSecret;
use yestrel_core::{Problem, Result, name};
use yestrel_store::queries::{admitted_at, kept_out_at};
use yestrel_store::records::Address;
use yestrel_store::{Book, SealingKey};

use super::moved::{different, instead};
use crate::context::Context;
use crate::find::listeners_of;
use crate::keyring::labels;
use crate::{job, leftover, policy};

/// Gives a gateway another name, and with it its listeners.
///
/// # Errors
/// No such gateway, or the name is bad or taken; an old agent of it was left behind somewhere; other equipment knows a listener's name; a
/// secret cannot be sealed anew.
pub fn gateway(context: &mut Context, old: &str, new: &str) -> Result<()> {
    name::check("gateway", new)?;
    different(old, new)?;
    let sealing = context.key()?;
    context.write(|book| {
        let mut record: Gateway = book.need(old)?;
        job::none_open(book)?;
        if let Some((host, _)) = leftover::of(book)?.into_iter().find(|(_, left)| left.gateway == old) {
            return Err(Problem::refused(format!("an old agent of {old} is left on {}", host.name))
                .why("it knows itself by that name, and learns by it whom to let in no more")
                .try_("yestrel rollout   removes it as soon as that host answers"));
        }
        book.defer_references()?;
        let again = |sealed: &mut yestrel_core::estate::SealedSecret, label: fn(&str) -> String| -> Result<()> {
            *sealed = sealing.seal(&sealing.open(sealed, &label(old))?, &label(new))?;
            Ok(())
        };
        again(&mut record.private_key, labels::gateway)?;
        if let Some(sealed) = &mut record.certificate_key {
            again(sealed, labels::certificate)?;
        }
        if let Some(sealed) = &mut record.request_key {
            again(sealed, labels::request)?;
        }
        record.name = new.to_owned();
        let listeners = listeners_of(book, old)?;
        let own = |listener: &Listener| listener.name.split_once('/').map_or("", |(_, own)| own).to_owned();
        let renamed = listeners.iter().map(|one| (one.name.clone(), format!("{new}/{}", own(one)))).collect();
        let names = Names { old, new, listeners: renamed };
        instead(book, old, &record)?;
        for listener in listeners {
            names.rename_listener(book, &sealing, &record, listener)?;
        }
        names.rename_in_records(book)?;
        for mut authority in book.all::<Authority>()? {
            if names.in_gateways(&mut authority.published_at) {
                book.put(&authority)?;
            }
        }
        let of_it = [("subject", old.into())];
        for certificate in book.find::<IssuedCertificate>(&of_it)? {
            if certificate.kind == CertificateKind::Gateway {
                book.put(&IssuedCertificate { subject: new.into(), ..certificate })?;
            }
        }
        for session in book.find::<Session>(&[("gateway", old.into())])? {
            let name = format!("{new} {}", session.number);
            instead(book, &session.name, &Session { name: name.clone(), gateway: new.into(), ..session.clone() })?;
        }
        book.rename_orders(old, new)?;
        policy::follow(book, Asks::Gateway, old, new)?;
        book.note("gateway rename", old, &format!("to {new}"))
    })
}

/// Gives a listener another name, within its gateway.
///
/// # Errors
/// No such listener, or the name is bad, taken or of another gateway; other equipment knows the name; a secret cannot be sealed anew.
pub fn listener(context: &mut Context, old: &str, new: &str) -> Result<String> {
    let (gateway, own) = name::pair("listener", old, ("gateway", "listener"))?;
    let (at, called) = match new.split_once('/') {
        Some(_) => name::pair("listener", new, ("gateway", "listener"))?,
        None => (gateway, new),
    };
    name::check("listener", called)?;
    if at != gateway {
        return Err(Problem::refused(format!("{old} cannot become a listener of {at}"))
            .why("its keys and its port are those of its gateway")
            .try_(format!("yestrel listener open {at} --name {called}")));
    }
    different(own, called)?;
    let sealing = context.key()?;
    context.write(|book| {
        let record: Listener = book.need(old)?;
        job::none_open(book)?;
        let of: Gateway = book.need(gateway)?;
        book.defer_references()?;
        let called = format!("{gateway}/{called}");
        let names = Names { old: gateway, new: gateway, listeners: BTreeMap::from([(old.to_owned(), called.clone())]) };
        names.rename_listener(book, &sealing, &of, record)?;
        names.rename_in_records(book)?;
        book.note("listener rename", old, &format!("to {called}"))?;
        Ok(called)
    })
}

/// What is called what from now on.
struct Names<'a> {
    /// The gateway.
    old: &'a str,
    new: &'a str,
    /// Its listeners whose names change.
    listeners: BTreeMap<String, String>,
}

impl Names<'_> {
    fn in_listener(&self, listener: &mut String) -> bool {
        let Some(now) = self.listeners.get(listener) else { return false };
        listener.clone_from(now);
        true
    }

    fn in_gateways(&self, gateways: &mut [String]) -> bool {
        let Some(one) = gateways.iter_mut().find(|one| **one == self.old).filter(|_| self.old != self.new) else {
            return false;
        };
        self.new.clone_into(one);
        gateways.sort();
        true
    }

    /// Puts a listener and its addresses under its other name.
    fn rename_listener(
        &self,
        book: &Book<'_>,
        sealing: &SealingKey,
        gateway: &Gateway,
        mut listener: Listener,
    ) -> Result<()> {
        let old = listener.name.clone();
        for secret in book.find::<SharedSecret>(&[("holder", old.as_str().into())])? {
            if secret.revoked.is_none() {
                return Err(Problem::refused(format!("{old} is part of the name of a shared secret, {}", secret.name))
                    .why("those who hold it know it by that name")
                    .try_(format!("yestrel credential revoke {old} --kind shared-secret --reason renamed")));
            }
        }
        self.in_listener(&mut listener.name);
        self.new.clone_into(&mut listener.gateway);
        let new = listener.name.clone();
        if let Tunnel::Quill(quill) = &mut listener.tunnel {
            for call in &mut quill.calls {
                let lost = || Problem::failed(format!("a call secret of {old} is not kept"));
                let kept = call.kept.as_ref().ok_or_else(lost)?;
                let secret = sealing.open(kept, &labels::call(&old, call.number))?;
                let kept = sealing.seal(&secret, &labels::call(&new, call.number))?;
                let until = call.until;
                *call = CallSecret::new(&new, call.number, &secret, kept, &gateway.public_key)?;
                call.until = until;
            }
        }
        instead(book, &old, &listener)?;
        for address in book.find::<Address>(&[("listener", old.as_str().into())])? {
            let before = address.name.clone();
            let name = format!("{new} {}", address.inner);
            instead(book, &before, &Address { name, listener: new.clone(), ..address })?;
        }
        Ok(())
    }

    /// Credentials that come in there or came, and revocations that must be known there.
    fn rename_in_records(&self, book: &Book<'_>) -> Result<()> {
        for name in book.names::<Credential>(&admitted_at(self.old))? {
            self.rename_in(book, book.need(&name)?)?;
        }
        for name in book.names::<Revocation>(&kept_out_at(self.old))? {
            let mut revocation: Revocation = book.need(&name)?;
            for credential in book.find::<Credential>(&[("identity", name.as_str().into())])? {
                self.rename_in(book, credential)?;
            }
            if self.in_gateways(&mut revocation.gateways) {
                book.put(&revocation)?;
            }
        }
        Ok(())
    }

    fn rename_in(&self, book: &Book<'_>, mut credential: Credential) -> Result<()> {
        for way in credential.given_mut() {
            self.in_listener(&mut way.listener);
        }
        if let Material::Certificate(held) = &mut credential.material {
            self.in_gateways(&mut held.gateways);
        }
        if let Material::Password(held) = &mut credential.material {
            self.in_gateways(&mut held.gateways);
            if let Some(form) = held.account.for_agents.remove(self.old) {
                held.account.for_agents.insert(self.new.to_owned(), form);
            }
        }
        let told = |told: &mut Vec<Told>| told.iter_mut().for_each(|told| _ = self.in_listener(&mut told.listener));
        told(&mut credential.told);
        if let Some(notice) = &mut credential.notice {
            told(&mut notice.told);
            if notice.at.remove(self.old) {
                notice.at.insert(self.new.to_owned());
            }
        }
        book.put(&credential)
    }
}
