//! One connection to an SSH server: made, its key compared, signed in.

use std::borrow::Cow;
use std::future::Future;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use russh::client::{self, AuthResult, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{self, HashAlg, PrivateKey, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate};
use russh::{ChannelMsg, Preferred};
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use crate::{Person, Whose};
use yestrel_core::estate::SshTarget;

/// Waiting for a connection, and then for each step of signing in.
const CONNECT_PATIENCE: Duration = Duration::from_secs(10);
const STEP_PATIENCE: Duration = Duration::from_secs(20);
/// A connection on which nothing comes for this long is over: it is asked whether anybody is there four times within.
const SILENT: Duration = Duration::from_secs(20);
/// Waiting for a shell command, as long as nothing comes from it.
const COMMAND_PATIENCE: Duration = Duration::from_secs(60);
/// Servers close after a few keys that they do not know (OpenSSH: six), so that trying must end before.
const MOST_KEYS: usize = 4;

/// Looks at the server's key while the connection is made; decides afterwards, when a person can be asked.
struct Handler {
    seen: Arc<Mutex<Option<PublicKey>>>,
    pinned: Option<PublicKey>,
}

impl client::Handler for Handler {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &PublicKeyOrCertificate) -> std::result::Result<bool, Self::Error> {
        let seen = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => key.clone(),
            PublicKeyOrCertificate::Certificate(certificate) => PublicKey::from(certificate.public_key().clone()),
        };
        let good = self.pinned.as_ref().is_none_or(|pinned| pinned.key_data() == seen.key_data());
        *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some(seen);
        Ok(good)
    }
}

/// A signed-in connection.
pub struct Connection {
    handle: Handle<Handler>,
    /// The server's key as it may be kept.
    pub key: String,
    who: String,
}

/// What came of a command.
pub struct Came {
    pub status: Option<u32>,
    pub out: Vec<u8>,
    pub err: Vec<u8>,
}

/// The fingerprint by which people compare keys.
fn fingerprint(key: &PublicKey) -> String {
    key.fingerprint(HashAlg::Sha256).to_string()
}

fn words_of(key: &PublicKey) -> String {
    let line = key.to_openssh().unwrap_or_default();
    line.split(' ').take(2).collect::<Vec<_>>().join(" ")
}

async fn within<T>(time: Duration, what: &str, work: impl Future<Output = Result<T>>) -> Result<T> {
    match tokio::time::timeout(time, work).await {
        Ok(done) => done,
        Err(_) => Err(Problem::failed(format!("{what} does not answer"))
            .why(format!("nothing came for {} s", time.as_secs()))
            .try_("is it running, and is this its address?")),
    }
}

/// How a server is got into.
pub struct Login<'a> {
    pub host: &'a str,
    pub target: &'a SshTarget,
    pub key_file: Option<&'a Path>,
    pub pinned: Option<&'a str>,
    pub person: &'a dyn Person,
    pub whose: Whose,
}

impl Login<'_> {
    fn who(&self) -> String {
        match self.whose {
            Whose::Host => format!("the host {} ({})", self.host, self.target),
            Whose::Jump => format!("the host on the way to {} ({})", self.host, self.target),
        }
    }

    /// Connects to the target over a new TCP connection.
    ///
    /// # Errors
    /// It cannot be reached, its key is another one, or nobody may sign in.
    pub async fn direct(&self) -> Result<Connection> {
        let who = self.who();
        let SshTarget { address, port, .. } = self.target;
        let addresses = match address.parse() {
            Ok(one) => vec![one],
            Err(_) if address == "localhost" => vec![[127, 0, 0, 1].into()],
            Err(_) => yestrel_net::names::look_up(address)?,
        };
        let mut last = Problem::failed(format!("{who} cannot be reached")).why("its name has no address");
        for address in addresses {
            let socket = SocketAddr::new(address, *port);
            let connecting = async {
                let stream = tokio::net::TcpStream::connect(socket).await.map_err(|error| {
                    let problem = Problem::failed(format!("{who} cannot be reached")).why(format!("{socket}: {error}"));
                    match error.kind() {
                        std::io::ErrorKind::ConnectionRefused => {
                            problem.try_("does its SSH server run, and on this port? ssh://user@address:port")
                        }
                        _ => problem.try_("is it running, and is this its address?"),
                    }
                })?;
                let _ = stream.set_nodelay(true);
                Ok(stream)
            };
            match within(CONNECT_PATIENCE, &who, connecting).await {
                Ok(stream) => return self.over(stream).await,
                Err(problem) => last = problem,
            }
        }
        Err(last)
    }

    /// Connects to the target through a server that is signed in to.
    ///
    /// # Errors
    /// As [`Login::direct`].
    pub async fn through(&self, jump: &Connection) -> Result<Connection> {
        let who = self.who();
        let SshTarget { address, port, .. } = self.target;
        let opening = async {
            jump.handle.channel_open_direct_tcpip(address.as_str(), u32::from(*port), "127.0.0.1", 0).await.map_err(
                |error| Problem::failed(format!("{who} cannot be reached from {}", jump.who)).why(error.to_string()),
            )
        };
        let channel = within(CONNECT_PATIENCE, &who, opening).await?;
        self.over(channel.into_stream()).await
    }

    async fn over<S>(&self, stream: S) -> Result<Connection>
    where
        S: tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin + Send + 'static,
    {
        let who = self.who();
        let damaged = |_| {
            Problem::failed(format!("the key that was kept of {who} is damaged"))
                .try_(format!("yestrel host change {} --via {}   looks at it anew", self.host, self.target))
        };
        let pinned = self.pinned.map(|line| PublicKey::from_openssh(line).map_err(damaged)).transpose()?;
        let seen = Arc::new(Mutex::new(None));
        let mut config = client::Config {
            inactivity_timeout: None,
            keepalive_interval: Some(SILENT / 4),
            keepalive_max: 3,
            ..Default::default()
        };
        if let Some(pinned) = &pinned {
            // A server with several keys shows the one that is known; RSA keys sign in several ways.
            let algorithm = pinned.algorithm();
            let of_that_kind = |other: &&keys::Algorithm| {
                std::mem::discriminant(*other) == std::mem::discriminant(&algorithm)
                    && (algorithm.clone().is_rsa() || **other == algorithm)
            };
            let mut order: Vec<_> = Preferred::DEFAULT.key.iter().filter(of_that_kind).cloned().collect();
            // The others after it: a server that has lost that key shows another, and the difference is said.
            order.extend(Preferred::DEFAULT.key.iter().filter(|other| !of_that_kind(other)).cloned());
            config.preferred = Preferred { key: Cow::Owned(order), ..Preferred::DEFAULT };
        }
        let handler = Handler { seen: seen.clone(), pinned: pinned.clone() };
        let shaking = async {
            client::connect_stream(Arc::new(config), stream, handler).await.map_err(|error| match error {
                russh::Error::UnknownKey => Problem::refused("another key"),
                russh::Error::Disconnect | russh::Error::HUP | russh::Error::IO(_) => {
                    Problem::failed(format!("{who} closed the connection"))
                        .why(format!("while it was being made: {error}"))
                        .try_("does an SSH server answer there, and does it let this address in?")
                }
                error => {
                    Problem::failed(format!("{who} does not speak SSH as this program does")).why(error.to_string())
                }
            })
        };
        let shaken = within(STEP_PATIENCE, &who, shaking).await;
        let seen = seen.lock().unwrap_or_else(PoisonError::into_inner).take();
        let mut handle = match (shaken, &seen, &pinned) {
            (Err(_), Some(seen), Some(pinned)) if seen.key_data() != pinned.key_data() => {
                return Err(Problem::refused(format!("{who} has another key than it had"))
                    .why(format!(
                        "it was {} {}, and is now {} {}: it was set up anew, or somebody stands in between",
                        pinned.algorithm().as_str(),
                        fingerprint(pinned),
                        seen.algorithm().as_str(),
                        fingerprint(seen)
                    ))
                    .try_("compare with what the host itself says: ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub")
                    .try_(format!(
                        "if it is right: yestrel host change {} {} {}",
                        self.host,
                        self.whose.option(),
                        fingerprint(seen)
                    )));
            }
            (Err(problem), ..) => return Err(problem),
            (Ok(handle), ..) => handle,
        };
        let seen = seen.ok_or_else(|| Problem::failed(format!("{who} did not show its key")))?;
        if pinned.is_none()
            && !self.person.compares(&who, self.whose, seen.algorithm().as_str(), &fingerprint(&seen))?
        {
            return Err(Problem::refused(format!("the key of {who} was not accepted")).why(format!(
                "it is {} {}",
                seen.algorithm().as_str(),
                fingerprint(&seen)
            )));
        }
        self.sign_in(&mut handle).await?;
        Ok(Connection { handle, key: words_of(&seen), who })
    }

    async fn sign_in(&self, handle: &mut Handle<Handler>) -> Result<()> {
        let who = self.who();
        let user = &self.target.user;
        let broken = |error: russh::Error| {
            Problem::failed(format!("{who} closed the connection")).why(format!("while signing in as {user}: {error}"))
        };
        let mut tried = Vec::new();
        let none = async { handle.authenticate_none(user.as_str()).await.map_err(broken) };
        let mut methods = match within(STEP_PATIENCE, &who, none).await? {
            AuthResult::Success => return Ok(()),
            AuthResult::Failure { remaining_methods, .. } => remaining_methods,
        };
        if methods.contains(&russh::MethodKind::PublicKey) {
            let rsa = handle.best_supported_rsa_hash().await.map_err(broken)?.flatten().or(Some(HashAlg::Sha256));
            if self.key_file.is_none() && self.with_agent(handle, rsa, &mut tried).await? {
                return Ok(());
            }
            for (path, said) in self.key_files() {
                let Some(key) = self.load(&path, said)? else { continue };
                let with_hash = PrivateKeyWithHashAlg::new(Arc::new(key), rsa);
                let asking = async { handle.authenticate_publickey(user.as_str(), with_hash).await.map_err(broken) };
                match within(STEP_PATIENCE, &who, asking).await? {
                    AuthResult::Success => return Ok(()),
                    AuthResult::Failure { remaining_methods, .. } => methods = remaining_methods,
                }
                tried.push(format!("the key {}", path.display()));
            }
        }
        if self.key_file.is_none() {
            for _ in 0..3 {
                let by_password = methods.contains(&russh::MethodKind::Password);
                let by_questions = methods.contains(&russh::MethodKind::KeyboardInteractive);
                if !by_password && !by_questions {
                    break;
                }
                let Ok(password) = self.person.secret(&format!("password of {user} on {who}")) else {
                    tried.push("no password, because nobody could be asked".into());
                    break;
                };
                let good = if by_password {
                    let asking = handle.authenticate_password(user.as_str(), password.as_str());
                    let asking = async { asking.await.map_err(broken) };
                    within(STEP_PATIENCE, &who, asking).await?.success()
                } else {
                    within(STEP_PATIENCE, &who, by_answering(handle, user, &password, &broken)).await?
                };
                if good {
                    return Ok(());
                }
                tried.push("the password".into());
            }
        }
        let tried = if tried.is_empty() { "nothing could be tried".to_owned() } else { tried.join(", ") };
        Err(Problem::refused(format!("{who} does not let {user} in"))
            .why(format!("tried: {tried}"))
            .try_("--key FILE   the private key that the host knows")
            .try_(format!("sign in by hand: ssh -p {} {user}@{}", self.target.port, self.target.address)))
    }

    /// Offers what a key agent holds; whether that was enough.
    async fn with_agent(
        &self,
        handle: &mut Handle<Handler>,
        rsa: Option<HashAlg>,
        tried: &mut Vec<String>,
    ) -> Result<bool> {
        let Ok(mut agent) = AgentClient::connect_env().await else { return Ok(false) };
        let Ok(identities) = agent.request_identities().await else { return Ok(false) };
        for identity in identities.into_iter().take(MOST_KEYS) {
            let AgentIdentity::PublicKey { key, comment } = identity else { continue };
            let hash = if key.algorithm().is_rsa() { rsa } else { None };
            let user = self.target.user.clone();
            if let Ok(AuthResult::Success) = handle.authenticate_publickey_with(user, key, hash, &mut agent).await {
                return Ok(true);
            }
            tried.push(format!("the key {comment:?} of the key agent"));
        }
        Ok(false)
    }

    /// The files to look into, and whether the person named them.
    fn key_files(&self) -> Vec<(PathBuf, bool)> {
        if let Some(named) = self.key_file {
            return vec![(named.to_owned(), true)];
        }
        let Some(home) = std::env::var_os("HOME").map(PathBuf::from) else { return Vec::new() };
        ["id_ed25519", "id_ecdsa", "id_rsa"]
            .map(|name| (home.join(".ssh").join(name), false))
            .into_iter()
            .filter(|(path, _)| path.exists())
            .collect()
    }

    fn load(&self, path: &Path, named: bool) -> Result<Option<PrivateKey>> {
        use std::os::unix::fs::PermissionsExt as _;
        let cannot = |why: String| Problem::failed(format!("the key {} cannot be used", path.display())).why(why);
        let about = match std::fs::metadata(path) {
            Ok(about) => about,
            Err(_) if !named => return Ok(None),
            Err(error) => return Err(cannot(error.to_string()).try_("--key FILE with a file that is there")),
        };
        let text = Zeroizing::new(std::fs::read_to_string(path).map_err(|error| cannot(error.to_string()))?);
        if text.starts_with("ssh-") || text.starts_with("ecdsa-") {
            return Err(cannot("it is a public key".into()).try_(format!(
                "--key {}   the private one beside it",
                path.display().to_string().trim_end_matches(".pub")
            )));
        }
        let mode = about.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            let problem = cannot(format!("its mode is {mode:04o}: others on this machine can read it"))
                .try_(format!("chmod 600 {}", path.display()))
                .try_("if others may have read it: a new key");
            return if named { Err(problem) } else { Ok(None) };
        }
        match keys::decode_secret_key(&text, None) {
            Ok(key) => return Ok(Some(key)),
            Err(keys::Error::KeyIsEncrypted) => {}
            Err(error) if encrypted(&text) => tracing::debug!("{}: {error}", path.display()),
            Err(error) => {
                return Err(cannot(error.to_string()).try_("a key of ssh-keygen -t ed25519"));
            }
        }
        for _ in 0..3 {
            let passphrase = self.person.secret(&format!("passphrase of the key {}", path.display()))?;
            if let Ok(key) = keys::decode_secret_key(&text, Some(&passphrase)) {
                return Ok(Some(key));
            }
        }
        Err(Problem::refused(format!("the key {} stays closed", path.display()))
            .why("the passphrase was wrong three times"))
    }
}

/// Whether a PEM file says that it is encrypted.
fn encrypted(text: &str) -> bool {
    text.contains("ENCRYPTED")
}

/// Answers every question of keyboard-interactive sign-in (RFC 4256) with the password; one round of questions, then none.
async fn by_answering(
    handle: &mut Handle<Handler>,
    user: &str,
    password: &str,
    broken: &impl Fn(russh::Error) -> Problem,
) -> Result<bool> {
    let mut answer = handle.authenticate_keyboard_interactive_start(user, None).await.map_err(broken)?;
    for _ in 0..4 {
        match answer {
            KeyboardInteractiveAuthResponse::Success => return Ok(true),
            KeyboardInteractiveAuthResponse::Failure { .. } => return Ok(false),
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                let answers = prompts.iter().map(|_| password.to_owned()).collect();
                answer = handle.authenticate_keyboard_interactive_respond(answers).await.map_err(broken)?;
            }
        }
    }
    Ok(false)
}

/// A command that runs on the other side.
pub struct Running {
    channel: russh::Channel<client::Msg>,
    /// What came and was not read yet.
    buffer: Vec<u8>,
    /// What it complained of.
    pub err: Vec<u8>,
    pub status: Option<u32>,
    ended: bool,
}

impl Connection {
    fn broken(&self) -> impl Fn(russh::Error) -> Problem + '_ {
        |error| {
            Problem::failed(format!("the connection to {} broke off", self.who))
                .why(error.to_string())
                .try_("the same command again: it goes on where it was")
        }
    }

    /// Starts a command.
    ///
    /// # Errors
    /// The connection broke off, or the server refuses.
    pub async fn start(&self, command: &str) -> Result<Running> {
        let opening = async {
            let channel = self.handle.channel_open_session().await.map_err(self.broken())?;
            channel.exec(true, command).await.map_err(self.broken())?;
            Ok(channel)
        };
        let channel = self.alive(STEP_PATIENCE, opening).await?;
        Ok(Running { channel, buffer: Vec::new(), err: Vec::new(), status: None, ended: false })
    }

    /// Runs a command to its end.
    ///
    /// # Errors
    /// As [`Connection::start`], or nothing comes for too long.
    pub async fn run(&self, command: &str) -> Result<Came> {
        let mut running = self.start(command).await?;
        while running.wait(self, COMMAND_PATIENCE).await? {}
        Ok(Came { status: running.status, out: running.buffer, err: running.err })
    }

    /// Sends `bytes` to the standard input of a command, telling how far it is, and gives what came of it.
    ///
    /// # Errors
    /// As [`Connection::start`].
    pub async fn feed(&self, command: &str, bytes: &[u8], told: &dyn Fn(u64)) -> Result<Came> {
        let mut running = self.start(command).await?;
        let mut sent = 0;
        for piece in bytes.chunks(128 * 1024) {
            let sending = async { running.channel.data(piece).await.map_err(self.broken()) };
            // A command that has ended, with a full disk perhaps, does not take more: what it said is the reason.
            if self.alive(COMMAND_PATIENCE, sending).await.is_err() {
                break;
            }
            sent += piece.len() as u64;
            told(sent);
        }
        let _ = running.channel.eof().await;
        while running.wait(self, COMMAND_PATIENCE).await? {}
        Ok(Came { status: running.status, out: running.buffer, err: running.err })
    }

    /// Waits for `work`, but not for a connection that is over, nor longer than `patience`.
    async fn alive<T>(&self, patience: Duration, work: impl Future<Output = Result<T>>) -> Result<T> {
        let over = async {
            while !self.handle.is_closed() {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            // What had come before it ended may still be read.
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let either = async {
            let (mut work, mut over) = (std::pin::pin!(work), std::pin::pin!(over));
            std::future::poll_fn(|context| {
                if let std::task::Poll::Ready(done) = work.as_mut().poll(context) {
                    return std::task::Poll::Ready(done);
                }
                over.as_mut().poll(context).map(|()| Err(self.broken()(russh::Error::Disconnect)))
            })
            .await
        };
        within(patience, &self.who, either).await
    }

    /// Whether the connection is over.
    pub fn is_closed(&self) -> bool {
        self.handle.is_closed()
    }

    /// Says goodbye.
    pub async fn close(&self) {
        let _ = self.handle.disconnect(russh::Disconnect::ByApplication, "", "en").await;
    }
}

impl Running {
    /// Waits for more output; `false` at the end.
    async fn more(&mut self) -> Result<bool> {
        match self.channel.wait().await {
            Some(ChannelMsg::Data { data }) => self.buffer.extend_from_slice(&data),
            Some(ChannelMsg::ExtendedData { data, .. }) => self.err.extend_from_slice(&data),
            Some(ChannelMsg::ExitStatus { exit_status }) => self.status = Some(exit_status),
            Some(ChannelMsg::Failure) => {
                self.ended = true;
                return Err(Problem::refused("the host does not let commands be run"));
            }
            None => self.ended = true,
            Some(_) => {}
        }
        Ok(!self.ended)
    }

    /// Sends a line.
    ///
    /// # Errors
    /// The connection broke off.
    pub async fn send_line(&mut self, connection: &Connection, line: &[u8]) -> Result<()> {
        let sending = async {
            self.channel.data(line).await.map_err(connection.broken())?;
            self.channel.data(&b"\n"[..]).await.map_err(connection.broken())
        };
        connection.alive(COMMAND_PATIENCE, sending).await
    }

    /// A line of output that has come already.
    pub fn line_here(&mut self) -> Option<Vec<u8>> {
        let at = self.buffer.iter().position(|byte| *byte == b'\n')?;
        let rest = self.buffer.split_off(at + 1);
        let mut line = std::mem::replace(&mut self.buffer, rest);
        line.pop();
        Some(line)
    }

    /// Waits until something comes, on whichever output; `false` at the end.
    ///
    /// # Errors
    /// Nothing comes within `patience`.
    pub async fn wait(&mut self, connection: &Connection, patience: Duration) -> Result<bool> {
        if self.ended {
            return Ok(false);
        }
        connection.alive(patience, self.more()).await
    }

    /// The next line of output; `None` at its end.
    ///
    /// # Errors
    /// Nothing comes within `patience`.
    pub async fn line(&mut self, connection: &Connection, patience: Duration) -> Result<Option<Vec<u8>>> {
        loop {
            if let Some(line) = self.line_here() {
                return Ok(Some(line));
            }
            if !self.wait(connection, patience).await? {
                return Ok(None);
            }
        }
    }
}
