//! `yestrel demo`: the Skerry Line example, played with the real commands. Every proof is checked; the first that does
//! not hold ends the demo.
//!
//! | file | its job |
//! |---|---|
//! | `player` | runs commands before whoever watches |
//! | `puzzle` | twelve refusals whose reason can be read |

mod player;
mod puzzle;

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use clap::Args;
use yestrel_core::{Problem, Result};
use yestrel_lab::{Lab, Mode};

use crate::global::Global;
use player::Demo;

#[derive(Args)]
#[command(after_help = "Example:\n  yestrel demo\n  yestrel demo --stay      then go on by hand")]
pub struct Arguments {
    /// Leave the lab and the estate as they are at the end, connected, and say how to go on by hand
    #[arg(long)]
    stay: bool,
    /// Hosts as processes on loopback, even where namespaces could be had
    #[arg(long)]
    processes: bool,
    /// A list of policies to be read, and twelve who are refused by it: why? Nobody signs in
    #[arg(long, conflicts_with_all = ["stay", "processes"])]
    puzzle: bool,
    /// Where to play; must not exist or be empty [default: a temporary folder]
    #[arg(long, value_name = "FOLDER")]
    folder: Option<PathBuf>,
}

const TICKETS: &str = "http://10.44.0.20/";
const TICKETS_BY_NAME: &str = "http://tickets.skerry.example/";
const MIRROR: &str = "http://mirror.example/";
/// Whatever happens, the lab ends by itself after this many seconds.
const LIFETIME: u64 = 300;
const LIFETIME_STAYING: u64 = 12 * 3600;

pub fn run(global: &Global, arguments: &Arguments) -> Result<()> {
    let failed = |error: std::io::Error| Problem::failed("the demo has no folder to play in").why(error.to_string());
    let output = global.output();
    let (folder, made) = match &arguments.folder {
        Some(folder) => {
            std::fs::create_dir_all(folder).map_err(failed)?;
            if std::fs::read_dir(folder).map_err(failed)?.next().is_some() {
                return Err(Problem::refused(format!("{} is not empty", folder.display())).try_("another --folder"));
            }
            (folder.canonicalize().map_err(failed)?, None)
        }
        None => {
            let made = tempfile::Builder::new().prefix("yestrel-demo-").tempdir().map_err(failed)?;
            if arguments.stay { (made.keep(), None) } else { (made.path().to_owned(), Some(made)) }
        }
    };
    let mode = if arguments.processes || yestrel_lab::missing_for_namespaces().is_some() {
        Mode::Processes
    } else {
        Mode::Namespaces
    };
    let temporary = made.is_some();
    let demo = Demo { exe: std::env::current_exe().map_err(failed)?, folder, output, mode, temporary };
    let began = Instant::now();
    let played = if arguments.puzzle { puzzle::play(&demo) } else { play(&demo, arguments.stay) };
    if played.is_ok() && arguments.stay {
        say_how_to_go_on(&demo);
        return Ok(());
    }
    if let Ok(lab) = Lab::open(&demo.folder.join("lab")) {
        lab.stop();
    }
    played?;
    if arguments.puzzle {
        output.write(&format!(
            "\neach is refused for its reason, in {:.1} s; nothing is left of it\n",
            began.elapsed().as_secs_f64()
        ));
        return Ok(());
    }
    let how = match mode {
        Mode::Namespaces => "network namespaces, TUN and nftables",
        Mode::Processes => "processes on loopback and IP stacks inside them",
    };
    output.write(&format!(
        "\nall of it held, in {:.1} s, with {how}; nothing is left of it\n",
        began.elapsed().as_secs_f64()
    ));
    Ok(())
}

fn play(demo: &Demo, stay: bool) -> Result<()> {
    let lifetime = if stay { LIFETIME_STAYING } else { LIFETIME }.to_string();
    demo.chapter("Hosts to practise on");
    let mut start = vec!["lab", "start", "--lifetime", &lifetime];
    if demo.mode == Mode::Processes {
        start.push("--processes");
    }
    let (pid, folder) = (std::process::id().to_string(), demo.folder.display().to_string());
    let mut owned = start.clone();
    if !stay {
        // Whatever ends the demo ends its lab, also a kill.
        owned.extend(["--owner", &pid]);
        if demo.temporary {
            owned.extend(["--owner-folder", &folder]);
        }
    }
    demo.step_as(&start, &owned, 0)?;

    demo.chapter("The estate, the site and its gateway");
    demo.step(&["estate", "create", "skerry"], 0)?;
    demo.step(&["site", "add", "harbour", "--network", "10.44.0.0/22", "--time-zone", "Europe/Oslo"], 0)?;
    demo.step(&["host", "add", "harbour", "--site", "harbour", "--kind", "cloud", "--via", "lab"], 0)?;
    demo.step(&["gateway", "create", "harbour", "--host", "harbour", "--dialled", "gangway.skerry.example"], 0)?;
    let refused = demo.step(&["listener", "open", "harbour", "--tunnel", "quill", "--pool", "10.44.0.0/24"], 3)?;
    let offered = refused.err.contains("overlaps the network 10.44.0.0/22") && refused.err.contains("which is free");
    demo.prove(offered, "a pool that collides with the site is refused, and a free one offered")?;
    demo.step(
        &["listener", "open", "harbour", "--tunnel", "quill", "--pool", "10.187.44.0/24", "--resolvers", "10.44.0.20"],
        0,
    )?;

    demo.chapter("People, what lets a device in, and when");
    let nobody = demo.step(&["rollout", "--preview"], 0)?;
    demo.prove(
        nobody.out.contains("nobody would be admitted"),
        "without a policy nobody would be let in, and it says so",
    )?;
    demo.step(&["policy", "add", "everyone", "admit"], 0)?;
    demo.step(&["group", "add", "crew"], 0)?;
    demo.step(&["user", "add", "mara", "--group", "crew", "--about", "mate"], 0)?;
    demo.step(&["device", "add", "mara/laptop"], 0)?;
    demo.step(&["credential", "issue", "mara/laptop", "--until", "90d"], 0)?;

    demo.chapter("Bring it to the gateway");
    demo.step(&["rollout", "--preview"], 0)?;
    demo.step(&["rollout", "--yes"], 0)?;
    let ports = demo.step(&["port", "list"], 0)?;
    demo.prove(ports.out.contains("  open  "), "the listener's port is open at the host")?;

    demo.chapter("Before: from the laptop in the cafe");
    let silent = demo.step(&["lab", "fetch", "mara-laptop", TICKETS], 1)?;
    demo.prove(silent.err.contains("does not answer"), "the ticket server at the site does not answer")?;
    let before = demo.step(&["lab", "fetch", "mara-laptop", MIRROR], 0)?.out.trim().to_owned();

    demo.chapter("Hand over, connect, prove");
    demo.step(&["credential", "handover", "mara/laptop", "--to", "mara-laptop.yestrel", "--yes"], 0)?;
    demo.step(&["credential", "handover", "mara/laptop", "--to", "second.yestrel", "--yes"], 3)?;
    demo.prove(!demo.folder.join("second.yestrel").exists(), "there is no second copy of a private key")?;
    demo.connect("mara-laptop.yestrel", 0)?;
    demo.on_laptop(&["tunnel", "prove", "--reach", "10.44.0.20:80", "--look-up", "tickets.skerry.example"], 0)?;
    let page = demo.step(&["lab", "fetch", "mara-laptop", TICKETS_BY_NAME], 0)?;
    demo.prove(page.out.contains("seats left"), "the ticket server answers, by its name at the site")?;
    demo.step(&["session", "list"], 0)?;
    let (agree, words) = demo.counters_agree()?;
    demo.prove(agree, &format!("both ends count the same: {words}"))?;
    let still = demo.quietly(&["lab", "fetch", "mara-laptop", MIRROR])?;
    if demo.mode == Mode::Namespaces {
        demo.prove(
            still.out.trim() == before,
            &format!("what is beyond the reach goes its usual way: an outside service sees {before}"),
        )?;
    }

    demo.chapter("Everything through the tunnel");
    demo.step(&["listener", "change", "harbour/quill", "--reach", "everything"], 0)?;
    demo.step(&["rollout", "--yes"], 0)?;
    let stale = demo.step(&["credential", "list"], 0)?;
    demo.prove(stale.out.contains("stale"), "the handover that was given out is known to be stale")?;
    demo.step(&["credential", "renew", "mara/laptop", "--yes"], 0)?;
    demo.step(&["credential", "handover", "mara/laptop", "--to", "mara-laptop-2.yestrel", "--yes"], 0)?;
    demo.connect("mara-laptop-2.yestrel", 0)?;
    demo.on_laptop(&["tunnel", "prove", "--reach", "10.44.0.20:80", "--seen-by", MIRROR], 0)?;
    let after = demo.quietly(&["lab", "fetch", "mara-laptop", MIRROR])?.out.trim().to_owned();
    let gateway = if demo.mode == Mode::Namespaces { "203.0.113.10" } else { "127.77.0.1" };
    demo.prove(
        after == gateway && before != gateway,
        &format!("an outside service saw {before} before, and now sees {after}, the gateway's address"),
    )?;
    demo.chapter("The gateway moves to another host");
    demo.step(&["host", "add", "breakwater", "--site", "harbour", "--kind", "cloud", "--via", "lab"], 0)?;
    demo.step(&["gateway", "move", "harbour", "--to", "breakwater", "--yes"], 0)?;
    demo.step(&["lab", "point", "gangway.skerry.example", "--to", "breakwater"], 0)?;
    let followed = wait_until_back(demo)?;
    demo.prove(
        !demo.folder.join("lab/hosts/harbour/var").exists(),
        &format!("the laptop followed by itself in {followed:.1} s, and nothing is left on the old host"),
    )?;
    demo.on_laptop(&["tunnel", "prove", "--reach", "10.44.0.20:80", "--seen-by", MIRROR], 0)?;
    if stay {
        return Ok(());
    }

    certificates(demo)?;
    accounts(demo)?;
    phones(demo)?;
    policies(demo)?;

    demo.chapter("The laptop is lost");
    demo.step(&["credential", "revoke", "mara/laptop", "--reason", "lost on the ferry", "--yes"], 0)?;
    wait_until_ended(demo, "mara-laptop")?;
    let ended = demo.on_laptop(&["tunnel", "list"], 0)?;
    demo.prove(ended.err.contains("lost on the ferry"), "the session ended at once, and the device was told why")?;
    let again = demo.connect("mara-laptop-2.yestrel", 1)?;
    demo.prove(again.err.contains("lost on the ferry"), "it cannot come back, and is told why")?;
    let silent = demo.step(&["lab", "fetch", "mara-laptop", TICKETS], 1)?;
    demo.prove(silent.err.contains("does not answer"), "the ticket server does not answer any more")?;
    demo.step(&["session", "list", "--past"], 0)?;
    demo.step(&["estate", "history", "--last", "8"], 0)?;
    demo.step(&["estate", "history", "--verify"], 0)?;
    along(demo)?;
    demo.chapter("Leave no trace");
    demo.step(&["gateway", "retire", "harbour", "--yes"], 0)?;
    let host = demo.folder.join("lab/hosts/breakwater");
    demo.prove(
        !host.join("var").exists() && !host.join("opt").exists(),
        "neither the agent nor its folder is left on the host",
    )?;
    Ok(())
}

/// One list says who may come in when; it is tried before it is in force, and kept to afterwards.
fn policies(demo: &Demo) -> Result<()> {
    demo.chapter("Who may come in, and when");
    demo.step(&["group", "add", "welders"], 0)?;
    demo.step(&["user", "add", "oskar", "--group", "welders"], 0)?;
    demo.step(&["device", "add", "oskar/laptop"], 0)?;
    demo.step(&["credential", "issue", "oskar/laptop"], 0)?;
    let dock = "hours=tue,thu 05:30-11:15";
    demo.step(
        &[
            "policy",
            "add",
            "dry-dock",
            "admit",
            "--when",
            "group=welders",
            "--when",
            dock,
            "--session",
            "6h",
            "--first",
        ],
        0,
    )?;
    let night = "hours=daily 22:00-06:00";
    demo.step(
        &["policy", "add", "night-crew", "admit", "--when", "group=crew", "--when", night, "--after", "dry-dock"],
        0,
    )?;
    demo.step(&["policy", "change", "everyone", "--unless", "group=welders,crew"], 0)?;
    demo.step(&["policy", "list"], 0)?;
    let thursday = demo.step(&["policy", "rehearse", "oskar/laptop", "--at", "thu 10:00"], 0)?;
    let friday = demo.step(&["policy", "rehearse", "oskar/laptop", "--at", "fri 10:00"], 0)?;
    let night = demo.step(&["policy", "rehearse", "mara/laptop", "--at", "sun 03:00"], 0)?;
    demo.prove(
        thursday.out.contains("admitted: oskar/laptop") && friday.out.contains("opens on Tuesday at 05:30"),
        "a rehearsal lets the welder in on Thursday, refuses him on Friday, and says when it opens",
    )?;
    demo.prove(night.out.contains("by the policy night-crew"), "the night crew is admitted across midnight")?;
    demo.step(&["policy", "rehearse", "--all-users"], 0)?;
    demo.step(&["policy", "check"], 0)?;
    demo.step(&["policy", "change", "night-crew", "--off"], 0)?;
    let preview = demo.step(&["rollout", "--preview"], 0)?;
    demo.prove(
        preview.out.lines().any(|line| line.contains("  end ") && line.contains("mara/laptop")),
        "before it is in force it says whom it would throw out",
    )?;
    demo.step(&["rollout", "--yes"], 0)?;
    wait_until_ended(demo, "mara-laptop")?;
    let ended = demo.on_laptop(&["tunnel", "list"], 0)?;
    demo.prove(ended.err.contains("policies"), "her session ended, and her laptop was told why")?;
    demo.step(&["policy", "change", "everyone", "--unless", "group=welders"], 0)?;
    demo.step(&["policy", "change", "dry-dock", "--session", "4h"], 0)?;
    demo.step(&["rollout", "--yes"], 0)?;
    by_the_clock(demo)?;
    demo.connect("mara-laptop-2.yestrel", 0)?;
    Ok(())
}

/// The same welder on a Thursday and on a Friday, by the clock of the gateway.
fn by_the_clock(demo: &Demo) -> Result<()> {
    demo.step(&["credential", "handover", "oskar/laptop", "--to", "oskar-laptop.yestrel", "--yes"], 0)?;
    // The next Thursday that is wholly to come, and the day after it.
    let today = jiff::Zoned::now().date();
    let thursday = today.nth_weekday(1, jiff::civil::Weekday::Thursday);
    let friday = thursday.clone().and_then(|day| day.tomorrow());
    let (Ok(thursday), Ok(friday)) = (thursday, friday) else { return Ok(()) };
    let is = |day: jiff::civil::Date, time: &str| {
        let at = format!("{day} {time}");
        demo.step(&["lab", "clock", "breakwater", "--at", &at, "--time-zone", "Europe/Oslo"], 0)
    };
    is(thursday, "05:31")?;
    demo.connect("oskar-laptop.yestrel", 0)?;
    is(thursday, "09:45")?;
    wait_until_ended(demo, "mara-laptop")?;
    let ended = demo.on_laptop(&["tunnel", "list"], 0)?;
    demo.prove(
        ended.err.contains("4h"),
        "on Thursday the welder is in, until his session has lasted as long as it may",
    )?;
    is(thursday, "10:00")?;
    demo.connect("oskar-laptop.yestrel", 0)?;
    is(friday, "10:00")?;
    wait_until_ended(demo, "mara-laptop")?;
    let refused = demo.connect("oskar-laptop.yestrel", 1)?;
    demo.prove(refused.err.contains("policies"), "on Friday he is refused, and told why")?;
    demo.step(&["lab", "clock", "breakwater", "--right"], 0)?;
    demo.step(&["session", "list", "--past", "--user", "oskar"], 0)?;
    Ok(())
}

/// The import file of the example: forty seasonal staff.
const SEASONAL: &str = include_str!("seasonal.csv");

/// An authority of one's own, many certificates at once, and one that is taken back.
fn certificates(demo: &Demo) -> Result<()> {
    demo.chapter("An authority, and forty seasonal staff");
    let cannot = |error: std::io::Error| Problem::failed("the demo's folder cannot be written").why(error.to_string());
    std::fs::write(demo.folder.join("seasonal.csv"), SEASONAL).map_err(cannot)?;
    demo.step(&["authority", "create"], 0)?;
    demo.step(&["authority", "publish", "--at", "harbour", "--port", "8047", "--yes"], 0)?;
    demo.step(&["group", "add", "seasonal", "--lifetime", "120d"], 0)?;
    demo.step(&["user", "import", "seasonal.csv"], 0)?;
    demo.step(&["credential", "issue", "--group", "seasonal", "--kind", "certificate", "--yes"], 0)?;
    demo.step(&["rollout", "--yes"], 0)?;
    demo.step(&["credential", "handover", "eira/phone", "--as", "pem", "--to", "eira", "--yes"], 0)?;
    demo.step(&["authority", "export", "root", "--to", "root.pem"], 0)?;
    let verify = |list: &str| {
        demo.judge(&[
            "verify",
            "-x509_strict",
            "-purpose",
            "sslclient",
            "-crl_check",
            "-CAfile",
            "root.pem",
            "-untrusted",
            "eira/chain.pem",
            "-CRLfile",
            list,
            "eira/certificate.pem",
        ])
    };
    let fresh_list = |name: &str| -> Result<()> {
        let der = format!("{name}.crl");
        demo.step(&["authority", "export", "issuing", "--list", "--to", &der], 0)?;
        demo.judge(&["crl", "-inform", "DER", "-in", &der, "-out", name]).map(drop)
    };
    fresh_list("before")?;
    if let Some(came) = verify("before")? {
        demo.prove(came.code == 0, "openssl takes the certificate, its chain and the revocation list")?;
    }
    demo.step(&["credential", "revoke", "eira/phone", "--reason", "stolen", "--yes"], 0)?;
    fresh_list("after")?;
    if let Some(came) = verify("after")? {
        demo.prove(
            came.code != 0 && came.err.contains("certificate revoked"),
            "openssl refuses it, by the next list, which was signed at once",
        )?;
    }
    demo.step(&["authority", "list"], 0)?;
    Ok(())
}

/// An account with a password that was made here, and a code that changes.
fn accounts(demo: &Demo) -> Result<()> {
    demo.chapter("A password account with a second factor");
    demo.step(&["user", "add", "ines", "--about", "bookings", "--mail", "ines@skerry.example"], 0)?;
    demo.step(&["device", "add", "ines/phone"], 0)?;
    demo.step(&["credential", "issue", "ines/phone", "--kind", "password", "--generate", "--second-factor"], 0)?;
    let told = demo.step(&["credential", "handover", "ines/phone", "--yes"], 0)?;
    let field =
        |name: &str| told.out.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().trim().to_owned();
    demo.write("password", &field("password"))?;
    let code = code_of(&field("second factor"))?;
    let sign_in = ["registry", "try", "ines.phone", "--password-file", "password", "--code", &code];
    demo.step(&sign_in, 0)?;
    let again = demo.step(&sign_in, 3)?;
    demo.prove(again.err.contains("used already"), "password and code let her in, and a code works once")
}

/// A phone comes in with its certificate, and with an account, by what such devices have built in.
fn phones(demo: &Demo) -> Result<()> {
    demo.chapter("A phone, with nothing installed on it");
    if demo.mode == Mode::Processes {
        demo.output.write(
            "  phones dial ports 500 and 4500 alone, which hosts that are processes do not have: not played here\n",
        );
        return Ok(());
    }
    demo.step(&["registry", "change", "estate", "--method", "password", "--method", "ms-chap-v2"], 0)?;
    let open = ["listener", "open", "harbour", "--tunnel", "ikev2", "--accounts"];
    let site = ["--resolvers", "10.44.0.20", "--domains", "skerry.example"];
    demo.step(&[&open[..], &site].concat(), 0)?;
    demo.step(&["device", "add", "mara/phone"], 0)?;
    demo.step(&["credential", "issue", "mara/phone", "--kind", "certificate"], 0)?;
    demo.step(&["device", "add", "ines/tablet"], 0)?;
    demo.step(&["credential", "issue", "ines/tablet", "--kind", "password", "--generate"], 0)?;
    demo.step(&["rollout", "--yes"], 0)?;
    let profile = ["--as", "apple", "--to", "phone.mobileconfig", "--yes"];
    let told = demo.step(&[&["credential", "handover", "mara/phone"][..], &profile].concat(), 0)?;
    demo.write("transport", told.out.lines().find_map(|line| line.split("way:").nth(1)).unwrap_or_default().trim())?;
    demo.step(&["lab", "dial", "mara-phone", "phone.mobileconfig", "--transport-file", "transport"], 0)?;
    let on_phone = ["lab", "enter", "mara-phone", "--", "yestrel", "tunnel"];
    demo.step(&[&on_phone[..], &["prove", "--reach", "10.44.0.20:80"]].concat(), 0)?;
    let page = demo.step(&["lab", "fetch", "mara-phone", TICKETS_BY_NAME], 0)?;
    demo.prove(
        page.out.contains("seats left"),
        "the ticket server answers the phone, by its name, through two routers",
    )?;
    demo.step(&["session", "list"], 0)?;
    demo.step(&["credential", "revoke", "mara/phone", "--reason", "sold", "--yes"], 0)?;
    wait_until_ended(demo, "mara-phone")?;
    demo.step(&["lab", "fetch", "mara-phone", TICKETS], 1)?;
    let again = ["lab", "dial", "mara-phone", "phone.mobileconfig", "--transport-file", "transport"];
    demo.step(&again, 1)?;
    let refused = demo.step(&["session", "list", "--past", "--refused"], 0)?;
    demo.prove(refused.out.contains("mara/phone"), "its session ended at once, and the gateway says whom it kept out")?;
    demo.step(&["credential", "handover", "ines/tablet", "--as", "apple", "--to", "tablet.mobileconfig", "--yes"], 0)?;
    demo.step(&["lab", "dial", "mara-phone", "tablet.mobileconfig"], 0)?;
    let sessions = demo.step(&["session", "list"], 0)?;
    demo.prove(sessions.out.contains("ines/tablet"), "an account comes in by EAP, with the password in its profile")?;
    demo.step(&["session", "end", "ines/tablet", "--yes"], 0)?;
    wait_until_ended(demo, "mara-phone")?;
    demo.step(&["listener", "close", "harbour/ikev2", "--yes"], 0)?;
    demo.step(&["rollout", "--yes"], 0).map(drop)
}

/// The code that an authenticator would show for what it scanned.
fn code_of(uri: &str) -> Result<String> {
    let text = uri.split("secret=").nth(1).and_then(|rest| rest.split('&').next()).unwrap_or_default();
    let (mut bytes, mut held, mut bits) = (Vec::new(), 0_u32, 0);
    for letter in text.bytes() {
        let value = match letter {
            b'A'..=b'Z' => letter - b'A',
            b'2'..=b'7' => letter - b'2' + 26,
            _ => return Err(Problem::failed("what is to be scanned cannot be read")),
        };
        held = (held << 5 | u32::from(value)) & 0xffff;
        bits += 5;
        if bits >= 8 {
            bits -= 8;
            bytes.push((held >> bits) as u8);
        }
    }
    let step = yestrel_core::account::step(jiff::Timestamp::now());
    Ok(yestrel_core::account::code(&yestrel_core::keys::Secret::new(bytes), step))
}

/// The whole estate in one encrypted file, and out of it again.
fn along(demo: &Demo) -> Result<()> {
    demo.chapter("Taking it along");
    demo.write("passphrase", "seven skerries in the fog")?;
    demo.step(&["estate", "save", "skerry.saved", "--passphrase-file", "passphrase"], 0)?;
    let load = ["estate", "load", "skerry.saved", "--passphrase-file", "passphrase", "--estate", "elsewhere"];
    demo.step(&load, 0)?;
    let list = |more: &[&str]| demo.quietly(&[&["credential", "list", "--format", "json"][..], more].concat());
    let (here, there) = (list(&[])?.out, list(&["--estate", "elsewhere"])?.out);
    demo.prove(here.len() > 1000 && here == there, "every credential came along, in its state")
}

/// The tunnel comes up again at the new host, once the device has noticed; gives after how many seconds.
fn wait_until_back(demo: &Demo) -> Result<f64> {
    let began = Instant::now();
    while began.elapsed() < Duration::from_secs(20) {
        let came = demo.quietly(&[
            "lab",
            "enter",
            "mara-laptop",
            "--",
            "yestrel",
            "tunnel",
            "prove",
            "--reach",
            "10.44.0.20:80",
        ])?;
        if came.code == 0 {
            return Ok(began.elapsed().as_secs_f64());
        }
        std::thread::park_timeout(Duration::from_millis(50));
    }
    Err(Problem::failed("this does not hold: the device follows its gateway"))
}

/// The end frame needs a moment to arrive; the demo waits for it, not longer.
fn wait_until_ended(demo: &Demo, host: &str) -> Result<()> {
    let end = Instant::now() + Duration::from_secs(5);
    while Instant::now() < end {
        let came = demo.quietly(&["lab", "enter", host, "--", "yestrel", "tunnel", "list", "--format", "json"])?;
        if came.out.trim() == "[]" {
            return Ok(());
        }
    }
    Err(Problem::failed("this does not hold: the session ends with the revocation"))
}

fn say_how_to_go_on(demo: &Demo) {
    let quoted = |path: &Path| format!("'{}'", path.display());
    demo.output.write(&format!(
        "\nthe lab goes on, and the laptop is connected; in this shell:\n  export YESTREL_ESTATE={} YESTREL_LAB={}\n  \
         yestrel session list\n  yestrel lab enter mara-laptop -- yestrel tunnel prove --reach 10.44.0.20:80\n  \
         yestrel credential revoke mara/laptop --reason 'lost on the ferry'\nat the end:\n  yestrel lab stop\n",
        quoted(&demo.folder.join("skerry")),
        quoted(&demo.folder.join("lab")),
    ));
}
