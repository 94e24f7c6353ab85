//! `yestrel credential`
//!
//! | file | its job |
//! |---|---|
//! | `end` | renewing what is due, and taking back |
//! | `form` | the words for the forms of a handover |
//! | `hand_over` | giving certificates and accounts to devices |
//! | `issue` | issuing to a group, and what is said of what was issued |
//! | `many` | handing over to a whole group |
//! | `notices` | telling devices what is new |
//! | `show` | how credentials are shown |
//! | `shared_secret` | secrets of listeners and of links, by the same verbs |

mod end;
mod form;
mod hand_over;
mod issue;
mod many;
mod notices;
mod shared_secret;
mod show;

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand, ValueEnum};
use jiff::{SignedDuration, Timestamp};
use yestrel_actions::credential::{self, Filter, Whose, Wish};
use yestrel_actions::credential::{handover, shared_secret as shared};
use yestrel_actions::people;
use yestrel_actions::status::{self, Strange};
use yestrel_core::estate::{CredentialKind, CredentialState};
use yestrel_core::keys::PublicKey;
use yestrel_core::x509::{Algorithm, agreement};
use yestrel_core::{Problem, Result};

pub use form::FormName;
use notices::NoticeForm;
use show::{places, remark, state};

use crate::ask;
use crate::flow::Flow;
use crate::global::Global;
use crate::listing::Listing;
use crate::output::{Cell, Table, list};
use crate::unhurried::Unhurried;
use crate::words::{self, moment, read_file};

#[derive(Clone, Copy, ValueEnum)]
pub enum StateName {
    Ready,
    HandedOver,
    Expired,
    Revoked,
}

/// What lets somebody in.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum KindName {
    /// X25519, for the tunnel quill
    KeyPair,
    /// X.509, for clients that devices have
    Certificate,
    /// An account with a password
    Password,
    /// Of a listener or of a link between two sites
    SharedSecret,
}

impl KindName {
    /// The kind of a device's credential; nothing for what is no device's.
    fn of_device(self) -> Option<CredentialKind> {
        match self {
            Self::KeyPair => Some(CredentialKind::KeyPair),
            Self::Certificate => Some(CredentialKind::Certificate),
            Self::Password => Some(CredentialKind::Password),
            Self::SharedSecret => None,
        }
    }
}

#[derive(Subcommand)]
pub enum Command {
    /// Make what lets a device in: a key pair, a certificate, or an account with a password
    #[command(
        after_help = "Example:\n  yestrel credential issue mara/laptop --until 90d\n  yestrel credential issue mara/phone --kind certificate\n  yestrel credential issue mara/phone --kind certificate --address 10.187.45.40\n  yestrel credential issue mara/phone --kind password --generate --second-factor\n  yestrel credential issue --group crew --kind certificate\n  yestrel credential issue boatyard+harbour --kind shared-secret"
    )]
    Issue {
        /// USER/DEVICE; for a shared secret GATEWAY/LISTENER or SITE+SITE
        #[arg(required_unless_present = "group")]
        device: Option<String>,
        /// Every device of this group's users that has none of that kind
        #[arg(long, conflicts_with = "device")]
        group: Option<String>,
        /// What kind
        #[arg(long, value_enum, default_value = "key-pair")]
        kind: KindName,
        /// Where it may come in: a gateway or GATEWAY/LISTENER; several times, in order of preference
        #[arg(long = "at", value_name = "PLACE")]
        at: Vec<String>,
        #[command(flatten)]
        about: About,
        /// Good for one session, on a machine that is not one's own
        #[arg(long)]
        once: bool,
        /// With --group: show who would get one, and change nothing
        #[arg(long, requires = "group")]
        preview: bool,
    },
    /// All credentials, or those of one device
    #[command(
        after_help = "Example:\n  yestrel credential list --state handed-over\n  yestrel credential list --expiring 30d\n  yestrel credential list --group crew --sort expires --last 10\n  yestrel credential list --kind shared-secret"
    )]
    List {
        /// USER/DEVICE
        device: Option<String>,
        /// Only those in this state
        #[arg(long, value_enum)]
        state: Option<StateName>,
        /// Only those of this kind
        #[arg(long, value_enum)]
        kind: Option<KindName>,
        /// Only those that end within this time, or by this date
        #[arg(long, value_name = "WHEN", value_parser = moment)]
        expiring: Option<Timestamp>,
        /// Only those of this user
        #[arg(long)]
        user: Option<String>,
        /// Only those of this group's users
        #[arg(long)]
        group: Option<String>,
        /// Only those that let in at this gateway
        #[arg(long)]
        gateway: Option<String>,
        #[command(flatten)]
        listing: Listing,
    },
    /// One credential in full
    #[command(after_help = "Example:\n  yestrel credential show mara/laptop")]
    Show {
        /// USER/DEVICE, or one of its credentials: USER/DEVICE/NUMBER
        name: String,
        /// Which, where the device has several
        #[arg(long, value_enum)]
        kind: Option<KindName>,
    },
    /// Give a device, once, everything that it needs; the private key is erased from the estate with it
    #[command(
        after_help = "Example:\n  yestrel credential handover mara/laptop --to mara-laptop.yestrel\n  yestrel credential handover mara/phone --code\n  yestrel credential handover mara/phone --kind certificate --as apple --to mara-phone.mobileconfig\n  yestrel credential handover mara/phone --kind password\n  yestrel credential handover --group crew --as apple --to crew-phones"
    )]
    Handover {
        /// USER/DEVICE; for a shared secret its holder
        #[arg(required_unless_present = "group")]
        name: Option<String>,
        /// Everybody in this group whose devices were not given theirs yet: a file each in the folder --to, with a sheet that says who gets
        /// which, and transport passwords apart. Goes on where it stopped
        #[arg(long, conflicts_with_all = ["name", "code", "passphrase", "passphrase_file"], requires = "to")]
        group: Option<String>,
        /// Which, where the device has several
        #[arg(long, value_enum)]
        kind: Option<KindName>,
        /// The file to write, with mode 0600; for pem a folder
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        /// The form, for a system's own software: of a certificate [default: pkcs12], or of an account
        #[arg(long = "as", value_enum, value_name = "FORM")]
        form: Option<FormName>,
        /// PKCS#12 with the older encryption (3DES, SHA-1), for clients that know no other
        #[arg(long)]
        for_old_clients: bool,
        /// With --as apple: let the device connect by itself, for names of the site, or always where everything goes through it
        #[arg(long, requires = "form")]
        on_demand: bool,
        /// Encrypt it under a passphrase (age format), asked for twice
        #[arg(long)]
        passphrase: bool,
        /// Read that passphrase from a file instead of asking
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Show it in the terminal as a code to scan
        #[arg(long, conflicts_with_all = ["to", "passphrase", "passphrase_file"])]
        code: bool,
        /// Of a key pair: tell what the authenticator of its second factor scans, once, apart from the key
        #[arg(long, conflicts_with_all = ["group", "code", "form", "passphrase", "passphrase_file"])]
        second_factor: bool,
    },
    /// Tell a device what is new since its handover (address, port, keys, reach), without a new credential: sealed to it, signed by the estate
    #[command(
        after_help = "Example:\n  yestrel credential notice mara/laptop --to mara-laptop.notice\n  yestrel credential notice mara/laptop --as link\n  yestrel credential notice mara/laptop --as mail --to mara.eml\n  yestrel credential notice --all --to notices   a folder with one for each device that needs one\n\nOn the device: yestrel connect mara-laptop.yestrel --notice FILE-OR-LINK. By a tunnel that still opens, a rollout brings it."
    )]
    Notice {
        /// USER/DEVICE
        #[arg(required_unless_present = "all")]
        name: Option<String>,
        /// Every device that needs one
        #[arg(long, conflicts_with = "name", requires = "to")]
        all: bool,
        /// The form: a text to be sent as a file, a link, or a whole mail to the user's address
        #[arg(long = "as", value_enum, value_name = "FORM", default_value = "file")]
        form: NoticeForm,
        /// The file to write, or with --all the folder [default: standard output]
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Make a new one for a device: a key pair or password in place of the old at once, a certificate beside the old one until
    /// that ends
    #[command(
        after_help = "Example:\n  yestrel credential renew mara/laptop\n  yestrel credential renew --due 30d   all certificates that end within 30 days; a timer can run it\n  yestrel credential renew --due 7d --kind key-pair   and then credential handover --group\n  yestrel credential renew boatyard+harbour --kind shared-secret --overlap 14d"
    )]
    Renew {
        /// USER/DEVICE; for a shared secret its holder
        #[arg(required_unless_present = "due")]
        name: Option<String>,
        /// Which, where the device has several
        #[arg(long, value_enum)]
        kind: Option<KindName>,
        /// All that end within this time: certificates, or of --kind
        #[arg(long, value_name = "WHEN", value_parser = moment, conflicts_with = "name")]
        due: Option<Timestamp>,
        /// How long the old shared secret still holds beside the new one
        #[arg(long, value_name = "DURATION", value_parser = words::span, default_value = "14d")]
        overlap: SignedDuration,
        /// With --due: show what would be renewed, and change nothing
        #[arg(long, requires = "due")]
        preview: bool,
        /// Carry also whatever else waits for the gateways, not only this
        #[arg(long)]
        everything: bool,
        #[command(flatten)]
        about: About,
    },
    /// Take access back, for good and at once: sessions end with the reason
    #[command(
        after_help = "Example:\n  yestrel credential revoke tomas/tablet --reason 'lost on the ferry'   everything that the device has\n  yestrel credential revoke tomas/tablet --kind certificate --reason superseded\n  yestrel credential revoke --group seasonal --reason 'the season is over'\n\nOn revocation lists the reason stands as RFC 5280 has it: its own words are taken (key-compromise, superseded, cessation-of-operation, affiliation-changed, privilege-withdrawn), \"lost\" and \"stolen\" are key-compromise."
    )]
    Revoke {
        /// USER/DEVICE; for a shared secret its holder
        #[arg(required_unless_present = "group")]
        name: Option<String>,
        /// Everything that this group's users have
        #[arg(long, conflicts_with = "name")]
        group: Option<String>,
        /// Only of this kind
        #[arg(long, value_enum)]
        kind: Option<KindName>,
        /// Why: the device is shown it, and the history keeps it
        #[arg(long, value_name = "WORDS")]
        reason: String,
        /// Show what would be taken back, and change nothing
        #[arg(long)]
        preview: bool,
        /// Carry also whatever else waits for the gateways, not only this
        #[arg(long)]
        everything: bool,
    },
    /// End the lock-out of an account before its time
    #[command(after_help = "Example:\n  yestrel credential lift mara/phone")]
    Lift {
        /// USER/DEVICE
        name: String,
    },
}

#[derive(Args)]
pub struct About {
    /// From when it is valid: a date, a moment (RFC 3339), or a time from now: 8h, 90d
    #[arg(long, value_name = "WHEN", value_parser = moment)]
    from: Option<Timestamp>,
    /// Until when: a date, a moment, a time from now, or never [default: 1y; a certificate as its user's groups say; renewed, as long as before]
    #[arg(long, value_name = "WHEN", value_parser = until)]
    until: Option<Until>,
    /// The public key of a pair that was made on the device, in PEM (RFC 8410): yestrel tunnel keys
    #[arg(long, value_name = "FILE")]
    public_key: Option<PathBuf>,
    /// A request (PKCS#10) that was made on the device, for a certificate
    #[arg(long, value_name = "FILE")]
    request: Option<PathBuf>,
    /// The authority that signs a certificate [default: the only one that issues]
    #[arg(long)]
    authority: Option<String>,
    /// What a certificate's key is made of, where it is made here: p-256, p-384, rsa-3072, rsa-4096
    #[arg(long = "key", value_name = "KIND", default_value = "p-256", value_parser = words::algorithm)]
    algorithm: Algorithm,
    /// Make the password of an account, instead of asking for it twice
    #[arg(long, conflicts_with = "password_file")]
    generate: bool,
    /// Read the password of an account from a file instead of asking
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Beside the key or the password a code that changes (RFC 6238): of a key pair, where a policy asks for it
    #[arg(long)]
    second_factor: bool,
    /// The inner address that the device is to have, always, of a listener's pool; without it the gateway or the estate chooses
    #[arg(long, value_name = "ADDRESS")]
    address: Option<std::net::Ipv4Addr>,
}

impl About {
    /// What is wished for; asks for the password of an account.
    fn wish(&self, kind: CredentialKind, at: Vec<String>, once: bool, whom: &str) -> Result<Wish> {
        let password = match (kind, self.generate, &self.password_file) {
            (CredentialKind::Password, false, Some(file)) => Some(ask::first_line(file, "password")?),
            (CredentialKind::Password, false, None) => Some(ask::new_password(whom)?),
            _ => None,
        };
        Ok(Wish {
            kind,
            at,
            public_key: self.public_key.as_deref().map(read_public_key).transpose()?,
            request: self.request.as_deref().map(read_file).transpose()?,
            algorithm: self.algorithm,
            authority: self.authority.clone(),
            password,
            second_factor: self.second_factor,
            address: self.address,
            once,
            valid_from: self.from,
            expires: self.until.and_then(|Until(until)| until),
            endless: matches!(self.until, Some(Until(None))),
        })
    }
}

/// Until when something holds; nothing: for ever.
#[derive(Debug, Clone, Copy)]
struct Until(Option<Timestamp>);

fn until(text: &str) -> std::result::Result<Until, String> {
    if text == "never" {
        return Ok(Until(None));
    }
    moment(text).map(|at| Until(Some(at))).map_err(|why| format!("{why}; or never"))
}

/// How long a new credential holds where nothing else is said.
const TERM: SignedDuration = SignedDuration::from_hours(365 * 24);

/// A wish for a new credential, with the end that it has where none was said.
fn with_an_end(mut wish: Wish, now: Timestamp) -> Result<Wish> {
    if wish.kind == CredentialKind::Certificate {
        if wish.endless {
            return Err(Problem::words("a certificate always has an end")
                .why("without --until it holds as long as its user's groups say")
                .try_("--until 1y"));
        }
    } else if !wish.endless && wish.expires.is_none() {
        wish.expires = Some(wish.valid_from.unwrap_or(now) + TERM);
    }
    Ok(wish)
}

fn read_public_key(path: &Path) -> Result<PublicKey> {
    agreement::read_public(&read_file(path)?)
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Issue { device, group, kind, at, about, once, preview } => match (kind.of_device(), device, group) {
            (None, Some(holder), _) => {
                let made = shared::issue(&mut context, &holder)?;
                output.did(&[("credential", (&made.name).into()), ("kind", "shared-secret".into())]);
                output.say(&format!("made {}", made.name));
                output
                    .say(&format!("yestrel credential handover {} --kind shared-secret   shows it, once", made.holder));
            }
            (None, None, _) => {
                return Err(Problem::words("a shared secret is not a group's").why("it is a listener's or a link's"));
            }
            (Some(kind), _, Some(group)) if preview => {
                let would = credential::would_issue(&mut context, &group, kind)?;
                let devices = would.done.clone();
                if !would.done.is_empty() {
                    // Whatever would refuse it refuses its preview.
                    let wish = with_an_end(about.wish(kind, at, once, &group)?, context.now)?;
                    context
                        .rehearse(|context| credential::issue_group(context, &group, &wish, would, &mut |_, _| true))?;
                }
                let mut table = Table::new(&["device", "would get"], "nobody would get one");
                devices.iter().for_each(|device| table.row(vec![device.into(), kind.word().into()]));
                output.table(&table);
            }
            (Some(kind), _, Some(group)) => {
                let now = context.now;
                let wish = || with_an_end(about.wish(kind, at, once, &group)?, now);
                issue::for_group(global, &mut context, &group, kind, wish)?;
            }
            (Some(kind), device, None) => {
                let device = device.unwrap_or_default();
                let wish = with_an_end(about.wish(kind, at, once, &device)?, context.now)?;
                let issued = credential::issue(&mut context, &device, &wish)?;
                issue::say_issued(output, &issued);
            }
        },
        Command::List { kind: Some(KindName::SharedSecret), .. } => shared_secret::list(output, &mut context)?,
        Command::List { device, state: named, kind, expiring, user, group, gateway, listing } => {
            let members = people::members_of(&mut context, group.as_deref())?;
            let named = named.map(|state| match state {
                StateName::Ready => CredentialState::Ready,
                StateName::HandedOver => CredentialState::HandedOver,
                StateName::Expired => CredentialState::Expired,
                StateName::Revoked => CredentialState::Revoked,
            });
            let filter = Filter { state: named, kind: kind.and_then(KindName::of_device), user, expiring };
            let table = Table::new(
                &["name", "kind", "state", "ways", "issued", "expires", "last used", "remark"],
                if expiring.is_some() {
                    "none ends by then"
                } else {
                    "no credentials; yestrel credential issue USER/DEVICE"
                },
            )
            .least(&["issued", "kind", "ways", "last used"]);
            let (now, mut flow) = (context.now, Flow::begin(output, &listing, table));
            credential::each(&mut context, device.as_deref(), &filter, |standing| {
                let one = &standing.credential;
                if members.as_ref().is_some_and(|members| !members.contains(&one.user))
                    || gateway.as_ref().is_some_and(|gateway| !one.gateways().contains(gateway))
                {
                    return Ok(true);
                }
                Ok(flow.row(vec![
                    (&one.name).into(),
                    one.kind().word().into(),
                    state(&standing),
                    list(&places(one)),
                    Cell::ago(Some(one.issued), now),
                    Cell::ago(one.expires, now),
                    Cell::ago(one.last_used, now),
                    remark(&standing, now).into(),
                ]))
            })?;
            flow.end()?;
            let strange = status::strange(&mut context, &[])?;
            for (gateway, Strange { words, .. }) in strange.iter().filter(|(_, one)| one.silent) {
                output.note(&format!("{gateway}: {words}; what it saw since is not in this list"));
            }
        }
        Command::Show { name, kind: Some(KindName::SharedSecret) } => shared_secret::show(output, &mut context, &name)?,
        Command::Show { name, kind } => show::show(output, &mut context, &name, kind.and_then(KindName::of_device))?,
        Command::Handover { group: Some(group), kind, to, form, for_old_clients, on_demand, .. } => {
            let kind = match (kind.map(KindName::of_device), form) {
                (Some(Some(kind)), _) => kind,
                (None, None) => CredentialKind::KeyPair,
                (None, Some(_)) => CredentialKind::Certificate,
                (Some(None), _) => {
                    return Err(Problem::words("a shared secret is no group's")
                        .why("a listener or a pair of sites has it")
                        .try_("yestrel credential handover HOLDER --kind shared-secret"));
                }
            };
            let form = match (kind, form) {
                (CredentialKind::KeyPair, Some(_)) => {
                    return Err(Problem::words("these options do not belong together")
                        .why("--as and --for-old-clients are for certificates and accounts"));
                }
                (CredentialKind::KeyPair | CredentialKind::Password, None) => None,
                (_, form) => Some(hand_over::chosen(form, for_old_clients)?),
            };
            let to = to.unwrap_or_default();
            let wish = many::Wish { group: &group, kind, form, on_demand, to: &to };
            many::run(global, &mut context, &wish)?;
        }
        Command::Handover {
            name,
            kind,
            to,
            form,
            for_old_clients,
            on_demand,
            passphrase,
            passphrase_file,
            code,
            second_factor,
            ..
        } => {
            let name = name.unwrap_or_default();
            if second_factor {
                return hand_over::second_factor(global, &mut context, &name, to.as_deref());
            }
            if code && !output.terminal {
                return Err(Problem::words("a code to scan is for a terminal")
                    .why("standard output is none")
                    .try_("--to FILE"));
            }
            if kind == Some(KindName::SharedSecret) {
                return shared_secret::hand_over(global, &mut context, &name, to.as_deref());
            }
            let standing = credential::show(&mut context, &name, kind.and_then(KindName::of_device))?;
            let plain = form.is_none() && !for_old_clients;
            let sealed = passphrase || passphrase_file.is_some();
            match standing.credential.kind() {
                CredentialKind::KeyPair if plain => {}
                CredentialKind::Certificate if !sealed && !code => {
                    let how = (for_old_clients, on_demand);
                    return hand_over::in_form(global, &mut context, &standing, to, form, how);
                }
                CredentialKind::Password if plain && !sealed => {
                    return hand_over::account(global, &mut context, &standing, to.as_deref());
                }
                CredentialKind::Password if form.is_some() && !sealed && !code && !for_old_clients => {
                    return hand_over::in_form(global, &mut context, &standing, to, form, (false, on_demand));
                }
                kind => {
                    return Err(Problem::words("these options do not belong together").why(match kind {
                        CredentialKind::Certificate => {
                            "a certificate's bundle has a transport password of its own, and does not fit into a code"
                        }
                        CredentialKind::Password => "an account's form has no passphrase, and no older encryption",
                        CredentialKind::KeyPair => "--as and --for-old-clients are for certificates and accounts",
                    }));
                }
            }
            let to = if code {
                None
            } else {
                let default = format!("{}.yestrel", standing.credential.device.replace('/', "-"));
                Some(ask::file(to, &default, "a handover holds a private key, and goes to a file with mode 0600")?)
            };
            let where_to =
                to.as_ref().map_or_else(|| "this terminal, as a code".to_owned(), |path| path.display().to_string());
            if !standing.credential.made_on_device() {
                ask::confirm(
                    global.yes,
                    &format!(
                        "this reveals the private key of {} to {where_to}, and erases it from the estate",
                        standing.credential.name
                    ),
                )?;
            }
            let passphrase =
                if sealed { Some(ask::new_passphrase("the handover", passphrase_file.as_deref())?) } else { None };
            let handed = handover::hand_over(
                &mut context,
                &standing.credential.name,
                passphrase.as_deref().map(String::as_str),
                |text| match &to {
                    Some(path) => handover::write_file(path, text),
                    None => hand_over::show_code(output, text),
                },
            )?;
            if let Some(path) = to {
                output.did(&[("credential", (&handed.name).into()), ("file", path.display().to_string().into())]);
                output.say(&format!("handed {} over in {}", handed.name, path.display()));
                let once = if handed.once { " --once" } else { "" };
                output.say(&format!(
                    "on the device: yestrel connect {}{once}",
                    path.file_name().unwrap_or_default().to_string_lossy()
                ));
            }
            hand_over::say_unknown(output, &mut context, &handed)?;
        }
        Command::Notice { name, form, to, .. } => {
            notices::run(output, &mut context, name.as_deref(), form, to.as_deref())?
        }
        Command::Renew { due: Some(by), kind, preview, everything, .. } => {
            let kind = match kind.map(KindName::of_device) {
                Some(None) => {
                    return Err(Problem::words("a shared secret has no end by which it would be due")
                        .try_("yestrel credential renew HOLDER --kind shared-secret"));
                }
                kind => kind.flatten().unwrap_or(CredentialKind::Certificate),
            };
            end::renew_due(global, &mut context, (by, kind), preview, everything)?;
        }
        Command::Renew { name, kind: Some(KindName::SharedSecret), overlap, .. } => {
            let holder = name.unwrap_or_default();
            let (made, until) = shared::renew(&mut context, &holder, overlap)?;
            output.did(&[("shared secret", (&made.name).into()), ("before holds until", until.into())]);
            output.say(&format!(
                "made {}; the one before holds beside it until {}",
                made.name,
                yestrel_core::moment(until)
            ));
            output.say(&format!("yestrel credential handover {} --kind shared-secret   shows it, once", made.holder));
        }
        Command::Renew { name, kind, about, everything, .. } => {
            let name = name.unwrap_or_default();
            let before = credential::show(&mut context, &name, kind.and_then(KindName::of_device))?.credential;
            let effect = match before.kind() {
                CredentialKind::KeyPair => "its sessions end, and the device needs the new handover to come in again",
                CredentialKind::Password => "its password holds no more",
                CredentialKind::Certificate => "",
            };
            if before.kind() != CredentialKind::Certificate {
                ask::confirm(global.yes, &format!("this revokes {}: {effect}", before.name))?;
            }
            let wish = about.wish(before.kind(), Vec::new(), false, &before.device)?;
            let _unhurried = Unhurried::begin();
            let renewed = credential::renew(&mut context, &before.name, None, &wish)?;
            let made = &renewed.what.credential;
            output.did(&[
                ("credential", (&made.name).into()),
                ("in place of", (&before.name).into()),
                ("expires", made.expires.into()),
            ]);
            output.say(&format!("made {} in place of {}", made.name, before.name));
            if let (CredentialKind::Certificate, Some(end)) = (before.kind(), before.expires) {
                output.say(&format!("{} holds beside it until {}", before.name, yestrel_core::moment(end)));
            }
            crate::rollout::carry_beside(global, &mut context, &renewed, everything)?;
            issue::say_handover(output, made);
        }
        Command::Revoke { name: Some(holder), kind: Some(KindName::SharedSecret), reason, preview, .. } => {
            if preview {
                return shared_secret::show(output, &mut context, &holder);
            }
            ask::confirm(global.yes, &format!("this takes the shared secret of {holder} back for good"))?;
            for ended in shared::revoke(&mut context, &holder, &reason)? {
                output.say(&format!("revoked {}", ended.name));
            }
        }
        Command::Revoke { name, group, kind, reason, preview, everything } => {
            let kind = kind.and_then(KindName::of_device);
            let whose = match (name, group) {
                (Some(name), _) => Whose::Device(name, kind),
                (None, group) => Whose::Group(group.unwrap_or_default(), kind),
            };
            end::revoke(global, &mut context, &whose, &reason, preview, everything)?;
        }
        Command::Lift { name } => {
            let locked = credential::lift(&mut context, &name)?;
            output.say(&if locked {
                format!("{name} can sign in again")
            } else {
                format!("{name} was not locked out; its failures count from nought again")
            });
        }
    }
    Ok(())
}
