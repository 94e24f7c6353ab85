//! Moving a gateway to another host: name dialled, keys, credentials and inner addresses stay.

use serde::Serialize;
use yestrel_core::estate::{Gateway, Host};
use yestrel_core::exchange::agent::Status;
use yestrel_core::{Problem, Result};

use crate::context::Context;
use crate::{find, rollout, session};

/// What moving a gateway would do.
#[derive(Debug, Serialize)]
pub struct Move {
    pub gateway: Gateway,
    pub from: String,
    pub to: String,
    /// Devices that come in there.
    pub devices: usize,
    /// What the name that is dialled must lead to afterwards; `None` when it is not known.
    pub new_address: Option<String>,
    /// Whether an address is dialled, which stays behind.
    pub dials_address: bool,
}

/// Looks at a move without doing anything.
///
/// # Errors
/// No such gateway or host, the same host, or one that has a gateway.
pub fn preview(context: &mut Context, gateway: &str, to: &str) -> Result<Move> {
    context.read(|book| {
        let gateway: Gateway = book.need(gateway)?;
        let host: Host = book.need(to)?;
        if gateway.host == host.name {
            return Err(Problem::refused(format!("the gateway {} is on the host {} already", gateway.name, host.name)));
        }
        if let Some(other) = book.find::<Gateway>(&[("host", host.name.as_str().into())])?.first() {
            return Err(Problem::refused(format!("the host {} has the gateway {} already", host.name, other.name))
                .why("one host carries one gateway"));
        }
        let outward = host.facts.as_ref().and_then(|facts| facts.outward(None));
        let new_address = outward.and_then(|interface| interface.addresses.first()).map(|net| net.addr().to_string());
        let devices = find::with_a_way_at(book, &gateway.name)?.len();
        let dials_address = gateway.dialled.parse::<std::net::IpAddr>().is_ok();
        Ok(Move { from: gateway.host.clone(), to: host.name, gateway, devices, new_address, dials_address })
    })
}

/// Moves a gateway to another host: name dialled, keys, credentials and inner addresses stay. First the new host carries its
/// newest order, then the old one is freed. Gives what was removed there, or why that could not be done.
///
/// # Errors
/// As [`preview`], or the new host does not take the order: then all is as before. With `abandoned`, an old host that
/// cannot be reached does not stop it.
pub fn relocate(
    context: &mut Context,
    gateway: &str,
    to: &str,
    abandoned: bool,
) -> Result<(Vec<String>, Option<Problem>)> {
    let plan = preview(context, gateway, to)?;
    let old: Host = context.read(|book| book.need(&plan.from))?;
    if !abandoned {
        // Before anything is changed: an old host that cannot be freed would go on as a second copy of this gateway.
        let reached = context.manage(&old).and_then(|manage| manage.ask_agent(&Status));
        reached.map_err(|problem| {
            problem
                .try_(format!("yestrel gateway move {gateway} --to {to} --abandoned   leaves what is on {}", old.name))
        })?;
    }
    let set_host = |context: &mut Context, host: &str, adopted: bool, news_seen: u64| {
        context.write(|book| {
            let mut record: Gateway = book.need(gateway)?;
            record.host = host.to_owned();
            record.adopted = adopted;
            record.news_seen = news_seen;
            if let Some(outward) = &record.outward {
                let host: Host = book.need(host)?;
                // The interface has another name there, unless it has the same.
                if host.facts.is_some_and(|facts| facts.outward(Some(outward)).is_none()) {
                    record.outward = None;
                }
            }
            book.put(&record)
        })
    };
    set_host(context, &plan.to, false, 0)?;
    let how = rollout::How { again: true, ..Default::default() };
    let outcome = rollout::rollout(context, &[gateway.to_owned()], &how)?.pop();
    if let Some(problem) = outcome.and_then(|outcome| outcome.problem) {
        context.write(|book| {
            let mut record: Gateway = book.need(gateway)?;
            record.host.clone_from(&plan.from);
            record.adopted = plan.gateway.adopted;
            record.news_seen = plan.gateway.news_seen;
            record.outward.clone_from(&plan.gateway.outward);
            book.put(&record)
        })?;
        return Err(problem.try_(format!("the gateway {gateway} is still on {}, as it was", plan.from)));
    }
    let estate = context.read(find::this_estate)?.id;
    let removed = context.manage(&old).and_then(|manage| {
        let _ = session::collect_to_the_end(context, gateway, &*manage, plan.gateway.news_seen);
        manage.remove(&estate, false)
    });
    let (gone, left) = match removed {
        Ok(gone) => (gone, None),
        Err(problem) => (Vec::new(), Some(problem)),
    };
    context.write(|book| {
        let detail = format!(
            "from {} to {}{}",
            plan.from,
            plan.to,
            if left.is_some() { "; what is on the old host could not be removed" } else { "" }
        );
        book.note("gateway move", gateway, &detail)
    })?;
    Ok((gone, left))
}
