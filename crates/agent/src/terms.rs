//! What policies say of sessions while they last: when each is looked at again, how long it may be idle, how many there may be at once.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;
use yestrel_core::admission::{Admission, Reason, Refusal, Roll, Shown};
use yestrel_core::policy::span;
use yestrel_net::seats::{Seat, Seats};

/// Somebody who comes in, or is in.
#[derive(Debug, Clone, Copy)]
pub struct Coming<'a> {
    pub shown: Shown<'a>,
    pub from: Option<IpAddr>,
    /// When the session began that they have.
    pub since: Option<Timestamp>,
}

impl<'a> Coming<'a> {
    /// Somebody who comes in.
    #[must_use]
    pub fn new(shown: Shown<'a>, from: SocketAddr) -> Self {
        Self { shown, from: Some(from.ip()), since: None }
    }

    /// Whoever has a seat.
    #[must_use]
    pub fn of(seat: &Seat) -> Self {
        Self { shown: Shown::Session(seat.identity), from: Some(seat.from().ip()), since: Some(seat.opened) }
    }
}

/// How far ahead it is known when decisions may become others.
const AHEAD: SignedDuration = SignedDuration::from_hours(24 * 8);

/// When decisions may become others by themselves: hours begin or end, dates do.
pub(crate) struct Turn(Mutex<Times>);

#[derive(Clone, Copy)]
struct Times {
    looked: Timestamp,
    next: Timestamp,
}

impl Turn {
    /// By a list, from now on.
    pub fn new(roll: &Roll, now: Timestamp) -> Self {
        Self(Mutex::new(Times { looked: now, next: Self::next(roll, now) }))
    }

    fn next(roll: &Roll, now: Timestamp) -> Timestamp {
        let changes = roll.policies().map(|list| list.changes(None, now, AHEAD)).unwrap_or_default();
        changes.first().copied().unwrap_or_else(|| now.checked_add(AHEAD).unwrap_or(Timestamp::MAX))
    }

    /// Whether such a moment has come since this was last asked, or the clock was set back, when it may be any.
    pub fn has_come(&self, roll: &Roll, now: Timestamp) -> bool {
        let mut times = self.0.lock();
        let come = now >= times.next || now.duration_since(times.looked) < SignedDuration::from_secs(-2);
        times.looked = now;
        if come {
            times.next = Self::next(roll, now);
        }
        come
    }

    /// The same for another roll of the same list.
    pub fn again(&self) -> Self {
        Self(Mutex::new(*self.0.lock()))
    }
}

/// Whether one more session of a credential is not too many, beside those of other credentials: an older one of its own it replaces.
///
/// # Errors
/// The refusal.
pub(crate) fn room(seats: &Seats, admission: &Admission) -> Result<(), Refusal> {
    let identity = admission.proof.identity();
    let others = |seats: Vec<Arc<Seat>>| seats.iter().filter(|seat| seat.identity != identity).count();
    let device = admission.device.as_str();
    let user = device.split('/').next().unwrap_or_default();
    let terms = &admission.terms;
    for (most, whose) in [(terms.device_sessions, device), (terms.user_sessions, user)] {
        let Some(most) = most else { continue };
        let there = if whose == device { seats.of_device(device) } else { seats.of_user(user) };
        if others(there) >= usize::from(most) {
            let by = admission.policy.as_deref().unwrap_or_default();
            let words = format!("{whose} has {most} at once already, which is all that the policy {by} lets in");
            return Err(Refusal { reason: Reason::Limit, words });
        }
    }
    Ok(())
}

/// When a session will have been idle for too long, as far as is known now.
///
/// # Errors
/// It has been.
pub(crate) fn idle(seat: &Seat, admission: &Admission, now: Timestamp) -> Result<Option<Timestamp>, Refusal> {
    let Some(seconds) = admission.terms.idle else { return Ok(None) };
    let until = seat.busy().checked_add(SignedDuration::from_secs(seconds.into())).unwrap_or(Timestamp::MAX);
    if until <= now {
        return Err(Refusal { reason: Reason::Limit, words: format!("it was idle for {}", span(seconds)) });
    }
    Ok(Some(until))
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::order::OrderPolicies;
    use yestrel_core::policy::{Rule, condition};
    use yestrel_core::sample;

    #[test]
    fn a_turn_comes_once_at_each_moment_and_whenever_the_clock_is_set_back() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let when = [condition("hours=tue,thu 05:30-11:15").unwrap()].into();
        let list = vec![Rule { when, ..Rule::everyone("dry-dock") }];
        let policies = Some(OrderPolicies { list, site: "harbour".into(), zone: "Europe/Oslo".into() });
        let roll = Roll::new(yestrel_core::order::Content { policies, ..sample::content() });
        let turn = Turn::new(&roll, at("2027-03-02T04:00:00Z"));
        assert!(!turn.has_come(&roll, at("2027-03-02T04:29:59Z")));
        assert!(turn.has_come(&roll, at("2027-03-02T04:30:00Z")));
        assert!(!turn.has_come(&roll, at("2027-03-02T04:30:01Z")));
        assert!(turn.again().has_come(&roll, at("2027-03-02T10:15:00Z")));
        assert!(turn.has_come(&roll, at("2027-03-02T04:20:00Z")), "set back");
        assert!(!turn.has_come(&roll, at("2027-03-02T04:20:01Z")));
        assert!(turn.has_come(&roll, at("2027-03-09T04:20:01Z")), "set forward");
    }
}
