//! Who is in now, as far as gateways say within the deadline.

use std::collections::BTreeSet;

use yestrel_core::Result;
use yestrel_core::estate::{Gateway, Listener};
use yestrel_core::exchange::agent::Live;

use crate::context::Context;
use crate::hear::{self, What};

/// Which of some devices are in now, as far as gateways say within the deadline.
#[derive(Debug, Default)]
pub struct WhoIsIn {
    /// Device and gateway.
    pub inside: Vec<(String, String)>,
    /// Gateways that did not say.
    pub silent: Vec<String>,
}

impl WhoIsIn {
    /// From what gateways said, of whom `is_meant`; nothing where one did not say.
    pub(crate) fn of(
        said: impl Iterator<Item = (String, Option<Vec<Live>>)>,
        is_meant: impl Fn(&Live) -> bool,
    ) -> Self {
        let mut who = Self::default();
        for (gateway, sessions) in said {
            match sessions {
                None => who.silent.push(gateway),
                Some(sessions) => {
                    let meant = sessions.into_iter().filter(|live| is_meant(live));
                    who.inside.extend(meant.map(|live| (live.device, gateway.clone())));
                }
            }
        }
        who.inside.sort();
        who
    }

    /// In a few words, for a question.
    #[must_use]
    pub fn words(&self) -> String {
        let known = if self.silent.is_empty() {
            String::new()
        } else {
            format!(", as far as is known without {}", self.silent.join(", "))
        };
        match &self.inside[..] {
            [] => format!("not connected now{known}"),
            few if few.len() <= 3 => {
                let few: Vec<_> = few.iter().map(|(device, gateway)| format!("{device} at {gateway}")).collect();
                format!("connected now: {}{known}", few.join(", "))
            }
            many => format!("{} connected now{known}", many.len()),
        }
    }

    /// That a change ends these sessions; nothing, where there are none.
    #[must_use]
    pub fn ending(&self) -> Option<String> {
        match (&self.inside[..], &self.silent[..]) {
            ([], []) => None,
            ([], _) => Some("whoever is in: the gateway does not say who".to_owned()),
            ([(device, _)], _) => Some(format!("1 session, of {device}")),
            (few, _) if few.len() <= 3 => {
                let few: Vec<_> = few.iter().map(|(device, _)| device.as_str()).collect();
                Some(format!("{} sessions, of {}", few.len(), few.join(", ")))
            }
            (many, _) => Some(format!("{} sessions", many.len())),
        }
    }
}

/// Asks who of these devices is in. Nobody is waited for longer than a second and a half.
///
/// # Errors
/// The estate cannot be read.
pub fn who_is_in(context: &mut Context, devices: &BTreeSet<String>) -> Result<WhoIsIn> {
    let names = adopted(context, &[])?;
    let said = hear::gateways(context, &names, What::Sessions)?.into_iter();
    Ok(WhoIsIn::of(said.map(|(gateway, said)| (gateway, said.sessions)), |live| devices.contains(&live.device)))
}

/// Asks who is in at a listener. It is not waited for longer than a second and a half.
///
/// # Errors
/// The estate cannot be read.
pub fn who_is_at(context: &mut Context, listener: &Listener) -> Result<WhoIsIn> {
    let names = adopted(context, std::slice::from_ref(&listener.gateway))?;
    // As its agent calls it, which another name may not have reached yet: no two have one pool.
    let known = context.read(|book| {
        let newest = book.newest_kept(&listener.gateway)?;
        Ok(newest.map(|newest| book.settings_of(&newest)).transpose()?.flatten())
    })?;
    let listeners = known.into_iter().flat_map(|known| known.listeners);
    let listeners: Vec<_> = listeners.filter(|one| one.pool == listener.pool).map(|one| one.name).collect();
    let said = hear::gateways(context, &names, What::Sessions)?.into_iter();
    Ok(WhoIsIn::of(said.map(|(gateway, said)| (gateway, said.sessions)), |live| listeners.contains(&live.listener)))
}

/// Gateways that have an order; of these the named ones where any are.
pub(crate) fn adopted(context: &mut Context, named: &[String]) -> Result<Vec<String>> {
    context.read(|book| {
        let all: Vec<Gateway> = book.all()?;
        let asked = all.into_iter().filter(|one| one.adopted && (named.is_empty() || named.contains(&one.name)));
        Ok(asked.map(|gateway| gateway.name).collect())
    })
}
