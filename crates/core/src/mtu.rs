//! How large a packet may be to fit into one ESP packet.
//!
//! RFC 4303 section 2: of the path's MTU go the outer IP header (20 bytes, or 40 of IPv6), 8 bytes of UDP where ESP
//! travels in it (RFC 3948), 8 bytes of SPI and sequence number, the cipher's initialisation vector, and the integrity
//! check value. What is left holds the inner packet, two bytes (pad length, next header) and padding up to the
//! cipher's block, so it is rounded down to whole blocks of at least 4 bytes before the two bytes go.

use crate::algorithm::{Cipher, Integrity};
use crate::gateway::EspProposal;

/// Bytes of GRE without its options (RFC 2784 section 2.1). In transport mode it stands where in tunnel mode the inner
/// packet begins.
pub const GRE_HEADER: u16 = 4;

/// Bytes of an IP header without options or extensions (RFC 791, RFC 8200). In transport mode a packet keeps its own.
pub const fn ip_header(ipv4: bool) -> u16 {
    if ipv4 { 20 } else { 40 }
}

/// Bytes of vector and block of a cipher.
fn cipher_bytes(cipher: Cipher) -> (u16, u16) {
    match cipher.number {
        // DES, 3DES, Blowfish, CAST: CBC with blocks of 8 (RFC 2451).
        2 | 3 | 6 | 7 => (8, 8),
        11 => (0, 4),
        // AES and Camellia in CBC mode (RFC 3602, RFC 4312).
        12 | 23 => (16, 16),
        // Counter and combined modes (RFC 3686, RFC 4106, RFC 4309, RFC 5529, RFC 7634).
        _ => (8, 4),
    }
}

/// Bytes of the check value of a combined-mode cipher.
fn tag_bytes(cipher: Cipher) -> u16 {
    match cipher.number {
        14 | 18 | 25 => 8,
        15 | 19 | 26 => 12,
        _ => 16,
    }
}

/// Bytes of the check value of an integrity algorithm.
fn check_bytes(integrity: Integrity) -> u16 {
    match integrity.0 {
        0 => 0,
        // Cut to 96 bits (RFC 2403, RFC 2404, RFC 3566, RFC 4494).
        1 | 2 | 5 | 8 => 12,
        // Half of the hash (RFC 4868).
        12 => 16,
        13 => 24,
        _ => 32,
    }
}

/// The largest inner packet that fits whatever of these proposals is chosen.
pub fn inner_mtu(path: u16, outer_ipv4: bool, in_udp: bool, proposals: &[EspProposal]) -> u16 {
    let fixed = ip_header(outer_ipv4) + if in_udp { 8 } else { 0 } + 8;
    let each = proposals.iter().flat_map(|proposal| {
        proposal.ciphers.iter().map(move |cipher| {
            let (vector, block) = cipher_bytes(*cipher);
            let check = match cipher.is_aead() {
                true => tag_bytes(*cipher),
                false => proposal.integrities.iter().map(|i| check_bytes(*i)).max().unwrap_or(0),
            };
            let room = path.saturating_sub(fixed + vector + check);
            (room / block * block).saturating_sub(2)
        })
    });
    each.min().unwrap_or(1280)
}

/// The largest inner packet that fits whatever ESP there is: what goes on into another tunnel does not meet a narrower one.
pub fn narrowest_mtu(path: u16, outer_ipv4: bool) -> u16 {
    let widest = EspProposal { ciphers: vec![Cipher { number: 12, key_bits: 256 }], integrities: vec![Integrity(14)], groups: Vec::new() };
    inner_mtu(path, outer_ipv4, true, &[widest])
}

/// The TCP segment that fills a packet of this size: without the inner IP and TCP headers (RFC 9293, RFC 8200).
pub fn segment_limit(mtu: u16, ipv4: bool) -> u16 {
    mtu.saturating_sub(if ipv4 { 40 } else { 60 })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn proposal(cipher: (u16, u16), integrity: Option<u16>) -> EspProposal {
        EspProposal {
            ciphers: vec![Cipher { number: cipher.0, key_bits: cipher.1 }],
            integrities: integrity.map(Integrity).into_iter().collect(),
            groups: Vec::new(),
        }
    }

    #[test]
    fn no_esp_takes_more_than_the_widest() {
        for row in crate::algorithm::Kind::Cipher.rows().iter().filter(|row| !row.name.is_empty()) {
            let cipher: Cipher = crate::algorithm::named(row.name);
            let integrity = (!cipher.is_aead()).then_some(14);
            let one = proposal((cipher.number, cipher.key_bits), integrity);
            for ipv4 in [true, false] {
                assert!(narrowest_mtu(1500, ipv4) <= inner_mtu(1500, ipv4, true, std::slice::from_ref(&one)), "{cipher}");
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
