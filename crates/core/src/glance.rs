//! The whole estate at one glance: what is so now, beside what should be, and what follows from that.

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::findings::{Finding, Grade, finding};
use crate::lapse;
use crate::policy::any_of;

/// What ends within so many days is said.
pub const SOON: SignedDuration = SignedDuration::from_hours(24 * 30);

/// A session as its gateway told of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Inside {
    pub device: String,
    pub listener: String,
    pub since: Timestamp,
}

/// What a gateway's agent said when it was asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Heard {
    /// The number of the order in force there; 0 for none.
    pub order: u64,
    pub version: String,
    /// It is not the agent that the estate knows: nothing else that it says is of this estate.
    pub another: bool,
    /// How it differs from what the estate believes: wiped, of another estate, another order.
    pub differs: Option<String>,
    /// Who is in; `None` where the answer to that did not come in time.
    pub inside: Option<Vec<Inside>>,
    /// Listeners' ports that should be open there and are not, with why; `None` where it is not known in time.
    pub shut: Option<Vec<(String, String)>>,
    /// Seconds by which its clock is ahead of this machine's; `None` where it did not say.
    pub clock_ahead: Option<i64>,
    /// Gateways of which it hears nothing while a policy counts sessions over all of them.
    pub uncounted: Vec<String>,
}

/// One gateway: what the estate wants there, and what was heard.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct AtGateway {
    pub gateway: String,
    pub site: String,
    pub host: String,
    /// The order that its agent has confirmed; 0 for none.
    pub confirmed: u64,
    /// The order that a rollout would leave there.
    pub wanted: u64,
    /// Ports that should be open.
    pub ports: usize,
    /// How many changes wait for a rollout; revocations are counted apart.
    pub waits: usize,
    /// Devices that were revoked, and this gateway has not confirmed that.
    pub uncarried: Vec<String>,
    /// What its agent answered, or why it did not; `None` for a gateway that no order was ever brought to.
    pub heard: Option<Result<Heard, String>>,
    /// When it was last heard before this.
    pub last_heard: Option<Timestamp>,
    /// Until when its order holds, where that is soon.
    pub lets_nobody_in_from: Option<Timestamp>,
}

/// Seconds by which a gateway's clock may be off.
const CLOCK: i64 = 60;

/// Something that ends.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Ending {
    pub at: Timestamp,
    /// "credential mara/laptop/1", "certificate of the gateway harbour", "authority issuing".
    pub what: String,
    /// The command that mends it.
    pub try_: String,
}

/// An agent that was left behind on a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LeftBehind {
    pub host: String,
    pub gateway: String,
    pub since: Timestamp,
}

/// Everything that one look takes in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Glance {
    pub estate: String,
    pub at: Timestamp,
    /// By site, then by name.
    pub gateways: Vec<AtGateway>,
    pub sites_without_gateway: Vec<String>,
    pub left_behind: Vec<LeftBehind>,
    /// What has ended or ends within [`SOON`], the earliest first.
    pub endings: Vec<Ending>,
    /// Handovers that tell their devices something that is no longer so.
    pub stale: usize,
    /// Commands on many that are not finished.
    pub jobs: Vec<crate::estate::Job>,
    /// Whether a policy admits somebody.
    pub admits: bool,
    /// When a backup was last made, as far as is known.
    pub saved: Option<Timestamp>,
    pub users: usize,
    pub devices: usize,
    /// Credentials that are not revoked.
    pub credentials: usize,
    /// Bytes of the estate's file.
    pub size: u64,
}

fn several(number: usize, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// Some of a list, for a sentence.
fn some(names: &[String]) -> String {
    match names {
        [] => String::new(),
        few if few.len() <= 3 => few.join(", "),
        [first, second, rest @ ..] => format!("{first}, {second} and {} more", rest.len()),
        [one] => one.clone(),
    }
}

impl AtGateway {
    /// How its agent stands, in a word or few, and how good that is.
    #[must_use]
    pub fn state(&self, now: Timestamp) -> (Grade, String) {
        match &self.heard {
            None => (Grade::Poor, "no order yet".into()),
            Some(Err(_)) => match self.last_heard {
                Some(at) => (Grade::Bad, format!("silent, heard {}", lapse::from_now(at, now))),
                None => (Grade::Bad, "silent".into()),
            },
            Some(Ok(Heard { differs: Some(_), .. })) => (Grade::Bad, "differs".into()),
            Some(Ok(_)) => (Grade::Good, "answers".into()),
        }
    }

    /// The order there beside the one wanted: "13", "12 of 13"; what is only remembered says so.
    #[must_use]
    pub fn order(&self) -> (Grade, String) {
        let there = match &self.heard {
            Some(Ok(heard)) => heard.order,
            _ => self.confirmed,
        };
        let words = if there == self.wanted { there.to_string() } else { format!("{there} of {}", self.wanted) };
        match &self.heard {
            Some(Err(_)) => (Grade::Poor, format!("{words} remembered")),
            _ if there == self.wanted => (Grade::Good, words),
            _ => (Grade::Poor, words),
        }
    }

    /// Ports that are open beside those that should be.
    #[must_use]
    pub fn open(&self) -> (Grade, String) {
        match &self.heard {
            Some(Ok(Heard { shut: Some(shut), another: false, .. })) => {
                let words = format!("{} of {}", self.ports.saturating_sub(shut.len()), self.ports);
                (if shut.is_empty() { Grade::Good } else { Grade::Bad }, words)
            }
            _ if self.ports == 0 => (Grade::Good, "none".into()),
            _ => (Grade::Poor, "unknown".into()),
        }
    }

    /// What waits for a rollout.
    #[must_use]
    pub fn waiting(&self) -> (Grade, String) {
        let changes = (self.waits > 0).then(|| several(self.waits, "change", "changes"));
        let revoked = (!self.uncarried.is_empty()).then(|| several(self.uncarried.len(), "revocation", "revocations"));
        match (revoked, changes) {
            (None, None) => (Grade::Good, "nothing".into()),
            (Some(revoked), None) => (Grade::Bad, revoked),
            (None, Some(changes)) => (Grade::Poor, changes),
            (Some(revoked), Some(changes)) => (Grade::Bad, format!("{revoked}, {changes}")),
        }
    }

    fn findings(&self, now: Timestamp) -> Vec<Finding> {
        let mut all = Vec::new();
        let name = &self.gateway;
        let mut say = |grade, words: String, try_: &str| all.push(finding(grade, name, words, Some(try_)));
        let rollout = format!("yestrel rollout {name}");
        match &self.heard {
            None => say(Grade::Poor, "no order was ever brought there".into(), &rollout),
            Some(Err(why)) => {
                let last = self.last_heard.map_or_else(
                    || "it was never heard".to_owned(),
                    |at| format!("it was last heard {}", lapse::from_now(at, now)),
                );
                let probe = format!("yestrel host probe {}", self.host);
                say(Grade::Bad, format!("{why}; {last}"), &probe);
            }
            Some(Ok(heard)) => {
                if let Some(differs) = &heard.differs {
                    // An order that is behind by what waits is said once, with what waits.
                    let again = if heard.order == 0 { format!("{rollout} --again") } else { rollout.clone() };
                    say(Grade::Bad, differs.clone(), &again);
                }
                let shut = heard.shut.iter().flatten().filter(|_| !heard.another);
                for (port, why) in shut {
                    say(Grade::Bad, format!("{port} is shut: {why}"), &format!("yestrel port list {name}"));
                }
                if let Some(ahead) = heard.clock_ahead.filter(|ahead| ahead.abs() > CLOCK) {
                    let off = lapse::span(SignedDuration::from_secs(ahead));
                    let side = if ahead > 0 { "ahead" } else { "behind" };
                    let words = format!("its clock is {off} {side}, and hours, dates and ends of credentials go by it");
                    say(Grade::Bad, words, &format!("yestrel host probe {}", self.host));
                }
                if !heard.uncounted.is_empty() && !heard.another {
                    let others = any_of(&heard.uncounted);
                    let words = format!(
                        "a policy counts sessions at once, and it hears nothing of {others}: what is in there is not counted here"
                    );
                    say(Grade::Poor, words, "yestrel gateway list");
                }
                if heard.shut.is_none() || heard.inside.is_none() {
                    let words = "answers so slowly that not everything about it is known";
                    say(Grade::Poor, words.into(), &format!("yestrel gateway show {name}"));
                }
            }
        }
        if let Some(until) = self.lets_nobody_in_from {
            let words = if until <= now {
                format!("lets nobody in since {}: its order is too old", lapse::from_now(until, now))
            } else {
                format!("lets nobody in any more {}, unless it is reached", lapse::from_now(until, now))
            };
            say(Grade::Bad, words, &rollout);
        }
        if !self.uncarried.is_empty() {
            let verb = if self.uncarried.len() == 1 { "is" } else { "are" };
            let words = format!("{} {verb} revoked, and it has not confirmed that", some(&self.uncarried));
            say(Grade::Bad, words, &rollout);
        }
        if self.waits > 0 && self.heard.is_some() {
            let words = format!("{} for it", several(self.waits, "change waits", "changes wait"));
            say(Grade::Poor, words, &format!("{rollout} --preview"));
        }
        all
    }
}

impl Glance {
    /// Sessions of all gateways that answered.
    pub fn inside(&self) -> impl Iterator<Item = &Inside> {
        let heard = self.gateways.iter().filter_map(|at| at.heard.as_ref()?.as_ref().ok());
        heard.filter_map(|heard| heard.inside.as_ref()).flatten()
    }

    /// Whether who is in is known of every gateway that has an order.
    #[must_use]
    pub fn knows_who_is_in(&self) -> bool {
        let asked = self.gateways.iter().filter_map(|at| at.heard.as_ref());
        asked.into_iter().all(|heard| heard.as_ref().is_ok_and(|heard| heard.inside.is_some()))
    }

    /// What is not as it should be, the worst first.
    #[must_use]
    pub fn findings(&self) -> Vec<Finding> {
        let mut all: Vec<_> = self.gateways.iter().flat_map(|at| at.findings(self.at)).collect();
        let mut say = |grade, subject: &str, words: String, try_: &str| {
            all.push(finding(grade, subject, words, Some(try_)));
        };
        if self.gateways.is_empty() {
            let next = "yestrel guide";
            say(Grade::Poor, "gateways", "there is none yet, so nobody can come in".into(), next);
        }
        if !self.admits {
            let grade = if self.credentials > 0 { Grade::Bad } else { Grade::Poor };
            let words = "none admits anybody, so nobody can come in".into();
            say(grade, "policies", words, "yestrel policy add everyone admit");
        }
        for old in &self.left_behind {
            let words = format!(
                "an old agent of {} was left there {}, and may still let devices in that are revoked",
                old.gateway,
                lapse::from_now(old.since, self.at)
            );
            say(Grade::Poor, &old.host, words, "yestrel rollout");
        }
        for job in &self.jobs {
            let words = format!(
                "{} of {}, begun {}, is not finished: {}",
                job.what,
                job.who,
                lapse::from_now(job.begun, self.at),
                job.progress()
            );
            say(Grade::Poor, "job", words, &format!("yestrel estate jobs --resume {}", job.name));
        }
        let (over, soon): (Vec<_>, Vec<_>) = self.endings.iter().partition(|ending| ending.at <= self.at);
        for (grade, endings, verb) in [(Grade::Bad, over, "ended"), (Grade::Poor, soon, "ends")] {
            // One line for each command that mends it.
            let mut said: Vec<&str> = Vec::new();
            for ending in &endings {
                if said.contains(&ending.try_.as_str()) {
                    continue;
                }
                said.push(&ending.try_);
                let same: Vec<_> = endings.iter().filter(|other| other.try_ == ending.try_).collect();
                let more =
                    if same.len() > 1 { format!(", and {} more after it", same.len() - 1) } else { String::new() };
                let words = format!("the {} {verb} {}{more}", ending.what, lapse::from_now(ending.at, self.at));
                say(grade, "ends", words, &ending.try_);
            }
        }
        if self.stale > 0 {
            let words = several(
                self.stale,
                "handover tells its device what is no longer so",
                "handovers tell their devices what is no longer so",
            );
            say(Grade::Poor, "handovers", words, "yestrel credential notice --all --to FOLDER");
        }
        match self.saved {
            Some(at) if self.at.duration_since(at) < SOON => {}
            Some(at) => {
                let words = format!("the last backup was made {}", lapse::from_now(at, self.at));
                say(Grade::Poor, "backup", words, "yestrel estate save FILE");
            }
            None => say(Grade::Poor, "backup", "none was ever made".into(), "yestrel estate save FILE"),
        }
        all.sort_by_key(|finding| std::cmp::Reverse(finding.grade));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn now() -> Timestamp {
        "2027-03-02T08:15:00Z".parse().unwrap()
    }

    fn harbour() -> AtGateway {
        AtGateway {
            gateway: "harbour".into(),
            site: "harbour".into(),
            host: "harbour".into(),
            confirmed: 13,
            wanted: 13,
            ports: 1,
            waits: 0,
            uncarried: vec![],
            heard: Some(Ok(Heard {
                order: 13,
                version: "0.4.0".into(),
                another: false,
                differs: None,
                inside: Some(vec![Inside {
                    device: "mara/laptop".into(),
                    listener: "harbour/quill".into(),
                    since: now(),
                }]),
                shut: Some(vec![]),
                clock_ahead: Some(-1),
                uncounted: Vec::new(),
            })),
            last_heard: Some(now()),
            lets_nobody_in_from: None,
        }
    }

    fn glance(gateways: Vec<AtGateway>) -> Glance {
        Glance {
            estate: "skerry".into(),
            at: now(),
            gateways,
            sites_without_gateway: vec![],
            left_behind: vec![],
            endings: vec![],
            jobs: vec![],
            admits: true,
            stale: 0,
            saved: Some(now()),
            users: 4,
            devices: 5,
            credentials: 5,
            size: 400_000,
        }
    }

    fn said(glance: &Glance) -> Vec<(Grade, String)> {
        glance.findings().into_iter().map(|one| (one.grade, format!("{}: {}", one.subject, one.words))).collect()
    }

    #[test]
    fn where_everything_is_as_it_should_be_nothing_is_said() {
        let glance = glance(vec![harbour()]);
        assert_eq!(said(&glance), []);
        assert_eq!(glance.inside().count(), 1);
        assert!(glance.knows_who_is_in());
        let words = [harbour().state(now()), harbour().order(), harbour().open(), harbour().waiting()];
        assert_eq!(
            words.map(|(grade, words)| format!("{} {words}", grade.word())),
            ["good answers", "good 13", "good 1 of 1", "good nothing"]
        );
    }

    #[test]
    fn a_clock_that_is_off_is_said_with_what_goes_by_it() {
        let mut off = harbour();
        if let Some(Ok(heard)) = &mut off.heard {
            heard.clock_ahead = Some(-7_300);
        }
        let words = "harbour: its clock is 2 h behind, and hours, dates and ends of credentials go by it".to_owned();
        assert_eq!(said(&glance(vec![off])), [(Grade::Bad, words)]);
    }

    #[test]
    fn a_list_that_admits_nobody_is_bad_once_somebody_has_a_credential() {
        let one = Glance { admits: false, ..glance(vec![harbour()]) };
        let words = "policies: none admits anybody, so nobody can come in".to_owned();
        assert_eq!(said(&one), [(Grade::Bad, words.clone())]);
        assert_eq!(said(&Glance { credentials: 0, ..one }), [(Grade::Poor, words)]);
    }

    #[test]
    fn each_thing_that_is_wrong_is_said_once_with_its_grade() {
        type Case = (Grade, &'static str, fn(&mut Glance));
        let cases: [Case; 12] = [
            (Grade::Bad, "harbour: connection refused; it was last heard 3 h ago", |glance| {
                glance.gateways[0].heard = Some(Err("connection refused".into()));
                glance.gateways[0].last_heard = Some(now() - SignedDuration::from_hours(3));
            }),
            (Grade::Poor, "harbour: no order was ever brought there", |glance| glance.gateways[0].heard = None),
            (Grade::Bad, "harbour: the agent there belongs to no estate", |glance| {
                let Some(Ok(heard)) = &mut glance.gateways[0].heard else { panic!() };
                (heard.order, heard.another) = (0, true);
                heard.differs = Some("the agent there belongs to no estate".into());
                heard.shut = Some(vec![("23817/udp".into(), "nobody listens there".into())]);
            }),
            (Grade::Bad, "harbour: 23817/udp is shut: another firewall", |glance| {
                let Some(Ok(heard)) = &mut glance.gateways[0].heard else { panic!() };
                heard.shut = Some(vec![("23817/udp".into(), "another firewall".into())]);
            }),
            (Grade::Bad, "harbour: tomas/tablet is revoked, and it has not confirmed that", |glance| {
                glance.gateways[0].uncarried = vec!["tomas/tablet".into()];
            }),
            (Grade::Poor, "harbour: 2 changes wait for it", |glance| glance.gateways[0].waits = 2),
            (Grade::Bad, "harbour: lets nobody in any more in 5 h, unless it is reached", |glance| {
                glance.gateways[0].lets_nobody_in_from = Some(now() + SignedDuration::from_hours(5));
            }),
            (Grade::Poor, "barge: an old agent of harbour was left there 4 days ago, and may still", |glance| {
                let since = now() - SignedDuration::from_hours(96);
                glance.left_behind = vec![LeftBehind { host: "barge".into(), gateway: "harbour".into(), since }];
            }),
            (Grade::Bad, "ends: the authority issuing ended 2 h ago", |glance| {
                let at = now() - SignedDuration::from_hours(2);
                glance.endings = vec![Ending { at, what: "authority issuing".into(), try_: "x".into() }];
            }),
            (Grade::Poor, "ends: the credential mara/laptop/1 ends in 12 days, and 1 more after it", |glance| {
                let ending = |days: i64, what: &str| Ending {
                    at: now() + SignedDuration::from_hours(24 * days),
                    what: what.into(),
                    try_: "yestrel credential renew".into(),
                };
                glance.endings = vec![ending(12, "credential mara/laptop/1"), ending(13, "credential ines/desk/1")];
            }),
            (Grade::Poor, "handovers: 3 handovers tell their devices", |glance| glance.stale = 3),
            (Grade::Poor, "backup: none was ever made", |glance| glance.saved = None),
        ];
        for (grade, words, change) in cases {
            let mut glance = glance(vec![harbour()]);
            change(&mut glance);
            let said = said(&glance);
            assert_eq!(said.len(), 1, "{said:?}");
            assert_eq!(said[0].0, grade, "{said:?}");
            assert!(said[0].1.starts_with(words), "{said:?}");
        }
    }

    #[test]
    fn what_is_only_remembered_says_so() {
        let mut silent = harbour();
        silent.heard = Some(Err("no route".into()));
        silent.wanted = 14;
        assert_eq!(silent.order(), (Grade::Poor, "13 of 14 remembered".into()));
        assert_eq!(silent.open(), (Grade::Poor, "unknown".into()));
        assert!(!glance(vec![silent]).knows_who_is_in());
    }
}
