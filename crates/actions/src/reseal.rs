//! Every secret of an estate, sealed anew under another key.

use yestrel_core::Result;
use yestrel_core::nouns::{Authority, Credential, Estate, Gateway, SealedSecret, SharedSecret};
use yestrel_store::{Book, Record, SealingKey};

use crate::{authority, certify, credential, estate, gateway, keys, lists, shared};

/// From one key to another.
struct Change<'a> {
    old: &'a SealingKey,
    new: &'a SealingKey,
}

impl Change<'_> {
    fn one(&self, sealed: &mut SealedSecret, place: &str) -> Result<()> {
        *sealed = self.new.seal(&self.old.open(sealed, place)?, place)?;
        Ok(())
    }

    fn maybe(&self, sealed: Option<&mut SealedSecret>, place: &str) -> Result<()> {
        sealed.map_or(Ok(()), |sealed| self.one(sealed, place))
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
        change.one(&mut estate.private_key, estate::SIGNING)?;
        estate.previous_keys.iter_mut().try_for_each(|one| {
            let place = keys::previous_place(&one.public_key);
            change.one(&mut one.private_key, &place)
        })
    })?;
    each(book, |one: &mut Gateway| {
        let name = one.name.clone();
        change.one(&mut one.private_key, &gateway::place(&name))?;
        change.maybe(one.certificate_key.as_mut(), &certify::place(&name))?;
        change.maybe(one.request_key.as_mut(), &certify::request_place(&name))
    })?;
    each(book, |one: &mut Credential| {
        let name = one.name.clone();
        change.maybe(one.private_key.as_mut(), &credential::place(&name))?;
        let Some(account) = &mut one.account else { return Ok(()) };
        change.maybe(account.generated.as_mut(), &credential::place(&name))?;
        change.maybe(account.ms_chap.as_mut(), &credential::ms_chap_place(&name))?;
        change.maybe(account.second_factor.as_mut().map(|second| &mut second.secret), &credential::factor_place(&name))
    })?;
    each(book, |one: &mut Authority| {
        let name = one.name.clone();
        change.maybe(one.private_key.as_mut(), &authority::place(&name))?;
        change.maybe(one.responder.as_mut().map(|one| &mut one.private_key), &lists::responder_place(&name))
    })?;
    each(book, |one: &mut SharedSecret| {
        let name = one.name.clone();
        change.one(&mut one.secret, &shared::place(&name))
    })
}
