//! The guide and the questions of single commands, at a pseudo-terminal.

use crate::common::World;
use crate::common::machine::{Machine, System};
use crate::common::terminal::Terminal;

fn guide(world: &World, words: &[&str]) -> Terminal {
    let mut all = vec!["guide"];
    all.extend(words);
    Terminal::start(&world.command(&all))
}

#[test]
fn the_guide_leads_to_a_proved_tunnel_and_can_be_left_and_resumed() {
    let mut world = World::empty();
    world.start_lab("--namespaces");
    let mut terminal = guide(&world, &[]);
    terminal.sees("a name for your estate [home]:");
    terminal.types("skerry");
    terminal.sees("$ yestrel estate create skerry");
    let question = terminal.sees("where is the gateway to run [lab]:");
    assert!(
        question.contains("machine") && question.contains("to practise on"),
        "each answer says what it leads to: {question}"
    );
    terminal.types("moon");
    terminal.sees("is none of these");
    terminal.types("");
    terminal.sees("a name for the site [harbour]:");
    terminal.types("");
    // Left in the middle of a question.
    terminal.sees("the network of the site [10.44.0.0/22]:");
    drop(terminal);
    world.run("estate show").is(0);

    let script = world.path("set-up.sh");
    let mut terminal = guide(&world, &["--script", script.to_str().unwrap()]);
    terminal.sees("Going on where it was left");
    terminal.sees("$ yestrel estate create skerry");
    // What was answered is not asked again.
    let before = terminal.sees("the network of the site [10.44.0.0/22]:");
    assert!(!before.contains("a name for the site") && !before.contains("where is the gateway"), "{before}");
    terminal.types("10.44.0.1/22");
    // A wrong answer fails at its command, and can be given again.
    terminal.sees("error: ");
    terminal.sees("what now [other]:");
    terminal.types("");
    terminal.sees("a name for the site [harbour]:");
    terminal.types("");
    terminal.sees("the network of the site [10.44.0.0/22]:");
    terminal.types("");
    terminal.sees("what kind of machine is it [cloud]:");
    for question in [
        "what name or address do devices dial [gangway.skerry.example]:",
        "when may its program be upgraded without you [never]:",
        "which port; free takes one that nothing uses [free]:",
        "who is let in [everyone]:",
        "what may be reached through the tunnel [site]:",
        "who is to come in [mara]:",
        "with which device [laptop]:",
        "for how long [1y]:",
        "the file to write [mara-laptop.yestrel]:",
        "what is to be reached [10.44.0.20:80]:",
    ] {
        terminal.types("");
        terminal.sees(question);
    }
    terminal.types("");
    terminal.sees("It works: the gateway sees mara/laptop");
    terminal.sees("what is to be added [done]:");
    terminal.types("");
    let (code, screen) = terminal.ends();
    assert_eq!(code, 0, "{screen}");
    world.run("session list").is(0).says("mara/laptop");
    // The commands are a script that does the same.
    let text = std::fs::read_to_string(&script).unwrap();
    for line in ["yestrel estate create skerry", "yestrel rollout --yes", "tunnel prove --reach 10.44.0.20:80"] {
        assert!(text.contains(line), "{text}");
    }
    assert!(!world.path("skerry.guide").exists(), "nothing is kept of a guide that has come to its end");
    assert!(!text.contains("error"));
}

#[test]
fn the_guide_is_left_and_goes_on_at_every_question_and_explains_each() {
    let mut world = World::empty();
    world.start_lab("--processes");
    let script = world.path("set-up.sh");
    let questions = [
        ("a name for your estate", "skerry"),
        ("where is the gateway to run", ""),
        ("a name for the site", ""),
        ("the network of the site", ""),
        ("what kind of machine is it", ""),
        ("what name or address do devices dial", ""),
        ("upgraded without you", ""),
        ("which port", ""),
        ("who is let in", "hours"),
        ("at which hours", "daily 00:00-24:00"),
        ("what may be reached through the tunnel", ""),
        ("who is to come in", ""),
        ("with which device", ""),
        ("for how long", ""),
        ("the file to write", ""),
        ("what is to be reached", ""),
        ("what is to be added", "device"),
        ("with which device", "phone"),
        ("for how long", ""),
        ("the file to write", ""),
        ("what is to be added", "person"),
        ("who is to come in", "tomas"),
        ("with which device", "tablet"),
        ("for how long", "never"),
        ("the file to write", ""),
        ("what is to be added", "site"),
        ("where is the gateway to run", ""),
        ("a name for the site", ""),
        ("the network of the site", ""),
        ("what kind of machine is it", "storage"),
        ("what name or address do devices dial", "boatyard.skerry.example"),
        ("upgraded without you", ""),
        ("which port", ""),
        ("what may be reached through the tunnel", "everything"),
        ("what is to be added", "done"),
    ];
    for (at, (question, answer)) in questions.iter().enumerate() {
        // It is left at each question, and comes to it again by itself.
        let mut terminal = guide(&world, &["--script", script.to_str().unwrap()]);
        terminal.sees(question);
        drop(terminal);
        let mut terminal = guide(&world, &["--script", script.to_str().unwrap()]);
        terminal.sees(question);
        terminal.types("?");
        terminal.sees(question);
        assert!(!terminal.all().contains("nothing more to say"), "{question} explains itself");
        terminal.types(answer);
        match questions.get(at + 1) {
            Some((next, _)) => drop(terminal.sees(next)),
            None => assert_eq!(terminal.ends().0, 0),
        }
    }
    let sites = world.run("site list --format json").is(0).json();
    assert_eq!(sites.as_array().unwrap().len(), 2, "{sites}");
    world.run("gateway list").is(0).says("boatyard").says("up to date");
    world.run("listener show boatyard/quill").is(0).says("everything");
    world.run("credential list").is(0).says("mara/phone").says("tomas/tablet");
    assert!(world.path("tomas-tablet.yestrel").exists());
    // The script is whole: in another place it makes the same.
    let text = std::fs::read_to_string(&script).unwrap();
    for line in [
        "export YESTREL_ESTATE=",
        "yestrel estate create skerry",
        "yestrel user add tomas",
        "yestrel site add boatyard",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    let again = text.replace(&world.path("skerry").display().to_string(), &world.path("again").display().to_string());
    let only: Vec<_> = again
        .lines()
        .filter(|line| {
            ["#!", "export", "yestrel estate", "yestrel site", "yestrel user", "yestrel device"]
                .iter()
                .any(|begin| line.starts_with(begin))
        })
        .collect();
    world.write("again.sh", &only.join("\n"));
    world.judge(&format!("ln -sf {} ./yestrel; PATH=$PWD:$PATH sh -e again.sh", env!("CARGO_BIN_EXE_yestrel"))).is(0);
    world.run("user list --estate again").is(0).says("mara").says("tomas");
    // An estate that is there: what it has is shown, and only what is to be added is asked.
    let mut terminal = guide(&world, &[]);
    terminal.sees("There is an estate already");
    let shown = terminal.sees("what is to be added [done]:");
    for part in ["boatyard, harbour", "mara, tomas", "boatyard/quill"] {
        assert!(shown.contains(part), "{part}\n{shown}");
    }
    terminal.types("device");
    terminal.sees("who is to come in");
    terminal.types("mara");
    terminal.sees("with which device");
    // An answer is used or refused, never dropped.
    terminal.types("phone");
    terminal.sees("mara/phone has a credential already, and keeps it");
    terminal.sees("what now [other]:");
    drop(terminal);
}

// Long: a machine boots, and a program of 50 MB is copied.
#[test]
fn the_guide_leads_to_a_machine_over_ssh_and_goes_on_after_a_wrong_address() {
    let machine = Machine::boot(System::Systemd);
    let world = World::empty();
    let mut terminal = world.terminal(&machine, &["guide"]);
    terminal.sees("a name for your estate");
    terminal.types("");
    terminal.sees("where is the gateway to run [machine]:");
    terminal.types("");
    terminal.sees("how is it reached:");
    terminal.types("ssh://root@203.0.113.10:2");
    terminal.sees("which key [none]:");
    let key = machine.path("key");
    terminal.types(key.to_str().unwrap());
    for question in ["a name for the site [home]:", "the network of the site [none]:"] {
        terminal.sees(question);
        terminal.types(if question.contains("network") { "10.44.0.0/22" } else { "" });
    }
    terminal.sees("what kind of machine is it [computer]:");
    terminal.types("");
    terminal.sees("refused");
    // How it is reached is asked again.
    terminal.sees("how is it reached:");
    terminal.types("ssh://root@203.0.113.10");
    terminal.sees("which key [none]:");
    terminal.types(key.to_str().unwrap());
    terminal.sees("what now [other]:");
    terminal.types("again");
    assert!(terminal.sees("Is it the same?").contains(&machine.fingerprint("ed25519")));
    terminal.types("y");
    for (question, answer) in [
        ("do devices dial [203.0.113.10]:", ""),
        ("upgraded without you [never]:", "daily 03:00-05:00"),
        ("nothing uses [free]:", "24017"),
        ("who is let in [everyone]:", ""),
        ("through the tunnel [site]:", "ranges"),
        ("separated by commas:", "10.44.0.20/32"),
        ("who is to come in:", "mara"),
        ("with which device [laptop]:", ""),
        ("for how long [1y]:", "90d"),
        ("the file to write [mara-laptop.yestrel]:", ""),
        ("which machine is the device [here]:", "proxy"),
        ("what is to be reached [none]:", "10.44.0.20:22"),
    ] {
        terminal.sees(question);
        terminal.types(answer);
    }
    terminal.sees("It works: the gateway sees mara/laptop");
    terminal.sees("what is to be added [done]:");
    terminal.types("done");
    let (code, screen) = terminal.ends();
    assert_eq!(code, 0, "{screen}");
    world.at(&machine, "gateway show gateway").is(0).says("daily 03:00-05:00").says("up to date");
    world.at(&machine, "tunnel stop gateway").is(0);
}

#[test]
fn a_command_that_misses_something_asks_for_it_and_says_what_it_was() {
    let world = World::estate();
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("user add mara").is(0);
    // Without a terminal it fails at once, and names what is missing.
    world.run("host add").is(2).says("<NAME>").says("is missing");
    world.run("guide").is(2).says("nobody sits at this terminal");
    let mut terminal = Terminal::start(&world.command(&["host", "add"]));
    terminal.sees("the name of the host:");
    terminal.types("harbour");
    // The one site that there is, is offered.
    assert!(terminal.sees("[harbour]:").contains("The site where it stands"));
    terminal.types("");
    let question = terminal.sees("[computer]:");
    assert!(question.contains("cloud     A rented one"), "{question}");
    terminal.types("boat");
    terminal.sees("invalid value");
    terminal.sees("[computer]:");
    terminal.types("cloud");
    terminal.sees("How it is managed");
    terminal.types("lab:/nowhere");
    terminal.sees("$ yestrel host add harbour --site harbour --kind cloud --via lab:/nowhere");
    let (code, screen) = terminal.ends();
    assert_eq!(code, 1, "{screen}");
    // What is not needed and better not forgotten is asked along with the rest.
    let mut terminal = Terminal::start(&world.command(&["gateway", "create", "harbour", "--host", "harbour"]));
    terminal.sees("The name or address that devices dial");
    terminal.types("gangway.skerry.example");
    terminal.sees("Hours in which its agent may be upgraded without a person");
    terminal.sees("[never]:");
    terminal.types("");
    terminal.sees("--dialled gangway.skerry.example --updates never");
    assert_eq!(terminal.ends().0, 2, "there is no such host");
    let mut terminal = Terminal::start(&world.command(&["device", "add"]));
    terminal.sees("USER/DEVICE:");
    terminal.types("mara/laptop");
    assert_eq!(terminal.ends().0, 0);
    let mut terminal = Terminal::start(&world.command(&["user", "show"]));
    terminal.sees("[mara]:");
    terminal.types("");
    let (code, screen) = terminal.ends();
    assert!(code == 0 && screen.contains("mara"), "{screen}");
}
