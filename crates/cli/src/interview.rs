//! A command that misses what it needs asks for it at the terminal: one question a line, with what its answers lead to and a
//! default. Then it goes on as if all had been said, and shows what that would have been.

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Arg, ArgMatches, Command};
use yestrel_core::Problem;

use crate::ask;
use crate::output::tell;

/// Whether this process asked for what its command needed.
static HELD: AtomicBool = AtomicBool::new(false);

/// Whether this process asked for what its command needed: then what is about to be done is shown once more.
pub fn was_held() -> bool {
    HELD.load(Ordering::Relaxed)
}

/// Parses the words of this process; asks for what is missing where somebody can be asked.
///
/// # Errors
/// What the parser says.
pub fn parse(mut command: Command) -> std::result::Result<ArgMatches, clap::Error> {
    let mut words: Vec<OsString> = std::env::args_os().collect();
    let said = words.len();
    loop {
        let error = match command.try_get_matches_from_mut(&words) {
            Ok(matches) => {
                if words.len() > said {
                    HELD.store(true, Ordering::Relaxed);
                    if let Some(more) = beyond_need(&command, &words) {
                        words.extend(more);
                        continue;
                    }
                    tell!("$ {}", line_of(&words));
                }
                return Ok(matches);
            }
            Err(error) => error,
        };
        if error.kind() != ErrorKind::MissingRequiredArgument || !ask::somebody_there() {
            return Err(error);
        }
        let Some(ContextValue::Strings(missing)) = error.get(ContextKind::InvalidArg) else { return Err(error) };
        let (path, sub) = subcommand(&command, &words);
        // The name before what it has.
        let argument = sub
            .get_arguments()
            .filter(|arg| missing.iter().any(|one| *one == arg.to_string() || (arg.is_positional() && named(arg, one))))
            .min_by_key(|arg| !arg.is_positional());
        let Some(argument) = argument else { return Err(error) };
        let (path, argument) = (path.clone(), argument.clone());
        let estate = estate_of(&words);
        loop {
            let Some(answer) = question(&path, &argument, estate.clone()) else { return Err(error) };
            let mut longer = words.clone();
            longer.extend(spelled(&argument, &answer));
            match command.try_get_matches_from_mut(&longer) {
                // Another thing that is missing is the next question; anything else is this answer's fault.
                Err(other) if !matches!(other.kind(), ErrorKind::MissingRequiredArgument) => {
                    tell!("  {}", other.render().to_string().lines().next().unwrap_or_default());
                }
                _ => {
                    words = longer;
                    break;
                }
            }
        }
    }
}

/// Whether a message of the parser means this argument: it shows the name of a value in its own way.
fn named(argument: &Arg, shown: &str) -> bool {
    let shown = shown.trim_matches(['<', '>', '[', ']', '.']);
    let names = argument.get_value_names().unwrap_or_default();
    shown.eq_ignore_ascii_case(argument.get_id().as_str()) || names.iter().any(|name| name.eq_ignore_ascii_case(shown))
}

/// The words that say an answer.
fn spelled(argument: &Arg, answer: &str) -> Vec<OsString> {
    match argument.get_long() {
        Some(long) => vec![format!("--{long}").into(), answer.into()],
        None => vec![answer.into()],
    }
}

/// The command that the words name, and its words.
pub fn subcommand<'a>(command: &'a Command, words: &[OsString]) -> (Vec<String>, &'a Command) {
    let (mut path, mut current) = (Vec::new(), command);
    for word in words.iter().skip(1) {
        let Some(next) = word.to_str().and_then(|word| current.find_subcommand(word)) else {
            if word.to_string_lossy().starts_with('-') || !current.has_subcommands() {
                continue;
            }
            break;
        };
        path.push(next.get_name().to_owned());
        current = next;
    }
    (path, current)
}

/// The estate that the words name.
pub fn estate_of(words: &[OsString]) -> Option<PathBuf> {
    let at = words.iter().position(|word| word == "--estate")?;
    words.get(at + 1).map(PathBuf::from)
}

/// What is not needed and is better asked than forgotten, when somebody is being asked anyway.
fn beyond_need(command: &Command, words: &[OsString]) -> Option<Vec<OsString>> {
    let (path, sub) = subcommand(command, words);
    let option = match path.join(" ").as_str() {
        "gateway create" => "updates",
        "policy add" => return crate::policy::questions::more(command, words),
        _ => return None,
    };
    let argument = sub.get_arguments().find(|argument| argument.get_id() == option)?;
    let given = format!("--{}", argument.get_long()?);
    if words.iter().any(|word| word.to_string_lossy().split('=').next() == Some(given.as_str())) {
        return None;
    }
    let answer = question(&path, argument, None)?;
    Some(spelled(argument, &answer))
}

/// A line that a shell would read as these words.
pub fn line_of(words: &[OsString]) -> String {
    let quoted = |word: &OsString| {
        let word = word.to_string_lossy();
        let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@=,+%".contains(c);
        if !word.is_empty() && word.chars().all(plain) {
            word.into_owned()
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    };
    let rest: Vec<_> = words.iter().skip(1).map(quoted).collect();
    format!("yestrel {}", rest.join(" "))
}

/// Asks for one argument; `None` when nobody answers any more.
fn question(path: &[String], argument: &Arg, estate: Option<PathBuf>) -> Option<String> {
    let help = argument.get_help().map(ToString::to_string).unwrap_or_default();
    let name = argument.get_id().as_str().replace('_', " ");
    let what = if help.is_empty() { name_of(path, &name) } else { help };
    let values: Vec<_> = argument.get_possible_values();
    let offered = offered(path, argument.get_id().as_str(), estate);
    let mut lines: Vec<(String, String)> = values
        .iter()
        .map(|value| (value.get_name().to_owned(), value.get_help().map(ToString::to_string).unwrap_or_default()))
        .collect();
    lines.extend(offered.values.iter().map(|value| (value.clone(), String::new())));
    let default = offered.default.or_else(|| if lines.len() == 1 { Some(lines[0].0.clone()) } else { None });
    ask::choose(&what, &lines, default.as_deref()).ok()
}

/// What is asked for when an argument has no help of its own: its noun.
fn name_of(path: &[String], name: &str) -> String {
    match path.first() {
        Some(noun) if name == "name" => format!("the name of the {noun}"),
        _ => format!("the {name}"),
    }
}

/// What may be answered, each with what it leads to; and what an empty line means.
struct Offered {
    values: Vec<String>,
    default: Option<String>,
}

/// Looks into the estate for what could be meant. Where there is none, nothing is offered.
fn offered(path: &[String], id: &str, estate: Option<PathBuf>) -> Offered {
    let estate = estate
        .or_else(|| std::env::var_os("YESTREL_ESTATE").map(PathBuf::from))
        .unwrap_or_else(|| ask::data_folder().join("estate"));
    let none = || Err(Problem::failed("not asked"));
    let person = std::sync::Arc::new(ask::Terminal::new(false, true));
    let opened = yestrel_actions::Context::open(&estate, Box::new(none), person);
    let makes = path.get(1).is_some_and(|verb| matches!(verb.as_str(), "add" | "create" | "open" | "issue"));
    let noun =
        if matches!(id, "name" | "host" | "gateway" | "device" | "user" | "credential") && !(makes && id == "name") {
            if id == "name" { path.first().map(String::as_str).unwrap_or_default() } else { id }
        } else {
            id
        };
    let mut values = Vec::new();
    let mut default = None;
    if let Ok(mut context) = opened {
        match noun {
            "site" => {
                values.extend(yestrel_actions::site::list(&mut context).into_iter().flatten().map(|site| site.name))
            }
            "host" | "to" => {
                values.extend(yestrel_actions::host::list(&mut context).into_iter().flatten().map(|host| host.name));
            }
            "gateway" => values.extend(
                yestrel_actions::gateway::list(&mut context).into_iter().flatten().map(|view| view.gateway.name),
            ),
            "user" => values.extend(yestrel_actions::people::names(&mut context).unwrap_or_default().0),
            "device" | "credential" => {
                values.extend(yestrel_actions::people::names(&mut context).unwrap_or_default().1);
            }
            "dialled" => {
                let hosts = yestrel_actions::host::list(&mut context).unwrap_or_default();
                let outward =
                    hosts.last().and_then(|host| host.facts.as_ref()?.outward(None)?.addresses.first().copied());
                default = outward.map(|net| net.addr().to_string());
            }
            _ => {}
        }
    }
    match id {
        "kind" => default = Some("computer".into()),
        "updates" => default = Some("never".into()),
        "via" if crate::lab::folder(None).join("hosts").exists() => default = Some("lab".into()),
        _ => {}
    }
    Offered { values, default }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_can_be_given_to_a_shell() {
        let words = ["/opt/yestrel", "group", "add", "night crew", "it's", ""].map(OsString::from);
        assert_eq!(line_of(&words), "yestrel group add 'night crew' 'it'\\''s' ''");
    }
}
