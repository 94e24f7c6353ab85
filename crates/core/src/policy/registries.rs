//! Registries in the order in which they are asked about a name and what proves it: the first that claims a sign-in checks it, and no other.
//! What one claims is said, read and decided like a policy's conditions.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use super::asks::{Asks, Conditions, NO_REALM, Values};
use super::check;
use super::explain::{Asked, asked};
use super::list::List;
use super::rule::{Effect, Rule, Terms};
use super::sign_in::{At, Person};
use crate::{Problem, Result};

/// What keeps the accounts of a registry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryKind {
    /// This estate itself.
    Estate,
    /// A directory of accounts (RFC 4511), asked by signing in to it.
    Directory,
    /// A RADIUS server (RFC 2865).
    Radius,
}

impl RegistryKind {
    /// The word for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Estate => "estate",
            Self::Directory => "directory",
            Self::Radius => "radius",
        }
    }

    /// By which methods a registry of this kind can check anybody.
    #[must_use]
    pub fn methods(self) -> &'static [Method] {
        match self {
            Self::Estate => &[Method::Password, Method::MsChapV2],
            // It takes the password itself, and nothing else.
            Self::Directory => &[Method::Password, Method::Pap],
            Self::Radius => &[Method::Pap, Method::Chap, Method::MsChapV2, Method::EapMsChapV2, Method::EapTls],
        }
    }
}

/// How a sign-in may prove its password. In the order of their words.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// RFC 2865 section 2.2.
    Chap,
    /// MS-CHAPv2 inside EAP.
    EapMsChapV2,
    /// RFC 5216.
    EapTls,
    /// RFC 2759; it needs a form of the password beside the one at rest.
    MsChapV2,
    /// The password as RADIUS carries it (RFC 2865 section 5.2).
    Pap,
    /// The password itself, protected by what surrounds it.
    Password,
}

impl Method {
    /// All there are.
    pub const ALL: [Self; 6] = [Self::Password, Self::MsChapV2, Self::Pap, Self::Chap, Self::EapMsChapV2, Self::EapTls];

    /// The word for it, as commands take it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Chap => "chap",
            Self::EapMsChapV2 => "eap-ms-chap-v2",
            Self::EapTls => "eap-tls",
            Self::MsChapV2 => "ms-chap-v2",
            Self::Pap => "pap",
            Self::Password => "password",
        }
    }
}

impl std::fmt::Display for Method {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Method {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.into_iter().find(|method| method.word() == text).ok_or_else(|| {
            Problem::words(format!("the method {text:?} is not known"))
                .why(format!("there are {}", Self::ALL.map(Self::word).join(", ")))
        })
    }
}

/// What a registry may claim by.
pub const CLAIMS: [Asks; 5] = [Asks::Tunnel, Asks::Gateway, Asks::Site, Asks::Realm, Asks::Hours];

/// Characters of the form of a name at most.
const LONGEST_FORM: usize = 64;

/// What stands after the last `@` of a name, in lower case (RFC 7542 section 2.2); and what stands before.
#[must_use]
pub fn realm(name: &str) -> (&str, Option<String>) {
    match name.rsplit_once('@') {
        Some((user, realm)) => (user, Some(realm.to_lowercase())),
        None => (name, None),
    }
}

/// How a registry calls those that sign in: a text with `{name}` for the whole name as it was given, `{user}` for what stands before its
/// realm, `{realm}` for that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct NameForm(String);

impl Default for NameForm {
    fn default() -> Self {
        Self("{name}".into())
    }
}

impl NameForm {
    /// A name as the registry has it.
    #[must_use]
    pub fn of<'a>(&self, name: &'a str) -> Cow<'a, str> {
        let (user, realm) = realm(name);
        match &*self.0 {
            "{name}" => name.into(),
            "{user}" => user.into(),
            // Piece by piece: what a person typed is never read as a form.
            form => {
                let mut text = String::new();
                let mut rest = form;
                while let Some((before, after)) = rest.split_once('{') {
                    let (word, after) = after.split_once('}').unwrap_or((after, ""));
                    text.push_str(before);
                    text.push_str(match word {
                        "name" => name,
                        "user" => user,
                        _ => realm.as_deref().unwrap_or_default(),
                    });
                    rest = after;
                }
                text.push_str(rest);
                text.into()
            }
        }
    }
}

impl std::str::FromStr for NameForm {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let bad = |why: &str| {
            Problem::words(format!("the form of a name {:?} cannot be used", text.chars().take(80).collect::<String>()))
                .why(why)
                .try_("{name}   the name as it is given")
                .try_("{user}   without its realm")
        };
        if text.chars().count() > LONGEST_FORM || text.chars().any(char::is_control) {
            return Err(bad("it is one line of 64 characters at most"));
        }
        let mut rest = text;
        let mut about_somebody = false;
        while let Some((before, after)) = rest.split_once('{') {
            let word = after.split_once('}').filter(|_| !before.contains('}'));
            match word {
                Some((word @ ("name" | "user" | "realm"), after)) => {
                    about_somebody |= word != "realm";
                    rest = after;
                }
                _ => return Err(bad("between braces stands name, user or realm")),
            }
        }
        match about_somebody && !rest.contains('}') {
            true => Ok(Self(text.to_owned())),
            false => Err(bad("everybody would be called the same")),
        }
    }
}

impl TryFrom<String> for NameForm {
    type Error = Problem;

    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<NameForm> for String {
    fn from(form: NameForm) -> Self {
        form.0
    }
}

impl std::fmt::Display for NameForm {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

/// A registry as it takes part in the order of checking.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Claimant {
    pub name: String,
    pub kind: RegistryKind,
    /// All must hold, each by any of its values; with none it claims what nobody before it does.
    #[serde(default, skip_serializing_if = "Conditions::is_empty")]
    pub claims: Conditions,
    pub methods: Vec<Method>,
    pub called: NameForm,
}

impl Claimant {
    /// Whether it can check what proves itself by this method, in the words of policies.
    #[must_use]
    pub fn can_check(&self, method: &str) -> bool {
        let has = |all: &[Method]| all.iter().any(|method| self.methods.contains(method));
        match (self.kind, method) {
            // What the estate itself made.
            (RegistryKind::Estate, "key" | "certificate" | "shared-secret" | "eap-tls") => true,
            (_, "password" | "pap") => has(&[Method::Password, Method::Pap]),
            // The same form of the password, asked for inside EAP (RFC 2759).
            (RegistryKind::Estate, "ms-chap-v2" | "eap-ms-chap-v2") => has(&[Method::MsChapV2]),
            (_, other) => self.methods.iter().any(|method| method.word() == other),
        }
    }

    /// Whether what it says is no more than was so before there were others.
    #[must_use]
    pub fn is_plain(&self) -> bool {
        self.kind == RegistryKind::Estate && self.claims.is_empty() && self.called == NameForm::default()
    }

    fn rule(&self) -> Rule {
        let (when, unless) = (self.claims.clone(), Conditions::new());
        Rule { name: self.name.clone(), effect: Effect::Admit, when, unless, terms: Terms::default() }
    }
}

/// What proves nothing of who somebody is but what was claimed.
const NOBODY: Person<'static> =
    Person { user: "", groups: &[], device: "", platform: None, credential: "", issued: None };

/// Registries in the order in which they are asked.
#[derive(Debug)]
pub struct Registries {
    all: Vec<Claimant>,
    list: List,
}

impl Registries {
    /// In this order, for a site in this time zone.
    ///
    /// # Errors
    /// A claim or a zone is none.
    pub fn new(all: &[Claimant], time_zone: &str) -> Result<Self> {
        let rules: Vec<Rule> = all.iter().map(Claimant::rule).collect();
        Ok(Self { all: all.to_vec(), list: List::new(&rules, time_zone)? })
    }

    /// The one that checks a sign-in.
    #[must_use]
    pub fn in_charge(&self, at: &At<'_>) -> Option<&Claimant> {
        self.list.decide_once(&NOBODY, at).by.and_then(|(place, _)| self.all.get(place))
    }

    /// Each up to the one that checks a sign-in, with the first of its claims that does not hold.
    #[must_use]
    pub fn asked(&self, at: &At<'_>) -> Vec<Asked> {
        asked(&self.list, &NOBODY, at)
    }

    /// All of them.
    #[must_use]
    pub fn all(&self) -> &[Claimant] {
        &self.all
    }
}

/// Checks what a registry claims.
///
/// # Errors
/// It claims by what no registry can, or the values are none.
pub fn check_claims(claims: &Conditions) -> Result<()> {
    for (asks, texts) in claims {
        if !CLAIMS.contains(asks) {
            return Err(Problem::words(format!("a registry cannot claim by {asks}"))
                .why(format!(
                    "it claims by {}: what is known before anybody has checked who it is",
                    CLAIMS.map(Asks::word).join(", ")
                ))
                .try_(format!("--claim {}={}", Asks::Realm, Asks::Realm.example())));
        }
        Values::read(*asks, texts)?;
    }
    Ok(())
}

/// A sign-in that two registries claim, in words; `None`: there is none, at these places.
///
/// # Errors
/// A claim or a zone is none.
pub fn both_claim(one: &Claimant, other: &Claimant, world: &check::World) -> Result<Option<String>> {
    check::both_match(&[one.rule(), other.rule()], world)
}

/// The realms that registries claim by name.
pub fn realms<'a>(all: impl IntoIterator<Item = &'a Claimant>) -> impl Iterator<Item = &'a str> {
    let named = all.into_iter().filter_map(|one| one.claims.get(&Asks::Realm));
    named.flatten().map(String::as_str).filter(|realm| *realm != NO_REALM)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::condition;
    use crate::policy::slow::sample;

    fn claimant(name: &str, kind: RegistryKind, claims: &[&str]) -> Claimant {
        let claims = claims.iter().map(|text| condition(text).unwrap()).collect();
        Claimant { name: name.into(), kind, claims, methods: vec![Method::Password], called: NameForm::default() }
    }

    #[test]
    fn the_first_that_claims_a_sign_in_checks_it_and_the_estate_what_is_left() {
        let all = [
            claimant("crew-directory", RegistryKind::Directory, &["realm=crew.skerry.example"]),
            claimant("yard", RegistryKind::Radius, &["gateway=boatyard", "hours=mon-fri 06:00-18:00", "realm=none"]),
            claimant("estate", RegistryKind::Estate, &[]),
        ];
        let registries = Registries::new(&all, "Europe/Oslo").unwrap();
        let charge = |realm: Option<&str>, gateway: &str, at: &str| {
            let at = At { realm, gateway, at: at.parse().unwrap(), ..sample::AT };
            registries.in_charge(&at).unwrap().name.clone()
        };
        // A Friday, at 10:00 and at 18:00 in Oslo.
        let (open, shut) = ("2027-03-05T09:00:00Z", "2027-03-05T17:00:00Z");
        assert_eq!(charge(Some("crew.skerry.example"), "harbour", open), "crew-directory");
        assert_eq!(charge(Some("crew.skerry.example"), "boatyard", open), "crew-directory");
        assert_eq!(charge(None, "boatyard", open), "yard");
        assert_eq!(charge(None, "boatyard", shut), "estate");
        assert_eq!(charge(None, "harbour", open), "estate");
        assert_eq!(charge(Some("skerry.example"), "boatyard", open), "estate");
        let at = At { realm: None, gateway: "harbour", at: open.parse().unwrap(), ..sample::AT };
        let said: Vec<_> = registries.asked(&at).into_iter().map(|one| (one.policy, one.failed.is_none())).collect();
        assert_eq!(said, [("crew-directory".into(), false), ("yard".into(), false), ("estate".to_owned(), true)]);
        // Where the estate claims as well, what nobody claims nobody checks.
        let narrow = [claimant("estate", RegistryKind::Estate, &["realm=skerry.example"])];
        assert!(Registries::new(&narrow, "UTC").unwrap().in_charge(&at).is_none());
    }

    #[test]
    fn a_name_is_rewritten_by_its_registrys_form_and_never_read_as_one() {
        let form = |text: &str| text.parse::<NameForm>().unwrap();
        assert_eq!(form("{user}").of("mara.phone@Crew.Skerry.Example"), "mara.phone");
        assert_eq!(form("{name}").of("mara.phone@crew"), "mara.phone@crew");
        assert_eq!(form("{user}.{realm}").of("mara@Crew.example"), "mara.crew.example");
        assert_eq!(form("x-{user}-{user}").of("{realm}@a.b"), "x-{realm}-{realm}");
        assert_eq!(form("{user}!{realm}").of("mara"), "mara!");
        // The last of several: what stands before is no name that anybody has.
        assert_eq!(realm("a@b@C.d"), ("a@b", Some("c.d".to_owned())));
        for bad in ["", "all", "{realm}", "{user", "user}{user}", "{User}", "{user}\n", "{user}}", &"{user}".repeat(20)]
        {
            assert!(bad.parse::<NameForm>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn two_that_claim_the_same_are_told_with_a_sign_in_that_both_claim() {
        let world = check::World {
            people: Vec::new(),
            places: [("harbour", "quay"), ("boatyard", "yard")]
                .map(|(gateway, site)| check::Place {
                    gateway: gateway.into(),
                    site: site.into(),
                    zone: "Europe/Oslo".into(),
                    tunnels: vec!["quill".into(), "ikev2".into()],
                })
                .to_vec(),
            now: "2027-03-05T09:00:00Z".parse().unwrap(),
        };
        let both = |one: &[&str], other: &[&str]| {
            let [one, other] = [one, other].map(|claims| claimant("one", RegistryKind::Radius, claims));
            both_claim(&one, &other, &world).unwrap()
        };
        let a = "realm=a.example";
        assert_eq!(both(&[a], &["realm=b.example"]), None);
        assert!(both(&[a], &["gateway=harbour"]).unwrap().contains("harbour"));
        assert_eq!(both(&["gateway=boatyard"], &["gateway=harbour"]), None);
        // A gateway is at one site.
        assert_eq!(both(&["gateway=boatyard"], &["site=quay"]), None);
        assert!(both(&["gateway=boatyard"], &["site=yard", a]).unwrap().contains("a.example"));
        assert_eq!(both(&["hours=mon 08:00-12:00"], &["hours=mon 12:00-18:00"]), None);
        assert!(both(&["hours=mon 08:00-12:01"], &["hours=mon 12:00-18:00"]).unwrap().contains("Mon 12:00"));
        assert_eq!(both(&["tunnel=quill"], &["tunnel=ikev2", a]), None);
        assert_eq!(both(&["realm=none"], &[a]), None);
    }

    #[test]
    fn a_registry_checks_what_its_kind_can() {
        let mut estate = claimant("estate", RegistryKind::Estate, &[]);
        assert!(estate.is_plain() && estate.can_check("key") && estate.can_check("pap"));
        assert!(!estate.can_check("eap-ms-chap-v2") && !estate.can_check("chap"));
        estate.methods.push(Method::MsChapV2);
        assert!(estate.can_check("eap-ms-chap-v2"));
        let radius = Claimant { kind: RegistryKind::Radius, methods: vec![Method::Chap], ..estate.clone() };
        assert!(radius.can_check("chap") && !radius.can_check("key") && !radius.can_check("eap-ms-chap-v2"));
        assert!(!radius.is_plain());
        assert!(!Claimant { called: "{user}".parse().unwrap(), ..estate }.is_plain());
    }

    #[test]
    fn a_registry_claims_by_what_is_known_before_anybody_has_checked() {
        let of = |text: &str| check_claims(&[condition(text).unwrap()].into());
        CLAIMS.iter().for_each(|asks| of(&format!("{asks}={}", asks.example())).unwrap());
        assert!(of("group=crew").unwrap_err().error.contains("cannot claim by group"));
    }
}
