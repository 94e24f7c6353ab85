//! `yestrel guide`: from nothing to a proved tunnel, for somebody who does this twice a year.
//!
//! It asks, and runs the very commands that are shown; so what it did can be kept as a script, and done by hand the next time.

mod admits;
mod explained;

use std::collections::BTreeMap;
use std::io::{BufRead as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use clap::Args;
use serde::{Deserialize, Serialize};
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::ask::choose;
use crate::global::Global;
use crate::interview::line_of;
use crate::output::tell;

#[derive(Args)]
#[command(
    after_help = "Example:\n  yestrel guide\n  yestrel guide --script set-up.sh\n\nIt can be left at any question, with Ctrl-C too, and goes on there the next time."
)]
pub struct Arguments {
    /// Also write the commands that were run into a file, as a script
    #[arg(long, value_name = "FILE")]
    script: Option<PathBuf>,
    /// Forget the answers of a guide that was left, and begin anew; what was made stays
    #[arg(long)]
    anew: bool,
}

/// How far it has come: kept beside the estate.
#[derive(Default, Serialize, Deserialize)]
struct State {
    answers: BTreeMap<String, String>,
    /// The commands that were run, by the step that needed them.
    done: BTreeMap<String, String>,
    /// The same in their order.
    lines: Vec<String>,
    /// What is being added once there is a first gateway with a first device: "device", "person" or "site".
    #[serde(default)]
    round: Option<String>,
    /// The host of this round.
    #[serde(default)]
    host: Option<String>,
}

struct Guide<'a> {
    global: &'a Global,
    estate: PathBuf,
    state: State,
}

/// Why a step is asked again.
enum Stop {
    /// The person left, or something that another answer does not mend.
    Over(Problem),
    /// A command did not succeed.
    Again,
}

impl From<Problem> for Stop {
    fn from(problem: Problem) -> Self {
        Self::Over(problem)
    }
}

type Step = std::result::Result<(), Stop>;

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    if !ask::somebody_there() {
        return Err(Problem::words("the guide asks questions, and nobody sits at this terminal")
            .try_("yestrel --help   shows the commands themselves"));
    }
    let estate = global.estate_path();
    let mut name = estate.file_name().unwrap_or_default().to_owned();
    name.push(".guide");
    let file = estate.with_file_name(name);
    let mut guide = Guide { global, estate, state: State::default() };
    if !arguments.anew
        && let Ok(text) = std::fs::read_to_string(&file)
    {
        guide.state = serde_json::from_str(&text).unwrap_or_default();
        if !guide.state.lines.is_empty() {
            tell!("Going on where it was left. Done so far:");
            for line in &guide.state.lines {
                tell!("  $ {line}");
            }
            tell!("");
        }
    }
    guide.play(&file)?;
    if let Some(script) = &arguments.script {
        let estate = line_of(&["".into(), guide.estate.clone().into()]);
        let estate = estate.trim_start_matches("yestrel ");
        let text = format!("#!/bin/sh -e\nexport YESTREL_ESTATE={estate}\n{}\n", guide.state.lines.join("\n"));
        std::fs::write(script, text).map_err(|error| {
            Problem::failed(format!("{} cannot be written", script.display())).why(error.to_string())
        })?;
        tell!("the commands are in {}", script.display());
    }
    let _ = std::fs::remove_file(&file);
    Ok(())
}

/// One step: its title, the answers that belong to it, and what it does.
type Chapter<'a> = (&'static str, &'static [&'static str], fn(&mut Guide<'a>) -> Step);

impl<'a> Guide<'a> {
    /// Everything in turn, until nothing more is to be added.
    fn play(&mut self, file: &Path) -> Result<()> {
        let chapters: [Chapter<'a>; 11] = [
            ("Where", &["estate", "where", "via", "key"], Self::estate_site_and_host),
            ("The site and its host", &["site", "network", "kind"], Self::host),
            ("What name is dialled", &["dialled", "updates"], Self::dialled),
            ("What must open, and where", &["port"], Self::open),
            ("Who is let in", &["policy", "hours"], Self::policy),
            ("Install", &[], Self::install),
            ("What may be reached", &["reach", "ranges"], Self::reach),
            ("Who, and which device", &["user", "device", "until"], Self::who),
            ("Hand over", &["file"], Self::hand_over),
            ("Connect", &["from"], Self::connect),
            ("Prove", &["target"], Self::prove),
        ];
        let begun = !self.state.answers.is_empty() || !self.state.lines.is_empty();
        if !begun && self.estate.exists() && self.shows_what_is_there() {
            self.state.round = Some("begin".into());
        }
        loop {
            let steps = match self.state.round.as_deref() {
                None => &chapters[..],
                Some("site") => &chapters[..7],
                Some("person" | "device") => &chapters[7..9],
                Some(_) => &[],
            };
            self.steps(file, steps)?;
            let more = [
                ("done", "nothing more for now"),
                ("device", "another device of somebody who is there"),
                ("person", "somebody else, with a device"),
                ("site", "another place, with a gateway of its own"),
            ];
            let next = self.asks("next", "what is to be added", &more, "done")?;
            if next == "done" {
                return Ok(());
            }
            let stays = |key: &str| match next.as_str() {
                "device" => ["estate", "where", "user"].contains(&key),
                _ => ["estate", "where"].contains(&key) && next != "site",
            };
            self.state.answers.retain(|key, _| stays(key));
            if next == "site" {
                self.state.host = None;
            }
            self.state.round = Some(next);
            self.save(file)?;
        }
    }

    /// Says what an estate that was not begun with the guide has already. Whether that is a gateway somebody could come in at.
    fn shows_what_is_there(&self) -> bool {
        tell!("There is an estate already; this is what it has:");
        for (noun, command) in
            [("site", "site"), ("host", "host"), ("gateway", "gateway"), ("listener", "listener"), ("user", "user")]
        {
            let names = self.names(command);
            let words = match names.len() {
                0 => "none yet".to_owned(),
                1..=6 => names.join(", "),
                more => format!("{} and {} more", names[..5].join(", "), more - 5),
            };
            tell!("  {noun:8}  {words}");
        }
        tell!("Only what is missing is asked; nothing that is there is changed.");
        !self.names("listener").is_empty()
    }

    /// Steps in their order, each again until it succeeds.
    fn steps(&mut self, file: &Path, chapters: &[Chapter<'a>]) -> Result<()> {
        for (title, answers, step) in chapters {
            tell!("\n{}", self.bold(title));
            loop {
                let result = step(self);
                self.save(file)?;
                match result {
                    Ok(()) => break,
                    Err(Stop::Over(problem)) => {
                        return Err(problem.try_("yestrel guide   goes on here"));
                    }
                    Err(Stop::Again) => {
                        let again = [
                            ("again".to_owned(), "the same once more".to_owned()),
                            ("other".to_owned(), "with other answers to this step".to_owned()),
                            ("leave".to_owned(), "come back later with yestrel guide".to_owned()),
                        ];
                        let default = if answers.is_empty() { "again" } else { "other" };
                        match choose("that did not succeed; what now", &again, Some(default))?.as_str() {
                            "again" => {}
                            "leave" => {
                                return Err(Problem::refused("the guide was left").try_("yestrel guide   goes on here"));
                            }
                            _ => answers.iter().for_each(|key| drop(self.state.answers.remove(*key))),
                        }
                    }
                }
            }
        }
        Ok(())
    }

    /// For the eye: what begins a step, and what is run.
    fn bold(&self, text: &str) -> String {
        if self.global.output().color { format!("\x1b[1m{text}\x1b[0m") } else { text.to_owned() }
    }

    fn save(&self, file: &Path) -> Result<()> {
        if let Some(folder) = file.parent() {
            let _ = std::fs::create_dir_all(folder);
        }
        let bytes = serde_json::to_vec_pretty(&self.state).unwrap_or_default();
        yestrel_net::files::write_whole(file, &bytes)
    }

    /// The answer to a question, from before or now. `answers`: what each leads to.
    fn asks(&mut self, key: &str, what: &str, answers: &[(&str, &str)], default: &str) -> Result<String> {
        if let Some(answer) = self.state.answers.get(key) {
            return Ok(answer.clone());
        }
        let lines: Vec<_> = answers.iter().map(|(answer, leads)| ((*answer).to_owned(), (*leads).to_owned())).collect();
        let default = (!default.is_empty()).then_some(default);
        let mut answer = choose(what, &lines, default)?;
        loop {
            if answer == "?" {
                for line in explained::explained(key) {
                    tell!("  {line}");
                }
            } else if !answers.is_empty() && !answers.iter().any(|(choice, _)| *choice == answer) {
                // Where the answers are a list of words, only these lead anywhere.
                tell!("  {answer:?} is none of these; ? explains");
            } else {
                break;
            }
            answer = choose(what, &lines, default)?;
        }
        self.state.answers.insert(key.to_owned(), answer.clone());
        self.keep();
        Ok(answer)
    }

    fn keep(&self) {
        let mut name = self.estate.file_name().unwrap_or_default().to_owned();
        name.push(".guide");
        let _ = self.save(&self.estate.with_file_name(name));
    }

    fn answer(&self, key: &str) -> String {
        self.state.answers.get(key).cloned().unwrap_or_default()
    }

    fn command(&self, words: &[&str]) -> Result<Command> {
        let exe = std::env::current_exe()
            .map_err(|error| Problem::failed("this program does not find itself").why(error.to_string()))?;
        let mut command = Command::new(exe);
        command.args(words).env("YESTREL_ESTATE", &self.estate);
        if let Some(file) = &self.global.estate_passphrase_file {
            command.arg("--estate-passphrase-file").arg(file);
        }
        Ok(command)
    }

    /// Shows a command and runs it, unless the very same was run for this step before.
    fn runs(&mut self, step: &str, words: &[&str]) -> Step {
        let all: Vec<_> = std::iter::once("yestrel").chain(words.iter().copied()).map(Into::into).collect();
        let line = line_of(&all);
        if self.state.done.get(step) == Some(&line) {
            return Ok(());
        }
        tell!("{}", self.bold(&format!("$ {line}")));
        let status = self.command(words)?.status();
        if !status.is_ok_and(|status| status.success()) {
            return Err(Stop::Again);
        }
        self.state.done.insert(step.to_owned(), line.clone());
        // What is only looked at again stands once.
        if self.state.lines.last() != Some(&line) {
            self.state.lines.push(line);
        }
        // What was done is not forgotten, wherever the guide is left.
        self.keep();
        Ok(())
    }

    /// What a command says, without showing it.
    fn json(&self, words: &[&str]) -> serde_json::Value {
        let mut all = words.to_vec();
        all.extend(["--format", "json"]);
        let output = self.command(&all).and_then(|mut command| {
            command.stdin(Stdio::null()).output().map_err(|error| Problem::failed(error.to_string()))
        });
        output.ok().and_then(|output| serde_json::from_slice(&output.stdout).ok()).unwrap_or_default()
    }

    fn names(&self, noun: &str) -> Vec<String> {
        let list = self.json(&[noun, "list"]);
        list.as_array().into_iter().flatten().filter_map(|row| Some(row["name"].as_str()?.to_owned())).collect()
    }

    fn in_lab(&self) -> bool {
        self.answer("where") == "lab"
    }

    fn estate_site_and_host(&mut self) -> Step {
        if !self.estate.exists() {
            tell!("  An estate is everything that you run with this program, in one file.");
            let name = self.asks("estate", "a name for your estate", &[], "home")?;
            self.runs("estate", &["estate", "create", &name])?;
        }
        let there = if self.state.round.is_none() { self.names("host") } else { Vec::new() };
        if let Some(host) = there.first().filter(|_| !self.state.answers.contains_key("where")) {
            let via = self.json(&["host", "show", host])["via"].as_str().unwrap_or_default().to_owned();
            let place = if via.starts_with("lab") { "lab" } else { "machine" };
            self.state.answers.insert("where".into(), place.into());
            return Ok(());
        }
        let places = [
            ("machine", "a machine that you can sign in to over SSH: a computer, a rented one, a router with Linux"),
            ("lab", "made-up machines inside this one, to practise on"),
        ];
        let default = if crate::lab::folder(None).join("hosts").exists() { "lab" } else { "machine" };
        if self.asks("where", "where is the gateway to run", &places, default)? == "lab" {
            if !crate::lab::folder(None).join("hosts").exists() {
                self.runs("lab", &["lab", "start"])?;
            }
            return Ok(());
        }
        tell!("  As you sign in to it now: ssh://user@address:port. Without a port it is 22.");
        self.asks("via", "how is it reached", &[], "")?;
        tell!("  The file of a private key that it knows; or none, for the key agent, the usual files, or a password.");
        self.asks("key", "which key", &[], "none")?;
        Ok(())
    }

    fn host(&mut self) -> Step {
        let first = self.state.round.is_none();
        let there = self.names("host");
        if first && self.state.host.is_none() && !there.is_empty() {
            // The host of an estate that was begun by hand.
            tell!("  The host {} is there.", there[0]);
            self.state.host = there.first().cloned();
            return Ok(());
        }
        let sites = self.names("site");
        let site = match (self.in_lab(), first) {
            (true, true) => "harbour",
            (true, false) => "boatyard",
            (false, true) => "home",
            (false, false) => "",
        };
        let site = if first { sites.first().map_or(site, String::as_str) } else { site }.to_owned();
        tell!("  A site is one place with its networks, such as your home, or an office.");
        let site = self.asks("site", "a name for the site", &[], &site)?;
        if !self.names("site").contains(&site) {
            tell!(
                "  The network behind the gateway that is to be reached, such as 192.168.40.0/24; or none, for the machine alone."
            );
            let default = match (self.in_lab(), first) {
                (true, true) => "10.44.0.0/22",
                (true, false) => "10.44.8.0/24",
                (false, _) => "none",
            };
            let network = self.asks("network", "the network of the site", &[], default)?;
            let mut words = vec!["site", "add", &site];
            if network != "none" {
                words.extend(["--network", &network]);
            }
            self.runs(&format!("site {site}"), &words)?;
        }
        // The made-up machines have their names; others are called after their place, the first one by what it is.
        let host = match (self.in_lab(), first) {
            (true, true) => "harbour".to_owned(),
            (false, true) => "gateway".to_owned(),
            (_, false) => site.clone(),
        };
        let host = host.as_str();
        let kinds = [
            ("computer", "a machine of your own"),
            ("cloud", "a rented one"),
            ("router", "a router that runs Linux and lets you in over SSH"),
            ("storage", "a storage appliance that lets you in over SSH"),
        ];
        let kind =
            self.asks("kind", "what kind of machine is it", &kinds, if self.in_lab() { "cloud" } else { "computer" })?;
        self.state.host = Some(host.to_owned());
        if self.names("host").contains(&host.to_owned()) {
            return Ok(());
        }
        let (via, key) = (self.answer("via"), self.answer("key"));
        let mut words = vec!["host", "add", host, "--site", &site, "--kind", &kind];
        words.extend(["--via", if self.in_lab() { "lab" } else { &via }]);
        if !self.in_lab() && key != "none" {
            words.extend(["--key", &key]);
        }
        let added = self.runs(&format!("host {host}"), &words);
        if added.is_err() {
            // How it is reached was asked in the step before; it is asked again together with this one.
            self.state.answers.remove("via");
            self.state.answers.remove("key");
            self.estate_site_and_host()?;
        }
        added
    }

    fn host_name(&self) -> String {
        self.state.host.clone().or_else(|| self.names("host").first().cloned()).unwrap_or_else(|| "gateway".into())
    }

    fn dialled(&mut self) -> Step {
        let host = self.host_name();
        if !self.gateway().is_empty() && !self.state.done.contains_key(&format!("gateway {host}")) {
            tell!("  The gateway {} is there.", self.gateway());
            return Ok(());
        }
        tell!(
            "  Everything later hangs on it: a name that leads to the gateway from outside, now and next year, or an"
        );
        tell!("  address that does not change. Behind a router it is the router's, not the machine's own.");
        let shown = self.json(&["host", "list"]);
        let shown = shown.as_array().into_iter().flatten().find(|one| one["name"] == host.as_str()).cloned();
        let outward = shown.and_then(|one| one["outward"].as_str().map(str::to_owned)).unwrap_or_default();
        let first = self.state.round.is_none();
        let default = if self.in_lab() && first { "gangway.skerry.example" } else { &outward };
        let dialled = self.asks("dialled", "what name or address do devices dial", &[], default)?;
        tell!(
            "  never, or hours such as \"daily 03:00-05:00\": then a newer agent that you sent there, or a signed package, is taken"
        );
        tell!("  at that time without a person, and goes back by itself if it does not work.");
        let updates = self.asks("updates", "when may its program be upgraded without you", &[], "never")?;
        self.runs(
            &format!("gateway {host}"),
            &["gateway", "create", &host, "--host", &host, "--dialled", &dialled, "--updates", &updates],
        )
    }

    /// The gateway of this round; nothing before it is made.
    fn gateway(&self) -> String {
        let host = self.host_name();
        let list = self.json(&["gateway", "list"]);
        let on_it = list.as_array().into_iter().flatten().find(|one| one["host"] == host.as_str());
        on_it.and_then(|one| one["name"].as_str()).unwrap_or_default().to_owned()
    }

    /// The listener of this round; nothing before it is open.
    fn listener(&self) -> String {
        let prefix = format!("{}/", self.gateway());
        self.names("listener").into_iter().find(|name| name.starts_with(&prefix)).unwrap_or_default()
    }

    fn open(&mut self) -> Step {
        let gateway = self.gateway();
        let step = format!("listener {gateway}");
        if !self.listener().is_empty() && !self.state.done.contains_key(&step) {
            tell!("  The listener {} is open.", self.listener());
            return Ok(());
        }
        tell!("  One UDP port must be open towards the gateway, and nothing else.");
        let port = self.asks("port", "which port; free takes one that nothing uses", &[], "free")?;
        let mut words = vec!["listener", "open", &gateway];
        if port != "free" {
            words.extend(["--port", &port]);
        }
        if self.in_lab() && self.state.round.is_none() {
            words.extend(["--resolvers", "10.44.0.20"]);
        }
        self.runs(&step, &words)
    }

    fn install(&mut self) -> Step {
        let gateway = self.gateway();
        self.runs(&format!("rollout {gateway}"), &["rollout", "--yes"])?;
        self.runs(&format!("ports {gateway}"), &["port", "list"])?;
        tell!("  That port must also be open in whatever stands in front: a provider's firewall, or a router that");
        tell!("  forwards it to this machine.");
        Ok(())
    }

    fn reach(&mut self) -> Step {
        if !self.state.done.contains_key(&format!("listener {}", self.gateway())) {
            // It was open before, and reaches what was said then.
            return Ok(());
        }
        let reaches = [
            ("site", "the networks of the site; everything else of the device goes its usual way"),
            (
                "everything",
                "all that the device does goes through the tunnel: privacy on foreign networks, at some speed",
            ),
            ("ranges", "only some addresses, which are asked for next"),
        ];
        let mut reach = self.asks("reach", "what may be reached through the tunnel", &reaches, "site")?;
        if reach == "site" {
            return Ok(());
        }
        if reach == "ranges" {
            reach = self.asks("ranges", "which, separated by commas", &[], "")?;
        }
        let listener = self.listener();
        self.runs(&format!("reach {listener}"), &["listener", "change", &listener, "--reach", &reach])?;
        self.runs(&format!("reach {listener} {reach}"), &["rollout", "--yes"])
    }

    fn device(&self) -> String {
        format!("{}/{}", self.answer("user"), self.answer("device"))
    }

    fn who(&mut self) -> Step {
        tell!("  One credential for each device of a person: a lost phone then does not cost the laptop.");
        let first = self.state.round.is_none();
        let user = self.asks("user", "who is to come in", &[], if self.in_lab() && first { "mara" } else { "" })?;
        let device = self.asks("device", "with which device", &[], if first { "laptop" } else { "" })?;
        let name = format!("{user}/{device}");
        let list = self.json(&["credential", "list"]);
        let has = list.as_array().into_iter().flatten().any(|row| {
            row["name"].as_str().is_some_and(|one| one.starts_with(&format!("{name}/"))) && row["state"] != "revoked"
        });
        if has && !self.state.done.contains_key(&format!("credential {name}")) {
            tell!("  {name} has a credential already, and keeps it; yestrel credential renew {name} makes another.");
            return Err(Stop::Again);
        }
        tell!("  A time from now such as 90d or 1y, or never.");
        let until = self.asks("until", "for how long", &[], "1y")?;
        if !self.names("user").contains(&user) {
            self.runs(&format!("user {user}"), &["user", "add", &user])?;
        }
        if !self.names("device").contains(&name) {
            self.runs(&format!("device {name}"), &["device", "add", &name])?;
        }
        if !has {
            let mut words = vec!["credential", "issue", &name];
            if until != "1y" {
                words.extend(["--until", &until]);
            }
            self.runs(&format!("credential {name}"), &words)?;
        }
        self.runs(&format!("admit {name}"), &["rollout", "--yes"])
    }

    fn hand_over(&mut self) -> Step {
        let device = self.device();
        tell!("  The handover holds the key of the device: whoever has this file can come in. It is given out once.");
        let file = self.asks("file", "the file to write", &[], &format!("{}.yestrel", device.replace('/', "-")))?;
        self.runs(&format!("handover {device}"), &["credential", "handover", &device, "--to", &file, "--yes"])?;
        if self.state.round.is_some() {
            tell!(
                "  Carry {file} to {device}, by a way that nobody reads along, and run there:  yestrel connect {file}"
            );
        }
        Ok(())
    }

    fn connect(&mut self) -> Step {
        let file = self.answer("file");
        let own = [
            ("here", "this machine is the device; its routes are changed, which needs root"),
            ("proxy", "this machine, for programs that use a proxy; needs no root"),
            ("elsewhere", "another machine: the file is carried there"),
        ];
        if self.in_lab() {
            let mut words = vec!["lab", "enter", "mara-laptop", "--", "yestrel", "connect", &file, "--background"];
            if crate::lab::has_no_networks() {
                words.extend(["--proxy", "127.0.0.1:0"]);
            }
            return self.runs("connect", &words);
        }
        let default = if nix::unistd::geteuid().is_root() { "here" } else { "proxy" };
        match self.asks("from", "which machine is the device", &own, default)?.as_str() {
            "here" => self.runs("connect", &["connect", &file, "--background"]),
            "proxy" => self.runs("connect", &["connect", &file, "--background", "--proxy", "127.0.0.1:1080"]),
            _ => {
                tell!("  Carry {file} there, by a way that nobody reads along, and run there:");
                tell!("    yestrel connect {file}");
                self.wait_for_session()
            }
        }
    }

    /// Looks at the gateway until the device is in, or the person has had enough.
    fn wait_for_session(&mut self) -> Step {
        let device = self.device();
        tell!("  Waiting for {device} at the gateway. An empty line stops that.");
        let (give_up, given_up) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut line = String::new();
            let _ = std::io::stdin().lock().read_line(&mut line);
            let _ = give_up.send(());
        });
        let end = Instant::now() + Duration::from_secs(3600);
        while Instant::now() < end {
            let sessions = self.json(&["session", "list"]);
            if sessions.as_array().into_iter().flatten().any(|session| session["device"] == device.as_str()) {
                tell!("  {device} is in. (Press return.)");
                let _ = given_up.recv();
                return Ok(());
            }
            if given_up.recv_timeout(Duration::from_secs(1)).is_ok() {
                return Err(Stop::Again);
            }
        }
        Err(Stop::Again)
    }

    fn prove(&mut self) -> Step {
        let elsewhere = self.answer("from") == "elsewhere";
        if !elsewhere {
            tell!("  Something behind the gateway that takes connections, as address:port; or none.");
            let target = self.asks(
                "target",
                "what is to be reached",
                &[],
                if self.in_lab() { "10.44.0.20:80" } else { "none" },
            )?;
            let mut words =
                if self.in_lab() { vec!["lab", "enter", "mara-laptop", "--", "yestrel"] } else { Vec::new() };
            words.extend(["tunnel", "prove"]);
            if target != "none" {
                words.extend(["--reach", &target]);
            }
            self.runs("prove", &words)?;
        }
        self.state.done.remove("sessions");
        self.runs("sessions", &["session", "list"])?;
        let sessions = self.json(&["session", "list"]);
        let device = self.device();
        let there = sessions.as_array().into_iter().flatten().find(|session| session["device"] == device.as_str());
        let Some(session) = there else {
            tell!("  The gateway does not see {device}.");
            return Err(Stop::Again);
        };
        let heard = session["received"].as_u64().unwrap_or_default();
        tell!("\nIt works: the gateway sees {device}, and has had {heard} bytes from it.");
        if self.in_lab() {
            tell!("yestrel lab stop   ends the practice.");
        }
        tell!("When a device is lost: yestrel credential revoke {device} --reason lost");
        let _ = std::io::stderr().flush();
        Ok(())
    }
}
