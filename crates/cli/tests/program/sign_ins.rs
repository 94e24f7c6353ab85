//! What is known of a sign-in beside who it is: which registry checks its name, whether it is the device's first, whether a second factor was
//! given.

use crate::accounts::code;
use crate::common::{World, wait};
use crate::phones::{self, account_play, played};

#[test]
fn registries_are_asked_in_an_order_in_which_no_two_claim_the_same() {
    let mut world = World::bare();
    world.start_lab("--processes");
    for site in ["harbour", "boatyard"] {
        world.run(&format!("site add {site} --time-zone Europe/Oslo")).is(0);
        world.run(&format!("host add {site} --site {site} --kind computer --via lab")).is(0);
        world.run(&format!("gateway create {site} --host {site} --dialled {site}.skerry.example")).is(0);
        world.run(&format!("listener open {site} --tunnel quill")).is(0);
    }
    world.run("registry list").is(0).says("what no other does").says("{name}");
    let crew = "registry add crew-directory --kind directory --claim realm=crew.skerry.example";
    world.run(crew).is(0).says("gateways of this version cannot ask it");
    world.run("registry show crew-directory").is(0).says("realm crew.skerry.example").says("is refused");
    let yard = ["registry", "add", "yard", "--kind", "radius", "--claim", "site=boatyard"];
    let hours = ["--claim", "hours=mon-fri 06:00-18:00"];
    world
        .run_words(&[&yard[..], &hours].concat())
        .is(3)
        .says("yard and crew-directory would claim the same sign-in")
        .says("at boatyard by quill")
        .says("realm crew.skerry.example")
        .says("yestrel registry change crew-directory --rank 2");
    world.run("registry change crew-directory --rank 2").is(0);
    world.run_words(&[&yard[..], &hours, &["--rank", "2"]].concat()).is(3).says("would claim the same");
    world.run_words(&[&yard[..], &hours, &["--rank", "1", "--method", "pap"]].concat()).is(0);
    let names = |world: &World| {
        let list = world.run("registry list --format json").is(0).json();
        list.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(names(&world), ["yard", "crew-directory", "estate"]);
    world.run("registry change crew-directory --rank 0").is(0);
    assert_eq!(names(&world), ["crew-directory", "yard", "estate"]);
    world.run("registry change yard --unranked").is(3).says("would claim the same");
    // What cannot be leaves everything as it was.
    for (line, code, part) in [
        ("registry add crew-directory --kind radius --claim realm=a.example --rank 5", 3, "already"),
        ("registry add a --kind estate --claim realm=a.example", 2, "estate"),
        ("registry add a --kind radius", 2, "claims nothing"),
        ("registry add a --kind radius --claim group=crew", 2, "cannot claim by group"),
        ("registry add a --kind radius --claim realm=crew", 2, "with a dot"),
        ("registry add a --kind radius --claim gateway=pier", 2, "no gateway"),
        ("registry add a --kind radius --claim site=pier", 2, "no site"),
        ("registry add a --kind radius --claim realm=a.example --claim realm=b.example", 2, "asked about twice"),
        ("registry add a --kind directory --claim realm=a.example --method chap", 2, "cannot check chap"),
        ("registry add a --kind directory --claim realm=a.example --called {realm}", 2, "called the same"),
        ("registry add a --kind directory --claim realm=a.example --called {nobody}", 2, "name, user or realm"),
        ("registry add Crew --kind directory --claim realm=a.example", 2, "only a-z"),
        ("registry change crew-directory --claim realm=", 2, "claims nothing"),
        ("registry change estate --method chap", 2, "cannot check chap"),
        ("registry change estate", 2, "nothing was said"),
        ("registry change nobody --rank 1", 2, "no registry"),
        ("registry remove estate", 3, "stays a registry"),
        ("registry remove nobody", 2, "no registry"),
    ] {
        let before = world.everything();
        let came = world.run(line);
        assert_eq!(came.code, code, "{line}: {}{}", came.out, came.err);
        assert!(format!("{}{}", came.out, came.err).contains(part), "{line}: {}{}", came.out, came.err);
        assert_eq!(world.everything(), before, "{line}");
    }
    // Claims follow what they name, and what they name stays.
    world.run("site rename boatyard yard-of-boats").is(0);
    world.run("registry show yard").is(0).says("site yard-of-boats");
    world.run("policy add yard-first admit --when registry=yard").is(0);
    world.run("registry remove yard").is(3).says("the policy yard-first names it");
    world.run("policy check").says("can never match at a gateway: no gateway of this version can ask yard");
    world.run("policy remove yard-first --yes").is(0);
    world.run("registry remove yard").is(0);
    world.run("estate undo --yes").is(0);
    world.run("registry show yard").is(0).says("site yard-of-boats").says("pap");
    world.run("estate history --last 4").is(0).says("registry remove");
    // A realm that no registry claims is no name of anybody's.
    world.run("policy add by-realm admit --when realm=skerry.example").is(0);
    world.run("policy check").says("names the realm skerry.example, which no registry claims");
    let own = ["registry", "change", "estate", "--claim", "realm=none,skerry.example", "--called", "{user}"];
    world.run_words(&own).is(3).says("estate and yard would claim the same");
    world.run_words(&[&own[..], &["--rank", "9"]].concat()).is(0);
    world.run("policy check").lacks("which no registry claims");
    // Limits above what a host carries.
    let many = "policy add many admit --when gateway=boatyard --user-sessions 5 --device-sessions 2";
    world.run(many).is(0);
    let above = "lets a user have 5 sessions at once, and the host boatyard carries 3 users at once";
    world.run("policy check").lacks("users at once");
    world.run("host change harbour --users-at-once 2").is(0);
    world.run("policy check").lacks("users at once");
    world.run("host change boatyard --users-at-once 3").is(0);
    world.run("host show boatyard").is(0).says("users at once").says("3");
    world.run("policy check").says(above);
    world.run("policy change many --user-sessions 3").is(0);
    world.run("policy check").lacks(above);
    world.run("host change boatyard --users-at-once 1").is(0);
    world.run("policy check").says("lets a user have 3 sessions at once");
    world.run("host change boatyard --users-at-once any").is(0);
    world.run("policy check").lacks("users at once");
    world.run("host change boatyard --users-at-once 0").is(2).says("from 1");
}

/// A gateway for built-in clients, and an account.
#[test]
fn a_name_is_checked_by_the_registry_that_claims_it_and_its_realm_is_known_to_policies() {
    let mut world = World::estate();
    world.start_lab("--namespaces");
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("authority create").is(0);
    world.run("registry change estate --method password --method ms-chap-v2").is(0);
    world.run("user add mara").is(0);
    world.run("device add mara/phone").is(0);
    let password = "three quay lanterns 61";
    let file = world.secret("password", password);
    world.run(&format!("credential issue mara/phone --kind password --password-file {file}")).is(0);
    world.run("listener open harbour --tunnel ikev2 --accounts --resolvers 10.44.0.20").is(0);
    world.run("authority export root --to root.pem").is(0);
    world.run("rollout --yes").is(0);
    let steps = serde_json::json!([["in"], ["out"]]);
    let comes = |name: &str, password: &str| {
        let said = played(&world, &account_play(&world, name, password, steps.clone()));
        said[0]["refused"].as_str().map_or("in".to_owned(), str::to_owned)
    };
    let newest = || {
        let past = world.run("session list --past --format json").is(0).json();
        let sessions = past.as_array().unwrap().clone();
        let newest = sessions.into_iter().max_by_key(|one| one["opened"].as_str().unwrap_or_default().to_owned());
        newest.unwrap()["policy"].as_str().unwrap_or_default().to_owned()
    };
    assert_eq!(comes("mara.phone", password), "in");
    assert_eq!(comes("mara.phone@skerry.example", password), "EAP failure", "as yet no account is called so");
    world.run("registry try mara.phone@skerry.example --password-file password").is(3).says("no account");
    // The estate claims its own realm and names without one, and calls people by what stands before it.
    world
        .run_words(&["registry", "change", "estate", "--claim", "realm=none,skerry.example", "--called", "{user}"])
        .is(0);
    world.run("policy add by-realm admit --when realm=skerry.example --first").is(0);
    world.run("rollout --preview").is(0).says("estate claims realm none or skerry.example, calling them {user}");
    world.run("rollout --yes").is(0);
    world.run("registry try mara.phone@skerry.example --password-file password").is(0);
    assert_eq!(comes("mara.phone@Skerry.Example", password), "in");
    assert_eq!(newest(), "by-realm");
    assert_eq!(comes("mara.phone", password), "in");
    assert_eq!(newest(), "everyone");
    // The record knows the realm, and so does who plays it against another list.
    let told = world.run("session export").is(0).out;
    let told: Vec<serde_json::Value> = told.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let by = |policy: &str| told.iter().find(|line| line["policy"] == policy && line["what"] == "opened").unwrap();
    assert_eq!((&by("by-realm")["realm"], &by("by-realm")["asked"]), (&"skerry.example".into(), &1.into()));
    assert!(told.iter().any(|line| line["policy"] == "everyone" && line["asked"] == 2), "{told:?}");
    world.run("policy change everyone --off").is(0);
    world.run("policy rehearse --since 1d").is(0).says("of 3 sign-ins since then, 2 would be refused");
    world.run("policy change everyone --on").is(0);
    for nobodys in ["mara.phone@elsewhere.example", "mara.phone@x@skerry.example", "mara.phone@", "@skerry.example"] {
        assert_eq!(comes(nobodys, password), "EAP failure", "{nobodys}");
    }
    // A rehearsal says the same.
    let rehearse = |more: &[&str]| world.run_words(&[&["policy", "rehearse", "mara/phone"], more].concat()).is(0);
    // Of all that she has what could come in so.
    world.run("device add mara/laptop").is(0);
    let of_mara = ["policy", "rehearse", "mara", "--realm", "skerry.example"];
    world.run_words(&of_mara).is(0).says("admitted: mara/phone at harbour by ikev2, by the policy by-realm");
    rehearse(&["--realm", "skerry.example"]).says("this estate").says("admitted").says("by-realm");
    rehearse(&[]).says("by the policy everyone").says("realm: the name has none; skerry.example is wanted");
    let other = rehearse(&["--realm", "elsewhere.example"]);
    other
        .says("claims names without a realm, and the realm skerry.example; mara/phone signs in with the realm elsewhere.example")
        .says("refused: no registry claims");
    let refused = world.run("session list --past --refused --format json").is(0);
    assert!(refused.out.contains("unclaimed: no registry claims such a name here and now"), "{}", refused.out);
    // Whether a device is new is known by whatever name its account was called.
    world.run("device add mara/tablet").is(0);
    world.run(&format!("credential issue mara/tablet --kind password --password-file {file}")).is(0);
    world.run("policy add not-yet refuse --when first-sign-in=yes --first").is(0);
    world.run("rollout --yes").is(0);
    for name in ["mara.tablet", "mara.tablet@skerry.example"] {
        assert_eq!(comes(name, password), "EAP failure", "{name}");
        assert_eq!(comes(&name.replace("tablet", "phone"), password), "in");
    }
    world.run("policy remove not-yet").is(0);
    // What a registry before it claims this gateway refuses, though the estate claims it as well.
    let crew = "mara.phone@crew.skerry.example";
    world.run("registry change estate --claim realm=none,skerry.example,crew.skerry.example --rank 2").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(comes(crew, password), "in");
    world.run("registry add crew-directory --kind directory --claim realm=crew.skerry.example --rank 1").is(0);
    assert_eq!(comes(crew, password), "in", "not before it is rolled out");
    world.run("rollout --yes").is(0);
    assert_eq!(comes(crew, password), "EAP failure");
    let claimed = rehearse(&["--realm", "crew.skerry.example"]);
    claimed
        .says("crew-directory  yes  claims realm crew.skerry.example")
        .says("refused: the registry crew-directory claims it, and no gateway of this version can ask that");
    world
        .run("registry try mara.phone@crew.skerry.example --password-file password")
        .is(3)
        .says("crew-directory claims");
    assert_eq!(comes("mara.phone", password), "in");
    // Wrong passwords count for the account, by whatever name it was called.
    for name in ["mara.phone", "mara.phone@skerry.example", "mara.phone@SKERRY.example", "mara.phone", "X\\mara.phone"]
    {
        assert_eq!(comes(name, "wrong"), "EAP failure");
    }
    for name in ["mara.phone", "mara.phone@skerry.example"] {
        assert_eq!(comes(name, password), "EAP failure", "locked out, as {name}");
    }
    wait(10, "the lock-out is told", || {
        world.run("session list --past --refused").is(0).out.contains("locked-out").then_some(())
    });
}

fn connect(world: &World) {
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
}

fn admitted_by(world: &World) -> String {
    let live = wait(10, "the session is seen", || {
        let live = world.run("session list --format json").is(0).json();
        live.as_array().filter(|all| !all.is_empty()).cloned()
    });
    live[0]["policy"].as_str().unwrap_or_default().to_owned()
}

fn stop(world: &World) {
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    wait(10, "nobody is in", || world.run("session list").is(0).out.contains("nobody").then_some(()));
}

#[test]
fn a_device_signs_in_for_the_first_time_once_also_over_a_restart() {
    let world = World::harbour("--processes");
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world.run("credential issue mara/laptop --second-factor").is(0);
    let codes = ["policy", "add", "codes", "admit", "--when", "tunnel=quill", "--when", "first-sign-in=yes"];
    world.run_words(&[&codes[..], &["--second-factor", "--first"]].concat()).is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let told = world.run("credential handover mara/laptop --second-factor --yes --format json").is(0).json();
    let uri = told["second_factor"].as_str().unwrap().to_owned();
    world.run("policy rehearse mara/laptop").is(0).says("by the policy codes");
    let seen = "lab/hosts/harbour/var/yestrel/seen.jsonl";
    // Who does not answer has not signed in.
    for _ in 0..2 {
        connect(&world);
        assert_eq!(admitted_by(&world), "codes");
        stop(&world);
    }
    connect(&world);
    world.on_laptop(&format!("yestrel tunnel answer harbour --code {}", code(&world, &uri, 0))).is(0);
    // The session stays a first one as long as it lasts.
    assert_eq!(admitted_by(&world), "codes");
    stop(&world);
    connect(&world);
    assert_eq!(admitted_by(&world), "everyone");
    // The order in force still says that it is new: the agent remembers, also when it begins anew.
    let remembers = |world: &World| world.read(seen).lines().last().is_some_and(|line| line.contains("mara/laptop"));
    assert!(remembers(&world), "{}", world.read(seen));
    world.run("gateway restart harbour --yes").is(0);
    wait(30, "it comes again, and not for the first time", || {
        let live = world.run("session list --format json").json();
        live.as_array()?.first()?["policy"].as_str().filter(|policy| *policy == "everyone").map(drop)
    });
    world.run("policy rehearse mara/laptop").is(0).says("by the policy everyone").says("first-sign-in: it is no");
    // The next order says so, and then the agent need not.
    world.run("rollout --preview").is(0).says("mara/laptop: signed in once, which policies ask about");
    world.run("rollout --yes").is(0);
    wait(10, "the agent forgets it", || (!remembers(&world)).then_some(()));
    stop(&world);
    connect(&world);
    assert_eq!(admitted_by(&world), "everyone");
    world.run("rollout --preview").is(0).says("nothing to do");
    // A new credential makes no new device of it.
    world.run("credential renew mara/laptop --yes").is(0);
    world.run("rollout --yes").is(0);
    std::fs::remove_file(world.path("mara.yestrel")).unwrap();
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    world.on_laptop("yestrel tunnel stop harbour");
    connect(&world);
    assert_eq!(admitted_by(&world), "everyone");
}

#[test]
fn whoever_has_answered_may_be_admitted_by_another_policy() {
    let world = World::harbour("--processes");
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world.run("credential issue mara/laptop --second-factor").is(0);
    world.run("policy add more admit --when second-factor=yes --first").is(0);
    world.run("policy check").says("no policy asks for a second factor, so nobody can have given one");
    let less = ["policy", "add", "less", "admit", "--when", "tunnel=quill", "--second-factor", "--again-after", "8h"];
    world.run_words(&[&less[..], &["--reach", "10.44.0.99/32", "--after", "more"]].concat()).is(0);
    world.run("policy check").lacks("no policy asks for a second factor");
    world
        .run("policy rehearse mara/laptop")
        .is(0)
        .says("by the policy less")
        .says("once a second factor is given: more decides");
    world.run("policy rehearse mara/laptop --second-factor").is(0).says("by the policy more").lacks("once a second");
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let told = world.run("credential handover mara/laptop --second-factor --yes --format json").is(0).json();
    let uri = told["second_factor"].as_str().unwrap().to_owned();
    let reaches = |world: &World| world.run("lab fetch mara-laptop http://10.44.0.20/").code == 0;
    connect(&world);
    assert_eq!(admitted_by(&world), "less");
    world.on_laptop(&format!("yestrel tunnel answer harbour --code {}", code(&world, &uri, 0))).is(0);
    wait(10, "another policy admits it", || (admitted_by(&world) == "more").then_some(()));
    wait(10, "with its own reach", || reaches(&world).then_some(()));
    // It counts for so long as the policy says that asked, in other sessions as well.
    stop(&world);
    connect(&world);
    assert_eq!(admitted_by(&world), "more");
    assert!(reaches(&world));
    // A preview plays whoever is in as they are, with what they have answered.
    world.run("policy change more --about wide").is(0);
    let refuse = ["policy", "add", "shut", "refuse", "--when", "second-factor=no", "--after", "less"];
    world.run_words(&refuse).is(0);
    let preview = world.run("rollout --preview").is(0);
    assert!(!preview.out.lines().any(|line| line.contains("end ")), "{preview:?}");
    world.run("rollout --yes").is(0);
    // Nine hours later the answer counts no more: it is asked again, and reaches what it did before.
    let later = (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(9)).strftime("%Y-%m-%d %H:%M").to_string();
    world.run_words(&["lab", "clock", "harbour", "--at", &later, "--time-zone", "UTC"]).is(0);
    wait(20, "it is asked for again", || {
        world.on_laptop("yestrel tunnel list").err.contains("harbour asks for").then_some(())
    });
    assert!(!reaches(&world));
    assert_eq!(admitted_by(&world), "less");
    wait(10, "the device knows it", || {
        let tunnels = world.on_laptop("yestrel tunnel list --format json").json();
        tunnels[0]["reach"].to_string().contains("10.44.0.99/32").then_some(())
    });
}

/// Whoever came in by `ikev2` is told when to sign in again, and gone when they did not; some have addresses of their own.
#[test]
fn by_ikev2_a_policy_wants_to_be_signed_in_again_and_gives_addresses_to_some_alone() {
    let world = phones::harbour(
        "--pool 10.187.45.0/24",
        &[("phone", "--kind certificate"), ("tablet", "--kind certificate"), ("watch", "--kind certificate")],
    );
    // What cannot be.
    for (policy, says) in [
        ("--again-after 8h", "--when tunnel=ikev2"),
        ("--pool 10.187.45.248/30", "--when tunnel=ikev2"),
        ("--when tunnel=quill --pool 10.187.45.248/30", "leases one at sign-in"),
        ("--when tunnel=ikev2 --again-after 30s", "too soon"),
        ("--when tunnel=ikev2 --pool 10.187.46.0/30", "no listener leases addresses"),
        ("--when tunnel=ikev2,quill --again-after 8h", "every two minutes"),
    ] {
        let came = world.run(&format!("policy add yard admit {policy}"));
        assert!(came.code != 0 && came.err.contains(says), "{policy}: {came:?}");
    }
    // Two addresses, for two devices of three.
    let yard = "--when tunnel=ikev2 --when device=mara/phone,mara/tablet --pool 10.187.45.252/30 --again-after 8h";
    world.run(&format!("policy add yard admit {yard} --first")).is(0);
    world.run("policy list --wide").is(0).says("signs in again after 8h").says("an address of 10.187.45.252/30");
    let exported = world.run("policy export").is(0).out;
    assert!(
        exported.contains("pool = \"10.187.45.252/30\"") && exported.contains("again-after = \"8h\""),
        "{exported}"
    );
    world.write("policies.toml", &exported);
    world.run("policy import policies.toml").is(0).says("as in the file");
    world.run("rollout --yes").is(0);
    let comes = |device: &str, steps: serde_json::Value| played(&world, &phones::play(&world, device, steps));
    let auth = |said: &[serde_json::Value]| said[0]["auth"].clone();
    let out = serde_json::json!([["in"], ["out"]]);
    let first = auth(&comes("phone", out.clone()));
    assert_eq!((first["lifetime"].as_u64(), first["inner"][0].as_str()), (Some(8 * 3600), Some("10.187.45.254")));
    assert_eq!(auth(&comes("tablet", out.clone()))["inner"][0], "10.187.45.253");
    // Whoever the policy is not about is told no time, and none of those addresses.
    let other = auth(&comes("watch", out.clone()));
    assert!(other["lifetime"].is_null() && other["inner"][0] == "10.187.45.251", "{other}");
    assert_eq!(auth(&comes("phone", out))["inner"][0], first["inner"][0], "the same again");
    // Whoever does not sign in again is gone after that time, and the record says why.
    let until = serde_json::json!([["in"], ["until", world.path("over").to_str().unwrap()], ["out"]]);
    let playing = phones::Playing::start(&world, "phone", &phones::play(&world, "phone", until));
    playing.is_at(1);
    let later = |hours: i64| {
        let at = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours);
        at.strftime("%Y-%m-%d %H:%M").to_string()
    };
    world.run_words(&["lab", "clock", "harbour", "--at", &later(7), "--time-zone", "UTC"]).is(0);
    assert!(world.run("session list").is(0).out.contains("mara/phone"));
    world.run_words(&["lab", "clock", "harbour", "--at", &later(9), "--time-zone", "UTC"]).is(0);
    wait(30, "it is gone", || world.run("session list").is(0).out.contains("nobody").then_some(()));
    world.run("session list --past --format json").is(0).says("limit: it did not sign in again within 8h");
    world.write("over", "");
    drop(playing);
    // The pool of a policy that no listener has any more is found, and who is admitted by it is refused in words.
    world.run("listener change harbour/ikev2 --pool 10.187.47.0/24 --yes").is(0);
    world.run("policy check").says("gives addresses of 10.187.45.252/30, and no listener leases any of it");
}
