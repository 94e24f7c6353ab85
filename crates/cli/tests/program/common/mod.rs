//! What the tests of the built program share: a folder with an estate of its own, and a lab that is gone afterwards.

pub mod client;
pub mod machine;
pub mod terminal;

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

/// The lab ends by itself after this many seconds, should everything else fail.
const LIFETIME: &str = "240";

/// A folder with an estate and perhaps a lab.
pub struct World {
    pub folder: tempfile::TempDir,
    lab: bool,
}

/// What came of a command.
#[derive(Debug)]
pub struct Came {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Came {
    pub fn of(output: &std::process::Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    #[track_caller]
    pub fn is(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{self:#?}");
        self
    }

    #[track_caller]
    pub fn says(self, text: &str) -> Self {
        assert!(self.out.contains(text) || self.err.contains(text), "{text:?} is not in {self:#?}");
        self
    }

    #[track_caller]
    pub fn lacks(self, text: &str) -> Self {
        assert!(!self.out.contains(text) && !self.err.contains(text), "{text:?} is in {self:#?}");
        self
    }

    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {self:#?}"))
    }
}

impl Drop for World {
    fn drop(&mut self) {
        // Tunnels in the background are not children of the test.
        for entry in std::fs::read_dir(self.path("run")).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if let Some(tunnel) = name.strip_suffix(".sock") {
                let _ = self.command(&["tunnel", "stop", tunnel]).output();
            }
        }
        if self.lab {
            let _ = self.command(&["lab", "stop"]).output();
        }
    }
}

impl World {
    /// A folder with nothing in it.
    pub fn empty() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), lab: false }
    }

    /// An estate with nothing in it, also no policy.
    pub fn bare() -> Self {
        let world = Self::empty();
        world.run("estate create skerry").is(0);
        world
    }

    /// An estate in which every valid credential is admitted, and with nothing else in it.
    pub fn estate() -> Self {
        let world = Self::bare();
        world.run("policy add everyone admit --quiet").is(0);
        world
    }

    /// A running lab, the estate, the site and the gateway of the harbour with a listener. `mode` is `--namespaces` or
    /// `--processes`.
    pub fn harbour(mode: &str) -> Self {
        let mut world = Self::estate();
        world.start_lab(mode);
        world.run("site add harbour --network 10.44.0.0/22 --time-zone Europe/Oslo").is(0);
        world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
        world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
        world.run("listener open harbour --pool 10.187.44.0/24 --resolvers 10.44.0.20").is(0);
        world
    }

    /// As [`World::harbour`], rolled out, with mara's laptop admitted and handed over in `mara.yestrel`.
    pub fn mara(mode: &str) -> Self {
        let world = Self::harbour(mode);
        world.admit("mara", "mara/laptop");
        world.run("rollout --yes").is(0);
        world.run("credential handover mara/laptop --to mara.yestrel --yes").is(0);
        world
    }

    pub fn start_lab(&mut self, mode: &str) {
        self.lab = true;
        self.run(&format!("lab start {mode} --lifetime {LIFETIME}")).is(0);
    }

    pub fn admit(&self, user: &str, device: &str) {
        self.run(&format!("user add {user}")).is(0);
        self.run(&format!("device add {device}")).is(0);
        self.run(&format!("credential issue {device}")).is(0);
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// `yestrel` with these words, to be started by the test itself.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_yestrel"));
        command.args(words);
        self.set_up(command)
    }

    pub fn set_up(&self, mut command: Command) -> Command {
        command
            .current_dir(self.folder.path())
            .env_remove("NO_COLOR")
            .env_remove("SSH_CONNECTION")
            .env_remove("SSH_CLIENT")
            .env("YESTREL_ESTATE", self.path("skerry"))
            .env("YESTREL_LAB", self.path("lab"))
            .env("YESTREL_RUN", self.path("run"))
            .stdin(Stdio::null());
        command
    }

    /// Runs `yestrel` with words that are separated by spaces.
    pub fn run(&self, words: &str) -> Came {
        self.run_words(&words.split_whitespace().collect::<Vec<_>>())
    }

    pub fn run_words(&self, words: &[&str]) -> Came {
        // A command that does not come back is killed, and its status is 124.
        let mut command = Command::new("timeout");
        command.args(["--kill-after=5", "100", env!("CARGO_BIN_EXE_yestrel")]).args(words);
        let output = self.set_up(command).output().unwrap();
        Came::of(&output)
    }

    /// Runs a shell script in the world's folder: for judges that are not ours.
    pub fn judge(&self, script: &str) -> Came {
        let mut command = Command::new("timeout");
        command.args(["--kill-after=5", "60", "bash", "-c", script]);
        Came::of(&self.set_up(command).output().unwrap())
    }

    /// Writes a passphrase into a file, and gives its name.
    pub fn secret(&self, name: &str, text: &str) -> String {
        self.write(name, text);
        name.to_owned()
    }

    /// Runs a command line on mara's laptop.
    pub fn on_laptop(&self, words: &str) -> Came {
        self.run(&format!("lab enter mara-laptop -- {words}"))
    }

    /// Runs a shell script on a host of the lab.
    pub fn shell(&self, host: &str, script: &str) -> Came {
        self.run_words(&["lab", "enter", host, "--", "sh", "-c", script])
    }

    /// The process that is a host of the lab.
    pub fn host_pid(&self, host: &str) -> u32 {
        self.read(&format!("lab/hosts/{host}/pid")).trim().parse().unwrap()
    }

    /// The process that is the agent on a host.
    pub fn agent_pid(&self, host: &str) -> i32 {
        self.read(&format!("lab/hosts/{host}/agent.pid")).trim().parse().unwrap()
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    pub fn write(&self, name: &str, text: &str) {
        let mut file = std::fs::File::create(self.path(name)).unwrap();
        file.write_all(text.as_bytes()).unwrap();
    }

    /// Everything that the estate holds, for seeing that nothing has changed.
    pub fn everything(&self) -> String {
        let estate = rusqlite::Connection::open(self.path("skerry")).unwrap();
        let names = "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name";
        let names: Vec<String> =
            estate.prepare(names).unwrap().query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
        let mut everything = String::new();
        for name in names {
            let mut rows = estate.prepare(&format!("SELECT * FROM {name} ORDER BY 1, 2")).unwrap();
            let columns: Vec<_> = rows.column_names().map(str::to_owned).collect();
            let mut rows = rows.query([]).unwrap();
            while let Some(row) = rows.next().unwrap() {
                for (at, column) in columns.iter().enumerate() {
                    // What was seen when a host was looked at, and when, is no change.
                    if !["probed", "facts"].contains(&column.as_str()) {
                        let _ = write!(everything, "{name}.{column} = {:?}; ", row.get_ref(at).unwrap());
                    }
                }
                everything.push('\n');
            }
        }
        assert!(everything.contains("estates.name"), "{everything}");
        everything
    }
}

/// Looks until `holds` gives something, at most for `seconds`.
#[track_caller]
pub fn wait<T>(seconds: u64, what: &str, mut holds: impl FnMut() -> Option<T>) -> T {
    let end = Instant::now() + Duration::from_secs(seconds);
    loop {
        if let Some(found) = holds() {
            return found;
        }
        assert!(Instant::now() < end, "not within {seconds} s: {what}");
        std::thread::park_timeout(Duration::from_millis(20));
    }
}
