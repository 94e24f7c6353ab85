//! Second factors of key pairs: asked for by a policy after the handshake, and nothing passes before.

use crate::accounts::code;
use crate::common::{Came, World, wait};

/// The harbour, with a policy that asks whoever comes in by the tunnel quill; mara's laptop has a second factor, and its code to be scanned.
fn asked(more: &[&str]) -> (World, String) {
    let world = World::harbour("--processes");
    world.run("user add mara").is(0);
    world.run("device add mara/laptop").is(0);
    world
        .run("credential issue mara/laptop --second-factor")
        .is(0)
        .says("credential handover mara/laptop --second-factor");
    let codes = ["policy", "add", "codes", "admit", "--first", "--when", "tunnel=quill", "--second-factor"];
    world.run_words(&[&codes, more].concat()).is(0);
    world.run("rollout --yes").is(0);
    world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
    let told = world.run("credential handover mara/laptop --second-factor --yes --format json").is(0).json();
    let uri = told["second_factor"].as_str().unwrap_or_else(|| panic!("{told}")).to_owned();
    assert!(uri.starts_with("otpauth://totp/skerry:mara/laptop?"), "{uri}");
    (world, uri)
}

fn connect(world: &World) -> Came {
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0")
}

fn answer(world: &World, code: &str) -> Came {
    world.on_laptop(&format!("yestrel tunnel answer harbour --code {code}"))
}

fn asks(world: &World) -> Option<String> {
    let tunnels = world.on_laptop("yestrel tunnel list");
    tunnels.err.lines().find(|line| line.contains("harbour asks for")).map(str::to_owned)
}

/// Whether the ticket server at the site answers through the tunnel.
fn passes(world: &World) -> bool {
    world.run("lab fetch mara-laptop http://10.44.0.20/").code == 0
}

// Long: an echo through a tunnel that lets nothing through is waited for, several times; codes change every half minute.
#[test]
fn nothing_passes_before_the_right_code_and_each_is_good_once() {
    let (world, uri) = asked(&[]);
    let secret = uri.split("secret=").nth(1).unwrap().split('&').next().unwrap();
    let kept = std::fs::read(world.path("skerry")).unwrap();
    let order = world.read("lab/hosts/harbour/var/yestrel/order.json");
    assert!(!kept.windows(secret.len()).any(|part| part == secret.as_bytes()) && !order.contains(secret));
    world.run("credential handover mara/laptop --second-factor --yes").is(3).says("told already");
    world.run("credential show mara/laptop").is(0).says("second factor  yes");
    connect(&world).is(0).says("nothing passes yet").says("yestrel tunnel answer harbour");
    assert!(asks(&world).is_some_and(|asks| asks.contains("six digits")));
    assert!(!passes(&world), "before an answer");
    // Both sides can see why.
    world.on_laptop("yestrel tunnel prove").is(3).says("nothing passes through").says("yestrel tunnel answer harbour");
    world.run("session list").is(0).says("before a second factor is answered: mara/laptop at harbour");
    answer(&world, "000000x").is(3).says("wrong code; 2 more tries");
    assert!(!passes(&world), "after a wrong answer");
    let right = code(&world, &uri, 0);
    answer(&world, &right).is(0).says("the tunnel harbour is open");
    assert_eq!(asks(&world), None);
    assert!(passes(&world), "after the right one");
    world.on_laptop("yestrel tunnel prove").is(0);
    world.run("session list").is(0).says("mara/laptop").lacks("second factor");
    answer(&world, &right).is(3).says("asks for nothing");
    // Another session asks anew, and the same code is not good again; after three wrong ones it is over, and the device hears why.
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    connect(&world).is(0).says("nothing passes yet");
    answer(&world, &right).is(3).says("it was used already; 2 more tries");
    answer(&world, "1").is(3).says("1 more try");
    answer(&world, "2").is(1).says("wrong code, 3 times");
    wait(10, "the session is over", || world.run("session list").is(0).out.contains("nobody").then_some(()));
    let refused = world.run("session list --past --refused").is(0);
    assert!(refused.out.contains("mara/laptop") && refused.out.contains("policy"), "{refused:?}");
    // Wrong answers count on in other sessions: the fifth in a row, and not even the right one is taken.
    connect(&world).is(0);
    answer(&world, "3").is(3).says("2 more tries");
    let locked = answer(&world, "4");
    assert!(locked.code == 1 && locked.err.contains("too many wrong answers"), "{locked:?}");
    connect(&world).is(1).says("nobody is asked before");
}

#[test]
fn a_second_factor_is_asked_for_again_and_whoever_has_none_stays_out() {
    let (world, uri) = asked(&["--again-after", "8h"]);
    world.admit("tomas", "tomas/tablet");
    world.run("rollout --yes").is(0);
    world.run("credential handover tomas/tablet --to tomas.yestrel --yes").is(0);
    let out = world.on_laptop("yestrel connect tomas.yestrel --background --proxy 127.0.0.1:0");
    out.is(1).says("asks for a second factor, and tomas/tablet has none");
    world.run("credential handover tomas/tablet --second-factor --yes").is(3).says("has no second factor");
    // A rehearsal knows it too, and so does a preview of whoever is in.
    world
        .run("policy rehearse tomas/tablet")
        .is(0)
        .says("tomas/tablet/1 has no second factor, and the policy codes asks for one");
    world.run("policy rehearse mara/laptop").is(0).says("admitted: mara/laptop").says("asks for a second factor");
    let found = world.run("policy check").is(0);
    assert!(
        found.out.contains("asks for a second factor, and tomas/tablet, whom it may be about, has none"),
        "{found:?}"
    );
    world.run("policy change codes --off --yes").is(0);
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect tomas.yestrel --background --proxy 127.0.0.1:0 --name tomas").is(0);
    world.run("session list --past").is(0);
    world.run("policy change codes --on").is(0);
    let replay = world.run("policy rehearse --since 1d").is(0);
    assert!(replay.out.contains("tomas/tablet has no second factor"), "{replay:?}");
    let week = world.run("policy rehearse --all-users --format json").is(0);
    let open = |user: &str| {
        week.json().as_array().unwrap().iter().any(|row| row["users"].to_string().contains(user) && row["mon"] != "")
    };
    assert!(open("mara") && !open("tomas"), "{week:?}");
    let preview = world.run("rollout --preview").is(0);
    assert!(
        preview.out.lines().any(|line| line.contains("end ") && line.contains("tomas/tablet has none")),
        "{preview:?}"
    );
    world.run("rollout --yes").is(0);
    wait(20, "tomas is thrown out, and knows why", || {
        world.on_laptop("yestrel tunnel list").err.contains("tomas/tablet has none").then_some(())
    });
    connect(&world).is(0);
    answer(&world, &code(&world, &uri, 0)).is(0);
    assert!(passes(&world));
    // Not again so soon, in another session either.
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    let again = connect(&world).is(0);
    assert!(!again.err.contains("nothing passes yet") && passes(&world), "{again:?}");
    // Nine hours later by the gateway's clock: the session goes on, and nothing passes until it is answered.
    let later = (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(9)).strftime("%Y-%m-%d %H:%M").to_string();
    world.run_words(&["lab", "clock", "harbour", "--at", &later, "--time-zone", "UTC"]).is(0);
    wait(20, "it is asked for again", || asks(&world));
    assert!(!passes(&world), "before it is answered again");
    let shift = jiff::Timestamp::now();
    let shown: jiff::Timestamp = format!("{}:00Z", later.replace(' ', "T")).parse().unwrap();
    // The clock goes on from the minute that was set.
    let steps = (shown.duration_since(shift).as_secs() + 15).div_euclid(30);
    let right = (0..=1).any(|more| answer(&world, &code(&world, &uri, steps + more)).code == 0);
    assert!(right && asks(&world).is_none());
    assert!(passes(&world), "after it is");
    world.run("lab clock harbour --right").is(0);
}

#[test]
fn a_second_factor_is_not_asked_for_where_nobody_can_be_asked() {
    let world = World::estate();
    let before = world.everything();
    world.run("policy add codes admit --second-factor").is(2).says("ikev2").says("--when tunnel=quill");
    world
        .run("policy add codes admit --second-factor --when tunnel=quill,ikev2")
        .is(2)
        .says("only the tunnel quill asks");
    world.run("policy add codes admit --again-after 8h").is(2).says("--second-factor");
    world.run("policy add codes admit --second-factor --again-after 5s --when tunnel=quill").is(2).says("1m or more");
    world.run("policy add codes refuse --second-factor --when tunnel=quill").is(2).says("refuses, and has limits");
    assert_eq!(world.everything(), before);
    world.run("policy add codes admit --second-factor --again-after 8h --when tunnel=quill").is(0);
    world.run("policy show codes").is(0).says("asks for a second factor, again after 8h");
    // In a file as well; and one that cannot be is refused whole.
    let file = world.run("policy export").is(0).out;
    assert!(file.contains("second-factor = true") && file.contains("again-after = \"8h\""), "{file}");
    world.write("same.toml", &file);
    world.run("policy import same.toml --preview").is(0).says("nothing");
    world.write("other.toml", &file.replace("\"quill\"", "\"ikev2\""));
    world.run("policy import other.toml").is(2).says("policy codes").says("only the tunnel quill asks");
    world.run("tunnel answer harbour --code 1").is(1).says("no tunnel is up");
    world.run("user add mara").is(0);
    world.run("device add mara/phone").is(0);
    world.run("authority create").is(0);
    world.run("credential issue mara/phone --kind certificate --second-factor").is(2).says("--kind key-pair");
}

#[test]
fn whoever_sits_at_the_terminal_of_a_tunnel_is_asked_there() {
    use crate::common::terminal::Terminal;
    let (world, uri) = asked(&[]);
    let words = ["lab", "enter", "mara-laptop", "--", "yestrel", "connect", "mara.yestrel", "--proxy", "127.0.0.1:0"];
    // In the foreground the tunnel goes on while it waits for the answer.
    let mut terminal = Terminal::start(&world.command(&words));
    terminal.sees("the code of your authenticator, six digits: ");
    terminal.types("no idea");
    terminal.sees("2 more tries: ");
    terminal.types(&code(&world, &uri, 0));
    terminal.sees("that was right: the tunnel is open");
    wait(10, "packets pass", || passes(&world).then_some(()));
    world.on_laptop("yestrel tunnel stop harbour").is(0);
    assert_eq!(terminal.ends().0, 0);
    // In the background whoever starts it answers before the command returns.
    let mut terminal = Terminal::start(&world.command(&[&words[..], &["--background"]].concat()));
    terminal.sees("the code of your authenticator, six digits: ");
    terminal.types(&code(&world, &uri, 1));
    terminal.sees("that was right: the tunnel is open");
    assert_eq!(terminal.ends().0, 0);
    assert!(passes(&world));
    world.on_laptop("yestrel tunnel stop harbour").is(0);
}
