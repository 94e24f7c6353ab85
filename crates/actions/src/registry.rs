//! Registries: where accounts are kept and checked. This version has one, the estate itself.

use yestrel_core::nouns::{Credential, CredentialKind, Registry};
use yestrel_core::{Problem, Result};

use crate::Context;
use crate::credential::MS_CHAP;

/// The methods by which a password may be proved.
pub const METHODS: [&str; 2] = ["password", MS_CHAP];

/// All registries.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Registry>> {
    context.read(|book| book.all())
}

/// One registry, and how many accounts there are, of them with the form that MS-CHAPv2 needs.
///
/// # Errors
/// There is none of that name.
pub fn show(context: &mut Context, registry: &str) -> Result<(Registry, usize, usize)> {
    context.read(|book| {
        let registry: Registry = book.need(registry)?;
        let (all, with) = accounts(book)?;
        Ok((registry, all, with))
    })
}

fn accounts(book: &yestrel_store::Book<'_>) -> Result<(usize, usize)> {
    let live = [("kind", CredentialKind::Password.word().into()), ("revoked", serde_json::Value::Null)];
    let all: Vec<Credential> = book.find(&live)?;
    let with = all.iter().filter(|one| one.account.as_ref().is_some_and(|account| account.ms_chap.is_some())).count();
    Ok((all.len(), with))
}

/// Sets by which methods a registry's accounts may prove their passwords. A method that is no longer asked for takes its form of
/// the passwords with it. Gives how many accounts have no form for a method that is asked for now.
///
/// # Errors
/// There is none of that name, or an unknown method.
pub fn change(context: &mut Context, registry: &str, methods: &[String]) -> Result<(Registry, usize)> {
    if let Some(unknown) = methods.iter().find(|method| !METHODS.contains(&method.as_str())) {
        return Err(Problem::words(format!("the method {unknown:?} is not known"))
            .why(format!("there are {}", METHODS.join(" and "))));
    }
    context.write(|book| {
        let mut registry: Registry = book.need(registry)?;
        registry.methods = methods.to_vec();
        registry.methods.sort();
        registry.methods.dedup();
        book.put(&registry)?;
        let asked = registry.methods.iter().any(|method| method == MS_CHAP);
        if !asked {
            for mut credential in book.find::<Credential>(&[("kind", CredentialKind::Password.word().into())])? {
                if let Some(account) = credential.account.as_mut().filter(|account| account.ms_chap.is_some()) {
                    account.ms_chap = None;
                    book.put(&credential)?;
                }
            }
        }
        book.note("registry change", &registry.name, &registry.methods.join(","))?;
        let (all, with) = accounts(book)?;
        Ok((registry, if asked { all - with } else { 0 }))
    })
}
