//! Asking gateways all at once, with a deadline, while nobody at the terminal is asked for anything.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use yestrel_core::exchange::agent::{AgentStatus, Live, Sessions, Status};
use yestrel_core::exchange::host::Facts;
use yestrel_core::findings::Facts as HostFacts;
use yestrel_core::{Problem, Result};
use yestrel_places::{Person, Whose};
use zeroize::Zeroizing;

use crate::context::Context;
use crate::find;

/// How long a gateway may take to answer before it counts as silent.
pub(crate) const PATIENCE: Duration = Duration::from_millis(1500);

/// Nobody is there to be asked: a host is tried beside something else, by a key or not at all.
pub(crate) struct Nobody;

impl Person for Nobody {
    fn secret(&self, what: &str) -> Result<Zeroizing<String>> {
        Err(Problem::refused(format!("{what} would have to be asked for"))
            .try_("yestrel host probe NAME   asks for it")
            .try_("yestrel host remove NAME   asks, and removes what is left there"))
    }

    fn compares(&self, host: &str, _whose: Whose, algorithm: &str, fingerprint: &str) -> Result<bool> {
        Err(Problem::refused(format!("the key of {host} would have to be compared"))
            .why(format!("{algorithm} {fingerprint}")))
    }

    fn progress(&self, _what: &str, _done: u64, _whole: u64) {}
}

/// What a gateway said until the deadline.
#[derive(Debug, Default)]
pub(crate) struct Said {
    /// `None`: nothing came in time.
    pub status: Option<Result<Box<AgentStatus>>>,
    pub sessions: Option<Vec<Live>>,
    pub facts: Option<Box<HostFacts>>,
}

impl Said {
    /// Why there is no status.
    pub fn silence(&self) -> Option<String> {
        match &self.status {
            Some(Ok(_)) => None,
            Some(Err(problem)) => Some(problem.line()),
            None => Some(format!("it did not answer within {} s", PATIENCE.as_secs_f32())),
        }
    }
}

enum Part {
    Status(Result<Box<AgentStatus>>),
    Sessions(Vec<Live>),
    Facts(Box<HostFacts>),
    Over,
}

/// What is asked of each gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum What {
    /// Whether it answers.
    Status,
    /// Also who is in.
    Sessions,
    /// Also how its host is.
    Everything,
}

/// Asks these gateways. What has not come when the deadline is over is missing.
///
/// # Errors
/// The estate cannot be read.
pub(crate) fn gateways(context: &mut Context, names: &[String], what: What) -> Result<BTreeMap<String, Said>> {
    let (tell, answers) = channel();
    let mut said: BTreeMap<String, Said> = BTreeMap::new();
    let mut open = 0;
    for name in names {
        let (_, host) = context.read(|book| find::gateway_and_host(book, name))?;
        let nobody: Arc<dyn Person> = Arc::new(Nobody);
        let way = yestrel_places::open(&host, &nobody).and_then(|place| place.to_manage());
        let (tell, gateway) = (tell.clone(), name.clone());
        let ask = move || {
            let tell = |part| tell.send((gateway.clone(), part)).is_ok();
            let answer = way.and_then(|way| {
                way.as_it_is();
                let status = way.ask_agent(&Status)?;
                Ok((way, status))
            });
            match answer {
                Err(problem) => {
                    tell(Part::Status(Err(problem)));
                }
                Ok((way, status)) => {
                    tell(Part::Status(Ok(status)));
                    if what != What::Status {
                        let _ = way.ask_agent(&Sessions).map(|sessions| tell(Part::Sessions(sessions)));
                    }
                    if what == What::Everything {
                        let _ = way.ask(&Facts).map(|facts| tell(Part::Facts(facts)));
                    }
                }
            }
            tell(Part::Over);
        };
        said.insert(name.clone(), Said::default());
        // Where there is no thread for it, it counts as silent.
        if std::thread::Builder::new().name("hear".into()).spawn(ask).is_ok() {
            open += 1;
        }
    }
    let end = Instant::now() + PATIENCE;
    while open > 0 {
        let left = end.saturating_duration_since(Instant::now());
        let Ok((gateway, part)) = answers.recv_timeout(left) else { break };
        let said = said.entry(gateway).or_default();
        match part {
            Part::Status(status) => said.status = Some(status),
            Part::Sessions(sessions) => said.sessions = Some(sessions),
            Part::Facts(facts) => said.facts = Some(facts),
            Part::Over => open -= 1,
        }
    }
    Ok(said)
}
