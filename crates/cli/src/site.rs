//! `yestrel site`

use clap::{Args, Subcommand};
use yestrel_actions::site::{self, Wish};
use yestrel_core::Result;
use yestrel_core::estate::Site;

use crate::ask;
use crate::global::Global;
use crate::output::{Cell, Table, list};

#[derive(Subcommand)]
pub enum Command {
    /// Add a site
    #[command(after_help = "Example:\n  yestrel site add harbour --network 10.44.0.0/22 --time-zone Europe/Oslo")]
    Add {
        name: String,
        #[command(flatten)]
        about: About,
    },
    /// All sites
    #[command(after_help = "Example:\n  yestrel site list")]
    List,
    /// One site in full
    #[command(after_help = "Example:\n  yestrel site show harbour")]
    Show { name: String },
    /// Change a site
    #[command(after_help = "Example:\n  yestrel site change harbour --network 10.44.0.0/22 --network 10.46.0.0/24")]
    Change {
        name: String,
        #[command(flatten)]
        about: About,
        /// Show which handovers it would make stale, and change nothing
        #[arg(long)]
        preview: bool,
    },
    /// Give a site another name, with the hosts and gateways there
    #[command(after_help = "Example:\n  yestrel site rename harbour pier")]
    Rename { name: String, to: String },
    /// Remove a site that nothing is at
    #[command(after_help = "Example:\n  yestrel site remove harbour")]
    Remove { name: String },
}

#[derive(Args)]
pub struct About {
    /// A network of the site; several times for several
    #[arg(long = "network", value_name = "RANGE")]
    networks: Vec<String>,
    /// Its time zone, by its IANA name [default: UTC]
    #[arg(long, value_name = "ZONE")]
    time_zone: Option<String>,
    /// What stands between the site and the internet, in words
    #[arg(long, value_name = "WORDS")]
    front: Option<String>,
}

impl From<About> for Wish {
    fn from(about: About) -> Self {
        let networks = if about.networks.is_empty() { None } else { Some(about.networks) };
        Self { networks, time_zone: about.time_zone, front: about.front }
    }
}

fn cells(site: &Site) -> Vec<(&'static str, Cell)> {
    vec![
        ("name", (&site.name).into()),
        ("networks", list(&site.networks)),
        ("time zone", (&site.time_zone).into()),
        ("front", site.front.clone().into()),
    ]
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    let mut context = global.context()?;
    match command {
        Command::Add { name, about } => {
            let site = site::add(&mut context, &name, &about.into())?;
            output.did(&[("site", (&site.name).into()), ("networks", list(&site.networks))]);
            output.say(&format!("added the site {}", site.name));
            site::notes(&site).iter().for_each(|note| output.note(note));
        }
        Command::Change { name, about, preview } => {
            let wish = about.into();
            let (_, would) = context.rehearse(|context| site::change(context, &name, &wish))?;
            if !crate::words::first_of_stale(global, &format!("this change of {name}"), &would, preview)? {
                return Ok(());
            }
            let (site, stale) = site::change(&mut context, &name, &wish)?;
            output.say(&format!("changed the site {}; yestrel rollout brings it to the gateways", site.name));
            site::notes(&site).iter().for_each(|note| output.note(note));
            crate::words::say_stale(output, stale.count);
        }
        Command::List => {
            let mut table = Table::new(
                &["name", "networks", "time zone", "front"],
                "no sites yet; yestrel site add NAME --network RANGE",
            );
            for site in site::list(&mut context)? {
                table.row(cells(&site).into_iter().map(|(_, cell)| cell).collect());
            }
            output.table(&table);
        }
        Command::Show { name } => {
            let site = site::show(&mut context, &name)?;
            let mut record = cells(&site);
            record.push(("created", site.created.into()));
            output.record(&record);
            site::notes(&site).iter().for_each(|note| output.note(note));
        }
        Command::Rename { name, to } => {
            yestrel_actions::rename::site(&mut context, &name, &to)?;
            output.did(&[("site", (&to).into())]);
            output.say(&format!("the site {name} is {to} now"));
        }
        Command::Remove { name } => {
            let site = site::show(&mut context, &name)?;
            context.rehearse(|context| site::remove(context, &name))?;
            ask::confirm(global.yes, &format!("this removes the site {}", site.name))?;
            site::remove(&mut context, &name)?;
            output.say(&format!("removed the site {name}"));
        }
    }
    Ok(())
}
