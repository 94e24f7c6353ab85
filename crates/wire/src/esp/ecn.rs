//! Congestion that is marked outside a tunnel reaches what is inside it, and the other way around (RFC 6040, RFC 3168). The rest of the
//! traffic class stays as it is inside, and is not shown outside (RFC 2983's pipe): what it says of the traffic is nobody else's.

/// The two bits.
pub const NOT_CAPABLE: u8 = 0b00;
const CAPABLE_1: u8 = 0b01;
const CAPABLE_0: u8 = 0b10;
const CONGESTED: u8 = 0b11;

/// The marks of an inner packet: they go outside as they are (RFC 6040 section 4.1). What is no IP packet has none.
#[must_use]
pub fn of(packet: &[u8]) -> u8 {
    match packet {
        [first, second, ..] if first >> 4 == 4 => second & 0b11,
        [first, second, ..] if first >> 4 == 6 => second >> 4 & 0b11,
        _ => NOT_CAPABLE,
    }
}

/// Brings the marks of the outside into an inner packet (RFC 6040 section 4.2); whether it goes on: one whose ends know nothing of marks is
/// dropped where the outside is congested.
pub fn take_over(packet: &mut [u8], outer: u8) -> bool {
    let inner = of(packet);
    let new = match (inner, outer & 0b11) {
        (NOT_CAPABLE, CONGESTED) => return false,
        (CAPABLE_0 | CAPABLE_1, CONGESTED) => CONGESTED,
        (CAPABLE_0, CAPABLE_1) => CAPABLE_1,
        _ => return true,
    };
    if packet[0] >> 4 == 6 {
        packet[1] = packet[1] & 0b1100_1111 | new << 4;
        return true;
    }
    // The header's checksum changes by what the byte does (RFC 1624 section 3).
    let before = u16::from_be_bytes([packet[0], packet[1]]);
    packet[1] = packet[1] & 0b1111_1100 | new;
    let after = u16::from_be_bytes([packet[0], packet[1]]);
    if let Some([high, low]) = packet.get(10..12) {
        let old = u16::from_be_bytes([*high, *low]);
        let mut sum = u32::from(!old) + u32::from(!before) + u32::from(after);
        sum = (sum & 0xffff) + (sum >> 16);
        sum = (sum & 0xffff) + (sum >> 16);
        packet[10..12].copy_from_slice(&(!(sum as u16)).to_be_bytes());
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    fn checksum(header: &[u8]) -> u16 {
        let mut sum: u32 = header.chunks(2).map(|two| u32::from(u16::from_be_bytes([two[0], two[1]]))).sum();
        while sum > 0xffff {
            sum = (sum & 0xffff) + (sum >> 16);
        }
        !(sum as u16)
    }

    /// RFC 6040 figure 4: rows are the inner marks, columns the outer ones; `None`: dropped.
    const TABLE: [[Option<u8>; 4]; 4] = [
        [Some(0b00), Some(0b00), Some(0b00), None],
        [Some(0b01), Some(0b01), Some(0b01), Some(0b11)],
        [Some(0b10), Some(0b01), Some(0b10), Some(0b11)],
        [Some(0b11), Some(0b11), Some(0b11), Some(0b11)],
    ];

    #[test]
    fn the_published_table_holds_for_both_versions_and_the_class_stays() {
        for (inner, row) in (0_u8..).zip(TABLE) {
            for (outer, expected) in (0_u8..).zip(row) {
                for class in [0_u8, 0b1011_1000, 0b1111_1100] {
                    let mut four =
                        vec![0x45, class | inner, 0, 20, 1, 2, 0, 0, 64, 17, 0, 0, 10, 187, 44, 9, 10, 44, 0, 20];
                    let sum = checksum(&four);
                    four[10..12].copy_from_slice(&sum.to_be_bytes());
                    assert_eq!((of(&four), take_over(&mut four, outer)), (inner, expected.is_some()));
                    if let Some(expected) = expected {
                        assert_eq!((four[1], checksum(&four)), (class | expected, 0), "{inner} {outer}");
                    }
                    let mut six = vec![0; 40];
                    (six[0], six[1]) = (0x60 | class >> 4, (class << 4 | inner << 4) | 0x0a);
                    assert_eq!((of(&six), take_over(&mut six, outer)), (inner, expected.is_some()));
                    if let Some(expected) = expected {
                        assert_eq!((six[0], six[1]), (0x60 | class >> 4, (class | expected) << 4 | 0x0a));
                    }
                }
            }
        }
        for short in [&mut [][..], &mut [0x45], &mut [0x45, 2], &mut [0x60, 0x20]] {
            let _ = take_over(short, CONGESTED);
        }
    }
}
