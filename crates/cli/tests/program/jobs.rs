//! Commands on many: done in batches, stopped, killed, gone on with, taken back; and everybody else meanwhile.

use std::process::{Child, Stdio};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::common::{Came, World, wait};
use crate::undone::is_kept_whole;

/// So many that they are several batches.
const MANY: usize = 3_600;

/// A gateway, a crew of many with a laptop each, and one who is no part of it.
fn many() -> World {
    let world = World::harbour("--processes");
    world.run("listener close harbour/quill --yes").is(0);
    world.run("listener open harbour --pool 10.188.0.0/16").is(0);
    let lines: String = (0..MANY).map(|one| format!("hand{one:05},crew,laptop\n")).collect();
    world.write("crew.csv", &format!("name,groups,device\n{lines}"));
    world.run("user import crew.csv --make-groups").is(0);
    world.admit("astrid", "astrid/desk");
    world.run("rollout --yes").is(0);
    world
}

fn begin(world: &World) -> Child {
    let mut command = world.command(&["credential", "issue", "--group", "crew", "--yes"]);
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Waits until some of it is made, and gives its number.
fn under_way(world: &World) -> u64 {
    wait(60, "the first batch", || {
        let open = world.run("estate jobs --format json").is(0).json();
        let done = open[0]["done"].as_u64().filter(|done| *done > 0)?;
        assert!(done < MANY as u64, "too fast to be stopped: {open}");
        open[0]["number"].as_str().map(|number| number.parse().unwrap())
    })
}

fn stop(child: Child, signal: Signal) -> Came {
    kill(Pid::from_raw(child.id().try_into().unwrap()), signal).unwrap();
    Came::of(&child.wait_with_output().unwrap())
}

fn live(world: &World) -> usize {
    let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
    estate.query_row("SELECT count(*) FROM credentials WHERE revoked IS NULL", [], |row| row.get::<_, i64>(0)).unwrap()
        as usize
}

fn admitted(world: &World) -> usize {
    let kept = |file| std::fs::read_to_string(world.path(&format!("lab/hosts/harbour/var/yestrel/{file}")));
    let all = kept("order.json").unwrap() + &kept("amendments.jsonl").unwrap_or_default();
    all.replace('\\', "").matches("\"device\":\"hand").count()
}

// Long: some thousand credentials by a program that is not optimised.
#[test]
fn a_command_on_many_lets_others_in_is_stopped_and_gone_on_with() {
    let world = many();
    let child = begin(&world);
    let number = under_way(&world);
    let stopped = stop(child, Signal::SIGINT);
    let stopped = stopped.is(4).says("none of them counts yet").says("yestrel credential issue --group crew   goes on");
    assert!(stopped.err.contains("it stops after what is under way"), "{stopped:?}");
    let made = live(&world);
    assert!((500..MANY).contains(&made) && made % 500 == 1, "{made}: whole batches, and astrid's");
    // The same again goes on; meanwhile others write, and it is killed.
    let mut child = begin(&world);
    wait(60, "more of it", || (live(&world) > made).then_some(()));
    world.run("user add tomas").is(0);
    assert!(child.try_wait().unwrap().is_none(), "too fast to be met");
    drop(stop(child, Signal::SIGKILL));
    let left = world.run("estate jobs --format json").is(0).json();
    assert_eq!(left[0]["number"], number.to_string());
    assert!(left[0]["done"].as_u64() >= Some(made as u64), "{left}");
    // None of what is made is known to anybody, whatever others do.
    world.run("device add tomas/tablet").is(0);
    world.run("credential issue tomas/tablet").is(0);
    world.run("rollout --yes").is(0).says("admit   tomas/tablet");
    world.run("credential revoke astrid/desk --reason lost --yes").is(0).says("revoke  astrid/desk");
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("rollout --again --yes").is(0);
    assert_eq!(admitted(&world), 0);
    world.run("credential handover hand00000/laptop --to one.yestrel --yes").is(3).says("--resume").says("--take-back");
    world.run("credential show hand00000/laptop").is(0).says("ready, does not count yet");
    world.run("credential renew hand00000/laptop --yes").is(3).says("is not finished");
    // What it knows them by is not changed under it; a preview tries, and goes on with nothing.
    for other in ["group rename crew deck", "gateway rename harbour pier", "listener rename harbour/quill crew"] {
        world.run(other).is(3).says("is not finished");
    }
    world.run("credential issue --group crew --preview").is(0);
    assert_eq!(live(&world), left[0]["done"].as_u64().unwrap() as usize + 1, "tomas in astrid's place");
    world.run("status").says("none of them counts until it is finished").says(&format!("--resume {number}"));
    world.run("credential issue --group crew --at harbour --yes").is(3).says("is not finished");
    world.run("credential handover --group crew --to crew --as yestrel --yes").is(2);
    // Somebody takes one back that is not even valid yet: it stays so.
    world.run("credential revoke hand00001/laptop --reason lost --yes").is(0);
    world.run(&format!("estate jobs --resume {number}")).is(0).says(&format!("finished job {number}"));
    world.run("estate jobs").is(0).says("every command on many is finished");
    world.run(&format!("estate jobs --resume {number}")).is(2).says("no job");
    world.run(&format!("estate jobs --take-back {number} --yes")).is(2).says("no job");
    assert_eq!(live(&world), MANY + 1, "one for each, another for the one that was taken back, and tomas");
    world.run("rollout --yes").is(0);
    assert_eq!(admitted(&world), MANY + 1, "and the one that is out");
    world.run("credential handover hand00000/laptop --to one.yestrel --yes").is(0);
    let shown = world.run("credential show hand00000/laptop").is(0);
    assert!(!shown.out.contains("does not count"), "{shown:?}");
    world.run("estate history --verify").is(0);
    world.run("credential issue --group crew --yes").is(0).says("nobody in crew needs");
}

#[test]
fn what_a_command_on_many_has_made_is_taken_back_with_every_address() {
    let world = many();
    let addresses = || {
        let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
        estate.query_row("SELECT count(*) FROM addresses", [], |row| row.get::<_, i64>(0)).unwrap()
    };
    let before = (live(&world), addresses());
    let child = begin(&world);
    let number = under_way(&world);
    stop(child, Signal::SIGTERM).is(4);
    assert!(live(&world) > 500);
    world.run(&format!("estate jobs --take-back {number}")).is(2).says("needs a yes");
    world.run(&format!("estate jobs --take-back {number} --yes")).is(0).says("back");
    assert_eq!((live(&world), addresses()), before);
    world.run("estate jobs").is(0).says("every command on many is finished");
    world.run("rollout --preview").is(0).says("nothing to do");
    // As if it had never been: the same again begins anew. What it would refuse it refuses before it begins.
    world.run("listener change harbour/quill --pool 10.189.0.0/24 --yes").is(0);
    world.run("credential issue --group crew --yes").is(3).says("10.189.0.0/24");
    world.run("credential issue --group crew --preview").is(3).says("10.189.0.0/24");
    world.run("estate jobs").is(0).says("every command on many is finished");
    assert_eq!(live(&world), before.0);
    // What was taken back is in what is kept of changes as well, and a number that it had is nobody's trouble.
    is_kept_whole(&world);
}

// Long: some thousand credentials by a program that is not optimised.
#[test]
fn a_renewal_of_many_lets_others_in_and_is_gone_on_with_by_the_same_words() {
    let world = many();
    world.run("credential issue --group crew --until 30d --yes").is(0);
    let renew = ["credential", "renew", "--due", "60d", "--kind", "key-pair", "--yes"];
    let revoked = || {
        let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
        let sql = "SELECT count(*) FROM credentials WHERE revoked IS NOT NULL";
        estate.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap() as usize
    };
    let mut command = world.command(&renew);
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    wait(60, "the first batch", || (revoked() > 0).then_some(()));
    world.run("user add tomas").is(0);
    assert!(child.try_wait().unwrap().is_none(), "too fast to be met");
    let stopped = stop(child, Signal::SIGINT).is(4).says("are renewed").says("goes on with those that are left");
    let done = revoked();
    assert!((500..MANY).contains(&done) && done % 500 == 0, "{done}: whole batches; {stopped:?}");
    // What it has renewed ends by the same moment, and is not renewed again: neither by the same words, nor by its number.
    world.run("status").says(&format!("{done} of {MANY} are renewed"));
    let mut command = world.command(&renew);
    let child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    wait(60, "more of it", || (revoked() > done).then_some(()));
    drop(stop(child, Signal::SIGKILL));
    let number = world.run("estate jobs --format json").is(0).json()[0]["number"].as_str().unwrap().to_owned();
    world.run(&format!("estate jobs --resume {number}")).is(0).says("more are renewed");
    assert_eq!((revoked(), live(&world)), (MANY, MANY + 1), "one for each, and astrid's");
    world.run("credential show hand00000/laptop").is(0).says("hand00000/laptop/2");
    world.run("estate jobs").is(0).says("every command on many is finished");
    world.run("credential renew --due 1d --kind key-pair --yes").is(0).says("no key pair is due");
    is_kept_whole(&world);
}

fn import(world: &World, file: &str) -> Child {
    let mut command = world.command(&["user", "import", file, "--make-groups", "--yes"]);
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn users(world: &World) -> usize {
    let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let count = |row: &rusqlite::Row<'_>| row.get::<_, i64>(0);
    let devices = estate.query_row("SELECT count(*) FROM devices", [], count).unwrap();
    let users = estate.query_row("SELECT count(*) FROM users", [], count).unwrap();
    assert!(devices <= users, "{devices} {users}");
    users as usize
}

// Long: some thousand users, several times, by a program that is not optimised.
#[test]
fn an_import_of_many_lets_others_in_is_stopped_gone_on_with_and_taken_back() {
    let world = World::estate();
    world.run("user add mara").is(0);
    let lines = |begun: &str, group: &str| -> String {
        (0..MANY).map(|one| format!("{begun}{one:05},{group},laptop\n")).collect()
    };
    world.write("crew.csv", &format!("name,groups,device\nmara,crew,laptop\n{}", lines("hand", "crew")));
    world.write("deck.csv", &format!("name,groups,device\n{}", lines("deck", "deck")));
    let child = import(&world, "crew.csv");
    let number = under_way(&world);
    stop(child, Signal::SIGINT).is(4).says("users are there").says(&format!("--resume {number}"));
    let there = users(&world);
    assert!((500..MANY).contains(&there) && there % 500 == 1, "{there}: whole batches, and mara");
    world.run("user show mara --format json").is(0).lacks("crew");
    world.run("user import deck.csv --make-groups --yes").is(3).says("is not finished");
    world.run("status").says(&format!("--resume {number}")).says("3600 users");
    // The same again goes on; somebody else adds one who is still to come, and it is killed.
    world.run(&format!("user add hand{:05} --about deckhand", MANY - 1)).is(0);
    let child = import(&world, "crew.csv");
    wait(60, "more of it", || (users(&world) > there + 1).then_some(()));
    world.run("group add night").is(0);
    drop(stop(child, Signal::SIGKILL));
    // The file must be as it was.
    let crew = world.read("crew.csv");
    world.write("crew.csv", &crew.replace("hand00007,crew", "hand00007,deck"));
    let resume = format!("estate jobs --resume {number}");
    world.run(&resume).is(3).says("is not the file any more").says("--take-back");
    world.write("crew.csv", &crew);
    world.run(&resume).is(0).says(&format!("finished job {number}: {MANY} users imported"));
    assert_eq!(users(&world), MANY + 1);
    world.run("user show mara").is(0).says("crew");
    world.run(&format!("user show hand{:05}", MANY - 1)).is(0).says("deckhand").says("crew");
    world.run("user import crew.csv --yes").is(0).says("nothing to do");
    // Killed after its last user and before its end: the same again ends it.
    let left = (number, users(&world));
    let row =
        "INSERT INTO jobs SELECT ?1, 'user import ' || ?2, ?3, 'astrid@bridge', '2026-11-27T08:00:00Z', 3600, 3600";
    let file = world.path("crew.csv").display().to_string();
    let sha256 = yestrel_core::keys::sha256_hex(crew.as_bytes());
    let how = serde_json::json!({"skip_bad": false, "make_groups": true, "take_names": false});
    let wish = serde_json::json!({"file": file, "sha256": sha256, "how": how, "rows": [], "groups": []});
    let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
    estate.execute(row, rusqlite::params![left.0.to_string(), file, wish.to_string()]).unwrap();
    world.run("user import crew.csv --make-groups --yes").is(0);
    world.run("estate jobs").is(0).says("every command on many is finished");
    assert_eq!(users(&world), left.1);
    // Another is taken back; what is needed by now stays.
    let child = import(&world, "deck.csv");
    let number = under_way(&world);
    stop(child, Signal::SIGTERM).is(4);
    world.run("group list").is(0).says("deck");
    let take_back = format!("estate jobs --take-back {number}");
    world.run(&take_back).is(2).says("needs a yes");
    world.run(&format!("{take_back} --yes")).is(0).says("back");
    assert_eq!(users(&world), MANY + 1);
    world.run("group list").is(0).lacks("deck");
    world.run("estate jobs").is(0).says("every command on many is finished");
    world.run("estate history --verify").is(0);
    is_kept_whole(&world);
}
