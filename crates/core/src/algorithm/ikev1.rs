//! What IKEv1 has a number for. Its registries are closed (RFC 9395), so this is a list, by the transform IDs of
//! IKEv2 that the rest of the program uses.

use super::Kind;

/// IANA "Internet Key Exchange (IKE) Attributes": encryption, hash and group of phase 1.
const PHASE_ONE: [(Kind, &[u16]); 4] = [
    (Kind::Cipher, &[2, 3, 6, 7, 12, 23]),
    (Kind::Prf, &[1, 2, 5, 6, 7]),
    (Kind::Integrity, &[1, 2, 12, 13, 14]),
    (Kind::Group, &[1, 2, 5, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30]),
];

/// IANA "Internet Security Association and Key Management Protocol (ISAKMP) Identifiers": ESP transforms and
/// authentication algorithms; the groups are those of phase 1.
const ESP: [(Kind, &[u16]); 3] = [
    (Kind::Cipher, &[2, 3, 6, 7, 11, 12, 13, 14, 15, 16, 18, 19, 20, 21, 23]),
    (Kind::Integrity, &[1, 2, 5, 12, 13, 14]),
    (Kind::Group, PHASE_ONE[3].1),
];

/// Whether IKEv1 can negotiate an algorithm, for its own SA or for ESP.
pub fn in_ikev1(kind: Kind, number: u16, for_ike: bool) -> bool {
    let rows: &[(Kind, &[u16])] = if for_ike { &PHASE_ONE } else { &ESP };
    rows.iter().any(|(known, numbers)| *known == kind && numbers.contains(&number))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn combined_modes_are_for_esp_only_and_newer_ciphers_are_not_there() {
        let gcm = |ike| in_ikev1(Kind::Cipher, 20, ike);
        assert_eq!((gcm(true), gcm(false)), (false, true));
        assert!(!in_ikev1(Kind::Cipher, 28, false), "RFC 7634 defines ChaCha20-Poly1305 for IKEv2 only");
        assert!(!in_ikev1(Kind::Group, 31, true) && in_ikev1(Kind::Group, 20, false));
    }
}
