//! What is recorded reaches its gateways, whatever becomes of the terminal, and nothing else goes with it.

use std::process::Stdio;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::common::{World, wait};

const PROCESSES: &str = "--processes";

fn revoked_there(world: &World) -> u64 {
    world.run("gateway show harbour --format json").is(0).json()["revoked_keys"].as_u64().unwrap()
}

#[test]
fn a_revocation_does_not_depend_on_who_reads_its_output_nor_on_the_terminal() {
    let world = World::mara(PROCESSES);
    for device in ["tablet", "phone", "watch"] {
        world.run(&format!("device add mara/{device}")).is(0);
        world.run(&format!("credential issue mara/{device}")).is(0);
    }
    world.run("rollout --yes").is(0);
    let revoke = |device: &str| {
        let mut command = world.command(&["credential", "revoke", device, "--reason", "lost", "--yes"]);
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        command
    };
    // Nobody reads its answer, nor its errors.
    let mut child = revoke("mara/tablet").spawn().unwrap();
    drop((child.stdout.take(), child.stderr.take()));
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(revoked_there(&world), 1);
    // The agent is slow, and the person impatient.
    let agent = Pid::from_raw(world.agent_pid("harbour"));
    kill(agent, Signal::SIGSTOP).unwrap();
    let child = revoke("mara/phone").spawn().unwrap();
    wait(20, "it is recorded", || {
        world.run("credential list --format json").out.contains("\"state\": \"revoked\"").then_some(())
    });
    wait(20, "it is recorded", || {
        let history = world.run("estate history --last 5 --format json").out;
        history.contains("mara/phone").then_some(())
    });
    for signal in [Signal::SIGINT, Signal::SIGINT, Signal::SIGHUP, Signal::SIGTERM] {
        kill(Pid::from_raw(child.id() as i32), signal).unwrap();
    }
    kill(agent, Signal::SIGCONT).unwrap();
    let came = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&came.stderr).into_owned();
    assert_eq!(came.status.code(), Some(0), "{said}");
    assert!(said.contains("what was recorded is being carried"), "{said}");
    assert_eq!(revoked_there(&world), 2);
    // What could not be carried is said, and goes with the next that is.
    world.run("lab break harbour --how agent").is(0);
    world.run("credential revoke mara/watch --reason lost --yes").is(4).says("harbour did not take");
    world.run("lab mend harbour").is(0);
    wait(20, "the agent answers", || (world.run("gateway show harbour").out.contains("running since")).then_some(()));
    world.run("user add ines").is(0);
    world.run("user suspend ines --yes").is(0).says("revoke  mara/watch");
    assert_eq!(revoked_there(&world), 3);
}

#[test]
fn no_command_ends_by_a_signal_because_nobody_reads_its_errors() {
    let world = World::estate();
    for words in [
        &["dance"][..],
        &["user", "show", "nobody"],
        &["rollout"],
        &["credential", "revoke", "mara/laptop", "--reason", "lost"],
        &["connect", "nothing.yestrel"],
        &["agent", "status", "--folder", "nowhere"],
        &["guide"],
        &["estate", "history", "--verify"],
        &["user", "list", "--verbose"],
        &["--help"],
    ] {
        let mut child = world.command(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        drop((child.stdout.take(), child.stderr.take()));
        let unread = child.wait().unwrap().code();
        assert_eq!(unread, Some(world.run_words(words).code), "{words:?}");
    }
}

#[test]
fn a_revocation_carries_nothing_else_that_waits() {
    let world = World::mara(PROCESSES);
    world.admit("tomas", "tomas/tablet");
    world.run("rollout --yes").is(0);
    let port = || world.run("gateway show harbour --format json").json()["order_at_agent"].clone();
    assert_eq!(port(), 2);
    let listens = || world.run("port list --format json").json().to_string();
    let before = listens();
    // What waits: another port, another reach, somebody new.
    world.run("listener change harbour/quill --reach 10.44.0.20/32").is(0);
    world.admit("ines", "ines/phone");
    let came = world.run("credential revoke tomas/tablet --reason lost --yes").is(0);
    let came = came.says("revoke  tomas/tablet").says("changes wait for harbour besides");
    assert!(!came.out.contains("reach") && !came.out.contains("ines"), "{came:?}");
    assert_eq!(listens(), before);
    let waits = world.run("rollout --preview").is(0);
    waits.says("10.44.0.20/32").says("ines/phone");
    // A suspended user is out, one renewed is in, and the rest still waits.
    world.run("user suspend mara --yes").is(0);
    world.run("user restore mara").is(0);
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("rollout --preview").is(0).says("10.44.0.20/32").says("ines/phone");
    world.run("credential handover mara/laptop --to again.yestrel --yes").is(0);
    world.on_laptop("yestrel connect again.yestrel --background --proxy 127.0.0.1:0").is(0);
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    // Unless it is asked for.
    world.run("user suspend mara --yes --everything").is(0).says("10.44.0.20/32");
    world.run("rollout --preview").is(0).says("nothing to do");
}

#[test]
fn a_renewal_lets_in_nowhere_else_than_before() {
    let world = World::mara(PROCESSES);
    world.run("listener open harbour --name second").is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --at harbour/second").is(0);
    world.run("listener close harbour/second --yes").is(0);
    world
        .run("credential renew mara/phone --yes")
        .is(3)
        .says("lets in nowhere any more")
        .says("credential issue mara/phone");
    let ways = world.run("credential show mara/phone --format json").is(0).json().to_string();
    assert!(!ways.contains("harbour/quill"), "{ways}");
}

#[test]
fn a_gateway_that_does_not_answer_holds_up_none_of_the_others_and_is_named() {
    let world = World::mara(PROCESSES);
    // Before it in the alphabet, so that it is asked first.
    world.run("host add breakwater --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create breakwater --host breakwater --dialled slip.skerry.example").is(0);
    world.run("listener open breakwater").is(0);
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    wait(10, "the session", || world.run("session list").out.contains("mara/laptop").then_some(()));
    world.run("lab break breakwater --how agent").is(0);
    let silent = |came: crate::common::Came| came.is(4).says("breakwater did not answer");
    silent(world.run("session list")).says("mara/laptop");
    silent(world.run("session list --past"));
    silent(world.run("session end mara/laptop --yes")).says("ended 1 session of mara/laptop");
    wait(10, "nobody is in", || {
        world
            .run("session list")
            .out
            .contains("nobody is connected, as far as the gateways that answer know")
            .then_some(())
    });
    silent(world.run("session end mara/laptop --yes")).says("as far as the gateways that answer know");
    // One bad host does not keep the other from its order, nor its outcome from being told.
    world.run("listener change harbour/quill --keep-alive 25s").is(0);
    let came = world.run("rollout --yes --format json").is(4).says("breakwater did not take");
    let states: Vec<_> = came.json().as_array().unwrap().iter().map(|row| row["state"].to_string()).collect();
    assert!(states[0].contains("failed") && states[1].contains("done"), "{states:?}");
}

/// The news of a session's end come late: they spend the credential that it was opened with, and no newer one of the device.
#[test]
fn the_end_of_an_old_session_does_not_spend_a_newer_credential() {
    let world = World::mara(PROCESSES);
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    world.run("credential revoke mara/laptop --reason lost --yes").is(0);
    world.run("credential issue mara/laptop --once").is(0);
    world.run("rollout --yes").is(0);
    world.run("session list --past").is(0).says("revoked");
    world.run("credential handover mara/laptop --to once.yestrel --yes").is(0);
    world.on_laptop("yestrel connect once.yestrel --background --proxy 127.0.0.1:0").is(0);
}
