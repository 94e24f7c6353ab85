//! The estate under fire: commands killed at any moment, two administrators at once, a disk that is full, rows that somebody
//! changed.

use std::collections::BTreeSet;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{Came, World};

const KILLS: u32 = 500;

// Long: five hundred commands.
#[test]
fn five_hundred_killed_commands_lose_nothing_that_was_acknowledged() {
    let world = World::bare();
    world.run("group add first").is(0);
    let began = Instant::now();
    world.run("group add second").is(0);
    let usual = began.elapsed();
    let mut acknowledged: BTreeSet<String> = ["first", "second"].map(Into::into).into();
    let mut killed = 0;
    for round in 0..KILLS {
        let name = format!("group-{round}");
        // Commands that write once, and one whose write touches several tables.
        let words = match round % 3 {
            0 => vec!["group".to_owned(), "add".into(), name.clone()],
            1 => vec!["user".to_owned(), "add".into(), name.clone(), "--group".into(), "first".into()],
            _ => vec!["site".to_owned(), "add".into(), name.clone(), "--time-zone".into(), "Europe/Oslo".into()],
        };
        let words: Vec<_> = words.iter().map(String::as_str).collect();
        let mut process = world.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // From before the program has begun to after it has ended, a little later each time, over and over.
        let end = Instant::now() + usual.mul_f64(f64::from(round * 37 % 100) / 80.0);
        let status = loop {
            match process.try_wait().unwrap() {
                Some(status) => break Some(status),
                None if Instant::now() >= end => break None,
                None => std::thread::park_timeout(Duration::from_micros(200)),
            }
        };
        let status = status.or_else(|| {
            process.kill().unwrap();
            let status = process.wait().unwrap();
            killed += 1;
            status.success().then_some(status)
        });
        if status.is_some_and(|status| status.success()) {
            acknowledged.insert(name);
        }
    }
    assert!(killed > KILLS / 3 && killed < KILLS, "{killed} of {KILLS} were killed: both must happen");
    world.run("estate history --verify").is(0).says("as they were written");
    let names = |noun: &str| -> BTreeSet<String> {
        let list = world.run(&format!("{noun} list --format json")).is(0).json();
        list.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned()).collect()
    };
    let there: BTreeSet<_> = ["group", "user", "site"].into_iter().flat_map(names).collect();
    assert_eq!(acknowledged.difference(&there).collect::<Vec<_>>(), Vec::<&String>::new(), "acknowledged, and lost");
    // Each change has its row in the history, and each row its change: none is half done.
    let history = world.run("estate history --last 100000 --format json").json();
    let noted: BTreeSet<String> = history
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["what"].as_str().unwrap().ends_with(" add"))
        .map(|row| row["subject"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(noted, there);
}

fn verify_after(change: &str) -> Came {
    let world = World::bare();
    for name in ["crew", "office", "welders"] {
        world.run(&format!("group add {name}")).is(0);
    }
    world.run("estate history --verify").is(0).says("all 4 rows");
    let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
    // Whoever can write the file can take the guards away.
    estate
        .execute_batch(&format!("DROP TRIGGER history_stays_deleted; DROP TRIGGER history_stays_changed; {change}"))
        .unwrap();
    drop(estate);
    // Going on does not hide it.
    world.run("group add night-crew").is(0);
    world.run("estate history --verify")
}

#[test]
fn a_row_that_was_changed_removed_or_moved_shows() {
    for (change, row) in [
        ("UPDATE history SET who = 'nobody@nowhere' WHERE number = 2", 2),
        ("UPDATE history SET at = '2020-01-01T00:00:00Z' WHERE number = 4", 4),
        ("DELETE FROM history WHERE number = 3", 3),
        ("DELETE FROM history WHERE number = 4", 4),
        ("DELETE FROM history", 1),
        (
            "UPDATE history SET number = 99 WHERE number = 2; UPDATE history SET number = 2 WHERE number = 3; UPDATE history SET number = 3 WHERE number = 99",
            2,
        ),
        (
            "INSERT INTO history SELECT 5, at, who, what, subject, detail, hash FROM history WHERE number = 4; UPDATE history_head SET number = 5",
            5,
        ),
    ] {
        verify_after(change).is(3).says(&format!("does not hold at row {row}"));
    }
}

// Long: a command waits 10 s for another before it says so.
#[test]
fn two_administrators_wait_for_each_other_or_are_told() {
    let world = World::bare();
    std::thread::scope(|scope| {
        for administrator in 0..4 {
            let world = &world;
            scope.spawn(move || {
                for round in 0..10 {
                    world.run(&format!("group add group-{administrator}-{round}")).is(0);
                }
            });
        }
    });
    assert_eq!(world.run("group list --format json").json().as_array().unwrap().len(), 40);
    world.run("estate history --verify").is(0).says("all 41 rows");
    // Somebody holds it for longer than anybody waits.
    let estate = rusqlite::Connection::open(world.path("skerry")).unwrap();
    estate.execute_batch("BEGIN IMMEDIATE").unwrap();
    world.run("group add late").is(1).says("the estate is in use").says("once the other is done");
    world.run("group list").is(0);
    estate.execute_batch("ROLLBACK").unwrap();
    world.run("group add late").is(0);
}

/// Runs a shell script in a mount namespace of its own, where the estate's folder is something else.
fn elsewhere(world: &World, script: &str) -> Came {
    let mut command = Command::new("timeout");
    command.args(["60", "unshare", "--mount", "sh", "-c", script]);
    let mut command = world.set_up(command);
    command.env("PROGRAM", env!("CARGO_BIN_EXE_yestrel")).env("FOLDER", world.folder.path());
    Came::of(&command.output().unwrap())
}

#[test]
fn a_full_disk_a_read_only_folder_and_a_missing_key_are_said_and_change_nothing() {
    let world = World::estate();
    world.run("group add crew").is(0);
    let before = world.everything();
    // A disk on which nothing more fits: the estate is copied there, and the rest filled.
    let came = elsewhere(
        &world,
        "cp -a $FOLDER /tmp/estate-copy-$$ && mount -t tmpfs none $FOLDER -o size=400k && cp -a /tmp/estate-copy-$$/. $FOLDER; \
         rm -r /tmp/estate-copy-$$; chmod 700 $FOLDER; dd if=/dev/zero of=$FOLDER/rest bs=1k 2>/dev/null; \
         $PROGRAM group add office; echo status $?; rm $FOLDER/rest; $PROGRAM group list; $PROGRAM estate history --verify",
    );
    assert!(came.out.contains("status 1") && came.out.contains("as they were written"), "{came:?}");
    assert!(came.err.contains("full") && !came.out.contains("office"), "{came:?}");
    let came = elsewhere(
        &world,
        "mount --bind $FOLDER $FOLDER; mount -o remount,bind,ro $FOLDER; $PROGRAM group add office; echo status $?; $PROGRAM group list",
    );
    assert!(came.out.contains("status 1") && came.out.contains("crew"), "{came:?}");
    assert!(came.err.contains("cannot be written"), "{came:?}");
    assert_eq!(world.everything(), before);

    world.run("site add harbour --network 10.44.0.0/22").is(0);
    let key = world.path("skerry.key");
    std::fs::rename(&key, world.path("away")).unwrap();
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    let came = world.run("gateway create harbour --host harbour --dialled 203.0.113.10");
    assert!(came.code != 0 && came.err.contains("sealing key"), "{came:?}");
    std::fs::rename(world.path("away"), &key).unwrap();
    // A key of another estate opens nothing.
    let other = World::estate();
    std::fs::copy(other.path("skerry.key"), &key).unwrap();
    world.run("group list").is(0);
}
