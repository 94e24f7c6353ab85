//! The plan of the whole workspace, drawn from its sources: which file uses which, which crate stands on which.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What each crate may stand on, directly. An arrow that is not here points upwards, or sideways.
const ARROWS: [(&str, &[&str]); 11] = [
    ("core", &[]),
    ("wire", &[]),
    ("store", &["core"]),
    ("net", &["core", "wire"]),
    ("host", &["core", "net"]),
    ("device", &["core", "wire", "net"]),
    ("agent", &["core", "wire", "net", "host"]),
    ("places", &["core", "net", "host"]),
    ("lab", &["core", "wire", "net", "host", "device"]),
    ("actions", &["core", "net", "store", "places"]),
    ("cli", &["core", "net", "store", "host", "device", "agent", "lab", "actions"]),
];

/// Where no kind of tunnel is named: what carries packets, and what decides who comes in.
const NAMES_NO_TUNNEL: [&str; 2] = ["net/src", "core/src/admission"];

type Path_ = Vec<String>;

/// One file as a module: what it is called, what it brings in, what it names.
#[derive(Default)]
struct Module {
    file: PathBuf,
    /// Names that `use` brings in, with the paths that they stand for.
    imports: BTreeMap<String, Path_>,
    /// Paths that begin with a name that can be looked up.
    paths: BTreeSet<Path_>,
    first_line: String,
    opening: String,
}

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(files(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
    found.sort();
    found
}

/// Words and marks of a source, without comments, texts and tests.
fn tokens(source: &str) -> Vec<String> {
    let code: String =
        source.lines().filter(|line| !line.trim_start().starts_with("//")).fold(String::new(), |mut code, line| {
            code.push_str(line.split(" // ").next().unwrap());
            code.push('\n');
            code
        });
    // What stands in tests is theirs alone.
    let code = code.split("#[cfg(test)]\nmod ").next().unwrap();
    let mut tokens: Vec<String> = Vec::new();
    let mut rest = code.chars().peekable();
    let mut text = false;
    while let Some(c) = rest.next() {
        match c {
            '\\' if text => drop(rest.next()),
            '"' => text = !text,
            _ if text => {}
            // A character, not a lifetime.
            '\'' => {
                let ahead: Vec<char> = rest.clone().take(3).collect();
                if ahead.first() == Some(&'\\') {
                    rest.by_ref().find(|c| *c == '\'');
                } else if ahead.get(1) == Some(&'\'') {
                    rest.nth(1);
                }
            }
            c if c.is_alphanumeric() || c == '_' => {
                let mut word = c.to_string();
                while let Some(next) = rest.next_if(|c| c.is_alphanumeric() || *c == '_') {
                    word.push(next);
                }
                tokens.push(word);
            }
            ':' if rest.peek() == Some(&':') => {
                rest.next();
                tokens.push("::".into());
            }
            c if c.is_whitespace() => {}
            other => tokens.push(other.to_string()),
        }
    }
    tokens
}

fn is_word(token: &str) -> bool {
    token.chars().next().is_some_and(|c| c.is_alphanumeric() || c == '_')
}

/// Everything that one `use` brings in: each name with its path.
fn tree(tokens: &[String], at: &mut usize, before: &[String], found: &mut Vec<(String, Path_)>) {
    let mut path = before.to_vec();
    while let Some(token) = tokens.get(*at) {
        *at += 1;
        match token.as_str() {
            "::" => {}
            "{" => {
                while tokens[*at] != "}" {
                    tree(tokens, at, &path, found);
                    if tokens[*at] == "," {
                        *at += 1;
                    }
                }
                *at += 1;
                return;
            }
            "," | "}" | ";" => {
                *at -= 1;
                break;
            }
            "as" => {
                let name = tokens[*at].clone();
                *at += 1;
                found.push((name, path));
                return;
            }
            word => path.push(word.to_owned()),
        }
    }
    if path.last().is_some_and(|last| last == "self") {
        path.pop();
    }
    let name = path.last().cloned().unwrap_or_default();
    found.push((name, path));
}

fn module(file: &Path) -> Module {
    let source = std::fs::read_to_string(file).unwrap();
    let tokens = tokens(&source);
    let mut module = Module {
        file: file.to_owned(),
        first_line: source.lines().next().unwrap_or_default().to_owned(),
        opening: source.lines().take_while(|line| line.starts_with("//!") || line.is_empty()).collect(),
        ..Module::default()
    };
    let mut at = 0;
    while at < tokens.len() {
        // Not the `use<>` of what a type captures.
        if tokens[at] == "use" && tokens.get(at + 1).is_some_and(|next| next != "<") {
            at += 1;
            let mut found = Vec::new();
            tree(&tokens, &mut at, &[], &mut found);
            for (name, path) in found {
                module.paths.insert(path.clone());
                module.imports.insert(name, path);
            }
        } else if is_word(&tokens[at]) && tokens.get(at + 1).is_some_and(|next| next == "::") {
            let mut path = vec![tokens[at].clone()];
            while tokens.get(at + 1).is_some_and(|next| next == "::") && tokens.get(at + 2).is_some_and(|t| is_word(t))
            {
                path.push(tokens[at + 2].clone());
                at += 2;
            }
            module.paths.insert(path);
            at += 1;
        } else {
            at += 1;
        }
    }
    module
}

/// One crate: its modules by their path from the root.
struct Plan {
    modules: BTreeMap<Path_, Module>,
}

impl Plan {
    fn of(name: &str) -> Self {
        let source = crates().join(name).join("src");
        let mut modules = BTreeMap::new();
        for file in files(&source) {
            let mut path: Path_ = file
                .strip_prefix(&source)
                .unwrap()
                .with_extension("")
                .iter()
                .map(|part| part.to_string_lossy().into_owned())
                .collect();
            if path.last().is_some_and(|last| ["lib", "main", "mod"].contains(&last.as_str())) {
                path.pop();
            }
            modules.insert(path, module(&file));
        }
        Self { modules }
    }

    /// The module in which what a path of `from` names is written.
    fn target(&self, from: &[String], path: &[String], depth: u8) -> Option<Path_> {
        let mut at = from.to_vec();
        let mut rest = path;
        match path.first()?.as_str() {
            "crate" => {
                at.clear();
                rest = &path[1..];
            }
            "self" => rest = &path[1..],
            "super" => {
                while rest.first().is_some_and(|first| first == "super") {
                    at.pop()?;
                    rest = &rest[1..];
                }
            }
            first => {
                let child = [from, &[first.to_owned()]].concat();
                if !self.modules.contains_key(&child) {
                    let import = self.modules[from].imports.get(first).filter(|import| *import != path)?;
                    return self.target(from, &[&import[..], &path[1..]].concat(), depth.checked_sub(1)?);
                }
            }
        }
        for (number, word) in rest.iter().enumerate() {
            let child = [&at[..], std::slice::from_ref(word)].concat();
            if self.modules.contains_key(&child) {
                at = child;
            } else if let Some(import) = self.modules[&at].imports.get(word) {
                // Passed on from where it is written.
                let through = [&import[..], &rest[number + 1..]].concat();
                return self.target(&at, &through, depth.checked_sub(1)?).or(Some(at));
            } else {
                break;
            }
        }
        Some(at)
    }

    fn arrows(&self) -> BTreeMap<Path_, BTreeSet<Path_>> {
        let of = |(from, module): (&Path_, &Module)| {
            let targets = module.paths.iter().filter_map(|path| self.target(from, path, 8));
            (from.clone(), targets.filter(|target| target != from).collect())
        };
        self.modules.iter().map(of).collect()
    }
}

/// A circle, if there is one: each uses the next, and the last the first.
fn circle(arrows: &BTreeMap<Path_, BTreeSet<Path_>>) -> Option<Vec<Path_>> {
    fn visit(
        at: &Path_,
        arrows: &BTreeMap<Path_, BTreeSet<Path_>>,
        way: &mut Vec<Path_>,
        done: &mut BTreeSet<Path_>,
    ) -> Option<Vec<Path_>> {
        if let Some(begin) = way.iter().position(|one| one == at) {
            return Some(way[begin..].to_vec());
        }
        if !done.insert(at.clone()) {
            return None;
        }
        way.push(at.clone());
        let found = arrows.get(at).into_iter().flatten().find_map(|next| visit(next, arrows, way, done));
        way.pop();
        found
    }
    let mut done = BTreeSet::new();
    arrows.keys().find_map(|from| visit(from, arrows, &mut Vec::new(), &mut done))
}

fn names() -> Vec<String> {
    let mut names: Vec<_> = std::fs::read_dir(crates())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

#[test]
fn no_files_of_a_crate_use_each_other_in_a_circle() {
    let mut circles = Vec::new();
    for name in names() {
        let mut arrows = Plan::of(&name).arrows();
        let count: usize = arrows.values().map(BTreeSet::len).sum();
        assert!(count >= 2, "of {name} next to no arrow was found: it was not read");
        while let Some(circle) = circle(&arrows) {
            let words: Vec<_> = circle.iter().map(|path| format!("{name}::{}", path.join("::"))).collect();
            circles.push(words.join(" -> "));
            arrows.get_mut(&circle[circle.len() - 1]).unwrap().remove(&circle[0]);
        }
    }
    assert!(circles.is_empty(), "files that use each other:\n{}", circles.join("\n"));
}

#[test]
fn crates_stand_only_on_what_is_below_them() {
    assert_eq!(
        names(),
        ARROWS.iter().map(|(name, _)| (*name).to_owned()).collect::<BTreeSet<_>>().into_iter().collect::<Vec<_>>()
    );
    for (name, below) in ARROWS {
        let text = std::fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let manifest = text.split("[dev-dependencies]").next().unwrap();
        let stands_on: BTreeSet<_> = manifest
            .lines()
            .filter_map(|line| line.strip_prefix("yestrel-")?.split(['.', ' ', '=']).next())
            .map(str::to_owned)
            .collect();
        for other in &stands_on {
            assert!(below.contains(&other.as_str()), "{name} stands on {other}");
        }
    }
    // The list itself points downwards: each crate only on such as stand before it.
    for (number, (name, below)) in ARROWS.iter().enumerate() {
        for other in *below {
            assert!(ARROWS[..number].iter().any(|(before, _)| before == other), "{name} on {other}");
        }
    }
}

#[test]
fn every_file_says_its_job_and_every_folder_has_a_table_of_its_files() {
    let mut missing = Vec::new();
    for name in names() {
        let plan = Plan::of(&name);
        for (path, module) in &plan.modules {
            let file = module.file.display();
            if !module.first_line.starts_with("//! ") || module.first_line.len() < 12 {
                missing.push(format!("{file} does not say its job"));
            }
            if module.file.ends_with("mod.rs") || module.file.ends_with("lib.rs") {
                let children =
                    plan.modules.keys().filter(|other| other.len() == path.len() + 1 && other.starts_with(path));
                for child in children {
                    let name = child.last().unwrap();
                    if !module.opening.contains(&format!("`{name}`")) {
                        missing.push(format!("{file} has no line for {name} in its table"));
                    }
                }
            }
        }
    }
    assert!(missing.is_empty(), "{}", missing.join("\n"));
}

#[test]
fn what_carries_packets_and_what_decides_names_no_tunnel() {
    for folder in NAMES_NO_TUNNEL {
        for file in files(&crates().join(folder)) {
            let text = std::fs::read_to_string(&file).unwrap().to_lowercase();
            let text = text.split("#[cfg(test)]\nmod ").next().unwrap();
            for tunnel in ["quill", "ikev2"] {
                assert!(!text.contains(tunnel), "{} names {tunnel}", file.display());
            }
        }
    }
}

#[test]
fn how_a_host_is_managed_is_read_in_one_place() {
    let mut places = Vec::new();
    for name in names() {
        for file in files(&crates().join(name).join("src")) {
            let text = std::fs::read_to_string(&file).unwrap();
            let code = text.split("#[cfg(test)]\nmod ").next().unwrap();
            if code.contains("starts_with(\"ssh://") || code.contains("strip_prefix(\"lab:\")") {
                places.push(file.strip_prefix(crates()).unwrap().display().to_string());
            }
        }
    }
    assert_eq!(places, ["core/src/estate/host.rs"]);
}
