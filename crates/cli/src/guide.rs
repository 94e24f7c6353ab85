//! `yestrel guide`: from nothing to a proved tunnel, for somebody who does this twice a year.
//!
//! It asks, and runs the very commands that are shown; so what it did can be kept as a script, and done by hand the next time.

use std::collections::BTreeMap;
use std::io::{BufRead as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use clap::Args;
use serde::{Deserialize, Serialize};
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::global::Global;
use crate::interview::{choose, line_of};
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
        let text = format!("#!/bin/sh -e\n{}\n", guide.state.lines.join("\n"));
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
    /// All steps in their order, each again until it succeeds.
    fn play(&mut self, file: &Path) -> Result<()> {
        let chapters: [Chapter<'a>; 10] = [
            ("Where", &["estate", "where", "via", "key"], Self::estate_site_and_host),
            ("The site and its host", &["site", "network", "kind"], Self::host),
            ("What name is dialled", &["dialled", "updates"], Self::dialled),
            ("What must open, and where", &["port"], Self::open),
            ("Install", &[], Self::install),
            ("What may be reached", &["reach", "ranges"], Self::reach),
            ("Who, and which device", &["user", "device", "until"], Self::who),
            ("Hand over", &["file"], Self::hand_over),
            ("Connect", &["from"], Self::connect),
            ("Prove", &["target"], Self::prove),
        ];
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
        // Where the answers are a list of words, only these lead anywhere.
        while !answers.is_empty() && !answers.iter().any(|(choice, _)| *choice == answer || choice.contains(' ')) {
            tell!("  {answer:?} is none of these");
            answer = choose(what, &lines, default)?;
        }
        self.state.answers.insert(key.to_owned(), answer.clone());
        let mut name = self.estate.file_name().unwrap_or_default().to_owned();
        name.push(".guide");
        let _ = self.save(&self.estate.with_file_name(name));
        Ok(answer)
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
        self.state.lines.push(line);
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
        let (site, host) = if self.in_lab() { ("harbour", "harbour") } else { ("home", "gateway") };
        tell!("  A site is one place with its networks, such as your home, or an office.");
        let site = self.asks("site", "a name for the site", &[], site)?;
        tell!(
            "  The network behind the gateway that is to be reached, such as 192.168.40.0/24; or none, for the machine alone."
        );
        let default = if self.in_lab() { "10.44.0.0/22" } else { "none" };
        let network = self.asks("network", "the network of the site", &[], default)?;
        let mut words = vec!["site", "add", &site];
        if network != "none" {
            words.extend(["--network", &network]);
        }
        if !self.names("site").contains(&site) {
            self.runs("site", &words)?;
        }
        let kinds = [
            ("computer", "a machine of your own"),
            ("cloud", "a rented one"),
            ("router", "a router that runs Linux and lets you in over SSH"),
            ("storage", "a storage appliance that lets you in over SSH"),
        ];
        let kind =
            self.asks("kind", "what kind of machine is it", &kinds, if self.in_lab() { "cloud" } else { "computer" })?;
        if self.names("host").contains(&host.to_owned()) {
            return Ok(());
        }
        let (via, key) = (self.answer("via"), self.answer("key"));
        let mut words = vec!["host", "add", host, "--site", &site, "--kind", &kind];
        words.extend(["--via", if self.in_lab() { "lab" } else { &via }]);
        if !self.in_lab() && key != "none" {
            words.extend(["--key", &key]);
        }
        let added = self.runs("host", &words);
        if added.is_err() {
            // How it is reached was asked in the step before; it is asked again together with this one.
            self.state.answers.remove("via");
            self.state.answers.remove("key");
            self.estate_site_and_host()?;
        }
        added
    }

    fn host_name(&self) -> String {
        self.names("host").first().cloned().unwrap_or_else(|| "gateway".into())
    }

    fn dialled(&mut self) -> Step {
        let host = self.host_name();
        tell!(
            "  Everything later hangs on it: a name that leads to the gateway from outside, now and next year, or an"
        );
        tell!("  address that does not change. Behind a router it is the router's, not the machine's own.");
        let shown = self.json(&["host", "list"]);
        let outward = shown[0]["outward"].as_str().unwrap_or_default().to_owned();
        let default = if self.in_lab() { "gangway.skerry.example" } else { &outward };
        let dialled = self.asks("dialled", "what name or address do devices dial", &[], default)?;
        tell!(
            "  never, or hours such as \"daily 03:00-05:00\": then a newer agent that you sent there, or a signed package, is taken"
        );
        tell!("  at that time without a person, and goes back by itself if it does not work.");
        let updates = self.asks("updates", "when may its program be upgraded without you", &[], "never")?;
        if !self.names("gateway").is_empty() {
            return Ok(());
        }
        self.runs(
            "gateway",
            &["gateway", "create", &host, "--host", &host, "--dialled", &dialled, "--updates", &updates],
        )
    }

    fn gateway(&self) -> String {
        self.names("gateway").first().cloned().unwrap_or_default()
    }

    fn open(&mut self) -> Step {
        let gateway = self.gateway();
        tell!("  One UDP port must be open towards the gateway, and nothing else.");
        let port = self.asks("port", "which port; free takes one that nothing uses", &[], "free")?;
        if self.names("listener").is_empty() {
            let mut words = vec!["listener", "open", &gateway];
            if port != "free" {
                words.extend(["--port", &port]);
            }
            if self.in_lab() {
                words.extend(["--resolvers", "10.44.0.20"]);
            }
            self.runs("listener", &words)?;
        }
        Ok(())
    }

    fn install(&mut self) -> Step {
        self.runs("rollout", &["rollout", "--yes"])?;
        self.runs("ports", &["port", "list"])?;
        tell!("  That port must also be open in whatever stands in front: a provider's firewall, or a router that");
        tell!("  forwards it to this machine.");
        Ok(())
    }

    fn reach(&mut self) -> Step {
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
        let listener = self.names("listener").first().cloned().unwrap_or_default();
        self.runs("reach", &["listener", "change", &listener, "--reach", &reach])?;
        self.runs(&format!("reach {reach}"), &["rollout", "--yes"])
    }

    fn device(&self) -> String {
        format!("{}/{}", self.answer("user"), self.answer("device"))
    }

    fn who(&mut self) -> Step {
        tell!("  One credential for each device of a person: a lost phone then does not cost the laptop.");
        let user = self.asks("user", "who is to come in", &[], if self.in_lab() { "mara" } else { "" })?;
        let device = self.asks("device", "with which device", &[], "laptop")?;
        tell!("  A time from now such as 90d or 1y, or never.");
        let until = self.asks("until", "for how long", &[], "1y")?;
        let name = format!("{user}/{device}");
        if !self.names("user").contains(&user) {
            self.runs("user", &["user", "add", &user])?;
        }
        if !self.names("device").contains(&name) {
            self.runs("device", &["device", "add", &name])?;
        }
        let list = self.json(&["credential", "list"]);
        let has = list
            .as_array()
            .into_iter()
            .flatten()
            .any(|row| row["device"] == name.as_str() && row["state"] != "revoked");
        if !has {
            let mut words = vec!["credential", "issue", &name];
            if until != "never" {
                words.extend(["--until", &until]);
            }
            self.runs("credential", &words)?;
        }
        self.runs(&format!("admit {name}"), &["rollout", "--yes"])
    }

    fn hand_over(&mut self) -> Step {
        let device = self.device();
        tell!("  The handover holds the key of the device: whoever has this file can come in. It is given out once.");
        let file = self.asks("file", "the file to write", &[], &format!("{}.yestrel", device.replace('/', "-")))?;
        self.runs("handover", &["credential", "handover", &device, "--to", &file, "--yes"])
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
            if self.json(&["lab", "show"])["mode"] == "processes" {
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
