//! Every day's work in one command: handing over to many, people who come and leave.

use std::os::unix::fs::PermissionsExt as _;
use std::process::Stdio;
use std::time::Duration;

use crate::common::{World, wait};

/// A site with a gateway that is a process, an authority, and a group of three with a phone each.
fn crew() -> World {
    let world = World::harbour("--processes");
    world.run("authority create").is(0);
    world.run("group add crew").is(0);
    for user in ["mara", "tomas", "ines"] {
        world.run(&format!("user add {user} --group crew --mail {user}@skerry.example")).is(0);
        world.run(&format!("device add {user}/phone")).is(0);
    }
    world
}

fn rows(world: &World, file: &str) -> Vec<Vec<String>> {
    let mut reader = csv::Reader::from_path(world.path(file)).unwrap();
    reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect()
}

/// Every bundle opens with the password that stands for it, and with no other.
fn all_open(world: &World, count: usize) {
    let passwords = rows(world, "phones.passwords.csv");
    assert_eq!(passwords.len(), count, "{passwords:?}");
    assert_eq!(rows(world, "phones/who-gets-which.csv").len(), count);
    for row in passwords {
        world.write("password", &row[2]);
        let open = format!("openssl pkcs12 -in 'phones/{}' -passin file:password -nodes -out opened", row[1]);
        world.judge(&open).is(0);
    }
}

#[test]
fn a_group_is_handed_over_in_a_folder_with_a_sheet_and_passwords_apart() {
    let world = crew();
    let hand = "credential handover --group crew --as pkcs12 --to phones --yes";
    world.run(hand).is(0).says("3 have no certificate").says("nobody in crew waits");
    assert!(!world.path("phones").exists(), "nothing is made for nobody");
    world.run("credential issue --group crew --kind certificate --yes").is(0);
    world.run("credential handover --group crew --as pkcs12 --yes").is(2).says("--to");
    world.run("credential handover --group nobody --as pkcs12 --to phones --yes").is(2).says("no group");
    world.run("credential handover --group crew --as pkcs12 --to phones").is(2).says("mara/phone");
    world.judge("mkdir other; touch other/mine").is(0);
    let came = world.run("credential handover --group crew --as pkcs12 --to other --yes").is(3);
    came.says("other holds other things");
    world.run("credential handover --group crew --as pkcs12 --to . --yes").is(2).says("names no folder");
    world.run("credential handover --group crew --as paper --to phones --yes").is(2).says("apple");
    world.run("credential handover --group crew --as apple --kind key-pair --to phones --yes").is(2);
    world.run("credential handover --group crew --kind shared-secret --to phones --yes").is(2).says("no group's");
    world.write("phones.passwords.csv", "");
    let hand = "credential handover --group crew --as pkcs12 --to phones/ --yes";
    let made = world.run(&format!("{hand} --format json")).is(0).json();
    assert_eq!((&made["handed_over"], &made["passwords"]), (&3.into(), &"phones.passwords.csv".into()));
    all_open(&world, 3);
    let mode = |file: &str| std::fs::metadata(world.path(file)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("phones"), mode("phones.passwords.csv"), mode("phones/mara.phone.p12")), (0o700, 0o600, 0o600));
    let sheet = world.read("phones/who-gets-which.csv");
    assert!(sheet.contains("mara,,mara@skerry.example,mara/phone,mara/phone/1,"), "{sheet}");
    for row in rows(&world, "phones.passwords.csv") {
        assert!(!sheet.contains(&row[2]), "the sheet holds no secret");
    }
    // Who comes later is handed over alone, into the same folder.
    let before = std::fs::read(world.path("phones/mara.phone.p12")).unwrap();
    world.run("device add mara/tablet").is(0);
    world.run("credential issue --group crew --kind certificate --yes").is(0);
    world.run(hand).is(0).says("3 were handed over before").says("handed 1 over");
    assert_eq!(std::fs::read(world.path("phones/mara.phone.p12")).unwrap(), before);
    all_open(&world, 4);
    world.run(hand).is(0).says("nobody in crew waits");
    // Key pairs and accounts go the same way.
    world.run("credential issue --group crew --yes").is(0);
    world.run("credential handover --group crew --to keys --yes").is(0).says("handed 4 over");
    assert!(world.read("keys/tomas.phone.yestrel").contains("yestrel handover"));
    assert!(!world.path("keys.passwords.csv").exists());
    world.run("credential issue --group crew --kind password --generate --yes").is(0);
    world.run("credential handover --group crew --kind password --to accounts --yes").is(0);
    assert!(world.read("accounts/ines.phone.txt").contains("ines.phone"));
}

#[test]
fn a_handover_to_many_that_is_killed_goes_on_where_it_stopped() {
    let world = crew();
    for number in 0..9 {
        world.run(&format!("device add mara/spare{number}")).is(0);
    }
    world.run("credential issue --group crew --kind certificate --yes").is(0);
    let words: Vec<_> = "credential handover --group crew --as pkcs12 --to phones --yes".split(' ').collect();
    let handed = || std::fs::read_dir(world.path("phones")).map_or(0, |files| files.count());
    for until in [1, 3, 6, 9] {
        let mut command = world.command(&words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait(60, "some files are there", || (handed() > until || child.try_wait().unwrap().is_some()).then_some(()));
        std::thread::park_timeout(Duration::from_millis(until as u64));
        let _ = child.kill();
        child.wait().unwrap();
    }
    world.run(&words.join(" ")).is(0);
    all_open(&world, 12);
    let list = world.run("credential list --format json").is(0).json();
    assert!(list.as_array().unwrap().iter().all(|one| one["state"] == "handed-over"), "{list:#}");
}

#[test]
fn a_person_comes_and_leaves_by_one_command_each() {
    let world = World::harbour("--processes");
    world.run("group add office").is(0);
    let arrive =
        "user arrive ines --device desk --group office --mail ines@skerry.example --until 90d --to ines.yestrel";
    let shown = world.run(&format!("{arrive} --preview --format json")).is(0).json();
    let commands: Vec<_> = shown.as_array().unwrap().iter().map(|row| row["command"].as_str().unwrap()).collect();
    assert_eq!(
        commands,
        [
            "yestrel user add ines --group office --mail ines@skerry.example",
            "yestrel device add ines/desk",
            "yestrel credential issue ines/desk --kind key-pair --until 90d",
            "yestrel rollout",
            "yestrel credential handover ines/desk --kind key-pair --to ines.yestrel",
        ]
    );
    world.run("user show ines").is(2);
    // What would be refused is refused before anything is done.
    let before = world.everything();
    world.run(arrive).is(2).says("this lets ines/desk in");
    world.run(&format!("{arrive} --yes --group nobody")).is(2).says("no group");
    world.write("there", "mine");
    world.run("user arrive ines --device desk --to there --yes").is(2).says("never written over");
    world.run(&format!("{arrive} --yes --at nowhere")).is(2).says("no gateway");
    world.run(&format!("{arrive} --yes --as paper")).is(2).says("apple");
    world.run("user arrive ines --device desk --to nowhere/x --yes").is(2).says("no folder nowhere");
    world.run("user arrive ines --device desk --mail nobody --to x --yes").is(2);
    world.run("user arrive ines --device desk --until soon --to x --yes").is(2);
    world.run("user arrive ines/desk --device desk --to x --yes").is(2);
    assert!(world.everything() == before, "something changed");
    let came = world.run(&format!("{arrive} --yes")).is(0);
    assert!(commands.iter().all(|command| came.out.contains(&format!("$ {command}"))), "{came:?}");
    world.on_laptop("yestrel connect ines.yestrel --proxy 127.0.0.1:0 --background").is(0);
    // A second device of the same person, over a run that stops in the middle: what is done is not done twice.
    world.run("device add ines/tablet").is(0);
    world.run("credential issue ines/tablet").is(0);
    let came = world.run("user arrive ines --device tablet --to tablet.yestrel --yes").is(0);
    assert!(!came.out.contains("device add") && !came.out.contains("credential issue"), "{came:?}");
    let again = world.run("user arrive ines --device tablet --to again.yestrel --yes").is(3);
    again.says("has a key pair already").says("yestrel credential renew ines/tablet");
    let rows = world.run("user arrive ines --device spare --to spare.yestrel --yes --format json").is(0).json();
    assert_eq!(rows.as_array().unwrap().len(), 4);

    world.run("session list").is(0).says("ines/desk");
    let before = world.run("credential list --format json").is(0).out;
    world.run("user leave ines").is(2).says("--reason");
    world.run("user leave nobody --reason over --yes").is(2).says("no user");
    let asked = world.run_words(&["user", "leave", "ines", "--reason", "the season is over"]).is(2);
    assert!(
        asked.err.contains("3 devices and 3 credentials")
            && asked.err.contains("; last used ")
            && asked.err.contains("ines/desk at harbour"),
        "{asked:?}"
    );
    world.run("user leave ines --reason over --preview").is(0).says("yestrel user suspend ines");
    world
        .run("credential revoke ines/desk --reason lost")
        .is(2)
        .says("connected now: ines/desk at harbour")
        .says("last used");
    assert_eq!(world.run("credential list --format json").is(0).out, before);
    let came =
        world.run("user leave ines --reason over --yes").is(0).says("3 revocations").says("1 session in the past");
    let at = |text: &str| came.out.find(text).unwrap_or_else(|| panic!("{text} in {came:?}"));
    assert!(at("$ yestrel user suspend ines") < at("$ yestrel credential revoke ines/desk"));
    assert!(at("$ yestrel device remove ines/desk") < at("$ yestrel user remove ines"));
    world.run("user show ines").is(2);
    world.run("session list").is(0).says("nobody is connected");
    world.run("user leave ines --reason over --yes").is(2).says("no user");
    // Where the gateway does not answer, everything is recorded, and said to be carried in part.
    world.run("user arrive oskar --device laptop --to oskar.yestrel --yes").is(0);
    world.run("lab break harbour").is(0);
    world.run("user leave oskar --reason=-over --yes").is(4).says("yestrel status").says("1 revocation");
    world.run("status").is(3).says("oskar/laptop is revoked");
}

#[test]
fn lists_find_sort_and_cut_and_say_moments_from_now() {
    let world = World::harbour("--processes");
    for group in ["crew", "office"] {
        world.run(&format!("group add {group}")).is(0);
    }
    for (user, group) in [("mara", "crew"), ("tomas", "crew"), ("ines", "office")] {
        world.run(&format!("user add {user} --group {group} --mail {user}@skerry.example")).is(0);
        world.run(&format!("device add {user}/laptop")).is(0);
        world.run(&format!("credential issue {user}/laptop --until 2160h")).is(0);
    }
    world.run("user suspend tomas --yes").is(0);
    let names = |words: &str| {
        let list = world.run(&format!("{words} --format json")).is(0).json();
        let names: Vec<_> =
            list.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned()).collect();
        names.join(" ")
    };
    assert_eq!(names("user list --group crew"), "mara tomas");
    assert_eq!(names("user list --state suspended"), "tomas");
    assert_eq!(names("user list --find INES@"), "ines");
    assert_eq!(names("user list --sort -name --last 2"), "mara ines");
    assert_eq!(names("device list --group office"), "ines/laptop");
    assert_eq!(names("device list mara"), "mara/laptop");
    assert_eq!(names("credential list --user tomas"), "tomas/laptop/1");
    assert_eq!(names("credential list --group crew --gateway harbour --sort -name"), "tomas/laptop/1 mara/laptop/1");
    assert_eq!(names("gateway list --site harbour"), "harbour");
    assert_eq!(names("listener list --find quill"), "harbour/quill");
    world.run("user list --group nobody").is(2).says("no group");
    world.run("user list --sort size").is(2).says("the columns are name, state, groups");
    world.run("session list --device mara/laptop --since 2h").is(2).says("--past");
    world.run("session list --past --since yesterday").is(2).says("how long ago");
    // People are told from now, programs and whoever wants it the moment.
    world.run("credential list").is(0).says("in 89 days");
    let whole = world.run("credential list --utc").is(0);
    assert!(!whole.out.contains("in 89 days") && whole.out.contains("Z  "), "{whole:?}");
    let csv = world.run("credential list --format csv").is(0);
    assert!(!csv.out.contains("in 89 days"), "{csv:?}");
    let here =
        world.judge(&format!("TZ=Europe/Oslo '{}' estate history --last 1", env!("CARGO_BIN_EXE_yestrel"))).is(0);
    assert!(here.out.contains("+01:00") || here.out.contains("+02:00"), "{here:?}");
    let history = |words: &str| {
        world.run(&format!("estate history {words} --format json")).is(0).json().as_array().unwrap().len()
    };
    assert_eq!(history("--find suspend"), 1);
    assert_eq!((history("--who nobody"), history("--since 1h --last 2"), history("--find zzz")), (0, 2, 0));
}

#[test]
fn a_handover_says_which_gateway_does_not_know_it_yet() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    let early = world.run("credential handover mara/laptop --to early.yestrel --yes").is(0);
    early.says("harbour does not know mara/laptop/1 yet").says("yestrel rollout harbour");
    world.run("rollout --yes").is(0);
    world.admit("tomas", "tomas/tablet");
    // Another order in between does not make it known.
    world.run("credential revoke mara/laptop --reason lost --yes").is(0);
    world
        .run("credential handover tomas/tablet --to tomas.yestrel --yes")
        .is(0)
        .says("harbour does not know tomas/tablet/1");
    world.admit("ines", "ines/desk");
    world.run("rollout --yes").is(0);
    let known = world.run("credential handover ines/desk --to ines.yestrel --yes").is(0);
    assert!(!known.err.contains("does not know"), "{known:?}");
}

#[test]
fn a_second_import_changes_what_is_there_and_says_it_first() {
    let world = World::estate();
    world.run("group add crew").is(0);
    world.write(
        "first.csv",
        "name,mail,groups,device,platform\nmara,mara@skerry.example,crew,laptop,linux\ntomas,,crew,,\n",
    );
    world.run("user import first.csv").is(0).says("imported 2 users and 1 device");
    world.run("user import first.csv").is(0).says("nothing to do: all are there");
    let second = "name,mail,groups,device,platform\nmara,m@skerry.example,crew office,laptop,apple\ntomas,,,tablet,\nines,ines@skerry.example,office,desk,\n";
    world.write("second.csv", second);
    world
        .run("user import second.csv")
        .is(3)
        .says("2 lines name a group that is not there: 2, 4")
        .says("--make-groups");
    let before = world.everything();
    let preview = world.run("user import second.csv --make-groups --preview --format json").is(0).json();
    let rows = preview.as_array().unwrap();
    let verbs: Vec<_> = rows.iter().map(|row| (row["verb"].as_str().unwrap(), row["name"].as_str().unwrap())).collect();
    assert_eq!(verbs, [("add", "office"), ("change", "mara"), ("change", "tomas"), ("add", "ines")]);
    let said = rows[1]["changes"].to_string();
    for part in ["mail mara@skerry.example -> m@skerry.example", "groups crew -> crew,office", "device mara/laptop"] {
        assert!(said.contains(part), "{said}");
    }
    assert!(world.everything() == before, "a preview changes nothing");
    let done = world.run("user import second.csv --make-groups --format json").is(0).json();
    assert_eq!((&done["imported"], &done["changed"], &done["devices"]), (&1.into(), &2.into(), &3.into()));
    // What the file leaves empty stays as it is; what it has no column for, too.
    let shown = world.run("user show tomas --format json").is(0).json();
    assert!(shown["groups"][0] == "crew" && shown["devices"][0] == "tomas/tablet", "{shown}");
    assert!(world.run("device list mara").is(0).out.contains("apple"));
    world.write("third.csv", "name,about\nmara,mate\n");
    world.run("user import third.csv").is(0).says("changed 1");
    world.run("user show mara").is(0).says("crew,office").says("m@skerry.example").says("mate");
    world.run("estate undo --yes").is(0);
    assert!(!world.run("user show mara").is(0).out.contains("mate"));
}

#[test]
fn names_from_elsewhere_stay_good_to_sign_in_with() {
    let world = World::harbour("--processes");
    let people = "name,device\nmara.nilsen,laptop\nJ\u{f8}rgen \u{c5}s,desk\n\u{5b89}\u{5a1c},desk\ntomas\nines,desk\n";
    world.write("people.csv", people);
    let came = world.run("user import people.csv").is(3);
    came.says("2 lines have a name that cannot be used: 3, 4").says("the name joergen-aas").says("--take-names");
    let came = world.run("user import people.csv").is(3);
    came.says("line 5: it has 1 fields, and the header 2");
    let came = world.run("user import people.csv --take-names --skip-bad --preview").is(0);
    came.says("mara-nilsen").says("signs in as mara.nilsen").says("joergen-aas");
    world.run("user import people.csv --take-names --skip-bad").is(4).says("imported 3 users");
    world.run("user import people.csv --take-names --skip-bad").says("nothing to do");
    // Somebody else's name is nobody's to take.
    world.write("again.csv", "name\nmara_nilsen\n");
    world.run("user import again.csv --take-names").is(0).says("nothing to do");
    world.run("user show mara-nilsen").is(0).says("mara.nilsen");
    world.run("authority create").is(0);
    world.write("password", "a herring in the morning fog\n");
    world.run("credential issue mara-nilsen/laptop --kind password --password-file password").is(0);
    let sign_in = |account: &str| world.run(&format!("registry try {account} --password-file password"));
    sign_in("mara.nilsen.laptop").is(0);
    sign_in("mara-nilsen.laptop").is(3).says("no account");
    sign_in("nobody.laptop").is(3);
}

#[test]
fn whoever_is_called_something_else_stays_connected() {
    let world = World::mara("--processes");
    world.run("group add crew").is(0);
    world.run("user change mara --group crew").is(0);
    world.run("authority create").is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential issue mara/phone --kind password --generate --second-factor").is(0);
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    wait(10, "mara is in", || world.run("session list").out.contains("mara/laptop").then_some(()));
    for (noun, bad) in
        [("user", "mara Mara"), ("user", "nobody ines"), ("group", "crew 1"), ("device", "mara/phone tomas/phone")]
    {
        assert!(world.run(&format!("{noun} rename {bad}")).code > 1, "{noun} {bad}");
    }
    world.run("user add tomas").is(0);
    world.run("user rename mara tomas").is(3).says("there is already a user tomas");
    world.run("device rename mara/phone laptop").is(3).says("there is already a device");
    world.run("user show mara").is(0).says("mara/phone");
    world.run("user rename mara mara-n").is(0).says("rollout");
    world.run("device rename mara-n/phone handset").is(0);
    world.run("group rename crew deck").is(0);
    world.run("site rename harbour pier").is(0);
    world.run("user show mara-n").is(0).says("deck").says("mara-n/laptop").says("mara-n/handset");
    world.run("user show mara").is(2);
    world.run("site show pier").is(0);
    world.run("gateway show harbour").is(0).says("pier");
    // News that came under the old name are those of the same device.
    world.run("session list").is(0).says("mara");
    world.run("rollout --yes").is(0);
    world.run("session list").is(0).says("mara-n/laptop");
    assert_eq!(world.on_laptop("yestrel tunnel list --format json").json()[0]["state"], "up");
    world.run("gateway list").is(0);
    // Secrets that are sealed under a name still open.
    world.run("credential handover mara-n/handset --kind certificate --as pkcs12 --to handset.p12 --yes").is(0);
    world.run("credential handover mara-n/handset --kind password --to account.txt --yes").is(0);
    assert!(world.read("account.txt").contains("mara.phone"), "an account keeps the name that it is known by");
    world.run("session end mara-n/laptop --words again --yes").is(0).says("1");
    // That name is nobody else's meanwhile, and is found by whoever tries it.
    world.write("password", "a herring in the morning fog\n");
    world.run("registry try mara.phone --password-file password").is(3).says("wrong password");
    world.run("user add mara").is(0);
    world.run("device add mara/phone").is(0);
    let issue = "credential issue mara/phone --kind password --generate";
    world.run(issue).is(3).says("already an account mara.phone").says("mara-n/handset");
    world.run("credential renew mara-n/handset --kind password --generate --yes").is(0);
    world.run(issue).is(0).says("signs in as mara.phone");
    world.run("credential revoke mara-n/laptop --reason lost --yes").is(0);
    wait(10, "the session ends", || (!world.run("session list").out.contains("laptop")).then_some(()));
    world.run("session list --past").is(0).says("mara-n/laptop");
    world.run("estate history --verify").is(0);
    // A name goes back like any other change that no gateway has seen.
    world.run("group rename deck crew").is(0);
    world.run("estate undo --yes").is(0);
    world.run("group show deck").is(0);
}

#[test]
fn a_rename_is_undone_with_everything_that_names_it() {
    let world = World::harbour("--processes");
    world.admit("mara", "mara/laptop");
    world.run("rollout --yes").is(0);
    world.run("user rename mara mara-n").is(0);
    world.run("estate undo --yes").is(3).says("secret");
    world.run("user rename mara-n mara").is(0);
    world.run("rollout --preview").is(0).says("nothing to do");
    world.run("site rename harbour pier").is(0);
    world.run("estate undo --yes").is(0);
    world.run("gateway show harbour").is(0).says("harbour");
    world.run("site show pier").is(2);
}

#[test]
fn what_a_change_makes_stale_is_said_before_it_and_a_preview_refuses_what_the_command_would() {
    let world = World::mara("--processes");
    let before = world.everything();
    let rows = world.run("listener change harbour/quill --port 4700 --preview --format json").is(0).json();
    assert_eq!(rows[0]["handover_made_stale"], "mara/laptop", "{rows}");
    world.run("gateway change harbour --dialled elsewhere.skerry.example --preview").is(0).says("mara/laptop");
    world.run("site change harbour --network 10.44.0.0/21 --preview").is(0).says("mara/laptop");
    world.run("site change harbour --network 10.44.0.0/23 --preview").is(0).says("no handover would become stale");
    // What cannot be done is refused there as well.
    world.run("listener change harbour/quill --pool 10.44.0.0/24 --preview").is(3);
    world.run("listener change harbour/quill --preview").is(2).says("nothing was said");
    assert!(world.everything() == before, "a preview changes nothing");
    let came = world.run("listener change harbour/quill --port 4700").is(0);
    assert!(came.err.contains("this change of harbour/quill makes 1 handover stale: mara/laptop"), "{came:?}");
    // Once it is stale, another change makes it no more so.
    let came = world.run("listener change harbour/quill --port 4701").is(0);
    assert!(!came.err.contains("this change"), "{came:?}");
    // A pool that is too small for a group.
    world.run("group add crew").is(0);
    for number in 0..8 {
        world.run(&format!("user add hand-{number} --group crew")).is(0);
        world.run(&format!("device add hand-{number}/phone")).is(0);
    }
    world.run("listener change harbour/quill --pool 10.199.0.0/29").is(0);
    let before = world.everything();
    let refused = world.run("credential issue --group crew --yes").is(3);
    let preview = world.run("credential issue --group crew --preview").is(3);
    assert_eq!(refused.err, preview.err);
    assert!(world.everything() == before);
}

#[test]
fn a_credential_has_one_end_where_none_is_said() {
    let world = World::harbour("--processes");
    world.run("authority create").is(0);
    world.run("user add mara").is(0);
    let days = |world: &World, name: &str| -> Option<i64> {
        let shown = world.run(&format!("credential show {name} --format json")).is(0).json();
        let end = shown["expires"].as_str()?.parse::<jiff::Timestamp>().unwrap();
        Some((end.duration_since(jiff::Timestamp::now()).as_hours() + 1) / 24)
    };
    for device in ["laptop", "phone", "desk"] {
        world.run(&format!("device add mara/{device}")).is(0);
    }
    world.run("credential issue mara/laptop").is(0);
    assert_eq!(days(&world, "mara/laptop"), Some(365));
    world.run("credential issue mara/phone --kind password --generate").is(0);
    assert_eq!(days(&world, "mara/phone"), Some(365));
    world.run("credential issue mara/desk --until never").is(0);
    assert_eq!(days(&world, "mara/desk"), None);
    world.run("credential issue mara/desk --kind certificate --until never").is(2).says("always has an end");
    // A renewal holds as long as the one before, unless something else is said.
    world.run("credential renew mara/desk --yes").is(0);
    assert_eq!(days(&world, "mara/desk"), None);
    world.run("credential renew mara/desk --until 30d --yes").is(0);
    assert_eq!(days(&world, "mara/desk"), Some(30));
    world.run("credential renew mara/desk --yes").is(0);
    assert_eq!(days(&world, "mara/desk"), Some(30));
    world.run("credential renew mara/desk --until never --yes").is(0);
    assert_eq!(days(&world, "mara/desk"), None);
    world.run("credential issue --help").is(0).says("default: 1y");
}

#[test]
fn a_port_change_that_failed_is_taken_back_to_the_port_that_the_agent_holds() {
    let world = World::mara("--namespaces");
    let before = world.run("listener show harbour/quill --format json").is(0).json();
    let port = before["port"].as_str().unwrap().split('/').next().unwrap().to_owned();
    world.run("listener change harbour/quill --port 24700").is(0);
    // Somebody else takes it before the gateway does.
    let script = "nohup python3 -c 'import socket,time; s=socket.socket(2,2); s.bind((\"\",24700)); time.sleep(300)' >/dev/null 2>&1 & echo $!";
    let held = world.shell("harbour", script).is(0);
    wait(10, "it is taken", || world.shell("harbour", "ss -lun").out.contains(":24700").then_some(()));
    world.run("rollout --yes").is(4);
    let _ = world.run("host probe harbour");
    world.run(&format!("listener change harbour/quill --port {port}")).is(0);
    world.run("rollout --yes").is(0);
    world.run("listener change harbour/quill --port 24700").is(3).says("python3");
    world.on_laptop("yestrel connect mara.yestrel --background").is(0);
    world.shell("harbour", &format!("kill {}", held.out.trim())).is(0);
}

#[test]
fn nobody_is_asked_for_a_yes_to_what_is_refused_anyway() {
    let world = World::harbour("--processes");
    world.run("group add crew").is(0);
    world.admit("mara", "mara/laptop");
    world.run("user change mara --group crew").is(0);
    let before = world.everything();
    for what in [
        "user remove mara",
        "group remove crew",
        "device remove mara/laptop",
        "site remove harbour",
        "host remove harbour",
    ] {
        let came = world.run(what).is(3);
        assert!(!came.err.contains("needs a yes"), "{what}: {came:?}");
    }
    assert!(world.everything() == before);
    world.run("group add deck").is(0);
    world.run("group remove deck").is(2).says("needs a yes");
    world.run("group show deck").is(0);
}

/// A list is written as it is read. Beyond the rows by which its look is decided it goes on the same, in every format and whatever is asked of it.
#[test]
fn lists_go_on_the_same_beyond_what_decides_their_look() {
    let world = World::estate();
    world.run("user list").is(0).says("no users yet");
    assert_eq!(world.run("user list --format json").is(0).out, "[]\n");
    world.run("group add crew").is(0);
    world.run("group add deck").is(0);
    let line = |at: usize| format!("sailor-{at:03},sailor-{at:03}@skerry.example,crew,phone\n");
    let lines: String = (0..250).map(line).collect();
    // The longest name stands last: columns were decided before it.
    let longest = "zz-who-has-the-longest-name-of-all";
    world.write("many.csv", &format!("name,mail,groups,device\n{lines}{longest},,deck,phone\n"));
    world.run("user import many.csv --yes").is(0).says("imported 251 users and 251 devices");
    for (list, first) in [("user list", "sailor-000"), ("device list", "sailor-000/phone")] {
        let text = world.run(list).is(0).out;
        assert_eq!(text.lines().count(), 252, "{list}");
        assert!(text.lines().nth(1).unwrap().starts_with(first), "{list}");
        assert!(text.lines().last().unwrap().starts_with(longest), "{list}");
        assert_eq!(text.matches("\nname").count(), 0, "one header");
        let json = world.run(&format!("{list} --format json")).is(0).json();
        assert_eq!(json.as_array().unwrap().len(), 251, "{list}");
        assert_eq!(json[250]["name"].as_str().unwrap().split('/').next(), Some(longest));
        assert_eq!(world.run(&format!("{list} --format csv")).is(0).out.lines().count(), 252, "{list}");
        assert_eq!(world.run(&format!("{list} --find sailor-24")).is(0).out.lines().count(), 11, "{list}");
        assert_eq!(world.run(&format!("{list} --group deck")).is(0).out.lines().count(), 2, "{list}");
        let last = world.run(&format!("{list} --sort -name --last 1")).is(0).out;
        assert!(last.lines().nth(1).unwrap().starts_with(first), "{last}");
    }
    world.run("user list --state suspended").is(0).says("there are no such users");
    world.run("user list --group nobody").is(2).says("there is no group");
    world.run("user list --find nobody").is(0).says("no line has \"nobody\" in it");
    // Whoever reads no further leaves nothing undone, and is told nothing.
    let program = env!("CARGO_BIN_EXE_yestrel");
    let head = world.judge(&format!("{program} user list | head -3; {program} user list --format json | head -1"));
    assert_eq!((head.code, head.out.lines().count(), head.err.as_str()), (0, 4, ""), "{head:?}");
}
