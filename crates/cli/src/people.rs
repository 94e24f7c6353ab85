//! `yestrel user`, `yestrel group`, `yestrel device`

use clap::{Args, Subcommand};
use yestrel_actions::people::{self, UserView, Wish};
use yestrel_core::Result;
use yestrel_core::facts::Grade;
use yestrel_core::nouns::UserState;

use crate::output::{Cell, Table, list};
use crate::{Global, ask};

#[derive(Subcommand)]
pub enum UserCommand {
    /// Add a user
    #[command(after_help = "Example:\n  yestrel user add mara --group crew --about mate --mail mara@skerry.example")]
    Add {
        name: String,
        #[command(flatten)]
        about: About,
    },
    /// All users
    #[command(after_help = "Example:\n  yestrel user list")]
    List,
    /// One user in full
    #[command(after_help = "Example:\n  yestrel user show mara")]
    Show { name: String },
    /// Change a user
    #[command(after_help = "Example:\n  yestrel user change mara --group crew --group office")]
    Change {
        name: String,
        #[command(flatten)]
        about: About,
    },
    /// Keep a user out for now: all their sessions end, and none begins until they are restored
    #[command(after_help = "Example:\n  yestrel user suspend tomas")]
    Suspend { name: String },
    /// Let a suspended user in again
    #[command(after_help = "Example:\n  yestrel user restore tomas")]
    Restore { name: String },
    /// Remove a user who has no devices
    #[command(after_help = "Example:\n  yestrel user remove tomas")]
    Remove { name: String },
}

#[derive(Args)]
pub struct About {
    /// A group; several times for several. What is said replaces what was
    #[arg(long = "group", value_name = "GROUP")]
    groups: Vec<String>,
    /// Who that is, in words
    #[arg(long, value_name = "WORDS")]
    about: Option<String>,
    /// Mail address
    #[arg(long, value_name = "ADDRESS")]
    mail: Option<String>,
}

impl From<About> for Wish {
    fn from(about: About) -> Self {
        let groups = if about.groups.is_empty() { None } else { Some(about.groups) };
        Self { mail: about.mail, about: about.about, groups }
    }
}

#[derive(Subcommand)]
pub enum GroupCommand {
    /// Add a group
    #[command(after_help = "Example:\n  yestrel group add crew --about 'mates and engineers'")]
    Add {
        name: String,
        /// Who that is, in words
        #[arg(long, value_name = "WORDS")]
        about: Option<String>,
    },
    /// All groups
    #[command(after_help = "Example:\n  yestrel group list")]
    List,
    /// One group in full
    #[command(after_help = "Example:\n  yestrel group show crew")]
    Show { name: String },
    /// Change a group and who is in it
    #[command(after_help = "Example:\n  yestrel group change crew --add tomas --remove oskar")]
    Change {
        name: String,
        /// Who that is, in words
        #[arg(long, value_name = "WORDS")]
        about: Option<String>,
        /// Take a user in
        #[arg(long, value_name = "USER")]
        add: Vec<String>,
        /// Take a user out
        #[arg(long, value_name = "USER")]
        remove: Vec<String>,
    },
    /// Remove a group that nobody is in
    #[command(after_help = "Example:\n  yestrel group remove welders")]
    Remove { name: String },
}

#[derive(Subcommand)]
pub enum DeviceCommand {
    /// Add a device to a user
    #[command(after_help = "Example:\n  yestrel device add mara/laptop --platform linux")]
    Add {
        /// USER/DEVICE
        name: String,
        /// Its system, in words
        #[arg(long, value_name = "WORDS")]
        platform: Option<String>,
    },
    /// All devices, or those of one user
    #[command(after_help = "Example:\n  yestrel device list mara")]
    List { user: Option<String> },
    /// Remove a device whose credential is revoked; its inner addresses become free
    #[command(after_help = "Example:\n  yestrel device remove tomas/tablet")]
    Remove {
        /// USER/DEVICE
        name: String,
    },
}

fn state(state: UserState) -> Cell {
    match state {
        UserState::Active => Cell::State(Grade::Good, "active".into()),
        UserState::Suspended => Cell::State(Grade::Poor, "suspended".into()),
    }
}

fn user_record(view: &UserView) -> Vec<(&'static str, Cell)> {
    let user = &view.user;
    vec![
        ("name", (&user.name).into()),
        ("state", state(user.state)),
        ("groups", list(&user.groups)),
        ("about", user.about.clone().into()),
        ("mail", user.mail.clone().into()),
        ("devices", view.devices.len().into()),
        ("credentials", view.credentials.into()),
    ]
}

pub fn run_user(global: &Global, command: UserCommand) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        UserCommand::Add { name, about } => {
            let user = people::add_user(&mut context, &name, &about.into())?;
            output.say(&format!("added the user {}", user.name));
        }
        UserCommand::Change { name, about } => {
            let user = people::change_user(&mut context, &name, &about.into())?;
            output.say(&format!("changed the user {}", user.name));
        }
        UserCommand::List => {
            let mut table = Table::new(
                &["name", "state", "groups", "about", "mail", "devices", "credentials"],
                "no users yet; yestrel user add NAME",
            );
            for view in people::list_users(&mut context)? {
                table.row(user_record(&view).into_iter().map(|(_, cell)| cell).collect());
            }
            output.table(&table);
        }
        UserCommand::Show { name } => {
            let view = people::show_user(&mut context, &name)?;
            let mut record = user_record(&view);
            record.retain(|(column, _)| *column != "devices");
            let devices: Vec<_> = view.devices.iter().map(|device| device.name.clone()).collect();
            record.push(("devices", list(&devices)));
            record.push(("created", view.user.created.into()));
            output.record(&record);
        }
        UserCommand::Suspend { name } => {
            people::show_user(&mut context, &name)?;
            ask::confirm(global.yes, &format!("this ends all sessions of {name} and keeps them out until restored"))?;
            let changed = people::set_user_state(&mut context, &name, UserState::Suspended)?;
            output.say(&format!("{name} is {}suspended", if changed { "" } else { "already " }));
            crate::rollout::carry(global, &mut context, &[])?;
        }
        UserCommand::Restore { name } => {
            let changed = people::set_user_state(&mut context, &name, UserState::Active)?;
            output.say(&format!("{name} is {}active", if changed { "" } else { "already " }));
            crate::rollout::carry(global, &mut context, &[])?;
        }
        UserCommand::Remove { name } => {
            people::show_user(&mut context, &name)?;
            ask::confirm(global.yes, &format!("this removes the user {name}"))?;
            people::remove_user(&mut context, &name)?;
            output.say(&format!("removed the user {name}"));
        }
    }
    Ok(())
}

pub fn run_group(global: &Global, command: GroupCommand) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        GroupCommand::Add { name, about } => {
            let group = people::add_group(&mut context, &name, about)?;
            output.say(&format!("added the group {}", group.name));
        }
        GroupCommand::List => {
            let mut table = Table::new(&["name", "about", "members"], "no groups yet; yestrel group add NAME");
            for (group, members) in people::list_groups(&mut context)? {
                table.row(vec![group.name.into(), group.about.into(), members.len().into()]);
            }
            output.table(&table);
        }
        GroupCommand::Show { name } => {
            let group: yestrel_core::nouns::Group = context.read(|book| book.need(&name))?;
            let members = people::list_groups(&mut context)?.into_iter().find(|(there, _)| there.name == group.name);
            let members = members.map(|(_, members)| members).unwrap_or_default();
            output.record(&[
                ("name", group.name.into()),
                ("about", group.about.into()),
                ("members", members.into()),
                ("created", group.created.into()),
            ]);
        }
        GroupCommand::Change { name, about, add, remove } => {
            people::change_group(&mut context, &name, about, &add, &remove)?;
            output.say(&format!("changed the group {name}"));
        }
        GroupCommand::Remove { name } => {
            ask::confirm(global.yes, &format!("this removes the group {name}"))?;
            people::remove_group(&mut context, &name)?;
            output.say(&format!("removed the group {name}"));
        }
    }
    Ok(())
}

pub fn run_device(global: &Global, command: DeviceCommand) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        DeviceCommand::Add { name, platform } => {
            let device = people::add_device(&mut context, &name, platform)?;
            output.say(&format!("added the device {}", device.name));
        }
        DeviceCommand::List { user } => {
            let mut table = Table::new(
                &["name", "platform", "credential", "expires", "last used"],
                "no devices yet; yestrel device add USER/DEVICE",
            );
            for (device, credential) in people::list_devices(&mut context, user.as_deref())? {
                let (name, expires, used) = match credential {
                    Some(credential) => (Some(credential.name), credential.expires, credential.last_used),
                    None => (None, None, None),
                };
                table.row(vec![device.name.into(), device.platform.into(), name.into(), expires.into(), used.into()]);
            }
            output.table(&table);
        }
        DeviceCommand::Remove { name } => {
            ask::confirm(global.yes, &format!("this removes the device {name} and the records of its credentials"))?;
            people::remove_device(&mut context, &name)?;
            output.say(&format!("removed the device {name}"));
        }
    }
    Ok(())
}
