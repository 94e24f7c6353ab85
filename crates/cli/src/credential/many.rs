//! Handing over to a whole group: a file each, a sheet that says who gets which, and transport passwords apart. Goes on where it stopped.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use yestrel_actions::Context;
use yestrel_actions::credential::forms::{self, Form};
use yestrel_actions::credential::{self, handover};
use yestrel_core::estate::{Credential, CredentialKind, User};
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use super::hand_over;
use crate::ask;
use crate::global::Global;
use crate::words::{counted, shown};

/// The sheet in the folder. It holds no secret.
const SHEET: &str = "who-gets-which.csv";
const SHEET_COLUMNS: &str = "user,about,mail,device,credential,form,file";
const PASSWORD_COLUMNS: &str = "device,file,transport password";

/// What is handed over, and how.
pub(super) struct Wish<'w> {
    pub group: &'w str,
    pub kind: CredentialKind,
    /// `None`: what Yestrel's own program takes, or for an account a text.
    pub form: Option<Form>,
    pub on_demand: bool,
    pub to: &'w Path,
}

impl Wish<'_> {
    /// The file of a device. No name has a dot in it, so that no two devices have one file.
    fn file(&self, device: &str) -> String {
        let ending = match (self.form, self.kind) {
            (Some(form), _) => hand_over::ending(form),
            (None, CredentialKind::Password) => ".txt",
            (None, _) => ".yestrel",
        };
        format!("{}{ending}", device.replace('/', "."))
    }

    /// Its line in the sheet.
    fn row(&self, user: &User, credential: &Credential) -> Result<Vec<u8>> {
        let form = self.form.map_or(self.kind.words(), forms::word);
        let about = [&user.about, &user.mail].map(|field| field.clone().unwrap_or_default());
        let file = self.file(&credential.device);
        line(&[&user.name, &about[0], &about[1], &credential.device, &credential.name, form, &file])
    }
}

/// The folder with what was handed over, and the file of passwords beside it.
struct Folder {
    path: PathBuf,
    passwords: PathBuf,
}

fn cannot(path: &Path, error: &std::io::Error) -> Problem {
    Problem::failed(format!("{} cannot be written", path.display())).why(error.to_string())
}

fn line(fields: &[&str]) -> Result<Vec<u8>> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let inert = |field: &&str| match field.chars().next() {
        // A spreadsheet would take it for a formula.
        Some('=' | '+' | '@' | '-') => format!("'{field}"),
        _ => (*field).to_owned(),
    };
    let failed = |why: String| Problem::failed("a line cannot be made").why(why);
    writer.write_record(fields.iter().map(inert)).map_err(|error| failed(error.to_string()))?;
    writer.into_inner().map_err(|error| failed(error.to_string()))
}

fn append(path: &Path, columns: &str, bytes: &[u8]) -> Result<()> {
    let open = || {
        let mut file = fs::OpenOptions::new().append(true).create(true).mode(0o600).open(path)?;
        file.set_permissions(fs::Permissions::from_mode(0o600))?;
        if file.metadata()?.len() == 0 {
            writeln!(file, "{columns}")?;
        }
        file.write_all(bytes)?;
        file.sync_all()
    };
    open().map_err(|error| cannot(path, &error))
}

impl Folder {
    /// One that is not there yet, is empty, or was made by this command before.
    fn open(path: &Path) -> Result<Self> {
        use std::os::unix::fs::DirBuilderExt as _;
        // Beside the folder, never in it, however that is written.
        let Some(name) = path.file_name() else {
            return Err(Problem::words(format!("{} names no folder of its own", path.display()))
                .why("what goes to people lies in it, and their passwords beside it")
                .try_("--to FOLDER"));
        };
        let passwords = path.with_file_name(format!("{}.passwords.csv", name.to_string_lossy()));
        let folder = Self { path: path.to_owned(), passwords };
        match fs::read_dir(path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                fs::DirBuilder::new().mode(0o700).create(path).map_err(|error| cannot(path, &error))?;
            }
            Err(error) => return Err(cannot(path, &error)),
            Ok(mut entries) => {
                if entries.next().is_some() && !folder.sheet().exists() {
                    return Err(Problem::refused(format!("{} holds other things", path.display()))
                        .why(format!("there is no {SHEET} in it, so this command did not make it"))
                        .try_("another name: --to FOLDER"));
                }
            }
        }
        if !folder.sheet().exists() {
            append(&folder.sheet(), SHEET_COLUMNS, b"")?;
        }
        Ok(folder)
    }

    fn sheet(&self) -> PathBuf {
        self.path.join(SHEET)
    }

    /// The devices of the sheet.
    fn told(&self) -> BTreeSet<String> {
        let Ok(mut reader) = csv::Reader::from_path(self.sheet()) else { return BTreeSet::new() };
        reader.records().flatten().filter_map(|row| row.get(4).map(str::to_owned)).collect()
    }

    /// Takes away what a run left behind that was stopped between writing and noting: nobody has it, and it is made anew.
    fn clear(&self, file: &Path) -> Result<()> {
        let gone = match fs::metadata(file) {
            Ok(there) if there.is_dir() => fs::remove_dir_all(file),
            Ok(_) => fs::remove_file(file),
            Err(_) => Ok(()),
        };
        let steps = hand_over::steps_beside(file);
        gone.and_then(|()| if steps.exists() { fs::remove_file(&steps) } else { Ok(()) })
            .map_err(|error| cannot(file, &error))
    }

    /// Notes a transport password, on the disk before what it opens.
    fn keep(&self, device: &str, file: &str, password: &str) -> Result<()> {
        append(&self.passwords, PASSWORD_COLUMNS, &line(&[device, file, password])?)
    }

    /// Takes back the passwords of what was not handed over after all.
    fn forget(&self, devices: &BTreeSet<String>) -> Result<()> {
        let Ok(text) = fs::read_to_string(&self.passwords).map(Zeroizing::new) else { return Ok(()) };
        let of = |row: &str| row.split(',').next().unwrap_or_default().trim_matches('"').to_owned();
        let stays: Vec<_> = text.lines().filter(|row| !devices.contains(&of(row))).collect();
        if stays.len() == text.lines().count() {
            return Ok(());
        }
        let kept = Zeroizing::new(stays.join("\n") + "\n");
        let mut aside = self.passwords.as_os_str().to_owned();
        aside.push(".new");
        let aside = PathBuf::from(aside);
        let _ = fs::remove_file(&aside);
        handover::write_bytes(&aside, kept.as_bytes())?;
        fs::rename(&aside, &self.passwords).map_err(|error| cannot(&self.passwords, &error))
    }
}

fn one(
    context: &mut Context,
    folder: &Folder,
    wish: &Wish<'_>,
    user: &User,
    credential: &Credential,
) -> Result<Vec<String>> {
    let name = wish.file(&credential.device);
    let file = folder.path.join(&name);
    folder.clear(&file)?;
    let mut notes = Vec::new();
    let handed = match (wish.form, wish.kind) {
        (Some(form), _) => {
            let mut keep = |password: &str| folder.keep(&credential.device, &name, password);
            let written = hand_over::write_in_form(context, credential, &file, form, wish.on_demand, &mut keep)?;
            notes = written.notes;
            written.credential
        }
        (None, CredentialKind::Password) => forms::hand_over_account(context, &credential.name, |told| {
            handover::write_bytes(&file, hand_over::account_text(told).as_bytes())
        })?,
        (None, _) => handover::hand_over(context, &credential.name, None, |text| handover::write_file(&file, text))?,
    };
    append(&folder.sheet(), SHEET_COLUMNS, &wish.row(user, &handed)?)?;
    Ok(notes)
}

fn nobody_waits(global: &Global, wish: &Wish<'_>, before: usize) -> Result<()> {
    let output = global.output();
    output.did(&[("handed over", 0_usize.into()), ("before", before.into())]);
    output.say(&format!("nobody in {} waits for a {}", wish.group, wish.kind.words()));
    Ok(())
}

pub(super) fn run(global: &Global, context: &mut Context, wish: &Wish<'_>) -> Result<()> {
    let output = global.output();
    let words = wish.kind.words();
    let of = credential::of_group(context, wish.group, wish.kind)?;
    if !of.without.is_empty() {
        let kind = wish.kind.word();
        output.note(&format!(
            "{} have no {words}{}; yestrel credential issue --group {} --kind {kind}",
            of.without.len(),
            shown(&of.without),
            wish.group
        ));
    }
    let (ready, before): (Vec<_>, Vec<_>) =
        of.credentials.into_iter().partition(|(_, credential)| credential.handed_over.is_none());
    if !before.is_empty() {
        output.note(&format!("{} were handed over before", before.len()));
    }
    if ready.is_empty() && !wish.to.exists() {
        return nobody_waits(global, wish, before.len());
    }
    let folder = Folder::open(wish.to)?;
    // What was handed over when a run was stopped, and not yet written down there.
    let told = folder.told();
    for (user, credential) in before.iter().filter(|(_, one)| !told.contains(&one.name)) {
        if folder.path.join(wish.file(&credential.device)).exists() {
            append(&folder.sheet(), SHEET_COLUMNS, &wish.row(user, credential)?)?;
        }
    }
    if ready.is_empty() {
        return nobody_waits(global, wish, before.len());
    }
    let devices: Vec<_> = ready.iter().map(|(_, credential)| credential.device.clone()).collect();
    ask::confirm(
        global.yes,
        &format!(
            "this reveals what {} would come in with to {}, and erases it from the estate{}",
            counted(ready.len(), "device"),
            wish.to.display(),
            shown(&devices)
        ),
    )?;
    folder.forget(&devices.into_iter().collect())?;
    let bar = global.progress(ready.len() as u64, "hand over");
    let (mut done, mut failed, mut notes, mut unknown) = (0_usize, Vec::new(), BTreeSet::new(), BTreeSet::new());
    for (user, credential) in &ready {
        match one(context, &folder, wish, user, credential) {
            Ok(said) => {
                done += 1;
                notes.extend(said);
                unknown.extend(credential::unknown_at(context, credential)?);
            }
            Err(problem) => failed.push((credential.device.clone(), problem)),
        }
        bar.inc(1);
    }
    bar.finish_and_clear();
    notes.iter().for_each(|note| output.note(note));
    for gateway in unknown {
        output.note(&format!("{gateway} does not know all of them yet; yestrel rollout {gateway}   lets them in"));
    }
    let passwords = folder.passwords.exists().then(|| folder.passwords.display().to_string());
    output.did(&[
        ("handed over", done.into()),
        ("before", before.len().into()),
        ("folder", wish.to.display().to_string().into()),
        ("sheet", folder.sheet().display().to_string().into()),
        ("passwords", passwords.clone().into()),
    ]);
    output.say(&format!("handed {done} over in {}; {SHEET} in it says who gets which", wish.to.display()));
    if let Some(passwords) = passwords {
        output.say(&format!("their transport passwords, to be told by another way: {passwords}"));
    }
    let Some((_, first)) = failed.first() else { return Ok(()) };
    let names: Vec<_> = failed.iter().map(|(device, _)| device.clone()).collect();
    Err(Problem::partly(format!("{} were not handed over{}", failed.len(), shown(&names)))
        .why(first.line())
        .try_("the same command again: it goes on where it stopped"))
}
