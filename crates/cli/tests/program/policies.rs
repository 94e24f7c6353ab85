//! Policies: the list as it is changed, what it says beforehand, and how gateways keep to it.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan as _};

use crate::common::{Came, World, wait};

/// The estate of the example, without a lab: a gateway with a listener, the crew, the welders, and who is in neither.
fn skerry() -> World {
    let world = World::bare();
    world.run("site add boatyard --network 192.168.61.0/24 --time-zone Europe/Oslo").is(0);
    for group in ["crew", "welders", "pilots"] {
        world.run(&format!("group add {group}")).is(0);
    }
    world.run("user add oskar --group welders").is(0);
    world.run("user add mara --group crew").is(0);
    world.run("user add nils").is(0);
    world
}

fn words(world: &World, words: &[&str]) -> Came {
    world.run_words(words)
}

fn dry_dock(world: &World) {
    let hours = "hours=tue,thu 05:30-11:15";
    let add = ["policy", "add", "dry-dock", "admit", "--when", "group=welders", "--when", hours, "--session", "6h"];
    words(world, &add).is(0).says("number 1");
    let hours = "hours=daily 22:00-06:00";
    words(world, &["policy", "add", "night-crew", "admit", "--when", "group=crew", "--when", hours])
        .is(0)
        .says("number 2");
}

fn order(world: &World) -> Vec<String> {
    let list = world.run("policy list --format json").is(0).json();
    list.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn the_list_is_made_changed_moved_and_shown_in_its_order() {
    let world = skerry();
    world
        .run("policy list")
        .is(0)
        .says("end of list")
        .says("nobody is let in")
        .says("yestrel policy add everyone admit");
    dry_dock(&world);
    world.run("policy add everyone admit --off --about later").is(0).says("number 3");
    // Keeping some out needs no yes: others are let in.
    world.run("policy add no-pilots refuse --when group=pilots --first").is(0);
    world.run("policy remove no-pilots").is(0);
    let list = world.run("policy list --wide").is(0);
    let list = list.says("1  dry-dock").says("hours tue,thu 05:30-11:15").says("for 6h at most").says("end of list");
    assert!(list.out.lines().last().unwrap().contains("end of list"), "{}", list.out);
    assert!(list.out.lines().any(|line| line.contains("everyone") && line.contains("off")), "{}", list.out);
    world.run("policy move everyone --before dry-dock").is(0).says("was number 3, and is number 1");
    assert_eq!(order(&world), ["everyone", "dry-dock", "night-crew", "end of list"]);
    world.run("policy move everyone --after dry-dock").is(0);
    world.run("policy move night-crew --first").is(0);
    world.run("policy move night-crew --first").is(0).says("there already");
    assert_eq!(order(&world), ["night-crew", "dry-dock", "everyone", "end of list"]);
    world.run("policy add last-but-one refuse --when user=nils --before everyone").is(0).says("number 3");
    world.run("policy change dry-dock --when hours= --user-sessions 2").is(0);
    world.run("policy show dry-dock").is(0).says("group welders").says("2 at once of a user").says("for 6h at most");
    world.run("policy change everyone --on").is(0);
    world.run("estate history --last 1").is(0).says("off -> on");
    world.run("policy change everyone --off").is(0);
    world.run("policy change dry-dock --no-limits --on").is(0);
    let shown = world.run("policy show dry-dock").is(0);
    assert!(!shown.out.contains("hours") && !shown.out.contains("at once"), "{}", shown.out);
    // Fifty to the same place: between any two there is room for more.
    for number in 0..50 {
        world.run(&format!("policy add p{number} refuse --when group=pilots --after night-crew --quiet")).is(0);
    }
    let all = order(&world);
    assert_eq!((all[0].as_str(), all[1].as_str(), all[50].as_str()), ("night-crew", "p49", "p0"));
    world.run("policy remove p7").is(0);
    world.run("policy show p7").is(2).says("there is no policy \"p7\"");
    world.run("estate history --last 3").is(0).says("policy remove").says("policy add");
    // What was not rolled out is taken back like any other change.
    world.run("estate undo --yes").is(0);
    world.run("policy show p7").is(0);
}

#[test]
fn what_cannot_be_is_refused_with_what_there_is() {
    let world = skerry();
    dry_dock(&world);
    for (line, code, part) in [
        ("policy add dry-dock admit", 3, "already"),
        ("policy add Dock admit", 2, "only a-z"),
        ("policy add a allow", 2, "admit"),
        ("policy add a admit --when colour=red", 2, "it can ask about user"),
        ("policy add a admit --when group=divers", 2, "no group"),
        ("policy add a admit --when gateway=pier", 2, "no gateway"),
        ("policy add a admit --when group", 2, "SUBJECT=VALUE"),
        ("policy add a admit --when group=crew --when group=pilots", 2, "asked about twice"),
        ("policy add a admit --when hours=tue", 2, "the hours"),
        ("policy add a admit --when second-factor=perhaps", 2, "it is yes or no"),
        ("policy add a admit --when first-sign-in=yes,no", 2, "it is yes or no"),
        ("policy add a admit --when realm=skerry", 2, "with a dot"),
        ("policy add a admit --when registry=ldap", 2, "no registry"),
        ("policy add a admit --session 1s", 2, "too short"),
        ("policy add a admit --user-sessions 0", 2, "no session at once"),
        ("policy add a refuse --session 8h", 2, "limits"),
        ("policy add a admit --first --last", 2, "cannot be used with"),
        ("policy add a admit --before nobody", 2, "no policy"),
        ("policy move dry-dock", 2, "where to"),
        ("policy move dry-dock --before dry-dock", 2, "beside itself"),
        ("policy change dry-dock", 2, "nothing was said"),
        ("policy change dry-dock --effect refuse", 2, "limits"),
        ("policy change nobody --on", 2, "no policy"),
        ("policy import nowhere.toml", 1, "nowhere.toml"),
        ("policy rehearse", 2, "missing"),
        ("policy rehearse nobody", 2, "no user"),
        ("policy rehearse oskar", 3, "no device"),
    ] {
        let before = world.everything();
        let came = world.run(line);
        assert_eq!(came.code, code, "{line}: {}{}", came.out, came.err);
        assert!(format!("{}{}", came.out, came.err).contains(part), "{line}: {}{}", came.out, came.err);
        assert_eq!(world.everything(), before, "{line}");
    }
    words(&world, &["policy", "add", "a", "admit", "--when", "hours=daily 08:00-17:00 Mars/Olympus"])
        .is(2)
        .says("no time zone");
    words(&world, &["policy", "add", "a", "admit", "--when", "hours=daily 25:00-26:00"]).is(2).says("00:00 to 24:00");
    // What a policy names stays, and is followed where it is called something else.
    world.run("group remove welders").is(3).says("dry-dock names it").says("--when group=");
    world.run("group rename welders smiths").is(0);
    world.run("policy show dry-dock").is(0).says("group smiths");
    world.run("policy add nils refuse --when user=nils").is(0);
    world.run("user remove nils").is(3).says("the policy nils names it");
    world.run("user rename nils nils-h").is(0);
    world.run("policy show nils").is(0).says("user nils-h");
}

#[test]
fn a_list_goes_into_a_file_and_comes_back_whole_or_not_at_all() {
    let world = skerry();
    dry_dock(&world);
    world.run("policy add everyone admit --off --reach 10.44.0.0/24 --idle 15m --stay").is(0);
    let text = world.run("policy export").is(0).out;
    world.write("policies.toml", &text);
    world.run("policy import policies.toml").is(0).says("nothing to do");
    world.run("policy remove dry-dock").is(0);
    world.run("policy move everyone --first").is(0);
    let before = world.everything();
    world.run("policy import policies.toml --preview").is(0).says("add     dry-dock").says("move    ");
    assert_eq!(world.everything(), before, "a preview changes nothing");
    world.run("policy import policies.toml").is(0);
    assert_eq!(world.run("policy export").is(0).out, text);
    // Cut anywhere, or with one bad policy, nothing of it is taken.
    let before = world.everything();
    let lines: Vec<_> = text.lines().collect();
    for cut in [3, 7, 12, lines.len() - 1] {
        world.write("cut.toml", &lines[..cut].join("\n"));
        world.run("policy import cut.toml --yes").is(2);
    }
    world.write("bad.toml", &text.replace("group = [\"crew\"]", "group = [\"divers\"]"));
    world.run("policy import bad.toml --yes").is(2).says("policy night-crew").says("no group");
    assert_eq!(world.everything(), before);
    // A list that would let nobody in is asked about.
    world.write("none.toml", "format = \"yestrel policies 1\"\n[end]\npolicies = 0\n");
    let refused = world.run("policy import none.toml");
    assert!(refused.code != 0 && refused.err.contains("lets anybody in"), "{}{}", refused.out, refused.err);
    assert_eq!(world.everything(), before);
    world.run("policy import none.toml --yes").is(0);
    world.run("policy check").is(3).says("nobody can come in");
}

#[test]
fn two_who_move_the_same_policy_both_come_through_and_the_list_stays_whole() {
    let world = skerry();
    for name in ["a", "b", "c", "d"] {
        world.run(&format!("policy add {name} refuse --when group=pilots")).is(0);
    }
    std::thread::scope(|scope| {
        for stand in [["--before", "a"], ["--after", "c"], ["--before", "d"], ["--after", "a"]] {
            let world = &world;
            scope.spawn(move || world.run_words(&["policy", "move", "b", stand[0], stand[1]]).is(0));
        }
    });
    let mut all = order(&world);
    all.retain(|name| name != "b");
    assert_eq!(all, ["a", "c", "d", "end of list"], "each of the others where it was, and b once");
    world.run("estate history --verify").is(0);
}

/// The days of the week but this one, at the harbour, so that it is none of those hours now nor in the next hours.
fn other_days() -> String {
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let today = zone.to_datetime(Timestamp::now()).date();
    let near = [today, today.tomorrow().unwrap()].map(|date| date.weekday().to_monday_zero_offset());
    let others = (0..7).filter(|day| !near.contains(day));
    others.map(|day| days[usize::try_from(day).unwrap()]).collect::<Vec<_>>().join(",")
}

fn is_in(world: &World, device: &str) -> bool {
    world.run("session list").out.contains(device)
}

fn connect(world: &World, words: &str) -> Came {
    world.on_laptop(&format!("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0 {words}"))
}

#[test]
fn a_gateway_lets_in_as_the_list_says_and_throws_out_whom_it_does_not_admit_any_more() {
    let world = World::mara("--processes");
    world.run("group add crew").is(0);
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    world.run("session list --wide").is(0).says("everyone");
    // Who would be thrown out is said before, and then it happens, with the reason at both ends.
    world.run("policy change everyone --when group=crew").is(0);
    let preview = world.run("rollout --preview").is(0);
    let preview = preview
        .says("policy  change everyone  (admit everybody -> admit group crew)")
        .says("mara is in none that a policy names");
    assert!(preview.out.lines().any(|line| line.contains("end ") && line.contains("mara/laptop")), "{}", preview.out);
    assert!(is_in(&world, "mara/laptop"), "a preview ends nothing");
    world.run("rollout --yes").is(0).says("done                1");
    wait(10, "mara is out", || (!is_in(&world, "mara/laptop")).then_some(()));
    wait(10, "her laptop knows why", || {
        world.on_laptop("yestrel tunnel list").err.contains("group: mara").then_some(())
    });
    connect(&world, "").is(1).says("policies do not admit").says("crew is wanted");
    world.run("session list --past").is(0).says("policy");
    // A member of the group is let in, by an amendment of her entry alone.
    world.run("user change mara --group crew").is(0);
    world.run("rollout --preview").is(0).says("mara/laptop: groups - -> crew, which policies ask about");
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    // Out of the group she is out of the site.
    world.run("user change mara --group welders").is(2);
    world.run("group change crew --remove mara").is(0);
    let preview = world.run("rollout --preview").is(0);
    assert!(preview.out.lines().any(|line| line.contains("end ") && line.contains("mara/laptop")), "{}", preview.out);
    world.run("rollout --yes").is(0);
    wait(10, "mara is out", || (!is_in(&world, "mara/laptop")).then_some(()));
    // At other hours she is not let in, and is told when.
    let hours = format!("hours={} 00:00-24:00", other_days());
    words(&world, &["policy", "change", "everyone", "--when", "group=", "--when", &hours]).is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(1).says("the nearest is everyone, which opens on");
    world.run("policy rehearse mara/laptop").is(0).says("refused: no policy admits mara/laptop").says("is outside");
    // And with nothing on the list nobody is, which is said before it is sent.
    world.run("policy remove everyone --yes").is(0);
    world.run("rollout --preview").is(0).says("nobody would be admitted");
    world.run("rollout --yes").is(0);
    connect(&world, "").is(1).says("no policy admits anybody");
    world.run("policy add everyone admit").is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
}

#[test]
fn a_session_ends_when_its_time_is_over_when_it_is_idle_and_when_hours_end() {
    let world = World::mara("--processes");
    world.run("policy change everyone --session 12s").is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    wait(25, "its time is over", || {
        world.on_laptop("yestrel tunnel list").err.contains("its session time of 12s is over").then_some(())
    });
    assert!(!is_in(&world, "mara/laptop"));
    // Idle is who carries nothing; who carries something is not.
    world.run("policy change everyone --no-limits --idle 10s").is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
    let begun = Timestamp::now();
    let mut carried = 0;
    while Timestamp::now().duration_since(begun) < SignedDuration::from_secs(14) {
        world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0);
        carried += 1;
    }
    assert!(carried > 1 && is_in(&world, "mara/laptop"), "{carried} proofs kept it busy");
    wait(30, "it was idle", || {
        world.on_laptop("yestrel tunnel list").err.contains("it was idle for 10s").then_some(())
    });
    // Hours that end with the next minute but one end the session then, but for who may stay.
    let zone = TimeZone::get("Europe/Oslo").unwrap();
    let now = zone.to_datetime(Timestamp::now());
    let ends = now.checked_add(75.seconds()).unwrap();
    let hours = format!(
        "hours=daily {}-{}",
        now.checked_sub(2.hours()).unwrap().time().strftime("%H:%M"),
        ends.time().strftime("%H:%M")
    );
    words(&world, &["policy", "change", "everyone", "--no-limits", "--when", &hours]).is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
    assert!(is_in(&world, "mara/laptop"));
    let told = wait(100, "the hours are over", || {
        let list = world.on_laptop("yestrel tunnel list").err;
        list.contains("is outside")
            .then_some(list)
            .or_else(|| world.on_laptop("yestrel tunnel list").err.contains("opens").then(String::new))
    });
    assert!(!is_in(&world, "mara/laptop"), "{told}");
    world.run("session list --past").is(0).says("policy").says("limit");
}

#[test]
fn no_more_sessions_at_once_than_a_policy_lets_in() {
    let world = World::mara("--processes");
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone").is(0);
    world.admit("tomas", "tomas/tablet");
    world.run("policy change everyone --user-sessions 1").is(0);
    world.run("rollout --yes").is(0);
    for (device, file) in [("mara/phone", "phone"), ("tomas/tablet", "tablet")] {
        world.run(&format!("credential handover {device} --to {file}.yestrel --yes")).is(0);
    }
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    let other = |file: &str| {
        world.on_laptop(&format!("yestrel connect {file}.yestrel --background --proxy 127.0.0.1:0 --name {file}"))
    };
    other("phone").is(1).says("mara has 1 at once already");
    other("tablet").is(0);
    assert!(is_in(&world, "tomas/tablet") && is_in(&world, "mara/laptop"));
    // The same device again takes its own place.
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    connect(&world, "").is(0);
    world.run("session end mara/laptop --yes").is(0);
    wait(10, "mara is out", || (!is_in(&world, "mara/laptop")).then_some(()));
    other("phone").is(0);
}

// Long: gateways meet every 20 s.
#[test]
fn gateways_count_together_and_of_two_sessions_the_later_goes() {
    let world = World::mara("--processes");
    world.run("site add boatyard --network 192.168.61.0/24 --time-zone Europe/Oslo").is(0);
    world.run("host add boatyard --site boatyard --kind computer --via lab").is(0);
    let hosts = world.run("host list --format json").is(0).json();
    let boatyard = hosts.as_array().unwrap().iter().find(|host| host["name"] == "boatyard").unwrap();
    let address = boatyard["outward"].as_str().unwrap();
    world.run(&format!("gateway create boatyard --host boatyard --dialled {address}")).is(0);
    world.run("listener open boatyard --pool 10.187.61.0/24").is(0);
    // Gateways find each other where they are, and not by a name of the example.
    let harbour = hosts.as_array().unwrap().iter().find(|host| host["name"] == "harbour").unwrap();
    world.run(&format!("gateway change harbour --dialled {} --yes", harbour["outward"].as_str().unwrap())).is(0);
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone --at boatyard").is(0);
    world.run("policy change everyone --user-sessions 1").is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/phone --to phone.yestrel --yes").is(0);
    let phone = || world.on_laptop("yestrel connect phone.yestrel --background --proxy 127.0.0.1:0 --name phone");
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    // Before the two have met it is let in; when they have, it is out, and the earlier stays.
    if phone().code == 0 {
        let told = "mara has 1 at once already";
        wait(60, "they have met", || world.on_laptop("yestrel tunnel list").err.contains(told).then_some(()));
    }
    phone().is(1).says("mara has 1 at once already");
    assert!(is_in(&world, "mara/laptop") && !is_in(&world, "mara/phone"));
    // Where the first is gone, there is room for the other.
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    wait(90, "room for the phone", || (phone().code == 0).then_some(()));
    // Where one hears nothing of the other any more, it is said that it counts alone.
    world.run("status").lacks("is not counted here");
    world.run("lab break boatyard --how agent").is(0);
    let alone =
        "a policy counts sessions at once, and it hears nothing of boatyard: what is in there is not counted here";
    wait(100, "it is said", || {
        let status = world.run("status");
        status.out.replace("\n", " ").contains(alone).then_some(())
    });
}

#[test]
fn what_happened_is_on_record_counted_told_to_other_programs_and_forgotten_in_time() {
    use std::io::Read as _;
    let world = World::mara("--processes");
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    world.run("policy change everyone --unless user=mara --yes").is(0);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(1);
    let lines = || -> Vec<serde_json::Value> {
        let out = world.run("session export").is(0).out;
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let lines = wait(20, "it is on record", || {
        Some(lines()).filter(|lines| lines.iter().any(|line| line["what"] == "refused"))
    });
    let said: Vec<_> = lines.iter().map(|line| line["what"].as_str().unwrap()).collect();
    assert_eq!(said[..2], ["opened", "ended"], "{lines:?}");
    assert_eq!((&lines[0]["policy"], &lines[0]["asked"]), (&"everyone".into(), &1.into()));
    assert!(lines.iter().all(|line| line["method"] == "key"), "{lines:?}");
    assert!(world.run("session list --past --refused --format json").is(0).out.contains("\"method\": \"key\""));
    let why = |at: usize| lines[at]["reason"].as_str().unwrap();
    assert!(why(1).contains("policy") && why(2).contains("user: it is mara, which is left out"), "{lines:?}");
    let counted = world.run("session list --past --reasons --format json").is(0).json();
    let times = |what: &str| {
        let all = counted.as_array().unwrap().iter();
        all.filter(|row| row["what"] == what && row["reason"] == "policy")
            .map(|row| row["times"].as_u64().unwrap())
            .sum::<u64>()
    };
    assert!(times("ended") == 1 && times("refused") >= 1, "{counted}");
    // Over TCP with octets counted, as RFC 6587 says.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    let taking = std::thread::spawn(move || {
        let mut all = String::new();
        listener.accept().unwrap().0.read_to_string(&mut all).unwrap();
        all
    });
    world.run(&format!("session export --as syslog --to tcp:{at}")).is(0).says("told ");
    let all = taking.join().unwrap();
    let mut rest = all.as_str();
    let mut messages = Vec::new();
    while let Some((length, after)) = rest.split_once(' ') {
        let (message, next) = after.split_at(length.parse().unwrap());
        messages.push(message);
        rest = next;
    }
    assert!(messages.len() == lines.len() && rest.is_empty(), "{all}");
    assert!(messages.iter().all(|message| message.starts_with("<86>1 ") || message.starts_with("<84>1 ")), "{all}");
    // To a local socket, a datagram each.
    let path = world.path("log.sock");
    let socket = std::os::unix::net::UnixDatagram::bind(&path).unwrap();
    socket.set_read_timeout(Some(std::time::Duration::from_secs(10))).unwrap();
    world.run(&format!("session export harbour --as syslog --to unix:{}", path.display())).is(0);
    let mut buffer = [0; 4096];
    let length = socket.recv(&mut buffer).unwrap();
    assert_eq!(std::str::from_utf8(&buffer[..length]).unwrap(), messages[0]);
    world.run("session export --to tcp:192.0.2.7:514").is(2).says("in the clear");
    world.run("session export --to unix:/nowhere/log").is(1).says("nobody takes the record");
    world.run("session export nowhere").is(2);
    // What is older than is kept goes.
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    database.execute("UPDATE sessions SET ended = '2020-01-01T00:00:00Z' WHERE reason LIKE 'refused%'", []).unwrap();
    world.run("estate change --keep-sessions 30d").is(0);
    world.run("estate show").is(0).says("30 days");
    world.run("session list --past").is(0);
    let left = world.run("session list --past").is(0);
    assert!(left.out.contains("mara/laptop") && !left.out.contains("refused"), "{}", left.out);
    for bad in ["0d", "11y", "soon"] {
        world.run(&format!("estate change --keep-sessions {bad}")).is(2);
    }
}

/// By the clock of the gateway, which the lab sets: hours, a session that has lasted long enough, a day on which nobody is let in, and a clock
/// that was set back. Whoever looks at the estate is told that the clock is off.
#[test]
fn what_goes_by_the_clock_goes_by_that_of_the_gateway() {
    let world = World::mara("--processes");
    world.run("site change harbour --time-zone Europe/Oslo").is(0);
    words(&world, &["policy", "change", "everyone", "--when", "hours=tue,thu 05:30-11:15", "--session", "4h"]).is(0);
    let sets = |at: &str| {
        let at = format!("2027-03-{at}");
        words(&world, &["lab", "clock", "harbour", "--at", &at, "--time-zone", "Europe/Oslo"])
            .is(0)
            .says("at harbour it is ")
            .says(&at);
    };
    // A Thursday.
    sets("04 05:31");
    world.run("rollout --yes").is(0);
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    sets("04 09:00");
    assert!(is_in(&world, "mara/laptop"), "three and a half hours");
    sets("04 09:32");
    wait(10, "the session has lasted long enough", || (!is_in(&world, "mara/laptop")).then_some(()));
    wait(10, "her laptop knows why", || world.on_laptop("yestrel tunnel list").err.contains("4h").then_some(()));
    connect(&world, "").is(0);
    wait(10, "mara is in again", || is_in(&world, "mara/laptop").then_some(()));
    sets("04 11:15");
    wait(10, "the hours are over", || (!is_in(&world, "mara/laptop")).then_some(()));
    sets("05 10:00");
    connect(&world, "").is(1).says("opens on Tuesday at 05:30");
    // Set back to the day before.
    sets("04 10:00");
    connect(&world, "").is(0);
    wait(10, "mara is in once more", || is_in(&world, "mara/laptop").then_some(()));
    world.run("status").says("its clock is").says("ahead");
    world.run("lab clock harbour --right").is(0).says("is right");
    assert!(!world.run("status").out.contains("its clock is"));
    world.run("lab clock pier-office --right").is(0).says("no agent answers there");
    for bad in [
        "lab clock harbour",
        "lab clock harbour --at soon",
        "lab clock nowhere --right",
        "lab clock mara-laptop --right",
        "lab clock harbour --at 10:00 --time-zone Mars",
    ] {
        world.run(bad).is(2);
    }
}

/// At a terminal a policy is asked for, and shown before it is kept.
#[test]
fn a_policy_is_asked_for_at_a_terminal_and_shown_before_it_is_kept() {
    use crate::common::terminal::Terminal;
    let world = World::estate();
    world.run("group add welders").is(0);
    let begin = || {
        let mut terminal = Terminal::start(&world.command(&["policy", "add"]));
        terminal.sees("What it is called: ");
        terminal.types("dry-dock");
        terminal.sees("keeps out: ");
        terminal
    };
    let mut terminal = begin();
    for (answer, then) in [
        ("admit", "a condition that must hold [no more]: "),
        ("group=welders", "a condition that must hold [no more]: "),
        ("hours=tue,thu 25:30-11:15", "a condition that must hold [no more]: "),
        ("hours=tue,thu 05:30-11:15", "a condition that must hold [no more]: "),
        ("", "a condition that must not hold [no more]: "),
        ("platform=android", "a condition that must not hold [no more]: "),
        ("", "a limit [no more]: "),
        ("session soon", "a limit [no more]: "),
        ("speed 9", "a limit [no more]: "),
        ("session 6h", "a limit [no more]: "),
        ("stay", "a limit [no more]: "),
        ("", "where it stands in the list [last]: "),
        ("before", "where it stands in the list [last]: "),
        (
            "before everyone",
            "$ yestrel policy add dry-dock admit --when group=welders --when 'hours=tue,thu 05:30-11:15' --unless platform=android --session 6h --stay --before everyone",
        ),
    ] {
        terminal.types(answer);
        terminal.sees(then);
    }
    let shown = terminal.sees("go on? [y/N] ");
    for part in ["number 1 of the list", "welders", "05:30-11:15", "android", "for 6h at most", "stays when"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    assert!(!world.run("policy list").is(0).out.contains("dry-dock"), "not before the yes");
    terminal.types("y");
    let (code, all) = terminal.ends();
    assert_eq!(code, 0, "{all}");
    assert!(
        all.contains("25:30") && all.contains("session soon") | all.contains("'soon'"),
        "wrong answers are told: {all}"
    );
    let kept = world.run("policy show dry-dock --format json").is(0).json();
    assert_eq!(kept["place"], 1, "{kept}");
    world.run("policy remove dry-dock").is(0);
    // A no, and a window that is closed in the middle, leave nothing; who is kept out has no limits.
    let mut terminal = begin();
    for (answer, then) in [
        ("refuse", "must hold [no more]: "),
        ("", "must not hold [no more]: "),
        ("", "where it stands in the list [last]: "),
        ("", "go on? [y/N] "),
        ("n", "nothing"),
    ] {
        terminal.types(answer);
        terminal.sees(then);
    }
    assert_ne!(terminal.ends().0, 0);
    let mut terminal = begin();
    terminal.types("admit");
    terminal.sees("must hold [no more]: ");
    terminal.types("\u{4}");
    assert_ne!(terminal.ends().0, 0);
    assert!(!world.run("policy list").is(0).out.contains("dry-dock"));
}

#[test]
fn who_could_get_in_at_a_past_moment_is_a_command() {
    let world = World::mara("--processes");
    world.run("group add crew").is(0);
    world.run("user change mara --group crew").is(0);
    let then = Timestamp::now().to_string();
    let as_of = |who: &str, at: &str| world.run(&format!("policy rehearse {who} --as-of {at}"));
    let before = as_of("mara/laptop", &then).is(0).says("admitted: mara/laptop").says("by the policy everyone").out;
    let week =
        world.run(&format!("policy rehearse --all-users --as-of {then}")).is(0).says("mara").says("########").out;
    // Everything that it was decided by is another thing by now.
    world.run("policy add crew admit --when group=crew --first").is(0);
    world.run("policy remove everyone").is(0);
    world.run("group change crew --remove mara").is(0);
    world.run("user rename mara mara-n").is(0);
    world.run("credential revoke mara-n/laptop --reason lost --yes").is(0);
    world.run("device remove mara-n/laptop --yes").is(0);
    world.admit("tomas", "tomas/tablet");
    assert_eq!(as_of("mara/laptop", &then).is(0).out, before);
    assert_eq!(world.run(&format!("policy rehearse --all-users --as-of {then}")).is(0).out, week);
    as_of("tomas/tablet", &then).is(2).says("there was no device tomas/tablet then");
    as_of("tomas/tablet", "0s").is(0).says("refused: no policy admits tomas/tablet").says("crew is wanted");
    world.run("policy rehearse mara/laptop").is(2);
    as_of("mara/laptop", "2020-01-01").is(2).says("it was made at");
    as_of("mara/laptop", "2999-01-01").is(2).says("to come");
}

#[test]
fn what_comes_faster_than_a_policy_lets_is_lost_in_both_planes() {
    for mode in ["--namespaces", "--processes"] {
        let world = World::mara(mode);
        world.run("policy change everyone --upload 0.8 --reach 10.44.0.20/32").is(0);
        world.run("policy show everyone").is(0).says("0.8 Mbit/s up").says("reaches 10.44.0.20/32 at most");
        world.run("rollout --yes").is(0);
        let received = || {
            let all = world.run("session list --format json").is(0).json();
            all[0]["received"].as_u64().unwrap()
        };
        if mode == "--processes" {
            connect(&world, "").is(0);
            // Through a stack of its own it cannot flood; what it reaches it still does.
            world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0);
            assert!(received() > 0);
            continue;
        }
        world.on_laptop("yestrel connect mara.yestrel --background").is(0);
        let before = received();
        let flood = "import socket, time\ns = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\nbegan = time.time()\n\
                     while time.time() - began < 3:\n    s.sendto(bytes(1200), ('10.44.0.20', 9))\n    time.sleep(0.0005)\n";
        world.write("flood.py", flood);
        let began = Timestamp::now();
        world.on_laptop("python3 flood.py").is(0);
        let seconds = Timestamp::now().duration_since(began).as_secs_f64();
        let passed = received() - before;
        // A tenth of a megabyte a second and what may come at once; the flood was twenty times that.
        assert!(passed > 100_000 && (passed as f64) < 100_000.0 * (seconds + 1.0) + 160_000.0, "{passed} in {seconds}");
        // Where the listener reaches further, the policy's reach is all there is.
        world.on_laptop("yestrel tunnel prove --reach 10.44.0.20:80").is(0);
        world.shell("mara-laptop", "ip route get 10.44.0.21").says("eth0");
    }
}

#[test]
fn a_rehearsal_goes_by_what_would_be_used_and_by_when_that_ends() {
    let world = World::harbour("--processes");
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world.run("credential issue mara/laptop --until 2d").is(0);
    let days = || -> Vec<String> {
        let week = world.run("policy rehearse --all-users --format json").is(0).json();
        let day = |name: &&str| week[0][*name].as_str().unwrap_or_default().to_owned();
        ["mon", "tue", "wed", "thu", "fri", "sat", "sun"].iter().map(day).collect()
    };
    let database = rusqlite::Connection::open(world.path("skerry")).unwrap();
    let expires = |at: &str| database.execute("UPDATE credentials SET expires = ?1", [at]).unwrap();
    expires("2999-01-01T00:00:00Z");
    assert_eq!(days(), ["all day"; 7]);
    // The list admits at any hour, and what she has ends now: the rest of the week is not hers.
    expires(&Timestamp::now().to_string());
    assert_ne!(days()[6], "all day");
    expires(&(Timestamp::now() + SignedDuration::from_hours(48)).to_string());
    let after = (Timestamp::now() + SignedDuration::from_hours(72)).strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    let late = || world.run_words(&["policy", "rehearse", "mara/laptop", "--at", &after]);
    late().is(0).says("refused: mara/laptop/1 ended on").says("the policy everyone would admit");
    // One that has ended already stands behind one that holds.
    expires("2020-01-01T00:00:00Z");
    world.run("policy rehearse mara/laptop").is(0).says("mara/laptop/1 ended on");
    world.run("credential renew mara/laptop --until 90d --yes").is(0);
    world.run("policy rehearse mara/laptop").is(0).says("admitted: mara/laptop");
}

#[test]
fn past_sign_ins_are_played_against_a_list_and_it_is_said_whose_fate_would_be_another() {
    let world = World::mara("--processes");
    world.run("policy rehearse --since 1d").is(0).says("no sign-in since then is on record");
    connect(&world, "").is(0);
    wait(10, "mara is in", || is_in(&world, "mara/laptop").then_some(()));
    world.write("open.toml", &world.run("policy export").is(0).out);
    world.run("policy change everyone --unless user=mara --yes").is(0);
    world.write("shut.toml", &world.run("policy export").is(0).out);
    world.run("rollout --yes").is(0);
    connect(&world, "").is(1);
    let replayed = |with: &str| {
        let list = world.run(&format!("policy rehearse --since 1d --with {with} --format json")).is(0).json();
        let fate = |row: &serde_json::Value| {
            assert_eq!(row["device"], "mara/laptop");
            ["was", "would_be", "because"].map(|column| row[column].as_str().unwrap().to_owned()).join("; ")
        };
        list.as_array().unwrap().iter().map(fate).collect::<Vec<_>>()
    };
    // News of both comes with the next question to the gateway.
    wait(20, "it is on record", || {
        world.run("session list --past --refused").out.contains("mara/laptop").then_some(())
    });
    // Another list, another fate: the one that was refused would be admitted, or the one that was admitted refused.
    assert_eq!(replayed("open.toml"), ["refused; admitted; everyone admits"]);
    let shut = replayed("shut.toml");
    assert!(shut.len() == 1 && shut[0].starts_with("admitted by everyone; refused; "), "{shut:?}");
    assert!(shut[0].contains("user: it is mara, which is left out"), "{shut:?}");
    world.run("policy rehearse --since 1d").is(0).says("1 would be refused that were not, and 0 admitted");
    world.run("policy rehearse --since 1d --with nowhere.toml").is(1);
    world.run("policy rehearse mara --since 1d").is(2);
}

/// Twelve who are refused, each for the one reason that can be read from the list; and nothing is left of it.
#[test]
fn the_puzzle_of_the_demo_refuses_each_for_its_reason() {
    let world = World::bare();
    let came = world.run("demo --puzzle --folder puzzle").is(0);
    assert_eq!(came.out.matches("proved refused").count(), 12, "{came:?}");
    for (number, line) in [
        (1, "2 dry-dock    no   hours: Fri 10:00 is outside tue,thu 05:30-11:15 (Europe/Oslo)"),
        (3, "2 dry-dock    no   hours: Thu 11:15 is outside tue,thu 05:30-11:15 (Europe/Oslo)"),
        (4, "2 dry-dock    no   gateway: it is harbour; boatyard is wanted"),
        (6, "3 night-crew  no   hours: Mon 06:00 is outside daily 22:00-06:00 (Europe/Oslo)"),
        (7, "3 night-crew  no   from: 203.0.113.9 is outside 198.51.100.0/24"),
        (8, "1 no-tablets  yes"),
        (11, "6 captains    no   credential: it is key-pair; certificate is wanted"),
    ] {
        let begun = came.out.split(&format!("\n{number}. ")).nth(1).unwrap();
        let riddle = begun.split("proved refused").next().unwrap();
        assert!(riddle.contains(line), "{number}: {line}: {riddle}");
    }
    let lab = world.path("puzzle/lab/hosts/harbour/pid");
    wait(20, "its lab has ended", || {
        let pid = std::fs::read_to_string(&lab).unwrap_or_default();
        (pid.is_empty() || !std::path::Path::new("/proc").join(pid.trim()).exists()).then_some(())
    });
    world.run("demo --puzzle --stay").is(2);
}

/// Read by nothing of ours: the chunks of a PNG (ISO/IEC 15948), and an SVG as XML.
const PICTURES: &str = r#"
import struct, sys, zlib, xml.etree.ElementTree as tree
data = open("week.png", "rb").read()
assert data[:8] == b"\x89PNG\r\n\x1a\n"
at, packed, kinds = 8, b"", []
while at < len(data):
    length, kind = struct.unpack(">I4s", data[at:at + 8])
    body = data[at + 8:at + 8 + length]
    assert zlib.crc32(kind + body) == struct.unpack(">I", data[at + 8 + length:at + 12 + length])[0]
    kinds.append(kind)
    if kind == b"IHDR":
        width, height, depth, color = struct.unpack(">IIBB", body[:10])
    if kind == b"IDAT":
        packed += body
    at += 12 + length
assert kinds[0] == b"IHDR" and kinds[-1] == b"IEND" and (width, depth, color) == (1280, 8, 2)
assert len(zlib.decompress(packed)) == height * (1 + 3 * width)
svg = tree.parse("week.svg").getroot()
words = [(one.text or "").strip() for one in svg.iter() if one.tag.endswith("text")]
print(*words, sep="\n")
"#;

#[test]
fn a_week_is_drawn_into_a_file_that_others_can_read() {
    let world = World::bare();
    world.run("demo --puzzle --folder puzzle").is(0);
    let draw = |more: &str| world.run(&format!("--estate puzzle/skerry policy rehearse --gateway boatyard {more}"));
    for file in ["week.png", "week.svg"] {
        draw(&format!("--all-users --at 2027-03-03T10:00:00Z --plot {file}"))
            .is(0)
            .says("the week of 2027-03-01 at boatyard");
    }
    world.write("pictures.py", PICTURES);
    let read = world.judge("python3 pictures.py").is(0);
    let under = "the week of 2027-03-01, by the clock of Europe/Oslo; by the list of 6 policies";
    for words in ["Who could come in at boatyard", under, "oskar", "Tue", "18"] {
        assert!(read.out.lines().any(|line| line == words), "{words}: {}", read.out);
    }
    // Nothing that is there is lost, and no name is guessed at.
    let before = std::fs::read(world.path("week.svg")).unwrap();
    draw("--all-users --plot week.svg").is(3).says("is there already");
    assert_eq!(std::fs::read(world.path("week.svg")).unwrap(), before);
    draw("--all-users --plot week.pdf").is(2).says(".svg or .png");
    draw("--all-users --plot nowhere/week.svg").is(1).says("cannot be written");
    draw("oskar --plot other.svg").is(2);
    world.run("policy rehearse --all-users --plot week2.png").is(3);
    assert!(!world.path("week2.png").exists());
}
