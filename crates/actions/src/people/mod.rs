//! Groups, users and their devices.
//!
//! | file | its job |
//! |---|---|
//! | `import` | many users from a file: what is in it |
//! | `importing` | bringing them into the estate |

pub mod import;
pub mod importing;

use std::collections::BTreeSet;

use yestrel_core::estate::{CertificateState, Credential, Device, Group, Revocation, Session, User, UserState};
use yestrel_core::policy::Asks;
use yestrel_core::x509::list::Reason;
use yestrel_core::{Problem, Result, name};
use yestrel_store::queries::in_group;
use yestrel_store::records::Address;
use yestrel_store::{Book, Link, Query, Record as _};

use crate::authority::lists;
use crate::changed::Changed;
use crate::context::Context;
use crate::credential::end::{self, Ended};
use crate::find::{self, still_needed};
use crate::policy;

/// Days that a certificate of a group's members may hold.
fn check_lifetime(days: Option<u16>) -> Result<()> {
    match days {
        Some(days) if !(1..=3650).contains(&days) => {
            Err(Problem::words(format!("a certificate does not hold {days} days"))
                .why("1 day to 10 years are possible")
                .try_("--lifetime 90d"))
        }
        _ => Ok(()),
    }
}

/// Adds a group.
///
/// # Errors
/// A bad or taken name.
pub fn add_group(context: &mut Context, group: &str, about: Option<String>, lifetime: Option<u16>) -> Result<Group> {
    check_lifetime(lifetime)?;
    name::check("group", group)?;
    let group = Group { name: group.into(), about, lifetime, created: context.now };
    context.write(|book| {
        book.add(&group)?;
        book.note("group add", &group.name, group.about.as_deref().unwrap_or_default())
    })?;
    Ok(group)
}

/// All groups, with their members.
///
/// # Errors
/// The estate cannot be read.
pub fn list_groups(context: &mut Context) -> Result<Vec<(Group, Vec<String>)>> {
    context.read(|book| {
        let with = |group: Group| {
            let members = book.names::<User>(&in_group(&group.name))?;
            Ok((group, members))
        };
        book.all::<Group>()?.into_iter().map(with).collect()
    })
}

/// Changes what is said of a group, and who is in it.
///
/// # Errors
/// No such group or user.
pub fn change_group(
    context: &mut Context,
    group: &str,
    about: Option<String>,
    lifetime: Option<u16>,
    add: &[String],
    remove: &[String],
) -> Result<()> {
    check_lifetime(lifetime)?;
    if about.is_none() && lifetime.is_none() && add.is_empty() && remove.is_empty() {
        return Err(Problem::words("nothing was said that should change")
            .try_("--about, --lifetime, --add USER or --remove USER"));
    }
    context.write(|book| {
        let mut group: Group = book.need(group)?;
        if about.is_some() || lifetime.is_some() {
            group.about = about.or(group.about);
            group.lifetime = lifetime.or(group.lifetime);
            book.put(&group)?;
        }
        for member in add.iter().chain(remove) {
            let mut user: User = book.need(member)?;
            user.groups.retain(|other| *other != group.name);
            if add.contains(member) {
                user.groups.push(group.name.clone());
                user.groups.sort();
            }
            book.put(&user)?;
        }
        let said = [("add", add), ("remove", remove)]
            .map(|(verb, names)| if names.is_empty() { String::new() } else { format!("{verb} {}", names.join(",")) });
        book.note("group change", &group.name, said.join(" ").trim())
    })
}

/// Removes a group that nobody is in.
///
/// # Errors
/// Somebody is in it.
pub fn remove_group(context: &mut Context, group: &str) -> Result<()> {
    context.write(|book| {
        let group: Group = book.need(group)?;
        let members = book.names::<User>(&in_group(&group.name))?;
        let try_ = format!("yestrel group change {} --remove USER", group.name);
        policy::still_named(book, Asks::Group, &group.name)?;
        still_needed(&format!("the group {}", group.name), &members, "its members", &try_)?;
        book.remove::<Group>(&group.name)?;
        book.note("group remove", &group.name, "")
    })
}

/// What a command says about a user; `None` leaves what is there.
#[derive(Debug, Default)]
pub struct Wish {
    pub mail: Option<String>,
    pub about: Option<String>,
    pub groups: Option<Vec<String>>,
}

impl Wish {
    fn apply(&self, book: &Book<'_>, user: &mut User) -> Result<()> {
        if let Some(mail) = &self.mail {
            user.mail = Some(name::mail(mail)?);
        }
        if let Some(about) = &self.about {
            user.about = Some(about.clone());
        }
        if let Some(groups) = &self.groups {
            for group in groups {
                book.need::<Group>(group)?;
            }
            user.groups.clone_from(groups);
            user.groups.sort();
            user.groups.dedup();
        }
        Ok(())
    }
}

/// Adds a user.
///
/// # Errors
/// A bad or taken name, no such group.
pub fn add_user(context: &mut Context, user: &str, wish: &Wish) -> Result<User> {
    name::check("user", user)?;
    let created = context.now;
    context.write(|book| {
        let mut user = User::new(user, created);
        wish.apply(book, &mut user)?;
        book.add(&user)?;
        book.note("user add", &user.name, &user.groups.join(","))?;
        Ok(user)
    })
}

/// Changes a user.
///
/// # Errors
/// No such user or group.
pub fn change_user(context: &mut Context, user: &str, wish: &Wish) -> Result<User> {
    if wish.mail.is_none() && wish.about.is_none() && wish.groups.is_none() {
        return Err(Problem::words("nothing was said that should change").try_("--mail, --about or --group"));
    }
    context.write(|book| {
        let mut user: User = book.need(user)?;
        wish.apply(book, &mut user)?;
        book.put(&user)?;
        book.note("user change", &user.name, &user.groups.join(","))?;
        Ok(user)
    })
}

pub use yestrel_store::queries::UserLine;

/// A user with what they carry.
#[derive(Debug, serde::Serialize)]
pub struct UserStanding {
    pub user: User,
    pub devices: Vec<Device>,
    pub credentials: usize,
}

/// Shows users one by one, for as long as `visit` says yes: all, or those of a group or in a state.
///
/// # Errors
/// The estate cannot be read, or there is no such group.
pub fn each_user(
    context: &mut Context,
    group: Option<&str>,
    state: Option<&str>,
    visit: impl FnMut(UserLine) -> Result<bool>,
) -> Result<()> {
    context.read(|book| {
        if let Some(group) = group {
            book.need::<Group>(group)?;
        }
        let filters: Vec<_> = state.map(|state| ("state", state.into())).into_iter().collect();
        let linked = group.map(|group| (Link::Members, group));
        book.each(&Query { filters: &filters, linked, ..Query::default() }, visit)
    })
}

/// The names of all users, and of all devices.
///
/// # Errors
/// The estate cannot be read.
pub fn names(context: &mut Context) -> Result<(Vec<String>, Vec<String>)> {
    context.read(|book| Ok((book.names::<User>(&Query::default())?, book.names::<Device>(&Query::default())?)))
}

fn standing(book: &Book<'_>, user: User) -> Result<UserStanding> {
    let devices = book.find(&[("user", user.name.as_str().into())])?;
    Ok(UserStanding { devices, credentials: find::live_of_user(book, &user.name)?.len(), user })
}

/// One user.
///
/// # Errors
/// There is none of that name.
pub fn show_user(context: &mut Context, user: &str) -> Result<UserStanding> {
    context.read(|book| {
        let user = book.need(user)?;
        standing(book, user)
    })
}

/// A user, where there is one of that name.
///
/// # Errors
/// The estate cannot be read.
pub fn find_user(context: &mut Context, user: &str) -> Result<Option<User>> {
    context.read(|book| book.get(user))
}

/// Whether there is a device of that name.
///
/// # Errors
/// The estate cannot be read.
pub fn has_device(context: &mut Context, device: &str) -> Result<bool> {
    context.read(|book| Ok(book.get::<Device>(device)?.is_some()))
}

/// Whether there is a group of that name.
///
/// # Errors
/// There is none, with the nearest.
pub fn need_group(context: &mut Context, group: &str) -> Result<()> {
    context.read(|book| book.need::<Group>(group).map(drop))
}

/// The names of a group's users, where a group is named.
///
/// # Errors
/// There is no such group.
pub fn members_of(context: &mut Context, group: Option<&str>) -> Result<Option<BTreeSet<String>>> {
    let Some(group) = group else { return Ok(None) };
    context.read(|book| {
        book.need::<Group>(group)?;
        Ok(Some(book.names::<User>(&in_group(group))?.into_iter().collect()))
    })
}

/// What stays of somebody who is gone.
#[derive(Debug, Default)]
pub struct Remains {
    pub sessions: usize,
    pub revocations: usize,
    /// Inner addresses that are held for nobody else yet.
    pub addresses: usize,
}

/// What stays of devices that are gone, and of what they came in with.
///
/// # Errors
/// The estate cannot be read.
pub fn remains(context: &mut Context, devices: &[String], credentials: &[String]) -> Result<Remains> {
    context.read(|book| {
        let mut remains = Remains::default();
        for device in devices {
            remains.sessions += book.count::<Session>(&[("device", device.as_str().into())])?;
            remains.revocations += book.count::<Revocation>(&[("device", device.as_str().into())])?;
        }
        for credential in credentials {
            let held = book.find::<Address>(&[("credential", credential.as_str().into())])?;
            remains.addresses += held.iter().filter(|address| !address.is_free(book.now)).count();
        }
        Ok(remains)
    })
}

/// Suspends or restores a user in the estate: certificates go on hold, or leave it. Gives what changed, or `None` when nothing
/// did. The gateways of these credentials follow.
///
/// # Errors
/// There is none of that name.
pub fn set_user_state(context: &mut Context, user: &str, state: UserState) -> Result<Changed<Option<Ended>>> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut user: User = book.need(user)?;
        if user.state == state {
            // It may not have reached every gateway the first time.
            let live = find::live_of_user(book, &user.name)?;
            let devices = live.iter().map(|credential| credential.device.clone());
            return Ok(Changed::of(None, live.iter().flat_map(Credential::gateways), devices));
        }
        user.state = state;
        book.put(&user)?;
        let (what, held) = match state {
            UserState::Suspended => ("user suspend", CertificateState::Held),
            UserState::Active => ("user restore", CertificateState::Good),
        };
        book.note(what, &user.name, "")?;
        let credentials = find::live_of_user(book, &user.name)?;
        for certificate in credentials.iter().filter_map(Credential::certificate) {
            lists::mark(book, &certificate.serial, held, Reason::CertificateHold, book.now)?;
        }
        let Changed { what, gateways, only } = end::announce(book, &keys, credentials)?;
        Ok(Changed { what: Some(what), gateways, only })
    })
}

/// Removes a user who carries nothing any more.
///
/// # Errors
/// There are devices.
pub fn remove_user(context: &mut Context, user: &str) -> Result<()> {
    context.write(|book| {
        let user: User = book.need(user)?;
        let devices: Vec<_> = book
            .find::<Device>(&[("user", user.name.as_str().into())])?
            .into_iter()
            .map(|device| device.name)
            .collect();
        policy::still_named(book, Asks::User, &user.name)?;
        still_needed(&format!("the user {}", user.name), &devices, "the devices", "yestrel device remove USER/DEVICE")?;
        book.remove::<User>(&user.name)?;
        book.note("user remove", &user.name, "")
    })
}

/// Adds a device to a user.
///
/// # Errors
/// A bad or taken name, no such user.
pub fn add_device(context: &mut Context, device: &str, platform: Option<String>) -> Result<Device> {
    let (user, _) = name::pair("device", device, ("user", "device"))?;
    let created = context.now;
    context.write(|book| {
        book.need::<User>(user)?;
        let device = Device { name: device.into(), user: user.into(), platform, created };
        book.add(&device)?;
        book.note("device add", &device.name, device.platform.as_deref().unwrap_or_default())?;
        Ok(device)
    })
}

/// Shows devices one by one with their live credentials, for as long as `visit` says yes: all, or those of one user.
///
/// # Errors
/// No such user.
pub fn each_device(
    context: &mut Context,
    user: Option<&str>,
    visit: impl FnMut(Device, Vec<Credential>) -> Result<bool>,
) -> Result<()> {
    context.read(|book| {
        if let Some(user) = user {
            book.need::<User>(user)?;
        }
        book.each_device(user, visit)
    })
}

/// Removes a device whose credential is revoked, and with it its credentials' records; the revocations stay.
///
/// # Errors
/// It can still come in.
pub fn remove_device(context: &mut Context, device: &str) -> Result<()> {
    context.write(|book| {
        let device: Device = book.need(device)?;
        policy::still_named(book, Asks::Device, &device.name)?;
        if !find::live_of_device(book, &device.name)?.is_empty() {
            return Err(Problem::refused(format!("{} has a credential that lets it in", device.name))
                .why("removing it here would not take that away from the device")
                .try_(format!("yestrel credential revoke {} --reason retired", device.name)));
        }
        for credential in book.find::<Credential>(&[("device", device.name.as_str().into())])? {
            // Its addresses stay held as long as was said when it was revoked.
            book.remove::<Credential>(credential.key())?;
        }
        book.remove::<Device>(&device.name)?;
        book.note("device remove", &device.name, "")
    })
}
