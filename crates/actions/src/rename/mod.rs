//! Other names, with everything that names them. Keys, accounts, addresses and sessions stay as they are: a device notices nothing.
//!
//! | file | its job |
//! |---|---|
//! | `mod` | people, groups, devices, sites |
//! | `gateways` | gateways and listeners |
//! | `moved` | a record in the place of another |

mod gateways;
mod moved;

pub use gateways::{gateway, listener};
use moved::{different, instead};

use yestrel_core::estate::{
    Credential, Device, Gateway, Group, Host, IssuedCertificate, Revocation, SealedSecret, Session, SharedSecret, Site,
    User,
};
use yestrel_core::policy::Asks;
use yestrel_core::{Problem, Result, name};
use yestrel_store::queries::in_group;
use yestrel_store::records::Address;
use yestrel_store::{Book, SealingKey};

use crate::changed::Changed;
use crate::context::Context;
use crate::job;
use crate::keyring::labels;
use crate::policy;

/// Gives a group another name.
///
/// # Errors
/// No such group, or the name is bad or taken.
pub fn group(context: &mut Context, old: &str, new: &str) -> Result<()> {
    name::check("group", new)?;
    different(old, new)?;
    context.write(|book| {
        let group: Group = book.need(old)?;
        job::none_open(book)?;
        book.defer_references()?;
        instead(book, old, &Group { name: new.into(), ..group })?;
        for mut user in book.ask::<User>(&in_group(old))? {
            user.groups.retain(|one| one != old);
            user.groups.push(new.into());
            user.groups.sort();
            book.put(&user)?;
        }
        policy::follow(book, Asks::Group, old, new)?;
        book.note("group rename", old, &format!("to {new}"))
    })
}

/// Gives a site another name.
///
/// # Errors
/// No such site, the name is bad or taken, or a shared secret is named after the site.
pub fn site(context: &mut Context, old: &str, new: &str) -> Result<()> {
    name::check("site", new)?;
    different(old, new)?;
    context.write(|book| {
        let record: Site = book.need(old)?;
        let links: Vec<_> = book
            .all::<SharedSecret>()?
            .into_iter()
            .filter(|secret| secret.revoked.is_none() && secret.holder.split('+').any(|one| one == old))
            .map(|secret| secret.name)
            .collect();
        if let Some(link) = links.first() {
            return Err(Problem::refused(format!("{old} is part of the name of a shared secret, {link}"))
                .why("other equipment knows that name")
                .try_(format!("yestrel credential revoke {link} --reason renamed")));
        }
        book.defer_references()?;
        instead(book, old, &Site { name: new.into(), ..record })?;
        for host in book.find::<Host>(&[("site", old.into())])? {
            book.put(&Host { site: new.into(), ..host })?;
        }
        for gateway in book.find::<Gateway>(&[("site", old.into())])? {
            book.put(&Gateway { site: new.into(), ..gateway })?;
        }
        policy::follow(book, Asks::Site, old, new)?;
        book.note("site rename", old, &format!("to {new}"))
    })
}

/// Gives a user another name, and with it their devices and credentials.
///
/// # Errors
/// No such user, or the name is bad or taken; a secret cannot be sealed anew.
pub fn user(context: &mut Context, old: &str, new: &str) -> Result<Changed<()>> {
    name::check("user", new)?;
    different(old, new)?;
    let sealing = context.key()?;
    context.write(|book| {
        let record: User = book.need(old)?;
        book.defer_references()?;
        let mut affected = Affected::default();
        instead(book, old, &User { name: new.into(), ..record })?;
        for device in book.find::<Device>(&[("user", old.into())])? {
            let own = device.name.split_once('/').map_or("", |(_, own)| own);
            let called = format!("{new}/{own}");
            move_device(book, &sealing, device, new, &called, &mut affected)?;
        }
        policy::follow(book, Asks::User, old, new)?;
        book.note("user rename", old, &format!("to {new}"))?;
        Ok(affected.changed())
    })
}

/// Gives a device another name, of the same user.
///
/// # Errors
/// No such device, the name is bad or taken, or of another user; a secret cannot be sealed anew.
pub fn device(context: &mut Context, old: &str, new: &str) -> Result<Changed<()>> {
    let (user, own) = name::pair("device", old, ("user", "device"))?;
    let (whose, called) = match new.split_once('/') {
        Some(_) => name::pair("device", new, ("user", "device"))?,
        None => (user, new),
    };
    name::check("device", called)?;
    if whose != user {
        return Err(Problem::refused(format!("{old} cannot become {whose}'s"))
            .why("its keys are known to the one who has carried it")
            .try_(format!("yestrel device add {whose}/{called}")));
    }
    different(own, called)?;
    let sealing = context.key()?;
    context.write(|book| {
        let record: Device = book.need(old)?;
        book.defer_references()?;
        let mut affected = Affected::default();
        let called = format!("{user}/{called}");
        move_device(book, &sealing, record, user, &called, &mut affected)?;
        book.note("device rename", old, &format!("to {called}"))?;
        Ok(affected.changed())
    })
}

/// Gateways and devices that a rename is about.
#[derive(Default)]
struct Affected {
    gateways: Vec<String>,
    devices: Vec<String>,
}

impl Affected {
    fn changed(self) -> Changed<()> {
        Changed::of((), self.gateways, self.devices)
    }
}

fn move_device(
    book: &Book<'_>,
    sealing: &SealingKey,
    device: Device,
    user: &str,
    called: &str,
    affected: &mut Affected,
) -> Result<()> {
    let old = device.name.clone();
    let of_it = || [("device", old.as_str().into())];
    instead(book, &old, &Device { name: called.into(), user: user.into(), ..device })?;
    for mut credential in book.find::<Credential>(&of_it())? {
        let before = credential.name.clone();
        let number = before.rsplit_once('/').map_or("1", |(_, number)| number);
        let after = format!("{called}/{number}");
        reseal(sealing, &mut credential, &before, &after)?;
        credential.name.clone_from(&after);
        credential.device = called.into();
        credential.user = user.into();
        if credential.revoked.is_none() {
            affected.gateways.extend(credential.gateways());
        }
        instead(book, &before, &credential)?;
        for address in book.find::<Address>(&[("credential", before.as_str().into())])? {
            book.put(&Address { credential: after.clone(), ..address })?;
        }
        for certificate in book.find::<IssuedCertificate>(&[("subject", before.as_str().into())])? {
            book.put(&IssuedCertificate { subject: after.clone(), ..certificate })?;
        }
    }
    for session in book.find::<Session>(&of_it())? {
        book.put(&Session { device: called.into(), ..session })?;
    }
    for revocation in book.find::<Revocation>(&of_it())? {
        book.put(&Revocation { device: called.into(), ..revocation })?;
    }
    policy::follow(book, Asks::Device, &old, called)?;
    affected.devices.extend([old, called.to_owned()]);
    Ok(())
}

/// What a credential's secrets are sealed under names it.
fn reseal(sealing: &SealingKey, credential: &mut Credential, old: &str, new: &str) -> Result<()> {
    let again = |sealed: &mut SealedSecret, label: fn(&str) -> String| -> Result<()> {
        *sealed = sealing.seal(&sealing.open(sealed, &label(old))?, &label(new))?;
        Ok(())
    };
    if let Some(mut private_key) = credential.private_key().cloned() {
        again(&mut private_key, labels::credential)?;
        credential.set_private_key(Some(private_key));
    }
    if let Some(factor) = credential.key_factor_mut() {
        again(&mut factor.secret, labels::second_factor)?;
    }
    let Some(account) = credential.account_mut() else { return Ok(()) };
    if let Some(generated) = &mut account.generated {
        again(generated, labels::credential)?;
    }
    if let Some(form) = &mut account.ms_chap {
        again(form, labels::ms_chap)?;
    }
    if let Some(second) = &mut account.second_factor {
        again(&mut second.secret, labels::second_factor)?;
    }
    Ok(())
}
