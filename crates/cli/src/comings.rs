//! People who come and leave: the other commands in a row, each shown.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use clap::{Args, ValueEnum as _};
use yestrel_actions::{Context, credential, gateway, inside, listener, people};
use yestrel_core::estate::{CredentialKind, UserState};
use yestrel_core::{Kind, Problem, Result, name};

use crate::ask;
use crate::credential::FormName;
use crate::global::Global;
use crate::interview::line_of;
use crate::output::{Cell, Table, list};
use crate::words::{counted, moment, shown};

/// What a command in the row came to.
struct Came {
    line: String,
    exit: i32,
}

/// Commands of this program, one after another, each shown before it runs.
struct Row<'g> {
    global: &'g Global,
    done: Vec<Came>,
}

impl Row<'_> {
    fn line(words: &[&str]) -> String {
        let all: Vec<OsString> = std::iter::once("yestrel").chain(words.iter().copied()).map(Into::into).collect();
        line_of(&all)
    }

    /// Runs one. Where only a part of it was done (exit 4), the others go on, and the row as a whole was done in part.
    fn run(&mut self, words: &[&str]) -> Result<()> {
        let line = Self::line(words);
        let output = self.global.output();
        if output.is_for_programs() {
            crate::output::tell!("$ {line}");
        } else {
            output.say(&format!("$ {line}"));
        }
        let failed = |why: String| Problem::failed("this program does not run itself").why(why);
        let exe = std::env::current_exe().map_err(|error| failed(error.to_string()))?;
        let mut command = Command::new(exe);
        command.args(words).arg("--yes").env("YESTREL_ESTATE", self.global.estate_path());
        if let Some(file) = &self.global.estate_passphrase_file {
            command.arg("--estate-passphrase-file").arg(file);
        }
        if self.global.quiet {
            command.arg("--quiet");
        }
        if output.is_for_programs() {
            // The answer is one, at the end; what these say stands beside it.
            command.stdout(Stdio::piped());
        }
        let child = command.spawn().map_err(|error| failed(error.to_string()))?;
        let came = child.wait_with_output().map_err(|error| failed(error.to_string()))?;
        crate::output::tell_on!("{}", String::from_utf8_lossy(&came.stdout));
        let exit = came.status.code().unwrap_or(1);
        self.done.push(Came { line: line.clone(), exit });
        if matches!(exit, 0 | 4) {
            return Ok(());
        }
        let so_far: Vec<_> = self.done.iter().filter(|came| came.exit == 0).map(|came| came.line.clone()).collect();
        let so_far = if so_far.is_empty() {
            "nothing was done before it".into()
        } else {
            format!("done before it: {}", so_far.join("; "))
        };
        let problem = match exit {
            2 => Problem::words(format!("{line} did not work")),
            3 => Problem::refused(format!("{line} did not work")),
            _ => Problem::failed(format!("{line} did not work")),
        };
        Err(problem.why(so_far).try_("the same command again, once that is mended: what is done is not done twice"))
    }

    fn finish(self, what: &str) -> Result<()> {
        let output = self.global.output();
        if output.is_for_programs() {
            let mut table = Table::new(&["command", "exit"], "");
            for came in &self.done {
                table.row(vec![(&came.line).into(), Cell::Number(came.exit.unsigned_abs().into())]);
            }
            output.table(&table);
        }
        let part: Vec<_> = self.done.iter().filter(|came| came.exit == 4).map(|came| came.line.clone()).collect();
        if part.is_empty() {
            return Ok(());
        }
        Err(Problem::partly(format!("{what} in part"))
            .why(format!("not everything of {} was carried to every gateway", part.join("; ")))
            .try_("yestrel status   says what waits")
            .try_("yestrel rollout   when they answer"))
    }
}

/// What a command says about a person.
#[derive(Args)]
pub struct About {
    /// A group; several times for several. What is said replaces what was
    #[arg(long = "group", value_name = "GROUP")]
    pub groups: Vec<String>,
    /// Who that is, in words
    #[arg(long, value_name = "WORDS")]
    pub about: Option<String>,
    /// Mail address
    #[arg(long, value_name = "ADDRESS")]
    pub mail: Option<String>,
}

impl From<About> for people::Wish {
    fn from(about: About) -> Self {
        let groups = if about.groups.is_empty() { None } else { Some(about.groups) };
        Self { mail: about.mail, about: about.about, groups }
    }
}

/// A moment in the words in which it was written: the command that takes it is shown with these.
fn as_written(text: &str) -> std::result::Result<String, String> {
    moment(text).map(|_| text.to_owned())
}

#[derive(Args)]
pub struct Arrive {
    /// The user
    name: String,
    /// The device's name, without the user
    #[arg(long)]
    device: String,
    #[command(flatten)]
    person: About,
    /// Where the device may come in: a gateway or GATEWAY/LISTENER; several times, in order of preference
    #[arg(long = "at", value_name = "PLACE")]
    at: Vec<String>,
    /// Until when: a date, a moment, or a time from now
    #[arg(long, value_name = "WHEN", value_parser = as_written)]
    until: Option<String>,
    /// The form of the handover, for a system's own software. It is then of a certificate
    #[arg(long = "as", value_enum, value_name = "FORM")]
    form: Option<FormName>,
    /// The file to write the handover to
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
    /// Show the commands, and run none
    #[arg(long)]
    preview: bool,
}

/// Makes a user and a device as far as they are not there, issues a credential, brings it to the gateways, and hands it over.
pub fn arrive(global: &Global, context: &mut Context, wish: &Arrive) -> Result<()> {
    name::check("user", &wish.name)?;
    let device = format!("{}/{}", wish.name, wish.device);
    name::pair("device", &device, ("user", "device"))?;
    let kind = if wish.form.is_some() { CredentialKind::Certificate } else { CredentialKind::KeyPair };
    if wish.to.exists() {
        return Err(Problem::words(format!("{} is there already", wish.to.display()))
            .why("a handover is never written over another file")
            .try_("another name: --to FILE"));
    }
    let folder = wish.to.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !folder.is_dir() {
        return Err(Problem::words(format!("there is no folder {}", folder.display()))
            .why(format!("{} is to be written there", wish.to.display()))
            .try_("--to FILE in a folder that is there"));
    }
    for group in &wish.person.groups {
        people::need_group(context, group)?;
    }
    for place in &wish.at {
        let gateway = place.split('/').next().unwrap_or_default();
        if place.contains('/') {
            listener::show(context, place).map(drop)?
        } else {
            gateway::show_remembered(context, gateway).map(drop)?
        }
    }
    let user = people::find_user(context, &wish.name)?;
    if user.as_ref().is_some_and(|user| user.state == UserState::Suspended) {
        return Err(Problem::refused(format!("{} is suspended", wish.name))
            .why("nothing that they have lets them in until they are restored")
            .try_(format!("yestrel user restore {}", wish.name)));
    }
    let has_device = people::has_device(context, &device)?;
    let held = if has_device { credential::held(context, &device, kind)? } else { None };
    if let Some(held) = held.as_ref().filter(|held| held.handed_over.is_some()) {
        return Err(Problem::refused(format!("{device} has a {} already", kind.words()))
            .why(format!("{} was handed over before", held.name))
            .try_(format!("yestrel credential renew {device}")));
    }
    let mut commands: Vec<Vec<String>> = Vec::new();
    let words = |all: &[&str]| all.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
    let About { groups, about, mail } = &wish.person;
    if user.is_none() {
        if let Some(mail) = mail {
            name::mail(mail)?;
        }
        let mut add = words(&["user", "add", &wish.name]);
        groups.iter().for_each(|group| option(&mut add, "--group", group));
        about.iter().for_each(|about| option(&mut add, "--about", about));
        mail.iter().for_each(|mail| option(&mut add, "--mail", mail));
        commands.push(add);
    } else if !groups.is_empty() || about.is_some() || mail.is_some() {
        return Err(Problem::words(format!("{} is there already", wish.name))
            .why("--group, --about and --mail are of a new user")
            .try_(format!("yestrel user change {}", wish.name)));
    }
    if !has_device {
        commands.push(words(&["device", "add", &device]));
    }
    if held.is_none() {
        let mut issue = words(&["credential", "issue", &device, "--kind", kind.word()]);
        wish.at.iter().for_each(|place| option(&mut issue, "--at", place));
        wish.until.iter().for_each(|until| option(&mut issue, "--until", until));
        commands.push(issue);
    }
    commands.push(words(&["rollout"]));
    let to = wish.to.display().to_string();
    let mut hand = words(&["credential", "handover", &device, "--kind", kind.word(), "--to", &to]);
    let form = wish.form.as_ref().and_then(FormName::to_possible_value);
    form.iter().for_each(|form| option(&mut hand, "--as", form.get_name()));
    commands.push(hand);
    if wish.preview {
        return show(global, &commands);
    }
    ask::confirm(
        global.yes,
        &format!(
            "this lets {device} in with a new {}, carries whatever waits for the gateways (yestrel rollout --preview), and reveals its secret to {to}",
            kind.words()
        ),
    )?;
    run(global, &commands, &format!("{device} was let in"))
}

/// Puts an option behind a command; what begins like an option stays a value.
fn option(command: &mut Vec<String>, name: &str, value: &str) {
    if value.starts_with('-') {
        command.push(format!("{name}={value}"));
    } else {
        command.extend([name.to_owned(), value.to_owned()]);
    }
}

fn show(global: &Global, commands: &[Vec<String>]) -> Result<()> {
    let mut table = Table::new(&["command"], "nothing would be done");
    for command in commands {
        let words: Vec<_> = command.iter().map(String::as_str).collect();
        table.row(vec![Row::line(&words).into()]);
    }
    global.output().table(&table);
    Ok(())
}

fn run(global: &Global, commands: &[Vec<String>], what: &str) -> Result<()> {
    let mut row = Row { global, done: Vec::new() };
    for command in commands {
        let words: Vec<_> = command.iter().map(String::as_str).collect();
        row.run(&words)?;
    }
    row.finish(what)
}

#[derive(Args)]
pub struct Leave {
    /// The user
    name: String,
    /// Why: the devices are shown it, and the history keeps it
    #[arg(long, value_name = "WORDS")]
    reason: String,
    /// Show the commands, and run none
    #[arg(long)]
    preview: bool,
}

/// Takes a person out: sessions, credentials, devices, the user; and says what remains for the record.
pub fn leave(global: &Global, context: &mut Context, wish: &Leave) -> Result<()> {
    let output = global.output();
    let user = people::show_user(context, &wish.name)?;
    credential::check_reason(&wish.reason)?;
    let of = |device: &str| credential::Whose::Device(device.to_owned(), None);
    let mut live = Vec::new();
    let mut commands: Vec<Vec<String>> = Vec::new();
    let words = |all: &[&str]| all.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
    for device in &user.devices {
        let would = match credential::would_revoke(context, &of(&device.name)) {
            Ok(would) => would,
            // It never had any, or all of it is revoked.
            Err(problem) if matches!(problem.kind, Kind::Words | Kind::Refused) => Vec::new(),
            Err(problem) => return Err(problem),
        };
        if !would.is_empty() {
            let mut revoke = words(&["credential", "revoke", &device.name]);
            option(&mut revoke, "--reason", &wish.reason);
            commands.push(revoke);
        }
        live.extend(would);
    }
    if !live.is_empty() {
        // First of all, so that every session ends at once and nobody comes in again in between.
        commands.insert(0, words(&["user", "suspend", &wish.name]));
    }
    for device in &user.devices {
        commands.push(words(&["device", "remove", &device.name]));
    }
    commands.push(words(&["user", "remove", &wish.name]));
    if wish.preview {
        return show(global, &commands);
    }
    let inside = inside::who_is_in(context, &user.devices.iter().map(|device| device.name.clone()).collect())?.words();
    let names: Vec<_> = live.iter().map(|one| one.name.clone()).collect();
    let used = crate::words::last_used(&live, context.now);
    ask::confirm(
        global.yes,
        &format!(
            "this takes {} out for good, with the reason {:?}: {} and {}{}; {used}; {inside}",
            wish.name,
            wish.reason,
            counted(user.devices.len(), "device"),
            counted(live.len(), "credential"),
            shown(&names)
        ),
    )?;
    let result = run(global, &commands, &format!("{} was taken out", wish.name));
    if matches!(&result, Ok(()) | Err(Problem { kind: Kind::Partly, .. })) {
        let devices: Vec<_> = user.devices.iter().map(|device| device.name.clone()).collect();
        let past = people::remains(context, &devices, &names)?;
        let remains = [
            format!("{} in the past", counted(past.sessions, "session")),
            counted(past.revocations, "revocation"),
            match past.addresses {
                1 => "1 inner address, held for nobody else yet".to_owned(),
                many => format!("{many} inner addresses, held for nobody else yet"),
            },
            "the history".to_owned(),
        ];
        if output.is_for_programs() {
            output.note(&format!("remains for the record: {}", remains.join(", ")));
        } else {
            output.record(&[("remains for the record", list(&remains))]);
        }
    }
    result
}
