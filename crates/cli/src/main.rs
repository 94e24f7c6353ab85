//! The command: words in, words out. It parses, calls one action, and prints.
//!
//! One file a noun, its doc comments are its help. Besides:
//!
//! | file | its job |
//! |---|---|
//! | `global` | what every command takes |
//! | `output` | answers in every format |
//! | `ask` | asking the person at the terminal |
//! | `comings` | people who come and leave: other commands in a row |
//! | `cells` | answers as values |
//! | `complete` | names of the estate, for a shell that completes words |
//! | `flow` | lists that are written as they are read |
//! | `formats` | how answers are written |
//! | `help` | what `-h` and `--help` say |
//! | `interview` | asking for what a command misses |
//! | `listing` | what every list takes |
//! | `stoppable` | work on many that a signal ends between two batches |
//! | `words` | words that several commands take or say |
//! | `manual` | completion, manual pages, the reference |

mod agent;
mod ask;
mod authority;
mod cells;
mod comings;
mod complete;
mod connect;
mod credential;
mod demo;
mod estate;
mod flow;
mod formats;
mod gateway;
mod global;
mod guide;
mod help;
mod host;
mod interview;
mod lab;
mod listener;
mod listing;
mod manual;
mod output;
mod people;
mod policy;
mod registry;
mod rollout;
mod session;
mod site;
mod status;
mod stoppable;
mod tunnel;
mod unhurried;
mod words;

use crate::output::tell;
use std::process::ExitCode;

use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use clap::builder::Styles;
use clap::{CommandFactory as _, FromArgMatches as _, Parser, Subcommand};
use yestrel_core::{Kind, Problem, Result, shown};

use global::Global;

/// Deploys VPN gateways, issues and revokes what lets each device in, and proves that it works.
///
/// An estate is everything one team runs: sites, hosts, gateways, people, keys. Changes are made in the estate and
/// brought to the gateways by `yestrel rollout`.
#[derive(Parser)]
#[command(name = "yestrel", version, styles = Styles::plain(), disable_help_subcommand = false, after_help = FIRST_STEPS)]
struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

const FIRST_STEPS: &str = "Example, from nothing to a tunnel:
  yestrel guide                                 asks, and shows each command that it runs
  yestrel demo                                  the whole example, with proof at each step
  yestrel status                                the whole estate at one glance
  yestrel lab start                             hosts to practise on
  yestrel estate create skerry
  yestrel site add harbour --network 10.44.0.0/22
  yestrel host add harbour --site harbour --kind cloud --via lab
  yestrel gateway create harbour --host harbour --dialled gangway.skerry.example
  yestrel listener open harbour
  yestrel policy add everyone admit             whoever has a valid credential
  yestrel user add mara && yestrel device add mara/laptop && yestrel credential issue mara/laptop
  yestrel rollout
  yestrel credential handover mara/laptop --to mara-laptop.yestrel
  yestrel connect mara-laptop.yestrel           on the device

Exit status: 0 done, 1 failed, 2 the words were wrong, 3 refused by a rule or a check found something bad, 4 done in part.";

#[derive(Subcommand)]
pub enum Command {
    /// The whole estate at one glance: what answers now, who is in, what waits, what ends soon
    Status(status::Arguments),
    /// From nothing to a proved tunnel, step by step; can be left and resumed; shows each command it runs
    Guide(guide::Arguments),
    /// Everything one team runs, in one file
    #[command(subcommand)]
    Estate(estate::Command),
    /// One place: its networks, its time zone
    #[command(subcommand)]
    Site(site::Command),
    /// A machine at a site
    #[command(subcommand)]
    Host(host::Command),
    /// The VPN server on a host
    #[command(subcommand)]
    Gateway(gateway::Command),
    /// One tunnel on one port of a gateway
    #[command(subcommand)]
    Listener(listener::Command),
    /// What must be open where, and whether it is
    #[command(subcommand)]
    Port(listener::PortCommand),
    /// A person
    #[command(subcommand)]
    User(people::UserCommand),
    /// A set of users
    #[command(subcommand)]
    Group(people::GroupCommand),
    /// What a user carries
    #[command(subcommand)]
    Device(people::DeviceCommand),
    /// What lets one device in
    #[command(subcommand)]
    Credential(credential::Command),
    /// A certificate authority of the estate
    #[command(subcommand)]
    Authority(authority::Command),
    /// Where accounts are kept and checked
    #[command(subcommand)]
    Registry(registry::Command),
    /// The one ordered list that decides who is admitted
    #[command(subcommand)]
    Policy(policy::Command),
    /// Bring gateways to their newest order
    Rollout(rollout::Arguments),
    /// Who is connected, and who was
    #[command(subcommand)]
    Session(session::Command),
    /// On a device: bring the tunnel of a handover up
    Connect(connect::Arguments),
    /// On a device: the tunnels that are up here
    #[command(subcommand)]
    Tunnel(tunnel::Command),
    /// On a gateway's host
    #[command(subcommand)]
    Agent(agent::Command),
    /// Simulated hosts, networks and services to practise on
    #[command(subcommand)]
    Lab(lab::Command),
    /// The whole example, from nothing to a revoked device, with proof at each step
    Demo(demo::Arguments),
    /// What a shell needs to complete the words of commands
    Completion(manual::CompletionArguments),
    /// All commands as one text, or as manual pages
    Manual(manual::ManualArguments),
}

fn run(cli: Cli) -> Result<()> {
    let global = &cli.global;
    if global.utc {
        output::write_utc();
    }
    match cli.command {
        Command::Status(arguments) => status::run(global, &arguments),
        Command::Estate(command) => estate::run(global, command),
        Command::Site(command) => site::run(global, command),
        Command::Host(command) => host::run(global, command),
        Command::Gateway(command) => gateway::run(global, command),
        Command::Listener(command) => listener::run(global, command),
        Command::Port(command) => listener::run_port(global, &command),
        Command::User(command) => people::run_user(global, command),
        Command::Group(command) => people::run_group(global, command),
        Command::Device(command) => people::run_device(global, command),
        Command::Credential(command) => credential::run(global, command),
        Command::Authority(command) => authority::run(global, command),
        Command::Registry(command) => registry::run(global, command),
        Command::Policy(command) => policy::run(global, command),
        Command::Rollout(arguments) => rollout::run(global, &arguments),
        Command::Session(command) => session::run(global, command),
        Command::Connect(arguments) => connect::run(global, &arguments),
        Command::Tunnel(command) => tunnel::run(global, command),
        Command::Agent(command) => agent::run(global, command),
        Command::Lab(command) => lab::run(global, command),
        Command::Demo(arguments) => demo::run(global, &arguments),
        Command::Completion(arguments) => manual::completion(global, &arguments),
        Command::Manual(arguments) => manual::manual(global, Cli::command(), &arguments),
        Command::Guide(arguments) => guide::run(global, &arguments),
    }
}

/// An error in its three lines.
fn complain(problem: &Problem) -> ExitCode {
    // Parts of it may be somebody else's words.
    tell!("error: {}", shown::line(&problem.error));
    if let Some(why) = &problem.why {
        tell!("  why: {}", shown::line(why));
    }
    for what in &problem.tries {
        tell!("  try: {}", shown::line(what));
    }
    ExitCode::from(match problem.kind {
        Kind::Failed => 1,
        Kind::Words => 2,
        Kind::Refused => 3,
        Kind::Partly => 4,
    })
}

/// Verbs that end something.
const ENDS: [&str; 9] = ["revoke", "remove", "retire", "close", "end", "suspend", "leave", "break", "stop"];

/// What the parser says of wrong words, in our own form.
fn parse_problem(error: &clap::Error) -> Problem {
    use clap::error::{ContextKind, ContextValue, ErrorKind};
    let text = error.render().to_string();
    let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
    // "the following required arguments were not provided:" goes on in the next lines.
    let words: Vec<_> = std::env::args().skip(1).take_while(|word| !word.starts_with('-')).take(2).collect();
    let mut command = Cli::command();
    let mut path = String::new();
    for word in words {
        let Some(sub) = command.find_subcommand(&word).cloned() else { break };
        path.push_str(&word);
        path.push(' ');
        command = sub;
    }
    let one = |kind| match error.get(kind) {
        Some(ContextValue::String(one)) => vec![one.clone()],
        Some(ContextValue::Strings(several)) => several.clone(),
        _ => Vec::new(),
    };
    let mut problem = match error.kind() {
        ErrorKind::MissingRequiredArgument => {
            let missing = one(ContextKind::InvalidArg).join(", ");
            Problem::words(format!("{missing} is missing")).why("the command cannot be carried out without it")
        }
        ErrorKind::InvalidSubcommand => {
            let said = one(ContextKind::InvalidSubcommand).join(" ");
            Problem::words(format!("there is no command \"yestrel {path}{said}\""))
        }
        ErrorKind::InvalidValue if !one(ContextKind::ValidValue).is_empty() => {
            Problem::words(first).why(format!("it takes {}", one(ContextKind::ValidValue).join(", ")))
        }
        _ => Problem::words(first),
    };
    let said = one(ContextKind::InvalidSubcommand).join(" ");
    let elsewhere = Cli::command();
    let mut elsewhere: Vec<_> = elsewhere
        .get_subcommands()
        .filter(|noun| noun.find_subcommand(&said).is_some())
        .map(clap::Command::get_name)
        .collect();
    elsewhere.truncate(3);
    for noun in &elsewhere {
        problem = problem.try_(format!("yestrel {noun} {said}"));
    }
    // What ends something is never offered for something that sounds like it.
    for near in one(ContextKind::SuggestedSubcommand) {
        if elsewhere.is_empty() && !ENDS.contains(&near.as_str()) {
            problem = problem.try_(format!("yestrel {path}{near}"));
        }
    }
    for near in [ContextKind::SuggestedArg, ContextKind::SuggestedValue].into_iter().flat_map(one) {
        problem = problem.try_(near);
    }
    problem.try_(format!("yestrel {path}--help"))
}

fn main() -> ExitCode {
    // A shell asks what could come next; then this is all that happens.
    complete::answer(Cli::command);
    // Help is laid out for the terminal that is there, and never wider than is good to read.
    let command = Cli::command().max_term_width(110);
    let parsed = interview::parse(command).and_then(|matches| Cli::from_arg_matches(&matches));
    let cli = match parsed {
        Ok(cli) => cli,
        Err(error) if error.kind() == clap::error::ErrorKind::DisplayHelp => {
            let words: Vec<_> = std::env::args_os().collect();
            let _ = std::io::Write::write_all(&mut std::io::stdout(), help::asked(Cli::command(), &words).as_bytes());
            return ExitCode::SUCCESS;
        }
        Err(error) if !error.use_stderr() => {
            let _ = error.print();
            return ExitCode::SUCCESS;
        }
        Err(error) if error.kind() == clap::error::ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            // What there is to choose from, without what every command takes.
            let words: Vec<_> = std::env::args_os().collect();
            tell!("{}", help::asked(Cli::command(), &words).trim_end());
            return ExitCode::from(2);
        }
        Err(error) => return complain(&parse_problem(&error)),
    };
    let level = match (&cli.command, cli.global.verbose) {
        (Command::Agent(_), false) => "info",
        (_, false) => "error",
        (_, true) => "debug,netlink_proto=warn,polling=warn,mio=warn,russh=info",
    };
    let given_up = match &cli.command {
        Command::Agent(command) => agent::give_up(command),
        Command::Connect(_) => {
            yestrel_net::rights::no_dumps();
            Ok(())
        }
        _ => Ok(()),
    };
    let targets: Targets = level.parse().unwrap_or_default();
    let log = tracing_subscriber::fmt().with_max_level(LevelFilter::TRACE).with_ansi(false).with_target(false);
    let log = log.log_internal_errors(false);
    let log_file = match &cli.command {
        Command::Agent(command) => agent::log(command),
        _ => None,
    };
    match log_file.clone() {
        Some(file) => log.with_writer(move || file.clone()).finish().with(targets).init(),
        None => log.with_writer(std::io::stderr).finish().with(targets).init(),
    }
    let ran = given_up.and_then(|()| run(cli));
    if let Some(file) = log_file {
        // Whoever looks from afar finds it there, when there is no agent who could be asked.
        if let Err(problem) = &ran {
            yestrel_agent::log::cannot_run(problem);
        }
        file.settle(std::time::Duration::from_secs(2));
    }
    match ran {
        Ok(()) => ExitCode::SUCCESS,
        Err(problem) => complain(&problem),
    }
}
