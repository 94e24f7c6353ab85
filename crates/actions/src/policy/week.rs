//! Who could come in when, over a week.

use std::collections::{BTreeSet, HashMap};

use jiff::civil::{Date, Time};
use jiff::{SignedDuration, Timestamp, ToSpan as _};
use serde::Serialize;
use yestrel_core::estate::{Gateway, Site, UserState};
use yestrel_core::policy::{At, Known, List, Rule, moment_at, zone};
use yestrel_core::{Problem, Result, moment};

use super::doors::Doors;
use super::then::Then;
use crate::Context;

/// Moments of credentials themselves within a week that are told apart; of more, only the hours.
const MOST: usize = 2_000;

/// Users who could come in at the same hours of a week.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Week {
    pub users: Vec<String>,
    /// Monday to Sunday.
    pub days: [Spans; 7],
}

/// A week at a gateway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct WholeWeek {
    pub gateway: String,
    /// Of its site, by its name in the IANA time zone database.
    pub zone: String,
    /// The day on which it begins.
    pub monday: Date,
    /// By what it was decided, in words.
    pub list: String,
    pub rows: Vec<Week>,
}

/// Who could come in when, at a gateway or at the first, in the week of a moment or of now; by any device and credential that they have.
///
/// # Errors
/// There is no such gateway, or none; a time or a list that is none.
pub fn week(
    context: &mut Context,
    gateway: Option<&str>,
    at: Option<&str>,
    list: Option<Vec<Rule>>,
    as_of: Option<Timestamp>,
) -> Result<WholeWeek> {
    let now = context.now;
    context.read(|book| {
        let gateway: Gateway = match gateway {
            Some(name) => book.need(name)?,
            None => book.all()?.into_iter().next().ok_or_else(|| {
                Problem::refused("there is no gateway at which somebody could sign in")
                    .try_("yestrel gateway create NAME --host HOST --dialled NAME")
            })?,
        };
        let site: Site = book.need(&gateway.site)?;
        let place = zone(&site.time_zone)?;
        let then = as_of.map(|at| Then::at(book, at)).transpose()?.unwrap_or_default();
        let now = as_of.unwrap_or(now);
        let at = at.map(|text| moment_at(text, &place, now)).transpose()?.unwrap_or(now);
        let proposed = list.is_some();
        let rules = match list {
            Some(rules) => rules,
            None => then.rules(book)?,
        };
        let all = match rules.len() {
            1 => "1 policy".to_owned(),
            many => format!("{many} policies"),
        };
        let by = match (proposed, as_of) {
            (true, _) => format!("by a proposed list of {all}"),
            (false, Some(at)) => format!("by the list of {}, {all}", moment(at)),
            (false, None) => format!("by the list of {all}"),
        };
        let list = List::new(&rules, &site.time_zone)?;
        let today = place.to_datetime(at).date();
        let monday = today.saturating_sub(i64::from(today.weekday().to_monday_zero_offset()).days());
        let midnight = |day: i64| {
            let date = monday.saturating_add(day.days()).to_datetime(Time::midnight());
            place.to_ambiguous_timestamp(date).compatible().unwrap_or(at)
        };
        let doors = Doors::read(book)?;
        let midnights: Vec<Timestamp> = (0..=7).map(midnight).collect();
        let mut rows: HashMap<[Spans; 7], Vec<String>> = HashMap::new();
        let mut known: HashMap<(Known, String), Vec<bool>> = HashMap::new();
        let before = midnights[0] - SignedDuration::from_secs(1);
        let everybody = then.everybody(book)?;
        let carried = || everybody.iter().flat_map(|(_, carries)| carries).flat_map(|(_, credentials)| credentials);
        let within = |moment: &Timestamp| (midnights[0]..midnights[7]).contains(moment);
        // What of credentials begins, ends or comes to an age within the week.
        let mut own: BTreeSet<Timestamp> = BTreeSet::new();
        for credential in carried() {
            own.extend([credential.valid_from, credential.expires].into_iter().flatten().filter(within));
            let aged = |after: &Timestamp| list.next_age(credential.issued, *after);
            own.extend(std::iter::successors(aged(&before), aged).take_while(|moment| *moment < midnights[7]));
        }
        if own.len() > MOST {
            let hour = |moment: &Timestamp| Timestamp::from_second(moment.as_second() / 3600 * 3600).unwrap_or(*moment);
            own = own.iter().map(hour).collect();
        }
        let moments: Vec<Timestamp> = {
            let mut all = list.changes(None, before, SignedDuration::from_hours(24 * 7 + 2));
            all.extend(midnights.iter().chain(&own));
            all.sort_unstable();
            all.dedup();
            all.retain(within);
            all
        };
        for (user, carries) in everybody {
            if user.state == UserState::Suspended || carries.iter().all(|(_, credentials)| credentials.is_empty()) {
                continue;
            }
            let mut open = vec![false; moments.len()];
            for (device, credentials) in carries {
                let platform = device.platform.as_ref().map(|platform| platform.to_lowercase());
                let first = credentials.iter().all(|one| one.first_used.is_none());
                for credential in credentials.into_iter().filter(|one| one.revoked.is_none()) {
                    for (at, tunnel) in doors.ways(&credential).filter(|(at, _)| **at == gateway.name) {
                        let person = credential.person(&user, &device, platform.as_deref());
                        let of = list.know(&person);
                        let decide = || {
                            let decided = moments.iter().map(|moment| {
                                let ours = At::ours(at, &site.name, tunnel, credential.proof(), *moment);
                                let sign = At { first, ..ours };
                                let decided = list.decide_answering(&of, &person, &sign, credential.second_factor);
                                decided.admits().is_some_and(|rule| credential.satisfies(rule))
                            });
                            decided.collect::<Vec<_>>()
                        };
                        // Ages are each credential's own.
                        let found = match list.next_age(credential.issued, Timestamp::MIN).is_some() {
                            true => decide(),
                            false => {
                                let (kind, factor) = (credential.kind.word(), credential.second_factor);
                                let key = (of.clone(), format!("{} {kind} {factor} {first}", tunnel.word()));
                                known.entry(key).or_insert_with(decide).clone()
                            }
                        };
                        let each = open.iter_mut().zip(found).zip(&moments);
                        each.for_each(|((open, found), moment)| *open |= found && credential.holds(*moment));
                    }
                }
            }
            rows.entry(days(&moments, &midnights, &open, &place)).or_default().push(user.name);
        }
        let mut rows: Vec<_> = rows.into_iter().map(|(days, users)| Week { users, days }).collect();
        rows.iter_mut().for_each(|row| row.users.sort());
        rows.sort_by(|a, b| a.users.cmp(&b.users));
        Ok(WholeWeek { gateway: gateway.name, zone: site.time_zone, monday, list: by, rows })
    })
}

/// Hours of a day: from and to, in minutes by the clock on the wall.
pub type Spans = Vec<(u16, u16)>;

/// The hours of each day, by the clock on the wall.
fn days(moments: &[Timestamp], midnights: &[Timestamp], open: &[bool], zone: &jiff::tz::TimeZone) -> [Spans; 7] {
    let minute = |at: Timestamp| {
        let time = zone.to_datetime(at).time();
        u16::from(time.hour().unsigned_abs()) * 60 + u16::from(time.minute().unsigned_abs())
    };
    std::array::from_fn(|day| {
        let (begins, ends) = (midnights[day], midnights[day + 1]);
        let mut spans: Vec<(Timestamp, Timestamp)> = Vec::new();
        for (place, moment) in moments.iter().enumerate().filter(|(_, at)| **at >= begins && **at < ends) {
            let until = moments.get(place + 1).copied().unwrap_or(ends).min(ends);
            match spans.last_mut().filter(|last| last.1 == *moment) {
                Some(last) if open[place] => last.1 = until,
                _ if open[place] => spans.push((*moment, until)),
                _ => {}
            }
        }
        let wall = |(from, to): (Timestamp, Timestamp)| (minute(from), if to == ends { 24 * 60 } else { minute(to) });
        spans.into_iter().map(wall).collect()
    })
}

impl Week {
    /// Its users in few words.
    #[must_use]
    pub fn who(&self) -> String {
        match &self.users[..] {
            [first, second, .., _] if self.users.len() > 3 => {
                format!("{first}, {second} and {} more", self.users.len() - 2)
            }
            few => few.join(", "),
        }
    }

    /// The hours of a day in words: "05:30-11:15", "all day", or nothing.
    #[must_use]
    pub fn words(&self, day: usize) -> String {
        let clock = |minute: u16| format!("{:02}:{:02}", minute / 60, minute % 60);
        match &self.days[day][..] {
            [(0, 1440)] => "all day".into(),
            some => {
                let one = |(from, to): &(u16, u16)| format!("{}-{}", clock(*from), clock(*to));
                some.iter().map(one).collect::<Vec<_>>().join(" ")
            }
        }
    }
}
