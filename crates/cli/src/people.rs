//! `yestrel user`, `yestrel group`, `yestrel device`

use clap::Subcommand;
use yestrel_actions::Context;
use yestrel_actions::credential::Ended;
use yestrel_actions::people::{self, UserLine, import, importing};
use yestrel_actions::rename;
use yestrel_core::estate::UserState;
use yestrel_core::findings::Grade;
use yestrel_core::{Problem, Result};

use crate::ask;
use crate::comings::{self, About};
use crate::flow::Flow;
use crate::global::Global;
use crate::listing::Listing;
use crate::output::{Cell, Output, Table, list, tell};
use crate::stoppable::Stoppable;
use crate::unhurried::Unhurried;

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
    #[command(after_help = "Example:\n  yestrel user list\n  yestrel user list --group crew --sort -devices")]
    List {
        /// Only members of this group
        #[arg(long)]
        group: Option<String>,
        /// Only users in this state
        #[arg(long, value_parser = ["active", "suspended"])]
        state: Option<String>,
        #[command(flatten)]
        listing: Listing,
    },
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
    Suspend {
        name: String,
        /// Carry also whatever else waits for the gateways, not only this
        #[arg(long)]
        everything: bool,
    },
    /// Let a suspended user in again
    #[command(after_help = "Example:\n  yestrel user restore tomas")]
    Restore {
        name: String,
        /// Carry also whatever else waits for the gateways, not only this
        #[arg(long)]
        everything: bool,
    },
    /// Add and change users from a table (CSV); its first line names the columns: name, mail, about, groups, device, platform
    #[command(
        after_help = "Example:\n  yestrel user import seasonal.csv\n  yestrel user import seasonal.csv --preview\n\nSeparated by commas, semicolons or tabs. Several groups stand in one field, with spaces between. With a device named, that is added too.\n\nWho is there already is changed where the file says otherwise; what it leaves empty stays. A dot in a name becomes -, and accounts are called\nby the name with the dot."
    )]
    Import {
        /// The file
        file: std::path::PathBuf,
        /// Import what is good and leave out bad lines
        #[arg(long)]
        skip_bad: bool,
        /// Make the groups that it names and that are not there
        #[arg(long)]
        make_groups: bool,
        /// Where a name cannot be used, take the one that is proposed; who it belongs to signs in by the other all the same
        #[arg(long)]
        take_names: bool,
        /// Show what would be imported, and change nothing
        #[arg(long)]
        preview: bool,
    },
    /// Let a person in with a device, in one command: user, device, credential, rollout and handover, as far as they are not there yet
    #[command(
        after_help = "Example:\n  yestrel user arrive ines --group office --device desk --until 90d --to ines-desk.yestrel\n  yestrel user arrive mara --device phone --as apple --to mara-phone.mobileconfig\n\nEach command is shown as it runs, and nothing is done twice."
    )]
    Arrive(comings::Arrive),
    /// Take a person out, in one command: sessions, credentials, devices and the user; says what remains for the record
    #[command(
        after_help = "Example:\n  yestrel user leave oskar --reason 'the contract is over'\n  yestrel user leave oskar --reason 'the contract is over' --preview"
    )]
    Leave(comings::Leave),
    /// Give a user another name, and with it their devices and credentials; keys, accounts and sessions stay
    #[command(after_help = "Example:\n  yestrel user rename mara mara-n")]
    Rename { name: String, to: String },
    /// Remove a user who has no devices
    #[command(after_help = "Example:\n  yestrel user remove tomas")]
    Remove { name: String },
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
        /// How long a certificate of a member holds: 90d
        #[arg(long, value_name = "DAYS", value_parser = lifetime)]
        lifetime: Option<u16>,
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
        /// How long a certificate of a member holds: 90d
        #[arg(long, value_name = "DAYS", value_parser = lifetime)]
        lifetime: Option<u16>,
        /// Take a user in
        #[arg(long, value_name = "USER")]
        add: Vec<String>,
        /// Take a user out
        #[arg(long, value_name = "USER")]
        remove: Vec<String>,
    },
    /// Give a group another name, for all its members
    #[command(after_help = "Example:\n  yestrel group rename crew deck")]
    Rename { name: String, to: String },
    /// Remove a group that nobody is in
    #[command(after_help = "Example:\n  yestrel group remove welders")]
    Remove { name: String },
}

fn lifetime(text: &str) -> std::result::Result<u16, String> {
    let span = yestrel_core::lapse::parse(text).filter(|span| span.as_secs() % 86_400 == 0);
    let days = span.and_then(|span| u16::try_from(span.as_secs() / 86_400).ok());
    days.ok_or_else(|| "whole days, such as 90d, 2w or 1y".into())
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
    #[command(after_help = "Example:\n  yestrel device list mara\n  yestrel device list --group crew --sort last-used")]
    List {
        /// Only those of this user
        user: Option<String>,
        /// Only those of this group's users
        #[arg(long, conflicts_with = "user")]
        group: Option<String>,
        #[command(flatten)]
        listing: Listing,
    },
    /// Give a device another name, of the same user; keys, accounts and sessions stay
    #[command(after_help = "Example:\n  yestrel device rename mara/laptop mara/thin-laptop")]
    Rename {
        /// USER/DEVICE
        name: String,
        /// USER/DEVICE, or DEVICE alone
        to: String,
    },
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

fn user_record(user: &UserLine) -> Vec<(&'static str, Cell)> {
    vec![
        ("name", (&user.name).into()),
        ("state", state(user.state)),
        ("groups", list(&user.groups)),
        ("about", user.about.clone().into()),
        ("mail", user.mail.clone().into()),
        ("devices", user.devices.into()),
        ("credentials", user.credentials.into()),
    ]
}

pub fn run_user(global: &Global, command: UserCommand) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        UserCommand::Add { name, about } => {
            let user = people::add_user(&mut context, &name, &about.into())?;
            output.did(&[("user", (&user.name).into())]);
            output.say(&format!("added the user {}", user.name));
        }
        UserCommand::Change { name, about } => {
            let user = people::change_user(&mut context, &name, &about.into())?;
            output.say(&format!("changed the user {}", user.name));
        }
        UserCommand::List { group, state, listing } => {
            let table = Table::new(
                &["name", "state", "groups", "about", "mail", "devices", "credentials"],
                if group.is_some() || state.is_some() {
                    "there are no such users"
                } else {
                    "no users yet; yestrel user add NAME"
                },
            )
            .least(&["mail", "about", "credentials", "devices"]);
            let mut flow = Flow::begin(output, &listing, table);
            people::each_user(&mut context, group.as_deref(), state.as_deref(), |user| {
                Ok(flow.row(user_record(&user).into_iter().map(|(_, cell)| cell).collect()))
            })?;
            flow.end()?;
        }
        UserCommand::Show { name } => {
            let standing = people::show_user(&mut context, &name)?;
            let user = standing.user.clone();
            let mut record = user_record(&UserLine {
                devices: standing.devices.len(),
                credentials: standing.credentials,
                name: user.name,
                mail: user.mail,
                about: user.about,
                state: user.state,
                groups: user.groups,
            });
            record.retain(|(column, _)| *column != "devices");
            let devices: Vec<_> = standing.devices.iter().map(|device| device.name.clone()).collect();
            record.push(("devices", list(&devices)));
            if let Some(alias) = standing.user.alias {
                record.push(("signs in as", alias.into()));
            }
            record.push(("created", standing.user.created.into()));
            output.record(&record);
        }
        UserCommand::Suspend { name, everything } => {
            people::show_user(&mut context, &name)?;
            ask::confirm(global.yes, &format!("this ends all sessions of {name} and keeps them out until restored"))?;
            let _unhurried = Unhurried::begin();
            let changed = people::set_user_state(&mut context, &name, UserState::Suspended)?;
            output.say(&format!("{name} is {}suspended", if changed.what.is_some() { "" } else { "already " }));
            say_lists(output, changed.what.as_ref());
            crate::rollout::carry(global, &mut context, &changed, everything)?;
        }
        UserCommand::Restore { name, everything } => {
            let _unhurried = Unhurried::begin();
            let changed = people::set_user_state(&mut context, &name, UserState::Active)?;
            output.say(&format!("{name} is {}active", if changed.what.is_some() { "" } else { "already " }));
            say_lists(output, changed.what.as_ref());
            crate::rollout::carry(global, &mut context, &changed, everything)?;
        }
        UserCommand::Rename { name, to } => {
            let changed = rename::user(&mut context, &name, &to)?;
            output.did(&[("user", (&to).into())]);
            output.say(&format!("the user {name} is {to} now{}", by_rollout(&changed.gateways)));
        }
        UserCommand::Arrive(wish) => comings::arrive(global, &mut context, &wish)?,
        UserCommand::Leave(wish) => comings::leave(global, &mut context, &wish)?,
        UserCommand::Import { file, skip_bad, make_groups, take_names, preview } => {
            let how = import::How { skip_bad, make_groups, take_names };
            import(global, &mut context, &file, how, preview)?;
        }
        UserCommand::Remove { name } => {
            // Whoever is asked for a yes is not told no afterwards.
            context.rehearse(|context| people::remove_user(context, &name))?;
            ask::confirm(global.yes, &format!("this removes the user {name}"))?;
            people::remove_user(&mut context, &name)?;
            output.say(&format!("removed the user {name}"));
        }
    }
    Ok(())
}

/// How gateways learn of it, where any do.
fn by_rollout(gateways: &std::collections::BTreeSet<String>) -> &'static str {
    if gateways.is_empty() { "" } else { "; yestrel rollout brings it to the gateways" }
}

/// Lists that could not be signed for want of their authority's key.
fn say_lists(output: Output, ended: Option<&Ended>) {
    for (authority, until) in ended.iter().flat_map(|ended| &ended.unsigned) {
        crate::words::say_unsigned(output, authority, *until);
    }
}

fn import(
    global: &Global,
    context: &mut Context,
    file: &std::path::Path,
    how: import::How,
    preview: bool,
) -> Result<()> {
    let output = global.output();
    let bytes = crate::words::read_file(file)?;
    let found = import::look(context, &bytes, how)?;
    for (kind, lines) in found.mistakes() {
        say_mistake(kind, &lines);
    }
    if preview {
        let columns = ["line", "verb", "name", "mail", "groups", "device", "changes"];
        let mut table = Table::new(&columns, "nothing would be imported").least(&["mail", "groups", "device"]);
        for group in &found.groups {
            let mut row = vec![Cell::Missing, "add".into(), group.into(), Cell::Missing, Cell::Missing, Cell::Missing];
            row.push("a new group".into());
            table.row(row);
        }
        for line in &found.good {
            let mut changes = line.changes();
            if let Some(alias) = line.user.alias.as_ref().filter(|_| line.before.is_none()) {
                changes.push(format!("signs in as {alias}"));
            }
            table.row(vec![
                line.number.into(),
                line.verb().into(),
                (&line.user.name).into(),
                line.user.mail.clone().into(),
                list(&line.user.groups),
                line.device.as_ref().map(|device| device.name.clone()).into(),
                changes.join("; ").into(),
            ]);
        }
        output.table(&table);
        return if found.bad.is_empty() || how.skip_bad { Ok(()) } else { Err(import::refused(&found)) };
    }
    if !found.bad.is_empty() && !how.skip_bad {
        return Err(import::refused(&found));
    }
    let names = |verb: &str| -> Vec<String> {
        found.good.iter().filter(|line| line.verb() == verb).map(|line| line.user.name.clone()).collect()
    };
    let (added, changed) = (names("add"), names("change"));
    if added.is_empty() && changed.is_empty() && !importing::is_open(context)? {
        let count = found.good.len();
        output.say(&match count {
            0 => "there is nobody in this file".to_owned(),
            _ => format!("nothing to do: {} there as the file says", if count == 1 { "1 is" } else { "all are" }),
        });
        return Ok(());
    }
    if ask::somebody_there() && !(added.is_empty() && changed.is_empty()) {
        let mut what = Vec::new();
        for (verb, names) in [("adds", &added), ("changes", &changed)] {
            if !names.is_empty() {
                let count = crate::words::counted(names.len(), "user");
                what.push(format!("{verb} {count}{}", crate::words::shown(names)));
            }
        }
        if !found.groups.is_empty() {
            let groups: Vec<_> = found.groups.iter().cloned().collect();
            what.push(format!(
                "makes {}{}",
                crate::words::counted(groups.len(), "group"),
                crate::words::shown(&groups)
            ));
        }
        ask::confirm(global.yes, &format!("this {}", what.join("; ")))?;
    }
    let (bar, stoppable) = (global.progress(found.good.len() as u64, "import"), Stoppable::begin());
    let done = importing::import(context, file, &bytes, how, found, &mut |at, whole| {
        bar.set_length(whole as u64);
        bar.set_position(at as u64);
        stoppable.goes_on()
    });
    bar.finish_and_clear();
    let done = done?;
    let devices = done.good.iter().filter(|line| line.device_is_new).count();
    let changes = if changed.is_empty() { String::new() } else { format!(", changed {}", changed.len()) };
    output.did(&[
        ("imported", added.len().into()),
        ("changed", changed.len().into()),
        ("devices", devices.into()),
        ("groups", done.groups.len().into()),
        ("left out", done.bad.len().into()),
    ]);
    let (users, devices) = (crate::words::counted(added.len(), "user"), crate::words::counted(devices, "device"));
    output.say(&format!("imported {users} and {devices}{changes}"));
    if !done.bad.is_empty() {
        return Err(Problem::partly(match done.bad.len() {
            1 => "1 line was left out".into(),
            many => format!("{many} lines were left out"),
        })
        .why("what is wrong stands above, with the number of the line"));
    }
    Ok(())
}

/// One line for each kind of mistake, however many lines of the file have it.
fn say_mistake(kind: &str, lines: &[&import::Bad]) {
    const SHOWN: usize = 8;
    let problem = &lines[0].problem;
    let offered = problem.tries.first().map(|what| format!("; try {what}")).unwrap_or_default();
    if let [one] = lines {
        tell!("line {}: {}{offered}", one.number, problem.line());
        return;
    }
    let numbers: Vec<_> = lines.iter().take(SHOWN).map(|bad| bad.number.to_string()).collect();
    let more = lines.len().saturating_sub(SHOWN);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let count = lines.len();
    tell!("{count} lines {kind}: {}{more}; line {}: {}{offered}", numbers.join(", "), numbers[0], problem.line());
}

pub fn run_group(global: &Global, command: GroupCommand) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        GroupCommand::Add { name, about, lifetime } => {
            let group = people::add_group(&mut context, &name, about, lifetime)?;
            output.did(&[("group", (&group.name).into())]);
            output.say(&format!("added the group {}", group.name));
        }
        GroupCommand::Rename { name, to } => {
            rename::group(&mut context, &name, &to)?;
            output.did(&[("group", (&to).into())]);
            output.say(&format!("the group {name} is {to} now"));
        }
        GroupCommand::List => {
            let mut table =
                Table::new(&["name", "about", "lifetime", "members"], "no groups yet; yestrel group add NAME");
            for (group, members) in people::list_groups(&mut context)? {
                let lifetime = group.lifetime.map(|days| format!("{days}d"));
                table.row(vec![group.name.into(), group.about.into(), lifetime.into(), members.len().into()]);
            }
            output.table(&table);
        }
        GroupCommand::Show { name } => {
            let group: yestrel_core::estate::Group = context.read(|book| book.need(&name))?;
            let members = people::list_groups(&mut context)?.into_iter().find(|(there, _)| there.name == group.name);
            let members = members.map(|(_, members)| members).unwrap_or_default();
            output.record(&[
                ("name", group.name.into()),
                ("about", group.about.into()),
                ("lifetime", group.lifetime.map(|days| format!("{days}d")).into()),
                ("members", members.into()),
                ("created", group.created.into()),
            ]);
        }
        GroupCommand::Change { name, about, lifetime, add, remove } => {
            people::change_group(&mut context, &name, about, lifetime, &add, &remove)?;
            output.say(&format!("changed the group {name}"));
        }
        GroupCommand::Remove { name } => {
            context.rehearse(|context| people::remove_group(context, &name))?;
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
            output.did(&[("device", (&device.name).into())]);
            output.say(&format!("added the device {}", device.name));
        }
        DeviceCommand::Rename { name, to } => {
            let changed = rename::device(&mut context, &name, &to)?;
            let called =
                format!("{}/{}", name.split('/').next().unwrap_or_default(), to.rsplit('/').next().unwrap_or(&to));
            output.did(&[("device", (&called).into())]);
            output.say(&format!("the device {name} is {called} now{}", by_rollout(&changed.gateways)));
        }
        DeviceCommand::List { user, group, listing } => {
            let members = people::members_of(&mut context, group.as_deref())?;
            let now = context.now;
            let table = Table::new(
                &["name", "platform", "credential", "expires", "last used"],
                "no devices yet; yestrel device add USER/DEVICE",
            )
            .least(&["platform", "credential"]);
            let mut flow = Flow::begin(output, &listing, table);
            people::each_device(&mut context, user.as_deref(), |device, credentials| {
                if members.as_ref().is_some_and(|members| !members.contains(&device.user)) {
                    return Ok(true);
                }
                let names: Vec<_> = credentials.iter().map(|one| one.name.clone()).collect();
                let expires = credentials.iter().filter_map(|one| one.expires).min();
                let used = credentials.iter().filter_map(|one| one.last_used).max();
                Ok(flow.row(vec![
                    device.name.into(),
                    device.platform.into(),
                    list(&names),
                    Cell::ago(expires, now),
                    Cell::ago(used, now),
                ]))
            })?;
            flow.end()?;
        }
        DeviceCommand::Remove { name } => {
            context.rehearse(|context| people::remove_device(context, &name))?;
            ask::confirm(global.yes, &format!("this removes the device {name} and the records of its credentials"))?;
            people::remove_device(&mut context, &name)?;
            output.say(&format!("removed the device {name}"));
        }
    }
    Ok(())
}
