//! `yestrel credential`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jiff::Timestamp;
use yestrel_actions::credential::{self, View, Wish};
use yestrel_actions::handover;
use yestrel_core::facts::Grade;
use yestrel_core::keys::PublicKey;
use yestrel_core::nouns::{Credential, CredentialState};
use yestrel_core::{Problem, Result};

use crate::output::{Cell, Table, list};
use crate::{Global, ask};

#[derive(Clone, Copy, ValueEnum)]
pub enum StateName {
    Ready,
    HandedOver,
    Expired,
    Revoked,
}

#[derive(Subcommand)]
pub enum Command {
    /// Make what lets a device in: a key pair, and an inner address at each listener
    #[command(
        after_help = "Example:\n  yestrel credential issue mara/laptop --until 90d\n  yestrel credential issue mara/laptop --at harbour --at pier-office --public-key KEY"
    )]
    Issue {
        /// USER/DEVICE
        device: String,
        /// Where it may come in: a gateway or GATEWAY/LISTENER; several times, in order of preference
        #[arg(long = "at", value_name = "PLACE")]
        at: Vec<String>,
        #[command(flatten)]
        about: About,
    },
    /// All credentials, or those of one device
    #[command(after_help = "Example:\n  yestrel credential list --state handed-over")]
    List {
        /// USER/DEVICE
        device: Option<String>,
        /// Only those in this state
        #[arg(long, value_enum)]
        state: Option<StateName>,
    },
    /// One credential in full
    #[command(after_help = "Example:\n  yestrel credential show mara/laptop")]
    Show {
        /// USER/DEVICE, or one of its credentials: USER/DEVICE/NUMBER
        name: String,
    },
    /// Give a device, once, everything that it needs; the private key is erased from the estate with it
    #[command(
        after_help = "Example:\n  yestrel credential handover mara/laptop --to mara-laptop.yestrel\n  yestrel credential handover mara/phone --code"
    )]
    Handover {
        /// USER/DEVICE
        name: String,
        /// The file to write, with mode 0600
        #[arg(long, value_name = "FILE", required_unless_present = "code")]
        to: Option<PathBuf>,
        /// Encrypt it under a passphrase (age format), asked for twice
        #[arg(long)]
        passphrase: bool,
        /// Read that passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Show it in the terminal as a code to scan
        #[arg(long, conflicts_with_all = ["to", "passphrase", "passphrase_file"])]
        code: bool,
    },
    /// Make a new key for a device, with the same ways and addresses; the old key is revoked at once
    #[command(after_help = "Example:\n  yestrel credential renew mara/laptop")]
    Renew {
        /// USER/DEVICE
        name: String,
        #[command(flatten)]
        about: About,
    },
    /// Take a device's access back, for good and at once: its sessions end with the reason
    #[command(after_help = "Example:\n  yestrel credential revoke tomas/tablet --reason 'lost on the ferry'")]
    Revoke {
        /// USER/DEVICE
        name: String,
        /// Why: the device is shown it, and the history keeps it
        #[arg(long, value_name = "WORDS")]
        reason: String,
    },
}

#[derive(Args)]
pub struct About {
    /// From when it is valid: a date, a moment (RFC 3339), or a time from now: 8h, 90d
    #[arg(long, value_name = "WHEN", value_parser = moment)]
    from: Option<Timestamp>,
    /// Until when: a date, a moment, or a time from now
    #[arg(long, value_name = "WHEN", value_parser = moment)]
    until: Option<Timestamp>,
    /// The public key, in base64, of a pair that was made on the device
    #[arg(long, value_name = "KEY", value_parser = public_key)]
    public_key: Option<PublicKey>,
}

fn public_key(text: &str) -> std::result::Result<PublicKey, String> {
    text.parse().map_err(|problem: Problem| problem.why.unwrap_or(problem.error))
}

/// A date (its beginning, UTC), a moment, or a time from now.
fn moment(text: &str) -> std::result::Result<Timestamp, String> {
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    if let Ok(date) = text.parse::<jiff::civil::Date>() {
        return date.to_zoned(jiff::tz::TimeZone::UTC).map(|at| at.timestamp()).map_err(|error| error.to_string());
    }
    let unknown =
        || "a date (2027-05-31), a moment (2027-05-31T00:00:00Z), or a time from now (8h, 90d, 2y)".to_owned();
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).ok_or_else(unknown)?);
    let hours = match unit {
        "h" => 1,
        "d" => 24,
        "w" => 24 * 7,
        "y" => 24 * 365,
        _ => return Err(unknown()),
    };
    let number: i64 = number.parse().map_err(|_| unknown())?;
    let span = number
        .checked_mul(hours)
        .filter(|hours| *hours <= 24 * 365 * 50)
        .ok_or_else(|| "at most 50 years".to_owned())?;
    Ok(Timestamp::now() + jiff::SignedDuration::from_hours(span))
}

fn ways(credential: &Credential) -> Vec<String> {
    credential.ways.iter().map(|way| format!("{} {}", way.listener, way.inner)).collect()
}

fn state(view: &View) -> Cell {
    let grade = match view.state.as_str() {
        "revoked" | "expired" => Grade::Bad,
        _ if view.suspended || !view.stale.is_empty() => Grade::Poor,
        _ => Grade::Good,
    };
    let mut word = view.state.clone();
    if view.suspended && grade != Grade::Bad {
        word.push_str(", suspended");
    }
    if !view.stale.is_empty() {
        word.push_str(", stale");
    }
    Cell::State(grade, word)
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Issue { device, at, about } => {
            let wish = Wish { at, public_key: about.public_key, valid_from: about.from, expires: about.until };
            let issued = credential::issue(&mut context, &device, &wish)?;
            output.say(&format!("issued {} for {}", issued.name, ways(&issued).join(", ")));
            if let Some(end) = issued.expires {
                output.say(&format!("it ends on {}", yestrel_core::moment(end)));
            }
            output.say(&format!(
                "yestrel rollout   lets it in;  yestrel credential handover {device} --to FILE   gives it to the device"
            ));
        }
        Command::List { device, state: wanted } => {
            let wanted = wanted.map(|state| match state {
                StateName::Ready => CredentialState::Ready,
                StateName::HandedOver => CredentialState::HandedOver,
                StateName::Expired => CredentialState::Expired,
                StateName::Revoked => CredentialState::Revoked,
            });
            let mut table = Table::new(
                &["name", "state", "ways", "issued", "expires", "last used", "remark"],
                "no credentials; yestrel credential issue USER/DEVICE",
            );
            for view in credential::list(&mut context, device.as_deref(), wanted)? {
                let remark = view
                    .credential
                    .reason
                    .clone()
                    .or_else(|| Some(view.stale.join("; ")).filter(|stale| !stale.is_empty()));
                table.row(vec![
                    (&view.credential.name).into(),
                    state(&view),
                    list(&ways(&view.credential)),
                    view.credential.issued.into(),
                    view.credential.expires.into(),
                    view.credential.last_used.into(),
                    remark.into(),
                ]);
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let view = credential::show(&mut context, &name)?;
            let state = state(&view);
            let credential = view.credential;
            output.record(&[
                ("name", credential.name.clone().into()),
                ("device", (&credential.device).into()),
                ("kind", "key pair".into()),
                ("state", state),
                ("key", credential.public_key.fingerprint().into()),
                ("made", if credential.made_on_device { "on the device" } else { "in the estate" }.into()),
                ("ways", list(&ways(&credential))),
                ("issued", credential.issued.into()),
                ("valid from", credential.valid_from.into()),
                ("expires", credential.expires.into()),
                ("handed over", credential.handed_over.into()),
                ("first used", credential.first_used.into()),
                ("last used", credential.last_used.into()),
                ("revoked", credential.revoked.into()),
                ("reason", credential.reason.clone().into()),
                ("stale", list(&view.stale)),
            ]);
        }
        Command::Handover { name, to, passphrase, passphrase_file, code } => {
            let view = credential::show(&mut context, &name)?;
            let where_to =
                to.as_ref().map_or_else(|| "this terminal, as a code".to_owned(), |path| path.display().to_string());
            if code && !output.terminal {
                return Err(Problem::words("a code to scan is for a terminal")
                    .why("standard output is none")
                    .try_("--to FILE"));
            }
            if !view.credential.made_on_device {
                ask::confirm(
                    global.yes,
                    &format!(
                        "this reveals the private key of {} to {where_to}, and erases it from the estate",
                        view.credential.name
                    ),
                )?;
            }
            let passphrase = if passphrase || passphrase_file.is_some() {
                Some(ask::new_passphrase("the handover", passphrase_file.as_deref())?)
            } else {
                None
            };
            let handed =
                handover::hand_over(
                    &mut context,
                    &name,
                    passphrase.as_deref().map(String::as_str),
                    |text| match &to {
                        Some(path) => handover::write_file(path, text),
                        None => show_code(output, text),
                    },
                )?;
            if let Some(path) = to {
                output.say(&format!("handed {} over in {}", handed.name, path.display()));
                output.say(&format!(
                    "on the device: yestrel connect {}",
                    path.file_name().unwrap_or_default().to_string_lossy()
                ));
            }
        }
        Command::Renew { name, about } => {
            let before = credential::show(&mut context, &name)?;
            ask::confirm(
                global.yes,
                &format!(
                    "this revokes {}: its sessions end, and the device needs the new handover to come in again",
                    before.credential.name
                ),
            )?;
            let wish =
                Wish { at: Vec::new(), public_key: about.public_key, valid_from: about.from, expires: about.until };
            let (renewed, gateways) = credential::renew(&mut context, &name, &wish)?;
            output.say(&format!("made {} in place of {}", renewed.name, before.credential.name));
            crate::rollout::carry(global, &mut context, &gateways)?;
            output.say(&format!("yestrel credential handover {} --to FILE   gives it to the device", renewed.device));
        }
        Command::Revoke { name, reason } => {
            let view = credential::show(&mut context, &name)?;
            ask::confirm(
                global.yes,
                &format!(
                    "this takes {} back for good: its sessions end now, with the reason {reason:?}",
                    view.credential.name
                ),
            )?;
            let (revoked, gateways) = credential::revoke(&mut context, &name, &reason)?;
            output.say(&format!("revoked {}", revoked.name));
            crate::rollout::carry(global, &mut context, &gateways)?;
        }
    }
    Ok(())
}

fn show_code(output: crate::output::Output, text: &str) -> Result<()> {
    let too_large =
        |_| Problem::refused("the handover does not fit into a code").why("it has too many ways").try_("--to FILE");
    let code = qrcode::QrCode::with_error_correction_level(text.as_bytes(), qrcode::EcLevel::L).map_err(too_large)?;
    let picture = code.render::<qrcode::render::unicode::Dense1x2>().quiet_zone(true).build();
    output.write(&format!("{picture}\n"));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::moment;

    #[test]
    fn moments_in_every_form() {
        assert_eq!(moment("2027-05-31").unwrap().to_string(), "2027-05-31T00:00:00Z");
        assert_eq!(moment("2027-05-31T08:00:00+02:00").unwrap().to_string(), "2027-05-31T06:00:00Z");
        let days = (moment("90d").unwrap() - jiff::Timestamp::now()).total(jiff::Unit::Hour).unwrap();
        assert!((days - 2160.0).abs() < 0.1);
        for bad in ["", "soon", "90", "90x", "999999999999y", "2027-13-01"] {
            assert!(moment(bad).is_err(), "{bad}");
        }
    }
}
