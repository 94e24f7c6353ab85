//! `yestrel lab`

use std::path::PathBuf;
use std::time::Duration;

use clap::{Subcommand, ValueEnum};
use yestrel_core::findings::Grade;
use yestrel_core::{Problem, Result};
use yestrel_lab::{Fault, HostState, Kind, Lab, Mode, Owner};

use crate::ask::{self, data_folder};
use crate::connect;
use crate::global::Global;
use crate::output::{Cell, Table, list};

#[derive(Clone, Copy, ValueEnum)]
pub enum FaultName {
    /// Its management does not answer
    Unreachable,
    /// Its agent is killed, and not started again
    Agent,
    /// Its first cable is cut
    Cable,
}

#[derive(Subcommand)]
pub enum Command {
    /// Start the lab: a harbour, a pier office, an internet between them, and a laptop in a cafe
    #[command(
        after_help = "Example:\n  yestrel lab start\n\nWith root, TUN, ip and nft, hosts are network namespaces; otherwise processes on loopback."
    )]
    Start {
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
        /// Hosts as processes on loopback, even where namespaces could be had
        #[arg(long, conflicts_with = "namespaces")]
        processes: bool,
        /// Hosts as namespaces, or nothing
        #[arg(long)]
        namespaces: bool,
        /// The lab ends by itself after so many seconds
        #[arg(long, default_value_t = 86_400, value_name = "SECONDS")]
        lifetime: u64,
        /// It ends with this process
        #[arg(long, hide = true)]
        owner: Option<u32>,
        /// And this folder with it
        #[arg(long, hide = true, requires = "owner")]
        owner_folder: Option<PathBuf>,
    },
    /// The lab's hosts
    #[command(after_help = "Example:\n  yestrel lab show")]
    Show {
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Break a host, to see what happens
    #[command(after_help = "Example:\n  yestrel lab break harbour --how unreachable")]
    Break {
        host: String,
        /// What breaks
        #[arg(long, value_enum, default_value = "unreachable")]
        how: FaultName,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Let a name of the lab's name services lead to another host
    #[command(after_help = "Example:\n  yestrel lab point gangway.skerry.example --to breakwater")]
    Point {
        name: String,
        #[arg(long, value_name = "HOST")]
        to: String,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Set the clock of a host's agent, to see what happens when it is another time there
    #[command(
        after_help = "Example:\n  yestrel lab clock harbour --at \"fri 10:00\" --time-zone Europe/Oslo\n  yestrel lab clock harbour --right"
    )]
    Clock {
        host: String,
        /// What it is to show: "fri 10:00", "2027-03-05 10:00"; it goes on from there
        #[arg(long, value_name = "TIME", required_unless_present = "right", conflicts_with = "right")]
        at: Option<String>,
        /// Whose time that is; by default this machine's
        #[arg(long, value_name = "ZONE", requires = "at")]
        time_zone: Option<String>,
        /// As the system's again
        #[arg(long)]
        right: bool,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Mend a host
    #[command(after_help = "Example:\n  yestrel lab mend harbour")]
    Mend {
        host: String,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Run a command on a host of the lab, as if typed there
    #[command(after_help = "Example:\n  yestrel lab enter mara-laptop -- yestrel connect mara-laptop.yestrel")]
    Enter {
        host: String,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
        #[arg(last = true, required = true)]
        command: Vec<String>,
    },
    /// Fetch a page as a host of the lab would; through its tunnel's proxy if it has one
    #[command(after_help = "Example:\n  yestrel lab fetch mara-laptop http://tickets.skerry.example/")]
    Fetch {
        host: String,
        url: String,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
        /// Already there
        #[arg(long, hide = true)]
        here: bool,
    },
    /// Play a phone: open a profile as it was handed over, and come in with what a phone has built in
    #[command(
        after_help = "Example:\n  yestrel credential handover mara/phone --as apple --to phone.mobileconfig\n  yestrel lab dial mara-phone phone.mobileconfig --transport-file transport.txt\n  yestrel lab enter mara-phone -- yestrel tunnel stop phone"
    )]
    Dial {
        host: String,
        /// The profile
        file: PathBuf,
        /// A file with what the phone asks for: the transport password that was shown with the handover, or an account's own
        #[arg(long, value_name = "FILE")]
        transport_file: Option<PathBuf>,
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
        /// Already there
        #[arg(long, hide = true)]
        here: bool,
        /// Until it is switched off
        #[arg(long, hide = true)]
        stay: bool,
    },
    /// Stop the lab and remove everything that it made
    #[command(after_help = "Example:\n  yestrel lab stop")]
    Stop {
        #[arg(long, value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Be one host of the lab
    #[command(hide = true)]
    Host {
        name: String,
        #[arg(long)]
        folder: PathBuf,
        #[arg(long)]
        processes: bool,
        #[arg(long)]
        lifetime: u64,
    },
}

/// Where the lab is: as said, else YESTREL_LAB, else the user's data folder.
pub fn folder(said: Option<PathBuf>) -> PathBuf {
    said.or_else(|| std::env::var_os("YESTREL_LAB").map(PathBuf::from)).unwrap_or_else(|| data_folder().join("lab"))
}

/// Whether the lab that commands find runs without namespaces, so that its hosts have no networks of their own.
pub(crate) fn has_no_networks() -> bool {
    Lab::open(&folder(None)).is_ok_and(|lab| lab.mode == Mode::Processes)
}

pub fn run(global: &Global, command: Command) -> Result<()> {
    let output = global.output();
    match command {
        Command::Start { folder: said, processes, namespaces, lifetime, owner, owner_folder } => {
            let demanded = if processes {
                Some(Mode::Processes)
            } else if namespaces {
                Some(Mode::Namespaces)
            } else {
                None
            };
            let owner = owner.and_then(|pid| Owner::of(pid, owner_folder));
            let lab = Lab::start(&folder(said), demanded, Duration::from_secs(lifetime.max(1)), owner)?;
            match (&lab.mode, &lab.missing) {
                (Mode::Namespaces, _) => {
                    output.say("the lab runs: hosts are network namespaces, with TUN and nftables")
                }
                (Mode::Processes, missing) => {
                    let why = match missing {
                        Some(what) => format!("{what} is missing"),
                        None => "as asked".into(),
                    };
                    output.say(&format!("the lab runs: hosts are processes on loopback ({why})"));
                }
            }
            output.say("yestrel lab show   lists its hosts;  yestrel lab stop   ends it");
        }
        Command::Show { folder: said } => {
            let lab = Lab::open(&folder(said))?;
            let mut table = Table::new(&["name", "kind", "state", "addresses", "via"], "");
            for host in lab.hosts() {
                let grade = if host.state == HostState::Running { Grade::Good } else { Grade::Bad };
                let kind = match host.kind {
                    Kind::Outside => "outside",
                    Kind::Managed => "managed",
                    Kind::Server => "server",
                    Kind::Translator => "translator",
                    Kind::Device => "device",
                };
                table.row(vec![
                    host.name.into(),
                    kind.into(),
                    Cell::State(grade, host.state.to_string()),
                    list(&host.addresses),
                    host.via.into(),
                ]);
            }
            output.table(&table);
        }
        Command::Break { host, how, folder: said } => {
            let fault = match how {
                FaultName::Unreachable => Fault::Unreachable,
                FaultName::Agent => Fault::Agent,
                FaultName::Cable => Fault::Cable,
            };
            Lab::open(&folder(said))?.break_host(&host, fault)?;
            output.say(&format!("{host} is broken: {}; yestrel lab mend {host}", fault.word()));
        }
        Command::Point { name, to, folder: said } => {
            let address = Lab::open(&folder(said))?.point(&name, &to)?;
            output.say(&format!("{name} leads to {address}, {to}, from now on"));
        }
        Command::Clock { host, at, time_zone, right: _, folder: said } => {
            let now = jiff::Timestamp::now();
            let zone = match time_zone {
                Some(name) => yestrel_core::policy::zone(&name)?,
                None => jiff::tz::TimeZone::system(),
            };
            let at = at.map(|text| yestrel_core::policy::moment_at(&text, &zone, now)).transpose()?;
            let seen =
                Lab::open(&folder(said))?.set_clock(&host, at.map_or(0, |at| at.duration_since(now).as_secs()))?;
            match at {
                Some(at) => output.say(&format!(
                    "at {host} it is {} now; yestrel lab clock {host} --right",
                    at.to_zoned(zone).strftime("%a %Y-%m-%d %H:%M")
                )),
                None => output.say(&format!("the clock of {host} is right")),
            }
            if !seen {
                output.note("no agent answers there; one that starts goes by it");
            }
        }
        Command::Mend { host, folder: said } => {
            Lab::open(&folder(said))?.mend(&host)?;
            output.say(&format!("{host} is mended"));
        }
        Command::Enter { host, folder: said, command } => {
            yestrel_lab::enter(&folder(said), &host, &command)?;
        }
        Command::Fetch { host, url, folder: said, here: false } => {
            let words = ["yestrel", "lab", "fetch", &host, &url, "--here"].map(str::to_owned);
            yestrel_lab::enter(&folder(said), &host, &words)?;
        }
        Command::Fetch { host, url, folder: said, here: true } => {
            let lab = Lab::open(&folder(said))?;
            let proxy = yestrel_device::running::list()?.into_iter().find_map(|tunnel| tunnel.proxy);
            let page = yestrel_net::fetch::fetch(&url, proxy, &|to| lab.real(&host, to))?;
            output.write(&format!("{page}\n"));
        }
        Command::Dial { host, file, transport_file, folder: said, here, stay } => {
            if stay {
                // A profile may need nothing from the person.
                let what = format!("the profile {}", file.display());
                let typed = transport_file.as_deref().map(|path| ask::passphrase(&what, Some(path))).transpose()?;
                let typed = typed.unwrap_or_default();
                return yestrel_lab::switch_on(&file, &typed, &|told| connect::tell(output, told));
            }
            let shown = file.to_string_lossy().into_owned();
            let mut words = vec!["lab", "dial", &host, &shown];
            let beside = transport_file.as_ref().map(|path| path.to_string_lossy().into_owned());
            if let Some(path) = &beside {
                words.extend(["--transport-file", path]);
            }
            if global.quiet {
                words.push("--quiet");
            }
            if here {
                words.push("--stay");
                return connect::start(output, &words, yestrel_lab::PHONE);
            }
            if Lab::open(&folder(said.clone()))?.mode == Mode::Processes {
                return Err(Problem::refused("a phone of this lab cannot dial")
                    .why("its hosts are processes on loopback, where nobody has ports 500 and 4500 of their own")
                    .try_("yestrel lab start --namespaces, as root"));
            }
            words.insert(0, "yestrel");
            words.push("--here");
            let words: Vec<_> = words.into_iter().map(str::to_owned).collect();
            yestrel_lab::enter(&folder(said), &host, &words)?;
        }
        Command::Stop { folder: said } => {
            let folder = folder(said);
            let lab = Lab::open(&folder)?;
            lab.stop();
            if folder.exists() {
                return Err(Problem::failed(format!("{} cannot be removed", folder.display())));
            }
            output.say("the lab is stopped, and everything that it made is gone");
        }
        Command::Host { name, folder, processes, lifetime } => {
            let mode = if processes { Mode::Processes } else { Mode::Namespaces };
            yestrel_lab::run_host(&folder, &name, mode, Duration::from_secs(lifetime))?;
        }
    }
    Ok(())
}
