//! A person at a terminal: sees what a command asks, and answers.

use std::io::{Read as _, Write as _};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Arc, Mutex};

use super::wait;

/// A command on a pseudo-terminal.
pub struct Terminal {
    process: Child,
    keyboard: Option<ChildStdin>,
    screen: Arc<Mutex<String>>,
    /// Up to here it was read.
    seen: usize,
}

fn quoted(word: &str) -> String {
    format!("'{}'", word.replace('\'', "'\\''"))
}

/// Gives a command that runs another one that one's folder and environment.
pub fn surroundings(inner: &Command, outer: &mut Command) {
    if let Some(folder) = inner.get_current_dir() {
        outer.current_dir(folder);
    }
    for (name, value) in inner.get_envs() {
        match value {
            Some(value) => outer.env(name, value),
            None => outer.env_remove(name),
        };
    }
}

impl Terminal {
    /// Starts a command on a terminal of its own.
    pub fn start(inner: &Command) -> Self {
        let words: Vec<_> = std::iter::once(inner.get_program())
            .chain(inner.get_args())
            .map(|word| quoted(&word.to_string_lossy()))
            .collect();
        let mut outer = Command::new("timeout");
        outer.args([
            "--kill-after=5",
            "150",
            "script",
            "-qefc",
            &format!("stty cols 200; exec {}", words.join(" ")),
            "/dev/null",
        ]);
        surroundings(inner, &mut outer);
        let mut process = outer.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let screen = Arc::new(Mutex::new(String::new()));
        let (mut output, shown) = (process.stdout.take().unwrap(), screen.clone());
        std::thread::spawn(move || {
            let mut piece = [0; 4096];
            while let Ok(length) = output.read(&mut piece) {
                if length == 0 {
                    return;
                }
                shown.lock().unwrap().push_str(&String::from_utf8_lossy(&piece[..length]));
            }
        });
        Self { keyboard: process.stdin.take(), process, screen, seen: 0 }
    }

    /// Waits until the screen shows `text` after what was seen before, and gives what stood up to its end.
    #[track_caller]
    pub fn sees(&mut self, text: &str) -> String {
        let end = std::time::Instant::now() + std::time::Duration::from_secs(60);
        let found = wait(70, &format!("{text:?} on the terminal"), || {
            assert!(std::time::Instant::now() < end, "{text:?} does not come; the screen:\n{}", self.all());
            let screen = self.screen.lock().unwrap();
            let rest = &screen[self.seen..];
            if let Some(at) = rest.find(text) {
                return Some(rest[..at + text.len()].to_owned());
            }
            drop(screen);
            let ended = self.process.try_wait().unwrap().is_some();
            assert!(!ended || self.all().contains(text), "it ended; {text:?} is not in {}", self.all());
            None
        });
        self.seen += found.len();
        found
    }

    /// Types a line.
    pub fn types(&mut self, line: &str) {
        let keyboard = self.keyboard.as_mut().unwrap();
        keyboard.write_all(format!("{line}\n").as_bytes()).unwrap();
        keyboard.flush().unwrap();
    }

    /// Everything that the screen has shown.
    pub fn all(&self) -> String {
        self.screen.lock().unwrap().clone()
    }

    /// Waits for the end, and gives the exit status and everything shown.
    #[track_caller]
    pub fn ends(mut self) -> (i32, String) {
        let status = wait(100, "the end of the command", || self.process.try_wait().unwrap());
        wait(5, "the rest of the screen", || Arc::strong_count(&self.screen).eq(&1).then_some(()));
        (status.code().unwrap_or(-1), self.all())
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        // As when a window is closed: everything at this terminal ends, and is waited for.
        let pid = nix::unistd::Pid::from_raw(self.process.id() as i32);
        let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM);
        let _ = self.process.wait();
        let end = std::time::Instant::now() + std::time::Duration::from_secs(5);
        while Arc::strong_count(&self.screen) > 1 && std::time::Instant::now() < end {
            std::thread::park_timeout(std::time::Duration::from_millis(10));
        }
    }
}
