//! The lab itself, and what people do around a tunnel: everyday changes, removals, narrow terminals.

use std::process::{Command, Stdio};

use crate::common::{Came, World, wait};

#[test]
fn a_lab_is_started_once_looked_at_and_gone_without_a_trace() {
    let mut world = World::empty();
    world.run("lab show").is(1).says("there is no lab");
    world.start_lab("--namespaces");
    world.run("lab start").is(3).says("runs in").says("yestrel lab stop");
    let hosts = world.run("lab show --format json").json();
    assert!(hosts.as_array().unwrap().iter().all(|host| host["state"] == "running"), "{hosts:#}");
    let pids: Vec<_> = ["outside", "harbour", "mara-laptop"].map(|host| world.host_pid(host)).to_vec();
    let own = std::fs::read_link("/proc/self/ns/net").unwrap();
    for pid in &pids {
        assert_ne!(std::fs::read_link(format!("/proc/{pid}/ns/net")).unwrap(), own, "a namespace of its own");
    }
    // The world hangs together: the laptop reaches the outside, and nothing reaches the laptop.
    world.run("lab fetch mara-laptop http://mirror.example/").is(0).says("198.51.100.23");
    world.run("lab fetch mara-laptop http://192.168.40.30/").is(1);
    world.run("lab fetch pier-office http://192.168.40.30/").is(0).says("till");
    world.run("lab enter nowhere -- true").is(2).says("no host nowhere");
    world.run("lab enter harbour").is(2);
    world.run("lab break nowhere").is(2);
    world.run("lab break tickets").is(2).says("cannot be broken in that way");
    world.run("lab stop").is(0);
    for pid in pids {
        let command = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        assert!(command.is_empty(), "{pid} still runs");
    }
    assert!(!world.path("lab").exists());
    world.run("lab stop").is(1);
}

#[test]
fn a_folder_with_other_things_is_not_made_a_lab() {
    let world = World::empty();
    std::fs::create_dir(world.path("lab")).unwrap();
    world.write("lab/diary", "dear diary");
    world.run("lab start --processes").is(3).says("something else than a lab");
    assert_eq!(world.read("lab/diary"), "dear diary");
    world.run("demo --folder lab").is(3).says("is not empty");
}

#[test]
fn a_lab_ends_by_itself() {
    let world = World::empty();
    world.run("lab start --processes --lifetime 1").is(0);
    crate::common::wait(20, "all hosts are gone", || {
        let hosts = world.run("lab show --format json").json();
        hosts.as_array().unwrap().iter().all(|host| host["state"] == "stopped").then_some(())
    });
    world.run("lab stop").is(0);
}

#[test]
fn a_gateway_whose_host_is_gone_can_be_abandoned() {
    let world = World::mara("--processes");
    world.run("lab break harbour").is(0);
    let before = world.everything();
    world.run("gateway retire harbour --yes").is(1).says("--abandoned");
    assert_eq!(world.everything(), before);
    world.run("gateway retire harbour").is(2).says("mara/laptop lose their way in there").says("--yes");
    world.run("gateway retire harbour --abandoned --yes").is(0).says("removed as soon as its host answers");
    world.run("gateway list").says("no gateways yet").says("an old agent of harbour is on harbour");
    world.run("host list").says("an old agent of harbour");
    world.run("credential show mara/laptop").is(0);
    // The host stays known until what is on it is gone, or nobody can come in there any more.
    world.run("host remove harbour --yes").is(4).says("stays known").says("--destroyed");
    world.run("host show harbour").is(0).says("an old agent of harbour");
    world.run("site remove harbour --yes").is(3).says("harbour");
    world.run("host remove harbour --destroyed").is(2).says("goes on letting revoked devices in");
    // It can be a gateway's host again, whose first rollout removes what was left there, and nothing of its own.
    world.run("lab mend harbour").is(0);
    world.run("gateway create gangway --host harbour --dialled gangway.skerry.example").is(0);
    world.run("listener open gangway --pool 10.188.44.0/24").is(0);
    world.run("user add tomas").is(0);
    world.run("device add tomas/tablet").is(0);
    world.run("credential issue tomas/tablet").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover tomas/tablet --to tomas.yestrel --yes").is(0);
    world.on_laptop("yestrel connect tomas.yestrel --background --proxy 127.0.0.1:0").is(0);
    world.on_laptop("yestrel tunnel stop gangway").is(0);
    assert!(!world.run("host list").out.contains("old agent"));
    world.run("gateway show gangway").is(0).says("up to date");
    // And again, until it is destroyed.
    world.run("lab break harbour").is(0);
    world.run("gateway retire gangway --abandoned --yes").is(0);
    world.run("host remove harbour --destroyed --yes").is(0);
    world.run("site remove harbour --yes").is(0);
}

#[test]
fn a_revocation_stands_in_the_estate_even_when_the_gateway_is_silent() {
    let world = World::mara("--processes");
    world.run("lab break harbour").is(0);
    let revoke = ["credential", "revoke", "mara/laptop", "--reason", "lost on the ferry", "--yes"];
    world.run_words(&revoke).is(4).says("revoked mara/laptop/1").says("harbour did not take the newest order");
    world.run_words(&revoke).is(3).says("revoked already").says("lost on the ferry");
    world.run("gateway list").says("behind");
    world.run("lab mend harbour").is(0);
    world.run("rollout --yes").is(0).says("revoke  mara/laptop  (lost on the ferry)");
    world.on_laptop("yestrel connect mara.yestrel --proxy 127.0.0.1:0").is(1).says("lost on the ferry");
    world.run("session list --past").is(0).says("refused: revoked");
    world.run("credential renew mara/laptop --yes").is(3).says("what was taken back is not renewed");
    world.run("device remove mara/laptop --yes").is(0);
    world.run("user remove mara --yes").is(0);
    // The device is forgotten, its key is not.
    world.run("rollout --preview").is(0).says("nothing to do");
    world.on_laptop("yestrel connect mara.yestrel --proxy 127.0.0.1:0").is(1).says("revoked");
}

#[test]
fn what_a_change_of_ports_ends_is_counted_before_it() {
    let world = World::mara("--processes");
    let ends = |came: Came| came.says("ends 1 session, of mara/laptop");
    world.run("listener change harbour/quill --port 24801 --preview").is(0);
    let nobody = world.run("listener change harbour/quill --port 24802 --yes").is(0);
    assert!(!nobody.err.contains("ends"), "{nobody:?}");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to again.yestrel --yes").is(3);
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("credential handover mara/laptop --to again.yestrel --yes").is(0);
    world.on_laptop("yestrel connect again.yestrel --background --proxy 127.0.0.1:0").is(0);
    wait(10, "mara is in", || world.run("session list").out.contains("mara/laptop").then_some(()));
    // What ends nothing says nothing.
    let other = world.run("listener change harbour/quill --keep-alive 21s --yes").is(0);
    assert!(!other.err.contains("ends"), "{other:?}");
    let preview = world.run("rollout --preview").is(0);
    assert!(!preview.out.contains("  end "), "{preview:?}");
    ends(world.run("listener change harbour/quill --port 24803 --preview").is(0));
    ends(world.run("listener change harbour/quill --port 24803 --yes").is(0));
    world.run("rollout --preview").is(0).says("  end     1 session, of mara/laptop");
    world.run("rollout --yes").is(0).says("  end     1 session, of mara/laptop");
    // And where it is closed for good.
    world.run("listener open harbour --name second").is(0);
    wait(20, "mara is in again", || world.run("session list").out.contains("mara/laptop").then_some(()));
    world.run("listener close harbour/quill --yes").is(0);
    world.run("rollout --preview").is(0).says("  end     1 session, of mara/laptop");
    let silent = |world: &World| world.run("rollout --preview").is(0).says("the gateway does not say who");
    world.run("lab break harbour").is(0);
    silent(&world);
}

#[test]
fn closing_a_listener_closes_its_port_and_says_whom_it_costs_a_way() {
    let world = World::mara("--processes");
    world.run("listener open harbour --name second --reach everything").is(0).says("names may not resolve");
    world.run("rollout --yes").is(0);
    assert_eq!(world.run("port list --format json").json().as_array().map(Vec::len), Some(2));
    world.run("listener close harbour/quill").is(2).says("1 device loses this way in");
    world.run("listener close harbour/quill --yes").is(0);
    world.run("rollout --yes").is(0).says("remove  listener harbour/quill").says("closes");
    world.run("credential list").says("harbour/quill is closed");
    world.run("credential renew mara/laptop --yes").is(3).says("lets in nowhere any more");
    world.on_laptop("yestrel connect mara.yestrel --proxy 127.0.0.1:0").is(1).says("no answer");
}

#[test]
fn a_port_passes_from_a_closed_listener_to_a_new_one_in_one_rollout() {
    let world = World::mara("--processes");
    let port = world.run("listener list --format json").json()[0]["port"].as_str().unwrap().replace("/udp", "");
    world.run("listener close harbour/quill --yes").is(0);
    world.run(&format!("listener open harbour --name second --port {port}")).is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone").is(0);
    world.run("rollout --yes").is(0).says("remove  listener harbour/quill").says("add     listener harbour/second");
    world.run("credential handover mara/phone --to phone.yestrel --yes").is(0);
    world.on_laptop("yestrel connect phone.yestrel --background --proxy 127.0.0.1:0").is(0);
    world.run("lab fetch mara-laptop http://10.44.0.20/").is(0).says("seats left");
}

#[test]
fn groups_and_users_change_together() {
    let world = World::estate();
    for group in ["crew", "office"] {
        world.run(&format!("group add {group} --about people")).is(0);
    }
    world.run("user add mara --group crew --mail mara@skerry.example").is(0);
    world.run("user add tomas").is(0);
    world.run("group change crew --add tomas --remove mara").is(0);
    let members = |group: &str| world.run(&format!("group show {group} --format json")).json()["members"].clone();
    assert_eq!(members("crew"), serde_json::json!(["tomas"]));
    world.run("user change mara --group office --about bookings").is(0);
    assert_eq!(members("office"), serde_json::json!(["mara"]));
    world.run("group change crew --add nobody").is(2);
    world.run("group change crew").is(2).says("nothing was said");
    world.run("user change mara").is(2).says("nothing was said");
    assert_eq!(members("crew"), serde_json::json!(["tomas"]));
    world.run("group change crew --remove tomas").is(0);
    world.run("group remove crew --yes").is(0);
    world.run("device add tomas/tablet --platform android").is(0);
    world.run("device list tomas --format csv").is(0).says("tomas/tablet,android");
    world.run("device list nobody").is(2);
    world.run("device remove tomas/tablet --yes").is(0);
    world.run("user remove tomas --yes").is(0);
}

/// Runs a command line on a terminal of its own with so many columns, answering what it asks.
fn on_a_terminal(world: &World, columns: u32, line: &str, answer: &str) -> String {
    let script = format!("stty cols {columns} rows 40; '{}' {line}", env!("CARGO_BIN_EXE_yestrel"));
    let mut child = Command::new("script")
        .args(["-qec", &script, "/dev/null"])
        .current_dir(world.folder.path())
        .env("YESTREL_ESTATE", world.path("skerry"))
        .env("NO_COLOR", "1")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    use std::io::Write as _;
    child.stdin.take().unwrap().write_all(answer.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    String::from_utf8_lossy(&output.stdout).replace('\r', "")
}

#[test]
fn a_narrow_terminal_shows_records_and_a_wide_one_a_table() {
    let world = World::estate();
    world.run("user add mara --about mate --mail mara@skerry.example").is(0);
    let wide = on_a_terminal(&world, 150, "user list", "");
    assert!(wide.contains("name  state   groups"), "{wide}");
    // First the least columns go, and it is said; with --wide none does.
    let narrow = on_a_terminal(&world, 40, "user list", "");
    assert!(narrow.starts_with("name  state   groups"), "{narrow}");
    assert!(narrow.contains("left out: mail, about") && !narrow.contains("mara@"), "{narrow}");
    assert!(narrow.lines().all(|line| line.chars().count() <= 40), "{narrow}");
    let whole = on_a_terminal(&world, 40, "user list --wide", "");
    assert!(whole.contains("mara@skerry.example") && !whole.contains("left out"), "{whole}");
    // Where that is not enough, one thing after another, nothing cut off.
    let narrow = on_a_terminal(&world, 15, "user list", "");
    assert!(narrow.contains("name         mara\nstate        active\n"), "{narrow}");
    assert!(narrow.contains("mara@skerry.example"), "{narrow}");
}

#[test]
fn a_person_is_asked_before_something_is_removed_and_no_means_no() {
    let world = World::estate();
    world.run("group add crew").is(0);
    let shown = on_a_terminal(&world, 100, "group remove crew", "n\n");
    assert!(shown.contains("this removes the group crew") && shown.contains("nothing was done"), "{shown}");
    world.run("group show crew").is(0);
    let shown = on_a_terminal(&world, 100, "group remove crew", "y\n");
    assert!(shown.contains("removed the group crew"), "{shown}");
    world.run("group show crew").is(2);
}

#[test]
fn colour_is_for_terminals_and_can_be_switched_off() {
    let world = World::estate();
    world.run("user add mara").is(0);
    assert!(!world.run("user list").out.contains('\x1b'));
    assert!(world.run("user list --color always").out.contains("\x1b[32mactive\x1b[0m"));
    assert!(!on_a_terminal(&world, 100, "user list", "").contains("\x1b[32m"));
}

#[test]
fn a_demo_that_stays_can_be_gone_on_with_by_hand() {
    let world = World::empty();
    let came = world.run("demo --stay --folder played").is(0).says("yestrel lab stop");
    assert!(came.out.contains("export YESTREL_ESTATE=") && came.out.contains("YESTREL_LAB="), "{came:?}");
    let by_hand = |line: &str| {
        let mut command = world.command(&line.split(' ').collect::<Vec<_>>());
        command.env("YESTREL_ESTATE", world.path("played/skerry")).env("YESTREL_LAB", world.path("played/lab"));
        let output = command.output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (connected, proved) =
        (by_hand("session list"), by_hand("lab enter mara-laptop -- yestrel tunnel prove --reach 10.44.0.20:80"));
    let revoked = by_hand("credential revoke mara/laptop --reason lost --yes");
    let stopped = by_hand("lab stop");
    assert!(connected.1.contains("mara/laptop"), "{connected:?}");
    assert_eq!((proved.0, revoked.0, stopped.0), (Some(0), Some(0), Some(0)), "{proved:?} {revoked:?} {stopped:?}");
    assert!(!world.path("played/lab").exists());
}

#[test]
fn a_person_at_a_terminal_sees_progress_beside_the_answer() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    let shown = on_a_terminal(&world, 100, "rollout --yes", "");
    assert!(shown.contains("of 1") && shown.contains("done"), "{shown}");
    assert!(!world.run("rollout --again --yes").is(0).err.contains("of 1"), "nobody watches");
}

#[test]
fn an_agent_whose_host_was_killed_ends_with_the_lab() {
    let world = World::harbour("--processes");
    world.run("rollout --yes").is(0);
    let (agent, host) = (world.agent_pid("harbour"), world.host_pid("harbour") as i32);
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(host), nix::sys::signal::Signal::SIGKILL).unwrap();
    let runs = || std::fs::read_to_string(format!("/proc/{agent}/cmdline")).is_ok_and(|line| line.contains("agent"));
    assert!(runs());
    world.run("lab stop").is(0);
    crate::common::wait(5, "the end of the agent", || (!runs()).then_some(()));
}

/// A call secret is renewed: handovers of before are stale and open until the overlap ends, and the next handover has the new one.
#[test]
fn a_renewed_call_secret_makes_handovers_stale_and_leaves_them_open_for_a_while() {
    let world = World::mara("--processes");
    world.run("listener renew harbour/quill --overlap 14d").is(0).says("the one before opens until").says("1 handover");
    world.run("listener show harbour/quill").is(0).says("number 2, number 1 until");
    world.run("credential list").is(0).says("stale").says("calls with a secret that has been renewed and opens until");
    world.run("rollout --preview").is(0).says("call secret number 1 -> number 2, number 1 until");
    world.run("rollout --yes").is(0);
    let connect = |file: &str| world.on_laptop(&format!("yestrel connect {file} --background --proxy 127.0.0.1:0"));
    world.write("copy.yestrel", &std::fs::read_to_string(world.path("mara.yestrel")).unwrap());
    connect("mara.yestrel").is(0);
    world.run("gateway log harbour").is(0).says("its handover is stale");
    // The device learns the new one by the tunnel that the old one opened, and the estate learns that it has.
    let taken = || {
        world.run("session list").is(0);
        world.run("credential show mara/laptop").is(0).out.contains("1, taken on").then_some(())
    };
    wait(20, "the notice to be taken", taken);
    let listed = world.run("credential list").is(0).says("notice 1 taken").out;
    assert!(!listed.contains("stale"), "{listed}");
    // Who is in stays in when the old one ends; nobody comes in with it any more.
    world.run("listener renew harbour/quill --overlap 0d").is(2).says("opens nothing any more");
    world.run("listener renew harbour/quill --overlap 0d --yes").is(0).says("opens no more");
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel tunnel prove").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    connect("copy.yestrel").is(1).says("no answer within");
    connect("mara.yestrel").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("credential handover mara/laptop --to new.yestrel --yes").is(0);
    connect("new.yestrel").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // Neither the estate, nor an order, nor the agent's folder holds a call secret in clear.
    let handover = std::fs::read_to_string(world.path("new.yestrel")).unwrap();
    let secret =
        handover.lines().find_map(|line| line.strip_prefix("call_secret = ")).unwrap().trim_matches('"').to_owned();
    let holds =
        |file: &str| std::fs::read(world.path(file)).unwrap().windows(20).any(|part| part == &secret.as_bytes()[..20]);
    assert!(holds("new.yestrel"));
    for file in [
        "skerry",
        "lab/hosts/harbour/var/yestrel/order.json",
        "lab/hosts/harbour/var/yestrel/news/00000000000000000001.jsonl",
    ] {
        assert!(!holds(file), "{file}");
    }
}

#[test]
fn more_ranges_than_a_device_can_be_told_are_refused() {
    let world = World::harbour("--processes");
    let ranges: Vec<_> = (0..120).map(|n| format!("10.{n}.9.0/24")).collect();
    let refused = world.run(&format!("listener change harbour/quill --reach {}", ranges.join(",")));
    refused.is(3).says("120 ranges and 1 resolvers are more than a device can be told");
    world.run("listener show harbour/quill").is(0).says("site");
}

/// Processes whose command line has this in it.
fn processes_of(folder: &std::path::Path) -> Vec<String> {
    let mark = folder.to_str().unwrap().to_owned();
    let all = std::fs::read_dir("/proc").unwrap().flatten();
    let lines = all.filter_map(|entry| std::fs::read(entry.path().join("cmdline")).ok());
    lines.map(|line| String::from_utf8_lossy(&line).replace('\0', " ")).filter(|line| line.contains(&mark)).collect()
}

/// A closed pipe, Ctrl-C and a kill in the middle of the demo, while a device's tunnel is up: neither a process nor a folder is left.
#[test]
fn whatever_ends_the_demo_takes_everything_along() {
    use std::io::BufRead as _;
    let world = World::empty();
    for how in ["pipe", "interrupt", "kill"] {
        let folder = world.path(how);
        std::fs::create_dir(&folder).unwrap();
        let mut command = world.command(&["demo", "--processes"]);
        let command = command.env("TMPDIR", &folder).stdout(std::process::Stdio::piped());
        let mut demo = command.stderr(std::process::Stdio::null()).spawn().unwrap();
        let mut lines = std::io::BufReader::new(demo.stdout.take().unwrap()).lines();
        assert!(lines.any(|line| line.unwrap().contains("is in at harbour")), "the tunnel comes up");
        assert!(processes_of(&folder).len() > 5, "{:?}", processes_of(&folder));
        match how {
            "pipe" => drop(lines),
            "interrupt" => {
                let pid = nix::unistd::Pid::from_raw(demo.id() as i32);
                nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGINT).unwrap();
            }
            _ => demo.kill().unwrap(),
        }
        demo.wait().unwrap();
        wait(30, "everything is gone", || {
            (processes_of(&folder).is_empty() && std::fs::read_dir(&folder).unwrap().next().is_none()).then_some(())
        });
    }
}
