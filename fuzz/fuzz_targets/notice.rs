//! Way notices as they come by files, mails, links and gateways, and parcels of whatever parts.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_core::notice::{LONGEST, find_all};
use yestrel_wire::quill::frame::{Frame, frames};
use yestrel_wire::quill::parcel::{Inbox, Outbox};

fuzz_target!(|bytes: &[u8]| {
    if let Ok(text) = std::str::from_utf8(bytes)
        && let Ok(found) = find_all(text)
    {
        assert!(!found.is_empty() && found.iter().all(|one| one.to_bytes().len() <= LONGEST));
    }
    let (mut inbox, mut outbox) = (Inbox::new(4096), Outbox::new(1));
    outbox.push(1, bytes.into());
    for frame in frames(bytes) {
        match frame {
            Ok(Frame::Parcel(part)) => {
                if let (Some((_, whole)), _) = inbox.part(part) {
                    assert!(whole.len() <= 4096);
                }
            }
            Ok(Frame::ParcelTaken(taken)) => outbox.taken(taken),
            _ => {}
        }
    }
});
