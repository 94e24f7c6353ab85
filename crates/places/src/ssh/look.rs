//! The first look at a host over SSH, by a shell script that needs nothing but a shell: where the agent's program can
//! lie until it is installed, whether it is there already, and how root is reached.

use yestrel_core::{Problem, Result};

/// The shell may greet before and after; only what stands between these lines is the script's.
const BEGIN: &str = "yestrel-look-begins";
const END: &str = "yestrel-look-ends";

/// Lines of `word=value`. Holds no single quote, so that it can stand between two of them, and hands nothing from outside
/// to the shell.
const SCRIPT: &str = r#"
hash() { { sha256sum || openssl dgst -sha256 -r || shasum -a 256; } < "$1" 2>/dev/null | { read -r h rest; echo "$h"; }; }
echo yestrel-look-begins
echo system=$(uname -s)
echo processor=$(uname -m)
echo kernel=$(uname -r)
echo user=$(id -u)
echo connection=$SSH_CONNECTION
if [ "$(id -u)" = 0 ]; then echo root=self
elif ! command -v sudo >/dev/null 2>&1; then echo root=none
elif sudo -n -k true 2>/dev/null; then echo root=free
else echo root=asks; fi
for place in "$HOME" /var/tmp /tmp; do
  stage="$place/.yestrel-stage"
  mkdir -p -m 700 "$stage" 2>/dev/null
  if [ -d "$stage" ] && [ -O "$stage" ] && [ ! -L "$stage" ]; then
    chmod 700 "$stage"
    if echo "exit 0" > "$stage/try" && chmod 700 "$stage/try" && "$stage/try"; then
      rm -f "$stage/try"
      echo stage=$stage
      echo free=$(df -Pk "$stage" 2>/dev/null | tail -1 | { read -r a b c d rest; echo "$d"; })
      [ -f "$stage/program" ] && echo program=$(hash "$stage/program")
      [ -f "$stage/part" ] && echo part=$(wc -c < "$stage/part") && echo parthash=$(hash "$stage/part")
      break
    fi
    rm -f "$stage/try" 2>/dev/null
    rmdir "$stage" 2>/dev/null
  fi
done
[ -f /opt/yestrel/yestrel ] && echo installed=$(hash /opt/yestrel/yestrel)
echo tools=$(echo | hash /dev/stdin)
echo yestrel-look-ends
"#;

/// How root is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Root {
    /// Signed in as root.
    Self_,
    /// sudo without a password.
    Free,
    /// sudo with a password.
    Asks,
    /// Not at all.
    None,
}

/// What the first look found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    pub processor: String,
    pub kernel: String,
    pub root: Root,
    /// A folder of this user alone, from which programs can be run; `None`: there is no such place.
    pub stage: Option<String>,
    /// Bytes free there.
    pub free: Option<u64>,
    /// SHA-256 of the program that was brought there before.
    pub program: Option<String>,
    /// Length and SHA-256 of one that was cut on its way.
    pub part: Option<(u64, String)>,
    /// SHA-256 of the agent's program, where one is installed.
    pub installed: Option<String>,
    /// The port on which the host itself sees this connection.
    pub managed_on: Option<u16>,
}

/// The command that looks.
pub fn command() -> String {
    format!("/bin/sh -c '{SCRIPT}'")
}

impl Look {
    /// Reads what the script said.
    ///
    /// # Errors
    /// It was not carried out, or the host is of another kind.
    pub fn read(host: &str, said: &str, complained: &str) -> Result<Self> {
        let between = said.split_once(BEGIN).and_then(|(_, rest)| rest.split_once(END)).map(|(between, _)| between);
        let Some(between) = between else {
            let words = [complained, said].map(|text| text.trim().lines().last().unwrap_or_default());
            let last = words.into_iter().find(|text| !text.is_empty()).unwrap_or("nothing");
            return Err(Problem::failed(format!("the host {host} does not carry commands out"))
                .why(format!("what came back: {last}"))
                .try_("sign in by hand: does a command line come?"));
        };
        let value = |word: &str| {
            between
                .lines()
                .find_map(|line| line.trim_end().strip_prefix(word)?.strip_prefix('='))
                .filter(|v| !v.is_empty())
        };
        let system = value("system").unwrap_or_default();
        if system != "Linux" {
            return Err(Problem::refused(format!("the host {host} does not run Linux"))
                .why(format!("it says that it runs {system:?}; gateways run on Linux")));
        }
        let hash = |word: &str| {
            value(word)
                .filter(|hash| hash.len() == 64 && hash.bytes().all(|b| b.is_ascii_hexdigit()))
                .map(str::to_owned)
        };
        let part = value("part").and_then(|size| size.trim().parse().ok()).zip(hash("parthash"));
        // What is handed back to the shell later must be what this program wrote.
        let stage = value("stage").filter(|stage| {
            stage.starts_with('/')
                && stage.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'/' | b'.' | b'-' | b'_' | b'@'))
        });
        Ok(Self {
            processor: match value("processor").unwrap_or_default() {
                "arm64" => "aarch64".to_owned(),
                "amd64" => "x86_64".to_owned(),
                "armv7l" | "armv8l" => "arm".to_owned(),
                other => other.to_owned(),
            },
            kernel: value("kernel").unwrap_or_default().to_owned(),
            root: match value("root") {
                Some("self") => Root::Self_,
                Some("free") => Root::Free,
                Some("asks") => Root::Asks,
                _ => Root::None,
            },
            stage: stage.map(str::to_owned),
            free: value("free").and_then(|kilobytes| kilobytes.parse::<u64>().ok()).map(|kilobytes| kilobytes * 1024),
            program: hash("program"),
            part,
            installed: hash("installed"),
            managed_on: value("connection")
                .and_then(|words| words.split(' ').nth(3))
                .and_then(|port| port.parse().ok()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(lines: &str) -> String {
        format!("Welcome aboard!\n* rules of the ship *\n{BEGIN}\n{lines}\n{END}\nbye\n")
    }

    #[test]
    fn what_a_shell_says_beside_the_script_is_left_out() {
        let hash = "a".repeat(64);
        let text = said(&format!(
            "system=Linux\nprocessor=arm64\nkernel=6.1.0\nroot=asks\nconnection=192.0.2.1 50000 203.0.113.10 2222\n\
             stage=/home/astrid/.yestrel-stage\nfree=1000\npart=77\nparthash={hash}\ninstalled=x"
        ));
        let look = Look::read("harbour", &text, "").unwrap();
        assert_eq!((look.processor.as_str(), look.root), ("aarch64", Root::Asks));
        assert_eq!((look.managed_on, look.free), (Some(2222), Some(1_024_000)));
        assert_eq!((look.part, look.installed), (Some((77, hash)), None));
        assert_eq!(look.stage.as_deref(), Some("/home/astrid/.yestrel-stage"));
    }

    #[test]
    fn a_host_that_is_none_is_said() {
        let problem = Look::read("harbour", "This account is not available.\n", "").unwrap_err();
        assert!(problem.why.unwrap().contains("This account is not available."));
        let problem = Look::read("harbour", &said("system=FreeBSD"), "").unwrap_err();
        assert!(problem.error.contains("does not run Linux"));
        let strange = Look::read("harbour", &said("system=Linux\nstage=/tmp/$(reboot)"), "").unwrap();
        assert_eq!(strange.stage, None);
    }

    #[test]
    fn the_script_can_stand_between_single_quotes() {
        assert!(!SCRIPT.contains('\''));
        assert!(SCRIPT.contains(BEGIN) && SCRIPT.contains(END));
        let checked = std::process::Command::new("/bin/sh").args(["-n", "-c", SCRIPT]).status().unwrap();
        assert!(checked.success());
    }
}
