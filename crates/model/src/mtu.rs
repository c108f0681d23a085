//! How large a packet may be to fit into one ESP packet.
//!
//! RFC 4303 section 2: of the path's MTU go the outer IP header (20 bytes, or 40 of IPv6), 8 bytes of UDP where ESP
//! travels in it (RFC 3948), 8 bytes of SPI and sequence number, the cipher's initialisation vector, and the integrity
//! check value. What is left holds the inner packet, two bytes (pad length, next header) and padding up to the
//! cipher's block, so it is rounded down to whole blocks of at least 4 bytes before the two bytes go.

use crate::algorithm::{Kind, Sizes, Transform};
use crate::gateway::{Carrier, Proposal, Protocol};

/// Bytes of GRE without its options (RFC 2784 section 2.1). In transport mode it stands where in tunnel mode the inner
/// packet begins.
pub const GRE_HEADER: u16 = 4;

/// Bytes of an IP header without options or extensions (RFC 791, RFC 8200). In transport mode a packet keeps its own.
pub const fn ip_header(ipv4: bool) -> u16 {
    if ipv4 { 20 } else { 40 }
}

/// What a transform adds to a packet; of one that is not registered, the most that any adds.
fn sizes(transform: Transform) -> Sizes {
    transform.row().map_or(Sizes { vector: 16, block: 16, tag: 32 }, |row| row.sizes)
}

/// The largest inner packet that fits whatever of these proposals is chosen.
pub fn inner_mtu(path: u16, outer_ipv4: bool, in_udp: bool, proposals: &[Proposal]) -> u16 {
    let fixed = ip_header(outer_ipv4) + Carrier::of_packets(in_udp).overhead() + 8;
    let each = proposals.iter().flat_map(|proposal| {
        proposal.of(Kind::Encryption).iter().map(move |cipher| {
            let Sizes { vector, block, tag } = sizes(*cipher);
            let check = match cipher.is_aead() {
                true => tag,
                false => proposal.of(Kind::Integrity).iter().map(|integrity| sizes(*integrity).tag).max().unwrap_or(0),
            };
            let room = path.saturating_sub(fixed + vector + check);
            (room / block * block).saturating_sub(2)
        })
    });
    each.min().unwrap_or(1280)
}

/// The largest inner packet that fits whatever ESP there is: what goes on into another tunnel does not meet a narrower one.
pub fn narrowest_mtu(path: u16, outer_ipv4: bool) -> u16 {
    let widest = Proposal::new(Protocol::Esp, [Transform::encryption(12, 256), Transform::integrity(14)]);
    inner_mtu(path, outer_ipv4, true, &[widest])
}

/// The TCP segment that fills a packet of this size: without the inner IP and TCP headers (RFC 9293, RFC 8200).
pub fn segment_limit(mtu: u16, ipv4: bool) -> u16 {
    mtu.saturating_sub(if ipv4 { 40 } else { 60 })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn proposal(cipher: (u16, u16), integrity: Option<u16>) -> Proposal {
        Proposal::new(Protocol::Esp, std::iter::once(Transform::encryption(cipher.0, cipher.1)).chain(integrity.map(Transform::integrity)))
    }

    #[test]
    fn no_esp_takes_more_than_the_widest() {
        for row in Kind::Encryption.rows().iter().filter(|row| !row.name.is_empty()) {
            let one = proposal((row.number, row.key_bits), (!row.aead).then_some(14));
            for ipv4 in [true, false] {
                assert!(narrowest_mtu(1500, ipv4) <= inner_mtu(1500, ipv4, true, std::slice::from_ref(&one)), "{}", row.name);
            }
        }
    }

    /// What a kernel reported for these as the largest packet, in the lab.
    #[test]
    fn the_formula_gives_what_kernels_find() {
        let gcm = proposal((20, 256), None);
        let cbc = proposal((12, 256), Some(12));
        assert_eq!(inner_mtu(1500, true, false, std::slice::from_ref(&gcm)), 1446);
        assert_eq!(inner_mtu(1500, false, false, std::slice::from_ref(&gcm)), 1426);
        assert_eq!(inner_mtu(1500, true, false, &[gcm.clone(), cbc.clone()]), 1438);
        assert_eq!(inner_mtu(1500, true, true, &[cbc]), 1422);
    }

    #[test]
    fn segments_leave_room_for_both_headers() {
        assert_eq!((segment_limit(1438, true), segment_limit(1438, false)), (1398, 1378));
    }
}
