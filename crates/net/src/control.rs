//! Local control sockets: a question and an answer, one JSON object a line. Only the same system user and root may ask.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use yestrel_core::exchange::{Answered, LONGEST, Question};
use yestrel_core::{Problem, Result};

/// Answers questions at `path` with `answer`, in threads of its own, until the process ends.
///
/// # Errors
/// The socket cannot be made, or another process answers there already.
pub fn serve<S>(path: &Path, answer: impl Fn(S) -> Answered + Send + Sync + 'static) -> Result<()>
where
    S: DeserializeOwned + Send + 'static,
{
    let cannot = |error: std::io::Error| {
        Problem::failed(format!("the control socket {} cannot be made", path.display())).why(error.to_string())
    };
    if UnixStream::connect(path).is_ok() {
        return Err(Problem::refused(format!("another process answers at {} already", path.display()))
            .why("two at once would undo each other's work"));
    }
    let _ = std::fs::remove_file(path);
    let listener = UnixListener::bind(path).map_err(cannot)?;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600)).map_err(cannot)?;
    let answer = Arc::new(answer);
    let serve = move || {
        for stream in listener.incoming().flatten() {
            let answer = answer.clone();
            let _ = std::thread::Builder::new().name("control".into()).spawn(move || {
                if may_ask(&stream) {
                    converse(&stream, &*answer);
                }
            });
        }
    };
    std::thread::Builder::new().name("control".into()).spawn(serve).map_err(cannot)?;
    Ok(())
}

fn may_ask(stream: &UnixStream) -> bool {
    let credentials = nix::sys::socket::getsockopt(stream, nix::sys::socket::sockopt::PeerCredentials);
    credentials.is_ok_and(|peer| peer.uid() == 0 || peer.uid() == nix::unistd::geteuid().as_raw())
}

fn converse<S: DeserializeOwned>(stream: &UnixStream, answer: &dyn Fn(S) -> Answered) {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(60)));
    let mut reader = BufReader::new(stream);
    loop {
        let mut line = Vec::new();
        match reader.by_ref().take(LONGEST).read_until(b'\n', &mut line) {
            Ok(count) if count > 0 && line.ends_with(b"\n") => {}
            _ => return,
        }
        let answered = match serde_json::from_slice(&line) {
            Ok(question) => answer(question),
            // A later version may ask what this one does not know.
            Err(_) => Answered::refused(
                Problem::failed("the question is not understood").why("it is of another version, or damaged"),
            ),
        };
        let mut reply = serde_json::to_vec(&answered).unwrap_or_default();
        reply.push(b'\n');
        if (&mut &*stream).write_all(&reply).is_err() {
            return;
        }
    }
}

/// Asks at `path` and waits for the answer, at most `patience`.
///
/// # Errors
/// Nobody answers there, what comes back is no answer to this question, or the refusal.
pub fn ask<Q: Question>(path: &Path, question: &Q, patience: Duration) -> Result<Q::Answer> {
    exchange(path, &question.clone().into(), patience)?.read::<Q>()
}

/// As [`ask`], for a question that somebody else made and will read the answer to.
///
/// # Errors
/// Nobody answers there, or what comes back is no answer.
pub fn exchange<S: Serialize>(path: &Path, question: &S, patience: Duration) -> Result<Answered> {
    let silent = |error: std::io::Error| {
        let problem = Problem::failed(format!("nobody answers at {}", path.display()));
        match error.kind() {
            std::io::ErrorKind::WouldBlock => problem.why(format!("no answer within {} s", patience.as_secs())),
            std::io::ErrorKind::PermissionDenied => problem.why("only root and the user who runs it may ask"),
            _ => problem.why(error.to_string()),
        }
    };
    let mut stream = UnixStream::connect(path).map_err(silent)?;
    stream.set_read_timeout(Some(patience)).map_err(silent)?;
    let mut line = serde_json::to_vec(question).unwrap_or_default();
    line.push(b'\n');
    stream.write_all(&line).map_err(silent)?;
    let mut reply = Vec::new();
    BufReader::new(&stream).take(LONGEST).read_until(b'\n', &mut reply).map_err(silent)?;
    serde_json::from_slice(&reply).map_err(|_| {
        Problem::failed(format!("what came back from {} is no answer", path.display()))
            .why("the process there stopped in the middle, or is of another version")
    })
}
