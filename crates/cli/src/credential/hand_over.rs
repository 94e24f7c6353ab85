//! Giving certificates and accounts to devices.

use std::path::{Path, PathBuf};

use yestrel_actions::Context;
use yestrel_actions::credential::forms::{self, Bundle, Form, Told, Wish};
use yestrel_actions::credential::{self, CredentialStanding, handover};
use yestrel_core::estate::{Credential, CredentialKind};
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use super::form::FormName;
use crate::ask;
use crate::global::Global;
use crate::output::{Output, list};
use crate::words;

/// The form that the words name; without one a certificate's.
pub(super) fn chosen(form: Option<FormName>, old: bool) -> Result<Form> {
    Ok(match form {
        None | Some(FormName::Pkcs12) => Form::Pkcs12 { old },
        Some(_) if old => {
            return Err(
                Problem::words("--for-old-clients is for pkcs12").why("the other forms are made for one system each")
            );
        }
        Some(FormName::Pem) => Form::Pem,
        Some(FormName::Apple) => Form::Apple,
        Some(FormName::Windows) => Form::Windows,
        Some(FormName::Android) => Form::Android,
    })
}

/// In a form that a system takes: a certificate, or an account.
pub(super) fn in_form(
    global: &Global,
    context: &mut Context,
    standing: &CredentialStanding,
    to: Option<PathBuf>,
    form: Option<FormName>,
    (old, on_demand): (bool, bool),
) -> Result<()> {
    let output = global.output();
    let name = &standing.credential.name;
    let kind = standing.credential.kind();
    let form = chosen(form, old)?;
    let ending = ending(form);
    let default = format!("{}{ending}", standing.credential.device.replace('/', "-"));
    forms::before(context, name, kind)?.iter().for_each(|note| output.note(note));
    let to = ask::file(to, &default, "a bundle goes to a file; its password is shown here, apart from it")?;
    let account = standing.credential.account();
    let secret = match account {
        Some(account) => account.generated.as_ref().filter(|_| form == Form::Apple).map(|_| "the password"),
        None => (!standing.credential.made_on_device()).then_some("the private key"),
    };
    if let Some(secret) = secret {
        ask::confirm(
            global.yes,
            &format!("this reveals {secret} of {name} to {}, and erases it from the estate", to.display()),
        )?;
    }
    if old {
        output.note("3DES and SHA-1 keep the key of this bundle only weakly; delete it once it is imported");
    }
    let written = write_in_form(context, &standing.credential, &to, form, on_demand, &mut |_| Ok(()))?;
    let Written { credential: handed, transport, notes, steps } = written;
    let beside = steps_beside(&to);
    output.did(&[
        ("credential", (&handed.name).into()),
        ("file", to.display().to_string().into()),
        ("form", forms::word(form).into()),
        ("steps", steps.then(|| beside.display().to_string()).into()),
        ("transport password", transport.as_ref().map(|password| password.to_string()).into()),
    ]);
    output.say(&format!("handed {} over in {}, as {}", handed.name, to.display(), forms::word(form)));
    if steps {
        output.say(&format!("what to do with it on the device: {}", beside.display()));
    }
    if account.is_some_and(|account| account.generated.is_some()) && form != Form::Apple {
        output.say(&format!("its password is not in it: yestrel credential handover {name}   tells it, once"));
    }
    notes.iter().for_each(|note| output.note(note));
    if let Some(password) = transport {
        words::say_transport(output, &password);
    }
    say_unknown(output, context, &handed)
}

/// Says which gateways do not know yet what was handed over: until then the device is not let in.
pub(super) fn say_unknown(output: Output, context: &mut Context, credential: &Credential) -> Result<()> {
    for gateway in credential::unknown_at(context, credential)? {
        output
            .note(&format!("{gateway} does not know {} yet; yestrel rollout {gateway}   lets it in", credential.name));
    }
    Ok(())
}

/// How the files of a form end.
pub(super) fn ending(form: Form) -> &'static str {
    match form {
        Form::Pkcs12 { .. } => ".p12",
        Form::Pem => "",
        Form::Apple => ".mobileconfig",
        Form::Windows => ".ps1",
        Form::Android => ".zip",
    }
}

/// The page of steps beside a file.
pub(super) fn steps_beside(file: &Path) -> PathBuf {
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    file.with_file_name(format!("{name}.steps.txt"))
}

/// What was written for a device.
pub(super) struct Written {
    pub credential: Credential,
    pub transport: Option<Zeroizing<String>>,
    pub notes: Vec<String>,
    /// Whether a page of steps lies beside it.
    pub steps: bool,
}

/// Writes a credential in a form; `keep` gets the transport password before anything that it opens is written.
pub(super) fn write_in_form(
    context: &mut Context,
    credential: &Credential,
    to: &Path,
    form: Form,
    on_demand: bool,
    keep: &mut dyn FnMut(&str) -> Result<()>,
) -> Result<Written> {
    let (mut transport, mut notes, mut steps) = (None, Vec::new(), false);
    let file = to.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let beside = steps_beside(to);
    let wish = Wish { form, on_demand, file: &file };
    let credential = forms::hand_over(context, &credential.name, credential.kind(), &wish, |bundle: &Bundle| {
        if let Some(password) = &bundle.transport {
            keep(password)?;
        }
        // The page goes first: if it cannot be written, nothing was revealed.
        if let Some(page) = &bundle.steps {
            handover::write_bytes(&beside, page.as_bytes())?;
            steps = true;
        }
        let wrote = match (&bundle.files[..], form) {
            (files, Form::Pem) => handover::write_folder(to, files),
            ([(_, bytes)], _) => handover::write_bytes(to, bytes),
            _ => Err(Problem::failed("the bundle has too many files")),
        };
        if wrote.is_err() && steps {
            let _ = std::fs::remove_file(&beside);
        }
        transport.clone_from(&bundle.transport);
        notes.clone_from(&bundle.notes);
        wrote
    })?;
    Ok(Written { credential, transport, notes, steps })
}

/// What an account is told, as a text.
pub(super) fn account_text(told: &Told) -> Zeroizing<String> {
    let mut text = Zeroizing::new(format!("account        {}\n", told.account));
    if let Some(password) = &told.password {
        text.push_str(&format!("password       {}\n", **password));
    }
    if let Some(second) = &told.second_factor {
        text.push_str(&format!("second factor  {}\n", **second));
    }
    for (dialled, _) in &told.at {
        text.push_str(&format!("server         {dialled}, type IKEv2 with user name and password\n"));
    }
    if told.at.iter().any(|(_, authority)| !authority.is_empty()) {
        text.push_str("trust          the root: yestrel authority export root --to root.pem\n");
    }
    text
}

pub(super) fn account(
    global: &Global,
    context: &mut Context,
    standing: &CredentialStanding,
    to: Option<&Path>,
) -> Result<()> {
    let output = global.output();
    let name = &standing.credential.name;
    forms::before(context, name, CredentialKind::Password)?.iter().for_each(|note| output.note(note));
    let where_to = to.map_or_else(|| "this terminal".to_owned(), |path| path.display().to_string());
    ask::confirm(global.yes, &format!("this reveals what {name} signs in with to {where_to}, once"))?;
    let handed = forms::hand_over_account(context, name, |told| {
        if to.is_none() && output.is_for_programs() {
            let servers: Vec<_> = told.at.iter().map(|(dialled, _)| dialled).collect();
            output.record(&[
                ("account", (&told.account).into()),
                ("password", told.password.as_ref().map(|own| own.to_string()).into()),
                ("second factor", told.second_factor.as_ref().map(|own| own.to_string()).into()),
                ("servers", list(&servers)),
            ]);
            return Ok(());
        }
        let text = account_text(told);
        if let Some(path) = to {
            handover::write_bytes(path, text.as_bytes())?;
            output.did(&[("account", (&told.account).into()), ("file", path.display().to_string().into())]);
            return Ok(());
        }
        output.write(&text);
        match &told.second_factor {
            Some(second) if output.terminal => show_code(output, second),
            _ => Ok(()),
        }
    })?;
    say_unknown(output, context, &handed)
}

/// Tells what the authenticator of a key pair's second factor scans, once.
pub(super) fn second_factor(global: &Global, context: &mut Context, name: &str, to: Option<&Path>) -> Result<()> {
    let output = global.output();
    let where_to = to.map_or_else(|| "this terminal".to_owned(), |path| path.display().to_string());
    ask::confirm(global.yes, &format!("this reveals the second factor of {name} to {where_to}, once"))?;
    let handed = handover::second_factor(context, name, |scanned| match to {
        Some(path) => handover::write_bytes(path, format!("{scanned}\n").as_bytes()),
        None if output.is_for_programs() => {
            output.record(&[("second factor", scanned.into())]);
            Ok(())
        }
        None => {
            output.write(&format!("{scanned}\n"));
            if output.terminal { show_code(output, scanned) } else { Ok(()) }
        }
    })?;
    if to.is_some() {
        output.say(&format!("the second factor of {} is in {where_to}: its authenticator reads it", handed.name));
    }
    say_unknown(output, context, &handed)
}

pub(super) fn show_code(output: Output, text: &str) -> Result<()> {
    let too_large =
        |_| Problem::refused("the handover does not fit into a code").why("it has too many ways").try_("--to FILE");
    let code = qrcode::QrCode::with_error_correction_level(text.as_bytes(), qrcode::EcLevel::L).map_err(too_large)?;
    let picture = code.render::<qrcode::render::unicode::Dense1x2>().quiet_zone(true).build();
    output.write(&format!("{picture}\n"));
    Ok(())
}
