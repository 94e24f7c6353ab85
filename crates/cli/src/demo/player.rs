//! Runs the commands of a demo before whoever watches, shows what comes, and checks it.

use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use yestrel_core::{Problem, Result};
use yestrel_lab::Mode;

use crate::output::Output;

pub(super) struct Demo {
    pub(super) exe: PathBuf,
    pub(super) folder: PathBuf,
    pub(super) output: Output,
    pub(super) mode: Mode,
    /// The folder was made for it.
    pub(super) temporary: bool,
}

/// What came of a command.
pub(super) struct Came {
    pub(super) code: i32,
    pub(super) out: String,
    pub(super) err: String,
}

impl Demo {
    pub(super) fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.exe);
        command
            .args(arguments)
            .current_dir(&self.folder)
            .env("YESTREL_ESTATE", self.folder.join("skerry"))
            .env("YESTREL_LAB", self.folder.join("lab"))
            .env("NO_COLOR", "1")
            .stdin(Stdio::null());
        command
    }

    /// Runs a command without showing it.
    pub(super) fn quietly(&self, arguments: &[&str]) -> Result<Came> {
        let output = self
            .command(arguments)
            .output()
            .map_err(|error| Problem::failed("a command of the demo does not run").why(error.to_string()))?;
        Ok(Came {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        })
    }

    pub(super) fn paint(&self, code: &str, text: &str) -> String {
        if self.output.color { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
    }

    /// Shows a command, runs it, shows what came, and checks its exit status.
    pub(super) fn step(&self, arguments: &[&str], expected: i32) -> Result<Came> {
        self.step_as(arguments, arguments, expected)
    }

    /// The same, where what is run has something more that nobody needs to type.
    pub(super) fn step_as(&self, arguments: &[&str], run: &[&str], expected: i32) -> Result<Came> {
        let quote = |word: &&str| if word.contains([' ', '"']) { format!("'{word}'") } else { (*word).to_owned() };
        if !self.output.is_read() {
            return Err(
                Problem::failed("nobody reads the demo any more").why("it ends here, and takes its lab with it")
            );
        }
        let line: Vec<_> = arguments.iter().map(quote).collect();
        self.output.write(&format!("{}\n", self.paint("1", &format!("$ yestrel {}", line.join(" ")))));
        let came = self.quietly(run)?;
        for line in came.out.lines().chain(came.err.lines()) {
            self.output.write(&format!("  {line}\n"));
        }
        if came.code != expected {
            return Err(Problem::failed(format!("that command ended with {}, {expected} was expected", came.code)));
        }
        Ok(came)
    }

    pub(super) fn chapter(&self, title: &str) {
        self.output.write(&format!("\n{}\n", self.paint("1", title)));
    }

    pub(super) fn prove(&self, holds: bool, words: &str) -> Result<()> {
        if holds {
            self.output.write(&format!("  {} {words}\n", self.paint("32", "proved")));
            Ok(())
        } else {
            Err(Problem::failed(format!("this does not hold: {words}")))
        }
    }

    pub(super) fn on_laptop(&self, arguments: &[&str], expected: i32) -> Result<Came> {
        let mut whole = vec!["lab", "enter", "mara-laptop", "--", "yestrel"];
        whole.extend(arguments);
        self.step(&whole, expected)
    }

    pub(super) fn connect(&self, file: &str, expected: i32) -> Result<Came> {
        let mut arguments = vec!["connect", file, "--background"];
        if self.mode == Mode::Processes {
            arguments.extend(["--proxy", "127.0.0.1:0"]);
        }
        self.on_laptop(&arguments, expected)
    }

    /// Asks the openssl command line, which is not ours; `None` where it is not installed, and that is said.
    pub(super) fn judge(&self, arguments: &[&str]) -> Result<Option<Came>> {
        self.output.write(&format!("{}\n", self.paint("1", &format!("$ openssl {}", arguments.join(" ")))));
        let ran = Command::new("openssl").args(arguments).current_dir(&self.folder).stdin(Stdio::null()).output();
        let output = match ran {
            Ok(output) => output,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                self.output.write("  openssl is not installed here: nobody else has looked at this\n");
                return Ok(None);
            }
            Err(error) => return Err(Problem::failed("openssl does not run").why(error.to_string())),
        };
        let came = Came {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        };
        for line in came.out.lines().chain(came.err.lines()) {
            self.output.write(&format!("  {line}\n"));
        }
        Ok(Some(came))
    }

    /// Puts a line into a file with mode 0600.
    pub(super) fn write(&self, name: &str, text: &str) -> Result<()> {
        yestrel_actions::credential::handover::write_bytes(&self.folder.join(name), format!("{text}\n").as_bytes())
    }

    pub(super) fn json(&self, arguments: &[&str]) -> Result<Value> {
        let mut whole = arguments.to_vec();
        whole.extend(["--format", "json"]);
        let came = self.quietly(&whole)?;
        serde_json::from_str(&came.out)
            .map_err(|error| Problem::failed("a command's JSON cannot be read").why(error.to_string()))
    }

    /// Both ends' counters, once they have come to rest.
    pub(super) fn counters_agree(&self) -> Result<(bool, String)> {
        let end = Instant::now() + Duration::from_secs(3);
        loop {
            let tunnel = self.json(&["lab", "enter", "mara-laptop", "--", "yestrel", "tunnel", "list"])?;
            let session = self.json(&["session", "list"])?;
            let here = (tunnel[0]["sent"].clone(), tunnel[0]["received"].clone());
            let there = (session[0]["received"].clone(), session[0]["sent"].clone());
            let agree = here == there && here.0.as_u64() > Some(0);
            if agree || Instant::now() > end {
                return Ok((
                    agree,
                    format!(
                        "{} bytes out and {} bytes in at the laptop, {} and {} at the gateway",
                        here.0, here.1, there.0, there.1
                    ),
                ));
            }
        }
    }
}
