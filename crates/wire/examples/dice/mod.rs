//! Numbers that can be had again, for enemies and crowds: nothing that protects anybody.

use yestrel_wire::Random;

pub struct Dice(pub u64);

impl Random for Dice {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 ^= self.0 << 13;
            self.0 ^= self.0 >> 7;
            self.0 ^= self.0 << 17;
            *byte = (self.0 >> 32) as u8;
        }
    }
}
