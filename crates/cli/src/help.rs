//! What `-h` and `--help` say: the one fits a terminal, the other has everything. What every command takes stands once, in `yestrel --help`.

use std::ffi::OsString;

use clap::{Command, builder::StyledStr};

use crate::interview;

/// Lines at most of what `-h` says.
const SHORT: usize = 24;
/// The nouns and verbs by what they are for, as `yestrel -h` shows them.
const GROUPS: [(&str, &[&str]); 7] = [
    ("to begin", &["guide", "demo", "lab"]),
    ("at a glance", &["status"]),
    ("machines", &["site", "host", "gateway", "listener", "port"]),
    ("people", &["user", "group", "device", "credential", "policy", "registry", "authority"]),
    ("every day", &["rollout", "session", "estate"]),
    ("on a device", &["connect", "tunnel"]),
    ("besides", &["agent", "completion", "manual", "help"]),
];

/// The help that these words ask for, for the terminal that is there.
pub fn asked(command: Command, words: &[OsString]) -> String {
    let width = terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0).max(40));
    text(command, words, width.min(110))
}

fn text(mut command: Command, words: &[OsString], width: usize) -> String {
    let asked_as_word = words.get(1).is_some_and(|word| word == "help");
    let words: Vec<_> = words.iter().filter(|word| *word != "help" || !asked_as_word).cloned().collect();
    let long = asked_as_word || words.iter().any(|word| word == "--help");
    let (path, _) = interview::subcommand(&command, &words);
    if path.is_empty() {
        return if long { command.term_width(width).render_long_help().to_string() } else { root(&command) };
    }
    command.build();
    let mut sub = &command;
    for word in &path {
        let Some(next) = sub.find_subcommand(word) else { break };
        sub = next;
    }
    let mut sub = sub.clone().term_width(width);
    let everywhere: Vec<_> =
        sub.get_arguments().filter(|arg| arg.is_global_set()).map(|arg| arg.get_id().clone()).collect();
    for id in everywhere {
        sub = sub.mut_arg(id, |arg| arg.hide(true));
    }
    let name = format!("yestrel {}", path.join(" "));
    if long {
        let example = sub.get_after_help().map(|text| format!("{text}\n\n")).unwrap_or_default();
        let sub = sub.after_help(format!("{example}What every command takes: yestrel --help"));
        return sub.clone().render_long_help().to_string();
    }
    for (verb, about) in briefly(&sub) {
        sub = sub.mut_subcommand(verb, |one| one.about(about));
    }
    if sub.has_subcommands() {
        sub = sub.mut_subcommand("help", |one| one.hide(true));
    }
    short(sub, &name)
}

/// Each verb of a noun with as much of what it does as stands on one line.
fn briefly(noun: &Command) -> Vec<(String, String)> {
    const LONGEST: usize = 60;
    let verbs = noun.get_subcommands().filter(|verb| verb.get_name() != "help");
    verbs
        .map(|verb| {
            let mut about = verb.get_about().map(StyledStr::to_string).unwrap_or_default();
            for sign in [';', ':', ',', '('] {
                if about.chars().count() > LONGEST {
                    about = about.split(sign).next().unwrap_or_default().trim_end().to_owned();
                }
            }
            (verb.get_name().to_owned(), about)
        })
        .collect()
}

/// As much as fits; what is needed comes first, and what is left out is counted.
fn short(mut sub: Command, name: &str) -> String {
    let mut left_out: Vec<String> = Vec::new();
    loop {
        let more = if left_out.is_empty() { String::new() } else { format!("besides {}; ", left_out.join(" ")) };
        let footer = format!("{more}why, and an example: {name} --help");
        let text = sub.clone().after_help(footer).render_help().to_string();
        let last = sub
            .get_arguments()
            .filter(|arg| !arg.is_positional() && !arg.is_required_set() && arg.get_id() != "help")
            .filter(|arg| !arg.is_hide_set() && !arg.is_hide_short_help_set())
            .last();
        let Some(arg) = last.filter(|_| text.lines().count() > SHORT) else { return text };
        let id = arg.get_id().clone();
        left_out.insert(0, arg.get_long().map_or_else(|| arg.to_string(), |long| format!("--{long}")));
        sub = sub.mut_arg(id, |arg| arg.hide_short_help(true));
    }
}

fn root(command: &Command) -> String {
    let about = command.get_about().map(StyledStr::to_string).unwrap_or_default();
    let mut text = format!("{about}\n\nUsage: yestrel COMMAND ...\n\n");
    for (what, commands) in GROUPS {
        text.push_str(&format!("  {what:<12}  {}\n", commands.join("  ")));
    }
    text.push_str(
        "\nyestrel guide             asks, and shows each command that it runs\n\
         yestrel demo              the whole example, with proof at each step\n\
         yestrel COMMAND -h        what can be done with it\n\
         yestrel --help            everything, and what every command takes\n",
    );
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_has_its_place() {
        use clap::CommandFactory as _;
        let mut command = crate::Cli::command();
        command.build();
        let placed: Vec<_> = GROUPS.iter().flat_map(|(_, commands)| *commands).collect();
        for sub in command.get_subcommands() {
            assert!(placed.contains(&&sub.get_name()), "{}", sub.get_name());
        }
        assert_eq!(placed.len(), command.get_subcommands().count());
    }

    fn each(command: &Command, path: &mut Vec<String>, check: &dyn Fn(&[String], &Command)) {
        check(path, command);
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set() && sub.get_name() != "help") {
            path.push(sub.get_name().to_owned());
            each(sub, path, check);
            path.pop();
        }
    }

    #[test]
    fn what_is_short_fits_a_terminal_and_what_is_long_has_it_all() {
        use clap::CommandFactory as _;
        let of = |path: &[String], flag: &str| {
            let words = ["yestrel"].into_iter().chain(path.iter().map(String::as_str)).chain([flag]);
            text(crate::Cli::command(), &words.map(OsString::from).collect::<Vec<_>>(), 80)
        };
        each(&crate::Cli::command(), &mut Vec::new(), &|path, command| {
            let short = of(path, "-h");
            assert!(short.lines().count() <= SHORT, "{path:?}\n{short}");
            if path.is_empty() {
                return;
            }
            assert!(!short.contains("--estate-passphrase-file"), "{path:?}: what all commands take stands elsewhere");
            let long = of(path, "--help");
            assert!(long.contains("yestrel --help") && !long.contains("--estate-passphrase-file"), "{path:?}\n{long}");
            for arg in command.get_arguments().filter(|arg| !arg.is_hide_set() && !arg.is_global_set()) {
                let named = arg.get_long().map_or_else(|| arg.to_string(), |long| format!("--{long}"));
                assert!(long.contains(&named), "{path:?} {named}");
                assert!(!arg.is_required_set() || short.contains(&named), "{path:?} {named}\n{short}");
            }
            if !command.has_subcommands() {
                assert!(long.contains("Example") && short.contains("--help"), "{path:?}\n{long}");
            }
        });
        let all = of(&[], "--help");
        for option in ["--estate-passphrase-file", "--format", "--utc", "--quiet"] {
            assert!(all.contains(option), "{option}\n{all}");
        }
    }

    /// What stands between the quotes of a source, as it is when it runs; values that are put in are `X`.
    fn literals(source: &str) -> Vec<String> {
        let (mut all, mut rest) = (Vec::new(), source);
        while let Some(at) = rest.find('"') {
            let quoted_sign = rest[..at].ends_with("'") || rest[..at].ends_with("'\\");
            rest = &rest[at + 1..];
            if quoted_sign {
                continue;
            }
            let (mut text, mut signs) = (String::new(), rest.char_indices());
            let mut end = rest.len();
            while let Some((at, sign)) = signs.next() {
                match sign {
                    '"' => {
                        end = at + 1;
                        break;
                    }
                    '\\' => text.push(signs.next().map_or(' ', |(_, sign)| if sign == 'n' { '\n' } else { sign })),
                    sign => text.push(sign),
                }
            }
            rest = &rest[end.min(rest.len())..];
            all.push(text);
        }
        all
    }

    fn without_values(text: &str) -> String {
        let (mut out, mut depth) = (String::new(), 0);
        for sign in text.chars() {
            match sign {
                '{' => depth += 1,
                '}' => {
                    depth -= 1;
                    out.push('X');
                }
                sign if depth == 0 => out.push(sign),
                _ => {}
            }
        }
        out
    }

    /// Whether the parser knows every word of a command that is said somewhere; `None`: it is none, but a sentence.
    fn known(text: &str) -> Option<Result<(), String>> {
        use clap::CommandFactory as _;
        let mut command = crate::Cli::command();
        command.build();
        let mut here = &command;
        // An explanation stands apart, or after a sign that no command has.
        let said = text.split("   ").next().unwrap_or_default();
        let said = said.split([';', '`', '(', ')', '\n']).next().unwrap_or_default();
        // What is run inside of something else is another matter.
        let said = said.split(" -- ").next().unwrap_or_default();
        if !said.starts_with(|sign: char| sign.is_ascii_lowercase()) {
            return None;
        }
        let mut first = true;
        for word in said.split(' ').map(|word| word.trim_matches([',', '.', ':', '\''])).filter(|word| !word.is_empty())
        {
            if let Some(option) = word.strip_prefix("--") {
                let option = option.split('=').next().unwrap_or_default();
                if !matches!(option, "" | "help" | "X")
                    && !here.get_arguments().any(|arg| arg.get_long() == Some(option))
                {
                    return Some(Err(format!("{text:?}: {} has no --{option}", here.get_name())));
                }
            } else if here.has_subcommands() && word.chars().all(|sign| sign.is_ascii_lowercase() || sign == '-') {
                match here.find_subcommand(word) {
                    Some(sub) => here = sub,
                    None if first => return None,
                    None => return Some(Err(format!("{text:?}: {} has no {word}", here.get_name()))),
                }
            }
            first = false;
        }
        Some(Ok(()))
    }

    #[test]
    fn every_command_that_is_advised_exists() {
        let mut folders = vec![std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/.."))];
        let (mut wrong, mut count) = (Vec::new(), 0);
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap().flatten() {
                let path = entry.path();
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                if path.is_dir() && name != "tests" && name != "target" {
                    folders.push(path);
                } else if path.extension().is_some_and(|ending| ending == "rs")
                    && !["help.rs", "look.rs"].contains(&name.as_str())
                {
                    let source = std::fs::read_to_string(&path).unwrap();
                    // What a file tests is no advice.
                    let source = source.split("#[cfg(test)]").next().unwrap_or_default();
                    for text in literals(source) {
                        let text = without_values(&text);
                        for (at, _) in text.match_indices("yestrel ") {
                            match known(&text[at + "yestrel ".len()..]) {
                                Some(Ok(())) => count += 1,
                                Some(Err(why)) => wrong.push(format!("{name}: {why}")),
                                None => {}
                            }
                        }
                    }
                }
            }
        }
        for noun in [
            "site",
            "host",
            "gateway",
            "listener",
            "user",
            "group",
            "device",
            "credential",
            "authority",
            "registry",
            "session",
            "shared secret",
            "order",
        ] {
            let (list, show) = yestrel_store::looked_up(noun);
            wrong.extend([list, show].iter().filter_map(|said| known(said.strip_prefix("yestrel ")?)?.err()));
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
        assert!(count > 200, "only {count} were found");
        // It would see one that is wrong.
        assert!(known("user restor mara").is_some_and(|known| known.is_err()));
        assert!(known("user restore mara --evrything").is_some_and(|known| known.is_err()));
        assert!(known("device list X   shows them").is_some_and(|known| known.is_ok()));
    }
}
