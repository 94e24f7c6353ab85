//! Asking the person, where there is one.

use std::fs;
use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};

use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use crate::output::{tell, tell_on};

/// Bytes at most of a file with a passphrase.
const LONGEST: u64 = 64 * 1024;

/// Whether somebody sits there who can be asked.
pub fn somebody_there() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

/// Says what will be done and asks for a yes. Without a terminal, the yes must have been given.
///
/// # Errors
/// No, or nobody to ask.
pub fn confirm(yes: bool, what: &str) -> Result<()> {
    if yes {
        return Ok(());
    }
    if !somebody_there() {
        return Err(Problem::words(format!("this needs a yes: {what}"))
            .why("nobody sits at this terminal who could be asked")
            .try_("the same command with --yes"));
    }
    tell_on!("{what}\ngo on? [y/N] ");
    let _ = io::stderr().flush();
    let mut answer = String::new();
    let _ = io::stdin().lock().read_line(&mut answer);
    if matches!(answer.trim(), "y" | "Y" | "yes") {
        Ok(())
    } else {
        Err(Problem::refused("nothing was done").why("the answer was no"))
    }
}

/// What a file holds, without the end of its line; `what` it is, for messages.
///
/// # Errors
/// It cannot be read.
pub fn first_line(file: &Path, what: &str) -> Result<Zeroizing<String>> {
    use std::io::Read as _;
    let mut text = Zeroizing::new(String::new());
    let read = fs::File::open(file).and_then(|file| file.take(LONGEST).read_to_string(&mut text));
    read.map_err(|error| {
        Problem::failed(format!("the {what} cannot be read from {}", file.display())).why(error.to_string())
    })?;
    Ok(Zeroizing::new(text.trim_end_matches(['\n', '\r']).to_owned()))
}

/// Asks a question on one line, after what its answers lead to; an empty line takes the default.
///
/// # Errors
/// Nobody answers any more.
pub fn choose(what: &str, answers: &[(String, String)], default: Option<&str>) -> Result<String> {
    let widest = answers.iter().map(|(answer, _)| answer.chars().count()).max().unwrap_or(0);
    for (answer, leads_to) in answers.iter().take(20) {
        tell!("{}", format!("  {answer:widest$}  {leads_to}").trim_end());
    }
    loop {
        match default {
            Some(default) => tell_on!("{what} [{default}]: "),
            None => tell_on!("{what}: "),
        }
        let _ = io::stderr().flush();
        let mut line = String::new();
        if io::stdin().lock().read_line(&mut line).unwrap_or(0) == 0 {
            tell!("");
            return Err(Problem::refused("nobody answers any more").why("nothing more was done"));
        }
        let line = line.trim();
        match (line.is_empty(), default) {
            (false, _) => return Ok(line.to_owned()),
            (true, Some(default)) => return Ok(default.to_owned()),
            (true, None) => {}
        }
    }
}

/// What somebody types who is asked for something that they read elsewhere just now.
///
/// # Errors
/// Nobody can be asked, or answers any more.
pub fn answer(what: &str) -> Result<String> {
    if !somebody_there() {
        return Err(Problem::refused(format!("the gateway asks for {what}"))
            .why("nobody can be asked: standard input is no terminal")
            .try_("yestrel tunnel answer NAME --code DIGITS"));
    }
    choose(what, &[], None)
}

/// A passphrase: from the file that was named, or asked without echo.
///
/// # Errors
/// The file cannot be read, or nobody can be asked.
pub fn passphrase(what: &str, file: Option<&Path>) -> Result<Zeroizing<String>> {
    if let Some(file) = file {
        return first_line(file, "passphrase");
    }
    if !somebody_there() {
        return Err(Problem::words(format!("{what} needs its passphrase"))
            .why("nobody sits at this terminal who could be asked")
            .try_("--passphrase-file FILE"));
    }
    hidden(format!("passphrase of {what}: "))
        .map(Zeroizing::new)
        .map_err(|error| Problem::failed("the passphrase cannot be asked for").why(error.to_string()))
}

/// As [`passphrase`], for what is asked again when the answer was wrong: a file has one answer, which is not tried again.
pub fn tries(what: &str, file: Option<&Path>) -> impl FnMut() -> Result<Zeroizing<String>> {
    let (what, file, mut given) = (what.to_owned(), file.map(Path::to_owned), false);
    move || match &file {
        Some(file) if std::mem::replace(&mut given, true) => {
            Err(Problem::refused(format!("the passphrase in {} is wrong", file.display()))
                .why(format!("{what} does not open with it; nothing was changed")))
        }
        file => passphrase(&what, file.as_deref()),
    }
}

/// A new passphrase, asked twice.
///
/// # Errors
/// As [`passphrase`]; the two differ, or it is too short.
pub fn new_passphrase(what: &str, file: Option<&Path>) -> Result<Zeroizing<String>> {
    let first = passphrase(what, file)?;
    if file.is_none() && *passphrase(&format!("{what}, once more"), None)? != *first {
        return Err(Problem::words("the two passphrases differ"));
    }
    if first.chars().count() < 12 {
        return Err(Problem::words("the passphrase is too short").why("it must have 12 characters at least"));
    }
    Ok(first)
}

/// A new password of an account, asked twice; how strong it is, others decide.
///
/// # Errors
/// Nobody can be asked, or the two differ.
pub fn new_password(whom: &str) -> Result<Zeroizing<String>> {
    if !somebody_there() {
        return Err(Problem::words(format!("the account of {whom} needs a password"))
            .why("nobody sits at this terminal who could be asked")
            .try_("--generate   makes one")
            .try_("--password-file FILE"));
    }
    let ask = |what: String| {
        hidden(what)
            .map(Zeroizing::new)
            .map_err(|error| Problem::failed("the password cannot be asked for").why(error.to_string()))
    };
    let first = ask(format!("password of {whom}: "))?;
    if *ask(format!("password of {whom}, once more: "))? != *first {
        return Err(Problem::words("the two passwords differ"));
    }
    Ok(first)
}

/// A file that a command needs and was not told: asked for where somebody can be asked.
///
/// # Errors
/// Nobody can be asked: `why` says what the file is for.
pub fn file(given: Option<PathBuf>, default: &str, why: &str) -> Result<PathBuf> {
    if let Some(given) = given {
        return Ok(given);
    }
    if !somebody_there() {
        return Err(Problem::words("--to FILE is missing").why(why).try_(format!("--to {default}")));
    }
    tell_on!("{why}\nthe file to write [{default}] ");
    let _ = io::stderr().flush();
    let mut answer = String::new();
    let _ = io::stdin().lock().read_line(&mut answer);
    let answer = answer.trim();
    Ok(PathBuf::from(if answer.is_empty() { default } else { answer }))
}

/// Asks without echo. The echo is off before the question shows, so that nothing typed early is seen.
fn hidden(prompt: impl AsRef<str>) -> io::Result<String> {
    use nix::sys::termios::{LocalFlags, SetArg, Termios, tcgetattr, tcsetattr};
    struct Restored(fs::File, Termios);
    impl Drop for Restored {
        fn drop(&mut self) {
            let _ = tcsetattr(&self.0, SetArg::TCSANOW, &self.1);
        }
    }
    let terminal = fs::OpenOptions::new().read(true).write(true).open("/dev/tty")?;
    let before = tcgetattr(&terminal)?;
    let mut silent = before.clone();
    silent.local_flags.remove(LocalFlags::ECHO);
    tcsetattr(&terminal, SetArg::TCSANOW, &silent)?;
    let _restored = Restored(terminal, before);
    rpassword::prompt_password(prompt.as_ref())
}

/// The user's data folder.
pub fn data_folder() -> PathBuf {
    let base = std::env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/share")));
    base.unwrap_or_else(|| PathBuf::from("/var/lib")).join("yestrel")
}

/// One question is asked after another, from whatever thread.
static ONE: std::sync::Mutex<()> = std::sync::Mutex::new(());

/// The person at the terminal, as places see them.
pub struct Terminal {
    yes: bool,
    bar: std::sync::Mutex<Option<indicatif::ProgressBar>>,
    quiet: bool,
    /// Where nobody watches a bar: when a line was last written, and of what.
    line: std::sync::Mutex<Option<(String, std::time::Instant)>>,
}

/// How often a line says how far long work has come, where nobody watches a bar.
const LINE_EVERY: std::time::Duration = std::time::Duration::from_secs(10);

impl Terminal {
    pub fn new(yes: bool, quiet: bool) -> Self {
        Self { yes, bar: std::sync::Mutex::default(), quiet, line: std::sync::Mutex::default() }
    }

    /// A line now and then; none of what is quickly done.
    fn line(&self, what: &str, done: u64, whole: u64) {
        let mut line = self.line.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let now = std::time::Instant::now();
        match &*line {
            Some((of, at)) if of == what && now.duration_since(*at) < LINE_EVERY => {}
            Some((of, _)) if of == what => {
                tell!("{what}: {} of {} MB", done / 1_000_000, whole.div_ceil(1_000_000));
                *line = Some((what.to_owned(), now));
            }
            _ => *line = Some((what.to_owned(), now)),
        }
    }
}

impl yestrel_actions::Person for Terminal {
    fn secret(&self, what: &str) -> Result<Zeroizing<String>> {
        let _one = ONE.lock();
        if !somebody_there() {
            return Err(Problem::words(format!("the {what} is needed"))
                .why("nobody sits at this terminal who could be asked, and it is never kept")
                .try_("the same command on a terminal")
                .try_("a key without a passphrase, or a key agent"));
        }
        hidden(format!("{what}: "))
            .map(Zeroizing::new)
            .map_err(|error| Problem::failed(format!("the {what} cannot be asked for")).why(error.to_string()))
    }

    fn compares(&self, host: &str, whose: yestrel_actions::Whose, algorithm: &str, fingerprint: &str) -> Result<bool> {
        let _one = ONE.lock();
        let said = format!("{host} is seen for the first time; its key is\n  {algorithm} {fingerprint}");
        if self.yes {
            tell!("{said}\nit is kept from now on");
            return Ok(true);
        }
        if !somebody_there() {
            return Err(Problem::refused(format!(
                "{host} is seen for the first time, and nobody has compared its key"
            ))
            .why(format!("its key is {algorithm} {fingerprint}"))
            .try_(format!(
                "{} {fingerprint}   when the host itself says the same: ssh-keygen -l -f FILE",
                whose.option()
            ))
            .try_("--yes   takes whatever key is there"));
        }
        tell_on!("{said}\ncompare it with what the host itself says. Is it the same? [y/N] ");
        let _ = io::stderr().flush();
        let mut answer = String::new();
        let _ = io::stdin().lock().read_line(&mut answer);
        Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
    }

    fn progress(&self, what: &str, done: u64, whole: u64) {
        if self.quiet {
            return;
        }
        if !somebody_there() {
            self.line(what, done, whole);
            return;
        }
        let mut slot = self.bar.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let bar = slot.get_or_insert_with(|| {
            let bar = indicatif::ProgressBar::new(whole).with_message(what.to_owned());
            if let Ok(style) = indicatif::ProgressStyle::with_template("{msg}  {bar:30}  {bytes} of {total_bytes}") {
                bar.set_style(style);
            }
            bar
        });
        bar.set_position(done);
        if done >= whole {
            bar.finish_and_clear();
            *slot = None;
        }
    }
}
