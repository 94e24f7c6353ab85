//! Every secret of an estate, sealed anew under another key.

use yestrel_core::Result;
use yestrel_core::estate::{Authority, Credential, Estate, Gateway, Listener, SealedSecret, SharedSecret};
use yestrel_core::tunnel::Tunnel;
use yestrel_store::{Book, Record, SealingKey};

use crate::keyring::labels;

/// From one key to another.
struct Change<'a> {
    old: &'a SealingKey,
    new: &'a SealingKey,
}

impl Change<'_> {
    fn one(&self, sealed: &mut SealedSecret, label: &str) -> Result<()> {
        *sealed = self.new.seal(&self.old.open(sealed, label)?, label)?;
        Ok(())
    }

    fn maybe(&self, sealed: Option<&mut SealedSecret>, label: &str) -> Result<()> {
        sealed.map_or(Ok(()), |sealed| self.one(sealed, label))
    }
}

/// Changes every record of a kind.
fn each<T: Record>(book: &Book<'_>, change: impl Fn(&mut T) -> Result<()>) -> Result<()> {
    for mut record in book.all::<T>()? {
        change(&mut record)?;
        book.put(&record)?;
    }
    Ok(())
}

/// Seals everything anew. Nothing is changed when one secret does not open.
///
/// # Errors
/// A secret does not open with the old key.
pub(crate) fn everything(book: &Book<'_>, old: &SealingKey, new: &SealingKey) -> Result<()> {
    let change = Change { old, new };
    each(book, |estate: &mut Estate| {
        change.one(&mut estate.private_key, labels::SIGNING)?;
        change.one(&mut estate.peer_secret, labels::PEERS)?;
        estate.previous_keys.iter_mut().try_for_each(|one| {
            let label = labels::previous_signing(&one.public_key);
            change.one(&mut one.private_key, &label)
        })
    })?;
    each(book, |one: &mut Gateway| {
        let name = one.name.clone();
        change.one(&mut one.private_key, &labels::gateway(&name))?;
        change.maybe(one.certificate_key.as_mut(), &labels::certificate(&name))?;
        change.maybe(one.request_key.as_mut(), &labels::request(&name))
    })?;
    each(book, |one: &mut Listener| {
        let name = one.name.clone();
        let Tunnel::Quill(quill) = &mut one.tunnel else { return Ok(()) };
        quill.calls.iter_mut().try_for_each(|call| change.maybe(call.kept.as_mut(), &labels::call(&name, call.number)))
    })?;
    each(book, |one: &mut Credential| {
        let name = one.name.clone();
        if let Some(mut private_key) = one.private_key().cloned() {
            change.one(&mut private_key, &labels::credential(&name))?;
            one.set_private_key(Some(private_key));
        }
        change.maybe(one.key_factor_mut().map(|factor| &mut factor.secret), &labels::second_factor(&name))?;
        let Some(account) = one.account_mut() else { return Ok(()) };
        change.maybe(account.generated.as_mut(), &labels::credential(&name))?;
        change.maybe(account.ms_chap.as_mut(), &labels::ms_chap(&name))?;
        change.maybe(account.second_factor.as_mut().map(|second| &mut second.secret), &labels::second_factor(&name))
    })?;
    each(book, |one: &mut Authority| {
        let name = one.name.clone();
        change.maybe(one.private_key.as_mut(), &labels::authority(&name))?;
        change.maybe(one.responder.as_mut().map(|one| &mut one.private_key), &labels::responder(&name))
    })?;
    each(book, |one: &mut SharedSecret| {
        let name = one.name.clone();
        change.one(&mut one.secret, &labels::shared_secret(&name))
    })
}
