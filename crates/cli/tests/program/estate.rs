//! The estate, its files, and everything that is refused with nothing changed.

use std::os::unix::fs::PermissionsExt as _;

use crate::common::World;

#[test]
fn an_estate_is_private_and_remembers_who_did_what() {
    let world = World::bare();
    for file in ["skerry", "skerry.key"] {
        let mode = std::fs::metadata(world.path(file)).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode, 0o600, "{file}");
    }
    world.run("site add till --network 192.168.1.0/24").is(0).says("many homes use");
    world.run("group add crew").is(0);
    world.run("user add mara --group crew").is(0);
    let history = world.run("estate history --format json").json();
    let what: Vec<_> = history
        .as_array()
        .unwrap()
        .iter()
        .map(|row| (row["what"].as_str().unwrap(), row["subject"].as_str().unwrap()))
        .collect();
    assert_eq!(what, [("estate create", "skerry"), ("site add", "till"), ("group add", "crew"), ("user add", "mara")]);
    assert!(history[2]["who"].as_str().unwrap().contains('@'));
    world.run("estate show").is(0).says("skerry").says("users");
    world.run("estate create skerry").is(3).says("already");
}

#[test]
fn an_estate_or_a_key_that_others_can_read_is_not_used() {
    let world = World::estate();
    let open_to_others =
        |file| std::fs::set_permissions(world.path(file), std::fs::Permissions::from_mode(0o644)).unwrap();
    open_to_others("skerry.key");
    // A key is needed, and so checked, when a secret is.
    world.run("user list").is(0);
    world.run("credential issue mara/laptop").is(3).says("sealing key").says("can be read by others").says("chmod 600");
    open_to_others("skerry");
    world.run("user list").is(3).says("can be read by others").says("chmod 600");
}

#[test]
fn folders_that_others_can_write_or_look_into_are_not_used() {
    let world = World::estate();
    let mode =
        |name: &str, mode| std::fs::set_permissions(world.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    std::fs::create_dir(world.path("shared")).unwrap();
    mode("shared", 0o777);
    world.run("--estate shared/skerry estate create skerry").is(3).says("can be written by others").says("chmod go-w");
    assert_eq!(std::fs::read_dir(world.path("shared")).unwrap().count(), 0);
    mode("shared", 0o755);
    world.run("--estate shared/skerry estate create skerry").is(0);
    mode("shared", 0o775);
    world.run("--estate shared/skerry user list").is(3).says("can be written by others");
    // What is made for an estate is made for its owner alone.
    world.run("--estate new/deeper/skerry estate create skerry").is(0);
    assert_eq!(std::fs::metadata(world.path("new")).unwrap().permissions().mode() & 0o777, 0o700);
    std::fs::create_dir(world.path("agent")).unwrap();
    mode("agent", 0o755);
    world.run("agent run --folder agent").is(3).says("is open to others").says("chmod 700");
    std::fs::create_dir(world.path("run")).unwrap();
    mode("run", 0o777);
    world.run("tunnel list").is(3).says("can be written by others").says("YESTREL_RUN");
}

#[test]
fn what_is_no_estate_is_said_and_left_alone() {
    let world = World::empty();
    world.run("user list").is(1).says("there is no estate").says("yestrel estate create");
    world.write("skerry", &"a shopping list, longer than a database's head\n".repeat(50));
    std::fs::set_permissions(world.path("skerry"), std::fs::Permissions::from_mode(0o600)).unwrap();
    world.run("user list").is(1).says("is no estate");
    world.run("estate create skerry").is(3).says("already");
    assert!(world.read("skerry").starts_with("a shopping list"));
}

#[test]
fn a_newer_estate_is_not_touched() {
    let world = World::estate();
    let connection = rusqlite::Connection::open(world.path("skerry")).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    world.run("user add mara").is(1).says("newer version");
}

// Long: a command waits 30 s for another before it says so.
#[test]
fn an_estate_that_is_locked_is_said_to_be_in_use() {
    let world = World::estate();
    let connection = rusqlite::Connection::open(world.path("skerry")).unwrap();
    connection.execute_batch("BEGIN EXCLUSIVE").unwrap();
    world.run("user add mara").is(1).says("the estate is in use");
    connection.execute_batch("ROLLBACK").unwrap();
    world.run("user add mara").is(0);
}

#[test]
fn a_wrapped_sealing_key_needs_its_passphrase() {
    let world = World::empty();
    world.write("right", "seven skerries at dusk\n");
    world.write("wrong", "six skerries at dawn\n");
    world.write("short", "skerry\n");
    world.run("estate create skerry --passphrase-file short").is(2).says("12 characters");
    world.run("estate create skerry --passphrase-file right").is(0);
    world.run("site add harbour").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    let issue = "credential issue mara/laptop";
    world.run(issue).is(2).says("needs its passphrase");
    world.run(&format!("{issue} --estate-passphrase-file wrong")).is(3).says("passphrase of the estate is wrong");
    // Right, and then refused for another reason: there is nowhere to come in.
    world.run(&format!("{issue} --estate-passphrase-file right")).is(3).says("no listener");
    std::fs::remove_file(world.path("skerry.key")).unwrap();
    world.run(&format!("{issue} --estate-passphrase-file right")).is(1).says("is missing");
}

#[test]
fn bad_words_change_nothing_and_say_what_why_and_what_to_try() {
    let world = World::estate();
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("group add crew").is(0);
    world.run("user add mara --group crew").is(0);
    world.run("device add mara/laptop").is(0);
    let before = world.everything();
    let long = format!("user add {}", "a".repeat(41));
    let cases: &[(&[&str], i32, &str)] = &[
        (&["user", "show", "maro"], 2, "the nearest is mara"),
        (&["user", "add", "mara"], 3, "already a user mara"),
        (&["user", "add", ""], 2, "it is empty"),
        (&["user", "add", "Mara Holm"], 2, "the name mara-holm"),
        (&["user", "add", "mära"], 2, "keyboard"),
        (&["user", "add", "../mara"], 2, "reads like a path"),
        (&["user", "add", "tomas", "--group", "crow"], 2, "the nearest is crew"),
        (&["user", "add", "tomas", "--mail", "nobody"], 2, "no mail address"),
        (
            &["site", "add", "pier", "--network", "10.44.1.0/24"],
            3,
            "overlaps the network 10.44.0.0/22 of the site harbour",
        ),
        (&["site", "add", "pier", "--network", "10.45.0.1/24"], 2, "10.45.0.0/24"),
        (&["site", "add", "pier", "--network", "10.45.0.0/99"], 2, "not a range"),
        (&["site", "add", "pier", "--time-zone", "Moon/Base"], 2, "no time zone"),
        (&["site", "change", "nowhere", "--front", "x"], 2, "there is no site"),
        (&["device", "add", "laptop"], 2, "written user/device"),
        (&["device", "add", "nobody/laptop"], 2, "there is no user"),
        (&["device", "add", "mara/laptop"], 3, "already"),
        (
            &["host", "add", "harbour", "--site", "harbour", "--kind", "cloud", "--via", "carrier-pigeon"],
            2,
            "no way to manage",
        ),
        (
            &["host", "add", "harbour", "--site", "harbour", "--kind", "cloud", "--via", "lab:/nowhere"],
            1,
            "cannot be reached",
        ),
        (&["gateway", "create", "harbour", "--host", "nowhere", "--dialled", "x.example"], 2, "there is no host"),
        (&["listener", "open", "nowhere"], 2, "there is no gateway"),
        (&["listener", "open", "harbour", "--port", "0"], 2, "1 to 65535"),
        (&["listener", "open", "harbour", "--port", "65536"], 2, "1 to 65535"),
        (&["listener", "open", "harbour", "--tunnel", "pptp"], 2, "protects nothing"),
        (&["credential", "issue", "mara/laptop"], 3, "no listener"),
        (&["credential", "issue", "mara/laptop", "--until", "soon"], 2, "90d"),
        (&["credential", "issue", "mara/laptop", "--until", "2001-01-01"], 2, "end before it begins"),
        (&["credential", "revoke", "mara/laptop", "--reason", "lost"], 2, "has no credential"),
        (&["credential", "handover", "mara/laptop", "--to", "x"], 2, "has no credential"),
        (&["site", "remove", "harbour"], 2, "--yes"),
        (&["user", "remove", "mara", "--yes"], 3, "still needed"),
        (&["group", "remove", "crew", "--yes"], 3, "still needed"),
        (&["user", "ad", "x"], 2, "--help"),
        (&["rollout", "nowhere"], 2, "there is no gateway"),
        (&["session", "end", "mara/phone", "--yes"], 2, "there is no device"),
    ];
    for (words, code, text) in cases {
        let came = world.run_words(words).is(*code).says(text);
        assert!(came.err.starts_with("error: "), "{came:?}");
        assert!(came.err.contains("\n  why: ") || came.err.contains("\n  try: "), "{came:?}");
    }
    world.run(&long).is(2).says("longer than 40");
    assert_eq!(world.everything(), before, "nothing may have changed");
}

#[test]
fn commands_at_once_lose_nothing() {
    let world = World::bare();
    std::thread::scope(|scope| {
        for number in 0..12 {
            let world = &world;
            scope.spawn(move || world.run(&format!("user add user-{number}")).is(0));
        }
    });
    assert_eq!(world.run("user list --format json").json().as_array().unwrap().len(), 12);
    assert_eq!(world.run("estate history --format json").json().as_array().unwrap().len(), 13);
}

#[test]
fn empty_lists_say_what_would_fill_them_and_every_list_has_three_forms() {
    let world = World::estate();
    for noun in ["site", "host", "gateway", "listener", "port", "user", "group", "device", "credential", "tunnel"] {
        world.run(&format!("{noun} list")).is(0).says("yestrel ");
        assert_eq!(world.run(&format!("{noun} list --format json")).is(0).json(), serde_json::json!([]), "{noun}");
        assert!(world.run(&format!("{noun} list --format csv")).is(0).out.lines().count() == 1, "{noun}");
    }
}

/// The commands that a help text lists.
fn commands(help: &str) -> Vec<String> {
    help.lines()
        .skip_while(|line| !line.starts_with("Commands:"))
        .skip(1)
        .take_while(|line| line.starts_with("  "))
        .filter(|line| !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .filter(|command| *command != "help")
        .map(str::to_owned)
        .collect()
}

#[test]
fn every_command_shows_an_example() {
    let world = World::empty();
    let nouns = commands(&world.run("--help").is(0).out);
    assert!(nouns.len() > 12, "{nouns:?}");
    for noun in nouns {
        let help = world.run(&format!("{noun} --help")).is(0).out;
        let verbs = commands(&help);
        assert!(!verbs.is_empty() || help.contains("Example:"), "{noun}");
        for verb in verbs {
            world.run(&format!("{noun} {verb} --help")).is(0).says("Example:");
        }
    }
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let world = World::estate();
    for number in 0..50 {
        world.run(&format!("group add group-{number}")).is(0);
    }
    let script = format!("'{}' group list | head -1", env!("CARGO_BIN_EXE_yestrel"));
    let output = std::process::Command::new("sh")
        .args(["-c", &script])
        .env("YESTREL_ESTATE", world.path("skerry"))
        .output()
        .unwrap();
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
}

/// A pair that is made here, before a judge of its own; one that the judge made; and what is neither.
#[test]
fn a_device_makes_its_own_key_pair_and_the_estate_sees_the_public_half_alone() {
    let world = World::estate();
    let public = world.run("tunnel keys --to own.key").is(0).says("it goes nowhere else").out;
    assert_eq!(world.run("tunnel keys --to own.key --quiet").code, 1, "never written over");
    assert_eq!(
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(world.path("own.key")).unwrap().permissions())
            & 0o777,
        0o600
    );
    world.judge("openssl pkey -in own.key -noout -text").is(0).says("X25519 Private-Key");
    assert_eq!(world.judge("openssl pkey -in own.key -pubout").is(0).out, public);
    world.write("own.pub", &public);
    world
        .judge("openssl genpkey -algorithm X25519 -out other.key && openssl pkey -in other.key -pubout -out other.pub")
        .is(0);
    world
        .judge("openssl genpkey -algorithm ED25519 -out signs.key && openssl pkey -in signs.key -pubout -out signs.pub")
        .is(0);
    // Zero, as an attacker would hand it in.
    world.write("zero.pub", "-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VuAyEAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n-----END PUBLIC KEY-----\n");
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    let before = world.everything();
    for (file, code, why) in [
        ("own.key", 2, "PUBLIC KEY"),
        ("signs.pub", 2, "another algorithm than X25519"),
        ("zero.pub", 3, "lets in everybody"),
        ("skerry", 2, "public key of a device"),
        ("nowhere.pub", 1, "cannot be read"),
    ] {
        world.run(&format!("credential issue mara/laptop --public-key {file}")).is(code).says(why);
    }
    assert_eq!(world.everything(), before);
}

/// Somebody who can write the estate's file writes the history anew, with all its hashes: what the estate's key signed tells.
#[test]
fn a_history_that_is_written_anew_whole_differs_from_what_the_key_signed() {
    let world = World::estate();
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("user add mara").is(0);
    // A command that needs the estate's key signs what there is; what comes after is not signed yet.
    world.run("authority create").is(0);
    world.run("estate history --verify").is(0).says("the estate's key has signed them");
    world.run("user add tomas").is(0);
    world.run("estate history --verify").is(0).says("has signed them up to row");
    let forge = "import sqlite3, json, hashlib\n\
        d = sqlite3.connect('skerry')\n\
        for t in ('deleted', 'changed'): d.execute('drop trigger history_stays_' + t)\n\
        before = ''\n\
        for n, at, who, what, subject, detail in list(d.execute('select number, at, who, what, subject, detail from history order by number')):\n\
        \x20   who = 'nobody@bridge'\n\
        \x20   before = hashlib.sha256(json.dumps([before, str(n), at, who, what, subject, detail], separators=(',', ':'), ensure_ascii=False).encode()).hexdigest()\n\
        \x20   d.execute('update history set who = ?, hash = ? where number = ?', (who, before, n))\n\
        d.execute('update history_head set hash = ?', (before,))\n\
        d.commit()\n";
    world.write("forge.py", forge);
    world.judge("python3 forge.py").is(0);
    world.run("estate history --verify").is(3).says("it is not the row that the estate's key signed");
    world.judge("python3 -c \"import sqlite3; d = sqlite3.connect('skerry'); d.execute('update history_head set signed = null'); d.commit()\"").is(0);
    world.run("estate history --verify").is(0).says("none of them is signed yet");
}

/// What somebody else wrote is shown so that it steers no terminal and turns no line around, and advises in nobody's name but its own.
#[test]
fn foreign_text_is_inert_wherever_it_is_shown() {
    let world = World::estate();
    let came = world.run_words(&["user", "show", "a\u{202e}b\u{1b}[31mc\u{9b}1m"]).is(2);
    assert!(!came.err.contains('\u{202e}') && !came.err.contains('\u{1b}') && !came.err.contains('\u{9b}'), "{came:?}");
    world.run_words(&["user", "add", "mara", "--about", "=1+1"]).is(0);
    world.run("user list --format csv").is(0).says("'=1+1");
    world.run("user list --format json").is(0).says("\"=1+1\"");
}
