//! Registries: where accounts are kept and checked, and which of them checks what. The estate itself is one; what others claim is known to the
//! order of checking, and gateways of this version refuse it.

use yestrel_core::estate::{Credential, CredentialKind, Gateway, Method, Registry, RegistryKind, Site};
use yestrel_core::policy::{
    Asks, At, Conditions, NameForm, Registries, World, both_claim, check_claims, in_words, realm,
};
use yestrel_core::{Problem, Result, name};
use yestrel_store::Book;

use crate::{Context, find, policy};

/// All registries, in the order in which they are asked.
///
/// # Errors
/// The estate cannot be read.
pub fn list(context: &mut Context) -> Result<Vec<Registry>> {
    context.read(|book| Ok(Registry::in_order(book.all()?)))
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

fn accounts(book: &Book<'_>) -> Result<(usize, usize)> {
    let live = [("kind", CredentialKind::Password.word().into()), ("revoked", serde_json::Value::Null)];
    let all: Vec<Credential> = book.find(&live)?;
    let with = all.iter().filter(|one| one.account().is_some_and(|account| account.ms_chap.is_some())).count();
    Ok((all.len(), with))
}

/// Registries of an estate at most.
const MOST: usize = 100;

/// What is wished of a registry; what is `None`, or empty, stays.
#[derive(Debug, Default, Clone)]
pub struct Wish {
    pub methods: Vec<Method>,
    /// In place of what it claims on these subjects; with no value, it does not claim by them any more.
    pub claims: Conditions,
    pub called: Option<NameForm>,
    /// `Some(None)`: without one.
    pub rank: Option<Option<u16>>,
}

/// Adds a registry to the order of checking.
///
/// # Errors
/// A bad or taken name, a kind of which there is one for good, claims or methods that it cannot have, or claims that another has.
pub fn add(context: &mut Context, registry: &str, kind: RegistryKind, wish: &Wish) -> Result<Registry> {
    name::check("registry", registry)?;
    let created = context.now;
    context.write(|book| {
        if kind == RegistryKind::Estate {
            return Err(Problem::refused("the estate itself is a registry already, and there is one of it")
                .try_("yestrel registry change estate"));
        }
        if book.all::<Registry>()?.len() >= MOST {
            return Err(Problem::refused(format!("there are {MOST} registries, and can be no more"))
                .why("each is gone through at each sign-in with a name")
                .try_("yestrel registry list"));
        }
        let mut added = Registry {
            name: registry.to_owned(),
            kind,
            methods: kind.methods().to_vec(),
            claims: Conditions::new(),
            called: NameForm::default(),
            rank: None,
            created,
        };
        apply(&mut added, wish);
        check_one(book, &added)?;
        book.add(&added)?;
        book.note("registry add", registry, &words(&added))?;
        Ok(added)
    })
}

fn apply(registry: &mut Registry, wish: &Wish) {
    if !wish.methods.is_empty() {
        registry.methods.clone_from(&wish.methods);
    }
    registry.methods.sort_unstable();
    registry.methods.dedup();
    for (asks, values) in &wish.claims {
        match values.is_empty() {
            true => drop(registry.claims.remove(asks)),
            false => drop(registry.claims.insert(*asks, values.clone())),
        }
    }
    if let Some(called) = &wish.called {
        registry.called = called.clone();
    }
    registry.rank = wish.rank.unwrap_or(registry.rank);
}

/// What a registry claims, in words.
#[must_use]
pub fn claims(registry: &Registry) -> Vec<String> {
    registry.claims.iter().map(|(asks, values)| in_words(*asks, values, false)).collect()
}

fn words(registry: &Registry) -> String {
    let claims = claims(registry);
    let claims = if claims.is_empty() { "what no other does".to_owned() } else { claims.join("; ") };
    let methods: Vec<_> = registry.methods.iter().map(|method| method.word()).collect();
    let rank = registry.rank.map(|rank| format!("; rank {rank}")).unwrap_or_default();
    format!("claims {claims}; checks {}; called {}{rank}", methods.join(","), registry.called)
}

/// Checks that a registry can be kept beside the others.
fn check_one(book: &Book<'_>, registry: &Registry) -> Result<()> {
    check_claims(&registry.claims)?;
    for (asks, values) in &registry.claims {
        for value in values {
            match asks {
                Asks::Gateway => book.need::<Gateway>(value).map(drop)?,
                Asks::Site => book.need::<Site>(value).map(drop)?,
                _ => {}
            }
        }
    }
    if registry.claims.is_empty() && registry.kind != RegistryKind::Estate {
        return Err(Problem::words(format!("the registry {} claims nothing", registry.name))
            .why("it would be asked about everybody, and this estate about nobody")
            .try_("--claim realm=crew.skerry.example"));
    }
    if let Some(other) = registry.methods.iter().find(|method| !registry.kind.methods().contains(method)) {
        let can: Vec<_> = registry.kind.methods().iter().map(|method| method.word()).collect();
        return Err(Problem::words(format!("a registry of the kind {} cannot check {other}", registry.kind.word()))
            .why(format!("it can check {}", can.join(", "))));
    }
    let world = World { people: Vec::new(), places: policy::places(book)?, now: book.now };
    for other in book.all::<Registry>()? {
        let ranked = registry.rank.is_some() && other.rank.is_some() && registry.rank != other.rank;
        if other.name == registry.name || ranked || other.claims.is_empty() || registry.claims.is_empty() {
            continue;
        }
        if let Some(example) = both_claim(&registry.claimant(), &other.claimant(), &world)? {
            let example = if example.is_empty() { "any".to_owned() } else { example };
            return Err(Problem::refused(format!("{} and {} would claim the same sign-in", registry.name, other.name))
                .why(format!("nobody could say which of them checks one such as this: {example}"))
                .try_(format!("--rank with a number for this one, and yestrel registry change {} --rank 2   the lower is asked first", other.name)));
        }
    }
    Ok(())
}

/// Changes a registry. A method that is no longer asked for takes its form of the passwords with it. Gives how many accounts have no form for
/// a method that is asked for now.
///
/// # Errors
/// There is none of that name, nothing was said, or as [`add`].
pub fn change(context: &mut Context, registry: &str, wish: &Wish) -> Result<(Registry, usize)> {
    context.write(|book| {
        let mut registry: Registry = book.need(registry)?;
        apply(&mut registry, wish);
        check_one(book, &registry)?;
        book.put(&registry)?;
        let asked = registry.methods.contains(&Method::MsChapV2);
        let own = registry.kind == RegistryKind::Estate;
        if own && !asked {
            for mut credential in book.find::<Credential>(&[("kind", CredentialKind::Password.word().into())])? {
                if let Some(account) = credential.account_mut().filter(|account| account.ms_chap.is_some()) {
                    account.ms_chap = None;
                    account.for_agents.clear();
                    book.put(&credential)?;
                }
            }
        }
        book.note("registry change", &registry.name, &words(&registry))?;
        let (all, with) = accounts(book)?;
        Ok((registry, if own && asked { all - with } else { 0 }))
    })
}

/// Takes a registry out of the order of checking.
///
/// # Errors
/// There is none of that name, it is the estate itself, or a policy names it.
pub fn remove(context: &mut Context, registry: &str) -> Result<()> {
    context.write(|book| {
        let registry: Registry = book.need(registry)?;
        if registry.kind == RegistryKind::Estate {
            return Err(Problem::refused("the estate itself stays a registry")
                .why("its key pairs, certificates and accounts are checked by it")
                .try_("yestrel registry change estate --claim realm=skerry.example   lets it claim less"));
        }
        policy::still_named(book, Asks::Registry, &registry.name)?;
        book.remove::<Registry>(&registry.name)?;
        book.note("registry remove", &registry.name, &words(&registry))
    })
}

/// What an account is called here that somebody signs in to by a name, wherever they are.
pub(crate) fn account_of(book: &Book<'_>, name: &str) -> Result<String> {
    let (_, realm) = realm(name);
    let at = At { realm: realm.as_deref(), ..At::nowhere(book.now) };
    let registries = Registries::new(&find::registries(book)?, "UTC")?;
    match registries.in_charge(&at) {
        Some(one) if one.kind == RegistryKind::Estate => Ok(one.called.of(name).into_owned()),
        Some(one) => Err(Problem::refused(format!("the registry {} claims the name {name:?}", one.name))
            .why("this version can ask no other registry than the estate")
            .try_("yestrel registry list")),
        None => Err(Problem::refused(format!("no registry claims the name {name:?}")).try_("yestrel registry list")),
    }
}
