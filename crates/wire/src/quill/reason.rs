//! Why a device is not let in, and why a session ended, as numbers that travel.

/// Why a device is not let in, or why its session ended. The number travels; each end has its own words for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Reason {
    /// The credential was revoked.
    Revoked = 1,
    /// The credential's end date has passed.
    Expired = 2,
    /// The credential's first day has not come.
    NotYet = 3,
    /// The user is suspended.
    Suspended = 4,
    /// The gateway's order names no such credential.
    Unknown = 5,
    /// No inner address is left for this device.
    PoolFull = 6,
    /// The two ends have no version in common.
    Versions = 7,
    /// Nothing was heard for too long.
    Silent = 8,
    /// A limit of a policy was reached.
    Limit = 9,
    /// The gateway stops; it may come back.
    Shutdown = 10,
    /// An administrator ended the session.
    Administrator = 11,
    /// The same credential opened a newer session.
    Replaced = 12,
    /// The device closed the tunnel.
    Closed = 13,
    /// No policy admits it now, or one refuses it.
    Policy = 14,
    /// A reason that this version does not know.
    Other = 255,
}

impl Reason {
    /// The reason with this number; [`Reason::Other`] for a number of a later version.
    #[must_use]
    pub fn from_number(number: u8) -> Self {
        use Reason::*;
        [
            Revoked,
            Expired,
            NotYet,
            Suspended,
            Unknown,
            PoolFull,
            Versions,
            Silent,
            Limit,
            Shutdown,
            Administrator,
            Replaced,
            Closed,
            Policy,
        ]
        .into_iter()
        .find(|reason| *reason as u8 == number)
        .unwrap_or(Other)
    }

    /// Whether trying again by oneself can help.
    #[must_use]
    pub fn passes(self) -> bool {
        matches!(self, Self::Shutdown | Self::Silent)
    }
}

/// The most characters of anything that the other end says in words.
pub const MOST_WORDS: usize = 200;

/// What the other end says in words, as it may be noted and shown: without control characters (it could draw on a terminal), and no
/// longer than [`MOST_WORDS`].
#[must_use]
pub fn words_of(said: &str) -> String {
    said.chars().filter(|c| !c.is_control() && !is_directional(*c)).take(MOST_WORDS).collect()
}

/// Characters that turn the direction of a line around (Unicode Standard Annex 9, table 4): what is shown would read as something else.
fn is_directional(c: char) -> bool {
    matches!(c, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_the_other_end_cannot_draw_and_do_not_run_on() {
        assert_eq!(words_of("lost \u{1b}[2J\r\n on\u{202e} the ferry"), "lost [2J on the ferry");
        assert_eq!(words_of(&"ø".repeat(900)).chars().count(), MOST_WORDS);
    }
}
