//! What policies say of sessions while they last: when each is looked at again, how long it may be idle, how many there may be at once.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};
use yestrel_core::admission::{Admission, Reason, Refusal, Roll, Shown};
use yestrel_core::keys::PublicKey;
use yestrel_core::policy::span;
use yestrel_net::seats::{Seat, Seats};

/// Somebody who comes in, or is in.
#[derive(Debug, Clone, Copy)]
pub struct Coming<'a> {
    pub shown: Shown<'a>,
    pub from: Option<IpAddr>,
    /// When the session began that they have.
    pub since: Option<Timestamp>,
    /// Its number.
    pub session: Option<u64>,
}

impl<'a> Coming<'a> {
    /// Somebody who comes in.
    #[must_use]
    pub fn new(shown: Shown<'a>, from: SocketAddr) -> Self {
        Self { shown, from: Some(from.ip()), since: None, session: None }
    }

    /// Whoever has a seat.
    #[must_use]
    pub fn of(seat: &Seat) -> Self {
        let (from, since) = (Some(seat.from().ip()), Some(seat.opened));
        Self { shown: Shown::Session(seat.identity), from, since, session: Some(seat.number) }
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

/// A session at another gateway, of somebody whose sessions are counted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct There {
    pub device: String,
    pub identity: PublicKey,
    pub opened: Timestamp,
}

/// What another gateway said counts for so long; gateways meet more often.
pub(crate) const FRESH: Duration = Duration::from_secs(60);

/// Who is in at other gateways, as far as these have said: by the gateway.
#[derive(Default)]
pub(crate) struct Elsewhere(RwLock<HashMap<String, (Instant, Vec<There>)>>);

impl Elsewhere {
    /// A gateway says who is in there.
    pub fn set(&self, gateway: &str, sessions: Vec<There>) {
        let mut all = self.0.write();
        all.retain(|_, (heard, _)| heard.elapsed() < FRESH);
        all.insert(gateway.to_owned(), (Instant::now(), sessions));
    }

    /// Those of these gateways that have said nothing for so long that nothing they said counts.
    pub fn silent<'a>(&self, gateways: impl Iterator<Item = &'a str>) -> Vec<String> {
        let all = self.0.read();
        let fresh = |gateway: &str| all.get(gateway).is_some_and(|(heard, _)| heard.elapsed() < FRESH);
        let mut silent: Vec<String> = gateways.filter(|one| !fresh(one)).map(str::to_owned).collect();
        silent.sort();
        silent.dedup();
        silent
    }

    /// When and where others of `whose`, a user or a device, are in by other credentials than this.
    fn others(&self, whose: &str, identity: PublicKey) -> Vec<(Timestamp, String)> {
        let is = |there: &There| {
            let device = there.device.as_str();
            let of = device == whose || device.strip_prefix(whose).is_some_and(|rest| rest.starts_with('/'));
            of && there.identity != identity
        };
        let all = self.0.read();
        let fresh = all.iter().filter(|(_, (heard, _))| heard.elapsed() < FRESH);
        let each = fresh.flat_map(|(gateway, (_, sessions))| sessions.iter().map(move |there| (gateway, there)));
        each.filter(|(_, there)| is(there)).map(|(gateway, there)| (there.opened, gateway.clone())).collect()
    }
}

/// How many there may be at once, and of whom.
fn limits(admission: &Admission) -> impl Iterator<Item = (usize, &str)> {
    let device = admission.device.as_str();
    let user = device.split('/').next().unwrap_or_default();
    let terms = &admission.terms;
    let each = [(terms.device_sessions, device), (terms.user_sessions, user)];
    each.into_iter().filter_map(|(most, whose)| Some((usize::from(most?), whose)))
}

/// The sessions here of a user or a device, by other credentials than this: an older one of its own a session replaces.
fn others_here(seats: &Seats, whose: &str, identity: PublicKey) -> Vec<Arc<Seat>> {
    let mut there = if whose.contains('/') { seats.of_device(whose) } else { seats.of_user(whose) };
    there.retain(|seat| seat.identity != identity);
    there
}

fn too_many(whose: &str, most: usize, admission: &Admission) -> Refusal {
    let by = admission.policy.as_deref().unwrap_or_default();
    let words = format!("{whose} has {most} at once already, which is all that the policy {by} lets in");
    Refusal { reason: Reason::Limit, words }
}

/// Whether one more session of a credential is not too many, here and elsewhere.
///
/// # Errors
/// The refusal.
pub(crate) fn room(seats: &Seats, elsewhere: &Elsewhere, admission: &Admission) -> Result<(), Refusal> {
    let identity = admission.proof.identity();
    for (most, whose) in limits(admission) {
        let others = others_here(seats, whose, identity).len() + elsewhere.others(whose, identity).len();
        if others >= most {
            return Err(too_many(whose, most, admission));
        }
    }
    Ok(())
}

/// Whether a session that is up is not one too many, beside those at other gateways: of two the later goes, by the moment and then by the
/// name of the gateway, so that both gateways come to the same.
///
/// # Errors
/// Why it is over.
pub(crate) fn stays(
    seats: &Seats,
    elsewhere: &Elsewhere,
    (gateway, seat): (&str, &Seat),
    admission: &Admission,
) -> Result<(), Refusal> {
    for (most, whose) in limits(admission) {
        let away = elsewhere.others(whose, seat.identity);
        if away.is_empty() {
            continue;
        }
        let before = away.iter().filter(|(opened, at)| (*opened, at.as_str()) < (seat.opened, gateway)).count();
        let here = others_here(seats, whose, seat.identity);
        let before_here = here.iter().filter(|other| (other.opened, other.number) < (seat.opened, seat.number)).count();
        if before + before_here >= most {
            return Err(too_many(whose, most, admission));
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
        let policies =
            Some(OrderPolicies { list, site: "harbour".into(), zone: "Europe/Oslo".into(), registries: vec![] });
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
