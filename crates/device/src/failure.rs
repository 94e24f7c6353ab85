//! Why a device does not come in.

use yestrel_core::Problem;
use yestrel_core::admission::Reason;
use yestrel_core::handover::Handover;

/// How one way ended before it was up.
pub(crate) struct NotThisWay {
    pub way: String,
    pub why: String,
    /// A refusal by the gateway, as opposed to silence.
    pub refused: Option<Reason>,
}

/// Why a device cannot come in, way by way, and what to try.
pub(crate) fn no_way_in(handover: &Handover, ways: &[NotThisWay]) -> Problem {
    let lines: Vec<_> = ways.iter().map(|way| format!("{}: {}", way.way, way.why)).collect();
    let problem = Problem::failed(format!("{} cannot come in", handover.holder)).why(lines.join("; "));
    match ways.iter().find_map(|way| way.refused) {
        Some(reason) if reason.needs_another_credential() => {
            problem.try_("ask for a new handover: yestrel credential renew, on the administrator's machine")
        }
        Some(Reason::Versions) => problem.try_("the same version of yestrel here and on the gateway"),
        Some(_) => problem.try_("ask the administrator of this gateway"),
        None => problem
            .try_("another network: some let only the web through")
            .try_("yestrel port list   on the administrator's machine: is the port open all the way?"),
    }
}
