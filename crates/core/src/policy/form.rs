//! The list as a file (TOML), and what one list changes of another.

use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net};
use serde::{Deserialize, Serialize};

use super::asks::{Conditions, Values};
use super::hours::span;
use super::rule::{Effect, Listed, Rule, Terms, megabits, rate};
use crate::{Problem, Result, lapse, name};

/// The format that this code writes and reads.
pub const FORM: &str = "yestrel policies 1";

/// Policies of a list at most.
pub const MOST: usize = 10_000;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    format: String,
    #[serde(default, rename = "policy", skip_serializing_if = "Vec::is_empty")]
    all: Vec<Entry>,
    /// At the end, so that a file that was cut is known as such.
    end: End,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct End {
    /// How many there are.
    policies: usize,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    name: String,
    effect: Effect,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    off: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    about: Option<String>,
    #[serde(default, skip_serializing_if = "Conditions::is_empty")]
    when: Conditions,
    #[serde(default, skip_serializing_if = "Conditions::is_empty")]
    unless: Conditions,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    terms: Option<EntryTerms>,
}

#[derive(Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct EntryTerms {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    idle: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    session: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    user_sessions: Option<u16>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    device_sessions: Option<u16>,
    /// Mbit/s.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    upload: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    download: Option<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    stay: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    reach: Option<Vec<IpNet>>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    resolvers: Vec<IpAddr>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    second_factor: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    again_after: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pool: Option<Ipv4Net>,
}

/// Writes a list. It holds no secret.
#[must_use]
pub fn write(list: &[Listed]) -> String {
    let entry = |Listed { rule, on, about }: &Listed| {
        let Rule { name, effect, when, unless, terms } = rule.clone();
        let of = terms.clone();
        let limits = EntryTerms {
            idle: of.idle.map(span),
            session: of.session.map(span),
            user_sessions: of.user_sessions,
            device_sessions: of.device_sessions,
            upload: of.upload.map(megabits),
            download: of.download.map(megabits),
            stay: of.stay,
            reach: of.reach,
            resolvers: of.resolvers,
            second_factor: of.second_factor,
            again_after: of.again_after.map(span),
            pool: of.pool,
        };
        let terms = (!terms.is_none()).then_some(limits);
        Entry { name, effect, off: !on, about: about.clone(), when, unless, terms }
    };
    let end = End { policies: list.len() };
    let file = File { format: FORM.into(), all: list.iter().map(entry).collect(), end };
    let text = toml::to_string(&file).unwrap_or_default();
    format!(
        "# Who may come in: the first policy whose conditions all hold decides; whoever comes to the end of the list is refused.\n{text}"
    )
}

/// Reads a list.
///
/// # Errors
/// It is none of this format, was cut, or a policy of it cannot be: which one, and why.
pub fn read(text: &str) -> Result<Vec<Listed>> {
    let bad = |why: String| {
        Problem::words("the policies cannot be read")
            .why(why)
            .try_("yestrel policy export   shows how such a file is written")
    };
    let file: File = toml::from_str(text).map_err(|error| {
        let line = error.span().map(|span| text[..span.start.min(text.len())].lines().count().max(1));
        let at = line.map(|line| format!("line {line}: ")).unwrap_or_default();
        bad(format!("{at}{}", error.message().lines().next().unwrap_or_default()))
    })?;
    if file.format != FORM {
        let format: String = file.format.chars().take(60).collect();
        return Err(bad(format!("its format is {format:?}; this version reads {FORM:?}")));
    }
    if file.end.policies != file.all.len() {
        let (says, has) = (file.end.policies, file.all.len());
        return Err(bad(format!("it says at its end that it has {says} policies, and has {has}: a part is missing, or it was changed by hand"))
            .try_(format!("policies = {has}   where it is as it should be")));
    }
    if file.all.len() > MOST {
        return Err(bad(format!("it has {} policies; a list has {MOST} at most", file.all.len())));
    }
    let mut names = std::collections::HashSet::new();
    let mut list = Vec::with_capacity(file.all.len());
    for entry in file.all {
        let Entry { name, effect, off, about, when, unless, terms } = entry;
        name::check("policy", &name)?;
        if !names.insert(name.clone()) {
            return Err(bad(format!("two policies are called {name}")));
        }
        let inside = |problem: Problem| Problem { error: format!("policy {name}: {}", problem.error), ..problem };
        let canonical = |all: Conditions| -> Result<Conditions> {
            let one = |(asks, texts): (_, Vec<String>)| Ok((asks, Values::read(asks, &texts)?.texts(asks)));
            all.into_iter().map(one).collect()
        };
        let seconds = |text: Option<String>| -> Result<Option<u32>> {
            let read = |text: String| {
                let span = lapse::parse(&text).and_then(|span| u32::try_from(span.as_secs()).ok());
                span.ok_or_else(|| Problem::words(format!("{text:?} is no duration")).try_("8h, or 25m"))
            };
            text.map(read).transpose()
        };
        let bits = |text: Option<String>| -> Result<Option<u64>> {
            let read = |text: String| {
                rate(&text).ok_or_else(|| Problem::words(format!("{text:?} is no rate in Mbit/s")).try_("20, or 0.5"))
            };
            text.map(read).transpose()
        };
        let of = terms.unwrap_or_default();
        let build = || -> Result<Rule> {
            let terms = Terms {
                idle: seconds(of.idle)?,
                session: seconds(of.session)?,
                user_sessions: of.user_sessions,
                device_sessions: of.device_sessions,
                upload: bits(of.upload)?,
                download: bits(of.download)?,
                stay: of.stay,
                reach: of.reach,
                resolvers: of.resolvers,
                second_factor: of.second_factor,
                again_after: seconds(of.again_after)?,
                pool: of.pool.map(|pool| pool.trunc()),
            };
            let rule = Rule { name: name.clone(), effect, when: canonical(when)?, unless: canonical(unless)?, terms };
            rule.check()?;
            Ok(rule)
        };
        let rule = build().map_err(inside)?;
        list.push(Listed { rule, on: !off, about });
    }
    Ok(list)
}

/// What becomes of a list: a verb, and of what, in words.
#[must_use]
pub fn difference(old: &[Listed], new: &[Listed]) -> Vec<(&'static str, String)> {
    let find = |list: &[Listed], name: &str| list.iter().position(|one| one.rule.name == name);
    let mut changes = Vec::new();
    for one in old.iter().filter(|one| find(new, &one.rule.name).is_none()) {
        changes.push(("remove", one.rule.name.clone()));
    }
    // Those that both have, in their old order: who must move is who is not in the longest row that stays in order.
    let common: Vec<usize> = new.iter().filter_map(|one| find(old, &one.rule.name)).collect();
    let stay = longest_rising(&common);
    for (place, one) in new.iter().enumerate() {
        let name = &one.rule.name;
        let whole = |one: &Listed| {
            let state = (!one.on).then(|| "off".to_owned());
            let words = one.rule.words().into_iter().chain(one.rule.terms.words()).chain(state);
            let words = words.collect::<Vec<_>>().join("; ");
            format!("{} {}", one.rule.effect.word(), if words.is_empty() { "everybody".into() } else { words })
        };
        match find(old, name) {
            None => changes.push(("add", format!("{name}  ({}), place {}", whole(one), place + 1))),
            Some(before) => {
                if old[before] != *one {
                    changes.push(("change", format!("{name}  ({} -> {})", whole(&old[before]), whole(one))));
                }
                if !stay.contains(&before) {
                    changes.push(("move", format!("{name}  (place {} -> {})", before + 1, place + 1)));
                }
            }
        }
    }
    changes
}

/// The longest row of numbers that rise, of those in their order.
fn longest_rising(numbers: &[usize]) -> std::collections::HashSet<usize> {
    // By the smallest end of a row of each length, and what stands before each number in its row.
    let mut ends: Vec<usize> = Vec::new();
    let mut before = vec![None; numbers.len()];
    for (at, number) in numbers.iter().enumerate() {
        let length = ends.partition_point(|end| numbers[*end] < *number);
        before[at] = length.checked_sub(1).map(|last| ends[last]);
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut row = std::collections::HashSet::new();
    let mut at = ends.last().copied();
    while let Some(here) = at {
        row.insert(numbers[here]);
        at = before[here];
    }
    row
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::slow::sample;

    fn list() -> Vec<Listed> {
        let mut list: Vec<_> = sample::rules().into_iter().map(|rule| Listed { rule, on: true, about: None }).collect();
        list[0].rule.terms = Terms {
            session: Some(8 * 3600),
            idle: Some(900),
            user_sessions: Some(2),
            reach: Some(vec!["10.44.0.0/24".parse().unwrap()]),
            stay: true,
            upload: Some(1_500_000),
            ..Terms::default()
        };
        list[0].about = Some("while the ship lies in the dock".into());
        let unless =
            sample::rule("strangers", Effect::Refuse, &["hours=daily 22:00-06:00 UTC"], &["from=192.0.2.0/24"]);
        list.push(Listed { rule: unless, on: false, about: None });
        list
    }

    #[test]
    fn a_list_is_read_back_as_it_was_written() {
        let text = write(&list());
        assert_eq!(read(&text).unwrap(), list(), "{text}");
        assert!(text.contains("session = \"8h\"") && text.contains("[policy.unless]"), "{text}");
        assert_eq!(read(&write(&[])).unwrap(), []);
        // Cut anywhere, it is refused: never a part of it taken for the whole.
        for end in (0..text.len()).filter(|end| text.is_char_boundary(*end)) {
            match read(&text[..end]) {
                Ok(read) => assert!(text[end..].trim().is_empty() && read == list(), "{end}"),
                Err(problem) => assert!(problem.why.is_some(), "{problem:?}"),
            }
        }
    }

    #[test]
    fn what_cannot_be_is_refused_with_its_policy() {
        let text = write(&list());
        for (old, new, part) in [
            ("name = \"night-crew\"", "name = \"dry-dock\"", "two policies are called dry-dock"),
            ("tue,thu 05:30-11:15", "tue,thu 05:30-25:15", "policy dry-dock: the hours"),
            ("session = \"8h\"", "session = \"1s\"", "policy dry-dock: the session time is too short"),
            ("session = \"8h\"", "session = \"soon\"", "policy dry-dock: \"soon\" is no duration"),
            ("effect = \"admit\"", "effect = \"allow\"", "line 6"),
            ("[policy.when]", "[policy.if]", "unknown field"),
            ("group = ", "colour = ", "line 1"),
            ("policies 1", "policies 9", "this version reads"),
            ("user-sessions = 2", "user-sessions = 0", "no session at once"),
        ] {
            let problem = read(&text.replacen(old, new, 1)).unwrap_err();
            let said = problem.line();
            assert!(said.contains(part) || part.starts_with("line"), "{new}: {said}");
        }
    }

    #[test]
    fn a_difference_says_what_is_added_changed_moved_and_removed_and_nothing_else() {
        let old = list();
        assert_eq!(difference(&old, &old), []);
        let mut new = vec![old[2].clone(), old[0].clone(), old[1].clone()];
        assert_eq!(difference(&old, &new), [("move", "strangers  (place 3 -> 1)".to_owned())]);
        new.remove(2);
        new[1].on = false;
        new.push(Listed { rule: Rule::everyone("everyone"), on: true, about: None });
        let verbs: Vec<_> = difference(&old, &new).into_iter().map(|(verb, words)| format!("{verb} {words}")).collect();
        assert_eq!(verbs[0], "remove night-crew");
        assert!(verbs.contains(&"add everyone  (admit everybody), place 3".to_owned()), "{verbs:?}");
        assert!(verbs.iter().any(|one| one.starts_with("change dry-dock") && one.ends_with("off)")), "{verbs:?}");
    }
}
