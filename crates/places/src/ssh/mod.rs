//! A host that is reached over SSH (RFC 4251 to 4254). The agent's program is brought there once, and then does on the
//! host itself what is asked: the messages are those of every other place, one a line, over the standard input and output of
//! that program.
//!
//! | file | its job |
//! |---|---|
//! | `connection` | one connection: host keys, signing in, commands, files |
//! | `look` | what the host is, before anything is there |

mod connection;
mod look;

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use sha2::{Digest as _, Sha256};
use tokio::runtime::Runtime;
use yestrel_core::estate::{Access, SshTarget};
use yestrel_core::exchange::Answered;
use yestrel_core::exchange::host::{Ask, HELLO};
use yestrel_core::{Problem, Result};

use crate::{Manage, Person, Whose};
use connection::{Connection, Login, Running};
use look::{Look, Root};

/// The longest that anything asked of a host may take: an upgrade that goes back by itself.
const PATIENCE: Duration = Duration::from_secs(100);
/// Waiting for the program to begin; sudo on a host whose name does not resolve takes its time.
const GREETING_PATIENCE: Duration = Duration::from_secs(40);
/// Asked for a password, sudo says this and nothing else.
const SUDO_ASKS: &str = "yestrel-asks";

/// One host behind an SSH server.
pub struct SshHost {
    host: String,
    target: SshTarget,
    access: Mutex<Access>,
    person: Arc<dyn Person>,
    open: Mutex<Option<Open>>,
    /// Nothing is brought there.
    as_it_is: AtomicBool,
}

/// A connection with the managing program at its other end.
struct Open {
    runtime: Runtime,
    /// Stays open as long as the one through it.
    _jump: Option<Connection>,
    connection: Connection,
    look: Look,
    running: Option<Running>,
}

/// How the program on the host began.
enum Greeting {
    Here(Running),
    /// It did not, because the password for sudo is another one.
    WrongPassword,
}

/// The program for a host: the bytes, and their SHA-256 in hexadecimal.
struct Program {
    bytes: Vec<u8>,
    hash: String,
}

fn hex(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

impl SshHost {
    /// The host behind this server. Nothing is connected yet.
    ///
    /// # Errors
    /// Never yet; a place may refuse to be opened.
    pub fn new(host: &str, target: &SshTarget, access: &Access, person: Arc<dyn Person>) -> Result<Self> {
        let (target, access) = (target.clone(), Mutex::new(access.clone()));
        Ok(Self { host: host.into(), target, access, person, open: Mutex::default(), as_it_is: AtomicBool::new(false) })
    }

    fn access_now(&self) -> Access {
        self.access.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Connects, and looks at the host.
    fn connect(&self) -> Result<Open> {
        let failed = |error: std::io::Error| Problem::failed("no connection can be made here").why(error.to_string());
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
        let mut access = self.access_now();
        let key_file = access.key_file.as_ref().map(PathBuf::from);
        let (jump, connection, look) = runtime.block_on(async {
            let jump = match &access.jump {
                None => None,
                Some(target) => {
                    let login = Login {
                        host: &self.host,
                        target,
                        key_file: key_file.as_deref(),
                        pinned: access.jump_key.as_deref(),
                        person: &*self.person,
                        whose: Whose::Jump,
                    };
                    Some(login.direct().await?)
                }
            };
            let login = Login {
                host: &self.host,
                target: &self.target,
                key_file: key_file.as_deref(),
                pinned: access.host_key.as_deref(),
                person: &*self.person,
                whose: Whose::Host,
            };
            let connection = match &jump {
                Some(jump) => login.through(jump).await?,
                None => login.direct().await?,
            };
            let came = connection.run(&look::command()).await?;
            let look =
                Look::read(&self.host, &String::from_utf8_lossy(&came.out), &String::from_utf8_lossy(&came.err))?;
            Ok::<_, Problem>((jump, connection, look))
        })?;
        access.host_key = Some(connection.key.clone());
        access.jump_key = jump.as_ref().map(|jump| jump.key.clone());
        *self.access.lock().unwrap_or_else(PoisonError::into_inner) = access;
        Ok(Open { runtime, _jump: jump, connection, look, running: None })
    }

    /// The program that runs on a host with this processor.
    fn program(&self, processor: &str) -> Result<Program> {
        let named = self.access_now().agent_binary.map(PathBuf::from);
        let path = match (&named, processor == std::env::consts::ARCH) {
            (Some(named), _) => named.clone(),
            (None, true) => PathBuf::from("/proc/self/exe"),
            (None, false) => {
                return Err(Problem::refused(format!(
                    "the host {} has the processor {processor}, and this program is for {}",
                    self.host,
                    std::env::consts::ARCH
                ))
                .why("an agent runs only on the processor that it was built for")
                .try_(format!("yestrel host change {} --agent-binary FILE   a package for {processor}", self.host)));
            }
        };
        let bytes = match &named {
            None => std::fs::read(&path)
                .map_err(|error| Problem::failed("this program cannot be read").why(error.to_string()))?,
            Some(package) => yestrel_host::package::program(package)?,
        };
        if let Some(built_for) = built_for(&bytes).filter(|built_for| *built_for != processor) {
            return Err(Problem::refused(format!("{} is for the processor {built_for}", path.display()))
                .why(format!("the host {} has {processor}", self.host))
                .try_(format!("yestrel host change {} --agent-binary FILE   a package for {processor}", self.host)));
        }
        let hash = hex(&bytes);
        Ok(Program { bytes, hash })
    }

    /// Brings the program to the host's stage: not at all if it is there, the rest of it if it was cut.
    fn bring(&self, open: &mut Open) -> Result<String> {
        let look = &open.look;
        if self.as_it_is.load(Ordering::Relaxed) {
            return match look.installed {
                Some(_) => Ok("/opt/yestrel/yestrel".into()),
                None => Err(Problem::failed(format!("no agent is on the host {}", self.host))
                    .why("it was replaced or wiped, or never had one")
                    .try_("yestrel rollout")),
            };
        }
        let stage = look.stage.clone().ok_or_else(|| {
            Problem::refused(format!("the host {} has no place for the agent's program", self.host))
                .why("neither the home folder nor /var/tmp nor /tmp can be written and run from: the disk is full, or the system read-only")
                .try_("make room, or make one of them writable, on the host")
        })?;
        let program = self.program(&look.processor)?;
        let path = format!("{stage}/program");
        if look.program.as_ref() == Some(&program.hash) {
            return Ok(path);
        }
        if look.installed.as_ref() == Some(&program.hash) {
            return Ok("/opt/yestrel/yestrel".into());
        }
        let whole = program.bytes.len() as u64;
        let from = match &look.part {
            Some((length, hash)) if *length <= whole && hex(&program.bytes[..*length as usize]) == *hash => *length,
            _ => 0,
        };
        if let Some(free) = look.free.filter(|free| *free < whole - from) {
            return Err(Problem::refused(format!("the host {} has no room for the agent's program", self.host))
                .why(format!(
                    "{} MB are free where it would lie, {} MB are needed",
                    free / 1_000_000,
                    whole / 1_000_000
                ))
                .try_("make room on the host"));
        }
        let what = format!("agent to {}", self.host);
        let told = |sent: u64| self.person.progress(&what, from + sent, whole);
        let redirect = if from > 0 { ">>" } else { ">" };
        let command = format!("/bin/sh -c 'umask 077; cat {redirect} {stage}/part'");
        let rest = &program.bytes[from as usize..];
        let came = open.runtime.block_on(open.connection.feed(&command, rest, &told))?;
        let complained = String::from_utf8_lossy(&came.err).trim().to_owned();
        if came.status != Some(0) {
            return Err(Problem::failed(format!("the agent's program cannot be brought to the host {}", self.host))
                .why(if complained.is_empty() { "the connection broke off".to_owned() } else { complained })
                .try_("the same command again: it goes on where it was cut"));
        }
        let command = format!("/bin/sh -c 'cd {stage} && chmod 700 part && mv -f part program'");
        open.runtime.block_on(open.connection.run(&command))?;
        let came = open.runtime.block_on(open.connection.run(&look::command()))?;
        open.look = Look::read(&self.host, &String::from_utf8_lossy(&came.out), &String::from_utf8_lossy(&came.err))?;
        if open.look.program.as_ref() != Some(&program.hash) {
            return Err(Problem::failed(format!(
                "the agent's program did not arrive at the host {} as it was sent",
                self.host
            ))
            .why("its hash is another one there; a tool for SHA-256 may be missing on the host")
            .try_("the same command again"));
        }
        Ok(path)
    }

    /// Starts the program on the host, as root.
    fn begin(&self, open: &mut Open) -> Result<()> {
        let path = self.bring(open)?;
        let managed_on = open.look.managed_on.map(|port| format!(" --managed-on {port}")).unwrap_or_default();
        let command = format!("{path} agent manage{managed_on}");
        let running = match open.look.root {
            Root::Self_ => {
                let running = open.runtime.block_on(open.connection.start(&command))?;
                self.greet_without_password(open, running)?
            }
            Root::Free => {
                let running = open.runtime.block_on(open.connection.start(&format!("sudo -n {command}")))?;
                self.greet_without_password(open, running)?
            }
            Root::Asks => self.with_password(open, &command)?,
            Root::None => {
                return Err(Problem::refused(format!("{} is not root on the host {}", self.target.user, self.host))
                    .why("an agent changes routes and firewall rules, and sudo is not there")
                    .try_(format!("yestrel host change {} --via ssh://root@...", self.host))
                    .try_("install sudo on the host, and let this user use it"));
            }
        };
        open.running = Some(running);
        Ok(())
    }

    fn with_password(&self, open: &mut Open, command: &str) -> Result<Running> {
        let command = format!("sudo -k -S -p '{SUDO_ASKS}' {command}");
        let user = &self.target.user;
        for _ in 0..3 {
            let password = self.person.secret(&format!("password of {user} for sudo on the host {}", self.host))?;
            let mut running = open.runtime.block_on(open.connection.start(&command))?;
            open.runtime.block_on(running.send_line(&open.connection, password.as_bytes()))?;
            match self.greet(open, running)? {
                Greeting::Here(running) => return Ok(running),
                Greeting::WrongPassword => {}
            }
        }
        Err(Problem::refused(format!("sudo on the host {} does not take the password", self.host))
            .why("it was wrong three times"))
    }

    fn greet_without_password(&self, open: &Open, running: Running) -> Result<Running> {
        match self.greet(open, running)? {
            Greeting::Here(running) => Ok(running),
            Greeting::WrongPassword => {
                let user = &self.target.user;
                Err(Problem::refused(format!("sudo on the host {} asks {user} for a password after all", self.host)))
            }
        }
    }

    /// Waits until the program says that it is there. What a shell says before is nobody's.
    fn greet(&self, open: &Open, mut running: Running) -> Result<Greeting> {
        loop {
            while let Some(line) = running.line_here() {
                if line == HELLO.as_bytes() {
                    return Ok(Greeting::Here(running));
                }
            }
            let said = String::from_utf8_lossy(&running.err).into_owned();
            // Asked a second time: the password was not taken, and it must not get what was meant for the program.
            if said.matches(SUDO_ASKS).count() > 1 {
                return Ok(Greeting::WrongPassword);
            }
            if !open.runtime.block_on(running.wait(&open.connection, GREETING_PATIENCE))? {
                return self.did_not_begin(open, &running);
            }
        }
    }

    /// Why the program ended before it had said that it is there.
    fn did_not_begin(&self, open: &Open, running: &Running) -> Result<Greeting> {
        let said = String::from_utf8_lossy(&running.err).replace(SUDO_ASKS, "");
        // There is nothing but its words by which sudo tells a wrong password from everything else.
        if said.contains("try again") || said.contains("incorrect password") {
            return Ok(Greeting::WrongPassword);
        }
        let last = said.trim().lines().last().unwrap_or_default().to_owned();
        if last.contains("sudo") {
            let user = &self.target.user;
            return Err(Problem::refused(format!("{user} may not become root on the host {}", self.host))
                .why(last)
                .try_(format!("on the host, as root: let {user} use sudo"))
                .try_(format!("yestrel host change {} --via ssh://root@...", self.host)));
        }
        let status = running.status.map_or("nothing".to_owned(), |status| format!("exit status {status}"));
        Err(Problem::failed(format!("the agent's program does not run on the host {}", self.host))
            .why(if last.is_empty() { status } else { last })
            .try_(format!("its kernel is {}; an agent needs 5.2 or newer", open.look.kernel)))
    }

    fn exchange_over(&self, open: &mut Open, question: &Ask) -> Result<Answered> {
        if open.running.is_none() {
            self.begin(open)?;
        }
        let Some(running) = &mut open.running else {
            return Err(Problem::failed(format!("nothing runs on the host {}", self.host)));
        };
        let line = zeroize::Zeroizing::new(serde_json::to_vec(question).unwrap_or_default());
        let (runtime, connection) = (&open.runtime, &open.connection);
        runtime.block_on(running.send_line(connection, &line))?;
        let line = runtime.block_on(running.line(connection, PATIENCE))?.ok_or_else(|| {
            let said = String::from_utf8_lossy(&running.err).trim().lines().last().unwrap_or_default().to_owned();
            Problem::failed(format!("the connection to the host {} broke off", self.host))
                .why(if said.is_empty() { "before it had answered".to_owned() } else { said })
                .try_("the same command again: what was done is not done twice")
        })?;
        serde_json::from_slice(&line).map_err(|_| {
            Problem::failed(format!("what comes from the host {} is no answer", self.host))
                .why("the program there is of another version, or stopped in the middle")
        })
    }
}

/// The processor that an ELF program is for (ELF header: bytes 18 and 19), in Rust's words.
fn built_for(bytes: &[u8]) -> Option<&'static str> {
    if !bytes.starts_with(b"\x7fELF") {
        return None;
    }
    match u16::from_le_bytes([*bytes.get(18)?, *bytes.get(19)?]) {
        62 => Some("x86_64"),
        183 => Some("aarch64"),
        40 => Some("arm"),
        _ => Some("another"),
    }
}

impl Manage for SshHost {
    fn exchange(&self, question: &Ask) -> Result<Answered> {
        let mut slot = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if slot.as_ref().is_some_and(|open| open.connection.is_closed()) {
            *slot = None;
        }
        let mut open = match slot.take() {
            Some(open) => open,
            None => self.connect()?,
        };
        let answered = self.exchange_over(&mut open, question)?;
        // A connection that did not answer is not used again; one that did stays.
        *slot = Some(open);
        Ok(answered)
    }

    fn as_it_is(&self) {
        self.as_it_is.store(true, Ordering::Relaxed);
    }

    fn afresh(&self) {
        if let Some(open) = self.open.lock().unwrap_or_else(PoisonError::into_inner).take() {
            open.runtime.block_on(open.connection.close());
        }
    }

    fn leave(&self) -> Result<()> {
        let mut slot = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let open = match slot.take() {
            Some(open) => open,
            None => self.connect()?,
        };
        if let Some(stage) = &open.look.stage {
            let command = format!("rm -rf {stage}");
            open.runtime.block_on(open.connection.run(&command))?;
        }
        open.runtime.block_on(open.connection.close());
        Ok(())
    }

    fn access(&self) -> Access {
        self.access_now()
    }
}

/// The fingerprint of a key as it is kept, SHA-256 in base64, as people compare it.
#[must_use]
pub fn fingerprint(kept: &str) -> Option<String> {
    let key = russh::keys::PublicKey::from_openssh(kept).ok()?;
    Some(key.fingerprint(russh::keys::HashAlg::Sha256).to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_processor_of_a_program_is_read_from_its_header() {
        let mut header = b"\x7fELF\x02\x01\x01".to_vec();
        header.resize(20, 0);
        for (machine, name) in [(62, "x86_64"), (183, "aarch64"), (40, "arm"), (3, "another")] {
            header[18] = machine;
            assert_eq!(built_for(&header), Some(name));
        }
        assert_eq!(built_for(b"#!/bin/sh"), None);
        assert_eq!(built_for(b"\x7fELF"), None);
    }
}
