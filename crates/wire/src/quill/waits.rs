//! What a gateway waits for, how long, and how often it does what somebody else could make it do.

use super::ConnectionId;
use super::message::Settings;
use crate::Moment;

/// A session without keep-alive is silent for at most this long: devices renew their keys well before.
const SILENT: u64 = 1_000_000;
/// Path checks of one session within [`AGAIN`], to whatever addresses; and repeated answers of one greeting.
const MOST_CHECKS: u8 = 4;
/// Between two repetitions of settings, path checks and ends.
pub(super) const AGAIN: u64 = 500;

/// What a gateway waits for. Each stands for a greeting, for one device key, or for one session that has ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Timer {
    /// A greeting that came to nothing is forgotten.
    Unused(ConnectionId),
    /// A device that was refused may come without a token again.
    Refused([u8; 32]),
    /// Replaced keys are forgotten.
    OldKeys([u8; 32]),
    /// A session of which nothing was heard ends. Packets do not move this timer: when it comes, the counters say whether it is
    /// time, or until when it is not.
    Silence([u8; 32]),
    /// Keys that were not renewed end their session.
    KeysEnd([u8; 32]),
    /// Settings that the device has not taken are sent again.
    SettingsAgain([u8; 32]),
    /// Parts of a parcel are sent, or sent again.
    Parcels([u8; 32]),
    /// A session that has ended is not answered any more.
    Forget(ConnectionId),
}

/// Whether one more may be sent now, of [`MOST_CHECKS`] within [`AGAIN`].
pub(super) fn one_more(count: &mut (Moment, u8), now: Moment) -> bool {
    if count.0.after(AGAIN) <= now {
        *count = (now, 0);
    }
    let free = count.1 < MOST_CHECKS;
    count.1 += u8::from(free);
    free
}

/// After how long a session of which nothing was heard ends: four keep-alives, and a minute at least.
pub(super) fn most_silent(settings: &Settings) -> u64 {
    match u64::from(settings.keep_alive) * 1000 {
        0 => SILENT,
        keep_alive => (keep_alive * 4).max(60_000),
    }
}
