//! What the version before wrote is read, and its agents and commands are understood.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::UnixStream;
use std::process::Stdio;

use common::{World, wait};
use serde_json::Value;
use yestrel_core::control::{Answer, Ask};

const CONTROL: &str = include_str!("data/0.1.0/control.jsonl");

/// An estate that version 0.1.0 made.
fn old_estate() -> World {
    let world = World::empty();
    for name in ["skerry", "skerry.key", "mara.yestrel"] {
        let from = format!("{}/tests/data/0.1.0/{name}", env!("CARGO_MANIFEST_DIR"));
        std::fs::copy(from, world.path(name)).unwrap();
        std::fs::set_permissions(world.path(name), std::fs::Permissions::from_mode(0o600)).unwrap();
    }
    world
}

#[test]
fn an_estate_of_the_version_before_opens_whole_and_goes_on() {
    let world = old_estate();
    world.run("estate show").is(0).says("skerry").says("1 revoked");
    world.run("credential list").is(0).says("mara/laptop/1").says("tomas/laptop/1");
    world.run("host show harbour").is(0).says("lab:/srv/skerry/lab/hosts/harbour");
    world.run("gateway list").is(0).says("up to date");
    // The order of now is the order of then: nothing would be carried anew.
    world.run("rollout --preview").is(0).says("nothing to do");
    let rows = world.run("estate history --verify").is(0);
    rows.says("as they were written");
    world.run("group add crew").is(0);
    world.run("estate history --verify").is(0);
    // Its sealed secrets open: a key is made with them, and the private one of a credential handed over.
    world.run("credential handover tomas/laptop --to tomas.yestrel --yes").is(0);
    world.run("gateway change harbour --updates daily").is(2);
    world.run_words(&["gateway", "change", "harbour", "--updates", "daily 03:00-04:00"]).is(0);
}

#[test]
fn a_handover_of_the_version_before_is_taken() {
    let world = old_estate();
    // Nobody answers for names: the test asks nobody outside.
    let mut command = world.command(&["connect", "mara.yestrel", "--proxy", "127.0.0.1:0"]);
    let came = common::Came::of(&command.env("YESTREL_RESOLVER", "127.0.0.1:1").output().unwrap());
    assert!(
        came.code == 1 && came.err.contains("gangway.skerry.example") && came.err.contains("cannot come in"),
        "{came:?}"
    );
}

#[test]
fn an_agent_of_the_version_before_is_understood() {
    for line in CONTROL.lines().skip(1).step_by(2) {
        let answer: Answer = serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}"));
        if let Answer::Carried(receipt) = &answer {
            // It held nothing, so nothing waits for a confirmation that it would not understand.
            assert!(receipt.held.is_none());
        }
    }
}

/// The fields of an object, however deep, as paths; those of a list's first item stand for all.
fn fields(value: &Value, path: &str, found: &mut Vec<String>) {
    match value {
        Value::Object(object) => {
            for (name, value) in object {
                found.push(format!("{path}.{name}"));
                fields(value, &format!("{path}.{name}"), found);
            }
        }
        Value::Array(items) => items.iter().take(1).for_each(|item| fields(item, &format!("{path}[]"), found)),
        _ => {}
    }
}

#[test]
fn a_command_of_the_version_before_gets_answers_that_it_understands() {
    let world = World::empty();
    let mut agent = world.command(&["agent", "run", "--folder", "agent", "--process-plane", "--bind", "127.0.0.1"]);
    let mut agent = agent.stderr(Stdio::null()).spawn().unwrap();
    let socket = world.path("agent/control.sock");
    let stream = wait(20, "the agent", || UnixStream::connect(&socket).ok());
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    let lines: Vec<_> = CONTROL.lines().collect();
    for pair in lines.chunks(2).filter(|pair| !pair[0].contains("confirm")) {
        let _: Ask = serde_json::from_str(pair[0]).unwrap_or_else(|error| panic!("{error}: {}", pair[0]));
        (&stream).write_all(format!("{}\n", pair[0]).as_bytes()).unwrap();
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        let (old, new): (Value, Value) = (serde_json::from_str(pair[1]).unwrap(), serde_json::from_str(&line).unwrap());
        // This agent belongs to nobody, so it refuses an order; everything else has at least what there was.
        if new["answer"] == "refused" {
            assert!(pair[0].contains("carry"), "{line}");
            continue;
        }
        let (mut were, mut are) = (Vec::new(), Vec::new());
        fields(&old, "", &mut were);
        fields(&new, "", &mut are);
        let listed = |path: &String| path.contains("[]") || path.ends_with("outward");
        let missing: Vec<_> = were.iter().filter(|path| !are.contains(path) && !listed(path)).collect();
        assert!(missing.is_empty(), "{missing:?} are gone from {line}");
    }
    agent.kill().unwrap();
    agent.wait().unwrap();
}
