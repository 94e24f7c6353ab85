//! How long ago something was, or how far ahead it is, as people say it.

use jiff::{SignedDuration, Timestamp};

fn many(number: i64, unit: &str) -> String {
    if number == 1 { format!("1 {unit}") } else { format!("{number} {unit}s") }
}

/// Years at most of a span that somebody writes.
const LONGEST: i64 = 50;

/// Reads a span as people write it: a whole number and `s`, `m`, `h`, `d`, `w` or `y` (365 days), at most 50 years.
#[must_use]
pub fn parse(text: &str) -> Option<SignedDuration> {
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit())?);
    let seconds = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        "w" => 7 * 86_400,
        "y" => 365 * 86_400,
        _ => return None,
    };
    let seconds = number.parse::<i64>().ok()?.checked_mul(seconds)?;
    (seconds <= LONGEST * 365 * 86_400).then(|| SignedDuration::from_secs(seconds))
}

/// A span without its sign, in one unit, rounded down: "40 s", "12 min", "3 h", "5 days".
#[must_use]
pub fn span(span: SignedDuration) -> String {
    match span.unsigned_abs().as_secs() as i64 {
        seconds if seconds < 90 => format!("{seconds} s"),
        seconds if seconds < 90 * 60 => format!("{} min", seconds / 60),
        seconds if seconds < 36 * 3600 => format!("{} h", seconds / 3600),
        seconds => many(seconds / 86_400, "day"),
    }
}

/// "3 h ago", "just now", or "in 3 h" for what is yet to come.
#[must_use]
pub fn from_now(at: Timestamp, now: Timestamp) -> String {
    let ahead = at.duration_since(now);
    if ahead.abs() < SignedDuration::from_secs(2) {
        "just now".into()
    } else if ahead.is_negative() {
        format!("{} ago", span(ahead))
    } else {
        format!("in {}", span(ahead))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_span_is_read_in_every_unit_and_nothing_else_is() {
        for (text, seconds) in [
            ("0s", 0),
            ("20s", 20),
            ("25m", 1500),
            ("8h", 28_800),
            ("90d", 7_776_000),
            ("2w", 1_209_600),
            ("1y", 31_536_000),
        ] {
            assert_eq!(parse(text), Some(SignedDuration::from_secs(seconds)), "{text}");
        }
        for text in
            ["", "20", "s", "-1s", "1.5h", "1h30m", "1 h", "51y", "99999999999999999999s", "9223372036854775807y", "1M"]
        {
            assert_eq!(parse(text), None, "{text}");
        }
    }

    #[test]
    fn one_unit_is_enough_and_nothing_is_rounded_up() {
        let now: Timestamp = "2027-03-02T08:15:00Z".parse().unwrap();
        for (seconds, words) in [
            (0, "just now"),
            (-1, "just now"),
            (-40, "40 s ago"),
            (-89, "89 s ago"),
            (-90, "1 min ago"),
            (-5399, "89 min ago"),
            (-5400, "1 h ago"),
            (-129_599, "35 h ago"),
            (-129_600, "1 day ago"),
            (89 * 86_400 + 4000, "in 89 days"),
            (12 * 60, "in 12 min"),
        ] {
            assert_eq!(from_now(now + SignedDuration::from_secs(seconds), now), words);
        }
    }
}
