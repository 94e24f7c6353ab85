//! What is made from the commands themselves: the reference, manual pages, completion.

use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::common::World;

#[test]
fn the_reference_in_docs_is_what_the_commands_say() {
    let world = World::empty();
    let made = world.run("manual").is(0).out;
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/commands.md");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &made).unwrap();
    }
    let kept = std::fs::read_to_string(path).unwrap_or_default();
    assert!(
        kept == made,
        "docs/commands.md is not what `yestrel manual` says; UPDATE_DOCS=1 cargo test -p yestrel manual"
    );
    assert!(made.lines().all(|line| line.chars().count() <= 140), "lines are laid out");
    // Every command has an example, and each example's own words are a command.
    let sections: Vec<_> = made.split("\n```text\n").skip(1).collect();
    for section in sections.iter().filter(|section| section.contains("Usage: yestrel")) {
        assert!(section.contains("Example"), "no example: {section}");
    }
}

#[test]
fn examples_of_help_are_commands_that_the_parser_takes() {
    let world = World::empty();
    let made = world.run("manual").is(0).out;
    let examples: Vec<_> = made
        .lines()
        .filter_map(|line| line.strip_prefix("  yestrel "))
        .filter(|line| !line.contains(['>', '|', '&']) && !line.contains("..."))
        .map(|line| line.split("   ").next().unwrap().trim())
        .collect();
    assert!(examples.len() > 50, "{}", examples.len());
    for example in examples {
        // With --help behind it nothing is carried out, and what stands before must be known.
        let words: Vec<_> = example.split_whitespace().take_while(|word| !word.starts_with('-')).take(2).collect();
        let came = world.run(&format!("{} --help", words.join(" ")));
        assert_eq!(came.code, 0, "{example}: {came:?}");
        for option in example.split_whitespace().filter(|word| word.starts_with("--") && word.len() > 2) {
            assert!(came.out.contains(option.split('=').next().unwrap()), "{example}: {option}");
        }
    }
}

#[test]
fn manual_pages_are_there_for_every_command_and_are_well_formed() {
    let world = World::empty();
    world.run("manual --to pages").is(0).says("manual pages");
    let page = world.read("pages/yestrel-credential-issue.1");
    assert!(page.starts_with(".ie") || page.contains(".TH YESTREL-CREDENTIAL-ISSUE"), "{page}");
    for name in ["yestrel.1", "yestrel-rollout.1", "yestrel-host-add.1"] {
        assert!(world.path(&format!("pages/{name}")).exists(), "{name}");
    }
    assert!(!world.path("pages/yestrel-agent-manage.1").exists(), "what is hidden stays hidden");
    world.write("file", "");
    world.run("manual --to file/pages").is(1).says("cannot be written");
}

/// What bash offers after these words.
fn offered(world: &World, words: &[&str]) -> String {
    let script = world.run("completion bash").is(0).out;
    let (last, at) = (words[words.len() - 1], words.len() - 1);
    let asked = format!(
        "\nCOMP_WORDS=({}); COMP_CWORD={at}; COMP_TYPE=9; _clap_complete_yestrel yestrel '{last}' '{}'; echo \"${{COMPREPLY[@]}}\"\n",
        words.join(" "),
        words[at - 1]
    );
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_yestrel")).parent().unwrap().display().to_string();
    let mut bash = world.set_up(Command::new("bash"));
    bash.env("PATH", format!("{program}:{}", std::env::var("PATH").unwrap()));
    let mut bash = bash.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    bash.stdin.take().unwrap().write_all(format!("{script}{asked}").as_bytes()).unwrap();
    String::from_utf8(bash.wait_with_output().unwrap().stdout).unwrap().trim().to_owned()
}

#[test]
fn a_shell_completes_words_and_names_of_the_estate() {
    let world = World::estate();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let script = world.run(&format!("completion {shell}")).is(0).out;
        assert!(script.contains("YESTREL_COMPLETE") && script.contains("yestrel"), "{shell}");
    }
    world.run("completion tcsh").is(2).says("bash");
    assert_eq!(offered(&world, &["yestrel", "gateway", "re"]), "rename restart retire");
    world.run("group add crew").is(0);
    for user in ["mara", "marius", "tomas"] {
        world.run(&format!("user add {user} --group crew")).is(0);
        world.run(&format!("device add {user}/laptop")).is(0);
    }
    assert_eq!(offered(&world, &["yestrel", "user", "show", "mar"]), "mara marius");
    assert_eq!(offered(&world, &["yestrel", "credential", "issue", "to"]), "tomas/laptop");
    assert_eq!(offered(&world, &["yestrel", "user", "list", "--group", "c"]), "crew");
    assert_eq!(offered(&world, &["yestrel", "user", "add", "mar"]), "", "a new name is nobody's");
    // From the estate that the words name; and from none, nothing and no noise.
    assert_eq!(offered(&world, &["yestrel", "--estate", "nowhere", "user", "show", "mar"]), "");
    world.write("noise", "this is no estate");
    assert_eq!(offered(&world, &["yestrel", "--estate", "noise", "user", "show", "mar"]), "");
}

/// Every promise in docs/security.md names a test that would miss it, and that test is there.
#[test]
fn every_promise_names_a_test_that_exists() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let mut sources = String::new();
    let mut folders = vec![std::path::PathBuf::from(root).join("crates")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|ending| ending == "rs") {
                sources += &std::fs::read_to_string(path).unwrap();
            }
        }
    }
    let page = std::fs::read_to_string(format!("{root}/docs/security.md")).unwrap();
    let promises: Vec<_> =
        page.lines().filter(|line| line.starts_with("| ") && line.matches('|').count() == 4).collect();
    let mut count = 0;
    for promise in promises.iter().filter(|line| !line.contains("| against |")) {
        let tests = promise.rsplit('|').nth(1).unwrap();
        let named: Vec<_> = tests.split('`').skip(1).step_by(2).collect();
        assert!(!named.is_empty(), "no test: {promise}");
        for name in named {
            if name.ends_with(".rs") {
                let file = name.rsplit('/').next().unwrap();
                assert!(std::path::Path::new(root).join("fuzz/fuzz_targets").join(file).exists(), "{name}");
                continue;
            }
            let bare = name.rsplit("::").next().unwrap();
            let wanted = match bare.split_once('…') {
                Some((begin, _)) => format!("fn {begin}"),
                None => format!("fn {bare}("),
            };
            assert!(sources.contains(&wanted), "there is no test {name}");
            count += 1;
        }
    }
    assert!(count > 40, "{count}");
}
