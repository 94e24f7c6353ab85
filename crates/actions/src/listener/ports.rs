//! What must be open where, and whether it is.

use serde::Serialize;
use yestrel_core::Result;
use yestrel_core::estate::{Gateway, Host};
use yestrel_core::exchange::agent::{AgentStatus, Status};
use yestrel_core::exchange::host::Facts;
use yestrel_core::findings::Facts as HostFacts;
use yestrel_core::firewall::Service;

use super::ListenerStanding;
use crate::context::Context;
use crate::find;

/// Whether a port is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum PortState {
    #[serde(rename = "open")]
    Open,
    /// Nobody listens there.
    #[serde(rename = "not open")]
    NotOpen,
    /// Somebody listens, and a firewall can drop what comes.
    #[serde(rename = "blocked")]
    Blocked,
    #[serde(rename = "unknown")]
    Unknown,
}

impl PortState {
    /// The words for tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::NotOpen => "not open",
            Self::Blocked => "blocked",
            Self::Unknown => "unknown",
        }
    }
}

/// A port that must be open somewhere.
#[derive(Debug, Serialize)]
pub struct Port {
    /// `23817/udp`.
    pub port: String,
    /// On which machine.
    pub at: String,
    pub from: String,
    pub to: String,
    /// Who needs it.
    pub for_: String,
    pub state: PortState,
    pub why: Option<String>,
}

/// What must be open where, and whether it is: as the gateways' agents and hosts say now.
///
/// # Errors
/// The estate cannot be read, or there is no such gateway.
pub fn list(context: &mut Context, gateway: Option<&str>) -> Result<Vec<Port>> {
    let all = super::list(context, gateway)?;
    let mut ports = Vec::new();
    for ListenerStanding { listener, .. } in all {
        let (gateway, host) = context.read(|book| find::gateway_and_host(book, &listener.gateway))?;
        let manage = context.manage(&host)?;
        let status = manage.ask_agent(&Status);
        let facts = manage.ask(&Facts);
        for served in &listener.serves {
            let (state, why) = match (&status, &facts) {
                (Err(problem), _) | (_, Err(problem)) => (PortState::Unknown, Some(problem.clone().reason())),
                (Ok(status), Ok(facts)) => judge(&gateway.name, served.inside, status, facts),
            };
            let for_ = match listener.tunnel.use_of(served.outside) {
                Some(use_) => format!("the {} tunnel: {use_}", listener.tunnel.word()),
                None => format!("the {} tunnel", listener.tunnel.word()),
            };
            ports.push(Port {
                port: served.inside.to_string(),
                at: host.name.clone(),
                from: "anywhere".into(),
                to: listener.name.clone(),
                for_: for_.clone(),
                state,
                why,
            });
            if served.outside != served.inside {
                ports.push(Port {
                    port: served.outside.to_string(),
                    at: format!("what stands before {}", host.name),
                    from: "anywhere".into(),
                    to: format!("{} of {}", served.inside, host.name),
                    for_,
                    state: PortState::Unknown,
                    why: Some("this version cannot look into the device in front".into()),
                });
            }
        }
    }
    ports.extend(published(context, gateway)?);
    Ok(ports)
}

/// Whether a listener's port is open, as its agent and its host say.
pub(crate) fn judge(
    gateway: &str,
    service: Service,
    status: &AgentStatus,
    facts: &HostFacts,
) -> (PortState, Option<String>) {
    let listens = status.listeners.iter().any(|(_, services)| services.contains(&service));
    if !listens {
        return (PortState::NotOpen, Some(format!("yestrel rollout {gateway}")));
    }
    match in_the_way(facts, service) {
        None => (PortState::Open, None),
        Some((rule, commands)) => (PortState::Blocked, Some(format!("{rule}: {commands}"))),
    }
}

/// What of somebody else's firewall is in a service's way, and the commands that open it. What is let in must also get on: both are needed,
/// and both are said.
pub(crate) fn in_the_way(facts: &HostFacts, service: Service) -> Option<(String, String)> {
    let mut commands = Vec::new();
    let mut first = None;
    for rule in &facts.in_the_way {
        let missing = rule.commands(&[service]);
        if !missing.is_empty() {
            first = first.or(Some(rule));
            commands.extend(missing);
        }
    }
    first.map(|rule| (format!("{} in table {}", rule.rule, rule.table), commands.join(" && ")))
}

/// Ports at which the state of certificates is published.
fn published(context: &mut Context, gateway: Option<&str>) -> Result<Vec<Port>> {
    let gateways: Vec<(Gateway, Host)> = context.read(|book| {
        let mut found = Vec::new();
        for one in book.all::<Gateway>()? {
            if one.publish_port.is_some() && gateway.is_none_or(|name| name == one.name) {
                found.push(find::gateway_and_host(book, &one.name)?);
            }
        }
        Ok(found)
    })?;
    let mut ports = Vec::new();
    for (gateway, host) in gateways {
        let port = gateway.publish_port.unwrap_or_default();
        let (state, why) = match context.manage(&host)?.ask_agent(&Status) {
            Ok(status) if !status.published.is_empty() => (PortState::Open, None),
            Ok(_) => (PortState::NotOpen, Some(format!("yestrel rollout {}", gateway.name))),
            Err(problem) => (PortState::Unknown, Some(problem.reason())),
        };
        ports.push(Port {
            port: format!("{port}/tcp"),
            at: host.name,
            from: "anywhere".into(),
            to: gateway.name,
            for_: "the state of certificates".into(),
            state,
            why,
        });
    }
    Ok(ports)
}
