//! What is asked of a new policy at a terminal: whom it is about, with which limits it lets in, where it stands.

use std::ffi::OsString;

use clap::Command;
use yestrel_core::policy::condition;

use crate::ask::choose;
use crate::output::tell;

/// The answer that ends a question which is asked again and again.
const DONE: &str = "no more";

/// What is said where the policy stands; with one of them there, everything has been asked or said.
const PLACES: [&str; 4] = ["--first", "--last", "--before", "--after"];

/// The words of the answers, for somebody who has begun to be asked; `None`: there is nothing more to ask, or nobody answers.
pub fn more(command: &Command, words: &[OsString]) -> Option<Vec<OsString>> {
    let said = |option: &str| words.iter().any(|word| word.to_string_lossy().split('=').next() == Some(option));
    if PLACES.into_iter().any(said) {
        return None;
    }
    let mut command = command.clone();
    let mut more: Vec<OsString> = Vec::new();
    if !said("--when") && !said("--unless") {
        tell!(
            "Whom is it about? A condition is SUBJECT=VALUE, or SUBJECT=VALUE,VALUE where any will do; all must hold. For instance:"
        );
        conditions("a condition that must hold", "--when", &WHEN, &mut more)?;
        conditions("a condition that must not hold", "--unless", &[], &mut more)?;
    }
    let matches = command.try_get_matches_from_mut(words).ok()?;
    let add = matches.subcommand().and_then(|(_, policy)| policy.subcommand_matches("add"));
    let mut effect = add.and_then(|add| add.get_raw("effect"));
    let refuses = effect.as_mut().is_some_and(|said| said.any(|word| word == "refuse"));
    if !refuses && !LIMITS.iter().any(|(limit, ..)| said(&format!("--{limit}"))) {
        tell!("With which limits? Each as its name and a value. For instance:");
        let mut examples = LIMITS
            .map(|(limit, example, does)| (format!("{limit} {example}").trim_end().to_owned(), does.to_owned()))
            .to_vec();
        loop {
            let answer = choose("a limit", &examples, Some(DONE)).ok()?;
            if answer == DONE {
                break;
            }
            let (name, value) = answer.split_once([' ', '=']).unwrap_or((&answer, ""));
            let words_of = match value.trim() {
                "" => vec![format!("--{name}").into()],
                value => vec![OsString::from(format!("--{name}")), value.into()],
            };
            examples.clear();
            let known = LIMITS.iter().any(|(limit, ..)| *limit == name);
            match command.try_get_matches_from_mut(words.iter().chain(&more).chain(&words_of)) {
                Ok(_) if known => more.extend(words_of),
                Ok(_) => tell!("  there is no limit {name:?}"),
                Err(error) => tell!("  {}", error.render().to_string().lines().next().unwrap_or_default()),
            }
        }
    }
    let places = [
        ("last", "it decides about those whom none before it is about"),
        ("first", "before all others"),
        ("before NAME", "just before that policy"),
        ("after NAME", "just after it"),
    ];
    let places = places.map(|(place, leads_to)| (place.to_owned(), leads_to.to_owned()));
    loop {
        let answer = choose("where it stands in the list", &places, Some("last")).ok()?;
        let mut parts = answer.split_whitespace();
        let place = match (parts.next(), parts.next(), parts.next()) {
            (Some(end @ ("first" | "last")), None, _) => vec![OsString::from(format!("--{end}"))],
            (Some(side @ ("before" | "after")), Some(name), None) => vec![format!("--{side}").into(), name.into()],
            _ => {
                tell!("  first, last, or before or after and the name of a policy");
                continue;
            }
        };
        more.extend(place);
        return Some(more);
    }
}

/// Conditions that people begin with.
const WHEN: [(&str, &str); 7] = [
    ("group=welders", "a group, a user, a device"),
    ("hours=tue,thu 05:30-11:15", "hours, in the time zone of the site"),
    ("gateway=boatyard", "where"),
    ("from=198.51.100.0/24", "from where"),
    ("credential=certificate", "by what"),
    ("dates=2027-03-01..2027-03-31", "on which days"),
    ("second-factor=yes", "once another policy has asked for one"),
];

/// Limits, each with an example and what it does.
const LIMITS: [(&str, &str, &str); 12] = [
    ("session", "8h", "a session ends after so long"),
    ("idle", "15m", "it ends when it carried nothing for so long"),
    ("user-sessions", "2", "so many of one user at once"),
    ("device-sessions", "1", "so many of one device at once"),
    ("upload", "20", "Mbit/s that a device may send"),
    ("download", "20", "Mbit/s that it is sent"),
    ("reach", "10.44.1.0/24", "what may be reached at most; several times for several"),
    ("resolver", "10.44.0.20", "in place of the listener's"),
    ("stay", "", "who is in stays in when hours, dates or age are over"),
    ("second-factor", "", "whoever comes in is asked for a code"),
    ("again-after", "8h", "and again after so long; by ikev2, signs in again"),
    ("pool", "10.187.45.128/26", "by ikev2: an address of this, and for nobody else"),
];

/// Asks for one condition after the other; `None`: nobody answers any more.
fn conditions(what: &str, option: &str, examples: &[(&str, &str)], more: &mut Vec<OsString>) -> Option<()> {
    let mut examples: Vec<_> = examples.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
    loop {
        let answer = choose(what, &examples, Some(DONE)).ok()?;
        if answer == DONE {
            return Some(());
        }
        match condition(&answer) {
            Ok(_) => more.extend([option.into(), answer.into()]),
            Err(problem) => tell!("  {}", problem.line()),
        }
        examples.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yestrel_core::policy::Terms;

    #[test]
    fn every_limit_can_be_answered_and_every_example_is_one() {
        for name in Terms::NAMES {
            // One is said as another, and one by its singular.
            let asked = if name == "sign-in-again" {
                "again-after"
            } else {
                name.strip_suffix("ers").map_or(name, |_| "resolver")
            };
            assert!(LIMITS.iter().any(|(limit, ..)| *limit == asked), "{name}");
        }
        WHEN.iter().for_each(|(example, _)| drop(condition(example).unwrap()));
    }
}
