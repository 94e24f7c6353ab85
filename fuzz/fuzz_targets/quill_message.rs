//! Everything of quill that is read once it has been decrypted: openings, answers, settings, frames; and what stands in front of it all.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yestrel_wire::quill::call::Call;
use yestrel_wire::quill::frame::frames;
use yestrel_wire::quill::handshake;
use yestrel_wire::quill::message::{Answer, Opening, Settings};

fuzz_target!(|bytes: &[u8]| {
    if let Ok(opening) = Opening::parse(bytes) {
        assert_eq!(Opening::parse(&opening.emit()).as_ref(), Ok(&opening));
    }
    if let Ok(answer) = Answer::parse(bytes) {
        assert_eq!(Answer::parse(&answer.emit()).as_ref(), Ok(&answer));
    }
    if let Ok(settings) = Settings::parse(bytes) {
        assert_eq!(Settings::parse(&settings.emit()).as_ref(), Ok(&settings));
    }
    for frame in frames(bytes).flatten() {
        let mut again = Vec::new();
        frame.emit(&mut again);
        assert!(again.len() <= bytes.len());
    }
    assert!(handshake::front(&Call::new(&[7; 32]), bytes).is_none(), "nobody guesses a tag");
});
