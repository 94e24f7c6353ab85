//! Hours of the week in a time zone: when something may happen without a person.

use jiff::civil::{Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _, Zoned};
use serde::{Deserialize, Serialize};

use crate::{Problem, Result};

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// `tue,thu 03:00-05:00` in a time zone; `daily 23:30-00:30` goes on past midnight and belongs to the day that it begins on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    /// "tue,thu 03:00-05:00".
    pub hours: String,
    /// An IANA time zone, "Europe/Oslo".
    pub zone: String,
}

struct Parts {
    days: Vec<Weekday>,
    from: Time,
    until: Time,
    zone: TimeZone,
}

impl Schedule {
    /// Hours as a person writes them, in the zone of the site.
    ///
    /// # Errors
    /// Not days and hours, hours of no length, or an unknown zone.
    pub fn parse(hours: &str, zone: &str) -> Result<Self> {
        let schedule = Self { hours: hours.trim().to_lowercase(), zone: zone.into() };
        schedule.parts()?;
        Ok(schedule)
    }

    fn parts(&self) -> Result<Parts> {
        let wrong = |why: &str| {
            Problem::words(format!("{:?} is no schedule", self.hours))
                .why(why.to_owned())
                .try_("tue,thu 03:00-05:00")
                .try_("daily 02:30-04:00")
        };
        let (days, hours) =
            self.hours.split_once(' ').ok_or_else(|| wrong("days and hours are wanted, with a space between"))?;
        let days: Vec<Weekday> = if days == "daily" {
            DAYS.iter().map(|(_, day)| *day).collect()
        } else {
            let day = |text: &str| DAYS.iter().find(|(name, _)| *name == text).map(|(_, day)| *day);
            days.split(',').map(day).collect::<Option<_>>().ok_or_else(|| wrong("days are mon to sun, or daily"))?
        };
        let time = |text: &str| {
            let (hour, minute) = text.trim().split_once(':')?;
            Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()
        };
        let (from, until) = hours
            .split_once('-')
            .and_then(|(from, until)| Some((time(from)?, time(until)?)))
            .ok_or_else(|| wrong("hours are written 03:00-05:00"))?;
        if from == until {
            return Err(wrong("it begins when it ends"));
        }
        let zone = TimeZone::get(&self.zone).map_err(|_| wrong("its time zone is not known"))?;
        Ok(Parts { days, from, until, zone })
    }

    /// Whether it is within these hours at `now`.
    #[must_use]
    pub fn open_at(&self, now: Timestamp) -> bool {
        let Ok(parts) = self.parts() else { return false };
        let local = now.to_zoned(parts.zone.clone());
        let (day, time) = (local.weekday(), local.time());
        if parts.from < parts.until {
            return parts.days.contains(&day) && parts.from <= time && time < parts.until;
        }
        (parts.days.contains(&day) && time >= parts.from)
            || (parts.days.contains(&day.previous()) && time < parts.until)
    }

    /// When these hours next begin after `now`.
    #[must_use]
    pub fn next(&self, now: Timestamp) -> Option<Timestamp> {
        let parts = self.parts().ok()?;
        let today = now.to_zoned(parts.zone.clone()).date();
        (0..=8).find_map(|ahead| {
            let date = today.checked_add(ahead.days()).ok()?;
            let begins: Zoned = date.to_datetime(parts.from).to_zoned(parts.zone.clone()).ok()?;
            (parts.days.contains(&date.weekday()) && begins.timestamp() > now).then(|| begins.timestamp())
        })
    }
}

impl std::fmt::Display for Schedule {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.hours, self.zone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn hours_hold_in_their_zone_across_midnight_and_clock_changes() {
        // (hours, zone, moment, whether within). 2027-03-02 is a Tuesday; Oslo changes its clocks on 2027-03-28 at 01:00 UTC.
        let cases = [
            ("tue 03:00-05:00", "UTC", "2027-03-02T03:00:00Z", true),
            ("tue 03:00-05:00", "UTC", "2027-03-02T05:00:00Z", false),
            ("tue 03:00-05:00", "UTC", "2027-03-03T04:00:00Z", false),
            ("tue 03:00-05:00", "Europe/Oslo", "2027-03-02T02:00:00Z", true),
            ("tue 23:30-00:30", "UTC", "2027-03-02T23:45:00Z", true),
            ("tue 23:30-00:30", "UTC", "2027-03-03T00:15:00Z", true),
            ("tue 23:30-00:30", "UTC", "2027-03-02T00:15:00Z", false),
            ("daily 04:00-05:00", "Europe/Oslo", "2027-03-27T03:30:00Z", true),
            ("daily 04:00-05:00", "Europe/Oslo", "2027-03-28T03:30:00Z", false),
            ("daily 04:00-05:00", "Europe/Oslo", "2027-03-28T02:30:00Z", true),
        ];
        for (hours, zone, moment, within) in cases {
            let schedule = Schedule::parse(hours, zone).unwrap();
            assert_eq!(schedule.open_at(at(moment)), within, "{schedule} at {moment}");
        }
    }

    #[test]
    fn the_next_hours_are_found() {
        let schedule = Schedule::parse("Tue,thu 03:00-05:00", "Europe/Oslo").unwrap();
        assert_eq!(schedule.next(at("2027-03-02T02:00:00Z")), Some(at("2027-03-04T02:00:00Z")));
        assert_eq!(schedule.to_string(), "tue,thu 03:00-05:00 (Europe/Oslo)");
    }

    #[test]
    fn what_is_no_schedule_says_what_one_is() {
        for bad in ["", "tue", "tues 03:00-05:00", "tue 3-5", "tue 25:00-26:00", "tue 03:00-03:00", "tue, 03:00-05:00"]
        {
            let problem = Schedule::parse(bad, "UTC").unwrap_err();
            assert!(problem.tries[0].contains("03:00-05:00"), "{bad}");
        }
        assert!(Schedule::parse("tue 03:00-05:00", "Skerry/Outer").is_err());
    }
}
