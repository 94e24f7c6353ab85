//! Twelve refusals: a list of policies to be read, twelve sign-ins, and why each of them is refused. Nobody signs in.

use yestrel_core::{Problem, Result};

use super::player::Demo;

/// Who, where and how it is asked about, and what the answer says.
struct Riddle {
    words: String,
    asked: Vec<String>,
    because: &'static str,
}

/// How a policy is added: its name and everything after it.
fn list(from: &str, until: &str) -> Vec<Vec<String>> {
    let dates = format!("dates={from}..{until}");
    let all: [&[&str]; 6] = [
        &[
            "no-tablets",
            "refuse",
            "--when",
            "platform=android",
            "--unless",
            "group=crew",
            "--about",
            "lost once too often",
        ],
        &[
            "dry-dock",
            "admit",
            "--when",
            "group=welders",
            "--when",
            "hours=tue,thu 05:30-11:15",
            "--when",
            "gateway=boatyard",
            "--session",
            "6h",
        ],
        &[
            "night-crew",
            "admit",
            "--when",
            "group=crew",
            "--when",
            "hours=daily 22:00-06:00",
            "--when",
            "from=198.51.100.0/24",
        ],
        &["office", "admit", "--when", "group=office", "--unless", "credential-age=over 90d"],
        &["seasonal", "admit", "--when", "group=seasonal", "--when", &dates],
        &["captains", "admit", "--when", "user=astrid", "--when", "credential=certificate"],
    ];
    all.into_iter().map(|words| words.iter().map(|word| (*word).to_owned()).collect()).collect()
}

/// Everybody of the puzzle: user, groups, device, platform.
const PEOPLE: [(&str, &str, &str, &str); 7] = [
    ("oskar", "welders", "laptop", "linux"),
    ("ines", "crew", "phone", "android"),
    ("eira", "office", "tablet", "android"),
    ("eira", "office", "desk", "linux"),
    ("tomas", "seasonal", "phone", "apple"),
    ("astrid", "", "laptop", "linux"),
    ("jon", "", "laptop", "linux"),
];

fn riddles(before: &str, later: &str) -> Vec<Riddle> {
    let riddle = |words: &str, asked: &[&str], because| Riddle {
        words: words.to_owned(),
        asked: asked.iter().map(|word| (*word).to_owned()).collect(),
        because,
    };
    let at_yard =
        |words: &str, at: &str, because| riddle(words, &["oskar/laptop", "--gateway", "boatyard", "--at", at], because);
    let crew = |words: &str, at: &str, from: &str, because| {
        riddle(words, &["ines/phone", "--gateway", "harbour", "--at", at, "--from", from], because)
    };
    vec![
        at_yard("the welder at the boatyard, on a Friday at 10:00", "fri 10:00", "opens on Tuesday at 05:30"),
        at_yard("the welder at the boatyard, on a Thursday at 05:29", "thu 05:29", "opens on Thursday at 05:30"),
        at_yard("the welder at the boatyard, on a Thursday at 11:15", "thu 11:15", "opens on Tuesday at 05:30"),
        riddle(
            "the welder at the harbour, on a Thursday at 10:00",
            &["oskar/laptop", "--gateway", "harbour", "--at", "thu 10:00"],
            "gateway",
        ),
        crew("the deckhand on board, at 21:59", "mon 21:59", "198.51.100.23", "opens on Monday at 22:00"),
        crew("the deckhand on board, at 06:00", "mon 06:00", "198.51.100.23", "opens on Monday at 22:00"),
        crew("the deckhand at home, at 23:00", "mon 23:00", "203.0.113.9", "from"),
        riddle(
            "the clerk with her tablet",
            &["eira/tablet", "--gateway", "harbour", "--at", "mon 10:00"],
            "the policy no-tablets refuses",
        ),
        riddle(
            "the clerk at her desk, a hundred days from now",
            &["eira/desk", "--gateway", "harbour", "--at", later],
            "credential-age",
        ),
        riddle(
            "the summer hand, the evening before his season",
            &["tomas/phone", "--gateway", "harbour", "--at", before],
            "opens on",
        ),
        riddle(
            "the captain with her laptop",
            &["astrid/laptop", "--gateway", "harbour", "--at", "mon 10:00"],
            "certificate is wanted",
        ),
        riddle(
            "the visitor, whom no policy is about",
            &["jon/laptop", "--gateway", "harbour", "--at", "mon 10:00"],
            "jon is in none that a policy names",
        ),
    ]
}

/// Makes the estate, shows the list, asks, and answers.
pub(super) fn play(demo: &Demo) -> Result<()> {
    let quietly = |words: &[&str]| {
        let came = demo.quietly(words)?;
        match came.code {
            0 => Ok(()),
            _ => Err(Problem::failed(format!("yestrel {} did not come about", words.join(" "))).why(came.err)),
        }
    };
    let pid = std::process::id().to_string();
    quietly(&["lab", "start", "--processes", "--lifetime", "120", "--owner", &pid])?;
    quietly(&["estate", "create", "skerry"])?;
    for (site, host, network, pool) in [
        ("harbour", "harbour", "10.44.0.0/22", "10.187.44.0/24"),
        ("boatyard", "boatyard", "10.45.0.0/22", "10.187.45.0/24"),
    ] {
        quietly(&["site", "add", site, "--network", network, "--time-zone", "Europe/Oslo"])?;
        quietly(&["host", "add", host, "--site", site, "--kind", "cloud", "--via", "lab"])?;
        quietly(&["gateway", "create", host, "--host", host, "--dialled", &format!("{host}.skerry.example")])?;
        quietly(&["listener", "open", host, "--pool", pool])?;
    }
    for group in ["welders", "crew", "office", "seasonal"] {
        quietly(&["group", "add", group])?;
    }
    for (user, group, device, platform) in PEOPLE {
        if demo.quietly(&["user", "show", user])?.code != 0 {
            let mut words = vec!["user", "add", user];
            if !group.is_empty() {
                words.extend(["--group", group]);
            }
            quietly(&words)?;
        }
        let device = format!("{user}/{device}");
        quietly(&["device", "add", &device, "--platform", platform])?;
        quietly(&["credential", "issue", &device, "--at", "harbour", "--at", "boatyard"])?;
    }
    let today = jiff::Zoned::now().date();
    let on = |days: i64| today.checked_add(jiff::Span::new().days(days)).unwrap_or(today).to_string();
    for words in list(&on(30), &on(60)) {
        let words: Vec<&str> = ["policy", "add"].into_iter().chain(words.iter().map(String::as_str)).collect();
        quietly(&words)?;
    }

    demo.chapter("A list to be read");
    demo.step(&["policy", "list"], 0)?;
    let riddles = riddles(&format!("{} 23:59", on(29)), &format!("{} 10:00", on(100)));
    demo.chapter("Twelve who are refused: why?");
    for (number, riddle) in (1..).zip(&riddles) {
        demo.output.write(&format!("  {number:>2}  {}\n", riddle.words));
    }
    demo.chapter("The answers");
    for (number, riddle) in (1..).zip(&riddles) {
        demo.output.write(&format!("\n{}\n", demo.paint("1", &format!("{number}. {}", riddle.words))));
        let words: Vec<&str> =
            ["policy", "rehearse"].into_iter().chain(riddle.asked.iter().map(String::as_str)).collect();
        let came = demo.step(&words, 0)?;
        let refused = came.out.contains("refused: ") && came.out.contains(riddle.because);
        demo.prove(refused, &format!("refused, because of: {}", riddle.because))?;
    }
    Ok(())
}
