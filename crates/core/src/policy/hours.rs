//! Hours of the week, dates, and ages of credentials.

use std::fmt;
use std::str::FromStr;

use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan as _};

use crate::{Problem, Result, lapse};

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
const MINUTES: u16 = 24 * 60;

/// What the clocks at a place say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Local {
    pub date: Date,
    /// Seconds since the day began, by the clock on the wall.
    pub second: u32,
}

impl Local {
    /// What the clocks in a zone say at a moment.
    #[must_use]
    pub fn at(zone: &TimeZone, at: Timestamp) -> Self {
        let local = zone.to_datetime(at);
        let time = local.time();
        let clock = |part: i8| u32::from(part.unsigned_abs());
        let second = clock(time.hour()) * 3600 + clock(time.minute()) * 60 + clock(time.second());
        Self { date: local.date(), second }
    }

    /// "Fri 10:00".
    #[must_use]
    pub fn words(&self) -> String {
        let day = DAYS[usize::from(day(self.date.weekday()))];
        let (hour, minute) = (self.second / 3600, self.second / 60 % 60);
        format!("{}{} {hour:02}:{minute:02}", day[..1].to_uppercase(), &day[1..])
    }
}

/// 0 for Monday.
fn day(weekday: Weekday) -> u8 {
    weekday.to_monday_zero_offset().unsigned_abs()
}

/// A zone by its name in the IANA time zone database.
///
/// # Errors
/// There is none of this name.
pub fn zone(name: &str) -> Result<TimeZone> {
    TimeZone::get(name).map_err(|_| {
        Problem::words(format!("there is no time zone {:?}", name.chars().take(60).collect::<String>()))
            .why("zones are called as in the IANA time zone database")
            .try_("a name like Europe/Oslo, or UTC")
    })
}

/// Moments at which the clocks of a zone show a date and time, and at which they are set, near it: where something that goes by the clock may
/// change.
fn moments(zone: &TimeZone, local: DateTime) -> impl Iterator<Item = Timestamp> {
    let ambiguous = zone.to_ambiguous_timestamp(local);
    [ambiguous.earlier().ok(), ambiguous.later().ok()].into_iter().flatten()
}

/// A moment as people say it at a place: RFC 3339, `2027-03-05 10:00`, `10:00` for the next time that the clocks there show that, `fri 10:00` for
/// the next such day.
///
/// # Errors
/// It is none of these.
pub fn moment_at(text: &str, zone: &TimeZone, now: Timestamp) -> Result<Timestamp> {
    let bad = || {
        Problem::words(format!("the time {:?} cannot be read", text.chars().take(60).collect::<String>()))
            .why("it is a date and time, or a time of day with or without a day of the week")
            .try_("\"fri 10:00\", 10:00, \"2027-03-05 10:00\" or 2027-03-05T09:00:00Z")
    };
    let text = text.trim();
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    let there = |local: DateTime| zone.to_ambiguous_timestamp(local).compatible().map_err(|_| bad());
    let (day_word, time) = text.rsplit_once(' ').unwrap_or(("", text));
    let time: Time = format!("{time:0>5}:00").parse().map_err(|_| bad())?;
    if let Ok(date) = day_word.trim().parse::<Date>() {
        return there(date.to_datetime(time));
    }
    let wanted = match day_word.trim().to_ascii_lowercase().get(..3) {
        None if day_word.trim().is_empty() => None,
        Some(three) => Some(DAYS.iter().position(|one| *one == three).ok_or_else(bad)?),
        None => return Err(bad()),
    };
    let mut date = zone.to_datetime(now).date();
    for _ in 0..8 {
        let fits = wanted.is_none_or(|wanted| usize::from(day(date.weekday())) == wanted);
        let at = there(date.to_datetime(time))?;
        if fits && at >= now {
            return Ok(at);
        }
        date = date.tomorrow().map_err(|_| bad())?;
    }
    Err(bad())
}

/// Some hours on some days of the week, by the clock on the wall: where it is set back, an hour that comes twice counts twice; what it skips does
/// not come. Hours over midnight belong to the day on which they begin.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Hours {
    /// A bit each, Monday the lowest.
    days: u8,
    /// Minutes since midnight.
    from: u16,
    /// Minutes since midnight, 1..=1440; not after `from`: on the next day.
    to: u16,
    /// In this zone; `None`: in the site's.
    pub zone: Option<String>,
}

impl Hours {
    /// Whether it is such an hour.
    #[must_use]
    pub fn hold(&self, local: &Local) -> bool {
        let today = day(local.date.weekday());
        let on = |day: u8| self.days & (1 << day) != 0;
        let (from, to) = (u32::from(self.from) * 60, u32::from(self.to) * 60);
        if from < to {
            return on(today) && (from..to).contains(&local.second);
        }
        (on(today) && local.second >= from) || (on((today + 6) % 7) && local.second < to)
    }

    /// Moments after `after` and not after `until` at which it may become such an hour, or cease to be one. `zone`: of the site.
    pub(super) fn changes(&self, zone: &TimeZone, after: Timestamp, until: Timestamp, into: &mut Vec<Timestamp>) {
        let mut date = zone.to_datetime(after).date().saturating_sub(1.day());
        let last = zone.to_datetime(until).date();
        while date <= last {
            let midnight = date.to_datetime(Time::midnight());
            for minutes in [self.from, self.to] {
                let local = midnight.saturating_add(i64::from(minutes).minutes());
                into.extend(moments(zone, local).filter(|at| *at > after && *at <= until));
            }
            let Ok(next) = date.tomorrow() else { return };
            date = next;
        }
        into.extend(zone.following(after).map(|set| set.timestamp()).take_while(|at| *at <= until));
    }

    /// How long they last on a day that begins so, in a zone where the clocks may be set: nothing where all of it is skipped.
    #[must_use]
    pub fn last(&self, zone: &TimeZone, date: Date) -> SignedDuration {
        let mut first = None;
        let mut total = SignedDuration::ZERO;
        let midnight = date.to_datetime(Time::midnight());
        let Some(begin) = moments(zone, midnight).next() else { return total };
        let mut at = begin;
        let mut marks = Vec::new();
        let until = begin + SignedDuration::from_hours(50);
        self.changes(zone, begin - SignedDuration::from_secs(1), until, &mut marks);
        marks.push(until);
        marks.sort_unstable();
        for mark in marks {
            let local = Local::at(zone, at);
            let begins = local.date == date && local.second >= u32::from(self.from) * 60;
            let over_midnight = self.from > self.to && local.second < u32::from(self.to) * 60;
            let same = local.date == date || over_midnight;
            let within = self.hold(&local) && same && (first.is_some() || begins);
            if within {
                first = first.or(Some(at));
                total += mark.duration_since(at);
            } else if first.is_some() && local.date != date {
                break;
            }
            at = mark;
        }
        total
    }

    /// Whether there are such hours on a day that begins so.
    #[must_use]
    pub fn begin_on(&self, date: Date) -> bool {
        self.days & (1 << day(date.weekday())) != 0
    }
}

impl FromStr for Hours {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let bad = |why: &str| {
            Problem::words(format!("the hours {:?} cannot be read", text.chars().take(60).collect::<String>()))
                .why(why)
                .try_("tue,thu 05:30-11:15, mon-fri 08:00-17:00, daily 22:00-06:00, or with a zone: daily 08:00-17:00 Europe/Oslo")
        };
        let mut parts = text.split_whitespace();
        let (Some(days), Some(times), zone_name, None) = (parts.next(), parts.next(), parts.next(), parts.next())
        else {
            return Err(bad("days, a space, and from when to when"));
        };
        let named = |text: &str| {
            let lower = text.to_ascii_lowercase();
            let found = DAYS.iter().position(|day| *day == lower);
            found.map(|at| at as u8).ok_or_else(|| bad("days are mon, tue, wed, thu, fri, sat, sun, or daily"))
        };
        let mut mask = 0_u8;
        for part in days.split(',') {
            if part.eq_ignore_ascii_case("daily") {
                mask = 0x7f;
            } else if let Some((first, last)) = part.split_once('-') {
                let (mut day, last) = (named(first)?, named(last)?);
                while day != last {
                    mask |= 1 << day;
                    day = (day + 1) % 7;
                }
                mask |= 1 << last;
            } else {
                mask |= 1 << named(part)?;
            }
        }
        let minutes = |text: &str| {
            let (hour, minute) = text.split_once(':')?;
            let number = |part: &str, most: u16| {
                let right = (1..=2).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_digit());
                part.parse::<u16>().ok().filter(|number| right && *number <= most)
            };
            let (hour, minute) = (number(hour, 24)?, number(minute, 59).filter(|_| minute.len() == 2)?);
            Some(hour * 60 + minute).filter(|all| *all <= MINUTES)
        };
        let span = times.split_once('-').and_then(|(from, to)| Some((minutes(from)?, minutes(to)?)));
        let Some((from, to)) = span else { return Err(bad("times are 00:00 to 24:00, from and to")) };
        let to = if to == 0 { MINUTES } else { to };
        if from == MINUTES {
            return Err(bad("nothing begins at 24:00: that is 00:00 of the next day"));
        }
        if from == to {
            return Err(bad("they end when they begin; a whole day is 00:00-24:00"));
        }
        let zone_name = zone_name.map(|name| zone(name).map(|_| name.to_owned())).transpose()?;
        Ok(Self { days: mask, from, to, zone: zone_name })
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.days == 0x7f {
            f.write_str("daily")?;
        } else {
            let mut words = Vec::new();
            let mut day = 0;
            while day < 7 {
                let run = (day..7).take_while(|day| self.days & (1 << day) != 0).count();
                match run {
                    0 => {}
                    1 | 2 => words.extend(DAYS[day..day + run].iter().map(ToString::to_string)),
                    _ => words.push(format!("{}-{}", DAYS[day], DAYS[day + run - 1])),
                }
                day += run.max(1);
            }
            f.write_str(&words.join(","))?;
        }
        let time = |minutes: u16| format!("{:02}:{:02}", minutes / 60, minutes % 60);
        write!(f, " {}-{}", time(self.from), time(self.to))?;
        self.zone.iter().try_for_each(|zone| write!(f, " {zone}"))
    }
}

/// Days from one to another, both with it, by the calendar of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Dates {
    from: Option<Date>,
    until: Option<Date>,
    /// In this zone; `None`: in the site's.
    pub zone: Option<String>,
}

impl Dates {
    /// Whether it is such a day.
    #[must_use]
    pub fn hold(&self, local: &Local) -> bool {
        self.from.is_none_or(|from| from <= local.date) && self.until.is_none_or(|until| local.date <= until)
    }

    /// As [`Hours::changes`].
    pub(super) fn changes(&self, zone: &TimeZone, after: Timestamp, until: Timestamp, into: &mut Vec<Timestamp>) {
        let ends = self.until.and_then(|day| day.tomorrow().ok());
        for day in [self.from, ends].into_iter().flatten() {
            // Where midnight is skipped, a day begins when the clocks are set.
            let begins = zone.to_ambiguous_timestamp(day.to_datetime(Time::midnight()));
            let at = begins.compatible().ok();
            into.extend(at.into_iter().chain(begins.earlier().ok()).filter(|at| *at > after && *at <= until));
        }
        into.extend(zone.following(after).map(|set| set.timestamp()).take_while(|at| *at <= until));
    }

    /// Whether they are over at a moment, for good.
    #[must_use]
    pub fn over(&self, local: &Local) -> bool {
        self.until.is_some_and(|until| until < local.date)
    }

    /// The first day, where there is one.
    #[must_use]
    pub fn first(&self) -> Option<Date> {
        self.from
    }
}

impl FromStr for Dates {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let bad = |why: &str| {
            Problem::words(format!("the dates {:?} cannot be read", text.chars().take(60).collect::<String>()))
                .why(why)
                .try_("2027-03-01..2027-03-31, 2027-03-01.., ..2027-03-31 or 2027-03-01")
        };
        let mut parts = text.split_whitespace();
        let (Some(dates), zone_name, None) = (parts.next(), parts.next(), parts.next()) else {
            return Err(bad("dates, and a zone if it is not the site's"));
        };
        let one = |text: &str| {
            if text.is_empty() {
                return Ok(None);
            }
            let whole = text.len() == 10;
            let date = text.parse::<Date>().ok().filter(|_| whole);
            date.map(Some).ok_or_else(|| bad("a date is written 2027-03-01"))
        };
        let (from, until) = match dates.split_once("..") {
            Some((from, until)) => (one(from)?, one(until)?),
            None => (one(dates)?, one(dates)?),
        };
        match (from, until) {
            (None, None) => return Err(bad("they neither begin nor end")),
            (Some(from), Some(until)) if until < from => return Err(bad("they end before they begin")),
            _ => {}
        }
        let zone_name = zone_name.map(|name| zone(name).map(|_| name.to_owned())).transpose()?;
        Ok(Self { from, until, zone: zone_name })
    }
}

impl fmt::Display for Dates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = |date: Option<Date>| date.map(|date| date.to_string()).unwrap_or_default();
        match (self.from, self.until) {
            (Some(from), Some(until)) if from == until => write!(f, "{from}")?,
            (from, until) => write!(f, "{}..{}", text(from), text(until))?,
        }
        self.zone.iter().try_for_each(|zone| write!(f, " {zone}"))
    }
}

/// How old a credential is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Age {
    Over(u32),
    Under(u32),
}

impl Age {
    /// Whether a credential is so old, in seconds; one of which nobody knows when it was issued is not.
    #[must_use]
    pub fn holds(self, issued: Option<Timestamp>, now: Timestamp) -> bool {
        let Some(issued) = issued else { return false };
        let old = now.duration_since(issued).as_secs();
        match self {
            Self::Over(seconds) => old >= i64::from(seconds),
            Self::Under(seconds) => old < i64::from(seconds),
        }
    }

    pub(super) fn seconds(self) -> u32 {
        match self {
            Self::Over(seconds) | Self::Under(seconds) => seconds,
        }
    }

    /// When a credential comes to this age.
    pub(super) fn change(self, issued: Timestamp) -> Option<Timestamp> {
        issued.checked_add(SignedDuration::from_secs(self.seconds().into())).ok()
    }
}

impl FromStr for Age {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        let (which, span) = text.split_once(' ').unwrap_or((text, ""));
        let seconds = lapse::parse(span.trim()).and_then(|span| u32::try_from(span.as_secs()).ok());
        match (which, seconds) {
            ("over", Some(seconds)) if seconds > 0 => Ok(Self::Over(seconds)),
            ("under", Some(seconds)) if seconds > 0 => Ok(Self::Under(seconds)),
            _ => Err(Problem::words(format!("the age {:?} cannot be read", text.chars().take(60).collect::<String>()))
                .why("it is over or under a span, such as 12h or 90d")
                .try_("credential-age=\"over 90d\"")),
        }
    }
}

/// A span in the largest unit in which it is whole.
#[must_use]
pub fn span(seconds: u32) -> String {
    match seconds {
        days if days.is_multiple_of(86_400) => format!("{}d", days / 86_400),
        hours if hours.is_multiple_of(3600) => format!("{}h", hours / 3600),
        minutes if minutes.is_multiple_of(60) => format!("{}m", minutes / 60),
        seconds => format!("{seconds}s"),
    }
}

impl fmt::Display for Age {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = if matches!(self, Self::Over(_)) { "over" } else { "under" };
        write!(f, "{word} {}", span(self.seconds()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holds(hours: &str, zone_name: &str, at: &str) -> bool {
        let hours: Hours = hours.parse().unwrap();
        hours.hold(&Local::at(&zone(zone_name).unwrap(), at.parse().unwrap()))
    }

    /// What may change does so at these moments: also when the clocks are set, and in both of two hours that are called the same.
    #[test]
    fn hours_change_when_clocks_are_set_and_in_both_of_two_hours_of_one_name() {
        let zone = zone("Europe/Oslo").unwrap();
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        for (hours, day, expected) in [
            // At 2 it is 3: what would last until half past two ends.
            ("daily 01:00-02:30", "2027-03-28", &["2027-03-28T00:00:00Z", "2027-03-28T01:00:00Z"][..]),
            (
                "daily 02:15-02:45",
                "2027-10-31",
                &["2027-10-31T00:15:00Z", "2027-10-31T00:45:00Z", "2027-10-31T01:15:00Z", "2027-10-31T01:45:00Z"],
            ),
        ] {
            let hours: Hours = hours.parse().unwrap();
            let (from, until) = (at(&format!("{day}T00:00:00Z")), at(&format!("{day}T06:00:00Z")));
            let mut all = Vec::new();
            hours.changes(&zone, from - SignedDuration::from_secs(1), until, &mut all);
            all.sort_unstable();
            all.dedup();
            // Those at which it is otherwise a second before.
            let holds = |at: Timestamp| hours.hold(&Local::at(&zone, at));
            all.retain(|one| holds(*one) != holds(*one - SignedDuration::from_secs(1)));
            assert_eq!(all, expected.iter().map(|text| at(text)).collect::<Vec<_>>(), "{hours}");
        }
    }

    #[test]
    fn a_credential_is_over_an_age_from_the_second_on_at_which_it_comes_to_it() {
        let issued = "2027-03-02T12:00:00Z".parse::<Timestamp>().unwrap();
        let (over, under): (Age, Age) = ("over 90d".parse().unwrap(), "under 90d".parse().unwrap());
        for (seconds, old) in [(-1, false), (0, true), (1, true)] {
            let now = issued + SignedDuration::from_secs(90 * 86_400 + seconds);
            assert_eq!((over.holds(Some(issued), now), under.holds(Some(issued), now)), (old, !old), "{seconds}");
        }
        assert_eq!(over.change(issued), Some(issued + SignedDuration::from_secs(90 * 86_400)));
    }

    #[test]
    fn hours_are_by_the_clock_on_the_wall_and_over_midnight_of_the_day_they_begin_on() {
        // 2027-03-02 is a Tuesday; Oslo is an hour ahead.
        for (hours, at, whether) in [
            ("tue,thu 05:30-11:15", "2027-03-02T04:29:59Z", false),
            ("tue,thu 05:30-11:15", "2027-03-02T04:30:00Z", true),
            ("tue,thu 05:30-11:15", "2027-03-02T10:14:59Z", true),
            ("tue,thu 05:30-11:15", "2027-03-02T10:15:00Z", false),
            ("tue,thu 05:30-11:15", "2027-03-03T05:00:00Z", false),
            ("mon 22:00-06:00", "2027-03-02T04:59:59Z", true),
            ("mon 22:00-06:00", "2027-03-02T05:00:00Z", false),
            ("tue 22:00-06:00", "2027-03-02T04:00:00Z", false),
            ("sun 22:00-06:00", "2027-03-01T00:00:00Z", true),
            ("tue 22:00-24:00", "2027-03-02T22:59:59Z", true),
            ("tue 22:00-24:00", "2027-03-02T23:00:00Z", false),
            ("daily 00:00-24:00", "2027-03-02T23:00:00Z", true),
        ] {
            assert_eq!(holds(hours, "Europe/Oslo", at), whether, "{hours} {at}");
        }
    }

    #[test]
    fn an_hour_that_comes_twice_counts_twice_and_one_that_is_skipped_does_not_come() {
        // Oslo: 2027-03-28 02:00 -> 03:00, 2027-10-31 03:00 -> 02:00.
        assert!(!holds("sun 02:00-03:00", "Europe/Oslo", "2027-03-28T01:00:00Z"));
        assert!(holds("sun 02:00-03:00", "Europe/Oslo", "2027-10-31T00:30:00Z"));
        assert!(holds("sun 02:00-03:00", "Europe/Oslo", "2027-10-31T01:30:00Z"));
        let last = |hours: &str, place: &str, date: &str| {
            let hours: Hours = hours.parse().unwrap();
            hours.last(&zone(place).unwrap(), date.parse().unwrap()).as_secs() / 60
        };
        assert_eq!(last("sun 02:00-03:00", "Europe/Oslo", "2027-03-21"), 60);
        assert_eq!(last("sun 02:00-03:00", "Europe/Oslo", "2027-03-28"), 0);
        assert_eq!(last("sun 02:00-03:00", "Europe/Oslo", "2027-10-31"), 120);
        assert_eq!(last("sat 22:00-06:00", "Europe/Oslo", "2027-03-27"), 7 * 60);
        assert_eq!(last("sat 22:00-06:00", "Europe/Oslo", "2027-03-20"), 8 * 60);
        // Lord Howe Island sets its clocks by half an hour: 2027-04-04 02:00 -> 01:30, 2027-10-03 02:00 -> 02:30.
        assert_eq!(last("sun 01:30-02:00", "Australia/Lord_Howe", "2027-04-04"), 60);
        assert_eq!(last("sun 02:00-02:30", "Australia/Lord_Howe", "2027-10-03"), 0);
        assert_eq!(last("daily 00:00-24:00", "Australia/Lord_Howe", "2027-10-03"), 23 * 60 + 30);
    }

    #[test]
    fn a_moment_is_the_next_that_the_clocks_there_show() {
        let oslo = zone("Europe/Oslo").unwrap();
        let now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        for (text, at) in [
            ("fri 10:00", "2027-03-05T09:00:00Z"),
            ("Tuesday 9:15", "2027-03-02T08:15:00Z"),
            ("tue 09:14", "2027-03-09T08:14:00Z"),
            ("10:00", "2027-03-02T09:00:00Z"),
            ("09:00", "2027-03-03T08:00:00Z"),
            ("2027-07-05 10:00", "2027-07-05T08:00:00Z"),
            ("2027-03-05T10:00:00Z", "2027-03-05T10:00:00Z"),
        ] {
            assert_eq!(moment_at(text, &oslo, now).unwrap().to_string(), at, "{text}");
        }
        for text in ["", "soon", "fri", "fri 25:00", "fre 10:00", "2027-02-30 10:00", "10", "fr 10:00"] {
            assert!(moment_at(text, &oslo, now).is_err(), "{text}");
        }
    }

    #[test]
    fn what_is_written_is_read_back_and_what_is_impossible_is_refused() {
        for (text, canonical) in [
            ("mon,tue,wed,thu,fri 8:00-17:00", "mon-fri 08:00-17:00"),
            ("sat-mon 00:00-24:00", "mon,sat,sun 00:00-24:00"),
            ("mon-sun 10:00-0:00", "daily 10:00-24:00"),
            ("Daily 22:00-06:00 Europe/Oslo", "daily 22:00-06:00 Europe/Oslo"),
        ] {
            let hours: Hours = text.parse().unwrap();
            assert_eq!(hours.to_string(), canonical);
            assert_eq!(canonical.parse::<Hours>().unwrap(), hours);
        }
        for (text, part) in [
            ("tue", "days, a space"),
            ("tue 25:00-26:00", "00:00 to 24:00"),
            ("tue 10:60-11:00", "00:00 to 24:00"),
            ("tue 24:30-11:00", "00:00 to 24:00"),
            ("tue 24:00-11:00", "nothing begins at 24:00"),
            ("tue 10:00-10:00", "a whole day is 00:00-24:00"),
            ("tue 10:00", "from and to"),
            ("tues 10:00-11:00", "days are mon"),
            ("tue 10:00-11:00 Mars/Olympus", "no time zone"),
            ("tue 10:00-11:00 UTC now", "days, a space"),
            ("tue 1:0-2:00", "00:00 to 24:00"),
            ("tue +1:00-2:00", "00:00 to 24:00"),
        ] {
            let problem = text.parse::<Hours>().unwrap_err();
            assert!(problem.line().contains(part), "{text}: {}", problem.line());
        }
        for (text, canonical) in [
            ("2027-03-01..2027-03-31", "2027-03-01..2027-03-31"),
            ("2027-03-01..", "2027-03-01.."),
            ("..2027-03-31 UTC", "..2027-03-31 UTC"),
            ("2027-03-01..2027-03-01", "2027-03-01"),
        ] {
            assert_eq!(text.parse::<Dates>().unwrap().to_string(), canonical);
        }
        for text in ["..", "2027-02-30", "2027-03-02..2027-03-01", "tomorrow", "2027-3-1", "2027-03-01 Mars/Olympus"] {
            assert!(text.parse::<Dates>().is_err(), "{text}");
        }
        for text in ["over 90d", "under 12h", "over 90s", "under 5m"] {
            assert_eq!(text.parse::<Age>().unwrap().to_string(), text);
        }
        for text in ["90d", "over", "over 0d", "past 90d", "over 200y"] {
            assert!(text.parse::<Age>().is_err(), "{text}");
        }
    }
}
