//! Words that several commands take or say.

use std::path::Path;

use jiff::{SignedDuration, Timestamp};
use yestrel_actions::Stale;
use yestrel_core::estate::Credential;
use yestrel_core::x509::{Algorithm, bring};
use yestrel_core::{Problem, Result, lapse};
use zeroize::Zeroizing;

use crate::ask;
use crate::global::Global;
use crate::output::Output;

pub fn algorithm(text: &str) -> std::result::Result<Algorithm, String> {
    text.parse().map_err(|problem: Problem| problem.why.unwrap_or(problem.error))
}

/// A file that somebody names; long ones are refused by whoever reads them.
pub fn read_file(path: &Path) -> Result<Vec<u8>> {
    use std::io::Read as _;
    let cannot = |why: String| Problem::failed(format!("{} cannot be read", path.display())).why(why);
    let mut bytes = Vec::new();
    let read = std::fs::File::open(path).and_then(|file| file.take(LARGEST + 1).read_to_end(&mut bytes));
    read.map_err(|error| cannot(error.to_string()))?;
    if bytes.len() as u64 > LARGEST {
        return Err(cannot(format!("it has more than {} MB; nothing that is read here has", LARGEST / 1_000_000)));
    }
    Ok(bytes)
}

/// Bytes at most of a file that is read: a table of a hundred thousand users has less.
const LARGEST: u64 = 64_000_000;

/// Key and certificates from files that were made elsewhere.
pub fn read_brought(from: &Path, key: Option<&Path>, passphrase_file: Option<&Path>) -> Result<bring::Brought> {
    let random = ring::rand::SystemRandom::new();
    let mut all = Vec::new();
    for path in [Some(from), key].into_iter().flatten() {
        let what = path.display().to_string();
        let mut ask = ask::tries(&what, passphrase_file);
        all.push(bring::read(&read_file(path)?, &mut ask, &random)?);
    }
    let mut all = all.into_iter();
    let mut brought = all.next().ok_or_else(|| Problem::failed("nothing was read"))?;
    if let Some(other) = all.next() {
        brought.key = other.key.or(brought.key);
    }
    Ok(brought)
}

/// A date (its beginning, UTC), a moment, or a time from now.
pub fn moment(text: &str) -> std::result::Result<Timestamp, String> {
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    if let Ok(date) = text.parse::<jiff::civil::Date>() {
        return date.to_zoned(jiff::tz::TimeZone::UTC).map(|at| at.timestamp()).map_err(|error| error.to_string());
    }
    let ahead = span(text).map_err(|_| {
        "a date (2027-05-31), a moment (2027-05-31T00:00:00Z), or a time from now (8h, 90d, 2y), at most 50 years"
            .to_owned()
    })?;
    Ok(Timestamp::now() + ahead)
}

/// A time span, for what is done again and again.
pub fn short_span(text: &str) -> std::result::Result<SignedDuration, String> {
    let possible = SignedDuration::from_secs(1)..=SignedDuration::from_hours(24);
    lapse::parse(text)
        .filter(|span| possible.contains(span))
        .ok_or_else(|| "a duration from 1s to 24h, such as 5s or 2m".into())
}

/// A time span.
pub fn span(text: &str) -> std::result::Result<SignedDuration, String> {
    lapse::parse(text).ok_or_else(|| "a duration such as 20s, 25m, 8h, 90d, 2w or 1y, at most 50 years".into())
}

/// A time span in whole seconds that fits 16 bits.
pub fn seconds(text: &str) -> std::result::Result<u16, String> {
    let span = lapse::parse(text).ok_or("a duration such as 20s, 25m or 8h")?;
    u16::try_from(span.as_secs()).map_err(|_| "at most 18h, such as 20s".into())
}

/// Some of a list of names, for a sentence.
pub fn shown(names: &[String]) -> String {
    match names.len() {
        0 => String::new(),
        1..=5 => format!(": {}", names.join(", ")),
        more => format!(": {} and {} more", names[..4].join(", "), more - 4),
    }
}

pub use yestrel_core::shown::counted;

/// The first lines of a list for a question, and how many more there are.
pub fn folded(lines: &[String]) -> String {
    const MOST: usize = 12;
    if lines.len() <= MOST {
        return lines.join("\n");
    }
    format!("{}\n  and {} more; --preview shows them all", lines[..MOST - 1].join("\n"), lines.len() - MOST + 1)
}

/// When any of some credentials was last used, as far as the estate has heard.
pub fn last_used(credentials: &[Credential], now: Timestamp) -> String {
    let last = credentials.iter().filter_map(|one| one.last_used).max();
    last.map_or_else(
        || "not used yet, as far as is known".into(),
        |at| format!("last used {}", lapse::from_now(at, now)),
    )
}

/// That a list could not be signed, and how long those who go by it go on.
pub fn say_unsigned(output: Output, authority: &str, until: Option<Timestamp>) {
    let until = until.map_or_else(
        || "without any".to_owned(),
        |until| format!("by the old one until {}", yestrel_core::moment(until)),
    );
    output.note(&format!(
        "the key of {authority} is away, so that its list could not be signed: third parties go {until}; yestrel \
         authority publish {authority} --with-key FILE signs it"
    ));
}

/// A transport password, shown apart from what it opens.
/// In the answer of a program it is a field.
pub fn say_transport(output: Output, password: &Zeroizing<String>) {
    if !output.is_for_programs() {
        output.write_always(&format!("its transport password, to be told by another way:  {}", **password));
    }
}

/// Says before a change which handovers it makes stale; whoever sits at the terminal can still leave it. Gives whether to go on: a preview
/// ends here.
///
/// # Errors
/// They said no.
pub fn first_of_stale(global: &Global, what: &str, stale: &Stale, preview: bool) -> Result<bool> {
    let output = global.output();
    if preview {
        let mut table = crate::output::Table::new(&["handover made stale"], "no handover would become stale");
        stale.by_this.iter().for_each(|device| table.row(vec![device.into()]));
        output.table(&table);
        return Ok(false);
    }
    if stale.by_this.is_empty() {
        return Ok(true);
    }
    let count = counted(stale.by_this.len(), "handover");
    let said = format!("{what} makes {count} stale{}", shown(&stale.by_this));
    if ask::somebody_there() {
        let learn = "their devices learn what is new by the next tunnel that opens, or by a way notice";
        ask::confirm(global.yes, &format!("{said}; {learn}"))?;
    } else {
        output.note(&said);
    }
    Ok(true)
}

/// Says that handovers have become stale, if any have.
pub fn say_stale(output: Output, stale: usize) {
    match stale {
        0 => {}
        1 => output.note(
            "1 handover is stale: its device learns what is new by the next tunnel that opens, or by yestrel credential notice",
        ),
        many => output.note(&format!(
            "{many} handovers are stale: their devices learn what is new by the next tunnel that opens, or by yestrel credential notice --all"
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::moment;

    #[test]
    fn moments_in_every_form() {
        assert_eq!(moment("2027-05-31").unwrap().to_string(), "2027-05-31T00:00:00Z");
        assert_eq!(moment("2027-05-31T08:00:00+02:00").unwrap().to_string(), "2027-05-31T06:00:00Z");
        let days = (moment("90d").unwrap() - jiff::Timestamp::now()).total(jiff::Unit::Hour).unwrap();
        assert!((days - 2160.0).abs() < 0.1);
        for bad in ["", "soon", "90", "90x", "999999999999y", "2027-13-01"] {
            assert!(moment(bad).is_err(), "{bad}");
        }
    }
}
