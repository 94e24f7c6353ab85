//! `yestrel connect`

use std::net::SocketAddr;
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use clap::Args;
use yestrel_actions::credential::handover;
use yestrel_core::admission::is_everything;
use yestrel_core::exchange::device::{Answer, Status, TunnelState, TunnelStatus};
use yestrel_core::{Problem, Result, name};
use yestrel_device::connect::{self, NOT_ASKED, Options, Told};
use yestrel_device::notices::{self, Kept};
use yestrel_device::{running, ways};

use crate::ask;
use crate::global::Global;
use crate::output::Output;

#[derive(Args)]
#[command(
    after_help = "Example:\n  yestrel connect mara-laptop.yestrel\n  yestrel connect mara-laptop.yestrel --background\n  yestrel connect mara-laptop.yestrel --proxy 127.0.0.1:1080   (needs no root)"
)]
pub struct Arguments {
    /// The handover
    file: PathBuf,
    /// Return as soon as the tunnel is up; `yestrel tunnel stop` ends it
    #[arg(long)]
    background: bool,
    /// Change nothing on this system: offer the tunnel to programs as SOCKS5 and HTTP CONNECT at this loopback
    /// address; port 0 for a free one
    #[arg(long, value_name = "ADDRESS:PORT")]
    proxy: Option<SocketAddr>,
    /// Let nothing out beside the tunnel, even while it is down or after a crash
    #[arg(long, conflicts_with = "proxy")]
    strict: bool,
    /// A way notice from the administrator, a file or a link: what has become of the ways in since the handover. It is kept beside the handover
    #[arg(long, value_name = "FILE|LINK")]
    notice: Option<String>,
    /// The tunnel's name here [default: the first gateway of the handover]
    #[arg(long)]
    name: Option<String>,
    /// For one session on a machine that is not one's own: the handover's file is deleted, and nothing is left behind
    #[arg(long, conflicts_with = "background")]
    once: bool,
    /// A file with the private key, in base64, of a pair that was made on this device
    #[arg(long, value_name = "FILE")]
    private_key: Option<PathBuf>,
    /// A file with the handover's passphrase
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
}

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    let output = global.output();
    let what = format!("the handover {}", arguments.file.display());
    let passphrase = || ask::passphrase(&what, arguments.passphrase_file.as_deref());
    let mut handover = handover::open(&arguments.file, &passphrase, arguments.private_key.as_deref())?;
    let beside = notices::beside(&arguments.file)?;
    let (mut kept, words, wrong) = Kept::load(beside.clone(), &mut handover);
    say_changes(output, &words);
    if let Some(problem) = wrong {
        output.note(&format!("{} is left alone: {}", beside.display(), problem.line()));
    }
    if let Some(what) = &arguments.notice {
        let (number, words) = kept.take(&notices::read(what)?, &mut handover)?;
        if !arguments.once {
            kept.write(&handover.holder)?;
        }
        output.note(&format!("took notice {number}"));
        say_changes(output, &words);
    }
    let tunnel = match &arguments.name {
        Some(name) => name.clone(),
        None => handover.ways.first().map(|way| way.gateway.clone()).unwrap_or_default(),
    };
    name::check("tunnel", &tunnel)?;
    if arguments.background {
        return in_background(output, arguments, &tunnel);
    }
    let options = Options {
        folder: running::folder()?,
        handover,
        notices: kept,
        keep_notices: !arguments.once,
        name: tunnel,
        proxy: arguments.proxy,
        strict: arguments.strict,
        kinds: ways::all(),
    };
    let asking = Arc::new(AtomicBool::new(false));
    let told = |told: Told| {
        if let Told::Asked(asks) = &told
            && ask::somebody_there()
            && !asking.swap(true, Ordering::Relaxed)
        {
            let (tunnel, asks, asking) = (options.name.clone(), asks.clone(), asking.clone());
            std::thread::spawn(move || {
                answer_here(&tunnel, asks);
                asking.store(false, Ordering::Relaxed);
            });
            return;
        }
        tell(output, told);
    };
    if !arguments.once {
        return connect::run(&options, &told);
    }
    connect::may_begin(&options)?;
    // The key is in memory from here on; its file must not outlive this, however the session ends.
    forget(&arguments.file)?;
    if beside.exists() {
        forget(&beside)?;
    }
    let ended = connect::run(&options, &told);
    running::leave_no_trace(&options.name);
    ended
}

fn say_changes(output: Output, words: &[String]) {
    for words in words {
        output.note(&format!("the estate says: {words}"));
    }
}

/// Overwrites a file, as far as its file system lets that reach the disk, and deletes it.
fn forget(file: &std::path::Path) -> Result<()> {
    let erase = || {
        let mut open = std::fs::OpenOptions::new().write(true).open(file)?;
        let length = open.metadata()?.len();
        std::io::copy(&mut std::io::Read::take(std::io::repeat(0), length), &mut open)?;
        open.sync_all()?;
        std::fs::remove_file(file)
    };
    erase().map_err(|error| {
        Problem::failed(format!("the handover {} cannot be deleted", file.display()))
            .why(format!("{error}; with --once nothing is left behind, so nothing was begun"))
            .try_("put it where it can be deleted, or leave --once out")
    })
}

pub(crate) fn tell(output: Output, told: Told) {
    match told {
        Told::Trying { way, peer } => output.note(&format!("trying {way} ({})", peer.ip())),
        Told::Up(status) => {
            for line in describe(&status) {
                output.say(&line);
            }
        }
        Told::Asked(what) => output.note(&format!("the gateway asks for {what}")),
        Told::Note(text) => output.note(&text),
        Told::Lost => output.note("the gateway is not heard any more; opening anew"),
    }
}

/// What a person wants to know when a tunnel is up.
fn describe(status: &TunnelStatus) -> Vec<String> {
    let four = status.inner.map(|inner| inner.to_string());
    let inners: Vec<_> = four.into_iter().chain(status.inner6.map(|inner| inner.to_string())).collect();
    let reach: Vec<_> = status.reach.iter().map(ToString::to_string).collect();
    let resolvers: Vec<_> = status.resolvers.iter().map(ToString::to_string).collect();
    let goes = if is_everything(&status.reach) { "everything".to_owned() } else { reach.join(", ") };
    let mut lines = vec![
        format!("up  {} is in at {} by {}, as {}", status.holder, status.gateway, status.way, inners.join(", ")),
        format!("    goes through it: {goes}"),
    ];
    if is_everything(&status.reach) && status.proxy.is_none() && status.inner6.is_none() {
        lines.push("    blocked beside it: IPv6".into());
    }
    match (resolvers.is_empty(), status.domains.is_empty()) {
        (false, false) => {
            lines.push(format!("    names in {} are looked up at {}", status.domains.join(", "), resolvers.join(", ")));
        }
        (false, true) if is_everything(&status.reach) || status.proxy.is_some() => {
            lines.push(format!("    names are looked up at {}", resolvers.join(", ")));
        }
        _ => {}
    }
    if let Some(proxy) = status.proxy {
        lines.push(format!("    for programs: SOCKS5 and HTTP CONNECT at {proxy}"));
    }
    lines
}

/// Starts the same command again without a terminal, and waits until its tunnel is up.
fn in_background(output: Output, arguments: &Arguments, tunnel: &str) -> Result<()> {
    if arguments.passphrase_file.is_none()
        && std::fs::read_to_string(&arguments.file).is_ok_and(|text| text.starts_with("-----BEGIN"))
    {
        return Err(
            Problem::words("in the background nobody can be asked for the passphrase").try_("--passphrase-file FILE")
        );
    }
    let mut command = Command::new(std::env::current_exe().map_err(failed)?);
    command.arg("connect").arg(&arguments.file).args(["--name", tunnel]);
    if let Some(proxy) = arguments.proxy {
        command.args(["--proxy", &proxy.to_string()]);
    }
    if arguments.strict {
        command.arg("--strict");
    }
    for (option, path) in [("--private-key", &arguments.private_key), ("--passphrase-file", &arguments.passphrase_file)]
    {
        if let Some(path) = path {
            command.arg(option).arg(path);
        }
    }
    wait_until_up(output, command, tunnel)
}

/// Gives a tunnel the answer to what its gateway asks for, and waits for what becomes of it: what is asked now, or nothing, where it was right.
///
/// # Errors
/// There is no such tunnel, it ended over it, or the gateway says nothing.
pub(crate) fn give_answer(tunnel: &str, code: &str) -> Result<Option<String>> {
    let before = running::ask(tunnel, &Status)?.asks;
    running::ask(tunnel, &Answer { code: code.trim().to_owned() })?;
    let patience = Instant::now() + Duration::from_secs(10);
    while Instant::now() < patience {
        match running::ask(tunnel, &Status) {
            Ok(status) if status.asks.is_none() => return Ok(None),
            Ok(status) if status.asks != before => return Ok(status.asks),
            Ok(_) => {}
            Err(problem) => {
                let ended = running::ended()?.into_iter().find(|ended| ended.name == tunnel);
                return Err(ended.map_or(problem, |ended| ended.problem));
            }
        }
        std::thread::park_timeout(Duration::from_millis(30));
    }
    Err(Problem::failed("the gateway has not said whether that was right").try_("yestrel tunnel list"))
}

/// Asks whoever sits here, in the foreground of a tunnel, until its gateway is content or the tunnel ends.
fn answer_here(tunnel: &str, mut asks: String) {
    while let Ok(code) = ask::answer(&asks) {
        match give_answer(tunnel, &code) {
            Ok(Some(more)) => asks = more,
            Ok(None) | Err(_) => return,
        }
    }
}

fn failed(error: std::io::Error) -> Problem {
    Problem::failed("the tunnel cannot be started").why(error.to_string())
}

/// Starts a command of this program that brings a tunnel up, and waits until it is.
pub(crate) fn start(output: Output, words: &[&str], tunnel: &str) -> Result<()> {
    let mut command = Command::new(std::env::current_exe().map_err(failed)?);
    command.args(words);
    wait_until_up(output, command, tunnel)
}

/// What another run of this program said when it failed, as its own words.
fn said(log: &str, status: Option<i32>) -> Problem {
    let lines = |label: &'static str| log.lines().filter_map(move |line| line.trim_start().strip_prefix(label));
    let Some(error) = lines("error: ").next_back() else {
        let last = log.lines().last().unwrap_or("it ended without a word");
        return Problem::failed("the tunnel did not come up").why(last);
    };
    let problem = match status {
        Some(2) => Problem::words(error),
        Some(3) => Problem::refused(error),
        _ => Problem::failed(error),
    };
    let problem = lines("why: ").next_back().into_iter().fold(problem, Problem::why);
    lines("try: ").fold(problem, Problem::try_)
}

/// A tunnel that has just come up asks for something: whoever started it answers, or is told how.
fn asked_at_once(output: Output, tunnel: &str, asks: Option<String>) -> Result<()> {
    let Some(mut asks) = asks else { return Ok(()) };
    // Its question is on the way.
    let patience = Instant::now() + Duration::from_secs(2);
    while asks == NOT_ASKED && Instant::now() < patience {
        std::thread::park_timeout(Duration::from_millis(30));
        match running::ask(tunnel, &Status)?.asks {
            Some(now) => asks = now,
            None => return Ok(()),
        }
    }
    if !ask::somebody_there() {
        output.note(&format!("nothing passes yet: it asks for {asks}; yestrel tunnel answer {tunnel}"));
        return Ok(());
    }
    while let Some(more) = give_answer(tunnel, &ask::answer(&asks)?)? {
        asks = more;
    }
    output.say("that was right: the tunnel is open");
    Ok(())
}

fn wait_until_up(output: Output, mut command: Command, tunnel: &str) -> Result<()> {
    let log = running::folder()?.join(format!("{tunnel}.log"));
    let file = std::fs::File::create(&log).map_err(failed)?;
    let errors = file.try_clone().map_err(failed)?;
    let mut child =
        command.stdin(Stdio::null()).stdout(file).stderr(errors).process_group(0).spawn().map_err(failed)?;
    let patience = Instant::now() + Duration::from_secs(60);
    while Instant::now() < patience {
        if let Ok(Some(status)) = child.try_wait() {
            let ended = running::ended()?.into_iter().find(|ended| ended.name == tunnel);
            return Err(match ended {
                Some(ended) => ended.problem,
                None => said(&std::fs::read_to_string(&log).unwrap_or_default(), status.code()),
            });
        }
        if let Ok(status) = running::ask(tunnel, &Status)
            && status.state == TunnelState::Up
            && status.pid == child.id()
        {
            for line in describe(&status) {
                output.say(&line);
            }
            return asked_at_once(output, tunnel, status.asks);
        }
        std::thread::park_timeout(Duration::from_millis(30));
    }
    let _ = child.kill();
    Err(Problem::failed("the tunnel did not come up within a minute").try_(format!("its log: {}", log.display())))
}
