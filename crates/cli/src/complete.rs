//! What a shell completes: the words of commands, and the names of what is in the estate.

use std::ffi::{OsStr, OsString};

use clap::{Arg, Command};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::{CompleteEnv, Shells};
use yestrel_core::{Problem, Result};
use yestrel_store::SqliteStore;

use crate::global::estate_path;
use crate::interview::estate_of;

/// By this variable a shell asks.
const ASKED: &str = "YESTREL_COMPLETE";
/// Names at most that are offered: nobody reads more.
const MOST: usize = 100;
/// Verbs whose name is a new one.
const NEW: [&str; 5] = ["add", "create", "open", "arrive", "import"];

/// Answers a shell, when one asks; otherwise nothing happens.
pub fn answer(command: impl Fn() -> Command) {
    CompleteEnv::with_factory(move || with_names(command(), &mut Vec::new())).var(ASKED).bin("yestrel").complete();
}

/// What a shell is told once, so that it asks.
///
/// # Errors
/// There is no such shell.
pub fn script(shell: &str) -> Result<String> {
    let known = Shells::builtins();
    let known = known.completer(shell).ok_or_else(|| Problem::words(format!("there is no completion for {shell}")))?;
    let mut script = Vec::new();
    known
        .write_registration(ASKED, "yestrel", "yestrel", "yestrel", &mut script)
        .map_err(|error| Problem::failed("the script cannot be made").why(error.to_string()))?;
    Ok(String::from_utf8_lossy(&script).into_owned())
}

/// A command whose arguments know where their names are kept.
fn with_names(command: Command, path: &mut Vec<String>) -> Command {
    let noun = path.first().cloned().unwrap_or_default();
    let verb = path.get(1).cloned().unwrap_or_default();
    let command = command.mut_args(|arg| match table_of(&noun, &verb, &arg) {
        Some(table) => arg.add(ArgValueCompleter::new(move |begun: &OsStr| names(table, begun))),
        None => arg,
    });
    command.mut_subcommands(|sub| {
        path.push(sub.get_name().to_owned());
        let sub = with_names(sub, path);
        path.pop();
        sub
    })
}

/// The table whose names an argument takes.
fn table_of(noun: &str, verb: &str, arg: &Arg) -> Option<&'static str> {
    if !arg.get_action().takes_values() || !arg.get_possible_values().is_empty() {
        return None;
    }
    let id = arg.get_id().as_str().to_owned();
    let shown =
        arg.get_value_names().and_then(|names| names.first()).map(|name| name.to_lowercase()).unwrap_or_default();
    let own = |word: &str| match word {
        "site" | "sites" => Some("sites"),
        "host" | "hosts" => Some("hosts"),
        "gateway" | "gateways" | "publish" => Some("gateways"),
        "listener" | "listeners" => Some("listeners"),
        "user" | "users" => Some("users"),
        "group" | "groups" => Some("groups"),
        "device" | "devices" | "user/device" => Some("devices"),
        "credential" | "credentials" => Some("credentials"),
        "authority" | "authorities" | "under" => Some("authorities"),
        "registry" => Some("registries"),
        "policy" => Some("policies"),
        _ => None,
    };
    match (noun, id.as_str()) {
        ("device", "name") if verb == "add" => Some("users"),
        (_, "name") if NEW.contains(&verb) => None,
        ("credential", "name" | "device" | "names") => Some("devices"),
        (_, "name") => own(noun),
        _ => own(&id).or_else(|| own(&shown)),
    }
}

fn names(table: &str, begun: &OsStr) -> Vec<CompletionCandidate> {
    // Whatever goes wrong is said by the command itself, once it is complete.
    let words: Vec<OsString> = std::env::args_os().collect();
    let estate = estate_path(estate_of(&words));
    let found = SqliteStore::names(&estate, table, &begun.to_string_lossy(), MOST).unwrap_or_default();
    found.into_iter().map(CompletionCandidate::new).collect()
}
