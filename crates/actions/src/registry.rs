//! Registries: where accounts are kept and checked. This version has one, the estate itself.

use yestrel_core::Result;
use yestrel_core::estate::{Credential, CredentialKind, Method, Registry};

use crate::Context;

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
    let with = all.iter().filter(|one| one.account().is_some_and(|account| account.ms_chap.is_some())).count();
    Ok((all.len(), with))
}

/// Sets by which methods a registry's accounts may prove their passwords. A method that is no longer asked for takes its form of
/// the passwords with it. Gives how many accounts have no form for a method that is asked for now.
///
/// # Errors
/// There is none of that name.
pub fn change(context: &mut Context, registry: &str, methods: &[Method]) -> Result<(Registry, usize)> {
    context.write(|book| {
        let mut registry: Registry = book.need(registry)?;
        registry.methods = methods.to_vec();
        registry.methods.sort_by_key(|method| method.word());
        registry.methods.dedup();
        book.put(&registry)?;
        let asked = registry.methods.contains(&Method::MsChapV2);
        if !asked {
            for mut credential in book.find::<Credential>(&[("kind", CredentialKind::Password.word().into())])? {
                if let Some(account) = credential.account_mut().filter(|account| account.ms_chap.is_some()) {
                    account.ms_chap = None;
                    account.for_agents.clear();
                    book.put(&credential)?;
                }
            }
        }
        book.note(
            "registry change",
            &registry.name,
            &registry.methods.iter().map(|method| method.word()).collect::<Vec<_>>().join(","),
        )?;
        let (all, with) = accounts(book)?;
        Ok((registry, if asked { all - with } else { 0 }))
    })
}
