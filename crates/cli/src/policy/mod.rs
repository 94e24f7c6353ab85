//! `yestrel policy`
//!
//! | file | its job |
//! |---|---|
//! | `questions` | what is asked of a new policy at a terminal |
//! | `plot` | who could come in when, as a picture in a file |
//! | `rehearsal` | what a rehearsal and a check say |

mod plot;
pub mod questions;
mod rehearsal;

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use ipnet::{IpNet, Ipv4Net};
use jiff::Timestamp;
use yestrel_actions::Context;
use yestrel_actions::policy::{self, Leaves, Line, Stand, Wish};
use yestrel_core::findings::Grade;
use yestrel_core::policy::{Asks, Conditions, END, Effect, Listed, Rule, Terms, condition};
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::interview;
use crate::listing::Listing;
use crate::output::{Cell, Output, Table, list};

#[derive(Subcommand)]
pub enum Command {
    /// Add a policy: admit or refuse whom its conditions are about
    #[command(after_help = ABOUT)]
    Add {
        /// What it is called
        name: String,
        /// Whether it lets in or keeps out
        effect: Does,
        #[command(flatten)]
        asks: AsksAbout,
        #[command(flatten)]
        terms: Limits,
        /// What it is for, in words
        #[arg(long, value_name = "WORDS")]
        about: Option<String>,
        /// Keep it in the list, and let it decide nothing yet
        #[arg(long)]
        off: bool,
        #[command(flatten)]
        stand: Standing,
    },
    /// The list in its order, with what it admitted in the last 30 days
    #[command(after_help = "Example:\n  yestrel policy list")]
    List {
        #[command(flatten)]
        listing: Listing,
    },
    /// One policy in full
    #[command(after_help = "Example:\n  yestrel policy show dry-dock")]
    Show { name: String },
    /// Change a policy: what is named replaces what was, the rest stays
    #[command(
        after_help = "Example:\n  yestrel policy change dry-dock --when \"hours=tue,thu 05:30-12:00\"\n  yestrel policy change dry-dock --when hours=   asks for no hours any more\n  yestrel policy change night-crew --off"
    )]
    Change {
        name: String,
        /// Whether it lets in or keeps out
        #[arg(long)]
        effect: Option<Does>,
        #[command(flatten)]
        asks: AsksAbout,
        #[command(flatten)]
        terms: Limits,
        /// No limits but those named here
        #[arg(long)]
        no_limits: bool,
        /// What it is for, in words
        #[arg(long, value_name = "WORDS")]
        about: Option<String>,
        /// It decides from now on
        #[arg(long, conflicts_with = "off")]
        on: bool,
        /// It stays in the list and decides nothing
        #[arg(long)]
        off: bool,
    },
    /// Move a policy within the list
    #[command(
        after_help = "Example:\n  yestrel policy move dry-dock --first\n  yestrel policy move dry-dock --before night-crew"
    )]
    Move {
        name: String,
        #[command(flatten)]
        stand: Standing,
    },
    /// Remove a policy
    #[command(after_help = "Example:\n  yestrel policy remove dry-dock")]
    Remove { name: String },
    /// Look for what is wrong with the list: policies that can never decide, ones that overlap, a list that lets nobody in
    #[command(after_help = "Example:\n  yestrel policy check\n  yestrel policy check --with proposed.toml")]
    Check {
        /// Another list in place of the estate's, as policy export writes it
        #[arg(long, value_name = "FILE")]
        with: Option<PathBuf>,
    },
    /// Play sign-ins through the list, without signing in
    #[command(
        after_help = "Example:\n  yestrel policy rehearse oskar/laptop --gateway boatyard --at \"fri 10:00\"\n  yestrel policy rehearse --all-users --as-of 2027-03-01\n  yestrel policy rehearse --since 30d --with proposed.toml"
    )]
    Rehearse(rehearsal::Arguments),
    /// The list as a file (TOML); it holds no secret
    #[command(after_help = "Example:\n  yestrel policy export > policies.toml")]
    Export,
    /// Put the list of a file in the place of the one that is there
    #[command(after_help = "Example:\n  yestrel policy import policies.toml --preview")]
    Import {
        /// The file, as policy export writes it
        file: PathBuf,
        /// Show what would change, and change nothing
        #[arg(long)]
        preview: bool,
    },
}

const ABOUT: &str = "Example:
  yestrel policy add dry-dock admit --when group=welders --when \"hours=tue,thu 05:30-11:15\" --session 6h
  yestrel policy add lost-tablets refuse --when platform=android --unless group=office --first

The first policy of the list whose conditions all hold decides; whoever comes to the end is refused. A condition is SUBJECT=VALUE, or SUBJECT=VALUE,VALUE
where any will do; --unless turns it around. Subjects:

  user, group, device, platform    who: mara, crew, mara/laptop, android
  credential, credential-age       by what: key-pair, certificate, password; \"over 90d\", \"under 12h\"
  method                           key, certificate, eap-ms-chap-v2
  tunnel, gateway, site            where: quill, ikev2; harbour; boatyard
  tunnel-type, nas-port-type       RADIUS values by name or number: esp, virtual
  registry, realm                  who checks: estate; what stands after the @ of an account's name: crew.skerry.example, or none
  second-factor, first-sign-in     yes or no: an answer counts now; the device has not signed in before
  from                             the address that it comes from: 198.51.100.0/24
  hours                            \"tue,thu 05:30-11:15\", \"daily 22:00-06:00\", several with ; between; in the site's time zone, or \"daily 08:00-17:00 UTC\"
  dates                            2027-03-01..2027-03-31

Why a list and its first match: what decides can be read from the top, and a rehearsal names it. The list reaches gateways by yestrel rollout.";

#[derive(ValueEnum, Clone, Copy)]
pub enum Does {
    /// Whoever it is about is let in
    Admit,
    /// Whoever it is about is kept out
    Refuse,
}

impl From<Does> for Effect {
    fn from(does: Does) -> Self {
        match does {
            Does::Admit => Self::Admit,
            Does::Refuse => Self::Refuse,
        }
    }
}

#[derive(Args)]
pub struct AsksAbout {
    /// A condition that must hold, SUBJECT=VALUE,...; several times for several, which must all hold
    #[arg(long, value_name = "CONDITION")]
    when: Vec<String>,
    /// A condition that must not hold
    #[arg(long, value_name = "CONDITION")]
    unless: Vec<String>,
}

impl AsksAbout {
    /// Reads conditions; with `may_end`, one without a value ends what is asked.
    fn read(&self, may_end: bool) -> Result<(Conditions, Conditions)> {
        Ok((read_all(&self.when, may_end)?, read_all(&self.unless, may_end)?))
    }
}

/// Reads conditions, each of another subject; with `may_end`, one without a value ends what is asked.
pub fn read_all(texts: &[String], may_end: bool) -> Result<Conditions> {
    let mut read = Conditions::new();
    for text in texts {
        let ended = text.strip_suffix('=').filter(|_| may_end);
        let (asks, values) = match ended {
            Some(asks) => (asks.parse::<Asks>()?, Vec::new()),
            None => condition(text)?,
        };
        if read.insert(asks, values).is_some() {
            return Err(Problem::words(format!("{asks} is asked about twice"))
                .why("of one subject any value of one condition will do")
                .try_(format!("{asks}=VALUE,VALUE   in one condition")));
        }
    }
    Ok(read)
}

#[derive(Args)]
pub struct Limits {
    /// A session ends when it carried nothing for so long: 15m
    #[arg(long, value_name = "DURATION", value_parser = seconds)]
    idle: Option<u32>,
    /// A session ends after so long: 8h
    #[arg(long, value_name = "DURATION", value_parser = seconds)]
    session: Option<u32>,
    /// Sessions of one user at once
    #[arg(long, value_name = "NUMBER")]
    user_sessions: Option<u16>,
    /// Sessions of one device at once
    #[arg(long, value_name = "NUMBER")]
    device_sessions: Option<u16>,
    /// Mbit a second that a device may send inwards: 20, or 0.5
    #[arg(long, value_name = "MBIT/S", value_parser = mbits)]
    upload: Option<u64>,
    /// Mbit a second that it is sent
    #[arg(long, value_name = "MBIT/S", value_parser = mbits)]
    download: Option<u64>,
    /// Who is in stays in when hours, dates or age are over
    #[arg(long)]
    stay: bool,
    /// The most that may be reached, within what the listener lets be reached; several times for several ranges
    #[arg(long, value_name = "RANGE")]
    reach: Vec<IpNet>,
    /// A resolver in place of the listener's; several times for several
    #[arg(long, value_name = "ADDRESS")]
    resolver: Vec<std::net::IpAddr>,
    /// Ask whoever comes in for the code of a second factor; nothing passes before it is answered. For the tunnel quill
    #[arg(long)]
    second_factor: bool,
    /// Ask for it again after so long, also in a session that goes on: 8h. For ikev2, without it: sign in again after so long
    #[arg(long, value_name = "DURATION", value_parser = seconds)]
    again_after: Option<u32>,
    /// Lease an inner address of this part of the listener's pool, and to nobody else. For the tunnel ikev2
    #[arg(long, value_name = "RANGE")]
    pool: Option<Ipv4Net>,
}

impl Limits {
    fn terms(&self) -> Terms {
        Terms {
            idle: self.idle,
            session: self.session,
            user_sessions: self.user_sessions,
            device_sessions: self.device_sessions,
            upload: self.upload,
            download: self.download,
            stay: self.stay,
            reach: (!self.reach.is_empty()).then(|| self.reach.iter().map(IpNet::trunc).collect()),
            resolvers: self.resolver.clone(),
            second_factor: self.second_factor,
            again_after: self.again_after,
            pool: self.pool.map(|pool| pool.trunc()),
        }
    }

    /// What is named here in place of what was.
    fn over(&self, before: Terms) -> Terms {
        let named = self.terms();
        Terms {
            idle: named.idle.or(before.idle),
            session: named.session.or(before.session),
            user_sessions: named.user_sessions.or(before.user_sessions),
            device_sessions: named.device_sessions.or(before.device_sessions),
            upload: named.upload.or(before.upload),
            download: named.download.or(before.download),
            stay: named.stay || before.stay,
            reach: named.reach.or(before.reach),
            resolvers: if named.resolvers.is_empty() { before.resolvers } else { named.resolvers },
            second_factor: named.second_factor || before.second_factor,
            again_after: named.again_after.or(before.again_after),
            pool: named.pool.or(before.pool),
        }
    }
}

fn mbits(text: &str) -> std::result::Result<u64, String> {
    yestrel_core::policy::rate(text).ok_or_else(|| "Mbit/s, 0.064 to 100000, such as 20 or 0.5".into())
}

fn seconds(text: &str) -> std::result::Result<u32, String> {
    let span = yestrel_core::lapse::parse(text).and_then(|span| u32::try_from(span.as_secs()).ok());
    span.ok_or_else(|| "a whole number with s, m, h, d, w or y, such as 15m or 8h".into())
}

#[derive(Args)]
#[group(multiple = false)]
pub struct Standing {
    /// Before all others
    #[arg(long)]
    first: bool,
    /// After all others
    #[arg(long)]
    last: bool,
    /// Just before this one
    #[arg(long, value_name = "POLICY")]
    before: Option<String>,
    /// Just after this one
    #[arg(long, value_name = "POLICY")]
    after: Option<String>,
}

impl Standing {
    fn read(&self) -> Option<Stand> {
        let beside = self.before.clone().map(Stand::Before).or_else(|| self.after.clone().map(Stand::After));
        beside.or(self.first.then_some(Stand::First)).or(self.last.then_some(Stand::Last))
    }
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Add { name, effect, asks, terms, about, off, stand } => {
            let (when, unless) = asks.read(false)?;
            let rule = Rule { name, effect: effect.into(), when, unless, terms: terms.terms() };
            let stand = stand.read().unwrap_or(Stand::Last);
            let name = rule.name.clone();
            let listed = Listed { rule, on: !off, about };
            if interview::was_held() {
                let place = context.rehearse(|context| policy::add(context, &listed, &stand, Leaves::Anything))?;
                let Listed { rule, .. } = &listed;
                let limits = rule.terms.words();
                let limits = if limits.is_empty() { String::new() } else { format!(", {}", limits.join(", ")) };
                let words = format!(
                    "the policy {name} would be number {place} of the list: {} {}{limits}",
                    rule.effect.word(),
                    conditions(rule)
                );
                ask::confirm(global.yes, &words)?;
            }
            let place = changed(global, &mut context, |context, leaves| policy::add(context, &listed, &stand, leaves))?;
            did(
                output,
                &policy::show(&mut context, &name)?,
                &format!("the policy {name} is number {place} of the list"),
            );
            waits(output);
        }
        Command::List { listing } => show_list(output, &mut context, &listing)?,
        Command::Show { name } => {
            let line = policy::show(&mut context, &name)?;
            output.record(&record(&line, context.now));
        }
        Command::Change { name, effect, asks, terms, no_limits, about, on, off } => {
            let (when, unless) = asks.read(true)?;
            let before = policy::show(&mut context, &name)?.policy;
            let base = if no_limits { Terms::default() } else { before.terms.clone() };
            let limits = terms.over(base);
            let wish = Wish {
                effect: effect.map(Effect::from),
                on: (on || off).then_some(on),
                about,
                when,
                unless,
                terms: (limits != before.terms).then_some(limits),
            };
            if wish.is_none() {
                return Err(Problem::words("nothing was said that should change")
                    .why("what is named replaces what was; all else stays")
                    .try_(format!("yestrel policy change {name} --help")));
            }
            changed(global, &mut context, |context, leaves| policy::change(context, &name, &wish, leaves))?;
            did(output, &policy::show(&mut context, &name)?, &format!("the policy {name} is changed"));
            waits(output);
        }
        Command::Move { name, stand } => {
            let stand = stand.read().ok_or_else(|| {
                Problem::words("where to is missing").try_("--first, --last, --before POLICY or --after POLICY")
            })?;
            let (before, after) =
                changed(global, &mut context, |context, leaves| policy::move_to(context, &name, &stand, leaves))?;
            let words = match before == after {
                true => format!("the policy {name} stands there already, as number {after}"),
                false => format!("the policy {name} was number {before}, and is number {after}"),
            };
            did(output, &policy::show(&mut context, &name)?, &words);
            if before != after {
                waits(output);
            }
        }
        Command::Remove { name } => {
            changed(global, &mut context, |context, leaves| policy::remove(context, &name, leaves))?;
            output.say(&format!("the policy {name} is removed"));
            waits(output);
        }
        Command::Check { with } => {
            let rules = with.map(|file| rehearsal::rules(&file)).transpose()?;
            rehearsal::checked(output, &policy::check(&mut context, rules)?)?;
        }
        Command::Rehearse(arguments) => rehearsal::run(output, &mut context, &arguments)?,
        Command::Export => output.write(&policy::export(&mut context)?),
        Command::Import { file, preview } => {
            let text = rehearsal::text(&file)?;
            let changes = context.rehearse(|context| policy::import(context, &text, Leaves::Anything))?;
            if output.is_for_programs() {
                let mut table = Table::new(&["verb", "words"], "");
                changes.iter().for_each(|(verb, words)| table.row(vec![(*verb).into(), words.into()]));
                output.table(&table);
            } else {
                changes.iter().for_each(|(verb, words)| output.say(&format!("  {verb:7} {words}")));
            }
            if changes.is_empty() {
                output.say("the list is as in the file: nothing to do");
                return Ok(());
            }
            if preview {
                return Ok(());
            }
            changed(global, &mut context, |context, leaves| policy::import(context, &text, leaves))?;
            output.say(&format!("the list of {} is in its place", file.display()));
            waits(output);
        }
    }
    Ok(())
}

/// Makes a change; asks before one after which nobody at all could come in, where somebody could before.
fn changed<R>(global: &Global, context: &mut Context, change: impl Fn(&mut Context, Leaves) -> Result<R>) -> Result<R> {
    let first = if global.yes { Leaves::Anything } else { Leaves::Somebody };
    match change(context, first) {
        Err(problem) if policy::is_shut(&problem) && ask::somebody_there() => {
            ask::confirm(false, &problem.error)?;
            change(context, Leaves::Anything)
        }
        other => other,
    }
}

fn waits(output: Output) {
    output.note("yestrel rollout   brings it to the gateways, and says first who would be thrown out");
}

fn did(output: Output, line: &Line, words: &str) {
    output.did(&record(line, Timestamp::now()));
    if !output.is_for_programs() {
        output.say(words);
    }
}

fn state(line: &Line) -> Cell {
    match line.policy.active {
        true => Cell::State(Grade::Good, "on".into()),
        false => Cell::State(Grade::Poor, "off".into()),
    }
}

/// Conditions in words; whom a policy without any is about.
fn conditions(rule: &Rule) -> String {
    let words = rule.words();
    if words.is_empty() { "everybody".into() } else { words.join("; ") }
}

fn record(line: &Line, now: Timestamp) -> Vec<(&'static str, Cell)> {
    let rule = line.policy.rule();
    vec![
        ("name", rule.name.as_str().into()),
        ("place", line.place.into()),
        ("effect", rule.effect.word().into()),
        ("state", state(line)),
        ("conditions", conditions(&rule).into()),
        ("limits", list(&rule.terms.words())),
        ("about", line.policy.about.clone().into()),
        ("matches in 30 days", line.matches.into()),
        ("last match", Cell::ago(line.last_match, now)),
        ("created", Cell::Time(line.policy.created)),
    ]
}

fn show_list(output: Output, context: &mut Context, listing: &Listing) -> Result<()> {
    let now = context.now;
    let columns = ["place", "name", "effect", "state", "conditions", "limits", "matches", "last match"];
    let mut table = Table::new(&columns, "").least(&["last match", "matches"]);
    let lines = policy::list(context)?;
    for line in &lines {
        let rule = line.policy.rule();
        table.row(vec![
            line.place.into(),
            rule.name.as_str().into(),
            rule.effect.word().into(),
            state(line),
            conditions(&rule).into(),
            list(&rule.terms.words()),
            line.matches.into(),
            Cell::ago(line.last_match, now),
        ]);
    }
    let end = [END.into(), "refuse".into(), Cell::Missing, "everybody".into()];
    let none = [Cell::Missing, Cell::Missing, Cell::Missing];
    table.row([Cell::Missing].into_iter().chain(end).chain(none).collect());
    listing.apply(&mut table)?;
    output.table(&table);
    if lines.iter().all(|line| !line.policy.active || line.policy.effect == Effect::Refuse) {
        output.note("nobody is let in: no policy admits anybody; yestrel policy add everyone admit   lets every valid credential in");
    }
    Ok(())
}
